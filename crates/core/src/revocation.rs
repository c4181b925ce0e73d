//! Whether a certificate was revoked: lists (CRL, RFC 5280, section 6.3) and answers about single ones (OCSP, RFC 6960), verified
//! before they are believed, and made by an authority.
//!
//! Nothing is fetched here. What is no longer current, of another issuer or not signed by the one who issued the certificate says
//! nothing, and that is an error and never a pass.

use std::collections::HashMap;
use std::time::Duration;

use der::Encode;
use der::asn1::{GeneralizedTime, Int, Null, ObjectIdentifier, OctetString};
use jiff::{SignedDuration, Timestamp};
use ninekeys_formats::crl::{self, NewList, RevocationList};
use ninekeys_formats::cursor::ParseError;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::ocsp::{
    self, Answer, CertificateId, CertificateStatus, Question, Reply, RevokedInfo, SingleResponse,
};
use ninekeys_formats::x509::Certificate;
use spki::{AlgorithmIdentifierOwned, SubjectPublicKeyInfoOwned};
use thiserror::Error;
use x509_cert::ext::pkix::KeyUsages;

use crate::certificate::{CertificateError, at_time};
use crate::chain::signed_by;
use crate::digest::{sha1, sha256};
use crate::keys::{PrivateKey, PublicKey, SignatureKind, Signer, verify};
use crate::request::algorithm_id;
use crate::signed::SHA1_OID;

/// id-kp-OCSPSigning (RFC 6960, section 4.2.2.2).
const ANSWERS: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.3.9");
/// SHA-256 (RFC 5754).
const SHA256_OID: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.16.840.1.101.3.4.2.1");
/// By how much clocks may differ.
const SKEW: SignedDuration = SignedDuration::from_mins(5);
/// How long what does not say when it ends is believed.
const WITHOUT_END: SignedDuration = SignedDuration::from_hours(24 * 7);

/// What is known of a certificate.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Status {
    /// Its issuer says that it is good.
    Good,
    /// It was revoked.
    Revoked(Timestamp),
    /// Who answers does not know it.
    Unknown,
}

/// What was learnt of a certificate from an address that it names.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Learnt {
    /// It was not revoked.
    Good,
    /// It was.
    Revoked(Timestamp),
    /// Nothing that could be believed was learnt.
    Nothing {
        /// Where it was asked.
        address: String,
        /// Why not.
        because: String,
    },
}

/// What was learnt, by the certificate's fingerprint. One that names no address is not in it.
pub type Revocations = HashMap<String, Learnt>;

/// Why a list or an answer is not believed.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum RevocationError {
    /// It cannot be read.
    #[error(transparent)]
    Unreadable(#[from] ParseError),
    /// It is somebody else's.
    #[error("it is another issuer's")]
    OtherIssuer,
    /// Its issuer's key is for other things (RFC 5280, section 6.3.3, step f).
    #[error("its issuer's certificate does not allow it to sign lists")]
    NoSigner,
    /// Its signature cannot be verified.
    #[error("it is signed in a way that is not verified here")]
    Unsupported,
    /// It is not signed by the issuer.
    #[error("the issuer did not sign it")]
    Forged,
    /// It is about a part of the certificates, or says more than is understood.
    #[error("it has a critical extension that is not known")]
    Critical,
    /// A newer one should be there.
    #[error("it ended {0}")]
    Stale(Timestamp),
    /// It begins later.
    #[error("it begins {0}")]
    NotYet(Timestamp),
    /// No answer was given.
    #[error("no answer was given: {}", refusal(*.0))]
    Refused(u8),
    /// It is about something else.
    #[error("it is not about this certificate")]
    OtherCertificate,
    /// It answers another question.
    #[error("it answers another question")]
    OtherQuestion,
}

fn refusal(number: u8) -> &'static str {
    match number {
        1 => "the question was not understood",
        2 => "who answers failed",
        3 => "it has to be asked again later",
        5 => "the question has to be signed",
        6 => "it may not be asked",
        _ => "for a reason that is not known",
    }
}

/// Whether something is current.
fn current(from: Timestamp, until: Option<Timestamp>, now: Timestamp) -> Result<(), RevocationError> {
    if from > now.saturating_add(SKEW).unwrap_or(Timestamp::MAX) {
        return Err(RevocationError::NotYet(from));
    }
    let until = until.unwrap_or_else(|| from.saturating_add(WITHOUT_END).unwrap_or(Timestamp::MAX));
    if until < now.saturating_sub(SKEW).unwrap_or(Timestamp::MIN) {
        return Err(RevocationError::Stale(until));
    }
    Ok(())
}

fn time(seconds: i64) -> Timestamp {
    Timestamp::from_second(seconds).unwrap_or(if seconds < 0 { Timestamp::MIN } else { Timestamp::MAX })
}

