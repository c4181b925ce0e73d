//! Whatever comes in: one clear error with cause and remedy, the right exit code, every file as it was.

use std::process::Command;

use crate::PROGRAM;
use testkit::{TestEnv, builds};

#[test]
fn malformed_builds_are_findings_when_they_open_and_damaged_when_they_do_not() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("sign crossing.apk --to signed").exit(0);
    let lying = builds::lying_block(&env.read("signed/crossing-2.4.0-12-direct.apk"));
    let mut cases = builds::malformed();
    cases.push(("lying-block", lying, true));
    for (name, bytes, opens) in cases {
        let file = format!("{name}.apk");
        env.file(&file, &bytes);
        let before = env.files();
        let check = env.run(&format!("check {file}")).exit(if opens { 1 } else { 3 });
        if opens {
            check.says("archive-malformed");
        } else {
            check.says(&format!("ninekeys: cannot check {file}")).says("because").says("changed   nothing");
        }
        // a lying block is part of the old signature, and goes with it when the rest is whole
        let sign = env.run(&format!("sign {file} --to out")).exit(3);
        sign.says(&format!("ninekeys: cannot sign {file}")).says("changed   nothing");
        env.run(&format!("inspect {file}")).exit_any(&[0, 3]);
        assert_eq!(env.files(), before, "{name}: every file is as it was");
        assert!(!env.path("out").exists(), "{name}");
    }
}

#[test]
fn a_folder_in_place_of_a_file_says_so() {
    let env = TestEnv::with_key(PROGRAM);
    std::fs::create_dir(env.path("folder.apk")).unwrap();
    for command in ["check", "sign", "inspect"] {
        env.run(&format!("{command} folder.apk")).exit(3).says("it is a folder");
    }
    #[cfg(unix)]
    if testkit::has("mkfifo", "--version") {
        assert!(Command::new("mkfifo").arg(env.path("pipe")).status().unwrap().success());
        env.run("check pipe").exit(3).says("it is not a regular file");
    }
    env.run("check missing.apk").exit(3).says("there is no such file");
    env.file("file", b"x");
    env.run("sign crossing.apk --to file").exit(3).says("file");
    env.run("cabinet backup file").exit(3).says("is not a folder");
}

#[test]
fn a_cabinet_that_is_not_a_cabinet_says_so_and_stays() {
    let env = TestEnv::with_project(PROGRAM);
    for bytes in [b"not a database, but a letter to the harbour master".repeat(40), Vec::new()] {
        env.file("odd.cabinet", &bytes);
        let _ = env.run("inventory --cabinet odd.cabinet").exit(3).says("the file is not a cabinet");
        assert_eq!(env.read("odd.cabinet"), bytes);
    }
    env.run("inventory --cabinet none.cabinet").exit(3).says("there is no cabinet at this place");
    assert!(!env.path("none.cabinet").exists());
    env.run("inventory --cabinet .").exit(3).says("the file is not a cabinet");
}

#[test]
fn a_locked_cabinet_in_a_script_names_the_way_in() {
    let env = TestEnv::with_key(PROGRAM);
    std::fs::rename(env.path("unlock.txt"), env.path("elsewhere.txt")).unwrap();
    env.run("sign crossing.apk").exit(4).says("is locked").says("--passphrase-in FILE");
    env.run("sign crossing.apk --unlock-file elsewhere.txt").exit(0);
    env.file("empty.txt", b"");
    env.run("sign crossing.apk --to b --unlock-file empty.txt")
        .exit(3)
        .says("not an unlock file of this tool");
    env.run("sign crossing.apk --to b --unlock-file none.txt").exit(3).says("there is no such file");
    // facts need no unlocking
    env.run("inventory").exit(0);
    env.run("board").exit(0);
}

