//! What there is to say about a package's signatures.

use ninekeys_formats::cursor::ParseError;
use ninekeys_formats::x509::Certificate;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::algorithm::name;
use super::rotation::{LineageFault, LineageKey, RangeFault};
use super::schemes::Schemes;

/// A signature scheme of packages.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Scheme {
    /// JAR signing.
    V1,
    /// The signing block's first scheme.
    V2,
    /// With rotation of keys.
    V3,
    /// With rotation from a given platform level on.
    #[serde(rename = "v3.1")]
    V31,
    /// A tree over the whole package, in a file beside it.
    V4,
}

impl std::fmt::Display for Scheme {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            Scheme::V1 => "v1",
            Scheme::V2 => "v2",
            Scheme::V3 => "v3",
            Scheme::V31 => "v3.1",
            Scheme::V4 => "v4",
        })
    }
}

/// What verifying a scheme came to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SchemeState {
    /// Every signature and digest is good.
    Verified,
    /// Something in it is wrong, or cannot be verified.
    Broken(Vec<SignatureFault>),
}

impl SchemeState {
    pub(super) fn of(faults: Vec<SignatureFault>) -> Self {
        if faults.is_empty() { SchemeState::Verified } else { SchemeState::Broken(faults) }
    }
}

/// What is wrong with a signature.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum SignatureFault {
    /// The scheme's structure cannot be read.
    #[error("it cannot be read: {0}")]
    Malformed(#[from] ParseError),
    /// An algorithm or key that cannot be verified here.
    #[error("its algorithm {algorithm} cannot be verified with a key of kind {kind}", algorithm = name(*.0), kind = .1)]
    Unsupported(u32, String),
    /// The same in a v1 block file, by name.
    #[error("its algorithm {0} cannot be verified with a key of kind {1}")]
    UnsupportedV1(String, String),
    /// A v1 block file without the certificate of its signer.
    #[error("its block file holds no certificate of its signer")]
    NoCertificate,
    /// Something in the files of scheme v1.
    #[error("{0}")]
    Jar(String),
    /// A signature is wrong.
    #[error("the signature over its signed data is wrong ({algorithm})", algorithm = name(*.0))]
    Signature(u32),
    /// The content is not what was signed.
    #[error("the content was changed after it was signed: its digest is another")]
    Content,
    /// The algorithms of digests and signatures differ.
    #[error("its digests and its signatures are not of the same algorithms")]
    AlgorithmLists,
    /// The public key is not that of the certificate.
    #[error("its public key is not the one in its certificate")]
    KeyNotInCertificate,
    /// The certificate cannot be read.
    #[error("its certificate cannot be read: {0}")]
    Certificate(ParseError),
    /// The platform levels of its signers.
    #[error("its signers leave devices out: {0}")]
    Levels(RangeFault),
    /// v3 and v3.1 do not agree on the level from which v3.1 decides.
    #[error(
        "{}, and v3.1 begins at SDK {found}",
        announced.map_or_else(
            || "scheme v3 does not say from which SDK on v3.1 decides".into(),
            |level| format!("scheme v3 says that v3.1 decides from SDK {level} on")
        )
    )]
    RotationLevel {
        /// What v3 says.
        announced: Option<u32>,
        /// Where v3.1 begins.
        found: u32,
    },
    /// The proof of rotation.
    #[error("its lineage is not valid: {0}")]
    Lineage(LineageFault),
    /// The file of scheme v4 is over another package, or the package was changed.
    #[error("the tree beside it is not that of this package: {0}")]
    Tree(&'static str),
    /// Its signer is not among those of the package.
    #[error("its signer has signed nothing in the package")]
    Stranger,
    /// The key itself cannot be read.
    #[error("its public key cannot be read")]
    PublicKey,
}

/// One scheme that is present.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SchemeReport {
    /// Which.
    pub scheme: Scheme,
    /// What came of it.
    pub state: SchemeState,
}

/// A signer of a verified scheme.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SignerReport {
    /// The scheme.
    pub scheme: Scheme,
    /// Its certificate.
    pub certificate: Certificate,
    /// SHA-256 of the certificate.
    pub certificate_fingerprint: String,
    /// SHA-256 of the public key.
    pub key_fingerprint: String,
    /// The content digest that it signs, of its strongest hash; none in v1.
    pub content: Option<Vec<u8>>,
}

/// Everything there is to say about a package's signatures.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Signatures {
    /// The schemes that are present, oldest first.
    pub schemes: Vec<SchemeReport>,
    /// The signers that could be read.
    pub signers: Vec<SignerReport>,
    /// The keys of the newest lineage, oldest first; empty without one.
    pub lineage: Vec<LineageKey>,
    /// Schemes that another part of the package announces and that are missing.
    pub stripped: Vec<Scheme>,
    /// The content digest of the strongest hash that a signer names, in hexadecimal.
    pub content: Option<String>,
}

impl Signatures {
    /// Whether any scheme is present.
    pub fn any(&self) -> bool {
        !self.schemes.is_empty()
    }

    /// Whether that scheme is present and everything in it is good.
    pub fn holds(&self, scheme: Scheme) -> bool {
        self.schemes.iter().any(|report| report.scheme == scheme && report.state == SchemeState::Verified)
    }

    /// The schemes inside the package that are present, v3.1 as a v3.
    pub(crate) fn inside(&self) -> Schemes {
        let has = |scheme| self.has(scheme);
        Schemes { v1: has(Scheme::V1), v2: has(Scheme::V2), v3: has(Scheme::V3) || has(Scheme::V31) }
    }

    /// Whether that scheme is present.
    pub fn has(&self, scheme: Scheme) -> bool {
        self.schemes.iter().any(|report| report.scheme == scheme)
    }
}
