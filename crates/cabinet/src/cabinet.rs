//! The cabinet: proved when it is opened, unlocked for its secrets, changed in whole steps.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use jiff::Timestamp;
use ninekeys_core::env::Env;
use ninekeys_core::model::{Facts, Inventory, Item, ItemId, LastBackup};
use ninekeys_formats::secret::{SecretBytes, SecretText};

use crate::CabinetError;
use crate::change::{Author, Change, Issued, checked_seal};
use crate::compartment::Binding;
use crate::digest::Digest;
use crate::history::HistoryRow;
use crate::member::{Credential, Keyring, MemberKeys, NewMember, open_envelope, open_with_passphrase};
use crate::policy::{MANAGE, Member, MemberKind, Policy, Role, SHARED};
use crate::proof::{CLOCKS_DIFFER, Proven, Purpose, prove, prove_for, standing};
use crate::records::{Backup, Intention, NamedBy, Record, compare_seals, compartment_of, compartment_wanted};
use crate::row::{Head, RecordKind};
use crate::sqlite::SqliteStore;
use crate::store::Store;
use crate::trust::{Known, Memory, Pin, PinnedBy, Standing, Trust};

/// An open cabinet. Everything that it tells was proved: by whom it was written, and that nothing was changed since.
pub struct Cabinet<'m> {
    pub(crate) store: Box<dyn Store>,
    path: PathBuf,
    trust: Trust<'m>,
    pub(crate) proven: Proven,
    standing: Standing,
    pub(crate) unlocked: Option<Unlocked>,
}

pub(crate) struct Unlocked {
    pub(crate) member: Member,
    pub(crate) keys: MemberKeys,
    ring: Keyring,
}

impl Unlocked {
    /// What an author needs.
    pub(crate) fn parts(&mut self) -> (&Member, &MemberKeys, &mut Keyring) {
        (&self.member, &self.keys, &mut self.ring)
    }
}

/// What was proved of a whole cabinet.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Proof {
    /// Items in it.
    pub items: usize,
    /// Its newest row of history.
    pub head: Head,
}

/// What can be said of a cabinet without unlocking it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Status {
    /// What is pinned: the hash of its first row.
    pub identity: Digest,
    /// When it was made.
    pub made: Timestamp,
    /// Its members.
    pub members: Vec<Member>,
    /// Its newest row of history.
    pub newest: HistoryRow,
    /// The newest row that a manager signed, which vouches for those before it.
    pub anchor: u64,
    /// Backups that are of this history, oldest first.
    pub backups: Vec<Backup>,
    /// What is on its way out, by id.
    pub intentions: Vec<(String, Intention)>,
    /// How it stands to what is known of it.
    pub standing: Standing,
    /// Who says that it is the one that is meant; nobody when nothing pins it.
    pub pinned_by: Vec<PinnedBy>,
}

