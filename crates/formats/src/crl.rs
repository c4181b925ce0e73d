//! Lists of revoked certificates (CRL, RFC 5280, section 5): read over the bytes that were signed, and written.

use std::collections::HashMap;

use der::asn1::{BitString, ObjectIdentifier, OctetString, UintRef};
use der::oid::AssociatedOid;
use der::{Decode, Encode, Tag};
use x509_cert::ext::pkix::AuthorityKeyIdentifier;
use x509_cert::time::Time;

use crate::cursor::{ParseError, bounded};
use crate::limits::Limits;
use crate::tlv::{content, inside, malformed, tlv, unreadable};
use crate::x509::Extensions;

/// id-ce-cRLNumber (RFC 5280, section 5.2.3).
const NUMBER: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.5.29.20");

/// A list of revoked certificates. Times are seconds since 1970 (UTC).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RevocationList {
    /// The signed part, exactly as it stands.
    pub tbs: Vec<u8>,
    /// Who issued it, exactly as it stands.
    pub issuer_der: Vec<u8>,
    /// When it was made.
    pub this_update: i64,
    /// When the next one is made at the latest.
    pub next_update: Option<i64>,
    /// When each was revoked, by serial number (big-endian, as certificates have it).
    pub revoked: HashMap<Vec<u8>, i64>,
    /// What else it says.
    pub extensions: Extensions,
    /// Whether an entry has a critical extension: then it may be another issuer's.
    pub critical_entries: bool,
    /// The algorithm that it is signed with.
    pub signature_algorithm: ObjectIdentifier,
    /// Its signature.
    pub signature: Vec<u8>,
}

impl RevocationList {
    /// Reads a list of version 2 from its DER form; nothing may follow it.
    ///
    /// # Errors
    /// [`ParseError`] for anything that is not a list of RFC 5280's grammar, or is larger than [`Limits::revocations`].
    pub fn parse(bytes: &[u8], limits: &Limits) -> Result<RevocationList, ParseError> {
        let what = "list of revoked certificates";
        bounded(what, bytes, limits.revocations)?;
        read(bytes).map_err(unreadable(what))
    }
}

fn read(bytes: &[u8]) -> der::Result<RevocationList> {
    let outer = inside(bytes, 0x30)?;
    let [tbs, algorithm, signature] = outer.as_slice() else { return Err(malformed()) };
    let fields = inside(tbs, 0x30)?;
    let [version, own_algorithm, issuer, this_update, rest @ ..] = fields.as_slice() else {
        return Err(malformed());
    };
    if content(version, Tag::Integer)? != [1] || own_algorithm != algorithm {
        return Err(malformed());
    }
    let (next_update, rest) = match rest {
        [next, rest @ ..] if matches!(next.first(), Some(0x17 | 0x18)) => (Some(seconds(next)?), rest),
        rest => (None, rest),
    };
    let (entries, rest) = match rest {
        [entries, rest @ ..] if entries.first() == Some(&0x30) => (inside(entries, 0x30)?, rest),
        rest => (Vec::new(), rest),
    };
    let extensions = match rest {
        [] => Extensions::default(),
        [one] => match inside(one, 0xa0)?.as_slice() {
            [all] => Extensions::read(all)?,
            _ => return Err(malformed()),
        },
        _ => return Err(malformed()),
    };
    let mut revoked = HashMap::with_capacity(entries.len());
    let mut critical_entries = false;
    for entry in entries {
        let parts = inside(entry, 0x30)?;
        let [serial, at, more @ ..] = parts.as_slice() else { return Err(malformed()) };
        match more {
            [] => {}
            [all] => critical_entries |= Extensions::read(all)?.iter().any(|one| one.critical),
            _ => return Err(malformed()),
        }
        revoked.insert(content(serial, Tag::Integer)?.to_vec(), seconds(at)?);
    }
    Ok(RevocationList {
        tbs: tbs.to_vec(),
        issuer_der: issuer.to_vec(),
        this_update: seconds(this_update)?,
        next_update,
        revoked,
        extensions,
        critical_entries,
        signature_algorithm: spki::AlgorithmIdentifierOwned::from_der(algorithm)?.oid,
        signature: BitString::from_der(signature)?.as_bytes().ok_or_else(malformed)?.to_vec(),
    })
}

fn seconds(time: &[u8]) -> der::Result<i64> {
    let seconds = Time::from_der(time)?.to_unix_duration().as_secs();
    Ok(i64::try_from(seconds).unwrap_or(i64::MAX))
}

/// A list to be written.
#[derive(Debug, Clone)]
pub struct NewList<'a> {
    /// Its number: each has a higher one.
    pub number: u64,
    /// The issuer's subject, DER.
    pub issuer: &'a [u8],
    /// The id of the issuer's key.
    pub key_id: &'a [u8],
    /// When it is made, as DER writes it.
    pub this_update: &'a [u8],
    /// When the next one is made at the latest, as DER writes it.
    pub next_update: &'a [u8],
    /// Serial numbers, as certificates have them, and when each was revoked, as DER writes it.
    pub revoked: &'a [(Vec<u8>, Vec<u8>)],
}

