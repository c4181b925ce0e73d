//! The whole flow through the built program against the built stand-in, over real HTTP.

mod killed;
mod sealed;
mod take_in;

use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::process::{Child, Stdio};

use crate::PROGRAM;
use serde_json::Value;
use testkit::TestEnv;

/// A stand-in that runs until it is dropped.
pub(crate) struct Running {
    child: Child,
    pub(crate) address: String,
    pub(crate) said: Value,
}

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Starts the stand-in in a folder of the project, at the project's time.
pub(crate) fn start(env: &TestEnv, listen: &str) -> Running {
    start_with(env, &["--listen", listen])
}

/// Starts it with more that is said.
pub(crate) fn start_with(env: &TestEnv, more: &[&str]) -> Running {
    start_in(env, "portal", more)
}

/// The same in a folder of its own: a second portal and store.
pub(crate) fn start_in(env: &TestEnv, folder: &str, more: &[&str]) -> Running {
    let words = [&["stand-in", "serve", "--folder", folder, "--format", "json"], more].concat();
    let mut child = env.command(words).stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
    let mut text = String::new();
    let mut lines = BufReader::new(child.stdout.take().unwrap());
    // the document ends with a brace at the beginning of a line
    while !text.ends_with("\n}\n") {
        assert_ne!(lines.read_line(&mut text).unwrap(), 0, "it ended: {text}");
    }
    let said: Value = serde_json::from_str(&text).unwrap();
    Running { child, address: said["address"].as_str().unwrap().to_owned(), said }
}

/// A project that knows the stand-in, and has the owner's key in its cabinet.
pub(crate) fn connected() -> (TestEnv, Running) {
    let env = TestEnv::with_ios(PROGRAM);
    let portal = start(&env, "127.0.0.1:0");
    make_known(&env, &portal);
    import_key(&env, &portal.said["first_key"], "owner");
    (env, portal)
}

/// Writes the portal into the project file.
pub(crate) fn make_known(env: &TestEnv, portal: &Running) {
    let project = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    let project = project.replace("in/root.pem", "portal/root.pem");
    env.file("ninekeys.toml", format!("portal = \"{}\"\n{project}", portal.address).as_bytes());
}

pub(crate) fn import_key(env: &TestEnv, key: &Value, role: &str) {
    let [file, id, issuer] = ["file", "key_id", "issuer"].map(|field| key[field].as_str().unwrap());
    env.run(&format!(
        "apikey import {file} --name {role} --key-id {id} --issuer {issuer} --role {role} --use signing"
    ))
    .exit(0);
}

/// One raw call: the status line and the body.
pub(crate) fn call(address: &str, text: &str) -> (String, String) {
    let mut stream = TcpStream::connect(address.trim_start_matches("http://")).unwrap();
    stream.write_all(text.replace('\n', "\r\n").as_bytes()).unwrap();
    let mut answer = Vec::new();
    let _ = stream.read_to_end(&mut answer);
    let answer = String::from_utf8_lossy(&answer).into_owned();
    let (head, body) = answer.split_once("\r\n\r\n").unwrap_or((&answer, ""));
    (head.lines().next().unwrap_or_default().to_owned(), body.to_owned())
}

#[test]
fn a_portal_that_is_away_lies_or_says_too_much_changes_nothing_that_counts() {
    let (env, portal) = connected();
    let address = portal.address.clone();
    drop(portal);
    let before = env.run("cabinet history --format json").exit(0).stdout;
    env.run("prepare --app crossing --for store --yes").exit(6).says("cannot be reached");
    assert_eq!(env.run("cabinet history --format json").exit(0).stdout, before, "no key is made for nobody");
    // somebody else answers there
    let port = address.rsplit(':').next().unwrap();
    let listener = std::net::TcpListener::bind(format!("127.0.0.1:{port}")).unwrap();
    let answers = [
        "HTTP/1.1 200 OK\r\ncontent-type: text/html\r\ncontent-length: 15\r\nconnection: close\r\n\r\n<html>hi</html>",
        "HTTP/1.1 302 Found\r\nlocation: http://127.0.0.1:1/\r\ncontent-length: 0\r\nconnection: close\r\n\r\n",
        "HTTP/1.1 403 Forbidden\r\ncontent-type: application/problem+json\r\nconnection: close\r\n\r\n{\"type\":\"\\u001b[31m\"",
        "HTTP/1.1 200 OK\r\ncontent-type: application/json\r\ncontent-length: 400000000\r\nconnection: close\r\n\r\n",
    ];
    let server = std::thread::spawn(move || {
        for answer in answers {
            {
                let Ok((mut stream, _)) = listener.accept() else { return };
                let mut text = [0; 4096];
                let _ = stream.read(&mut text);
                let _ = stream.write_all(answer.as_bytes());
                let more = vec![b' '; 1 << 20];
                for _ in 0..if answer.contains("400000000") { 20 } else { 0 } {
                    if stream.write_all(&more).is_err() {
                        break;
                    }
                }
                if answer.contains("400000000") {
                    return;
                }
            }
        }
    });
    for says in ["cannot be read", "with status 302", "with status 403", "more than 16 MiB"] {
        let said = env.run("prepare --app crossing --for store --yes").exit(6);
        said.says(says).is_silent_on("\u{1b}");
    }
    server.join().unwrap();
    assert_eq!(env.run("cabinet history --format json").exit(0).stdout, before);
    let project = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    env.file("far.toml", project.replace(&address, "http://portal.example").as_bytes());
    env.run("prepare --app crossing --for store --yes --project far.toml")
        .exit(2)
        .says("is on another machine");
}

#[test]
fn an_api_key_of_one_app_asks_for_that_app_alone() {
    let env = TestEnv::with_ios(PROGRAM);
    let portal = start(&env, "127.0.0.1:0");
    make_known(&env, &portal);
    let [file, id, issuer] =
        ["file", "key_id", "issuer"].map(|field| portal.said["first_key"][field].as_str().unwrap());
    env.run(&format!(
        "apikey import {file} --name own --key-id {id} --issuer {issuer} --role owner --use signing --app crossing"
    ))
    .exit(0);
    env.run("device add Bridge --identifier 00008030-000A1B2C3D4E802F").exit(0);
    // for another app nothing asks the portal: it is a matter of files
    env.run("prepare --app deckhand --for devices --yes").exit(1).says("by files: no API key");
    env.run("prepare --app crossing --for store --yes").exit(0).says("through the portal");
}
