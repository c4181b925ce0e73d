//! `upload`: a build goes to the store once, and what is wrong with it is said before a byte is sent.

use crate::PROGRAM;
use crate::portal::{Running, connected, import_key, make_known, start_with};
use testkit::TestEnv;

/// A project whose apps the store knows, with a build for each side that is signed for it.
pub(crate) fn ready() -> (TestEnv, Running) {
    let (env, portal) = connected();
    env.run("app add quayside --package example.gannetpoint.crossing --for store --publish").exit(0);
    env.run("keystore create quay --app quayside --kind upload --common-name A --algorithm rsa-2048").exit(0);
    env.file("quay.apk", &testkit::builds::crossing().apk());
    env.run("sign quay.apk --app quayside --for store").exit(0);
    env.run("app change crossing --extension share=example.gannetpoint.crossing.share").exit(0);
    env.run("prepare --app crossing --for store --yes").exit_any(&[0, 1]);
    env.run("app change crossing --publish --sku FERRY-1 --language en-GB")
        .exit(0)
        .says("SKU FERRY-1, in en-GB");
    env.file("crossing.ipa", ninekeys_core::demo::CROSSING_IPA);
    env.run("sign crossing.ipa --for store").exit(0);
    (env, portal)
}

/// The build for Android, and that for iOS.
pub(crate) const ANDROID: &str = "quayside-2.4.0-12-store.apk";
pub(crate) const IOS: &str = "crossing-2.4.0-12-store.ipa";

#[test]
fn a_build_that_is_ready_is_at_the_store_and_in_history_and_ledger() {
    let (env, _portal) = ready();
    let said = env.run(&format!("upload {ANDROID}")).exit(0);
    said.says("✓ Quayside 2.4.0 (12)").says("is at the store").says("processing for 0 s");
    let json = env.run(&format!("upload {IOS} --format json")).exit(0).json();
    assert_eq!(
        (json["stage"].as_str(), json["number"].as_str()),
        (Some("processing"), Some("12")),
        "{json:#}"
    );
    assert_eq!((json["app"]["app"].as_str(), json["in_ledger"].as_bool()), (Some("crossing"), Some(true)));
    assert_eq!(json["sent"].as_u64().unwrap(), env.read(IOS).len() as u64);
    let digest = env.other(&format!("openssl dgst -sha256 -r {IOS}"));
    assert_eq!(json["sha256"].as_str(), digest.split(' ').next());
    env.run("cabinet history").exit(0).says(&format!("upload of {IOS} to the store"));
    let releases = env.run("releases --format json").exit(0).json();
    let uploaded = |file: &str| {
        let all = releases["releases"].as_array().unwrap();
        all.iter().find(|one| one["file"] == file).unwrap()["uploaded"].clone()
    };
    assert_eq!(uploaded(ANDROID), env.now());
    // the very same bytes again
    env.run(&format!("upload {IOS}")).exit(6).says("this very build is there").says("ninekeys deliveries");
}

#[test]
fn what_speaks_against_it_is_said_before_anything_is_sent() {
    let (env, _portal) = ready();
    env.run("upload quay.apk --app quayside")
        .exit(1)
        .says("✗ Not ready for the store")
        .says("build-unsigned");
    env.run("upload nothing.apk").exit(3);
    env.run("upload .").exit(2).says("a store takes an APK, a bundle or an IPA");
    env.run("deliveries").exit(0).says("No build is at the store.");
}

#[test]
fn an_app_that_the_store_does_not_know_is_made_known_by_what_is_said() {
    let (env, _portal) = connected();
    env.run("app add quayside --package example.gannetpoint.crossing --for store").exit(0);
    env.run("keystore create quay --app quayside --kind upload --common-name A --algorithm rsa-2048").exit(0);
    env.file("quay.apk", &testkit::builds::crossing().apk());
    env.run("sign quay.apk --app quayside --for store").exit(0);
    let refused = env.run(&format!("upload {ANDROID}")).exit(6);
    refused.says("record-missing").says("the store has no new build").says("app change quayside --publish");
    env.run("app change quayside --publish").exit(0).says("is there now");
    env.run(&format!("upload {ANDROID}")).exit(0);
}

