//! The authorities of the stand-in: a root, one that issues to developers, one that signs profiles.

use der::asn1::ObjectIdentifier;
use jiff::{Span, Timestamp, tz::TimeZone};
use ninekeys_core::authority::{Addresses, Issuer, Order, Purpose, sign_message};
use ninekeys_core::certificate::{CertificateError, Subject};
use ninekeys_core::env::Env;
use ninekeys_core::ios::certificate::CODE_SIGNING;
use ninekeys_core::keys::{Algorithm, PrivateKey, Signer};
use ninekeys_core::model::PushEnvironment;
use ninekeys_core::timestamp;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::secret::SecretBytes;
use ninekeys_formats::timestamp::TIME_STAMPING;
use ninekeys_formats::x509::Certificate;
use x509_cert::name::Name;

use super::StandInError;
use crate::wire::Enrolment;

/// id-kp-clientAuth (RFC 5280, section 4.2.1.12).
const CLIENT: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.3.2");
/// The marks of what is issued (formats table 4.1).
const DEVELOPMENT: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113635.100.6.1.2");
const DISTRIBUTION: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113635.100.6.1.4");
const INTERMEDIATE: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113635.100.6.2.1");
const SANDBOX: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113635.100.6.3.1");
const PRODUCTION: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113635.100.6.3.2");

/// How long what is issued is good for, in years.
const LEAF_YEARS: i64 = 1;
/// 9999-12-31T23:59:59Z, in seconds since 1970: what has no end ends then (RFC 5280, section 4.1.2.5).
const NO_END: i64 = 253_402_300_799;
/// How long an authority is good for, in years.
const AUTHORITY_YEARS: i64 = 20;

/// A key and the certificate over it, as they are kept.
pub(super) struct Kept {
    /// PKCS#8.
    pub(super) secret: SecretBytes,
    /// X.509, DER.
    pub(super) certificate: Vec<u8>,
}

/// All that signs here.
pub(super) struct Authority {
    root: Certificate,
    issuer: (PrivateKey, Certificate),
    profiles: (PrivateKey, Certificate),
    /// Who gives timestamps: a key of this start alone, since a token brings its certificate along.
    timestamps: (PrivateKey, Certificate),
}

/// The same time some years later.
fn years_after(at: Timestamp, years: i64) -> Timestamp {
    let later = at.to_zoned(TimeZone::UTC).checked_add(Span::new().years(years));
    later.map_or(Timestamp::MAX, |later| later.timestamp())
}

fn name(common_name: &str, unit: Option<&str>, organisation: &str) -> Result<Name, CertificateError> {
    Subject {
        common_name: Some(common_name.into()),
        unit: unit.map(str::to_owned),
        organisation: Some(organisation.into()),
        ..Subject::default()
    }
    .to_name()
}

fn parsed(der: &[u8]) -> Result<Certificate, StandInError> {
    Certificate::parse(der, &Limits::USUAL).map_err(|_| StandInError::Damaged("a certificate"))
}

/// Makes the key that connections are sealed with, and a certificate that vouches for itself. It is trusted by being known
/// and not by its dates, so it has none: those that RFC 5280, section 4.1.2.5, has for that.
pub(super) fn seal(env: &Env<'_>) -> Result<Kept, StandInError> {
    let secret = env.keys.make(Algorithm::P256)?;
    let key = secret.lend(|der| PrivateKey::from_pkcs8(der))?;
    let names = ["127.0.0.1", "::1", "localhost"].map(str::to_owned).to_vec();
    let order = Order {
        subject: name("Stand-In Connection", None, "Stand-In Portal")?,
        public_key: key.public().as_der(),
        purpose: Purpose::Server(names),
        marks: Vec::new(),
        addresses: None,
        from: Timestamp::UNIX_EPOCH,
        until: Timestamp::from_second(NO_END).unwrap_or(Timestamp::MAX),
    };
    let certificate = Issuer { key: &key, certificate: None }.issue(order, env)?;
    Ok(Kept { secret, certificate })
}

