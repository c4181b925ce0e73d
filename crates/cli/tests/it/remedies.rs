//! What an error says to type next is typed, as it stands, in the same folder: afterwards the fault is gone.

use crate::PROGRAM;
use testkit::{TestEnv, builds, data};

/// What typing it does.
#[derive(Clone, Copy, PartialEq)]
enum Typed {
    /// It is what was wanted, and is done.
    Does,
    /// After it, what was typed first is done.
    Clears,
    /// It shows what one has to know, and the choice is the user's.
    Shows,
}
use Typed::{Clears, Does, Shows};

/// A fault: what brings it about, what is typed then, what stands for the words in capitals, and what the remedy does.
struct Fault {
    before: &'static [&'static str],
    typed: &'static str,
    words: &'static [(&'static str, &'static str)],
    remedy: &'static str,
    does: Typed,
}

const fn fault(
    before: &'static [&'static str],
    typed: &'static str,
    remedy: &'static str,
    words: &'static [(&'static str, &'static str)],
    does: Typed,
) -> Fault {
    Fault { before, typed, words, remedy, does }
}

const TWO_KEYS: &str =
    "keystore add-key crossing-signing --alias more --kind upload --common-name B --algorithm ec-p256";
const CERTIFICATE: &str =
    "keystore export crossing-signing --to c.pem --as certificate-pem --alias crossing-signing";

/// In a project with a key and an unlock file: `ninekeys.toml` names crossing and quayside, and harbour on iOS alone.
const KEYSTORES: &[Fault] = &[
    fault(
        &[],
        "keystore create k --app crossing",
        "keystore create k --app crossing --common-name NAME",
        &[("NAME", "Ferries")],
        Does,
    ),
    fault(
        &[],
        "keystore create k --common-name A --country Isles",
        "keystore create k --common-name A --country GB",
        &[],
        Does,
    ),
    fault(
        &[],
        "keystore create k --common-name A --years 0",
        "keystore create k --common-name A --years 30",
        &[],
        Does,
    ),
    fault(
        &[],
        "keystore create k --common-name A --years 5",
        "keystore create k --common-name A --years 30",
        &[],
        Does,
    ),
    fault(&[], "keystore create crossing-signing --common-name A", "show crossing-signing", &[], Shows),
    fault(
        &[],
        "keystore create k --app nobody --common-name A",
        "app add nobody --package PACKAGE",
        &[("PACKAGE", "example.gannetpoint.nobody")],
        Clears,
    ),
    fault(
        &[],
        "keystore create k --app harbour --common-name A",
        "app change harbour --package PACKAGE",
        &[("PACKAGE", "example.gannetpoint.harbour")],
        Clears,
    ),
    fault(
        &[],
        "keystore add-key crossing-signing --alias crossing-signing --common-name A",
        "show crossing-signing",
        &[],
        Shows,
    ),
    fault(&[], "keystore change crossing-signing", "keystore change --help", &[], Shows),
    fault(
        &[],
        "keystore change crossing-signing --alias nope --new-alias b",
        "keystore change crossing-signing --new-alias b --alias crossing-signing",
        &[],
        Does,
    ),
    fault(&[], "keystore export nothing --to a.p12", "inventory", &[], Shows),
    fault(
        &[TWO_KEYS],
        "keystore export crossing-signing --to a.der --as certificate-der",
        "keystore export crossing-signing --to a.der --as certificate-pem",
        &[],
        Does,
    ),
    fault(
        &[],
        "keystore export crossing-signing --to a.p12 --random-password",
        "keystore export crossing-signing --to a.p12 --random-password --note-password NOTE",
        &[("NOTE", "note")],
        Does,
    ),
    fault(
        &[],
        "keystore export crossing-signing --to crossing.apk",
        "keystore export crossing-signing --to crossing.apk --replace",
        &[],
        Does,
    ),
    fault(
        &[],
        "keystore export crossing-signing --to a.p12 --as certificate-pem --note-password n",
        "keystore export crossing-signing --to a.p12 --note-password n",
        &[],
        Does,
    ),
    fault(
        &[TWO_KEYS],
        "keystore export crossing-signing --to a.p12 --properties p",
        "keystore export crossing-signing --to a.p12 --properties p --alias ALIAS",
        &[("ALIAS", "more")],
        Does,
    ),
    fault(
        &[TWO_KEYS, CERTIFICATE],
        "keystore hand-over crossing-signing --receiver c.pem --to h.pem",
        "keystore hand-over crossing-signing --receiver c.pem --to h.pem --alias crossing-signing",
        &[],
        Does,
    ),
    fault(
        &[CERTIFICATE],
        "keystore hand-over crossing-signing --receiver crossing.apk --to h.pem",
        "keystore hand-over crossing-signing --to h.pem --receiver CERTIFICATE-OR-KEY",
        &[("CERTIFICATE-OR-KEY", "c.pem")],
        Does,
    ),
    fault(
        &[],
        "keystore import kiosk.p12",
        "keystore import kiosk.p12 --password-in FILE",
        &[("FILE", "kiosk.txt")],
        Does,
    ),
    fault(
        &[],
        "keystore import kiosk.p12 --password-in store.txt",
        "keystore import kiosk.p12 --password-in FILE",
        &[("FILE", "kiosk.txt")],
        Does,
    ),
    fault(
        &[],
        "keystore import ferries.jks --password-in store.txt --alias crew",
        "keystore import ferries.jks --password-in store.txt --alias crew --key-password-in 'crew=FILE'",
        &[("FILE", "crew.txt")],
        Does,
    ),
    fault(
        &[],
        "keystore import kiosk.p12 --password-in kiosk.txt --name no/name",
        "keystore import kiosk.p12 --password-in kiosk.txt --name NAME",
        &[("NAME", "kiosk")],
        Does,
    ),
    fault(
        &["keystore retire crossing-signing"],
        "keystore retire crossing-signing",
        "show crossing-signing",
        &[],
        Shows,
    ),
    fault(
        &["keystore import kiosk.p12 --password-in kiosk.txt"],
        "keystore take-out kiosk",
        "keystore take-out kiosk --yes",
        &[],
        Does,
    ),
];

