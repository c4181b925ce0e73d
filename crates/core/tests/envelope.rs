//! Envelopes opened by a program that is not ours.

#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    clippy::print_stderr,
    reason = "tests fail by panicking"
)]

use std::process::Command;
use std::sync::atomic::AtomicBool;

use ninekeys_core::env::{Env, Silent};
use ninekeys_core::envelope::close;
use ninekeys_core::keys::{Algorithm, KeyMaker, PrivateKey, Signer, SystemKeys};
use ninekeys_formats::secret::Secret;

#[test]
fn openssl_opens_an_envelope_with_the_key_that_it_is_for() {
    if Command::new("openssl").arg("version").output().is_err() {
        return eprintln!("SKIPPED: there is no `openssl` on this machine");
    }
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name);
    for algorithm in [Algorithm::P256, Algorithm::P384] {
        let secret = SystemKeys.make(algorithm).unwrap();
        let key = secret.lend(|der| PrivateKey::from_pkcs8(der)).unwrap();
        let stop = AtomicBool::new(false);
        let now = "2031-05-19T12:00:00Z".parse().unwrap();
        let env = Env {
            now,
            keys: &SystemKeys,
            progress: &Silent,
            scratch: &ninekeys_core::stream::InMemory,
            stop: &stop,
        };
        let envelope = close(key.public(), &Secret::new(b"a compartment's key".to_vec()), &env).unwrap();
        std::fs::write(path("envelope"), &envelope).unwrap();
        secret.lend(|der| std::fs::write(path("key"), der)).unwrap();
        let output = Command::new("openssl")
            .args(["cms", "-decrypt", "-inform", "DER", "-keyform", "DER", "-inkey"])
            .arg(path("key"))
            .arg("-in")
            .arg(path("envelope"))
            .output()
            .unwrap();
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        assert_eq!(output.stdout, b"a compartment's key");
    }
}
