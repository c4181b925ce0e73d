//! X.509 certificates (RFC 5280), read over the bytes that were signed.

use der::asn1::{Ia5StringRef, ObjectIdentifier, OctetString};
use der::oid::AssociatedOid;
use der::{Decode, Encode, Reader, SliceReader, Tag};
use x509_cert::ext::pkix::name::{DistributionPointName, GeneralName};
use x509_cert::ext::pkix::{
    AuthorityInfoAccessSyntax, AuthorityKeyIdentifier, BasicConstraints, CrlDistributionPoints,
    ExtendedKeyUsage, KeyUsage, SubjectKeyIdentifier,
};
use x509_cert::name::Name;
use x509_cert::time::Validity;

use crate::cursor::{Fault, ParseError, bounded};
use crate::limits::Limits;
use crate::names::algorithm_name;
use crate::tlv::{content, inside, malformed, unreadable};

/// rsaEncryption (RFC 8017).
pub const RSA: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.1");
/// id-ecPublicKey (RFC 5480).
pub const EC: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.10045.2.1");
/// id-dsa (RFC 3279).
pub const DSA: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.10040.4.1");
/// secp256r1, called P-256 (RFC 5480).
pub const P256: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.10045.3.1.7");
/// secp384r1, called P-384 (RFC 5480).
pub const P384: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.132.0.34");

/// The kind and size of a public key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum KeyShape {
    /// RSA, with the length of its modulus in bits.
    Rsa {
        /// Bits of the modulus.
        bits: u32,
    },
    /// An elliptic curve, by name where it has one here.
    Ec {
        /// `P-256`, `P-384` and so on, or the curve's object identifier.
        curve: String,
    },
    /// DSA.
    Dsa,
    /// Anything else, by object identifier.
    Other(String),
}

impl std::fmt::Display for KeyShape {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            KeyShape::Rsa { bits } => write!(f, "RSA {bits}"),
            KeyShape::Ec { curve } => write!(f, "EC {curve}"),
            KeyShape::Dsa => f.write_str("DSA"),
            KeyShape::Other(oid) => write!(f, "key of kind {}", algorithm_name(oid)),
        }
    }
}

/// id-ad-caIssuers (RFC 5280, section 4.2.2.1).
pub const CA_ISSUERS: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.48.2");
/// id-ad-ocsp (RFC 5280, section 4.2.2.1).
pub const OCSP: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.48.1");
/// The most extensions of a certificate.
const MOST_EXTENSIONS: usize = 64;

/// An extension of a certificate, or one that a request asks for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Extension {
    /// What it is.
    pub oid: ObjectIdentifier,
    /// Whether who does not know it has to refuse the certificate.
    pub critical: bool,
    /// Its value, DER.
    pub value: Vec<u8>,
}

/// The extensions of a certificate that say what it is good for. Each once: a second one of a kind is refused.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Extensions(Vec<Extension>);

impl Extensions {
    /// Reads `Extensions ::= SEQUENCE SIZE (1..MAX) OF Extension`.
    ///
    /// # Errors
    /// [`der::Error`] when it is not that, or has one kind twice (RFC 5280, section 4.2).
    pub(crate) fn read(tlv: &[u8]) -> der::Result<Self> {
        let all = inside(tlv, 0x30)?;
        if all.len() > MOST_EXTENSIONS {
            return Err(malformed());
        }
        let mut out: Vec<Extension> = Vec::new();
        for one in all {
            let (oid, critical, value) = match inside(one, 0x30)?.as_slice() {
                [oid, value] => (*oid, false, *value),
                // FALSE is the default and is not written in DER; some write it all the same
                [oid, critical, value] => (*oid, bool::from_der(critical)?, *value),
                _ => return Err(malformed()),
            };
            let oid = ObjectIdentifier::from_der(oid)?;
            if out.iter().any(|known| known.oid == oid) {
                return Err(malformed());
            }
            let value = OctetString::from_der(value)?.as_bytes().to_vec();
            out.push(Extension { oid, critical, value });
        }
        Ok(Extensions(out))
    }

