use crate::PROGRAM;
use testkit::{TestEnv, has};

#[test]
fn an_identity_comes_in_with_key_and_chain_also_in_the_old_encryption() {
    let env = TestEnv::with_ios(PROGRAM);
    env.run("identity import in/distribution.p12 --password-in pw --name gp-distribution")
        .exit(0)
        .says("1 identity out of in/distribution.p12")
        .says("gp-distribution   distribution identity of GPFERRY009, new here")
        .says(
            "not complete: the certificate of C=US,O=Test Vendor,OU=Test G3,CN=Test Developer Relations CA",
        );
    env.run("identity import in/push-legacy.p12 --password-in pw")
        .exit(0)
        .says("3DES")
        .says("for             Crossing");
    let history = env.run("cabinet history --format json").exit(0).stdout;
    env.run("identity import in/distribution.p12 --password-in pw")
        .exit(0)
        .says("here already, nothing changed");
    assert_eq!(env.run("cabinet history --format json").exit(0).stdout, history);
}

#[test]
fn three_that_look_alike_are_told_apart_everywhere() {
    let env = TestEnv::with_ios(PROGRAM);
    env.run("identity import in/distribution-2025.p12 --password-in pw").exit(0).says("it has ended");
    let said = env.run("identity accept in/distribution.cer").exit(0);
    said.says("looks like distribution-2026: serial 7F:70:30…, until 1 Oct 2026").says("key here");
    env.run("profile import in/crossing-store.mobileprovision").exit(0);
    let list = env.run("inventory").exit(0);
    list.says("2C:B0:9A…").says("7F:70:30…").says("1 profile").says("without key").says("expired");
    env.run("compare distribution-2026 distribution-2027").exit(1).says("Not the same key");
    // the key arrives: the certificate that waited for it is whole
    env.run("identity import in/distribution.p12 --password-in pw").exit(0).says("has its key now");
    env.run("inventory").exit(0).is_silent_on("without key");
}

#[test]
fn an_archive_with_several_brings_all_of_them_and_leaves_what_is_none() {
    if !has("openssl", "version") {
        return;
    }
    let env = TestEnv::with_ios(PROGRAM);
    env.run("keystore create quay --common-name Quay --algorithm ec-p256").exit(0);
    env.run("keystore export quay --to quay.p12 --note-password quay.pw").exit(0);
    env.run("identity import quay.p12 --password-in quay.pw")
        .exit(5)
        .says("there is no identity in it")
        .says("is marked neither for development nor for distribution nor for push")
        .says("`ninekeys keystore import`");
    env.run("identity import in/distribution.p12 --password-in quay.pw").exit(4).says("password is wrong");
    env.run("identity import pw --password-in pw").exit(3).says("it is no keystore");
    env.run("identity import in/distribution.p12").exit(4).says("no terminal to ask for the password");
}
