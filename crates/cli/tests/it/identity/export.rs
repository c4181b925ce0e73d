use crate::PROGRAM;
use testkit::{TestEnv, has};

#[test]
fn an_export_has_the_key_and_the_full_chain_and_comes_back_as_the_same() {
    let env = TestEnv::with_identity(PROGRAM);
    env.run("identity export gp-distribution --to out.p12 --random-password")
        .exit(5)
        .says("--note-password NOTE");
    env.run("identity export gp-distribution --to out.p12 --random-password --note-password out.pw")
        .exit(0)
        .says("PKCS#12, private key and 3 certificates");
    if has("openssl", "version") {
        let told = env.other("openssl pkcs12 -in out.p12 -passin file:out.pw -nokeys");
        assert_eq!(told.matches("BEGIN CERTIFICATE").count(), 3, "{told}");
        env.other("openssl pkcs12 -in out.p12 -passin file:out.pw -nocerts -nodes -out key.pem");
        env.other("openssl pkcs12 -in out.p12 -passin file:out.pw -clcerts -nokeys -out leaf.pem");
        let key = env.other("openssl pkey -in key.pem -pubout");
        assert_eq!(key, env.other("openssl x509 -in leaf.pem -pubkey -noout"), "the key of the certificate");
    }
    env.run("compare gp-distribution out.p12 --password-in out.pw").exit(0);
    let other = TestEnv::with_ios(PROGRAM);
    other.file("out.p12", &env.read("out.p12"));
    other.file("out.pw", &env.read("out.pw"));
    other.run("identity import out.p12 --password-in out.pw").exit(0).says("complete, to");
}

#[test]
fn a_certificate_alone_is_no_secret_and_what_cannot_go_out_is_said() {
    let env = TestEnv::with_identity(PROGRAM);
    env.run("identity export gp-distribution --to chain.pem --as certificate-pem")
        .exit(0)
        .says("3 certificates, PEM");
    if has("openssl", "version") {
        let told =
            env.other("openssl verify -ignore_critical -CAfile in/root.pem -untrusted chain.pem chain.pem");
        assert!(told.contains("chain.pem: OK"), "{told}");
    }
    env.run("identity export gp-distribution --to one.cer --as certificate-der").exit(0);
    assert_eq!(env.read("one.cer"), env.read("in/distribution.cer"));
    env.run("identity export gp-distribution --to one.cer --as certificate-der")
        .exit(5)
        .says("exists already");
    env.run("identity export gp-distribution --to ninekeys.cabinet --as certificate-der --replace")
        .exit(5)
        .says("nothing is written to ninekeys.cabinet");
    env.run("identity export gp-distribution --to x.pem --as certificate-pem --random-password")
        .exit(2)
        .says("a certificate alone has no password");
    env.run("identity export gp-distribution --to x.p12").exit(2).says("--password-in FILE");
    env.run("identity accept in/development.cer --name theirs").exit(0);
    env.run("identity export theirs --to x.p12 --password-in pw")
        .exit(5)
        .says("private key of theirs is not here");
    env.run("identity request later --kind development").exit(0);
    env.run("identity export later --to x.p12 --password-in pw").exit(5).says("waits for its certificate");
    assert!(!env.path("x.p12").exists());
}
