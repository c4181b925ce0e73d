//! The project file: what an organisation's builds are, where they go, and what it expects of them.

use std::collections::{BTreeMap, BTreeSet};
use std::str::FromStr;

use jiff::Timestamp;
use ninekeys_formats::entitlements::Entitlement;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use thiserror::Error;

use super::{Destination, Name, Platform};

/// The whole project file.
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Project {
    /// What the board is headed with.
    #[serde(default)]
    pub title: String,
    /// The team id of the iOS side.
    #[serde(default)]
    pub team: Option<String>,
    /// Where the cabinet is, relative to the project file.
    #[serde(default)]
    pub cabinet: Option<String>,
    /// A file that unlocks the cabinet at once, relative to the project file. The file is secret, its path is
    /// not.
    #[serde(default)]
    pub unlock_file: Option<String>,
    /// Certificates, relative to the project file, that what the portal signs has to lead to: identities and profiles.
    #[serde(default)]
    pub roots: Vec<String>,
    /// Where the portal is that has an API: what asks it by itself goes there.
    #[serde(default)]
    pub portal: Option<String>,
    /// A file with the certificate that the portal's connection has to show, relative to the project file.
    #[serde(default)]
    pub portal_certificate: Option<String>,
    /// Where signatures get a timestamp, when that is asked for (RFC 3161): its authority has to lead to one of the roots.
    #[serde(default)]
    pub timestamps: Option<String>,
    /// The stores beside the one that stands with the portal, by name.
    #[serde(default, rename = "store")]
    pub stores: BTreeMap<Name, StorePlace>,
    /// Which of them is meant, once somebody has said so: [`Project::at`].
    #[serde(skip)]
    pub at_store: Option<Name>,
    /// The accounts at the portal, by name.
    #[serde(default, rename = "account")]
    pub accounts: BTreeMap<Name, Account>,
    /// Which cabinet is meant, and how new it is at least.
    #[serde(default)]
    pub pin: Option<ProjectPin>,
    /// What is expected of every build.
    #[serde(default)]
    pub policy: Policy,
    /// The apps, by name.
    #[serde(default, rename = "app")]
    pub apps: BTreeMap<Name, App>,
}

/// Which cabinet is meant: hashes of 64 hexadecimal digits each.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct ProjectPin {
    /// The hash of the cabinet's first row of history: its identity.
    pub cabinet: String,
    /// The number of a later row that it has to have.
    pub row: u64,
    /// The hash of that row.
    pub hash: String,
}

/// A store of its own, with its own records, numbers and keys.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct StorePlace {
    /// Where it is.
    pub address: String,
    /// A file with the certificate that its connection has to show, relative to the project file.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub certificate: Option<String>,
    /// The lowest target SDK that it takes; the policy's when nothing is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub target_sdk: Option<u32>,
}

/// What is expected of every build.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields, default)]
pub struct Policy {
    /// Something falls due when it ends within so many days.
    pub due_days: u32,
    /// The lowest target SDK that the store takes, if it is known.
    pub target_sdk: Option<u32>,
}

impl Default for Policy {
    fn default() -> Self {
        Policy { due_days: 45, target_sdk: None }
    }
}

/// One product.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct App {
    /// What people call it.
    pub title: String,
    /// The version that the next build should have.
    #[serde(default)]
    pub version: Option<String>,
    /// What its builds have to be called below their icons.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub displayed_name: Option<String>,
    /// Its Android side.
    #[serde(default)]
    pub android: Option<Android>,
    /// Its iOS side.
    #[serde(default)]
    pub ios: Option<Ios>,
    /// How its build commands want what is lent to them.
    #[serde(default)]
    pub lend: Option<Lend>,
    /// What the people of a store's review are told of it, answered once.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub review: Option<ReviewSays>,
}

/// What the people of a store's review are told of every build of an app.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields, default)]
pub struct ReviewSays {
    /// Whom they ask.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub contact: Option<Contact>,
    /// What they have to know to try it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub notes: Option<String>,
    /// The item of the cabinet with the account and the password that they log in with.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub login: Option<String>,
    /// The answers to the store's questions, by name.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub declarations: BTreeMap<String, bool>,
}

