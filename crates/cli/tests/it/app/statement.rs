use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn the_file_names_the_package_and_the_certificates_that_devices_know() {
    let env = TestEnv::with_key(PROGRAM);
    let file: serde_json::Value =
        serde_json::from_str(&env.run("app statement crossing").exit(0).stdout).unwrap();
    let target = &file[0]["target"];
    assert_eq!(target["package_name"], "example.gannetpoint.crossing");
    let shown = env.run("show crossing-signing --format json").exit(0).json();
    let forms = &shown["parts"][0]["forms"];
    assert_eq!(target["sha256_cert_fingerprints"], serde_json::json!([forms["sha256"]]));
    env.run("app statement quayside").exit(5).says("holds no signing key for quayside");
    env.run("app statement nobody").exit(2).says("ninekeys app list");
}

#[test]
fn the_fingerprints_of_a_certificate_are_those_that_openssl_says() {
    if !testkit::has("openssl", "version") {
        return;
    }
    let env = TestEnv::with_key(PROGRAM);
    env.run("keystore export crossing-signing --as certificate-pem --to c.pem").exit(0);
    let shown = env.run("show crossing-signing --format json").exit(0).json();
    let forms = &shown["parts"][0]["forms"];
    for (hash, form) in [("sha256", "sha256"), ("sha1", "sha1")] {
        let said = env.other(&format!("openssl x509 -in c.pem -noout -fingerprint -{hash}"));
        assert_eq!(said.trim().rsplit('=').next(), forms[form].as_str(), "{said}");
    }
    env.other("openssl x509 -in c.pem -outform DER -out c.der");
    let said = env.other_with("sh", &["-c", "openssl dgst -sha1 -binary c.der | openssl base64 -A"]);
    assert_eq!(said.trim(), forms["sha1_base64"].as_str().unwrap());
    env.run("show crossing-signing").exit(0).says(forms["sha1"].as_str().unwrap());
}
