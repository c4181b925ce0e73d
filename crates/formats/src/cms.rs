//! CMS SignedData (RFC 5652): read in BER, over the bytes that were signed, with its content inside or apart; written in
//! DER, with a chain and signed attributes where they are wanted.

use der::asn1::ObjectIdentifier;
use der::{Decode, Encode, Tag};

use crate::ber;
use crate::cursor::{Fault, ParseError, bounded};
use crate::limits::Limits;
use crate::tlv::{content, inside, malformed, tlv, unreadable};

/// Data of no type in particular (RFC 5652, section 4).
pub const DATA: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.7.1");
const SIGNED_DATA: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.7.2");
const CONTENT_TYPE: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.3");
const MESSAGE_DIGEST: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.4");

/// A SignedData.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SignedData {
    /// The content, where it is attached: what is signed has to be this very content.
    pub content: Option<Vec<u8>>,
    /// Certificates, DER; their order means nothing.
    pub certificates: Vec<Vec<u8>>,
    /// The signers.
    pub signers: Vec<SignerInfo>,
}

/// One signer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SignerInfo {
    /// The issuer's name, as it stands.
    pub issuer: Vec<u8>,
    /// The certificate's serial number.
    pub serial: Vec<u8>,
    /// The digest's algorithm.
    pub digest: ObjectIdentifier,
    /// The signature's algorithm.
    pub algorithm: ObjectIdentifier,
    /// The signed attributes, if there are any.
    pub attributes: Option<SignedAttributes>,
    /// The signature.
    pub signature: Vec<u8>,
    /// What was put beside it afterwards, and nobody signed: what each is, and its values in DER.
    pub unsigned: Vec<(ObjectIdentifier, Vec<Vec<u8>>)>,
}

/// Signed attributes: with them, the signature is over them and not over the content.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SignedAttributes {
    /// Their bytes as a SET: what is signed.
    pub signed: Vec<u8>,
    /// The digest of the content.
    pub message_digest: Vec<u8>,
    /// What they say that the content is.
    content_type: ObjectIdentifier,
    /// All of them: what each is, and its values in DER.
    pub all: Vec<(ObjectIdentifier, Vec<Vec<u8>>)>,
}

/// signingTime (RFC 5652, section 11.3).
const SIGNING_TIME: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.5");

impl SignedAttributes {
    /// When the signer says that it signed, in seconds since 1970 (UTC); nothing where it does not say.
    pub fn signing_time(&self) -> Option<i64> {
        let time = x509_cert::time::Time::from_der(self.find(SIGNING_TIME)?).ok()?;
        i64::try_from(time.to_unix_duration().as_secs()).ok()
    }

    /// The one value of an attribute.
    pub fn find(&self, kind: ObjectIdentifier) -> Option<&[u8]> {
        let (_, values) = self.all.iter().find(|(known, _)| *known == kind)?;
        if let [one] = values.as_slice() { Some(one) } else { None }
    }
}

/// Reads a SignedData in BER.
///
/// # Errors
/// [`ParseError`] for another type of content, a grammar that does not hold, or more signers or certificates than the
/// limits allow.
pub fn parse(bytes: &[u8], limits: &Limits) -> Result<SignedData, ParseError> {
    parse_of(DATA, bytes, limits)
}

/// The same, for a content of that type; its signers have to say that it is.
///
/// # Errors
/// As [`parse`].
pub fn parse_of(kind: ObjectIdentifier, bytes: &[u8], limits: &Limits) -> Result<SignedData, ParseError> {
    let found = open(kind, bytes, limits)?;
    if found.signers.is_empty() {
        let fault = Fault::Limit { said: 0, limit: limits.signers };
        return Err(ParseError { what: "CMS signers and certificates", at: 0, fault });
    }
    Ok(found)
}

