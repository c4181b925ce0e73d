//! Bytes per second of what costs time, beside a yardstick in the same run: SHA-256 of the same bytes in one
//! call on one core. `cargo bench -p ninekeys-core`

#![allow(missing_docs, clippy::unwrap_used, reason = "a benchmark fails by panicking")]

use std::sync::atomic::AtomicBool;

use divan::Bencher;
use divan::counter::BytesCount;
use ninekeys_core::android::{Hash, Section, chunked};
use ninekeys_core::android::{Identity, Opened, Package, Signing};
use ninekeys_core::demo::CROSSING;
use ninekeys_core::digest::sha256;
use ninekeys_core::env::{Env, Silent};
use ninekeys_core::keys::{Algorithm, KeyMaker, PrivateKey, SignatureKind, Signer, SystemKeys};
use ninekeys_core::model::Destination;
use ninekeys_formats::limits::Limits;

fn main() {
    divan::main();
}

fn bytes() -> Vec<u8> {
    (0..64u32 << 20).map(|at| (at.wrapping_mul(2_654_435_761) >> 24) as u8).collect()
}

#[divan::bench(sample_count = 10)]
fn yardstick_sha256_on_one_core(bencher: Bencher<'_, '_>) {
    let bytes = bytes();
    bencher.counter(BytesCount::of_slice(&bytes)).bench(|| sha256(&bytes));
}

#[divan::bench(sample_count = 10, args = [Hash::Sha256, Hash::Sha512])]
fn content_digest_on_all_cores(bencher: Bencher<'_, '_>, hash: Hash) {
    let bytes = bytes();
    let stop = AtomicBool::new(false);
    let env = Env {
        now: jiff::Timestamp::UNIX_EPOCH,
        keys: &SystemKeys,
        progress: &Silent,
        scratch: &ninekeys_core::stream::InMemory,
        stop: &stop,
    };
    let range = 0..bytes.len() as u64;
    bencher.counter(BytesCount::of_slice(&bytes)).bench(|| {
        let sections = [Section { source: &bytes, range: range.clone(), copy_to: None }];
        chunked("bench", &[hash], &sections, &env).unwrap()
    });
}

#[divan::bench]
fn reading_a_package(bencher: Bencher<'_, '_>) {
    let apk = CROSSING.apk();
    bencher.bench(|| Package::read(&apk, &Limits::USUAL).unwrap());
}

#[divan::bench]
fn laying_out_a_package(bencher: Bencher<'_, '_>) {
    let apk = CROSSING.apk();
    let key = SystemKeys.make(Algorithm::P256).unwrap().lend(|der| PrivateKey::from_pkcs8(der)).unwrap();
    let stop = AtomicBool::new(false);
    let env = Env {
        now: jiff::Timestamp::UNIX_EPOCH,
        keys: &SystemKeys,
        progress: &Silent,
        scratch: &ninekeys_core::stream::InMemory,
        stop: &stop,
    };
    bencher.bench(|| {
        let allowed = Opened::open(&apk, &Limits::USUAL).unwrap().allow(Destination::Direct).unwrap();
        let identity = Identity { signer: &key, certificate: &[], alias: "bench" };
        allowed.lay_out(Signing::usual(identity), &env).unwrap().realigned()
    });
}

#[divan::bench(args = [Algorithm::Rsa3072, Algorithm::P256])]
fn one_signature(bencher: Bencher<'_, '_>, algorithm: Algorithm) {
    let key = SystemKeys.make(algorithm).unwrap().lend(|der| PrivateKey::from_pkcs8(der)).unwrap();
    let kind =
        if algorithm == Algorithm::P256 { SignatureKind::EcdsaSha256 } else { SignatureKind::RsaSha256 };
    bencher.bench(|| key.sign(kind, b"signed data").unwrap());
}
