use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn a_backup_counts_when_it_was_read_back_and_can_be_restored() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("board").exit(0).says("! no copy").says("at risk").says("ninekeys cabinet backup FOLDER");
    env.run("cabinet status").exit(0).says("backup-missing");
    let said = env.run("cabinet backup one two").exit(0);
    said.says("one/ninekeys-20310519T120000Z.cabinet").says("two/ninekeys-20310519T120000Z.cabinet");
    env.run("board").exit(0).is_silent_on("no copy");
    env.run("cabinet status --prove").exit(0).is_silent_on("backup-missing").says("every seal opened");
    // a key made in the very second of the backup, and after it, is in no backup
    env.run("keystore create after --app quayside --common-name A --algorithm ec-p256").exit(0);
    env.run("inventory").exit(0).says("! after").says("● crossing-signing");
    env.run("cabinet status").exit(0).says("after has no backup");
    let inventory = env.run("inventory --format json").exit(0).json();
    std::fs::remove_file(env.path("ninekeys.cabinet")).unwrap();
    env.run("inventory").exit(3);
    env.run("cabinet restore one/ninekeys-20310519T120000Z.cabinet").exit(0).says("every seal opened");
    let restored = env.run("inventory --format json").exit(0).json();
    assert_eq!(restored["items"].as_array().unwrap().len(), 1, "what was made after the backup is not in it");
    assert_eq!(restored["items"][0]["fingerprint"], inventory["items"][1]["fingerprint"]);
    env.run("sign crossing.apk").exit(0);
    env.run("cabinet restore two/ninekeys-20310519T120000Z.cabinet")
        .exit(5)
        .says("--yes")
        .says("given up would be crossing-2.4.0-12-direct");
    let said = env.run("cabinet restore two/ninekeys-20310519T120000Z.cabinet --yes").exit(0);
    said.says("set aside").says("ninekeys.cabinet.replaced-20310519T120000Z");
    env.run("releases").exit(0).says("Nothing was signed yet");
}

#[test]
fn a_copy_is_private_and_the_same_name_is_never_written_over() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("cabinet backup copies").exit(0);
    let copy = env.path("copies/ninekeys-20310519T120000Z.cabinet");
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        assert_eq!(copy.metadata().unwrap().permissions().mode() & 0o777, 0o600);
    }
    let before = std::fs::read(&copy).unwrap();
    env.run("cabinet backup copies").exit(5).says("exists already");
    assert_eq!(std::fs::read(&copy).unwrap(), before);
}

#[test]
fn a_damaged_copy_is_refused_and_the_cabinet_stays() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("cabinet backup copies").exit(0);
    let name = "copies/ninekeys-20310519T120000Z.cabinet";
    let mut bytes = env.read(name);
    let at = testkit::builds::first(&bytes, b"EC P-256");
    bytes[at + 3] = b'Q';
    env.file("bad.cabinet", &bytes);
    let before = env.read("ninekeys.cabinet");
    env.run("cabinet restore bad.cabinet --yes").exit(3).says("changed by something else");
    assert_eq!(env.read("ninekeys.cabinet"), before);
    env.run("cabinet restore crossing.apk --yes").exit(3).says("not a cabinet");
}

#[test]
fn a_new_passphrase_opens_and_the_old_one_does_not() {
    let env = TestEnv::new(PROGRAM);
    env.file("old", b"brisk-lantern-oyster");
    env.file("new", b"quilted-harbour-anvil");
    env.file("short", b"abc");
    env.run("init --passphrase-file old").exit(0);
    env.run("cabinet passphrase --passphrase-file old --new-passphrase-file short")
        .exit(5)
        .says("at least 6");
    env.run("cabinet passphrase --passphrase-file new --new-passphrase-file new").exit(4);
    env.run("cabinet passphrase --passphrase-file old").exit(2).says("--new-passphrase-file FILE");
    env.run("cabinet passphrase --passphrase-file old --new-passphrase-file new")
        .exit(0)
        .says("opens nothing now");
    env.run("cabinet status --prove --passphrase-file old").exit(4);
    env.run("cabinet status --prove --passphrase-file new").exit(0);
}

