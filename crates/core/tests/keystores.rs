//! Keystores that other programs wrote, opened; ours, written and opened again; and every way of being wrong.

#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests fail by panicking")]

mod common;

use common::{identity, with_env};
use ninekeys_core::keys::{Algorithm, KeyMaker, PrivateKey, Signer, SystemKeys};
use ninekeys_core::keystore::{Format, KeystoreError, OpenStore, Outgoing, open, write_pkcs12};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::secret::{Secret, SecretText};

fn sample(name: &str) -> Vec<u8> {
    std::fs::read(format!("{}/../../testkit/samples/{name}", env!("CARGO_MANIFEST_DIR"))).unwrap()
}

fn secret(text: &str) -> SecretText {
    Secret::new(text.into())
}

fn opened(bytes: &[u8], password: &str) -> Result<OpenStore, KeystoreError> {
    open(bytes, &secret(password), &Limits::USUAL)
}

fn key_fingerprint(store: &OpenStore, index: usize, password: &str) -> String {
    let key = store.keys[index].unlock(&secret(password), &Limits::USUAL).unwrap();
    let private = key.secret.lend(|der| PrivateKey::from_pkcs8(der)).unwrap();
    assert_eq!(private.public().as_der(), key.certificate.public_key);
    private.public().fingerprint()
}

/// A keystore of ours with these keys.
fn written(aliases: &[&str], password: &str) -> Result<Vec<u8>, KeystoreError> {
    let secrets: Vec<_> = aliases
        .iter()
        .map(|_| {
            let secret = SystemKeys.make(Algorithm::P256).unwrap();
            let key = secret.lend(|der| PrivateKey::from_pkcs8(der)).unwrap();
            let subject = ninekeys_core::certificate::Subject {
                common_name: Some("Ferries".into()),
                ..Default::default()
            };
            let certificate = with_env(common::NOW, |env| {
                ninekeys_core::certificate::self_signed(&key, &subject, 30, env).unwrap()
            });
            (secret, certificate)
        })
        .collect();
    let keys: Vec<Outgoing<'_>> = aliases
        .iter()
        .zip(&secrets)
        .map(|(alias, (secret, certificate))| Outgoing { alias, secret, certificate, chain: &[] })
        .collect();
    with_env(common::NOW, |env| write_pkcs12(&keys, &secret_of(password), env))
}

fn secret_of(text: &str) -> SecretText {
    secret(text)
}

#[test]
fn a_jks_of_the_java_runtime_has_a_password_for_each_key() {
    let store = opened(&sample("ferries.jks"), "store-pass-1").unwrap();
    assert_eq!(store.format, Format::Jks);
    let aliases: Vec<&str> = store.keys.iter().map(|key| key.alias.as_str()).collect();
    assert_eq!(aliases, ["crew", "harbour"]);
    key_fingerprint(&store, 0, "crew-key-pass");
    let harbour = key_fingerprint(&store, 1, "harbour-key-pass");
    let wrong = store.keys[0].unlock(&secret("store-pass-1"), &Limits::USUAL).unwrap_err();
    assert_eq!(wrong, KeystoreError::WrongKeyPassword("crew".into()));
    // the same key under another name, in another format
    let legacy = opened(&sample("harbour-legacy.p12"), "legacy-pass-1").unwrap();
    assert_eq!(legacy.keys[0].alias, "Harbour Release");
    assert_eq!(legacy.encryption, "3DES, RC2 with 40 bits");
    assert_eq!(key_fingerprint(&legacy, 0, "legacy-pass-1"), harbour);
    let modern = opened(&sample("kiosk-modern.p12"), "modern-pass-1").unwrap();
    assert_eq!((modern.encryption.as_str(), modern.keys.len()), ("AES-256", 1));
    key_fingerprint(&modern, 0, "modern-pass-1");
}

