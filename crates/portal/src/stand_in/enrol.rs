//! Certificates for those who ask: enrolment over secure transport (EST, RFC 7030): the authorities, a first certificate, and one
//! more for who has one. What a certificate is for stands in the label of the path (section 3.2.2).

use base64ct::{Base64, Encoding};
use jiff::Timestamp;
use ninekeys_core::digest::hex;
use ninekeys_core::model::{ApiRole, Capability};
use ninekeys_core::request::holds;
use ninekeys_formats::cms;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::request::Request as Pkcs10;
use ninekeys_formats::x509::Certificate as Parsed;
use rusqlite::Connection;
use ureq::http::StatusCode;

use super::authority::Authority;
use super::http::{Call, Response};
use super::router::{Answers, get, post};
use super::routes::{MOST_DISTRIBUTION, Portal, Refusal};
use super::state::{self, with_env};
use super::{StandInError, revocation};
use crate::wire::{AppId, Certificate, EST, Enrolment, KindSaid, PKCS7};

pub(super) fn table() -> Vec<(String, Answers)> {
    let own = [
        ("/cacerts", get(authorities)),
        ("/{label}/cacerts", get(authorities)),
        ("/{label}/simpleenroll", post(first)),
        ("/{label}/simplereenroll", post(again)),
    ];
    own.into_iter().map(|(path, answer)| (format!("{EST}{path}"), answer)).collect()
}

/// Certificates as nobody's message, in Base64 (RFC 7030, section 4.1.3).
fn bundle(certificates: &[&[u8]]) -> Result<String, Refusal> {
    let der = cms::write_bundle(certificates).map_err(|_| StandInError::Damaged("a certificate"))?;
    Ok(Base64::encode_string(&der))
}

fn answer(status: u16, body: String) -> Response {
    let status = StatusCode::from_u16(status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
    Response::new(status).body(PKCS7, body).field("content-transfer-encoding", "base64")
}

/// The certificates above those that are issued, from the issuer's upwards; anybody may have them.
fn authorities(portal: &Portal, _: &Call) -> Result<Response, Refusal> {
    let state = portal.state();
    let chain = state.authority.chain().map(|certificate| certificate.der.as_slice());
    Ok(answer(200, bundle(&chain)?))
}

fn first(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    enrol(portal, call, false)
}

fn again(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    enrol(portal, call, true)
}

fn enrol(portal: &Portal, call: &Call, has_one: bool) -> Result<Response, Refusal> {
    let asked_by = portal.admit(&call.headers, ApiRole::Manager)?;
    let label = call.part(0);
    let unknown = || Refusal::unknown(format!("certificates are not issued under the label {label}"));
    let wanted: Enrolment = label.parse().map_err(|_| unknown())?;
    let text: String = String::from_utf8_lossy(&call.body).split_ascii_whitespace().collect();
    let der = Base64::decode_vec(&text).map_err(|_| Refusal::malformed("the request is no Base64"))?;
    let request = Pkcs10::parse(&der, &Limits::USUAL)
        .map_err(|error| Refusal::malformed(format!("the request cannot be read: {error}")))?;
    if holds(&request) != Some(true) {
        return Err(Refusal::malformed("the request is not signed with the key that it is for"));
    }
    let (status, body) = portal.once_as(&call.headers, &asked_by, 200, |database, authority| {
        if has_one {
            refuse_stranger(database, &wanted, &request, portal.now())?;
        }
        bundle(&[&issue(portal, database, authority, &wanted, &request)?])
    })?;
    Ok(answer(status, body))
}

/// Who asks for one more has one that is good, for the same and of the same subject (RFC 7030, section 4.2.2).
fn refuse_stranger(
    database: &Connection,
    wanted: &Enrolment,
    request: &Pkcs10,
    now: Timestamp,
) -> Result<(), Refusal> {
    let known: Vec<Certificate> = state::all(database, "certificate")?;
    let is_good =
        |one: &&Certificate| one.kind == wanted.kind() && one.revoked.is_none() && one.not_after > now;
    let is_same = |one: &Certificate| {
        Parsed::parse(&one.certificate, &Limits::USUAL)
            .is_ok_and(|parsed| parsed.subject_der == request.subject_der)
    };
    if known.iter().filter(is_good).any(is_same) {
        return Ok(());
    }
    Err(Refusal::unknown(format!("no certificate that is good has the subject {}", request.subject)))
}

fn issue(
    portal: &Portal,
    database: &Connection,
    authority: &Authority,
    wanted: &Enrolment,
    request: &Pkcs10,
) -> Result<Vec<u8>, Refusal> {
    let now = portal.now();
    let known: Vec<Certificate> = state::all(database, "certificate")?;
    let counts = |one: &&Certificate| {
        one.kind == KindSaid::Distribution && one.revoked.is_none() && one.not_after > now
    };
    if *wanted == Enrolment::Distribution && known.iter().filter(counts).count() >= MOST_DISTRIBUTION {
        let detail = format!(
            "the team has {MOST_DISTRIBUTION} distribution certificates, and may have no more: revoke one that is not used"
        );
        return Err(Refusal::limit(detail));
    }
    if let Enrolment::Push { bundle_id, .. } = wanted {
        let known: Vec<AppId> = state::all(database, "app-id")?;
        let app = known.iter().find(|one| one.bundle_id == *bundle_id);
        let app = app.ok_or_else(|| Refusal::unknown(format!("{bundle_id} is not registered")))?;
        if !app.capabilities.contains(&Capability::Push) {
            return Err(Refusal::malformed(format!("push is not switched on for {bundle_id}")));
        }
    }
    let name = |name: &'static str| {
        let found = state::meta(database, name)?;
        found.ok_or(StandInError::Damaged("its names")).map_err(Refusal::from)
    };
    let (team, title) = (name("team")?, name("title")?);
    let addresses = revocation::addresses(&portal.address);
    let issued =
        with_env(now, |env| authority.issue(wanted, (&team, &title), &request.public_key, addresses, env));
    let der = issued.map_err(StandInError::from)?;
    let parsed = Parsed::parse(&der, &Limits::USUAL).map_err(|_| StandInError::Damaged("a certificate"))?;
    let issued = Certificate {
        id: hex(&parsed.serial),
        kind: wanted.kind(),
        certificate: der.clone(),
        not_after: Timestamp::from_second(parsed.not_after).unwrap_or(Timestamp::MAX),
        revoked: None,
    };
    state::put(database, "certificate", &issued.id, now, &issued)?;
    Ok(der)
}
