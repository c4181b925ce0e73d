//! The nine kinds of key, always in this order.

use schemars::JsonSchema;
use serde::Serialize;

/// One of the nine.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum NineKey {
    /// 1: the identity of an Android app on every device that has it.
    Signing,
    /// 2: proves to the store who uploads.
    Upload,
    /// 3: runs builds on registered devices.
    Development,
    /// 4: signs for registered devices and for the store.
    Distribution,
    /// 5: lets a server send notifications.
    Push,
    /// 6: binds app id, certificates, devices and entitlements.
    Profile,
    /// 7: makes tokens for the iOS side's store.
    StoreApi,
    /// 8: makes tokens for the Android side's store.
    Service,
    /// 9: seals 1 to 8 at rest.
    Cabinet,
}

impl NineKey {
    /// All nine, in order.
    pub const ALL: [NineKey; 9] = [
        NineKey::Signing,
        NineKey::Upload,
        NineKey::Development,
        NineKey::Distribution,
        NineKey::Push,
        NineKey::Profile,
        NineKey::StoreApi,
        NineKey::Service,
        NineKey::Cabinet,
    ];

    /// Its two words over a column of the board.
    pub fn words(self) -> (&'static str, &'static str) {
        match self {
            NineKey::Signing => ("signing", "key"),
            NineKey::Upload => ("upload", "key"),
            NineKey::Development => ("develop", "identity"),
            NineKey::Distribution => ("distrib", "identity"),
            NineKey::Push => ("push", "identity"),
            NineKey::Profile => ("profile", ""),
            NineKey::StoreApi => ("store", "API key"),
            NineKey::Service => ("service", "key"),
            NineKey::Cabinet => ("cabinet", "key"),
        }
    }

    /// What a sentence calls it.
    pub fn word(self) -> &'static str {
        match self {
            NineKey::Signing => "signing key",
            NineKey::Upload => "upload key",
            NineKey::Development => "development identity",
            NineKey::Distribution => "distribution identity",
            NineKey::Push => "push identity",
            NineKey::Profile => "provisioning profile",
            NineKey::StoreApi => "store API key",
            NineKey::Service => "service key",
            NineKey::Cabinet => "cabinet key",
        }
    }
}
