//! The board and the rules for cabinets, over made-up inventories.

#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests fail by panicking")]

#[path = "common/made_up.rs"]
mod made_up;

use std::collections::BTreeMap;

use jiff::Timestamp;
use made_up::{id, time};
use ninekeys_core::board::{Board, BoardView, Mark, board};
use ninekeys_core::findings::{Level, Mend};
use ninekeys_core::model::{
    Android, App, CertificateFacts, DeviceFacts, Facts, IdentityFacts, IdentityPurpose, Inventory, Ios, Item,
    KeyFacts, KeystoreEntry, KeystoreFacts, LastBackup, Name, NineKey, Project, Role, State, Use,
};
use ninekeys_core::rules::{CabinetLook, CabinetStanding, OwnFile, check_cabinet};

fn now() -> Timestamp {
    time("2031-05-19T12:00:00Z")
}

fn item(number: u8, name: &str, seq: u64, facts: Facts) -> Item {
    Item { made: seq, seq, ..made_up::item(number, name, facts) }
}

/// A keystore with one key for some apps, whose certificate ends then; made by the history row `seq`.
fn keystore(number: u8, name: &str, role: Role, apps: &[&str], ends: &str, seq: u64) -> Vec<Item> {
    let key = KeyFacts {
        algorithm: "EC P-256".into(),
        public_key: "00".into(),
        fingerprint: format!("{number:064x}"),
    };
    let certificate = CertificateFacts {
        key: Some(id(number)),
        der: "00".into(),
        fingerprint: format!("{number:064x}"),
        subject: "CN=Ferries".into(),
        issuer: "CN=Ferries".into(),
        serial: "01".into(),
        not_before: time("2030-01-01T00:00:00Z"),
        not_after: time(ends),
    };
    let entry = KeystoreEntry {
        alias: name.into(),
        role,
        key: id(number),
        certificate: id(number + 100),
        uses: apps.iter().map(|app| Use { app: (*app).to_owned(), role }).collect(),
        after: None,
    };
    let weak_password = name.contains("weak");
    let facts = KeystoreFacts { entries: vec![entry], weak_password, foreign_password: false };
    vec![
        item(number, &format!("{name}/k"), seq, Facts::Key(key)),
        item(number + 100, &format!("{name}/k/certificate"), seq, Facts::Certificate(Box::new(certificate))),
        item(number + 50, name, seq, Facts::Keystore(facts)),
    ]
}

/// Crossing on both sides, Deckhand on iOS alone, Quayside on Android alone.
fn project() -> Project {
    let android = |package: &str| {
        Some(Android {
            package: package.into(),
            destinations: vec![],
            permissions: None,
            store_keys: None,
            stores: BTreeMap::new(),
        })
    };
    let ios = |bundle_id: &str| Some(Ios { bundle_id: bundle_id.into(), ..Ios::default() });
    let app = |title: &str, android, ios| App { title: title.into(), android, ios, ..App::default() };
    let mut project = Project { title: "Gannet Point Ferries".into(), ..Project::default() };
    let apps = [
        ("crossing", app("Crossing", android("example.crossing"), ios("example.crossing"))),
        ("deckhand", app("Deckhand", None, ios("example.deckhand"))),
        ("quayside", app("Quayside", android("example.quayside"), None)),
    ];
    project.apps = apps.into_iter().map(|(name, app)| (Name::new(name).unwrap(), app)).collect();
    project
}

fn draw(items: Vec<Item>, last_backup: Option<LastBackup>) -> Board {
    let (project, inventory) = (project(), Inventory::new(items));
    board(&BoardView { project: &project, inventory: &inventory, last_backup, now: now() })
}

fn mark(board: &Board, row: usize, key: NineKey) -> Mark {
    board.rows[row].cells.iter().find(|cell| cell.key == key).unwrap().mark
}

fn backup(seq: u64) -> Option<LastBackup> {
    Some(LastBackup { at: time("2031-05-01T00:00:00Z"), seq })
}

#[test]
fn a_row_has_nine_cells_in_order_and_rows_go_by_title() {
    let board = draw(vec![], None);
    let titles: Vec<&str> = board.rows.iter().map(|row| row.title.as_str()).collect();
    assert_eq!(titles, ["Crossing", "Deckhand", "Quayside"]);
    for row in &board.rows {
        let keys: Vec<NineKey> = row.cells.iter().map(|cell| cell.key).collect();
        assert_eq!(keys, NineKey::ALL);
    }
}