    /// All of them, in order.
    pub fn iter(&self) -> impl Iterator<Item = &Extension> {
        self.0.iter()
    }

    /// The extension of that kind.
    pub fn find(&self, oid: ObjectIdentifier) -> Option<&Extension> {
        self.0.iter().find(|one| one.oid == oid)
    }

    /// What an extension says, where it is there.
    fn value<'a, T: Decode<'a> + AssociatedOid>(&'a self) -> Result<Option<T>, ParseError> {
        let Some(found) = self.find(T::OID) else { return Ok(None) };
        let failed = |_| ParseError { what: "extension of a certificate", at: 0, fault: Fault::Malformed };
        T::from_der(&found.value).map(Some).map_err(failed)
    }

    /// Whether it may sign other certificates, and how many may stand between them and a leaf.
    ///
    /// # Errors
    /// [`ParseError`] when the extension is there and cannot be read; so with all that follow.
    pub fn basic_constraints(&self) -> Result<Option<BasicConstraints>, ParseError> {
        self.value()
    }

    /// What its key may do.
    ///
    /// # Errors
    /// [`ParseError`].
    pub fn key_usage(&self) -> Result<Option<KeyUsage>, ParseError> {
        self.value()
    }

    /// The purposes that it is for; none is all of them.
    ///
    /// # Errors
    /// [`ParseError`].
    pub fn purposes(&self) -> Result<Vec<ObjectIdentifier>, ParseError> {
        Ok(self.value::<ExtendedKeyUsage>()?.map(|usage| usage.0).unwrap_or_default())
    }

    /// The name of its key.
    ///
    /// # Errors
    /// [`ParseError`].
    pub fn key_id(&self) -> Result<Option<Vec<u8>>, ParseError> {
        Ok(self.value::<SubjectKeyIdentifier>()?.map(|id| id.0.as_bytes().to_vec()))
    }

    /// The name of the key that signed it.
    ///
    /// # Errors
    /// [`ParseError`].
    pub fn issuer_key_id(&self) -> Result<Option<Vec<u8>>, ParseError> {
        let id = self.value::<AuthorityKeyIdentifier>()?.and_then(|id| id.key_identifier);
        Ok(id.map(|id| id.as_bytes().to_vec()))
    }

    /// Where the certificate of its issuer can be had.
    ///
    /// # Errors
    /// [`ParseError`].
    pub fn issuer_addresses(&self) -> Result<Vec<String>, ParseError> {
        self.access_addresses(CA_ISSUERS)
    }

    /// Who answers whether it was revoked (RFC 6960).
    ///
    /// # Errors
    /// [`ParseError`].
    pub fn ocsp_addresses(&self) -> Result<Vec<String>, ParseError> {
        self.access_addresses(OCSP)
    }

    fn access_addresses(&self, method: ObjectIdentifier) -> Result<Vec<String>, ParseError> {
        let all = self.value::<AuthorityInfoAccessSyntax>()?.map(|access| access.0).unwrap_or_default();
        let own = all.into_iter().filter(|one| one.access_method == method);
        Ok(own.filter_map(|one| address(one.access_location)).collect())
    }

    /// Where the issuer's list of revoked certificates is: of lists that leave nothing out (RFC 5280, section 4.2.1.13).
    ///
    /// # Errors
    /// [`ParseError`].
    pub fn crl_addresses(&self) -> Result<Vec<String>, ParseError> {
        let points = self.value::<CrlDistributionPoints>()?.map(|points| points.0).unwrap_or_default();
        let whole = points.into_iter().filter(|one| one.reasons.is_none() && one.crl_issuer.is_none());
        let names = whole.filter_map(|one| match one.distribution_point? {
            DistributionPointName::FullName(names) => Some(names),
            DistributionPointName::NameRelativeToCRLIssuer(_) => None,
        });
        Ok(names.flatten().filter_map(address).collect())
    }
}

