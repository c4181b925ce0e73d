//! PKCS#12 (RFC 7292): the structure around keys and certificates, read from BER, written in DER.
//!
//! ```text
//! PFX ::= SEQUENCE { version INTEGER (3), authSafe ContentInfo, macData MacData OPTIONAL }
//! AuthenticatedSafe ::= SEQUENCE OF ContentInfo   -- data, or encryptedData
//! SafeContents ::= SEQUENCE OF SafeBag
//! SafeBag ::= SEQUENCE { bagId OID, bagValue [0] EXPLICIT ANY, bagAttributes SET OF Attribute OPTIONAL }
//! ```

use der::asn1::ObjectIdentifier as Oid;
use der::{Decode, Encode, Tag};

use crate::ber;
use crate::cursor::{Fault, ParseError, bounded};
use crate::limits::Limits;
use crate::secret::{Secret, SecretBytes};
use crate::tlv::{content, inside, malformed, number, tlv, unreadable, value};

const DATA: Oid = Oid::new_unwrap("1.2.840.113549.1.7.1");
const ENCRYPTED_DATA: Oid = Oid::new_unwrap("1.2.840.113549.1.7.6");
const KEY_BAG: Oid = Oid::new_unwrap("1.2.840.113549.1.12.10.1.1");
const SHROUDED_KEY_BAG: Oid = Oid::new_unwrap("1.2.840.113549.1.12.10.1.2");
const CERTIFICATE_BAG: Oid = Oid::new_unwrap("1.2.840.113549.1.12.10.1.3");
const X509_CERTIFICATE: Oid = Oid::new_unwrap("1.2.840.113549.1.9.22.1");
const FRIENDLY_NAME: Oid = Oid::new_unwrap("1.2.840.113549.1.9.20");
const LOCAL_KEY_ID: Oid = Oid::new_unwrap("1.2.840.113549.1.9.21");
const PBES2: Oid = Oid::new_unwrap("1.2.840.113549.1.5.13");
const PBKDF2: Oid = Oid::new_unwrap("1.2.840.113549.1.5.12");
/// The arc of RFC 7292's own encryption schemes.
const PBES1_ARC: &str = "1.2.840.113549.1.12.1.";
/// hmacWithSHA1 (RFC 8018): what PBKDF2 uses when it does not say.
pub(crate) const HMAC_SHA1: Oid = Oid::new_unwrap("1.2.840.113549.2.7");
/// hmacWithSHA256 (RFC 8018).
pub const HMAC_SHA256: Oid = Oid::new_unwrap("1.2.840.113549.2.9");
/// aes256-CBC (NIST).
pub(crate) const AES256_CBC: Oid = Oid::new_unwrap("2.16.840.1.101.3.4.1.42");
/// id-sha256 (NIST).
pub const SHA256: Oid = Oid::new_unwrap("2.16.840.1.101.3.4.2.1");

/// A file, read but not opened.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pfx {
    /// The AuthenticatedSafe: what the MAC is over.
    pub contents: Vec<u8>,
    /// The MAC, if there is one.
    pub mac: Option<Mac>,
}

/// How a file proves that the password is right and nothing was changed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Mac {
    /// The hash it is made with.
    pub algorithm: Oid,
    /// The MAC.
    pub digest: Vec<u8>,
    /// Salt of its key.
    pub salt: Vec<u8>,
    /// How often its key is hashed.
    pub iterations: u64,
}

/// How something is encrypted under a password.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Scheme {
    /// PBES2 with PBKDF2 (RFC 8018).
    Pbes2 {
        /// The HMAC that keys are derived with.
        prf: Oid,
        /// Its salt.
        salt: Vec<u8>,
        /// How often.
        iterations: u64,
        /// The cipher.
        cipher: Oid,
        /// Its initial vector.
        iv: Vec<u8>,
    },
    /// One of RFC 7292's own, appendix C: RC2 or 3DES under a key made with SHA-1.
    Pbes1 {
        /// Which one.
        scheme: Oid,
        /// Salt of its key.
        salt: Vec<u8>,
        /// How often its key is hashed.
        iterations: u64,
    },
    /// Anything else, by object identifier.
    Other(Oid),
}

