//! Requests for certificates, and what certificates are good for, with `openssl` as the other side.

#![allow(
    clippy::unwrap_used,
    clippy::panic,
    clippy::indexing_slicing,
    clippy::print_stderr,
    clippy::disallowed_methods,
    reason = "tests fail by panicking"
)]

mod common;

use std::path::Path;
use std::process::Command;

use common::identity;
use ninekeys_core::certificate::Subject;
use ninekeys_core::keys::{Algorithm, Signer};
use ninekeys_core::request::{holds, make};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::pem;
use ninekeys_formats::request::{LABEL, Request};
use ninekeys_formats::x509::{Certificate, name_values};

fn openssl(folder: &Path, line: &str) -> Option<String> {
    let words: Vec<&str> = line.split(' ').collect();
    let output = Command::new("openssl").args(words).current_dir(folder).output();
    let Ok(output) = output else {
        eprintln!("skipped: there is no `openssl` on this machine");
        return None;
    };
    let said = String::from_utf8_lossy(&output.stdout) + String::from_utf8_lossy(&output.stderr);
    assert!(output.status.success(), "openssl {line}\n{said}");
    Some(said.into_owned())
}

fn subject() -> Subject {
    Subject {
        common_name: Some("Gannet Point".into()),
        organisation: Some("Ferries, Ltd.".into()),
        country: Some("GB".into()),
        ..Subject::default()
    }
}

#[test]
fn a_request_of_every_key_is_verified_by_us_and_by_openssl() {
    let folder = tempfile::tempdir().unwrap();
    for (name, algorithm) in Algorithm::ALL {
        let (key, _) = identity(algorithm, common::NOW, 30);
        let der = make(&key, &subject()).unwrap();
        let request = Request::parse(&der, &Limits::USUAL).unwrap();
        assert_eq!(request.subject, "CN=Gannet Point,O=Ferries\\, Ltd.,C=GB", "{name}");
        assert_eq!(request.public_key, key.public().as_der(), "{name}");
        assert_eq!(holds(&request), Some(true), "{name}");
        let mut other = request.clone();
        other.info[12] ^= 1;
        assert_eq!(holds(&other), Some(false), "{name}");
        std::fs::write(folder.path().join("r.pem"), pem::encode(LABEL, &der).unwrap()).unwrap();
        let Some(said) = openssl(folder.path(), "req -in r.pem -verify -noout -subject") else { return };
        assert!(said.contains("verify OK") && said.contains("Gannet Point"), "{name}: {said}");
    }
}

#[test]
fn a_request_of_another_program_is_read_with_what_it_asks_for() {
    let folder = tempfile::tempdir().unwrap();
    let line = "req -new -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout k.pem -out r.pem -subj /CN=Ferries/OU=GPFERRY009 \
                -addext extendedKeyUsage=codeSigning"
        .replace("                ", "");
    if openssl(folder.path(), &line).is_none() {
        return;
    }
    let text = std::fs::read(folder.path().join("r.pem")).unwrap();
    let der = pem::blocks(&text, LABEL, &Limits::USUAL).remove(0);
    let request = Request::parse(&der, &Limits::USUAL).unwrap();
    assert_eq!(holds(&request), Some(true));
    let purposes: Vec<String> =
        request.extensions.purposes().unwrap().iter().map(ToString::to_string).collect();
    assert_eq!(purposes, ["1.3.6.1.5.5.7.3.3"]);
    let unit = der::asn1::ObjectIdentifier::new_unwrap("2.5.4.11");
    assert_eq!(name_values(&request.subject_der, unit).unwrap(), ["GPFERRY009"]);
}

#[test]
fn the_extensions_of_a_certificate_say_what_it_is_good_for() {
    let folder = tempfile::tempdir().unwrap();
    let line = "req -x509 -newkey rsa:2048 -nodes -keyout k.pem -out c.pem -subj /CN=Root -days 30 \
                -addext keyUsage=critical,keyCertSign,cRLSign -addext extendedKeyUsage=codeSigning \
                -addext basicConstraints=critical,CA:TRUE,pathlen:1 \
                -addext authorityInfoAccess=caIssuers;URI:http://ca.example/root.der"
        .replace("                ", "");
    if openssl(folder.path(), &line).is_none() {
        return;
    }
    let text = std::fs::read(folder.path().join("c.pem")).unwrap();
    let der = pem::blocks(&text, pem::CERTIFICATE, &Limits::USUAL).remove(0);
    let extensions = Certificate::parse(&der, &Limits::USUAL).unwrap().extensions;
    let constraints = extensions.basic_constraints().unwrap().unwrap();
    assert_eq!((constraints.ca, constraints.path_len_constraint), (true, Some(1)));
    let usage = extensions.key_usage().unwrap().unwrap();
    assert!(usage.key_cert_sign() && usage.crl_sign() && !usage.digital_signature());
    assert_eq!(extensions.purposes().unwrap().len(), 1);
    assert_eq!(extensions.key_id().unwrap(), extensions.issuer_key_id().unwrap());
    assert_eq!(extensions.issuer_addresses().unwrap(), ["http://ca.example/root.der"]);
    assert!(extensions.iter().filter(|one| one.critical).count() == 2);
}
