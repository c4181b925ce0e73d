//! Every writing command under every fault: killed at random instants and at each system call that writes, refused by a
//! full disk, run twice and eight times at once, in a read-only place. What is asserted each time stands in
//! [`Place::assert_whole`]. The short run is part of every test run; the long one is
//! `cargo test -p ninekeys --test it -- --ignored --nocapture reliability`, and docs/reliability.md has its figures.

use std::collections::BTreeSet;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::OnceLock;
use std::time::{Duration, Instant};

use crate::PROGRAM;
use ninekeys_core::demo::DemoBuild;
use testkit::{TestEnv, builds};

/// A command that writes.
struct Case {
    name: &'static str,
    /// What has to be there first.
    before: &'static [&'static str],
    /// What has to be there again each time, where it is not; [`FRESH`] for everything as it was at first.
    again: &'static [&'static str],
    /// The command. `N` is a number that is another one each time.
    line: &'static str,
    /// Files that it makes: each is whole or absent. What proves one stands behind it.
    outputs: &'static [(&'static str, &'static str)],
}

/// The whole place as it was before the command: of what can be done once.
const FRESH: &str = "FRESH";

/// The list: a new writing command is a line here.
const CASES: &[Case] = &[
    Case {
        name: "keystore create",
        before: &[],
        again: &[],
        line: "keystore create kN --common-name A --algorithm ec-p256 --app crossing",
        outputs: &[],
    },
    Case {
        name: "keystore add-key",
        before: &[],
        again: &[],
        line: "keystore add-key first --alias aN --common-name A --algorithm ec-p256",
        outputs: &[],
    },
    Case {
        name: "keystore change",
        before: &[],
        again: &[],
        line: "keystore change first --add-app quayside --password-in pass",
        outputs: &[],
    },
    Case {
        name: "keystore import",
        before: &["keystore export first --to in.p12 --note-password in.txt"],
        again: &[],
        line: "keystore import in.p12 --name iN --password-in in.txt",
        outputs: &[],
    },
    Case {
        name: "keystore export",
        before: &[],
        again: &[],
        line: "keystore export first --to out.p12 --note-password out.txt --properties out.properties",
        outputs: &[
            ("out.p12", "compare out.p12 first --password-in own.txt"),
            ("out.txt", ""),
            ("out.properties", ""),
        ],
    },
    Case {
        name: "keystore hand-over",
        before: &[
            "keystore create store --common-name Store --algorithm rsa-2048",
            "keystore export store --to store.pem --as certificate-pem",
        ],
        again: &[],
        line: "keystore hand-over first --receiver store.pem --to out.p7m",
        outputs: &[("out.p7m", "")],
    },
    Case {
        name: "sign",
        before: &[],
        again: &[],
        line: "sign crossing.apk --to out --idsig",
        outputs: &[(
            "out/crossing-2.4.0-12-direct.apk",
            "check out/crossing-2.4.0-12-direct.apk --for direct",
        )],
    },
    Case {
        name: "hand-on",
        before: &["sign crossing.apk --to first"],
        again: &[],
        line: "hand-on first/crossing-2.4.0-12-direct.apk --to aN",
        outputs: &[],
    },
    Case {
        name: "sign several",
        before: &[],
        again: &[],
        line: "sign crossing.apk quayside.apk --key first --to out",
        outputs: &[
            ("out/crossing-2.4.0-12-direct.apk", "check out/crossing-2.4.0-12-direct.apk --for direct"),
            ("out/quayside-0.4.0-4-direct.apk", ""),
        ],
    },
    Case { name: "cabinet backup", before: &[], again: &[], line: "cabinet backup copies/N", outputs: &[] },
    Case {
        name: "cabinet passphrase",
        before: &[],
        again: &[],
        line: "cabinet passphrase --new-passphrase-in pass",
        outputs: &[],
    },
    Case {
        name: "cabinet restore",
        before: &["cabinet backup stick", "keystore create later --common-name A --algorithm ec-p256"],
        again: &[],
        line: "cabinet restore stick/ninekeys-20310519T120000Z.cabinet --yes",
        outputs: &[],
    },
    Case {
        name: "app add",
        before: &[],
        again: &[],
        line: "app add aN --package example.gannetpoint.aN --for direct",
        outputs: &[],
    },
    Case {
        name: "app change",
        before: &[],
        again: &[],
        line: "app change crossing --title aN",
        outputs: &[],
    },
    Case {
        name: "cabinet unlock-file",
        before: &[],
        again: &[],
        line: "cabinet unlock-file uN.txt",
        outputs: &[],
    },
    Case {
        name: "keystore retire",
        before: &[],
        again: &["keystore retire first --back"],
        line: "keystore retire first",
        outputs: &[],
    },
    Case {
        name: "keystore take-out",
        before: &["keystore export first --to in.p12 --note-password in.txt"],
        again: &["keystore import in.p12 --name taken --password-in in.txt"],
        line: "keystore take-out taken --yes",
        outputs: &[],
    },
    Case {
        name: "lend",
        before: &[],
        again: &[],
        line: "lend --app crossing --for direct -- true",
        outputs: &[],
    },
    Case {
        name: "identity request",
        before: &[],
        again: &[],
        line: "identity request iN --kind distribution --algorithm ec-p256 --to iN.csr",
        outputs: &[],
    },
    Case {
        name: "identity accept",
        before: &[],
        again: &[FRESH],
        line: "identity accept in/distribution.cer --chain in/intermediate.pem",
        outputs: &[],
    },
    Case {
        name: "identity import",
        before: &[],
        again: &[FRESH],
        line: "identity import in/distribution.p12 --password-in in/pw",
        outputs: &[],
    },
    Case {
        name: "identity export",
        before: &[
            "identity accept in/intermediate.pem in/root.pem",
            "identity import in/distribution.p12 --password-in in/pw --name gp",
        ],
        again: &[],
        line: "identity export gp --to out.p12 --password-in in/pw --note-password out.txt",
        outputs: &[("out.p12", "compare out.p12 gp --password-in in/pw"), ("out.txt", "")],
    },
    Case {
        name: "profile import",
        before: &[],
        again: &[FRESH],
        line: "profile import in/crossing-store.mobileprovision in/deckhand-devices.mobileprovision",
        outputs: &[],
    },
    Case {
        name: "profile export",
        before: &["profile import in/deckhand-devices.mobileprovision --name rota"],
        again: &[],
        line: "profile export rota --to out.mobileprovision --replace",
        outputs: &[("out.mobileprovision", "")],
    },
    Case {
        name: "device add",
        before: &[],
        again: &[FRESH],
        line: "device add Bridge --identifier 00008030-000A1B2C3D4E802E",
        outputs: &[],
    },
    Case {
        name: "device import",
        before: &[],
        again: &[FRESH],
        line: "device import in/devices.csv",
        outputs: &[],
    },
    Case {
        name: "apikey import",
        before: &[],
        again: &[FRESH],
        line: "apikey import in/key.p8 --name uploads --key-id K1 --issuer I1",
        outputs: &[],
    },
    Case {
        name: "apikey ask",
        before: &[],
        again: &[],
        line: "apikey ask aN --of owner --use uploads",
        outputs: &[],
    },
    Case {
        name: "apikey retire",
        before: &["apikey import in/key.p8 --name uploads --key-id K1 --issuer I1"],
        again: &["apikey retire uploads --back"],
        line: "apikey retire uploads",
        outputs: &[],
    },
    Case {
        name: "cabinet members add",
        before: &[],
        again: &[],
        line: "cabinet members add mN --may sign --app crossing --to mN.txt",
        outputs: &[],
    },
    Case {
        name: "cabinet pieces make",
        before: &[],
        again: &[],
        line: "cabinet pieces make --to pN --of 3 --needed 2",
        outputs: &[],
    },
    Case {
        name: "cabinet pieces join",
        before: &["cabinet pieces make --to pieces --of 2 --needed 2"],
        again: &[],
        line: "cabinet pieces join pieces/piece-1-of-2.txt pieces/piece-2-of-2.txt --new-unlock-file jN.txt",
        outputs: &[],
    },
    Case {
        name: "cabinet members remove",
        before: &["cabinet members add mate --may everything --to mate.txt"],
        again: &[FRESH],
        line: "cabinet members remove mate --yes",
        outputs: &[],
    },
    Case {
        name: "date add",
        before: &[],
        again: &[],
        line: "date add Membership --on 2031-06-01 --every 1y",
        outputs: &[],
    },
    Case { name: "report", before: &[], again: &[], line: "report --to rN.html", outputs: &[] },
    Case {
        name: "sweep --import",
        before: &[],
        again: &[FRESH],
        line: "sweep in/kiosk.p12 in/kiosk.properties --import",
        outputs: &[],
    },
    Case {
        name: "sweep --set-aside",
        before: &["profile import in/deckhand-devices.mobileprovision --name rota"],
        again: &[FRESH],
        line: "sweep in/deckhand-devices.mobileprovision --set-aside away",
        outputs: &[],
    },
    Case {
        name: "rotate draft",
        before: &[UPLOAD_KEY],
        again: &[],
        line: "rotate draft up --to dN.toml",
        outputs: &[],
    },
    Case {
        name: "rotate carry-out",
        before: &[UPLOAD_KEY, "rotate draft up --to d.toml"],
        again: &[FRESH],
        line: "rotate carry-out d.toml --yes",
        outputs: &[],
    },
    Case {
        name: "rotate resume",
        before: &[UPLOAD_KEY, "rotate draft up --to d.toml", "rotate carry-out d.toml --yes"],
        again: &[FRESH],
        line: "rotate resume --done 2",
        outputs: &[],
    },
    Case {
        name: "rotate call-off",
        before: &[UPLOAD_KEY, "rotate draft up --to d.toml", "rotate carry-out d.toml --yes"],
        again: &[FRESH],
        line: "rotate call-off --yes",
        outputs: &[],
    },
    Case {
        name: "device rename",
        before: &["device add Bridge --identifier 00008030-000A1B2C3D4E802E"],
        again: &[],
        line: "device rename bridge aN",
        outputs: &[],
    },
];

