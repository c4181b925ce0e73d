//! `check --app` and `check --all`: whether everything is in place before there is a build.

use crate::PROGRAM;
use testkit::TestEnv;

/// Everything that Crossing needs for the store.
fn whole() -> TestEnv {
    let env = TestEnv::with_identity(PROGRAM);
    env.run("profile import in/crossing-store.mobileprovision").exit(0);
    env
}

#[test]
fn all_is_in_place_from_an_identity_and_a_profile_on() {
    let env = TestEnv::with_ios(PROGRAM);
    env.run("check --app crossing --for store")
        .exit(1)
        .says("✗ Not ready for the store")
        .says("identity-missing")
        .says("profile-missing")
        .says("ninekeys prepare --app crossing --for store");
    env.run("identity import in/distribution.p12 --name gp-distribution --password-in pw").exit(0);
    env.run("profile import in/crossing-store.mobileprovision")
        .exit(0)
        .says("check --app crossing --for store");
    env.run("check --app crossing")
        .exit(1)
        .says("identity-chain-incomplete")
        .says("ninekeys identity accept FILE");
    env.run("identity accept in/intermediate.pem").exit(0);
    env.run("check --app crossing --for store").exit(0).says("✓ Ready for the store").says("all fine");
    env.run("check -q --app crossing").exit(0).is_silent_on("Ready");
    let said = env.run("check --app crossing --format json").exit(0).json();
    assert_eq!(said["setups"][0]["identity"]["identity"], "gp-distribution");
    assert_eq!(said["setups"][0]["parts"][0]["profile"]["profile"], "crossing-store-2026");
}

#[test]
fn each_profile_that_could_fit_is_told_with_what_speaks_against_it() {
    let env = TestEnv::with_identity(PROGRAM);
    env.run(
        "profile import in/crossing-store-expired.mobileprovision in/wildcard-development.mobileprovision",
    )
    .exit(0);
    let said = env.run("check --app crossing --for store").exit(1);
    said.says("✗ profile-expired")
        .says("ended 1 Oct 2026")
        .says("this profile lacks your certificate B0:ED:80…");
    said.says("· profile-kind-wrong").says("this profile is for development").is_silent_on("profile-missing");
    let other = TestEnv::with_identity(PROGRAM);
    other.run("profile import in/crossing-share-store.mobileprovision").exit(0);
    other
        .run("check --app crossing --for store")
        .exit(1)
        .says("✗ profile-missing")
        .says("· profile-app-mismatch")
        .says("GPFERRY009.example.gannetpoint.crossing.share");
}

#[test]
fn an_extension_needs_a_profile_of_its_own() {
    let env = whole();
    env.run("app change crossing --extension share=example.gannetpoint.crossing.share").exit(0);
    env.run("check --app crossing").exit(1).says("example.gannetpoint.crossing.share (share)");
    env.run("profile import in/crossing-share-store.mobileprovision").exit(0);
    env.run("check --app crossing")
        .exit(0)
        .says("crossing-share-store-2026 (Crossing share store 2026) for share");
}

#[test]
fn a_capability_that_is_switched_on_later_says_which_profiles_are_too_old() {
    let env = whole();
    env.run("app change crossing --capability app-groups")
        .exit(0)
        .says("crossing-store-2026 does not grant what the app has now, and has to be made again");
    env.run("check --app crossing")
        .exit(1)
        .says("profile-older-than-app")
        .says("expected  com.apple.security.application-groups");
    env.run("app change crossing --without-capability app-groups").exit(0);
    env.run("check --app crossing").exit(0);
}

#[test]
fn push_without_a_certificate_and_the_sandbox_left_in_place_are_findings_of_their_own() {
    let env = whole();
    env.run("app change crossing --capability push").exit(0);
    env.run("check --app crossing")
        .exit(0)
        .says("! push-identity-missing")
        .says("--kind push --app crossing");
    env.run("identity request bell --kind push --app crossing").exit(0);
    env.run("check --app crossing").exit(0).says("asked for, and its certificate is not here yet");
    env.run("identity import in/push-legacy.p12 --password-in pw").exit(0);
    env.run("check --app crossing").exit(0).is_silent_on("push-identity");
}

