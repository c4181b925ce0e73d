//! Timestamps: asked for when signing, held against what they are over, and confirmed by `openssl`.

use std::process::Command;

use crate::portal::connected;
use ninekeys_core::timestamp::{Stamped, TimestampFault};
use ninekeys_formats::cms;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::timestamp::TOKEN;
use testkit::{TestEnv, data, has};

fn named(env: &TestEnv, address: &str) {
    let project = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    let project: String = project
        .lines()
        .filter(|line| !line.starts_with("timestamps"))
        .map(|line| format!("{line}\n"))
        .collect();
    env.file("ninekeys.toml", format!("timestamps = \"{address}\"\n{project}").as_bytes());
}

fn ready(env: &TestEnv) {
    env.run("app change crossing --extension share=example.gannetpoint.crossing.share").exit(0);
    env.run("prepare --app crossing --for store --yes").exit(0);
    env.file("crossing.ipa", ninekeys_core::demo::CROSSING_IPA);
}

#[test]
fn each_signature_gets_a_time_that_others_confirm() {
    let (env, portal) = connected();
    ready(&env);
    env.run("sign crossing.ipa --for store --timestamp")
        .exit(5)
        .says("names nobody who gives timestamps")
        .says("changed   nothing");
    named(&env, &format!("{}/authority/timestamps", portal.address));
    env.run("sign crossing.ipa --for store --timestamp").exit(0).says("all fine");
    let file = "crossing-2.4.0-12-store.ipa";
    env.run(&format!("check {file} --for store --tree")).exit(0).says("Stand-In Timestamps");
    let seen = env.run(&format!("check {file} --for store --format json")).exit(0).json();
    let bundles = seen["ios"]["bundles"].as_array().unwrap();
    assert!(
        bundles.len() > 2 && bundles.iter().all(|bundle| bundle["code"]["stamped"]["at"].is_string()),
        "{seen}"
    );

    // whose root the project does not name
    let project = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    env.file("other.pem", &std::fs::read(data("samples/ios/root.pem")).unwrap());
    env.file("ninekeys.toml", project.replace("portal/root.pem", "other.pem").as_bytes());
    env.run(&format!("check {file} --for store")).exit(1).says("timestamp-untrusted");
    env.file("ninekeys.toml", project.as_bytes());

    if !has("openssl", "version") || !has("python3", "--version") {
        eprintln!("SKIPPED: no openssl and python3 to confirm timestamps");
        return;
    }
    let program = data("independent/ipa_parts.py");
    let parted = Command::new("python3").arg(program).arg(env.path(file)).arg(env.folder()).output().unwrap();
    assert!(parted.status.success());
    for index in 0..4 {
        let message = cms::parse(&env.read(&format!("{index}.message")), &Limits::USUAL).unwrap();
        let [signer] = message.signers.as_slice() else { panic!("one signer") };
        let (_, token) = signer.unsigned.iter().find(|(kind, _)| *kind == TOKEN).unwrap();
        env.file("token", &token[0]);
        env.file("signature", &signer.signature);
        let now: jiff::Timestamp = env.now().parse().unwrap();
        let line = "ts -verify -token_in -in token -data signature -CAfile portal/root.pem -attime";
        let line = format!("{line} {}", now.as_second());
        let said = Command::new("openssl").args(line.split(' ')).current_dir(env.folder()).output().unwrap();
        assert!(said.status.success(), "{}", String::from_utf8_lossy(&said.stderr));
        // and it is over nothing else
        let other = Stamped::read(&token[0], b"other", None, &Limits::USUAL);
        assert_eq!(other.unwrap_err(), TimestampFault::OtherImprint);
        assert!(Stamped::read(&token[0], &signer.signature, Some(b"another"), &Limits::USUAL).is_err());
    }
}

#[test]
fn who_does_not_answer_or_is_not_trusted_stops_the_signing_before_anything_is_written() {
    let (env, portal) = connected();
    ready(&env);
    let line = "sign crossing.ipa --for store --timestamp";
    named(&env, &format!("{}/nowhere", portal.address));
    env.run(line).exit(6).says("status 404").says("changed   nothing");
    // a stand-in of another root
    let (_other_env, other) = connected();
    named(&env, &format!("{}/authority/timestamps", other.address));
    env.run(line).exit(6).says("leads to none of the roots");
    named(&env, "http://127.0.0.1:1/");
    let before = env.files().len();
    env.run(line).exit(6).says("could not be asked");
    assert_eq!(env.files().len(), before);
    env.run("board").exit_any(&[0, 1]);
    env.file("crossing.apk", &testkit::builds::crossing().apk());
    env.run("app change crossing --package example.gannetpoint.crossing --for direct").exit_any(&[0]);
    env.run("sign crossing.apk --app crossing --for direct --timestamp")
        .exit(2)
        .says("have no place for a timestamp");
}

#[test]
fn what_another_authority_stamped_is_read_and_a_change_is_told() {
    if !has("openssl", "version") {
        eprintln!("SKIPPED: no openssl to make a timestamp");
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let config = "[tsa]\nserial = serial\nsigner_cert = tsa.pem\nsigner_key = tsa.key\ncerts = root.pem\nsigner_digest = sha256\n\
                  default_policy = 1.2.3.4\ndigests = sha256,sha512\naccuracy = secs:1, millisecs:500\nclock_precision_digits = 3\n\
                  ess_cert_id_chain = no\nordering = yes\n[ext]\nextendedKeyUsage = critical,timeStamping\n";
    #[expect(clippy::disallowed_methods, reason = "tests write their own files")]
    let put = |name: &str, bytes: &[u8]| std::fs::write(folder.path().join(name), bytes).unwrap();
    let read = |name: &str| std::fs::read(folder.path().join(name)).unwrap();
    put("tsa.cnf", config.as_bytes());
    put("signature", b"a signature of ours");
    for line in [
        "req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout root.key -out root.pem -subj /CN=Root -days 20",
        "req -newkey rsa:2048 -nodes -keyout tsa.key -out tsa.csr -subj /CN=Times",
        "x509 -req -in tsa.csr -CA root.pem -CAkey root.key -CAcreateserial -days 10 -extfile tsa.cnf -extensions ext -out tsa.pem",
        "ts -query -data signature -sha512 -cert -out question",
        "ts -reply -config tsa.cnf -section tsa -queryfile question -out answer",
        "ts -reply -in answer -token_out -out token",
    ] {
        let said = Command::new("openssl").args(line.split(' ')).current_dir(folder.path()).output().unwrap();
        assert!(said.status.success(), "{line}: {}", String::from_utf8_lossy(&said.stderr));
    }
    let token = read("token");
    let stamped = Stamped::read(&token, b"a signature of ours", None, &Limits::USUAL).unwrap();
    assert_eq!(stamped.authority.subject, "CN=Times");
    let root = ninekeys_formats::pem::blocks(&read("root.pem"), "CERTIFICATE", &Limits::USUAL);
    let root = ninekeys_formats::x509::Certificate::parse(&root[0], &Limits::USUAL).unwrap();
    assert_eq!(stamped.chain(&[root]).unwrap().len(), 2);
    assert!(stamped.chain(&[]).is_ok(), "its root came along");
    // a byte of what was signed
    let at = token.windows(4).position(|window| window == [0x06, 0x03, 0x2a, 0x03]).unwrap();
    let mut changed = token.clone();
    changed[at + 3] ^= 1;
    assert!(Stamped::read(&changed, b"a signature of ours", None, &Limits::USUAL).is_err());
}
