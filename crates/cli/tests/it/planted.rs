//! Secrets planted everywhere they can come from, every command walked, and everything looked at that any of them said or
//! wrote, files that are gone again included.

use std::process::{Command, Stdio};

use crate::PROGRAM;
use crate::portal::{Running, start};
use testkit::TestEnv;

/// What was planted, each with what it is.
const PLANTED: [(&str, &str); 8] = [
    ("the first passphrase", "brisk-lantern-oyster"),
    ("the second passphrase", "quiet-harbour-thistle"),
    ("a keystore's password", "sunken-bell-garnet-56"),
    ("a changed password", "walnut-tide-compass-88"),
    ("a password for one export", "marble-gannet-beacon-31"),
    ("the password that came with a file", "modern-pass-1"),
    ("the password of an identity's file", "pier-pass-1"),
    ("an account's upload password", "tern-fjord-capstan-77"),
];

/// How private keys begin: the algorithm in front of every PKCS#8 key, as bytes; and the whole beginning of one of P-256,
/// as PEM has it.
const KEY_HEADS: [&[u8]; 3] = [
    b"\x02\x01\x00\x30\x0d\x06\x09\x2a\x86\x48\x86\xf7\x0d\x01\x01\x01",
    b"\x02\x01\x00\x30\x13\x06\x07\x2a\x86\x48\xce\x3d\x02\x01\x06\x08\x2a\x86\x48\xce\x3d\x03\x01\x07\x04",
    b"MIGHAgEAMBMGByqGSM49AgEGCCqGSM49AwEHBG0wawIBAQQg",
];

/// Every command, so that each comes to its work at least once; `#` is another number in each of the two forms.
const WALK: [&str; 83] = [
    "init --title Ferries --passphrase-in pass",
    "app add crossing --package example.gannetpoint.crossing --for direct --for store",
    "app add quay# --package example.gannetpoint.quay# --for direct",
    "app change quay# --title Quayside",
    "app list",
    "app next crossing",
    "keystore create made --app crossing --common-name A --algorithm ec-p256 --password-variable PW",
    "keystore create plain# --common-name A --algorithm rsa-2048",
    "keystore add-key made --alias more# --kind upload --common-name B --algorithm ec-p256",
    "keystore import kiosk.p12 --name kiosk# --password-in came",
    "keystore import kiosk.p12 --name wrong# --password-in pass",
    "keystore change made --alias made --add-app quay#",
    "keystore change plain# --password-in changed",
    "keystore change plain# --new-name fancy#",
    "keystore export made --alias made --to out#.p12",
    "keystore export made --to noted#.p12 --random-password --note-password note#",
    "keystore export made --alias made --to own#.p12 --password-in chosen --properties lasting#",
    "keystore export made --alias made --to certificate#.pem --as certificate-pem",
    "keystore hand-over made --alias made --receiver certificate#.pem --to handed#.pem",
    "keystore password made",
    "keystore retire fancy#",
    "keystore take-out kiosk# --yes",
    "app statement crossing",
    "cabinet status --prove",
    "cabinet history --verify",
    "cabinet pin",
    "cabinet remember --passphrase-in pass",
    "cabinet forget",
    "cabinet unlock-file unlock#",
    "cabinet backup copies#",
    "cabinet adopt copy#",
    "cabinet pieces make --to notep# --of 2 --needed 2",
    "cabinet pieces join notep#/piece-1-of-2.txt notep#/piece-2-of-2.txt --new-unlock-file unlockp#",
    "cabinet members add builder# --may sign --app crossing --to unlockm#",
    "cabinet members list",
    "cabinet members remove builder# --yes",
    "cabinet restore copy# --yes",
    "app add pier# --bundle-id example.gannetpoint.pier# --for store",
    "identity request asked# --kind distribution --algorithm ec-p256",
    "identity accept distribution.cer --chain intermediate.pem",
    "identity accept root.pem",
    "identity import distribution.p12 --password-in ios",
    "identity export distribution-2027 --to identity#.p12 --password-in chosen",
    "identity export distribution-2027 --to noted-identity#.p12 --random-password --note-password note#b",
    "profile import store.mobileprovision",
    "profile export crossing-store-2026 --to profile#.mobileprovision",
    "device add Bridge# --identifier 00008030-000A1B2C3D4E802#",
    "device import devices.csv",
    "device list",
    "device rename bridge1 Helm",
    "apikey import key#.p8 --name uploads# --key-id K# --issuer I",
    "apikey token uploads#",
    "apikey retire uploads#",
    "apikey ask wanted# --of owner --use uploads",
    "apikey import upload --name night# --label nightly --account a@gannetpoint.example",
    "apikey password night#",
    "prepare --app pier# --for store",
    "prepare --app pier# --for store --dry-run",
    "date add Membership# --on 2031-06-01 --every 1y",
    "date list",
    "date done membership#",
    "date remove membership#",
    "timeline",
    "sweep .",
    "report --to page#.html",
    "check --all",
    "board",
    "inventory",
    "show made",
    "inspect out#.p12 --password-in pass",
    "inspect own#.p12 --password-in chosen",
    "compare out#.p12 made --password-in pw",
    "sign build.apk --app crossing --for direct --to signed#",
    "hand-on build.apk --app crossing --for direct --to handed#",
    "check build.apk --app crossing",
    "releases",
    "lend --app crossing --mask -- true",
    "lend --app crossing --explain",
    "explain keys-swapped",
    "help keystore export",
    "completions bash",
    "manual pages#",
    "demo demo#",
];

