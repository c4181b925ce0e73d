//! Single keys, requests for certificates, and messages that a key was handed over in.

use ninekeys_core::digest::{hex, sha256_hex};
use ninekeys_core::keys::{PrivateKey, PublicKey, Signer, to_pkcs8};
use ninekeys_core::request;
use ninekeys_formats::envelope::{self, Recipient};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::names::algorithm_name;
use ninekeys_formats::request::{LABEL, OLD_LABEL, Request};
use ninekeys_formats::secret::{Secret, SecretBytes};
use ninekeys_formats::x509::name_of;
use ninekeys_formats::{keystore, pem};
use schemars::JsonSchema;
use serde::Serialize;

use super::{CertificateContent, Content, certificate, certificates_of};
use crate::answers::KeySaid;
use crate::build::background::Background;
use crate::build::check::{self, Holder};

/// What is seen of a key.
#[derive(Debug, Serialize, JsonSchema)]
pub struct KeyContent {
    /// PEM or DER.
    pub encoding: &'static str,
    /// Which key it is; nothing where that cannot be seen.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub key: Option<KeySaid>,
    /// Whether a password protects it.
    pub encrypted: bool,
    /// Why nothing can be signed with it as it is.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub unusable: Option<String>,
    /// The item in the cabinet that holds it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub item: Option<String>,
    /// Certificates in the same file.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub certificates: Vec<CertificateContent>,
}

/// What a request for a certificate says.
#[derive(Debug, Serialize, JsonSchema)]
pub struct RequestContent {
    /// PEM or DER.
    pub encoding: &'static str,
    /// RFC 4514.
    pub subject: String,
    /// The key that it is for.
    pub key: KeySaid,
    /// The algorithm that it is signed with.
    pub signature_algorithm: String,
    /// Whether it is signed with the key that it is for; nothing for algorithms that cannot be verified.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub proved: Option<bool>,
    /// The item in the cabinet that holds its private key.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub item: Option<String>,
}

/// An encrypted message.
#[derive(Debug, Serialize, JsonSchema)]
pub struct EnvelopeContent {
    /// PEM or DER.
    pub encoding: &'static str,
    /// Who can open it.
    pub recipients: Vec<RecipientSaid>,
}

/// Who can open a message.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(tag = "by", rename_all = "kebab-case")]
pub enum RecipientSaid {
    /// The holder of a certificate.
    Certificate {
        /// RFC 4514.
        issuer: String,
        /// Hexadecimal.
        serial: String,
    },
    /// The holder of a key without a certificate.
    Key {
        /// SHA-1 over the key's bits, hexadecimal.
        id: String,
    },
}

/// Labels of private keys in PEM, whether they are encrypted, and whether the form is PKCS#8 (RFC 7468, sections 10 and 11).
const PRIVATE: [(&str, bool, bool); 5] = [
    (pem::PRIVATE_KEY, false, true),
    ("ENCRYPTED PRIVATE KEY", true, true),
    ("RSA PRIVATE KEY", false, false),
    ("EC PRIVATE KEY", false, false),
    ("DSA PRIVATE KEY", false, false),
];

/// Labels of encrypted messages (RFC 7468, sections 8 and 9).
const MESSAGES: [&str; 2] = ["CMS", "PKCS7"];

/// What it is, if it is a key, a request or a message. The bytes may have a private key in them, and are wiped.
pub(super) fn read(bytes: &SecretBytes, background: &Background) -> Option<Content> {
    bytes.lend(|bytes| match pem::looks_like(bytes) {
        true => of_pem(bytes, background),
        false => of_der(bytes, "DER", background),
    })
}

