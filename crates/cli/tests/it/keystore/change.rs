use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn names_aliases_apps_and_kinds_change_and_the_key_stays() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("sign crossing.apk").exit(0);
    let key = |name: &str| {
        env.run(&format!("show {name} --format json")).exit(0).json()["parts"][0]["key"]["sha256"].clone()
    };
    let before = key("crossing-signing");
    let said = env
        .run("keystore change crossing-signing --new-name ferries --new-alias passengers --add-app quayside --kind signing")
        .exit(0);
    said.says("✓ ferries   changed; the key is the same key")
        .says("the alias crossing-signing is passengers from now on")
        .says("One key for crossing and quayside ties them together");
    assert_eq!(key("ferries"), before);
    env.run("show ferries/passengers").exit(0);
    env.run("show ferries/passengers/certificate").exit(0);
    env.run("show crossing-signing").exit(2);
    env.run("show ferries").exit(0).says("crossing-2.4.0-12-direct.apk");
    // releases remember the key and not its name
    env.run("check crossing-2.4.0-12-direct.apk --for direct").exit(0).says("Ready");
    env.file("next.apk", &testkit::builds::crossing_code(13).apk());
    env.run("sign next.apk").exit(0).says("signed with   ferries (passengers)");
    env.run("keystore change ferries --drop-app crossing").exit(0).says("it is not for crossing any more");
    env.run("inventory").exit(0).says("passengers");
    env.run("cabinet status --prove").exit(0);
}

#[test]
fn what_cannot_be_changed_is_refused_and_nothing_changes() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("keystore create other --common-name A --algorithm ec-p256").exit(0);
    env.run("keystore add-key other --alias second --common-name B --algorithm ec-p256").exit(0);
    let before = env.run("inventory --format json").exit(0).stdout;
    let refused = |line: &str, exit: i32, says: &str| {
        let _ = env.run(&format!("keystore change {line}")).exit(exit).says(says).says("changed   nothing");
    };
    refused("other", 2, "nothing was named that should be changed");
    refused("nobody --new-name x", 2, "nothing in the cabinet is called `nobody`");
    refused("other --new-name CROSSING-SIGNING", 5, "is taken");
    refused("other --new-name a/b", 2, "cannot be a name");
    refused("other --new-alias x", 2, "other has several keys: other, second");
    refused("other --alias second --new-alias OTHER", 5, "has a key with the alias OTHER already");
    refused("other --alias third --new-alias x", 2, "it has other, second");
    refused("other --alias second --drop-app crossing", 2, "is not for crossing");
    refused("other/second --new-name x", 2, "is a key, not a keystore");
    env.run("keystore add-key other --alias SECOND --common-name B").exit(5).says("already");
    env.run("keystore add-key nobody --common-name B").exit(2);
    assert_eq!(env.run("inventory --format json").exit(0).stdout, before);
}

#[test]
fn a_new_password_counts_from_the_next_export_on() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("keystore export crossing-signing --to a.p12 --note-password a").exit(0);
    env.file("weak", b"password1");
    env.run("keystore change crossing-signing --password-in weak").exit(0).says("easy to guess");
    env.run("keystore export crossing-signing --to b.p12").exit(0);
    env.run("inspect b.p12 --password-in weak").exit(0).says("crossing-signing");
    env.run("inspect b.p12 --password-in a").exit(4).says("the store password is wrong");
    env.run("inspect b.p12").exit(0).says("looked at without its password: nothing is proved");
    env.run("keystore change crossing-signing --random-password").exit(0);
    env.run("keystore export crossing-signing --to c.p12").exit(0);
    env.run("inspect c.p12 --password-in weak").exit(4);
}

#[test]
fn a_second_key_of_the_same_kind_says_which_updates_go_on_with_which() {
    let env = TestEnv::with_key(PROGRAM);
    env.run(
        "keystore add-key crossing-signing --alias two --app crossing --common-name A --algorithm ec-p256",
    )
    .exit(0)
    .says("Crossing has a signing key already (crossing-signing)");
    env.run("keystore create both --app crossing --app quayside --kind upload --common-name A --algorithm ec-p256")
        .exit(0)
        .says("One key for Crossing and Quayside ties them together");
    env.run("keystore create up --app crossing --kind upload --common-name A --algorithm ec-p256")
        .exit(0)
        .says("Crossing has an upload key already (both)");
}

