//! Whether a private key that came in from outside is whole: its parts agree, and what it signs verifies under the
//! public key that goes with it. A file without a MAC can have any bit of it turned.

use aws_lc_rs::signature::{
    ECDSA_P256K1_SHA256_ASN1_SIGNING, ECDSA_P521_SHA512_ASN1_SIGNING, EcdsaKeyPair, KeyPair,
};
use crypto_bigint::modular::{BoxedMontyForm, BoxedMontyParams};
use crypto_bigint::{BoxedUint, ConcatenatingMul, NonZero, Odd};
use der::Decode;
use der::asn1::ObjectIdentifier;
use ninekeys_formats::x509::{DSA, EC, P256, P384, RSA};
use zeroize::{Zeroize, Zeroizing};

use super::pair::{fields, magnitude, rsa_bits};
use super::{KeyError, PrivateKey, PublicKey, Signer, verify};

const P521: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.132.0.35");
const SECP256K1: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.132.0.10");
/// The longest number that is computed with: more bits than any key in use has.
const MOST_BYTES: usize = 16_384 / 8;
/// The longest RSA key that the provider signs with.
const MOST_SIGNING_BITS: u32 = 8_192;
/// The longest DSA parameters p and q that are computed with, in bits: above those of FIPS 186-4, and still quick for a file
/// of many keys.
const MOST_DSA_BITS: (u32, u32) = (4_096, 512);
/// What a probe signs.
const PROBE: &[u8] = b"Nine Keys: does this key sign?";

/// What came of the proof.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum KeyProof {
    /// The key is whole, and the other half of its public key.
    Holds,
    /// It is not.
    Damaged,
    /// A kind of key that cannot be computed with here.
    Untold,
}

impl KeyProof {
    fn when(holds: bool) -> Self {
        if holds { KeyProof::Holds } else { KeyProof::Damaged }
    }
}

/// Proves a private key (PKCS#8) against the public key (SubjectPublicKeyInfo) that goes with it.
pub fn prove(private: &[u8], public: &[u8]) -> KeyProof {
    prove_parts(private, public).unwrap_or(KeyProof::Damaged)
}

/// Nothing where a part is missing or cannot be read.
fn prove_parts(private: &[u8], public: &[u8]) -> Option<KeyProof> {
    let info = pkcs8::PrivateKeyInfoRef::from_der(private).ok()?;
    let half = spki::SubjectPublicKeyInfoRef::from_der(public).ok()?;
    let bits = half.subject_public_key.raw_bytes();
    let key = info.private_key.as_bytes();
    Some(match info.algorithm.oid {
        RSA => match rsa_agrees(key)? {
            // nothing here signs with such a key: its parts have to do
            true if rsa_bits(key)? > MOST_SIGNING_BITS => KeyProof::Holds,
            true => probe(private, public),
            false => KeyProof::Damaged,
        },
        EC => match info.algorithm.parameters?.decode_as::<ObjectIdentifier>().ok()? {
            P256 | P384 => probe(private, public),
            curve @ (P521 | SECP256K1) => {
                let algorithm = if curve == P521 {
                    &ECDSA_P521_SHA512_ASN1_SIGNING
                } else {
                    &ECDSA_P256K1_SHA256_ASN1_SIGNING
                };
                let pair = EcdsaKeyPair::from_pkcs8(algorithm, private).ok()?;
                KeyProof::when(pair.public_key().as_ref() == bits)
            }
            _ => KeyProof::Untold,
        },
        DSA => {
            let parameters = info.algorithm.parameters?;
            dsa_agrees(parameters.value(), key, bits)?
        }
        _ => KeyProof::Untold,
    })
}

/// Signs something, and verifies it under the public key. A key that is whole and too short to sign is whole.
fn probe(private: &[u8], public: &[u8]) -> KeyProof {
    let key = match PrivateKey::from_pkcs8(private) {
        Ok(key) => key,
        Err(KeyError::TooShort(_)) => return KeyProof::Holds,
        Err(_) => return KeyProof::Damaged,
    };
    let kind = key.certificate_kind();
    let (Ok(signature), Ok(public)) = (key.sign(kind, PROBE), PublicKey::from_der(public)) else {
        return KeyProof::Damaged;
    };
    KeyProof::when(verify(&public, kind, PROBE, &signature) == Some(true))
}

/// A number that is wiped afterwards.
type Number = Zeroizing<BoxedUint>;

fn number(integer: &[u8]) -> Option<Number> {
    let mut bytes = magnitude(integer)?;
    let number = (bytes.len() <= MOST_BYTES).then(|| BoxedUint::from_be_slice_vartime(&bytes));
    bytes.zeroize();
    Some(Zeroizing::new(number?))
}

