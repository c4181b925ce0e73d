//! Deterministic ECDSA on P-256 and P-384 (RFC 6979): one key and message, always one signature.
//!
//! The provider multiplies points: of secrets, it gets the nonce and, once, the private key. The
//! nonce and the arithmetic modulo the order of the curve are computed here, in constant time.

use aws_lc_rs::{agreement, hmac};
use crypto_bigint::modular::{FixedMontyForm, FixedMontyParams};
use crypto_bigint::{NonZero, Odd, U384};
use der::Encode;
use der::asn1::{AnyRef, BitStringRef, ObjectIdentifier, OctetStringRef};
use ninekeys_formats::ecdsa::from_fixed;
use ninekeys_formats::x509::{EC, P256, P384};
use zeroize::{Zeroize, Zeroizing};

use super::pair::fields;

/// Scalars of both curves, in 384 bits.
type Scalar = U384;
const SCALAR_BYTES: usize = Scalar::BYTES;

/// A curve: SEC 2, sections 2.4.2 and 2.5.1.
pub(super) struct Curve {
    oid: ObjectIdentifier,
    points: &'static agreement::Algorithm,
    /// For the generator of nonces; its output is as long as a scalar.
    hmac: hmac::Algorithm,
    order: Odd<Scalar>,
    /// Length of a scalar in bytes.
    length: usize,
}

static CURVE_P256: Curve = Curve {
    oid: P256,
    points: &agreement::ECDH_P256,
    hmac: hmac::HMAC_SHA256,
    order: Odd::<Scalar>::from_be_hex(
        "00000000000000000000000000000000ffffffff00000000ffffffffffffffffbce6faada7179e84f3b9cac2fc632551",
    ),
    length: 32,
};

static CURVE_P384: Curve = Curve {
    oid: P384,
    points: &agreement::ECDH_P384,
    hmac: hmac::HMAC_SHA384,
    order: Odd::<Scalar>::from_be_hex(
        "ffffffffffffffffffffffffffffffffffffffffffffffffc7634d81f4372ddf581a0db248b0a77aecec196accc52973",
    ),
    length: 48,
};

impl Curve {
    /// The curve with that object identifier, if it is one of the two.
    pub(super) fn named(oid: ObjectIdentifier) -> Option<&'static Self> {
        [&CURVE_P256, &CURVE_P384].into_iter().find(|curve| curve.oid == oid)
    }

    /// The number in the first bytes, at most as long as the order (RFC 6979, section 2.3.2).
    fn number(&self, bytes: &[u8]) -> Scalar {
        let first = bytes.get(..self.length).unwrap_or(bytes);
        let mut wide = Zeroizing::new([0; SCALAR_BYTES]);
        let start = wide.len() - first.len();
        if let Some(low) = wide.get_mut(start..) {
            low.copy_from_slice(first);
        }
        Scalar::from_be_slice(wide.as_slice())
    }

    /// A scalar in big-endian order, as long as the order of the curve.
    fn bytes(&self, scalar: &Scalar) -> Zeroizing<Vec<u8>> {
        let wide = Zeroizing::new(scalar.to_be_bytes());
        Zeroizing::new(wide.as_ref().get(SCALAR_BYTES - self.length..).unwrap_or_default().to_vec())
    }

    /// Whether a number is a scalar other than zero.
    fn has(&self, number: &Scalar) -> bool {
        bool::from(!number.is_zero()) && number < self.order.as_ref()
    }

    /// The generator of the curve, multiplied: an uncompressed point (SEC 1, section 2.3.3).
    fn point(&self, scalar: &[u8]) -> Option<Vec<u8>> {
        let key = agreement::PrivateKey::from_private_key(self.points, scalar).ok()?;
        Some(key.compute_public_key().ok()?.as_ref().to_vec())
    }
}

/// A private key on one of the two curves.
pub(super) struct EcKey {
    curve: &'static Curve,
    scalar: Zeroizing<Scalar>,
    /// The public key, an uncompressed point.
    point: Vec<u8>,
}

impl EcKey {
    /// Reads an ECPrivateKey (RFC 5915, section 3). `None` for a key of another curve, for a number
    /// that is not a scalar of the curve, and for a public key that does not match.
    pub(super) fn read(curve: &'static Curve, key: &[u8]) -> Option<Self> {
        let all = fields(key)?;
        let [version, number, optional @ ..] = all.as_slice() else { return None };
        let number = <&OctetStringRef as der::Decode<'_>>::from_der(number).ok()?.as_bytes();
        if *version != [2, 1, 1] || number.is_empty() || number.len() > curve.length {
            return None;
        }
        let scalar = Zeroizing::new(curve.number(number));
        if !curve.has(&scalar) {
            return None;
        }
        let point = curve.point(&curve.bytes(&scalar))?;
        for field in optional {
            let content = <AnyRef<'_> as der::Decode<'_>>::from_der(field).ok()?.value();
            match field.first() {
                Some(0xa0) => {
                    let oid = <ObjectIdentifier as der::Decode<'_>>::from_der(content).ok()?;
                    (oid == curve.oid).then_some(())?;
                }
                Some(0xa1) => {
                    let own = <BitStringRef<'_> as der::Decode<'_>>::from_der(content).ok()?;
                    is_point(&point, own.raw_bytes()).then_some(())?;
                }
                _ => return None,
            }
        }
        Some(EcKey { curve, scalar, point })
    }

