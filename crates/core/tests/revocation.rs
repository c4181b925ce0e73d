//! Lists of revoked certificates and answers about single ones, on material that `openssl ca` and `openssl ocsp` made.

#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests fail by panicking")]

use std::fs;
use std::path::Path;
use std::sync::atomic::AtomicBool;

use jiff::Timestamp;
use ninekeys_core::authority::{Issuer, Order, Purpose};
use ninekeys_core::certificate::Subject;
use ninekeys_core::env::{Env, Silent};
use ninekeys_core::keys::{Algorithm, KeyMaker, PrivateKey, Signer, SystemKeys};
use ninekeys_core::revocation::{Believed, RevocationError, Status, make_list, question, status};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::ocsp::Question;
use ninekeys_formats::pem;
use ninekeys_formats::x509::Certificate;

const NOW: &str = "2026-11-26T12:00:00Z";
const REVOKED: &str = "2026-11-26T04:28:38Z";

fn sample(name: &str) -> Vec<u8> {
    fs::read(Path::new(env!("CARGO_MANIFEST_DIR")).join("../../testkit/samples/revocation").join(name))
        .unwrap()
}

fn certificate(name: &str) -> Certificate {
    let der = pem::blocks(&sample(name), pem::CERTIFICATE, &Limits::USUAL).remove(0);
    Certificate::parse(&der, &Limits::USUAL).unwrap()
}

fn time(text: &str) -> Timestamp {
    text.parse().unwrap()
}

fn list(bytes: &[u8], now: &str) -> Result<Believed, RevocationError> {
    Believed::read(bytes, &certificate("authority.pem"), time(now), &Limits::USUAL)
}

#[test]
fn a_list_says_what_was_revoked_while_it_is_current() {
    let found = list(&sample("list.crl"), NOW).unwrap();
    assert_eq!(found.status(&certificate("revoked.pem")), Status::Revoked(time(REVOKED)));
    assert_eq!(found.status(&certificate("good.pem")), Status::Good);
    let ended = time("2026-12-03T04:28:38Z");
    assert_eq!(list(&sample("list.crl"), "2026-12-03T04:40:00Z"), Err(RevocationError::Stale(ended)));
    assert_eq!(
        list(&sample("list.crl"), "2026-11-26T04:00:00Z"),
        Err(RevocationError::NotYet(time(REVOKED)))
    );
}

#[test]
fn a_list_that_was_touched_or_is_anothers_is_not_believed() {
    let bytes = sample("list.crl");
    let other = Believed::read(&bytes, &certificate("good.pem"), time(NOW), &Limits::USUAL);
    assert_eq!(other, Err(RevocationError::OtherIssuer));
    for at in 0..bytes.len() {
        let mut turned = bytes.clone();
        turned[at] ^= 1;
        assert!(list(&turned, NOW).is_err(), "byte {at} turned");
    }
}

fn nonce() -> Vec<u8> {
    Question::parse(&sample("question.der"), &Limits::USUAL).unwrap().nonce.unwrap()
}

fn said(answer: &str, about: &str, nonce: &[u8], now: &str) -> Result<Status, RevocationError> {
    let (about, issuer) = (certificate(about), certificate("authority.pem"));
    status(&sample(answer), &about, &issuer, nonce, time(now), &Limits::USUAL)
}

#[test]
fn an_answer_is_the_issuers_or_that_of_somebody_whom_it_let_answer() {
    for answer in ["answer.der", "answer-delegated.der"] {
        assert_eq!(said(answer, "revoked.pem", &nonce(), NOW), Ok(Status::Revoked(time(REVOKED))));
        assert_eq!(said(answer, "good.pem", &nonce(), NOW), Ok(Status::Good));
    }
    let not_allowed = said("answer-not-allowed.der", "good.pem", &nonce(), NOW);
    assert_eq!(not_allowed, Err(RevocationError::Forged), "its certificate is not for answering");
    assert_eq!(said("answer.der", "good.pem", &[1; 16], NOW), Err(RevocationError::OtherQuestion));
    assert_eq!(said("answer.der", "authority.pem", &nonce(), NOW), Err(RevocationError::OtherCertificate));
    let late = said("answer.der", "good.pem", &nonce(), "2026-11-28T00:00:00Z");
    assert!(matches!(late, Err(RevocationError::Stale(_))), "{late:?}");
    let refused = status(
        &[0x30, 3, 0x0a, 1, 3],
        &certificate("good.pem"),
        &certificate("authority.pem"),
        &[],
        time(NOW),
        &Limits::USUAL,
    );
    assert_eq!(refused, Err(RevocationError::Refused(3)));
}

#[test]
fn an_answer_that_was_touched_says_nothing_else() {
    let (about, issuer) = (certificate("good.pem"), certificate("authority.pem"));
    let bytes = sample("answer.der");
    for at in 0..bytes.len() {
        let mut turned = bytes.clone();
        turned[at] ^= 1;
        let said = status(&turned, &about, &issuer, &nonce(), time(NOW), &Limits::USUAL);
        // what stands behind the signature is beside the answer and changes nothing of it
        assert!(said.is_err() || said == Ok(Status::Good), "byte {at} turned: {said:?}");
    }
}

#[test]
fn our_question_asks_what_theirs_asks() {
    let theirs = Question::parse(&sample("question.der"), &Limits::USUAL).unwrap();
    let ours = question(&certificate("revoked.pem"), &certificate("authority.pem"), &nonce()).unwrap();
    let ours = Question::parse(&ours, &Limits::USUAL).unwrap();
    assert_eq!(ours.ids[0], theirs.ids[0]);
    assert_eq!(ours.nonce, theirs.nonce);
}

#[test]
fn a_list_is_not_believed_of_a_key_that_is_for_other_things() {
    let stop = AtomicBool::new(false);
    let env = Env {
        now: time(NOW),
        keys: &SystemKeys,
        progress: &Silent,
        scratch: &ninekeys_core::stream::InMemory,
        stop: &stop,
    };
    let key = SystemKeys.make(Algorithm::P256).unwrap().lend(|der| PrivateKey::from_pkcs8(der)).unwrap();
    let by = |purpose| {
        let order = Order {
            subject: Subject { common_name: Some("Harbour".into()), ..Subject::default() }.to_name().unwrap(),
            public_key: key.public().as_der(),
            purpose,
            marks: Vec::new(),
            addresses: None,
            from: time(NOW),
            until: time("2027-11-26T12:00:00Z"),
        };
        let der = Issuer { key: &key, certificate: None }.issue(order, &env).unwrap();
        Certificate::parse(&der, &Limits::USUAL).unwrap()
    };
    let authority = by(Purpose::Authority { below: 0 });
    let made = make_list((&key, &authority), 1, &[], time(NOW), time("2026-11-27T12:00:00Z")).unwrap();
    assert!(Believed::read(&made, &authority, time(NOW), &Limits::USUAL).is_ok());
    let signer = by(Purpose::Signer);
    assert_eq!(Believed::read(&made, &signer, time(NOW), &Limits::USUAL), Err(RevocationError::NoSigner));
}
