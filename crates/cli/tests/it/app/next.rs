use crate::PROGRAM;
use crate::portal::start_with;
use crate::upload::{ANDROID, ready};
use testkit::TestEnv;

#[test]
fn without_a_store_it_goes_by_the_ledger_and_unlocks_nothing() {
    let env = TestEnv::with_key(PROGRAM);
    let fresh = env.run("app next crossing").exit(0);
    fresh.says("Crossing · Android   1.0 (1)").says("signed        none").says("not asked");
    env.run("sign crossing.apk").exit(0);
    std::fs::remove_file(env.path("unlock.txt")).unwrap();
    let json = env.run("app next crossing --format json").exit(0).json();
    let side = &json["sides"][0];
    assert_eq!((side["version"].as_str(), side["number"].as_str()), (Some("2.4.0"), Some("13")), "{json:#}");
    assert_eq!((side["signed"].as_str(), json["store_asked"].as_bool()), (Some("12"), Some(false)));
    env.run("app next nothing").exit(2).says("no app called nothing");
}

#[test]
fn what_is_at_the_store_counts_too_and_a_live_version_is_closed() {
    let (env, portal) = ready();
    env.run(&format!("upload {ANDROID}")).exit(0);
    env.run("upload crossing-2.4.0-12-store.ipa").exit(0);
    let json = env.run("app next quayside --format json").exit(0).json();
    assert_eq!(
        (json["sides"][0]["delivered"].as_str(), json["store_asked"].as_bool()),
        (Some("12"), Some(true))
    );
    let port = portal.address.rsplit(':').next().unwrap().to_owned();
    drop(portal);
    env.run("app next quayside").exit(6).says("ninekeys app next quayside --ledger-alone");
    env.run("app next quayside --ledger-alone").exit(0).says("2.4.0 (13)").says("not asked");
    let mut env = env;
    for now in ["2026-12-01T00:00:10Z", "2026-12-01T00:00:20Z"] {
        env = env.at(now);
        let _portal = start_with(&env, &["--listen", &format!("127.0.0.1:{port}")]);
        crate::advance::review(&env, "crossing");
        env.run("advance crossing-2.4.0-12-store.ipa --to everyone --new A --yes").exit(0);
        if now.ends_with("20Z") {
            env.run("app next crossing").exit(0).says("2.4.1 (1)").says("is live, and closed");
        }
    }
}
