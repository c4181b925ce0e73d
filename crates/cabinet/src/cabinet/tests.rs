use std::cell::RefCell;
use std::collections::BTreeMap;
use std::sync::atomic::AtomicBool;

use ninekeys_core::env::Silent;
use ninekeys_core::keys::SystemKeys;
use ninekeys_core::model::{
    DeviceFacts, Facts, IdentityFacts, IdentityPurpose, ItemId, KeyFacts, KeystoreEntry, KeystoreFacts,
    PushEnvironment, Role as KeyRole, State, Use,
};
use ninekeys_formats::secret::{Secret, SecretText};
use tempfile::TempDir;

use super::*;
use crate::listing::{Listing, Wanted};
use crate::look::Look;
use crate::row::{Body, Form, Touch, Version};
use crate::trust::{Forgetful, Known};
use crate::{NewItem, NewMember};

static STOP: AtomicBool = AtomicBool::new(false);

fn env() -> Env<'static> {
    let now = "2031-05-19T12:00:00Z".parse().unwrap();
    Env { now, keys: &SystemKeys, progress: &Silent, scratch: &ninekeys_core::stream::InMemory, stop: &STOP }
}

fn text(text: &str) -> SecretText {
    Secret::new(text.into())
}

fn passphrase(words: &str) -> NewMember {
    NewMember::Passphrase { label: "people".into(), passphrase: text(words), work_factor: 4 }
}

fn key(name: &str) -> NewItem {
    let facts = KeyFacts { algorithm: "EC P-256".into(), public_key: name.into(), fingerprint: name.into() };
    NewItem::new(name, Facts::Key(facts), Some(Secret::new(format!("secret of {name}").into_bytes())))
}

struct Made {
    folder: TempDir,
    cabinet: Cabinet<'static>,
    file: SecretText,
}

impl Made {
    fn path(&self) -> PathBuf {
        self.folder.path().join("cabinet")
    }

    fn open(&self) -> Result<Cabinet<'static>, CabinetError> {
        Cabinet::open(&self.path(), untrusting())
    }

    fn unlock(&self) -> Credential {
        Credential::UnlockFile(self.file.duplicate())
    }
}

fn untrusting() -> Trust<'static> {
    Trust { pin: None, memory: &Forgetful }
}

fn made() -> Made {
    let folder = tempfile::tempdir().unwrap();
    let members = [passphrase("open sesame"), NewMember::UnlockFile { label: "machine".into() }];
    let path = folder.path().join("cabinet");
    let (cabinet, issued) = Cabinet::create(&path, &members, &Forgetful, &env()).unwrap();
    let file = issued.into_iter().find_map(|issued| issued.text).unwrap();
    Made { folder, cabinet, file }
}

fn put(cabinet: &mut Cabinet<'_>, name: &str) -> Result<ItemId, CabinetError> {
    cabinet.change(&format!("put {name}"), &env(), |change| change.put(key(name)))
}

/// A machine with a memory.
#[derive(Default)]
struct Machine {
    heads: RefCell<BTreeMap<Digest, Known>>,
    places: RefCell<BTreeMap<PathBuf, Digest>>,
}

impl Memory for Machine {
    fn known(&self, identity: &Digest) -> Option<Known> {
        self.heads.borrow().get(identity).cloned()
    }

    fn at(&self, path: &Path) -> Option<Digest> {
        self.places.borrow().get(path).copied()
    }

    fn keep(&self, path: &Path, identity: &Digest, known: &Known) {
        self.heads.borrow_mut().insert(*identity, known.clone());
        self.places.borrow_mut().insert(path.into(), *identity);
    }

    fn machine(&self) -> String {
        "wharf".into()
    }
}

#[test]
fn every_member_opens_it_and_nobody_else() {
    let made = made();
    let mut cabinet = made.open().unwrap();
    assert!(!cabinet.is_unlocked());
    let wrong = cabinet.unlock(&Credential::Passphrase(text("open sesam"))).unwrap_err();
    assert!(matches!(wrong, CabinetError::WrongPassphrase), "{wrong}");
    assert!(!cabinet.is_unlocked());
    cabinet.unlock(&Credential::Passphrase(text("open sesame"))).unwrap();
    assert_eq!(cabinet.unlocked_by().unwrap().label, "people");
    cabinet.unlock(&made.unlock()).unwrap();
    assert_eq!(cabinet.unlocked_by().unwrap().label, "machine");
    let nonsense = cabinet.unlock(&Credential::UnlockFile(text("not an unlock file"))).unwrap_err();
    assert!(matches!(nonsense, CabinetError::NotAnUnlockFile));
}

#[test]
fn an_unlock_file_knows_its_cabinet_and_opens_no_forged_one() {
    let (one, other) = (made(), made());
    // somebody puts a cabinet of their own in the place, wrapped to whatever stands in clear
    std::fs::copy(other.path(), one.path()).unwrap();
    let mut cabinet = one.open().unwrap();
    let error = cabinet.unlock(&one.unlock()).unwrap_err();
    assert!(matches!(error, CabinetError::Another { by: PinnedBy::UnlockFile, .. }), "{error}");
    // the victim's keys under the passphrase, copied into the forged cabinet, open and name another one
    let error = cabinet.unlock(&Credential::Passphrase(text("closed sesame"))).unwrap_err();
    assert!(matches!(error, CabinetError::WrongPassphrase), "{error}");
    assert!(!cabinet.is_unlocked());
    // and the project file says so before anything is asked
    let pin = Some(one.cabinet.pin());
    let error = Cabinet::open(&one.path(), Trust { pin, memory: &Forgetful }).err().unwrap();
    assert!(matches!(error, CabinetError::Another { by: PinnedBy::ProjectFile, .. }), "{error}");
}

