//! The whole flow through the built program against the built stand-in, over real HTTP.

use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::process::{Child, Stdio};

use crate::PROGRAM;
use serde_json::Value;
use testkit::{TestEnv, has};

/// A stand-in that runs until it is dropped.
pub(crate) struct Running {
    child: Child,
    pub(crate) address: String,
    pub(crate) said: Value,
}

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Starts the stand-in in a folder of the project, at the project's time.
pub(crate) fn start(env: &TestEnv, listen: &str) -> Running {
    start_with(env, &["--listen", listen])
}

/// Starts it with more that is said.
pub(crate) fn start_with(env: &TestEnv, more: &[&str]) -> Running {
    let words = [&["stand-in", "serve", "--folder", "portal", "--format", "json"], more].concat();
    let mut child = env.command(words).stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
    let mut text = String::new();
    let mut lines = BufReader::new(child.stdout.take().unwrap());
    // the document ends with a brace at the beginning of a line
    while !text.ends_with("\n}\n") {
        assert_ne!(lines.read_line(&mut text).unwrap(), 0, "it ended: {text}");
    }
    let said: Value = serde_json::from_str(&text).unwrap();
    Running { child, address: said["address"].as_str().unwrap().to_owned(), said }
}

/// A project that knows the stand-in, and has the owner's key in its cabinet.
pub(crate) fn connected() -> (TestEnv, Running) {
    let env = TestEnv::with_ios(PROGRAM);
    let portal = start(&env, "127.0.0.1:0");
    make_known(&env, &portal);
    import_key(&env, &portal.said["first_key"], "owner");
    (env, portal)
}

/// Writes the portal into the project file.
fn make_known(env: &TestEnv, portal: &Running) {
    let project = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    let project = project.replace("in/root.pem", "portal/root.pem");
    env.file("ninekeys.toml", format!("portal = \"{}\"\n{project}", portal.address).as_bytes());
}

fn import_key(env: &TestEnv, key: &Value, role: &str) {
    let [file, id, issuer] = ["file", "key_id", "issuer"].map(|field| key[field].as_str().unwrap());
    env.run(&format!(
        "apikey import {file} --name {role} --key-id {id} --issuer {issuer} --role {role} --use signing"
    ))
    .exit(0);
}

/// One raw call: the status line and the body.
pub(crate) fn call(address: &str, text: &str) -> (String, String) {
    let mut stream = TcpStream::connect(address.trim_start_matches("http://")).unwrap();
    stream.write_all(text.replace('\n', "\r\n").as_bytes()).unwrap();
    let mut answer = Vec::new();
    let _ = stream.read_to_end(&mut answer);
    let answer = String::from_utf8_lossy(&answer).into_owned();
    let (head, body) = answer.split_once("\r\n\r\n").unwrap_or((&answer, ""));
    (head.lines().next().unwrap_or_default().to_owned(), body.to_owned())
}

#[test]
fn from_nothing_to_a_store_profile_with_one_command_and_a_second_does_nothing() {
    let (env, _portal) = connected();
    env.run("check --app crossing").exit(1).says("ninekeys prepare --app crossing --for store");
    let before = env.run("cabinet history --format json").exit(0).stdout;
    env.run("prepare --app crossing --for store --dry-run")
        .exit(0)
        .says("· Would prepare Crossing for the store")
        .says("make a key for distribution-2027 and seal it")
        .says("through the portal at http://127.0.0.1:");
    env.run("prepare --app crossing --for store").exit(5).says("nobody said yes").says("--yes");
    assert_eq!(env.run("cabinet history --format json").exit(0).stdout, before, "nothing was changed");
    env.run("prepare --app crossing --for store --yes")
        .exit(0)
        .says("✓ Ready: Crossing for the store")
        .says("register the bundle id example.gannetpoint.crossing, which is for ever")
        .says("have the profile \"Crossing store 2026\" made");
    env.run("check --app crossing").exit(0).says("✓ Ready for the store").says("crossing-store-2026");
    let after = env.run("cabinet history --format json").exit(0).stdout;
    env.run("prepare --app crossing --for store --yes")
        .exit(0)
        .says("nothing is missing, and nothing was changed");
    assert_eq!(env.run("cabinet history --format json").exit(0).stdout, after);
    if has("openssl", "version") {
        env.run("profile export crossing-store-2026 --to out.mobileprovision").exit(0);
        env.other("openssl cms -verify -purpose any -attime 1796086800 -CAfile portal/root.pem -inform DER -in out.mobileprovision -out list");
        env.run("identity export distribution-2027 --to chain.pem --as certificate-pem").exit(0);
        let told = env.other(
            "openssl verify -x509_strict -ignore_critical -attime 1796086800 -CAfile portal/root.pem -untrusted chain.pem chain.pem",
        );
        assert!(told.contains("chain.pem: OK"), "{told}");
    }
}

