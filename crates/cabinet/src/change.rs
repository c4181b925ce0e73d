//! A change: several records put in, changed or taken out, all of it or nothing, and one row of history.
//!
//! It begins under the database's write lock with the whole cabinet proved again: nothing is written from facts that
//! were read before. What it wrote is proved once more before it is made lasting.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

use ninekeys_core::env::Env;
use ninekeys_core::model::{Facts, Inventory, Item, ItemId, State};
use ninekeys_formats::secret::{SecretBytes, SecretText};

use crate::CabinetError;
use crate::compartment::{Binding, CompartmentKey};
use crate::digest::Digest;
use crate::member::{Keyring, MemberKeys, NewMember, PassphraseFacts, close_envelope, close_with_passphrase};
use crate::policy::{Compartment, Member, Policy, Role, SHARED};
use crate::records::{
    self, Backup, Intention, Key, NamedBy, Record, Records, compartment_of, compartment_wanted, described,
    own_compartment, stored_item, text,
};
use crate::row::{Abandoned, Body, Form, Head, RecordKind, Touch, Version, body_digest, hash, sign};
use crate::store::{Store, StoredRow};
use crate::trust::Pin;

/// An item to be put into the cabinet.
pub struct NewItem {
    /// Its name.
    pub name: String,
    /// What of it is public.
    pub facts: Facts,
    /// What of it is secret; nothing for items that have no secret.
    pub secret: Option<SecretBytes>,
    /// What it replaces, as the next generation.
    pub replaces: Option<ItemId>,
}

impl NewItem {
    /// An item of the first generation.
    pub fn new(name: impl Into<String>, facts: Facts, secret: Option<SecretBytes>) -> Self {
        NewItem { name: name.into(), facts, secret, replaces: None }
    }
}

/// An unlock file that was issued: its text has to be written where it is kept.
#[derive(Debug)]
pub struct Issued {
    /// The member's label.
    pub label: String,
    /// The member's id.
    pub id: Digest,
    /// What goes into the file; nothing for a passphrase.
    pub text: Option<SecretText>,
}

/// Who writes, and with which keys.
pub(crate) struct Author<'a> {
    pub(crate) member: &'a Member,
    pub(crate) keys: &'a MemberKeys,
    pub(crate) machine: &'a str,
}

/// What a record was before a change touched it.
pub(crate) struct Before {
    version: Version,
    of: String,
    compartment: String,
}

/// An open change. What it does is lasting when the closure that was given it returns without error.
pub struct Change<'a> {
    pub(crate) store: &'a mut dyn Store,
    pub(crate) env: &'a Env<'a>,
    pub(crate) author: Author<'a>,
    pub(crate) ring: &'a mut Keyring,
    pub(crate) identity: Option<Digest>,
    /// The row before the one that this change will be.
    pub(crate) before: Option<Head>,
    pub(crate) policy: Policy,
    pub(crate) policy_head: Head,
    pub(crate) records: Records,
    pub(crate) inventory: Arc<Inventory>,
    /// What every record that was touched was before.
    pub(crate) touched: BTreeMap<Key, Option<Before>>,
    /// The items that were put in or revised: they and what they name may belong to another compartment now.
    pub(crate) moved: BTreeSet<ItemId>,
    /// Every name in use, in small letters; made when it is asked for.
    pub(crate) names: Option<HashMap<String, ItemId>>,
    pub(crate) policy_changed: bool,
    pub(crate) resealed: bool,
    pub(crate) abandoned: Option<Abandoned>,
}