#[test]
fn a_cabinet_put_in_place_after_the_unlocking_is_another_one() {
    let (one, mut other) = (made(), made());
    put(&mut other.cabinet, "quay").unwrap();
    let mut cabinet = one.open().unwrap();
    cabinet.unlock(&one.unlock()).unwrap();
    std::fs::copy(other.path(), one.path()).unwrap();
    let written = put(&mut cabinet, "pier").unwrap_err();
    assert!(matches!(written, CabinetError::Another { by: PinnedBy::Machine, .. }), "{written}");
    let looked = cabinet.open_every_seal().unwrap_err();
    assert!(matches!(looked, CabinetError::Another { by: PinnedBy::Machine, .. }), "{looked}");
    // it has to be unlocked again by whoever wants to go on, and then the unlock file says it
    let error = one.open().unwrap().unlock(&one.unlock()).unwrap_err();
    assert!(matches!(error, CabinetError::Another { by: PinnedBy::UnlockFile, .. }), "{error}");
}

#[test]
fn what_a_machine_has_proved_it_knows_again_byte_for_byte_and_nothing_else() {
    let mut made = made();
    put(&mut made.cabinet, "pier").unwrap();
    let (path, identity) = (made.path(), made.cabinet.identity());
    let machine = Machine::default();
    let open = || Cabinet::open(&path, Trust { pin: None, memory: &machine });
    let known = || machine.known(&identity).unwrap();
    drop(open().unwrap());
    let first = known();
    assert!(first.listing.is_some());
    let again = open().unwrap();
    assert!(again.inventory().unwrap().find("pier").is_ok());
    assert!(again.proven.records().is_err(), "looked at, and no more");
    drop(again);
    assert_eq!(known(), first);

    // unlocked and worked with, it is proved record by record, and what is known of that row stays
    let mut cabinet = open().unwrap();
    cabinet.unlock(&made.unlock()).unwrap();
    assert!(cabinet.proven.records().is_ok());
    assert_eq!(known(), first);
    put(&mut cabinet, "quay").unwrap();
    drop(cabinet);
    let second = known();
    assert!(second.head.seq == first.head.seq + 1 && second.listing.is_none(), "of another row");
    drop(open().unwrap());
    assert!(known().listing.is_some_and(|listing| Some(listing) != first.listing));

    // another byte is found, whatever is remembered
    meddle(&made, "update record set facts = replace(facts, 'quay', 'quai')");
    assert!(matches!(open(), Err(CabinetError::Tampered(_))));
    // whoever opens it believes no memory; whoever looks believes the one that says it proved these bytes, and no other
    let forged = listing_of(&path);
    for (listing, believed) in [(first.listing, false), (None, false), (forged, true)] {
        machine.heads.borrow_mut().get_mut(&identity).unwrap().listing = listing;
        assert!(matches!(open(), Err(CabinetError::Tampered(_))), "{listing:?}");
        assert_eq!(Look::at(&path, Trust { pin: None, memory: &machine }).is_ok(), believed, "{listing:?}");
    }
    meddle(&made, "update record set facts = replace(facts, 'quai', 'quay')");
    assert!(open().unwrap().inventory().unwrap().find("quay").is_ok(), "and is found out by the next proof");
    // for a cabinet with another newest row it means nothing
    machine.heads.borrow_mut().get_mut(&identity).unwrap().head = first.head;
    machine.heads.borrow_mut().get_mut(&identity).unwrap().listing = forged;
    assert!(open().unwrap().inventory().unwrap().find("quay").is_ok());
}

fn listing_of(path: &Path) -> Option<Digest> {
    let wanted = Wanted { facts: false, items: false, abridged: false, listing: true };
    Listing::read(&SqliteStore::open(path).unwrap(), wanted).unwrap().digest()
}

#[test]
fn a_look_knows_again_what_was_proved_and_proves_the_rest() {
    let mut made = made();
    put(&mut made.cabinet, "pier").unwrap();
    let (path, identity) = (made.path(), made.cabinet.identity());
    let machine = Machine::default();
    let look = |pin: Option<Pin>| Look::at(&path, Trust { pin, memory: &machine });
    let forget_listing = || machine.heads.borrow_mut().get_mut(&identity).unwrap().listing = None;
    let names = |look: &Look| look.inventory.iter().map(|item| item.name.clone()).collect::<Vec<_>>();

    // the first look proves all of it, the second knows it again: rows that are broken since are left to who opens it
    let first = look(None).unwrap();
    meddle(&made, "update history set signature = zeroblob(64) where seq = 3");
    let again = look(None).unwrap();
    assert_eq!((names(&first), first.identity), (names(&again), again.identity));
    assert_eq!((again.standing, again.last_backup), (Standing::Current, None));
    assert!(matches!(Cabinet::open(&path, untrusting()), Err(CabinetError::Tampered(_))));
    forget_listing();
    assert!(matches!(look(None), Err(CabinetError::Tampered(_))), "what is not known again is proved");
}