#[cfg(unix)]
#[test]
fn without_permission_nothing_is_read_or_written() {
    use std::os::unix::fs::PermissionsExt;
    use std::os::unix::process::CommandExt;
    let env = TestEnv::with_key(PROGRAM);
    let set = |name: &str, mode: u32| {
        std::fs::set_permissions(env.path(name), std::fs::Permissions::from_mode(mode)).unwrap();
    };
    let is_root = Command::new("id").arg("-u").output().is_ok_and(|o| o.stdout == b"0\n");
    let run = |words: &[&str]| {
        let mut command = env.command(words);
        if is_root {
            // root may do anything: become nobody
            command.uid(65_534).gid(65_534);
        }
        command.output()
    };
    set(".", 0o755);
    set("crossing.apk", 0o000);
    let Ok(output) = run(&["check", "crossing.apk"]) else {
        eprintln!("skipped: another user cannot run the program where it was built");
        return;
    };
    let said = String::from_utf8_lossy(&output.stderr);
    assert_eq!(output.status.code(), Some(3), "{said}");
    assert!(said.contains("you have no permission"), "{said}");
    if is_root {
        set("crossing.apk", 0o644);
        let output = run(&["keystore", "create", "x", "--common-name", "A"]).unwrap();
        let said = String::from_utf8_lossy(&output.stderr);
        assert_eq!(output.status.code(), Some(3), "another's cabinet: {said}");
    }
}

#[cfg(target_os = "linux")]
#[test]
fn a_full_disk_leaves_no_half_written_output() {
    let env = TestEnv::with_key(PROGRAM);
    std::fs::create_dir(env.path("full")).unwrap();
    let mount =
        Command::new("mount").args(["-t", "tmpfs", "-o", "size=12k", "tmpfs"]).arg(env.path("full")).output();
    if !mount.is_ok_and(|output| output.status.success()) {
        eprintln!("skipped: this user cannot mount a small disk");
        return;
    }
    let sign = env.command(["sign", "crossing.apk", "--to", "full"]).output().unwrap();
    let backup = env.command(["cabinet", "backup", "full"]).output().unwrap();
    let left = std::fs::read_dir(env.path("full")).unwrap().count();
    assert!(Command::new("umount").arg(env.path("full")).status().unwrap().success());
    let said = String::from_utf8_lossy(&sign.stderr).into_owned();
    assert_eq!(sign.status.code(), Some(3), "{said}");
    assert!(said.contains("the disk is full"), "{said}");
    let said = String::from_utf8_lossy(&backup.stderr).into_owned();
    assert_eq!(backup.status.code(), Some(3), "{said}");
    assert_eq!(left, 0, "nothing is left on the full disk");
    let ledger = env.run("releases --format json").exit(0).json();
    assert_eq!(ledger["releases"].as_array().unwrap().len(), 0);
    env.run("cabinet status --prove").exit(0).says("backup        none");
}

#[cfg(target_os = "linux")]
#[test]
fn a_full_stdout_is_an_error_and_a_closed_one_a_quiet_end() {
    let env = TestEnv::with_key(PROGRAM);
    let full = std::fs::OpenOptions::new().write(true).open("/dev/full").unwrap();
    let output = env.command(["inventory"]).stdout(full).output().unwrap();
    assert_eq!(output.status.code(), Some(3), "{}", String::from_utf8_lossy(&output.stderr));
    let mut child = env.command(["explain"]).stdout(std::process::Stdio::piped()).spawn().unwrap();
    drop(child.stdout.take());
    assert_eq!(child.wait().unwrap().code(), Some(0));
}

#[test]
fn names_out_of_files_cannot_steer_the_terminal() {
    let env = TestEnv::new(PROGRAM);
    let evil = "classes\u{1b}[2J.dex";
    let bytes = ninekeys_formats::zip::write::Writer::new().stored(evil, b"x").finish();
    env.file("evil.apk", &bytes);
    env.run("check evil.apk").exit(1).says("classes\\u{1b}[2J.dex").is_silent_on("\u{1b}");
}
