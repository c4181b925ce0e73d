//! Lending: what a command gets, what it does not see, and that nothing is left, whatever ends it.

use std::fs;
use std::path::PathBuf;
use std::process::Stdio;
use std::time::{Duration, Instant};

use crate::PROGRAM;
use testkit::{TestEnv, has};

/// A project whose loans stand in a folder of the test's own.
fn lender() -> TestEnv {
    let env = TestEnv::with_key(PROGRAM);
    fs::create_dir(env.path("run")).unwrap();
    let run = env.path("run").display().to_string();
    env.variable("XDG_RUNTIME_DIR", &run).variable("PATH", "/usr/bin:/bin")
}

fn loans(env: &TestEnv) -> Vec<PathBuf> {
    fs::read_dir(env.path("run")).unwrap().map(|entry| entry.unwrap().path()).collect()
}

fn toml(env: &TestEnv, lend: &str) {
    let text = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    let text = text.split("\n[app.crossing.lend").next().unwrap().to_owned();
    env.file("ninekeys.toml", format!("{text}\n{lend}").as_bytes());
}

#[test]
fn a_command_gets_keystore_alias_and_passwords_and_nothing_is_left() {
    let env = lender();
    let script = "cp $NINEKEYS_LENT_KEYSTORE copy.p12; printf %s $NINEKEYS_LENT_PASSWORD >pw; \
                  printf %s $NINEKEYS_LENT_KEY_PASSWORD >kpw; echo alias $NINEKEYS_LENT_ALIAS; \
                  stat -c %a $NINEKEYS_LENT_KEYSTORE $(dirname $NINEKEYS_LENT_KEYSTORE)";
    let said = env.run(&format!("lend --app crossing -- sh -c '{script}'")).exit(0);
    assert_eq!(said.stdout, "alias crossing-signing\n600\n700\n");
    assert_eq!(env.read("pw"), env.read("kpw"));
    env.run("compare copy.p12 crossing-signing --password-in pw").exit(0).says("same certificate");
    assert_eq!(loans(&env), Vec::<PathBuf>::new());
    env.run("cabinet history").exit(0).says("lend crossing-signing to sh");
    // the password is good for one loan, and is not the keystore's own
    let before = env.read("pw");
    env.run(&format!("lend --app crossing -- sh -c '{script}'")).exit(0);
    assert_ne!(env.read("pw"), before);
    env.run("keystore export crossing-signing --to own.p12 --note-password own").exit(0);
    assert_ne!(env.read("own"), [env.read("pw"), b"\n".to_vec()].concat());
}

#[test]
fn the_commands_exit_code_is_passed_on_and_ours_only_if_it_never_started() {
    let env = lender();
    for code in [0, 1, 7, 255] {
        env.run(&format!("lend --app crossing -- sh -c 'exit {code}'")).exit(code);
    }
    env.run("lend --app crossing -- sh -c 'kill -9 $$'").exit(137);
    env.run("lend --app crossing -- /nowhere/build").exit(3).says("there is no such program");
    env.run("lend --app nobody -- true").exit(2).says("no app called nobody");
    env.run("lend --app quayside -- true").exit(5).says("no signing key for quayside");
    env.run("lend --app crossing --passphrase-on 3 -- true").exit(2).says("inherit the descriptor");
    env.run("lend --app crossing").exit(2);
    assert_eq!(loans(&env), Vec::<PathBuf>::new());
}

