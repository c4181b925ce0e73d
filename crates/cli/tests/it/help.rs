use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn help_is_found_by_the_words_of_a_command() {
    let env = TestEnv::new(PROGRAM);
    env.run("help").exit(0).says("keystore").says("On its own it shows the board");
    env.run("help keystore create").exit(0).says("Usage: ninekeys keystore create").says("--common-name");
    env.run("help keystore crate")
        .exit(2)
        .says("keystore has no command crate")
        .says("next      ninekeys help keystore");
    assert_eq!(
        env.run("help sign").exit(0).stdout.trim_end(),
        env.run("sign --help").exit(0).stdout.trim_end(),
        "both say the same"
    );
}