/// What holds secrets that were made up on the way.
const MADE_UP: [&str; 8] = [
    "note1",
    "note2",
    "note1b",
    "note2b",
    "unlock1",
    "unlock2",
    "notep1/piece-1-of-2.txt",
    "notep2/piece-2-of-2.txt",
];

/// What asks the portal, walked with one that runs.
const WALK_TO_THE_PORTAL: [&str; 26] = [
    // before anything is registered there
    "app change crossing --publish",
    "apikey create tests# --use testers",
    "prepare --app pier# --for store --yes",
    "lend --app pier# --for store --platform ios --mask -- true",
    "give --app pier# --for store --to given# --receiver Shipyard --note-password note#g",
    "given",
    "profile create --app pier# --for devices",
    "profile renew pier#-store-2031",
    "rotate draft asked# --to draft#.toml",
    "rotate carry-out draft#.toml --yes",
    "rotate resume",
    "show rotation-2031-05-19",
    "rotate call-off --yes",
    "identity revoke asked1 --yes",
    "portal take-in",
    "upload build.apk --app crossing",
    "deliveries",
    "app change pier# --package example.gannetpoint.pier# --publish",
    "keystore create deposited# --app pier# --common-name D --algorithm ec-p256",
    "keystore create uploads-of-pier# --app pier# --kind upload --common-name U --algorithm ec-p256",
    "keystore deposit --app pier# --yes",
    "keystore replace-upload --app pier# --key uploads-of-pier# --yes",
    "testers group Crew#",
    "testers invite ana@gannetpoint.example --group Crew#",
    "testers list",
    "testers remove ana@gannetpoint.example --group Crew#",
];

/// Where secrets are for: the files that they came from or were asked into.
fn is_meant(name: &str) -> bool {
    let given = ["pass", "new", "pw", "came", "changed", "chosen", "ios", "upload", "key1.p8", "key2.p8"]
        .contains(&name);
    given
        || name.starts_with("notep")
        || ["note", "lasting", "unlock"]
            .iter()
            .any(|kind| name.strip_prefix(kind).is_some_and(|n| n.len() <= 2))
}

/// Whether a command's answer is a secret.
fn tells(line: &str) -> bool {
    line.starts_with("keystore password") || line.starts_with("apikey password")
}

/// Whether bytes stand in others: there are hundreds of megabytes of them, and tests are compiled as they are.
fn has(bytes: &[u8], secret: &[u8]) -> bool {
    memchr::memmem::find(bytes, secret).is_some()
}

/// A line of a trace in which a secret stands, as text or as the trace spells bytes that are no text.
fn stands_in(line: &str, (spelled, secret): (&str, &[u8])) -> bool {
    let is_text = std::str::from_utf8(secret).is_ok();
    has(line.as_bytes(), spelled.as_bytes()) || (is_text && has(line.as_bytes(), secret))
}

/// Bytes as a trace spells those that are no text.
fn spelled(secret: &[u8]) -> String {
    secret.iter().map(|byte| format!("\\x{byte:02x}")).collect()
}

/// A project with secrets planted in it, what its commands said, and what none of them may say or write.
struct Walk {
    env: TestEnv,
    traced: bool,
    secrets: Vec<(String, Vec<u8>)>,
    heard: Vec<(String, Vec<u8>)>,
}