const APPS_AND_BUILDS: &[Fault] = &[
    fault(&[], "sign test-only.apk --for direct", "explain build-test-only", &[], Shows),
    fault(&[], "sign crossing.apk --schemes v1 --for direct", "sign crossing.apk --for direct", &[], Does),
    fault(&[], "sign crossing.apk --schemes v3 --for direct", "sign crossing.apk --for direct", &[], Does),
    fault(&[], "sign crossing.apk --key quayside", "inventory", &[], Shows),
    fault(
        &[],
        "sign base.apk --for direct",
        "sign base.apk --for direct OTHER-PARTS",
        &[("OTHER-PARTS", "part.apk")],
        Does,
    ),
    fault(&[], "app add crossing --package example.gannetpoint.other", "app list", &[], Shows),
    fault(
        &[],
        "app add other",
        "app add other --package PACKAGE",
        &[("PACKAGE", "example.gannetpoint.other")],
        Does,
    ),
    fault(&[], "app add other --package example.gannetpoint.crossing", "app list", &[], Shows),
    fault(&[], "app change nobody --title A", "app list", &[], Shows),
    fault(&[], "app change crossing", "app change --help", &[], Shows),
    fault(
        &[],
        "app change crossing --title ' '",
        "app change crossing --title TITLE",
        &[("TITLE", "Crossing")],
        Does,
    ),
    fault(&[], "app remove quayside", "app remove quayside --yes", &[], Does),
    fault(
        &[],
        "app statement quayside",
        "keystore create quayside-signing --app quayside --common-name NAME",
        &[("NAME", "Ferries")],
        Clears,
    ),
    fault(
        &[],
        "app statement harbour",
        "app change harbour --package PACKAGE",
        &[("PACKAGE", "example.gannetpoint.harbour")],
        Shows,
    ),
    fault(&["sign crossing.apk"], "sign crossing.apk", "sign crossing.apk --replace", &[], Does),
    fault(
        &["keystore create second --app crossing --common-name A"],
        "sign crossing.apk",
        "sign crossing.apk --key crossing-signing",
        &[],
        Does,
    ),
    fault(&[], "sign crossing.apk --for in-house", "sign crossing.apk --for direct", &[], Does),
    fault(&[], "sign crossing.apk --for store --to a --schemes v9", "help sign", &[], Shows),
    fault(&[], "sign quayside.apk --for direct", "explain build-debuggable", &[], Shows),
    fault(&[], "sign nothing.apk", "", &[], Shows),
    fault(&["sign crossing.apk"], "check crossing.apk --app nobody", "app list", &[], Shows),
    fault(&[], "releases --app nobody", "releases", &[], Shows),
    fault(&[], "lend --app nobody -- true", "app list", &[], Shows),
    fault(
        &[],
        "lend --app quayside -- true",
        "keystore create quayside-signing --app quayside --common-name NAME",
        &[("NAME", "Ferries")],
        Clears,
    ),
    fault(&[], "explain keys-swaped", "explain", &[], Shows),
    fault(&[], "create k --common-name A", "keystore create k --common-name A", &[], Does),
    fault(&[], "inspect nothing.bin", "", &[], Shows),
    fault(&[], "show nothing", "inventory", &[], Shows),
    fault(
        &[],
        "compare kiosk.p12 crossing-signing",
        "compare kiosk.p12 crossing-signing --password-in FILE",
        &[("FILE", "kiosk.txt")],
        Does,
    ),
    fault(&[], "demo .", "demo FOLDER", &[("FOLDER", "elsewhere")], Does),
];

