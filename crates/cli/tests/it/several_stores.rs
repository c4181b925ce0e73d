//! Several stores for an app: each has its own records, numbers, keys and ledger rows, and `--store` says which is meant.

use crate::portal::{Running, start_in};
use crate::upload::{ANDROID, ready};
use testkit::TestEnv;

/// A project with a second store, which has a key of its own here and knows the app.
fn with_harbour() -> (TestEnv, [Running; 2]) {
    let (env, portal) = ready();
    let harbour = start_in(&env, "harbour", &["--listen", "127.0.0.1:0"]);
    let project = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    let more = format!("{project}\n[store.harbour]\naddress = \"{}\"\n", harbour.address);
    env.file("ninekeys.toml", more.as_bytes());
    let [file, id, issuer] =
        ["file", "key_id", "issuer"].map(|field| harbour.said["first_key"][field].as_str().unwrap());
    env.run("deliveries --store harbour")
        .exit(5)
        .says("no store API key for harbour")
        .says("--store harbour");
    env.run(&format!(
        "apikey import {file} --name harbour --key-id {id} --issuer {issuer} --role owner --store harbour"
    ))
    .exit(0)
    .says("the store harbour");
    env.run("app change quayside --publish --store harbour").exit(0).says("is there now");
    (env, [portal, harbour])
}

#[test]
fn each_store_has_its_own_builds_numbers_keys_and_rows_of_the_ledger() {
    let (env, _stores) = with_harbour();
    let other = env.run(&format!("upload {ANDROID} --store harbour")).exit(5);
    other.says("not for harbour").says(&format!("ninekeys sign {ANDROID} --for store --store harbour"));
    env.run("keystore create pier --app quayside --kind upload --common-name P --algorithm rsa-2048").exit(0);
    // two upload keys, and nothing says which is whose
    env.run("sign quay.apk --app quayside --store harbour")
        .exit(5)
        .says("several keys")
        .says("--store harbour");
    let project = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    let said = |key: &str| format!("{project}\n[app.quayside.android.store.harbour]\nkey = \"{key}\"\n");
    env.file("ninekeys.toml", said("bollard").as_bytes());
    let nobody = env.run("sign quay.apk --app quayside --store harbour").exit(5);
    nobody
        .says("the project file names bollard to sign what goes to harbour")
        .says("mend `key` of that store");
    let said = said("pier");
    env.file("ninekeys.toml", said.as_bytes());

    let signed = env.run("sign quay.apk --app quayside --store harbour").exit(0);
    signed.says("for the store harbour").says("signed with   pier");
    let own = "quayside-2.4.0-12-harbour.apk";
    let json = env.run(&format!("check {own} --app quayside --format json")).exit(0).json();
    let check = &json["builds"][0];
    let check = if check.is_null() { &json } else { check };
    assert_eq!(
        (check["store"].as_str(), check["ready"].as_bool()),
        (Some("harbour"), Some(true)),
        "{json:#}"
    );
    // what was signed for one does not go to the other
    env.run(&format!("upload {own}"))
        .exit(5)
        .says("was signed for harbour")
        .says(&format!("ninekeys upload {own} --store harbour"));
    env.run(&format!("upload {own} --store harbour")).exit(0).says("is at the store harbour");
    env.run("sign quay.apk --app quayside --for store --replace").exit(0).says("signed with   quay,");
    env.run(&format!("upload {ANDROID}")).exit(0).says("is at the store ");

    let there = |store: &str| {
        let json = env.run(&format!("deliveries{store} --format json")).exit(0).json();
        let all = json["deliveries"].as_array().unwrap().clone();
        let files: Vec<String> = all.iter().map(|one| one["file"].as_str().unwrap().to_owned()).collect();
        (json["store"].as_str().map(str::to_owned), files)
    };
    assert_eq!(there(""), (None, vec![ANDROID.to_owned()]));
    assert_eq!(there(" --store harbour"), (Some("harbour".into()), vec![own.to_owned()]));
    let releases = env.run("releases --format json").exit(0).json();
    let row = |file: &str| {
        let all = releases["releases"].as_array().unwrap();
        let one = all.iter().find(|one| one["file"] == file).unwrap();
        (one["store"].as_str().map(str::to_owned), one["uploaded"].is_string())
    };
    assert_eq!((row(own), row(ANDROID)), ((Some("harbour".into()), true), (None, true)));
    env.run("releases").exit(0).says("harbour · uploaded").says("store · uploaded");
    env.run("cabinet history").exit(0).says(&format!("upload of {own} to the store harbour"));

    // the number of one is raised, and that of the other is free still
    env.run("upload quay.apk --app quayside --next --store harbour").exit(0).says("Quayside 2.4.0 (13)");
    let next = |store: &str| {
        let json = env.run(&format!("app next quayside{store} --format json")).exit(0).json();
        json["sides"][0]["delivered"].as_str().map(str::to_owned)
    };
    assert_eq!((next(""), next(" --store harbour")), (Some("12".into()), Some("13".into())));
    env.run("upload --store harbour").exit(0).says("for the store harbour").says("2 builds there already");
}