#[test]
fn a_passphrase_can_be_added_beside_an_unlock_file_and_history_tells() {
    let env = TestEnv::with_project(PROGRAM);
    env.file("new", b"quilted-harbour-anvil");
    env.run("cabinet passphrase --new-passphrase-file new").exit(0).says("is a new member");
    std::fs::remove_file(env.path("unlock.txt")).unwrap();
    env.run("cabinet status --prove --passphrase-file new")
        .exit(0)
        .says("a passphrase")
        .says("an unlock file, may do everything");
    let history = env.run("cabinet history").exit(0);
    history.says("3 changes, unbroken").says("cabinet made").says("cabinet passphrase");
    history.is_silent_on("anvil");
}

#[test]
fn a_cabinet_of_layout_2_opens_and_signs_ever_after() {
    let env = TestEnv::new(PROGRAM);
    for name in ["ninekeys.cabinet", "ninekeys.toml", "unlock.txt"] {
        env.file(name, &std::fs::read(testkit::data("cases/layout-2").join(name)).unwrap());
    }
    env.file("crossing.apk", &testkit::builds::crossing_code(13).apk());
    env.run("cabinet status --prove").exit(0).says("every seal opened").says("2 keys");
    env.run("inventory").exit(0).says("crossing-signing").says("crossing-upload");
    env.run("sign crossing.apk").exit(0).says("signed with   crossing-signing");
    env.run("check crossing-2.4.0-13-direct.apk --for direct").exit(0);
    let json = env.run("check crossing-2.4.0-13-direct.apk --for direct --format json").exit(0).json();
    assert_eq!(json["last_release"]["code"], 12, "the old ledger is read");
}

#[cfg(unix)]
#[test]
fn a_backup_taken_while_others_write_is_one_whole_moment() {
    let env = TestEnv::with_key(PROGRAM);
    let writers: Vec<_> = (0..6)
        .map(|number| {
            let name = format!("w{number}");
            let words = ["keystore", "create", &name, "--common-name", "A", "--algorithm", "rsa-2048"];
            env.command(words).stdout(std::process::Stdio::null()).spawn().unwrap()
        })
        .collect();
    for number in 0..6 {
        let folder = format!("copies/{number}");
        env.run(&format!("cabinet backup {folder}")).exit(0);
        let copy = format!("{folder}/ninekeys-20310519T120000Z.cabinet");
        env.run(&format!("cabinet status --prove --cabinet {copy}")).exit(0).says("every seal opened");
    }
    for mut writer in writers {
        assert!(writer.wait().unwrap().success());
    }
    let said = env.run("cabinet status --prove --format json").exit(0).json();
    assert_eq!(said["keys"], 7);
}

#[test]
fn a_status_without_unlocking_still_sees_a_broken_chain() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("cabinet backup copies").exit(0);
    let mut bytes = env.read("copies/ninekeys-20310519T120000Z.cabinet");
    let at = testkit::builds::last(&bytes, b"cabinet made");
    bytes[at] = b'C';
    env.file("changed.cabinet", &bytes);
    env.run("cabinet status --cabinet changed.cabinet")
        .exit(3)
        .says("history row 1 is not signed by its author");
    env.run("cabinet history --cabinet changed.cabinet").exit(3).says("cabinet restore COPY");
}

#[test]
fn a_key_has_its_copy_whatever_it_is_called_and_after_a_restore() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("cabinet backup copies").exit(0);
    let copied = |what: &str| {
        env.run("board").exit(0).is_silent_on("no copy");
        env.run("cabinet status").exit(0).is_silent_on("backup-missing");
        env.run("inventory").exit(0).is_silent_on("no copy");
        env.run(&format!("show {what}")).exit(0).says("in the last backup");
    };
    copied("crossing-signing");
    env.run("keystore change crossing-signing --new-alias release --new-name ferries").exit(0);
    copied("ferries");
    env.run("cabinet restore copies/ninekeys-20310519T120000Z.cabinet --yes").exit(0);
    copied("crossing-signing");
    env.run("keystore add-key crossing-signing --alias more --common-name A --algorithm ec-p256").exit(0);
    env.run("cabinet status").exit(0).says("backup-missing");
}
