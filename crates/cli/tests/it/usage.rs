//! What every command understands: the clock, places, names, silence.

use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn the_clock_is_fixed_by_option_before_variable_in_both_forms() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("board").exit(0).says("19 May 2031");
    env.run("board --at 2031-06-01").exit(0).says("1 Jun 2031");
    env.run("board --at 2031-06-01T23:30:00-02:00").exit(0).says("2 Jun 2031");
    env.run("board --at yesterday").exit(2).says("a time is written 2031-05-19T12:00:00Z");
    let later = TestEnv::with_project(PROGRAM).at("2032-01-01T00:00:00Z");
    later.run("board").exit(0).says("1 Jan 2032");
}

#[test]
fn commands_work_from_any_folder_below_the_project() {
    let env = TestEnv::with_key(PROGRAM);
    std::fs::create_dir_all(env.path("app/build")).unwrap();
    let run = |words: &[&str]| {
        let output = env.command(words).current_dir(env.path("app/build")).output().unwrap();
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8(output.stdout).unwrap()
    };
    assert!(run(&["board"]).contains("Crossing"));
    assert!(run(&["sign", "../../crossing.apk", "--to", "."]).contains("✓ crossing-2.4.0-12-direct.apk"));
    assert!(env.path("app/build/crossing-2.4.0-12-direct.apk").is_file());
}

#[test]
fn places_can_be_named_by_option_or_variable() {
    let project = TestEnv::with_key(PROGRAM);
    let folder = project.folder().display().to_string();
    let env = TestEnv::new(PROGRAM).variable("NINEKEYS_PROJECT", &folder);
    env.run("board").exit(0).says("Crossing");
    let cabinet = format!("{folder}/ninekeys.cabinet");
    let env = TestEnv::new(PROGRAM).variable("NINEKEYS_CABINET", &cabinet);
    env.run("inventory").exit(0).says("crossing-signing");
    env.run("board").exit(3).says("there is no ninekeys.toml");
    let env = TestEnv::new(PROGRAM);
    env.run(&format!("inventory --cabinet {cabinet}")).exit(0).says("crossing-signing");
    let unlock = format!("{folder}/unlock.txt");
    env.run(&format!("cabinet status --prove --cabinet {cabinet} --unlock-file {unlock}"))
        .exit(0)
        .says("every seal opened");
}

#[test]
fn silence_is_for_what_went_well_and_not_for_trouble() {
    let env = TestEnv::with_key(PROGRAM);
    for line in ["sign -q crossing.apk", "cabinet backup -q copies", "cabinet status -q"] {
        let said = env.run(line).exit(0);
        assert_eq!(said.stdout + &said.stderr, "", "{line}");
    }
    env.run("keystore create -q k --common-name A --algorithm ec-p256").exit(0);
    env.run("cabinet status -q").exit(0).says("backup-missing");
    env.run("check -q crossing.apk").exit(1).says("build-unsigned");
    env.run("show -q nothing").exit(2).says("nothing in the cabinet");
    env.run("inventory -q").exit(0).says("crossing-signing");
}

#[test]
fn apps_are_named_by_any_beginning_that_only_one_has() {
    let env = TestEnv::with_project(PROGRAM);
    env.run("app add crossing-kiosk --package example.gannetpoint.kiosk --for direct").exit(0);
    let create = |name: &str, app: &str| {
        env.run(&format!("keystore create {name} --app {app} --common-name A --algorithm ec-p256"))
    };
    create("a", "q").exit(0).says("Every update of Quayside");
    create("b", "crossing").exit(0).says("Every update of Crossing must");
    create("c", "cro").exit(2).says("no app called cro");
}

#[test]
fn two_of_one_name_at_the_same_time_make_one() {
    let env = TestEnv::with_project(PROGRAM);
    for round in 0..10 {
        let name = format!("same-{round}");
        let start = || {
            let words = ["keystore", "create", &name, "--common-name", "A", "--algorithm", "ec-p256"];
            let mut command = env.command(words);
            command.stdout(std::process::Stdio::null()).stderr(std::process::Stdio::null()).spawn().unwrap()
        };
        let mut both = [start(), start()];
        let mut codes: Vec<i32> =
            both.iter_mut().map(|child| child.wait().unwrap().code().unwrap()).collect();
        codes.sort_unstable();
        assert_eq!(codes, [0, 5], "one is made, the other refused");
    }
    let said = env.run("cabinet status --prove --format json").exit(0).json();
    assert_eq!((&said["keys"], &said["newest"]["seq"]), (&10.into(), &12.into()));
}

#[test]
fn help_and_usage_go_where_they_belong() {
    let env = TestEnv::new(PROGRAM);
    let help = env.run("--help").exit(0);
    help.says("ninekeys demo");
    assert_eq!(help.stderr, "");
    let usage = env.run("sign").exit(2);
    assert_eq!(usage.stdout, "");
    usage.says("<BUILD>");
    env.run("keystore create --help").exit(0).says("ec-p384").says("Subject").says("Password");
}

#[test]
fn the_history_says_what_was_done_and_by_whom() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("sign crossing.apk").exit(0);
    env.run("cabinet backup copies").exit(0);
    let json = env.run("cabinet history --format json").exit(0).json();
    let what: Vec<&str> =
        json["rows"].as_array().unwrap().iter().map(|r| r["what"].as_str().unwrap()).collect();
    assert_eq!(
        what,
        [
            "cabinet made",
            "members given their keys",
            "keystore create crossing-signing",
            "sign crossing-2.4.0-12-direct.apk",
            "sign crossing-2.4.0-12-direct.apk: done",
            "cabinet backup to copies/ninekeys-20310519T120000Z.cabinet",
        ]
    );
    assert_eq!(json["rows"][2]["by"], "unlock-file");
    assert_eq!(
        json["rows"][2]["records"], 4,
        "key, certificate, keystore, and the envelope with the app's own key"
    );
}
