//! Secrets on their way in: files, descriptors and variables, whole or refused.

use std::io::{Seek, SeekFrom, Write};

use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn a_secret_is_whole_or_refused_wherever_it_comes_from() {
    let env = TestEnv::new(PROGRAM);
    env.file("long", format!("{:a<width$}", "brisk-lantern-oyster-", width = 16 << 10).as_bytes());
    env.file("longer", &vec![b'a'; (16 << 10) + 1]);
    env.file("binary", b"\xff\xfe\xfd\xfc\xfb\xfa");
    env.run("init --passphrase-in longer").exit(3).says("longer than 16 KiB");
    #[cfg(unix)]
    env.run("init --passphrase-in /dev/zero").exit(3).says("longer than 16 KiB");
    env.run("init --passphrase-in binary").exit(3).says("not text");
    assert_eq!(env.files().len(), 3, "nothing was made");
    env.run("init --passphrase-in long").exit(0);
    env.run("cabinet status --prove --passphrase-in long").exit(0);
}

#[test]
fn a_variable_is_read_like_a_file_and_one_that_is_no_text_is_said_to_be_so() {
    let env = TestEnv::new(PROGRAM);
    env.file("pass", b"brisk-lantern-oyster\n");
    env.run("init --passphrase-in pass").exit(0);
    let prove = |value: &std::ffi::OsStr| {
        let mut command = env.command(["cabinet", "status", "--prove"]);
        command.env("NINEKEYS_PASSPHRASE", value).output().unwrap()
    };
    for value in ["brisk-lantern-oyster", "brisk-lantern-oyster\n", "brisk-lantern-oyster\r\n"] {
        assert!(prove(value.as_ref()).status.success(), "{value:?}");
    }
    #[cfg(unix)]
    {
        use std::os::unix::ffi::OsStrExt;
        let output = prove(std::ffi::OsStr::from_bytes(b"brisk\xff"));
        let said = String::from_utf8_lossy(&output.stderr).into_owned();
        assert_eq!(output.status.code(), Some(3), "{said}");
        assert!(said.contains("the variable NINEKEYS_PASSPHRASE could not be read"), "{said}");
    }
}

#[cfg(target_os = "linux")]
#[test]
fn a_descriptor_is_read_where_it_stands_and_may_be_a_socket() {
    let env = TestEnv::new(PROGRAM);
    let mut file =
        std::fs::File::options().read(true).write(true).create_new(true).open(env.path("two")).unwrap();
    file.write_all(b"first line\nbrisk-lantern-oyster").unwrap();
    file.seek(SeekFrom::Start(11)).unwrap();
    let mut command = env.command(["init", "--passphrase-on", "0"]);
    assert!(command.stdin(file).output().unwrap().status.success());
    env.file("pass", b"brisk-lantern-oyster");
    env.run("cabinet status --prove --passphrase-in pass").exit(0);
    let (mut ours, theirs) = std::os::unix::net::UnixStream::pair().unwrap();
    ours.write_all(b"brisk-lantern-oyster\n").unwrap();
    drop(ours);
    let mut command = env.command(["cabinet", "status", "--prove", "--passphrase-on", "0"]);
    let output = command.stdin(std::os::fd::OwnedFd::from(theirs)).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let mut command = env.command(["cabinet", "status", "--prove", "--passphrase-on", "77"]);
    let output = command.output().unwrap();
    assert_eq!(output.status.code(), Some(3), "{}", String::from_utf8_lossy(&output.stderr));
}
