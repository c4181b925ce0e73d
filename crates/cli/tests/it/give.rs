use std::os::unix::fs::PermissionsExt;

use crate::PROGRAM;
use crate::portal::{Running, connected};
use testkit::TestEnv;

const GIVE: &str = "give --app crossing --for store --to out --receiver 'Island Builds'";

fn files(env: &TestEnv, folder: &str) -> Vec<String> {
    let mut all: Vec<String> = std::fs::read_dir(env.path(folder))
        .unwrap()
        .map(|entry| entry.unwrap().file_name().into_string().unwrap())
        .collect();
    all.sort();
    all
}

#[test]
fn one_folder_has_all_that_signs_and_the_password_goes_another_way() {
    let (env, _portal) = connected();
    env.run("prepare --app crossing --for store --yes").exit(0);
    env.run("apikey create uploads --use uploads").exit(0);
    let said = env.run(&format!("{GIVE} --api-key uploads --format json")).exit(0).json();
    assert_eq!(
        files(&env, "out"),
        ["api-key.pem", "crossing-store-2026.mobileprovision", "identity.p12", "what-is-what.txt"]
    );
    assert_eq!(said["password_file"], "out-password.txt");
    for file in ["out/identity.p12", "out/api-key.pem", "out/what-is-what.txt", "out-password.txt"] {
        let mode = std::fs::metadata(env.path(file)).unwrap().permissions().mode();
        assert_eq!(mode & 0o777, 0o600, "{file}");
    }
    // who gets it needs nothing of ours: key, certificate and chain come out, and the profile's certificate is that one
    env.other("openssl pkcs12 -in out/identity.p12 -passin file:out-password.txt -nodes -out all.pem");
    let all = String::from_utf8(env.read("all.pem")).unwrap();
    assert_eq!(
        (all.matches("BEGIN CERTIFICATE").count(), all.matches("BEGIN PRIVATE KEY").count()),
        (3, 1),
        "{all}"
    );
    env.other("openssl pkey -in out/api-key.pem -noout");
    env.run("profile export crossing-store-2026 --to own.mobileprovision").exit(0);
    assert_eq!(env.read("own.mobileprovision"), env.read("out/crossing-store-2026.mobileprovision"));
    let sheet = String::from_utf8(env.read("out/what-is-what.txt")).unwrap();
    let key = said["api_key"]["key_id"].as_str().unwrap();
    for says in [
        "Island Builds",
        "example.gannetpoint.crossing",
        "GPFERRY009",
        "distribution identity",
        "2027-12-01",
        key,
    ] {
        assert!(sheet.contains(says), "{says} is not in\n{sheet}");
    }
    let password = String::from_utf8(env.read("out-password.txt")).unwrap();
    assert!(!sheet.contains(password.trim()));
    assert!(sheet.lines().all(|line| line.chars().count() <= 80), "{sheet}");
    // it is kept, and told where something is replaced
    let given = env.run("given --format json").exit(0).json();
    assert_eq!(
        (&given["given"][0]["receiver"], &given["given"][0]["stale"]),
        (&"Island Builds".into(), &false.into())
    );
    assert_eq!(given["given"][0]["items"].as_array().unwrap().len(), 3);
    env.run("show distribution-2027")
        .exit(0)
        .says("given to")
        .says("Island Builds, for crossing and the store");
    env.run("identity revoke distribution-2027 --yes")
        .exit(0)
        .says("tell")
        .says("Island Builds was given it");
    env.run("prepare --app crossing --for store --yes").exit(0);
    let told = env.run("given").exit(0);
    told.says("1 of 1 that were given hold something that is no longer used")
        .says("revoked")
        .says("took its place");
    env.run("given --receiver nobody").exit(0).says("Nobody was given anything");
    env.run("cabinet status --prove").exit(0);
    env.run("inventory").exit(0).is_silent_on("given~");
}