/// Whether the holder of a certificate signed something.
fn signed(
    by: &Certificate,
    algorithm: &ObjectIdentifier,
    tbs: &[u8],
    signature: &[u8],
) -> Result<(), RevocationError> {
    let kind = SignatureKind::named(algorithm).ok_or(RevocationError::Unsupported)?;
    let key = PublicKey::from_der(&by.public_key).map_err(|_| RevocationError::Unsupported)?;
    match verify(&key, kind, tbs, signature) {
        Some(true) => Ok(()),
        Some(false) => Err(RevocationError::Forged),
        None => Err(RevocationError::Unsupported),
    }
}

/// A list that is believed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Believed(RevocationList);

impl Believed {
    /// Reads a list, and believes it when the issuer signed it, it is current, and it leaves nothing out.
    ///
    /// # Errors
    /// [`RevocationError`].
    pub fn read(
        bytes: &[u8],
        issuer: &Certificate,
        now: Timestamp,
        limits: &Limits,
    ) -> Result<Believed, RevocationError> {
        let list = RevocationList::parse(bytes, limits)?;
        if list.issuer_der != issuer.subject_der {
            return Err(RevocationError::OtherIssuer);
        }
        let usage = issuer.extensions.key_usage()?;
        if usage.is_some_and(|usage| !usage.0.contains(KeyUsages::CRLSign)) {
            return Err(RevocationError::NoSigner);
        }
        if list.critical_entries || list.extensions.iter().any(|one| one.critical) {
            return Err(RevocationError::Critical);
        }
        signed(issuer, &list.signature_algorithm, &list.tbs, &list.signature)?;
        current(time(list.this_update), list.next_update.map(time), now)?;
        Ok(Believed(list))
    }

    /// What it says of a certificate of its issuer's.
    pub fn status(&self, certificate: &Certificate) -> Status {
        let at = self.0.revoked.get(&certificate.serial);
        at.map_or(Status::Good, |at| Status::Revoked(time(*at)))
    }
}

fn key_bits(public_key: &[u8]) -> der::Result<Vec<u8>> {
    let info = <SubjectPublicKeyInfoOwned as der::Decode<'_>>::from_der(public_key)?;
    Ok(info.subject_public_key.raw_bytes().to_vec())
}

/// Which certificate is asked about. The hashes find the issuer and prove nothing, so they are those that everybody knows.
fn id(serial: &[u8], issuer: &Certificate) -> der::Result<CertificateId> {
    Ok(CertificateId {
        hash: AlgorithmIdentifierOwned { oid: SHA1_OID, parameters: Some(der::asn1::Any::null()) },
        issuer_name: OctetString::new(sha1(&issuer.subject_der))?,
        issuer_key: OctetString::new(sha1(&key_bits(&issuer.public_key)?))?,
        serial: Int::new(serial)?,
    })
}

/// The question whether a certificate was revoked, in DER.
///
/// # Errors
/// [`CertificateError::Encoding`].
pub fn question(
    certificate: &Certificate,
    issuer: &Certificate,
    nonce: &[u8],
) -> Result<Vec<u8>, CertificateError> {
    let encoding = |error: der::Error| CertificateError::Encoding(error.to_string());
    let id = id(&certificate.serial, issuer).map_err(encoding)?;
    Question { ids: vec![id], nonce: Some(nonce.to_vec()) }.write().map_err(encoding)
}

/// What a reply says of a certificate: believed when the issuer signed it or let somebody sign it, and it is current. Who answers
/// ahead of being asked repeats no nonce; a wrong one is refused.
///
/// # Errors
/// [`RevocationError`].
pub fn status(
    reply: &[u8],
    certificate: &Certificate,
    issuer: &Certificate,
    nonce: &[u8],
    now: Timestamp,
    limits: &Limits,
) -> Result<Status, RevocationError> {
    let answer = match Reply::parse(reply, limits)? {
        Reply::Answer(answer) => answer,
        Reply::Refused(number) => return Err(RevocationError::Refused(number)),
    };
    if answer.critical {
        return Err(RevocationError::Critical);
    }
    if answer.nonce.as_deref().is_some_and(|own| own != nonce) {
        return Err(RevocationError::OtherQuestion);
    }
    answered(&answer, issuer, now, limits)?;
    let wanted = id(&certificate.serial, issuer).map_err(|_| RevocationError::OtherCertificate)?;
    let same = |one: &&SingleResponse| {
        one.id.hash.oid == wanted.hash.oid
            && one.id.issuer_name == wanted.issuer_name
            && one.id.issuer_key == wanted.issuer_key
            && one.id.serial == wanted.serial
    };
    let said = answer.responses.iter().find(same).ok_or(RevocationError::OtherCertificate)?;
    current(moment(&said.this_update), said.next_update.as_ref().map(moment), now)?;
    Ok(match &said.status {
        CertificateStatus::Good(_) => Status::Good,
        CertificateStatus::Revoked(info) => Status::Revoked(moment(&info.at)),
        CertificateStatus::Unknown(_) => Status::Unknown,
    })
}

fn moment(time: &GeneralizedTime) -> Timestamp {
    let seconds = i64::try_from(time.to_unix_duration().as_secs()).unwrap_or(i64::MAX);
    self::time(seconds)
}