#[test]
fn what_changes_later_is_made_again_devices_capabilities_and_what_ends() {
    let (env, _portal) = connected();
    env.run("prepare --app deckhand --for devices --yes")
        .exit(5)
        .says("none is registered")
        .says("device add NAME");
    env.run("device add Bridge --identifier 00008030-000A1B2C3D4E802E").exit(0);
    env.run("prepare --app deckhand --for devices --yes").exit(0).says("register the device Bridge");
    env.run("check --app deckhand").exit(0).says("1 device ");
    env.run("device add Helm --identifier 00008030-000A1B2C3D4E802F").exit(0);
    env.run("check --app deckhand")
        .exit(0)
        .says("profile-")
        .says("ninekeys prepare --app deckhand --for devices");
    let said = env.run("prepare --app deckhand --for devices --yes").exit(0);
    said.says("register the device Helm").is_silent_on("bundle id").is_silent_on("make a key");
    env.run("check --app deckhand").exit(0).says("2 devices").is_silent_on("profile-lacks-device");
    env.run("app change deckhand --capability push").exit(0).says("has to be made again");
    env.run("check --app deckhand").exit(1).says("profile-older-than-app");
    env.run("prepare --app deckhand --for devices --yes")
        .exit(0)
        .says("switch on for example.gannetpoint.deckhand (push)");
    env.run("check --app deckhand").exit(0);
}

#[test]
fn without_a_portal_it_stops_at_each_file_and_goes_on_from_there() {
    let env = TestEnv::with_ios(PROGRAM);
    env.run("identity accept in/intermediate.pem").exit(0);
    env.run("prepare --app crossing --for store")
        .exit(1)
        .says("◐ Half way: Crossing for the store")
        .says("make a key for distribution-2027 and seal it")
        .says("upload distribution-2027.csr at the portal")
        .says("next          ninekeys identity accept FILE");
    let request = env.read("distribution-2027.csr");
    env.run("prepare --app crossing --for store").exit(1).is_silent_on("make a key");
    assert_eq!(env.read("distribution-2027.csr"), request, "one key, and the same request");
    // what comes back is another's here; the flow goes on all the same
    env.run("identity import in/distribution.p12 --name theirs --password-in pw").exit(0);
    env.run("prepare --app crossing --for store")
        .exit(1)
        .says("have a profile made at the portal for example.gannetpoint.crossing")
        .says("next          ninekeys profile import FILE");
    env.run("profile import in/crossing-store.mobileprovision").exit(0);
    env.run("prepare --app crossing --for store").exit(0).says("nothing is missing");
}

#[test]
fn limits_roles_and_strangers_are_refused_with_what_would_do() {
    let (env, portal) = connected();
    env.run("prepare --app crossing --for store --yes").exit(0);
    // two more distribution certificates: the second is one too many
    for (number, code) in [(1, 0), (2, 6)] {
        let other = TestEnv::with_ios(PROGRAM);
        let project = String::from_utf8(env.read("ninekeys.toml")).unwrap();
        let project = project.split("pin = ").next().unwrap().to_owned()
            + "\n[app.crossing]\ntitle = \"Crossing\"\n[app.crossing.ios]\nbundle-id = \"example.gannetpoint.crossing\"\n";
        other.file("portal/root.pem", &env.read("portal/root.pem"));
        other.file("first.pem", &env.read("portal/first-key.pem"));
        let old = String::from_utf8(other.read("ninekeys.toml")).unwrap();
        let pin = old.lines().find(|line| line.starts_with("pin")).unwrap().to_owned();
        other.file("ninekeys.toml", format!("{pin}\n{}", project.replace("# which cabinet", "#")).as_bytes());
        let key = &portal.said["first_key"];
        let [id, issuer] = ["key_id", "issuer"].map(|field| key[field].as_str().unwrap());
        other
            .run(&format!("apikey import first.pem --name k --key-id {id} --issuer {issuer} --role owner"))
            .exit(0);
        let said = other.run("prepare --app crossing --for store --yes").exit(code);
        if code == 6 {
            said.says("the team has 2 distribution certificates, and may have no more");
            said.says("changed   make a key for distribution-2027 and seal it");
            said.says("revoke one at the portal that nothing uses");
        }
        assert!(number > 0);
    }
    // nobody without a token, and nothing but what is asked for
    let host = portal.address.trim_start_matches("http://");
    let get = |path: &str, token: &str| {
        call(&portal.address, &format!("GET {path} HTTP/1.1\nhost: {host}\n{token}connection: close\n\n"))
    };
    let (status, body) = get("/portal/v1/certificates", "");
    assert!(status.contains("401") && body.contains("\"type\":\"unauthorized\""), "{status} {body}");
    let (status, _) = get("/portal/v1/certificates", "authorization: Bearer a.b.c\n");
    assert!(status.contains("401"), "{status}");
    assert!(get("/elsewhere", "").0.contains("404"));
    let token = env.run("apikey token owner").exit(0).stdout;
    let bearer = format!("authorization: Bearer {}\n", token.trim());
    assert!(get("/portal/v1/team", &bearer).0.contains("200"));
    let store = env.run("apikey token owner --audience store").exit(0).stdout;
    assert!(get("/portal/v1/team", &format!("authorization: Bearer {}\n", store.trim())).0.contains("401"));
    // the one download is over
    let id = portal.said["first_key"]["key_id"].as_str().unwrap();
    let again = format!(
        "POST /portal/v1/api-keys/{id}/private-key HTTP/1.1\nhost: {host}\n{bearer}content-length: 2\nconnection: close\n\n{{}}"
    );
    assert!(call(&portal.address, &again).0.contains("410"));
}

