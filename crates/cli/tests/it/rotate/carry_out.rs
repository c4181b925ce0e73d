//! `rotate carry-out`: from what falls due to a green board.

use std::process::Stdio;

use super::{due, standing};
use crate::PROGRAM;
use testkit::{TestEnv, builds};

#[test]
fn an_identity_that_falls_due_is_replaced_and_the_ledger_says_what_signed_what() {
    let (env, _portal) = due();
    env.file("crossing.ipa", ninekeys_core::demo::CROSSING_IPA);
    env.run("sign crossing.ipa --for store").exit(0).says("signed with   distribution-2027");
    env.run("rotate draft distribution-2027").exit(0);
    env.run("rotate carry-out rotation-2027-11-10.toml").exit(5).says("nobody said yes").says("--yes");
    let said = env.run("rotate carry-out rotation-2027-11-10.toml --yes").exit(1);
    said.says("◐ Half way: distribution-2027   7 of 13 steps done")
        .says("where build settings name a profile by its identifier")
        .says("ninekeys rotate resume rotation-2027-11-10 --done 8 --done 9");
    // nothing is retired yet, and the board knows that it is under way
    let retired = |env: &TestEnv| standing(env).iter().filter(|(_, state, _)| state == "retired").count();
    assert_eq!(retired(&env), 0);
    env.run("board")
        .exit(0)
        .says("the rotation of distribution-2027 stands at step 8 of 13")
        .says("ninekeys rotate resume rotation-2027-11-10");
    env.run("rotate carry-out rotation-2027-11-10.toml --yes").exit(5).says("it was begun before");
    env.run("rotate resume --done 8 --done 9").exit(0).says("✓ Carried out: distribution-2027");
    assert_eq!(retired(&env), 4);
    let now = standing(&env);
    assert!(now.contains(&("distribution-2028".into(), "active".into(), 2)), "{now:?}");
    assert!(now.contains(&("crossing-share-store-2027".into(), "active".into(), 2)), "{now:?}");
    env.run("board").exit(0).is_silent_on("◐ due").says("366 d");
    env.run("sign crossing.ipa --for store --set-build 13")
        .exit(0)
        .says("signed with   distribution-2028")
        .says("crossing-share-store-2027");
    let ledger = env.run("releases --format json").exit(0).json();
    let signers: Vec<&str> = ledger["releases"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one["signed_with"].as_str().unwrap())
        .collect();
    assert_eq!(signers, ["distribution-2028", "distribution-2027"]);
    env.run("rotate carry-out rotation-2027-11-10.toml --yes").exit(5).says("is carried out");
    env.run("check --app crossing").exit(0);
    env.run("check --app deckhand").exit(0);
    env.run("cabinet status --prove").exit(0);
}

#[test]
fn the_old_certificate_is_revoked_at_the_end_when_that_was_ordered() {
    let (env, _portal) = due();
    env.run("rotate draft distribution-2027 --revoke --to r.toml").exit(0);
    env.run("rotate carry-out r.toml --yes").exit(1);
    env.run("rotate resume --done 8 --done 9").exit(0);
    let shown = env.run("show distribution-2027 --format json").exit(0).json();
    assert!(shown["facts"]["revoked"].is_string(), "{shown}");
    assert_eq!(shown["state"], "retired");
    env.run("check --app crossing").exit(0);
}

#[test]
fn what_somebody_revoked_by_hand_is_noted_when_they_say_so() {
    let (env, _portal) = due();
    env.run("rotate draft distribution-2027 --revoke --to r.toml").exit(0);
    env.run("rotate carry-out r.toml --yes").exit(1);
    // nobody may ask the portal any more
    env.run("apikey retire owner").exit(0);
    let said = env.run("rotate resume --done 8 --done 9").exit(1);
    said.says("yours, 13").says("revoked at the portal").says("--done 13");
    env.run("rotate resume --done 13").exit(0).says("✓ Carried out");
    let shown = env.run("show distribution-2027 --format json").exit(0).json();
    assert_eq!(
        (shown["state"].as_str(), shown["facts"]["revoked"].is_string()),
        (Some("retired"), true),
        "{shown}"
    );
    assert_eq!(env.run("show distribution-2028 --format json").exit(0).json()["generation"], 2);
}

