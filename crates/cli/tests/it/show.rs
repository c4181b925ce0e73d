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
    env.run("show crossing-signing")
        .exit(0)
        .says("Crossing for the store: no update that devices take; it ends");
    let json = env.run("show crossing-signing --format json").exit(0).json();
    let stops = json["stops"].as_array().unwrap();
    assert_eq!(stops.len(), 2, "{stops:?}");
    assert_eq!((stops[0]["app"].as_str(), stops[0]["what"].as_str()), (Some("crossing"), Some("updates")));
    let target = &json["statements"][0]["statements"][0]["target"];
    assert_eq!(target["package_name"], "example.gannetpoint.crossing");
    assert_eq!(target["sha256_cert_fingerprints"][0], json["parts"][0]["forms"]["sha256"]);
    env.run("show crossing-signing").exit(0).says("ninekeys app statement crossing");
    assert_eq!(json["needs"].as_array().unwrap().len(), 2, "key and certificate");
    assert_eq!(json["parts"][0]["key"]["sha256"].as_str().unwrap().len(), 64);
}
