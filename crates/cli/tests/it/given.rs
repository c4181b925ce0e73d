use crate::portal::connected;

#[test]
fn the_newest_comes_first_and_one_receiver_can_be_asked_for() {
    let (env, _portal) = connected();
    env.run("given").exit(0).says("Nobody was given anything.").says("ninekeys give --app APP");
    env.run("device add Bridge --identifier 00008030-000A1B2C3D4E802F").exit(0);
    env.run("prepare --app crossing --for store --yes").exit(0);
    env.run("prepare --app deckhand --for devices --yes").exit(0);
    env.run("give --app crossing --for store --to one --receiver 'Island Builds'").exit(0);
    env.run("give --app deckhand --for devices --to two --receiver Shipyard").exit(0);
    let all = env.run("given --format json").exit(0).json();
    let receivers: Vec<&str> =
        all["given"].as_array().unwrap().iter().map(|one| one["receiver"].as_str().unwrap()).collect();
    assert_eq!(receivers, ["Shipyard", "Island Builds"]);
    let one = env.run("given --receiver 'island builds' --format json").exit(0).json();
    assert_eq!(one["given"].as_array().unwrap().len(), 1);
    env.run("given")
        .exit(0)
        .says("All that was given is what is used")
        .says("deckhand for registered devices");
    // a profile that was made again took the place of what Shipyard has
    env.run("device add Helm --identifier 00008030-000A1B2C3D4E8030").exit(0);
    env.run("prepare --app deckhand --for devices --yes").exit(0);
    let said = env.run("given --receiver Shipyard --format json").exit(0).json();
    let profile = &said["given"][0]["items"][1];
    assert_eq!(
        (&profile["standing"], &profile["replaced_by"]),
        (&"retired".into(), &"deckhand-devices-2026-2".into())
    );
    assert_eq!(
        env.run("given --receiver 'Island Builds' --format json").exit(0).json()["given"][0]["stale"],
        false
    );
}
