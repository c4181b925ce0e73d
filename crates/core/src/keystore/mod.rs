//! Keystores in and out: PKCS#12 and JKS opened with their passwords, PKCS#12 written.
//!
//! Opening tells three things apart: a wrong store password, a wrong key password (and whose), and a damaged file.
//! A file whose MAC does not hold is damaged, and not locked, when the password still opens what is encrypted in it.

mod derive;
mod jks;
mod pkcs12;
mod rc2;

use std::fmt;

use der::asn1::ObjectIdentifier;
use ninekeys_formats::cursor::ParseError;
use ninekeys_formats::keystore::pkcs12::Encrypted;
use ninekeys_formats::keystore::{Kind, recognise};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::secret::{SecretBytes, SecretText};
use ninekeys_formats::x509::Certificate;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::certificate::self_signature_holds;
use crate::keys::{KeyError, KeyProof, belongs_to, prove};

use derive::Budget;
pub use pkcs12::{Outgoing, write_pkcs12};

/// The most that a password is hashed for one key: some seconds. Files in the wild have up to a million.
pub(crate) const MOST_ITERATIONS: u64 = 5_000_000;

/// The most that it is hashed for one file, whatever is in it.
pub const MOST_IN_ALL: u64 = 10_000_000;

/// Why a keystore was not opened, or one of its keys not read.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum KeystoreError {
    /// It is no keystore that is known.
    #[error("it is no keystore: neither PKCS#12 nor JKS")]
    Unknown,
    /// It is JCEKS.
    #[error("it is a JCEKS keystore, which is not read: have the Java runtime write it as PKCS#12")]
    Jceks,
    /// Its structure does not hold.
    #[error("it is damaged: {0}")]
    Damaged(#[from] ParseError),
    /// The password is right, and the content is not what was written.
    #[error("it is damaged: the password is right, and what is in it is not what was written")]
    Changed,
    /// A certificate in it was changed.
    #[error("it is damaged: the certificate of {0} was changed")]
    CertificateChanged(String),
    /// The store password.
    #[error("the store password is wrong")]
    WrongStorePassword,
    /// A key's own password.
    #[error("the password of the key {0} is wrong")]
    WrongKeyPassword(String),
    /// An iteration count that nobody writes who means well.
    #[error(
        "it asks for the password to be hashed {0} times, and {MOST_ITERATIONS} are the most that is done: nobody \
         writes such a file who means well"
    )]
    TooCostly(u64),
    /// Each count is allowed, and all together are not.
    #[error(
        "it asks for passwords to be hashed more than {MOST_IN_ALL} times in all: nobody writes such a file who means \
         well"
    )]
    TooCostlyInAll,
    /// An algorithm that is not known.
    #[error("it is encrypted or authenticated with {0}, which is not read")]
    Unsupported(String),
    /// A key without a certificate.
    #[error("the key {0} has no certificate")]
    NoCertificate(String),
    /// A key with somebody else's certificate.
    #[error("the certificate of {0} is not its key's")]
    NotItsCertificate(String),
    /// A private key whose parts do not agree, or that signs what its certificate does not verify.
    #[error("it is damaged: the private key {0} does not hold together")]
    KeyDamaged(String),
    /// A certificate that cannot be read.
    #[error("the certificate of {0} cannot be read: {1}")]
    Certificate(String, ParseError),
    /// What is protected as a key is none.
    #[error("what stands under {0} is no private key (PKCS#8)")]
    NoKey(String),
    /// Characters that not every reader takes.
    #[error("the password has characters beyond ASCII, which the Java runtime does not take in PKCS#12")]
    NotAscii,
    /// Two aliases that some readers take for one.
    #[error("the aliases {0} and {1} differ only in case, and some readers take them for one")]
    AliasesAlike(String, String),
    /// The provider refused.
    #[error("encryption failed")]
    Provider,
    /// The random generator.
    #[error(transparent)]
    Random(#[from] KeyError),
}

/// A format of keystores that is read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Format {
    /// PKCS#12 (RFC 7292).
    Pkcs12,
    /// JKS.
    Jks,
}

impl fmt::Display for Format {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Format::Pkcs12 => "PKCS#12",
            Format::Jks => "JKS",
        })
    }
}

/// An open keystore: its keys are still locked, each by itself.
#[derive(Debug)]
pub struct OpenStore {
    /// What it is.
    pub format: Format,
    /// How its content was encrypted, for people: every way that was used.
    pub encryption: String,
    /// Whether a digest or a MAC covers it: without one, any bit of it may have been turned.
    pub authenticated: bool,
    /// Whether a private key stands in it for everybody to read.
    pub open_keys: bool,
    /// Its keys, by alias.
    pub keys: Vec<StoredKey>,
    /// Certificates that belong to no key, DER.
    pub certificates: Vec<Vec<u8>>,
}

/// A key in an open keystore.
#[derive(Debug)]
pub struct StoredKey {
    /// Its alias.
    pub alias: String,
    protected: Protected,
    /// Certificates that the file gives to it, the leaf first; the rest of the file's behind them.
    certificates: Vec<Vec<u8>>,
    /// Whether the first certificate is said to be its own.
    claimed: bool,
}

#[derive(Debug)]
enum Protected {
    Plain(SecretBytes),
    Pkcs12(Encrypted, Budget),
    Jks { algorithm: ObjectIdentifier, data: Vec<u8> },
}

/// A key out of a keystore, with its certificate.
#[derive(Debug)]
pub struct UnlockedKey {
    /// PKCS#8.
    pub secret: SecretBytes,
    /// Its certificate.
    pub certificate: Certificate,
    /// The certificates above it that the file has, DER, from its issuer's upwards.
    pub issuers: Vec<Vec<u8>>,
    /// Whether the key was proved: its parts, and what it signs. Not so for kinds that cannot be computed with here.
    pub proved: bool,
}