#[test]
fn the_two_keys_of_an_app_are_taken_by_destination_and_said_when_swapped() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("keystore create up --app crossing --kind upload --common-name Up --algorithm ec-p256").exit(0);
    env.run("sign crossing.apk --for direct").exit(0).says("signed with   crossing-signing");
    env.run("sign crossing.apk --for store").exit(0).says("signed with   up, certificate");
    env.run("check crossing-2.4.0-12-direct.apk --for store").exit(1).says("keys-swapped").says("--key up");
    env.run("check crossing-2.4.0-12-store.apk --for direct")
        .exit(1)
        .says("keys-swapped")
        .says("the app's upload key, and goes to people's devices");
    let said = env.run("sign crossing.apk --for store --key crossing-signing --to x").exit(5);
    said.says("keys-swapped");
}

#[test]
fn one_key_signs_one_app_and_uploads_another_or_does_both() {
    let env = TestEnv::with_key(PROGRAM);
    let line = "keystore change crossing-signing --add-app quayside --kind upload";
    env.run(line).exit(0).says("it is the upload key of quayside as well");
    let json = env.run("show crossing-signing --format json").exit(0).json();
    let uses =
        serde_json::json!([{"app": "crossing", "role": "signing"}, {"app": "quayside", "role": "upload"}]);
    assert_eq!(json["parts"][0]["uses"], uses);
    let inventory = env.run("inventory --format json").exit(0).json();
    let kinds: Vec<(&str, &str)> = inventory["items"]
        .as_array()
        .unwrap()
        .iter()
        .map(|item| (item["kind"].as_str().unwrap(), item["apps"][0].as_str().unwrap()))
        .collect();
    assert_eq!(kinds, [("signing key", "crossing"), ("upload key", "quayside")]);
    // crossing has no upload key of its own: the one key goes everywhere
    env.run("sign crossing.apk --for store").exit(0);
    // with one, a build for the store that the signing key signed is signed with the wrong key
    env.run("keystore create up --kind upload --app crossing --common-name Up --algorithm ec-p256").exit(0);
    env.run("check crossing-2.4.0-12-store.apk --for store").exit(1).says("keys-swapped");
    // unless the store took the signing key as the upload key too: then that is what is registered for the app
    env.run("keystore change crossing-signing --add-app crossing --kind upload").exit(0);
    env.run("check crossing-2.4.0-12-store.apk --for store").exit(0).is_silent_on("keys-swapped");
    env.run("keystore change crossing-signing --drop-app crossing --kind upload")
        .exit(0)
        .says("it is not the upload key of crossing any more");
    env.run("check crossing-2.4.0-12-store.apk --for store").exit(1).says("keys-swapped");
}

#[test]
fn the_remedy_for_swapped_keys_works_as_it_stands() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("keystore create up --kind upload --app crossing --common-name Up --algorithm ec-p256").exit(0);
    env.run("sign crossing.apk --for store --key crossing-signing").exit(5).says("keys-swapped");
    env.run("sign crossing.apk --for direct").exit(0);
    std::fs::rename(env.path("crossing-2.4.0-12-direct.apk"), env.path("crossing-2.4.0-12-store.apk"))
        .unwrap();
    let said = env.run("check crossing-2.4.0-12-store.apk --for store --format json").exit(1).json();
    let findings = said["verdict"]["findings"].as_array().unwrap();
    let swapped = findings.iter().find(|finding| finding["rule"] == "keys-swapped").unwrap();
    let mend: Vec<&str> = swapped["mend"].as_array().unwrap().iter().map(|w| w.as_str().unwrap()).collect();
    env.run(&mend.join(" ")).exit(0).says("signed with   up, certificate");
    env.run("check signed-again/crossing-2.4.0-12-store.apk --for store").exit(0);
}
