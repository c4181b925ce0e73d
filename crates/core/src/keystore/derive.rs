//! From a password to a key, and what is encrypted under it (RFC 7292 appendices B and C, RFC 8018).

#![expect(deprecated, reason = "3DES is read in old files and never written")]

use std::num::NonZeroU32;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use aws_lc_rs::cipher::{
    AES_128, AES_192, AES_256, Algorithm as Cipher, DES_EDE3_FOR_LEGACY_USE_ONLY, DecryptionContext,
    EncryptionContext, PaddedBlockDecryptingKey, PaddedBlockEncryptingKey, UnboundCipherKey,
};
use aws_lc_rs::digest::{self, Algorithm as Hash, digest};
use aws_lc_rs::pbkdf2;
use der::asn1::ObjectIdentifier as Oid;
use ninekeys_formats::keystore::pkcs12::{Encrypted, Pbes2, Scheme};
use ninekeys_formats::secret::{Secret, SecretBytes, SecretText};
use zeroize::Zeroize;

use super::rc2;
use super::{KeystoreError, MOST_IN_ALL, MOST_ITERATIONS};

/// What a derived key is for (RFC 7292, appendix B.3).
#[derive(Debug, Clone, Copy)]
pub(super) enum Purpose {
    Encryption = 1,
    Iv = 2,
    Mac = 3,
}

/// The count as the derivations take it.
pub(super) fn iterations(said: u64) -> Result<NonZeroU32, KeystoreError> {
    if said > MOST_ITERATIONS {
        return Err(KeystoreError::TooCostly(said));
    }
    let count = u32::try_from(said).ok().and_then(NonZeroU32::new);
    count.ok_or_else(|| KeystoreError::Unsupported("a key derivation of no iterations".into()))
}

/// How often passwords may still be hashed for one file, whatever it asks for and however many keys it has.
#[derive(Debug, Clone)]
pub(super) struct Budget(Arc<AtomicU64>);

impl Budget {
    pub(super) fn new() -> Self {
        Budget(Arc::new(AtomicU64::new(MOST_IN_ALL)))
    }

    /// Takes so many from what is left.
    pub(super) fn spend(&self, said: u64) -> Result<NonZeroU32, KeystoreError> {
        let count = iterations(said)?;
        let take = |left: u64| left.checked_sub(said);
        let taken = self.0.fetch_update(Ordering::Relaxed, Ordering::Relaxed, take);
        taken.map(|_| count).map_err(|_| KeystoreError::TooCostlyInAll)
    }
}

/// The password as RFC 7292's own derivation takes it: UTF-16, big-endian, with two zero bytes at its end.
pub(super) fn wide(password: &SecretText) -> SecretBytes {
    password.lend(|text| {
        // room for all of it from the start: a buffer that moved would leave the password behind
        let mut bytes = Vec::with_capacity(2 * text.len() + 2);
        bytes.extend(text.encode_utf16().chain(std::iter::once(0)).flat_map(u16::to_be_bytes));
        Secret::new(bytes)
    })
}

/// Bytes of a hash's block, which its state is fed in.
fn block_size(hash: &'static Hash) -> usize {
    hash.block_len()
}

/// RFC 7292, appendix B.2.
pub(super) fn derive(
    hash: &'static Hash,
    purpose: Purpose,
    password: &SecretBytes,
    salt: &[u8],
    iterations: NonZeroU32,
    length: usize,
) -> SecretBytes {
    let v = block_size(hash);
    let fill = |bytes: &[u8]| -> Vec<u8> {
        bytes.iter().copied().cycle().take(bytes.len().div_ceil(v) * v).collect()
    };
    let diversifier = vec![purpose as u8; v];
    let mut input = fill(salt);
    password.lend(|password| {
        let mut filled = fill(password);
        input.extend_from_slice(&filled);
        filled.zeroize();
    });
    let mut out = Vec::with_capacity(length + hash.output_len());
    while out.len() < length {
        let mut context = digest::Context::new(hash);
        context.update(&diversifier);
        context.update(&input);
        let mut a = context.finish();
        for _ in 1..iterations.get() {
            a = digest(hash, a.as_ref());
        }
        out.extend_from_slice(a.as_ref());
        let b: Vec<u8> = a.as_ref().iter().copied().cycle().take(v).collect();
        for block in input.chunks_mut(v) {
            add_one_and(block, &b);
        }
    }
    input.zeroize();
    out.truncate(length);
    Secret::new(out)
}

/// block = block + other + 1, as big-endian numbers, without what runs over.
fn add_one_and(block: &mut [u8], other: &[u8]) {
    let mut carry = 1u16;
    for (byte, add) in block.iter_mut().rev().zip(other.iter().rev()) {
        let sum = u16::from(*byte) + u16::from(*add) + carry;
        *byte = sum as u8;
        carry = sum >> 8;
    }
}

