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