#[test]
fn a_portal_that_is_away_lies_or_says_too_much_changes_nothing_that_counts() {
    let (env, portal) = connected();
    let address = portal.address.clone();
    drop(portal);
    let before = env.run("cabinet history --format json").exit(0).stdout;
    env.run("prepare --app crossing --for store --yes").exit(6).says("cannot be reached");
    assert_eq!(env.run("cabinet history --format json").exit(0).stdout, before, "no key is made for nobody");
    // somebody else answers there
    let port = address.rsplit(':').next().unwrap();
    let listener = std::net::TcpListener::bind(format!("127.0.0.1:{port}")).unwrap();
    let answers = [
        "HTTP/1.1 200 OK\r\ncontent-type: text/html\r\ncontent-length: 15\r\nconnection: close\r\n\r\n<html>hi</html>",
        "HTTP/1.1 302 Found\r\nlocation: http://127.0.0.1:1/\r\ncontent-length: 0\r\nconnection: close\r\n\r\n",
        "HTTP/1.1 403 Forbidden\r\ncontent-type: application/problem+json\r\nconnection: close\r\n\r\n{\"type\":\"\\u001b[31m\"",
        "HTTP/1.1 200 OK\r\ncontent-type: application/json\r\ncontent-length: 400000000\r\nconnection: close\r\n\r\n",
    ];
    let server = std::thread::spawn(move || {
        for answer in answers {
            {
                let Ok((mut stream, _)) = listener.accept() else { return };
                let mut text = [0; 4096];
                let _ = stream.read(&mut text);
                let _ = stream.write_all(answer.as_bytes());
                let more = vec![b' '; 1 << 20];
                for _ in 0..if answer.contains("400000000") { 20 } else { 0 } {
                    if stream.write_all(&more).is_err() {
                        break;
                    }
                }
                if answer.contains("400000000") {
                    return;
                }
            }
        }
    });
    for says in ["cannot be read", "with status 302", "with status 403", "more than 16 MiB"] {
        let said = env.run("prepare --app crossing --for store --yes").exit(6);
        said.says(says).is_silent_on("\u{1b}");
    }
    server.join().unwrap();
    assert_eq!(env.run("cabinet history --format json").exit(0).stdout, before);
    let project = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    env.file("far.toml", project.replace(&address, "http://portal.example").as_bytes());
    env.run("prepare --app crossing --for store --yes --project far.toml")
        .exit(2)
        .says("is on another machine");
}

#[test]
fn the_stand_in_is_stopped_at_any_instant_and_goes_on_where_it_was() {
    let (env, portal) = connected();
    let port = portal.address.rsplit(':').next().unwrap().to_owned();
    let mut portal = Some(portal);
    for round in 0..6 {
        // killed while it works, and started again at the same address
        let words = ["prepare", "--app", "crossing", "--for", "store", "--yes"];
        let mut command = env.command(words);
        let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        std::thread::sleep(std::time::Duration::from_millis(60 + 40 * round));
        drop(portal.take());
        let again = start(&env, &format!("127.0.0.1:{port}"));
        assert!(again.said["first_key"].is_null(), "it is the same folder");
        portal = Some(again);
        let code = child.wait().unwrap().code();
        assert!(matches!(code, Some(0 | 6)), "{code:?}");
    }
    env.run("prepare --app crossing --for store --yes").exit(0);
    env.run("check --app crossing").exit(0);
    // however often it was cut: one key, one certificate, one profile
    let said = env.run("inventory --format json").exit(0).json();
    let count =
        |kind: &str| said["items"].as_array().unwrap().iter().filter(|item| item["kind"] == kind).count();
    assert_eq!((count("distribution identity"), count("provisioning profile")), (1, 1), "{said}");
    drop(portal);
}