const CABINETS: &[Fault] = &[
    fault(
        &[],
        "cabinet status --prove --unlock-file kiosk.txt",
        "cabinet status --prove --unlock-file FILE",
        &[("FILE", "unlock.txt")],
        Does,
    ),
    fault(&[], "keystore create k --common-name A --at 2030-01-01T00:00:00Z", "cabinet history", &[], Shows),
    fault(&[], "init", "board", &[], Shows),
    fault(
        &["cabinet backup copies"],
        "cabinet restore copies/COPY",
        "cabinet restore copies/COPY --yes",
        &[],
        Does,
    ),
    fault(&[], "cabinet restore ninekeys.cabinet --yes", "cabinet status", &[], Shows),
    fault(&[], "cabinet backup crossing.apk", "cabinet backup FOLDER", &[("FOLDER", "copies")], Does),
    fault(&[], "cabinet unlock-file crossing.apk", "cabinet unlock-file FILE", &[("FILE", "own.txt")], Does),
    fault(&[], "cabinet status --prove --unlock-file crossing.apk", "", &[], Shows),
    fault(
        &[],
        "inventory --cabinet crossing.apk",
        "inventory --cabinet FILE",
        &[("FILE", "ninekeys.cabinet")],
        Does,
    ),
    fault(&[], "board --project nowhere", "", &[], Shows),
];

const PROFILE: &str = "profile import in/crossing-store.mobileprovision";
const KEY: &str = "apikey import key.p8 --name k --key-id K1 --issuer I1";
const IDENTIFIER: &[(&str, &str)] = &[("NAME", "Bridge"), ("IDENTIFIER", "00008030-000A1B2C3D4E802F")];

