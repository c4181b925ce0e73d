use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn a_status_without_unlocking_still_sees_a_broken_chain() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("cabinet backup copies").exit(0);
    let mut bytes = env.read("copies/ninekeys-20310519T120000Z.cabinet");
    let at = testkit::builds::last(&bytes, b"cabinet made");
    bytes[at] = b'C';
    env.file("changed.cabinet", &bytes);
    env.run("cabinet status --cabinet changed.cabinet")
        .exit(3)
        .says("history row 1 is not signed by its author");
    env.run("cabinet history --cabinet changed.cabinet").exit(3).says("cabinet restore COPY");
}

#[test]
fn the_answer_for_programs_counts_what_is_there_and_tells_the_findings() {
    let env = TestEnv::with_key(PROGRAM);
    let said = env.run("cabinet status --format json").exit(0).json();
    assert_eq!(said["schema"], "ninekeys.cabinet-status/1");
    assert_eq!(said["keys"], 1);
    let findings = said["verdict"]["findings"].as_array().unwrap();
    assert!(findings.iter().any(|finding| finding["rule"] == "backup-missing"), "{said}");
}

#[test]
fn facts_changed_behind_the_tools_back_are_found_when_it_is_unlocked() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("cabinet backup copies").exit(0);
    let copy = env.read("copies/ninekeys-20310519T120000Z.cabinet");
    let places: [&[u8]; 3] =
        [b"CN=Ferries", b"keystore create crossing-signing", b"crossing-signing/crossing-signing"];
    for what in places {
        let mut bytes = copy.clone();
        let at = testkit::builds::last(&bytes, what);
        bytes[at + what.len() - 1] ^= 1;
        env.file("changed.cabinet", &bytes);
        env.run("cabinet status --prove --cabinet changed.cabinet")
            .exit(3)
            .says("changed by something else than this tool");
    }
}