impl Change<'_> {
    /// What the cabinet holds now, this change included.
    pub fn inventory(&self) -> Arc<Inventory> {
        Arc::clone(&self.inventory)
    }

    /// The number of the row that this change will be.
    pub fn seq(&self) -> u64 {
        self.before.map_or(1, |head| head.seq + 1)
    }

    /// Puts an item in; what it replaces is retired.
    ///
    /// # Errors
    /// [`CabinetError::NameTaken`], [`CabinetError::NotGiven`], [`CabinetError::Io`], [`CabinetError::Crypto`].
    pub fn put(&mut self, new: NewItem) -> Result<ItemId, CabinetError> {
        let mut bytes = [0; 16];
        self.env.keys.fill(&mut bytes).map_err(|_| CabinetError::Crypto("no randomness"))?;
        self.refuse_name(&new.name, None)?;
        let generation = match &new.replaces {
            Some(old) => self.retire(old)? + 1,
            None => 1,
        };
        let item = Item {
            id: ItemId::from_random(bytes),
            name: new.name,
            state: State::Active,
            generation,
            replaces: new.replaces,
            revision: 1,
            created: self.env.now,
            made: self.seq(),
            seq: self.seq(),
            facts: new.facts,
        };
        let compartment = own_compartment(&item).unwrap_or_else(|| SHARED.into());
        self.write_item(&item, &compartment, new.secret.as_ref())?;
        let id = item.id;
        self.know(item);
        Ok(id)
    }

    /// Takes an item in from another copy of the same cabinet, under its id, as new here.
    pub(crate) fn take_in(
        &mut self,
        item: &Item,
        name: String,
        secret: Option<&SecretBytes>,
    ) -> Result<(), CabinetError> {
        self.refuse_name(&name, None)?;
        let seq = self.seq();
        let item = Item { name, revision: 1, made: seq, seq, ..item.clone() };
        let compartment = own_compartment(&item).unwrap_or_else(|| SHARED.into());
        self.write_item(&item, &compartment, secret)?;
        self.know(item);
        Ok(())
    }

    /// Whether a name is free.
    pub(crate) fn is_free(&mut self, name: &str) -> bool {
        self.refuse_name(name, None).is_ok()
    }

    /// Writes an item's next revision, with the same secret or another. `item` has to be of the revision that is
    /// there: whoever read it before the lock reads it again.
    ///
    /// # Errors
    /// [`CabinetError::ChangedMeanwhile`], [`CabinetError::NameTaken`], [`CabinetError::NotGiven`],
    /// [`CabinetError::Io`], [`CabinetError::Tampered`].
    pub fn revise(&mut self, item: &Item, secret: Option<SecretBytes>) -> Result<(), CabinetError> {
        let known = self.inventory.get(&item.id).map(|known| known.revision);
        if known != Some(item.revision) {
            return Err(CabinetError::ChangedMeanwhile(item.name.clone()));
        }
        self.refuse_name(&item.name, Some(&item.id))?;
        let secret = match secret {
            Some(secret) => Some(secret),
            None => self.secret_of(&item.id)?,
        };
        let after = Item { revision: item.revision + 1, seq: self.seq(), ..item.clone() };
        let compartment = own_compartment(&after).unwrap_or_else(|| self.compartment_of(&item.id));
        self.write_item(&after, &compartment, secret.as_ref())?;
        self.know(after);
        Ok(())
    }

    /// Takes an item out for good, its sealed part included. `item` has to be of the revision that is there, and nothing
    /// may name it.
    ///
    /// # Errors
    /// [`CabinetError::ChangedMeanwhile`], [`CabinetError::StillNamed`], [`CabinetError::Io`].
    pub fn take_out(&mut self, item: &Item) -> Result<(), CabinetError> {
        let known = self.inventory.get(&item.id).map(|known| known.revision);
        if known != Some(item.revision) {
            return Err(CabinetError::ChangedMeanwhile(item.name.clone()));
        }
        if let Some(by) = self.inventory.dependents(&item.id).next() {
            return Err(CabinetError::StillNamed { name: item.name.clone(), by: by.name.clone() });
        }
        self.remove((RecordKind::Item, item.id.to_string()))?;
        if let Some(names) = &mut self.names {
            names.remove(&item.name.to_lowercase());
        }
        self.moved.remove(&item.id);
        Arc::make_mut(&mut self.inventory).take_out(&item.id);
        Ok(())
    }

    /// Takes a written item into what is known of the cabinet.
    fn know(&mut self, item: Item) {
        if let Some(names) = &mut self.names {
            let before = self.inventory.get(&item.id).map(|item| item.name.to_lowercase());
            before.map(|name| names.remove(&name));
            names.insert(item.name.to_lowercase(), item.id);
        }
        self.moved.insert(item.id);
        Arc::make_mut(&mut self.inventory).put(item);
    }

    /// Retires an item and tells its generation.
    fn retire(&mut self, id: &ItemId) -> Result<u32, CabinetError> {
        let gone = || CabinetError::Tampered(format!("the item {id} is gone"));
        let mut item = self.inventory.get(id).ok_or_else(gone)?.clone();
        item.state = State::Retired;
        self.revise(&item, None)?;
        Ok(item.generation)
    }

    /// Notes a backup.
    ///
    /// # Errors
    /// [`CabinetError::Io`], [`CabinetError::Crypto`].
    pub fn put_backup(&mut self, backup: &Backup) -> Result<(), CabinetError> {
        let key = (RecordKind::Backup, self.new_id()?);
        self.write(key, text(backup)?, None)
    }

    /// Writes down what is about to leave the cabinet, under its id.
    ///
    /// # Errors
    /// [`CabinetError::Io`].
    pub fn begin_intention(&mut self, id: &str, intention: &Intention) -> Result<(), CabinetError> {
        self.write((RecordKind::Intention, id.into()), text(intention)?, None)
    }

    /// Ends an intention. Where it was `done`, the item that completes it is put in, unless one of its name is there.
    /// Tells whether it was open.
    ///
    /// # Errors
    /// [`CabinetError::Tampered`], [`CabinetError::Io`].
    pub fn end_intention(&mut self, id: &str, done: bool) -> Result<bool, CabinetError> {
        let key = (RecordKind::Intention, id.to_owned());
        let Some(record) = self.records.get(&key) else { return Ok(false) };
        let unreadable = |_| CabinetError::Tampered(format!("the facts of {id} cannot be read"));
        let intention: Intention = serde_json::from_str(&record.facts).map_err(unreadable)?;
        if let Some((name, facts)) = intention.completes.filter(|_| done)
            && self.refuse_name(&name, None).is_ok()
        {
            self.put(NewItem::new(name, facts, None))?;
        }
        self.remove(key)
    }

    /// Who writes this change.
    pub fn member(&self) -> &Member {
        self.author.member
    }

    /// The members, this change included.
    pub fn members(&self) -> Vec<Member> {
        self.policy.members.clone()
    }

    /// The compartment of a stored item.
    pub fn compartment_of(&self, id: &ItemId) -> String {
        let record = self.records.get(&(RecordKind::Item, id.to_string()));
        record.and_then(|record| compartment_of(&record.facts)).unwrap_or_else(|| SHARED.into())
    }

    /// Adds a member.
    ///
    /// # Errors
    /// [`CabinetError::NotAllowed`], [`CabinetError::Io`], [`CabinetError::Crypto`].
    pub fn add_member(&mut self, new: &NewMember, role: Role) -> Result<Issued, CabinetError> {
        let keys = MemberKeys::make(self.env)?;
        let pin = Pin { identity: self.identity()?, head: self.policy_head };
        let issued = self.issue(&keys, new, &pin)?;
        self.policy.members.push(keys.member(new, role, self.env.now));
        self.policy_changed = true;
        Ok(issued)
    }

    /// Puts a new member in the place of an old one: the old one's keys open nothing from now on, and everything that
    /// they opened is sealed under new ones.
    ///
    /// # Errors
    /// As [`Change::add_member`].
    pub fn replace_member(&mut self, old: &Digest, new: &NewMember) -> Result<Issued, CabinetError> {
        let before = self.policy.member(old).ok_or(CabinetError::LastMember)?.clone();
        let issued = self.add_member(new, before.role.clone())?;
        self.policy.members.retain(|member| member.id != *old);
        self.remove((RecordKind::Envelope, old.to_string()))?;
        self.remove((RecordKind::Passphrase, old.to_string()))?;
        self.reseal(|compartment| before.opens(compartment))?;
        Ok(issued)
    }

    /// Removes a member: its keys open nothing from now on, and everything that they opened is sealed under new ones. Whoever
    /// writes the change cannot remove themselves.
    ///
    /// # Errors
    /// [`CabinetError::LastMember`], [`CabinetError::NotAllowed`], [`CabinetError::Io`], [`CabinetError::Crypto`].
    pub fn remove_member(&mut self, id: &Digest) -> Result<Member, CabinetError> {
        if *id == self.author.member.id {
            return Err(CabinetError::LastMember);
        }
        let before = self.policy.member(id).ok_or(CabinetError::LastMember)?.clone();
        self.policy.members.retain(|member| member.id != *id);
        self.policy_changed = true;
        self.remove((RecordKind::Envelope, id.to_string()))?;
        self.remove((RecordKind::Passphrase, id.to_string()))?;
        self.reseal(|compartment| before.opens(compartment))?;
        Ok(before)
    }

    /// New keys for every compartment, which the same members are given, and everything sealed anew.
    ///
    /// # Errors
    /// [`CabinetError::NotAllowed`], [`CabinetError::Io`], [`CabinetError::Crypto`], [`CabinetError::Tampered`].
    pub fn seal_anew(&mut self) -> Result<(), CabinetError> {
        self.reseal(|_| true)
    }

    /// Writes a new member's keys under the passphrase, or into an unlock file's text.
    pub(crate) fn issue(
        &mut self,
        keys: &MemberKeys,
        new: &NewMember,
        pin: &Pin,
    ) -> Result<Issued, CabinetError> {
        let unlock = keys.text(pin, self.env.now)?;
        let label = new.label().to_owned();
        let NewMember::Passphrase { passphrase, work_factor, .. } = new else {
            return Ok(Issued { label, id: keys.id(), text: Some(unlock) });
        };
        let facts = PassphraseFacts::make(keys.id(), *work_factor, self.env)?;
        let stored = text(&facts)?;
        let sealed = close_with_passphrase(&facts, &stored, passphrase, &unlock, self.env)?;
        self.write((RecordKind::Passphrase, keys.id().to_string()), stored, Some(&sealed))?;
        Ok(Issued { label, id: keys.id(), text: None })
    }

    /// New keys for some compartments, and every item in them sealed anew.
    fn reseal(&mut self, which: impl Fn(&str) -> bool) -> Result<(), CabinetError> {
        let mut old = Keyring::new();
        let names: Vec<(String, u32)> = self
            .policy
            .compartments
            .iter()
            .filter(|c| which(&c.name))
            .map(|c| (c.name.clone(), c.epoch))
            .collect();
        for (name, epoch) in names {
            let key = CompartmentKey::make(epoch + 1, self.env)?;
            self.set_compartment(&name, &key);
            old.extend(self.ring.insert(name.clone(), key).map(|key| (name, key)));
        }
        let identity = self.identity()?;
        let items: Vec<Key> = self
            .records
            .iter()
            .filter(|((kind, _), record)| *kind == RecordKind::Item && record.version.sealed.is_some())
            .map(|(key, _)| key.clone())
            .collect();
        for key in items {
            let Some(record) = self.records.get(&key) else { continue };
            let facts = record.facts.clone();
            let Some(compartment) = compartment_of(&facts) else { continue };
            let (Some(old), Some(new)) = (old.get(&compartment), self.ring.get(&compartment)) else {
                continue;
            };
            let sealed = checked_seal(self.store, &key, record)?;
            let binding =
                Binding { identity: &identity, compartment: &compartment, id: &key.1, facts: &facts };
            let secret = old.open(&binding, &sealed)?;
            let sealed = new.seal(&binding, &secret, self.env)?;
            self.write(key, facts, Some(&sealed))?;
        }
        self.resealed = true;
        Ok(())
    }

    fn set_compartment(&mut self, name: &str, key: &CompartmentKey) {
        let check = key.check(&self.policy.origin, name);
        self.policy.compartments.retain(|known| known.name != name);
        self.policy.compartments.push(Compartment { name: name.into(), epoch: key.epoch, check });
        self.policy.sort();
        self.policy_changed = true;
    }

    /// The key of a compartment; one that is not there yet is made.
    fn compartment_key(&mut self, name: &str) -> Result<&CompartmentKey, CabinetError> {
        if self.policy.compartment(name).is_none() {
            let key = CompartmentKey::make(1, self.env)?;
            self.set_compartment(name, &key);
            self.ring.insert(name.into(), key);
        }
        let not_given =
            || CabinetError::NotGiven { member: self.author.member.label.clone(), compartment: name.into() };
        self.ring.get(name).ok_or_else(not_given)
    }

    fn identity(&self) -> Result<Digest, CabinetError> {
        self.identity.ok_or(CabinetError::Locked)
    }

    fn new_id(&self) -> Result<String, CabinetError> {
        let mut bytes = [0; 16];
        self.env.keys.fill(&mut bytes).map_err(|_| CabinetError::Crypto("no randomness"))?;
        Ok(ItemId::from_random(bytes).to_string())
    }

    fn refuse_name(&mut self, name: &str, own: Option<&ItemId>) -> Result<(), CabinetError> {
        let all = || self.inventory.iter().map(|item| (item.name.to_lowercase(), item.id)).collect();
        let names = self.names.get_or_insert_with(all);
        match names.get(&name.to_lowercase()) {
            Some(other) if Some(other) != own => Err(CabinetError::NameTaken(name.into())),
            _ => Ok(()),
        }
    }

    /// The secret of an item, as it is now.
    fn secret_of(&self, id: &ItemId) -> Result<Option<SecretBytes>, CabinetError> {
        let key = (RecordKind::Item, id.to_string());
        let gone = || CabinetError::Tampered(format!("the item {id} is gone"));
        let record = self.records.get(&key).ok_or_else(gone)?;
        if record.version.sealed.is_none() {
            return Ok(None);
        }
        let sealed = checked_seal(self.store, &key, record)?;
        let compartment = compartment_of(&record.facts).ok_or_else(gone)?;
        let held = self.ring.get(&compartment).ok_or_else(|| CabinetError::NotGiven {
            member: self.author.member.label.clone(),
            compartment: compartment.clone(),
        })?;
        let identity = self.identity()?;
        let binding =
            Binding { identity: &identity, compartment: &compartment, id: &key.1, facts: &record.facts };
        held.open(&binding, &sealed).map(Some)
    }

    fn write_item(
        &mut self,
        item: &Item,
        compartment: &str,
        secret: Option<&SecretBytes>,
    ) -> Result<(), CabinetError> {
        let facts = stored_item(item, compartment)?;
        let id = item.id.to_string();
        let identity = self.identity()?;
        let env = self.env;
        let sealed = match secret {
            Some(secret) => {
                let key = self.compartment_key(compartment)?;
                let binding = Binding { identity: &identity, compartment, id: &id, facts: &facts };
                Some(key.seal(&binding, secret, env)?)
            }
            None => None,
        };
        self.write((RecordKind::Item, id), facts, sealed.as_deref())
    }

    /// Puts a record in its place.
    pub(crate) fn write(
        &mut self,
        key: Key,
        facts: String,
        sealed: Option<&[u8]>,
    ) -> Result<(), CabinetError> {
        let record = Record::new(facts, sealed);
        self.store.put_record(&record.stored(&key), sealed)?;
        let before = self.records.insert(key.clone(), record);
        self.touch(key, before);
        Ok(())
    }

    fn remove(&mut self, key: Key) -> Result<bool, CabinetError> {
        let Some(before) = self.records.remove(&key) else { return Ok(false) };
        self.store.remove_record(key.0.word(), &key.1)?;
        self.touch(key, Some(before));
        Ok(true)
    }

    /// Remembers what a record was before the first time that this change touched it.
    fn touch(&mut self, key: Key, before: Option<Record>) {
        let kind = key.0;
        self.touched.entry(key).or_insert_with(|| {
            before.map(|record| {
                let (of, compartment) = described(kind, &record.facts);
                Before { version: record.version, of, compartment }
            })
        });
    }

    /// Moves what serves other apps than before into their compartment: items that were touched, and what they name.
    fn settle_compartments(&mut self) -> Result<(), CabinetError> {
        let mut near = std::mem::take(&mut self.moved);
        let named = near.iter().filter_map(|id| self.inventory.get(id)).flat_map(|item| item.facts.links());
        let named: Vec<ItemId> = named.copied().collect();
        let certified =
            named.iter().filter_map(|id| self.inventory.get(id)).flat_map(|item| item.facts.links());
        let certified: Vec<ItemId> = certified.copied().collect();
        near.extend(named);
        near.extend(certified);
        let inventory = Arc::clone(&self.inventory);
        let named_by = NamedBy::of(&inventory);
        for id in near {
            let Some(item) = inventory.get(&id) else { continue };
            let wanted = compartment_wanted(&named_by, item);
            if self.compartment_of(&id) != wanted {
                let secret = self.secret_of(&id)?;
                self.write_item(item, &wanted, secret.as_ref())?;
            }
        }
        Ok(())
    }

    /// Writes every member's envelope anew, where the compartments or members changed.
    pub(crate) fn write_envelopes(&mut self) -> Result<(), CabinetError> {
        let identity = self.identity()?;
        for member in self.policy.members.clone() {
            let (facts, envelope) = close_envelope(&identity, &member, self.ring, self.env)?;
            self.write((RecordKind::Envelope, member.id.to_string()), text(&facts)?, Some(&envelope))?;
        }
        Ok(())
    }

    /// Everything that follows from what was done, and the row that says so.
    pub(crate) fn finish(&mut self, what: &str) -> Result<Head, CabinetError> {
        self.settle_compartments()?;
        if self.policy_changed {
            self.policy.sort();
            if !self.policy.is_sound() {
                return Err(CabinetError::LastMember);
            }
            self.write_envelopes()?;
        }
        self.append(what)
    }

    pub(crate) fn append(&mut self, what: &str) -> Result<Head, CabinetError> {
        let touches = std::mem::take(&mut self.touched).into_iter().filter_map(|(key, before)| {
            let after = self.records.get(&key);
            if before.as_ref().map(|before| before.version) == after.map(|record| record.version) {
                return None;
            }
            let (of, compartment) = match (after, &before) {
                (Some(record), _) => described(key.0, &record.facts),
                (None, Some(before)) => (before.of.clone(), before.compartment.clone()),
                (None, None) => return None,
            };
            let (before, after) = (before.map(|before| before.version), after.map(|record| record.version));
            Some(Touch { kind: key.0, of, id: key.1, compartment, before, after })
        });
        let form = if self.policy_changed { Form::Policy } else { Form::Change };
        let body = Body {
            at: self.env.now,
            by: self.author.member.id,
            machine: self.author.machine.into(),
            what: what.into(),
            touches: touches.collect(),
            state: records::state(&self.records),
            policy: self.policy_changed.then(|| self.policy.clone()),
            abandoned: self.abandoned.take(),
        };
        let text = text(&body)?;
        let seq = self.seq();
        let own = hash(self.before.as_ref().map(|head| &head.hash), seq, form, &body_digest(text.as_bytes()));
        let head = Head { seq, hash: own };
        // the first row is what the cabinet is from now on
        let identity = *self.identity.get_or_insert(own);
        let signature = sign(&self.author.keys.signing, &identity, &head);
        let signature = signature.ok_or(CabinetError::Crypto("no signature"))?.to_vec();
        self.store.add_row(&StoredRow { seq, form: form.word().into(), body: text, signature })?;
        if let Some(reason) = self.policy.refuses(self.author.member, form, &body) {
            return Err(CabinetError::NotAllowed { member: self.author.member.label.clone(), reason });
        }
        self.before = Some(head);
        if self.policy_changed {
            self.policy_head = head;
            self.policy_changed = false;
        }
        Ok(head)
    }
}

/// Sealed bytes, compared with the record that they belong to before anything is done with them.
pub(crate) fn checked_seal(store: &dyn Store, key: &Key, record: &Record) -> Result<Vec<u8>, CabinetError> {
    let found = store.sealed(key.0.word(), &key.1)?;
    let whole = found.filter(|bytes| record.has_sealed(bytes));
    whole.ok_or_else(|| CabinetError::Tampered(format!("the seal of {} is broken", key.1)))
}
