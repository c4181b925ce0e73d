//! What our program signed, confirmed by something that is not our code: `openssl` for certificate, key and
//! signature, a small Python program for the content digest, Java for the archive.

use std::path::Path;
use std::process::Command;

use crate::PROGRAM;
use testkit::{TestEnv, data, has};

fn ok(command: &mut Command) -> String {
    let output = command.output().unwrap();
    let said =
        String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr);
    assert!(output.status.success(), "{command:?}\n{said}");
    said
}

/// Takes the v2 signer apart with a program of its own and leaves its parts in `into`.
fn take_apart(apk: &Path, into: &Path) -> String {
    ok(Command::new("python3").arg(data("independent/v2_parts.py")).arg(apk).arg(into))
}

#[test]
fn certificate_key_signature_and_content_digest_are_confirmed() {
    if !has("openssl", "version") || !has("python3", "--version") {
        return;
    }
    for (algorithm, hash) in
        [("rsa-2048", "sha256"), ("rsa-4096", "sha512"), ("ec-p256", "sha256"), ("ec-p384", "sha512")]
    {
        let env = TestEnv::with_project(PROGRAM);
        env.file("crossing-release.apk", &std::fs::read(data("samples/crossing-release.apk")).unwrap());
        let create =
            format!("keystore create k --app crossing --common-name 'Gannet, Point' --algorithm {algorithm}");
        env.run(&create).exit(0);
        env.run("sign crossing-release.apk").exit(0);
        let folder = env.folder();
        let said = take_apart(&env.path("crossing-2.4.0-12-direct.apk"), folder);
        assert!(said.contains("content digest agrees"), "{algorithm}: {said}");
        let openssl = |words: &str| {
            let mut command = Command::new("openssl");
            ok(command.args(words.split(' ')).current_dir(folder))
        };
        let text = openssl("x509 -inform DER -in certificate.der -noout -subject -dates -pubkey");
        assert!(text.contains("Gannet, Point") || text.contains("Gannet\\, Point"), "{text}");
        assert!(text.contains("notAfter=May 19 12:00:00 2061 GMT"), "{text}");
        openssl("pkey -pubin -inform DER -in public.der -out public.pem");
        let public = String::from_utf8(env.read("public.pem")).unwrap();
        assert!(text.contains(public.trim()), "the key is the certificate's");
        let verified =
            openssl(&format!("dgst -{hash} -verify public.pem -signature signature.bin signed_data.bin"));
        assert!(verified.contains("Verified OK"), "{algorithm}: {verified}");
        openssl("x509 -inform DER -in certificate.der -out certificate.pem");
        let verified =
            openssl("verify -check_ss_sig -CAfile certificate.pem -attime 1937000000 certificate.pem");
        assert!(verified.contains("OK"), "{algorithm}: {verified}");
    }
}

#[test]
fn the_independent_digest_agrees_with_samples_that_others_signed() {
    if !has("python3", "--version") {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    for name in ["crossing-signed-v1v2v3.apk", "crossing-signed-ec.apk"] {
        let said = take_apart(&data("samples").join(name), folder.path());
        assert!(said.contains("content digest agrees"), "{name}: {said}");
    }
}

#[test]
fn the_signed_archive_opens_elsewhere_with_the_same_content() {
    if !has("unzip", "-v") {
        return;
    }
    let env = TestEnv::with_key(PROGRAM);
    env.file("crossing-release.apk", &std::fs::read(data("samples/crossing-release.apk")).unwrap());
    env.run("sign crossing-release.apk --to out").exit(0);
    let list = |path: &str| {
        let text = ok(Command::new("unzip").args(["-v", path]).current_dir(env.folder()));
        // size, checksum and name of every entry; the compressed bytes are copied as they are
        text.lines()
            .filter_map(|line| {
                let words: Vec<&str> = line.split_whitespace().collect();
                (words.len() >= 8).then(|| format!("{} {} {}", words[0], words[6], words[7..].join(" ")))
            })
            .collect::<Vec<_>>()
    };
    let signed = list("out/crossing-2.4.0-12-direct.apk");
    assert_eq!(list("crossing-release.apk")[1..30], signed[1..30]);
    ok(Command::new("unzip").args(["-tqq", "out/crossing-2.4.0-12-direct.apk"]).current_dir(env.folder()));
}
