//! The one switch, by the portal and by files.

use std::process::Stdio;

use crate::PROGRAM;
use crate::portal::{call, connected, start};
use testkit::{TestEnv, has};

#[test]
fn from_nothing_to_a_store_profile_with_one_command_and_a_second_does_nothing() {
    let (env, _portal) = connected();
    env.run("check --app crossing").exit(1).says("ninekeys prepare --app crossing --for store");
    let before = env.run("cabinet history --format json").exit(0).stdout;
    env.run("prepare --app crossing --for store --dry-run")
        .exit(0)
        .says("· Would prepare Crossing for the store")
        .says("make a key for distribution-2027 and seal it")
        .says("through the portal at http://127.0.0.1:");
    env.run("prepare --app crossing --for store").exit(5).says("nobody said yes").says("--yes");
    assert_eq!(env.run("cabinet history --format json").exit(0).stdout, before, "nothing was changed");
    env.run("prepare --app crossing --for store --yes")
        .exit(0)
        .says("✓ Ready: Crossing for the store")
        .says("register the bundle id example.gannetpoint.crossing, which is for ever")
        .says("have the profile \"Crossing store 2026\" made");
    env.run("check --app crossing").exit(0).says("✓ Ready for the store").says("crossing-store-2026");
    let after = env.run("cabinet history --format json").exit(0).stdout;
    env.run("prepare --app crossing --for store --yes")
        .exit(0)
        .says("nothing is missing, and nothing was changed");
    assert_eq!(env.run("cabinet history --format json").exit(0).stdout, after);
    if has("openssl", "version") {
        env.run("profile export crossing-store-2026 --to out.mobileprovision").exit(0);
        env.other("openssl cms -verify -purpose any -attime 1796086800 -CAfile portal/root.pem -inform DER -in out.mobileprovision -out list");
        env.run("identity export distribution-2027 --to chain.pem --as certificate-pem").exit(0);
        let told = env.other(
            "openssl verify -x509_strict -ignore_critical -attime 1796086800 -CAfile portal/root.pem -untrusted chain.pem chain.pem",
        );
        assert!(told.contains("chain.pem: OK"), "{told}");
    }
}

#[test]
fn what_changes_later_is_made_again_devices_capabilities_and_what_ends() {
    let (env, _portal) = connected();
    env.run("prepare --app deckhand --for devices --yes")
        .exit(5)
        .says("none is registered")
        .says("device add NAME");
    env.run("device add Bridge --identifier 00008030-000A1B2C3D4E802E").exit(0);
    env.run("prepare --app deckhand --for devices --yes").exit(0).says("register the device Bridge");
    env.run("check --app deckhand").exit(0).says("1 device ");
    env.run("device add Helm --identifier 00008030-000A1B2C3D4E802F").exit(0);
    env.run("check --app deckhand")
        .exit(0)
        .says("profile-")
        .says("ninekeys prepare --app deckhand --for devices");
    let said = env.run("prepare --app deckhand --for devices --yes").exit(0);
    said.says("register the device Helm").is_silent_on("bundle id").is_silent_on("make a key");
    env.run("check --app deckhand").exit(0).says("2 devices").is_silent_on("profile-lacks-device");
    env.run("app change deckhand --capability push").exit(0).says("has to be made again");
    env.run("check --app deckhand").exit(1).says("profile-older-than-app");
    env.run("prepare --app deckhand --for devices --yes")
        .exit(0)
        .says("switch on for example.gannetpoint.deckhand (push)");
    env.run("check --app deckhand").exit(0);
}

#[test]
fn without_a_portal_it_stops_at_each_file_and_goes_on_from_there() {
    let env = TestEnv::with_ios(PROGRAM);
    env.run("identity accept in/intermediate.pem").exit(0);
    env.run("prepare --app crossing --for store")
        .exit(1)
        .says("◐ Half way: Crossing for the store")
        .says("make a key for distribution-2027 and seal it")
        .says("upload distribution-2027.csr at the portal")
        .says("next          ninekeys identity accept FILE");
    let request = env.read("distribution-2027.csr");
    env.run("prepare --app crossing --for store").exit(1).is_silent_on("make a key");
    assert_eq!(env.read("distribution-2027.csr"), request, "one key, and the same request");
    // what comes back is another's here; the flow goes on all the same
    env.run("identity import in/distribution.p12 --name theirs --password-in pw").exit(0);
    env.run("prepare --app crossing --for store")
        .exit(1)
        .says("have a profile made at the portal for example.gannetpoint.crossing")
        .says("next          ninekeys profile import FILE");
    env.run("profile import in/crossing-store.mobileprovision").exit(0);
    env.run("prepare --app crossing --for store").exit(0).says("nothing is missing");
}

#[test]
fn killed_at_any_instant_it_goes_on_and_issues_once() {
    let (env, _portal) = connected();
    env.run("device add Bridge --identifier 00008030-000A1B2C3D4E802E").exit(0);
    let mut inside = 0;
    for delay in 0..20u64 {
        let words = ["prepare", "--app", "deckhand", "--for", "devices", "--yes"];
        let mut command = env.command(words);
        let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        std::thread::sleep(std::time::Duration::from_millis(10 + 12 * delay));
        child.kill().unwrap();
        inside += u32::from(child.wait().unwrap().code().is_none());
        env.run("cabinet status --prove").exit(0);
    }
    assert!(inside > 4, "only {inside} kills fell into the work");
    env.run("prepare --app deckhand --for devices --yes").exit(0);
    let said = env.run("inventory --format json").exit(0).json();
    let count =
        |kind: &str| said["items"].as_array().unwrap().iter().filter(|item| item["kind"] == kind).count();
    assert_eq!((count("distribution identity"), count("provisioning profile")), (1, 1), "{said}");
    env.run("check --app deckhand").exit(0);
}

