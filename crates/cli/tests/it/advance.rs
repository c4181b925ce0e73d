use crate::portal::start_with;
use crate::upload::{ANDROID, IOS, ready};

/// The same store at a later time.
pub(crate) fn later(
    env: testkit::TestEnv,
    portal: crate::portal::Running,
    now: &str,
) -> (testkit::TestEnv, crate::portal::Running) {
    let port = portal.address.rsplit(':').next().unwrap().to_owned();
    drop(portal);
    let env = env.at(now);
    let portal = start_with(&env, &["--listen", &format!("127.0.0.1:{port}")]);
    (env, portal)
}

#[test]
fn the_same_bytes_go_to_testers_and_then_to_everyone() {
    let (env, portal) = ready();
    env.run(&format!("upload {ANDROID}")).exit(0);
    env.run(&format!("advance {ANDROID} --to testing"))
        .exit(6)
        .says("is processing")
        .says("ninekeys deliveries");
    let (env, portal) = later(env, portal, "2026-12-01T00:00:10Z");
    env.run("deliveries --watch").exit(0).says("ready for testers");
    env.run("advance nothing --to testing").exit(2).says("the store has no build nothing");
    // another file of that name is another build
    let bytes = env.read(ANDROID);
    env.file(ANDROID, &[bytes.clone(), vec![0]].concat());
    env.run(&format!("advance {ANDROID} --to testing")).exit(2).says("the store has no build");
    env.file(ANDROID, &bytes);
    let json = env.run(&format!("advance {ANDROID} --to testing --format json")).exit(0).json();
    crate::formats::hold("advance", &json);
    assert_eq!((json["stage"].as_str(), json["was"].as_str()), (Some("testing"), Some("ready")));
    env.run("advance 12 --to everyone").exit(5).says("goes to everyone, and nobody said yes");
    env.run("advance 12 --to everyone --yes").exit(0).says("is in review, and was testing");
    let (env, _portal) = later(env, portal, "2026-12-01T00:00:20Z");
    let json = env.run("deliveries --format json").exit(0).json();
    let one = &json["deliveries"][0];
    assert_eq!(one["stage"], "live");
    let stages: Vec<&str> =
        one["stages"].as_array().unwrap().iter().map(|one| one["stage"].as_str().unwrap()).collect();
    assert_eq!(stages, ["processing", "ready", "testing", "in-review", "live"]);
    assert_eq!(one["sha256"].as_str().unwrap().len(), 64);
    env.run("cabinet history").exit(0).says("at the store goes to everyone");
}

#[test]
fn a_version_that_is_live_takes_no_more_builds() {
    let (env, portal) = ready();
    env.run(&format!("upload {IOS}")).exit(0);
    let (env, portal) = later(env, portal, "2026-12-01T00:00:10Z");
    env.run(&format!("advance {IOS} --to everyone --yes"))
        .exit(0)
        .says("is in review, and was ready for testers");
    let (env, _portal) = later(env, portal, "2026-12-01T00:00:20Z");
    env.run("sign crossing.ipa --for store --set-build 13").exit(0);
    let refused = env.run("upload crossing-2.4.0-13-store.ipa").exit(6);
    refused
        .says("version-closed")
        .says("version 2.4.0 is live, and takes no more builds")
        .says("needed 2.4.1");
    refused.says("ninekeys sign crossing-2.4.0-13-store.ipa --for store --set-version 2.4.1");
    env.run("sign crossing-2.4.0-13-store.ipa --for store --set-version 2.4.1").exit(0);
    env.run("upload crossing-2.4.1-13-store.ipa").exit(0);
}
