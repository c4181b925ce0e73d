//! Certificates that a signing key makes for itself, and fingerprints.

use std::fmt;
use std::str::FromStr;

use der::asn1::{BitString, GeneralizedTime, OctetString, UtcTime};
use der::oid::AssociatedOid;
use der::{DateTime, Encode};
use jiff::{Span, Timestamp, tz::TimeZone};
use spki::{
    AlgorithmIdentifierOwned, DynSignatureAlgorithmIdentifier, EncodePublicKey, SignatureBitStringEncoding,
    SubjectPublicKeyInfoOwned,
};
use thiserror::Error;
use x509_cert::builder::{Builder, CertificateBuilder, profile::BuilderProfile};
use x509_cert::ext::Extension;
use x509_cert::ext::pkix::SubjectKeyIdentifier;
use x509_cert::name::Name;
use x509_cert::serial_number::SerialNumber;
use x509_cert::time::{Time, Validity};

use crate::digest::sha256;
use crate::env::Env;
use crate::keys::{KeyError, PrivateKey, Signer};

/// The years an app may need its signing key for: a certificate that ends sooner is refused.
pub const LEAST_YEARS_FOR_SIGNING: u16 = 25;
/// The years a new certificate is valid when nobody says otherwise.
pub const USUAL_YEARS: u16 = 30;

/// Why a certificate could not be made.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum CertificateError {
    /// No field of the subject was given.
    #[error("a certificate needs a subject: give at least a common name")]
    NoSubject,
    /// A country that is not two letters.
    #[error("the country is two letters of ISO 3166, not `{0}`")]
    Country(String),
    /// A field that is too long for its type, or holds control characters.
    #[error("the {field} has to be 1 to {most} characters, not blanks alone and no control characters")]
    Field {
        /// Its name.
        field: &'static str,
        /// The most characters it may have (RFC 5280, appendix A).
        most: usize,
    },
    /// The end of the validity cannot be written.
    #[error("{0} years are too long to be written into a certificate")]
    Years(u16),
    /// The key refused.
    #[error(transparent)]
    Key(#[from] KeyError),
    /// The certificate could not be encoded.
    #[error("the certificate could not be put together: {0}")]
    Encoding(String),
}

/// Who a certificate is for. At least one field is given.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Subject {
    /// CN
    pub common_name: Option<String>,
    /// OU
    pub unit: Option<String>,
    /// O
    pub organisation: Option<String>,
    /// L
    pub locality: Option<String>,
    /// ST
    pub state: Option<String>,
    /// C, two letters
    pub country: Option<String>,
    /// An address for mail.
    pub email: Option<String>,
}

impl Subject {
    /// The fields that are given, in the order in which they are written: short name, long name, longest
    /// length (upper bounds of RFC 5280, appendix A), value.
    fn fields(&self) -> impl Iterator<Item = (&'static str, &'static str, usize, &str)> {
        [
            ("CN", "common name", 64, &self.common_name),
            ("OU", "organisational unit", 64, &self.unit),
            ("O", "organisation", 64, &self.organisation),
            ("L", "locality", 128, &self.locality),
            ("ST", "state", 128, &self.state),
            ("C", "country", 2, &self.country),
            ("emailAddress", "address for mail", 255, &self.email),
        ]
        .into_iter()
        .filter_map(|(short, long, most, value)| value.as_deref().map(|value| (short, long, most, value)))
    }

    /// The name, after checking every field.
    ///
    /// # Errors
    /// [`CertificateError`] for an empty subject, a country that is not two letters, a field that is empty,
    /// too long or holds control characters.
    pub fn to_name(&self) -> Result<Name, CertificateError> {
        if let Some(country) = &self.country
            && (country.len() != 2 || !country.bytes().all(|byte| byte.is_ascii_uppercase()))
        {
            return Err(CertificateError::Country(country.clone()));
        }
        for (_, field, most, value) in self.fields() {
            let length = value.chars().count();
            if value.trim().is_empty() || length > most || value.chars().any(char::is_control) {
                return Err(CertificateError::Field { field, most });
            }
        }
        let text = self.to_string();
        if text.is_empty() {
            return Err(CertificateError::NoSubject);
        }
        Name::from_str(&text).map_err(|error| CertificateError::Encoding(error.to_string()))
    }
}

impl fmt::Display for Subject {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (index, (short, _, _, value)) in self.fields().enumerate() {
            let comma = if index == 0 { "" } else { "," };
            write!(f, "{comma}{short}={}", escape(value))?;
        }
        Ok(())
    }
}

