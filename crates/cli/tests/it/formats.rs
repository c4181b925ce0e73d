//! What holds for every command: both formats, errors as objects, the version.

use std::collections::BTreeSet;
use std::path::Path;

use crate::PROGRAM;
use serde_json::Value;
use testkit::TestEnv;

/// The schema of an answer, by the name that it gives itself.
fn schema(name: &str) -> jsonschema::Validator {
    let file = name.strip_prefix("ninekeys.").and_then(|name| name.strip_suffix("/1")).unwrap();
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/schemas");
    let text = std::fs::read_to_string(folder.join(format!("{file}.json"))).unwrap();
    jsonschema::validator_for(&serde_json::from_str(&text).unwrap()).unwrap()
}

/// What is wrong with an answer by its schema; and that nothing is in it that the schema does not know.
pub(crate) fn hold(line: &str, answer: &Value) {
    let name = answer["schema"].as_str().unwrap_or_else(|| panic!("{line}: no schema in {answer}"));
    let errors: Vec<String> =
        schema(name).iter_errors(answer).map(|error| format!("{}: {error}", error.instance_path())).collect();
    assert!(errors.is_empty(), "{line}\n{}\n{answer:#}", errors.join("\n"));
}

/// Every command that answers, each after what it needs, with its exit code.
const ANSWERS: &[(&str, i32)] = &[
    ("app add deckhand --bundle-id example.gannetpoint.deckhand --for devices", 0),
    ("app change deckhand --title 'Deck Hand'", 0),
    ("app list", 0),
    ("app next crossing", 0),
    ("keystore create up --kind upload --app crossing --common-name Up --algorithm ec-p256", 0),
    ("keystore add-key up --alias two --common-name Two --algorithm ec-p256", 0),
    ("keystore change up --alias two --add-app quayside --kind signing", 0),
    ("keystore export up --to up.p12 --note-password up.pw", 0),
    ("keystore export up --alias up --to own.p12 --properties own.properties", 0),
    ("keystore export up --to up.pem --as certificate-pem", 0),
    ("lend --app crossing --explain --key crossing-signing", 0),
    ("manual pages", 0),
    ("help keystore export", 0),
    ("completions fish", 0),
    ("keystore import up.p12 --name again --password-in up.pw --app crossing", 0),
    ("keystore hand-over crossing-signing --receiver up.pem --to out.p7m", 0),
    ("sign crossing.apk --key crossing-signing", 0),
    ("sign crossing.apk --for store --key up --idsig", 0),
    ("check crossing-2.4.0-12-direct.apk --for direct", 0),
    ("check crossing.apk crossing-2.4.0-12-store.apk nothing.apk", 3),
    ("check nothing.apk", 3),
    ("sign crossing.apk later.apk --key crossing-signing --for development --to both", 0),
    ("hand-on crossing-2.4.0-12-direct.apk --to handed", 0),
    ("compare crossing-signing crossing-2.4.0-12-direct.apk", 0),
    ("compare up up.p12", 4),
    ("inspect crossing-2.4.0-12-direct.apk", 0),
    ("inspect crossing.apk", 0),
    ("inspect up.p12 --password-in up.pw", 0),
    ("inspect up.p12", 0),
    ("inspect up.pem", 0),
    ("inspect crossing-signing", 0),
    ("show up", 0),
    ("show crossing-signing/crossing-signing", 0),
    ("releases", 0),
    ("releases --compare", 0),
    ("inventory", 0),
    ("board", 0),
    ("explain", 0),
    ("explain debug-key", 0),
    ("cabinet status --prove", 0),
    ("cabinet history --verify", 0),
    ("cabinet backup copies", 0),
    ("cabinet passphrase --new-passphrase-in new", 0),
    ("cabinet pin", 0),
    ("cabinet remember", 0),
    ("cabinet forget", 0),
    ("cabinet unlock-file second.txt", 0),
    ("cabinet adopt copies/ninekeys-20310519T120000Z.cabinet", 0),
    ("cabinet restore copies/ninekeys-20310519T120000Z.cabinet --yes", 0),
    ("app remove deckhand --yes", 0),
    ("app statement crossing", 0),
    ("keystore password up", 0),
    ("keystore retire up", 0),
    ("keystore take-out up --yes", 0),
    ("init", 5),
    ("no-such-command", 2),
    ("sign", 2),
];

