use std::path::Path;
use std::process::Command;

use crate::PROGRAM;
use testkit::{TestEnv, has};

#[test]
fn every_shell_gets_a_script_that_asks_the_program() {
    let env = TestEnv::new(PROGRAM);
    for shell in ["bash", "zsh", "fish"] {
        env.run(&format!("completions {shell}")).exit(0).says("NINEKEYS_COMPLETE").says("ninekeys");
    }
    env.run("completions nutshell").exit(2).says("nutshell");
}

/// What a shell says to some lines of its own, with the program in its path.
fn shell(env: &TestEnv, program: &str, lines: &str) -> String {
    let folder = Path::new(PROGRAM).parent().unwrap().display().to_string();
    let path = std::env::var("PATH").unwrap_or_default();
    let output = Command::new(program)
        .args(["-c", lines])
        .current_dir(env.folder())
        .env("HOME", env.home())
        .env("PATH", format!("{folder}:{path}"))
        .output()
        .unwrap();
    String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr)
}

/// What bash offers for the last of these words.
const IN_BASH: &str = r#"
source <(ninekeys completions bash)
offers() {
    COMP_WORDS=("$@"); COMP_CWORD=$(( $# - 1 )); COMP_TYPE=9; COMPREPLY=()
    _clap_complete_ninekeys ninekeys "${COMP_WORDS[COMP_CWORD]}" ""
    echo "${COMPREPLY[@]}"
}
offers ninekeys show cro
offers ninekeys sign a.apk --app q
offers ninekeys sign a.apk --for d
offers ninekeys explain debug
offers ninekeys keystore export crossing-signing --alias cro
offers ninekeys keystore han
"#;

#[test]
fn bash_offers_names_out_of_project_and_cabinet() {
    if !has("bash", "--version") {
        return;
    }
    let env = TestEnv::with_key(PROGRAM);
    let said = shell(&env, "bash", IN_BASH);
    let expected = [
        "crossing-signing",
        "quayside",
        "development devices direct",
        "debug-key",
        "crossing-signing",
        "hand-over",
    ];
    assert_eq!(said.lines().map(str::trim).collect::<Vec<_>>(), expected);
    // outside of any project there is nothing to offer, and nothing goes wrong
    let nowhere = TestEnv::new(PROGRAM);
    let said = shell(&nowhere, "bash", IN_BASH);
    assert_eq!(said.lines().next().map(str::trim), Some(""), "{said}");
}

#[test]
fn fish_offers_the_same() {
    if !has("fish", "--version") {
        return;
    }
    let env = TestEnv::with_key(PROGRAM);
    let lines = "ninekeys completions fish | source; complete -C 'ninekeys show cro'; complete -C 'ninekeys sign x --for s'";
    let said = shell(&env, "fish", lines);
    assert!(said.contains("crossing-signing") && said.contains("store"), "{said}");
}

/// zsh completes on a terminal alone: on one of its own.
const IN_ZSH: &str = r#"
zmodload zsh/zpty
zpty z zsh -f -i
zpty -w z 'autoload -U compinit; compinit -u; source <(ninekeys completions zsh); print -r ready-$((40+2))'
for turn in {1..200}; do
    zpty -r -t z out && all+=$out
    [[ $all == *ready-42* ]] && break
    sleep 0.05
done
zpty -w -n z $'ninekeys show cro\t'
for turn in {1..200}; do
    zpty -r -t z out && all+=$out
    [[ $all == *crossing-signing* ]] && break
    sleep 0.05
done
print -r -- $all
"#;

#[test]
fn zsh_offers_the_same() {
    if !has("zsh", "--version") {
        return;
    }
    let env = TestEnv::with_key(PROGRAM);
    let said = shell(&env, "zsh", IN_ZSH);
    assert!(said.contains("ninekeys show crossing-signing"), "{said}");
}