#[test]
fn a_refusal_says_rule_and_values_and_the_command_that_mends_it() {
    let (env, portal) = ready();
    env.run(&format!("upload {ANDROID}")).exit(0);
    // a colleague whose ledger knows nothing of it
    let other = TestEnv::with_ios(PROGRAM);
    other.file("portal/root.pem", &env.read("portal/root.pem"));
    other.file("portal/first-key.pem", &env.read("portal/first-key.pem"));
    make_known(&other, &portal);
    import_key(&other, &portal.said["first_key"], "owner");
    other.run("app add quayside --package example.gannetpoint.crossing --for store").exit(0);
    env.run("keystore export quay --to quay.p12 --note-password quay.pw").exit(0);
    other.file("quay.p12", &env.read("quay.p12"));
    other.file("quay.pw", &env.read("quay.pw"));
    other
        .run("keystore import quay.p12 --name quay --password-in quay.pw --app quayside --kind upload")
        .exit(0);
    other.file("quay.apk", &testkit::builds::crossing().apk());
    other.run("sign quay.apk --app quayside --for store --set-version 2.4.1").exit(0);
    let own = "quayside-2.4.1-12-store.apk";
    let kept = || std::fs::read_dir(env.path("portal/builds")).unwrap().count();
    let before = kept();
    let refused = other.run(&format!("upload {own}")).exit(6);
    refused
        .says("build-number-not-higher")
        .says("sent 12, needed 13")
        .says(&format!("ninekeys upload {own} --next"));
    assert_eq!(kept(), before, "it was foreseen, and nothing was sent");
    other.run(&format!("upload {own} --next")).exit(0).says("Quayside 2.4.1 (13)");
    let listed = env.run("deliveries --format json").exit(0).json();
    let ledger: Vec<bool> =
        listed["deliveries"].as_array().unwrap().iter().map(|one| one["in_ledger"] == true).collect();
    assert_eq!(ledger, [false, true], "the newest first; each ledger knows its own: {listed:#}");
}

#[test]
fn without_a_build_those_that_could_go_are_listed_and_why_others_cannot() {
    let (env, _portal) = ready();
    let said = env.run("upload").exit(0);
    said.says("2 builds could go to the store").says("quayside 2.4.0 (12)").says("crossing 2.4.0 (12)");
    env.run(&format!("upload {ANDROID}")).exit(0);
    env.run("sign quay.apk --app quayside --for store --set-build 13").exit(0);
    env.run("sign quay.apk --app quayside --for store --set-build 14").exit(0);
    env.run("upload quayside-2.4.0-14-store.apk").exit(0);
    let json = env.run("upload --app quayside --format json").exit(0).json();
    assert_eq!((json["there"].as_u64(), json["builds"].as_array().unwrap().len()), (Some(2), 1), "{json:#}");
    let one = &json["builds"][0];
    assert_eq!((one["number"].as_str(), one["rule"].as_str()), (Some("13"), Some("build-number-not-higher")));
    env.run("upload --app quayside").exit(0).says("the store has number 14").says("No build that was signed");
    env.run("upload --app nothing").exit(2).says("no app called nothing");
}

#[test]
fn an_upload_that_was_cut_off_goes_on_where_it_was() {
    let (env, portal) = ready();
    // some film, so that it has three pieces
    let noise: Vec<u8> = (0..20u32 << 20).map(|at| (at.wrapping_mul(2_654_435_761) >> 24) as u8).collect();
    let build = ninekeys_formats::zip::write::Writer::new()
        .deflated("AndroidManifest.xml", &testkit::builds::crossing_code(13).manifest())
        .stored("assets/film.bin", &noise)
        .finish();
    env.file("large.apk", &build);
    env.run("sign large.apk --app quayside --for store").exit(0);
    let large = "quayside-2.4.0-13-store.apk";
    let before = env.run("deliveries --format json").exit(0).json();
    // the store goes away while the pieces are on their way
    let address = portal.address.clone();
    let mut command = env.command(["upload", large]);
    let mut child = command.spawn().unwrap();
    let part = env.path("portal/builds");
    for _ in 0..2_000 {
        let there = std::fs::read_dir(&part).map_or(0, |all| {
            all.flatten().map(|entry| entry.metadata().map_or(0, |found| found.len())).max().unwrap_or(0)
        });
        // one piece and a part of the next
        if there > 8 << 20 {
            break;
        }
        std::thread::sleep(std::time::Duration::from_millis(5));
    }
    drop(portal);
    let code = child.wait().unwrap().code();
    let port = address.rsplit(':').next().unwrap();
    let again = start_with(&env, &["--listen", &format!("127.0.0.1:{port}")]);
    if code == Some(0) {
        return eprintln!("SKIPPED: it was through before the store went away");
    }
    assert_eq!(code, Some(6));
    assert_eq!(env.run("deliveries --format json").exit(0).json()["deliveries"], before["deliveries"]);
    let json = env.run(&format!("upload {large} --format json")).exit(0).json();
    let size = env.read(large).len() as u64;
    let (sent, resumed) = (json["sent"].as_u64().unwrap(), json["resumed"].as_u64().unwrap());
    assert_eq!(sent + resumed, size, "nothing was sent twice that was there");
    assert!(resumed > 0, "{json:#}");
    assert_eq!(json["size"].as_u64(), Some(size));
    drop(again);
}

