use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::thread::JoinHandle;

use base64ct::Encoding;
use serde_json::{Value, json};

use super::{Running, call, connected, import_key};
use crate::PROGRAM;
use testkit::TestEnv;

/// Somebody else of the team, with a cabinet and a project file of their own.
fn colleague(portal: &Running, env: &TestEnv) -> TestEnv {
    let other = TestEnv::with_ios(PROGRAM);
    other.file("portal/root.pem", &env.read("portal/root.pem"));
    other.file("portal/first-key.pem", &env.read("portal/first-key.pem"));
    let project = String::from_utf8(other.read("ninekeys.toml")).unwrap();
    let apps = project.find("\n[app.").unwrap();
    let project = project[..apps].replace("in/root.pem", "portal/root.pem");
    other.file("ninekeys.toml", format!("portal = \"{}\"\n{project}", portal.address).as_bytes());
    let mut key = portal.said["first_key"].clone();
    key["file"] = Value::String("portal/first-key.pem".into());
    import_key(&other, &key, "owner");
    other
}

/// The things of a kind: what each is called there, and what it is to what is here.
fn standings(said: &Value, kind: &str, title: &str) -> Vec<(String, String)> {
    let text = |value: &Value| value.as_str().unwrap().to_owned();
    let all = said[kind].as_array().unwrap();
    all.iter().map(|one| (text(&one[title]), text(&one["standing"]))).collect()
}

fn pairs(all: &[(&str, &str)]) -> Vec<(String, String)> {
    all.iter().map(|(one, other)| ((*one).to_owned(), (*other).to_owned())).collect()
}

#[test]
fn everything_of_the_team_comes_in_and_the_second_time_all_is_known() {
    let (env, portal) = connected();
    env.run("device add Bridge --identifier 00008030-000A1B2C3D4E802F").exit(0);
    env.run("device add Helm --identifier 00008030-000A1B2C3D4E8030").exit(0);
    env.run("app change crossing --extension tides=example.gannetpoint.crossing.tides --capability push")
        .exit(0);
    env.run("prepare --app crossing --for store --yes").exit(0);
    env.run("prepare --app deckhand --for devices --yes").exit(0);
    let other = colleague(&portal, &env);
    let before = other.run("cabinet history --format json").exit(0).stdout;
    let project = other.read("ninekeys.toml");
    let dry = other.run("portal take-in --dry-run --format json").exit(0).json();
    assert_eq!(other.run("cabinet history --format json").exit(0).stdout, before);
    assert_eq!(other.read("ninekeys.toml"), project, "nothing is changed by looking");
    let news = |standing: &str| {
        [
            pairs(&[
                ("example.gannetpoint.crossing", standing),
                ("example.gannetpoint.crossing.tides", standing),
                ("example.gannetpoint.deckhand", standing),
            ]),
            pairs(&[("Bridge", standing), ("Helm", standing)]),
        ]
    };
    let told = |said: &Value| [standings(said, "app_ids", "bundle_id"), standings(said, "devices", "title")];
    assert_eq!(told(&dry), news("new"));

    let said = other.run("portal take-in --format json").exit(0).json();
    assert_eq!(told(&said), news("new"));
    assert_eq!(said["limits"]["distribution_certificates"], json!({ "used": 1, "most": 2 }));
    assert_eq!(said["limits"]["devices"], json!({ "used": 2, "most": 100 }));
    let certificate = &said["certificates"][0];
    assert_eq!((&certificate["standing"], &certificate["has_key"]), (&"new".into(), &false.into()));
    assert_eq!(certificate["profiles"].as_array().unwrap().len(), 3, "{certificate}");
    // each is what it is at the portal: apps with capabilities, an extension inside its app, profiles for both
    let ours = String::from_utf8(other.read("ninekeys.toml")).unwrap();
    assert!(ours.contains("[app.crossing.ios]") && ours.contains("capabilities = [\"push\"]"), "{ours}");
    assert!(ours.contains("tides = \"example.gannetpoint.crossing.tides\""), "{ours}");
    let profiles = other.run("inventory --format json").exit(0).json();
    let names: Vec<&str> =
        profiles["items"].as_array().unwrap().iter().filter_map(|item| item["name"].as_str()).collect();
    for name in [
        "crossing-store-2026",
        "crossing-tides-store-2026",
        "deckhand-devices-2026",
        "bridge",
        "helm",
        "distribution-2027",
    ] {
        assert!(names.contains(&name), "{name} is not in {names:?}");
    }
    let kept = other.run("show crossing-store-2026 --format json").exit(0).json();
    assert_eq!(kept["facts"]["apps"][0], "crossing", "{kept}");
    other.run("check --app crossing --for store").exit(1).says("identity-without-private-key");

    let before = other.run("cabinet history --format json").exit(0).stdout;
    let again = other.run("portal take-in --format json").exit(0).json();
    assert_eq!(told(&again), news("known"));
    assert_eq!(standings(&again, "profiles", "title").iter().filter(|(_, is)| is == "known").count(), 3);
    assert_eq!(other.run("cabinet history --format json").exit(0).stdout, before, "no row for nothing");
    other.run("portal take-in").exit(0).says("Nothing at the portal is new");
}