/// Something encrypted, with how.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Encrypted {
    /// How.
    pub scheme: Scheme,
    /// The ciphertext.
    pub data: Vec<u8>,
}

/// One part of the AuthenticatedSafe.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Safe {
    /// SafeContents in clear; keys in it may still be encrypted.
    Plain(Vec<u8>),
    /// SafeContents under a password.
    Encrypted(Encrypted),
}

/// One bag with its attributes.
#[derive(Debug)]
pub struct Bag {
    /// What is in it.
    pub content: BagContent,
    /// Its name for people.
    pub name: Option<String>,
    /// What ties a key to its certificate.
    pub key_id: Option<Vec<u8>>,
}

/// What is in a bag.
#[derive(Debug)]
pub enum BagContent {
    /// A private key in clear, PKCS#8.
    Key(SecretBytes),
    /// A private key under a password.
    ShroudedKey(Encrypted),
    /// A certificate, DER.
    Certificate(Vec<u8>),
    /// A kind that has nothing for us: a CRL, a secret, bags within a bag.
    Other(Oid),
}

/// Whether bytes begin as a PFX does: a sequence with the version 3 in front.
pub fn looks_like(bytes: &[u8]) -> bool {
    if bytes.first() != Some(&0x30) {
        return false;
    }
    let skip = match bytes.get(1) {
        Some(length @ 0x81..=0x88) => 2 + usize::from(length & 0x7f),
        Some(_) => 2,
        None => return false,
    };
    // a file that is cut short right behind it is still one
    bytes.get(skip..).is_some_and(|rest| rest.starts_with(&[0x02, 0x01, 0x03, 0x30]))
}

fn failed(error: der::Error) -> ParseError {
    unreadable("PKCS#12")(error)
}

/// Reads a file.
///
/// # Errors
/// [`ParseError`] for a grammar that does not hold, or a file larger than the limits allow.
pub fn parse(bytes: &[u8], limits: &Limits) -> Result<Pfx, ParseError> {
    bounded("keystore", bytes, limits.keystore)?;
    read_pfx(&ber::to_definite(bytes, limits)?).map_err(failed)
}

fn read_pfx(bytes: &[u8]) -> der::Result<Pfx> {
    let fields = inside(bytes, 0x30)?;
    let [version, safe, rest @ ..] = fields.as_slice() else { return Err(malformed()) };
    if number(version)? != 3 || rest.len() > 1 {
        return Err(malformed());
    }
    let safe = inside(safe, 0x30)?;
    let [kind, wrapped] = safe.as_slice() else { return Err(malformed()) };
    // a signature instead of a MAC would need a public key that nobody has
    if Oid::from_der(kind)? != DATA {
        return Err(malformed());
    }
    let contents = content(value(wrapped, 0xa0)?, Tag::OctetString)?.to_vec();
    Ok(Pfx { contents, mac: rest.first().map(|mac| read_mac(mac)).transpose()? })
}

fn read_mac(tlv: &[u8]) -> der::Result<Mac> {
    let fields = inside(tlv, 0x30)?;
    let [info, salt, rest @ ..] = fields.as_slice() else { return Err(malformed()) };
    let info = inside(info, 0x30)?;
    let [algorithm, digest] = info.as_slice() else { return Err(malformed()) };
    Ok(Mac {
        algorithm: oid_of(algorithm)?,
        digest: content(digest, Tag::OctetString)?.to_vec(),
        salt: content(salt, Tag::OctetString)?.to_vec(),
        iterations: rest.first().map_or(Ok(1), |count| number(count))?,
    })
}

/// The object identifier in front of an AlgorithmIdentifier, whatever its parameters are.
fn oid_of(algorithm: &[u8]) -> der::Result<Oid> {
    Oid::from_der(inside(algorithm, 0x30)?.first().ok_or_else(malformed)?)
}

/// The parts of an AuthenticatedSafe.
///
/// # Errors
/// [`ParseError`] for a grammar that does not hold, or more parts than the limits allow.
pub fn safes(contents: &[u8], limits: &Limits) -> Result<Vec<Safe>, ParseError> {
    let der = ber::to_definite(contents, limits)?;
    let parts = inside(&der, 0x30).map_err(failed)?;
    limit(parts.len(), limits)?;
    parts.into_iter().map(|part| read_safe(part).map_err(failed)).collect()
}