#[test]
fn a_wrong_password_is_told_from_a_damaged_file() {
    for (name, right) in [
        ("ferries.jks", "store-pass-1"),
        ("harbour-legacy.p12", "legacy-pass-1"),
        ("kiosk-modern.p12", "modern-pass-1"),
    ] {
        let good = sample(name);
        assert_eq!(opened(&good, "something else").unwrap_err(), KeystoreError::WrongStorePassword, "{name}");
        assert!(opened(&good, "").is_err());
        assert!(matches!(opened(&good[..good.len() / 2], right), Err(KeystoreError::Damaged(_))), "{name}");
        assert!(matches!(opened(&good[..9], right), Err(KeystoreError::Damaged(_))), "{name}");
    }
    // one byte in the content, with the right password
    for (name, right, at) in [
        ("harbour-legacy.p12", "legacy-pass-1", 900),
        ("harbour-legacy.p12", "legacy-pass-1", 2_500),
        ("kiosk-modern.p12", "modern-pass-1", 300),
    ] {
        let mut bytes = sample(name);
        bytes[at] ^= 1;
        assert_eq!(opened(&bytes, right).unwrap_err(), KeystoreError::Changed, "{name}, byte {at}");
    }
    let mut bytes = sample("ferries.jks");
    let certificate = bytes.windows(5).rposition(|window| window == b"X.509").unwrap();
    bytes[certificate + 120] ^= 1;
    assert!(
        matches!(opened(&bytes, "store-pass-1"), Err(KeystoreError::CertificateChanged(_))),
        "{:?}",
        opened(&bytes, "store-pass-1")
    );
}

#[test]
fn what_is_written_is_opened_again_with_every_key_and_alias() {
    let bytes = written(&["crossing", "Überfahrt 2"], "brisk-lantern").unwrap();
    let store = opened(&bytes, "brisk-lantern").unwrap();
    let aliases: Vec<&str> = store.keys.iter().map(|key| key.alias.as_str()).collect();
    assert_eq!(aliases, ["crossing", "Überfahrt 2"]);
    let (one, two) =
        (key_fingerprint(&store, 0, "brisk-lantern"), key_fingerprint(&store, 1, "brisk-lantern"));
    assert_ne!(one, two);
    assert_eq!(opened(&bytes, "brisk-lanterm").unwrap_err(), KeystoreError::WrongStorePassword);
    for at in (0..bytes.len()).step_by(37) {
        let mut changed = bytes.clone();
        changed[at] ^= 4;
        assert!(opened(&changed, "brisk-lantern").is_err(), "byte {at}");
    }
    assert_eq!(written(&["a"], "schlüssel").unwrap_err(), KeystoreError::NotAscii);
    let alike = KeystoreError::AliasesAlike("pier".into(), "PIER".into());
    assert_eq!(written(&["pier", "PIER"], "brisk-lantern").unwrap_err(), alike);
}

#[test]
fn somebody_elses_certificate_and_none_at_all_are_named() {
    let (_, theirs) = identity(Algorithm::P256, common::NOW, 30);
    let secret_key = SystemKeys.make(Algorithm::P256).unwrap();
    let keys = [Outgoing { alias: "pier", secret: &secret_key, certificate: &theirs, chain: &[] }];
    let bytes = with_env(common::NOW, |env| write_pkcs12(&keys, &secret("brisk-lantern"), env)).unwrap();
    let store = opened(&bytes, "brisk-lantern").unwrap();
    let error = store.keys[0].unlock(&secret("brisk-lantern"), &Limits::USUAL).unwrap_err();
    assert_eq!(error, KeystoreError::NotItsCertificate("pier".into()));
    let keys = [Outgoing { alias: "pier", secret: &secret_key, certificate: b"\x30\x03abc", chain: &[] }];
    let bytes = with_env(common::NOW, |env| write_pkcs12(&keys, &secret("brisk-lantern"), env)).unwrap();
    let store = opened(&bytes, "brisk-lantern").unwrap();
    let error = store.keys[0].unlock(&secret("brisk-lantern"), &Limits::USUAL).unwrap_err();
    assert!(matches!(error, KeystoreError::Certificate(..)), "{error:?}");
}

#[test]
fn absurd_counts_are_refused_before_any_work() {
    let bytes = written(&["pier"], "brisk-lantern").unwrap();
    // 100,000 as the MAC's count, at the very end: three bytes become as large as three bytes go
    let at = bytes.len() - 3;
    assert_eq!(bytes[at..], [0x01, 0x86, 0xa0]);
    let mut changed = bytes.clone();
    changed[at..].copy_from_slice(&[0x7f, 0xff, 0xff]);
    assert_eq!(opened(&changed, "brisk-lantern").unwrap_err(), KeystoreError::TooCostly(0x7f_ffff));
    let mut none = bytes;
    none[at..].copy_from_slice(&[0, 0, 0]);
    assert!(opened(&none, "brisk-lantern").is_err());
}

#[test]
fn what_is_no_keystore_says_so() {
    assert_eq!(opened(b"PK\x03\x04", "x").unwrap_err(), KeystoreError::Unknown);
    assert_eq!(opened(&0xcece_ceceu32.to_be_bytes(), "x").unwrap_err(), KeystoreError::Jceks);
    assert_eq!(opened(b"", "x").unwrap_err(), KeystoreError::Unknown);
}
