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
    assert_eq!(restored["items"][0]["sha256"], inventory["items"][1]["sha256"]);
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

#[test]
fn the_answer_for_programs_names_every_copy() {
    let env = TestEnv::with_key(PROGRAM);
    let said = env.run("cabinet backup one two --format json").exit(0).json();
    assert_eq!(said["schema"], "ninekeys.cabinet-backup/1");
    assert_eq!(said["copies"].as_array().unwrap().len(), 2, "{said}");
}

#[test]
fn where_every_copy_of_a_signing_key_is_and_how_old_is_said_and_off_site_is_remembered() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("cabinet backup drawer")
        .exit(0)
        .says("crossing-signing")
        .says("today drawer/ninekeys-20310519T120000Z.cabinet")
        .says("no copy is kept off site")
        .says("ninekeys cabinet backup FOLDER --off-site");
    let later = env.at("2031-06-28T12:00:00Z");
    let said = later.run("cabinet backup depot --off-site").exit(0);
    said.says("today depot/ninekeys-20310628T120000Z.cabinet (off site)")
        .says("40 d ago drawer/")
        .is_silent_on("no copy is kept off site");
    // a key that came later is in the newest copy alone
    later.run("keystore create after --app quayside --common-name A --algorithm ec-p256").exit(0);
    let last = later.at("2031-07-01T12:00:00Z");
    let json = last.run("cabinet backup drawer --format json").exit(0).json();
    let kept = json["kept"].as_array().unwrap();
    let count =
        |at: usize| (kept[at]["name"].as_str().unwrap(), kept[at]["copies"].as_array().unwrap().len());
    assert_eq!((count(0), count(1)), (("after", 1), ("crossing-signing", 3)));
    assert_eq!(json["off_site"]["place"], "depot/ninekeys-20310628T120000Z.cabinet");
    last.run("cabinet status --prove").exit(0);
    last.run("cabinet backup --drill --off-site").exit(2);
}

#[test]
fn a_drill_has_every_key_of_a_copy_sign_and_touches_nothing() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("cabinet backup --drill").exit(5).says("no copy of this cabinet is where one was written");
    env.run("cabinet backup").exit(2);
    env.run("keystore create more --common-name A --algorithm rsa-2048").exit(0);
    env.run("cabinet backup stick").exit(0);
    let before = env.files();
    env.run("cabinet backup --drill")
        .exit(0)
        .says("brings everything back")
        .says("2 keys signed a probe that holds");
    assert_eq!(env.files(), before, "nothing was touched, and nothing is left");
    env.run("keystore create later --common-name A --algorithm ec-p256").exit(0);
    let copy = before.iter().map(|(name, _)| name).find(|name| name.starts_with("stick/")).unwrap();
    env.run(&format!("cabinet backup --drill {copy}"))
        .exit(1)
        .says("does not bring everything back")
        .says("missing       later/later")
        .says("ninekeys cabinet backup FOLDER");
    let json = env.run("cabinet backup --drill --format json").exit(1).json();
    assert_eq!(
        (json["signed"].as_u64(), json["missing"][0].as_str()),
        (Some(2), Some("later/later")),
        "{json}"
    );
    let mut bytes = env.read(copy);
    let at = testkit::builds::last(&bytes, b"EC P-256");
    bytes[at] ^= 1;
    env.file("damaged.cabinet", &bytes);
    env.run("cabinet backup --drill damaged.cabinet").exit_any(&[3]);
    env.run("cabinet backup --drill ninekeys.toml").exit(3);
}