/// Something that a rotation replaces.
const UPLOAD_KEY: &str =
    "keystore create up --kind upload --app crossing --common-name A --algorithm ec-p256";

impl Case {
    /// Whether a code says that it was done: what is carried out may wait for a person at its end.
    fn is_done(&self, code: Option<i32>) -> bool {
        // what is swept is found, and may lie where it should not
        let finds = ["rotate", "sweep"].iter().any(|word| self.name.starts_with(word));
        code == Some(0) || code == Some(1) && finds
    }
}

/// Commands that go the way of others here, and are put under every fault in the long run alone.
const LIKE_OTHERS: [&str; 19] = [
    "sweep --import",
    "sweep --set-aside",
    "cabinet pieces join",
    "report",
    "date add",
    "cabinet members add",
    "rotate draft",
    "rotate resume",
    "rotate call-off",
    "app change",
    "keystore retire",
    "device add",
    "identity accept",
    "profile export",
    "device import",
    "device rename",
    "apikey import",
    "apikey ask",
    "apikey retire",
];

/// The commands of the short run.
fn of_every_day() -> impl Iterator<Item = &'static Case> {
    CASES.iter().filter(|case| !LIKE_OTHERS.contains(&case.name))
}

/// Material of the iOS side.
const MATERIAL: [&str; 6] = [
    "distribution.cer",
    "distribution.p12",
    "intermediate.pem",
    "root.pem",
    "crossing-store.mobileprovision",
    "deckhand-devices.mobileprovision",
];