/// In a project of the iOS side, with a distribution identity, a profile's file, a key's and a password's.
const IOS: &[Fault] = &[
    fault(
        &[],
        "give --app crossing --for store --receiver R --to out",
        "check --app crossing --for store",
        &[],
        Shows,
    ),
    fault(&[], "give --app nothing --for store --receiver R --to out", "app list", &[], Shows),
    fault(
        &[PROFILE],
        "give --app crossing --for store --receiver R --to out --note-password out/p.txt",
        "give --app crossing --for store --receiver R --to out --note-password FILE",
        &[("FILE", "p.txt")],
        Does,
    ),
    fault(
        &[PROFILE],
        "give --app crossing --for store --receiver R --to in",
        "give --app crossing --for store --receiver R --to FOLDER",
        &[("FOLDER", "out")],
        Does,
    ),
    fault(
        &[PROFILE],
        "give --app crossing --for store --receiver R --to out --api-key nothing",
        "inventory",
        &[],
        Shows,
    ),
    fault(
        &[PROFILE, "apikey import pw --name night --label l --account a@gannetpoint.example"],
        "give --app crossing --for store --receiver R --to out --api-key night",
        "show night",
        &[],
        Shows,
    ),
    fault(&[], "apikey ask up --of owner", "apikey ask up --of owner --use uploads", &[], Does),
    fault(
        &["apikey import pw --name night --label l --account a@gannetpoint.example"],
        "apikey token night",
        "show night",
        &[],
        Shows,
    ),
    fault(&[KEY], "apikey password k", "apikey token k", &[], Shows),
    fault(&[KEY], "apikey import key.p8 --name other --key-id K2 --issuer I1", "show k/key", &[], Shows),
    fault(
        &[],
        "apikey import key.p8 --name k --key-id K1",
        "apikey import key.p8 --name k --key-id K1 --issuer ID",
        &[("ID", "I1")],
        Does,
    ),
    fault(&[], "apikey import unlock.txt --name k --label l --account a@gannetpoint.example", "", &[], Shows),
    fault(&[], "portal take-in", "", &[], Shows),
    fault(
        &[],
        "prepare --app deckhand --for devices",
        "device add NAME --identifier IDENTIFIER",
        IDENTIFIER,
        Clears,
    ),
    fault(&[], "device add Bridge", "device add Bridge --identifier IDENTIFIER", IDENTIFIER, Does),
    fault(&[], "identity export nothing --to a.p12", "inventory", &[], Shows),
    fault(&[], "check --app nothing", "app list", &[], Shows),
    fault(
        &[],
        "app add dory --bundle-id GPFERRY009.example.gannetpoint.dory --for store",
        "app add dory --for store --bundle-id example.gannetpoint.dory",
        &[],
        Does,
    ),
];

const UPLOAD: &str = "keystore create up --kind upload --app crossing --common-name A --algorithm ec-p256";
const DRAFT: &str = "rotate draft up --to d.toml";
const MATE: &str = "cabinet members add mate --may everything --to mate.txt";

/// What is made, handed over, replaced, backed up and found over the years.
const LIFE_OF_KEYS: &[Fault] = &[
    fault(
        &[UPLOAD],
        "rotate draft --at 2061-05-01T00:00:00Z",
        "rotate draft --at 2061-05-01T00:00:00Z --due 60d",
        &[],
        Does,
    ),
    fault(&[], "rotate draft nothing", "inventory", &[], Shows),
    fault(&[UPLOAD, "keystore retire up"], "rotate draft up", "show up", &[], Shows),
    fault(&[UPLOAD, DRAFT], DRAFT, "rotate draft up --to d.toml --replace", &[], Does),
    fault(&[UPLOAD, DRAFT], "rotate carry-out d.toml", "rotate carry-out d.toml --yes", &[], Does),
    fault(
        &[UPLOAD, DRAFT, "rotate carry-out d.toml --yes"],
        "rotate carry-out d.toml --yes",
        "rotate resume rotation-2031-05-19",
        &[],
        Shows,
    ),
    fault(
        &[UPLOAD, DRAFT, "keystore change up --alias up --add-app quayside"],
        "rotate carry-out d.toml --yes",
        "rotate draft up --to FILE",
        &[("FILE", "e.toml")],
        Does,
    ),
    fault(&[], "rotate resume", "rotate draft WHAT", &[("WHAT", "crossing-signing")], Does),
    fault(
        &[],
        "rotate carry-out crossing.apk --yes",
        "rotate draft WHAT",
        &[("WHAT", "crossing-signing")],
        Does,
    ),
    fault(&[], "date done nothing", "date list", &[], Shows),
    fault(&[], "date remove nothing", "date list", &[], Shows),
    fault(
        &[],
        "cabinet members add mate --may sign --to m.txt",
        "cabinet members add mate --may sign --to m.txt --app APP",
        &[("APP", "crossing")],
        Does,
    ),
    fault(&[MATE], "cabinet members add mate --may look --to n.txt", "cabinet members list", &[], Shows),
    fault(&[], "cabinet members remove nobody --yes", "cabinet members list", &[], Shows),
    fault(&[MATE], "cabinet members remove mate", "cabinet members remove mate --yes", &[], Does),
    fault(
        &[],
        "cabinet pieces make --to p --of 5 --needed 9",
        "cabinet pieces make --to p --of 5 --needed 3",
        &[],
        Does,
    ),
    fault(&[], "cabinet backup --drill", "cabinet backup FOLDER", &[("FOLDER", "copies")], Clears),
    fault(&[], "cabinet history --item nothing", "inventory", &[], Shows),
    fault(&[], "inventory --app nothing", "app list", &[], Shows),
    fault(&[], "sweep nowhere", "", &[], Shows),
    fault(&[], "sweep --bring-back crossing.apk", "", &[], Shows),
    fault(&["report --to page.html"], "report --to page.html", "report --to page.html --replace", &[], Does),
];

