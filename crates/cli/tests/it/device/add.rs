use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn a_device_is_registered_once_in_either_form_of_its_identifier() {
    let env = TestEnv::with_ios(PROGRAM);
    env.run("device add 'Bridge tablet' --identifier 00008030-000a1b2c3d4e802e")
        .exit(0)
        .says("✓ bridge-tablet   Bridge tablet, 00008030-000A1B2C3D4E802E")
        .says("1 of 100 devices registered");
    env.run("device add Other --identifier 00008030-000A1B2C3D4E802E")
        .exit(5)
        .says("already, as Bridge tablet");
    env.run("device add Pier --identifier 4F1C2D3E5A6B7C8D9E0F1A2B3C4D5E6F70819203").exit(0);
    env.run("device add Bad --identifier 1234").exit(2).says("`1234` is no device identifier");
    env.run("device add Bad").exit(2).says("--identifier IDENTIFIER");
    env.run("device add ' ' --identifier 00008030-000A1B2C3D4E8FFF").exit(2).says("cannot be a title");
}

#[test]
fn two_at_once_register_one_device_once() {
    let env = TestEnv::with_ios(PROGRAM);
    let start = || {
        let words = ["device", "add", "Twin", "--identifier", "00008030-000A1B2C3D4E802E"];
        env.command(words)
            .stdout(std::process::Stdio::null())
            .stderr(std::process::Stdio::null())
            .spawn()
            .unwrap()
    };
    let both = [start(), start(), start()];
    let done = both
        .into_iter()
        .filter(|_| true)
        .map(|mut one| one.wait().unwrap().code())
        .filter(|code| *code == Some(0));
    assert_eq!(done.count(), 1);
    env.run("device list").exit(0).says("1 device");
}