/// A project, and what is known to be in it.
struct Place {
    env: TestEnv,
    /// The fingerprints of keys that were reported.
    keys: BTreeSet<String>,
    number: usize,
    /// The place as it was at first, where a command can be done once.
    first: Option<First>,
}

/// Every file of a place and of its home, and the keys in it.
struct First {
    files: Vec<(String, Vec<u8>)>,
    home: Vec<(String, Vec<u8>)>,
    keys: BTreeSet<String>,
}

/// What every place begins with, made once and written out again for each.
struct Base {
    files: Vec<(String, Vec<u8>)>,
    home: Vec<(String, Vec<u8>)>,
}

fn base() -> &'static Base {
    static BASE: OnceLock<Base> = OnceLock::new();
    BASE.get_or_init(|| {
        let env = TestEnv::with_project(PROGRAM);
        env.file("pass", b"quilted-harbour-anvil");
        env.file("crossing.apk", &builds::crossing().apk());
        let quayside = DemoBuild { debuggable: false, ..builds::quayside_debug() };
        env.file("quayside.apk", &quayside.apk());
        env.run("keystore create first --app crossing --common-name A --algorithm ec-p256").exit(0);
        env.run("keystore export first --to own.p12 --note-password own.txt").exit(0);
        Base { files: env.files(), home: testkit::files_below(env.home()) }
    })
}

/// Writes files out, for their owner alone, as the program makes what is secret.
fn write_out(folder: &Path, files: &[(String, Vec<u8>)]) {
    for (name, bytes) in files {
        let path = folder.join(name);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(&path, bytes).unwrap();
        #[cfg(unix)]
        {
            use std::os::unix::fs::PermissionsExt;
            std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o600)).unwrap();
        }
    }
}

impl Place {
    fn new(case: &Case) -> Self {
        let env = TestEnv::new(PROGRAM);
        write_out(env.folder(), &base().files);
        write_out(env.home(), &base().home);
        for name in
            MATERIAL.iter().filter(|name| case.line.contains("in/") || case.before.concat().contains(**name))
        {
            env.file(&format!("in/{name}"), &std::fs::read(testkit::data("samples/ios").join(name)).unwrap());
        }
        if case.line.contains("kiosk") {
            env.file("in/kiosk.p12", &std::fs::read(testkit::data("samples/kiosk-modern.p12")).unwrap());
            env.file("in/kiosk.properties", b"storePassword=modern-pass-1\n");
        }
        env.file("in/pw", b"pier-pass-1\n");
        env.file("in/key.p8", &testkit::private_key_pem());
        env.file("in/devices.csv", b"00008030-000A1B2C3D4E802E,Bridge\n00008030-000A1B2C3D4E802F,Helm\n");
        case.before
            .iter()
            .for_each(|line| env.run(line).exit_any(&[0, i32::from(line.starts_with("rotate"))]));
        let keys = keys(&env);
        let first = case.again.contains(&FRESH).then(|| First {
            files: env.files(),
            home: testkit::files_below(env.home()),
            keys: keys.clone(),
        });
        Place { env, keys, number: 0, first }
    }

    /// Puts everything back as it was at first, where a command can be done once.
    fn refresh(&mut self) {
        let Some(first) = &self.first else { return };
        for (folder, files) in [(self.env.folder(), &first.files), (self.env.home(), &first.home)] {
            for (name, _) in testkit::files_below(folder) {
                std::fs::remove_file(folder.join(name)).unwrap();
            }
            write_out(folder, files);
        }
        self.keys = first.keys.clone();
    }

    fn command(&mut self, case: &Case) -> Vec<String> {
        self.number += 1;
        for line in case.again.iter().filter(|line| **line != FRESH) {
            // where it is still so, it refuses
            self.env.run(line).exit_any(&[0, 5]);
        }
        let number = self.number.to_string();
        let word = |word: &str| match word {
            "N" => number.clone(),
            word => word
                .replace("kN", &format!("k{number}"))
                .replace("aN", &format!("a{number}"))
                .replace("uN", &format!("u{number}"))
                .replace("iN", &format!("i{number}"))
                .replace("jN", &format!("j{number}"))
                .replace("mN", &format!("m{number}"))
                .replace("pN", &format!("p{number}"))
                .replace("/N", &format!("/{number}")),
        };
        case.line.split(' ').map(word).collect()
    }

