use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn every_change_is_told_with_its_number_its_author_and_its_time() {
    let env = TestEnv::with_key(PROGRAM);
    let said = env.run("cabinet history").exit(0);
    said.says("3 changes, unbroken").says("cabinet made").says("keystore create crossing-signing");
    env.run("cabinet history --verify").exit(0).says("3 changes, every one signed by its author");
    let json = env.run("cabinet history --format json").exit(0).json();
    assert_eq!(json["schema"], "ninekeys.cabinet-history/1");
    let rows = json["rows"].as_array().unwrap();
    assert_eq!(rows.len(), 3);
    assert_eq!((&rows[2]["seq"], &rows[2]["at"]), (&3.into(), &testkit::NOW.into()));
    assert_eq!(rows[2]["what"], "keystore create crossing-signing");
}
