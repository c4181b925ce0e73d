use std::sync::atomic::AtomicBool;

use ninekeys_core::env::Silent;
use ninekeys_core::keys::SystemKeys;
use ninekeys_core::model::{DeviceFacts, Facts, IdentityFacts, IdentityPurpose, ItemId, State};
use ninekeys_formats::secret::{Secret, SecretText};
use tempfile::TempDir;

use super::*;
use crate::{IdentityFile, NewItem};

static STOP: AtomicBool = AtomicBool::new(false);

fn env() -> Env<'static> {
    let now = "2031-05-19T12:00:00Z".parse().unwrap();
    Env { now, keys: &SystemKeys, progress: &Silent, stop: &STOP }
}

fn text(text: &str) -> SecretText {
    Secret::new(text.into())
}

fn passphrase(words: &str) -> NewMember {
    NewMember::Passphrase { label: "people".into(), passphrase: text(words), work_factor: 4 }
}

fn device(name: &str) -> NewItem {
    let facts = DeviceFacts { identifier: name.into(), title: name.into() };
    NewItem::new(name, Facts::Device(facts), Some(Secret::new(b"secret of it".to_vec())))
}

struct Made {
    folder: TempDir,
    cabinet: Cabinet,
    identity: IdentityFile,
}

fn made() -> Made {
    let folder = tempfile::tempdir().unwrap();
    let identity = IdentityFile::make(env().now);
    let machine = NewMember::Recipient { label: "machine".into(), recipient: identity.recipient.clone() };
    let path = folder.path().join("cabinet");
    let cabinet = Cabinet::create(&path, &[passphrase("open sesame"), machine], &env()).unwrap();
    Made { folder, cabinet, identity }
}

fn put(cabinet: &mut Cabinet, name: &str) -> Result<ItemId, CabinetError> {
    cabinet.change(&format!("put {name}"), &env(), |change| change.put(device(name)))
}

#[test]
fn every_member_opens_it_and_nobody_else() {
    let made = made();
    let mut cabinet = Cabinet::open(&made.folder.path().join("cabinet")).unwrap();
    assert!(!cabinet.is_unlocked());
    let wrong = cabinet.unlock(&Credential::Passphrase(text("open sesam"))).unwrap_err();
    assert!(matches!(wrong, CabinetError::WrongCredential("passphrase")), "{wrong}");
    assert!(!cabinet.is_unlocked());
    cabinet.unlock(&Credential::Passphrase(text("open sesame"))).unwrap();
    assert_eq!(cabinet.unlocked_by(), Some("people"));
    cabinet.unlock(&Credential::Identity(made.identity.text.duplicate())).unwrap();
    assert_eq!(cabinet.unlocked_by(), Some("machine"));
    let stranger = IdentityFile::make(env().now);
    assert!(cabinet.unlock(&Credential::Identity(stranger.text)).is_err());
    let nonsense = cabinet.unlock(&Credential::Identity(text("not an identity"))).unwrap_err();
    assert!(matches!(nonsense, CabinetError::NotAnIdentity));
}

#[test]
fn secrets_need_unlocking_and_come_back_whole() {
    let Made { folder, mut cabinet, .. } = made();
    put(&mut cabinet, "pier").unwrap();
    let mut locked = Cabinet::open(&folder.path().join("cabinet")).unwrap();
    let inventory = locked.inventory().unwrap();
    let item = inventory.find("pier").unwrap();
    assert!(matches!(locked.secret(item), Err(CabinetError::Locked)));
    assert!(matches!(put(&mut locked, "quay"), Err(CabinetError::Locked)));
    locked.unlock(&Credential::Passphrase(text("open sesame"))).unwrap();
    assert_eq!(locked.secret(item).unwrap().lend(Clone::clone), b"secret of it");
}

#[test]
fn a_change_is_whole_or_nothing_and_one_row_of_history() {
    let Made { mut cabinet, .. } = made();
    let failed = cabinet.change("half", &env(), |change| {
        change.put(device("pier"))?;
        change.put(device("PIER"))
    });
    assert!(matches!(failed, Err(CabinetError::NameTaken(_))));
    assert_eq!(cabinet.inventory().unwrap().iter().count(), 0);
    put(&mut cabinet, "pier").unwrap();
    let history = cabinet.history().unwrap();
    assert_eq!(history.len(), 2, "made, and put");
    assert_eq!(history[1].body.what, "put pier");
    assert_eq!(history[1].body.items[0].name, "pier");
}

#[test]
fn what_replaces_an_item_is_the_next_generation_and_the_old_one_is_kept() {
    let Made { mut cabinet, .. } = made();
    let first = put(&mut cabinet, "pier").unwrap();
    let second = NewItem { replaces: Some(first), ..device("pier-2") };
    let second = cabinet.change("rotate", &env(), |change| change.put(second)).unwrap();
    let inventory = cabinet.inventory().unwrap();
    let (first, second) = (inventory.get(&first).unwrap(), inventory.get(&second).unwrap());
    assert_eq!((first.state, first.generation, first.revision), (State::Retired, 1, 2));
    assert_eq!((second.state, second.generation), (State::Active, 2));
    assert_eq!(second.replaces.as_ref(), Some(&first.id));
    cabinet.unlock(&Credential::Passphrase(text("open sesame"))).unwrap();
    assert!(cabinet.secret(first).is_ok(), "the old secret is kept");
}