    fn start(&mut self, case: &Case) -> Child {
        let words = self.command(case);
        let mut command = self.env.command(words);
        command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
    }

    /// Every key that was there still is, every seal opens, every output is whole or absent, nothing that was begun is
    /// left. A restore gives up what came after its copy, and sets it aside: there every key is in one of the two.
    fn assert_whole(&mut self, case: &Case, what: &str) {
        let env = &self.env;
        env.run("cabinet status --prove").exit(0).says("every seal opened");
        let mut now = keys(env);
        for entry in std::fs::read_dir(env.folder()).unwrap().flatten() {
            let name = entry.file_name().to_string_lossy().into_owned();
            // a copy that a kill left half-way is none
            if name.starts_with("ninekeys.cabinet.replaced") {
                let aside =
                    env.run(&format!("inventory --format json --cabinet {name}")).exit_any_json(&[0, 3]);
                now.extend(aside.iter().flat_map(fingerprints));
            }
        }
        let lost: Vec<&String> = self.keys.difference(&now).collect();
        assert!(lost.is_empty(), "{} {what}: lost {lost:?}", case.name);
        self.keys = now;
        for (output, proof) in case.outputs {
            if env.path(output).exists() && !proof.is_empty() {
                env.run(proof).exit(0);
            }
        }
        env.run("app list-nothing").exit(2);
        let left: Vec<String> = env
            .files()
            .into_iter()
            .map(|(name, _)| name)
            .filter(|name| name.contains(".ninekeys-"))
            .collect();
        assert!(left.is_empty(), "{} {what}: left behind {left:?}", case.name);
        // what was begun is ended by the next command that unlocks, and the outputs go, so that the next can be made
        env.run("keystore change first --alias first --new-alias first").exit(0);
        let status = env.run("cabinet status --format json").exit(0).json();
        assert_eq!(status["open"].as_array().unwrap().len(), 0, "{} {what}: {}", case.name, status["open"]);
        let notes = env.home().join(".local/state/ninekeys/outgoing");
        let notes = std::fs::read_dir(notes).map_or(0, Iterator::count);
        assert_eq!(notes, 0, "{} {what}: notes of what was begun are left", case.name);
        for (output, _) in case.outputs {
            let _ = std::fs::remove_file(env.path(output));
            let _ = std::fs::remove_file(env.path(&format!("{output}.idsig")));
        }
    }
}

/// The fingerprints of all keys, by name of their keystore and alias.
fn keys(env: &TestEnv) -> BTreeSet<String> {
    fingerprints(&env.run("inventory --format json").exit(0).json())
}

fn fingerprints(inventory: &serde_json::Value) -> BTreeSet<String> {
    let items = inventory["items"].as_array().unwrap();
    items.iter().filter_map(|item| item["sha256"].as_str()).map(ToOwned::to_owned).collect()
}

/// How long the command takes when nothing disturbs it.
fn usual(place: &mut Place, case: &Case) -> Duration {
    let mut child = place.start(case);
    // what has to be there first is no part of it
    let begun = Instant::now();
    assert!(case.is_done(child.wait().unwrap().code()), "{}", case.name);
    let took = begun.elapsed();
    place.assert_whole(case, "undisturbed");
    took
}

/// Kills at evenly spread instants. Tells how many kills fell into the work, and not behind it.
fn killed_at_instants(case: &Case, kills: u32) -> u32 {
    let mut place = Place::new(case);
    let took = usual(&mut place, case);
    let mut inside = 0;
    for kill in 0..kills {
        place.refresh();
        let mut child = place.start(case);
        std::thread::sleep(took * kill / kills);
        child.kill().unwrap();
        inside += u32::from(child.wait().unwrap().code().is_none());
        place.assert_whole(case, &format!("killed at {kill}/{kills}"));
    }
    inside
}

#[test]
fn killed_at_any_instant_nothing_is_lost_and_nothing_half_is_left() {
    let mut inside = 0;
    for case in of_every_day() {
        inside += killed_at_instants(case, 3);
    }
    assert!(inside >= 24, "only {inside} kills fell into the work");
}

/// Runs a command where no file may grow beyond so many KiB.
#[cfg(unix)]
pub(crate) fn with_room(env: &TestEnv, blocks: u32, words: &[String]) -> std::process::Output {
    let limited = format!("trap '' XFSZ; ulimit -f {blocks}; exec \"$0\" \"$@\"");
    let mut command = env.command(["-c", &limited, PROGRAM]);
    command.args(words);
    let mut shell = Command::new("bash");
    shell.args(command.get_args()).current_dir(env.folder()).env_clear();
    shell.envs(command.get_envs().filter_map(|(name, value)| Some((name, value?))));
    shell.stdin(Stdio::null()).output().unwrap()
}

