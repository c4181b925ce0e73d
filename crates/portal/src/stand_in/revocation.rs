//! What anybody may ask of the authority: its certificate, the list of what it revoked, answers about single certificates, and
//! timestamps (RFC 5280, RFC 6960, appendix A.1, RFC 3161).

use std::collections::HashMap;

use base64ct::{Base64, Encoding};
use jiff::{SignedDuration, Timestamp};
use ninekeys_core::authority::Addresses;
use ninekeys_core::digest::from_hex;
use ninekeys_core::revocation::{Status, answer, make_list};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::ocsp::{Question, refusal};
use ureq::http::StatusCode;

use super::StandInError;
use super::http::{Call, Response};
use super::router::{Answers, get, post};
use super::routes::{Portal, Refusal};
use super::state::with_env;
use crate::wire::Certificate;

/// Where its certificate is.
const ISSUER: &str = "/authority/issuer.cer";
/// Where its list is.
const LIST: &str = "/authority/revoked.crl";
/// Who answers about single certificates.
const ANSWERS: &str = "/authority/ocsp";
/// Who puts a time to signatures (RFC 3161, section 3.4).
const STAMPS: &str = "/authority/timestamps";
/// How long a list is good.
const LIST_HOURS: i64 = 24;
/// How long an answer is good.
const ANSWER_HOURS: i64 = 1;

/// Where those can be asked, for certificates that are issued by a server at that address.
pub(super) fn addresses(base: &str) -> Addresses {
    let at = |path: &str| format!("{base}{path}");
    Addresses { issuer: at(ISSUER), crl: at(LIST), ocsp: at(ANSWERS) }
}

pub(super) fn table() -> Vec<(String, Answers)> {
    vec![
        (ISSUER.into(), get(issuer)),
        (LIST.into(), get(list)),
        (ANSWERS.into(), post(by_post)),
        (format!("{ANSWERS}/{{*question}}"), get(by_get)),
        (STAMPS.into(), post(stamped)),
    ]
}

fn bytes(kind: &'static str, body: Vec<u8>) -> Response {
    Response::new(StatusCode::OK).body(kind, body)
}

fn issuer(portal: &Portal, _: &Call) -> Result<Response, Refusal> {
    Ok(bytes("application/pkix-cert", portal.state().authority.issuer().1.der.clone()))
}

fn after(now: Timestamp, hours: i64) -> Timestamp {
    now.saturating_add(SignedDuration::from_hours(hours)).unwrap_or(Timestamp::MAX)
}

fn list(portal: &Portal, _: &Call) -> Result<Response, Refusal> {
    let now = portal.now();
    let state = portal.state();
    let issued: Vec<Certificate> = state.all("certificate")?;
    let revoked: Vec<_> = issued.iter().filter_map(|one| Some((from_hex(&one.id)?, one.revoked?))).collect();
    // each list has a higher number: the seconds go up as the clock does
    let number = u64::try_from(now.as_second()).unwrap_or_default();
    let made = make_list(state.authority.issuer(), number, &revoked, now, after(now, LIST_HOURS));
    Ok(bytes("application/pkix-crl", made.map_err(StandInError::from)?))
}

fn by_post(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    answered(portal, &call.body)
}

/// The question in Base64, as a part of the path.
fn by_get(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    let question = call.part(0);
    answered(portal, &Base64::decode_vec(question).unwrap_or_default())
}

fn answered(portal: &Portal, question: &[u8]) -> Result<Response, Refusal> {
    const KIND: &str = "application/ocsp-response";
    let now = portal.now();
    let state = portal.state();
    let Ok(question) = Question::parse(question, &Limits::USUAL) else {
        let reply = refusal(1).map_err(|_| StandInError::Damaged("an answer"))?;
        return Ok(bytes(KIND, reply));
    };
    let issued: Vec<Certificate> = state.all("certificate")?;
    let known: HashMap<Vec<u8>, Option<Timestamp>> =
        issued.iter().filter_map(|one| Some((from_hex(&one.id)?, one.revoked))).collect();
    let look = |serial: &[u8]| match known.get(serial) {
        Some(Some(at)) => Status::Revoked(*at),
        Some(None) => Status::Good,
        None => Status::Unknown,
    };
    let made = answer(state.authority.issuer(), &question, look, now, after(now, ANSWER_HOURS));
    Ok(bytes(KIND, made.map_err(StandInError::from)?))
}

fn stamped(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    let state = portal.state();
    let made = with_env(portal.now(), |env| state.authority.stamp(&call.body, env));
    Ok(bytes("application/timestamp-reply", made.map_err(StandInError::from)?))
}