    /// The SubjectPublicKeyInfo (RFC 5480, section 2), in DER.
    pub(super) fn public(&self) -> der::Result<Vec<u8>> {
        let algorithm = spki::AlgorithmIdentifier { oid: EC, parameters: Some(self.curve.oid) };
        let subject_public_key = BitStringRef::from_bytes(&self.point)?;
        spki::SubjectPublicKeyInfo { algorithm, subject_public_key }.to_der()
    }

    /// Whether the key is on the larger of the two curves.
    pub(super) fn is_p384(&self) -> bool {
        self.curve.oid == P384
    }

    /// Signs the hash of a message (RFC 6979, section 3.2): `SEQUENCE { r, s }` in DER.
    pub(super) fn sign(&self, hash: &[u8]) -> Option<Vec<u8>> {
        let curve = self.curve;
        let order = FixedMontyParams::new_vartime(curve.order);
        let modulo = |number: &Scalar| FixedMontyForm::new(number, &order);
        let hashed = curve.number(hash).rem_vartime(&NonZero::new(*curve.order).into_option()?);
        let mut nonces = Nonces::new(curve, &self.scalar, &hashed);
        loop {
            let nonce = nonces.next()?;
            let point = curve.point(&curve.bytes(&nonce))?;
            // the byte of the form, then the coordinate
            let r = modulo(&curve.number(point.get(1..)?));
            let mut nonce = modulo(&nonce);
            let mut inverse = nonce.invert().into_option()?;
            let mut key = modulo(&self.scalar);
            let mut sum = r * key + modulo(&hashed);
            let s = inverse * sum;
            for secret in [&mut nonce, &mut inverse, &mut key, &mut sum] {
                secret.as_montgomery_mut().zeroize();
            }
            let (r, s) = (r.retrieve(), s.retrieve());
            if curve.has(&r) && curve.has(&s) {
                return from_fixed(&[curve.bytes(&r).as_slice(), curve.bytes(&s).as_slice()].concat()).ok();
            }
        }
    }
}

/// Whether `written` is this uncompressed point, in either form (SEC 1, section 2.3.3).
fn is_point(point: &[u8], written: &[u8]) -> bool {
    let [_, coordinates @ ..] = point else { return false };
    let (x, y) = coordinates.split_at(coordinates.len() / 2);
    match written {
        [form @ (2 | 3), rest @ ..] => rest == x && y.last().is_some_and(|last| last & 1 == form & 1),
        _ => written == point,
    }
}

/// The generator of nonces (RFC 6979, section 3.2, steps b to h).
struct Nonces {
    curve: &'static Curve,
    k: Zeroizing<Vec<u8>>,
    v: Zeroizing<Vec<u8>>,
    is_first: bool,
}

impl Nonces {
    fn new(curve: &'static Curve, key: &Scalar, hashed: &Scalar) -> Self {
        let (key, hashed) = (curve.bytes(key), curve.bytes(hashed));
        let bytes = |value| Zeroizing::new(vec![value; curve.length]);
        let mut nonces = Nonces { curve, k: bytes(0), v: bytes(1), is_first: true };
        for round in [0, 1] {
            nonces.k = nonces.mac(&[&nonces.v, &[round], &key, &hashed]);
            nonces.v = nonces.mac(&[&nonces.v]);
        }
        nonces
    }

    /// The next candidate that is a scalar.
    fn next(&mut self) -> Option<Zeroizing<Scalar>> {
        loop {
            if !self.is_first {
                self.k = self.mac(&[&self.v, &[0]]);
                self.v = self.mac(&[&self.v]);
            }
            self.is_first = false;
            self.v = self.mac(&[&self.v]);
            let candidate = Zeroizing::new(self.curve.number(&self.v));
            if self.curve.has(&candidate) {
                return Some(candidate);
            }
        }
    }