/// A disk that is full at these sizes of a file, in KiB: what is said to be unchanged is, and every key is there. Tells how often
/// the command was refused.
#[cfg(unix)]
fn full_disk(case: &Case, sizes: impl Iterator<Item = u32>) -> usize {
    let mut place = Place::new(case);
    let mut refused = 0;
    for blocks in sizes {
        place.refresh();
        let words = place.command(case);
        let before = place.env.files();
        let output = with_room(&place.env, blocks, &words);
        let said = String::from_utf8_lossy(&output.stderr).into_owned();
        let code = output.status.code();
        assert!(
            case.is_done(code) || matches!(code, Some(3 | 5)),
            "{} at {blocks} blocks: {code:?} {said}",
            case.name
        );
        refused += usize::from(!case.is_done(code));
        if code != Some(0) && said.contains("changed   nothing") {
            let after = place.env.files();
            // a limit below the cabinet's size leaves it no room to go back in: the next to open it does
            let journal = |(name, _): &&(String, Vec<u8>)| name != "ninekeys.cabinet-journal";
            let after: Vec<&(String, Vec<u8>)> = after.iter().filter(journal).collect();
            let other: Vec<&String> =
                before.iter().zip(&after).filter(|(a, b)| a != *b).map(|((n, _), _)| n).collect();
            let grew = after.len() != before.len();
            // the cabinet may have the rows of what was begun and taken back
            let only_rows = other.iter().all(|name| *name == "ninekeys.cabinet");
            assert!(only_rows && !grew, "{} at {blocks} blocks changed {other:?}: {said}", case.name);
        }
        place.assert_whole(case, &format!("with {blocks} blocks of disk"));
    }
    refused
}

#[cfg(unix)]
#[test]
fn a_full_disk_at_any_size_changes_nothing_or_all() {
    for case in of_every_day().filter(|case| case.name != "lend") {
        full_disk(case, [0, 8, 40].into_iter());
    }
}

#[cfg(unix)]
#[test]
#[ignore = "minutes: every writing command, with room for four KiB more each time"]
fn a_full_disk_at_every_size_changes_nothing_or_all() {
    let only = std::env::var("ONLY").unwrap_or_default();
    let mut all = 0;
    for case in CASES.iter().filter(|case| case.name.starts_with(&only) && case.name != "lend") {
        let (sizes, many) = ((0..240).step_by(4), 60);
        let refused = full_disk(case, sizes);
        println!("{:24} refused at {refused} of {many} sizes: nothing lost, what was said is so", case.name);
        all += refused;
    }
    println!("{:24} refused at {all} sizes", "all");
    assert!(all > 0);
}

#[test]
fn four_at_once_lose_nothing() {
    for case in of_every_day() {
        at_once(&mut Place::new(case), case, 4);
    }
}

/// Does a command so many times at once.
fn at_once(place: &mut Place, case: &Case, many: usize) {
    place.refresh();
    let mut children: Vec<Child> = (0..many).map(|_| place.start(case)).collect();
    let codes: Vec<Option<i32>> = children.iter_mut().map(|child| child.wait().unwrap().code()).collect();
    let done = codes.iter().filter(|code| case.is_done(**code)).count();
    assert!(done >= 1, "{}: {codes:?}", case.name);
    // each has names of its own but for what has one name: there the second is refused
    let one_name = ["keystore export", "keystore hand-over", "sign", "sign several", "identity export"]
        .contains(&case.name);
    // of two sets of pieces one would open nothing: the second is not made
    let one_set = case.name == "cabinet pieces make";
    let passphrase = case.name == "cabinet passphrase";
    // what one of them took out or retired is gone or retired for the next
    let once = !case.again.is_empty();
    let allowed = |code: &Option<i32>| match code {
        code if case.is_done(*code) => true,
        Some(5) => one_name || one_set || once,
        Some(2) => once,
        _ => false,
    };
    assert!(codes.iter().all(allowed) || passphrase, "{}: {codes:?}", case.name);
    place.assert_whole(case, &format!("{many} at once"));
}

/// What looks, as often as it can for this long.
fn beside_writers(seconds: u64) {
    const LOOKS: [&str; 9] = [
        "inventory --format json",
        "board",
        "show first",
        "cabinet status --prove",
        "cabinet history --verify",
        "cabinet pin",
        "inspect ninekeys.cabinet",
        "check crossing.apk --for direct",
        "lend --app crossing --for direct --explain",
    ];
    const WRITERS: [&str; 6] = [
        "keystore change first --alias first --new-alias first",
        "keystore create kN --common-name A --algorithm ec-p256",
        "sign crossing.apk --for direct --to oN",
        "app change crossing --title aN",
        "cabinet backup cN",
        "cabinet unlock-file uN.txt",
    ];
    let place = Place::new(&CASES[0]);
    let env = &place.env;
    let until = Instant::now() + Duration::from_secs(seconds);
    let each = |line: &str, allowed: &[i32]| {
        let mut times = 0;
        while Instant::now() < until {
            times += 1;
            env.run(&line.replace('N', &times.to_string())).exit_any(allowed);
        }
        assert!(times > 0, "{line} was never run");
    };
    std::thread::scope(|scope| {
        // what ends with 1 was looked at, and something about it is wrong
        LOOKS.iter().for_each(|line| drop(scope.spawn(|| each(line, &[0, 1]))));
        WRITERS.iter().for_each(|line| drop(scope.spawn(|| each(line, &[0]))));
    });
    env.run("cabinet status --prove").exit(0).says("every seal opened");
}

#[test]
fn what_looks_is_right_beside_everything_that_writes() {
    beside_writers(5);
}