/// The same folder again, with what belongs to it.
fn again(base: &TestEnv) -> TestEnv {
    let env = TestEnv::new(PROGRAM).at(base.now()).variable("PATH", "/usr/bin:/bin");
    base.files().iter().for_each(|(name, bytes)| env.file(name, bytes));
    env
}

/// What was said to type next, with words put in for those in capitals.
fn typed_next(error: &serde_json::Value, words: &[(&str, &str)]) -> Vec<String> {
    let next = error["next"].as_array().map(Vec::as_slice).unwrap_or_default();
    let filled = next.iter().map(|word| {
        let word = word.as_str().unwrap().to_owned();
        words.iter().fold(word, |word, (capitals, value)| {
            let ending = word.strip_suffix(capitals).filter(|rest| rest.is_empty() || rest.ends_with('='));
            ending.map_or(word.clone(), |rest| format!("{rest}{value}"))
        })
    });
    filled.collect()
}

/// Brings a fault about, types what is said, and says what was not as it should be.
fn try_one(base: &TestEnv, fault: &Fault) -> Result<(), String> {
    let env = again(base);
    // a rotation that waits for a person ends with 1
    let done = |line: &str| [0, i32::from(line.starts_with("rotate"))];
    fault.before.iter().for_each(|line| env.run(line).exit_any(&done(line)));
    let copy = std::fs::read_dir(env.path("copies")).ok().and_then(|mut all| all.next());
    let copy = copy.map_or_else(String::new, |entry| entry.unwrap().file_name().into_string().unwrap());
    let (typed, remedy) = (fault.typed.replace("COPY", &copy), fault.remedy.replace("COPY", &copy));
    // options that hold for every command stand behind what was typed, and so in what is said next
    let said = env.run(&typed).failed();
    let as_json = match typed.split_once(" -- ") {
        Some((own, command)) => format!("{own} --format json -- {command}"),
        None => format!("{typed} --format json"),
    };
    let error = env.run(&as_json).failed();
    let error: serde_json::Value = serde_json::from_str(&error).map_err(|_| format!("{typed}: {error}"))?;
    if remedy.is_empty() {
        let has_sentence = error["remedy"].is_string();
        return if has_sentence { Ok(()) } else { Err(format!("{typed}: neither a command nor a sentence")) };
    }
    let next = said.lines().find_map(|line| line.strip_prefix("  next      ninekeys "));
    if next.map(|next| next.replace('"', "'")) != Some(remedy.clone()) {
        return Err(format!("{typed}: not `{remedy}` but\n{said}"));
    }
    let words = typed_next(&error, fault.words);
    let ran = env.command(&words).output().unwrap();
    let (code, stderr) = (ran.status.code().unwrap(), String::from_utf8_lossy(&ran.stderr));
    // what ends with 1 was done, and says what is wrong with what it looked at
    if code > 1 {
        return Err(format!("{typed}: next {}\n{stderr}", words.join(" ")));
    }
    if fault.does == Clears && env.run(&typed).code() > 1 {
        return Err(format!("{typed}: still not done after {}", words.join(" ")));
    }
    Ok(())
}

