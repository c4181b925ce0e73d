//! Which cabinet is meant, and how new it has to be: forged, older and parted ones, as a victim meets them.

use crate::PROGRAM;
use testkit::TestEnv;

/// The same folder seen from another machine.
pub(super) fn elsewhere(env: &TestEnv, line: &str) -> std::process::Output {
    let mut command = env.command(line.split(' '));
    command.env("HOME", env.path("other-machine")).output().unwrap()
}

pub(super) fn says(output: &std::process::Output, code: i32, text: &str) {
    let said =
        String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr);
    assert_eq!(output.status.code(), Some(code), "{said}");
    assert!(said.contains(text), "no `{text}` in:\n{said}");
}

#[test]
fn a_forged_cabinet_is_refused_whatever_opens_it() {
    let env = TestEnv::with_key(PROGRAM);
    // from now on this machine knows what is at the place
    env.run("board").exit(0);
    env.file("forger/pass", b"brisk-lantern-oyster");
    let mut forger = env.command("init --passphrase-in pass --new-unlock-file unlock.txt".split(' '));
    assert!(forger.current_dir(env.path("forger")).output().unwrap().status.success());
    std::fs::copy(env.path("forger/ninekeys.cabinet"), env.path("ninekeys.cabinet")).unwrap();
    for line in ["status --prove", "status", "history"] {
        let said = env.run(&format!("cabinet {line}")).exit(5);
        said.says("another cabinet than the one that the project file names").says("ninekeys cabinet pin");
    }
    env.run("keystore create next --common-name A").exit(5).says("changed   nothing");
    env.run("sign crossing.apk").exit(5);
    env.run("board").exit(5);
    // a project without a pin, on a machine that has never been there: the unlock file still knows its cabinet
    let text = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    let without: String =
        text.lines().filter(|line| !line.starts_with("pin")).map(|line| format!("{line}\n")).collect();
    env.file("ninekeys.toml", without.as_bytes());
    let said = elsewhere(&env, "keystore create next --common-name A");
    says(&said, 5, "another cabinet than the one that the unlock file names");
    // this machine remembers what was at the place, whatever the project file says
    env.run("board").exit(5).says("another cabinet than the one that this machine names");
    let forged = String::from_utf8(env.read("forger/ninekeys.toml")).unwrap();
    let pin = forged.lines().find(|line| line.starts_with("pin")).unwrap();
    env.file("ninekeys.toml", format!("{pin}\n{without}").as_bytes());
    env.run("board").exit(5).says("another cabinet than the one that this machine names");
}

#[test]
fn an_older_file_put_back_is_a_finding_and_nothing_is_done_with_it() {
    let env = TestEnv::with_key(PROGRAM);
    let old = env.read("ninekeys.cabinet");
    env.run("keystore create later --common-name A --algorithm ec-p256").exit(0);
    let new = env.read("ninekeys.cabinet");
    env.file("ninekeys.cabinet", &old);
    env.run("board").exit(0).says("older than it should be: this machine has seen change 4");
    env.run("cabinet status").exit(0).says("✗ cabinet-older");
    let json = env.run("inventory --format json").exit(0);
    assert!(json.stderr.contains("\"notice\":\"not-current\""), "{}", json.stderr);
    env.run("sign crossing.apk").exit(5).says("it is older").says("ninekeys cabinet pin");
    env.run("keystore create x --common-name A").exit(5);
    env.run("cabinet status --prove").exit(0).says("every seal opened");
    env.file("ninekeys.cabinet", &new);
    env.run("sign crossing.apk").exit(0);
}

#[test]
fn a_cabinet_that_nothing_pins_is_said_once_and_remembered() {
    let env = TestEnv::with_key(PROGRAM);
    std::fs::remove_file(env.path("ninekeys.toml")).unwrap();
    std::fs::create_dir(env.path("other-machine")).unwrap();
    says(&elsewhere(&env, "inventory"), 0, "nothing said which cabinet is meant");
    let again = elsewhere(&env, "inventory");
    assert!(!String::from_utf8_lossy(&again.stderr).contains("nothing said"), "once");
    let mut command = env.command(["cabinet", "status"]);
    let output = command.env_remove("HOME").output().unwrap();
    says(&output, 0, "this machine has no place to remember it");
}

#[test]
fn a_restored_cabinet_is_taken_for_honest_where_a_newer_one_was_seen() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("cabinet backup copies").exit(0);
    env.run("keystore create later --common-name A --algorithm ec-p256").exit(0);
    std::fs::create_dir(env.path("other-machine")).unwrap();
    says(&elsewhere(&env, "inventory"), 0, "later");
    env.run("cabinet restore copies/ninekeys-20310519T120000Z.cabinet --yes").exit(0).says("given up");
    let said = elsewhere(&env, "sign crossing.apk");
    says(&said, 0, "signed with");
    // and a cabinet that is gone comes back from its copy, where this machine has seen a newer one
    env.run("keystore create again --common-name A --algorithm ec-p256").exit(0);
    std::fs::remove_file(env.path("ninekeys.cabinet")).unwrap();
    env.run("cabinet restore copies/ninekeys-20310519T120000Z.cabinet").exit(0).says("every seal opened");
    env.run("keystore create more --common-name A --algorithm ec-p256").exit(0);
    env.run("cabinet history --verify").exit(0).says("cabinet restore copies/");
}

#[test]
fn a_cabinet_that_cannot_be_opened_is_set_aside_whole() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("cabinet backup copies").exit(0);
    let mut broken = env.read("ninekeys.cabinet");
    let at = testkit::builds::last(&broken, b"EC P-256");
    broken[at] ^= 1;
    env.file("ninekeys.cabinet", &broken);
    env.run("board").exit(3).says("ninekeys cabinet restore COPY");
    let said = env.run("cabinet restore copies/ninekeys-20310519T120000Z.cabinet").exit(0);
    said.says("set aside     the cabinet that was there is ninekeys.cabinet.replaced-20310519T120000Z");
    assert_eq!(env.read("ninekeys.cabinet.replaced-20310519T120000Z"), broken, "to the byte");
    env.run("sign crossing.apk").exit(0);
}

#[test]
fn a_backup_that_is_restored_from_keeps_its_bytes_and_its_time() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("cabinet backup copies").exit(0);
    let copy = env.path("copies/ninekeys-20310519T120000Z.cabinet");
    let before = (std::fs::read(&copy).unwrap(), copy.metadata().unwrap().modified().unwrap());
    env.run("keystore create later --common-name A --algorithm ec-p256").exit(0);
    env.run("cabinet restore copies/ninekeys-20310519T120000Z.cabinet")
        .exit(5)
        .says("given up would be later");
    env.run("cabinet restore copies/ninekeys-20310519T120000Z.cabinet --yes").exit(0);
    let after = (std::fs::read(&copy).unwrap(), copy.metadata().unwrap().modified().unwrap());
    assert!(before == after);
    assert_eq!(std::fs::read_dir(env.path("copies")).unwrap().count(), 1, "nothing lies beside it");
}