fn limit(count: usize, limits: &Limits) -> Result<(), ParseError> {
    let most = limits.keystore_entries;
    if count as u64 <= most {
        return Ok(());
    }
    Err(ParseError { what: "bags", at: 0, fault: Fault::Limit { said: count as u64, limit: most } })
}

fn read_safe(tlv: &[u8]) -> der::Result<Safe> {
    let fields = inside(tlv, 0x30)?;
    let [kind, wrapped] = fields.as_slice() else { return Err(malformed()) };
    let wrapped = value(wrapped, 0xa0)?;
    match Oid::from_der(kind)? {
        DATA => Ok(Safe::Plain(content(wrapped, Tag::OctetString)?.to_vec())),
        ENCRYPTED_DATA => {
            let fields = inside(wrapped, 0x30)?;
            let [_version, info, ..] = fields.as_slice() else { return Err(malformed()) };
            let info = inside(info, 0x30)?;
            let [_kind, algorithm, data] = info.as_slice() else { return Err(malformed()) };
            // [0] IMPLICIT OCTET STRING: in one piece, or in several
            let data = match data.first() {
                Some(0x80) => value(data, 0x80)?.to_vec(),
                _ => ber::join(value(data, 0xa0)?).map_err(|_| malformed())?,
            };
            Ok(Safe::Encrypted(Encrypted { scheme: read_scheme(algorithm)?, data }))
        }
        _ => Err(malformed()),
    }
}

/// How something is encrypted, from its AlgorithmIdentifier.
fn read_scheme(algorithm: &[u8]) -> der::Result<Scheme> {
    let fields = inside(algorithm, 0x30)?;
    let [kind, parameters @ ..] = fields.as_slice() else { return Err(malformed()) };
    let kind = Oid::from_der(kind)?;
    if kind == PBES2 {
        return read_pbes2(parameters.first().ok_or_else(malformed)?);
    }
    if !kind.to_string().starts_with(PBES1_ARC) {
        return Ok(Scheme::Other(kind));
    }
    let fields = inside(parameters.first().ok_or_else(malformed)?, 0x30)?;
    let [salt, iterations] = fields.as_slice() else { return Err(malformed()) };
    let salt = content(salt, Tag::OctetString)?.to_vec();
    Ok(Scheme::Pbes1 { scheme: kind, salt, iterations: number(iterations)? })
}

/// PBES2-params (RFC 8018, appendix A.4): a key derivation and a cipher.
fn read_pbes2(parameters: &[u8]) -> der::Result<Scheme> {
    let fields = inside(parameters, 0x30)?;
    let [derivation, cipher] = fields.as_slice() else { return Err(malformed()) };
    let derivation = inside(derivation, 0x30)?;
    let [kind, parameters] = derivation.as_slice() else { return Err(malformed()) };
    let kind = Oid::from_der(kind)?;
    if kind != PBKDF2 {
        return Ok(Scheme::Other(kind));
    }
    let parameters = inside(parameters, 0x30)?;
    let [salt, iterations, rest @ ..] = parameters.as_slice() else { return Err(malformed()) };
    // keyLength INTEGER OPTIONAL, prf DEFAULT hmacWithSHA1
    let prf = rest.iter().find(|field| field.first() == Some(&0x30));
    let cipher = inside(cipher, 0x30)?;
    let [name, rest @ ..] = cipher.as_slice() else { return Err(malformed()) };
    let name = Oid::from_der(name)?;
    let Some(iv) = rest.first().and_then(|iv| content(iv, Tag::OctetString).ok()) else {
        return Ok(Scheme::Other(name));
    };
    Ok(Scheme::Pbes2 {
        prf: prf.map_or(Ok(HMAC_SHA1), |algorithm| oid_of(algorithm))?,
        salt: content(salt, Tag::OctetString)?.to_vec(),
        iterations: number(iterations)?,
        cipher: name,
        iv: iv.to_vec(),
    })
}

