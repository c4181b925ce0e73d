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

#[test]
fn rows_are_found_by_item_time_and_member_and_held_against_copies() {
    let env = TestEnv::with_key(PROGRAM);
    env.run("cabinet backup early").exit(0);
    env.run("keystore create other --common-name A --algorithm ec-p256 --at 2031-06-01T00:00:00Z").exit(0);
    env.run("cabinet history --item other --at 2031-06-02")
        .exit(0)
        .says("1 of ")
        .says("keystore create other")
        .is_silent_on("crossing-signing");
    env.run("cabinet history --since 2031-06-01 --at 2031-06-02")
        .exit(0)
        .says("keystore create other")
        .is_silent_on("cabinet made");
    env.run("cabinet history --until 2031-06-01 --at 2031-06-02")
        .exit(0)
        .says("cabinet made")
        .is_silent_on("create other");
    env.run("cabinet history --by nobody --at 2031-06-02").exit(0).says("0 of ");
    env.run("cabinet history --item nothing").exit(2);
    let copy = env.files().into_iter().map(|(name, _)| name).find(|name| name.starts_with("early/")).unwrap();
    env.run(&format!("cabinet history --verify --against {copy} --at 2031-06-02"))
        .exit(0)
        .says("✓ all of early/")
        .says("came after it");
    // a cabinet that was put back: the copy has what it lacks, whoever lost it
    let newer = env.read("ninekeys.cabinet");
    let older = env.read(&copy);
    env.file("newer.cabinet", &newer);
    env.file("older.cabinet", &older);
    env.run("cabinet history --cabinet older.cabinet --against newer.cabinet --at 2031-06-02")
        .exit(1)
        .says("are not here: they were cut off, or others took their place");
    let other = TestEnv::with_key(PROGRAM);
    env.file("other.cabinet", &other.read("ninekeys.cabinet"));
    env.run("cabinet history --against other.cabinet --at 2031-06-02")
        .exit(5)
        .says("is a copy of another cabinet");
    env.run("cabinet history --against ninekeys.toml --at 2031-06-02").exit(3);
}

#[test]
fn a_row_that_was_altered_is_named() {
    let env = TestEnv::with_key(PROGRAM);
    let mut bytes = env.read("ninekeys.cabinet");
    let at = testkit::builds::last(&bytes, b"keystore create crossing-signing");
    bytes[at] = b'K';
    env.file("ninekeys.cabinet", &bytes);
    env.run("cabinet history --verify").exit(3).says("row 3 is not signed by its author");
}