#[test]
fn what_changed_there_is_told_and_what_nothing_uses_can_be_revoked() {
    let (env, portal) = connected();
    env.run("device add Bridge --identifier 00008030-000A1B2C3D4E802F").exit(0);
    env.run("prepare --app crossing --for store --yes").exit(0);
    env.run("prepare --app deckhand --for devices --yes").exit(0);
    let other = colleague(&portal, &env);
    other.run("portal take-in").exit(0).says("taken in from the portal");
    // afterwards: another name here, a capability switched on there, a new profile, a second certificate, one revoked
    other.run("device rename bridge Footbridge").exit(0);
    env.run("app change deckhand --capability push").exit(0);
    env.run("prepare --app deckhand --for devices --yes").exit(0);
    let said = other.run("portal take-in --format json").exit(0).json();
    assert_eq!(standings(&said, "devices", "title"), pairs(&[("Bridge", "different")]));
    assert_eq!(said["devices"][0]["title_here"], "Footbridge");
    let deckhand = said["app_ids"].as_array().unwrap().iter().find(|one| one["app"] == "deckhand").unwrap();
    assert_eq!((&deckhand["standing"], &deckhand["off_here"][0]), (&"different".into(), &"push".into()));
    let newer =
        said["profiles"].as_array().unwrap().iter().find(|one| one["standing"] == "different").unwrap();
    assert_eq!(newer["replaces"], "deckhand-devices-2026");
    let told = other.run("portal take-in").exit(0);
    told.says("ninekeys app change deckhand --capability push").says("ninekeys device rename bridge Bridge");
    other.run("app change deckhand --capability push").exit(0);
    other.run("device rename bridge Bridge").exit(0);
    other.run("portal take-in").exit(0).is_silent_on("ninekeys app change").is_silent_on("device rename");

    env.run("identity revoke distribution-2027 --yes").exit(0);
    env.run("prepare --app crossing --for store --yes").exit(0);
    let third = colleague(&portal, &env);
    third.run("app add dory --bundle-id example.gannetpoint.dory --for store").exit(0);
    let said = other.run("portal take-in --format json").exit(0).json();
    let all = said["certificates"].as_array().unwrap();
    let certificates: Vec<&Value> = all.iter().filter(|one| one["kind"] == "distribution").collect();
    assert_eq!(
        (&certificates[0]["standing"], certificates[0]["revoked"].is_string()),
        (&"different".into(), true)
    );
    assert_eq!(certificates[1]["standing"], "new");
    other.run("check --app crossing --for store").exit(1).says("revoked");
    // to somebody who never had it, it is left where it is, and so is the profile that was made before
    let said = third.run("portal take-in --format json").exit(0).json();
    assert_eq!(
        (&said["certificates"][0]["standing"], &said["certificates"][0]["because"]),
        (&"left".into(), &"revoked".into())
    );
    assert!(said["profiles"].as_array().unwrap().iter().any(|one| one["because"] == "superseded"), "{said}");
}