#[test]
fn a_look_is_held_against_pin_place_and_newest_row_as_whoever_opens_it_is() {
    let mut made = made();
    put(&mut made.cabinet, "pier").unwrap();
    let (path, identity, pin) = (made.path(), made.cabinet.identity(), made.cabinet.pin());
    let machine = Machine::default();
    let look = |pin: Option<Pin>| Look::at(&path, Trust { pin, memory: &machine });
    let pinned = || machine.known(&identity).unwrap().pinned;
    look(None).unwrap();
    assert_eq!(pinned(), None);
    // a pin that was not held against it before is; then it is known too
    assert_eq!(look(Some(pin)).unwrap().standing, Standing::Current);
    assert_eq!(pinned(), Some(pin.head));
    assert_eq!(look(Some(pin)).unwrap().standing, Standing::Current);
    let later = Pin { head: Head { seq: 9, ..pin.head }, ..pin };
    let older = Standing::Older { by: PinnedBy::ProjectFile, known: 9, found: 3 };
    assert_eq!(look(Some(later)).unwrap().standing, older);
    let other = Pin { identity: listing_of(&path).unwrap(), ..pin };
    assert!(matches!(look(Some(other)), Err(CabinetError::Another { by: PinnedBy::ProjectFile, .. })));

    // at another place it is met first, and that is remembered
    let elsewhere = made.folder.path().join("elsewhere");
    std::fs::copy(made.path(), &elsewhere).unwrap();
    assert_eq!(machine.at(&elsewhere), None);
    let there = Look::at(&elsewhere, Trust { pin: None, memory: &machine }).unwrap();
    assert_eq!((there.identity, machine.at(&elsewhere)), (identity, Some(identity)));

    // a change that leaves every record as it is leaves an older file with the same records
    let old = std::fs::read(&path).unwrap();
    made.cabinet.change("told", &env(), |_| Ok::<_, CabinetError>(())).unwrap();
    assert_eq!(look(None).unwrap().standing, Standing::Current);
    std::fs::write(&path, &old).unwrap();
    let older = Standing::Older { by: PinnedBy::Machine, known: 4, found: 3 };
    assert_eq!(look(None).unwrap().standing, older);

    // another cabinet at the place is none of what is remembered
    let another = self::made();
    std::fs::copy(another.path(), &path).unwrap();
    assert!(matches!(look(None), Err(CabinetError::Another { by: PinnedBy::Machine, .. })));
}

#[test]
fn a_backup_of_another_history_is_never_known_again() {
    let mut made = made();
    let row = made.cabinet.head();
    let backup = |head: Head| Backup {
        at: env().now,
        place: "stick".into(),
        seq: head.seq,
        head: head.hash,
        file: head.hash,
        by: "people".into(),
        off_site: false,
    };
    let note = |cabinet: &mut Cabinet<'_>, head: Head| {
        cabinet.change("backup", &env(), |change| change.put_backup(&backup(head))).unwrap();
    };
    note(&mut made.cabinet, row);
    let machine = Machine::default();
    let path = made.path();
    let look = || Look::at(&path, Trust { pin: None, memory: &machine }).unwrap().last_backup;
    let listing = || machine.known(&made.cabinet.identity()).unwrap().listing;
    assert_eq!((look().map(|backup| backup.seq), look().map(|backup| backup.seq)), (Some(2), Some(2)));
    assert!(listing().is_some());
    let mut cabinet = Cabinet::open(&path, untrusting()).unwrap();
    cabinet.unlock(&made.unlock()).unwrap();
    note(&mut cabinet, Head { seq: 1, hash: row.hash });
    assert_eq!((look().map(|backup| backup.seq), look().map(|backup| backup.seq)), (Some(2), Some(2)));
    assert!(listing().is_none());
}

#[test]
fn a_machine_notices_another_cabinet_at_the_place_and_an_older_file() {
    let mut made = made();
    let machine = Machine::default();
    let open = || Cabinet::open(&made.path(), Trust { pin: None, memory: &machine });
    drop(open().unwrap());
    let old = std::fs::read(made.path()).unwrap();
    put(&mut made.cabinet, "pier").unwrap();
    let path = made.path();
    let open = || Cabinet::open(&path, Trust { pin: None, memory: &machine });
    assert_eq!(open().unwrap().standing(), Standing::Current);
    let new = std::fs::read(&path).unwrap();
    std::fs::write(&path, &old).unwrap();
    let mut cabinet = open().unwrap();
    let older = Standing::Older { by: PinnedBy::Machine, known: 3, found: 2 };
    assert_eq!(cabinet.standing(), older);
    let error = cabinet.unlock(&made.unlock()).unwrap_err();
    assert!(matches!(error, CabinetError::NotCurrent(standing) if standing == older), "{error}");
    cabinet.unlock_to_look(&made.unlock()).unwrap();
    assert!(matches!(put(&mut cabinet, "quay"), Err(CabinetError::NotCurrent(_))), "it is not written");
    drop(cabinet);
    // the old file goes on where no memory is, and the machine that has seen the other one says that they parted
    let mut elsewhere = Cabinet::open(&path, untrusting()).unwrap();
    elsewhere.unlock(&made.unlock()).unwrap();
    put(&mut elsewhere, "quay").unwrap();
    drop(elsewhere);
    assert_eq!(open().unwrap().standing(), Standing::Parted { by: PinnedBy::Machine, row: 3 });
    let other = self::made();
    std::fs::copy(other.path(), &path).unwrap();
    let error = open().err().unwrap();
    assert!(matches!(error, CabinetError::Another { by: PinnedBy::Machine, .. }), "{error}");
    std::fs::write(&path, new).unwrap();
    assert_eq!(open().unwrap().standing(), Standing::Current);
}

#[test]
fn secrets_need_unlocking_and_come_back_whole() {
    let mut made = made();
    put(&mut made.cabinet, "pier").unwrap();
    let mut locked = made.open().unwrap();
    let inventory = locked.inventory().unwrap();
    let item = inventory.find("pier").unwrap();
    assert!(matches!(locked.secret(item), Err(CabinetError::Locked)));
    assert!(matches!(put(&mut locked, "quay"), Err(CabinetError::Locked)));
    locked.unlock(&Credential::Passphrase(text("open sesame"))).unwrap();
    assert_eq!(locked.secret(item).unwrap().lend(Clone::clone), b"secret of pier");
}