/// An address, where a name is one.
fn address(name: GeneralName) -> Option<String> {
    match name {
        GeneralName::UniformResourceIdentifier(address) => Some(address.to_string()),
        _ => None,
    }
}

/// The values of one kind of attribute in a name, in the order in which they stand.
///
/// # Errors
/// [`ParseError`] when it is not a name.
pub fn name_values(name: &[u8], kind: ObjectIdentifier) -> Result<Vec<String>, ParseError> {
    let failed = |_| ParseError { what: "name in a certificate", at: 0, fault: Fault::Malformed };
    let name = Name::from_der(name).map_err(failed)?;
    let own = name.iter().filter(|one| one.oid == kind);
    Ok(own.filter_map(|one| text(&one.value)).collect())
}

/// A DirectoryString, or the ASCII of older names.
fn text(value: &der::Any) -> Option<String> {
    let bytes = value.to_der().ok()?;
    match bytes.first()? {
        // BMPString: two bytes a character
        0x1e => {
            let units = value.value().chunks_exact(2).map(|pair| match pair {
                [high, low] => u16::from_be_bytes([*high, *low]),
                _ => 0,
            });
            char::decode_utf16(units).collect::<Result<String, _>>().ok()
        }
        0x16 => Ia5StringRef::from_der(&bytes).ok().map(|text| text.to_string()),
        _ => std::str::from_utf8(value.value()).ok().map(str::to_owned),
    }
}

/// A distinguished name in DER as text (RFC 4514); what cannot be read is named as such.
pub fn name_of(der: &[u8]) -> String {
    Name::from_der(der).map_or_else(|_| "an unreadable name".into(), |name| name.to_string())
}

/// A certificate. Times are seconds since 1970 (UTC).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Certificate {
    /// All of it, DER.
    pub der: Vec<u8>,
    /// The signed part, exactly as it stands.
    pub tbs: Vec<u8>,
    /// Serial number, big-endian.
    pub serial: Vec<u8>,
    /// Issuer, RFC 4514.
    pub issuer: String,
    /// Issuer, exactly as it stands.
    pub issuer_der: Vec<u8>,
    /// Subject, RFC 4514.
    pub subject: String,
    /// Subject, exactly as it stands.
    pub subject_der: Vec<u8>,
    /// Whether issuer and subject are the same bytes.
    pub self_issued: bool,
    /// First second of its validity.
    pub not_before: i64,
    /// Last second of its validity.
    pub not_after: i64,
    /// SubjectPublicKeyInfo, exactly as it stands.
    pub public_key: Vec<u8>,
    /// What kind of key that is.
    pub key: KeyShape,
    /// What it is good for.
    pub extensions: Extensions,
    /// The algorithm that the certificate itself is signed with.
    pub signature_algorithm: ObjectIdentifier,
    /// The certificate's signature.
    pub signature: Vec<u8>,
}

impl Certificate {
    /// Reads one certificate from its DER form; nothing may follow it.
    ///
    /// # Errors
    /// [`ParseError`] for anything that is not a certificate of RFC 5280's grammar.
    pub fn parse(bytes: &[u8], limits: &Limits) -> Result<Certificate, ParseError> {
        let what = "certificate";
        bounded(what, bytes, limits.certificate)?;
        read(bytes).map_err(unreadable(what))
    }
}