#[test]
fn a_store_that_is_not_there_or_not_meant_is_said_and_advice_stays_with_the_one_that_is() {
    let (env, _stores) = with_harbour();
    env.run("upload --store pier")
        .exit(2)
        .says("no store called pier; it has harbour")
        .says("--store harbour");
    env.run("sign quay.apk --app quayside --for direct --store harbour")
        .exit(2)
        .says("what goes to harbour is for the store")
        .says("--for store");
    env.run("check --app crossing --for devices --store harbour").exit(2).says("for the store");
    env.run("testers list --store harbour").exit(0).says("testers group NAME --store harbour");
    env.run("deliveries --store harbour").exit(0).says("ninekeys upload BUILD --store harbour");
    env.run("advance 12 --to testing --store harbour").exit(2).says("ninekeys deliveries --store harbour");
    // a store's name may end with the word for a destination
    let project = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    env.file(
        "ninekeys.toml",
        format!("{project}\n[store.old-store]\naddress = \"http://127.0.0.1:1\"\n").as_bytes(),
    );
    let signed = env.run("sign quay.apk --app quayside --store old-store").exit(0);
    signed.says("quayside-2.4.0-12-old-store.apk").is_silent_on("build-name-mismatch");
    env.file("ninekeys.toml", project.as_bytes());
    let elsewhere = |address: &str| {
        let project = String::from_utf8(env.read("ninekeys.toml")).unwrap();
        let (before, _) = project.split_once("[store.harbour]").unwrap();
        env.file("ninekeys.toml", format!("{before}[store.harbour]\naddress = \"{address}\"\n").as_bytes());
    };
    for (address, says) in [
        ("ftp://harbour.example", "mend `address` of that store"),
        ("http://192.0.2.1:80", "with `certificate` for who answers there"),
        ("https://127.0.0.1:1", "write `certificate = \"FILE\"` for that store"),
    ] {
        elsewhere(address);
        env.run("deliveries --store harbour").exit(2).says(says);
    }
    let bad = "[store.direct]\naddress = \"http://127.0.0.1:1\"\n";
    let project = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    env.file("ninekeys.toml", format!("{project}\n{bad}").as_bytes());
    env.run("app list").exit(3).says("a store called direct");
    env.file(
        "ninekeys.toml",
        format!("{project}\n[app.quayside.android.store.quay]\nkey = \"quay\"\n").as_bytes(),
    );
    env.run("app list").exit(3).says("a store called quay");
}

#[test]
fn what_one_store_holds_is_written_for_that_one_alone() {
    let (env, _stores) = with_harbour();
    env.run("keystore create deck --app quayside --common-name Deck --algorithm rsa-2048").exit(0);
    env.run("keystore create pier --app quayside --kind upload --common-name P --algorithm rsa-2048").exit(0);
    let json = env.run("keystore deposit --app quayside --upload pier --store harbour --yes --format json");
    let json = json.exit(0).json();
    crate::formats::hold("keystore deposit", &json);
    assert_eq!(json["store"].as_str(), Some("harbour"), "{json:#}");
    let text = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    assert!(text.contains("[app.quayside.android.store.harbour]\nkey = \"pier\""), "{text}");
    assert!(text.contains("[app.quayside.android.store.harbour.store-keys]"), "{text}");
    assert!(!text.contains("[app.quayside.android.store-keys]"), "{text}");
    env.run("show deck").exit(0).says("quayside: the store harbour signs with it what devices get");
    env.run("show pier").exit(0).says("quayside: the store harbour takes builds that are signed with it");
    // its upload key signs for it and for no other: the one that is left signs for the store of the portal
    env.run("sign quay.apk --app quayside --for store --replace").exit(0).says("signed with   quay,");
    env.run("sign quay.apk --app quayside --store harbour").exit(0).says("signed with   pier,");
    // the other key's build is refused there, by the rule, before a byte is sent
    let refused = env.run("sign quay.apk --app quayside --store harbour --key quay --replace").exit(5);
    refused.says("signer-unknown").says("--key pier --for store --store harbour");
    let said = env.run(&format!("check {ANDROID} --app quayside --store harbour"));
    said.exit(1).says("signer-unknown").says("--key pier --for store --store harbour");
    // each is asked about its own
    env.run("keystore deposit --app quayside --upload quay").exit(5).says("The store signs quayside");
}