impl Authority {
    /// Makes the keys and certificates of new authorities: root, issuer, signer of profiles.
    pub(super) fn make(env: &Env<'_>) -> Result<[Kept; 3], StandInError> {
        let make = || -> Result<(SecretBytes, PrivateKey), StandInError> {
            let secret = env.keys.make(Algorithm::P256)?;
            let key = secret.lend(|der| PrivateKey::from_pkcs8(der))?;
            Ok((secret, key))
        };
        let until = years_after(env.now, AUTHORITY_YEARS);
        let order = |subject, key: &PrivateKey, purpose, marks| {
            let public_key = key.public().as_der().to_vec();
            (subject, public_key, purpose, marks)
        };
        let issue = |issuer: &Issuer<'_>, (subject, public_key, purpose, marks): (Name, Vec<u8>, _, _)| {
            let order = Order {
                subject,
                public_key: &public_key,
                purpose,
                marks,
                addresses: None,
                from: env.now,
                until,
            };
            issuer.issue(order, env)
        };
        const HOUSE: &str = "Stand-In Portal";
        let (root_secret, root_key) = make()?;
        let own = Issuer { key: &root_key, certificate: None };
        let subject = name("Stand-In Root", None, HOUSE)?;
        let root = issue(&own, order(subject, &root_key, Purpose::Authority { below: 1 }, Vec::new()))?;
        let above = parsed(&root)?;
        let by_root = Issuer { key: &root_key, certificate: Some(&above) };
        let (issuer_secret, issuer_key) = make()?;
        let subject = name("Stand-In Developer Authority", None, HOUSE)?;
        let purpose = Purpose::Authority { below: 0 };
        let issuer = issue(&by_root, order(subject, &issuer_key, purpose, vec![INTERMEDIATE]))?;
        let (signer_secret, signer_key) = make()?;
        let subject = name("Stand-In Profile Signing", None, HOUSE)?;
        let signer = issue(&by_root, order(subject, &signer_key, Purpose::Signer, Vec::new()))?;
        Ok([
            Kept { secret: root_secret, certificate: root },
            Kept { secret: issuer_secret, certificate: issuer },
            Kept { secret: signer_secret, certificate: signer },
        ])
    }

    /// From what was kept.
    pub(super) fn of(kept: &[Kept; 3], env: &Env<'_>) -> Result<Self, StandInError> {
        let key = |kept: &Kept| kept.secret.lend(|der| PrivateKey::from_pkcs8(der));
        let [root, issuer, profiles] = kept;
        let own = env.keys.make(Algorithm::P256)?.lend(|der| PrivateKey::from_pkcs8(der))?;
        let (root_key, above) = (key(root)?, parsed(&root.certificate)?);
        let order = Order {
            subject: name("Stand-In Timestamps", None, "Stand-In Portal")?,
            public_key: own.public().as_der(),
            purpose: Purpose::Leaf(TIME_STAMPING),
            marks: Vec::new(),
            addresses: None,
            // good for whatever time this server is told that it is
            from: Timestamp::from_second(above.not_before).unwrap_or(env.now),
            until: Timestamp::from_second(above.not_after).unwrap_or(env.now),
        };
        let certificate = Issuer { key: &root_key, certificate: Some(&above) }.issue(order, env)?;
        Ok(Authority {
            root: above,
            issuer: (key(issuer)?, parsed(&issuer.certificate)?),
            profiles: (key(profiles)?, parsed(&profiles.certificate)?),
            timestamps: (own, parsed(&certificate)?),
        })
    }

    /// Answers who asks for a timestamp.
    pub(super) fn stamp(&self, question: &[u8], env: &Env<'_>) -> Result<Vec<u8>, CertificateError> {
        let (key, own) = &self.timestamps;
        timestamp::Authority { key, chain: &[own, &self.root] }.answer(question, env)
    }

    /// The root.
    pub(super) fn root(&self) -> &Certificate {
        &self.root
    }

    /// The certificates above what is issued, from the issuer's upwards.
    pub(super) fn chain(&self) -> [&Certificate; 2] {
        [&self.issuer.1, &self.root]
    }

    /// Who issues to developers: key and certificate.
    pub(super) fn issuer(&self) -> (&PrivateKey, &Certificate) {
        (&self.issuer.0, &self.issuer.1)
    }

    /// Issues a certificate to the team.
    pub(super) fn issue(
        &self,
        wanted: &Enrolment,
        (team, title): (&str, &str),
        public_key: &[u8],
        addresses: Addresses,
        env: &Env<'_>,
    ) -> Result<Vec<u8>, CertificateError> {
        let (word, purpose, marks, organisation) = match wanted {
            Enrolment::Development => ("Development", CODE_SIGNING, vec![DEVELOPMENT], title),
            Enrolment::Distribution => ("Distribution", CODE_SIGNING, vec![DISTRIBUTION], title),
            // a push certificate names its app where others name the team
            Enrolment::Push { environment, bundle_id } => {
                let marks = match environment {
                    PushEnvironment::Sandbox => vec![SANDBOX],
                    PushEnvironment::Production => vec![PRODUCTION],
                    PushEnvironment::Both => vec![SANDBOX, PRODUCTION],
                };
                ("Push", CLIENT, marks, bundle_id.as_str())
            }
        };
        let subject = name(&format!("{word}: {organisation} ({team})"), Some(team), organisation)?;
        let order = Order {
            subject,
            public_key,
            purpose: Purpose::Leaf(purpose),
            marks,
            addresses: Some(addresses),
            from: env.now,
            until: years_after(env.now, LEAF_YEARS),
        };
        let issuer = Issuer { key: &self.issuer.0, certificate: Some(&self.issuer.1) };
        issuer.issue(order, env)
    }

    /// Signs a profile's property list.
    pub(super) fn sign_profile(&self, list: &[u8], now: Timestamp) -> Result<Vec<u8>, CertificateError> {
        let (key, own) = &self.profiles;
        sign_message(key, own, std::slice::from_ref(&self.root), list, now)
    }

    /// Until when a profile that is made now is good.
    pub(super) fn profile_end(now: Timestamp) -> Timestamp {
        years_after(now, LEAF_YEARS)
    }
}
