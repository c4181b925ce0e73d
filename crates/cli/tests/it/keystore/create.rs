use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn a_new_keystore_says_what_depends_on_it_and_that_a_backup_is_missing() {
    let env = TestEnv::with_project(PROGRAM);
    let said = env
        .run("keystore create crossing-signing --app crossing --common-name 'Gannet Point' --country GB")
        .exit(0);
    said.says("RSA 3072, valid until 19 May 2061, 30 y")
        .says("Every update of Crossing must be signed with this key. It cannot be replaced if it is lost.")
        .says("a backup is missing")
        .says("ninekeys cabinet backup FOLDER");
    env.run("show crossing-signing").exit(0).says("CN=Gannet Point,C=GB").says("crossing (signing key)");
}

#[test]
fn every_algorithm_kind_and_subject_field_is_taken() {
    let env = TestEnv::with_project(PROGRAM);
    for algorithm in ["rsa-2048", "rsa-3072", "rsa-4096", "ec-p256", "ec-p384"] {
        let line =
            format!("keystore create key-{algorithm} --algorithm {algorithm} --organisation 'Ferries, Ltd.'");
        let said = env.run(&format!("{line} --format json")).exit(0).json();
        let kind =
            said["key"]["algorithm"].as_str().unwrap().to_lowercase().replace(' ', "-").replace("-p-", "-p");
        assert_eq!(kind, algorithm);
        assert_eq!(said["certificate"]["subject"], "O=Ferries\\, Ltd.");
        let serial = said["serial"].as_str().unwrap();
        assert_eq!(serial.len(), 32, "16 bytes of serial: {serial}");
    }
    let all = "--common-name A --unit B --organisation C --locality D --state E --country GB";
    let said = env
        .run(&format!("keystore create up --kind upload --app crossing {all} --years 5 --alias 'my key'"))
        .exit(0);
    said.says("CN=A,OU=B,O=C,L=D,ST=E,C=GB")
        .says("alias         my key")
        .says("the store can be asked to take another");
}

#[test]
fn what_cannot_be_is_refused_and_nothing_changes() {
    let env = TestEnv::with_key(PROGRAM);
    let before = env.run("inventory --format json").exit(0).stdout;
    let refused = |line: &str, exit: i32, says: &str| {
        let _ = env.run(&format!("keystore create {line}")).exit(exit).says(says).says("changed   nothing");
    };
    refused("crossing-signing --common-name A", 5, "the name crossing-signing is taken");
    refused("CROSSING-SIGNING --common-name A", 5, "is taken");
    refused("other", 2, "a certificate needs a subject");
    refused("other --common-name A --country gbr", 2, "two letters");
    refused("other --common-name A --years 24", 5, "a signing key of 24 years is too short");
    refused("other --common-name A --years 0", 2, "at least a year");
    refused("other --common-name A --years 9999", 2, "too long");
    refused("other --common-name A --app nowhere", 2, "no app called nowhere");
    refused("o/t --common-name A", 2, "cannot be a name");
    refused("other --common-name A --alias 'schlüssel'", 2, "cannot be an alias");
    refused("other --common-name A --password-variable UNSET", 2, "UNSET is not set");
    refused("other --common-name A --ask-password", 2, "no terminal");
    assert_eq!(env.run("inventory --format json").exit(0).stdout, before);
    env.run("keystore create short --common-name A --years 24 --insist").exit(0).says("19 May 2055");
}

#[test]
fn a_second_signing_key_for_an_app_says_which_one_updates_go_on_with() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("keystore create second --app crossing --common-name A --algorithm ec-p256")
        .exit(0)
        .says("Crossing has a signing key already (crossing-signing)");
    env.run("sign crossing.apk").exit(5).says("several keys for crossing: crossing-signing, second");
    env.run("sign crossing.apk --key crossing-signing").exit(0);
    env.run("sign crossing.apk --key second --to b").exit(5).says("signer-changed");
}

