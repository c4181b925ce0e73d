//! The stand-in held against `docs/portal.openapi.yaml`: every operation is called over HTTP, every answer that is described is
//! seen, and none that is not.

use std::collections::BTreeSet;
use std::io::{Read, Write};
use std::net::TcpStream;

use base64ct::{Base64, Encoding};
use serde_json::{Value, json};

use super::openssl;
use crate::PROGRAM;
use crate::portal::{Running, connected, import_key, start_with};
use testkit::TestEnv;

const METHODS: [&str; 5] = ["get", "post", "put", "patch", "delete"];

fn description() -> Value {
    let path = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/portal.openapi.yaml");
    serde_saphyr::from_str(&std::fs::read_to_string(path).unwrap()).unwrap()
}

/// What came back.
struct Answer {
    status: u16,
    kind: String,
    body: Vec<u8>,
}

impl Answer {
    fn json(&self) -> Value {
        serde_json::from_slice(&self.body).unwrap()
    }
}

/// Somebody who calls, and holds what comes back against the description.
struct Caller {
    host: String,
    description: Value,
    seen: BTreeSet<(String, String, String)>,
}

impl Caller {
    fn of(portal: &Running) -> Self {
        let host = portal.address.trim_start_matches("http://").to_owned();
        Caller { host, description: description(), seen: BTreeSet::new() }
    }

    /// What a reference leads to.
    fn resolved(&self, value: &Value) -> Value {
        match value["$ref"].as_str() {
            Some(path) => self.description.pointer(path.trim_start_matches('#')).unwrap().clone(),
            None => value.clone(),
        }
    }

    /// Whether something is what a schema of the description says.
    fn hold(&self, schema: &Value, value: &Value, what: &str) {
        let root = json!({
            "$schema": "https://json-schema.org/draft/2020-12/schema",
            "components": self.description["components"],
            "allOf": [schema],
        });
        let validator = jsonschema::validator_for(&root).unwrap();
        if let Err(error) = validator.validate(value) {
            panic!("{what}: {error} at {}: {value}", error.instance_path());
        }
    }

    fn send(&self, method: &str, path: &str, token: &str, kind: &str, body: &[u8]) -> Answer {
        let mut head = format!(
            "{} {path} HTTP/1.1\r\nhost: {}\r\nconnection: close\r\n",
            method.to_uppercase(),
            self.host
        );
        if !token.is_empty() {
            head += &format!("authorization: Bearer {token}\r\n");
        }
        if method != "get" {
            head += &format!("content-type: {kind}\r\ncontent-length: {}\r\n", body.len());
            let digest = Base64::encode_string(&ninekeys_core::digest::sha256(body));
            head += &format!("content-digest: sha-256=:{digest}:\r\n");
        }
        let mut stream = TcpStream::connect(&self.host).unwrap();
        stream.write_all(&[head.as_bytes(), b"\r\n", body].concat()).unwrap();
        let mut all = Vec::new();
        stream.read_to_end(&mut all).unwrap();
        let end = all.windows(4).position(|four| four == b"\r\n\r\n").unwrap();
        let head = String::from_utf8(all[..end].to_vec()).unwrap();
        let field = |name: &str| {
            let found = head.lines().find_map(|line| line.strip_prefix(&format!("{name}: ")));
            found.unwrap_or_default().to_owned()
        };
        let status = head.split(' ').nth(1).unwrap().parse().unwrap();
        Answer { status, kind: field("content-type"), body: all[end + 4..].to_vec() }
    }