/// The certificates of a message that nobody signed: how chains are handed on (RFC 5652, section 5; 'PKCS#7').
///
/// # Errors
/// [`ParseError`] as with [`parse`], when there is no certificate in it, and when somebody signed it.
pub fn bundle(bytes: &[u8], limits: &Limits) -> Result<Vec<Vec<u8>>, ParseError> {
    let found = open(DATA, bytes, limits)?;
    // what somebody signed is a message, whatever certificates go with it
    match found.certificates.is_empty() || !found.signers.is_empty() {
        true => Err(ParseError { what: "CMS certificates", at: 0, fault: Fault::Malformed }),
        false => Ok(found.certificates),
    }
}

/// Certificates as a message that nobody signed.
///
/// # Errors
/// [`der::Error`] when a part is too long to be written.
pub fn write_bundle(certificates: &[&[u8]]) -> der::Result<Vec<u8>> {
    let encapsulated = tlv(0x30, &[&DATA.to_der()?])?;
    let chain = tlv(0xa0, certificates)?;
    let signed = tlv(0x30, &[&[0x02, 0x01, 0x01], &[0x31, 0x00], &encapsulated, &chain, &[0x31, 0x00]])?;
    tlv(0x30, &[&SIGNED_DATA.to_der()?, &tlv(0xa0, &[&signed])?])
}

fn open(kind: ObjectIdentifier, bytes: &[u8], limits: &Limits) -> Result<SignedData, ParseError> {
    let what = "CMS signed data";
    bounded(what, bytes, limits.certificate * limits.signers)?;
    let bytes = ber::to_definite(bytes, limits).map_err(|error| ParseError { what, ..error })?;
    let found = read(&bytes, kind).map_err(unreadable(what))?;
    let most = found.certificates.len().max(found.signers.len()) as u64;
    if most > limits.signers {
        let fault = Fault::Limit { said: most, limit: limits.signers };
        return Err(ParseError { what: "CMS signers and certificates", at: 0, fault });
    }
    Ok(found)
}

fn read(bytes: &[u8], wanted: ObjectIdentifier) -> der::Result<SignedData> {
    let outer = inside(bytes, 0x30)?;
    let [kind, wrapped] = outer.as_slice() else { return Err(malformed()) };
    if ObjectIdentifier::from_der(kind)? != SIGNED_DATA {
        return Err(malformed());
    }
    let wrapped = inside(wrapped, 0xa0)?;
    let [signed] = wrapped.as_slice() else { return Err(malformed()) };
    let fields = inside(signed, 0x30)?;
    let [_version, _digests, encapsulated, rest @ ..] = fields.as_slice() else { return Err(malformed()) };
    let encapsulated = inside(encapsulated, 0x30)?;
    let is_wanted = |kind: &[u8]| ObjectIdentifier::from_der(kind).is_ok_and(|kind| kind == wanted);
    // what is data is called many things by old writers
    if wanted != DATA && !encapsulated.first().is_some_and(|kind| is_wanted(kind)) {
        return Err(malformed());
    }
    let content = match encapsulated.as_slice() {
        [_kind] => None,
        [_kind, wrapped] => match inside(wrapped, 0xa0)?.as_slice() {
            [text] => Some(content(text, Tag::OctetString)?.to_vec()),
            _ => return Err(malformed()),
        },
        _ => return Err(malformed()),
    };
    let mut certificates = Vec::new();
    let mut signers: Vec<SignerInfo> = Vec::new();
    for field in rest {
        match field.first() {
            Some(0xa0) => certificates = inside(field, 0xa0)?.into_iter().map(<[u8]>::to_vec).collect(),
            Some(0xa1) => {}
            Some(0x31) => {
                signers = inside(field, 0x31)?.into_iter().map(signer).collect::<der::Result<_>>()?
            }
            _ => return Err(malformed()),
        }
    }
    // the signers say what it is that they signed (RFC 5652, section 11.1)
    let says = |signer: &SignerInfo| {
        signer.attributes.as_ref().is_none_or(|attributes| attributes.content_type == wanted)
    };
    if signers.iter().all(says) {
        Ok(SignedData { content, certificates, signers })
    } else {
        Err(malformed())
    }
}

