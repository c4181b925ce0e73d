//! `rotate draft`: what it says beforehand.

use super::due;
use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn it_says_every_step_in_order_with_reasons_and_does_nothing() {
    let (env, _portal) = due();
    env.run("board")
        .exit(0)
        .says("distribution-2027 (distribution identity; 3 profiles)")
        .says("ninekeys rotate draft distribution-2027");
    let before = env.run("cabinet history --format json").exit(0).stdout;
    let said = env.run("rotate draft distribution-2027 --format json").exit(0).json();
    assert_eq!(env.run("cabinet history --format json").exit(0).stdout, before, "nothing was changed");
    let does: Vec<&str> =
        said["steps"].as_array().unwrap().iter().map(|s| s["does"].as_str().unwrap()).collect();
    assert_eq!(
        does,
        [
            "make-identity",
            "get-certificate",
            "get-profile",
            "get-profile",
            "get-profile",
            "prove-build",
            "prove-build",
            "change-settings",
            "change-settings",
            "retire",
            "retire",
            "retire",
            "retire"
        ]
    );
    assert_eq!(said["meanwhile"][0]["item"], "distribution-2027");
    assert_eq!(said["file"], "rotation-2027-11-10.toml");
    let draft = String::from_utf8(env.read("rotation-2027-11-10.toml")).unwrap();
    assert!(draft.contains("#  13  retire distribution-2027; distribution-2028 takes its place"), "{draft}");
    assert!(draft.contains("ninekeys rotate carry-out rotation-2027-11-10.toml"), "{draft}");
    // a file that is there is not written over unasked
    env.run("rotate draft distribution-2027").exit(5).says("rotation-2027-11-10.toml");
    env.run("rotate draft distribution-2027 --replace").exit(0).says("13 steps, nothing of it done yet");
    env.run("rotate draft distribution-2027 --revoke --to other.toml")
        .exit(0)
        .says("revoke the certificate of distribution-2027, and retire it");
    env.run("rotate draft distribution-2027 --to ninekeys.toml --replace").exit(5);
}

#[test]
fn what_falls_due_is_one_draft_that_shares_steps() {
    let (env, _portal) = due();
    let said = env.run("rotate draft --due 60d --format json").exit(0).json();
    assert_eq!(said["rotates"].as_array().unwrap().len(), 4, "{said}");
    let made = said["steps"].as_array().unwrap().iter().filter(|step| step["does"] == "get-profile").count();
    assert_eq!(made, 3, "a profile that the identity takes with it is made once: {said}");
    env.run("rotate draft --due 10d --to none.toml").exit(5).says("nothing falls due within 10 days");
    assert!(!env.path("none.toml").exists());
}

#[test]
fn what_cannot_be_replaced_is_refused_with_the_reason() {
    let env = TestEnv::with_identity(PROGRAM);
    env.run("rotate draft").exit(2).says("nothing says what is to be replaced");
    env.run("rotate draft nobody").exit(2).says("nothing in the cabinet is called `nobody`");
    env.run("device add Bridge --identifier 00008030-000A1B2C3D4E802E").exit(0);
    env.run("rotate draft bridge").exit(5).says("bridge is a device, and nothing takes the place of one");
    env.run("identity request waits --kind development").exit(0);
    env.run("rotate draft waits").exit(5).says("waits is not whole").says("ninekeys show waits");
    env.run("rotate draft --due soon").exit(2).says("60d");
}
