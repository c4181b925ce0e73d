use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn there_is_a_page_for_every_command() {
    let env = TestEnv::new(PROGRAM);
    env.run("manual pages").exit(0).says("pages in pages");
    let json = env.run("manual again --format json").exit(0).json();
    assert_eq!((&json["schema"], &json["folder"]), (&"ninekeys.manual/1".into(), &"again".into()));
    assert!(json["pages"].as_array().unwrap().contains(&"ninekeys-keystore-create.1".into()));
    let page = String::from_utf8(env.read("pages/ninekeys-keystore-create.1")).unwrap();
    assert!(page.contains("insist"), "{page}");
    for name in ["ninekeys", "ninekeys-sign", "ninekeys-cabinet", "ninekeys-cabinet-restore"] {
        assert!(env.path(&format!("pages/{name}.1")).is_file(), "{name}");
    }
}