/// Whom the people of a review ask.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Contact {
    /// A person or a desk.
    pub name: String,
    /// An address for mail.
    pub email: String,
    /// A number to call.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub phone: Option<String>,
}

/// Under which names a build command gets what is lent to it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields, default)]
pub struct Lend {
    /// The environment variable with the keystore file's path.
    pub keystore: String,
    /// The one with the key's alias.
    pub alias: String,
    /// The one with the store's password.
    pub password: String,
    /// The one with the key's password.
    pub key_password: String,
    /// The one with the version that the next build should have, where that is asked for.
    pub next_version: String,
    /// The one with its build number or version code.
    pub next_build: String,
    /// A properties file with the same, where a build command reads one.
    pub properties: Option<Properties>,
    /// What a build for iOS is lent.
    pub ios: LendIos,
    /// The words of a command that is run first, with the same variables: it puts what is lent where a system keeps keys.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub before: Vec<String>,
    /// The words of one that is run at the end, whatever came of the build: it takes away what the first one did.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub after: Vec<String>,
}

/// Under which names a build for iOS gets what is lent to it, beside the password.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields, default)]
pub struct LendIos {
    /// The environment variable with the path of a PKCS#12 file: the key, its certificate and the whole chain.
    pub identity: String,
    /// The one with the path of the chain in PEM, without the key.
    pub chain: String,
    /// The one with the certificate's common name.
    pub certificate: String,
    /// The one with the team.
    pub team: String,
    /// The one with the path of the folder that the profiles are in.
    pub profiles: String,
    /// The one with what the app's profile is known by; the extension `share` has it in the one with `_SHARE` behind.
    pub profile: String,
    /// The folder in which a build program looks for profiles; they are put there for the time of the loan, too.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub profiles_folder: Option<String>,
}

impl Default for LendIos {
    fn default() -> Self {
        LendIos {
            identity: "NINEKEYS_LENT_IDENTITY".into(),
            chain: "NINEKEYS_LENT_CHAIN".into(),
            certificate: "NINEKEYS_LENT_CERTIFICATE".into(),
            team: "NINEKEYS_LENT_TEAM".into(),
            profiles: "NINEKEYS_LENT_PROFILES".into(),
            profile: "NINEKEYS_LENT_PROFILE".into(),
            profiles_folder: None,
        }
    }
}

impl Default for Lend {
    fn default() -> Self {
        Lend {
            keystore: "NINEKEYS_LENT_KEYSTORE".into(),
            alias: "NINEKEYS_LENT_ALIAS".into(),
            password: "NINEKEYS_LENT_PASSWORD".into(),
            key_password: "NINEKEYS_LENT_KEY_PASSWORD".into(),
            next_version: "NINEKEYS_NEXT_VERSION".into(),
            next_build: "NINEKEYS_NEXT_BUILD".into(),
            properties: None,
            ios: LendIos::default(),
            before: Vec::new(),
            after: Vec::new(),
        }
    }
}

impl Lend {
    /// The variables, in the order keystore, alias, password, key password.
    pub fn variables(&self) -> [&str; 4] {
        [&self.keystore, &self.alias, &self.password, &self.key_password]
    }
}

/// The name that two of these four have; the two passwords are one and may share theirs.
fn shared_name(names: [&str; 4]) -> Option<&str> {
    let [keystore, alias, password, key_password] = names;
    let twice = [(keystore, alias), (keystore, password), (keystore, key_password)];
    let more = [(alias, password), (alias, key_password)];
    twice.into_iter().chain(more).find(|(one, other)| one == other).map(|(name, _)| name)
}

/// A properties file and the names of its fields.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields, default)]
pub struct Properties {
    /// Where it is, relative to the project file; in the private folder when nothing is said.
    pub file: Option<String>,
    /// The environment variable with its path.
    pub variable: String,
    /// The field with the keystore file's path.
    pub keystore: String,
    /// The one with the key's alias.
    pub alias: String,
    /// The one with the store's password.
    pub password: String,
    /// The one with the key's password.
    pub key_password: String,
}

