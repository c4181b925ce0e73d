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
use ninekeys_cabinet::{Cabinet, CabinetError, Change, Forgetful, NewItem, NewMember, Trust};
use ninekeys_core::env::{Env, Silent};
use ninekeys_core::keys::SystemKeys;
use ninekeys_core::model::{DeviceFacts, Facts};
use ninekeys_formats::secret::Secret;
use tempfile::TempDir;

fn main() {
    divan::main();
}

/// A cabinet of 100,000 devices, made once.
fn folder() -> &'static TempDir {
    static MADE: OnceLock<TempDir> = OnceLock::new();
    MADE.get_or_init(|| {
        let folder = tempfile::tempdir().unwrap();
        let stop = AtomicBool::new(false);
        let now = jiff::Timestamp::UNIX_EPOCH;
        let env = Env { now, keys: &SystemKeys, progress: &Silent, stop: &stop };
        let passphrase = Secret::new("bench".to_owned());
        let member = NewMember::Passphrase { label: "bench".into(), passphrase, work_factor: 4 };
        let path = folder.path().join("cabinet");
        let (mut cabinet, _) = Cabinet::create(&path, &[member], &Forgetful, &env).unwrap();
        for first in (0..100_000).step_by(1_000) {
            let fill = |change: &mut Change<'_>| {
                for number in first..first + 1_000 {
                    let name = format!("device-{number:06}");
                    let facts = DeviceFacts { identifier: name.clone(), title: name.clone() };
                    change.put(NewItem::new(name, Facts::Device(facts), None))?;
                }
                Ok::<(), CabinetError>(())
            };
            cabinet.change("fill", &env, fill).unwrap();
        }
        folder
    })
}

#[divan::bench(sample_count = 10)]
fn yardstick_reading_the_file(bencher: Bencher<'_, '_>) {
    let path = folder().path().join("cabinet");
    bencher.bench(|| std::fs::read(&path).unwrap().len());
}

#[divan::bench(sample_count = 10)]
fn opening_for_the_facts(bencher: Bencher<'_, '_>) {
    let path = folder().path().join("cabinet");
    bencher.bench(|| {
        Cabinet::open(&path, Trust { pin: None, memory: &Forgetful })
            .unwrap()
            .inventory()
            .unwrap()
            .iter()
            .count()
    });
}