impl Walk {
    fn begin() -> Self {
        let env =
            TestEnv::new(PROGRAM).variable("PW", "sunken-bell-garnet-56").variable("PATH", "/usr/bin:/bin");
        for (name, (_, text)) in
            ["pass", "new", "pw", "changed", "chosen", "came", "ios", "upload"].iter().zip(PLANTED)
        {
            env.file(name, text.as_bytes());
        }
        env.file("kiosk.p12", &std::fs::read(testkit::data("samples/kiosk-modern.p12")).unwrap());
        for (name, sample) in [
            ("distribution.cer", "distribution.cer"),
            ("distribution.p12", "distribution.p12"),
            ("intermediate.pem", "intermediate.pem"),
            ("root.pem", "root.pem"),
            ("store.mobileprovision", "crossing-store.mobileprovision"),
        ] {
            env.file(name, &std::fs::read(testkit::data("samples/ios").join(sample)).unwrap());
        }
        for number in ["1", "2"] {
            env.file(&format!("key{number}.p8"), &testkit::private_key_pem());
        }
        env.file("devices.csv", b"00008030-000A1B2C3D4E8FFF,Pier\n");
        env.file("build.apk", &testkit::builds::crossing().apk());
        let planted = PLANTED.iter().map(|(what, text)| ((*what).to_owned(), text.as_bytes().to_vec()));
        let heads = KEY_HEADS.iter().map(|head| ("a private key".to_owned(), head.to_vec()));
        let secrets = planted.chain(heads).collect();
        Walk { env, traced: testkit::has("strace", "-V"), secrets, heard: Vec::new() }
    }

    /// Runs a command and gives its exit code.
    fn run(&mut self, line: &str, format: &str) -> i32 {
        let mut words = vec!["--passphrase-in", "pass", "--format", format];
        words.extend(line.split(' '));
        let plain = self.env.command(&words);
        let output = if self.traced { traced(&plain).output() } else { self.env.command(&words).output() };
        let output = output.unwrap();
        // what is asked for is told
        if !tells(line) {
            self.heard.push((format!("{line} ({format})"), [output.stdout, output.stderr].concat()));
        }
        if self.traced {
            self.look_at_the_trace(line);
        }
        output.status.code().unwrap()
    }

    fn look_at_the_trace(&self, line: &str) {
        let trace = String::from_utf8_lossy(&self.env.read("trace")).into_owned();
        std::fs::remove_file(self.env.path("trace")).unwrap();
        assert!(trace.contains("execve("), "nothing was traced of {line}");
        let spellings: Vec<String> = self.secrets.iter().map(|(_, secret)| spelled(secret)).collect();
        for call in trace.lines() {
            let file = call.split_once('<').and_then(|(_, rest)| rest.split_once('>')).map_or("", |(f, _)| f);
            let name = file.rsplit('/').next().unwrap_or("");
            let told = tells(line) && call.contains("write(1<");
            // a file is written under another name, and is renamed
            let asked = ["note", "lasting", "unlock"].iter().any(|kind| line.contains(kind));
            // the demo has an unlock file and a portal of its own
            let of_demo =
                line.starts_with("demo") && ["/private/", "/portal/"].iter().any(|own| file.contains(own));
            if told || of_demo || is_meant(name) || (asked && name.starts_with('.')) {
                continue;
            }
            for ((what, secret), spelled) in self.secrets.iter().zip(&spellings) {
                let stands = stands_in(call, (spelled, secret));
                assert!(
                    !stands,
                    "{what} was written by {line}: {}",
                    call.chars().take(300).collect::<String>()
                );
            }
        }
    }

    /// Takes up what was made up on the way and written where it was wanted.
    fn learn(&mut self, file: &str) {
        let text = String::from_utf8(self.env.read(file)).unwrap();
        let lines = || text.lines().filter(|line| !line.starts_with('#'));
        // a recovery piece is set off from the words around it
        let piece = lines().find(|line| line.starts_with("    ")).map(str::trim);
        let secret = piece.or_else(|| lines().max_by_key(|line| line.len())).unwrap();
        self.secrets.push((format!("what {file} holds"), secret.as_bytes().to_vec()));
    }

    /// Runs a line in both forms; tells whether one of them came to its work.
    fn both(&mut self, line: &str) -> bool {
        // the demo runs what is walked here, in the same way for both
        let forms =
            [("text", "1"), ("json", "2")].into_iter().take(if line.starts_with("demo") { 1 } else { 2 });
        let ends: Vec<i32> =
            forms.map(|(format, number)| self.run(&line.replace('#', number), format)).collect();
        ends.iter().any(|code| *code <= 1)
    }

