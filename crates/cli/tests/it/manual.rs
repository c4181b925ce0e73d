use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn there_is_a_page_for_every_command() {
    let env = TestEnv::new(PROGRAM);
    env.run("manual pages").exit(0).says("pages in pages");
    let page = String::from_utf8(env.read("pages/ninekeys-keystore-create.1")).unwrap();
    assert!(page.contains("insist"), "{page}");
    for name in ["ninekeys", "ninekeys-sign", "ninekeys-cabinet", "ninekeys-cabinet-restore"] {
        assert!(env.path(&format!("pages/{name}.1")).is_file(), "{name}");
    }
}