#[test]
#[ignore = "two minutes"]
fn what_looks_is_right_for_two_minutes() {
    beside_writers(120);
}

#[test]
fn two_commands_on_one_keystore_lose_no_key() {
    let env = TestEnv::with_key(PROGRAM);
    let mut made = 1;
    for round in 0..8 {
        let start = |line: String| {
            let mut command = env.command(line.split(' '));
            command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
        };
        let add =
            format!("keystore add-key crossing-signing --alias a{round} --common-name A --algorithm ec-p256");
        let change = "keystore change crossing-signing --add-app quayside".to_owned();
        let mut both = [start(add), start(change)];
        let codes: Vec<Option<i32>> = both.iter_mut().map(|child| child.wait().unwrap().code()).collect();
        made += usize::from(codes[0] == Some(0));
        assert_eq!(codes[0], Some(0), "{codes:?}");
    }
    let inventory = env.run("inventory --format json").exit(0).json();
    assert_eq!(inventory["items"].as_array().unwrap().len(), made, "every key that was reported is there");
}

/// Eight processes at once on one cabinet, until so many operations are done: what each reported is there, once, in a history that
/// holds.
fn eight_at_once(operations: usize) {
    const EACH: [&str; 4] = [
        "keystore create NAME --common-name A --algorithm ec-p256",
        "date add NAME --on 2031-06-01",
        "device add NAME --identifier NUMBER",
        "app add NAME --package example.gannetpoint.NAME --for direct",
    ];
    let env = TestEnv::with_project(PROGRAM);
    let rows = |env: &TestEnv| {
        let history = env.run("cabinet history --verify --format json").exit(0).json();
        history["rows"].as_array().unwrap().len()
    };
    let before = rows(&env);
    std::thread::scope(|scope| {
        for process in 0..8 {
            let env = &env;
            scope.spawn(move || {
                for number in (process..operations).step_by(8) {
                    let line = EACH[number % EACH.len()].replace("NAME", &format!("n{number}"));
                    env.run(&line.replace("NUMBER", &format!("00008030-{number:016X}"))).exit(0);
                }
            });
        }
    });
    let inventory = env.run("inventory --format json").exit(0).json();
    let names: Vec<&str> =
        inventory["items"].as_array().unwrap().iter().filter_map(|item| item["name"].as_str()).collect();
    let project = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    let mut apps = 0;
    for number in 0..operations {
        let name = format!("n{number}");
        let times = match number % EACH.len() {
            3 => {
                apps += 1;
                project.matches(&format!("[app.{name}]\n")).count()
            }
            _ => names.iter().filter(|known| **known == name).count(),
        };
        assert_eq!(times, 1, "{name} was reported once");
    }
    assert_eq!(
        rows(&env),
        before + operations - apps,
        "one row for each change of the cabinet, and no other"
    );
    env.run("cabinet status --prove").exit(0).says("every seal opened");
}

#[test]
fn eight_processes_at_once_lose_nothing_and_do_nothing_twice() {
    eight_at_once(64);
}

#[test]
#[ignore = "a minute or two"]
fn a_thousand_operations_of_eight_processes() {
    eight_at_once(1000);
}

#[test]
fn eight_apps_added_at_once_are_eight_apps() {
    let env = TestEnv::with_project(PROGRAM);
    let start = |number: usize| {
        let line = format!("app add a{number} --package example.gannetpoint.a{number} --for direct");
        let mut command = env.command(line.split(' '));
        command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
    };
    let mut all: Vec<Child> = (0..8).map(start).collect();
    assert!(all.iter_mut().all(|child| child.wait().unwrap().success()));
    let text = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    for number in 0..8 {
        assert!(
            text.contains(&format!("[app.a{number}]")),
            "a{number} was reported and is not there:\n{text}"
        );
    }
}

/// Puts a read-only disk with the project on it; nothing where this user cannot.
#[cfg(target_os = "linux")]
fn on_a_read_only_disk(env: &TestEnv, run: impl FnOnce(&Path)) -> bool {
    let disk = env.path("disk");
    std::fs::create_dir(&disk).unwrap();
    let mounted = |words: &[&str]| {
        let done = Command::new("mount").args(words).arg(&disk).output();
        done.is_ok_and(|output| output.status.success())
    };
    if !mounted(&["-t", "tmpfs", "-o", "size=16m", "tmpfs"]) {
        eprintln!("SKIPPED: this user cannot mount a disk");
        return false;
    }
    for entry in std::fs::read_dir(env.folder()).unwrap().flatten().filter(|entry| entry.path() != disk) {
        assert!(Command::new("cp").arg("-r").arg(entry.path()).arg(&disk).status().unwrap().success());
    }
    assert!(mounted(&["-o", "remount,ro"]));
    run(&disk);
    assert!(Command::new("umount").arg(&disk).status().unwrap().success());
    true
}