#[test]
fn a_change_is_whole_or_nothing_and_one_row_of_history() {
    let Made { folder: _folder, mut cabinet, .. } = made();
    let failed = cabinet.change("half", &env(), |change| {
        change.put(key("pier"))?;
        change.put(key("PIER"))
    });
    assert!(matches!(failed, Err(CabinetError::NameTaken(_))));
    assert_eq!(cabinet.inventory().unwrap().iter().count(), 0);
    put(&mut cabinet, "pier").unwrap();
    let history = cabinet.history(true).unwrap();
    let told: Vec<&str> = history.iter().map(|row| row.what.as_str()).collect();
    assert_eq!(told, ["cabinet made", "members given their keys", "put pier"]);
    assert_eq!((history[2].by.as_str(), history[2].records), ("people", 1));
}

#[test]
fn what_another_process_added_is_seen_inside_the_change_and_nothing_is_written_over_it() {
    let mut made = made();
    put(&mut made.cabinet, "pier").unwrap();
    let mut other = made.open().unwrap();
    other.unlock(&made.unlock()).unwrap();
    let before = other.inventory().unwrap().find("pier").unwrap().clone();
    let renamed = Item { name: "jetty".into(), ..before.clone() };
    made.cabinet.change("rename", &env(), |change| change.revise(&renamed, None)).unwrap();
    let late = other.change("late", &env(), |change| {
        assert_eq!(change.inventory().find("jetty").unwrap().revision, 2, "read under the lock");
        change.revise(&before, None)
    });
    assert!(matches!(late, Err(CabinetError::ChangedMeanwhile(_))));
    assert!(made.open().unwrap().inventory().unwrap().find("jetty").is_ok());
}

/// Seals a key anew, as a change of its facts does.
fn reseal(made: &Made, id: ItemId) {
    let mut other = made.open().unwrap();
    other.unlock(&made.unlock()).unwrap();
    let change = |change: &mut Change<'_>| {
        let inventory = change.inventory();
        let mut item = inventory.get(&id).unwrap().clone();
        item.name = format!("{}x", item.name);
        change.revise(&item, Some(Secret::new(b"another secret".to_vec())))
    };
    other.change("change", &env(), change).unwrap();
}

#[test]
fn a_seal_made_anew_by_another_process_is_no_broken_one() {
    let mut made = made();
    let id = put(&mut made.cabinet, "one").unwrap();
    let mut looking = made.open().unwrap();
    looking.unlock(&made.unlock()).unwrap();
    reseal(&made, id);
    assert_eq!(looking.open_every_seal().unwrap().items, 1);
    let item = looking.inventory().unwrap().get(&id).unwrap().clone();
    assert_eq!(item.name, "onex", "it is looked at as it is now");
    assert_eq!(looking.secret(&item).unwrap().lend(Clone::clone), b"another secret");
}

#[test]
fn a_copy_taken_while_the_passphrase_changes_is_proved_with_the_keys_in_it() {
    let mut made = made();
    put(&mut made.cabinet, "one").unwrap();
    let mut copying = made.open().unwrap();
    copying.unlock(&made.unlock()).unwrap();
    let members = &made.cabinet.proven.policy.members;
    let people = members.iter().find(|member| member.kind == MemberKind::Passphrase).unwrap().id;
    let new = passphrase("another");
    made.cabinet.change("passphrase", &env(), |change| change.replace_member(&people, &new)).unwrap();
    let path = made.folder.path().join("copy");
    std::fs::File::create(&path).unwrap();
    assert_eq!(copying.copy_proved(&path).unwrap().items, 1);
}

#[test]
fn what_replaces_an_item_is_the_next_generation_and_the_old_one_is_kept() {
    let mut made = made();
    let first = put(&mut made.cabinet, "pier").unwrap();
    let second = NewItem { replaces: Some(first), ..key("pier-2") };
    let second = made.cabinet.change("rotate", &env(), |change| change.put(second)).unwrap();
    let inventory = made.cabinet.inventory().unwrap();
    let (first, second) = (inventory.get(&first).unwrap(), inventory.get(&second).unwrap());
    assert_eq!((first.state, first.generation, first.revision), (State::Retired, 1, 2));
    assert_eq!((second.state, second.generation), (State::Active, 2));
    assert_eq!((first.made, first.seq), (3, 4), "its key came in with the first row of the two");
    assert_eq!(second.replaces.as_ref(), Some(&first.id));
    assert!(made.cabinet.secret(first).is_ok(), "the old secret is kept");
}

#[test]
fn one_key_can_stand_in_several_identities() {
    let Made { folder: _folder, mut cabinet, .. } = made();
    let own = put(&mut cabinet, "key").unwrap();
    for purpose in [IdentityPurpose::Distribution, IdentityPurpose::Push(PushEnvironment::Production)] {
        let team = "GPFERRY009".into();
        let facts = IdentityFacts {
            purpose,
            key: Some(own),
            certificate: Some(own),
            team: Some(team),
            apps: Vec::new(),
            request: None,
            held_by: None,
            revoked: None,
        };
        let item = NewItem::new(format!("{purpose:?}"), Facts::Identity(Box::new(facts)), None);
        cabinet.change("identity", &env(), |change| change.put(item)).unwrap();
    }
    assert_eq!(cabinet.inventory().unwrap().dependents(&own).count(), 2);
}

