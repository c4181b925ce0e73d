use super::enrol::enrol;
use super::{fetch, openssl};
use crate::PROGRAM;
use crate::portal::{connected, import_key};
use testkit::TestEnv;

/// The identity's certificate, in a file.
fn export(env: &TestEnv, name: &str) {
    let shown = env.run(&format!("show {name} --format json")).exit(0).json();
    let id = shown["facts"]["certificate"].as_str().unwrap();
    let der = env.run(&format!("show {id} --format json")).exit(0).json();
    let der = der["facts"]["der"].as_str().unwrap();
    let bytes: Vec<u8> =
        (0..der.len()).step_by(2).map(|at| u8::from_str_radix(&der[at..at + 2], 16).unwrap()).collect();
    env.file(&format!("{name}.cer"), &bytes);
}

#[test]
fn what_it_says_of_revoked_certificates_holds_for_somebody_else() {
    let (env, portal) = connected();
    env.run("prepare --app crossing --for store --yes").exit(0);
    env.run("identity revoke distribution-2027 --yes").exit(0);
    env.run("prepare --app crossing --for store --yes").exit(0);
    export(&env, "distribution-2027");
    export(&env, "distribution-2027-2");
    fetch(&env, &portal.address, "/authority/issuer.cer", "issuer.cer");
    fetch(&env, &portal.address, "/authority/revoked.crl", "list.crl");
    let (done, said) = openssl(&env, "x509 -inform DER -in issuer.cer -out issuer.pem");
    assert!(done, "{said}");
    let (done, said) = openssl(&env, "crl -inform DER -in list.crl -CAfile issuer.pem -noout -text");
    assert!(done && said.contains("verify OK") && said.matches("Serial Number").count() == 1, "{said}");
    for (name, word) in [("distribution-2027", "revoked"), ("distribution-2027-2", "good")] {
        let (done, said) = openssl(&env, &format!("x509 -inform DER -in {name}.cer -out {name}.pem"));
        assert!(done, "{said}");
        let ask = format!(
            "ocsp -issuer issuer.pem -cert {name}.pem -url {}/authority/ocsp -CAfile portal/root.pem -attime 1796083200 -validity_period 400000000",
            portal.address
        );
        let (_, said) = openssl(&env, &ask);
        assert!(
            said.contains("Response verify OK") && said.contains(&format!("{name}.pem: {word}")),
            "{said}"
        );
        let (_, shown) = openssl(&env, &format!("x509 -in {name}.pem -noout -text"));
        for says in ["/authority/ocsp", "/authority/issuer.cer", "/authority/revoked.crl"] {
            assert!(shown.contains(&format!("{}{says}", portal.address)), "{shown}");
        }
    }
}

#[test]
fn a_certificate_that_somebody_else_revoked_is_found_and_replaced() {
    let (env, portal) = connected();
    env.run("prepare --app crossing --for store --yes").exit(0);
    env.run("check --app crossing --for store").exit(0).is_silent_on("revo");
    // with a key of the same team, on another machine
    let other = TestEnv::with_ios(PROGRAM);
    for file in ["portal/root.pem", "portal/first-key.pem", "ninekeys.toml"] {
        other.file(file, &env.read(file));
    }
    let project = String::from_utf8(other.read("ninekeys.toml")).unwrap();
    let project: String =
        project.lines().filter(|line| !line.starts_with("pin")).map(|l| format!("{l}\n")).collect();
    other.file("ninekeys.toml", project.as_bytes());
    let mut key = portal.said["first_key"].clone();
    key["file"] = "portal/first-key.pem".into();
    import_key(&other, &key, "owner");
    other.run("portal take-in").exit(0);
    other.run("identity revoke distribution-2027 --yes").exit(0);

    let before = env.run("cabinet history --format json").exit(0).stdout;
    let found = env.run("check --app crossing --for store").exit(1);
    found.says("identity-revoked").says("its certificate was revoked").says("revoked 1 Dec 2026");
    env.run("check --all --format json").exit(1).says("\"identity-revoked\"");
    assert_eq!(env.run("cabinet history --format json").exit(0).stdout, before, "looking writes nothing");
    env.run("prepare --app crossing --for store --yes")
        .exit(0)
        .says("have a certificate issued for distribution-2027-2");
    env.run("check --app crossing --for store").exit(0);
    let said = env.run("portal take-in --format json").exit(0).json();
    assert_eq!(said["certificates"][0]["standing"], "different", "it is noted now");
}

#[test]
fn nobody_who_answers_is_a_note_and_no_pass() {
    let (env, portal) = connected();
    env.run("prepare --app crossing --for store --yes").exit(0);
    let port = portal.address.rsplit(':').next().unwrap().to_owned();
    drop(portal);
    let said = env.run("check --app crossing --for store").exit(0);
    said.says("identity-revocation-unknown").says("/authority/revoked.crl: it cannot be reached");
    // somebody else answers there, with pages and with lists of their own
    let listener = std::net::TcpListener::bind(format!("127.0.0.1:{port}")).unwrap();
    let list = std::fs::read(testkit::data("samples/revocation/list.crl")).unwrap();
    let answer = |kind: &str, body: &[u8]| {
        let head = format!(
            "HTTP/1.1 200 OK\r\ncontent-type: {kind}\r\ncontent-length: {}\r\nconnection: close\r\n\r\n",
            body.len()
        );
        [head.as_bytes(), body].concat()
    };
    let answers = [
        answer("text/html", b"<html>hi</html>"),
        answer("application/ocsp-response", &[0x30, 3, 0x0a, 1, 2]),
        answer("application/pkix-crl", &list),
        b"HTTP/1.1 302 Found\r\nlocation: http://127.0.0.1:1/\r\ncontent-length: 0\r\nconnection: close\r\n\r\n".to_vec(),
    ];
    let server = std::thread::spawn(move || {
        use std::io::{Read, Write};
        for answer in answers {
            let (mut stream, _) = listener.accept().unwrap();
            let mut asked = [0; 4096];
            let _ = stream.read(&mut asked);
            stream.write_all(&answer).unwrap();
        }
    });
    env.run("check --app crossing --for store")
        .exit(0)
        .says("its list is not believed")
        .says("not well formed");
    env.run("check --app crossing --for store").exit(0).says("it is another issuer's");
    server.join().unwrap();
}