#[cfg(target_os = "linux")]
#[test]
fn everything_can_be_looked_at_on_a_read_only_disk_and_nothing_is_written() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("sign crossing.apk --to signed").exit(0);
    on_a_read_only_disk(&env, |disk| {
        let run = |line: &str, code: i32| {
            let mut command = env.command(line.split(' '));
            let output = command.current_dir(disk).output().unwrap();
            let said = String::from_utf8_lossy(&output.stderr).into_owned();
            assert_eq!(output.status.code(), Some(code), "{line}: {said}");
            said
        };
        let export = format!(
            "keystore export crossing-signing --as certificate-pem --to {}",
            env.path("c.pem").display()
        );
        for line in [
            "board",
            "inventory",
            "show crossing-signing",
            "check crossing.apk --for direct",
            "releases",
            "cabinet status",
            "cabinet status --prove",
            "cabinet history --verify",
            "inspect crossing.apk",
            &export,
        ] {
            // the unsigned build has findings
            run(line, i32::from(line.starts_with("check")));
        }
        let said = run("keystore create x --common-name A --algorithm ec-p256", 3);
        assert!(said.contains("read-only") && said.contains("changed   nothing"), "{said}");
    });
}

#[cfg(target_os = "linux")]
#[test]
fn in_a_read_only_place_every_writing_command_says_so_and_changes_nothing() {
    for case in CASES {
        let mut place = Place::new(case);
        let words = place.command(case);
        let env = &place.env;
        on_a_read_only_disk(env, |disk| {
            let output = env.command(&words).current_dir(disk).output().unwrap();
            let said = String::from_utf8_lossy(&output.stderr).into_owned();
            assert_eq!(output.status.code(), Some(3), "{}: {said}", case.name);
            assert!(said.contains("changed   nothing"), "{}: {said}", case.name);
            assert!(said.contains("read-only"), "{}: {said}", case.name);
        });
        place.assert_whole(case, "in a read-only place");
    }
}

#[cfg(target_os = "linux")]
#[test]
fn a_change_that_was_cut_off_is_looked_at_on_a_read_only_disk_without_writing() {
    let env = TestEnv::with_key(PROGRAM);
    // a journal that has to be rolled back: a kill between the first page that was written and the last
    let journal = env.path("ninekeys.cabinet-journal");
    let mut found = false;
    for delay in 0..400 {
        let name = format!("k{delay}");
        let words = ["keystore", "create", &name, "--common-name", "A", "--algorithm", "ec-p256"];
        let Some(was_killed) = env.killed_at("fdatasync,fsync", delay + 1, words) else {
            return eprintln!("SKIPPED: there is no strace on this machine");
        };
        if std::fs::read(&journal).is_ok_and(|bytes| bytes.first() == Some(&0xd9)) {
            found = true;
            break;
        }
        if !was_killed {
            break;
        }
    }
    assert!(found, "no kill left a journal");
    let before = (env.read("ninekeys.cabinet"), env.read("ninekeys.cabinet-journal"));
    let ran = on_a_read_only_disk(&env, |disk| {
        let output = env.command(["inventory"]).current_dir(disk).output().unwrap();
        let said = String::from_utf8_lossy(&output.stdout).into_owned();
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        assert!(said.contains("crossing-signing"), "{said}");
        let after = ["ninekeys.cabinet", "ninekeys.cabinet-journal"]
            .map(|name| std::fs::read(disk.join(name)).unwrap());
        assert!((&after[0], &after[1]) == (&before.0, &before.1), "nothing of it was written");
    });
    if ran {
        env.run("inventory").exit(0).says("crossing-signing");
        assert!(!journal.exists(), "where it can be written, the change is taken back");
    }
}

/// The system calls by which a command changes what is on the disk.
#[cfg(target_os = "linux")]
const CALLS: &str = "write,pwrite64,ftruncate,fallocate,fsync,fdatasync,rename,renameat,renameat2,link,linkat,unlink,\
                     unlinkat,rmdir,mkdir,mkdirat";

/// Kills at each system call that writes, one run a call: `strace` counts each kind of call by itself.
#[cfg(target_os = "linux")]
fn killed_at_calls(case: &Case, step: usize, most: usize) -> Option<usize> {
    let mut place = Place::new(case);
    let mut kills = 0;
    for kind in CALLS.split(',') {
        for call in (1..=most).step_by(step) {
            if matches!(case.name, "cabinet passphrase" | "cabinet restore" | "cabinet pieces make") {
                // the file is written anew, and each row of members makes it longer: the last call would never be reached
                place = Place::new(case);
            }
            place.refresh();
            let words = place.command(case);
            let was_killed = place.env.killed_at(kind, call, &words)?;
            place.assert_whole(case, &format!("killed at {kind} {call}"));
            if !was_killed {
                break;
            }
            kills += 1;
        }
    }
    Some(kills)
}

#[cfg(target_os = "linux")]
#[test]
fn killed_at_calls_that_write_nothing_is_lost() {
    let mut all = 0;
    for case in CASES.iter().filter(|case| matches!(case.name, "keystore export" | "cabinet restore")) {
        let Some(kills) = killed_at_calls(case, 20, 60) else {
            return eprintln!("SKIPPED: there is no strace on this machine");
        };
        all += kills;
    }
    assert!(all >= 4, "only {all} kills fell into the work");
}

/// What a command changes, but for rows of the history that say that nothing came of it.
#[cfg(target_os = "linux")]
fn standing(env: &TestEnv) -> (Vec<(String, Vec<u8>)>, Vec<serde_json::Value>) {
    let files = env.files().into_iter().filter(|(name, _)| !name.starts_with("ninekeys.cabinet"));
    let items = env.run("inventory --format json").exit(0).json()["items"].clone();
    let status = env.run("cabinet status --format json").exit(0).json();
    let told = ["members", "last_backup", "off_site"].map(|field| status[field].clone());
    (files.collect(), [items].into_iter().chain(told).collect())
}