#[test]
fn nothing_is_given_that_is_not_ready_or_would_lie_beside_something_else() {
    let (env, _portal) = connected();
    let nothing = |env: &TestEnv| {
        assert!(!env.path("out").exists() && !env.path("out-password.txt").exists());
        env.run("given").exit(0).says("Nobody was given anything");
    };
    env.run(GIVE)
        .exit(5)
        .says("not everything is in place")
        .says("ninekeys check --app crossing --for store");
    nothing(&env);
    env.run("prepare --app crossing --for store --yes").exit(0);
    env.run(&GIVE.replace("crossing", "nowhere")).exit(2).says("no app called nowhere");
    env.run(&GIVE.replace("store", "direct")).exit(2).says("not for iOS");
    env.run(&format!("{GIVE} --api-key nothing")).exit(2);
    env.run(&format!("{GIVE} --api-key distribution-2027")).exit(2).says("not an API key");
    env.run(&format!("{GIVE} --note-password out/password.txt")).exit(5).says("a password goes another way");
    env.run(&format!("{GIVE} --note-password ninekeys.toml")).exit(5);
    nothing(&env);
    env.file("out/other.txt", b"mine");
    env.run(GIVE).exit(5).says("has something in it");
    assert_eq!(files(&env, "out"), ["other.txt"]);
    std::fs::remove_dir_all(env.path("out")).unwrap();
    env.file("out-password.txt", b"mine");
    env.run(GIVE).exit(5).says("out-password.txt");
    assert_eq!(env.read("out-password.txt"), b"mine");
    assert!(!env.path("out").exists());
    std::fs::remove_file(env.path("out-password.txt")).unwrap();
    nothing(&env);
}

/// All that is given is in the cabinet.
fn ready() -> (TestEnv, Running) {
    let (env, portal) = connected();
    env.run("prepare --app crossing --for store --yes").exit(0);
    (env, portal)
}

fn words(to: &str) -> [&str; 9] {
    ["give", "--app", "crossing", "--for", "store", "--to", to, "--receiver", "A"]
}

/// The password and the folder's files get their names one after the other.
#[cfg(target_os = "linux")]
#[test]
fn killed_between_two_names_the_same_command_again_gives_all_of_it() {
    let (env, _portal) = ready();
    let mut partly = 0;
    for (round, kind) in ["rename", "renameat2", "link", "linkat"].into_iter().enumerate() {
        for call in 1.. {
            let to = format!("out{round}-{call}");
            let words = words(&to);
            let Some(was_killed) = env.killed_at(kind, call, words) else {
                return eprintln!("SKIPPED: there is no strace on this machine");
            };
            if !was_killed {
                assert_eq!(files(&env, &to).len(), 3);
                break;
            }
            let named = std::fs::read_dir(env.path(&to)).into_iter().flatten().flatten();
            let named = named.filter(|file| !file.file_name().to_string_lossy().starts_with('.')).count();
            partly += usize::from(named < 3 && env.path(&format!("{to}-password.txt")).exists());
            // whatever comes next puts it in order: here something that only looks
            env.run("board").exit_any(&[0, 1]);
            let left = if env.path(&to).exists() { files(&env, &to) } else { Vec::new() };
            let password = env.path(&format!("{to}-password.txt")).exists();
            assert!(matches!((left.len(), password), (0, false) | (3, true)), "{kind} {call}: {left:?}");
            if !password {
                env.run(&words.join(" ")).exit(0);
            }
        }
    }
    assert!(partly >= 3, "only {partly} kills fell between two names");
    env.run("cabinet status --prove").exit(0);
    let given = env.run("given --format json").exit(0).json()["given"].as_array().unwrap().len();
    let folders = std::fs::read_dir(env.folder()).unwrap().flatten();
    let folders = folders
        .filter(|entry| entry.file_name().to_string_lossy().starts_with("out") && entry.path().is_dir());
    assert_eq!(given, folders.count(), "each that is there has its row");
}

/// What is taken back is what was made, and nothing that somebody wrote to since.
#[cfg(target_os = "linux")]
#[test]
fn what_somebody_wrote_to_after_a_kill_is_theirs() {
    let (env, _portal) = ready();
    let words = words("out");
    let Some(was_killed) = env.killed_at("renameat2", 4, words) else {
        return eprintln!("SKIPPED: there is no strace on this machine");
    };
    assert!(was_killed && env.path("out-password.txt").exists());
    let named = || files(&env, "out").into_iter().filter(|name| !name.starts_with('.')).collect::<Vec<_>>();
    let [first, second] = <[String; 2]>::try_from(named()).unwrap();
    let theirs = format!("out/{first}");
    env.file(&theirs, b"somebody's own");
    env.run("board").exit_any(&[0, 1]);
    assert_eq!(files(&env, "out"), [first.as_str()], "{second} went, and every temporary file");
    assert!(!env.path("out-password.txt").exists());
    assert_eq!(env.read(&theirs), b"somebody's own");
    env.run(&words.join(" ")).exit(5).says("has something in it");
}