    /// Calls an operation; `at` fills what stands for itself in the path.
    fn call(&mut self, (method, path): (&str, &str), at: &str, token: &str, body: &[u8]) -> Answer {
        let operation = self.description["paths"][path][method].clone();
        assert!(operation.is_object(), "{method} {path} is not described");
        let request = self.resolved(&operation["requestBody"]);
        let kind =
            request["content"].as_object().and_then(|all| all.keys().next().cloned()).unwrap_or_default();
        let mut real = path.to_owned();
        // each part that stands for itself, with blanks between
        for part in at.split(' ') {
            if let Some((before, rest)) = real.split_once('{') {
                real = format!("{before}{part}{}", rest.split_once('}').unwrap().1);
            }
        }
        let said = self.send(method, &real, token, &kind, body);
        let what = format!("{method} {real}: {}", said.status);
        let status = said.status.to_string();
        let failed = said.status == 429 || said.status >= 500;
        let key = if failed { "default" } else { status.as_str() };
        let described = self.resolved(&operation["responses"][key]);
        assert!(described.is_object(), "{what} is not described: {}", String::from_utf8_lossy(&said.body));
        let content = &described["content"][said.kind.as_str()];
        assert!(content.is_object(), "{what}: {} is not described", said.kind);
        if said.kind.contains("json") {
            self.hold(&content["schema"], &said.json(), &what);
        }
        if said.status < 300 && kind == "application/json" {
            let sent: Value = serde_json::from_slice(body).unwrap();
            self.hold(&request["content"][&kind]["schema"], &sent, &format!("what was sent to {what}"));
        }
        self.seen.insert((method.into(), path.into(), key.into()));
        said
    }

    /// Calls it and expects that status.
    fn expect(&mut self, status: u16, operation: (&str, &str), at: &str, token: &str, body: &[u8]) -> Answer {
        let said = self.call(operation, at, token, body);
        assert_eq!(said.status, status, "{operation:?} {at}: {}", String::from_utf8_lossy(&said.body));
        said
    }

    /// Refuses who has no token, and whose role is too small.
    fn refuses(&mut self, operation: (&str, &str), at: &str, small: &str, body: &[u8]) {
        self.expect(401, operation, at, "", body);
        if !small.is_empty() {
            self.expect(403, operation, at, small, body);
        }
    }
}

/// A request for a certificate that somebody else made, in Base64.
fn request(env: &TestEnv, name: &str, subject: &str) -> Vec<u8> {
    let done = std::process::Command::new("openssl")
        .args(["req", "-newkey", "rsa:2048", "-nodes", "-keyout"])
        .arg(env.path(&format!("{name}.key")))
        .args(["-outform", "DER", "-subj", subject, "-out"])
        .arg(env.path(&format!("{name}.der")))
        .output()
        .expect("openssl has to be there");
    assert!(done.status.success());
    assert!(openssl(env, &format!("base64 -A -in {name}.der -out {name}.b64")).0);
    env.read(&format!("{name}.b64"))
}

const CERTIFICATES: (&str, &str) = ("get", "/portal/v1/certificates");
const REVOKE: (&str, &str) = ("post", "/portal/v1/certificates/{id}/revocation");
const APP_IDS: &str = "/portal/v1/app-ids";
const CAPABILITIES: (&str, &str) = ("put", "/portal/v1/app-ids/{id}/capabilities");
const DEVICES: &str = "/portal/v1/devices";
const PROFILES: &str = "/portal/v1/profiles";
const API_KEYS: (&str, &str) = ("post", "/portal/v1/api-keys");
const PRIVATE_KEY: (&str, &str) = ("post", "/portal/v1/api-keys/{id}/private-key");
const ENROL: (&str, &str) = ("post", "/.well-known/est/{label}/simpleenroll");
const ENROL_AGAIN: (&str, &str) = ("post", "/.well-known/est/{label}/simplereenroll");

