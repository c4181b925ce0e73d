//! Where project file and cabinet are looked for, and what a cabinet is unlocked with.

#![allow(
    clippy::unwrap_used,
    clippy::panic,
    clippy::indexing_slicing,
    clippy::disallowed_methods,
    reason = "tests fail by panicking and write their own files"
)]

mod common;

use std::cell::Cell;
use std::path::PathBuf;

use common::{ctx, text};
use ninekeys_cabinet::Credential;
use ninekeys_formats::secret::SecretText;
use ninekeys_ops::init::{Request, init};
use ninekeys_ops::project::ProjectError;
use ninekeys_ops::{Ask, AskError, FileError, OpenError};
use tempfile::TempDir;

/// Somebody who answers, and counts how often.
#[derive(Default)]
struct Person {
    given: Option<&'static str>,
    answers: Option<&'static str>,
    asked: Cell<usize>,
}

impl Ask for Person {
    fn given(&self) -> Result<Option<Credential>, FileError> {
        Ok(self.given.map(|given| Credential::Passphrase(text(given))))
    }

    fn secret(&self, _what: &str) -> Result<Option<SecretText>, AskError> {
        self.asked.set(self.asked.get() + 1);
        Ok(self.answers.map(text))
    }

    fn line(&self, _question: &str) -> Result<Option<String>, AskError> {
        Ok(None)
    }

    fn tell(&self, _text: &str) {}
}

fn request(passphrase: Option<&str>, unlock_file: Option<&str>) -> Request {
    Request {
        title: Some("Ferries".into()),
        team: None,
        portal: None,
        portal_certificate: None,
        roots: Vec::new(),
        passphrase: passphrase.map(text),
        unlock_file: unlock_file.map(PathBuf::from),
    }
}

/// A folder with a cabinet that a passphrase and a file unlock.
fn made() -> TempDir {
    let folder = tempfile::tempdir().unwrap();
    let person = Person::default();
    init(&ctx(folder.path(), &person), request(Some("brisk-lantern-oyster"), Some("keys/unlock.txt")))
        .unwrap();
    folder
}

#[test]
fn the_project_file_is_found_from_any_folder_below_it() {
    let folder = made();
    let below = folder.path().join("app/src/main");
    std::fs::create_dir_all(&below).unwrap();
    let person = Person::default();
    let file = ctx(&below, &person).project_file().unwrap();
    assert_eq!(file.project.title, "Ferries");
    assert_eq!(file.cabinet(), folder.path().join("ninekeys.cabinet"));
    assert_eq!(ctx(&below, &person).cabinet_path().unwrap(), folder.path().join("ninekeys.cabinet"));
}

#[test]
fn a_named_project_may_be_a_file_or_its_folder_and_counts_from_here() {
    let folder = made();
    let elsewhere = tempfile::tempdir().unwrap();
    let person = Person::default();
    for name in [folder.path().to_owned(), folder.path().join("ninekeys.toml")] {
        let mut ctx = ctx(elsewhere.path(), &person);
        ctx.project = Some(name);
        assert_eq!(ctx.project_file().unwrap().project.title, "Ferries");
    }
    let mut ctx = ctx(elsewhere.path(), &person);
    ctx.project = Some("missing".into());
    assert!(matches!(ctx.project_file(), Err(ProjectError::File(_))));
}

#[test]
fn a_cabinet_that_is_named_goes_before_the_projects() {
    let folder = made();
    let person = Person::default();
    let mut ctx = ctx(folder.path(), &person);
    ctx.cabinet = Some("other.cabinet".into());
    assert_eq!(ctx.cabinet_path().unwrap(), folder.path().join("other.cabinet"));
    let error = ctx.open().err().unwrap();
    assert!(error.to_string().contains("there is no cabinet at this place"), "{error}");
}

#[test]
fn without_a_project_file_the_cabinet_beside_is_taken() {
    let folder = made();
    std::fs::remove_file(folder.path().join("ninekeys.toml")).unwrap();
    let person = Person::default();
    let ctx = ctx(folder.path(), &person);
    assert!(matches!(ctx.project_file(), Err(ProjectError::Missing)));
    assert!(ctx.project_if_any().unwrap().is_none());
    assert!(ctx.open().is_ok());
    std::fs::remove_file(folder.path().join("ninekeys.cabinet")).unwrap();
    assert!(matches!(ctx.open(), Err(OpenError::Project(ProjectError::Missing))));
}

#[test]
fn a_project_file_that_is_wrong_is_an_error_and_not_a_missing_one() {
    let folder = made();
    std::fs::write(folder.path().join("ninekeys.toml"), "[policy]\ndue-days = \"soon\"\n").unwrap();
    let person = Person::default();
    let error = ctx(folder.path(), &person).project_if_any().err().unwrap();
    assert!(
        matches!(&error, ProjectError::Malformed { reason, .. } if reason.contains("due-days")),
        "{error}"
    );
}

#[test]
fn the_unlock_file_of_the_project_spares_the_question() {
    let folder = made();
    let person = Person { answers: Some("wrong"), ..Person::default() };
    let ctx = ctx(folder.path(), &person);
    let cabinet = ctx.open_unlocked().unwrap();
    assert_eq!(cabinet.unlocked_by().unwrap().label, "unlock-file");
    assert_eq!(person.asked.get(), 0);
}

#[test]
fn a_credential_that_is_given_goes_before_the_unlock_file() {
    let folder = made();
    let person = Person { given: Some("brisk-lantern-oyster"), ..Person::default() };
    let here = ctx(folder.path(), &person);
    let cabinet = here.open_unlocked().unwrap();
    assert_eq!(cabinet.unlocked_by().unwrap().label, "passphrase");
    let person = Person { given: Some("wrong"), answers: Some("brisk-lantern-oyster"), ..Person::default() };
    assert!(ctx(folder.path(), &person).open_unlocked().is_err(), "a wrong one is not passed over");
    assert_eq!(person.asked.get(), 0);
}

#[test]
fn a_person_is_asked_once_and_last_and_nobody_is_an_error() {
    let folder = made();
    std::fs::remove_dir_all(folder.path().join("keys")).unwrap();
    let person = Person { answers: Some("brisk-lantern-oyster"), ..Person::default() };
    assert!(ctx(folder.path(), &person).open_unlocked().is_ok());
    assert_eq!(person.asked.get(), 1);
    let nobody = Person::default();
    let error = ctx(folder.path(), &nobody).open_unlocked().err().unwrap();
    assert!(matches!(error, OpenError::NobodyToAsk(_)));
}

#[test]
fn when_the_project_file_cannot_be_written_nothing_is_made() {
    let folder = tempfile::tempdir().unwrap();
    let person = Person::default();
    let mut ctx = ctx(folder.path(), &person);
    // a cabinet in a folder that is not there
    ctx.cabinet = Some("nowhere/ninekeys.cabinet".into());
    assert!(init(&ctx, request(Some("brisk-lantern-oyster"), Some("unlock.txt"))).is_err());
    assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 0, "not even the unlock file");
}

#[test]
fn the_reports_of_init_name_what_was_made() {
    let folder = tempfile::tempdir().unwrap();
    let person = Person { answers: Some("quilted-harbour-anvil"), ..Person::default() };
    let report = init(&ctx(folder.path(), &person), request(None, None)).unwrap();
    assert_eq!((report.project.as_str(), report.cabinet.as_str()), ("ninekeys.toml", "ninekeys.cabinet"));
    assert!(report.passphrase && report.unlock_file.is_none());
    assert_eq!(person.asked.get(), 2);
}