#[test]
fn two_at_once_prepare_one() {
    let (env, _portal) = connected();
    let start = || {
        let words = ["prepare", "--app", "crossing", "--for", "store", "--yes"];
        env.command(words).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
    };
    let codes: Vec<Option<i32>> =
        [start(), start(), start()].into_iter().map(|mut one| one.wait().unwrap().code()).collect();
    // whoever comes second to a name is told so, and what it did is not lost
    assert!(
        codes.contains(&Some(0)) && codes.iter().all(|code| matches!(code, Some(0 | 5 | 6))),
        "{codes:?}"
    );
    env.run("prepare --app crossing --for store --yes").exit(0);
    env.run("check --app crossing").exit(0);
    env.run("cabinet status --prove").exit(0);
}

#[test]
fn a_certificate_that_came_without_its_chain_gets_it() {
    let (env, portal) = connected();
    env.run("identity request gp --kind distribution").exit(0);
    let body = |pem: &str| pem.lines().filter(|line| !line.starts_with('-')).collect::<String>();
    let request = body(&String::from_utf8(env.read("gp.csr")).unwrap());
    let token = env.run("apikey token owner --scope all").exit(0).stdout;
    let head = format!(
        "authorization: Bearer {}\nconnection: close\ncontent-length: {}",
        token.trim(),
        request.len()
    );
    let path = "/.well-known/est/distribution/simpleenroll";
    let text = format!("POST {path} HTTP/1.1\nhost: portal\n{head}\n\n{request}");
    let issued = call(&portal.address, &text).1;
    let lines: Vec<&str> =
        issued.trim().as_bytes().chunks(64).map(|line| std::str::from_utf8(line).unwrap()).collect();
    let pem = format!("-----BEGIN PKCS7-----\n{}\n-----END PKCS7-----\n", lines.join("\n"));
    env.file("gp.pem", pem.as_bytes());
    // nobody is there who has the certificate above
    let listen = portal.address.trim_start_matches("http://").to_owned();
    drop(portal);
    env.run("identity accept gp.pem").exit(0).says("not complete");
    let _portal = start(&env, &listen);
    // without an API it is a file that a person fetches
    let project = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    env.file("ninekeys.toml", project.replace("portal = ", "# ").as_bytes());
    env.run("prepare --app crossing --for store")
        .exit(1)
        .says("fetch the certificate of CN=Stand-In")
        .says("which issued that of gp");
    env.file("ninekeys.toml", project.as_bytes());
    env.run("prepare --app crossing --for store --dry-run")
        .exit(0)
        .says("take in the certificates above that of gp");
    env.run("prepare --app crossing --for store --yes")
        .exit(0)
        .says("✓ Ready")
        .says("take in the certificates above that of gp")
        .is_silent_on("make a key");
    env.run("check --app crossing").exit(0);
}

#[test]
fn an_app_that_takes_notifications_gets_a_push_certificate_from_the_portal() {
    let (env, _portal) = connected();
    env.run("app change crossing --capability push").exit(0);
    let plan = env.run("prepare --app crossing --for store --dry-run").exit(0);
    plan.says("make a key for crossing-push-2027").says("have a certificate issued for crossing-push-2027");
    let said = env.run("prepare --app crossing --for store --yes --format json").exit(0).json();
    let does: Vec<&str> =
        said["steps"].as_array().unwrap().iter().map(|one| one["does"].as_str().unwrap()).collect();
    let wanted =
        ["make-key", "get-certificate", "register-app-id", "make-key", "get-certificate", "get-profile"];
    assert_eq!(does, wanted, "{said}");
    let shown = env.run("show crossing-push-2027 --format json").exit(0).json();
    assert_eq!(shown["facts"]["purpose"]["push"], "production");
    assert_eq!(shown["facts"]["apps"][0], "crossing");
    env.run("check --app crossing --for store").exit(0).is_silent_on("push-identity");
    env.run("prepare --app crossing --for store --yes").exit(0).says("nothing is missing");
    // builds for development listen to other servers
    env.run("device add Bridge --identifier 00008030-000A1B2C3D4E802F").exit(0);
    env.run("prepare --app crossing --for development --yes").exit(0).says("crossing-push-2027-2");
    let shown = env.run("show crossing-push-2027-2 --format json").exit(0).json();
    assert_eq!(shown["facts"]["purpose"]["push"], "sandbox");
}

#[test]
fn by_hand_it_stops_at_the_push_request_too_and_goes_on_from_there() {
    let env = TestEnv::with_identity(PROGRAM);
    env.run("app change crossing --capability push").exit(0);
    let said = env.run("prepare --app crossing --for store").exit(1);
    said.says("upload crossing-push-2027.csr at the portal")
        .says("push identity (production) of example.gannetpoint.crossing");
    assert!(env.path("crossing-push-2027.csr").exists());
    env.run("prepare --app crossing --for store")
        .exit(1)
        .is_silent_on("make a key")
        .says("crossing-push-2027.csr");
    env.run("identity import in/push-legacy.p12 --password-in pw").exit(0);
    env.run("prepare --app crossing --for store").exit(1).says("have a profile made at the portal");
}
