//! With every fault switched on, the flow ends where it ends without.

use crate::portal::{Running, call, connected, start, start_with};
use serde_json::Value;
use testkit::TestEnv;

/// Everything that the portal has, asked by nobody of ours.
fn at_the_portal(env: &TestEnv, portal: &Running) -> Vec<(&'static str, Vec<Value>)> {
    let token = env.run("apikey token owner --scope all").exit(0).stdout;
    let of = |kind: &'static str| {
        let head =
            format!("GET /portal/v1/{kind} HTTP/1.1\nhost: portal\nauthorization: Bearer {}\n", token.trim());
        let (status, body) = call(&portal.address, &format!("{head}connection: close\n\n"));
        assert!(status.ends_with("200 OK"), "{kind}: {status} {body}");
        let items: Value = serde_json::from_str(&body).unwrap();
        (kind, items["items"].as_array().unwrap().clone())
    };
    ["certificates", "app-ids", "devices", "profiles"].map(of).to_vec()
}

/// What there is of each kind, without what is another each time.
fn shape(all: &[(&'static str, Vec<Value>)]) -> Vec<String> {
    let of = |(kind, items): &(&str, Vec<Value>)| {
        let names = items.iter().map(|item| {
            let fields =
                ["kind", "bundle_id", "capabilities", "identifier", "title", "destination", "revoked"];
            fields.map(|field| item[field].to_string()).join(" ")
        });
        format!("{kind}: {}", names.collect::<Vec<_>>().join(", "))
    };
    all.iter().map(of).collect()
}

/// Everything that a team does in a year, each step as often as it takes.
fn year(env: &TestEnv) -> u32 {
    env.run("device add Bridge --identifier 00008030-000A1B2C3D4E802E").exit(0);
    env.run("app change deckhand --capability push").exit(0);
    let steps = [
        "prepare --app deckhand --for devices --yes",
        "prepare --app crossing --for store --yes",
        "profile renew crossing-store-2026",
        "identity revoke distribution-2027 --yes",
        "prepare --app crossing --for store --yes",
    ];
    let mut again = 0;
    for step in steps {
        let done = (0..20).any(|_| {
            let code = env.run(step).code();
            assert!(matches!(code, 0 | 6), "{step} ended with {code}");
            again += u32::from(code == 6);
            code == 0
        });
        assert!(done, "{step} was never done");
        env.run("cabinet status --prove").exit(0);
    }
    again
}

#[test]
fn whatever_goes_wrong_on_the_way_it_ends_as_if_nothing_had() {
    ends_the_same(&["all=12,seed=1"]);
}

#[test]
#[ignore = "a minute: one fault at a time, and often"]
fn however_often_one_thing_goes_wrong_it_ends_as_if_nothing_had() {
    ends_the_same(&["dropped=40,seed=2", "cut=40,seed=3", "failed=30,busy=5,seed=4"]);
}

fn ends_the_same(all: &[&str]) {
    let (plain, portal) = connected();
    assert_eq!(year(&plain), 0);
    let expected = shape(&at_the_portal(&plain, &portal));
    assert!(expected.iter().all(|line| !line.ends_with(": ")), "{expected:?}");
    for faults in all {
        let (env, portal) = connected();
        let listen = portal.address.trim_start_matches("http://").to_owned();
        drop(portal);
        let disturbed = start_with(&env, &["--listen", &listen, "--faults", faults]);
        assert!(disturbed.said["faults"].is_string());
        year(&env);
        drop(disturbed);
        let portal = start(&env, &listen);
        assert_eq!(shape(&at_the_portal(&env, &portal)), expected, "{faults}");
        env.run("check --app crossing").exit(0);
    }
}

#[test]
fn a_private_key_that_was_lost_on_the_way_is_said_to_be_and_nothing_is_kept_half() {
    let (env, portal) = connected();
    let listen = portal.address.trim_start_matches("http://").to_owned();
    drop(portal);
    let mut lost = 0;
    for seed in 0..8 {
        let line = format!("apikey create key{seed} --use uploads");
        let cut = start_with(&env, &["--listen", &listen, "--faults", &format!("cut=50,seed={seed}")]);
        let first = env.run(&line).code();
        drop(cut);
        let portal = start(&env, &listen);
        if first == 6 {
            env.run("inventory").exit(0).is_silent_on(&format!("key{seed} "));
        }
        match (first, env.run(&line).code()) {
            (0, again) => assert_eq!(again, 5, "the name is taken"),
            (_, 0) => {}
            _ => {
                // said again, nothing more is done
                env.run(&line).exit(6).says("changed   nothing");
                env.run(&line).exit(6).says("cannot be fetched again").says("under another name");
                env.run(&format!("show key{seed}")).exit(2);
                env.run(&format!("apikey create other{seed} --use uploads")).exit(0);
                lost += 1;
            }
        }
        drop(portal);
    }
    assert!(lost > 0, "no download was ever cut");
    env.run("cabinet status --prove").exit(0);
}

#[test]
fn a_clock_that_is_behind_the_portals_or_ahead_of_it_is_no_hindrance() {
    for at in ["2026-12-01T00:02:00Z", "2026-11-30T23:59:30Z"] {
        let (env, portal) = connected();
        let listen = portal.address.trim_start_matches("http://").to_owned();
        drop(portal);
        let _portal = start_with(&env, &["--listen", &listen, "--at", at]);
        for number in 0..8 {
            env.run(&format!("device add Helm{number} --identifier 00008030-000A1B2C3D4E800{number}"))
                .exit(0);
        }
        env.run("prepare --app deckhand --for devices --yes")
            .exit(0)
            .says("✓ Ready")
            .says("register 8 devices")
            .is_silent_on("Helm3");
    }
}

#[test]
fn faults_that_are_none_are_refused() {
    let env = TestEnv::with_ios(crate::PROGRAM);
    env.run("stand-in serve --faults rain=3").exit(2).says("`rain=3` is no fault");
    env.run("stand-in serve --faults all=30").exit(2).says("150 of 100 calls");
}
