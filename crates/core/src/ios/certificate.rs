//! What a certificate of the iOS side is for: told by its marker extensions, never by what it is called.

use der::asn1::ObjectIdentifier;
use ninekeys_formats::cursor::ParseError;
use ninekeys_formats::x509::{Certificate, name_values};

use crate::model::{IdentityPurpose, PushEnvironment};

/// The marker extensions (arc 1.2.840.113635.100): development, distribution, push to the sandbox, push to production.
const DEVELOPMENT: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113635.100.6.1.2");
const DISTRIBUTION: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113635.100.6.1.4");
const PUSH_SANDBOX: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113635.100.6.3.1");
const PUSH_PRODUCTION: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113635.100.6.3.2");

/// id-kp-codeSigning (RFC 5280, section 4.2.1.12).
pub const CODE_SIGNING: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.3.3");

/// organizationalUnitName and organizationName (RFC 4519), userid (RFC 4519, section 2.39).
const UNIT: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.5.4.11");
const ORGANISATION: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.5.4.10");
const USER_ID: ObjectIdentifier = ObjectIdentifier::new_unwrap("0.9.2342.19200300.100.1.1");

/// What a certificate says of itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Says {
    /// What its holder may do with it; nothing where it is marked for none of what is known here.
    pub purpose: Option<IdentityPurpose>,
    /// The team that it was issued to: the subject's OU.
    pub team: Option<String>,
    /// What may be the bundle id of the app that a push certificate is for.
    pub topics: Vec<String>,
}

/// Reads what a certificate is for, and whose it is.
///
/// # Errors
/// [`ParseError`] when its extensions or its subject cannot be read.
pub fn read(certificate: &Certificate) -> Result<Says, ParseError> {
    let has = |marker: ObjectIdentifier| certificate.extensions.find(marker).is_some();
    let signs_code = certificate.extensions.purposes()?.contains(&CODE_SIGNING);
    let purpose = match (has(PUSH_SANDBOX), has(PUSH_PRODUCTION)) {
        (true, true) => Some(IdentityPurpose::Push(PushEnvironment::Both)),
        (true, false) => Some(IdentityPurpose::Push(PushEnvironment::Sandbox)),
        (false, true) => Some(IdentityPurpose::Push(PushEnvironment::Production)),
        (false, false) if signs_code && has(DISTRIBUTION) => Some(IdentityPurpose::Distribution),
        (false, false) if signs_code && has(DEVELOPMENT) => Some(IdentityPurpose::Development),
        (false, false) => None,
    };
    let of = |kind| name_values(&certificate.subject_der, kind);
    let mut topics = of(USER_ID)?;
    topics.extend(of(ORGANISATION)?);
    topics.retain(|topic| topic.contains('.') && !topic.contains(char::is_whitespace));
    Ok(Says { purpose, team: of(UNIT)?.into_iter().find(|unit| is_team(unit)), topics })
}

/// Whether a text can be a team's id: ten capitals and digits.
pub fn is_team(text: &str) -> bool {
    text.len() == 10 && text.bytes().all(|byte| byte.is_ascii_uppercase() || byte.is_ascii_digit())
}