#[test]
fn a_signing_key_is_missing_only_where_there_is_an_android_side() {
    let board = draw(vec![], None);
    assert_eq!(mark(&board, 0, NineKey::Signing), Mark::Missing);
    assert_eq!(mark(&board, 1, NineKey::Signing), Mark::NotNeeded);
    assert_eq!(mark(&board, 0, NineKey::Upload), Mark::NotNeeded);
    let tasks: Vec<&str> = board.tasks.iter().map(|task| task.text.as_str()).collect();
    let wanted = [
        "Crossing has no signing key",
        "there is no distribution identity",
        "Crossing has no provisioning profile",
        "Deckhand has no provisioning profile",
        "Quayside has no signing key",
    ];
    assert_eq!(tasks, wanted, "one identity serves all apps of a team, and is missed once");
    assert_eq!(board.tasks[0].next, Mend::CreateKey { app: "crossing".into() });
}

#[test]
fn one_key_can_serve_several_apps() {
    let both = ["crossing", "quayside"];
    let board = draw(keystore(1, "shared", Role::Signing, &both, "2059-01-01T00:00:00Z", 1), backup(1));
    assert_eq!(mark(&board, 0, NineKey::Signing), Mark::InUse);
    assert_eq!(mark(&board, 2, NineKey::Signing), Mark::InUse);
    assert!(board.tasks.iter().all(|task| !task.text.contains("signing key")), "{:?}", board.tasks);
}

#[test]
fn a_signing_key_without_copy_is_at_risk_an_upload_key_is_not() {
    let mut items = keystore(1, "signing", Role::Signing, &["crossing"], "2059-01-01T00:00:00Z", 5);
    items.extend(keystore(2, "upload", Role::Upload, &["crossing"], "2059-01-01T00:00:00Z", 6));
    let board = draw(items.clone(), backup(4));
    assert_eq!(mark(&board, 0, NineKey::Signing), Mark::AtRisk);
    assert_eq!(mark(&board, 0, NineKey::Upload), Mark::InUse);
    assert_eq!(mark(&board, 0, NineKey::Cabinet), Mark::InUse);
    assert_eq!(mark(&draw(items.clone(), backup(5)), 0, NineKey::Signing), Mark::InUse);
    assert_eq!(mark(&draw(items, None), 0, NineKey::Cabinet), Mark::AtRisk);
}

#[test]
fn what_ends_within_the_policys_days_is_due_and_what_ended_is_expired() {
    let state = |ends: &str| {
        let items = keystore(1, "k", Role::Upload, &["crossing"], ends, 1);
        mark(&draw(items, backup(1)), 0, NineKey::Upload)
    };
    assert_eq!(state("2031-05-19T11:59:59Z"), Mark::Expired);
    assert_eq!(state("2031-05-19T12:00:00Z"), Mark::Due);
    assert_eq!(state("2031-07-03T11:59:59Z"), Mark::Due);
    assert_eq!(state("2031-07-03T12:00:00Z"), Mark::InUse);
}

#[test]
fn the_worst_of_several_keys_is_shown_and_tasks_go_by_urgency() {
    let mut items = keystore(1, "fresh", Role::Signing, &["crossing"], "2059-01-01T00:00:00Z", 1);
    items.extend(keystore(2, "stale", Role::Signing, &["crossing"], "2031-05-01T00:00:00Z", 1));
    items.extend(keystore(3, "loose", Role::Signing, &["quayside"], "2059-01-01T00:00:00Z", 9));
    items.extend(keystore(4, "soon", Role::Upload, &["quayside"], "2031-06-01T00:00:00Z", 1));
    let board = draw(items, backup(1));
    assert_eq!(mark(&board, 0, NineKey::Signing), Mark::Expired);
    let marks: Vec<Mark> = board.tasks.iter().map(|task| task.mark).collect();
    assert_eq!(marks[..3], [Mark::Expired, Mark::AtRisk, Mark::Due]);
    assert!(marks[3..].iter().all(|mark| *mark == Mark::Missing), "{marks:?}");
    assert_eq!(board.tasks[1].next, Mend::Backup);
}

#[test]
fn a_retired_keystore_serves_nobody() {
    let mut items = keystore(1, "old", Role::Signing, &["crossing"], "2059-01-01T00:00:00Z", 1);
    for item in &mut items {
        item.state = State::Retired;
    }
    assert_eq!(mark(&draw(items, backup(1)), 0, NineKey::Signing), Mark::Missing);
}