impl NewList<'_> {
    /// The part that is signed, for an algorithm's identifier in DER.
    ///
    /// # Errors
    /// [`der::Error`] when a part is too long to be written.
    pub fn tbs(&self, algorithm: &[u8]) -> der::Result<Vec<u8>> {
        let entries = self.revoked.iter().map(|(serial, at)| tlv(0x30, &[&tlv(0x02, &[serial])?, at]));
        let entries: Vec<Vec<u8>> = entries.collect::<der::Result<_>>()?;
        let entries: Vec<&[u8]> = entries.iter().map(Vec::as_slice).collect();
        // there is no list of none
        let entries = if entries.is_empty() { Vec::new() } else { tlv(0x30, &entries)? };
        let key_id = AuthorityKeyIdentifier {
            key_identifier: Some(OctetString::new(self.key_id)?),
            ..AuthorityKeyIdentifier::default()
        };
        let extension = |oid: ObjectIdentifier, value: Vec<u8>| -> der::Result<Vec<u8>> {
            tlv(0x30, &[&oid.to_der()?, &OctetString::new(value)?.to_der()?])
        };
        let number = self.number.to_be_bytes();
        let number = UintRef::new(&number)?.to_der()?;
        let extensions =
            [extension(AuthorityKeyIdentifier::OID, key_id.to_der()?)?, extension(NUMBER, number)?].concat();
        let extensions = tlv(0xa0, &[&tlv(0x30, &[&extensions])?])?;
        let fields = [
            &[0x02, 0x01, 0x01],
            algorithm,
            self.issuer,
            self.this_update,
            self.next_update,
            &entries,
            &extensions,
        ];
        tlv(0x30, &fields)
    }
}

/// The whole list: what [`NewList::tbs`] made, the algorithm's identifier in DER, and the signature.
///
/// # Errors
/// [`der::Error`] when a part is too long to be written.
pub fn write(tbs: &[u8], algorithm: &[u8], signature: &[u8]) -> der::Result<Vec<u8>> {
    tlv(0x30, &[tbs, algorithm, &BitString::from_bytes(signature)?.to_der()?])
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::cursor::Fault;

    const EC: &[u8] = b"\x30\x0a\x06\x08\x2a\x86\x48\xce\x3d\x04\x03\x02";
    const NOON: &[u8] = b"\x17\x0d310519120000Z";
    const LATER: &[u8] = b"\x17\x0d310520120000Z";

    fn written(revoked: &[(Vec<u8>, Vec<u8>)]) -> Vec<u8> {
        let name: x509_cert::name::Name = "CN=Gannet Point".parse().unwrap();
        let issuer = name.to_der().unwrap();
        let new = NewList {
            number: 300,
            issuer: &issuer,
            key_id: &[7; 20],
            this_update: NOON,
            next_update: LATER,
            revoked,
        };
        write(&new.tbs(EC).unwrap(), EC, &[9; 70]).unwrap()
    }

    #[test]
    fn what_is_written_is_read_back() {
        let bytes = written(&[(vec![0x41, 2], NOON.to_vec()), (vec![0, 0x80], LATER.to_vec())]);
        let list = RevocationList::parse(&bytes, &Limits::SMALL).unwrap();
        assert_eq!(list.this_update, 1_936_958_400);
        assert_eq!(list.next_update, Some(1_936_958_400 + 86_400));
        assert_eq!(list.revoked.get([0x41, 2].as_slice()), Some(&1_936_958_400));
        assert_eq!((list.revoked.len(), list.signature.len()), (2, 70));
        assert_eq!(list.extensions.issuer_key_id().unwrap(), Some(vec![7; 20]));
        assert!(!list.critical_entries);
        let none = RevocationList::parse(&written(&[]), &Limits::SMALL).unwrap();
        assert!(none.revoked.is_empty());
    }

    #[test]
    fn every_cut_and_another_version_are_refused() {
        let bytes = written(&[(vec![0x41], NOON.to_vec())]);
        for end in 0..bytes.len() {
            assert!(RevocationList::parse(&bytes[..end], &Limits::SMALL).is_err(), "cut at {end}");
        }
        let version = bytes.windows(3).position(|w| w == [0x02, 0x01, 0x01]).unwrap();
        let mut other = bytes.clone();
        other[version + 2] = 0;
        assert!(RevocationList::parse(&other, &Limits::SMALL).is_err());
        let large = Limits { revocations: 10, ..Limits::SMALL };
        let error = RevocationList::parse(&bytes, &large).unwrap_err();
        assert!(matches!(error.fault, Fault::Limit { limit: 10, .. }));
    }
}