/// What has its name already loses it where another cannot have its own.
#[cfg(target_os = "linux")]
#[test]
fn a_name_that_cannot_be_given_takes_the_others_back() {
    let (env, _portal) = ready();
    let words = words("out");
    let (mut given, mut failed, mut unended) = (0, [0; 2], 0);
    // a name that cannot be given, and one that would not last; the database passes over some of the latter
    for (kind, count) in ["renameat2", "fsync"].into_iter().zip(&mut failed) {
        for call in 1..=16 {
            let Some((code, said)) = env.failing_at((kind, "EIO"), call, words) else {
                return eprintln!("SKIPPED: there is no strace on this machine");
            };
            env.run(&format!("keystore create {kind}{call} --common-name A --algorithm ec-p256")).exit(0);
            let there = if env.path("out").exists() { files(&env, "out").len() } else { 0 };
            let all = (there, env.path("out-password.txt").exists());
            // where the last row was what failed, all had been named: the row is written by whoever unlocks next
            let may_be_there = code == Some(0) || kind == "fsync";
            assert!(
                all == (3, may_be_there) || (code != Some(0) && all == (0, false)),
                "{kind} {call}: {all:?}"
            );
            let changed = if there == 3 { "changed   the files are where" } else { "changed   nothing\n" };
            assert_eq!(code != Some(0), said.contains(changed), "{kind} {call}: {said}");
            unended += usize::from(code != Some(0) && there == 3);
            *count += usize::from(code != Some(0));
            if there == 3 {
                given += 1;
                std::fs::remove_dir_all(env.path("out")).unwrap();
                std::fs::remove_file(env.path("out-password.txt")).unwrap();
            }
            let rows = env.run("given --format json").exit(0).json();
            assert_eq!(rows["given"].as_array().unwrap().len(), given, "{kind} {call}");
        }
    }
    assert!(failed[0] == 4 && failed[1] >= 8, "the password, and three files: {failed:?}");
    assert!(unended > 0, "a last row that could not be written was among them");
}

#[test]
fn a_disk_that_fills_up_leaves_all_of_it_or_nothing() {
    let (env, _portal) = connected();
    env.run("prepare --app crossing --for store --yes").exit(0);
    let mut ends = [0; 2];
    for blocks in [0, 4, 8, 64, 256, 512, 4096] {
        let mut limited = env.command(std::iter::empty::<&str>());
        let program = std::mem::replace(&mut limited, std::process::Command::new("sh"));
        limited.args(["-c", &format!("trap '' XFSZ; ulimit -f {blocks}; exec \"$0\" \"$@\""), PROGRAM]);
        limited.args([
            "give",
            "--app",
            "crossing",
            "--for",
            "store",
            "--to",
            "out",
            "--receiver",
            "Island Builds",
        ]);
        limited
            .current_dir(env.folder())
            .envs(program.get_envs().filter_map(|(name, value)| Some((name, value?))));
        let done = limited.output().unwrap().status.success();
        let there = if env.path("out").exists() { files(&env, "out") } else { Vec::new() };
        assert_eq!(there.len(), if done { 3 } else { 0 }, "{blocks} blocks: {there:?}");
        assert_eq!(env.path("out-password.txt").exists(), done, "{blocks} blocks");
        let rows = env.run("given --format json").exit(0).json()["given"].as_array().unwrap().len();
        assert_eq!(rows, usize::from(done), "{blocks} blocks");
        env.run("cabinet status --prove").exit(0);
        ends[usize::from(done)] += 1;
        if done {
            break;
        }
    }
    assert!(ends[0] >= 2 && ends[1] == 1, "some failed and the last did not: {ends:?}");
}

#[test]
fn an_app_that_takes_notifications_gets_its_push_identity_too() {
    let env = TestEnv::with_identity(PROGRAM);
    env.run("profile import in/crossing-store.mobileprovision in/crossing-share-store.mobileprovision")
        .exit(0);
    env.run("app change crossing --capability push").exit(0);
    env.run("identity import in/push-legacy.p12 --password-in pw").exit(0);
    let said = env.run(&format!("{GIVE} --format json")).exit(0).json();
    assert_eq!(said["lacks_push"], false, "{said}");
    assert!(files(&env, "out").contains(&"push.p12".to_owned()));
    env.other("openssl pkcs12 -in out/push.p12 -passin file:out-password.txt -nodes -noout");
}