/// A hash by its object identifier.
pub(super) fn hash(oid: Oid) -> Option<&'static Hash> {
    Some(match oid.to_string().as_str() {
        "1.3.14.3.2.26" => &digest::SHA1_FOR_LEGACY_USE_ONLY,
        "2.16.840.1.101.3.4.2.4" => &digest::SHA224,
        "2.16.840.1.101.3.4.2.1" => &digest::SHA256,
        "2.16.840.1.101.3.4.2.2" => &digest::SHA384,
        "2.16.840.1.101.3.4.2.3" => &digest::SHA512,
        _ => return None,
    })
}

/// What a scheme is called, for people.
pub(super) fn name(scheme: &Scheme) -> String {
    match scheme {
        Scheme::Pbes2 { cipher, .. } => match cipher.to_string().as_str() {
            "2.16.840.1.101.3.4.1.2" => "AES-128".into(),
            "2.16.840.1.101.3.4.1.22" => "AES-192".into(),
            "2.16.840.1.101.3.4.1.42" => "AES-256".into(),
            "1.2.840.113549.3.7" => "3DES".into(),
            other => other.into(),
        },
        Scheme::Pbes1 { scheme, .. } => match scheme.to_string().as_str() {
            "1.2.840.113549.1.12.1.3" => "3DES".into(),
            "1.2.840.113549.1.12.1.5" => "RC2 with 128 bits".into(),
            "1.2.840.113549.1.12.1.6" => "RC2 with 40 bits".into(),
            other => other.into(),
        },
        Scheme::Other(oid) => oid.to_string(),
    }
}

/// Decrypts; a wrong password is told by the padding.
///
/// # Errors
/// [`KeystoreError::WrongStorePassword`], [`KeystoreError::Unsupported`], [`KeystoreError::TooCostly`].
pub(super) fn decrypt(
    encrypted: &Encrypted,
    password: &SecretText,
    budget: &Budget,
) -> Result<SecretBytes, KeystoreError> {
    let unsupported = || KeystoreError::Unsupported(name(&encrypted.scheme));
    match &encrypted.scheme {
        Scheme::Pbes2 { prf, salt, iterations: count, cipher, iv } => {
            let prf = match prf.to_string().as_str() {
                "1.2.840.113549.2.7" => pbkdf2::PBKDF2_HMAC_SHA1,
                "1.2.840.113549.2.9" => pbkdf2::PBKDF2_HMAC_SHA256,
                "1.2.840.113549.2.10" => pbkdf2::PBKDF2_HMAC_SHA384,
                "1.2.840.113549.2.11" => pbkdf2::PBKDF2_HMAC_SHA512,
                other => return Err(KeystoreError::Unsupported(other.into())),
            };
            let (cipher, length): (&'static Cipher, usize) = match cipher.to_string().as_str() {
                "2.16.840.1.101.3.4.1.2" => (&AES_128, 16),
                "2.16.840.1.101.3.4.1.22" => (&AES_192, 24),
                "2.16.840.1.101.3.4.1.42" => (&AES_256, 32),
                "1.2.840.113549.3.7" => (&DES_EDE3_FOR_LEGACY_USE_ONLY, 24),
                _ => return Err(unsupported()),
            };
            let count = budget.spend(*count)?;
            let mut key = vec![0; length];
            password.lend(|text| pbkdf2::derive(prf, count, salt, text.as_bytes(), &mut key));
            decrypt_block(cipher, &Secret::new(key), iv, &encrypted.data)
        }
        Scheme::Pbes1 { scheme, salt, iterations: count } => {
            // once for the key, once for the initial vector
            budget.spend(*count)?;
            let count = budget.spend(*count)?;
            let wide = wide(password);
            let part = |purpose, length| {
                derive(&digest::SHA1_FOR_LEGACY_USE_ONLY, purpose, &wide, salt, count, length)
            };
            let iv = part(Purpose::Iv, 8);
            match scheme.to_string().as_str() {
                "1.2.840.113549.1.12.1.3" => {
                    let key = part(Purpose::Encryption, 24);
                    iv.lend(|iv| decrypt_block(&DES_EDE3_FOR_LEGACY_USE_ONLY, &key, iv, &encrypted.data))
                }
                "1.2.840.113549.1.12.1.5" => {
                    decrypt_rc2(&part(Purpose::Encryption, 16), &iv, &encrypted.data)
                }
                "1.2.840.113549.1.12.1.6" => decrypt_rc2(&part(Purpose::Encryption, 5), &iv, &encrypted.data),
                _ => Err(unsupported()),
            }
        }
        Scheme::Other(_) => Err(unsupported()),
    }
}