/// What an app has to claim, with values of every kind.
const ENTITLEMENTS: &str = "<plist version=\"1.0\"><dict><key>aps-environment</key><string>production</string>\
    <key>groups</key><array><string>group.quay</string></array><key>flag</key><true/><key>many</key><integer>3</integer>\
    <key>inner</key><dict><key>a</key><false/></dict></dict></plist>";

/// The same on the iOS side.
const ANSWERS_OF_IOS: &[(&str, i32)] = &[
    ("identity request gp --kind distribution --to gp.csr", 0),
    ("identity request gp --to again.csr", 0),
    ("inspect gp.csr", 0),
    ("identity accept in/distribution.cer in/intermediate.pem in/push.cer", 0),
    ("identity accept in/distribution.cer", 0),
    ("identity accept in/signed-by-developer.mobileprovision", 3),
    ("identity import in/distribution.p12 --password-in pw", 0),
    ("identity import in/distribution-2025.p12 --password-in pw", 0),
    ("identity export distribution-2027 --to out.p12 --password-in pw", 0),
    ("identity export distribution-2027 --to out.pem --as certificate-pem", 0),
    ("profile import in/crossing-store.mobileprovision in/deckhand-devices.mobileprovision", 0),
    ("profile export deckhand-devices-2026 --to out.mobileprovision", 0),
    ("device add Bridge --identifier 00008030-000A1B2C3D4E802E", 0),
    ("device import devices.csv", 0),
    ("device list", 0),
    ("device rename bridge Helm", 0),
    ("app add quay --bundle-id example.gannetpoint.quay --for in-house --capability push", 0),
    ("app change quay --extension share=example.gannetpoint.quay.share --entitlements quay.plist", 0),
    ("check --app crossing --for store", 0),
    ("check --all", 1),
    ("check --app nothing", 2),
    ("apikey import key.p8 --name uploads --key-id K1 --issuer I1 --role developer --use uploads", 0),
    ("apikey token uploads", 0),
    ("show uploads", 0),
    ("apikey retire uploads", 0),
    ("apikey import pw --name night --label nightly --account a@gannetpoint.example", 0),
    ("apikey password night", 0),
    ("apikey token night", 5),
    ("prepare --app crossing --for store --dry-run", 0),
    ("inventory", 0),
    ("board", 0),
    ("show distribution-2027", 0),
    ("show gp", 0),
    ("show crossing-store-2026", 0),
    ("show bridge", 0),
    ("date add Membership --on 2031-06-01 --every 1y", 0),
    ("date list", 0),
    ("date done membership", 0),
    ("timeline", 0),
    ("sweep in", 1),
    ("sweep in --set-aside away", 1),
    ("sweep --bring-back away/moved.jsonl", 0),
    ("report", 0),
    ("date remove membership", 0),
    ("compare distribution-2026 distribution-2027", 1),
];

/// And with a portal that answers.
const ANSWERS_THROUGH_THE_PORTAL: &[(&str, i32)] = &[
    ("apikey ask reports --of owner --use reports", 0),
    ("apikey create uploads --use uploads", 0),
    ("prepare --app crossing --for store --yes", 0),
    ("portal take-in", 0),
    ("cabinet backup copies", 0),
    ("cabinet backup --drill", 0),
    ("cabinet pieces make --to pieces --of 2 --needed 2", 0),
    ("cabinet pieces join pieces/piece-1-of-2.txt pieces/piece-2-of-2.txt --new-unlock-file joined.txt", 0),
    ("cabinet members add builder --may sign --app crossing --to b.txt", 0),
    ("cabinet members list", 0),
    ("cabinet members remove builder --yes", 0),
    ("rotate draft distribution-2027 --to d.toml", 0),
    ("rotate carry-out d.toml --yes", 1),
    ("rotate resume", 1),
    ("rotate call-off --yes", 0),
    ("rotate resume", 5),
    ("give --app crossing --for store --to out --receiver Shipyard", 0),
    ("given", 0),
    ("profile create --app crossing --for store", 5),
    ("profile renew crossing-store-2026", 0),
    ("identity revoke distribution-2027 --yes", 0),
    ("prepare --app deckhand --for devices --yes", 5),
];