impl<'m> Cabinet<'m> {
    /// Makes a cabinet in a new or empty file, for these members, who may do everything; at least one. Returns the
    /// unlock files' texts with it.
    ///
    /// # Errors
    /// [`CabinetError::Exists`], [`CabinetError::LastMember`] without members, [`CabinetError::Io`],
    /// [`CabinetError::Crypto`].
    pub fn create(
        path: &Path,
        members: &[NewMember],
        memory: &'m dyn Memory,
        env: &Env<'_>,
    ) -> Result<(Cabinet<'m>, Vec<Issued>), CabinetError> {
        let mut keys = Vec::new();
        for _ in members {
            keys.push(MemberKeys::make(env)?);
        }
        let all: Vec<Member> =
            members.iter().zip(&keys).map(|(new, keys)| keys.member(new, Role::Manager, env.now)).collect();
        let (Some(first), Some(first_keys)) = (all.first(), keys.first()) else {
            return Err(CabinetError::LastMember);
        };
        let mut store: Box<dyn Store> = Box::new(SqliteStore::create(path)?);
        let mut origin = [0; 32];
        env.keys.fill(&mut origin).map_err(|_| CabinetError::Crypto("no randomness"))?;
        let origin = Digest::from_bytes(&origin).ok_or(CabinetError::Crypto("no randomness"))?;
        let mut policy = Policy { origin, members: all.clone(), compartments: Vec::new() };
        let mut ring = Keyring::new();
        for name in [MANAGE, SHARED] {
            let key = crate::compartment::CompartmentKey::make(1, env)?;
            let check = key.check(&origin, name);
            policy.compartments.push(crate::policy::Compartment { name: name.into(), epoch: 1, check });
            ring.insert(name.into(), key);
        }
        policy.sort();
        let machine = memory.machine();
        store.begin()?;
        let mut change = Change {
            store: store.as_mut(),
            env,
            author: Author { member: first, keys: first_keys, machine: &machine },
            ring: &mut ring,
            identity: None,
            before: None,
            policy,
            // said anew by the first row
            policy_head: Head { seq: 1, hash: origin },
            records: Default::default(),
            inventory: Arc::new(Inventory::default()),
            touched: Default::default(),
            moved: Default::default(),
            names: None,
            policy_changed: true,
            resealed: false,
            abandoned: None,
        };
        // the first row says who may write; the second holds what is bound to its hash
        let head = change.append("cabinet made")?;
        let pin = Pin { identity: head.hash, head };
        let mut issued = Vec::new();
        for (new, keys) in members.iter().zip(&keys) {
            issued.push(change.issue(keys, new, &pin)?);
        }
        change.write_envelopes()?;
        change.append("members given their keys")?;
        store.commit()?;
        let proven = prove(store.as_ref())?;
        let unlocked = Unlocked { member: first.clone(), keys: keys.swap_remove(0), ring };
        let trust = Trust { pin: Some(pin), memory };
        let standing = Standing::Current;
        let cabinet =
            Cabinet { store, path: path.to_owned(), trust, proven, standing, unlocked: Some(unlocked) };
        Ok((cabinet, issued))
    }