#[test]
fn one_key_can_stand_in_several_identities() {
    let Made { mut cabinet, .. } = made();
    let key = put(&mut cabinet, "key").unwrap();
    for purpose in [IdentityPurpose::Distribution, IdentityPurpose::Push] {
        let facts = IdentityFacts {
            purpose,
            key,
            certificate: key,
            team: "GPFERRY009".into(),
            apps: Vec::new(),
            sandbox: false,
        };
        let item = NewItem::new(format!("{purpose:?}"), Facts::Identity(facts), None);
        cabinet.change("identity", &env(), |change| change.put(item)).unwrap();
    }
    let inventory = cabinet.inventory().unwrap();
    assert_eq!(inventory.dependents(&key).count(), 2);
}

/// Runs SQL on the file behind the tool's back.
fn meddle(folder: &TempDir, sql: &str) {
    let connection = rusqlite::Connection::open(folder.path().join("cabinet")).unwrap();
    connection.execute_batch(sql).unwrap();
}

#[test]
fn whatever_is_changed_behind_the_tools_back_is_found_at_unlocking() {
    let attacks = [
        ("update item set facts = replace(facts, 'pier', 'quay') where name = 'pier'", "seal"),
        ("update item set name = 'other' where name = 'pier'", "seal"),
        ("update item set state = 'retired' where name = 'pier'", "seal"),
        ("update item set created = '2031-05-19T12:00:01Z' where name = 'pier'", "seal"),
        ("update item set revision = 2 where name = 'pier'", "revision"),
        ("update item set seq = 3 where name = 'pier'", "revision"),
        (
            "update item set sealed = (select sealed from item where name = 'quay') where name = 'pier'",
            "seal",
        ),
        ("delete from item where name = 'pier'", "gone"),
        ("update history set body = replace(body, 'pier', 'xxxx') where seq = 2", "history row 2"),
        ("delete from history where seq = 2", "history row 2 is missing"),
        ("delete from history where seq = 3", "does not end"),
        ("update value set value = x'00' where name = 'history-mac'", "does not end"),
    ];
    for (sql, says) in attacks {
        let Made { folder, mut cabinet, .. } = made();
        put(&mut cabinet, "pier").unwrap();
        put(&mut cabinet, "quay").unwrap();
        drop(cabinet);
        meddle(&folder, sql);
        let mut cabinet = Cabinet::open(&folder.path().join("cabinet")).unwrap();
        let error = cabinet.unlock(&Credential::Passphrase(text("open sesame"))).unwrap_err();
        assert!(matches!(error, CabinetError::Tampered(_)), "{sql}: {error}");
        assert!(error.to_string().contains(says), "{sql}: {error}");
        assert!(!cabinet.is_unlocked(), "{sql}");
    }
}

#[test]
fn an_item_put_back_to_an_older_revision_is_found() {
    let Made { folder, mut cabinet, .. } = made();
    put(&mut cabinet, "pier").unwrap();
    let old = std::fs::read(folder.path().join("cabinet")).unwrap();
    let keep = "create table kept as select * from item";
    meddle(&folder, keep);
    let inventory = cabinet.inventory().unwrap();
    let item = inventory.find("pier").unwrap().clone();
    cabinet.change("revise", &env(), |change| change.revise(&item, None)).unwrap();
    drop((cabinet, old));
    meddle(
        &folder,
        "update item set (revision, seq, facts, sealed) = (select revision, seq, facts, sealed from kept);
         drop table kept",
    );
    let mut cabinet = Cabinet::open(&folder.path().join("cabinet")).unwrap();
    let error = cabinet.unlock(&Credential::Passphrase(text("open sesame"))).unwrap_err();
    assert!(error.to_string().contains("not the revision that the history says"), "{error}");
}

#[test]
fn a_copy_is_proved_and_opens_on_its_own() {
    let Made { folder, mut cabinet, identity } = made();
    put(&mut cabinet, "pier").unwrap();
    let copy = folder.path().join("copy");
    assert_eq!(cabinet.copy_proved(&copy).unwrap(), Proof { items: 1, history: 2 });
    assert!(!folder.path().join("copy-wal").exists(), "one file, no log beside it");
    let mut opened = Cabinet::open(&copy).unwrap();
    opened.unlock(&Credential::Identity(identity.text)).unwrap();
    assert_eq!(opened.inventory().unwrap().iter().count(), 1);
}

#[test]
fn a_cabinet_of_a_later_schema_is_left_alone() {
    let Made { folder, cabinet, .. } = made();
    drop(cabinet);
    meddle(&folder, "pragma user_version = 9");
    let error = Cabinet::open(&folder.path().join("cabinet")).err().unwrap();
    assert!(matches!(error, CabinetError::TooNew { found: 9, known: 1 }), "{error}");
}

#[test]
fn a_cabinet_needs_a_member_and_never_takes_the_place_of_a_file() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("cabinet");
    assert!(matches!(Cabinet::create(&path, &[], &env()), Err(CabinetError::LastMember(_))));
    std::fs::File::create(&path).unwrap();
    assert!(matches!(Cabinet::create(&path, &[passphrase("x")], &env()), Err(CabinetError::Exists)));
}
