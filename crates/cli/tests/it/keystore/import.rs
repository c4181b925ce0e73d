use crate::PROGRAM;
use testkit::{TestEnv, data};

/// A project with keystores that other programs wrote, and files with their passwords.
fn with_keystores() -> TestEnv {
    let env = TestEnv::with_project(PROGRAM);
    for name in ["ferries.jks", "harbour-legacy.p12", "kiosk-modern.p12"] {
        env.file(name, &std::fs::read(data("samples").join(name)).unwrap());
    }
    let passwords = [
        ("store", "store-pass-1"),
        ("crew", "crew-key-pass"),
        ("harbour", "harbour-key-pass"),
        ("legacy", "legacy-pass-1"),
        ("modern", "modern-pass-1"),
    ];
    for (name, password) in passwords {
        env.file(name, format!("{password}\n").as_bytes());
    }
    env
}

const BOTH: &str = "--key-password-in crew=crew --key-password-in harbour=harbour";

#[test]
fn a_jks_with_a_password_for_each_key_is_imported_whole_or_by_alias() {
    let env = with_keystores();
    env.run("keystore import ferries.jks --password-in store")
        .exit(4)
        .says("the key crew has a password of its own")
        .says("--key-password-in 'crew=FILE'")
        .says("changed   nothing");
    env.run(&format!("keystore import ferries.jks --password-in store {BOTH}"))
        .exit(0)
        .says("2 keys out of ferries.jks (JKS")
        .says("CN=crew release");
    let one = "keystore import ferries.jks --password-in store --name only-crew --alias CREW";
    env.run(&format!("{one} --key-password-in crew=harbour"))
        .exit(4)
        .says("the password of the key crew is wrong");
    env.run(&format!("{one} --key-password-in crew=crew"))
        .exit(0)
        .says("left there    harbour")
        .says("the cabinet holds this very key already, as ferries/crew");
    let missing = env.run("keystore import ferries.jks --password-in store --name x --alias nobody").exit(2);
    missing.says("no key with the alias nobody; it has crew, harbour");
}

#[test]
fn the_old_encryption_is_read_and_a_key_known_by_another_name_is_the_same() {
    let env = with_keystores();
    env.run(&format!("keystore import ferries.jks --password-in store {BOTH} --app crossing")).exit(0);
    env.run("keystore import harbour-legacy.p12 --password-in legacy --app crossing")
        .exit(0)
        .says("3DES, RC2 with 40 bits")
        .says("as ferries/harbour; it is kept once");
    env.run("compare ferries harbour-legacy").exit(0).says("The same certificate, and so the same key");
    env.run("compare ferries/crew harbour-legacy").exit(1).says("Not the same key");
    env.run("compare ferries.jks harbour-legacy.p12 --password-in legacy").exit(4);
    env.run("compare harbour-legacy.p12 ferries --password-in legacy").exit(0).says("✓ harbour");
}

#[test]
fn wrong_passwords_and_damage_are_told_apart_and_change_nothing() {
    let env = with_keystores();
    let before = env.run("cabinet history --format json").exit(0).stdout;
    env.run("keystore import kiosk-modern.p12 --password-in legacy")
        .exit(4)
        .says("the store password is wrong");
    env.run("keystore import ferries.jks --password-in legacy").exit(4).says("the store password is wrong");
    env.run("keystore import ferries.jks").exit(4).says("no terminal to ask for the password of ferries.jks");
    for (name, password, at) in [("kiosk-modern.p12", "modern", 300), ("ferries.jks", "store", 1_800)] {
        let mut bytes = env.read(name);
        bytes[at] ^= 1;
        env.file("damaged", &bytes);
        env.run(&format!("keystore import damaged --password-in {password}")).exit(3).says("it is damaged");
        env.file("cut", &bytes[..at]);
        env.run(&format!("keystore import cut --password-in {password}")).exit(3).says("it is damaged");
    }
    env.file("letter", b"dear release engineer");
    env.run("keystore import letter --password-in store").exit(3).says("neither PKCS#12 nor JKS");
    env.file("jceks", b"\xce\xce\xce\xce\x00\x00\x00\x02\x00\x00\x00\x00");
    env.run("keystore import jceks --password-in store")
        .exit(3)
        .says("have the Java runtime write it as PKCS#12");
    assert_eq!(env.run("cabinet history --format json").exit(0).stdout, before);
}