    /// Opens the cabinet in a file, and proves it: facts can be read, secrets not.
    ///
    /// # Errors
    /// [`CabinetError::Missing`], [`CabinetError::NotACabinet`], [`CabinetError::TooNew`],
    /// [`CabinetError::Tampered`], [`CabinetError::Another`], [`CabinetError::Io`].
    pub fn open(path: &Path, trust: Trust<'m>) -> Result<Cabinet<'m>, CabinetError> {
        Self::open_store(Box::new(SqliteStore::open(path)?), path, trust)
    }

    /// Opens a copy that nobody writes, without changing anything of its file or beside it.
    ///
    /// # Errors
    /// As [`Cabinet::open`]; [`CabinetError::ChangedMeanwhile`] when somebody writes it after all.
    pub fn open_copy(path: &Path, trust: Trust<'m>) -> Result<Cabinet<'m>, CabinetError> {
        let written =
            |path: &Path| path.metadata().and_then(|found| Ok((found.len(), found.modified()?))).ok();
        let before = written(path);
        let opened =
            SqliteStore::open_copy(path).and_then(|store| Self::open_store(Box::new(store), path, trust));
        match opened {
            // read without locks, one that is in use elsewhere looks torn
            Err(_) if written(path) != before => {
                Err(CabinetError::ChangedMeanwhile(path.display().to_string()))
            }
            other => other,
        }
    }

    fn open_store(
        mut store: Box<dyn Store>,
        path: &Path,
        trust: Trust<'m>,
    ) -> Result<Cabinet<'m>, CabinetError> {
        let found = prove_at_a_moment(store.as_mut(), path, &trust, Purpose::Look);
        store.roll_back();
        let (proven, standing) = found?;
        let cabinet = Cabinet { store, path: path.to_owned(), trust, proven, standing, unlocked: None };
        cabinet.remember();
        Ok(cabinet)
    }

    /// Remembers its newest row, unless something newer is known.
    fn remember(&self) {
        if self.standing == Standing::Current {
            let known = Known { pinned: self.trust.pin.map(|pin| pin.head), ..self.proven.known() };
            // who knows the records again takes the word of every backup that is noted among them
            let of_this_history = self.proven.backups.iter().all(|backup| self.proven.has(&backup.row()));
            let listing = known.listing.filter(|_| of_this_history);
            self.trust.memory.keep(&self.path, &self.proven.identity, &Known { listing, ..known });
        }
    }

    /// Whether secrets can be read.
    pub(crate) fn is_unlocked(&self) -> bool {
        self.unlocked.is_some()
    }

    /// Which member unlocked it.
    pub fn unlocked_by(&self) -> Option<&Member> {
        self.unlocked.as_ref().map(|unlocked| &unlocked.member)
    }

    /// What unlocks it as this member without a passphrase, as the text of an unlock file: for the operating system to keep.
    ///
    /// # Errors
    /// [`CabinetError::Locked`].
    pub fn key_text(&self, now: Timestamp) -> Result<SecretText, CabinetError> {
        let unlocked = self.unlocked.as_ref().ok_or(CabinetError::Locked)?;
        unlocked.keys.text(&self.pin(), now)
    }

    /// How it stands to what is known of it.
    pub fn standing(&self) -> Standing {
        self.standing
    }

    /// Its file.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// The hash of its first row: what is pinned.
    pub fn identity(&self) -> Digest {
        self.proven.identity
    }

    /// What a project file pins it by.
    pub fn pin(&self) -> Pin {
        self.proven.pin()
    }

    /// What a machine remembers of it.
    pub fn known(&self) -> Known {
        self.proven.known()
    }

    /// How it stands to a pin.
    ///
    /// # Errors
    /// [`CabinetError::Another`].
    pub fn stands_to(&self, pin: &Pin) -> Result<Standing, CabinetError> {
        self.proven.against(pin, PinnedBy::ProjectFile)
    }

    /// Its newest row.
    pub fn head(&self) -> Head {
        self.proven.head
    }

    /// Unlocks with a credential, to work with it.
    ///
    /// # Errors
    /// [`CabinetError::NotCurrent`] when something newer is known; else as [`Cabinet::unlock_to_look`].
    pub fn unlock(&mut self, credential: &Credential) -> Result<(), CabinetError> {
        self.refuse_old()?;
        self.unlock_to_look(credential)?;
        self.refuse_old().inspect_err(|_| self.unlocked = None)
    }

    fn refuse_old(&self) -> Result<(), CabinetError> {
        match self.standing {
            Standing::Current => Ok(()),
            standing => Err(CabinetError::NotCurrent(standing)),
        }
    }

    /// Unlocks with a credential, also a copy that is older than what is known. Nothing is decrypted that was not
    /// proved, and every sealed part is compared with the history.
    ///
    /// # Errors
    /// [`CabinetError::WrongPassphrase`], [`CabinetError::WrongUnlockFile`], [`CabinetError::NotAnUnlockFile`],
    /// [`CabinetError::Another`], [`CabinetError::Tampered`].
    pub fn unlock_to_look(&mut self, credential: &Credential) -> Result<(), CabinetError> {
        let done = self.unlock_now(credential);
        self.store.roll_back();
        self.unlocked = Some(done?);
        Ok(())
    }

    fn unlock_now(&mut self, credential: &Credential) -> Result<Unlocked, CabinetError> {
        let (proven, standing) =
            prove_at_a_moment(self.store.as_mut(), &self.path, &self.trust, Purpose::Work)?;
        (self.proven, self.standing) = (proven, standing);
        self.remember();
        let (keys, pin, by) = self.own_keys(credential)?;
        let found = self.proven.against(&pin, by)?;
        if self.standing == Standing::Current {
            self.standing = found;
        }
        let member = self.proven.policy.member(&keys.id()).cloned();
        let member = member.ok_or_else(|| wrong(credential))?;
        let ring = self.ring_of(&keys)?;
        compare_seals(self.proven.records()?, |look| self.store.each_sealed(look))?;
        Ok(Unlocked { member, keys, ring })
    }

    /// The keys that a credential stands for, and the pin that came with them.
    fn own_keys(&self, credential: &Credential) -> Result<(MemberKeys, Pin, PinnedBy), CabinetError> {
        match credential {
            Credential::UnlockFile(file) => {
                let (keys, pin) = MemberKeys::from_text(file)?;
                Ok((keys, pin, PinnedBy::UnlockFile))
            }
            Credential::Passphrase(passphrase) => {
                let members = self.proven.policy.members.iter();
                for member in members.filter(|member| member.kind == MemberKind::Passphrase) {
                    let key = (RecordKind::Passphrase, member.id.to_string());
                    let Some(record) = self.proven.records()?.get(&key) else { continue };
                    let sealed = checked_seal(self.store.as_ref(), &key, record)?;
                    if let Some(file) = open_with_passphrase(&record.facts, &sealed, passphrase) {
                        let (keys, pin) = MemberKeys::from_text(&file)?;
                        return Ok((keys, pin, PinnedBy::Passphrase));
                    }
                }
                Err(CabinetError::WrongPassphrase)
            }
        }
    }

    /// The compartment keys that a member was given.
    fn ring_of(&self, keys: &MemberKeys) -> Result<Keyring, CabinetError> {
        ring_in(self.store.as_ref(), &self.proven, keys)
    }

    /// Opens every seal that this member may open, to prove that all can be read. All of it is looked at as it is at one
    /// moment: another process may have sealed things anew since it was unlocked.
    ///
    /// # Errors
    /// [`CabinetError::Locked`], [`CabinetError::Tampered`], as [`Cabinet::unlock`] for a member that is none any more.
    pub fn open_every_seal(&mut self) -> Result<Proof, CabinetError> {
        let done = self.open_every_seal_now();
        self.store.roll_back();
        done?;
        Ok(self.proof())
    }

    fn open_every_seal_now(&mut self) -> Result<(), CabinetError> {
        if !self.is_unlocked() {
            return Err(CabinetError::Locked);
        }
        let (proven, standing) =
            prove_at_a_moment(self.store.as_mut(), &self.path, &self.trust, Purpose::Work)?;
        self.refuse_another(&proven)?;
        self.proven = proven;
        // what was unlocked may have known of something newer than machine and project file do
        if standing != Standing::Current {
            self.standing = standing;
        }
        self.remember();
        let unlocked = self.unlocked.take().ok_or(CabinetError::Locked)?;
        let unlocked = self.refresh(unlocked)?;
        let done = open_all(self.store.as_ref(), &self.proven, &unlocked.ring);
        self.unlocked = Some(unlocked);
        done
    }

    /// What this machine is called.
    pub(crate) fn machine(&self) -> String {
        self.trust.memory.machine()
    }

    /// Takes a state that was proved for the one that this machine knows.
    pub(crate) fn accept(&mut self, proven: Proven, standing: Standing) -> Proof {
        (self.proven, self.standing) = (proven, standing);
        self.remember();
        self.proof()
    }

    fn proof(&self) -> Proof {
        Proof { items: self.proven.count, head: self.proven.head }
    }

    /// Everything in the cabinet, without secrets.
    ///
    /// # Errors
    /// [`CabinetError::Tampered`] when facts cannot be read.
    pub fn inventory(&self) -> Result<Arc<Inventory>, CabinetError> {
        self.proven.inventory()
    }

    /// Members, history and backups.
    ///
    /// # Errors
    /// [`CabinetError::Io`], [`CabinetError::Tampered`].
    pub fn status(&self) -> Result<Status, CabinetError> {
        let known = self.trust.memory.known(&self.proven.identity);
        let mut pinned_by = Vec::new();
        pinned_by.extend(self.trust.pin.map(|_| PinnedBy::ProjectFile));
        pinned_by.extend(known.filter(|known| known.head.seq > 0).map(|_| PinnedBy::Machine));
        let members = self.proven.policy.members.clone();
        let made = members.iter().map(|member| member.added).min().unwrap_or(self.proven.newest.at);
        Ok(Status {
            identity: self.proven.identity,
            made,
            newest: HistoryRow::new(self.proven.head.seq, &self.proven.newest, &self.proven.policy),
            members,
            anchor: self.proven.anchor.seq,
            backups: self.backups(),
            intentions: self.intentions(),
            standing: self.standing,
            pinned_by,
        })
    }

    /// The backups that are of this history, oldest first.
    fn backups(&self) -> Vec<Backup> {
        let known = |backup: &&Backup| self.proven.has(&backup.row());
        in_order_of_rows(self.proven.backups.iter().filter(known).cloned().collect())
    }

    /// The private keys and the passwords that are items of their own, each with the compartment whose key opens it.
    ///
    /// # Errors
    /// [`CabinetError::Tampered`] when facts cannot be read.
    pub fn secrets(&self) -> Result<Vec<(ItemId, String)>, CabinetError> {
        let inventory = self.proven.inventory()?;
        let named_by = NamedBy::of(&inventory);
        let is_one = |item: &&Item| match &item.facts {
            Facts::Key(_) => true,
            Facts::ApiKey(facts) => facts.label.is_some(),
            _ => false,
        };
        let secrets = inventory.iter().filter(is_one);
        Ok(secrets.map(|item| (item.id, compartment_wanted(&named_by, item))).collect())
    }

    /// What is on its way out, by id.
    pub fn intentions(&self) -> Vec<(String, Intention)> {
        self.proven.intentions.clone()
    }

    /// The backup that has most of the history.
    pub fn last_backup(&self) -> Option<LastBackup> {
        last_of(self.backups())
    }

    /// The backup that has most of the history, of those that are kept elsewhere.
    pub fn off_site_backup(&self) -> Option<LastBackup> {
        last_of(self.backups().into_iter().filter(|backup| backup.off_site).collect())
    }

    /// The secret of an item.
    ///
    /// # Errors
    /// [`CabinetError::Locked`], [`CabinetError::NotGiven`], [`CabinetError::Tampered`],
    /// [`CabinetError::ChangedMeanwhile`].
    pub fn secret(&self, item: &Item) -> Result<SecretBytes, CabinetError> {
        let unlocked = self.unlocked.as_ref().ok_or(CabinetError::Locked)?;
        let key = (RecordKind::Item, item.id.to_string());
        let gone = || CabinetError::Tampered(format!("{} is gone", item.name));
        let record = self.proven.records()?.get(&key).ok_or_else(gone)?;
        let sealed = match checked_seal(self.store.as_ref(), &key, record) {
            // another process may have written it anew since it was proved
            Err(CabinetError::Tampered(_)) if self.was_changed()? => {
                return Err(CabinetError::ChangedMeanwhile(item.name.clone()));
            }
            other => other?,
        };
        open_sealed(&self.proven, unlocked, &key.1, record, &sealed)
    }

    /// Whether whoever unlocked it was given what opens an item's secret; so it is believed of everybody before that.
    pub fn opens(&self, id: &ItemId) -> bool {
        let Some(unlocked) = self.unlocked.as_ref() else { return true };
        let key = (RecordKind::Item, id.to_string());
        let record = self.proven.records().ok().and_then(|records| records.get(&key));
        let compartment = record.and_then(|record| compartment_of(&record.facts));
        compartment.is_some_and(|compartment| unlocked.ring.contains_key(&compartment))
    }

    /// Whether an item has a secret.
    pub(crate) fn has_secret(&self, item: &Item) -> bool {
        let key = (RecordKind::Item, item.id.to_string());
        let record = self.proven.records().ok().and_then(|records| records.get(&key));
        record.is_some_and(|record| record.version.sealed.is_some())
    }

    fn was_changed(&self) -> Result<bool, CabinetError> {
        Ok(prove(self.store.as_ref())?.head != self.proven.head)
    }

    /// One change: everything that `work` does, and a row of history, or nothing.
    ///
    /// # Errors
    /// [`CabinetError::Locked`], [`CabinetError::NotCurrent`], [`CabinetError::ClockBehind`], and whatever `work`
    /// returns.
    pub fn change<R, E: From<CabinetError>>(
        &mut self,
        what: &str,
        env: &Env<'_>,
        work: impl FnOnce(&mut Change<'_>) -> Result<R, E>,
    ) -> Result<R, E> {
        let (mut work, mut result) = (Some(work), None);
        let changed = self.change_by(what, env, &mut |change| match work.take().map(|work| work(change)) {
            Some(Ok(done)) => {
                result = Some(Ok(done));
                Ok(())
            }
            stopped => {
                result = stopped;
                Err(Stopped::ByWork)
            }
        });
        match (changed, result) {
            (Err(Stopped::ByCabinet(error)), _) => Err(error.into()),
            (_, Some(result)) => result,
            (_, None) => unreachable!("the work was called, and left its result"),
        }
    }

    /// The change without the types of its result: compiled once, and not once for every caller.
    fn change_by(&mut self, what: &str, env: &Env<'_>, work: Work<'_>) -> Result<(), Stopped> {
        self.refuse_old()?;
        if !self.is_unlocked() {
            return Err(CabinetError::Locked.into());
        }
        self.store.begin()?;
        match self.change_now(what, env, work) {
            Ok((proven, resealed)) => {
                self.store.commit()?;
                self.proven = proven;
                self.remember();
                if resealed {
                    // what was sealed under old keys goes from free pages too; overwritten it was already
                    let _ = self.store.write_anew();
                }
                Ok(())
            }
            Err(error) => {
                self.store.roll_back();
                Err(error)
            }
        }
    }

    fn change_now(&mut self, what: &str, env: &Env<'_>, work: Work<'_>) -> Result<(Proven, bool), Stopped> {
        // under the lock: what was proved before may be another state by now
        let (proven, standing) = prove_trusted(self.store.as_ref(), &self.path, &self.trust, Purpose::Work)?;
        if standing != Standing::Current {
            return Err(CabinetError::NotCurrent(standing).into());
        }
        self.refuse_another(&proven)?;
        self.proven = proven;
        let unlocked = self.unlocked.take().ok_or(CabinetError::Locked)?;
        let mut unlocked = self.refresh(unlocked)?;
        if self.proven.newest.at.duration_since(env.now) > CLOCKS_DIFFER {
            let (newest, now) = (self.proven.newest.at.to_string(), env.now.to_string());
            self.unlocked = Some(unlocked);
            return Err(CabinetError::ClockBehind { newest, now }.into());
        }
        let machine = self.trust.memory.machine();
        let done = run(self.store.as_mut(), &self.proven, &mut unlocked, &machine, env, what, work);
        self.unlocked = Some(unlocked);
        let (head, resealed) = done?;
        // read back before it is said
        let written = prove(self.store.as_ref())?;
        if written.head != head {
            return Err(CabinetError::Tampered("what was written is not what is there".into()).into());
        }
        Ok((written, resealed))
    }

    /// Refuses what was put in the place of the cabinet that was opened, also where nothing else would say so.
    fn refuse_another(&self, proven: &Proven) -> Result<(), CabinetError> {
        let (pinned, found) = (self.proven.identity, proven.identity);
        match pinned == found {
            true => Ok(()),
            false => Err(CabinetError::Another { by: PinnedBy::Machine, pinned, found }),
        }
    }

    /// The member and the keys as they are now: another process may have changed them.
    fn refresh(&mut self, unlocked: Unlocked) -> Result<Unlocked, CabinetError> {
        let member = self.proven.policy.member(&unlocked.member.id).cloned();
        let member = member.ok_or_else(|| is_none_any_more(&unlocked.member))?;
        let ring = self.ring_of(&unlocked.keys)?;
        Ok(Unlocked { member, ring, ..unlocked })
    }

    /// Writes a consistent copy to an empty file, and proves it: it is opened, and everything in it unsealed.
    ///
    /// # Errors
    /// [`CabinetError::Locked`], [`CabinetError::Io`], [`CabinetError::Tampered`].
    pub fn copy_proved(&self, path: &Path) -> Result<Proof, CabinetError> {
        let unlocked = self.unlocked.as_ref().ok_or(CabinetError::Locked)?;
        self.store.copy_to(path)?;
        prove_copy(path, &self.proven.identity, unlocked)
    }
}

fn in_order_of_rows(mut backups: Vec<Backup>) -> Vec<Backup> {
    backups.sort_by(|a, b| (a.seq, a.at, &a.place).cmp(&(b.seq, b.at, &b.place)));
    backups
}

/// The backup that has most of the history, of those that are of it.
pub(crate) fn last_of(backups: Vec<Backup>) -> Option<LastBackup> {
    in_order_of_rows(backups).last().map(|backup| LastBackup { at: backup.at, seq: backup.seq })
}

/// Opens a copy that was just written, and everything in it.
pub(crate) fn prove_copy(path: &Path, identity: &Digest, unlocked: &Unlocked) -> Result<Proof, CabinetError> {
    let copy = SqliteStore::open_copy(path)?;
    let proven = prove(&copy)?;
    if proven.identity != *identity {
        return Err(CabinetError::Tampered("the copy is of another cabinet".into()));
    }
    compare_seals(proven.records()?, |look| copy.each_sealed(look))?;
    if proven.policy.member(&unlocked.member.id).is_none() {
        return Err(is_none_any_more(&unlocked.member));
    }
    // the keys that are in the copy: those of the cabinet may be newer or older
    open_all(&copy, &proven, &ring_in(&copy, &proven, &unlocked.keys)?)?;
    Ok(Proof { items: proven.count, head: proven.head })
}

/// The error for a member that another process has replaced.
fn is_none_any_more(member: &Member) -> CabinetError {
    match member.kind {
        MemberKind::Passphrase => CabinetError::WrongPassphrase,
        MemberKind::UnlockFile => CabinetError::WrongUnlockFile,
    }
}

fn wrong(credential: &Credential) -> CabinetError {
    match credential {
        Credential::Passphrase(_) => CabinetError::WrongPassphrase,
        Credential::UnlockFile(_) => CabinetError::WrongUnlockFile,
    }
}

/// Begins to read, one moment's view, and proves it. Another process may change the cabinet at that moment and
/// remember so: what looks older than what is remembered is looked at once more, and is not older then.
fn prove_at_a_moment(
    store: &mut dyn Store,
    path: &Path,
    trust: &Trust<'_>,
    purpose: Purpose,
) -> Result<(Proven, Standing), CabinetError> {
    store.begin_reading()?;
    let (proven, found) = prove_trusted(store, path, trust, purpose)?;
    if found == Standing::Current {
        return Ok((proven, found));
    }
    let known = trust.memory.known(&proven.identity);
    store.roll_back();
    store.begin_reading()?;
    let mut proven = prove_for(store, purpose)?;
    proven.recall(known.as_ref());
    let found = standing(&proven, trust.pin.as_ref(), known.as_ref(), store)?;
    Ok((proven, found))
}

/// Proves a cabinet and holds it against the project file's pin and this machine's memory.
pub(crate) fn prove_trusted(
    store: &dyn Store,
    path: &Path,
    trust: &Trust<'_>,
    purpose: Purpose,
) -> Result<(Proven, Standing), CabinetError> {
    let mut proven = prove_for(store, purpose)?;
    if let Some(pin) = &trust.pin {
        proven.against(pin, PinnedBy::ProjectFile)?;
    }
    // none overrides another: whoever changes the cabinet may have changed the project file too
    if let Some(pinned) = trust.memory.at(path).filter(|pinned| *pinned != proven.identity) {
        return Err(CabinetError::Another { by: PinnedBy::Machine, pinned, found: proven.identity });
    }
    let known = trust.memory.known(&proven.identity);
    proven.recall(known.as_ref());
    let standing = standing(&proven, trust.pin.as_ref(), known.as_ref(), store)?;
    Ok((proven, standing))
}

fn open_sealed(
    proven: &Proven,
    unlocked: &Unlocked,
    id: &str,
    record: &Record,
    sealed: &[u8],
) -> Result<SecretBytes, CabinetError> {
    let compartment = compartment_of(&record.facts)
        .ok_or_else(|| CabinetError::Tampered(format!("the facts of {id} cannot be read")))?;
    let key = unlocked.ring.get(&compartment).ok_or_else(|| CabinetError::NotGiven {
        member: unlocked.member.label.clone(),
        compartment: compartment.clone(),
    })?;
    let binding = Binding { identity: &proven.identity, compartment: &compartment, id, facts: &record.facts };
    key.open(&binding, sealed)
}

/// The compartment keys that a member was given in a cabinet or a copy.
fn ring_in(store: &dyn Store, proven: &Proven, keys: &MemberKeys) -> Result<Keyring, CabinetError> {
    let key = (RecordKind::Envelope, keys.id().to_string());
    let gone = || CabinetError::Tampered("the envelope of a member is gone".into());
    let record = proven.records()?.get(&key).ok_or_else(gone)?;
    let envelope = checked_seal(store, &key, record)?;
    open_envelope(&proven.identity, &proven.policy, keys, &envelope)
}

/// Opens every seal of the compartments whose keys are there.
fn open_all(store: &dyn Store, proven: &Proven, ring: &Keyring) -> Result<(), CabinetError> {
    for (key, record) in proven.records()?.iter().filter(|((kind, _), _)| *kind == RecordKind::Item) {
        if record.version.sealed.is_none() {
            continue;
        }
        let broken = || CabinetError::Tampered(format!("the facts of {} cannot be read", key.1));
        let compartment = compartment_of(&record.facts).ok_or_else(broken)?;
        if let Some(held) = ring.get(&compartment) {
            let sealed = checked_seal(store, key, record)?;
            let binding = Binding {
                identity: &proven.identity,
                compartment: &compartment,
                id: &key.1,
                facts: &record.facts,
            };
            held.open(&binding, &sealed)?;
        }
    }
    Ok(())
}

/// What a change does under the lock.
type Work<'a> = &'a mut dyn FnMut(&mut Change<'_>) -> Result<(), Stopped>;

/// Who stopped a change.
enum Stopped {
    /// Its work, which has the reason.
    ByWork,
    /// The cabinet.
    ByCabinet(CabinetError),
}

impl<E> From<E> for Stopped
where
    CabinetError: From<E>,
{
    fn from(error: E) -> Self {
        Stopped::ByCabinet(error.into())
    }
}

fn run(
    store: &mut dyn Store,
    proven: &Proven,
    unlocked: &mut Unlocked,
    machine: &str,
    env: &Env<'_>,
    what: &str,
    work: Work<'_>,
) -> Result<(Head, bool), Stopped> {
    let mut change = Change {
        store,
        env,
        author: Author { member: &unlocked.member, keys: &unlocked.keys, machine },
        ring: &mut unlocked.ring,
        identity: Some(proven.identity),
        before: Some(proven.head),
        policy: proven.policy.clone(),
        policy_head: proven.policy_head,
        records: proven.records()?.clone(),
        inventory: proven.inventory()?,
        touched: Default::default(),
        moved: Default::default(),
        names: None,
        policy_changed: false,
        resealed: false,
        abandoned: None,
    };
    work(&mut change)?;
    let head = change.finish(what)?;
    Ok((head, change.resealed))
}

#[cfg(test)]
#[expect(clippy::disallowed_methods, reason = "tests write files as somebody else would")]
mod tests;
