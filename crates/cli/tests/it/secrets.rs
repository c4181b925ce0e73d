//! Never let a secret out: not on the screen, not in files, not in what can be read without unlocking.

use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn no_secret_stands_in_clear_anywhere() {
    let env = TestEnv::new(PROGRAM).variable("PW", "sunken-bell-garnet-56");
    env.file("pass", b"brisk-lantern-oyster");
    env.run("init --passphrase-in pass").exit(0);
    env.run("app add crossing --package example.gannetpoint.crossing --for direct").exit(0);
    let mut said = String::new();
    let create =
        "keystore create k --app crossing --common-name A --algorithm rsa-2048 --password-variable PW";
    for line in [create, "show k", "inventory", "cabinet history", "cabinet backup copies", "show k/k"] {
        for format in ["text", "json"] {
            let output = env
                .command(format!("{line} --passphrase-in pass --format {format}").split(' '))
                .output()
                .unwrap();
            said += &String::from_utf8_lossy(&output.stdout);
            said += &String::from_utf8_lossy(&output.stderr);
        }
    }
    for secret in ["sunken-bell-garnet-56", "brisk-lantern-oyster"] {
        assert!(!said.contains(secret), "{secret} was printed");
        for (name, bytes) in env.files().into_iter().filter(|(name, _)| name != "pass") {
            let found = bytes.windows(secret.len()).any(|window| window == secret.as_bytes());
            assert!(!found, "{secret} stands in {name}");
        }
    }
    // the version and algorithm in front of every PKCS#8 RSA key
    let pkcs8 =
        [0x02, 0x01, 0x00, 0x30, 0x0d, 0x06, 0x09, 0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x01, 0x01];
    for (name, bytes) in env.files() {
        assert!(!bytes.windows(16).any(|window| window == pkcs8), "a private key stands in {name}");
    }
}

#[test]
fn facts_changed_behind_the_tools_back_are_found_when_it_is_unlocked() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("cabinet backup copies").exit(0);
    let copy = env.read("copies/ninekeys-20310519T120000Z.cabinet");
    let places: [&[u8]; 3] =
        [b"CN=Ferries", b"keystore create crossing-signing", b"crossing-signing/crossing-signing"];
    for what in places {
        let mut bytes = copy.clone();
        let at = testkit::builds::last(&bytes, what);
        bytes[at + what.len() - 1] ^= 1;
        env.file("changed.cabinet", &bytes);
        env.run("cabinet status --prove --cabinet changed.cabinet")
            .exit(3)
            .says("changed by something else than this tool");
    }
}
