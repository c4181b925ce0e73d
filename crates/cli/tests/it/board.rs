use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn the_board_shows_every_app_and_what_to_do() {
    let env = TestEnv::with_key(PROGRAM);
    let said = env.run("board").exit(0);
    insta::assert_snapshot!(said.stdout);
    assert_eq!(env.run("").exit(0).stdout, said.stdout, "the board is what `ninekeys` alone shows");
}

#[test]
fn plain_ascii_says_the_same_with_other_marks() {
    let env = TestEnv::with_key(PROGRAM).variable("LC_ALL", "C");
    let said = env.run("board").exit(0);
    assert!(said.stdout.is_ascii(), "{}", said.stdout);
    said.says("! no copy").says("? none");
}

#[test]
fn without_a_project_it_says_how_to_begin() {
    let env = TestEnv::new(PROGRAM);
    env.run("").exit(3).says("there is no ninekeys.toml in this folder or above it").says("ninekeys init");
}
