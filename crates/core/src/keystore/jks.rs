//! JKS: its digest, and the stream that its keys are protected with. Both are SHA-1, and neither is written.

use aws_lc_rs::digest::{Context, SHA1_FOR_LEGACY_USE_ONLY};
use der::asn1::ObjectIdentifier;
use ninekeys_formats::keystore::jks::{self, Content, KEY_PROTECTOR};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::secret::{Secret, SecretBytes, SecretText};
use zeroize::Zeroize;

use super::{Format, KeystoreError, OpenStore, Protected, StoredKey};

/// The text that the format puts between the password and the file.
const BETWEEN: &[u8] = b"Mighty Aphrodite";
/// Bytes of salt in front of a protected key, and of check behind it.
const HASH: usize = 20;

/// Opens a JKS file.
pub(super) fn open(bytes: &[u8], password: &SecretText, limits: &Limits) -> Result<OpenStore, KeystoreError> {
    let (store, Sealed { covered, digest }) = peek(bytes, limits)?;
    let right = sha1(&wide(password), &[BETWEEN, bytes.get(..covered).unwrap_or_default()]) == digest;
    if right { Ok(store) } else { Err(why_not(&store.keys, password, limits)) }
}

/// What the password proves: the digest, and how many bytes it is over.
pub(super) struct Sealed {
    covered: usize,
    digest: Vec<u8>,
}

/// What a JKS file shows without its password: all but the private keys.
pub(super) fn peek(bytes: &[u8], limits: &Limits) -> Result<(OpenStore, Sealed), KeystoreError> {
    let store = jks::parse(bytes, limits)?;
    let mut keys = Vec::new();
    let mut certificates = Vec::new();
    for entry in store.entries {
        match entry.content {
            Content::Certificate(der) => certificates.push(der),
            Content::Key { protection, protected, chain } => keys.push(StoredKey {
                alias: entry.alias,
                protected: Protected::Jks { algorithm: protection, data: protected },
                claimed: !chain.is_empty(),
                certificates: chain,
            }),
        }
    }
    keys.sort_by(|a, b| a.alias.cmp(&b.alias));
    let encryption = "a stream of SHA-1".into();
    let sealed = Sealed { covered: store.covered, digest: store.digest };
    Ok((
        OpenStore {
            format: Format::Jks,
            encryption,
            authenticated: true,
            open_keys: false,
            keys,
            certificates,
        },
        sealed,
    ))
}

/// The digest covers the password and the file alike. Where a key opens with the same password, or a certificate
/// was changed, it is the file.
fn why_not(keys: &[StoredKey], password: &SecretText, limits: &Limits) -> KeystoreError {
    if let Some(changed) = keys.iter().find(|key| key.is_changed(limits)) {
        return KeystoreError::CertificateChanged(changed.alias.clone());
    }
    let opens = |key: &StoredKey| match &key.protected {
        Protected::Jks { algorithm, data } => unlock(*algorithm, data, password, "").is_ok(),
        _ => false,
    };
    if keys.iter().any(opens) { KeystoreError::Changed } else { KeystoreError::WrongStorePassword }
}

/// UTF-16, big-endian, without an end.
fn wide(password: &SecretText) -> SecretBytes {
    password.lend(|text| {
        // room for all of it from the start: a buffer that moved would leave the password behind
        let mut bytes = Vec::with_capacity(2 * text.len());
        bytes.extend(text.encode_utf16().flat_map(u16::to_be_bytes));
        Secret::new(bytes)
    })
}

fn sha1(password: &SecretBytes, parts: &[&[u8]]) -> Vec<u8> {
    let mut context = Context::new(&SHA1_FOR_LEGACY_USE_ONLY);
    password.lend(|password| context.update(password));
    for part in parts {
        context.update(part);
    }
    context.finish().as_ref().to_vec()
}

/// Takes the stream off a protected key; its check tells whether the password was right.
pub(super) fn unlock(
    algorithm: ObjectIdentifier,
    data: &[u8],
    password: &SecretText,
    alias: &str,
) -> Result<SecretBytes, KeystoreError> {
    if algorithm != KEY_PROTECTOR {
        return Err(KeystoreError::Unsupported(algorithm.to_string()));
    }
    let wrong = || KeystoreError::WrongKeyPassword(alias.into());
    let (salt, rest) = data.split_at_checked(HASH).ok_or_else(wrong)?;
    let at = rest.len().checked_sub(HASH).ok_or_else(wrong)?;
    let (hidden, check) = rest.split_at_checked(at).ok_or_else(wrong)?;
    let wide = wide(password);
    let mut stream = sha1(&wide, &[salt]);
    let mut plain = Vec::with_capacity(hidden.len());
    for block in hidden.chunks(HASH) {
        plain.extend(block.iter().zip(&stream).map(|(a, b)| a ^ b));
        let next = sha1(&wide, &[&stream]);
        stream.zeroize();
        stream = next;
    }
    let plain = Secret::new(plain);
    let good = plain.lend(|plain| sha1(&wide, &[plain]) == check);
    if good { Ok(plain) } else { Err(wrong()) }
}
