//! Rotations: drafted, carried out through the built stand-in, cut off, resumed, called off.

mod call_off;
mod carry_out;
mod draft;
mod resume;

use testkit::TestEnv;

use crate::portal::{Running, connected, start};

/// A project whose distribution identity and profiles fall due, and the portal at that time.
pub(crate) fn due() -> (TestEnv, Running) {
    let (env, portal) = connected();
    env.run("app change crossing --extension share=example.gannetpoint.crossing.share").exit(0);
    env.run("device add Bridge --identifier 00008030-000A1B2C3D4E802E").exit(0);
    env.run("prepare --app deckhand --for devices --yes").exit(0);
    env.run("prepare --app crossing --for store --yes").exit(0);
    let address = portal.address.trim_start_matches("http://").to_owned();
    drop(portal);
    let env = env.at("2027-11-10T09:00:00Z");
    let portal = start(&env, &address);
    (env, portal)
}

/// The states of all items by name, and what took the place of what.
pub(crate) fn standing(env: &TestEnv) -> Vec<(String, String, u64)> {
    let said = env.run("inventory --format json").exit(0).json();
    let text = |value: &serde_json::Value| value.as_str().unwrap_or_default().to_owned();
    let line = |one: &serde_json::Value| {
        (text(&one["name"]), text(&one["state"]), one["generation"].as_u64().unwrap_or_default())
    };
    said["items"].as_array().unwrap().iter().map(line).collect()
}