fn signer(tlv: &[u8]) -> der::Result<SignerInfo> {
    let fields = inside(tlv, 0x30)?;
    let [_version, identifier, digest, rest @ ..] = fields.as_slice() else { return Err(malformed()) };
    let identifier = inside(identifier, 0x30)?;
    let [issuer, serial] = identifier.as_slice() else { return Err(malformed()) };
    let (attributes, rest) = match rest {
        [first, rest @ ..] if first.first() == Some(&0xa0) => (Some(attributes(first)?), rest),
        rest => (None, rest),
    };
    let (algorithm, signature, unsigned) = match rest {
        [algorithm, signature] => (algorithm, signature, Vec::new()),
        [algorithm, signature, unsigned] => (algorithm, signature, attribute_list(unsigned, 0xa1)?),
        _ => return Err(malformed()),
    };
    Ok(SignerInfo {
        issuer: issuer.to_vec(),
        serial: content(serial, Tag::Integer)?.to_vec(),
        digest: algorithm_id(digest)?,
        algorithm: algorithm_id(algorithm)?,
        attributes,
        signature: content(signature, Tag::OctetString)?.to_vec(),
        unsigned,
    })
}

/// What each attribute is, and its values.
fn attribute_list(tlv: &[u8], tag: u8) -> der::Result<Vec<(ObjectIdentifier, Vec<Vec<u8>>)>> {
    let mut all: Vec<(ObjectIdentifier, Vec<Vec<u8>>)> = Vec::new();
    for attribute in inside(tlv, tag)? {
        let parts = inside(attribute, 0x30)?;
        let [kind, values] = parts.as_slice() else { return Err(malformed()) };
        let kind = ObjectIdentifier::from_der(kind)?;
        // which of two counts would be the reader's choice (RFC 5652, section 5.3)
        if all.iter().any(|(known, _)| *known == kind) {
            return Err(malformed());
        }
        all.push((kind, inside(values, 0x31)?.into_iter().map(<[u8]>::to_vec).collect()));
    }
    Ok(all)
}

fn algorithm_id(tlv: &[u8]) -> der::Result<ObjectIdentifier> {
    Ok(spki::AlgorithmIdentifierOwned::from_der(tlv)?.oid)
}

/// What is signed is the attributes under the tag of a SET (RFC 5652, section 5.4).
fn attributes(tlv: &[u8]) -> der::Result<SignedAttributes> {
    let mut signed = tlv.to_vec();
    let [first, ..] = signed.as_mut_slice() else { return Err(malformed()) };
    *first = 0x31;
    let all = attribute_list(tlv, 0xa0)?;
    let one = |wanted: ObjectIdentifier| {
        let (_, values) = all.iter().find(|(kind, _)| *kind == wanted).ok_or_else(malformed)?;
        if let [value] = values.as_slice() { Ok(value.as_slice()) } else { Err(malformed()) }
    };
    let message_digest = content(one(MESSAGE_DIGEST)?, Tag::OctetString)?.to_vec();
    let content_type = ObjectIdentifier::from_der(one(CONTENT_TYPE)?)?;
    Ok(SignedAttributes { signed, message_digest, content_type, all })
}

/// One signer of a new SignedData. The algorithm identifiers are DER.
#[derive(Debug, Clone, Copy)]
pub struct NewSigner<'a> {
    /// The issuer's name in its certificate, as it stands.
    pub issuer: &'a [u8],
    /// Its certificate's serial number.
    pub serial: &'a [u8],
    /// The digest's algorithm.
    pub digest: &'a [u8],
    /// The signature's algorithm.
    pub algorithm: &'a [u8],
    /// The signed attributes as [`signed_attributes`] made them: then the signature is over them.
    pub attributes: Option<&'a [u8]>,
    /// The signature.
    pub signature: &'a [u8],
    /// Attributes that are not signed: a kind each, and the DER of its one value.
    pub unsigned: &'a [(ObjectIdentifier, Vec<u8>)],
}

/// Signed attributes over data with that digest, as a SET: what is signed. The content's type and digest are put to `more`,
/// each of which is a kind and the DER of its one value.
///
/// # Errors
/// [`der::Error`] when a part is too long to be written.
pub fn signed_attributes(message_digest: &[u8], more: &[(ObjectIdentifier, &[u8])]) -> der::Result<Vec<u8>> {
    signed_attributes_of(DATA, message_digest, more)
}