fn try_all(base: &TestEnv, faults: &[Fault]) {
    let wrong: Vec<String> = faults.iter().filter_map(|fault| try_one(base, fault).err()).collect();
    assert!(wrong.is_empty(), "{}", wrong.join("\n\n"));
}

fn base() -> TestEnv {
    let env = TestEnv::with_key(PROGRAM);
    env.run("app add harbour --bundle-id example.gannetpoint.harbour --for store").exit(0);
    env.file("quayside.apk", &builds::quayside_debug().apk());
    for (name, case) in [
        ("base.apk", "base-alone__package-incomplete.apk"),
        ("part.apk", "part-alone__package-incomplete.apk"),
        ("test-only.apk", "test-only__build-test-only.apk"),
    ] {
        env.file(name, &std::fs::read(data(&format!("cases/builds/{case}"))).unwrap());
    }
    for (name, sample) in [("kiosk.p12", "kiosk-modern.p12"), ("ferries.jks", "ferries.jks")] {
        env.file(name, &std::fs::read(data(&format!("samples/{sample}"))).unwrap());
    }
    let passwords =
        [("kiosk.txt", "modern-pass-1"), ("store.txt", "store-pass-1"), ("crew.txt", "crew-key-pass")];
    passwords.iter().for_each(|(name, text)| env.file(name, text.as_bytes()));
    env
}

#[test]
fn what_is_said_on_the_ios_side_is_typed_and_mends() {
    let env = TestEnv::with_identity(PROGRAM);
    env.file("key.p8", &testkit::private_key_pem());
    try_all(&env, IOS);
}

#[test]
fn what_is_said_of_keystores_is_typed_and_mends() {
    try_all(&base(), KEYSTORES);
}

#[test]
fn what_is_said_of_apps_and_builds_is_typed_and_mends() {
    try_all(&base(), APPS_AND_BUILDS);
}

#[test]
fn what_is_said_of_cabinets_is_typed_and_mends() {
    try_all(&base(), CABINETS);
}

#[test]
fn what_is_said_over_the_years_is_typed_and_mends() {
    try_all(&base(), LIFE_OF_KEYS);
}

/// A damaged cabinet says what brings it back.
#[test]
fn a_damaged_cabinet_is_brought_back_by_what_is_said() {
    let env = again(&base());
    env.run("cabinet backup copies").exit(0);
    let copy = std::fs::read_dir(env.path("copies")).unwrap().next().unwrap().unwrap().file_name();
    let copy = format!("copies/{}", copy.to_string_lossy());
    let mut bytes = env.read("ninekeys.cabinet");
    let at = builds::last(&bytes, b"crossing-signing/crossing-signing");
    bytes[at] ^= 1;
    env.file("ninekeys.cabinet", &bytes);
    let error = env.run("inventory --format json").failed();
    let error: serde_json::Value = serde_json::from_str(&error).unwrap();
    let line = typed_next(&error, &[("COPY", &copy)]);
    assert!(line.join(" ").starts_with(&format!("cabinet restore {copy}")), "{line:?}");
    // what cannot be read cannot be lost by it: it is set aside, and nobody is asked
    assert!(env.command(&line).output().unwrap().status.success());
    env.run("cabinet status --prove").exit(0).says("every seal opened");
}

#[test]
fn what_is_said_where_a_passphrase_is_missing_is_typed_and_mends() {
    let env = TestEnv::new(PROGRAM);
    env.file("pass", b"brisk-lantern-oyster");
    env.file("new", b"quiet-harbour-thistle");
    env.run("init --title Ferries --passphrase-in pass").exit(0);
    env.run("app add crossing --package example.gannetpoint.crossing --for direct").exit(0);
    let faults = [
        fault(
            &[],
            "keystore create k --app crossing --common-name A",
            "keystore create k --app crossing --common-name A --passphrase-in FILE",
            &[("FILE", "pass")],
            Does,
        ),
        fault(&[], "keystore create k --common-name A --passphrase-in new", "cabinet status", &[], Shows),
        fault(
            &[],
            "cabinet passphrase --passphrase-in pass",
            "cabinet passphrase --passphrase-in pass --new-passphrase-in FILE",
            &[("FILE", "new")],
            Does,
        ),
        fault(
            &[],
            "cabinet unlock-file own.txt",
            "cabinet unlock-file own.txt --passphrase-in FILE",
            &[("FILE", "pass")],
            Does,
        ),
    ];
    try_all(&env, &faults);
}

