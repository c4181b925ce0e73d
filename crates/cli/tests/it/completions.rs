use crate::PROGRAM;
use testkit::TestEnv;

#[test]
fn every_shell_gets_every_command() {
    let env = TestEnv::new(PROGRAM);
    for shell in ["bash", "zsh", "fish"] {
        env.run(&format!("completions {shell}")).exit(0).says("keystore").says("backup");
    }
    env.run("completions nutshell").exit(2).says("nutshell");
}
