mod described;
mod enrol;
mod revocation;
mod serve;

use std::process::Command;

use testkit::TestEnv;

/// What `openssl` says of something.
pub(super) fn openssl(env: &TestEnv, words: &str) -> (bool, String) {
    let command = Command::new("openssl").args(words.split(' ')).current_dir(env.path("")).output();
    let said = command.expect("openssl has to be there");
    (said.status.success(), String::from_utf8_lossy(&[said.stdout, said.stderr].concat()).into_owned())
}

/// Fetches a part of the authority over plain HTTP, with nothing of ours.
pub(super) fn fetch(env: &TestEnv, address: &str, path: &str, to: &str) {
    let script = "import sys,urllib.request as u; o=u.build_opener(u.ProxyHandler({})); open(sys.argv[2],'wb').write(o.open(sys.argv[1]).read())";
    let done = Command::new("python3")
        .args(["-c", script, &format!("{address}{path}")])
        .arg(env.path(to))
        .status()
        .expect("python3 has to be there");
    assert!(done.success());
}
