//! The emergency door: a program written from docs/formats/cabinet.md alone opens a cabinet and writes a key out.

use std::process::Command;

use crate::PROGRAM;
use testkit::TestEnv;

const OPENER: &str = "independent/open_cabinet.py";

/// Runs the independent program; nothing when its library is missing, which is said aloud.
pub(super) fn open(env: &TestEnv, words: &[&str]) -> Option<std::process::Output> {
    let library = "from cryptography.hazmat.primitives.ciphers.aead import AESGCMSIV";
    if !Command::new("python3").args(["-c", library]).output().is_ok_and(|output| output.status.success()) {
        eprintln!(
            "SKIPPED: no second opinion on the cabinet's layout: python3 with `cryptography` is missing"
        );
        return None;
    }
    let mut command = Command::new("python3");
    command.arg(testkit::data(OPENER)).args(words).current_dir(env.folder());
    Some(command.output().unwrap())
}

#[test]
fn an_independent_program_proves_a_cabinet_and_writes_a_key_out() {
    let env = TestEnv::new(PROGRAM);
    env.file("pass", b"brisk-lantern-oyster\n");
    env.run("init --passphrase-in pass --new-unlock-file unlock.txt").exit(0);
    env.run("app add crossing --package example.gannetpoint.crossing --for direct").exit(0);
    env.run("keystore create a --app crossing --common-name A --algorithm ec-p256").exit(0);
    env.run("keystore create b --common-name A --algorithm rsa-2048").exit(0);
    env.file("new", b"quilted-harbour-anvil");
    env.run("cabinet passphrase --passphrase-in pass --new-passphrase-in new").exit(0);
    for (how, secret) in [("--passphrase-in", "new"), ("--unlock-file", "unlock.txt")] {
        for item in ["a/a", "b/b"] {
            let out = format!("{secret}-{}.der", &item[..1]);
            let words = ["ninekeys.cabinet", how, secret, item, &out];
            let Some(output) = open(&env, &words) else { return };
            assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
            let shown = env.run(&format!("show {} --format json", &item[..1])).exit(0).json().to_string();
            let public =
                env.other(&format!("openssl pkey -inform DER -in {out} -pubout -outform DER -out public"));
            assert_eq!(public, "");
            let sum = env.other("openssl dgst -sha256 -r public");
            assert!(shown.contains(&sum[..64]), "{item} is another key: {sum}");
        }
    }
    let refused = |words: &[&str]| !open(&env, words).unwrap().status.success();
    assert!(refused(&["ninekeys.cabinet", "--passphrase-in", "pass"]), "the old passphrase opens nothing");
    let mut bytes = env.read("ninekeys.cabinet");
    let at = testkit::builds::last(&bytes, b"EC P-256");
    bytes[at] ^= 1;
    env.file("changed", &bytes);
    assert!(refused(&["changed", "--unlock-file", "unlock.txt"]), "it believes nothing either");
}

#[test]
fn the_committed_cabinet_of_layout_2_is_opened_by_both_its_members() {
    let env = TestEnv::new(PROGRAM);
    for name in ["ninekeys.cabinet", "unlock.txt", "passphrase.txt"] {
        env.file(name, &std::fs::read(testkit::data("cases/layout-2").join(name)).unwrap());
    }
    for (how, secret) in [("--passphrase-in", "passphrase.txt"), ("--unlock-file", "unlock.txt")] {
        let Some(output) = open(&env, &["ninekeys.cabinet", how, secret]) else { return };
        let said = String::from_utf8_lossy(&output.stdout).into_owned();
        assert!(output.status.success(), "{said}{}", String::from_utf8_lossy(&output.stderr));
        assert!(
            said.starts_with("7 rows proved, 7 items, compartments app/crossing, manage, shared"),
            "{said}"
        );
    }
}
