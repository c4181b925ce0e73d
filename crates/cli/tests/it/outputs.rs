//! No output falls on something of ours, by no link and no spelling; and none leaves without a row.

use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn no_output_falls_on_something_of_ours_by_any_spelling() {
    let env = TestEnv::with_key(PROGRAM);
    env.file("store.pem", &[]);
    env.run("keystore create store --common-name Store --algorithm rsa-2048").exit(0);
    env.run("keystore export store --to store.pem --as certificate-pem --replace").exit(0);
    std::fs::create_dir(env.path("sub")).unwrap();
    #[cfg(unix)]
    {
        std::os::unix::fs::symlink(env.path("ninekeys.cabinet"), env.path("link")).unwrap();
        std::os::unix::fs::symlink(env.folder(), env.path("round")).unwrap();
        std::fs::hard_link(env.path("unlock.txt"), env.path("hard")).unwrap();
    }
    let before = env.files();
    let export = "keystore export crossing-signing --replace";
    for (line, says) in [
        (format!("{export} --to ninekeys.cabinet"), "it is the cabinet"),
        (format!("{export} --to sub/../ninekeys.cabinet"), "it is the cabinet"),
        (format!("{export} --to NineKeys.Cabinet"), "it is the cabinet"),
        (format!("{export} --to ninekeys.cabinet-journal"), "belongs to the cabinet"),
        (format!("{export} --to ninekeys.cabinet-wal"), "belongs to the cabinet"),
        (format!("{export} --to unlock.txt"), "it unlocks the cabinet"),
        (format!("{export} --to ninekeys.toml"), "it is the project file"),
        (format!("{export} --to x.p12 --note-password ninekeys.cabinet"), "it is the cabinet"),
        (format!("{export} --to x.p12 --note-password x.p12"), "writes something else there"),
        (format!("{export} --to x.p12 --note-password sub/../x.p12"), "writes something else there"),
        (format!("{export} --as certificate-pem --to ninekeys.toml"), "it is the project file"),
        (format!("{export} --to link"), "it is the cabinet"),
        (format!("{export} --to round/ninekeys.cabinet"), "it is the cabinet"),
        (format!("{export} --to hard"), "it unlocks the cabinet"),
        (
            "keystore hand-over crossing-signing --receiver store.pem --to store.pem --replace".into(),
            "this command reads it",
        ),
        (
            "keystore hand-over crossing-signing --receiver store.pem --to unlock.txt --replace".into(),
            "it unlocks",
        ),
    ] {
        env.run(&line).exit(5).says(says).says("changed   nothing");
        assert!(env.files() == before, "{line} changed something");
    }
    env.run("init --new-unlock-file ninekeys.cabinet --cabinet other/ninekeys.cabinet").exit(5);
    let env = TestEnv::new(PROGRAM);
    env.run("init --new-unlock-file ninekeys.cabinet").exit(5).says("writes something else there");
    assert!(env.files().is_empty());
}

#[test]
fn what_leaves_has_a_row_before_and_a_row_behind() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("keystore export crossing-signing --to out.p12 --note-password pw").exit(0);
    env.run("lend --app crossing --for direct -- true").exit(0);
    env.run("lend --app crossing --for direct -- no-such-program").exit(3);
    let json = env.run("cabinet history --format json").exit(0).json();
    let what: Vec<&str> =
        json["rows"].as_array().unwrap().iter().map(|r| r["what"].as_str().unwrap()).collect();
    assert_eq!(
        what[3..],
        [
            "keystore export crossing-signing",
            "keystore export crossing-signing: done",
            "lend crossing-signing to true",
            "lend crossing-signing to true: ended",
            "lend crossing-signing to no-such-program",
            "lend crossing-signing to no-such-program: never began",
        ]
    );
    assert_eq!(env.run("cabinet status --format json").exit(0).json()["open"], serde_json::json!([]));
}

#[test]
fn a_replaced_build_goes_when_the_ledger_knows_it_and_is_named_when_not() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("sign crossing.apk").exit(0);
    env.run("sign crossing.apk --replace").exit(0).is_silent_on("replaced-");
    assert!(!env.path("crossing-2.4.0-12-direct.apk.replaced-20310519T120000Z").exists());
    env.file("crossing-2.4.0-12-direct.apk", b"somebody's own file");
    let said = env.run("sign crossing.apk --replace").exit(0);
    said.says("what had the name before is now crossing-2.4.0-12-direct.apk.replaced-20310519T120000Z");
    assert_eq!(env.read("crossing-2.4.0-12-direct.apk.replaced-20310519T120000Z"), b"somebody's own file");
}
