//! Opening a cabinet of 100,000 items for its facts, beside a yardstick in the same run: reading its file.
//! `cargo bench -p ninekeys-cabinet`

#![allow(
    missing_docs,
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a benchmark fails by panicking and looks at files itself"
)]

use std::sync::OnceLock;
use std::sync::atomic::AtomicBool;

use divan::Bencher;
use ninekeys_cabinet::{Cabinet, CabinetError, Change, Credential, Forgetful, NewItem, NewMember, Trust};
use ninekeys_core::env::{Env, Silent};
use ninekeys_core::keys::SystemKeys;
use ninekeys_core::model::{DeviceFacts, Facts};
use ninekeys_formats::secret::Secret;
use tempfile::TempDir;

fn main() {
    divan::main();
}

static STOP: AtomicBool = AtomicBool::new(false);

fn env() -> Env<'static> {
    Env {
        now: jiff::Timestamp::UNIX_EPOCH,
        keys: &SystemKeys,
        progress: &Silent,
        scratch: &ninekeys_core::stream::InMemory,
        stop: &STOP,
    }
}

fn member(words: &str) -> NewMember {
    NewMember::Passphrase { label: "bench".into(), passphrase: Secret::new(words.into()), work_factor: 4 }
}

/// A cabinet with so many items, added a thousand at a time; with a secret each, or without.
fn filled(items: usize, secret: bool) -> (TempDir, Cabinet<'static>) {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("cabinet");
    let (mut cabinet, _) = Cabinet::create(&path, &[member("bench")], &Forgetful, &env()).unwrap();
    for first in (0..items).step_by(1_000) {
        let fill = |change: &mut Change<'_>| {
            for number in first..items.min(first + 1_000) {
                let name = format!("device-{number:06}");
                let facts = DeviceFacts { identifier: name.clone(), title: name.clone() };
                let secret = secret.then(|| Secret::new(vec![7; 1_200]));
                change.put(NewItem::new(name, Facts::Device(facts), secret))?;
            }
            Ok::<(), CabinetError>(())
        };
        cabinet.change("fill", &env(), fill).unwrap();
    }
    (folder, cabinet)
}

/// A cabinet of 100,000 devices, made once.
fn folder() -> &'static TempDir {
    static MADE: OnceLock<TempDir> = OnceLock::new();
    MADE.get_or_init(|| filled(100_000, false).0)
}

fn open(folder: &TempDir) -> usize {
    let trust = Trust { pin: None, memory: &Forgetful };
    let cabinet = Cabinet::open(&folder.path().join("cabinet"), trust).unwrap();
    cabinet.inventory().unwrap().iter().count()
}

#[divan::bench(sample_count = 10)]
fn yardstick_reading_the_file(bencher: Bencher<'_, '_>) {
    let path = folder().path().join("cabinet");
    bencher.bench(|| std::fs::read(&path).unwrap().len());
}

#[divan::bench(sample_count = 10)]
fn opening_and_proving_100_000(bencher: Bencher<'_, '_>) {
    let folder = folder();
    bencher.bench(|| open(folder));
}

#[divan::bench(sample_count = 20)]
fn opening_and_proving_1_000(bencher: Bencher<'_, '_>) {
    let (folder, _) = filled(1_000, false);
    bencher.bench(|| open(&folder));
}

#[divan::bench(sample_count = 3)]
fn a_new_passphrase_over_10_000_secrets(bencher: Bencher<'_, '_>) {
    let (folder, mut cabinet) = filled(10_000, true);
    bencher.bench_local(|| {
        let old = cabinet.unlocked_by().unwrap().id;
        let new = member("another");
        cabinet.change("passphrase", &env(), |change| change.replace_member(&old, &new)).unwrap();
        let words = Credential::Passphrase(Secret::new("another".into()));
        cabinet.unlock(&words).unwrap();
    });
    drop(folder);
}
