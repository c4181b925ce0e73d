use crate::portal::connected;

#[test]
fn a_profile_is_made_again_with_what_there_is_now_and_takes_the_place_of_the_other() {
    let (env, _portal) = connected();
    env.run("device add Bridge --identifier 00008030-000A1B2C3D4E802E").exit(0);
    env.run("prepare --app deckhand --for devices --yes").exit(0);
    env.run("device add Helm --identifier 00008030-000A1B2C3D4E802F").exit(0);
    let first = env.run("show deckhand-devices-2026 --format json").exit(0).json();
    let said = env.run("profile renew deckhand-devices-2026 --format json").exit(0).json();
    assert_eq!(said["steps"][0]["does"], "register-device");
    assert_eq!(said["profiles"].as_array().unwrap().len(), 1);
    assert_ne!(said["profiles"][0]["uuid"], first["uuid"]);
    env.run("check --app deckhand").exit(0).says("2 devices").is_silent_on("profile-lacks-device");
    env.run("inventory").exit(0).says("deckhand-devices-2026-2").says("retired");
}