#[test]
fn an_upload_key_uploads_until_the_store_has_said_yes() {
    let env = TestEnv::with_project(PROGRAM);
    env.run("keystore create crossing-signing --app crossing --common-name GP").exit(0);
    env.run("keystore create crossing-upload --kind upload --app crossing --common-name GP").exit(0);
    env.file("a.aab", &builds::crossing().aab());
    env.run("sign a.aab").exit(0).says("signed with   crossing-upload,");
    env.run("rotate draft crossing-upload --to u.toml").exit(0).says("(by a person)");
    env.run("rotate carry-out u.toml --yes")
        .exit(1)
        .says("yours, 2")
        .says(".pem with the store as the new upload certificate");
    let file = env.files().into_iter().find(|(name, _)| name.ends_with(".pem")).unwrap();
    assert!(file.1.starts_with(b"-----BEGIN CERTIFICATE-----"), "{}", file.0);
    env.file("b.aab", &builds::crossing_code(13).aab());
    env.run("sign b.aab").exit(0).says("signed with   crossing-upload,");
    env.run("rotate resume --done 3").exit(2).says("is not one that waits for somebody's word");
    env.run("rotate resume --done 2").exit(0).says("✓ Carried out: crossing-upload");
    env.file("c.aab", &builds::crossing_code(14).aab());
    // the store was told of it: no other signer than it knows
    env.run("sign c.aab").exit(0).says("signed with   crossing-upload-20").is_silent_on("signer-changed");
    env.run("show crossing-upload --format json").exit(0).says("\"retired\"");
}

#[test]
fn a_signing_key_hands_over_with_a_proof_and_older_devices_keep_the_old_one() {
    let env = TestEnv::with_project(PROGRAM);
    env.run("keystore create crossing-signing --app crossing --common-name GP --algorithm ec-p256").exit(0);
    env.file("a.apk", &builds::crossing().apk());
    env.run("sign a.apk --for direct").exit(0);
    env.run("rotate draft crossing-signing --to s.toml --from-sdk 30").exit(2).says("33 or higher");
    env.run("rotate draft crossing-signing --to s.toml --old-key-may everything").exit(2);
    env.run(
        "rotate draft crossing-signing --to s.toml --old-key-may installed-data --old-key-may permissions",
    )
    .exit(0)
    .says("sign the proof that crossing-signing hands over to crossing-signing-20");
    let said = env.run("rotate carry-out s.toml --yes").exit(1);
    said.says("yours, 5").says("ninekeys app statement crossing");
    env.run("rotate resume --done 5").exit(0).says("✓ Carried out: crossing-signing");
    env.file("b.apk", &builds::crossing_code(13).apk());
    env.run("sign b.apk --for direct").exit(0).says("v2, v3, v3.1").says("all fine");
    let told = env.run("inspect crossing-2.4.0-13-direct.apk --format json").exit(0).json();
    let signers = told["content"]["signers"].as_array().unwrap();
    let by: Vec<_> =
        signers.iter().map(|one| (one["item"].as_str().unwrap(), one["schemes"].to_string())).collect();
    assert_eq!(by[0], ("crossing-signing", "[\"v2\",\"v3\"]".into()));
    assert_eq!(by[1].1, "[\"v3.1\"]");
    let lineage = told["content"]["android"]["lineage"].clone();
    assert_eq!(lineage[0]["may"], serde_json::json!(["installed-data", "permissions"]), "{lineage}");
    env.run("inspect crossing-2.4.0-13-direct.apk").exit(0).says("may still: installed-data, permissions");
    // a build command could not put the proof into what it signs
    env.run("lend --app crossing --for direct -- true")
        .exit(5)
        .says("devices take it only with the proof")
        .says("ninekeys sign BUILD");
    // the old key signs for devices that know no proof: it cannot be taken out
    env.run("keystore take-out crossing-signing --yes").exit(5);
    // and again: the proof grows by one
    let next = env.run("inventory --format json").exit(0).json();
    let active = next["items"].as_array().unwrap().iter().find(|one| one["state"] == "active").unwrap();
    let name = active["name"].as_str().unwrap().to_owned();
    env.run(&format!("rotate draft {name} --to t.toml --from-sdk 28")).exit(0);
    env.run("rotate carry-out t.toml --yes").exit(1);
    env.run("rotate resume --done 5").exit(0);
    env.file("c.apk", &builds::crossing_code(14).apk());
    env.run("sign c.apk --for direct").exit(0).says("v2, v3").is_silent_on("v3.1").says("all fine");
    let told = env.run("inspect crossing-2.4.0-14-direct.apk --format json").exit(0).json();
    assert_eq!(told["content"]["android"]["lineage"].as_array().map(Vec::len), Some(3), "{told}");
}