impl Properties {
    /// The field that would have to hold two things at once, if there is one.
    pub fn shared_field(&self) -> Option<&str> {
        shared_name(self.fields())
    }

    /// The fields, in the order keystore, alias, password, key password.
    pub fn fields(&self) -> [&str; 4] {
        [&self.keystore, &self.alias, &self.password, &self.key_password]
    }
}

impl Default for Properties {
    fn default() -> Self {
        Properties {
            file: None,
            variable: "NINEKEYS_LENT_PROPERTIES".into(),
            keystore: "keystore".into(),
            alias: "alias".into(),
            password: "password".into(),
            key_password: "key-password".into(),
        }
    }
}

/// An app's Android side.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Android {
    /// The package name.
    pub package: String,
    /// Where its builds go; the first is meant when nothing is said.
    #[serde(default)]
    pub destinations: Vec<Destination>,
    /// The permissions that its builds ask for, all of them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub permissions: Option<BTreeSet<String>>,
    /// The keys that the store has of it, where the store holds the signing key.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub store_keys: Option<StoreKeys>,
    /// What is another there in the other stores that it goes to, by their names.
    #[serde(default, rename = "store", skip_serializing_if = "BTreeMap::is_empty")]
    pub stores: BTreeMap<Name, AndroidAtStore>,
}

/// What an Android app has at one of several stores.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct AndroidAtStore {
    /// The keystore whose key signs what goes there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<String>,
    /// The keys that the store has of it, where it holds the signing key.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub store_keys: Option<StoreKeys>,
}

/// The certificates that a store knows an Android app by which it signs itself, by SHA-256.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct StoreKeys {
    /// The signing key's: what devices see.
    pub signing: String,
    /// The upload key's: what builds for the store are signed with.
    pub upload: String,
    /// The one that takes the upload key's place.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next_upload: Option<NextUpload>,
}

/// The keystores that sign what goes to a store.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct StoreSigners<'a> {
    /// The one that the project file names for this store.
    pub own: Option<&'a str>,
    /// Those that it names for others.
    pub others: Vec<&'a str>,
}

impl StoreSigners<'_> {
    /// Whether a keystore signs for another store alone.
    pub fn is_elsewhere(&self, keystore: &str) -> bool {
        self.others.iter().any(|other| other.eq_ignore_ascii_case(keystore))
    }
}

/// An upload key that waits until it counts.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct NextUpload {
    /// SHA-256 of its certificate.
    pub certificate: String,
    /// From when on it counts, and the one before it no more.
    pub from: Timestamp,
}

impl StoreKeys {
    /// The upload key that counts at a time.
    pub fn upload_at(&self, now: Timestamp) -> &str {
        let next = self.next_upload.as_ref().filter(|next| next.from <= now);
        next.map_or(&self.upload, |next| &next.certificate)
    }
}

/// An account at the portal.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Account {
    /// Its address for mail, which requests for certificates name.
    #[serde(default)]
    pub email: Option<String>,
    /// The team that it belongs to; the project's when nothing is said.
    #[serde(default)]
    pub team: Option<String>,
    /// What it may do, in words.
    #[serde(default)]
    pub role: Option<String>,
    /// The apps that it is for; empty for all.
    #[serde(default)]
    pub apps: Vec<String>,
}

/// An app's iOS side.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Ios {
    /// The bundle id.
    pub bundle_id: String,
    /// Where its builds go; the first is meant when nothing is said.
    #[serde(default)]
    pub destinations: Vec<Destination>,
    /// The team that it belongs to, where it is not the project's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub team: Option<String>,
    /// What its builds ask people for, all of it: the keys that Info.plist gives a reason for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub permissions: Option<BTreeSet<String>>,
    /// What it may do on a device beyond what every app may.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub capabilities: Vec<Capability>,
    /// Bundle ids of what is inside it and signed with a profile of its own, by name.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub extensions: BTreeMap<Name, String>,
    /// What its builds have to claim.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub entitlements: BTreeMap<String, Entitlement>,
    /// What its extensions have to claim, each by its name.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub extension_entitlements: BTreeMap<Name, BTreeMap<String, Entitlement>>,
}