/// Whoever has nothing but a build and types what is said next gets it signed.
#[test]
fn from_an_empty_folder_every_next_step_is_said_until_the_build_is_signed() {
    let env = TestEnv::new(PROGRAM);
    env.file("crossing.apk", &builds::crossing().apk());
    env.file("pass", b"brisk-lantern-oyster");
    let words = [
        ("NAME", "crossing"),
        ("FILE", "pass"),
        ("TITLE", "Ferries"),
        ("PACKAGE", "example.gannetpoint.crossing"),
    ];
    let first = ["sign", "crossing.apk", "--for", "direct", "--passphrase-in", "pass", "--format", "json"];
    let wanted: Vec<String> = first.iter().map(|word| (*word).to_owned()).collect();
    let (mut line, mut trail) = (wanted.clone(), Vec::new());
    for _ in 0..12 {
        let ran = env.command(&line).output().unwrap();
        trail.push(line.join(" "));
        if ran.status.code() == Some(0) {
            if line.starts_with(&["sign".to_owned()]) {
                break;
            }
            line = wanted.clone();
            continue;
        }
        let said = String::from_utf8_lossy(&ran.stderr).into_owned();
        let Ok(error) = serde_json::from_str::<serde_json::Value>(&said) else {
            // a step that was typed as it stands answers as people read it
            line.extend(["--format".to_owned(), "json".to_owned()]);
            continue;
        };
        line = typed_next(&error, &words);
        assert!(!line.is_empty(), "no next step: {said}\n{}", trail.join("\n"));
    }
    assert!(trail.last().unwrap().starts_with("sign "), "{}", trail.join("\n"));
    env.run("check crossing-2.4.0-12-direct.apk").exit_any(&[0, 1]);
}

/// The findings of an answer that bring a command with them: the rule, and the command.
fn mends(answer: &serde_json::Value) -> Vec<(String, Vec<String>)> {
    let findings = answer["findings"].as_array().or(answer["verdict"]["findings"].as_array()).unwrap();
    let text = |value: &serde_json::Value| value.as_str().unwrap().to_owned();
    let with_command = findings.iter().filter(|finding| finding["mend"].is_array());
    with_command
        .map(|finding| {
            (text(&finding["rule"]), finding["mend"].as_array().unwrap().iter().map(text).collect())
        })
        .collect()
}

#[test]
fn the_command_that_a_finding_brings_with_it_takes_the_finding_away() {
    let base = base();
    // what is looked at, the rule, and what is looked at afterwards
    let cases = [
        ("cabinet status", "backup-missing", "cabinet status"),
        (
            "check crossing.apk --for direct",
            "build-unsigned",
            "check crossing-2.4.0-12-direct.apk --for direct",
        ),
        (
            "check crossing.apk --for direct",
            "archive-unaligned",
            "check crossing-2.4.0-12-direct.apk --for direct",
        ),
        ("check crossing.apk --for store", "build-unsigned", "check crossing-2.4.0-12-store.apk --for store"),
    ];
    for (look, rule, afterwards) in cases {
        let env = again(&base);
        let answer = env.run(&format!("{look} --format json")).exit_any_json(&[0, 1]).unwrap();
        let found = mends(&answer);
        let (_, mend) =
            found.iter().find(|(name, _)| name == rule).unwrap_or_else(|| panic!("{look}: {answer:#}"));
        let typed: Vec<&str> =
            mend.iter().map(|word| if word == "FOLDER" { "copies" } else { word.as_str() }).collect();
        let ran = env.command(&typed).output().unwrap();
        assert!(ran.status.success(), "{look}: {typed:?}\n{}", String::from_utf8_lossy(&ran.stderr));
        let answer = env.run(&format!("{afterwards} --format json")).exit_any_json(&[0, 1]).unwrap();
        assert!(mends(&answer).iter().all(|(name, _)| name != rule), "{rule} is still there after {typed:?}");
    }
}
