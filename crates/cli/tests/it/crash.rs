//! Killed at any instant: every key that existed is still there, no half-written output bears its name.

use std::process::Stdio;
use std::time::Duration;

use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn a_killed_process_costs_no_key_and_leaves_no_half_output() {
    let env = TestEnv::with_key(PROGRAM);
    // large enough that a kill falls into the writing
    let noise: Vec<u8> = (0..48u32 << 20).map(|at| (at.wrapping_mul(2_654_435_761) >> 24) as u8).collect();
    let build = ninekeys_formats::zip::write::Writer::new()
        .deflated("AndroidManifest.xml", &testkit::builds::crossing_code(13).manifest())
        .stored("assets/film.bin", &noise)
        .finish();
    env.file("large.apk", &build);
    for delay in (0..200).step_by(8) {
        let start = |words: &[&str]| {
            let mut command = env.command(words);
            command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
        };
        let name = format!("k{delay}");
        let mut key = start(&["keystore", "create", &name, "--common-name", "A", "--algorithm", "ec-p256"]);
        let mut sign = start(&["sign", "large.apk", "--to", "out"]);
        std::thread::sleep(Duration::from_millis(delay));
        let _ = (key.kill(), sign.kill());
        let _ = (key.wait(), sign.wait());
        env.run("cabinet status --prove").exit(0).says("every seal opened");
        let output = env.path("out/crossing-2.4.0-13-direct.apk");
        if output.exists() {
            env.run("check out/crossing-2.4.0-13-direct.apk --for direct").exit(0);
            std::fs::remove_file(output).unwrap();
        }
    }
    env.run("sign crossing.apk --to last").exit_any(&[0, 5]);
}

#[test]
fn a_killed_import_export_or_change_costs_no_key_and_leaves_no_half_file() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("keystore export crossing-signing --to kept.p12 --note-password pw").exit(0);
    for delay in (0..160).step_by(10) {
        let start = |line: String| {
            let mut command = env.command(line.split(' '));
            command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
        };
        let mut running = [
            start(format!("keystore import kept.p12 --name copy-{delay} --password-in pw")),
            start("keystore export crossing-signing --to out.p12 --replace --password-in pw".into()),
            start(format!("keystore change crossing-signing --new-alias alias-{delay}")),
        ];
        std::thread::sleep(Duration::from_millis(delay));
        running.iter_mut().for_each(|child| child.kill().unwrap());
        running.iter_mut().for_each(|child| drop(child.wait()));
        env.run("cabinet status --prove").exit(0).says("every seal opened");
        if env.path("out.p12").exists() {
            env.run("inspect out.p12 --password-in pw").exit(0);
            env.run("compare out.p12 crossing-signing --password-in pw").exit(0);
        }
    }
    env.run("sign crossing.apk").exit(0).says("signed with   crossing-signing");
}

#[cfg(unix)]
#[test]
fn an_interrupted_signing_cleans_up_and_says_so() {
    use std::process::Command;
    let env = TestEnv::with_key(PROGRAM);
    let noise: Vec<u8> = (0..96u32 << 20).map(|at| (at.wrapping_mul(2_654_435_761) >> 24) as u8).collect();
    let build = ninekeys_formats::zip::write::Writer::new()
        .deflated("AndroidManifest.xml", &testkit::builds::crossing_code(13).manifest())
        .stored("assets/film.bin", &noise)
        .finish();
    env.file("large.apk", &build);
    let mut stopped = 0;
    for delay in (20..3000).step_by(20) {
        let mut child = env
            .command(["sign", "large.apk", "--to", "out"])
            .stdout(Stdio::null())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        std::thread::sleep(Duration::from_millis(delay));
        assert!(Command::new("kill").args(["-INT", &child.id().to_string()]).status().is_ok());
        let code = child.wait().unwrap().code();
        match code {
            Some(130) => {
                stopped += 1;
                assert!(!env.path("out").exists(), "nothing is left, not even the folder");
            }
            // it came before the long work, which the system ends, or after it
            None | Some(0 | 5) => {
                let _ = std::fs::remove_dir_all(env.path("out"));
            }
            other => panic!("exit {other:?}"),
        }
        if stopped == 3 {
            break;
        }
    }
    assert!(stopped > 0, "no signal fell into the long work");
}

#[test]
fn a_killed_signing_of_an_ipa_or_of_an_apps_folder_leaves_nothing_that_bears_its_name() {
    let env = crate::sign::with_ipa();
    let unpacked = std::process::Command::new("unzip")
        .args(["-q", "crossing.ipa"])
        .current_dir(env.folder())
        .status()
        .unwrap();
    assert!(unpacked.success());
    // large enough that a kill falls into the writing
    let noise: Vec<u8> = (0..12u32 << 20).map(|at| (at.wrapping_mul(2_654_435_761) >> 24) as u8).collect();
    for part in 0..3 {
        let from = part * (4 << 20);
        env.file(&format!("Payload/Crossing.app/film-{part}.bin"), &noise[from..from + (4 << 20)]);
    }
    let packed = std::process::Command::new("python3")
        .args(["-m", "zipfile", "-c", "large.ipa", "Payload/"])
        .current_dir(env.folder())
        .status()
        .unwrap();
    assert!(packed.success());
    let cases = [
        ("Payload/Crossing.app", "crossing-2.4.0-12-store.app"),
        ("large.ipa", "crossing-2.4.0-12-store.ipa"),
    ];
    let begun = std::time::Instant::now();
    env.run("sign Payload/Crossing.app --for store --to timed").exit(0);
    let whole = u64::try_from(begun.elapsed().as_millis()).unwrap();
    let mut interrupted = 0;
    for round in 0..12 {
        let (build, file) = cases[round % 2];
        let words = ["sign", build, "--for", "store", "--to", "out", "--replace"];
        let mut child = env.command(words).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        std::thread::sleep(Duration::from_millis(whole * (round as u64 + 1) / 13));
        let _ = child.kill();
        interrupted += usize::from(!child.wait().unwrap().success());
        env.run("cabinet status --prove").exit(0).says("every seal opened");
        let output = env.path(&format!("out/{file}"));
        if output.exists() {
            env.run(&format!("check out/{file} --for store")).exit(0);
        }
        let left = env.files().into_iter().map(|(name, _)| name);
        let left: Vec<String> = left.filter(|name| name.contains(".ninekeys-")).collect();
        assert!(left.is_empty(), "round {round}: {left:?}");
        let temporary = std::fs::read_dir(env.folder().join("out")).into_iter().flatten().flatten();
        let temporary =
            temporary.filter(|entry| entry.file_name().to_string_lossy().starts_with(".ninekeys-"));
        assert_eq!(temporary.count(), 0, "round {round}");
    }
    assert!(interrupted >= 4, "{interrupted} of 12 were interrupted");
    env.run("sign Payload/Crossing.app --for store --to out --replace").exit(0);
}
