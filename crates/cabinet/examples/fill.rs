//! Makes a cabinet with as many devices as are wanted, to measure commands on: `fill FILE COUNT`, passphrase `fill`.

#![allow(
    clippy::unwrap_used,
    clippy::panic,
    clippy::disallowed_methods,
    reason = "a tool for measuring, which fails by panicking"
)]

use std::path::Path;
use std::sync::atomic::AtomicBool;

use ninekeys_cabinet::{Cabinet, CabinetError, Change, Forgetful, NewItem, NewMember};
use ninekeys_core::env::{Env, Silent};
use ninekeys_core::keys::SystemKeys;
use ninekeys_core::model::{DeviceFacts, Facts};
use ninekeys_formats::secret::Secret;

static STOP: AtomicBool = AtomicBool::new(false);

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let [file, count] = arguments.as_slice() else { panic!("fill FILE COUNT") };
    let count: usize = count.parse().unwrap();
    let env = Env {
        now: jiff::Timestamp::now(),
        keys: &SystemKeys,
        progress: &Silent,
        scratch: &ninekeys_core::stream::InMemory,
        stop: &STOP,
    };
    let passphrase = Secret::new("fill".to_owned());
    let member = NewMember::Passphrase { label: "fill".into(), passphrase, work_factor: 16 };
    let (mut cabinet, _) = Cabinet::create(Path::new(file), &[member], &Forgetful, &env).unwrap();
    for first in (0..count).step_by(1_000) {
        let fill = |change: &mut Change<'_>| {
            for number in first..count.min(first + 1_000) {
                let name = format!("device-{number:06}");
                let facts = DeviceFacts { identifier: name.clone(), title: name.clone() };
                change.put(NewItem::new(name, Facts::Device(facts), None))?;
            }
            Ok::<(), CabinetError>(())
        };
        cabinet.change("fill", &env, fill).unwrap();
    }
}
