use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn the_file_goes_out_as_it_came_in_under_its_identifier() {
    let env = TestEnv::with_identity(PROGRAM);
    env.run("profile import in/deckhand-devices.mobileprovision --name rota").exit(0);
    env.run("profile export rota --to out.mobileprovision").exit(0).says("as it came in");
    assert_eq!(env.read("out.mobileprovision"), env.read("in/deckhand-devices.mobileprovision"));
    let said = env.run("profile export rota --format json").exit(0).json();
    let file = said["file"].as_str().unwrap();
    assert_eq!(file, format!("{}.mobileprovision", said["uuid"].as_str().unwrap()));
    assert_eq!(env.read(file), env.read("in/deckhand-devices.mobileprovision"));
    env.run("profile export rota").exit(5).says("exists already").says("--replace");
    env.run("profile export gp-distribution").exit(2).says("is an identity, not a provisioning profile");
    env.run("profile export nothing").exit(2).says("nothing in the cabinet is called");
}