fn one() -> BoxedUint {
    BoxedUint::one()
}

/// `a` modulo `m`; nothing where that is 0.
fn rest(a: &BoxedUint, m: &BoxedUint) -> Option<Number> {
    let m = Option::<NonZero<BoxedUint>>::from(NonZero::new(m.clone()))?;
    Some(Zeroizing::new(a.rem_vartime(&m)))
}

/// Whether `a · b` leaves `left` modulo `m`.
fn leaves(a: &BoxedUint, b: &BoxedUint, m: &BoxedUint, left: &BoxedUint) -> Option<bool> {
    let product = Zeroizing::new(a.concatenating_mul(b));
    Some(*rest(&product, m)? == *left)
}

/// Whether the parts of an RSAPrivateKey (RFC 8017, A.1.2) agree.
fn rsa_agrees(private_key: &[u8]) -> Option<bool> {
    let fields = fields(private_key)?;
    let [_version, n, e, d, p, q, dp, dq, qinv] = fields.as_slice() else { return None };
    let (n, e, d, p, q) = (number(n)?, number(e)?, number(d)?, number(p)?, number(q)?);
    let (dp, dq, qinv) = (number(dp)?, number(dq)?, number(qinv)?);
    let one = one();
    let less = |a: &BoxedUint| Zeroizing::new(a.wrapping_sub(&one));
    let (p1, q1) = (less(&p), less(&q));
    Some(
        p.concatenating_mul(&*q) == *n
            && *rest(&d, &p1)? == *dp
            && *rest(&d, &q1)? == *dq
            && leaves(&e, &dp, &p1, &one)?
            && leaves(&e, &dq, &q1, &one)?
            && leaves(&qinv, &q, &p, &one)?,
    )
}

/// Whether a DSA key's public half is `g^x mod p` (FIPS 186-4, section 4.1): parameters `p, q, g`, private `x`, public `y`.
fn dsa_agrees(parameters: &[u8], private: &[u8], public: &[u8]) -> Option<KeyProof> {
    let mut reader = der::SliceReader::new(parameters).ok()?;
    let mut next = || number(der::Reader::tlv_bytes(&mut reader).ok()?);
    let (p, q, g) = (next()?, next()?, next()?);
    let (x, y) = (number(private)?, number(public)?);
    if p.bits_vartime() > MOST_DSA_BITS.0 || q.bits_vartime() > MOST_DSA_BITS.1 {
        return Some(KeyProof::Untold);
    }
    if *x >= *q || *g >= *p {
        return Some(KeyProof::Damaged);
    }
    let size = p.bits_precision();
    let g = BoxedUint::from_be_slice(&g.to_be_bytes_trimmed_vartime(), size).ok()?;
    let params = BoxedMontyParams::new_vartime(Option::<Odd<BoxedUint>>::from(Odd::new((*p).clone()))?);
    Some(KeyProof::when(BoxedMontyForm::new(g, &params).pow(&x).retrieve() == *y))
}

#[cfg(test)]
mod tests {
    use super::super::{Algorithm, KeyMaker, SystemKeys};
    use super::*;

    /// A key's PKCS#8 and its public half.
    fn pair(algorithm: Algorithm) -> (Vec<u8>, Vec<u8>) {
        let secret = SystemKeys.make(algorithm).unwrap();
        secret.lend(|der| (der.to_vec(), PrivateKey::from_pkcs8(der).unwrap().public().as_der().to_vec()))
    }

    #[test]
    fn every_part_of_every_key_is_missed_when_a_bit_of_it_turns() {
        for algorithm in [Algorithm::Rsa2048, Algorithm::P256, Algorithm::P384] {
            let (private, public) = pair(algorithm);
            assert_eq!(prove(&private, &public), KeyProof::Holds, "{algorithm}");
            let (_, stranger) = pair(algorithm);
            assert_eq!(prove(&private, &stranger), KeyProof::Damaged, "{algorithm}");
            // every seventh byte behind the head: all parts of an RSA key, the scalar and the point of an EC key
            for at in (36..private.len()).step_by(7) {
                let mut damaged = private.clone();
                damaged[at] ^= 0x10;
                assert_ne!(prove(&damaged, &public), KeyProof::Holds, "{algorithm}: byte {at}");
            }
        }
    }

    #[test]
    fn what_is_no_key_is_no_proof() {
        let (private, public) = pair(Algorithm::P256);
        assert_eq!(prove(b"\x30\x03key", &public), KeyProof::Damaged);
        assert_eq!(prove(&private, b"\x30\x03key"), KeyProof::Damaged);
    }
}
