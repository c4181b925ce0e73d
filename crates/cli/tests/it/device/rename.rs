use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn only_what_people_call_it_changes() {
    let env = TestEnv::with_ios(PROGRAM);
    env.run("device add Bridge --identifier 00008030-000A1B2C3D4E802E").exit(0);
    env.run("device rename bridge 'Bridge, port side'")
        .exit(0)
        .says("was Bridge")
        .says("bridge stays its name");
    env.run("device rename 00008030-000a1b2c3d4e802e Helm").exit(0).says("✓ Helm   was Bridge, port side");
    let said = env.run("device list --format json").exit(0).json();
    let one = &said["devices"][0];
    assert_eq!((&one["title"], &one["identifier"]), (&"Helm".into(), &"00008030-000A1B2C3D4E802E".into()));
    env.run("device rename nobody X").exit(2).says("nothing in the cabinet is called");
    env.run("device rename bridge ' '").exit(2).says("cannot be a title");
}
