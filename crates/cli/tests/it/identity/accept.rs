use crate::PROGRAM;
use testkit::{TestEnv, data, has};

/// An authority of our own, by a program that is not ours: it issues what is asked for.
fn authority(env: &TestEnv) {
    env.other(
        "openssl req -x509 -newkey rsa:2048 -nodes -keyout ca.key -out ca.pem -days 3650 -subj /CN=Pier-CA",
    );
}

/// An environment at today's time, since openssl issues for today.
fn today() -> Option<TestEnv> {
    if !has("openssl", "version") || !has("date", "--version") {
        return None;
    }
    let now = std::process::Command::new("date").args(["-u", "+%Y-%m-%dT%H:%M:%SZ"]).output().unwrap();
    let now = String::from_utf8(now.stdout).unwrap();
    let env = TestEnv::with_ios_at(PROGRAM, now.trim());
    authority(&env);
    Some(env)
}

#[test]
fn an_issued_certificate_finds_its_key_and_twice_is_once() {
    let Some(env) = today() else { return };
    // the team stands in the subject's OU, which the request's subject does not have: issued over the request's key
    env.run("identity request gp --kind distribution --to gp.csr").exit(0);
    env.other("openssl req -in gp.csr -noout -verify");
    env.other_with("openssl", &["req", "-in", "gp.csr", "-pubkey", "-noout", "-out", "gp.pub"]);
    issue_for_key(&env, "gp.pub", "6.1.4", "codeSigning", "gp.cer");
    let before = env.run("cabinet history --format json").exit(0).json()["rows"].as_array().map(Vec::len);
    let said = env.run("identity accept gp.cer --chain ca.pem --format json").exit(0).json();
    let one = &said["accepted"][0];
    assert_eq!((&one["identity"], &one["outcome"]), (&"gp".into(), &"answered".into()), "{said}");
    assert_eq!((&one["state"], &one["team"]), (&"whole".into(), &"GPFERRY009".into()));
    assert_eq!(one["chain"]["complete"], true);
    assert_eq!(one["chain"]["trusted"], false, "the project names another root");
    let after = env.run("cabinet history --format json").exit(0).json()["rows"].as_array().map(Vec::len);
    assert_eq!(after, before.map(|rows| rows + 1));
    env.run("identity accept gp.cer ca.pem").exit(0).says("here already, nothing changed");
    let again = env.run("cabinet history --format json").exit(0).json()["rows"].as_array().map(Vec::len);
    assert_eq!(again, after, "accepting the same one twice changes nothing");
    // the same key for another purpose is an identity of its own
    issue_for_key(&env, "gp.pub", "6.3.2", "clientAuth", "push.cer");
    env.run("identity accept push.cer").exit(2).says("names no app of the project file").says("--app APP");
    env.run("identity accept push.cer --app crossing")
        .exit(0)
        .says("push identity (production)")
        .says("new here");
    env.run("compare gp crossing-push").exit(1).says("The same key, under another certificate");
}

/// Issues a certificate over a bare public key, for the team.
fn issue_for_key(env: &TestEnv, key: &str, marker: &str, purpose: &str, to: &str) {
    env.other_with(
        "openssl",
        &[
            "req",
            "-new",
            "-newkey",
            "rsa:2048",
            "-nodes",
            "-keyout",
            "other.key",
            "-out",
            "other.csr",
            "-subj",
            "/CN=Ferries/OU=GPFERRY009/O=Gannet",
        ],
    );
    let text = format!(
        "basicConstraints=critical,CA:FALSE\nkeyUsage=critical,digitalSignature\nextendedKeyUsage={purpose}\n\
         authorityKeyIdentifier=keyid\n1.2.840.113635.100.{marker}=critical,DER:0500\n"
    );
    env.file("extensions", text.as_bytes());
    env.other_with(
        "openssl",
        &[
            "x509",
            "-req",
            "-in",
            "other.csr",
            "-force_pubkey",
            key,
            "-CA",
            "ca.pem",
            "-CAkey",
            "ca.key",
            "-set_serial",
            &format!("{}", 4_711 + marker.len() + to.len()),
            "-days",
            "365",
            "-extfile",
            "extensions",
            "-out",
            to,
            "-outform",
            "DER",
        ],
    );
}

#[test]
fn what_a_certificate_is_for_stands_in_its_marks_and_a_bundle_brings_the_chain() {
    let env = TestEnv::with_ios(PROGRAM);
    env.run("identity accept in/distribution.cer")
        .exit(0)
        .says("distribution-2027   distribution identity of GPFERRY009, new here")
        .says("not here: nothing can be signed with it")
        .says("not complete: the certificate of")
        .says("CN=Test Developer Relations CA is missing");
    env.run("inventory").exit(0).says("without key");
    if has("openssl", "version") {
        env.other("openssl x509 -inform DER -in in/push.cer -out push.pem");
        env.other("openssl crl2pkcs7 -nocrl -certfile push.pem -certfile in/intermediate.pem -out bundle.p7b -outform DER");
        env.run("identity accept bundle.p7b")
            .exit(0)
            .says("push identity (sandbox and production) of GPFERRY009")
            .says("for             Crossing")
            .says("complete, to")
            .says("which the project names")
            .says("an authority's certificate, kept for chains");
    }
    // what came in with a chain completes others
    env.run("identity accept in/intermediate.pem").exit(0);
    env.run("show distribution-2027").exit(0).says("complete, to").is_silent_on("is missing");
    env.run("identity accept in/development.cer --held-by 'the crew office'")
        .exit(0)
        .says("key held by the crew office");
    env.run("inventory").exit(0).says("key held by the crew office");
}

#[test]
fn another_team_a_forgery_and_what_is_no_identity_are_refused_whole() {
    let env = TestEnv::with_ios(PROGRAM);
    let history = env.run("cabinet history --format json").exit(0).stdout;
    let project = String::from_utf8(env.read("ninekeys.toml")).unwrap();
    env.file("other.toml", project.replace("GPFERRY009", "TEAM000000").as_bytes());
    env.run("identity accept in/distribution.cer --project other.toml")
        .exit(5)
        .says("was issued to the team GPFERRY009, and the project file names TEAM000000");
    // the same certificate with one bit of its signature turned
    let mut forged = std::fs::read(data("samples/ios/distribution.cer")).unwrap();
    let last = forged.len() - 1;
    forged[last] ^= 1;
    env.file("forged.cer", &forged);
    env.run("identity accept in/push.cer forged.cer --chain in/intermediate.pem")
        .exit(5)
        .says("is forged: C=US,O=Test Vendor,OU=Test G3,CN=Test Developer Relations CA did not sign it")
        .says("changed   nothing");
    env.run("identity accept in/distribution.cer in/push.cer --name one")
        .exit(2)
        .says("one name is for one identity");
    env.file("cut.cer", &forged[..400]);
    env.run("identity accept cut.cer").exit(3).says("cannot be read");
    env.run("identity accept pw").exit(3).says("holds no certificate");
    env.run("identity accept in/distribution.cer --app quay").exit(2).says("no app called quay");
    assert_eq!(env.run("cabinet history --format json").exit(0).stdout, history);
}
