use crate::PROGRAM;
use testkit::TestEnv;

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
    assert_eq!(json["parts"][0]["key"]["sha256"].as_str().unwrap().len(), 64);
}
