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

#[test]
fn certificates_that_others_made_are_read_as_they_are() {
    if !has("openssl", "version") {
        return;
    }
    let env = TestEnv::new(PROGRAM);
    let make = |name: &str, key: &[&str], more: &[&str]| {
        let mut command = Command::new("openssl");
        command.args(["req", "-x509", "-nodes", "-keyout", "/dev/null", "-days", "400", "-subj"]);
        command.args(["/C=GB/O=Gannet, Point/CN=Ferries \\/ Pier"]).args(key).args(more);
        ok(command.args(["-out", name]).current_dir(env.folder()));
        name.to_owned()
    };
    let cases = [
        (make("rsa.pem", &["-newkey", "rsa:2048"], &[]), "RSA 2048"),
        (make("small.pem", &["-newkey", "rsa:1024"], &[]), "RSA 1024"),
        (make("p256.pem", &["-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256"], &[]), "EC P-256"),
        (
            make("p384.pem", &["-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-384"], &["-sha384"]),
            "EC P-384",
        ),
        (make("p521.pem", &["-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-521"], &[]), "EC P-521"),
        (make("ed.pem", &["-newkey", "ed25519"], &[]), "key of kind Ed25519"),
    ];
    for (file, key) in cases {
        let json = env.run(&format!("inspect {file} --format json")).exit(0).json();
        let certificate = &json["content"]["certificates"][0];
        assert_eq!(certificate["key"]["algorithm"], key, "{file}");
        assert_eq!(certificate["subject"], "CN=Ferries / Pier,O=Gannet\\, Point,C=GB", "{file}");
        let openssl = |what: &str| {
            let words = ["x509", "-in", &file, "-noout", what, "-sha256"];
            ok(Command::new("openssl").args(words).current_dir(env.folder()))
        };
        let fingerprint =
            openssl("-fingerprint").trim().rsplit('=').next().unwrap().replace(':', "").to_lowercase();
        assert_eq!(certificate["sha256"], fingerprint, "{file}");
        let serial = openssl("-serial").trim().rsplit('=').next().unwrap().to_lowercase();
        let found = certificate["serial"].as_str().unwrap();
        assert_eq!(found.trim_start_matches("00"), serial.trim_start_matches("00"), "{file}");
    }
}

#[test]
fn a_weak_key_of_another_signer_is_an_error_and_its_signature_still_verified() {
    if !has("openssl", "version") || !has("python3", "--version") {
        return;
    }
    // our own program makes no such key: take a signed build apart and sign it again elsewhere
    let env = TestEnv::with_key(PROGRAM);
    env.run("sign crossing.apk").exit(0);
    let folder = env.folder();
    take_apart(&env.path("crossing-2.4.0-12-direct.apk"), folder);
    let script = data("independent/v2_resign.py");
    ok(Command::new("python3")
        .arg(script)
        .arg(env.path("crossing-2.4.0-12-direct.apk"))
        .arg("weak.apk")
        .current_dir(folder));
    let json = env.run("check weak.apk --format json").exit(1).json();
    let rules: Vec<&str> =
        json["verdict"]["findings"].as_array().unwrap().iter().map(|f| f["rule"].as_str().unwrap()).collect();
    assert!(rules.contains(&"key-too-weak"), "{rules:?}");
    assert!(rules.contains(&"signer-changed") && !rules.contains(&"signature-invalid"), "{rules:?}");
    assert_eq!(json["android"]["schemes"][0]["verified"], true);
}

/// A build for devices from SDK 21 on, signed with every scheme by a new key.
fn signed_for_old_devices(algorithm: &str) -> TestEnv {
    let env = TestEnv::with_project(PROGRAM);
    let old = ninekeys_core::demo::DemoBuild { min_sdk: 21, ..testkit::builds::crossing() };
    env.file("old.apk", &old.apk());
    env.run(&format!(
        "keystore create k --app crossing --common-name 'Gannet, Point' --algorithm {algorithm}"
    ))
    .exit(0);
    env.run("sign old.apk --to out").exit(0).says("v1, v2, v3");
    env.run("check out/crossing-2.4.0-12-direct.apk").exit(0);
    env
}

#[test]
fn the_block_file_of_scheme_v1_is_confirmed_by_openssl() {
    if !has("openssl", "version") || !has("unzip", "-v") {
        return;
    }
    for (algorithm, ending) in [("rsa-2048", "RSA"), ("ec-p256", "EC"), ("ec-p384", "EC")] {
        let env = signed_for_old_devices(algorithm);
        let folder = env.folder();
        ok(Command::new("unzip")
            .args(["-q", "out/crossing-2.4.0-12-direct.apk", "META-INF/*"])
            .current_dir(folder));
        let block = format!("META-INF/K.{ending}");
        let words = [
            "cms",
            "-verify",
            "-binary",
            "-inform",
            "DER",
            "-noverify",
            "-in",
            &block,
            "-content",
            "META-INF/K.SF",
        ];
        let said = ok(Command::new("openssl").args(words).arg("-out").arg("/dev/null").current_dir(folder));
        assert!(said.to_lowercase().contains("verification successful"), "{algorithm}: {said}");
    }
}