#[test]
fn devices_that_came_after_the_profile_and_dates_are_said_beforehand() {
    let env = TestEnv::with_identity(PROGRAM);
    env.run("profile import in/deckhand-devices.mobileprovision").exit(0);
    env.run("device add Bridge --identifier 00008030-000A1B2C3D4E802E").exit(0);
    env.run("check --app deckhand").exit(0).says("✓ Ready for registered devices").says("2 devices");
    env.run("device add 'New tablet' --identifier 00008030-000A1B2C3D4E8FFF").exit(0);
    env.run("check --app deckhand").exit(0).says("! profile-older-than-devices").says("New tablet");
    let later = env.at("2027-11-01T00:00:00Z");
    later
        .run("check --app deckhand")
        .exit(0)
        .says("identity-expires-soon")
        .says("profile-expires-soon")
        .says("ninekeys rotate draft ");
    let after = later.at("2028-01-01T00:00:00Z");
    after.run("check --app deckhand").exit(1).says("✗ identity-expired").says("✗ profile-expired");
}

#[test]
fn a_key_that_is_elsewhere_and_a_broken_chain_are_told_apart() {
    let env = TestEnv::with_ios(PROGRAM);
    env.run("identity accept in/distribution.cer").exit(0);
    env.run("check --app crossing")
        .exit(1)
        .says("identity-without-private-key")
        .says("ninekeys identity import FILE");
    let held = TestEnv::with_ios(PROGRAM);
    held.run("identity accept in/distribution.cer --held-by 'the build service'").exit(0);
    let said = held.run("check --app crossing").exit(1);
    said.says("is held by the build service").is_silent_on("identity-without-private-key");
    let env = TestEnv::with_identity(PROGRAM);
    env.run("identity accept in/root.pem").exit(0);
    let project = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    env.file("root.toml", project.replace("in/root.pem", "in/intermediate.pem").as_bytes());
    env.run("check --app crossing --project root.toml").exit(1).says("identity-chain-untrusted");
}

#[test]
fn everything_at_once_is_for_a_nightly_job_in_every_format() {
    let env = whole();
    env.run("app remove deckhand --yes").exit(0);
    env.run("check --all").exit(0).says("✓ All is in place   1 app and destination");
    assert_eq!(env.run("check --all -q").exit(0).stdout, "");
    env.run("app add deckhand --bundle-id example.gannetpoint.deckhand --for devices").exit(0);
    env.run("check --all -q").exit(1).says("profile-missing").says("✗ 1 of 2 apps and destinations ready");
    let sarif = env.run("check --all --format sarif").exit(1).json();
    let result = &sarif["runs"][0]["results"][0];
    assert_eq!(result["ruleId"], "profile-missing");
    let place = result["locations"][0]["logicalLocations"][0]["fullyQualifiedName"].as_str().unwrap();
    assert!(place.starts_with("deckhand for devices: "), "{place}");
    let junit = env.run("check --all --format junit").exit(1).stdout;
    assert!(junit.contains("name=\"deckhand for devices\"") && junit.contains("<failure"), "{junit}");
    env.run("check --all crossing.ipa").exit(2);
    env.run("check").exit(2);
    env.run("check --app quay").exit(2).says("no app called quay");
    env.run("app add quay --package example.gannetpoint.quay --for direct").exit(0);
    env.run("check --app quay").exit(2).says("has no iOS side").says("ninekeys check BUILD");
    env.run("check --app crossing --for direct").exit(2).says("builds for direct are not for iOS");
}

#[test]
fn an_identity_for_something_else_is_told_and_a_limit_that_is_near() {
    let env = TestEnv::with_ios(PROGRAM);
    env.run("identity accept in/intermediate.pem").exit(0);
    env.run("identity import in/development.p12 --password-in pw").exit(0);
    let said = env.run("check --app crossing --for store").exit(1);
    said.says("identity-wrong-purpose").says("is a development identity, and signs no build for the store");
    env.run("check --app crossing --for development").exit(1).is_silent_on("identity-wrong-purpose");
    let list = |from: u32, to: u32| {
        (from..to).map(|n| format!("00008030-000A1B2C3D4E{n:04X},Tablet {n}\n")).collect::<String>()
    };
    env.file("some.csv", list(0, 90).as_bytes());
    env.run("device import some.csv").exit(0);
    env.run("check --all").exit(1).is_silent_on("limit-near");
    env.file("more.csv", list(90, 93).as_bytes());
    env.run("device import more.csv").exit(0);
    env.run("check --all").exit(1).says("limit-near").says("the portal takes 7 more devices this year");
}