fn read(bytes: &[u8]) -> der::Result<Certificate> {
    let mut outer = SliceReader::new(bytes)?;
    let whole = outer.tlv_bytes()?;
    outer.finish()?;
    let mut parts = SliceReader::new(content(whole, Tag::Sequence)?)?;
    let tbs = parts.tlv_bytes()?;
    let algorithm = spki::AlgorithmIdentifierOwned::from_der(parts.tlv_bytes()?)?;
    let signature = der::asn1::BitString::from_der(parts.tlv_bytes()?)?;
    parts.finish()?;

    let mut fields = SliceReader::new(content(tbs, Tag::Sequence)?)?;
    let mut field = fields.tlv_bytes()?;
    if field.first() == Some(&0xa0) {
        field = fields.tlv_bytes()?;
    }
    let serial = content(field, Tag::Integer)?.to_vec();
    spki::AlgorithmIdentifierOwned::from_der(fields.tlv_bytes()?)?;
    let issuer = fields.tlv_bytes()?;
    let validity = Validity::<x509_cert::certificate::Rfc5280>::from_der(fields.tlv_bytes()?)?;
    let subject = fields.tlv_bytes()?;
    let public_key = fields.tlv_bytes()?;
    let extensions = extensions(&mut fields)?;
    Ok(Certificate {
        der: whole.to_vec(),
        tbs: tbs.to_vec(),
        serial,
        issuer: Name::from_der(issuer)?.to_string(),
        issuer_der: issuer.to_vec(),
        subject: Name::from_der(subject)?.to_string(),
        subject_der: subject.to_vec(),
        self_issued: issuer == subject,
        not_before: seconds(&validity.not_before),
        not_after: seconds(&validity.not_after),
        public_key: public_key.to_vec(),
        key: key_shape(public_key)?,
        extensions,
        signature_algorithm: algorithm.oid,
        signature: signature.raw_bytes().to_vec(),
    })
}

/// What stands behind the public key: unique identifiers, which nobody uses, and the extensions.
fn extensions(fields: &mut SliceReader<'_>) -> der::Result<Extensions> {
    let mut found = Extensions::default();
    while !fields.is_finished() {
        let field = fields.tlv_bytes()?;
        match (field.first(), inside_any(field)?.as_slice()) {
            (Some(0x81 | 0xa1 | 0x82 | 0xa2), _) => {}
            (Some(0xa3), [all]) if fields.is_finished() => found = Extensions::read(all)?,
            _ => return Err(malformed()),
        }
    }
    Ok(found)
}

/// The elements of an explicit field; nothing in one that is primitive.
fn inside_any(field: &[u8]) -> der::Result<Vec<&[u8]>> {
    match field.first() {
        Some(tag) if tag & 0x20 != 0 => inside(field, *tag),
        _ => Ok(Vec::new()),
    }
}

fn seconds(time: &x509_cert::time::Time) -> i64 {
    i64::try_from(time.to_unix_duration().as_secs()).unwrap_or(i64::MAX)
}

/// The kind of key in a SubjectPublicKeyInfo.
///
/// # Errors
/// [`der::Error`] when it is not one.
pub fn key_shape(public_key: &[u8]) -> der::Result<KeyShape> {
    let info = spki::SubjectPublicKeyInfoOwned::from_der(public_key)?;
    Ok(match info.algorithm.oid {
        RSA => KeyShape::Rsa { bits: modulus_bits(info.subject_public_key.raw_bytes())? },
        EC => KeyShape::Ec { curve: curve(info.algorithm.parameters.as_ref())? },
        DSA => KeyShape::Dsa,
        other => KeyShape::Other(other.to_string()),
    })
}

fn modulus_bits(key: &[u8]) -> der::Result<u32> {
    let mut parts = SliceReader::new(content(key, Tag::Sequence)?)?;
    let modulus = content(parts.tlv_bytes()?, Tag::Integer)?;
    let mut digits = modulus.iter().skip_while(|&&byte| byte == 0);
    let leading = digits.next().map_or(8, |byte| byte.leading_zeros());
    let rest = u32::try_from(digits.count()).unwrap_or(u32::MAX / 8 - 1);
    Ok((rest + 1) * 8 - leading)
}

fn curve(parameters: Option<&der::Any>) -> der::Result<String> {
    let Some(parameters) = parameters else { return Ok("unnamed".into()) };
    let oid: ObjectIdentifier = match ObjectIdentifier::from_der(&parameters.to_der()?) {
        Ok(oid) => oid,
        Err(_) => return Ok("unnamed".into()),
    };
    Ok(algorithm_name(&oid.to_string()).into())
}