#[test]
fn keys_that_sign_nothing_are_kept_and_exported_and_say_so() {
    if !testkit::has("openssl", "version") {
        return;
    }
    let env = TestEnv::with_key(PROGRAM);
    let openssl = |words: &str| env.other(&format!("openssl {words}"));
    env.file("pw", b"brisk-lantern\n");
    openssl("req -x509 -newkey rsa:1024 -nodes -keyout rsa.key -out rsa.pem -subj /CN=old -days 9999");
    openssl("dsaparam -genkey -out dsa.key 2048");
    openssl("req -x509 -new -key dsa.key -out dsa.pem -subj /CN=dsa -days 9999");
    for kind in ["rsa", "dsa"] {
        openssl(&format!(
            "pkcs12 -export -inkey {kind}.key -in {kind}.pem -name pier -out {kind}.p12 -passout file:pw"
        ));
        let said = env.run(&format!("keystore import {kind}.p12 --password-in pw --app quayside")).exit(0);
        said.says("it is kept and can be exported, but not signed with");
        env.run(&format!("show {kind}")).exit(0).says("kept and exported, but not signed with");
        env.run(&format!("keystore export {kind} --to {kind}-out.p12")).exit(0);
        openssl(&format!("pkcs12 -in {kind}-out.p12 -nodes -passin file:pw -out {kind}-back.pem"));
        env.run(&format!("compare {kind}.pem {kind}")).exit(0).says("same certificate");
        let refused = env.run(&format!("sign crossing.apk --key {kind}")).exit(5);
        refused.says("explain key-too-weak").says("changed   nothing");
    }
}

#[test]
fn a_debug_key_is_recognised_and_refused_for_release() {
    let env = TestEnv::with_project(PROGRAM);
    env.file("crossing.apk", &testkit::builds::crossing().apk());
    env.run(
        "keystore create d --app crossing --common-name 'Android Debug' --organisation Android --country US",
    )
    .exit(0);
    env.file("pw", b"brisk-lantern\n");
    env.run("keystore export d --to d.p12 --password-in pw").exit(0);
    env.run("keystore import d.p12 --name again --password-in pw").exit(0).says("it is a debug key");
    env.run("sign crossing.apk --for direct").exit(5).says("debug-key");
    env.run("sign crossing.apk --for development").exit(0);
}

#[test]
fn hostile_keystores_are_refused_with_what_is_wrong_and_nothing_changes() {
    let env = with_keystores();
    env.run(&format!("keystore import ferries.jks --password-in store {BOTH}")).exit(0);
    env.run("keystore export ferries --to ours.p12 --password-in modern").exit(0);
    let ours = env.read("ours.p12");
    let before = env.run("cabinet history --format json").exit(0).stdout;
    let refused = |name: &str, bytes: &[u8], exit: i32, says: &str| {
        env.file("hostile", bytes);
        let said = env.run("keystore import hostile --name x --password-in modern").exit(exit);
        said.says(says).says("changed   nothing");
        env.run("inspect hostile").exit_any(&[0, 3]);
        assert!(!said.stderr.contains("defect"), "{name}");
    };
    // the count of the MAC stands at the very end
    let mut costly = ours.clone();
    let at = costly.len() - 3;
    costly[at..].copy_from_slice(&[0x7f, 0xff, 0xff]);
    refused("costly", &costly, 5, "8388607 times");
    // PBES2 becomes an algorithm that nobody has, the MAC's hash as well
    let pbes2 = [0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x05, 0x0d];
    let mut unknown = ours.clone();
    let at = testkit::builds::last(&unknown, &[0x60, 0x86, 0x48, 0x01, 0x65, 0x03, 0x04, 0x02, 0x01]);
    unknown[at + 8] = 0x63;
    refused("unknown MAC", &unknown, 3, "which is not read");
    let mut unknown = ours.clone();
    let at = testkit::builds::first(&unknown, &pbes2);
    unknown[at + 8] = 0x63;
    refused("unknown cipher", &unknown, 3, "it is damaged");
    let deep = [[0x30, 0x80].repeat(5_000), vec![2, 1, 3]].concat();
    refused("deep", &[&[0x30, 0x80, 2, 1, 3, 0x30, 0x80][..], &deep].concat(), 3, "it is damaged");
    refused("lengths", &[0x30, 0x84, 0xff, 0xff, 0xff, 0xff, 2, 1, 3, 0x30], 3, "it is damaged");
    let jks = env.read("ferries.jks");
    for (at, value) in [(8, 0xff), (12, 0x7f), (16, 0xff), (35, 0xff)] {
        let mut bytes = jks.clone();
        bytes[at] = value;
        refused("jks", &bytes, 3, "it is damaged");
    }
    refused("no entries", &[&jks[..8], &[0; 4], &[0; 20]].concat(), 4, "the store password is wrong");
    assert_eq!(env.run("cabinet history --format json").exit(0).stdout, before);
}