#[test]
fn the_runtime_library_of_java_verifies_every_entry() {
    if !has("java", "-version") {
        return;
    }
    for algorithm in ["rsa-2048", "rsa-4096", "ec-p256", "ec-p384"] {
        let env = signed_for_old_devices(algorithm);
        let java = |apk: &str| {
            let mut command = Command::new("java");
            command.arg(data("independent/VerifyJar.java")).arg(apk).current_dir(env.folder());
            command.output().unwrap()
        };
        let output = java("out/crossing-2.4.0-12-direct.apk");
        let said =
            String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr);
        if said.contains("not found in module") || said.contains("no compiler") {
            eprintln!("skipped: this Java runtime cannot run a source file");
            return;
        }
        assert!(output.status.success(), "{algorithm}: {said}");
        assert!(said.contains("7 entries signed by CN=\"Gannet, Point\""), "{algorithm}: {said}");
        if algorithm == "rsa-2048" {
            // a changed byte is seen by both
            let mut bytes = env.read("out/crossing-2.4.0-12-direct.apk");
            let at = testkit::builds::first(&bytes, b"lib/arm64-v8a/libtide.so") + 20_000;
            bytes[at] ^= 1;
            env.file("changed.apk", &bytes);
            assert!(!java("changed.apk").status.success());
            env.run("check changed.apk")
                .exit(1)
                .says("the v1 signature is not valid")
                .says("the v2 and v3 signatures are not valid");
        }
    }
}

#[test]
fn pages_slots_seals_and_messages_of_an_ipa_are_confirmed() {
    if !has("openssl", "version") || !has("python3", "--version") {
        return;
    }
    let env = crate::sign::with_ipa();
    env.run("sign crossing.ipa --for store").exit(0);
    let folder = env.folder();
    let program = data("independent/ipa_parts.py");
    let said =
        ok(Command::new("python3").arg(program).arg(env.path("crossing-2.4.0-12-store.ipa")).arg(folder));
    assert!(said.contains("4 slices and 3 seals agree"), "{said}");
    for index in 0..4 {
        // the platform's own extensions are unknown to it, and critical
        let line = format!(
            "cms -verify -binary -inform DER -in {index}.message -content {index}.directory -CAfile in/root.pem \
             -purpose any -ignore_critical -attime 1796083200 -out verified"
        );
        let words: Vec<&str> = line.split_whitespace().collect();
        let said = ok(Command::new("openssl").args(words).current_dir(folder));
        assert!(said.contains("CMS Verification successful"), "{said}");
        assert!(env.read("verified") == env.read(&format!("{index}.directory")));
    }
}

/// The linker for executables of the iOS side, by the name that it has here.
fn linker() -> Option<String> {
    let names =
        ["ld64.lld".to_owned()].into_iter().chain((11..=25).map(|version| format!("ld64.lld-{version}")));
    let found = names.into_iter().find(|name| Command::new(name).arg("--version").output().is_ok());
    if found.is_none() {
        eprintln!("SKIPPED: there is no ld64.lld");
    }
    found
}

/// The directory of hashes of a file that is one slice, page by page, and where it begins to be hashed no more.
fn hashes(bytes: &[u8]) -> (u64, Vec<Vec<u8>>) {
    use ninekeys_formats::code_signature::{CodeDirectory, CodeSignature, MAIN_DIRECTORY};
    use ninekeys_formats::{limits::Limits, macho};
    let at = macho::slices(&bytes).unwrap().remove(0);
    let range = macho::Slice::read(&bytes, &at, &Limits::USUAL).unwrap().signature.unwrap();
    let list = CodeSignature::parse(&bytes[range.start as usize..range.end as usize]).unwrap();
    let directory = CodeDirectory::parse(list.find(MAIN_DIRECTORY).unwrap()).unwrap();
    (directory.limit, directory.pages().map(<[u8]>::to_vec).collect())
}

#[test]
fn what_a_compiler_and_a_linker_made_today_is_hashed_as_the_linker_hashes_it() {
    let (Some(linker), true) = (linker(), has("clang", "--version")) else { return };
    let env = crate::sign::with_ipa();
    let folder = env.folder();
    env.file(
        "pier.c",
        b"static int tide[9000]; int pier(int n) { tide[n % 9000] = n; return tide[0] + 7; }\n",
    );
    let run = |program: &str, line: &str| {
        ok(Command::new(program).args(line.split_whitespace()).current_dir(folder))
    };
    run("clang", "-target arm64-apple-ios14.0 -c -O1 -o pier.o pier.c");
    let link = "-arch arm64 -platform_version ios 14.0 16.0 -dylib -undefined dynamic_lookup";
    run(&linker, &format!("{link} -adhoc_codesign -o hashed.dylib pier.o"));
    run(&linker, &format!("{link} -o bare.dylib pier.o"));
    let said = env.run("inspect hashed.dylib --format json").exit(0).json();
    let signature = &said["content"]["slices"][0]["signature"];
    assert_eq!(
        (&signature["state"], &signature["faults"]),
        (&"by-linker".into(), &serde_json::json!([])),
        "{said}"
    );

    // both in an app: signed by us, over the very code that the linker hashed
    env.other("unzip -q crossing.ipa -d app");
    for name in ["hashed.dylib", "bare.dylib"] {
        std::fs::copy(env.path(name), env.path(&format!("app/Payload/Crossing.app/Frameworks/{name}")))
            .unwrap();
    }
    run("python3", "-m zipfile -c mixed.ipa app/Payload/");
    env.run("sign mixed.ipa --for store").exit(0).says("6 executables");
    env.other("unzip -q crossing-2.4.0-12-store.ipa -d out");
    let signed = |name: &str| hashes(&env.read(&format!("out/Payload/Crossing.app/Frameworks/{name}")));
    let (limit, theirs) = hashes(&env.read("hashed.dylib"));
    for name in ["hashed.dylib", "bare.dylib"] {
        let (own, ours) = signed(name);
        assert_eq!((own, ours.len()), (limit, theirs.len()), "{name}");
        // the first page has the load commands, which say how long the signature is
        assert_eq!(ours[1..], theirs[1..], "{name}");
        assert_ne!(ours[0], theirs[0], "{name}");
    }
}
