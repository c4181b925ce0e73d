//! Whether a private key and a public key are the two halves of one pair, also for keys that sign nothing here.

use der::{Decode, Reader, SliceReader, Tag, Tagged};
use ninekeys_formats::x509::{DSA, EC, RSA};

use super::{PrivateKey, Signer};

/// Whether the private key (PKCS#8) is the other half of the public key (SubjectPublicKeyInfo). Nothing when that
/// cannot be told: DSA and keys of other kinds do not carry their public half.
pub fn belongs_to(private: &[u8], public: &[u8]) -> Option<bool> {
    let info = pkcs8::PrivateKeyInfoRef::from_der(private).ok()?;
    let public = spki::SubjectPublicKeyInfoRef::from_der(public).ok()?;
    if info.algorithm.oid != public.algorithm.oid {
        return Some(false);
    }
    let bits = public.subject_public_key.raw_bytes();
    match info.algorithm.oid {
        RSA => Some(rsa_numbers(info.private_key.as_bytes())? == rsa_public_numbers(bits)?),
        EC => {
            if info.algorithm.parameters != public.algorithm.parameters {
                return Some(false);
            }
            match PrivateKey::from_pkcs8(private) {
                Ok(key) => {
                    let own = spki::SubjectPublicKeyInfoRef::from_der(key.public().as_der()).ok()?;
                    Some(own.subject_public_key.raw_bytes() == bits)
                }
                Err(_) => Some(ec_public_point(info.private_key.as_bytes())? == bits),
            }
        }
        DSA => None,
        _ => None,
    }
}

/// The length of an RSA key's modulus in bits, from its RSAPrivateKey.
pub(super) fn rsa_bits(private_key: &[u8]) -> Option<u32> {
    let (modulus, _) = rsa_numbers(private_key)?;
    let first = modulus.first()?;
    let length = u32::try_from(modulus.len()).ok()?;
    Some(length.checked_mul(8)? - first.leading_zeros())
}

/// Modulus and public exponent of an RSAPrivateKey (RFC 8017, A.1.2), without leading zeros.
fn rsa_numbers(private_key: &[u8]) -> Option<(Vec<u8>, Vec<u8>)> {
    let mut fields = fields(private_key)?.into_iter().skip(1);
    Some((magnitude(fields.next()?)?, magnitude(fields.next()?)?))
}

/// Modulus and exponent of an RSAPublicKey (RFC 8017, A.1.1), without leading zeros.
fn rsa_public_numbers(public_key: &[u8]) -> Option<(Vec<u8>, Vec<u8>)> {
    let mut fields = fields(public_key)?.into_iter();
    Some((magnitude(fields.next()?)?, magnitude(fields.next()?)?))
}

/// The public point in an ECPrivateKey (RFC 5915), where it has one: `[1]` with a BIT STRING in it.
fn ec_public_point(private_key: &[u8]) -> Option<Vec<u8>> {
    let tagged = fields(private_key)?.into_iter().find(|field| field.first() == Some(&0xa1))?;
    let outer = der::asn1::AnyRef::from_der(tagged).ok()?;
    Some(der::asn1::BitStringRef::from_der(outer.value()).ok()?.raw_bytes().to_vec())
}

/// The elements of a SEQUENCE.
pub(super) fn fields(sequence: &[u8]) -> Option<Vec<&[u8]>> {
    let any = der::asn1::AnyRef::from_der(sequence).ok()?;
    any.tag().assert_eq(Tag::Sequence).ok()?;
    let mut reader = SliceReader::new(any.value()).ok()?;
    let mut out = Vec::new();
    while !reader.is_finished() {
        out.push(reader.tlv_bytes().ok()?);
    }
    Some(out)
}

/// The digits of an INTEGER, without leading zeros.
pub(super) fn magnitude(integer: &[u8]) -> Option<Vec<u8>> {
    let any = der::asn1::AnyRef::from_der(integer).ok()?;
    any.tag().assert_eq(Tag::Integer).ok()?;
    Some(any.value().iter().copied().skip_while(|byte| *byte == 0).collect())
}

#[cfg(test)]
mod tests {
    use super::super::{Algorithm, KeyMaker, SystemKeys};
    use super::*;

    #[test]
    fn the_halves_of_a_pair_find_each_other_and_nobody_else() {
        for (name, algorithm) in Algorithm::ALL {
            let pair = || {
                let secret = SystemKeys.make(algorithm).unwrap();
                let public =
                    secret.lend(|der| PrivateKey::from_pkcs8(der)).unwrap().public().as_der().to_vec();
                (secret, public)
            };
            let ((one, public), (_, other)) = (pair(), pair());
            assert_eq!(one.lend(|der| belongs_to(der, &public)), Some(true), "{name}");
            assert_eq!(one.lend(|der| belongs_to(der, &other)), Some(false), "{name}");
        }
        assert_eq!(belongs_to(b"no key", b"no key"), None);
    }
}
