use crate::PROGRAM;
use testkit::{TestEnv, has};

#[test]
fn a_request_leaves_with_its_key_sealed_and_openssl_takes_it() {
    let env = TestEnv::with_ios(PROGRAM);
    env.run("identity request gp --kind distribution --country GB")
        .exit(0)
        .says("✓ gp   distribution identity, asked for")
        .says("here, sealed")
        .says("EMAIL=releases@gannetpoint.example")
        .says("next            ninekeys identity accept FILE");
    env.run("inspect gp.csr").exit(0).says("in the cabinet  gp");
    let said = env.run("show gp --format json").exit(0).json();
    assert_eq!(
        (&said["identity"]["identity"]["state"], &said["facts"]["kind"]),
        (&"waiting".into(), &"identity".into())
    );
    if has("openssl", "version") {
        let told = env.other("openssl req -in gp.csr -noout -verify -subject");
        assert!(told.contains("verify OK") && told.contains("releases@gannetpoint.example"), "{told}");
        assert!(told.contains("CN = Gannet Point Ferries") && told.contains("C = GB"), "{told}");
    }
}

#[test]
fn the_same_request_is_written_again_and_never_a_second_key() {
    let env = TestEnv::with_ios(PROGRAM);
    env.run("identity request gp --kind distribution").exit(0);
    let history = env.run("cabinet history --format json").exit(0).stdout;
    env.run("identity request gp").exit(5).says("gp.csr exists already").says("--replace");
    env.run("identity request gp --to again.csr").exit(0).says("asked for as before");
    assert_eq!(env.read("gp.csr"), env.read("again.csr"));
    env.run("identity request gp --kind development --to x.csr").exit(5).says("as a distribution identity");
    env.run("identity request gp --to gp.der").exit(0);
    assert_eq!(env.read("gp.der").first(), Some(&0x30), "DER where the name says so");
    assert_eq!(env.run("cabinet history --format json").exit(0).stdout, history, "nothing was written");
}

#[test]
fn one_key_serves_several_requests_and_push_is_for_one_app() {
    let env = TestEnv::with_ios(PROGRAM);
    env.run("identity request gp --kind distribution").exit(0);
    env.run("identity request bell --kind push").exit(2).says("is for one app").says("--app APP");
    env.run("identity request bell --kind push --app crossing --environment sandbox --key-of gp")
        .exit(0)
        .says("push identity (sandbox)")
        .says("the same as that of gp");
    let key = |name: &str| {
        env.run(&format!("show {name} --format json")).exit(0).json()["identity"]["identity"]["key"].clone()
    };
    assert_eq!(key("gp"), key("bell"));
    env.run("compare gp bell").exit(0).says("The same key");
    env.run("identity request x --kind push --app quay").exit(2).says("no app called quay");
    env.run("identity request x").exit(2).says("--kind distribution");
}

#[test]
fn a_request_that_somebody_else_made_is_taken_in_and_its_key_is_held_there() {
    let env = TestEnv::with_ios(PROGRAM);
    // what the build service would send: a request of another project
    let service = TestEnv::with_ios(PROGRAM);
    service.run("identity request theirs --kind distribution").exit(0);
    env.file("theirs.csr", &service.read("theirs.csr"));
    env.run("identity request cloud --kind distribution --from theirs.csr").exit(2).says("held-by");
    env.run("identity request cloud --kind distribution --from theirs.csr --held-by 'the build service'")
        .exit(0)
        .says("asked for by somebody else")
        .says("key held by the build service");
    env.run("inventory").exit(0).says("key held by the build service").is_silent_on("without key");
    env.run("identity request again --kind distribution --from theirs.csr --held-by x")
        .exit(5)
        .says("the request is for the key of cloud");
    // one bit turned: it is signed with another key than it is for
    let mut bytes = service.run("identity request theirs --to theirs.der").exit(0);
    bytes.stdout.clear();
    let mut der = service.read("theirs.der");
    let last = der.len() - 1;
    der[last] ^= 1;
    env.file("turned.csr", &der);
    env.run("identity request turned --kind distribution --from turned.csr --held-by x")
        .exit(3)
        .says("is not signed with the key that it is for");
    env.file("letter.csr", b"dear portal");
    env.run("identity request letter --kind distribution --from letter.csr --held-by x")
        .exit(3)
        .says("holds no request");
}

#[test]
fn where_the_file_cannot_be_written_the_key_is_kept_and_that_is_said() {
    let env = TestEnv::with_ios(PROGRAM);
    env.run("identity request gp --kind distribution --to nowhere/gp.csr")
        .exit(3)
        .says("the key is sealed, and the request could not be written")
        .says("changed   gp is in the cabinet, its key sealed; only the file is missing")
        .says("ninekeys identity request gp --to FILE");
    env.run("identity request gp --to gp.csr").exit(0).says("asked for as before");
}
