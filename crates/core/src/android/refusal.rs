//! What must not be signed, or not as it was asked for.

use ninekeys_formats::manifest::Sdk;
use thiserror::Error;

/// The lowest platform level that reads SHA-256 in scheme v1.
pub(super) const FIRST_SDK_WITH_SHA256: u32 = 18;

/// What must not be signed.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum Refusal {
    /// It would run on devices that know no better hash than SHA-1.
    #[error(
        "it runs from SDK {min_sdk} on, and below SDK {FIRST_SDK_WITH_SHA256} devices read only signatures with \
         SHA-1, which are not made any more: raise its lowest SDK to {FIRST_SDK_WITH_SHA256} or more"
    )]
    NeedsSha1 {
        /// The manifest's lowest SDK.
        min_sdk: Sdk,
    },
    /// Nobody could tell whether a later build is higher.
    #[error(
        "its version code is not known: it refers to something that is not in it; write the number into the manifest"
    )]
    CodeUnknown,
    /// Nothing in it could be set.
    #[error(
        "its manifest has no {0} that could be set: write one into it, and it can be changed when signing"
    )]
    NoPlace(&'static str),
    /// Anyone with a cable could look into it.
    #[error("it is debuggable: anyone with a cable can read and change what it does")]
    Debuggable,
    /// Devices would not install it.
    #[error("it is marked test-only: devices refuse to install it")]
    TestOnly,
    /// The certificate cannot be put into a v1 signature.
    #[error("its certificate cannot be put into a signature of scheme v1")]
    Certificate,
    /// It would be larger than a package can be.
    #[error("it would be larger than a package can be: 4 GiB, 65,534 entries")]
    TooLarge,
    /// Devices would find no signature in it.
    #[error("{0}")]
    LeavesOut(String),
    /// Schemes that a bundle does not have.
    #[error("a bundle is signed with v1 alone; what devices get of it is signed by the store")]
    BundleScheme,
    /// A bundle for people.
    #[error("it is a bundle (AAB), which only a store makes anything of; people need an APK")]
    BundleForPeople,
    /// Scheme v4 without v2 or v3.
    #[error("scheme v4 stands on v2 or v3, and the package has neither of this signer")]
    NothingToStandOn,
    /// A level from which a rotated key cannot begin.
    #[error("a rotated key can begin at SDK 33 or later, or at once; not at {0}")]
    RotationLevel(u32),
    /// A lineage that does not end with the signer.
    #[error("the lineage does not end with the key that signs")]
    NotTheLineages,
    /// The key cannot be used for these schemes.
    #[error("no signature scheme has an algorithm for a key of kind {0}")]
    Key(String),
}
