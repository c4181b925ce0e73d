use std::process::Command;

use super::{fetch, openssl};
use crate::portal::connected;
use testkit::TestEnv;

/// Asks for a certificate with nothing of ours: what came back, out of its Base64, or the status and what was said.
pub(super) fn enrol(
    env: &TestEnv,
    address: &str,
    token: &str,
    path: &str,
    request: &str,
    to: &str,
) -> Result<(), String> {
    let script = "
import sys, base64, urllib.request as u, urllib.error
body = base64.encodebytes(open(sys.argv[1], 'rb').read())
ask = u.Request(sys.argv[2], body, {'authorization': 'Bearer ' + sys.argv[3], 'content-type': 'application/pkcs10', 'content-transfer-encoding': 'base64'})
try:
    said = u.build_opener(u.ProxyHandler({})).open(ask)
    assert said.headers['content-type'] == 'application/pkcs7-mime; smime-type=certs-only', said.headers
    open(sys.argv[4], 'wb').write(base64.b64decode(said.read()))
except urllib.error.HTTPError as error:
    sys.exit(f'{error.code} {error.read().decode()}')
";
    let said = Command::new("python3")
        .args(["-c", script])
        .arg(env.path(request))
        .args([format!("{address}/.well-known/est/{path}"), token.to_owned()])
        .arg(env.path(to))
        .output()
        .expect("python3 has to be there");
    if said.status.success() { Ok(()) } else { Err(String::from_utf8_lossy(&said.stderr).into_owned()) }
}

#[test]
fn certificates_are_enrolled_by_the_standard_and_once_more_for_who_has_one() {
    let (env, portal) = connected();
    let token = env.run("apikey token owner").exit(0).stdout;
    let token = token.trim();
    let certificate = |file: &str| {
        let (done, said) =
            openssl(&env, &format!("pkcs7 -inform DER -in {file}.p7 -print_certs -out {file}.pem"));
        assert!(done, "{said}");
        let verify = format!(
            "verify -ignore_critical -attime 1796083200 -CAfile portal/root.pem -untrusted above.pem {file}.pem"
        );
        let (done, said) = openssl(&env, &verify);
        assert!(done, "{said}");
    };
    // the authorities, in Base64
    fetch(&env, &portal.address, "/.well-known/est/cacerts", "above.b64");
    let (done, said) = openssl(&env, "base64 -d -A -in above.b64 -out above.p7");
    assert!(done, "{said}");
    let (done, said) = openssl(&env, "pkcs7 -inform DER -in above.p7 -print_certs -out above.pem");
    assert!(done, "{said}");
    assert_eq!(String::from_utf8(env.read("above.pem")).unwrap().matches("BEGIN CERTIFICATE").count(), 2);
    // a first one, for a request that openssl made
    let make = "req -newkey rsa:2048 -nodes -keyout own.key -outform DER -out own.der -subj /CN=Ferries";
    assert!(openssl(&env, make).0);
    enrol(&env, &portal.address, token, "distribution/simpleenroll", "own.der", "own.p7").unwrap();
    certificate("own");
    // one more: the subject has to be that of one that is good
    let refused =
        enrol(&env, &portal.address, token, "distribution/simplereenroll", "own.der", "no.p7").unwrap_err();
    assert!(refused.contains("404 ") && refused.contains("has the subject"), "{refused}");
    let (_, subject) = openssl(&env, "x509 -in own.pem -noout -subject -nameopt compat");
    let subject = subject.trim().trim_start_matches("subject=").trim().to_owned();
    assert!(subject.contains("GPFERRY009"), "{subject}");
    let done = Command::new("openssl")
        .args(["req", "-new", "-key"])
        .arg(env.path("own.key"))
        .args([
            "-outform",
            "DER",
            "-subj",
            "/O=Gannet Point Ferries/OU=GPFERRY009/CN=Distribution: Gannet Point Ferries (GPFERRY009)",
            "-out",
        ])
        .arg(env.path("again.der"))
        .status()
        .unwrap();
    assert!(done.success());
    enrol(&env, &portal.address, token, "distribution/simplereenroll", "again.der", "again.p7").unwrap();
    let other =
        enrol(&env, &portal.address, token, "development/simplereenroll", "again.der", "no.p7").unwrap_err();
    assert!(other.contains("404 "), "none of that kind is renewed: {other}");
    certificate("again");
    let third =
        enrol(&env, &portal.address, token, "distribution/simplereenroll", "again.der", "no.p7").unwrap_err();
    assert!(third.contains("409 ") && third.contains("limit-reached"), "{third}");
}

#[test]
fn what_is_no_request_or_goes_under_no_label_is_refused() {
    let (env, portal) = connected();
    let token = env.run("apikey token owner").exit(0).stdout;
    let token = token.trim();
    assert!(
        openssl(
            &env,
            "req -newkey rsa:2048 -nodes -keyout own.key -outform DER -out own.der -subj /CN=Ferries"
        )
        .0
    );
    let ask = |token: &str, path: &str, file: &str| {
        enrol(&env, &portal.address, token, path, file, "no.p7").unwrap_err()
    };
    assert!(ask("", "distribution/simpleenroll", "own.der").contains("401 "));
    assert!(ask(token, "enterprise/simpleenroll", "own.der").contains("404 "));
    env.file("turned.der", &{
        let mut bytes = env.read("own.der");
        let last = bytes.len() - 3;
        bytes[last] ^= 1;
        bytes
    });
    assert!(ask(token, "distribution/simpleenroll", "turned.der").contains("not signed with the key"));
    env.file("cut.der", &env.read("own.der")[..40]);
    assert!(ask(token, "distribution/simpleenroll", "cut.der").contains("400 "));
    let unknown = ask(token, "push-production-example.gannetpoint.nowhere/simpleenroll", "own.der");
    assert!(unknown.contains("is not registered"), "{unknown}");
    let key = env.run("apikey create tests --use testers --format json").exit(0).json();
    assert_eq!(key["role"], "developer");
    let small = env.run("apikey token tests").exit(0).stdout;
    let refused = ask(small.trim(), "distribution/simpleenroll", "own.der");
    assert!(refused.contains("403 ") && refused.contains("\"needs\":\"manager\""), "{refused}");
}
