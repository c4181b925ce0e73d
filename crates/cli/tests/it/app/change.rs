use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn what_is_named_changes_and_comments_stay() {
    let env = TestEnv::with_project(PROGRAM);
    let text = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    let text = text.replace("title = \"Crossing\"", "title = \"Crossing\"   # what passengers see");
    env.file("ninekeys.toml", text.as_bytes());
    let line = "app change crossing --title Ferry --version-name 2.5.0 --for store --bundle-id example.gannetpoint.crossing";
    let json = env.run(&format!("{line} --format json")).exit(0).json();
    assert_eq!((&json["schema"], &json["title"]), (&"ninekeys.app-change/1".into(), &"Ferry".into()));
    assert_eq!(json["android"]["destinations"], serde_json::json!(["store"]));
    let after = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    assert!(after.contains("title = \"Ferry\"   # what passengers see"), "{after}");
    assert!(after.contains("version = \"2.5.0\""), "{after}");
    assert!(after.contains("bundle-id = \"example.gannetpoint.crossing\""), "{after}");
    env.run("app list").exit(0).says("ios").says("Ferry");
}

#[test]
fn what_cannot_be_is_refused_and_the_file_stays() {
    let env = TestEnv::with_project(PROGRAM);
    let before = env.read("ninekeys.toml");
    env.run("app change crossing").exit(2).says("nothing was named that should be changed");
    env.run("app change nobody --title x").exit(2).says("no app called nobody").says("ninekeys app list");
    env.run("app change crossing --package example.gannetpoint.quayside")
        .exit(5)
        .says("is the id of quayside already");
    env.run("app change crossing --package nodots").exit(2).says("is not a package or bundle id");
    env.run("app change crossing --for devices").exit(2).says("devices is not a destination of crossing");
    env.run("app change crossing --title ' '").exit(2).says("cannot be a title");
    assert_eq!(env.read("ninekeys.toml"), before);
}
