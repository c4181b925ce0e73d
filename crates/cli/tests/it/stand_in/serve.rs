use std::process::Stdio;

use crate::PROGRAM;
use crate::portal::{call, connected, start};
use testkit::TestEnv;

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
            said.says("changed   done so far: make a key for distribution-2027 and seal it; the next call goes on from there");
            said.says("revoke one that nothing uses");
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
fn what_somebody_else_made_in_its_folder_is_left_alone() {
    let env = TestEnv::new(PROGRAM);
    for name in ["root.pem", "first-key.pem"] {
        let folder = name.replace('.', "-");
        env.file(&format!("{folder}/{name}"), b"mine");
        env.run(&format!("stand-in serve --folder {folder}")).exit(5).says("was not made by what stands in");
        assert_eq!(env.read(&format!("{folder}/{name}")), b"mine");
        assert!(!env.path(&format!("{folder}/stand-in.sqlite")).exists());
    }
    // nor a root that was put in the place of its own
    drop(start(&env, "127.0.0.1:0"));
    let own = env.read("portal/root.pem");
    env.file("portal/root.pem", b"mine");
    env.run("stand-in serve --folder portal").exit(5).says("root.pem");
    assert_eq!(env.read("portal/root.pem"), b"mine");
    std::fs::remove_file(env.path("portal/root.pem")).unwrap();
    drop(start(&env, "127.0.0.1:0"));
    assert_eq!(env.read("portal/root.pem"), own);
}