#[test]
fn it_serves_this_machine_alone_and_keeps_its_secrets_to_its_owner() {
    let env = TestEnv::with_ios(PROGRAM);
    env.run("stand-in serve --listen 0.0.0.0:0").exit(5).says("can be reached by others");
    env.run("stand-in serve --listen nowhere").exit(2);
    let portal = start(&env, "127.0.0.1:0");
    let taken = portal.address.trim_start_matches("http://");
    env.run(&format!("stand-in serve --folder portal --listen {taken}"))
        .exit(3)
        .says("cannot be listened on");
    #[cfg(unix)]
    for (file, mode) in [("first-key.pem", 0o600), ("stand-in.sqlite", 0o600), ("root.pem", 0o644)] {
        use std::os::unix::fs::PermissionsExt;
        let found = std::fs::metadata(env.path(&format!("portal/{file}"))).unwrap().permissions().mode();
        assert_eq!(found & 0o777, mode, "{file}");
    }
}

#[test]
fn killed_at_any_instant_it_goes_on_and_issues_once() {
    let (env, _portal) = connected();
    env.run("device add Bridge --identifier 00008030-000A1B2C3D4E802E").exit(0);
    let mut inside = 0;
    for delay in 0..20u64 {
        let words = ["prepare", "--app", "deckhand", "--for", "devices", "--yes"];
        let mut command = env.command(words);
        let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        std::thread::sleep(std::time::Duration::from_millis(10 + 12 * delay));
        child.kill().unwrap();
        inside += u32::from(child.wait().unwrap().code().is_none());
        env.run("cabinet status --prove").exit(0);
    }
    assert!(inside > 4, "only {inside} kills fell into the work");
    env.run("prepare --app deckhand --for devices --yes").exit(0);
    let said = env.run("inventory --format json").exit(0).json();
    let count =
        |kind: &str| said["items"].as_array().unwrap().iter().filter(|item| item["kind"] == kind).count();
    assert_eq!((count("distribution identity"), count("provisioning profile")), (1, 1), "{said}");
    env.run("check --app deckhand").exit(0);
}

#[test]
fn two_at_once_prepare_one() {
    let (env, _portal) = connected();
    let start = || {
        let words = ["prepare", "--app", "crossing", "--for", "store", "--yes"];
        env.command(words).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
    };
    let codes: Vec<Option<i32>> =
        [start(), start(), start()].into_iter().map(|mut one| one.wait().unwrap().code()).collect();
    // whoever comes second to a name is told so, and what it did is not lost
    assert!(
        codes.contains(&Some(0)) && codes.iter().all(|code| matches!(code, Some(0 | 5 | 6))),
        "{codes:?}"
    );
    env.run("prepare --app crossing --for store --yes").exit(0);
    env.run("check --app crossing").exit(0);
    env.run("cabinet status --prove").exit(0);
}

#[test]
fn a_certificate_that_came_without_its_chain_gets_it() {
    let (env, portal) = connected();
    env.run("identity request gp --kind distribution").exit(0);
    let body = |pem: &str| pem.lines().filter(|line| !line.starts_with('-')).collect::<String>();
    let request = body(&String::from_utf8(env.read("gp.csr")).unwrap());
    let json = serde_json::json!({ "kind": "distribution", "request": request }).to_string();
    let token = env.run("apikey token owner --scope all").exit(0).stdout;
    let head =
        format!("authorization: Bearer {}\nconnection: close\ncontent-length: {}", token.trim(), json.len());
    let text = format!("POST /portal/v1/certificates HTTP/1.1\nhost: portal\n{head}\n\n{json}");
    let issued: Value = serde_json::from_str(&call(&portal.address, &text).1).unwrap();
    let lines = issued["certificate"].as_str().unwrap().as_bytes().chunks(64);
    let lines: Vec<&str> = lines.map(|line| std::str::from_utf8(line).unwrap()).collect();
    let pem = format!("-----BEGIN CERTIFICATE-----\n{}\n-----END CERTIFICATE-----\n", lines.join("\n"));
    env.file("gp.pem", pem.as_bytes());
    env.run("identity accept gp.pem").exit(0).says("not complete");
    // without an API it is a file that a person fetches
    let project = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    env.file("ninekeys.toml", project.replace("portal = ", "# ").as_bytes());
    env.run("prepare --app crossing --for store")
        .exit(1)
        .says("fetch the certificate of CN=Stand-In")
        .says("which issued that of gp");
    env.file("ninekeys.toml", project.as_bytes());
    env.run("prepare --app crossing --for store --dry-run")
        .exit(0)
        .says("take in the certificates above that of gp");
    env.run("prepare --app crossing --for store --yes")
        .exit(0)
        .says("✓ Ready")
        .says("take in the certificates above that of gp")
        .is_silent_on("make a key");
    env.run("check --app crossing").exit(0);
}