#[test]
fn names_are_the_users_and_the_upload_key_goes_to_the_stores_build() {
    let env = lender();
    env.run(
        "keystore create up --app crossing --kind upload --alias upper --common-name Up --algorithm ec-p256",
    )
    .exit(0);
    let names = "[app.crossing.lend]\nkeystore = \"FERRY_STORE\"\nalias = \"FERRY_ALIAS\"\npassword = \"FERRY_PW\"\n\
                 key-password = \"FERRY_KEY_PW\"\n";
    toml(&env, names);
    let script = "test -f $FERRY_STORE && test -n \"$FERRY_PW$FERRY_KEY_PW\" && echo $FERRY_ALIAS";
    let said = env.run(&format!("lend --app crossing --for store -- sh -c '{script}'")).exit(0);
    assert_eq!(said.stdout, "upper\n");
    let said = env.run(&format!("lend --app crossing --for direct -- sh -c '{script}'")).exit(0);
    assert_eq!(said.stdout, "crossing-signing\n");
    toml(&env, "[app.crossing.lend]\nalias = \"A B\"\n");
    env.run("lend --app crossing -- true")
        .exit(3)
        .says("`A B` cannot be the name of an environment variable");
    for twice in ["keystore = \"A\"\nalias = \"A\"\n", "alias = \"NINEKEYS_LENT_PASSWORD\"\n"] {
        toml(&env, &format!("[app.crossing.lend]\n{twice}"));
        env.run("lend --app crossing --explain").exit(3).says("is named twice in the project file");
    }
    toml(&env, "[app.crossing.lend.properties]\nkeystore = \"a\"\npassword = \"a\"\n");
    env.run("lend --app crossing -- true").exit(3).says("`a` is named twice in the project file");
    let export = "keystore export crossing-signing --to a.p12 --properties a.properties";
    env.run(export).exit(3).says("the field `a` is named twice");
    // the two passwords are one
    toml(&env, "[app.crossing.lend]\npassword = \"PW\"\nkey-password = \"PW\"\n");
    env.run("lend --app crossing -- sh -c 'test -n \"$PW\"'").exit(0);
    toml(&env, "[app.crossing.lend]\nallias = \"A\"\n");
    env.run("lend --app crossing -- true").exit(3).says("allias");
}

#[test]
fn the_command_never_sees_what_unlocks_the_cabinet() {
    let env = lender();
    fs::remove_file(env.path("unlock.txt")).unwrap_or_default();
    let env = TestEnv::new(PROGRAM)
        .variable("NINEKEYS_PASSPHRASE", "brisk-lantern-oyster")
        .variable("PATH", "/usr/bin:/bin")
        .variable("XDG_RUNTIME_DIR", &env.path("run").display().to_string());
    env.file("pw", b"brisk-lantern-oyster");
    env.run("init --passphrase-in pw").exit(0);
    env.run("app add crossing --package example.gannetpoint.crossing --for direct").exit(0);
    env.run("keystore create k --app crossing --common-name A --algorithm ec-p256").exit(0);
    let said = env.run("lend --app crossing -- env").exit(0);
    said.says("NINEKEYS_LENT_ALIAS=k").is_silent_on("brisk").is_silent_on("NINEKEYS_PASSPHRASE");
}

#[test]
fn secrets_are_masked_when_asked_and_the_rest_goes_through() {
    let env = lender();
    let script = "echo pw=$NINEKEYS_LENT_PASSWORD.; echo no newline >&2; printf %s $NINEKEYS_LENT_PASSWORD >&2; \
                  printf %s $NINEKEYS_LENT_PASSWORD >pw; head -c 100000 /dev/zero | tr \\\\0 x";
    let said = env.run(&format!("lend --app crossing --mask -- sh -c '{script}'")).exit(0);
    assert!(said.stdout.starts_with("pw=***.\n"), "{}", &said.stdout[..40]);
    assert_eq!(said.stdout.len(), 8 + 100_000);
    assert_eq!(said.stderr, "no newline\n***");
    assert_eq!(env.read("pw").len(), 24);
}

#[test]
fn a_properties_file_has_the_users_fields_and_never_replaces_one() {
    let env = lender();
    let said = env.run("lend --app crossing --properties -- sh -c 'cat $NINEKEYS_LENT_PROPERTIES'").exit(0);
    said.says("alias=crossing-signing\n").says("keystore=").says("key-password=").says("# on loan");
    let names = "[app.crossing.lend.properties]\nfile = \"app/ferry.properties\"\nvariable = \"PROPS\"\n\
                 keystore = \"ferry.file\"\npassword = \"ferry.password\"\nkey-password = \"ferry.key\"\nalias = \"ferry.alias\"\n";
    toml(&env, names);
    fs::create_dir(env.path("app")).unwrap();
    let script = "cat app/ferry.properties; stat -c %a app/ferry.properties; echo $PROPS";
    let said = env.run(&format!("lend --app crossing -- sh -c '{script}'")).exit(0);
    said.says("ferry.file=/")
        .says("ferry.alias=crossing-signing")
        .says("\n600\n")
        .says("app/ferry.properties\n");
    assert!(!env.path("app/ferry.properties").exists());
    env.file("app/ferry.properties", b"mine");
    env.run("lend --app crossing -- true").exit(5).says("app/ferry.properties is there already");
    assert_eq!(env.read("app/ferry.properties"), b"mine");
    assert_eq!(loans(&env), Vec::<PathBuf>::new());
}