#[test]
fn a_key_lives_in_the_compartment_of_the_app_that_it_serves_and_moves_with_it() {
    let mut made = made();
    let entry = |key, apps: &[&str]| KeystoreEntry {
        alias: "k".into(),
        role: KeyRole::Signing,
        key,
        certificate: key,
        uses: apps.iter().map(|app| Use { app: (*app).to_owned(), role: KeyRole::Signing }).collect(),
        after: None,
    };
    let store = |entry| {
        Facts::Keystore(KeystoreFacts { entries: vec![entry], weak_password: false, foreign_password: false })
    };
    let pier = made
        .cabinet
        .change("create", &env(), |change| {
            let pier = change.put(key("pier"))?;
            let secret = Some(Secret::new(b"password".to_vec()));
            change.put(NewItem::new("store", store(entry(pier, &["crossing"])), secret))?;
            Ok::<_, CabinetError>(pier)
        })
        .unwrap();
    let where_is = |cabinet: &mut Cabinet<'_>| {
        let names = ["pier", "store"];
        cabinet
            .change("look", &env(), |change| {
                let inventory = change.inventory();
                Ok::<_, CabinetError>(
                    names.map(|name| change.compartment_of(&inventory.find(name).unwrap().id)),
                )
            })
            .unwrap()
    };
    assert_eq!(where_is(&mut made.cabinet), ["app/crossing", "app/crossing"]);
    made.cabinet
        .change("serve another", &env(), |change| {
            let inventory = change.inventory();
            let mut item = inventory.find("store").unwrap().clone();
            item.facts = store(entry(pier, &["crossing", "quayside"]));
            change.revise(&item, None)
        })
        .unwrap();
    assert_eq!(where_is(&mut made.cabinet), ["shared", "shared"]);
    let mut opened = made.open().unwrap();
    opened.unlock(&made.unlock()).unwrap();
    let item = opened.inventory().unwrap().get(&pier).unwrap().clone();
    assert_eq!(opened.secret(&item).unwrap().lend(Clone::clone), b"secret of pier");
    assert_eq!(opened.open_every_seal().unwrap().items, 2);
}

#[test]
fn a_new_passphrase_opens_and_the_old_one_opens_nothing_made_since() {
    let mut made = made();
    put(&mut made.cabinet, "pier").unwrap();
    let old_file = std::fs::read(made.path()).unwrap();
    let old = made.cabinet.unlocked_by().unwrap().id;
    made.cabinet
        .change("passphrase", &env(), |change| change.replace_member(&old, &passphrase("quilted anvil")))
        .unwrap();
    let mut later = made.open().unwrap();
    let refused = later.unlock(&Credential::Passphrase(text("open sesame"))).unwrap_err();
    assert!(matches!(refused, CabinetError::WrongPassphrase), "{refused}");
    later.unlock(&Credential::Passphrase(text("quilted anvil"))).unwrap();
    assert_eq!(later.open_every_seal().unwrap().items, 1);
    put(&mut later, "quay").unwrap();
    later.unlock(&made.unlock()).unwrap();
    assert_eq!(later.open_every_seal().unwrap().items, 2, "the other member has the new keys too");
    // what was sealed before stands nowhere in the file any more
    let old_seal = {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("old");
        std::fs::write(&path, &old_file).unwrap();
        let store = SqliteStore::open(&path).unwrap();
        let mut found = Vec::new();
        store
            .each_sealed(&mut |seal| {
                found.push(seal.bytes);
                Ok(())
            })
            .unwrap();
        found
    };
    let now = std::fs::read(made.path()).unwrap();
    for seal in old_seal.iter().filter(|seal| seal.len() < 100) {
        assert!(!now.windows(seal.len()).any(|window| window == seal), "an old seal is still in the file");
    }
}

#[test]
fn a_member_put_back_from_an_old_file_opens_nothing() {
    let mut made = made();
    let old_path = made.folder.path().join("old");
    std::fs::copy(made.path(), &old_path).unwrap();
    let old = made.cabinet.unlocked_by().unwrap().id;
    made.cabinet
        .change("passphrase", &env(), |change| change.replace_member(&old, &passphrase("quilted anvil")))
        .unwrap();
    let sql = format!(
        "attach '{}' as old; insert into record select * from old.record where id = '{old}';
         insert into sealed select * from old.sealed where id = '{old}'",
        old_path.display()
    );
    meddle(&made, &sql);
    let error = made.open().err().unwrap();
    assert!(error.to_string().contains("newest row of its history"), "{error}");
}

/// Runs SQL on the file behind the tool's back.
fn meddle(made: &Made, sql: &str) {
    let connection = rusqlite::Connection::open(made.path()).unwrap();
    connection.execute_batch(sql).unwrap_or_else(|error| panic!("{sql}: {error}"));
}

/// Whether a change behind the tool's back is found by somebody who does not unlock, or only by somebody who does.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Found {
    Locked,
    Unlocking,
}