/// The same over a content of that type.
///
/// # Errors
/// As [`signed_attributes`].
pub fn signed_attributes_of(
    kind: ObjectIdentifier,
    message_digest: &[u8],
    more: &[(ObjectIdentifier, &[u8])],
) -> der::Result<Vec<u8>> {
    let digest = tlv(0x04, &[message_digest])?;
    let kind = kind.to_der()?;
    let own = [(CONTENT_TYPE, kind.as_slice()), (MESSAGE_DIGEST, digest.as_slice())];
    let mut all = Vec::new();
    for (kind, value) in own.iter().chain(more) {
        all.push(tlv(0x30, &[&kind.to_der()?, &tlv(0x31, &[value])?])?);
    }
    // DER sorts what is in a SET OF (X.690, section 11.6)
    all.sort();
    tlv(0x31, &all.iter().map(Vec::as_slice).collect::<Vec<_>>())
}

/// A SignedData with one signer and the certificates of its chain; the content stands inside, or apart when there is none.
///
/// # Errors
/// [`der::Error`] when a part is too long to be written.
pub fn write(content: Option<&[u8]>, certificates: &[&[u8]], signer: &NewSigner<'_>) -> der::Result<Vec<u8>> {
    write_of(DATA, content, certificates, signer)
}

/// The same with a content of that type.
///
/// # Errors
/// As [`write()`].
pub fn write_of(
    kind: ObjectIdentifier,
    content: Option<&[u8]>,
    certificates: &[&[u8]],
    signer: &NewSigner<'_>,
) -> der::Result<Vec<u8>> {
    let version = [0x02, 0x01, 0x01];
    // whose content is no data has another version (RFC 5652, section 5.1)
    let outer = if kind == DATA { version } else { [0x02, 0x01, 0x03] };
    let identifier = tlv(0x30, &[signer.issuer, &tlv(0x02, &[signer.serial])?])?;
    let attributes = match signer.attributes {
        // the SET that is signed stands under another tag
        Some([0x31, rest @ ..]) => [&[0xa0], rest].concat(),
        Some(_) => return Err(malformed()),
        None => Vec::new(),
    };
    let signature = tlv(0x04, &[signer.signature])?;
    let digest = signer.digest;
    let mut unsigned = Vec::new();
    for (kind, value) in signer.unsigned {
        unsigned.push(tlv(0x30, &[&kind.to_der()?, &tlv(0x31, &[value])?])?);
    }
    unsigned.sort();
    let unsigned = match unsigned.is_empty() {
        true => Vec::new(),
        false => tlv(0xa1, &unsigned.iter().map(Vec::as_slice).collect::<Vec<_>>())?,
    };
    let parts: [&[u8]; 7] =
        [&version, &identifier, digest, &attributes, signer.algorithm, &signature, &unsigned];
    let info = tlv(0x30, &parts)?;
    let content = match content {
        Some(content) => tlv(0xa0, &[&tlv(0x04, &[content])?])?,
        None => Vec::new(),
    };
    let encapsulated = tlv(0x30, &[&kind.to_der()?, &content])?;
    let digests = tlv(0x31, &[digest])?;
    let chain = tlv(0xa0, certificates)?;
    let signed = tlv(0x30, &[&outer, &digests, &encapsulated, &chain, &tlv(0x31, &[&info])?])?;
    tlv(0x30, &[&SIGNED_DATA.to_der()?, &tlv(0xa0, &[&signed])?])
}

#[cfg(test)]
mod tests {
    use super::*;

    const SHA256: &[u8] = b"\x30\x0d\x06\x09\x60\x86\x48\x01\x65\x03\x04\x02\x01\x05\x00";
    const RSA: &[u8] = b"\x30\x0d\x06\x09\x2a\x86\x48\x86\xf7\x0d\x01\x01\x01\x05\x00";

    fn written() -> Vec<u8> {
        write(None, &[b"\x30\x03\x04\x01a"], &SIGNER).unwrap()
    }

