use crate::PROGRAM;
use testkit::{TestEnv, data, has};

/// Two keys in one keystore, exported with a password in `pw`.
pub(super) fn exported() -> TestEnv {
    let env = TestEnv::with_key(PROGRAM);
    env.run("keystore add-key crossing-signing --alias Upload --kind upload --app crossing --common-name Up --algorithm rsa-2048")
        .exit(0)
        .says("crossing-signing has 2 keys now");
    env.run("keystore export crossing-signing --to out.p12 --note-password pw")
        .exit(0)
        .says("written into pw");
    env
}

#[test]
fn what_is_exported_is_read_by_openssl_and_by_java_with_every_alias() {
    let env = exported();
    assert_eq!(
        env.run("inspect out.p12 --password-in pw --format json").exit(0).json()["content"]["keys"]
            .as_array()
            .unwrap()
            .len(),
        2
    );
    if has("openssl", "version") {
        let said =
            env.other_with("openssl", &["pkcs12", "-in", "out.p12", "-passin", "file:pw", "-info", "-noenc"]);
        assert!(said.contains("PBES2, PBKDF2, AES-256-CBC"), "{said}");
        assert_eq!(said.matches("BEGIN PRIVATE KEY").count(), 2);
        assert!(said.contains("MAC: sha256"), "{said}");
    }
    if has("javac", "-version") {
        let classes = env.folder().display().to_string();
        env.other_with("javac", &["-d", &classes, &data("independent/ReadStore.java").display().to_string()]);
        let password = String::from_utf8(env.read("pw")).unwrap();
        let said =
            env.other_with("java", &["-cp", &classes, "ReadStore", "PKCS12", "out.p12", password.trim()]);
        assert!(said.contains("crossing-signing: EC key, 1 certificates, pair: true"), "{said}");
        assert!(said.contains("upload: RSA key, 1 certificates, pair: true"), "{said}");
    }
}

#[test]
fn what_java_writes_is_imported_in_both_of_its_formats() {
    if !has("javac", "-version") {
        return;
    }
    let env = exported();
    let classes = env.folder().display().to_string();
    env.other_with("javac", &["-d", &classes, &data("independent/ReadStore.java").display().to_string()]);
    let password = String::from_utf8(env.read("pw")).unwrap();
    for kind in ["JKS", "PKCS12"] {
        env.other_with(
            "java",
            &["-cp", &classes, "ReadStore", "PKCS12", "out.p12", password.trim(), kind, kind, "größe"],
        );
        env.file("own", "größe\n".as_bytes());
        let import = format!("keystore import {kind} --name from-{kind} --password-in pw --alias upload");
        if kind == "JKS" {
            // JKS takes a password of any characters for a key
            env.run(&import).exit(4).says("the key upload has a password of its own");
            env.run(&format!("{import} --key-password-in upload=own"))
                .exit(0)
                .says("as crossing-signing/Upload");
        } else {
            env.run(&import).exit(0).says("as crossing-signing/Upload");
        }
        env.run(&format!("compare from-{kind} out.p12 --password-in pw"))
            .exit(0)
            .says("The same certificate");
    }
}

#[test]
fn a_certificate_alone_needs_no_passphrase_and_no_history() {
    let env = exported();
    let before = env.run("cabinet history --format json").exit(0).stdout;
    std::fs::remove_file(env.path("unlock.txt")).unwrap();
    env.run("keystore export crossing-signing --as certificate-pem --to all.pem")
        .exit(0)
        .says("no private key");
    env.run("keystore export crossing-signing --as certificate-der --to one.der")
        .exit(2)
        .says("a DER file holds one certificate, and 2 were asked for");
    env.run("keystore export crossing-signing --as certificate-der --to one.der --alias upload").exit(0);
    assert_eq!(String::from_utf8(env.read("all.pem")).unwrap().matches("BEGIN CERTIFICATE").count(), 2);
    env.run("compare one.der crossing-signing").exit(0).says("same certificate");
    env.run("keystore export crossing-signing --to other.p12").exit(4);
    assert_eq!(env.run("cabinet history --format json").exit(0).stdout, before);
    if has("openssl", "version") {
        assert!(
            env.other_with("openssl", &["x509", "-in", "one.der", "-inform", "DER", "-noout", "-subject"])
                .contains("Up")
        );
    }
}

#[test]
fn the_file_is_its_owners_alone_never_replaced_unasked_and_written_down() {
    let env = exported();
    env.run("keystore export crossing-signing --to out.p12").exit(5).says("exists already");
    env.run("keystore export crossing-signing --to new.p12 --random-password")
        .exit(5)
        .says("nobody can open it");
    let said = env
        .run("keystore export crossing-signing --to out.p12 --replace --random-password --note-password n")
        .exit(0);
    said.says("what had the name before is now out.p12.replaced-20310519T120000Z");
    assert!(env.path("out.p12.replaced-20310519T120000Z").exists(), "it may be somebody's only copy");
    env.run("cabinet history").exit(0).says("keystore export crossing-signing (crossing-signing, Upload)");
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        for file in ["out.p12", "pw"] {
            assert_eq!(
                std::fs::metadata(env.path(file)).unwrap().permissions().mode() & 0o777,
                0o600,
                "{file}"
            );
        }
    }
    let before = env.files();
    env.run("keystore export crossing-signing --to out.p12 --note-password other")
        .exit(5)
        .says("exists already");
    env.run("keystore export crossing-signing --to other.p12 --note-password pw")
        .exit(5)
        .says("exists already");
    assert_eq!(env.files(), before, "neither of the two is written when one is taken");
    env.file("umlaut", "schlüsselbund\n".as_bytes());
    env.run("keystore export crossing-signing --to new.p12 --password-in umlaut")
        .exit(5)
        .says("beyond ASCII, which the Java runtime does not take");
    assert!(!env.path("new.p12").exists());
}

