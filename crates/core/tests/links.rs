//! What an item needs, and what stops without it, over made-up inventories.

#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests fail by panicking")]

#[path = "common/made_up.rs"]
mod made_up;

use std::collections::BTreeMap;

use made_up::{id, identity, profile, time, written};
use ninekeys_core::links::{needs, stops};
use ninekeys_core::model::{Android, App, Destination, Inventory, Ios, Name, Project, State};
use serde_json::json;

fn project() -> Project {
    let android = Android {
        package: "example.crossing".into(),
        destinations: vec![Destination::Direct, Destination::Store],
        permissions: None,
        store_keys: None,
        stores: BTreeMap::new(),
    };
    let ios = Ios { bundle_id: "example.crossing".into(), ..Ios::default() };
    let app = App { title: "Crossing".into(), android: Some(android), ios: Some(ios), ..App::default() };
    Project { apps: [(Name::new("crossing").unwrap(), app)].into(), ..Project::default() }
}

/// What stops without something: app, destination, what, what is in between, from when on; each as it is written.
fn stop(inventory: &Inventory, name: &str) -> Vec<String> {
    let project = project();
    let told = stops(inventory, Some(&project), inventory.find(name).unwrap()).into_iter().map(|one| {
        let to = one.destination.map(|to| to.to_string()).unwrap_or_default();
        let from = one.from.map(|at| at.to_string()).unwrap_or_default();
        format!("{} {to} {:?} {} {from}", one.title, one.what, one.through.unwrap_or_default())
    });
    told.collect()
}

#[test]
fn an_identity_takes_its_profiles_with_it_on_the_day_that_comes_first() {
    let mut items = identity(1, "gp", &json!("distribution"), "2031-06-11T00:00:00Z");
    items.push(profile(9, "store-2032", "example.crossing", 3, "2032-01-01T00:00:00Z"));
    items.push(profile(10, "store-2031", "example.crossing", 3, "2031-05-30T00:00:00Z"));
    let mut gone = profile(11, "retired", "example.crossing", 3, "2032-01-01T00:00:00Z");
    gone.state = State::Retired;
    items.push(gone);
    let inventory = Inventory::new(items);
    let expected = [
        "Crossing store Builds store-2031 2031-05-30T00:00:00Z",
        "Crossing store Builds store-2032 2031-06-11T00:00:00Z",
    ];
    assert_eq!(stop(&inventory, "gp"), expected);
    assert_eq!(stop(&inventory, "gp/key"), expected, "so does its key");
    assert_eq!(stop(&inventory, "gp/certificate"), expected);
    assert_eq!(stop(&inventory, "store-2032"), ["Crossing store Builds  2032-01-01T00:00:00Z"]);
    let gp = inventory.find("gp").unwrap();
    let named: Vec<(String, Option<_>)> =
        needs(&inventory, gp).into_iter().map(|need| (need.name, need.not_after)).collect();
    let end = time("2031-06-11T00:00:00Z");
    assert_eq!(named, [("gp/certificate".into(), Some(end)), ("gp/key".into(), None)]);
}

#[test]
fn a_push_identity_stops_notifications_and_a_device_its_builds() {
    let push = json!({"push": "production"});
    let mut items = identity(1, "push", &push, "2031-06-11T00:00:00Z");
    items.push(written(7, "bridge", &json!({"kind": "device", "identifier": "00-A", "title": "Bridge"})));
    let mut devices = profile(9, "devices-2031", "example.crossing", 99, "2031-08-01T00:00:00Z");
    if let ninekeys_core::model::Facts::Profile(facts) = &mut devices.facts {
        facts.destination = Destination::Devices;
        facts.devices = vec![id(7)];
    }
    items.push(devices);
    let inventory = Inventory::new(items);
    assert_eq!(stop(&inventory, "push"), ["Crossing  Notifications  2031-06-11T00:00:00Z"]);
    assert_eq!(stop(&inventory, "bridge"), ["Crossing devices Device devices-2031 2031-08-01T00:00:00Z"]);
}

#[test]
fn a_signing_key_stops_updates_wherever_they_go_and_an_upload_key_uploads() {
    let key = |fingerprint: &str| json!({"kind": "key", "algorithm": "RSA 3072", "public_key": "00", "fingerprint": fingerprint});
    let certificate = |number: u8| {
        json!({"kind": "certificate", "key": id(number), "der": "00", "fingerprint": "aa", "subject": "CN=a",
            "issuer": "CN=a", "serial": "01", "not_before": "2030-05-19T12:00:00Z",
            "not_after": "2059-01-01T00:00:00Z"})
    };
    let entry = |alias: &str, role: &str, number: u8| {
        json!({"alias": alias, "role": role, "key": id(number), "certificate": id(number + 1),
            "uses": [{"app": "crossing", "role": role}]})
    };
    let store = json!({"kind": "keystore", "weak_password": false, "foreign_password": false,
        "entries": [entry("s", "signing", 1), entry("u", "upload", 3)]});
    let inventory = Inventory::new([
        written(1, "keys/s", &key("01")),
        written(2, "keys/s/certificate", &certificate(1)),
        written(3, "keys/u", &key("02")),
        written(4, "keys/u/certificate", &certificate(3)),
        written(5, "keys", &store),
    ]);
    let end = "2059-01-01T00:00:00Z";
    let updates = [format!("Crossing store Updates  {end}"), format!("Crossing direct Updates  {end}")];
    let upload = format!("Crossing store Uploads  {end}");
    assert_eq!(stop(&inventory, "keys/s"), updates, "one key of a keystore takes what that key is for");
    assert_eq!(stop(&inventory, "keys/u"), [upload.as_str()]);
    let [first, second] = updates;
    assert_eq!(stop(&inventory, "keys"), [first, upload, second]);
}