/// Waits until something holds.
#[cfg(unix)]
#[test]
fn two_loans_of_one_properties_file_take_turns() {
    let env = lender();
    fs::create_dir(env.path("app")).unwrap();
    let names = "[app.crossing.lend.properties]\nfile = \"app/ferry.properties\"\nvariable = \"PROPS\"\n\
                 keystore = \"a\"\npassword = \"b\"\nkey-password = \"c\"\nalias = \"d\"\n";
    toml(&env, names);
    let words = [
        "lend",
        "--app",
        "crossing",
        "--",
        "sh",
        "-c",
        "touch begun; while [ ! -e end ]; do sleep 0.02; done",
    ];
    let mut child = env.command(words).stderr(Stdio::null()).spawn().unwrap();
    wait_for("the command begins", || env.path("begun").exists());
    let said = env.run("lend --app crossing -- true").exit(5);
    said.says("app/ferry.properties is on loan to another command; it goes when that command ends");
    // the second one took nothing of the first away
    assert!(env.path("app/ferry.properties").exists());
    env.file("end", b"");
    assert_eq!(child.wait().unwrap().code(), Some(0));
    assert!(!env.path("app/ferry.properties").exists());
    env.run("lend --app crossing -- true").exit(0);
}

fn wait_for(what: &str, holds: impl Fn() -> bool) {
    let begun = Instant::now();
    while !holds() {
        assert!(begun.elapsed() < Duration::from_secs(30), "{what}");
        std::thread::sleep(Duration::from_millis(20));
    }
}

#[cfg(unix)]
#[test]
fn whatever_signal_ends_the_command_nothing_is_left() {
    if !has("kill", "-l") {
        return;
    }
    for (signal, code) in [("INT", 130), ("TERM", 143), ("HUP", 129)] {
        let env = lender();
        let words = ["lend", "--app", "crossing", "--", "sh", "-c", "touch begun; exec sleep 60"];
        let mut child = env.command(words).stderr(Stdio::null()).spawn().unwrap();
        wait_for("the command begins", || env.path("begun").exists());
        assert_eq!(loans(&env).len(), 1);
        let pid = child.id().to_string();
        std::process::Command::new("kill").args([&format!("-{signal}"), &pid]).status().unwrap();
        assert_eq!(child.wait().unwrap().code(), Some(code), "{signal}");
        assert_eq!(loans(&env), Vec::<PathBuf>::new(), "{signal}");
    }
}

#[cfg(unix)]
#[test]
fn what_a_killed_lender_left_is_taken_away_at_the_next_start_and_nothing_else() {
    let env = lender();
    toml(&env, "[app.crossing.lend.properties]\nfile = \"ferry.properties\"\n");
    let begin = |mark: &str| {
        let script = format!("touch {mark}; exec sleep 60");
        let words = ["lend", "--app", "crossing", "--", "sh", "-c", &script];
        let child = env.command(words).stdin(Stdio::null()).spawn().unwrap();
        wait_for("the command begins", || env.path(mark).exists());
        child
    };
    let mut killed = begin("one");
    killed.kill().unwrap();
    killed.wait().unwrap();
    assert_eq!(loans(&env).len(), 1);
    assert!(env.path("ferry.properties").exists());
    // somebody else's folder of that name, and a link to a folder of ours
    fs::create_dir(env.path("run/ninekeys-lent-open")).unwrap();
    fs::create_dir(env.path("precious")).unwrap();
    env.file("precious/lock", b"");
    std::os::unix::fs::symlink(env.path("precious"), env.path("run/ninekeys-lent-link")).unwrap();
    env.run("inventory").exit(0);
    assert_eq!(loans(&env).len(), 2, "the link and the open folder stay: {:?}", loans(&env));
    assert!(env.path("precious/lock").exists());
    assert!(!env.path("ferry.properties").exists());
    // one that is running is left alone
    let mut running = begin("two");
    env.run("inventory").exit(0);
    assert_eq!(loans(&env).len(), 3);
    assert!(env.path("ferry.properties").exists());
    std::process::Command::new("kill").arg(running.id().to_string()).status().unwrap();
    running.wait().unwrap();
    assert_eq!(loans(&env).len(), 2);
}

