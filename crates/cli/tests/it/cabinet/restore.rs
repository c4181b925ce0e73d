use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn a_damaged_copy_is_refused_and_the_cabinet_stays() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("cabinet backup copies").exit(0);
    let name = "copies/ninekeys-20310519T120000Z.cabinet";
    let mut bytes = env.read(name);
    let at = testkit::builds::first(&bytes, b"EC P-256");
    bytes[at + 3] = b'Q';
    env.file("bad.cabinet", &bytes);
    let before = env.read("ninekeys.cabinet");
    env.run("cabinet restore bad.cabinet --yes").exit(3).says("changed by something else");
    assert_eq!(env.read("ninekeys.cabinet"), before);
    env.run("cabinet restore crossing.apk --yes").exit(3).says("not a cabinet");
}
