//! Use cases at their own level: while one waits for an answer another is done, and neither loses what the other did.

#![allow(
    clippy::unwrap_used,
    clippy::panic,
    clippy::disallowed_methods,
    reason = "tests fail by panicking and look at files themselves"
)]

mod common;

use std::path::Path;

use common::{PASSPHRASE, Slow, app, ctx, key, made, text};
use ninekeys_cabinet::{CabinetError, Credential};
use ninekeys_core::model::Facts;
use ninekeys_formats::secret::Secret;
use ninekeys_ops::app::add::app_add;
use ninekeys_ops::app::change::app_change;
use ninekeys_ops::app::remove::app_remove;
use ninekeys_ops::cabinet::backup::backup;
use ninekeys_ops::cabinet::passphrase::passphrase;
use ninekeys_ops::cabinet::restore::restore;
use ninekeys_ops::cabinet::unlock_file::unlock_file;
use ninekeys_ops::keystore::change::{Request as ChangeRequest, keystore_change};
use ninekeys_ops::keystore::create::keystore_add_key;
use ninekeys_ops::keystore::take_out::{TakeOutError, keystore_take_out};

/// The aliases of a keystore; nothing when it is not there.
fn aliases(folder: &Path, name: &str) -> Vec<String> {
    let quick = Slow::default();
    let inventory = ctx(folder, &quick).open().unwrap().inventory().unwrap();
    let found = inventory.find(name).ok().map(|item| &item.facts);
    let Some(Facts::Keystore(facts)) = found else { return Vec::new() };
    facts.entries.iter().map(|entry| entry.alias.clone()).collect()
}

fn add_key(folder: &Path, alias: &str) {
    let quick = Slow::default();
    keystore_add_key(&ctx(folder, &quick), "first", key(alias)).unwrap();
}

#[test]
fn a_key_that_came_while_the_passphrase_was_asked_for_stays_beside_the_change() {
    let folder = made();
    let slow = Slow::who_lets(|| add_key(folder.path(), "second"));
    let request = ChangeRequest {
        name: "first".into(),
        alias: Some("first".into()),
        new_name: None,
        new_alias: Some("oldest".into()),
        role: None,
        add_apps: Vec::new(),
        drop_apps: Vec::new(),
        password: None,
    };
    keystore_change(&ctx(folder.path(), &slow), request).unwrap();
    assert_eq!(aliases(folder.path(), "first"), ["oldest", "second"]);
}

#[test]
fn two_keys_added_at_once_are_both_there() {
    let folder = made();
    let slow = Slow::who_lets(|| add_key(folder.path(), "second"));
    keystore_add_key(&ctx(folder.path(), &slow), "first", key("third")).unwrap();
    assert_eq!(aliases(folder.path(), "first"), ["first", "second", "third"]);
}

#[test]
fn a_yes_counts_for_the_keys_that_were_there_when_it_was_asked_for() {
    let folder = made();
    let slow = Slow::who_lets(|| add_key(folder.path(), "second"));
    let refused = keystore_take_out(&ctx(folder.path(), &slow), "first", false);
    assert!(matches!(refused, Err(TakeOutError::Cabinet(CabinetError::ChangedMeanwhile(_)))), "{refused:?}");
    assert_eq!(aliases(folder.path(), "first"), ["first", "second"]);
    // asked again it is about what is there now
    keystore_take_out(&ctx(folder.path(), &Slow::default()), "first", false).unwrap();
    assert_eq!(aliases(folder.path(), "first"), Vec::<String>::new());
}

#[test]
fn an_app_taken_out_takes_nothing_with_it_that_was_written_meanwhile() {
    let folder = made();
    let quick = Slow::default();
    app_add(&ctx(folder.path(), &quick), app("quayside", None)).unwrap();
    let slow = Slow::who_lets(|| {
        let quick = Slow::default();
        app_change(&ctx(folder.path(), &quick), &app("crossing", Some("Die Überfahrt"))).unwrap();
    });
    app_remove(&ctx(folder.path(), &slow), "quayside", false).unwrap();
    let project = ctx(folder.path(), &quick).project_file().unwrap().project;
    assert_eq!(project.apps.len(), 1);
    assert_eq!(project.app("crossing").unwrap().1.title, "Die Überfahrt");
}

#[test]
fn an_unlock_file_made_while_a_new_passphrase_is_typed_opens_what_is_sealed_anew() {
    let folder = made();
    let slow = Slow::who_lets(|| {
        let quick = Slow::default();
        unlock_file(&ctx(folder.path(), &quick), Path::new("machine.txt")).unwrap();
        add_key(folder.path(), "second");
    });
    passphrase(&ctx(folder.path(), &slow), Some(text("quilted-harbour-anvil"))).unwrap();
    let quick = Slow::default();
    let ctx = ctx(folder.path(), &quick);
    let mut cabinet = ctx.open().unwrap();
    let words = std::fs::read_to_string(folder.path().join("machine.txt")).unwrap();
    cabinet.unlock(&Credential::UnlockFile(Secret::new(words))).unwrap();
    let inventory = cabinet.inventory().unwrap();
    let keys = inventory.iter().filter(|item| matches!(item.facts, Facts::Key(_)));
    let opened: Vec<_> = keys.map(|item| cabinet.secret(item).unwrap()).collect();
    assert_eq!(opened.len(), 2);
    let old = ctx.open().unwrap().unlock(&Credential::Passphrase(text(PASSPHRASE)));
    assert!(matches!(old, Err(CabinetError::WrongPassphrase)), "{old:?}");
}

#[test]
fn what_was_made_while_a_restore_was_asked_for_is_set_aside_with_the_rest() {
    let folder = made();
    let quick = Slow::default();
    let copy = backup(&ctx(folder.path(), &quick), &["copies".into()], false).unwrap().copies.pop().unwrap();
    add_key(folder.path(), "second");
    let slow = Slow::who_lets(|| add_key(folder.path(), "third"));
    // the copy is unlocked first: the question about going back comes with the second answer
    let restored = restore(&ctx(folder.path(), &slow), Path::new(&copy), false);
    assert!(restored.is_ok(), "{restored:?}");
    assert_eq!(aliases(folder.path(), "first"), ["first"]);
    let aside = std::fs::read_dir(folder.path()).unwrap().flatten().map(|entry| entry.path());
    let aside = aside.filter(|path| path.display().to_string().contains(".replaced-")).collect::<Vec<_>>();
    let [aside] = aside.as_slice() else { panic!("{aside:?}") };
    let mut ctx = ctx(folder.path(), &quick);
    ctx.cabinet = Some(aside.clone());
    let trust = ninekeys_cabinet::Trust { pin: None, memory: &ninekeys_cabinet::Forgetful };
    let inventory = ninekeys_cabinet::Cabinet::open(aside, trust).unwrap().inventory().unwrap();
    let Facts::Keystore(facts) = &inventory.find("first").unwrap().facts else { panic!("no keystore") };
    let kept: Vec<&str> = facts.entries.iter().map(|entry| entry.alias.as_str()).collect();
    assert_eq!(kept, ["first", "second", "third"]);
}