#[test]
fn a_draft_that_no_longer_fits_is_refused_with_what_is_other() {
    let (env, portal) = due();
    env.run("rotate draft distribution-2027 --to a.toml").exit(0);
    env.run("rotate draft distribution-2027 --to b.toml").exit(0);
    let text = String::from_utf8(env.read("b.toml")).unwrap();
    // what somebody wrote into it is no longer what the cabinet needs
    let cases = [
        (text.replace("does = \"prove-build\"", "does = \"prove\""), 3, "is no draft of a rotation"),
        (text.replace("identity = \"distribution-2028\"", "identity = \"owner\""), 5, "step 1 says"),
        (text.replace("ninekeys.draft/1", "ninekeys.draft/9"), 3, "its form is not ninekeys.draft/1"),
        (text.replace("cabinet = \"", "cabinet = \"00"), 5, "is for another cabinet"),
        (text.replace("revision = ", "revision = 7"), 5, "was changed since"),
        (text.replace("made = \"2027", "made = \"2026"), 5, "it was drafted on 10 Nov 2026"),
        (text.replace("made = \"2027", "made = \"2029"), 5, "it was drafted on 10 Nov 2029"),
        ("\u{0}".into(), 3, "is no draft of a rotation"),
        ("made = 1".into(), 3, "is no draft of a rotation"),
    ];
    for (text, code, says) in cases {
        env.file("c.toml", text.as_bytes());
        env.run("rotate carry-out c.toml --yes").exit(code).says(says);
    }
    env.run("rotate carry-out nowhere.toml --yes").exit(3);
    env.run("profile renew deckhand-devices-2026").exit(0);
    env.run("rotate carry-out a.toml --yes")
        .exit(5)
        .says("a.toml no longer fits the cabinet: deckhand-devices-2027 has come to it\n")
        .says("ninekeys rotate draft distribution-2027 --to FILE");
    drop(portal);
}

#[test]
fn without_a_portal_it_stops_at_each_file_and_sees_it_come() {
    let env = TestEnv::with_identity(PROGRAM);
    env.run("profile import in/crossing-store.mobileprovision").exit(0);
    env.run("rotate draft gp-distribution --to d.toml").exit(0);
    env.run("rotate carry-out d.toml --yes")
        .exit(1)
        .says("upload distribution-2027.csr at the portal")
        .says("ninekeys identity accept FILE")
        .says("ninekeys rotate resume rotation-");
    assert!(env.path("distribution-2027.csr").exists());
    // nothing came yet: it stays where it is, and loses nothing
    let request = env.read("distribution-2027.csr");
    env.run("rotate resume").exit(1).says("upload distribution-2027.csr at the portal");
    assert_eq!(env.read("distribution-2027.csr"), request);
}

#[test]
fn two_at_once_begin_one_rotation() {
    let (env, _portal) = due();
    env.run("rotate draft distribution-2027 --to d.toml").exit(0);
    let start = || {
        let words = ["rotate", "carry-out", "d.toml", "--yes"];
        env.command(words).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
    };
    let codes: Vec<Option<i32>> =
        [start(), start(), start()].into_iter().map(|mut one| one.wait().unwrap().code()).collect();
    assert_eq!(codes.iter().filter(|code| **code == Some(1)).count(), 1, "{codes:?}");
    assert_eq!(codes.iter().filter(|code| **code == Some(5)).count(), 2, "{codes:?}");
    env.run("rotate resume --done 8 --done 9").exit(0);
}

#[test]
fn an_api_key_is_proved_by_a_call_and_the_cabinet_is_sealed_anew() {
    let (env, _portal) = due();
    env.run("rotate draft owner cabinet --to p.toml").exit(0).says("seal everything anew");
    env.run("cabinet backup early").exit(0);
    env.run("rotate carry-out p.toml --yes").exit(1).says("withdraw owner, key id ");
    // the new one makes the calls where the old one is retired
    env.run("rotate resume --done 3").exit(1).says("ninekeys cabinet backup FOLDER");
    env.run("cabinet backup late").exit(0);
    env.run("rotate resume").exit(0).says("✓ Carried out: owner, cabinet");
    env.run("profile renew deckhand-devices-2026").exit(0);
    env.run("cabinet status --prove").exit(0).says("every seal opened");
}

#[test]
fn an_api_key_that_no_portal_makes_is_taken_in_by_hand() {
    let env = TestEnv::with_project(PROGRAM);
    env.file("key.p8", &testkit::private_key_pem());
    env.file("new.p8", &testkit::private_key_pem());
    env.run("apikey import key.p8 --name uploads --key-id K1 --issuer I1 --role developer").exit(0);
    env.run("rotate draft uploads --to p.toml").exit(0);
    let said = env.run("rotate carry-out p.toml --yes --format json").exit(1).json();
    let next: Vec<&str> =
        said["waits"][0]["next"].as_array().unwrap().iter().map(|word| word.as_str().unwrap()).collect();
    assert_eq!(next[..3], ["apikey", "import", "FILE"], "{said}");
    let name = next[4].to_owned();
    env.run(&format!("apikey import new.p8 --name {name} --key-id K2 --issuer I1 --role developer")).exit(0);
    let said = env.run("rotate resume").exit(1);
    said.says("withdraw uploads, key id K1");
    env.run("rotate resume --done 3").exit(0).says("✓ Carried out: uploads");
    env.run("apikey token uploads").exit(5);
    env.run(&format!("apikey token {name}")).exit(0);
}