/// What somebody does to the file, what the tool says of it, and who finds it. `PIER` stands for the record of one item.
const FORGERIES: &[(&str, &str, Found)] = &[
    ("update record set facts = replace(facts, 'pier', 'quay') PIER", "newest row", Found::Locked),
    ("update record set facts = facts || ' ' PIER", "newest row", Found::Locked),
    ("update record set kind = 'backup' PIER", "newest row", Found::Locked),
    ("update record set kind = 'other' PIER", "kind that is not known", Found::Locked),
    ("update record set id = 'x' PIER", "newest row", Found::Locked),
    ("update record set sealed_digest = null PIER", "newest row", Found::Locked),
    ("update record set sealed_digest = x'00' PIER", "digest", Found::Locked),
    ("delete from record PIER", "newest row", Found::Locked),
    ("insert into record values ('item', 'zz', '{}', null)", "newest row", Found::Locked),
    ("insert into record values ('backup', 'b', '{}', null)", "newest row", Found::Locked),
    ("delete from record where kind = 'envelope'", "newest row", Found::Locked),
    ("delete from record where kind = 'passphrase'", "newest row", Found::Locked),
    ("update history set body = replace(body, 'pier', 'xxxx') where seq = 3", "signed", Found::Locked),
    ("update history set form = 'policy' where seq = 3", "not of the form", Found::Locked),
    ("update history set form = 'other' where seq = 3", "form that is not known", Found::Locked),
    ("update history set form = 'change' where seq = 1", "who may write", Found::Locked),
    ("update history set signature = zeroblob(64) where seq = 4", "signed", Found::Locked),
    ("update history set signature = x'' where seq = 1", "signed", Found::Locked),
    ("update history set seq = 9 where seq = 4", "row 4 is missing", Found::Locked),
    ("update history set seq = -4 where seq = 4", "seq", Found::Locked),
    ("delete from history where seq = 3", "row 3 is missing", Found::Locked),
    ("delete from history where seq = 4", "newest row", Found::Locked),
    ("delete from history", "no history", Found::Locked),
    (
        "insert into history select 5, form, body, signature from history where seq = 4",
        "signed",
        Found::Locked,
    ),
    ("update sealed set bytes = zeroblob(40) where kind = 'item'", "seal", Found::Unlocking),
    ("delete from sealed where kind = 'item'", "seal", Found::Unlocking),
    ("delete from sealed where kind = 'envelope'", "seal", Found::Unlocking),
    ("update sealed set bytes = zeroblob(40) where kind = 'passphrase'", "seal", Found::Unlocking),
    ("insert into sealed values ('item', 'zz', x'00')", "seal", Found::Unlocking),
    (
        "update sealed set id = 'zz' where id = (select min(id) from sealed where kind = 'item')",
        "seal",
        Found::Unlocking,
    ),
    ("create table extra (a)", "tables", Found::Locked),
    ("create index i on record (facts)", "tables", Found::Locked),
    ("create view v as select 1", "tables", Found::Locked),
    ("drop table sealed; create table sealed (kind, id, bytes)", "tables", Found::Locked),
    ("create trigger t before insert on history begin select raise(ignore); end", "tables", Found::Locked),
    (
        "drop table history; create view history as with recursive r(seq) as (select 1 union all \
         select seq + 1 from r) select seq, 'change' form, '' body, x'' signature from r",
        "tables",
        Found::Locked,
    ),
    ("pragma journal_mode = wal", "write-ahead log", Found::Locked),
    ("update history set signature = zeroblob(70000000) where seq = 3", "", Found::Locked),
    ("update sealed set bytes = zeroblob(70000000) where kind = 'item'", "", Found::Unlocking),
];

#[test]
fn whatever_is_changed_behind_the_tools_back_is_found_and_most_of_it_without_unlocking() {
    for (sql, says, found) in FORGERIES {
        let sql = sql.replace("PIER", "where kind = 'item' and facts like '%pier%'");
        let mut made = made();
        put(&mut made.cabinet, "pier").unwrap();
        put(&mut made.cabinet, "quay").unwrap();
        let other = self::made();
        let made = Made { cabinet: other.cabinet, ..made };
        let machine = Machine::default();
        let look = || Look::at(&made.path(), Trust { pin: None, memory: &machine });
        let before = look().unwrap();
        meddle(&made, &sql);
        // whoever only looks, and has seen it before, is told of it or shown what was there
        match look() {
            Err(error) => assert!(error.to_string().contains(*says), "{sql}: {error}"),
            Ok(after) => {
                assert!(before.inventory.iter().eq(after.inventory.iter()), "{sql}");
                assert_eq!(after.last_backup, before.last_backup, "{sql}");
                assert!(!sql.contains(" record "), "{sql}: not told");
            }
        }
        let error = match (made.open(), found) {
            (Err(error), Found::Locked) => error,
            (Ok(mut cabinet), Found::Unlocking) => {
                let error = cabinet.unlock(&made.unlock()).or_else(|_| {
                    assert!(!cabinet.is_unlocked(), "{sql}");
                    cabinet.unlock(&Credential::Passphrase(text("open sesame")))
                });
                error.unwrap_err()
            }
            (opened, _) => panic!("{sql}: opened {}, to be found {found:?}", opened.is_ok()),
        };
        assert!(matches!(error, CabinetError::Tampered(_)), "{sql}: {error}");
        assert!(error.to_string().contains(*says), "{sql}: {error}");
    }
}

#[test]
fn an_item_put_back_to_an_older_revision_is_found_without_unlocking() {
    let mut made = made();
    put(&mut made.cabinet, "pier").unwrap();
    let old = made.folder.path().join("old");
    std::fs::copy(made.path(), &old).unwrap();
    let item = made.cabinet.inventory().unwrap().find("pier").unwrap().clone();
    made.cabinet.change("revise", &env(), |change| change.revise(&item, None)).unwrap();
    let put_back = format!(
        "attach '{}' as old; replace into record select * from old.record; replace into sealed select * from old.sealed",
        old.display()
    );
    meddle(&made, &put_back);
    let error = made.open().err().unwrap();
    assert!(error.to_string().contains("newest row of its history"), "{error}");
}

#[test]
fn a_journal_that_names_another_file_is_refused_before_the_database_sees_it() {
    let made = made();
    let victim = made.folder.path().join("victim");
    std::fs::write(&victim, b"keep me").unwrap();
    let mut journal = vec![0; 512];
    journal.extend_from_slice(victim.to_str().unwrap().as_bytes());
    journal.extend([0; 8]);
    journal.extend([0xd9, 0xd5, 0x05, 0xf9, 0x20, 0xa1, 0x63, 0xd7]);
    std::fs::write(crate::sqlite::beside(&made.path(), "-journal"), journal).unwrap();
    let error = made.open().err().unwrap();
    assert!(error.to_string().contains("names another file"), "{error}");
    assert_eq!(std::fs::read(&victim).unwrap(), b"keep me");
}