/// Escapes a value as RFC 4514, section 2.4 wants it.
fn escape(value: &str) -> String {
    let last = value.chars().count().saturating_sub(1);
    let mut out = String::new();
    for (at, c) in value.chars().enumerate() {
        let needed = matches!(c, '"' | '+' | ',' | ';' | '<' | '>' | '\\' | '=')
            || (at == 0 && matches!(c, ' ' | '#'))
            || (at == last && c == ' ');
        if needed {
            out.push('\\');
        }
        out.push(c);
    }
    out
}

/// Makes a self-signed certificate that is valid for `years` from now, with a random serial of 127 bits.
///
/// # Errors
/// [`CertificateError`] when the subject or the years cannot be written, or the generator fails.
pub fn self_signed(
    key: &PrivateKey,
    subject: &Subject,
    years: u16,
    env: &Env<'_>,
) -> Result<Vec<u8>, CertificateError> {
    let encoding = |error: der::Error| CertificateError::Encoding(error.to_string());
    let mut serial = [0; 16];
    env.keys.fill(&mut serial)?;
    // positive, and never with a leading zero byte
    let [first, ..] = &mut serial;
    *first = *first & 0x7f | 0x40;
    let ends = end_of_validity(env.now, years)?;
    let written = |at| at_time(at).map_err(|_| CertificateError::Years(years));
    let validity = Validity::new(written(env.now)?, written(ends)?);
    let info: SubjectPublicKeyInfoOwned = der::Decode::from_der(key.public().as_der()).map_err(encoding)?;
    let profile = SelfSigned(subject.to_name()?);
    let serial = SerialNumber::new(&serial).map_err(encoding)?;
    let builder = CertificateBuilder::new(profile, serial, validity, info).map_err(built)?;
    let certificate = builder.build::<_, Bits>(&Wrapped(key)).map_err(built)?;
    certificate.to_der().map_err(encoding)
}

/// The certificate of the platform's published test key, by SHA-256: its private half lies in the open with the platform's
/// sources, and packages signed with it are found in the wild.
const PUBLISHED_TEST_KEY: &str = "a40da80a59d170caa950cf15c18c454d47a39b26989d8b640ecd745ba71bf5dc";

/// Whether a certificate is that of a key that anybody can have: a debug key, which build tools make on every machine,
/// always for this subject and under a password that everybody knows, or a published test key.
pub fn is_debug_certificate(subject: &str, fingerprint: &str) -> bool {
    let has = |wanted: &str| parts(subject).any(|part| part.eq_ignore_ascii_case(wanted));
    (has("CN=Android Debug") && has("O=Android")) || fingerprint == PUBLISHED_TEST_KEY
}

/// The parts of a name (RFC 4514), whatever their order: separated by commas and pluses that are not escaped.
fn parts(name: &str) -> impl Iterator<Item = &str> {
    let mut escaped = false;
    name.split(move |c: char| {
        let separates = matches!(c, ',' | '+') && !escaped;
        escaped = c == '\\' && !escaped;
        separates
    })
    .map(str::trim)
}

/// Whether a certificate that names itself as its issuer is signed by its own key. Nothing for others, and for
/// algorithms that cannot be verified.
pub(crate) fn self_signature_holds(certificate: &ninekeys_formats::x509::Certificate) -> Option<bool> {
    use crate::keys::{PublicKey, SignatureKind, verify};
    if !certificate.self_issued {
        return None;
    }
    let kind = SignatureKind::named(&certificate.signature_algorithm)?;
    let key = PublicKey::from_der(&certificate.public_key).ok()?;
    verify(&key, kind, &certificate.tbs, &certificate.signature)
}

fn built(error: x509_cert::builder::Error) -> CertificateError {
    CertificateError::Encoding(error.to_string())
}

/// The last second of a validity of `years` calendar years.
///
/// # Errors
/// [`CertificateError::Years`] when that is beyond the year 9999.
pub(crate) fn end_of_validity(start: Timestamp, years: u16) -> Result<Timestamp, CertificateError> {
    let refused = |_| CertificateError::Years(years);
    let span = Span::new().try_years(i64::from(years)).map_err(refused)?;
    start.to_zoned(TimeZone::UTC).checked_add(span).map(|end| end.timestamp()).map_err(refused)
}

/// UTCTime until 2049, GeneralizedTime from 2050 on (RFC 5280, section 4.1.2.5).
///
/// # Errors
/// [`CertificateError::Encoding`] for what is before 1970 or beyond the year 9999.
pub(crate) fn at_time(at: Timestamp) -> Result<Time, CertificateError> {
    let refused = || CertificateError::Encoding(format!("{at} cannot be written into a certificate"));
    let seconds = u64::try_from(at.as_second()).map_err(|_| refused())?;
    let date =
        DateTime::from_unix_duration(std::time::Duration::from_secs(seconds)).map_err(|_| refused())?;
    Ok(match UtcTime::from_date_time(date) {
        Ok(utc) => Time::UtcTime(utc),
        Err(_) => Time::GeneralTime(GeneralizedTime::from_date_time(date)),
    })
}