#[test]
fn every_answer_is_one_document_that_its_schema_describes() {
    let env = TestEnv::with_key(PROGRAM);
    env.file("later.apk", &testkit::builds::crossing_code(13).apk());
    env.file("new", b"quilted-harbour-anvil");
    let ios = TestEnv::with_ios(PROGRAM);
    ios.file("devices.csv", b"00008030-000A1B2C3D4E802F,Pier\n");
    ios.file("quay.plist", ENTITLEMENTS.as_bytes());
    ios.file("key.p8", &testkit::private_key_pem());
    let mut seen = BTreeSet::new();
    let (connected, _portal) = crate::portal::connected();
    let places = [(&env, ANSWERS), (&ios, ANSWERS_OF_IOS), (&connected, ANSWERS_THROUGH_THE_PORTAL)];
    for (env, (line, exit)) in
        places.iter().flat_map(|(env, lines)| lines.iter().map(move |line| (env, line)))
    {
        let ran = env.run(&format!("{line} --format json"));
        // a system may keep no credentials
        let said = if *line == "cabinet remember" { ran.exit_either(*exit, 3) } else { ran.exit(*exit) };
        // an answer on stdout, or an error on stderr; never both, and nothing beside
        let text = if said.stdout.is_empty() { &said.stderr } else { &said.stdout };
        let answer: Value =
            serde_json::from_str(text).unwrap_or_else(|error| panic!("{line}: {error}\n{text}"));
        hold(line, &answer);
        seen.insert(answer["schema"].as_str().unwrap().to_owned());
    }
    let (store, _second) = crate::upload::ready();
    let upload = format!("upload {}", crate::upload::ANDROID);
    for line in [
        "upload",
        &upload,
        "deliveries",
        "keystore create deck --app quayside --common-name D --algorithm rsa-2048",
        "keystore deposit --app quayside --yes",
        "deliveries --get 12 --to device.apk",
        "testers group Crew --outside",
        "testers invite ana@gannetpoint.example --group Crew",
        "testers list",
        "testers remove ana@gannetpoint.example --group Crew",
    ] {
        let answer = store.run(&format!("{line} --format json")).exit(0).json();
        hold(line, &answer);
        seen.insert(answer["schema"].as_str().unwrap().to_owned());
    }
    let fresh = TestEnv::new(PROGRAM);
    let init = fresh.run("init --new-unlock-file unlock.txt --format json").exit(0).json();
    hold("init", &init);
    seen.insert("ninekeys.init/1".into());
    // the demo has a test of its own; the project file is no answer
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/schemas");
    for file in std::fs::read_dir(folder).unwrap() {
        let file = file.unwrap().file_name().into_string().unwrap();
        let name = file.trim_end_matches(".json");
        let answered = seen.contains(&format!("ninekeys.{name}/1"));
        assert!(
            answered
                || ["demo", "project-file", "stand-in-serve", "cabinet-remember", "advance"].contains(&name),
            "nothing was answered with {name}"
        );
    }
}

#[test]
fn an_error_is_an_object_on_stderr_with_the_same_fields() {
    let env = TestEnv::with_key(PROGRAM);
    let said = env.run("show nothing --format json").exit(2);
    let error: serde_json::Value = serde_json::from_str(&said.stderr).unwrap();
    assert_eq!(error["schema"], "ninekeys.error/1");
    assert_eq!(error["attempt"], "show nothing");
    assert_eq!(error["changed"], "nothing");
    assert_eq!(error["next"][0], "inventory");
    assert_eq!(error["exit"], 2);
    assert_eq!(said.stdout, "");
}

#[test]
fn nothing_is_coloured_through_a_pipe() {
    let env = TestEnv::with_key(PROGRAM);
    for line in ["board", "inventory", "explain", "check crossing.apk"] {
        let output = env.command(line.split(' ')).output().unwrap();
        assert!(!output.stdout.contains(&0x1b), "{line}");
    }
    env.run("--version").exit(0).says(env!("CARGO_PKG_VERSION"));
    env.run("no-such-command").exit(2);
}
