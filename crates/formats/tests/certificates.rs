//! Certificates at their edges: cut, changed, with something behind them.

#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests fail by panicking")]

use ninekeys_formats::cursor::Fault;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::pem;
use ninekeys_formats::x509::{Certificate, KeyShape};

/// A P-256 certificate that `openssl req -x509` made for 30 years, CN=Pier, O=Ferries.
const PIER: &str = include_str!("pier.pem");

fn pier() -> Vec<u8> {
    pem::blocks(PIER.as_bytes(), pem::CERTIFICATE, &Limits::USUAL).remove(0)
}

#[test]
fn every_field_is_read_over_the_bytes_that_were_signed() {
    let der = pier();
    let certificate = Certificate::parse(&der, &Limits::USUAL).unwrap();
    assert_eq!(certificate.subject, "O=Ferries,CN=Pier");
    assert!(certificate.self_issued);
    assert_eq!(certificate.key, KeyShape::Ec { curve: "P-256".into() });
    assert_eq!(certificate.der, der);
    let contains = |part: &[u8]| der.windows(part.len()).any(|window| window == part);
    assert!(
        contains(&certificate.tbs) && contains(&certificate.public_key) && contains(&certificate.signature)
    );
    assert_eq!(certificate.tbs[0], 0x30, "the signed part keeps its own header");
    assert!(certificate.not_after - certificate.not_before > 29 * 365 * 86_400);
}

#[test]
fn every_cut_and_anything_behind_is_refused() {
    let der = pier();
    for end in 0..der.len() {
        assert!(Certificate::parse(&der[..end], &Limits::USUAL).is_err(), "cut at {end}");
    }
    let longer = [der, vec![0]].concat();
    assert_eq!(Certificate::parse(&longer, &Limits::USUAL).unwrap_err().fault, Fault::Malformed);
}

#[test]
fn lengths_that_lie_are_refused_and_large_ones_not_looked_at() {
    let der = pier();
    for at in 1..40 {
        let mut bytes = der.clone();
        bytes[at] = 0xff;
        let _ = Certificate::parse(&bytes, &Limits::USUAL);
    }
    let tight = Limits { certificate: 100, ..Limits::USUAL };
    let error = Certificate::parse(&der, &tight).unwrap_err();
    assert_eq!(error.fault, Fault::Limit { said: der.len() as u64, limit: 100 });
}

#[test]
fn a_certificate_survives_its_pem_form() {
    let der = pier();
    let text = pem::encode(pem::CERTIFICATE, &der).unwrap();
    assert!(text.lines().all(|line| line.len() <= 64));
    assert_eq!(pem::blocks(text.replace('\n', "\r\n").as_bytes(), pem::CERTIFICATE, &Limits::USUAL), [der]);
    assert!(pem::blocks(text.as_bytes(), "PRIVATE KEY", &Limits::USUAL).is_empty());
}
