//! What holds for every command: both formats, errors as objects, the version.

use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn every_answer_has_a_schema_in_json() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("sign crossing.apk").exit(0);
    let commands = [
        ("board", "board"),
        ("inventory", "inventory"),
        ("show crossing-signing", "show"),
        ("releases", "releases"),
        ("inspect crossing.apk", "inspect"),
        ("check crossing-2.4.0-12-direct.apk", "check"),
        ("sign crossing.apk --to b", "sign"),
        ("explain", "explain"),
        ("cabinet status", "cabinet-status"),
        ("cabinet history", "cabinet-history"),
        ("cabinet backup copies", "cabinet-backup"),
        ("app add deckhand --package example.deckhand", "app-add"),
        ("keystore create k --common-name A --algorithm ec-p256", "keystore-create"),
    ];
    for (line, schema) in commands {
        let said = env.run(&format!("{line} --format json")).exit(0);
        assert_eq!(said.json()["schema"], format!("ninekeys.{schema}/1"), "{line}");
        assert_eq!(said.stderr, "", "{line}");
    }
}

#[test]
fn an_error_is_an_object_on_stderr_with_the_same_fields() {
    let env = TestEnv::with_key(PROGRAM);
    let said = env.run("show nothing --format json").exit(2);
    let error: serde_json::Value = serde_json::from_str(&said.stderr).unwrap();
    assert_eq!(error["schema"], "ninekeys.error/1");
    assert_eq!(error["attempt"], "show nothing");
    assert_eq!(error["changed"], "nothing");
    assert_eq!(error["next"][0], "inventory");
    assert_eq!(error["exit"], 2);
    assert_eq!(said.stdout, "");
}

#[test]
fn nothing_is_coloured_through_a_pipe() {
    let env = TestEnv::with_key(PROGRAM);
    for line in ["board", "inventory", "explain", "check crossing.apk"] {
        let output = env.command(line.split(' ')).output().unwrap();
        assert!(!output.stdout.contains(&0x1b), "{line}");
    }
    env.run("--version").exit(0).says(env!("CARGO_PKG_VERSION"));
    env.run("no-such-command").exit(2);
}