/// Whether the issuer signed an answer, or somebody whom the issuer certified for that (RFC 6960, section 4.2.2.2).
fn answered(
    answer: &Answer,
    issuer: &Certificate,
    now: Timestamp,
    limits: &Limits,
) -> Result<(), RevocationError> {
    let own = signed(issuer, &answer.signature_algorithm, &answer.tbs, &answer.signature);
    if own.is_ok() {
        return Ok(());
    }
    let beside = answer.certificates.iter().filter_map(|der| Certificate::parse(der, limits).ok());
    let may = |one: &Certificate| {
        let purposes = one.extensions.purposes().unwrap_or_default();
        let is_current = time(one.not_before) <= now && now <= time(one.not_after);
        purposes.contains(&ANSWERS) && is_current && signed_by(one, issuer)
    };
    for one in beside.filter(may) {
        if signed(&one, &answer.signature_algorithm, &answer.tbs, &answer.signature).is_ok() {
            return Ok(());
        }
    }
    own
}

/// A certificate that an authority revoked: its serial number, and when.
pub type Revoked = (Vec<u8>, Timestamp);

/// Makes an authority's list, in DER.
///
/// # Errors
/// [`CertificateError`] when something cannot be written, or the key refuses.
pub fn make_list(
    (key, own): (&PrivateKey, &Certificate),
    number: u64,
    revoked: &[Revoked],
    now: Timestamp,
    next: Timestamp,
) -> Result<Vec<u8>, CertificateError> {
    let encoding = |error: der::Error| CertificateError::Encoding(error.to_string());
    let der_time = |at: Timestamp| at_time(at)?.to_der().map_err(encoding);
    let entries = revoked.iter().map(|(serial, at)| Ok((serial.clone(), der_time(*at)?)));
    let entries: Vec<(Vec<u8>, Vec<u8>)> = entries.collect::<Result<_, CertificateError>>()?;
    let list = NewList {
        number,
        issuer: &own.subject_der,
        key_id: &own.extensions.key_id().ok().flatten().unwrap_or_default(),
        this_update: &der_time(now)?,
        next_update: &der_time(next)?,
        revoked: &entries,
    };
    let kind = key.certificate_kind();
    let algorithm = algorithm_id(kind)?;
    let tbs = list.tbs(&algorithm).map_err(encoding)?;
    let signature = key.sign(kind, &tbs)?;
    crl::write(&tbs, &algorithm, &signature).map_err(encoding)
}

/// Answers a question, in DER; `look` says what is known of a certificate of this authority's by its serial number.
///
/// # Errors
/// [`CertificateError`] when something cannot be written, or the key refuses.
pub fn answer(
    (key, own): (&PrivateKey, &Certificate),
    question: &Question,
    look: impl Fn(&[u8]) -> Status,
    now: Timestamp,
    next: Timestamp,
) -> Result<Vec<u8>, CertificateError> {
    let encoding = |error: der::Error| CertificateError::Encoding(error.to_string());
    let bits = key_bits(&own.public_key).map_err(encoding)?;
    let responses = question.ids.iter().map(|id| {
        Ok(SingleResponse {
            id: id.clone(),
            status: match if is_own(id, own, &bits) { look(id.serial.as_bytes()) } else { Status::Unknown } {
                Status::Good => CertificateStatus::Good(Null),
                Status::Revoked(at) => {
                    CertificateStatus::Revoked(RevokedInfo { at: generalized(at)?, reason: None })
                }
                Status::Unknown => CertificateStatus::Unknown(Null),
            },
            this_update: generalized(now)?,
            next_update: Some(generalized(next)?),
            extensions: None,
        })
    });
    let responses: Vec<SingleResponse> = responses.collect::<Result<_, CertificateError>>()?;
    let nonce = question.nonce.as_deref();
    let tbs = ocsp::tbs(&sha1(&bits), generalized(now)?, &responses, nonce).map_err(encoding)?;
    let kind = key.certificate_kind();
    let algorithm = algorithm_id(kind)?;
    let signature = key.sign(kind, &tbs)?;
    ocsp::write(&tbs, &algorithm, &signature).map_err(encoding)
}

/// Whether a certificate that is asked about is this authority's.
fn is_own(id: &CertificateId, own: &Certificate, bits: &[u8]) -> bool {
    let is = |name: &[u8], key: &[u8]| id.issuer_name.as_bytes() == name && id.issuer_key.as_bytes() == key;
    match id.hash.oid {
        SHA1_OID => is(&sha1(&own.subject_der), &sha1(bits)),
        SHA256_OID => is(&sha256(&own.subject_der), &sha256(bits)),
        _ => false,
    }
}

fn generalized(at: Timestamp) -> Result<GeneralizedTime, CertificateError> {
    let refused = || CertificateError::Encoding(format!("{at} cannot be written into an answer"));
    let seconds = u64::try_from(at.as_second()).map_err(|_| refused())?;
    GeneralizedTime::from_unix_duration(Duration::from_secs(seconds)).map_err(|_| refused())
}