/// An identity for all apps whose certificate ends then; without an end it was only asked for.
fn identity(
    number: u8,
    name: &str,
    purpose: IdentityPurpose,
    ends: Option<&str>,
    with_key: bool,
) -> Vec<Item> {
    let certificate = ends.map(|ends| CertificateFacts {
        key: with_key.then(|| id(number)),
        der: "00".into(),
        fingerprint: format!("{number:064x}"),
        subject: "CN=Ferries".into(),
        issuer: "CN=Pier".into(),
        serial: "01".into(),
        not_before: time("2030-01-01T00:00:00Z"),
        not_after: time(ends),
    });
    let facts = IdentityFacts {
        purpose,
        key: with_key.then(|| id(number)),
        certificate: certificate.is_some().then(|| id(number + 100)),
        team: Some("GPFERRY009".into()),
        apps: Vec::new(),
        request: None,
        held_by: None,
        revoked: None,
    };
    let mut out = vec![item(number + 50, name, 1, Facts::Identity(Box::new(facts)))];
    out.extend(certificate.map(|facts| {
        item(number + 100, &format!("{name}/certificate"), 1, Facts::Certificate(Box::new(facts)))
    }));
    out
}

#[test]
fn the_best_of_identities_that_look_alike_counts_and_one_without_key_or_certificate_is_none() {
    let state = |items: Vec<Item>| mark(&draw(items, backup(1)), 1, NineKey::Distribution);
    let distribution = IdentityPurpose::Distribution;
    let ended = || identity(1, "old", distribution, Some("2031-05-01T00:00:00Z"), true);
    let good = || identity(2, "new", distribution, Some("2032-05-01T00:00:00Z"), true);
    assert_eq!(state(Vec::new()), Mark::Missing);
    assert_eq!(state(ended()), Mark::Expired);
    assert_eq!(state([ended(), good()].concat()), Mark::InUse);
    assert_eq!(state(identity(3, "asked", distribution, None, true)), Mark::Missing);
    assert_eq!(state(identity(3, "alone", distribution, Some("2032-05-01T00:00:00Z"), false)), Mark::Missing);
    let development = identity(4, "dev", IdentityPurpose::Development, Some("2032-05-01T00:00:00Z"), true);
    let board = draw(development, backup(1));
    assert_eq!(
        (mark(&board, 1, NineKey::Development), mark(&board, 1, NineKey::Distribution)),
        (Mark::InUse, Mark::Missing)
    );
    let due = draw(identity(5, "due", distribution, Some("2031-06-01T00:00:00Z"), true), backup(1));
    let task = due.tasks.iter().find(|task| task.mark == Mark::Due).unwrap();
    assert_eq!(task.next, Mend::Rotate { item: "due".into() });
}

fn hygiene(items: Vec<Item>, last_backup: Option<LastBackup>, at: &str) -> Vec<(&'static str, Level)> {
    let inventory = Inventory::new(items);
    let standing = CabinetStanding::Current;
    let now = time(at);
    let look =
        CabinetLook { inventory: &inventory, last_backup, off_site: last_backup, files: &[], standing, now };
    let verdict = check_cabinet(&look);
    verdict.findings.iter().map(|finding| (finding.rule, finding.level)).collect()
}

#[test]
fn a_missing_backup_weighs_by_what_would_be_lost() {
    let today = "2031-05-19T12:00:00Z";
    let signing = || keystore(1, "signing", Role::Signing, &[], "2059-01-01T00:00:00Z", 5);
    let upload = || keystore(2, "upload", Role::Upload, &[], "2059-01-01T00:00:00Z", 5);
    assert_eq!(hygiene(signing(), None, today), [("backup-missing", Level::Warning)]);
    assert_eq!(hygiene(upload(), None, today), [("backup-missing", Level::Note)]);
    assert_eq!(hygiene(signing(), backup(5), today), []);
    assert_eq!(hygiene(vec![], None, today), [], "there is nothing to lose");
}

#[test]
fn what_unlocks_is_for_its_owner_alone_and_in_no_repository() {
    let inventory = Inventory::new([]);
    let found = |unlocks: bool, open_to_others: bool, in_repository: bool| {
        let files = [OwnFile { path: "unlock.txt".into(), unlocks, open_to_others, in_repository }];
        let (standing, now) = (CabinetStanding::Current, now());
        let look = CabinetLook {
            inventory: &inventory,
            last_backup: None,
            off_site: None,
            files: &files,
            standing,
            now,
        };
        check_cabinet(&look).findings.iter().map(|one| (one.rule, one.level)).collect::<Vec<_>>()
    };
    assert_eq!(found(true, false, false), []);
    assert_eq!(found(true, true, false), [("file-permissions-open", Level::Error)]);
    assert_eq!(found(true, false, true), [("secret-in-repository", Level::Error)]);
    assert_eq!(found(false, true, true), [("file-permissions-open", Level::Note)]);
}

