//! Made-up items of a cabinet.

#![allow(dead_code, reason = "every test file uses a part of it")]

use jiff::Timestamp;
use ninekeys_core::model::{Facts, Item, ItemId, State};
use serde_json::{Value, json};

pub fn time(text: &str) -> Timestamp {
    text.parse().unwrap()
}

pub fn id(number: u8) -> ItemId {
    ItemId::from_random([number; 16])
}

/// An item that was made by the first row of history.
pub fn item(number: u8, name: &str, facts: Facts) -> Item {
    Item {
        id: id(number),
        name: name.into(),
        state: State::Active,
        generation: 1,
        replaces: None,
        revision: 1,
        created: time("2031-01-01T00:00:00Z"),
        made: 1,
        seq: 1,
        facts,
    }
}

/// The same with facts as they are written.
pub fn written(number: u8, name: &str, facts: &Value) -> Item {
    // facts say their kind first
    let mut rest = facts.clone();
    let kind = rest.as_object_mut().unwrap().remove("kind").unwrap();
    let facts = format!("{{\"kind\":{kind},{}", &rest.to_string()[1..]);
    item(number, name, serde_json::from_str(&facts).unwrap())
}

/// A whole identity with its key and certificate, which ends then.
pub fn identity(number: u8, name: &str, purpose: &Value, ends: &str) -> Vec<Item> {
    let key = json!({"kind": "key", "algorithm": "RSA 2048", "public_key": "00", "fingerprint": "aa"});
    let certificate = json!({"kind": "certificate", "key": id(number + 1), "der": "00",
        "fingerprint": format!("{number:064x}"), "subject": "CN=a", "issuer": "CN=b", "serial": "01",
        "not_before": "2030-05-19T12:00:00Z", "not_after": ends});
    let apps: Vec<&str> = if purpose.is_object() { vec!["crossing"] } else { Vec::new() };
    let facts = json!({"kind": "identity", "purpose": purpose, "key": id(number + 1),
        "certificate": id(number + 2), "team": "GPFERRY009", "apps": apps});
    vec![
        written(number, name, &facts),
        written(number + 1, &format!("{name}/key"), &key),
        written(number + 2, &format!("{name}/certificate"), &certificate),
    ]
}

/// A profile for a bundle id that names the certificate with that number.
pub fn profile(number: u8, name: &str, bundle_id: &str, certificate: u8, ends: &str) -> Item {
    let facts = json!({"kind": "profile", "uuid": format!("u{number}"), "title": name, "destination": "store",
        "app_id": format!("GPFERRY009.{bundle_id}"), "apps": ["crossing"], "team": "GPFERRY009",
        "foreign_certificates": [], "certificates": [id(certificate)], "devices": [],
        "not_before": "2030-05-19T12:00:00Z", "not_after": ends, "fingerprint": format!("{number:064x}")});
    written(number, name, &facts)
}