#[test]
fn a_store_that_lies_about_the_pieces_is_refused() {
    use std::io::{Read, Write};
    let (env, portal) = ready();
    let address = portal.address.clone();
    drop(portal);
    let port = address.rsplit(':').next().unwrap();
    let listener = std::net::TcpListener::bind(format!("127.0.0.1:{port}")).unwrap();
    // more pieces than the file has, as many as a number holds, none that has a byte, one that fills the memory
    let lies = [(8u64 << 20, 2u64), (8 << 20, u64::MAX), (0, 0), (u64::MAX, 0)];
    let server = std::thread::spawn(move || {
        for (piece, received) in lies {
            loop {
                let (mut stream, _) = listener.accept().unwrap();
                let mut request = [0; 8192];
                let length = stream.read(&mut request).unwrap();
                let head = String::from_utf8_lossy(&request[..length]).into_owned();
                let path = head.split_whitespace().nth(1).unwrap();
                let last = path.rsplit('/').next().unwrap();
                let (status, kind, body) = match last {
                    "deliveries" => ("200 OK", "json", "{\"items\":[]}".to_owned()),
                    "keys" => {
                        let none =
                            "{\"type\":\"unknown\",\"title\":\"none\",\"status\":404,\"detail\":\"none\"}";
                        ("404 Not Found", "problem+json", none.to_owned())
                    }
                    upload => {
                        let lie =
                            format!("{{\"upload\":\"{upload}\",\"piece\":{piece},\"received\":{received}}}");
                        ("200 OK", "json", lie)
                    }
                };
                let answer = format!(
                    "HTTP/1.1 {status}\r\ncontent-type: application/{kind}\r\ncontent-length: {}\r\n\
                     connection: close\r\n\r\n{body}",
                    body.len()
                );
                stream.write_all(answer.as_bytes()).unwrap();
                if !matches!(last, "deliveries" | "keys") {
                    break;
                }
            }
        }
    });
    for _ in lies {
        env.run(&format!("upload {ANDROID}")).exit(6).says("the beginning of an upload");
    }
    server.join().unwrap();
}

#[test]
fn whatever_goes_wrong_on_the_way_nothing_is_uploaded_twice() {
    let (env, portal) = ready();
    let address = portal.address.clone();
    drop(portal);
    let port = address.rsplit(':').next().unwrap();
    let listen = format!("127.0.0.1:{port}");
    let mixed = "busy=10,failed=20,dropped=15,cut=15,seed=5";
    for (turn, faults) in
        [mixed, "busy=30,seed=2", "failed=40,seed=3", "dropped=40,seed=4", "cut=40,seed=5", "stale=40,seed=6"]
            .iter()
            .enumerate()
    {
        // each a build of its own
        let build = format!("quayside-2.4.0-{}-store.apk", 20 + turn);
        env.run(&format!("sign quay.apk --app quayside --for store --set-build {}", 20 + turn)).exit(0);
        let faulty = start_with(&env, &["--listen", &listen, "--faults", faults]);
        let mut codes = Vec::new();
        for _ in 0..12 {
            codes.push(env.run(&format!("upload {build}")).code());
            if codes.contains(&0) {
                break;
            }
        }
        // it is there once, whatever was answered on the way: what is there already is said to be
        assert!(codes.iter().all(|code| [0, 6].contains(code)), "{faults}: {codes:?}");
        drop(faulty);
        let _calm = start_with(&env, &["--listen", &listen]);
        let listed = env.run("deliveries --format json").exit(0).json();
        let there =
            listed["deliveries"].as_array().unwrap().iter().filter(|one| one["file"] == build).count();
        assert_eq!(there, 1, "{faults}: {codes:?} {listed:#}");
    }
}