#[test]
fn a_copy_is_proved_opens_on_its_own_and_is_not_written_when_it_is_looked_at() {
    let mut made = made();
    put(&mut made.cabinet, "pier").unwrap();
    let copy = made.folder.path().join("copy");
    let proof = made.cabinet.copy_proved(&copy).unwrap();
    assert_eq!((proof.items, proof.head.seq), (1, 3));
    let before = std::fs::read(&copy).unwrap();
    let mut opened = Cabinet::open_copy(&copy, untrusting()).unwrap();
    opened.unlock_to_look(&made.unlock()).unwrap();
    assert_eq!(opened.inventory().unwrap().iter().count(), 1);
    drop(opened);
    assert_eq!(std::fs::read(&copy).unwrap(), before);
    let names: Vec<_> =
        std::fs::read_dir(made.folder.path()).unwrap().map(|e| e.unwrap().file_name()).collect();
    assert_eq!(names.len(), 2, "{names:?}");
}

#[test]
fn a_restore_sets_aside_what_is_there_says_what_goes_and_is_taken_for_honest_elsewhere() {
    let mut made = made();
    put(&mut made.cabinet, "pier").unwrap();
    let copy = made.folder.path().join("copy");
    let proof = made.cabinet.copy_proved(&copy).unwrap();
    put(&mut made.cabinet, "quay").unwrap();
    let machine = Machine::default();
    let path = made.path();
    drop(Cabinet::open(&path, Trust { pin: None, memory: &machine }).unwrap());

    let mut present = made.open().unwrap();
    present.unlock(&made.unlock()).unwrap();
    let mut back = Cabinet::open_copy(&copy, untrusting()).unwrap();
    back.unlock_to_look(&made.unlock()).unwrap();
    let differences = present.differences(&back).unwrap();
    assert_eq!((differences.lost.clone(), differences.rows), (vec!["quay".to_owned()], 1));
    let source = Backup {
        at: env().now,
        place: "copy".into(),
        seq: proof.head.seq,
        head: proof.head.hash,
        file: proof.head.hash,
        by: "people".into(),
        off_site: false,
    };
    let aside = made.folder.path().join("aside");
    let proof = present.restore(&mut back, &source, &aside, &mut || Ok(()), &env()).unwrap();
    assert_eq!((proof.items, proof.head.seq), (1, 4));
    drop(present);
    let known = Cabinet::open(&path, Trust { pin: None, memory: &machine }).unwrap();
    assert_eq!(known.standing(), Standing::Current, "somebody who could do everything gave the rest up");
    assert!(known.inventory().unwrap().find("quay").is_err());
    assert_eq!(known.last_backup().map(|backup| backup.seq), Some(3), "the copy is a copy");
    let kept = Cabinet::open_copy(&aside, untrusting()).unwrap();
    assert!(kept.inventory().unwrap().find("quay").is_ok(), "what was given up is set aside");
}

#[test]
fn a_cabinet_of_another_layout_is_left_alone() {
    let made = made();
    meddle(&made, "pragma user_version = 9");
    let error = made.open().err().unwrap();
    assert!(matches!(error, CabinetError::TooNew { found: 9, known: 2 }), "{error}");
}

#[test]
fn a_cabinet_needs_a_member_and_never_takes_the_place_of_a_file() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("cabinet");
    assert!(matches!(Cabinet::create(&path, &[], &Forgetful, &env()), Err(CabinetError::LastMember)));
    std::fs::write(&path, b"something").unwrap();
    let made = Cabinet::create(&path, &[passphrase("x")], &Forgetful, &env());
    assert!(matches!(made, Err(CabinetError::Exists)));
}

#[test]
fn a_clock_far_behind_the_newest_change_writes_nothing() {
    let mut made = made();
    let early = Env { now: "2031-05-01T00:00:00Z".parse().unwrap(), ..env() };
    let error = made.cabinet.change("early", &early, |change| change.put(key("pier"))).unwrap_err();
    assert!(matches!(error, CabinetError::ClockBehind { .. }), "{error}");
    assert!(put(&mut made.cabinet, "pier").is_ok(), "it can go on");
}

#[test]
fn ten_thousand_devices_are_one_change() {
    let mut made = made();
    let device = |number: usize| {
        let name = format!("device-{number:05}");
        NewItem::new(name.clone(), Facts::Device(DeviceFacts { identifier: name.clone(), title: name }), None)
    };
    made.cabinet
        .change("fill", &env(), |change| {
            (0..10_000).try_for_each(|number| change.put(device(number)).map(|_| ()))
        })
        .unwrap();
    assert_eq!(made.open().unwrap().inventory().unwrap().iter().count(), 10_000);
}

/// A row as a limited member could write it with a program of their own: the records changed as they like, with any
/// touches, under a true or a false state.
struct Forger<'a> {
    made: &'a Made,
    keys: MemberKeys,
}

impl Forger<'_> {
    fn append(
        &self,
        form: Form,
        put: &[(&crate::records::Key, &Record)],
        touches: Vec<Touch>,
        at: Timestamp,
    ) {
        let mut store = SqliteStore::open(&self.made.path()).unwrap();
        let proven = prove(&store).unwrap();
        let mut records = proven.records().unwrap().clone();
        store.begin().unwrap();
        for (key, record) in put {
            store.put_record(&record.stored(key), None).unwrap();
            records.insert((*key).clone(), (*record).clone());
        }
        let policy = (form == Form::Policy).then(|| proven.policy.clone());
        let state = crate::records::state(&records);
        let (machine, what) = ("m".into(), "forged".into());
        let body = Body { at, by: self.keys.id(), machine, what, touches, state, policy, abandoned: None };
        let body = serde_json::to_string(&body).unwrap();
        let seq = proven.head.seq + 1;
        let hash =
            crate::row::hash(Some(&proven.head.hash), seq, form, &crate::row::body_digest(body.as_bytes()));
        let signature =
            crate::row::sign(&self.keys.signing, &proven.identity, &Head { seq, hash }).unwrap().to_vec();
        store.add_row(&crate::StoredRow { seq, form: form.word().into(), body, signature }).unwrap();
        store.commit().unwrap();
    }
}

