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