/// The bags in SafeContents.
///
/// # Errors
/// [`ParseError`] for a grammar that does not hold, or more bags than the limits allow.
pub fn bags(safe_contents: &[u8], limits: &Limits) -> Result<Vec<Bag>, ParseError> {
    // there may be keys in clear among them
    let der = Secret::new(ber::to_definite(safe_contents, limits)?);
    der.lend(|der| {
        let all = inside(der, 0x30).map_err(failed)?;
        limit(all.len(), limits)?;
        all.into_iter().map(|bag| read_bag(bag).map_err(failed)).collect()
    })
}

fn read_bag(tlv: &[u8]) -> der::Result<Bag> {
    let fields = inside(tlv, 0x30)?;
    let [kind, wrapped, rest @ ..] = fields.as_slice() else { return Err(malformed()) };
    let wrapped = value(wrapped, 0xa0)?;
    let content = match Oid::from_der(kind)? {
        KEY_BAG => BagContent::Key(Secret::new(wrapped.to_vec())),
        SHROUDED_KEY_BAG => BagContent::ShroudedKey(read_encrypted_key(wrapped)?),
        CERTIFICATE_BAG => read_certificate(wrapped)?,
        other => BagContent::Other(other),
    };
    let (mut name, mut key_id) = (None, None);
    for attribute in rest.first().map_or(Ok(Vec::new()), |set| inside(set, 0x31))? {
        let parts = inside(attribute, 0x30)?;
        let [kind, values] = parts.as_slice() else { return Err(malformed()) };
        let Some(first) = inside(values, 0x31)?.into_iter().next() else { continue };
        match Oid::from_der(kind)? {
            FRIENDLY_NAME => name = Some(bmp_text(value(first, 0x1e)?)?),
            LOCAL_KEY_ID => key_id = Some(value(first, 0x04)?.to_vec()),
            _ => {}
        }
    }
    Ok(Bag { content, name, key_id })
}

fn read_certificate(tlv: &[u8]) -> der::Result<BagContent> {
    let fields = inside(tlv, 0x30)?;
    let [kind, wrapped] = fields.as_slice() else { return Err(malformed()) };
    let kind = Oid::from_der(kind)?;
    if kind != X509_CERTIFICATE {
        return Ok(BagContent::Other(kind));
    }
    Ok(BagContent::Certificate(content(value(wrapped, 0xa0)?, Tag::OctetString)?.to_vec()))
}

/// Whether the bytes are an encrypted private key (RFC 5958, section 3), and nothing else.
pub fn is_encrypted_key(bytes: &[u8]) -> bool {
    read_encrypted_key(bytes).is_ok()
}

/// EncryptedPrivateKeyInfo (RFC 5958, section 3).
fn read_encrypted_key(tlv: &[u8]) -> der::Result<Encrypted> {
    let fields = inside(tlv, 0x30)?;
    let [algorithm, data] = fields.as_slice() else { return Err(malformed()) };
    Ok(Encrypted { scheme: read_scheme(algorithm)?, data: content(data, Tag::OctetString)?.to_vec() })
}

/// UTF-16, big-endian.
fn bmp_text(bytes: &[u8]) -> der::Result<String> {
    let units = bytes.chunks(2).map(|pair| match pair {
        [high, low] => Ok(u16::from_be_bytes([*high, *low])),
        _ => Err(malformed()),
    });
    let units: Vec<u16> = units.collect::<der::Result<_>>()?;
    String::from_utf16(&units).map_err(|_| malformed())
}

/// The parameters of the one scheme that is written: PBKDF2 with HMAC-SHA-256, AES-256 in CBC mode.
#[derive(Debug, Clone)]
pub struct Pbes2<'a> {
    /// Salt of the derivation.
    pub salt: &'a [u8],
    /// How often.
    pub iterations: u64,
    /// The cipher's initial vector.
    pub iv: &'a [u8],
}

impl Pbes2<'_> {
    fn algorithm(&self) -> der::Result<Vec<u8>> {
        let prf = tlv(0x30, &[&HMAC_SHA256.to_der()?, b"\x05\x00"])?;
        let parameters =
            tlv(0x30, &[&tlv(0x04, &[self.salt])?, &self.iterations.to_der()?, &32u8.to_der()?, &prf])?;
        let derivation = tlv(0x30, &[&PBKDF2.to_der()?, &parameters])?;
        let cipher = tlv(0x30, &[&AES256_CBC.to_der()?, &tlv(0x04, &[self.iv])?])?;
        tlv(0x30, &[&PBES2.to_der()?, &tlv(0x30, &[&derivation, &cipher])?])
    }
}