impl Ios {
    /// What the extension of that bundle id has to claim; nothing where the project file does not say.
    pub fn expected_of(&self, bundle_id: &str) -> Option<&BTreeMap<String, Entitlement>> {
        let (name, _) = self.extensions.iter().find(|(_, id)| *id == bundle_id)?;
        self.extension_entitlements.get(name)
    }
}

/// What an app may do beyond what every app may; each is switched on at the portal, and granted by profiles.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Capability {
    /// Takes notifications from a server.
    Push,
    /// Shares files with the company's other apps.
    AppGroups,
    /// Opens links of web domains.
    AssociatedDomains,
    /// Reads and writes health data.
    HealthData,
    /// Reads tags held near the device.
    TagReading,
    /// Filters or carries the device's traffic.
    NetworkExtensions,
}

impl Capability {
    /// All of them, with the word that the project file has, and the entitlement that grants it.
    pub const ALL: [(&'static str, Capability, &'static str); 6] = [
        ("push", Capability::Push, "aps-environment"),
        ("app-groups", Capability::AppGroups, "com.apple.security.application-groups"),
        ("associated-domains", Capability::AssociatedDomains, "com.apple.developer.associated-domains"),
        ("health-data", Capability::HealthData, "com.apple.developer.healthkit"),
        ("tag-reading", Capability::TagReading, "com.apple.developer.nfc.readersession.formats"),
        (
            "network-extensions",
            Capability::NetworkExtensions,
            "com.apple.developer.networking.networkextension",
        ),
    ];

    fn row(self) -> &'static (&'static str, Capability, &'static str) {
        let [push, rest @ ..] = &Capability::ALL;
        rest.iter().find(|(_, capability, _)| *capability == self).unwrap_or(push)
    }

    /// The word that the project file has for it.
    pub fn word(self) -> &'static str {
        self.row().0
    }

    /// The entitlement that grants it.
    pub fn entitlement(self) -> &'static str {
        self.row().2
    }
}

impl FromStr for Capability {
    type Err = UnknownCapability;

    fn from_str(text: &str) -> Result<Self, UnknownCapability> {
        let found = Capability::ALL.iter().find(|(word, ..)| *word == text.to_ascii_lowercase());
        found.map(|(_, capability, _)| *capability).ok_or_else(|| UnknownCapability(text.into()))
    }
}

/// A word that names no capability.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("`{0}` is not a capability; there are {known}", known = known_capabilities())]
pub struct UnknownCapability(pub String);

fn known_capabilities() -> String {
    Capability::ALL.map(|(word, ..)| word).join(", ")
}

/// What an app is on one platform.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Side<'a> {
    /// Its package or bundle id.
    pub id: &'a str,
    /// Where its builds go; the first is meant when nothing is said.
    pub destinations: &'a [Destination],
    /// What its builds ask people for, where the project says.
    pub permissions: Option<&'a BTreeSet<String>>,
}

impl App {
    /// What it is on that platform, if it is there at all.
    pub fn side(&self, platform: Platform) -> Option<Side<'_>> {
        match platform {
            Platform::Android => self.android.as_ref().map(|android| Side {
                id: &android.package,
                destinations: &android.destinations,
                permissions: android.permissions.as_ref(),
            }),
            Platform::Ios => self.ios.as_ref().map(|ios| Side {
                id: &ios.bundle_id,
                destinations: &ios.destinations,
                permissions: ios.permissions.as_ref(),
            }),
        }
    }
}

impl Project {
    /// The app with that package or bundle id.
    pub fn app_of(&self, platform: Platform, id: &str) -> Option<(&str, &App)> {
        let has = |app: &App| app.side(platform).is_some_and(|side| side.id == id);
        self.apps.iter().find(|(_, app)| has(app)).map(|(name, app)| (name.as_str(), app))
    }