    /// A portal that runs, known to the project, with the key of its owner in the cabinet.
    fn connect(&mut self) -> Running {
        let portal = start(&self.env, "127.0.0.1:0");
        let project = String::from_utf8(self.env.read("ninekeys.toml")).unwrap();
        let known = format!("portal = \"{}\"\nroots = [\"portal/root.pem\"]\n", portal.address);
        self.env.file("ninekeys.toml", format!("{known}{project}").as_bytes());
        let [file, id, issuer] =
            ["file", "key_id", "issuer"].map(|field| portal.said["first_key"][field].as_str().unwrap());
        let given = format!("--name owner --key-id {id} --issuer {issuer} --role owner --use signing");
        assert!(self.both(&format!("apikey import {file} {given}")));
        portal
    }

    fn nothing_is_out(&self) {
        let files: Vec<_> =
            self.env.files().into_iter().chain(testkit::files_below(self.env.home())).collect();
        for (what, secret) in &self.secrets {
            for (line, said) in &self.heard {
                assert!(!has(said, secret), "{what} was said by {line}");
            }
            for (name, bytes) in &files {
                // the demo leaves keys of its own lying about, to be taken in; the portal is another's place
                let excused = is_meant(name) || ["demo", "portal/"].iter().any(|own| name.starts_with(own));
                assert!(excused || !has(bytes, secret), "{what} stands in {name}");
            }
        }
    }
}

/// The same call under a program that writes down what it writes.
fn traced(plain: &Command) -> Command {
    let calls = "trace=write,pwrite64,writev,pwritev,pwritev2,sendto,sendmsg,execve";
    let mut command = Command::new("strace");
    // it is stopped where it is asked about, and not at every call
    command.args(["-f", "--seccomp-bpf", "-y", "-qq", "-x", "-s", "4000000", "-o", "trace", "-e", calls]);
    command.arg(plain.get_program()).args(plain.get_args()).env_clear();
    command.current_dir(plain.get_current_dir().unwrap());
    command.envs(plain.get_envs().filter_map(|(name, value)| Some((name, value?))));
    command.stdin(Stdio::null());
    command
}

#[test]
fn what_was_planted_is_nowhere_after_any_command_and_in_nothing_that_any_of_them_wrote() {
    let mut walk = Walk::begin();
    let mut worked = 0;
    for line in WALK {
        worked += usize::from(walk.both(line));
        if line.starts_with("cabinet backup") {
            for number in ["1", "2"] {
                let mut copies = std::fs::read_dir(walk.env.path(&format!("copies{number}"))).unwrap();
                let copy = copies.next().unwrap().unwrap().path();
                std::fs::copy(copy, walk.env.path(&format!("copy{number}"))).unwrap();
            }
        }
    }
    // two are wrong on purpose: the import under a wrong password, and the look at a file under one
    assert_eq!(worked, WALK.len() - 2);
    let portal = walk.connect();
    for line in WALK_TO_THE_PORTAL {
        assert!(walk.both(line), "{line}");
    }
    // a release is not upon one path: this build has no testers
    let advance = "advance 12 --to testing";
    assert_eq!(walk.run(advance, "text"), 2);
    assert_eq!(walk.run("deliveries --get 12 --to device.apk", "text"), 2);
    drop(portal);
    let last = ["cabinet passphrase --new-passphrase-in new", "app remove quay1"];
    assert_eq!(last.map(|line| walk.run(line, "text")), [0, 5]);
    MADE_UP.iter().for_each(|file| walk.learn(file));
    walk.nothing_is_out();
    for page in std::fs::read_dir(walk.env.path("pages1")).unwrap() {
        let name = page.unwrap().file_name().into_string().unwrap();
        let command = name.trim_end_matches(".1").split('-').skip(1).collect::<Vec<_>>().join("-");
        let is_noun = [
            "",
            "keystore",
            "cabinet",
            "app",
            "identity",
            "profile",
            "device",
            "apikey",
            "stand-in",
            "stand-in-serve",
        ]
        .contains(&command.as_str());
        let is_it = |line: &str| (0..3).any(|spaces| line.replacen(' ', "-", spaces).starts_with(&command));
        assert!(
            is_noun
                || WALK
                    .iter()
                    .chain(&WALK_TO_THE_PORTAL)
                    .chain(&last)
                    .chain([&advance])
                    .any(|line| is_it(line)),
            "{command} was not walked"
        );
    }
}