#[test]
fn settings_that_last_lead_to_the_key_under_the_names_that_the_app_reads() {
    let env = exported();
    std::fs::create_dir(env.path("app")).unwrap();
    let said = env
        .run("keystore export crossing-signing --alias crossing-signing --to app/own.p12 --properties app/own.properties")
        .exit(0);
    said.says("app/own.properties: keystore, alias, password, key-password")
        .says("until you delete it")
        .says("/app/own.p12")
        .says("/app/own.properties")
        .is_silent_on("nobody has seen it");
    let text = String::from_utf8(env.read("app/own.properties")).unwrap();
    assert!(
        text.starts_with("# lasting: it stays until somebody deletes it; keep it out of version control\n")
    );
    let field = |name: &str| {
        let line = text.lines().find(|line| line.starts_with(&format!("{name}="))).unwrap();
        line.split_once('=').unwrap().1.to_owned()
    };
    assert_eq!(std::path::PathBuf::from(field("keystore")), env.path("app/own.p12").canonicalize().unwrap());
    assert_eq!((field("alias"), field("password")), ("crossing-signing".into(), field("key-password")));
    env.file("own", field("password").as_bytes());
    env.run("compare app/own.p12 crossing-signing --password-in own").exit(0);
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        let mode = std::fs::metadata(env.path("app/own.properties")).unwrap().permissions().mode();
        assert_eq!(mode & 0o777, 0o600);
    }
    // what is there is not replaced unasked, and neither of the two is written then
    env.run("keystore export crossing-signing --alias crossing-signing --to new.p12 --properties app/own.properties")
        .exit(5)
        .says("app/own.properties exists already");
    assert!(!env.path("new.p12").exists());
    // the app's own names; a password that is made up is noted in the file itself
    let toml = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    let names = "[app.crossing.lend.properties]\nkeystore = \"ferry.file\"\nalias = \"ferry.alias\"\n\
                 password = \"ferry.pw\"\nkey-password = \"ferry.key\"\n";
    env.file("ninekeys.toml", format!("{toml}\n{names}").as_bytes());
    let json = env
        .run("keystore export crossing-signing --alias upload --to up.p12 --properties up.properties --random-password --format json")
        .exit(0)
        .json();
    assert_eq!(json["properties"]["fields"][0], "ferry.file");
    assert_eq!(json["properties"]["keep_out"], serde_json::json!(["/up.p12", "/up.properties"]));
    let again = env
        .run("keystore export crossing-signing --alias upload --to up.p12 --properties up.properties --replace --format json")
        .exit(0)
        .json();
    let lines = again["properties"]["keep_out"].as_array().unwrap();
    let aside = lines.iter().filter(|line| line.as_str().unwrap().contains(".replaced-")).count();
    assert_eq!((lines.len(), aside), (4, 2), "what was set aside is named too: {lines:?}");
    let text = String::from_utf8(env.read("up.properties")).unwrap();
    assert!(text.contains("\nferry.alias=Upload\n"), "{text}");
}

#[test]
fn settings_name_one_key_and_the_names_of_one_app() {
    let env = exported();
    env.run("keystore export crossing-signing --to a.p12 --properties a.properties")
        .exit(2)
        .says("a properties file names one key, and 2 were asked for")
        .says("--alias ALIAS");
    env.run("keystore export crossing-signing --alias upload --to a.pem --as certificate-pem --properties a.properties")
        .exit(2)
        .says("no build can sign with it");
    env.run("app add deckhand --package example.gannetpoint.deckhand --for direct").exit(0);
    env.run("keystore change crossing-signing --alias upload --add-app deckhand").exit(0);
    let toml = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    let names = "[app.deckhand.lend.properties]\nalias = \"crew.alias\"\n";
    env.file("ninekeys.toml", format!("{toml}\n{names}").as_bytes());
    let export = "keystore export crossing-signing --alias upload --to a.p12 --properties a.properties";
    env.run(export)
        .exit(2)
        .says("the builds of crossing, deckhand read fields of different names")
        .says("--app crossing");
    assert!(!env.path("a.p12").exists());
    env.run(&format!("{export} --app nobody")).exit(2).says("no app called nobody");
    env.run(&format!("{export} --app deckhand")).exit(0).says("crew.alias");
}

#[cfg(unix)]
#[test]
fn a_path_that_is_no_text_is_not_written_into_settings() {
    use std::os::unix::ffi::OsStrExt;
    let env = TestEnv::with_key(PROGRAM);
    let name = std::ffi::OsStr::from_bytes(b"out-\xff.p12");
    let mut words: Vec<&std::ffi::OsStr> =
        ["keystore", "export", "crossing-signing", "--properties", "a.properties", "--to"]
            .map(AsRef::as_ref)
            .to_vec();
    words.push(name);
    let output = env.command(&words).output().unwrap();
    assert_eq!(output.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&output.stderr).contains("is no text"));
    assert!(!env.folder().join(name).exists() && !env.path("a.properties").exists());
}
