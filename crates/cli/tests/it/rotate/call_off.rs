//! `rotate call-off`: what can be undone is undone.

use super::{due, standing};
use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn what_was_made_is_retired_and_what_was_there_signs_on() {
    let (env, _portal) = due();
    env.run("rotate draft distribution-2027 --to d.toml").exit(0);
    let before = standing(&env);
    env.run("rotate carry-out d.toml --yes").exit(1);
    env.run("rotate call-off").exit(5).says("distribution-2028").says("nobody said yes");
    env.run("rotate call-off --yes")
        .exit(0)
        .says("✓ Called off: rotation-2027-11-10")
        .says("the certificate of distribution-2028 was issued")
        .says("ninekeys identity revoke distribution-2028");
    let after = standing(&env);
    for line in before {
        assert!(after.contains(&line), "{line:?} of {after:?}");
    }
    assert!(after.contains(&("distribution-2028".into(), "retired".into(), 1)), "{after:?}");
    env.file("crossing.ipa", ninekeys_core::demo::CROSSING_IPA);
    env.run("sign crossing.ipa --for store").exit(0).says("signed with   distribution-2027");
    env.run("rotate resume").exit(5).says("no rotation is under way");
    env.run("rotate call-off rotation-2027-11-10").exit(5).says("was called off");
    env.run("rotate carry-out d.toml --yes").exit(5).says("was called off");
    // a new draft gives other names
    env.run("rotate draft distribution-2027 --to e.toml").exit(0).says("distribution-2028-2");
}

#[test]
fn an_upload_key_that_took_over_gives_back() {
    let env = TestEnv::with_project(PROGRAM);
    env.run("keystore create crossing-upload --kind upload --app crossing --common-name GP").exit(0);
    env.run("rotate draft crossing-upload --to u.toml").exit(0);
    env.run("rotate carry-out u.toml --yes").exit(1);
    let said = env.run("rotate call-off --yes --format json").exit(0).json();
    assert_eq!(said["retired"].as_array().unwrap().len(), 1, "{said}");
    env.run("board").exit(0).is_silent_on("rotation");
    assert!(standing(&env).iter().any(|(name, state, _)| name == "crossing-upload" && state == "active"));
}