#[test]
fn the_issuer_of_what_was_asked_for_is_fetched_from_where_it_says() {
    let (env, portal) = connected();
    env.run("identity request asked --kind distribution --to asked.csr").exit(0);
    // enrolled by somebody else, who sends the certificate alone
    let (done, said) = openssl(&env, "req -in asked.csr -outform DER -out asked.der");
    assert!(done, "{said}");
    let token = env.run("apikey token owner").exit(0).stdout;
    enrol(&env, &portal.address, token.trim(), "distribution/simpleenroll", "asked.der", "asked.p7").unwrap();
    let (done, said) = openssl(&env, "pkcs7 -inform DER -in asked.p7 -print_certs -out asked.cer");
    assert!(done, "{said}");
    let said = env.run("identity accept asked.cer --format json").exit(0).json();
    assert_eq!(said["accepted"][0]["chain"]["complete"], true, "{said}");
    assert!(
        said["authorities"][0]["subject"].as_str().unwrap().contains("Stand-In Developer Authority"),
        "{said}"
    );
    // one whose key is not here sends nobody anywhere
    let other = TestEnv::with_ios(PROGRAM);
    other.file("asked.cer", &env.read("asked.cer"));
    let said = other.run("identity accept asked.cer --format json").exit(0).json();
    assert_eq!(said["accepted"][0]["chain"]["complete"], false, "{said}");
}

#[test]
fn an_address_in_a_certificate_that_nobody_vouches_for_is_not_asked() {
    let env = TestEnv::with_ios(PROGRAM);
    // whoever is asked would be heard of here
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    listener.set_nonblocking(true).unwrap();
    let address = format!("http://{}", listener.local_addr().unwrap());
    env.file(
        "own.cnf",
        format!(
            "[req]\ndistinguished_name=n\nprompt=no\nx509_extensions=e\n[n]\nCN=Distribution: Nobody\nOU=GPFERRY009\n[e]\nbasicConstraints=CA:false\nkeyUsage=digitalSignature\nextendedKeyUsage=codeSigning\n1.2.840.113635.100.6.1.4=critical,DER:0500\ncrlDistributionPoints=URI:{address}/list\nauthorityInfoAccess=OCSP;URI:{address}/ocsp\n"
        )
        .as_bytes(),
    );
    let (done, said) = openssl(
        &env,
        "req -x509 -newkey rsa:2048 -nodes -keyout own.key -out own.pem -days 36500 -config own.cnf",
    );
    assert!(done, "{said}");
    let (done, said) =
        openssl(&env, "pkcs12 -export -inkey own.key -in own.pem -out own.p12 -passout pass:pier-pass-1");
    assert!(done, "{said}");
    env.file("ios-pass", b"pier-pass-1");
    env.run("identity import own.p12 --password-in ios-pass").exit(0);
    // the certificate begins when the test runs
    let check = "check --app crossing --for store --at 2050-01-01T00:00:00Z";
    env.run(check).exit(1).says("identity-chain-untrusted");
    assert!(listener.accept().is_err(), "nobody was asked");
}

#[test]
fn a_build_whose_signer_was_revoked_elsewhere_is_told_by_the_check() {
    let (env, portal) = connected();
    env.run("app change crossing --extension share=example.gannetpoint.crossing.share").exit(0);
    env.run("prepare --app crossing --for store --yes").exit(0);
    env.file("crossing.ipa", ninekeys_core::demo::CROSSING_IPA);
    env.run("sign crossing.ipa --for store").exit(0);
    let file = "crossing-2.4.0-12-store.ipa";
    // somebody without a cabinet, whose project names the root
    let other = TestEnv::new(PROGRAM).at(env.now());
    other.file("root.pem", &env.read("portal/root.pem"));
    let project = "roots = [\"root.pem\"]\nteam = \"GPFERRY009\"\n[app.crossing]\ntitle = \"Crossing\"\n\
                   [app.crossing.ios]\nbundle-id = \"example.gannetpoint.crossing\"\ndestinations = [\"store\"]\n";
    other.file("ninekeys.toml", project.as_bytes());
    other.file(file, &env.read(file));
    other.run(&format!("check {file} --for store")).exit(0);
    env.run("identity revoke distribution-2027 --yes").exit(0);
    let said = other.run(&format!("check {file} --for store")).exit(1);
    said.says("identity-revoked");
    // nobody who answers is no finding of a build
    drop(portal);
    other.run(&format!("check {file} --for store")).exit(0);
}
