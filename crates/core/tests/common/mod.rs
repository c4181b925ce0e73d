//! Signing in memory, for tests of the core alone.

#![allow(dead_code, reason = "every test file uses a part of it")]

use std::sync::Mutex;
use std::sync::atomic::AtomicBool;

use ninekeys_core::android::{Identity, Opened, Package, Signatures, Signing, verify};
use ninekeys_core::certificate::{Subject, self_signed};
use ninekeys_core::env::{Env, Silent};
use ninekeys_core::keys::{Algorithm, KeyMaker, PrivateKey, SystemKeys};
use ninekeys_core::model::Destination;
use ninekeys_core::stream::Sink;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::signing_block;

/// The time of these tests.
pub const NOW: &str = "2031-05-19T12:00:00Z";

/// Bytes that are written by position.
#[derive(Default)]
pub struct Memory(Mutex<Vec<u8>>);

impl Memory {
    /// What was written.
    pub fn bytes(&self) -> Vec<u8> {
        self.0.lock().unwrap().clone()
    }
}

impl Sink for Memory {
    fn write_at(&self, at: u64, bytes: &[u8]) -> std::io::Result<()> {
        let mut all = self.0.lock().unwrap();
        let end = at as usize + bytes.len();
        if all.len() < end {
            all.resize(end, 0);
        }
        all[at as usize..end].copy_from_slice(bytes);
        Ok(())
    }
}

/// Runs something at a time.
pub fn with_env<R>(now: &str, run: impl FnOnce(&Env<'_>) -> R) -> R {
    let stop = AtomicBool::new(false);
    run(&Env {
        now: now.parse().unwrap(),
        keys: &SystemKeys,
        progress: &Silent,
        scratch: &ninekeys_core::stream::InMemory,
        stop: &stop,
    })
}

/// A key and its certificate.
pub fn identity(algorithm: Algorithm, made: &str, years: u16) -> (PrivateKey, Vec<u8>) {
    let key = SystemKeys.make(algorithm).unwrap().lend(|der| PrivateKey::from_pkcs8(der)).unwrap();
    let subject = Subject { common_name: Some("Ferries".into()), ..Subject::default() };
    let certificate = with_env(made, |env| self_signed(&key, &subject, years, env)).unwrap();
    (key, certificate)
}

/// Signs an archive in memory.
pub fn sign(input: &[u8], key: &PrivateKey, certificate: &[u8]) -> Vec<u8> {
    with_env(NOW, |env| {
        let allowed = Opened::open(&input, &Limits::USUAL).unwrap().allow(Destination::Development).unwrap();
        let identity = Identity { signer: key, certificate, alias: "ferries" };
        let laid_out = allowed.lay_out(Signing::usual(identity), env).unwrap();
        let memory = Memory(Mutex::new(Vec::new()));
        let signed = laid_out.digest(&memory, env).unwrap().sign().unwrap();
        let mut bytes = memory.0.into_inner().unwrap();
        assert_eq!(bytes.len() as u64, signed.at);
        bytes.extend_from_slice(&signed.tail);
        bytes
    })
}

/// Verifies an archive in memory.
pub fn verified(bytes: &[u8]) -> (Package, Signatures) {
    let package = Package::read(&bytes, &Limits::USUAL).unwrap();
    let signatures = with_env(NOW, |env| verify(&bytes, &package, &Limits::USUAL, env)).unwrap();
    (package, signatures)
}

/// The same package with another signing block: entries and directory stay, the end record follows.
pub fn with_block(signed: &[u8], pairs: &[(u32, Vec<u8>)]) -> Vec<u8> {
    let package = Package::read(&signed, &Limits::USUAL).unwrap();
    let archive = package.archive;
    let body = archive.body_end as usize;
    let directory = &signed[archive.directory.start as usize..archive.directory.end as usize];
    let mut end = signed[archive.end_record.start as usize..].to_vec();
    let block = signing_block::write(pairs);
    end[16..20].copy_from_slice(&((body + block.len()) as u32).to_le_bytes());
    [&signed[..body], &block, directory, &end].concat()
}

/// The value of the v2 pair of a signed package.
pub fn v2_value(signed: &[u8]) -> Vec<u8> {
    let package = Package::read(&signed, &Limits::USUAL).unwrap();
    package.block.unwrap().find(signing_block::V2).unwrap().to_vec()
}