#[test]
fn own_passwords_come_from_file_descriptor_and_environment_and_are_judged() {
    let env = TestEnv::with_project(PROGRAM)
        .variable("SHORT", "12345")
        .variable("WEAK", "password1")
        .variable("GOOD", "brisk-lantern-oyster-quilt");
    env.file("good", b"brisk-lantern-oyster-quilt\r\n");
    let create = |name: &str, rest: &str| {
        env.run(&format!("keystore create {name} --common-name A --algorithm ec-p256 {rest}"))
    };
    create("a", "--password-variable SHORT").exit(5).says("at least 6 characters");
    create("a", "--password-variable WEAK").exit(0).says("easy to guess");
    create("b", "--password-variable GOOD").exit(0).says("yours, sealed").is_silent_on("easy to guess");
    create("c", "--password-in good").exit(0).is_silent_on("easy to guess");
    create("d", "--password-variable GOOD --password-in good").exit(2).says("cannot be used with");
    env.run("cabinet status").exit(0).says("password-weak").says("the password of a is easy to guess");
}

#[cfg(unix)]
#[test]
fn a_password_can_come_from_an_open_descriptor() {
    let env = TestEnv::with_project(PROGRAM);
    env.file("good", b"brisk-lantern-oyster-quilt");
    // the program's standard input is descriptor 0
    let mut command =
        env.command("keystore create fd --common-name A --algorithm ec-p256 --password-on 0".split(' '));
    command.stdin(std::fs::File::open(env.path("good")).unwrap());
    let output = command.output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
}

#[test]
fn a_wrong_passphrase_is_said_at_once_and_changes_nothing() {
    let env = TestEnv::new(PROGRAM);
    env.file("right", b"brisk-lantern-oyster");
    env.file("wrong", b"brisk-lantern-herring");
    env.run("init --passphrase-in right").exit(0);
    let before = env.read("ninekeys.cabinet");
    let said = env.run("keystore create a --common-name A --passphrase-in wrong").exit(4);
    said.says("this passphrase does not open the cabinet").says("changed   nothing");
    assert_eq!(env.read("ninekeys.cabinet"), before);
    env.run("keystore create a --common-name A").exit(4).says("is locked, and there is no terminal");
}

#[cfg(unix)]
#[test]
fn fifty_pairs_of_processes_lose_no_key() {
    let env = TestEnv::with_project(PROGRAM);
    for pair in 0..50 {
        let start = |half: &str| {
            let name = format!("k{pair}{half}");
            let words = ["keystore", "create", &name, "--common-name", "A", "--algorithm", "ec-p256"];
            env.command(words).stdout(std::process::Stdio::null()).spawn().unwrap()
        };
        let mut both = [start("a"), start("b")];
        for child in &mut both {
            assert!(child.wait().unwrap().success());
        }
    }
    let said = env.run("cabinet status --prove --format json").exit(0).json();
    assert_eq!(said["keys"], 100);
    assert_eq!(said["newest"]["seq"], 102, "one row a change");
    assert_eq!(said["proved"], true);
}

#[test]
fn a_validity_beyond_any_calendar_is_refused() {
    let env = TestEnv::with_project(PROGRAM);
    for years in [19_999, 65_535, 9_000] {
        let said = env.run(&format!("keystore create k --common-name A --years {years}")).exit(2);
        said.says(&format!("{years}")).says("changed   nothing");
    }
}

#[cfg(target_os = "linux")]
#[test]
fn a_key_that_was_made_is_said_to_be_so_though_nobody_hears_the_answer() {
    let env = TestEnv::with_project(PROGRAM);
    let full = std::fs::OpenOptions::new().write(true).open("/dev/full").unwrap();
    let words = "keystore create k --common-name A --algorithm ec-p256";
    let output = env.command(words.split(' ')).stdout(full).output().unwrap();
    let said = String::from_utf8_lossy(&output.stderr).into_owned();
    assert_eq!(output.status.code(), Some(3), "{said}");
    assert!(said.contains("what was asked for is done; only its answer is lost"), "{said}");
    env.run("show k").exit(0);
}