/// CBC with PKCS#7 padding, by the provider.
fn decrypt_block(
    cipher: &'static Cipher,
    key: &SecretBytes,
    iv: &[u8],
    data: &[u8],
) -> Result<SecretBytes, KeystoreError> {
    // the provider refuses weak DES keys: no password of anybody's makes one
    let wrong = |_| KeystoreError::WrongStorePassword;
    let key = key.lend(|key| UnboundCipherKey::new(cipher, key)).map_err(wrong)?;
    let key = PaddedBlockDecryptingKey::cbc_pkcs7(key).map_err(wrong)?;
    let context = match cipher.block_len() {
        8 => iv.try_into().map(DecryptionContext::Iv64),
        _ => iv.try_into().map(DecryptionContext::Iv128),
    };
    let context =
        context.map_err(|_| KeystoreError::Unsupported("an initial vector of another length".into()))?;
    let mut buffer = Secret::new(data.to_vec());
    buffer.change(|buffer| {
        let length = key.decrypt(buffer, context).map_err(wrong)?.len();
        buffer.truncate(length);
        Ok::<(), KeystoreError>(())
    })?;
    Ok(buffer)
}

fn decrypt_rc2(key: &SecretBytes, iv: &SecretBytes, data: &[u8]) -> Result<SecretBytes, KeystoreError> {
    let wrong = KeystoreError::WrongStorePassword;
    let iv: [u8; 8] = iv.lend(|iv| iv.as_slice().try_into()).map_err(|_| wrong.clone())?;
    key.lend(|key| rc2::decrypt(key, iv, data)).ok_or(wrong)
}

/// Encrypts as the one scheme that is written says.
///
/// # Errors
/// [`KeystoreError::Provider`].
pub(super) fn encrypt(how: &Pbes2<'_>, password: &SecretText, data: &[u8]) -> Result<Vec<u8>, KeystoreError> {
    let refused = |_| KeystoreError::Provider;
    let count = iterations(how.iterations)?;
    let mut key = [0; 32];
    password.lend(|text| {
        pbkdf2::derive(pbkdf2::PBKDF2_HMAC_SHA256, count, how.salt, text.as_bytes(), &mut key);
    });
    let unbound = UnboundCipherKey::new(&AES_256, &key).map_err(refused);
    key.zeroize();
    let key = PaddedBlockEncryptingKey::cbc_pkcs7(unbound?).map_err(refused)?;
    let iv = how.iv.try_into().map_err(|_| KeystoreError::Provider)?;
    // room for the padding from the start: a buffer that moved would leave the key behind
    let mut buffer = Secret::new(Vec::with_capacity(data.len() + AES_256.block_len()));
    buffer.change(|buffer| {
        buffer.extend_from_slice(data);
        key.less_safe_encrypt(buffer, EncryptionContext::Iv128(iv)).map(|_| ()).map_err(refused)
    })?;
    Ok(buffer.lend(Clone::clone))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::digest::hex;

    #[test]
    fn rfc_7292s_derivation_gives_what_an_independent_program_derives() {
        // both computed by a few lines of Python over hashlib
        let password = wide(&Secret::new("ferry".into()));
        assert_eq!(password.lend(|bytes| hex(bytes)), "006600650072007200790000");
        let count = NonZeroU32::new(3).unwrap();
        let key = derive(&digest::SHA256, Purpose::Mac, &password, b"saltsalt", count, 40);
        let wanted = "4349214da531218569ee0407f6d20dcdcd955bbe8f5c5dda9e21521b2458d20c63c33b744ac3b71b";
        assert_eq!(key.lend(|key| hex(key)), wanted, "longer than one hash");
        let sha1 = &digest::SHA1_FOR_LEGACY_USE_ONLY;
        let key = derive(sha1, Purpose::Encryption, &password, b"saltsalt", count, 24);
        assert_eq!(key.lend(|key| hex(key)), "a4e24617486fdf871aa89f3b9a817f147c17e84ddb543e8d");
    }

    #[test]
    fn adding_carries_and_forgets_what_runs_over() {
        let mut block = [0xff, 0xff];
        add_one_and(&mut block, &[0, 1]);
        assert_eq!(block, [0, 1]);
    }

    #[test]
    fn absurd_counts_are_refused_before_any_work() {
        assert_eq!(iterations(MOST_ITERATIONS + 1), Err(KeystoreError::TooCostly(MOST_ITERATIONS + 1)));
        assert!(iterations(0).is_err());
        assert_eq!(iterations(2048).unwrap().get(), 2048);
    }

    #[test]
    fn many_keys_that_are_each_allowed_are_too_many_together() {
        let budget = Budget::new();
        let each = MOST_ITERATIONS / 2;
        for _ in 0..MOST_IN_ALL / each {
            assert!(budget.clone().spend(each).is_ok());
        }
        assert_eq!(budget.spend(each), Err(KeystoreError::TooCostlyInAll));
    }
}
