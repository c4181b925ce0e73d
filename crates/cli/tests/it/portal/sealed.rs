use std::process::{Command, Stdio};

use super::{import_key, start_with};
use crate::PROGRAM;
use testkit::TestEnv;

/// Writes where the portal is into the project file, with what is pinned.
fn write(env: &TestEnv, address: &str, pinned: &str) {
    let project = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    let rest = &project[project.find("title = ").unwrap()..];
    let rest = rest.replace("in/root.pem", "portal/root.pem");
    env.file("ninekeys.toml", format!("portal = \"{address}\"\n{pinned}\n{rest}").as_bytes());
}

#[test]
fn a_sealed_connection_is_for_who_is_pinned_and_nobody_else() {
    let env = TestEnv::with_ios(PROGRAM);
    let portal = start_with(&env, &["--tls"]);
    assert!(portal.address.starts_with("https://127.0.0.1:"), "{}", portal.address);
    assert_eq!(portal.said["certificate"], "portal/tls.pem");
    write(&env, &portal.address, "");
    import_key(&env, &portal.said["first_key"], "owner");
    // nobody answers for it
    let prepare = "prepare --app crossing --for store --yes";
    env.run(prepare).exit(2).says("the project file does not pin its certificate").says("portal-certificate");
    write(&env, &portal.address, "portal-certificate = \"portal/tls.pem\"");
    env.run(prepare).exit(0).says("through the portal at https://127.0.0.1");
    env.run("check --app crossing --for store").exit(0);
    // another's certificate, no certificate, several
    env.file("other.pem", &env.read("in/root.pem"));
    write(&env, &portal.address, "portal-certificate = \"other.pem\"");
    env.run("portal take-in").exit(6).says("cannot be reached").says("invalid peer certificate");
    env.file("both.pem", &[env.read("other.pem"), env.read("portal/tls.pem")].concat());
    write(&env, &portal.address, "portal-certificate = \"both.pem\"");
    env.run("portal take-in").exit(3).says("holds several certificates, and one is pinned");
    write(&env, &portal.address, "portal-certificate = \"ninekeys.toml\"");
    env.run("portal take-in").exit(3).says("holds no certificate");
    // nobody speaks in clear to it, and it to nobody
    let plain = portal.address.replace("https", "http");
    write(&env, &plain, "");
    env.run("portal take-in").exit(6);

    // a client that is not ours takes it for who it is, and reads nothing without a token
    let host = portal.address.trim_start_matches("https://");
    let said = Command::new("openssl")
        .args(["s_client", "-connect", host, "-CAfile"])
        .arg(env.path("portal/tls.pem"))
        .args(["-verify_ip", "127.0.0.1", "-verify_return_error", "-brief"])
        .stdin(Stdio::null())
        .output()
        .expect("openssl has to be there");
    let said = String::from_utf8_lossy(&said.stderr).into_owned();
    assert!(said.contains("Verification: OK"), "{said}");
    assert!(said.contains("TLSv1.3"), "{said}");
}

#[test]
fn the_certificate_stays_the_same_and_faults_come_sealed_too() {
    let env = TestEnv::with_ios(PROGRAM);
    let portal = start_with(&env, &["--tls"]);
    let port = portal.address.rsplit(':').next().unwrap().to_owned();
    import_key(&env, &portal.said["first_key"], "owner");
    let (address, certificate) = (portal.address.clone(), env.read("portal/tls.pem"));
    drop(portal);
    let listen = format!("127.0.0.1:{port}");
    let again =
        start_with(&env, &["--tls", "--listen", &listen, "--faults", "dropped=15,cut=15,failed=10,seed=4"]);
    assert_eq!(again.address, address);
    assert_eq!(env.read("portal/tls.pem"), certificate, "who pinned it goes on trusting it");
    write(&env, &address, "portal-certificate = \"portal/tls.pem\"");
    env.run("prepare --app crossing --for store --yes").exit(0);
    env.run("check --app crossing --for store").exit(0);
    // somebody who connects and says nothing keeps nobody waiting
    let silent = std::net::TcpStream::connect(&listen).unwrap();
    env.run("portal take-in").exit(0).says("Nothing at the portal is new");
    drop(silent);
}

#[test]
fn init_writes_what_is_pinned() {
    let env = TestEnv::with_ios(PROGRAM);
    let _portal = start_with(&env, &["--tls"]);
    let fresh = TestEnv::new(PROGRAM);
    fresh.file("tls.pem", &env.read("portal/tls.pem"));
    let init = "init --title Ferries --new-unlock-file unlock.txt --portal https://127.0.0.1:8443";
    fresh.run(init).exit(2).says("does not pin its certificate");
    fresh.run(&format!("{init} --portal-certificate tls.pem")).exit(0);
    let project = String::from_utf8(fresh.read("ninekeys.toml")).unwrap();
    assert!(project.contains("portal-certificate = \"tls.pem\""), "{project}");
}
