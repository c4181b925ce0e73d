use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn a_second_key_stands_beside_the_first_and_both_are_told() {
    let env = TestEnv::with_key(PROGRAM);
    let line = "keystore add-key crossing-signing --alias up --kind upload --app crossing --common-name Up --algorithm rsa-2048";
    env.run(line).exit(0).says("crossing-signing has 2 keys now");
    env.run(line).exit(5).says("has a key with the alias up already").says("changed   nothing");
    let said = env
        .run("keystore add-key crossing-signing --alias third --common-name T --algorithm ec-p256 --format json")
        .exit(0)
        .json();
    assert_eq!(said["schema"], "ninekeys.keystore-add-key/1");
    assert_eq!((&said["keystore"], &said["alias"]), (&"crossing-signing".into(), &"third".into()));
    let inventory = env.run("inventory --format json").exit(0).json();
    let aliases: Vec<&str> =
        inventory["items"].as_array().unwrap().iter().map(|item| item["alias"].as_str().unwrap()).collect();
    assert_eq!(aliases, ["crossing-signing", "third", "up"]);
}
