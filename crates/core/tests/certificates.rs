//! Certificates that keys make for themselves.

#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests fail by panicking")]

mod common;

use std::collections::BTreeSet;

use common::{identity, with_env};
use jiff::Timestamp;
use ninekeys_core::certificate::{CertificateError, Subject, self_signed};
use ninekeys_core::keys::{Algorithm, PublicKey, SignatureKind, Signer, verify};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::x509::Certificate;

fn parsed(der: &[u8]) -> Certificate {
    Certificate::parse(der, &Limits::USUAL).unwrap()
}

fn time(seconds: i64) -> String {
    Timestamp::from_second(seconds).unwrap().to_string()
}

#[test]
fn a_certificate_is_its_own_issuer_and_its_signature_holds_for_every_algorithm() {
    for (name, algorithm) in Algorithm::ALL {
        let (key, der) = identity(algorithm, "2031-05-19T12:00:00Z", 30);
        let certificate = parsed(&der);
        assert!(certificate.self_issued, "{name}");
        assert_eq!(certificate.public_key, key.public().as_der(), "{name}");
        assert_eq!(certificate.key.to_string(), algorithm.to_string(), "{name}");
        let (kind, oid) = match algorithm {
            Algorithm::P256 => (SignatureKind::EcdsaSha256, "1.2.840.10045.4.3.2"),
            Algorithm::P384 => (SignatureKind::EcdsaSha384, "1.2.840.10045.4.3.3"),
            _ => (SignatureKind::RsaSha256, "1.2.840.113549.1.1.11"),
        };
        assert_eq!(certificate.signature_algorithm.to_string(), oid, "{name}");
        let public = PublicKey::from_der(&certificate.public_key).unwrap();
        assert_eq!(verify(&public, kind, &certificate.tbs, &certificate.signature), Some(true), "{name}");
        let mut other = certificate.tbs.clone();
        other[20] ^= 1;
        assert_eq!(verify(&public, kind, &other, &certificate.signature), Some(false), "{name}");
    }
}

#[test]
fn the_validity_is_in_calendar_years_to_the_second() {
    let (_, der) = identity(Algorithm::P256, "2031-05-19T12:34:56Z", 30);
    let certificate = parsed(&der);
    assert_eq!(time(certificate.not_before), "2031-05-19T12:34:56Z");
    assert_eq!(time(certificate.not_after), "2061-05-19T12:34:56Z");
}

#[test]
fn dates_before_2050_are_utc_time_and_later_ones_generalized_time() {
    let contains = |der: &[u8], tag: u8, text: &[u8]| {
        let value = [&[tag, text.len() as u8], text].concat();
        der.windows(value.len()).any(|window| window == value)
    };
    let (_, der) = identity(Algorithm::P256, "2019-12-31T23:59:59Z", 30);
    assert!(contains(&der, 0x17, b"191231235959Z") && contains(&der, 0x17, b"491231235959Z"));
    let (_, der) = identity(Algorithm::P256, "2020-01-01T00:00:00Z", 30);
    assert!(contains(&der, 0x17, b"200101000000Z") && contains(&der, 0x18, b"20500101000000Z"));
}

#[test]
fn serials_are_positive_long_and_never_the_same() {
    let (key, _) = identity(Algorithm::P256, "2031-05-19T12:00:00Z", 30);
    let subject = Subject { common_name: Some("Ferries".into()), ..Subject::default() };
    let serials: BTreeSet<Vec<u8>> = (0..50)
        .map(|_| {
            let der = with_env("2031-05-19T12:00:00Z", |env| self_signed(&key, &subject, 30, env)).unwrap();
            parsed(&der).serial
        })
        .collect();
    assert_eq!(serials.len(), 50);
    assert!(serials.iter().all(|serial| serial.len() == 16 && (0x40..0x80).contains(&serial[0])));
}

#[test]
fn a_subject_is_written_with_the_country_first_and_read_with_it_last() {
    let (key, _) = identity(Algorithm::P256, "2031-05-19T12:00:00Z", 30);
    let subject = Subject {
        common_name: Some("Gannet, Point".into()),
        unit: Some("Mobile".into()),
        organisation: Some("Ferries + Piers".into()),
        locality: Some("Sheer Holm".into()),
        state: Some("Skerries".into()),
        country: Some("GB".into()),
        email: Some("releases@gannetpoint.example".into()),
    };
    let der = with_env("2031-05-19T12:00:00Z", |env| self_signed(&key, &subject, 25, env)).unwrap();
    let expected = "CN=Gannet\\, Point,OU=Mobile,O=Ferries \\+ Piers,L=Sheer Holm,ST=Skerries,C=GB,EMAIL=releases@gannetpoint.example";
    assert_eq!(parsed(&der).subject, expected);
    let at = |part: &[u8]| der.windows(part.len()).position(|window| window == part).unwrap();
    assert!(at(b"GB") < at(b"Skerries") && at(b"Mobile") < at(b"Gannet, Point"));
}

#[test]
fn what_cannot_be_written_is_refused_before_anything_is_signed() {
    let (key, _) = identity(Algorithm::P256, "2031-05-19T12:00:00Z", 30);
    let make = |subject: &Subject, years: u16| {
        with_env("2031-05-19T12:00:00Z", |env| self_signed(&key, subject, years, env))
    };
    let named = Subject { common_name: Some("A".into()), ..Subject::default() };
    assert_eq!(make(&Subject::default(), 30), Err(CertificateError::NoSubject));
    assert_eq!(make(&named, 9000), Err(CertificateError::Years(9000)));
    let control = Subject { organisation: Some("a\nb".into()), ..named.clone() };
    assert_eq!(make(&control, 30), Err(CertificateError::Field { field: "organisation", most: 64 }));
    let empty = Subject { locality: Some(String::new()), ..named };
    assert_eq!(make(&empty, 30), Err(CertificateError::Field { field: "locality", most: 128 }));
}