#[test]
fn a_clock_that_is_off_is_told_and_nothing_is_sent() {
    let (env, portal) = ready();
    let port = portal.address.rsplit(':').next().unwrap().to_owned();
    drop(portal);
    let listen = format!("127.0.0.1:{port}");
    for off in ["clock=7200", "clock=-7200"] {
        let _off = start_with(&env, &["--listen", &listen, "--faults", off]);
        let refused = env.run(&format!("upload {ANDROID}")).exit(6);
        refused.says("the portal refused").says("this machine's clock").says("the store has no new build");
    }
    // a little is forgiven
    let _near = start_with(&env, &["--listen", &listen, "--faults", "clock=20"]);
    env.run(&format!("upload {ANDROID}")).exit(0);
}

#[test]
fn what_the_store_does_not_know_can_be_made_known() {
    let (env, _portal) = connected();
    let refused =
        env.run("app add pier --package example.gannetpoint.pier --for store --publish --sku A").exit(0);
    refused.says("store").says("SKU A, in en: is there now");
    let taken =
        env.run("app add quay --package example.gannetpoint.quay --for store --publish --sku A").exit(6);
    taken.says("another app of the account has the SKU A").says("the store does not know it");
    let json = env.run("app change quay --publish --sku B --format json").exit(0).json();
    assert_eq!(json["published"][0]["known"], false);
    let json = env.run("app change quay --publish --format json").exit(0).json();
    assert_eq!(json["published"][0]["known"], true, "what is there stays as it is");
    assert_eq!(json["published"][0]["record"]["sku"], "B");
    let alone = TestEnv::with_project(PROGRAM);
    alone.run("app change crossing --publish").exit(5).says("does not say where the portal is");
    alone.run("app change crossing --sku X").exit(2);
}

#[test]
fn a_number_that_is_taken_is_raised_and_signed_again() {
    let (env, portal) = ready();
    env.run(&format!("upload {ANDROID}")).exit(0);
    // as it came out of the build program, with the number that is taken
    let json = env.run("upload quay.apk --app quayside --next --format json").exit(0).json();
    assert_eq!(
        (json["file"].as_str(), json["number"].as_str(), json["raised"]["number"].as_str()),
        (Some("quayside-2.4.0-13-store.apk"), Some("13"), Some("12")),
        "{json:#}"
    );
    // one that is free and signed goes as it is
    env.run("sign quay.apk --app quayside --for store --set-build 20").exit(0);
    let json = env.run("upload quayside-2.4.0-20-store.apk --next --format json").exit(0).json();
    assert_eq!((json["number"].as_str(), json.get("raised")), (Some("20"), None), "{json:#}");
    // a version that is closed is raised too
    env.run(&format!("upload {IOS} --next")).exit(0).is_silent_on("raised");
    let (env, portal) = crate::advance::later(env, portal, "2026-12-01T00:00:10Z");
    crate::advance::review(&env, "crossing");
    env.run(&format!("advance {IOS} --to everyone --new A --yes")).exit(0);
    let (env, _portal) = crate::advance::later(env, portal, "2026-12-01T00:00:20Z");
    let said = env.run("upload crossing.ipa --next").exit(0);
    said.says("✓ Crossing 2.4.1 (1)").says("crossing.ipa was 2.4.0 (12), and is signed again");
    env.run("upload --next").exit(2);
}

#[test]
fn what_keeps_a_raised_build_from_being_signed_is_mended_by_signing_it() {
    let (env, _portal) = ready();
    env.run("keystore create second --app quayside --kind upload --common-name B --algorithm ec-p256")
        .exit(0);
    let several = env.run("upload quay.apk --app quayside --next").exit_either(2, 5);
    several.says("quay").says("second").says("ninekeys sign quay.apk --for store --key");
}

#[test]
fn two_that_raise_at_once_get_a_number_each() {
    let (env, _portal) = ready();
    // the name of the next one stands for something else
    env.file("quayside-2.4.0-13-store.apk", b"a letter");
    let start = || {
        let mut command = env.command(["upload", "quay.apk", "--app", "quayside", "--next", "-q"]);
        command.spawn().unwrap()
    };
    let mut both = [start(), start()];
    let codes = both.each_mut().map(|child| child.wait().unwrap().code());
    // each has a number of its own; the lower one may come second to the store, which does not take it then
    assert!(
        codes.contains(&Some(0)) && codes.iter().all(|code| [Some(0), Some(6)].contains(code)),
        "{codes:?}"
    );
    assert_eq!(env.read("quayside-2.4.0-13-store.apk"), b"a letter");
    let releases = env.run("releases --format json").exit(0).json();
    let own = releases["releases"].as_array().unwrap().iter().filter(|one| one["app"] == "quayside");
    let mut numbers: Vec<&str> = own.map(|one| one["number"].as_str().unwrap()).collect();
    numbers.sort_unstable();
    assert_eq!(numbers, ["12", "14", "15"]);
}

