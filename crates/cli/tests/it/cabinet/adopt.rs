use super::trust::{elsewhere, says};
use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn two_copies_that_both_went_on_are_parted_and_brought_together_again() {
    let env = TestEnv::with_key(PROGRAM);
    std::fs::copy(env.path("ninekeys.cabinet"), env.path("other.cabinet")).unwrap();
    env.run("keystore create here --common-name A --algorithm ec-p256").exit(0);
    env.run("keystore create both --common-name A --algorithm ec-p256").exit(0);
    let done =
        elsewhere(&env, "keystore create there --common-name A --algorithm ec-p256 --cabinet other.cabinet");
    says(&done, 0, "there");
    let done =
        elsewhere(&env, "keystore create both --common-name A --algorithm ec-p256 --cabinet other.cabinet");
    says(&done, 0, "both");
    env.run("cabinet status --cabinet other.cabinet")
        .exit(0)
        .says("✗ cabinet-parted")
        .says("change 5 is not");
    env.run("keystore create x --common-name A --cabinet other.cabinet").exit(5).says("both changed");
    let said = env.run("cabinet adopt other.cabinet").exit(0);
    said.says("taken in      both-2, there").is_silent_on("differs");
    let inventory = env.run("inventory --format json").exit(0).json();
    let names: Vec<&str> =
        inventory["items"].as_array().unwrap().iter().map(|i| i["name"].as_str().unwrap()).collect();
    assert_eq!(names, ["both", "both-2", "crossing-signing", "here", "there"]);
    env.run("cabinet status --prove").exit(0).says("every seal opened").is_silent_on("parted");
    env.run("keystore export there --to there.p12 --note-password pw").exit(0);
    env.run("cabinet adopt other.cabinet").exit(0).says("0 records taken in");
    env.run("cabinet history --verify").exit(0).says("cabinet adopt other.cabinet");
}

#[test]
fn the_answer_for_programs_counts_what_was_taken_in() {
    let env = TestEnv::with_key(PROGRAM);
    std::fs::copy(env.path("ninekeys.cabinet"), env.path("other.cabinet")).unwrap();
    env.run("keystore create here --common-name A --algorithm ec-p256").exit(0);
    let done =
        elsewhere(&env, "keystore create there --common-name A --algorithm ec-p256 --cabinet other.cabinet");
    says(&done, 0, "there");
    let said = env.run("cabinet adopt other.cabinet --format json").exit(0).json();
    assert_eq!(said["schema"], "ninekeys.cabinet-adopt/1");
    assert_eq!(said["taken"], serde_json::json!(["there", "there/there", "there/there/certificate"]));
}