#[test]
fn a_key_without_its_certificate_is_named_whoever_made_the_file() {
    if !testkit::has("openssl", "version") {
        return;
    }
    let env = with_keystores();
    let openssl = |words: &str| env.other(&format!("openssl {words}"));
    openssl("req -x509 -newkey rsa:2048 -nodes -keyout a.key -out a.pem -subj /CN=a");
    openssl("pkcs12 -export -nocerts -inkey a.key -name pier -out bare.p12 -passout file:modern");
    env.run("keystore import bare.p12 --password-in modern").exit(3).says("the key pier has no certificate");
    openssl("pkcs12 -export -nokeys -in a.pem -out lone.p12 -passout file:modern");
    env.run("keystore import lone.p12 --password-in modern")
        .exit(5)
        .says("no private key in it, only 1 certificate");
    // all kinds of encryption that other programs still write
    for (name, how) in [
        ("nomac", "-nomac"),
        ("des", "-keypbe PBE-SHA1-3DES -certpbe PBE-SHA1-3DES -macalg sha1"),
        ("aes128", "-keypbe AES-128-CBC -certpbe AES-192-CBC -macalg sha512 -iter 1000"),
        ("plain", "-keypbe NONE -certpbe NONE"),
    ] {
        openssl(&format!(
            "pkcs12 -export -inkey a.key -in a.pem -name {name} -out {name}.p12 -passout file:modern {how}"
        ));
        env.run(&format!("keystore import {name}.p12 --password-in modern")).exit(0).says(name);
        env.run(&format!("compare {name} a.pem")).exit(0).says("same certificate");
        env.file("not-it", b"not-it-1");
        let wrong = env.run(&format!("keystore import {name}.p12 --name w --password-in not-it"));
        // without a MAC nothing but the key itself tells
        let says = if name == "nomac" { "has a password of its own" } else { "the store password is wrong" };
        let _ = wrong.exit(4).says(says);
    }
}

#[test]
fn an_imported_signing_key_of_a_year_is_warned_of_wherever_it_is_looked_at() {
    let env = TestEnv::with_project(PROGRAM);
    env.file("pw", b"sunken-bell-garnet");
    env.other("openssl req -x509 -newkey rsa:2048 -nodes -keyout k.pem -out c.pem -days 399 -subj /CN=Short");
    env.other("openssl pkcs12 -export -inkey k.pem -in c.pem -name short -out short.p12 -passout file:pw");
    let said = env.run("keystore import short.p12 --app crossing --password-in pw").exit(0);
    said.says("it ends less than 25 years after it began");
    env.run("cabinet status").exit(0).says("key-validity-short").says("valid too shortly");
    env.run("keystore import short.p12 --name up --kind upload --password-in pw")
        .exit(0)
        .is_silent_on("25 years");
}