#[cfg(unix)]
#[test]
fn what_a_command_left_behind_is_not_waited_for_and_a_reader_that_goes_away_ends_it() {
    let env = TestEnv::with_key(PROGRAM);
    let begun = std::time::Instant::now();
    let said = env
        .run("lend --app crossing --for direct --mask -- sh -c 'echo early; sleep 30 & echo late'")
        .exit(0);
    said.says("early").says("late");
    assert!(begun.elapsed() < std::time::Duration::from_secs(15), "it waited for a background child");
    let mut command = env.command(["lend", "--app", "crossing", "--for", "direct", "--mask", "--", "yes"]);
    let mut child = command.stdout(std::process::Stdio::piped()).spawn().unwrap();
    let mut first = [0; 64];
    std::io::Read::read_exact(child.stdout.as_mut().unwrap(), &mut first).unwrap();
    drop(child.stdout.take());
    let begun = std::time::Instant::now();
    while child.try_wait().unwrap().is_none() {
        assert!(begun.elapsed() < std::time::Duration::from_secs(20), "it goes on for nobody");
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
}

#[cfg(unix)]
#[test]
fn a_dangling_link_where_the_properties_go_is_the_users_own() {
    let env = TestEnv::with_key(PROGRAM);
    let project = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    env.file(
        "ninekeys.toml",
        (project + "\n[app.crossing.lend.properties]\nfile = \"own.properties\"\n").as_bytes(),
    );
    std::os::unix::fs::symlink("nowhere", env.path("own.properties")).unwrap();
    env.run("lend --app crossing --for direct -- true").exit(5).says("own.properties is there already");
    assert!(env.path("own.properties").symlink_metadata().unwrap().is_symlink());
    env.run("board").exit(0);
    assert!(env.path("own.properties").symlink_metadata().is_ok(), "no start takes it away either");
}

#[test]
fn what_a_build_reads_is_said_beforehand_without_a_passphrase() {
    let env = lender();
    let before = env.read("ninekeys.cabinet");
    fs::rename(env.path("unlock.txt"), env.path("away")).unwrap();
    let said = env.run("lend --app crossing --explain").exit(0);
    fs::rename(env.path("away"), env.path("unlock.txt")).unwrap();
    said.says("crossing for direct release: crossing-signing would be lent")
        .says("NINEKEYS_LENT_KEY_PASSWORD")
        .says("As properties (with --properties), in the file that NINEKEYS_LENT_PROPERTIES names:");
    let names = "[app.crossing.lend]\nkeystore = \"FERRY_STORE\"\n\n[app.crossing.lend.properties]\n\
                 file = \"app/ferry.properties\"\nalias = \"ferry.alias\"\n";
    toml(&env, names);
    let json = env.run("lend --app crossing --for store --explain --format json").exit(0).json();
    assert_eq!(json["variables"][0], serde_json::json!({ "name": "FERRY_STORE", "holds": "keystore" }));
    assert_eq!(
        json["properties"]["fields"][1],
        serde_json::json!({ "name": "ferry.alias", "holds": "alias" })
    );
    assert_eq!(json["properties"]["always"], true);
    assert_eq!(json["properties"]["file"], "app/ferry.properties");
    assert_eq!(json["destination"], "store");
    // what it says is what a command gets
    let script = "grep ^ferry.alias= app/ferry.properties; test -f $FERRY_STORE && echo there";
    fs::create_dir(env.path("app")).unwrap();
    let got = env.run(&format!("lend --app crossing -- sh -c '{script}'")).exit(0);
    assert_eq!(got.stdout, "ferry.alias=crossing-signing\nthere\n");
    env.run("lend --app crossing --explain -- true").exit(2);
    assert_ne!(env.read("ninekeys.cabinet"), before, "the loan is in the history, the explanation is not");
}

/// An app for iOS with an identity and profiles, whose loans stand in a folder of the test's own.
fn ios_lender() -> TestEnv {
    let env = TestEnv::with_identity(PROGRAM);
    env.run("profile import in/crossing-store.mobileprovision").exit(0);
    env.run("profile import in/crossing-share-store.mobileprovision").exit(0);
    env.run("app change crossing --extension share=example.gannetpoint.crossing.share").exit(0);
    fs::create_dir(env.path("run")).unwrap();
    let run = env.path("run").display().to_string();
    env.variable("XDG_RUNTIME_DIR", &run).variable("PATH", "/usr/bin:/bin")
}

#[test]
fn a_build_for_ios_gets_an_identity_with_its_chain_and_the_profiles() {
    let env = ios_lender();
    let script = "cp $NINEKEYS_LENT_IDENTITY copy.p12; printf %s $NINEKEYS_LENT_PASSWORD >word; cp -r $NINEKEYS_LENT_PROFILES seen; \
                  cp $NINEKEYS_LENT_CHAIN chain.pem; echo $NINEKEYS_LENT_TEAM; echo $NINEKEYS_LENT_CERTIFICATE; \
                  echo $NINEKEYS_LENT_PROFILE $NINEKEYS_LENT_PROFILE_SHARE; stat -c %a $NINEKEYS_LENT_IDENTITY";
    let said = env.run(&format!("lend --app crossing --for store -- sh -c '{script}'")).exit(0);
    let wanted = "GPFERRY009\nTest Distribution: Gannet Point Ferries (GPFERRY009)\n\
                  6b1f0c1e-7a35-4c50-9d6e-3f2a1b0c9d01 6b1f0c1e-7a35-4c50-9d6e-3f2a1b0c9d02\n600\n";
    assert_eq!(said.stdout, wanted);
    assert_eq!(env.read("chain.pem").windows(17).filter(|window| window == b"BEGIN CERTIFICATE").count(), 3);
    let names: Vec<String> = ["crossing-store", "crossing-share-store"]
        .iter()
        .map(|name| format!("in/{name}.mobileprovision"))
        .collect();
    for (name, number) in names.iter().zip(1..) {
        let lent = format!("seen/6b1f0c1e-7a35-4c50-9d6e-3f2a1b0c9d0{number}.mobileprovision");
        assert!(env.read(name) == env.read(&lent), "{name}");
    }
    assert_eq!(loans(&env), Vec::<PathBuf>::new());
    env.run("compare copy.p12 gp-distribution --password-in word").exit(0).says("same certificate");
    // the whole chain, and the key, opened by a program that is not ours
    if has("openssl", "version") {
        let out = env.other("openssl pkcs12 -in copy.p12 -passin file:word -nodes");
        assert_eq!(out.matches("BEGIN CERTIFICATE").count(), 3, "{out}");
        assert_eq!(out.matches("BEGIN PRIVATE KEY").count(), 1);
    } else {
        eprintln!("SKIPPED: no openssl to open the lent file");
    }
    env.run("cabinet history").exit(0).says("lend gp-distribution to sh");
}

#[test]
fn profiles_are_put_where_a_build_program_looks_and_commands_run_before_and_after() {
    let env = ios_lender();
    let write = "[app.crossing.lend]\nbefore = [\"sh\", \"-c\", \"echo before $NINEKEYS_LENT_TEAM >>said; test ! -f refuse\"]\n\
                 after = [\"sh\", \"-c\", \"echo after >>said; test ! -f break\"]\n\
                 [app.crossing.lend.ios]\nprofiles-folder = \"library/profiles\"\nteam = \"TEAM_OF_OURS\"\n";
    toml(&env, &write.replace("NINEKEYS_LENT_TEAM", "TEAM_OF_OURS"));
    let one = "library/profiles/6b1f0c1e-7a35-4c50-9d6e-3f2a1b0c9d01.mobileprovision";
    let line =
        format!("lend --app crossing --for store -- sh -c 'cat {one} >copy; echo build >>said; exit 7'");
    env.run(&line).exit(7);
    assert_eq!(env.read("said"), b"before GPFERRY009\nbuild\nafter\n");
    assert!(env.read("copy") == env.read("in/crossing-store.mobileprovision"));
    assert_eq!(fs::read_dir(env.path("library/profiles")).unwrap().count(), 0, "they are gone");

    // one that is there already serves and stays; another is the user's
    env.file(one, &env.read("copy"));
    env.run(&line).exit(7);
    assert!(env.read(one) == env.read("copy"));
    env.file(one, b"mine");
    env.run(&line).exit(5).says("is there already").says("changed   nothing");
    assert_eq!(env.read(one), b"mine");
    fs::remove_file(env.path(one)).unwrap();

    // what comes before has to work, and what comes after is told
    fs::remove_file(env.path("said")).unwrap();
    env.file("refuse", b"");
    env.run(&line)
        .exit(3)
        .says("the command that comes before (sh) ended with 1, and the build was not begun");
    assert_eq!(env.read("said"), b"before GPFERRY009\nafter\n");
    fs::remove_file(env.path("refuse")).unwrap();
    env.file("break", b"");
    env.run(&line).exit(7).says("the command that comes after (sh) ended with 1");
    env.run("lend --app crossing --for store -- true").exit(3).says("may still be where it was put");
    assert_eq!(loans(&env), Vec::<PathBuf>::new());
    assert_eq!(fs::read_dir(env.path("library/profiles")).unwrap().count(), 0);

    // a command that is not there is not the build
    let named = |key: &str| format!("[app.crossing.lend]\n{key} = [\"/nowhere/command\"]\n");
    toml(&env, &named("after"));
    let line = "lend --app crossing --for store -- sh -c 'touch built'";
    env.run(line)
        .exit(3)
        .says("the command that comes after (/nowhere/command) ended with 127")
        .says("whatever the build");
    assert!(env.path("built").exists());
    env.run("cabinet history").exit(0).says("lend gp-distribution to sh: ended");
    fs::remove_file(env.path("built")).unwrap();
    toml(&env, &named("before"));
    env.run(line).exit(3).says("the command that comes before (/nowhere/command) ended with 127");
    assert!(!env.path("built").exists());
    toml(&env, &write.replace("NINEKEYS_LENT_TEAM", "TEAM_OF_OURS"));

    let said = env.run("lend --app crossing --for store --explain").exit(0);
    said.says("gp-distribution would be lent").says("crossing-store-2026 for example.gannetpoint.crossing");
    said.says("TEAM_OF_OURS").says("NINEKEYS_LENT_PROFILE_SHARE").says("library/profiles").says("After it");
}

#[test]
fn one_side_of_an_app_is_lent_at_a_time_and_what_is_missing_is_said_before() {
    let env = ios_lender();
    env.run("lend --app crossing --for store --properties -- true").exit(2).says("environment variables");
    env.run("app change crossing --package example.gannetpoint.crossing --for store").exit(0);
    env.run("lend --app crossing --for store -- true")
        .exit(2)
        .says("one of them is lent at a time")
        .says("next      ninekeys lend --app crossing --for store --platform ios -- true");
    env.run("lend --app crossing --for store --platform ios -- true").exit(0);
    env.run("lend --app crossing --for store --platform android -- true")
        .exit(5)
        .says("holds no signing key for crossing");
    env.run("lend --app deckhand --platform android -- true").exit(2).says("has no Android side");
    env.run("lend --app deckhand -- true").exit(5).says("(profile-missing)");
    assert_eq!(loans(&env), Vec::<PathBuf>::new());
}

#[cfg(unix)]
#[test]
fn profiles_of_a_lender_that_was_killed_go_with_the_next_start() {
    let env = ios_lender();
    toml(&env, "[app.crossing.lend.ios]\nprofiles-folder = \"library\"\n");
    let words = ["lend", "--app", "crossing", "--for", "store", "--", "sh", "-c", "touch began; sleep 60"];
    let mut lender = env.command(words).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    wait_for("the command began", || env.path("began").exists());
    assert_eq!(fs::read_dir(env.path("library")).unwrap().count(), 2);
    // another one has to wait
    env.run("lend --app crossing --for store -- true").exit(5).says("on loan to another command");
    lender.kill().unwrap();
    lender.wait().unwrap();
    env.run("board").exit(0);
    assert_eq!(fs::read_dir(env.path("library")).unwrap().count(), 0);
    assert_eq!(loans(&env), Vec::<PathBuf>::new());
}