fn release(name: &str, app: &str) -> NewItem {
    let facts = format!(
        r#"{{"kind": "release", "app": "{app}", "id": "example.gannetpoint.crossing", "version": "1", "code": 1,
        "destination": "direct", "file": "a.apk", "size": 1, "content": "00", "signed_with": "k", "signer": "00",
        "certificate": null, "profile": null, "schemes": [], "signed": "2031-05-19T12:00:00Z", "by": "s"}}"#
    );
    NewItem::new(name, serde_json::from_str(&facts).unwrap(), None)
}

/// A cabinet with a member who signs Crossing's builds, and that member's keys.
fn with_signer() -> (Made, SecretText) {
    let mut made = made();
    let new = NewMember::UnlockFile { label: "build".into() };
    let issued = made.cabinet.change("add", &env(), |change| {
        change.put(release("first", "crossing"))?;
        let role = Role::Signer { compartments: vec!["app/crossing".into()], exports: false };
        change.add_member(&new, role)
    });
    let text = issued.unwrap().text.unwrap();
    (made, text)
}

#[test]
fn a_signer_signs_and_does_nothing_else_and_a_manager_vouches_for_it_later() {
    let (mut made, file) = with_signer();
    let mut own = made.open().unwrap();
    own.unlock(&Credential::UnlockFile(file)).unwrap();
    own.change("sign", &env(), |change| change.put(release("second", "crossing"))).unwrap();
    let may_not = |error: CabinetError| assert!(matches!(error, CabinetError::NotAllowed { .. }), "{error}");
    may_not(own.change("other", &env(), |change| change.put(release("third", "quayside"))).unwrap_err());
    let error = own.change("key", &env(), |change| change.put(key("pier"))).unwrap_err();
    assert!(
        matches!(error, CabinetError::NotGiven { .. }),
        "it has not even the key to seal it with: {error}"
    );
    let first = own.inventory().unwrap().find("first").unwrap().clone();
    may_not(own.change("revise", &env(), |change| change.revise(&first, None)).unwrap_err());
    let own_id = own.unlocked_by().unwrap().id;
    let new = NewMember::UnlockFile { label: "more".into() };
    assert!(own.change("member", &env(), |change| change.replace_member(&own_id, &new)).is_err());
    let status = made.open().unwrap().status().unwrap();
    assert_eq!((status.anchor, status.newest.seq), (3, 4), "the signer's row is proved by itself");
    put(&mut made.cabinet, "quay").unwrap();
    assert_eq!(made.open().unwrap().status().unwrap().anchor, 5);
}

#[test]
fn a_limited_member_can_smuggle_nothing() {
    type Forge = fn(&Forger<'_>, &Record);
    let cases: [(&str, Forge); 6] = [
        ("calls something what it is not", |forger, record| {
            // a release in another app's compartment, said to be in its own
            let (key, other) = ((RecordKind::Item, "a".repeat(32)), in_quayside(record));
            let touch = touch_of(&key, "app/crossing", None, Some(other.version));
            forger.append(Form::Change, &[(&key, &other)], vec![touch], env().now);
        }),
        ("changes more than it says", |forger, record| {
            let (said, unsaid) = ((RecordKind::Item, "a".repeat(32)), (RecordKind::Item, "b".repeat(32)));
            let touch = touch_of(&said, "app/crossing", None, Some(record.version));
            forger.append(Form::Change, &[(&said, record), (&unsaid, record)], vec![touch], env().now);
        }),
        ("may not change what it changes", |forger, record| {
            let (key, before) = first_item(forger.made);
            let touch = touch_of(&key, "app/crossing", Some(before.version), Some(record.version));
            forger.append(Form::Change, &[(&key, record)], vec![touch], env().now);
        }),
        ("does not leave what it says", |forger, record| {
            let key = (RecordKind::Item, "a".repeat(32));
            let other = Record::new("other".into(), None);
            let touch = touch_of(&key, "app/crossing", None, Some(other.version));
            forger.append(Form::Change, &[(&key, record)], vec![touch], env().now);
        }),
        ("only a manager changes members", |forger, _| {
            forger.append(Form::Policy, &[], Vec::new(), env().now);
        }),
        ("is older than the one before it", |forger, record| {
            let key = (RecordKind::Item, "a".repeat(32));
            let touch = touch_of(&key, "app/crossing", None, Some(record.version));
            forger.append(
                Form::Change,
                &[(&key, record)],
                vec![touch],
                "2031-05-01T00:00:00Z".parse().unwrap(),
            );
        }),
    ];
    for (says, forge) in cases {
        let (made, file) = with_signer();
        let (keys, _) = MemberKeys::from_text(&file).unwrap();
        let record = Record::new(first_item(&made).1.facts.replace("first", "second"), None);
        forge(&Forger { made: &made, keys }, &record);
        let error = made.open().err().unwrap_or_else(|| panic!("not found: {says}"));
        assert!(error.to_string().contains(says), "{says}: {error}");
    }
}

fn first_item(made: &Made) -> (crate::records::Key, Record) {
    let proven = prove(&SqliteStore::open(&made.path()).unwrap()).unwrap();
    let found = proven.records().unwrap().iter().find(|((kind, _), _)| *kind == RecordKind::Item);
    found.map(|(key, record)| (key.clone(), record.clone())).unwrap()
}

fn in_quayside(record: &Record) -> Record {
    Record::new(record.facts.replace("app/crossing", "app/quayside"), None)
}

fn touch_of(
    key: &crate::records::Key,
    compartment: &str,
    before: Option<Version>,
    after: Option<Version>,
) -> Touch {
    Touch {
        kind: key.0,
        of: "release".into(),
        id: key.1.clone(),
        compartment: compartment.into(),
        before,
        after,
    }
}