    const SIGNER: NewSigner<'_> = NewSigner {
        issuer: b"\x30\x00",
        serial: b"\x07",
        digest: SHA256,
        algorithm: RSA,
        attributes: None,
        signature: &[9; 300],
        unsigned: &[],
    };

    #[test]
    fn content_chain_and_attributes_are_read_back_as_they_were_written() {
        let own = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.5");
        let set = signed_attributes(&[7; 32], &[(own, b"\x17\x0d310519120000Z")]).unwrap();
        let signer = NewSigner { attributes: Some(&set), ..SIGNER };
        let bytes = write(Some(b"ferry"), &[b"\x30\x03\x04\x01a", b"\x30\x03\x04\x01b"], &signer).unwrap();
        let found = parse(&bytes, &Limits::SMALL).unwrap();
        assert_eq!((found.content.as_deref(), found.certificates.len()), (Some(&b"ferry"[..]), 2));
        let attributes = found.signers[0].attributes.as_ref().unwrap();
        assert_eq!((&attributes.signed, attributes.message_digest.len()), (&set, 32));
        assert_eq!(attributes.find(own), Some(&b"\x17\x0d310519120000Z"[..]));
        // an attribute that stands twice is the reader's choice
        let twice = signed_attributes(&[7; 32], &[(MESSAGE_DIGEST, b"\x04\x01a")]).unwrap();
        let signer = NewSigner { attributes: Some(&twice), ..SIGNER };
        assert!(parse(&write(None, &[], &signer).unwrap(), &Limits::SMALL).is_err());
    }

    #[test]
    fn what_is_written_is_read_back() {
        let found = parse(&written(), &Limits::SMALL).unwrap();
        assert_eq!(found.certificates, [b"\x30\x03\x04\x01a"]);
        let [signer] = found.signers.as_slice() else { panic!("{found:?}") };
        assert_eq!((signer.serial.as_slice(), signer.signature.len()), (&b"\x07"[..], 300));
        assert!(signer.attributes.is_none());
    }

    #[test]
    fn an_attached_content_and_indefinite_lengths_are_read() {
        let apart = written();
        assert_eq!(parse(&apart, &Limits::SMALL).unwrap().content, None);
        // the same with its content inside, and the outermost lengths left open
        let data = DATA.to_der().unwrap();
        let at = apart.windows(data.len()).position(|window| window == data).unwrap();
        let inside = [&data[..], b"\xa0\x80\x24\x80\x04\x02fe\x04\x03rry\0\0\0\0"].concat();
        let text = [&apart[..at - 2], b"\x30\x80", &inside, b"\0\0", &apart[at + data.len()..]].concat();
        let [_, _, _, _, rest @ ..] = text.as_slice() else { panic!() };
        let kind = SIGNED_DATA.to_der().unwrap();
        let signed = &rest[kind.len() + 8..];
        let open = [b"\x30\x80", &kind[..], b"\xa0\x80\x30\x80", signed, &[0; 6]].concat();
        let found = parse(&open, &Limits::SMALL).unwrap();
        assert_eq!(found.content.as_deref(), Some(&b"ferry"[..]));
        assert_eq!(found.signers[0].signature.len(), 300);
    }

    #[test]
    fn a_bundle_is_certificates_without_a_signer() {
        let bytes = write_bundle(&[b"\x30\x03\x04\x01a", b"\x30\x03\x04\x01b"]).unwrap();
        let found = bundle(&bytes, &Limits::SMALL).unwrap();
        assert_eq!(found, [b"\x30\x03\x04\x01a", b"\x30\x03\x04\x01b"]);
        assert!(parse(&bytes, &Limits::SMALL).is_err(), "nobody signed it");
        assert!(bundle(&write_bundle(&[]).unwrap(), &Limits::SMALL).is_err());
        assert!(bundle(&written(), &Limits::SMALL).is_err(), "a signed message is no bundle");
    }

    #[test]
    fn every_cut_is_refused() {
        let bytes = written();
        for end in 0..bytes.len() {
            assert!(parse(&bytes[..end], &Limits::SMALL).is_err(), "cut at {end}");
        }
        assert!(parse(&[&bytes[..], &[0]].concat(), &Limits::SMALL).is_err());
    }
}
