use super::export::exported;
use crate::PROGRAM;
use testkit::{TestEnv, has};

/// What `openssl` gets out of a message: the public half of the key in it.
fn opened_by_openssl(env: &TestEnv, receiver: &str, message: &str) -> String {
    let form = if message.ends_with(".pem") { "PEM" } else { "DER" };
    let certificate = if receiver == "store.pem" { "store.pem" } else { "ski.pem" };
    if certificate == "ski.pem" {
        // a bare key is named by its identifier: openssl finds it by a certificate that has the same
        env.other_with(
            "openssl",
            &["req", "-x509", "-key", "store.key", "-out", "ski.pem", "-subj", "/CN=k"],
        );
    }
    let words = ["cms", "-decrypt", "-inform", form, "-in", message, "-inkey", "store.key"];
    env.other_with("openssl", &[&words[..], &["-recip", certificate, "-out", "key.der"]].concat());
    env.other_with("openssl", &["pkey", "-inform", "DER", "-in", "key.der", "-pubout"])
}

#[test]
fn a_key_is_handed_over_to_rsa_and_ec_certificates_and_bare_keys() {
    if !has("openssl", "version") {
        return;
    }
    let env = exported();
    env.run("keystore export crossing-signing --as certificate-pem --alias upload --to up.pem").exit(0);
    let wanted = env.other_with("openssl", &["x509", "-in", "up.pem", "-noout", "-pubkey"]);
    let kinds: [&[&str]; 3] = [
        &["-newkey", "rsa:3072"],
        &["-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256"],
        &["-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-384"],
    ];
    for kind in kinds {
        let words =
            ["req", "-x509", "-nodes", "-keyout", "store.key", "-out", "store.pem", "-subj", "/CN=The store"];
        env.other_with("openssl", &[&words[..], kind].concat());
        env.other_with("openssl", &["pkey", "-in", "store.key", "-pubout", "-out", "store.pub"]);
        for (receiver, to) in [("store.pem", "h.p7m"), ("store.pem", "h.pem"), ("store.pub", "k.p7m")] {
            let line = format!(
                "hand-over crossing-signing --alias upload --receiver {receiver} --to {to} --replace"
            );
            env.run(&format!("keystore {line}")).exit(0).says("only the receiver can open the file");
            assert_eq!(
                opened_by_openssl(&env, receiver, to).trim(),
                wanted.trim(),
                "{kind:?} {receiver} {to}"
            );
        }
    }
    env.run("cabinet history").exit(0).says("keystore hand-over crossing-signing (Upload) to the key");
}

#[test]
fn nobody_and_weak_keys_are_no_receivers() {
    let env = exported();
    env.file("nobody", b"nobody");
    env.run("keystore hand-over crossing-signing --alias upload --receiver nobody --to x")
        .exit(3)
        .says("neither a certificate nor a public key");
    if has("openssl", "version") {
        let words = ["req", "-x509", "-nodes", "-newkey", "rsa:1024", "-keyout", "w.key", "-out", "w.pem"];
        env.other_with("openssl", &[&words[..], &["-subj", "/CN=w"]].concat());
        env.run("keystore hand-over crossing-signing --alias upload --receiver w.pem --to x")
            .exit(5)
            .says("RSA 1024");
    }
    assert!(!env.path("x").exists());
}

#[test]
fn the_answer_names_key_and_receiver_by_their_fingerprints() {
    if !has("openssl", "version") {
        return;
    }
    let env = TestEnv::with_key(PROGRAM);
    env.other("openssl req -x509 -nodes -newkey rsa:2048 -keyout s.key -out s.pem -subj /CN=Store");
    let said = env
        .run("keystore hand-over crossing-signing --receiver s.pem --to out.p7m --format json")
        .exit(0)
        .json();
    assert_eq!(said["schema"], "ninekeys.keystore-hand-over/1");
    assert_eq!((&said["file"], &said["receiver"]["subject"]), (&"out.p7m".into(), &"CN=Store".into()));
    let shown = env.run("show crossing-signing --format json").exit(0).json();
    assert_eq!(said["key"], shown["parts"][0]["key"]);
}