/// EncryptedPrivateKeyInfo.
///
/// # Errors
/// [`der::Error`] when it would be longer than DER lengths go.
pub fn write_encrypted_key(how: &Pbes2<'_>, data: &[u8]) -> der::Result<Vec<u8>> {
    tlv(0x30, &[&how.algorithm()?, &tlv(0x04, &[data])?])
}

/// A bag with an encrypted key, under a name and an id.
///
/// # Errors
/// As [`write_encrypted_key`].
pub fn write_key_bag(encrypted: &[u8], name: &str, key_id: &[u8]) -> der::Result<Vec<u8>> {
    let attributes = write_attributes(name, key_id)?;
    tlv(0x30, &[&SHROUDED_KEY_BAG.to_der()?, &tlv(0xa0, &[encrypted])?, &attributes])
}

/// A bag with a certificate; the leaf has the name and the id of its key, the others none.
///
/// # Errors
/// As [`write_encrypted_key`].
pub fn write_certificate_bag(der: &[u8], tied_to: Option<(&str, &[u8])>) -> der::Result<Vec<u8>> {
    let wrapped = tlv(0xa0, &[&tlv(0x04, &[der])?])?;
    let bag = tlv(0x30, &[&X509_CERTIFICATE.to_der()?, &wrapped])?;
    let attributes = tied_to.map_or(Ok(Vec::new()), |(name, id)| write_attributes(name, id))?;
    tlv(0x30, &[&CERTIFICATE_BAG.to_der()?, &tlv(0xa0, &[&bag])?, &attributes])
}

fn write_attributes(name: &str, key_id: &[u8]) -> der::Result<Vec<u8>> {
    let units: Vec<u8> = name.encode_utf16().flat_map(u16::to_be_bytes).collect();
    let attribute = |kind: Oid, value: Vec<u8>| tlv(0x30, &[&kind.to_der()?, &tlv(0x31, &[&value])?]);
    // in the order that DER wants of a SET
    let mut all =
        [attribute(FRIENDLY_NAME, tlv(0x1e, &[&units])?)?, attribute(LOCAL_KEY_ID, tlv(0x04, &[key_id])?)?];
    all.sort();
    let [first, second] = &all;
    tlv(0x31, &[first, second])
}

/// SafeContents of these bags.
///
/// # Errors
/// As [`write_encrypted_key`].
pub fn write_safe_contents(bags: &[Vec<u8>]) -> der::Result<Vec<u8>> {
    tlv(0x30, &[&bags.concat()])
}

/// An AuthenticatedSafe: SafeContents in clear (keys encrypted one by one), and SafeContents encrypted whole.
///
/// # Errors
/// As [`write_encrypted_key`].
pub fn write_contents(plain: &[u8], how: &Pbes2<'_>, encrypted: &[u8]) -> der::Result<Vec<u8>> {
    let plain = tlv(0x30, &[&DATA.to_der()?, &tlv(0xa0, &[&tlv(0x04, &[plain])?])?])?;
    let info = tlv(0x30, &[&DATA.to_der()?, &how.algorithm()?, &tlv(0x80, &[encrypted])?])?;
    let data = tlv(0x30, &[&0u8.to_der()?, &info])?;
    let encrypted = tlv(0x30, &[&ENCRYPTED_DATA.to_der()?, &tlv(0xa0, &[&data])?])?;
    tlv(0x30, &[&plain, &encrypted])
}

/// A whole file: an AuthenticatedSafe with a MAC over it that was made with SHA-256.
///
/// # Errors
/// As [`write_encrypted_key`].
pub fn write(contents: &[u8], mac: &[u8], salt: &[u8], iterations: u64) -> der::Result<Vec<u8>> {
    let safe = tlv(0x30, &[&DATA.to_der()?, &tlv(0xa0, &[&tlv(0x04, &[contents])?])?])?;
    let algorithm = tlv(0x30, &[&SHA256.to_der()?, b"\x05\x00"])?;
    let info = tlv(0x30, &[&algorithm, &tlv(0x04, &[mac])?])?;
    let mac = tlv(0x30, &[&info, &tlv(0x04, &[salt])?, &iterations.to_der()?])?;
    tlv(0x30, &[&3u8.to_der()?, &safe, &mac])
}

