//! Makes a cabinet with as many items as are wanted, to measure commands on: `fill FILE COUNT` with devices, and `fill FILE COUNT
//! mixed` with all kinds; the passphrase is `fill`.

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
    let (file, count, mixed) = match arguments.as_slice() {
        [file, count] => (file, count, false),
        [file, count, word] if word == "mixed" => (file, count, true),
        _ => panic!("fill FILE COUNT [mixed]"),
    };
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
                if mixed && number.is_multiple_of(10) {
                    of_all_kinds(change, number)?;
                } else if !mixed || number % 10 >= 8 {
                    let name = format!("device-{number:06}");
                    let facts = DeviceFacts { identifier: name.clone(), title: name.clone() };
                    change.put(NewItem::new(name, Facts::Device(facts), None))?;
                }
            }
            Ok::<(), CabinetError>(())
        };
        cabinet.change("fill", &env, fill).unwrap();
    }
}

/// Facts as they are written.
fn facts(value: serde_json::Value) -> Facts {
    // the kind stands first
    let mut rest = value;
    let kind = rest.as_object_mut().unwrap().remove("kind").unwrap();
    let text = rest.to_string();
    serde_json::from_str(&format!("{{\"kind\":{kind},{}", text.strip_prefix('{').unwrap())).unwrap()
}

/// Eight items: a key with its certificate in a keystore and in an identity, a profile of it, an API key, a release, a date.
fn of_all_kinds(change: &mut Change<'_>, number: usize) -> Result<(), CabinetError> {
    use serde_json::json;
    let digits = format!("{number:064x}");
    let (day, end) = ("2030-01-01T00:00:00Z", "2031-06-01T00:00:00Z");
    let mut put = |name: String, value: serde_json::Value, secret: bool| {
        let secret = secret.then(|| Secret::new(vec![7; 138]));
        change.put(NewItem::new(name, facts(value), secret))
    };
    let key = put(
        format!("store-{number:06}/key"),
        json!({"kind": "key", "algorithm": "RSA 2048", "public_key": "00".repeat(294), "fingerprint": digits}),
        true,
    )?;
    let certificate = put(
        format!("store-{number:06}/key/certificate"),
        json!({"kind": "certificate", "key": key, "der": "00".repeat(800), "fingerprint": digits,
            "subject": "CN=Gannet Point Ferries,C=GB", "issuer": "CN=Gannet Point Ferries,C=GB", "serial": "01",
            "not_before": day, "not_after": end}),
        false,
    )?;
    put(
        format!("store-{number:06}"),
        json!({"kind": "keystore", "weak_password": false, "entries": [{"alias": "key", "role": "signing", "key": key,
            "certificate": certificate, "uses": [{"app": "crossing", "role": "signing"}]}]}),
        true,
    )?;
    put(
        format!("identity-{number:06}"),
        json!({"kind": "identity", "purpose": "distribution", "key": key, "certificate": certificate,
            "team": "GPFERRY009", "apps": []}),
        false,
    )?;
    put(
        format!("profile-{number:06}"),
        json!({"kind": "profile", "uuid": digits, "title": "Crossing store", "destination": "store",
            "app_id": "GPFERRY009.example.gannetpoint.crossing", "apps": ["crossing"], "team": "GPFERRY009",
            "foreign_certificates": [], "certificates": [certificate], "devices": [], "not_before": day,
            "not_after": end, "fingerprint": digits}),
        true,
    )?;
    put(
        format!("key-{number:06}"),
        json!({"kind": "api-key", "service": "store", "key_id": digits, "issuer": "I", "role": "developer",
            "key": key, "apps": []}),
        false,
    )?;
    put(
        format!("release-{number:06}"),
        json!({"kind": "release", "app": "crossing", "platform": "ios", "id": "example.gannetpoint.crossing",
            "version": "2.4.0", "number": number.to_string(), "destination": "store", "file": "crossing.ipa",
            "size": 1, "content": digits, "signed_with": "identity", "signer": digits, "certificate": certificate,
            "profiles": [], "schemes": [], "signed": day, "by": "fill", "sha256": digits}),
        false,
    )?;
    put(
        format!("date-{number:06}"),
        json!({"kind": "date", "title": "Membership", "on": end, "every_months": 12}),
        false,
    )?;
    Ok(())
}