fn of_pem(bytes: &[u8], background: &Background) -> Option<Content> {
    for (label, encrypted, modern) in PRIVATE {
        if !pem::has(bytes, label) {
            continue;
        }
        let old_encryption = !modern && bytes.windows(9).any(|window| window == b"ENCRYPTED");
        // every block may be a key and is wiped, also those that are not looked at
        let blocks = pem::blocks(bytes, label, &Limits::USUAL).into_iter().map(Secret::new);
        let found = blocks.collect::<Vec<_>>().into_iter().next();
        let usual = match found {
            Some(der) if modern && !encrypted => Some(der),
            Some(der) if !modern && !old_encryption => der.lend(|der| to_pkcs8(der)),
            _ => None,
        };
        let mut content = match usual {
            Some(der) => private(&der, background),
            None => KeyContent {
                encoding: "PEM",
                key: None,
                encrypted: encrypted || old_encryption,
                unusable: (!modern && !old_encryption)
                    .then(|| format!("this `{label}` is in a form older than PKCS#8 that is not read")),
                item: None,
                certificates: Vec::new(),
            },
        };
        content.encoding = "PEM";
        let beside = certificates_of(bytes);
        content.certificates = beside.iter().map(|found| certificate(found, background)).collect();
        return Some(Content::PrivateKey(Box::new(content)));
    }
    let labels = [LABEL, OLD_LABEL, pem::PUBLIC_KEY].into_iter().chain(MESSAGES);
    let mut ders = labels.flat_map(|label| pem::blocks(bytes, label, &Limits::USUAL));
    ders.find_map(|der| of_der(&der, "PEM", background))
}

fn of_der(bytes: &[u8], encoding: &'static str, background: &Background) -> Option<Content> {
    if PrivateKey::looks_like(bytes) {
        return Some(Content::PrivateKey(Box::new(private(&Secret::new(bytes.to_vec()), background))));
    }
    if let Some(older) = to_pkcs8(bytes) {
        return Some(Content::PrivateKey(Box::new(private(&older, background))));
    }
    if let Ok(found) = Request::parse(bytes, &Limits::USUAL) {
        let key = sha256_hex(&found.public_key);
        return Some(Content::Request(Box::new(RequestContent {
            encoding,
            item: holder(&key, background),
            key: KeySaid { sha256: key, algorithm: found.key.to_string() },
            signature_algorithm: algorithm_name(&found.signature_algorithm.to_string()).into(),
            proved: request::holds(&found),
            subject: found.subject,
        })));
    }
    if let Ok(found) = envelope::recipients(bytes, &Limits::USUAL) {
        let recipients = found.into_iter().map(said).collect();
        return Some(Content::Envelope(EnvelopeContent { encoding, recipients }));
    }
    if keystore::pkcs12::is_encrypted_key(bytes) {
        let nothing = KeyContent {
            encoding,
            key: None,
            encrypted: true,
            unusable: None,
            item: None,
            certificates: Vec::new(),
        };
        return Some(Content::PrivateKey(Box::new(nothing)));
    }
    let key = PublicKey::from_der(bytes).ok()?;
    Some(Content::PublicKey(Box::new(KeyContent {
        encoding,
        item: holder(&key.fingerprint(), background),
        key: Some((&key).into()),
        encrypted: false,
        unusable: None,
        certificates: Vec::new(),
    })))
}

fn private(der: &SecretBytes, background: &Background) -> KeyContent {
    let found = der.lend(|der| PrivateKey::from_pkcs8(der));
    let key = found.as_ref().ok().map(Signer::public);
    KeyContent {
        encoding: "DER",
        item: key.and_then(|key| holder(&key.fingerprint(), background)),
        key: key.map(KeySaid::from),
        encrypted: false,
        unusable: found.as_ref().err().map(ToString::to_string),
        certificates: Vec::new(),
    }
}

fn said(recipient: Recipient) -> RecipientSaid {
    match recipient {
        Recipient::Certificate { issuer, serial } => {
            RecipientSaid::Certificate { issuer: name_of(&issuer), serial: hex(&serial) }
        }
        Recipient::Key { id } => RecipientSaid::Key { id: hex(&id) },
    }
}

/// What holds a private key, under whatever certificate.
fn holder(fingerprint: &str, background: &Background) -> Option<String> {
    let inventory = background.inventory.as_deref()?;
    check::holder(inventory, fingerprint, "").as_ref().and_then(Holder::of_key)
}