#[test]
fn a_key_for_one_store_opens_no_other_and_takes_its_successor_with_it() {
    let (env, stores) = with_harbour();
    env.run("apikey create second --use uploads --role developer --store harbour").exit(0).says("harbour");
    let shown = env.run("show second --format json").exit(0).stdout;
    assert!(shown.contains("harbour"), "{shown}");
    drop(stores);
    env.run("deliveries --store harbour").exit(6);
}

#[test]
fn a_rotation_of_one_stores_upload_key_waits_for_that_store_and_says_so_in_the_project_file() {
    let (env, [portal, harbour]) = with_harbour();
    env.run("keystore create deck --app quayside --common-name Deck --algorithm rsa-2048").exit(0);
    env.run("keystore create pier --app quayside --kind upload --common-name P --algorithm rsa-2048").exit(0);
    env.run("keystore deposit --app quayside --upload pier --store harbour --yes").exit(0);
    env.run("rotate draft pier --to draft.toml").exit(0);
    let waits = env.run("rotate carry-out draft.toml --yes --format json").exit(1).json();
    let next: Vec<String> = serde_json::from_value(waits["waits"][0]["next"].clone()).unwrap();
    let new = next[5].clone();
    assert_eq!(
        next.join(" "),
        format!("keystore replace-upload --app quayside --key {new} --store harbour"),
        "{waits:#}"
    );
    env.run(&format!("{} --yes", next.join(" "))).exit(0).says("takes another upload key from");
    // until it counts the old one signs, and the rotation waits
    env.run("sign quay.apk --app quayside --store harbour").exit(0).says("signed with   pier,");
    env.run("rotate resume").exit(1).says("from then on the store harbour takes builds of quayside");
    let port = harbour.address.rsplit(':').next().unwrap().to_owned();
    drop((portal, harbour));
    let env = env.at("2026-12-05T00:00:00Z");
    let _harbour = start_in(&env, "harbour", &["--listen", &format!("127.0.0.1:{port}")]);
    env.run("rotate resume").exit(0).says("Carried out");
    let text = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    assert!(text.contains(&format!("[app.quayside.android.store.harbour]\nkey = \"{new}\"")), "{text}");
    let signed = env.run("sign quay.apk --app quayside --store harbour --set-build 13").exit(0);
    signed.says(&format!("signed with   {new},"));
    env.run("upload quayside-2.4.0-13-harbour.apk --store harbour").exit(0);
    env.run("sign quay.apk --app quayside --for store --set-build 13").exit(0).says("signed with   quay,");

    // who says that it was done when it was not is told by the probe, and may call it off: the file says so again
    env.run(&format!("rotate draft {new} --to second.toml")).exit(0);
    env.run("rotate carry-out second.toml --yes").exit(1);
    let wrong = env.run("rotate resume --done 2").exit(5);
    wrong.says("signer-unknown").says("ninekeys rotate resume rotation-2026-12-05");
    let text = || String::from_utf8(env.read("ninekeys.toml")).unwrap();
    let named = format!("[app.quayside.android.store.harbour]\nkey = \"{new}\"");
    assert!(!text().contains(&named), "{}", text());
    env.run("rotate call-off --yes").exit(0);
    assert!(text().contains(&named), "{}", text());
    env.run("sign quay.apk --app quayside --store harbour --set-build 14").exit(0);
}
