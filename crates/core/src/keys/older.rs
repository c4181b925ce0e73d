//! Private keys in the forms that PKCS#8 came after: PKCS#1 (RFC 8017, appendix A.1.2) and SEC 1 (RFC 5915, section 3).

use der::asn1::{AnyRef, ContextSpecific, ObjectIdentifier, OctetStringRef};
use der::{Decode, Encode, Reader, SliceReader};
use ninekeys_formats::secret::{Secret, SecretBytes};
use ninekeys_formats::x509::{EC, RSA};
use pkcs8::PrivateKeyInfoRef;
use pkcs8::spki::AlgorithmIdentifierRef;

/// The same key as PKCS#8, or nothing where it is in neither form. An EC key that does not name its curve is in neither:
/// only the file around it could say.
pub fn to_pkcs8(der: &[u8]) -> Option<SecretBytes> {
    let (kind, curve) = kind(der).ok()?;
    let parameters = curve.as_ref().map_or(AnyRef::NULL, AnyRef::from);
    let algorithm = AlgorithmIdentifierRef { oid: kind, parameters: Some(parameters) };
    let whole = PrivateKeyInfoRef::new(algorithm, OctetStringRef::new(der).ok()?);
    // as long as it will be from the start: a buffer that grew would leave a copy behind
    let mut out = vec![0; usize::try_from(whole.encoded_len().ok()?).ok()?];
    let done = whole.encode_to_slice(&mut out).is_ok();
    let out = Secret::new(out);
    done.then_some(out)
}

/// The algorithm of a key in one of the forms, and the curve that it names.
fn kind(der: &[u8]) -> der::Result<(ObjectIdentifier, Option<ObjectIdentifier>)> {
    let mut reader = SliceReader::new(der)?;
    let found = reader.sequence(|fields| -> der::Result<_> {
        let version = u8::decode(fields)?;
        if version == 0 {
            // modulus, exponents, two primes, two exponents, a coefficient
            for _ in 0..8 {
                der::asn1::UintRef::decode(fields)?;
            }
            return Ok((RSA, None));
        }
        <&OctetStringRef>::decode(fields)?;
        let curve = ContextSpecific::<ObjectIdentifier>::decode_explicit(fields, der::TagNumber(0))?;
        let curve = curve.ok_or_else(|| der::Error::from(der::Tag::ObjectIdentifier.value_error()))?;
        // the public half, where it is there
        ContextSpecific::<der::asn1::BitStringRef<'_>>::decode_explicit(fields, der::TagNumber(1))?;
        Ok((EC, Some(curve.value)))
    })?;
    reader.finish()?;
    Ok(found)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::keys::{Algorithm, KeyMaker, PrivateKey, Signer, SystemKeys};
    use proptest::prelude::*;

    /// The form inside a PKCS#8 key: for RSA that is all of PKCS#1, for EC all of SEC 1 but for the curve.
    fn older(algorithm: Algorithm) -> (PrivateKey, Vec<u8>) {
        let made = SystemKeys.make(algorithm).unwrap();
        let own = made.lend(|der| PrivateKey::from_pkcs8(der)).unwrap();
        let inner = made.lend(|der| {
            let info = PrivateKeyInfoRef::from_der(der).unwrap();
            let curve = info.algorithm.parameters_oid().ok();
            let inner = info.private_key.as_bytes().to_vec();
            match curve {
                None => inner,
                Some(curve) => with_curve(&inner, &curve),
            }
        });
        (own, inner)
    }

    fn with_curve(inner: &[u8], curve: &ObjectIdentifier) -> Vec<u8> {
        let mut reader = SliceReader::new(inner).unwrap();
        let fields: Vec<Vec<u8>> = reader
            .sequence(|fields| {
                let mut all = Vec::new();
                while !fields.is_finished() {
                    all.push(fields.tlv_bytes()?.to_vec());
                }
                Ok::<_, der::Error>(all)
            })
            .unwrap();
        let oid = curve.to_der().unwrap();
        let parameters = [&[0xa0, oid.len() as u8][..], &oid].concat();
        let content = [&fields[0][..], &fields[1], &parameters].concat();
        [&[0x30, content.len() as u8][..], &content].concat()
    }

    #[test]
    fn a_key_in_an_older_form_is_the_key_that_it_was() {
        for algorithm in [Algorithm::Rsa2048, Algorithm::P256, Algorithm::P384] {
            let (own, older) = older(algorithm);
            assert!(PrivateKey::from_pkcs8(&older).is_err());
            let read = to_pkcs8(&older).unwrap().lend(|der| PrivateKey::from_pkcs8(der)).unwrap();
            assert_eq!(read.public().fingerprint(), own.public().fingerprint());
            assert!(to_pkcs8(&older[..older.len() - 1]).is_none());
            assert!(to_pkcs8(&[&older[..], &[0]].concat()).is_none());
        }
        let without_curve = SystemKeys
            .make(Algorithm::P256)
            .unwrap()
            .lend(|der| PrivateKeyInfoRef::from_der(der).unwrap().private_key.as_bytes().to_vec());
        assert!(to_pkcs8(&without_curve).is_none());
    }

    proptest! {
        #[test]
        fn bytes_of_any_kind_are_a_key_or_nothing(bytes in proptest::collection::vec(any::<u8>(), 0..200)) {
            let _ = to_pkcs8(&bytes);
        }
    }
}