/// Opens a keystore, whatever its name says it is.
///
/// # Errors
/// [`KeystoreError`].
pub fn open(bytes: &[u8], password: &SecretText, limits: &Limits) -> Result<OpenStore, KeystoreError> {
    match recognise(bytes) {
        Some(Kind::Pkcs12) => pkcs12::open(bytes, password, limits),
        Some(Kind::Jks) => jks::open(bytes, password, limits),
        Some(Kind::Jceks) => Err(KeystoreError::Jceks),
        None => Err(KeystoreError::Unknown),
    }
}

/// What a keystore shows to somebody who has no password: aliases and certificates, as far as they stand in clear.
/// Nothing of it is proved.
///
/// # Errors
/// [`KeystoreError`] when its structure does not hold.
pub fn peek(bytes: &[u8], limits: &Limits) -> Result<OpenStore, KeystoreError> {
    match recognise(bytes) {
        Some(Kind::Pkcs12) => pkcs12::peek(bytes, limits),
        Some(Kind::Jks) => jks::peek(bytes, limits).map(|(store, _)| store),
        Some(Kind::Jceks) => Err(KeystoreError::Jceks),
        None => Err(KeystoreError::Unknown),
    }
}

impl StoredKey {
    /// The certificate that the file gives to it, without opening the key.
    pub fn certificate(&self, limits: &Limits) -> Option<Certificate> {
        let first = self.certificates.first().filter(|_| self.claimed)?;
        Certificate::parse(first, limits).ok()
    }

    /// Opens the key with its own password, and finds its certificate: by the public key, wherever it stands.
    ///
    /// # Errors
    /// [`KeystoreError`] for a wrong password, something that is no key, and a certificate that is missing or not
    /// the key's.
    pub fn unlock(&self, password: &SecretText, limits: &Limits) -> Result<UnlockedKey, KeystoreError> {
        let secret = match &self.protected {
            Protected::Plain(secret) => secret.duplicate(),
            Protected::Pkcs12(encrypted, budget) => match derive::decrypt(encrypted, password, budget) {
                Err(KeystoreError::WrongStorePassword) => {
                    return Err(KeystoreError::WrongKeyPassword(self.alias.clone()));
                }
                other => other?,
            },
            Protected::Jks { algorithm, data } => jks::unlock(*algorithm, data, password, &self.alias)?,
        };
        let is_key =
            secret.lend(|der| <pkcs8::PrivateKeyInfoRef<'_> as der::Decode<'_>>::from_der(der).is_ok());
        if !is_key {
            // a wrong password can leave padding that looks right
            return Err(match &self.protected {
                Protected::Pkcs12(..) => KeystoreError::WrongKeyPassword(self.alias.clone()),
                _ => KeystoreError::NoKey(self.alias.clone()),
            });
        }
        let certificate = self.certificate_of(&secret, limits)?;
        let proof = secret.lend(|key| prove(key, &certificate.public_key));
        if proof == KeyProof::Damaged {
            return Err(KeystoreError::KeyDamaged(self.alias.clone()));
        }
        if self_signature_holds(&certificate) == Some(false) {
            return Err(KeystoreError::CertificateChanged(self.alias.clone()));
        }
        let issuers = self.issuers_of(&certificate, limits);
        Ok(UnlockedKey { secret, certificate, issuers, proved: proof == KeyProof::Holds })
    }

    /// The certificates of the file that stand above one, by name.
    fn issuers_of(&self, certificate: &Certificate, limits: &Limits) -> Vec<Vec<u8>> {
        let all: Vec<Certificate> =
            self.certificates.iter().filter_map(|der| Certificate::parse(der, limits).ok()).collect();
        let mut issuer = &certificate.issuer_der;
        let mut seen = vec![certificate.der.as_slice()];
        while let Some(above) =
            all.iter().find(|c| &c.subject_der == issuer && !seen.contains(&c.der.as_slice()))
        {
            issuer = &above.issuer_der;
            seen.push(&above.der);
        }
        seen.into_iter().skip(1).map(<[u8]>::to_vec).collect()
    }

    fn certificate_of(&self, secret: &SecretBytes, limits: &Limits) -> Result<Certificate, KeystoreError> {
        let mut untold = None;
        let mut first_error = None;
        for der in &self.certificates {
            let certificate = match Certificate::parse(der, limits) {
                Ok(certificate) => certificate,
                Err(error) => {
                    first_error.get_or_insert(error);
                    continue;
                }
            };
            match secret.lend(|key| belongs_to(key, &certificate.public_key)) {
                Some(true) => return Ok(certificate),
                Some(false) => {}
                None => untold = untold.or(Some(certificate)),
            }
        }
        // a kind of key that does not carry its public half: the file's word has to do
        if let Some(certificate) = untold.filter(|_| self.claimed) {
            return Ok(certificate);
        }
        let alias = self.alias.clone();
        Err(match first_error {
            Some(error) => KeystoreError::Certificate(alias, error),
            None if self.claimed => KeystoreError::NotItsCertificate(alias),
            None => KeystoreError::NoCertificate(alias),
        })
    }

    /// Whether a certificate of it that signs itself was changed: then the file is damaged, whatever the password.
    fn is_changed(&self, limits: &Limits) -> bool {
        self.certificates.iter().any(|der| match Certificate::parse(der, limits) {
            Ok(certificate) => self_signature_holds(&certificate) == Some(false),
            Err(_) => true,
        })
    }
}
