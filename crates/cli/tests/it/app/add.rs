use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn comments_and_order_of_the_project_file_stay() {
    let env = TestEnv::with_project(PROGRAM);
    let before = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    let edited = before.replace("[app.quayside]", "# the kiosk at the pier\n[app.quayside]   # since 2029");
    let edited = edited + "\n# the last word\n";
    env.file("ninekeys.toml", edited.as_bytes());
    env.run("app add deckhand --title 'Deck Hand' --bundle-id example.gannetpoint.deckhand --for ad-hoc --package example.gannetpoint.deckhand --for direct --version-name 1.0")
        .exit(0)
        .says("✓ deckhand");
    let after = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    assert!(after.starts_with(&edited), "{after}");
    insta::assert_snapshot!(after.strip_prefix(&edited).unwrap(), @r#"

    [app.deckhand]
    title = "Deck Hand"
    version = "1.0"

    [app.deckhand.android]
    package = "example.gannetpoint.deckhand"
    destinations = ["direct"]

    [app.deckhand.ios]
    bundle-id = "example.gannetpoint.deckhand"
    destinations = ["devices"]
    "#);
}

#[test]
fn names_and_ids_that_are_taken_or_wrong_are_refused() {
    let env = TestEnv::with_project(PROGRAM);
    let before = env.files();
    env.run("app add Crossing --package example.other")
        .exit(5)
        .says("there is an app called crossing already");
    env.run("app add other --package example.gannetpoint.crossing")
        .exit(5)
        .says("is the id of crossing already");
    env.run("app add other").exit(2).says("an app needs a package");
    env.run("app add other --package nodots").exit(2).says("`nodots` is not a package or bundle id");
    env.run("app add a/b --package example.other").exit(2).says("cannot be a name");
    env.run("app add other --package example.other --for devices").exit(2).says("an iOS side");
    env.run("app add other --package example.other --for shop").exit(2).says("is not a destination");
    assert_eq!(env.files(), before);
}

#[test]
fn a_project_file_that_is_not_one_says_where() {
    let env = TestEnv::with_project(PROGRAM);
    env.file("ninekeys.toml", b"title = \"x\"\nkolour = 1\n");
    env.run("app add other --package example.other").exit(3).says("is not a project file").says("kolour");
    env.file("ninekeys.toml", b"title = ");
    env.run("board").exit(3).says("is not a project file");
}

#[test]
fn names_in_the_project_file_are_names_and_no_paths() {
    let env = TestEnv::with_key(PROGRAM);
    let text = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    for (name, shown) in
        [("../../escaped", "../../escaped"), ("a/b", "a/b"), ("a\\u001b[2J", "a\\u{1b}[2J"), ("", "``")]
    {
        let evil = text.replace("[app.crossing", &format!("[app.\"{name}\""));
        env.file("ninekeys.toml", evil.as_bytes());
        for line in ["sign crossing.apk --to out", "board", "lend --app crossing -- true"] {
            let said = env.run(line).exit(3);
            said.says("ninekeys.toml is not a project file")
                .says(shown)
                .says("cannot be a name")
                .is_silent_on("\u{1b}");
        }
    }
    assert!(!env.folder().parent().unwrap().join("escaped-2.4.0-12-direct.apk").exists());
}

#[test]
fn a_project_file_that_is_something_else_is_not_echoed() {
    let env = TestEnv::with_project(PROGRAM);
    let mut other = "secret = \"brisk-lantern-oyster\" nonsense\n".repeat(20_000);
    other.truncate(1 << 20);
    env.file("ninekeys.toml", other.as_bytes());
    let said = env.run("board").exit(3);
    said.says("line 1").is_silent_on("oyster");
    assert!(said.stderr.len() < 1_000, "{} bytes", said.stderr.len());
}

#[cfg(unix)]
#[test]
fn a_link_to_the_project_file_stays_one_and_the_file_keeps_its_rights() {
    use std::os::unix::fs::PermissionsExt;
    let env = TestEnv::with_project(PROGRAM);
    std::fs::create_dir(env.path("real")).unwrap();
    std::fs::rename(env.path("ninekeys.toml"), env.path("real/project.toml")).unwrap();
    std::fs::set_permissions(env.path("real/project.toml"), std::fs::Permissions::from_mode(0o640)).unwrap();
    std::os::unix::fs::symlink("real/project.toml", env.path("ninekeys.toml")).unwrap();
    env.run("app add more --package example.gannetpoint.more --for direct").exit(0);
    assert!(env.path("ninekeys.toml").symlink_metadata().unwrap().is_symlink());
    let found = env.path("real/project.toml").metadata().unwrap();
    assert_eq!(found.permissions().mode() & 0o777, 0o640);
    assert!(String::from_utf8(env.read("real/project.toml")).unwrap().contains("[app.more]"));
}

#[test]
fn keystores_that_could_serve_are_named_upload_keys_only_where_something_is_uploaded() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("keystore create crossing-upload --kind upload --app crossing --common-name Ferries").exit(0);
    let serve = |line: &str| env.run(&format!("{line} --format json")).exit(0).json()["could_serve"].clone();
    let direct = serve("app add kiosk --package example.gannetpoint.kiosk --for direct");
    assert_eq!(direct, serde_json::json!(["crossing-signing"]));
    let store = serve("app add deck --package example.gannetpoint.deck --for direct --for store");
    assert_eq!(store, serde_json::json!(["crossing-signing", "crossing-upload"]));
    let neither = serve("app add tide --bundle-id example.gannetpoint.tide --for store");
    assert_eq!(neither, serde_json::json!([]));
}

#[test]
fn who_may_see_a_record_is_said_when_it_is_made() {
    let (env, _portal) = crate::portal::connected();
    let pier = "app add pier --package example.gannetpoint.pier --for store";
    env.run(&format!("{pier} --seen-by ana@gannetpoint.example")).exit(2).says("--publish");
    let published =
        format!("{pier} --publish --seen-by ana@gannetpoint.example --seen-by bo@gannetpoint.example");
    let json = env.run(&format!("{published} --format json")).exit(0).json();
    assert_eq!(
        json["published"][0]["record"]["seen_by"],
        serde_json::json!(["ana@gannetpoint.example", "bo@gannetpoint.example"]),
        "{json:#}"
    );
    env.run("app change pier --publish")
        .exit(0)
        .says("seen by ana@gannetpoint.example, bo@gannetpoint.example: was there");
    let wrong =
        env.run("app add quay --package example.gannetpoint.quay --for store --publish --seen-by ana");
    wrong.exit(6).says("named by an address for mail").says("sent ana, needed NAME@HOST");
}