/// App ids and devices.
fn registers(caller: &mut Caller, owner: &str, reader: &str) {
    let ids = ("post", APP_IDS);
    let crossing =
        br#"{"bundle_id":"example.gannetpoint.crossing","title":"Crossing","capabilities":["push"]}"#;
    caller.refuses(ids, "", reader, crossing);
    caller.expect(201, ids, "", owner, crossing);
    caller.expect(409, ids, "", owner, crossing);
    caller.expect(400, ids, "", owner, br#"{"bundle_id":"a b","title":"x"}"#);
    caller.refuses(("get", APP_IDS), "", reader, b"");
    caller.expect(200, ("get", APP_IDS), "", owner, b"");
    let all = br#"{"capabilities":["push","app-groups"]}"#;
    caller.refuses(CAPABILITIES, "example.gannetpoint.crossing", reader, all);
    caller.expect(200, CAPABILITIES, "example.gannetpoint.crossing", owner, all);
    caller.expect(404, CAPABILITIES, "example.gannetpoint.dory", owner, all);
    caller.expect(
        400,
        CAPABILITIES,
        "example.gannetpoint.crossing",
        owner,
        br#"{"capabilities":["flight"]}"#,
    );
    let devices = ("post", DEVICES);
    let bridge = br#"{"identifier":"00008030-000A1B2C3D4E802F","title":"Bridge"}"#;
    caller.refuses(devices, "", reader, bridge);
    caller.expect(201, devices, "", owner, bridge);
    caller.expect(409, devices, "", owner, bridge);
    caller.expect(400, devices, "", owner, br#"{"identifier":"17","title":"x"}"#);
    caller.refuses(("get", DEVICES), "", reader, b"");
    caller.expect(200, ("get", DEVICES), "", owner, b"");
}

/// Certificates; tells the id of one that is good.
fn enrols(caller: &mut Caller, env: &TestEnv, owner: &str, reader: &str) -> String {
    let first = request(env, "first", "/CN=Ferries");
    let label = "distribution";
    caller.refuses(ENROL, label, reader, &first);
    caller.expect(400, ENROL, label, owner, b"bm8gcmVxdWVzdA==");
    caller.expect(404, ENROL, "enterprise", owner, &first);
    caller.expect(200, ENROL, label, owner, &first);
    let subject = "/O=Gannet Point Ferries/OU=GPFERRY009/CN=Distribution: Gannet Point Ferries (GPFERRY009)";
    let again = request(env, "again", subject);
    caller.refuses(ENROL_AGAIN, label, reader, &again);
    caller.expect(400, ENROL_AGAIN, label, owner, b"-");
    caller.expect(404, ENROL_AGAIN, label, owner, &first);
    caller.expect(200, ENROL_AGAIN, label, owner, &again);
    caller.expect(409, ENROL, label, owner, &first);
    caller.expect(200, ENROL, "push-both-example.gannetpoint.crossing", owner, &first);
    caller.expect(200, ("get", "/.well-known/est/cacerts"), "", "", b"");
    caller.expect(200, ("get", "/.well-known/est/{label}/cacerts"), label, "", b"");
    caller.refuses(CERTIFICATES, "", reader, b"");
    let all = caller.expect(200, CERTIFICATES, "", owner, b"").json();
    let id = |place: usize| all["items"][place]["id"].as_str().unwrap().to_owned();
    let gone = id(0);
    caller.refuses(REVOKE, &gone, reader, b"{}");
    caller.expect(404, REVOKE, "00ff", owner, b"{}");
    assert!(caller.expect(200, REVOKE, &gone, owner, b"{}").json()["revoked"].is_string());
    caller.expect(200, CERTIFICATES, "", owner, b"");
    id(1)
}

/// Profiles and API keys.
fn makes(caller: &mut Caller, good: &str, owner: &str, reader: &str) {
    let profiles = ("post", PROFILES);
    let new = |bundle_id: &str, certificates: Vec<&str>| {
        let new = json!({ "title": "Crossing store", "destination": "store", "bundle_id": bundle_id, "certificates": certificates });
        new.to_string().into_bytes()
    };
    let body = new("example.gannetpoint.crossing", vec![good]);
    caller.refuses(profiles, "", reader, &body);
    caller.expect(201, profiles, "", owner, &body);
    caller.expect(404, profiles, "", owner, &new("example.gannetpoint.dory", vec![good]));
    caller.expect(400, profiles, "", owner, &new("example.gannetpoint.crossing", Vec::new()));
    caller.refuses(("get", PROFILES), "", reader, b"");
    caller.expect(200, ("get", PROFILES), "", owner, b"");
    let key = br#"{"title":"uploads","role":"developer"}"#;
    caller.refuses(API_KEYS, "", reader, key);
    caller.expect(400, API_KEYS, "", owner, br#"{"title":"uploads","role":"captain"}"#);
    let id = caller.expect(201, API_KEYS, "", owner, key).json()["key_id"].as_str().unwrap().to_owned();
    caller.refuses(PRIVATE_KEY, &id, reader, b"{}");
    caller.expect(200, PRIVATE_KEY, &id, owner, b"{}");
    caller.expect(410, PRIVATE_KEY, &id, owner, b"{}");
}

const RECORDS: &str = "/store/v1/records";
const UPLOAD: (&str, &str) = ("put", "/store/v1/uploads/{sha256}");
const PIECE: (&str, &str) = ("put", "/store/v1/uploads/{sha256}/pieces/{number}");
const COMPLETION: (&str, &str) = ("post", "/store/v1/uploads/{sha256}/completion");
const DELIVERIES: (&str, &str) = ("get", "/store/v1/deliveries");
const HOLD: (&str, &str) = ("put", "/store/v1/deliveries/{id}/hold");
const QUESTIONS: (&str, &str) = ("get", "/store/v1/questions");
const KEYS: (&str, &str) = ("get", "/store/v1/apps/{package}/keys");
const DEPOSIT: (&str, &str) = ("put", "/store/v1/apps/{package}/signing-key");
const REPLACE: (&str, &str) = ("put", "/store/v1/apps/{package}/upload-key");
const GET: (&str, &str) = ("get", "/store/v1/deliveries/{id}/as-delivered");
const GET_PIECE: (&str, &str) = ("get", "/store/v1/deliveries/{id}/as-delivered/{number}");
const TESTERS: (&str, &str) = ("get", "/store/v1/testers");
const GROUP: (&str, &str) = ("put", "/store/v1/testers/groups/{group}");
const MEMBER: (&str, &str) = ("put", "/store/v1/testers/groups/{group}/members/{address}");
const STAGE: (&str, &str) = ("put", "/store/v1/deliveries/{id}/stage");

/// Apps at the store, uploads and what becomes of them.
fn delivers(caller: &mut Caller, env: &TestEnv, owner: &str, reader: &str) {
    let record = |id: &str| {
        let record = json!({ "id": id, "platform": "android", "title": id, "sku": id, "language": "en" });
        record.to_string().into_bytes()
    };
    let (records, crossing) = (("post", RECORDS), record("example.gannetpoint.crossing"));
    caller.refuses(records, "", reader, &crossing);
    caller.expect(201, records, "", owner, &crossing);
    caller.expect(409, records, "", owner, &crossing);
    caller.expect(400, records, "", owner, &record(" "));
    // app ids were registered by now, and this is none of them
    let strange = String::from_utf8(record("example.gannetpoint.strange")).unwrap().replace("android", "ios");
    caller.expect(422, records, "", owner, strange.as_bytes());
    caller.refuses(("get", RECORDS), "", reader, b"");
    caller.expect(200, ("get", RECORDS), "", owner, b"");
    env.run("app add quayside --package example.gannetpoint.crossing --for store").exit(0);
    env.run("keystore create quay --app quayside --kind upload --common-name A --algorithm rsa-2048").exit(0);
    env.file("quay.apk", &testkit::builds::crossing().apk());
    env.run("sign quay.apk --app quayside --for store").exit(0);
    let build = |file: &str, id: &str| {
        let bytes = env.read(file);
        let sha256 = ninekeys_core::digest::sha256_hex(&bytes);
        let new =
            json!({ "id": id, "platform": "android", "file": file, "size": bytes.len(), "sha256": sha256 });
        (bytes, sha256, new.to_string().into_bytes())
    };
    let (bytes, unsigned, new) = build("quay.apk", "example.gannetpoint.crossing");
    caller.refuses(UPLOAD, &unsigned, reader, &new);
    caller.expect(400, UPLOAD, &"0".repeat(64), owner, &new);
    caller.expect(422, UPLOAD, &unsigned, owner, &build("quay.apk", "example.gannetpoint.dory").2);
    caller.expect(404, PIECE, &format!("{unsigned} 0"), owner, &bytes);
    caller.expect(404, COMPLETION, &unsigned, owner, b"{}");
    caller.expect(200, UPLOAD, &unsigned, owner, &new);
    caller.expect(400, COMPLETION, &unsigned, owner, b"{}");
    caller.refuses(PIECE, &format!("{unsigned} 0"), reader, &bytes);
    caller.expect(400, PIECE, &format!("{unsigned} 1"), owner, &bytes);
    caller.expect(200, PIECE, &format!("{unsigned} 0"), owner, &bytes);
    caller.refuses(COMPLETION, &unsigned, reader, b"{}");
    let refused = caller.expect(422, COMPLETION, &unsigned, owner, b"{}").json();
    assert_eq!(refused["type"], "build-unsigned", "{refused}");
    let (bytes, signed, new) = build("quayside-2.4.0-12-store.apk", "example.gannetpoint.crossing");
    caller.expect(200, UPLOAD, &signed, owner, &new);
    caller.expect(200, PIECE, &format!("{signed} 0"), owner, &bytes);
    let there = caller.expect(201, COMPLETION, &signed, owner, b"{}").json();
    assert_eq!(caller.expect(200, COMPLETION, &signed, owner, b"{}").json(), there);
    caller.expect(409, UPLOAD, &signed, owner, &new);
    caller.refuses(DELIVERIES, "", reader, b"");
    let listed = caller.expect(200, DELIVERIES, "", owner, b"").json();
    assert_eq!(listed["items"][0]["number"], "12", "{listed}");
    let id = there["delivery"].as_str().unwrap();
    let to = |stage: &str| json!({ "to": stage }).to_string().into_bytes();
    caller.refuses(STAGE, id, reader, &to("testing"));
    caller.expect(404, STAGE, "nothing", owner, &to("testing"));
    caller.expect(400, STAGE, id, owner, &to("somewhere"));
    caller.expect(422, STAGE, id, owner, &to("testing"));
    caller.expect(200, STAGE, id, owner, &to("processing"));
    caller.expect(404, HOLD, "nothing", owner, b"{}");
    caller.expect(422, HOLD, id, owner, b"{}");
    caller.refuses(HOLD, id, reader, b"{}");
    caller.refuses(QUESTIONS, "", reader, b"");
    let asked = caller.expect(200, QUESTIONS, "", owner, b"").json();
    assert_eq!(asked["items"][0]["name"], "advertising", "{asked}");
}

/// Who tries builds.
fn tries(caller: &mut Caller, env: &TestEnv, owner: &str, reader: &str) {
    let group = |name: &str, id: &str| {
        let tries = json!([{ "platform": "android", "id": id }]);
        json!({ "group": name, "outside": false, "tries": tries }).to_string().into_bytes()
    };
    let crew = group("Crew", "example.gannetpoint.crossing");
    caller.refuses(GROUP, "Crew", reader, &crew);
    caller.expect(400, GROUP, "Other", owner, &crew);
    caller.expect(200, GROUP, "Crew", owner, &crew);
    let ana = "Crew ana@gannetpoint.example";
    caller.refuses(MEMBER, ana, reader, b"{}");
    caller.expect(400, MEMBER, "Crew ana", owner, b"{}");
    caller.expect(404, MEMBER, "Others ana@gannetpoint.example", owner, b"{}");
    caller.expect(200, MEMBER, ana, owner, br#"{"name":"Ana"}"#);
    caller.refuses(TESTERS, "", reader, b"");
    let all = caller.expect(200, TESTERS, "", owner, b"").json();
    assert_eq!(all["testers"][0]["name"], "Ana", "{all}");
    for number in 1..200 {
        caller.expect(200, MEMBER, &format!("Crew crew{number}@gannetpoint.example"), owner, b"{}");
    }
    caller.expect(409, MEMBER, "Crew last@gannetpoint.example", owner, b"{}");
    let leaves = ("delete", MEMBER.1);
    caller.refuses(leaves, ana, reader, b"");
    caller.expect(404, ("get", "/store/v1/testers/acceptances/{word}"), "nothing", "", b"");
    let mail = std::fs::read_dir(env.path("portal/mails")).unwrap().next().unwrap().unwrap().path();
    let mail = std::fs::read_to_string(mail).unwrap();
    let word = mail.trim_end().rsplit('/').next().unwrap();
    caller.expect(200, ("get", "/store/v1/testers/acceptances/{word}"), word, "", b"");
    caller.expect(200, leaves, ana, owner, b"");
    caller.expect(404, leaves, ana, owner, b"");
}

/// The keys of an app, and what devices get then.
fn signs(caller: &mut Caller, env: &TestEnv, owner: &str, reader: &str) {
    let package = "example.gannetpoint.crossing";
    let der = |name: &str| {
        env.run(&format!("keystore export {name} --to {name}.pem --as certificate-pem")).exit(0);
        let pem = String::from_utf8(env.read(&format!("{name}.pem"))).unwrap();
        pem.lines().filter(|line| !line.starts_with('-')).collect::<String>()
    };
    env.run("keystore create other --app quayside --kind upload --common-name B --algorithm ec-p256").exit(0);
    let (upload, other) = (der("quay"), der("other"));
    caller.refuses(("get", "/store/v1/receiving-key"), "", reader, b"");
    caller.expect(200, ("get", "/store/v1/receiving-key"), "", owner, b"");
    let made = json!({ "origin": "made-by-store", "upload": upload }).to_string().into_bytes();
    caller.refuses(KEYS, package, reader, b"");
    caller.expect(404, KEYS, package, owner, b"");
    caller.refuses(DEPOSIT, package, reader, &made);
    caller.expect(422, DEPOSIT, "example.gannetpoint.dory", owner, &made);
    let no_message = json!({ "origin": "handed-over", "upload": upload }).to_string().into_bytes();
    caller.expect(400, DEPOSIT, package, owner, &no_message);
    let of_other = json!({ "origin": { "of-app": "example.gannetpoint.dory" }, "upload": upload });
    caller.expect(404, DEPOSIT, package, owner, &of_other.to_string().into_bytes());
    let id = caller.expect(200, DELIVERIES, "", owner, b"").json()["items"][0]["delivery"].clone();
    let id = id.as_str().unwrap();
    caller.refuses(GET, id, reader, b"");
    caller.expect(404, GET, "nothing", owner, b"");
    let held = caller.expect(200, DEPOSIT, package, owner, &made).json();
    assert_eq!(caller.expect(200, DEPOSIT, package, owner, &made).json(), held);
    let of_other = of_other.to_string().into_bytes();
    caller.expect(409, DEPOSIT, package, owner, &of_other);
    caller.expect(200, KEYS, package, owner, b"");
    let new = |certificate: &str| json!({ "certificate": certificate }).to_string().into_bytes();
    caller.refuses(REPLACE, package, reader, &new(&other));
    caller.expect(404, REPLACE, "example.gannetpoint.dory", owner, &new(&other));
    caller.expect(400, REPLACE, package, owner, &new("bm8="));
    caller.expect(422, REPLACE, package, owner, &new(held["signing"].as_str().unwrap()));
    let waits = caller.expect(200, REPLACE, package, owner, &new(&other)).json();
    assert_eq!(waits["next_upload"]["from"], "2026-12-03T00:00:10Z", "{waits}");
    let told = caller.expect(200, GET, id, owner, b"").json();
    caller.refuses(GET_PIECE, &format!("{id} 0"), reader, b"");
    caller.expect(404, GET_PIECE, &format!("{id} 9"), owner, b"");
    let bytes = caller.expect(200, GET_PIECE, &format!("{id} 0"), owner, b"").body;
    assert_eq!(ninekeys_core::digest::sha256_hex(&bytes), told["sha256"].as_str().unwrap());
}

/// A bundle, of which devices get parts that are cut elsewhere; and a build of a stranger's.
fn brings_a_bundle(caller: &mut Caller, env: &TestEnv, owner: &str) {
    env.file("quay.aab", &ninekeys_core::demo::CROSSING.aab());
    env.run("sign quay.aab --app quayside --for store --key quay --set-build 20").exit(0);
    let bytes = env.read("quayside-2.4.0-20-store.aab");
    let sha256 = ninekeys_core::digest::sha256_hex(&bytes);
    let new = json!({
        "id": "example.gannetpoint.crossing", "platform": "android", "file": "quay.aab", "size": bytes.len(),
        "sha256": sha256,
    });
    caller.expect(200, UPLOAD, &sha256, owner, &new.to_string().into_bytes());
    caller.expect(200, PIECE, &format!("{sha256} 0"), owner, &bytes);
    let there = caller.expect(201, COMPLETION, &sha256, owner, b"{}").json();
    let id = there["delivery"].as_str().unwrap();
    caller.expect(422, GET, id, owner, b"");
    caller.expect(422, GET_PIECE, &format!("{id} 0"), owner, b"");
    a_stranger_signs(caller, owner);
}

/// A build for iOS that somebody signed to whom this portal issued nothing.
fn a_stranger_signs(caller: &mut Caller, owner: &str) {
    let other = TestEnv::with_identity(crate::PROGRAM);
    other.run("profile import in/deckhand-devices.mobileprovision").exit(0);
    other.file("deckhand.ipa", ninekeys_core::demo::DECKHAND_IPA);
    other.run("sign deckhand.ipa --for devices").exit(0);
    let bytes = other.read("deckhand-1.1.0-31-devices.ipa");
    let sha256 = ninekeys_core::digest::sha256_hex(&bytes);
    let id = "example.gannetpoint.deckhand";
    let app_id = json!({ "bundle_id": id, "title": "Deckhand", "capabilities": [] }).to_string();
    caller.expect(201, ("post", APP_IDS), "", owner, app_id.as_bytes());
    let record = json!({ "id": id, "platform": "ios", "title": "Deckhand", "sku": "D", "language": "en" });
    caller.expect(201, ("post", RECORDS), "", owner, record.to_string().as_bytes());
    let new = json!({ "id": id, "platform": "ios", "file": "d.ipa", "size": bytes.len(), "sha256": sha256 });
    caller.expect(200, UPLOAD, &sha256, owner, new.to_string().as_bytes());
    caller.expect(200, PIECE, &format!("{sha256} 0"), owner, &bytes);
    let refused = caller.expect(422, COMPLETION, &sha256, owner, b"{}").json();
    assert_eq!(refused["type"], "signer-unknown", "{refused}");
}

/// A build that goes on, at a later time.
fn goes_on(caller: &mut Caller, owner: &str) {
    let id = caller.expect(200, DELIVERIES, "", owner, b"").json()["items"][0]["delivery"].clone();
    let id = id.as_str().unwrap();
    let declarations =
        json!({ "advertising": false, "children": false, "location": false, "own-encryption": false });
    let contact = json!({ "name": "Desk", "email": "desk@gannetpoint.example" });
    let review = json!({ "whats_new": "A", "contact": contact, "declarations": declarations });
    let everyone = |review: &Value| {
        let all = json!({ "to": "live", "share": 10, "on": "2026-12-01T00:00:15Z", "review": review });
        all.to_string().into_bytes()
    };
    let groups = br#"{"to":"testing","groups":["Crew"]}"#;
    let there = caller.expect(200, STAGE, id, owner, groups).json();
    assert_eq!(there["groups"][0], "Crew", "{there}");
    let mut lacks = review.clone();
    lacks["declarations"] = json!({});
    let refused = caller.expect(422, STAGE, id, owner, &everyone(&lacks)).json();
    assert_eq!(refused["type"], "review-incomplete", "{refused}");
    caller.expect(200, STAGE, id, owner, &everyone(&review));
    // asked for once more it is where it was
    let same = caller.expect(200, STAGE, id, owner, br#"{"to":"in-review"}"#).json();
    assert_eq!((same["stage"].as_str(), same["share"].as_u64()), (Some("in-review"), Some(10)), "{same}");
}

#[test]
fn every_operation_answers_as_it_is_described_and_nothing_else_is_answered() {
    let (env, portal) = connected();
    env.run("apikey create reading --use reports").exit(0);
    let owner = env.run("apikey token owner").exit(0).stdout.trim().to_owned();
    let reader = env.run("apikey token reading").exit(0).stdout.trim().to_owned();
    let mut caller = Caller::of(&portal);
    let team = ("get", "/portal/v1/team");
    caller.expect(401, team, "", "", b"");
    caller.expect(200, team, "", &reader, b"");
    registers(&mut caller, &owner, &reader);
    let good = enrols(&mut caller, &env, &owner, &reader);
    makes(&mut caller, &good, &owner, &reader);
    delivers(&mut caller, &env, &owner, &reader);
    tries(&mut caller, &env, &owner, &reader);
    let (env, portal) = crate::advance::later(env, portal, "2026-12-01T00:00:10Z");
    goes_on(&mut caller, &owner);
    signs(&mut caller, &env, &owner, &reader);
    brings_a_bundle(&mut caller, &env, &owner);
    let (_env, _portal) = crate::advance::later(env, portal, "2026-12-01T00:00:20Z");
    let id = caller.expect(200, DELIVERIES, "", &owner, b"").json()["items"][1]["delivery"].clone();
    let held = caller.expect(200, HOLD, id.as_str().unwrap(), &owner, b"{}").json();
    assert_eq!((held["stage"].as_str(), held["held"].as_bool()), (Some("live"), Some(true)), "{held}");
    for path in ["/authority/issuer.cer", "/authority/revoked.crl"] {
        caller.expect(200, ("get", path), "", "", b"");
    }
    let question = std::fs::read(testkit::data("samples/revocation/question.der")).unwrap();
    caller.expect(200, ("post", "/authority/ocsp"), "", "", &question);
    caller.expect(200, ("get", "/authority/ocsp/{question}"), "AA%3D%3D", "", b"");
    caller.expect(200, ("post", "/authority/timestamps"), "", "", b"no question");

    let paths = caller.description["paths"].as_object().unwrap().clone();
    for (path, operations) in &paths {
        for method in METHODS {
            let Some(operation) = operations.get(method) else {
                let own = [
                    ("{id}", "x"),
                    ("{label}", "distribution"),
                    ("{question}", "x"),
                    ("{sha256}", "x"),
                    ("{number}", "0"),
                    ("{group}", "Crew"),
                    ("{address}", "a@b.example"),
                    ("{word}", "x"),
                    ("{package}", "example.gannetpoint.crossing"),
                ];
                let real = own.iter().fold(path.clone(), |path, (part, with)| path.replace(part, with));
                let said = caller.send(method, &real, &owner, "application/json", b"{}");
                assert_eq!(said.status, 405, "{method} {path} is answered, and not described");
                continue;
            };
            for status in operation["responses"].as_object().unwrap().keys().filter(|key| *key != "default") {
                let seen = (method.to_owned(), path.clone(), status.clone());
                assert!(
                    caller.seen.contains(&seen),
                    "{method} {path} {status} is described, and was not seen"
                );
            }
        }
    }
    let described: BTreeSet<String> = paths.keys().cloned().collect();
    let served: BTreeSet<String> = ninekeys_portal::stand_in::paths().into_iter().collect();
    assert_eq!(served, described);
}

#[test]
fn what_fails_on_purpose_fails_as_it_is_described() {
    for (faults, status) in [("busy=100", 429), ("failed=100", 503)] {
        let env = TestEnv::with_ios(PROGRAM);
        let portal = start_with(&env, &["--faults", faults]);
        import_key(&env, &portal.said["first_key"], "owner");
        let owner = env.run("apikey token owner").exit(0).stdout.trim().to_owned();
        let mut caller = Caller::of(&portal);
        caller.expect(status, ("get", "/portal/v1/team"), "", &owner, b"");
        caller.expect(status, ("post", DEVICES), "", &owner, b"{}");
    }
}