/// Lets every call fail by which something would last, one run a call: where it is said that nothing changed, nothing did. Tells
/// how often it was said, and how often that something did all the same.
#[cfg(target_os = "linux")]
fn failing_at_calls(case: &Case, most: usize) -> Option<[usize; 2]> {
    let mut place = Place::new(case);
    let mut said = [0; 2];
    // of the others no command has as many
    for (kind, most) in [("fsync", most), ("fdatasync", most / 2), ("renameat2", most / 3)] {
        for call in 1..=most {
            place.refresh();
            let words = place.command(case);
            let before = standing(&place.env);
            let (code, error) = place.env.failing_at((kind, "EIO"), call, &words)?;
            let what = format!("{} with a failing {kind} {call}: {error}", case.name);
            if error.contains("changed   nothing\n") {
                // what was cut off is brought to its end by the next start
                place.env.run("inventory").exit(0);
                let after = standing(&place.env);
                let names = |state: &(Vec<(String, Vec<u8>)>, _)| {
                    state.0.iter().map(|(name, _)| name.clone()).collect::<Vec<_>>()
                };
                assert!(
                    after == before,
                    "{what}\n{:?}\n{:?}\n{:?}\n{:?}",
                    names(&before),
                    names(&after),
                    before.1,
                    after.1
                );
                said[0] += 1;
            } else if !case.is_done(code) {
                assert!(error.contains("  changed   "), "{what}");
                said[1] += 1;
            }
            place.assert_whole(case, &what);
        }
    }
    Some(said)
}

#[cfg(target_os = "linux")]
#[test]
fn where_nothing_is_said_to_have_changed_nothing_did() {
    let mut all = [0; 2];
    let those = ["app add", "cabinet backup", "cabinet passphrase", "cabinet members add"];
    for case in CASES.iter().filter(|case| those.contains(&case.name)) {
        let Some(said) = failing_at_calls(case, 7) else {
            return eprintln!("SKIPPED: there is no strace on this machine");
        };
        all.iter_mut().zip(said).for_each(|(all, said)| *all += said);
    }
    println!("{} times nothing, {} times something", all[0], all[1]);
    assert!(all[0] > 10 && all[1] > 2, "{all:?}");
}

#[cfg(target_os = "linux")]
#[test]
fn where_the_last_row_fails_nothing_of_the_old_build_lies_beside_the_new_one() {
    let env = TestEnv::with_key(PROGRAM);
    env.file("crossing.apk", &builds::crossing().apk());
    let words = ["sign", "crossing.apk", "--for", "direct", "--replace"];
    let tree = |env: &TestEnv| env.files().iter().any(|(name, _)| name.ends_with(".idsig"));
    let mut stood = 0;
    for call in 3..=10 {
        env.run("sign crossing.apk --for direct --replace --idsig").exit(0);
        let Some((code, said)) = env.failing_at(("fsync,fdatasync", "EIO"), call, words) else {
            return eprintln!("SKIPPED: there is no strace on this machine");
        };
        let stands = code == Some(0) || said.contains("the files are where they were to go");
        assert_eq!(tree(&env), !stands, "{call}: {said}");
        if stands && code != Some(0) {
            assert!(said.contains("what had the name before is now"), "{call}: {said}");
            stood += 1;
        }
    }
    assert!(stood > 0, "no last row failed");
}

/// After kills all over a command, every key in a copy of what is there signs.
#[cfg(target_os = "linux")]
fn every_key_signs(case: &Case) {
    let mut place = Place::new(case);
    for kill in 0..5 {
        place.refresh();
        let mut child = place.start(case);
        std::thread::sleep(Duration::from_millis(10 * kill));
        child.kill().unwrap();
        child.wait().unwrap();
        place.assert_whole(case, "killed before a drill");
    }
    place.env.run("cabinet backup drilled").exit(0);
    place.env.run("cabinet backup --drill").exit(0).says("signed a probe that holds");
}

#[cfg(target_os = "linux")]
#[test]
#[ignore = "minutes: every writing command, two and eight times at once, killed at every call that writes and at many instants"]
fn long_run_of_every_fault() {
    let (mut calls, mut instants) = (0, 0);
    // `ONLY=sign`: the commands whose names begin so
    let only = std::env::var("ONLY").unwrap_or_default();
    for case in CASES.iter().filter(|case| case.name.starts_with(&only)) {
        let mut place = Place::new(case);
        [2, 8].into_iter().for_each(|many| at_once(&mut place, case, many));
        let at_calls = killed_at_calls(case, 1, 400).unwrap_or(0);
        let at_instants = killed_at_instants(case, 20);
        let [nothing, something] = failing_at_calls(case, 16).unwrap_or_default();
        println!("{:20} said {nothing} times that nothing changed, {something} times what did", case.name);
        every_key_signs(case);
        println!("{:20} killed at {at_calls} calls and {at_instants} instants: nothing lost", case.name);
        calls += at_calls;
        instants += at_instants;
    }
    println!("{:20} killed at {calls} calls and {instants} instants: nothing lost", "all");
    assert!(!only.is_empty() || (calls > 100 && instants > 60));
}