#[test]
fn a_build_command_is_told_the_next_number() {
    let (env, _portal) = ready();
    env.run("sign quay.apk --app quayside --for store --set-build 30").exit(0);
    env.run("upload quayside-2.4.0-30-store.apk").exit(0);
    let script = "sh -c 'echo $NINEKEYS_NEXT_VERSION $NINEKEYS_NEXT_BUILD'";
    let said = env.run(&format!("lend --app quayside --next -- {script}")).exit(0);
    assert_eq!(said.stdout, "2.4.0 31\n");
    let said = env.run(&format!("lend --app crossing --platform ios --for store --next -- {script}")).exit(0);
    assert_eq!(said.stdout, "2.4.0 13\n");
    assert_eq!(env.run(&format!("lend --app quayside -- {script}")).exit(0).stdout, "\n", "only when asked");
    let text = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    env.file(
        "ninekeys.toml",
        format!("{text}\n[app.quayside.lend]\nnext-build = \"FERRY_CODE\"\n").as_bytes(),
    );
    let said = env.run("lend --app quayside --next -- sh -c 'echo $FERRY_CODE'").exit(0);
    assert_eq!(said.stdout, "31\n");
    env.run("lend --app quayside --explain").exit(0).says("FERRY_CODE").says("with --next");
}

#[test]
fn an_accounts_upload_password_uploads_and_does_nothing_else() {
    let (env, portal) = ready();
    let said = &portal.said["upload_password"];
    let [file, account, label] = ["file", "account", "label"].map(|field| said[field].as_str().unwrap());
    // where there is a key, that calls
    env.file("wrong.txt", b"not the password\n");
    let import = |file: &str, name: &str| {
        env.run(&format!("apikey import {file} --name {name} --account {account} --label other")).exit(0);
    };
    import("wrong.txt", "mistyped");
    env.run("deliveries").exit(0);
    env.run("apikey retire owner").exit(0);
    let refused = env.run("deliveries").exit(6);
    refused.says("no upload password of that account").says("account and upload password");
    env.run("apikey retire mistyped").exit(0);
    let words = ["apikey", "import", file, "--name", "uploads", "--account", account, "--label", label];
    assert!(env.command(words).output().unwrap().status.success());

    env.run(&format!("upload {ANDROID}")).exit(0).says("is at the store");
    assert_eq!(env.run("deliveries --format json").exit(0).json()["deliveries"][0]["file"], ANDROID);
    env.run("upload quay.apk --app quayside --next").exit(0).says("Quayside 2.4.0 (13)");
    env.run("app next quayside").exit(0).says("13, the highest");
    for other in [
        "advance 13 --to testing",
        "testers list",
        "app change quayside --publish",
        "apikey create more --use uploads",
    ] {
        env.run(other).exit(5).says("no store API key");
    }
    // the stand-in holds it to that, whoever asks
    let encode = format!("printf %s \"{account}:$(cat {file})\" | base64 -w 0");
    let both = env.other_with("sh", &["-c", &encode]);
    for (path, status) in
        [("/store/v1/deliveries", "200"), ("/store/v1/testers", "403"), ("/portal/v1/team", "403")]
    {
        let host = portal.address.trim_start_matches("http://");
        let text = format!(
            "GET {path} HTTP/1.1\nhost: {host}\nauthorization: Basic {}\nconnection: close\n\n",
            both.trim()
        );
        let (line, body) = crate::portal::call(&portal.address, &text);
        assert!(line.contains(status), "{path}: {line} {body}");
    }
}

#[test]
fn a_bundle_id_that_nobody_registered_gets_no_record() {
    let (env, _portal) = ready();
    let refused = env.run("app add pier --bundle-id example.gannetpoint.pier --for store --publish").exit(6);
    refused
        .says("id-unregistered")
        .says("sent example.gannetpoint.pier, needed a bundle id that is registered");
    refused.says("ninekeys prepare --app pier --for store");
    env.run("prepare --app pier --for store --yes").exit_any(&[0, 1]);
    env.run("app change pier --publish").exit(0).says("is there now");
}