#[test]
fn a_copy_elsewhere_that_lacks_a_key_is_said_after_a_while() {
    let inventory = Inventory::new(keystore(1, "signing", Role::Signing, &[], "2059-01-01T00:00:00Z", 5));
    let found = |off_site: Option<LastBackup>, at: &str| {
        let (standing, now) = (CabinetStanding::Current, time(at));
        let look = CabinetLook {
            inventory: &inventory,
            last_backup: backup(5),
            off_site,
            files: &[],
            standing,
            now,
        };
        check_cabinet(&look).findings.into_iter().map(|one| (one.rule, one.text)).collect::<Vec<_>>()
    };
    let text = "the copy that is kept elsewhere is 245 days old and lacks signing".to_owned();
    assert_eq!(found(backup(4), "2032-01-01T00:00:00Z"), [("backup-stale", text)]);
    assert_eq!(found(backup(5), "2032-01-01T00:00:00Z"), [], "it has the key");
    assert_eq!(found(backup(4), "2031-05-20T00:00:00Z"), [], "it is new");
    assert_eq!(found(None, "2032-01-01T00:00:00Z"), [], "nobody said that there is one");
}

#[test]
fn a_keystore_that_was_changed_since_still_has_the_copy_of_its_key() {
    let mut items = keystore(1, "signing", Role::Signing, &["crossing"], "2059-01-01T00:00:00Z", 5);
    for item in &mut items {
        (item.name, item.seq, item.revision) = (format!("other-{}", item.name), 9, 2);
    }
    assert_eq!(hygiene(items.clone(), backup(5), "2031-05-19T12:00:00Z"), []);
    assert_eq!(mark(&draw(items, backup(5)), 0, NineKey::Signing), Mark::InUse);
}

#[test]
fn an_older_and_a_parted_cabinet_are_errors() {
    let inventory = Inventory::new([]);
    for (standing, rule) in [
        (CabinetStanding::Older { by: "this machine".into(), known: 9, found: 4 }, "cabinet-older"),
        (CabinetStanding::Parted { by: "the project file".into(), row: 4 }, "cabinet-parted"),
    ] {
        let now = time("2031-05-19T12:00:00Z");
        let look = CabinetLook {
            inventory: &inventory,
            last_backup: None,
            off_site: None,
            files: &[],
            standing,
            now,
        };
        let found: Vec<_> = check_cabinet(&look).findings.iter().map(|f| (f.rule, f.level)).collect();
        assert_eq!(found, [(rule, Level::Error)]);
    }
}

#[test]
fn a_backup_grows_stale_only_when_something_came_after_it() {
    let device = |seq| {
        let facts = DeviceFacts { identifier: "x".into(), title: "Pier".into() };
        vec![item(1, "pier", seq, Facts::Device(facts))]
    };
    assert_eq!(hygiene(device(5), backup(5), "2032-01-01T00:00:00Z"), []);
    assert_eq!(hygiene(device(6), backup(5), "2031-05-20T00:00:00Z"), []);
    assert_eq!(hygiene(device(6), backup(5), "2032-01-01T00:00:00Z"), [("backup-stale", Level::Note)]);
}

#[test]
fn a_guessable_password_is_told_until_the_keystore_goes() {
    let mut items = keystore(1, "weak", Role::Upload, &[], "2059-01-01T00:00:00Z", 1);
    let today = "2031-05-19T12:00:00Z";
    assert_eq!(hygiene(items.clone(), backup(1), today), [("password-weak", Level::Warning)]);
    items[2].state = State::Retired;
    assert_eq!(hygiene(items, backup(1), today), []);
}

#[test]
fn facts_survive_their_json_form_and_name_their_links() {
    for item in keystore(1, "k", Role::Signing, &["crossing"], "2059-01-01T00:00:00Z", 1) {
        let json = serde_json::to_string(&item.facts).unwrap();
        assert_eq!(serde_json::from_str::<Facts>(&json).unwrap(), item.facts, "{json}");
        let links = item.facts.links().len();
        let expected = match item.facts {
            Facts::Keystore(_) => 2,
            Facts::Certificate(_) => 1,
            _ => 0,
        };
        assert_eq!(links, expected, "{json}");
    }
}