/// A version 3 certificate with a subject key identifier: what a strict verifier asks of a signer that vouches for itself
/// (RFC 5280, section 4.2.1.2).
struct SelfSigned(Name);

impl BuilderProfile for SelfSigned {
    fn get_issuer(&self, subject: &Name) -> Name {
        subject.clone()
    }

    fn get_subject(&self) -> Name {
        self.0.clone()
    }

    fn build_extensions(
        &self,
        key: spki::SubjectPublicKeyInfoRef<'_>,
        _issuer_key: spki::SubjectPublicKeyInfoRef<'_>,
        _tbs: &x509_cert::TbsCertificate,
    ) -> x509_cert::builder::Result<Vec<Extension>> {
        // the left 160 bits of SHA-256 over the key's bits (RFC 7093, section 2, method 1)
        let digest = sha256(key.subject_public_key.raw_bytes());
        let identifier = OctetString::new(digest.get(..20).unwrap_or_default())?;
        let extension = Extension {
            extn_id: SubjectKeyIdentifier::OID,
            critical: false,
            extn_value: OctetString::new(identifier.to_der()?)?,
        };
        Ok(vec![extension])
    }
}

/// Our key in the shape that the certificate builder asks for.
pub(crate) struct Wrapped<'a>(pub(crate) &'a PrivateKey);

#[derive(Clone)]
pub(crate) struct Public(Vec<u8>);

pub(crate) struct Bits(Vec<u8>);

impl EncodePublicKey for Public {
    fn to_public_key_der(&self) -> spki::Result<der::Document> {
        Ok(der::Document::try_from(self.0.as_slice())?)
    }
}

impl signature::Keypair for Wrapped<'_> {
    type VerifyingKey = Public;

    fn verifying_key(&self) -> Public {
        Public(self.0.public().as_der().to_vec())
    }
}

impl DynSignatureAlgorithmIdentifier for Wrapped<'_> {
    fn signature_algorithm_identifier(&self) -> spki::Result<AlgorithmIdentifierOwned> {
        use crate::keys::SignatureKind as K;
        use der::asn1::ObjectIdentifier as Oid;
        let (oid, parameters) = match self.0.certificate_kind() {
            K::EcdsaSha384 => (Oid::new_unwrap("1.2.840.10045.4.3.3"), None),
            K::EcdsaSha256 => (Oid::new_unwrap("1.2.840.10045.4.3.2"), None),
            _ => (Oid::new_unwrap("1.2.840.113549.1.1.11"), Some(der::Any::null())),
        };
        Ok(AlgorithmIdentifierOwned { oid, parameters })
    }
}

impl signature::Signer<Bits> for Wrapped<'_> {
    fn try_sign(&self, message: &[u8]) -> Result<Bits, signature::Error> {
        let signed = self.0.sign(self.0.certificate_kind(), message);
        signed.map(Bits).map_err(|_| signature::Error::new())
    }
}

impl SignatureBitStringEncoding for Bits {
    fn to_bitstring(&self) -> der::Result<BitString> {
        BitString::from_bytes(&self.0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_subject_needs_a_field_and_a_country_of_two_letters() {
        assert_eq!(Subject::default().to_name(), Err(CertificateError::NoSubject));
        let subject = |country: &str| Subject { country: Some(country.into()), ..Subject::default() };
        assert!(subject("GB").to_name().is_ok());
        for bad in ["", "G", "GBR", "gb", "1B"] {
            assert_eq!(subject(bad).to_name(), Err(CertificateError::Country(bad.into())));
        }
        let long = Subject { common_name: Some("x".repeat(65)), ..Subject::default() };
        assert_eq!(long.to_name(), Err(CertificateError::Field { field: "common name", most: 64 }));
    }

    #[test]
    fn characters_with_a_meaning_are_escaped_and_come_back() {
        let name = "#Ferries, Ltd. = \"fast\" + <safe>; or \\ ";
        let subject = Subject { common_name: Some(name.into()), ..Subject::default() };
        let back = subject.to_name().unwrap().to_string();
        // an equals sign may be escaped and need not be (RFC 4514, section 2.4)
        assert_eq!(back.replace("\\=", "="), format!("CN={}", escape(name)).replace("\\=", "="));
    }

    #[test]
    fn years_are_calendar_years() {
        let start: Timestamp = "2028-02-29T12:00:00Z".parse().unwrap();
        assert_eq!(end_of_validity(start, 30).unwrap().to_string(), "2058-02-28T12:00:00Z");
        assert_eq!(end_of_validity(start, 9000), Err(CertificateError::Years(9000)));
    }
}