/// Somebody who answers in the portal's place, by path, as long as the program asks.
fn lies(listener: TcpListener, said: Vec<(&'static str, String)>) -> JoinHandle<()> {
    std::thread::spawn(move || {
        for stream in listener.incoming() {
            let mut stream = stream.unwrap();
            let mut asked = [0; 8192];
            let read = stream.read(&mut asked).unwrap_or_default();
            let asked = String::from_utf8_lossy(&asked[..read]).into_owned();
            let path = asked.split(' ').nth(1).unwrap_or_default();
            if path == "/over" {
                return;
            }
            let body = said
                .iter()
                .find(|(known, _)| path.ends_with(known))
                .map_or("{\"items\":[]}", |(_, body)| body);
            let head = format!(
                "HTTP/1.1 200 OK\r\ncontent-type: application/json\r\ncontent-length: {}\r\nconnection: close\r\n\r\n",
                body.len()
            );
            let _ = stream.write_all(format!("{head}{body}").as_bytes());
        }
    })
}

#[test]
fn a_portal_that_lies_in_any_list_changes_nothing() {
    let (env, portal) = connected();
    let host = portal.address.trim_start_matches("http://").to_owned();
    let above = call(
        &portal.address,
        &format!("GET /.well-known/est/cacerts HTTP/1.1\nhost: {host}\nconnection: close\n\n"),
    )
    .1;
    drop(portal);
    let team = "{\"team\":\"GPFERRY009\",\"title\":\"Ferries\"}".to_owned();
    let forged = std::fs::read(testkit::data("samples/ios/signed-by-developer.mobileprovision")).unwrap();
    let forged = base64ct::Base64::encode_string(&forged);
    let profile = format!(
        "{{\"items\":[{{\"id\":\"1\",\"title\":\"x\",\"destination\":\"store\",\"bundle_id\":\"a.b\",\"file\":\"{forged}\",\"not_after\":\"2027-01-01T00:00:00Z\"}}]}}"
    );
    let item = |body: &str| format!("{{\"items\":[{body}]}}");
    let certificate = |der: &str| {
        item(&format!(
            "{{\"id\":\"1\",\"kind\":\"distribution\",\"certificate\":\"{der}\",\"not_after\":\"2027-01-01T00:00:00Z\"}}"
        ))
    };
    let lying = [
        ("/app-ids", item("{\"bundle_id\":\"../../etc\",\"title\":\"x\"}"), "is not a package or bundle id"),
        ("/app-ids", item("{\"bundle_id\":\"a.b\",\"title\":\"\\u001b[31mred\"}"), "a name at the portal"),
        ("/devices", item("{\"identifier\":\"../x\",\"title\":\"x\"}"), "is no device identifier"),
        (
            "/devices",
            item("{\"identifier\":\"00008030-000A1B2C3D4E802F\",\"title\":\"a\\nb\"}"),
            "a name at the portal",
        ),
        ("/certificates", certificate("bm9uZQ=="), "a certificate cannot be read"),
        ("/certificates", certificate("%%"), "answered to a question about certificates cannot be read"),
        ("/team", "{\"team\":\"\\u001b[31mred\",\"title\":\"x\"}".into(), "the team cannot be read"),
        ("/profiles", profile, "it is forged"),
        ("/profiles", "<html>".into(), "cannot be read"),
        ("/cacerts", "bm9uZQ==".into(), "cannot be read"),
    ];
    let history = env.run("cabinet history --format json").exit(0).stdout;
    let project = env.read("ninekeys.toml");
    for (path, body, says) in lying {
        let mut said = vec![(path, body)];
        said.extend([("/team", team.clone()), ("/cacerts", above.clone())]);
        let server = lies(TcpListener::bind(&host).unwrap(), said);
        let code = if says == "it is forged" { 5 } else { 6 };
        env.run("portal take-in").exit(code).says(says).is_silent_on("\u{1b}");
        let mut stop = TcpStream::connect(&host).unwrap();
        stop.write_all(b"GET /over HTTP/1.1\r\n\r\n").unwrap();
        server.join().unwrap();
        assert_eq!(env.run("cabinet history --format json").exit(0).stdout, history, "{path}");
        assert_eq!(env.read("ninekeys.toml"), project, "{path}");
    }
}