    fn mac(&self, parts: &[&[u8]]) -> Zeroizing<Vec<u8>> {
        let mut context = hmac::Context::with_key(&hmac::Key::new(self.curve.hmac, &self.k));
        parts.iter().for_each(|part| context.update(part));
        Zeroizing::new(context.sign().as_ref().to_vec())
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use signature::hazmat::PrehashSigner;

    use super::*;

    fn key(curve: &'static Curve, scalar: &[u8]) -> Option<EcKey> {
        let number = OctetStringRef::new(scalar).unwrap().to_der().unwrap();
        let inside = [&[2, 1, 1], number.as_slice()].concat();
        EcKey::read(curve, &[&[0x30, inside.len() as u8], inside.as_slice()].concat())
    }

    fn hex(text: &str) -> Vec<u8> {
        base16ct::mixed::decode_vec(text).unwrap()
    }

    /// RFC 6979, appendix A.2.5 and A.2.6, message "sample".
    #[test]
    fn the_examples_of_the_standard_come_out() {
        let p256 = key(&CURVE_P256, &hex("C9AFA9D845BA75166B5C215767B1D6934E50C3DB36E89B127B8A622B120F6721"))
            .unwrap();
        let hash = aws_lc_rs::digest::digest(&aws_lc_rs::digest::SHA256, b"sample");
        let wanted = "EFD48B2AACB6A8FD1140DD9CD45E81D69D2C877B56AAF991C34D0EA84EAF3716\
                      F7CB1C942D657C41D436C7A1B6E29F65F3E900DBB9AFF4064DC4AB2F843ACDA8";
        assert_eq!(p256.sign(hash.as_ref()), from_fixed(&hex(wanted)).ok());
        let p384 = key(
            &CURVE_P384,
            &hex("6B9D3DAD2E1B8C1C05B19875B6659F4DE23C3B667BF297BA9AA47740787137D8\
                  96D5724E4C70A825F872C9EA60D2EDF5"),
        );
        let hash = aws_lc_rs::digest::digest(&aws_lc_rs::digest::SHA384, b"sample");
        let wanted = "94EDBB92A5ECB8AAD4736E56C691916B3F88140666CE9FA73D64C4EA95AD133C\
                      81A648152E44ACF96E36DD1E80FABE46\
                      99EF4AEB15F178CEA1FE40DB2603138F130E740A19624526203B6351D0A3A94F\
                      A329C145786E679E7B82C71A38628AC8";
        assert_eq!(p384.unwrap().sign(hash.as_ref()), from_fixed(&hex(wanted)).ok());
    }

    proptest! {
        #[test]
        fn signatures_are_those_of_another_implementation(scalar: [u8; 48], hash in prop::collection::vec(any::<u8>(), 32..=64)) {
            if let Some(own) = key(&CURVE_P256, &scalar[..32]) {
                let theirs = p256::ecdsa::SigningKey::from_slice(&scalar[..32]).unwrap();
                let signature: p256::ecdsa::Signature = theirs.sign_prehash(&hash).unwrap();
                prop_assert_eq!(own.sign(&hash).unwrap(), signature.to_der().as_bytes().to_vec());
                prop_assert_eq!(own.point, theirs.verifying_key().to_sec1_point(false).as_bytes().to_vec());
            }
            if let (Some(own), true) = (key(&CURVE_P384, &scalar), hash.len() >= 48) {
                let theirs = p384::ecdsa::SigningKey::from_slice(&scalar).unwrap();
                let signature: p384::ecdsa::Signature = theirs.sign_prehash(&hash).unwrap();
                prop_assert_eq!(own.sign(&hash).unwrap(), signature.to_der().as_bytes().to_vec());
                prop_assert_eq!(own.point, theirs.verifying_key().to_sec1_point(false).as_bytes().to_vec());
            }
        }
    }

    #[test]
    fn numbers_that_are_no_scalars_and_other_public_keys_are_refused() {
        for curve in [&CURVE_P256, &CURVE_P384] {
            let order = curve.bytes(curve.order.as_ref());
            let mut below = order.to_vec();
            *below.last_mut().unwrap() -= 1;
            assert!(key(curve, &below).is_some());
            assert!(key(curve, &order).is_none());
            assert!(key(curve, &vec![0; curve.length]).is_none());
            assert!(key(curve, &vec![1; curve.length + 1]).is_none());
            assert!(key(curve, &[]).is_none());
            // a writer may leave out leading zeros
            let short = key(curve, &[7]).unwrap();
            let mut padded = vec![0; curve.length];
            *padded.last_mut().unwrap() = 7;
            assert_eq!(short.point, key(curve, &padded).unwrap().point);
        }
        let point = key(&CURVE_P256, &[7]).unwrap().point;
        let with = |field: &[u8]| {
            let inside = [&[2, 1, 1, 4, 1, 7], field].concat();
            EcKey::read(&CURVE_P256, &[&[0x30, inside.len() as u8], inside.as_slice()].concat())
        };
        let public = |point: &[u8]| {
            let bits = BitStringRef::from_bytes(point).unwrap().to_der().unwrap();
            [&[0xa1, bits.len() as u8], bits.as_slice()].concat()
        };
        assert!(with(&public(&point)).is_some());
        let parity = 2 | point.last().unwrap() & 1;
        assert!(with(&public(&[&[parity], &point[1..33]].concat())).is_some());
        assert!(with(&public(&[&[parity ^ 1], &point[1..33]].concat())).is_none());
        assert!(with(&public(&key(&CURVE_P256, &[8]).unwrap().point)).is_none());
        let named = |oid: ObjectIdentifier| {
            let oid = oid.to_der().unwrap();
            [&[0xa0, oid.len() as u8], oid.as_slice()].concat()
        };
        assert!(with(&named(P256)).is_some());
        assert!(with(&named(P384)).is_none());
        assert!(with(&[5, 0]).is_none());
    }
}
