use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn keys_are_listed_in_the_order_of_the_nine_without_a_passphrase() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("keystore create a-upload --kind upload --app crossing --common-name A --years 2 --algorithm rsa-2048").exit(0);
    std::fs::remove_file(env.path("unlock.txt")).unwrap();
    let said = env.run("inventory").exit(0);
    let lines: Vec<&str> = said.stdout.lines().filter(|line| line.contains(" key ")).collect();
    assert!(lines[0].contains("crossing-signing") && lines[0].contains("no copy"), "{}", said.stdout);
    assert!(lines[1].contains("a-upload") && lines[1].contains("RSA 2048"), "{}", said.stdout);
    env.run("inventory --at 2033-05-01").exit(0).says("◐ a-upload").says("falls due");
    env.run("inventory --at 2033-06-01").exit(0).says("✗ a-upload").says("expired");
    let json = env.run("inventory --format json").exit(0).json();
    assert_eq!(json["items"][0]["mark"], "at-risk");
}

#[test]
fn an_empty_cabinet_says_what_to_do() {
    let env = TestEnv::with_project(PROGRAM);
    env.run("inventory").exit(0).says("The cabinet is empty.").says("ninekeys keystore create");
}

#[test]
fn show_tells_one_item_whole_by_any_unique_beginning() {
    let env = TestEnv::with_key(PROGRAM);
    env.run(
        "keystore create crossing-upload --kind upload --app crossing --common-name A --algorithm ec-p256",
    )
    .exit(0);
    env.run("show crossing-s").exit(0).says("crossing-signing").says("public key");
    env.run("show crossing").exit(2).says("`crossing` could be crossing-signing, crossing-upload");
    env.run("show nothing").exit(2).says("nothing in the cabinet is called `nothing`");
    let whole = env.run("show crossing-signing/crossing-signing/certificate").exit(0);
    whole.says("used by").says("crossing-signing (keystore)");
    let json = env.run("show crossing-signing --format json").exit(0).json();
    assert_eq!(json["parts"][0]["key_fingerprint"].as_str().unwrap().len(), 64);
}
