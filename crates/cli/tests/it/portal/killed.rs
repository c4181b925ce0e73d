//! The single steps through the portal, killed at random instants: the cabinet stays whole, and the same command again comes to
//! its end.

use std::process::{Child, Stdio};
use std::time::{Duration, Instant};

use super::connected;
use testkit::TestEnv;

/// How often each is killed.
const KILLS: u32 = 4;

fn start(env: &TestEnv, line: &str) -> Child {
    let words = line.split(' ');
    env.command(words).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
}

/// Kills a command over the time that it takes, and tells how many kills fell into the work; `N` is another number each time.
fn killed(env: &TestEnv, line: &str, again: &[i32]) -> u32 {
    let begun = Instant::now();
    start(env, &line.replace('N', "0")).wait().unwrap();
    let whole = begun.elapsed().max(Duration::from_millis(20));
    let mut inside = 0;
    for kill in 1..=KILLS {
        let line = line.replace('N', &kill.to_string());
        let mut child = start(env, &line);
        std::thread::sleep(whole * kill / (KILLS + 1));
        child.kill().unwrap();
        inside += u32::from(child.wait().unwrap().code().is_none());
        env.run("cabinet status --prove").exit(0);
        let code = env.run(&line).code();
        assert!(again.contains(&code), "{line} ended with {code} after a kill");
        env.run("cabinet status --prove").exit(0);
    }
    inside
}

#[test]
fn each_step_through_the_portal_is_killed_and_the_same_command_again_comes_to_its_end() {
    let (env, _portal) = connected();
    let mut inside = 0;
    // a key whose one download was cut off is said to be lost
    inside += killed(&env, "apikey create keyN --use uploads", &[0, 5, 6]);
    env.run("device add Bridge --identifier 00008030-000A1B2C3D4E802F").exit(0);
    for number in 0..=KILLS {
        env.run(&format!("app add pier{number} --bundle-id example.gannetpoint.pier{number} --for devices"))
            .exit(0);
    }
    env.run("prepare --app deckhand --for devices --yes").exit(0);
    inside += killed(&env, "profile create --app pierN --for devices", &[0, 5]);
    inside += killed(
        &env,
        "give --app pierN --for devices --receiver Shipyard --to outN --note-password noteN",
        &[0, 5],
    );
    inside += killed(&env, "portal take-in", &[0]);
    inside += killed(&env, "identity revoke distribution-2027 --yes", &[0]);
    assert!(inside >= 6, "only {inside} kills fell into the work");
    // every folder that was given is whole, with a row and its password, or it is not there
    let rows = env.run("given --format json").exit(0).json()["given"].as_array().unwrap().len();
    let mut folders = 0;
    for number in 0..=KILLS {
        let folder = env.path(&format!("out{number}"));
        let files = std::fs::read_dir(&folder).map(|all| all.count()).unwrap_or_default();
        assert!([0, 3].contains(&files), "out{number} has {files} files");
        assert!(files == 0 || env.path(&format!("note{number}")).exists());
        folders += usize::from(files == 3);
    }
    assert_eq!((rows, folders), (5, 5));
    let all = env.run("portal take-in --format json").exit(0).json();
    assert_eq!(all["certificates"].as_array().unwrap().len(), 1, "none was issued twice");
}

#[test]
fn an_upload_that_is_killed_is_at_the_store_once() {
    let (env, _portal) = crate::upload::ready();
    let mut inside = 0;
    for kill in 0..6u32 {
        let number = 20 + kill;
        env.run(&format!("sign quay.apk --app quayside --for store --set-build {number}")).exit(0);
        let line = format!("upload quayside-2.4.0-{number}-store.apk");
        let mut child = start(&env, &line);
        std::thread::sleep(Duration::from_millis(u64::from(15 * kill)));
        child.kill().unwrap();
        inside += u32::from(child.wait().unwrap().code().is_none());
        env.run("cabinet status --prove").exit(0);
        // what was through before the kill is there already
        let code = env.run(&line).code();
        assert!([0, 6].contains(&code), "{line} ended with {code} after a kill");
    }
    assert!(inside >= 2, "only {inside} kills fell into the work");
    let listed = env.run("deliveries --format json").exit(0).json();
    let numbers: Vec<&str> =
        listed["deliveries"].as_array().unwrap().iter().map(|one| one["number"].as_str().unwrap()).collect();
    assert_eq!(numbers, ["25", "24", "23", "22", "21", "20"], "each once");
}

/// The lines of an answer, by a field of each.
fn listed(env: &TestEnv, line: &str, of: &str, field: &str) -> Vec<String> {
    let json = env.run(&format!("{line} --format json")).exit(0).json();
    json[of].as_array().unwrap().iter().map(|one| one[field].as_str().unwrap().to_owned()).collect()
}

#[test]
fn each_step_from_a_record_to_everyone_is_killed_and_done_once() {
    let (env, portal) = crate::upload::ready();
    for number in 0..=KILLS {
        env.run(&format!("app add pier{number} --package example.gannetpoint.pier{number} --for store"))
            .exit(0);
        for (name, kind) in [("s", "signing"), ("u", "upload"), ("v", "upload")] {
            let key = format!("keystore create {name}{number} --app pier{number} --kind {kind}");
            env.run(&format!("{key} --common-name A --algorithm ec-p256")).exit(0);
        }
    }
    let mut inside = 0;
    inside += killed(&env, "app change pierN --publish", &[0]);
    inside += killed(&env, "keystore deposit --app pierN --upload uN --yes", &[0]);
    inside += killed(&env, "keystore replace-upload --app pierN --key vN --yes", &[0]);
    inside += killed(&env, "testers group crewN --app quayside", &[0]);
    inside +=
        killed(&env, "testers invite aN@gannetpoint.example bN@gannetpoint.example --group crewN", &[0]);
    for number in 20..=20 + KILLS {
        env.run(&format!("sign quay.apk --app quayside --for store --set-build {number}")).exit(0);
        env.run(&format!("upload quayside-2.4.0-{number}-store.apk")).exit(0);
    }
    let (env, _portal) = crate::advance::later(env, portal, "2026-12-01T00:00:10Z");
    inside += killed(&env, "advance 2N --to testing", &[0]);
    assert!(inside >= 6, "only {inside} kills fell into the work");

    // what the store has, each once; and what is known of it here
    let project = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    for number in 0..=KILLS {
        let keys = format!("[app.pier{number}.android.store-keys]");
        assert_eq!(project.matches(&keys).count(), 1, "{project}");
    }
    assert_eq!(project.matches("next-upload = ").count(), 5, "{project}");
    let mut groups = listed(&env, "testers list", "groups", "group");
    groups.sort();
    assert_eq!(groups, ["crew0", "crew1", "crew2", "crew3", "crew4"]);
    let json = env.run("testers list --format json").exit(0).json();
    let many =
        json["groups"].as_array().unwrap().iter().map(|group| group["testers"].as_array().unwrap().len());
    assert_eq!(many.collect::<Vec<_>>(), [2; 5], "{json:#}");
    assert_eq!(listed(&env, "deliveries", "deliveries", "stage"), ["testing"; 5]);
    let releases = env.run("releases --format json").exit(0).json();
    let of_quayside =
        releases["releases"].as_array().unwrap().iter().filter(|one| one["uploaded"].is_string());
    assert!(of_quayside.clone().all(|one| one["testing"].is_string()), "{releases:#}");
    assert_eq!(of_quayside.count(), 5);
}