    /// The project as it is for what goes to one of its stores: that one's address, keys and limits stand in the place of those of the
    /// store that stands with the portal. Nothing when it has no store of that name.
    pub fn at(&self, store: &str) -> Option<Project> {
        let (name, place) = self.stores.get_key_value(store)?;
        let mut own = self.clone();
        own.at_store = Some(name.clone());
        own.portal = Some(place.address.clone());
        own.portal_certificate.clone_from(&place.certificate);
        own.policy.target_sdk = place.target_sdk.or(self.policy.target_sdk);
        for android in own.apps.values_mut().filter_map(|app| app.android.as_mut()) {
            android.store_keys = android.stores.get(name).and_then(|there| there.store_keys.clone());
        }
        Some(own)
    }

    /// Which keystores sign what an Android app takes to the store that is meant.
    pub fn store_signers<'a>(&'a self, app: &str) -> StoreSigners<'a> {
        let stores = self.apps.get(app).and_then(|app| app.android.as_ref()).map(|android| &android.stores);
        let named =
            stores.into_iter().flatten().filter_map(|(name, there)| Some((name, there.key.as_deref()?)));
        let (own, others): (Vec<_>, Vec<_>) =
            named.partition(|(name, _)| Some(*name) == self.at_store.as_ref());
        let own = own.first().map(|(_, key)| *key);
        let others = others.into_iter().map(|(_, key)| key).filter(|key| Some(*key) != own).collect();
        StoreSigners { own, others }
    }

    /// A store that an app speaks of and the project does not have, or whose name means a destination.
    pub fn unknown_store(&self) -> Option<&str> {
        let sides = self.apps.values().filter_map(|app| app.android.as_ref());
        let named = sides.flat_map(|android| android.stores.keys());
        let unknown = named.filter(|name| !self.stores.contains_key(*name));
        let is_taken = |name: &&Name| name.as_str().parse::<Destination>().is_ok();
        unknown.chain(self.stores.keys().filter(is_taken)).map(Name::as_str).next()
    }

    /// An app and the name of an extension that it does not have, of which it says all the same what it claims.
    pub fn unknown_extension(&self) -> Option<(&str, &str)> {
        let sides = self.apps.iter().filter_map(|(name, app)| Some((name, app.ios.as_ref()?)));
        let mut unknown = sides.filter_map(|(app, ios)| {
            let named = ios.extension_entitlements.keys().find(|name| !ios.extensions.contains_key(*name));
            Some((app.as_str(), named?.as_str()))
        });
        unknown.next()
    }

    /// The team of an app's iOS side.
    pub fn team_of<'a>(&'a self, ios: &'a Ios) -> Option<&'a str> {
        ios.team.as_deref().or(self.team.as_deref())
    }

    /// Every team that is named.
    pub fn teams(&self) -> Vec<&str> {
        let of_apps = self.apps.values().filter_map(|app| app.ios.as_ref()?.team.as_deref());
        let of_accounts = self.accounts.values().filter_map(|account| account.team.as_deref());
        let mut all: Vec<&str> = self.team.as_deref().into_iter().chain(of_apps).chain(of_accounts).collect();
        all.sort_unstable();
        all.dedup();
        all
    }

    /// The address for mail of the account that is for an app, or for all.
    pub fn email_for(&self, apps: &[String]) -> Option<&str> {
        let is_for = |account: &&Account| account.apps.iter().any(|app| apps.contains(app));
        let named = self.accounts.values().find(is_for);
        let any = || self.accounts.values().find(|account| account.apps.is_empty());
        named.or_else(any)?.email.as_deref()
    }

    /// The app with that name, or the only one whose name begins with it.
    pub fn app(&self, wanted: &str) -> Option<(&str, &App)> {
        if let Some((name, app)) = self.apps.get_key_value(wanted) {
            return Some((name, app));
        }
        let mut matching = self.apps.iter().filter(|(name, _)| name.starts_with(wanted));
        match (matching.next(), matching.next()) {
            (Some((name, app)), None) => Some((name, app)),
            _ => None,
        }
    }
}
