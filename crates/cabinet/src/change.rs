//! A change: several items put in or changed, all of it or nothing, and one row of history.

use ninekeys_core::env::Env;
use ninekeys_core::model::{Facts, Inventory, Item, ItemId, State};
use ninekeys_formats::secret::{Secret, SecretBytes};

use crate::history::Touched;
use crate::items::{load_inventory, to_stored};
use crate::seal::CabinetKey;
use crate::store::Store;
use crate::{CabinetError, MemberRow, NewMember};

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

/// An open change. What it does is lasting when the closure that was given it returns without error.
pub struct Change<'a> {
    pub(crate) store: &'a mut dyn Store,
    pub(crate) key: &'a CabinetKey,
    pub(crate) env: &'a Env<'a>,
    /// The row of history that this change will be.
    pub(crate) seq: u64,
    pub(crate) touched: Vec<Touched>,
}

impl Change<'_> {
    /// What the cabinet holds now, this change included.
    ///
    /// # Errors
    /// [`CabinetError::Io`].
    pub fn inventory(&self) -> Result<Inventory, CabinetError> {
        load_inventory(self.store)
    }

    /// Puts an item in; what it replaces is retired.
    ///
    /// # Errors
    /// [`CabinetError::NameTaken`], [`CabinetError::Io`], [`CabinetError::Crypto`].
    pub fn put(&mut self, new: NewItem) -> Result<ItemId, CabinetError> {
        let mut bytes = [0; 16];
        self.env.keys.fill(&mut bytes).map_err(|_| CabinetError::Crypto("no randomness"))?;
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
            seq: self.seq,
            facts: new.facts,
        };
        let stored = to_stored(&item)?;
        let secret = new.secret.unwrap_or_else(|| Secret::new(Vec::new()));
        let sealed = self.key.seal(&stored, &secret, self.env)?;
        self.store.add_item(&stored, &sealed)?;
        self.touched.push(Touched { id: stored.id, name: stored.name, revision: 1 });
        Ok(item.id)
    }

    /// Writes an item's next revision, with the same secret or another.
    ///
    /// # Errors
    /// [`CabinetError::NameTaken`], [`CabinetError::Io`], [`CabinetError::Tampered`].
    pub fn revise(&mut self, item: &Item, secret: Option<SecretBytes>) -> Result<(), CabinetError> {
        let inventory = self.inventory()?;
        let missing = || CabinetError::Tampered(format!("{} is gone", item.name));
        let before = to_stored(inventory.get(&item.id).ok_or_else(missing)?)?;
        let secret = match secret {
            Some(secret) => secret,
            None => {
                let sealed = self.store.sealed(&before.id)?.ok_or_else(missing)?;
                self.key.open(&before, &sealed)?
            }
        };
        let mut after = to_stored(item)?;
        after.revision = before.revision + 1;
        after.seq = self.seq;
        let sealed = self.key.seal(&after, &secret, self.env)?;
        self.store.change_item(&after, &sealed)?;
        self.touched.push(Touched { id: after.id, name: after.name, revision: after.revision });
        Ok(())
    }

    /// Retires an item and tells its generation.
    fn retire(&mut self, id: &ItemId) -> Result<u32, CabinetError> {
        let inventory = self.inventory()?;
        let gone = || CabinetError::Tampered(format!("the item {id} is gone"));
        let mut item = inventory.get(id).ok_or_else(gone)?.clone();
        item.state = State::Retired;
        self.revise(&item, None)?;
        Ok(item.generation)
    }

    /// Adds a member, or gives the one with that label another credential.
    ///
    /// # Errors
    /// [`CabinetError::Io`], [`CabinetError::Crypto`], [`CabinetError::NotAnIdentity`].
    pub fn put_member(&mut self, member: &NewMember) -> Result<(), CabinetError> {
        let row: MemberRow = member.wrap(self.key, self.env.now)?;
        self.store.put_member(&row)
    }
}
