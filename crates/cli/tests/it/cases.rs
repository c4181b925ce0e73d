//! Builds that say their verdict in their name.

use std::collections::BTreeSet;
use std::path::PathBuf;

use crate::PROGRAM;
use testkit::TestEnv;

fn folder() -> PathBuf {
    PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../testkit/cases/builds")
}

/// The verdict in a file's name.
fn wanted(name: &str) -> BTreeSet<String> {
    let (stem, _) = name.rsplit_once('.').unwrap();
    let (_, verdict) = stem.rsplit_once("__").unwrap_or_else(|| panic!("{name} names no verdict"));
    verdict.split('+').map(str::to_owned).collect()
}

/// The verdict in an answer: the rules that found an error.
fn found(check: &serde_json::Value) -> BTreeSet<String> {
    let findings = check["verdict"]["findings"].as_array().unwrap();
    let errors = findings.iter().filter(|finding| finding["level"] == "error");
    let rules: BTreeSet<String> =
        errors.map(|finding| finding["rule"].as_str().unwrap().to_owned()).collect();
    assert_eq!(check["ready"], rules.is_empty(), "{check}");
    if rules.is_empty() { BTreeSet::from(["ready".to_owned()]) } else { rules }
}

#[test]
fn every_build_gets_the_verdict_that_its_name_says() {
    let env = TestEnv::new(PROGRAM);
    let mut names: Vec<String> = std::fs::read_dir(folder())
        .unwrap()
        .map(|entry| entry.unwrap().file_name().into_string().unwrap())
        .collect();
    names.sort();
    assert!(names.len() > 100, "{} cases", names.len());
    let mut wrong = Vec::new();
    for name in &names {
        let path = folder().join(name).into_os_string();
        let words = ["check".into(), path, "--format".into(), "json".into()];
        let said = env.command::<std::ffi::OsString>(words).output().unwrap();
        let answer = || serde_json::from_slice(&said.stdout).unwrap();
        let (verdict, code) = match said.status.code() {
            Some(3) => (BTreeSet::from(["unreadable".to_owned()]), 3),
            _ => {
                let verdict = found(&answer());
                let code = i32::from(!verdict.contains("ready"));
                (verdict, code)
            }
        };
        if verdict != wanted(name) || said.status.code() != Some(code) {
            wrong.push(format!("{name}: {verdict:?}, exit {:?}", said.status.code()));
        }
    }
    assert!(wrong.is_empty(), "{} of {}\n{}", wrong.len(), names.len(), wrong.join("\n"));
}

/// Makes the cases anew: `cargo test -p ninekeys --test it make_the_cases -- --ignored`.
#[test]
#[ignore = "writes into the source tree"]
fn make_the_cases() {
    std::fs::create_dir_all(folder()).unwrap();
    for entry in std::fs::read_dir(folder()).unwrap() {
        std::fs::remove_file(entry.unwrap().path()).unwrap();
    }
    let all = testkit::cases::all();
    let names: BTreeSet<String> = all.iter().map(testkit::cases::Case::file).collect();
    assert_eq!(names.len(), all.len(), "two cases of one name");
    for case in all {
        std::fs::write(folder().join(case.file()), case.bytes).unwrap();
    }
}
