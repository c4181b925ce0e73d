use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn the_list_says_which_profiles_allow_a_device_whichever_came_first() {
    let env = TestEnv::with_identity(PROGRAM);
    env.run("device list")
        .exit(0)
        .says("No device is registered")
        .says("device add NAME --identifier IDENTIFIER");
    env.run("profile import in/deckhand-devices.mobileprovision").exit(0);
    env.run("device add Bridge --identifier 00008030-000A1B2C3D4E802E").exit(0);
    env.run("device add Spare --identifier 00008030-000A1B2C3D4E802F").exit(0);
    env.run("profile import in/wildcard-development.mobileprovision").exit(0);
    let said = env.run("device list --format json").exit(0).json();
    let profiles: Vec<&serde_json::Value> =
        said["devices"].as_array().unwrap().iter().map(|one| &one["profiles"]).collect();
    assert_eq!(profiles[0], &serde_json::json!(["any-app-development-2026", "deckhand-devices-2026"]));
    assert_eq!(profiles[1], &serde_json::json!([]));
    env.run("device list").exit(0).says("none");
}