#[cfg(test)]
mod tests {
    use super::*;

    const HOW: Pbes2<'static> = Pbes2 { salt: &[1; 16], iterations: 4_096, iv: &[2; 16] };

    /// A file with one key and its certificate, whose ciphertexts are no ciphertexts.
    fn file() -> Vec<u8> {
        let key = write_encrypted_key(&HOW, b"secret").unwrap();
        let plain = write_safe_contents(&[write_key_bag(&key, "Kai-Schlüssel", &[7; 20]).unwrap()]).unwrap();
        let contents = write_contents(&plain, &HOW, b"ciphertext").unwrap();
        write(&contents, &[3; 32], &[4; 20], 4_096).unwrap()
    }

    #[test]
    fn what_is_written_is_read_back_part_by_part() {
        let pfx = parse(&file(), &Limits::SMALL).unwrap();
        let mac = pfx.mac.as_ref().unwrap();
        assert_eq!((mac.algorithm, mac.iterations, mac.digest.len()), (SHA256, 4_096, 32));
        let safes = safes(&pfx.contents, &Limits::SMALL).unwrap();
        let [Safe::Plain(plain), Safe::Encrypted(encrypted)] = safes.as_slice() else { panic!("{safes:?}") };
        let wanted = Scheme::Pbes2 {
            prf: HMAC_SHA256,
            salt: vec![1; 16],
            iterations: 4_096,
            cipher: AES256_CBC,
            iv: vec![2; 16],
        };
        assert_eq!((&encrypted.scheme, encrypted.data.as_slice()), (&wanted, &b"ciphertext"[..]));
        let bags = bags(plain, &Limits::SMALL).unwrap();
        let [bag] = bags.as_slice() else { panic!("{bags:?}") };
        assert_eq!(
            (bag.name.as_deref(), bag.key_id.as_deref()),
            (Some("Kai-Schlüssel"), Some(&[7u8; 20][..]))
        );
        assert!(matches!(&bag.content, BagContent::ShroudedKey(key) if key.data == b"secret"));
    }

    #[test]
    fn every_cut_is_refused_and_a_beginning_is_enough_to_recognise_it() {
        let good = file();
        for end in 0..good.len() {
            assert!(parse(&good[..end], &Limits::SMALL).is_err(), "cut at {end}");
        }
        assert!(looks_like(&good) && looks_like(&good[..9]));
        assert!(looks_like(b"\x30\x80\x02\x01\x03\x30\x80"), "an indefinite length");
        for no in [&b""[..], b"\x30", b"\x30\x03\x02\x01\x03", b"\x30\x05\x02\x01\x00\x30\x00", b"PK\x03\x04"]
        {
            assert!(!looks_like(no), "{no:02x?}");
        }
    }

    #[test]
    fn certificates_carry_a_name_only_when_they_are_a_keys() {
        let tied = write_certificate_bag(b"der", Some(("pier", &[7; 20]))).unwrap();
        let lone = write_certificate_bag(b"der", None).unwrap();
        let bags = bags(&write_safe_contents(&[tied, lone]).unwrap(), &Limits::SMALL).unwrap();
        let names: Vec<Option<&str>> = bags.iter().map(|bag| bag.name.as_deref()).collect();
        assert_eq!(names, [Some("pier"), None]);
        assert!(bags.iter().all(|bag| matches!(&bag.content, BagContent::Certificate(der) if der == b"der")));
    }

    #[test]
    fn more_bags_than_the_limit_are_refused() {
        let one = write_certificate_bag(b"der", None).unwrap();
        let many = write_safe_contents(&vec![one; 17]).unwrap();
        assert!(matches!(
            bags(&many, &Limits::SMALL).unwrap_err().fault,
            Fault::Limit { said: 17, limit: 16 }
        ));
    }
}
