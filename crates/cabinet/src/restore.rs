//! Going back to a copy: inside one transaction, with what is given up set aside first and named in the history.

use std::collections::BTreeSet;
use std::path::Path;
use std::sync::Arc;

use ninekeys_core::digest::hex;
use ninekeys_core::env::Env;
use ninekeys_core::model::Inventory;

use crate::CabinetError;
use crate::cabinet::{Cabinet, Proof, prove_copy};
use crate::change::{Author, Change};
use crate::proof::{Proven, prove};
use crate::records::Backup;
use crate::row::{Abandoned, Agreement, sign};
use crate::store::Store;
use crate::trust::{Known, PinnedBy, Standing};

/// What a copy lacks of the cabinet that is there, and the other way round.
#[derive(Debug, Clone, Default, PartialEq, Eq, serde::Serialize, schemars::JsonSchema)]
pub struct Differences {
    /// Names of what would be given up.
    pub lost: Vec<String>,
    /// Names of what would come back.
    pub back: Vec<String>,
    /// Labels of members who could open it again.
    pub members_back: Vec<String>,
    /// Labels of members who could not open it any more.
    pub members_gone: Vec<String>,
    /// How many rows of history would be given up.
    pub rows: usize,
}

impl Differences {
    /// Whether nothing would be given up and nobody comes back.
    pub fn are_none(&self) -> bool {
        self.rows == 0 && self.members_back.is_empty() && self.lost.is_empty()
    }
}

/// The names of what stands by itself: keys and certificates are told with their keystore.
fn names(inventory: &Inventory) -> BTreeSet<(String, String)> {
    let whole = inventory.iter().filter(|item| !item.name.contains('/'));
    // a revision is another thing than the one before it
    whole.map(|item| (item.name.clone(), format!("{}:{}", item.id, item.revision))).collect()
}

impl Cabinet<'_> {
    /// What would change if this cabinet went back to `copy`.
    ///
    /// # Errors
    /// [`CabinetError::Another`] when it is no copy of this one, [`CabinetError::Tampered`].
    pub fn differences(&self, copy: &Cabinet<'_>) -> Result<Differences, CabinetError> {
        differences(&self.proven, &copy.proven)
    }

    /// Goes back to `copy`, which is unlocked, and keeps what is there now in the empty file `aside`, which `name` gives
    /// its name before anything is given up. Where this cabinet is unlocked too, its member vouches for the step back, so that other machines take it for an honest one.
    ///
    /// # Errors
    /// [`CabinetError::Another`], [`CabinetError::Locked`], [`CabinetError::NotAllowed`], [`CabinetError::Io`];
    /// then the cabinet is as it was.
    pub fn restore(
        &mut self,
        copy: &mut Cabinet<'_>,
        source: &Backup,
        aside: &Path,
        name: &mut dyn FnMut() -> Result<(), CabinetError>,
        env: &Env<'_>,
    ) -> Result<Proof, CabinetError> {
        if !copy.is_unlocked() {
            return Err(CabinetError::Locked);
        }
        self.store.begin()?;
        match self.restore_now(copy, source, aside, env).and_then(|proven| name().map(|()| proven)) {
            Ok(proven) => {
                self.store.commit()?;
                self.unlocked = copy.unlocked.take();
                let proof = self.accept(proven, Standing::Current);
                let _ = self.store.write_anew();
                Ok(proof)
            }
            Err(error) => {
                self.store.roll_back();
                Err(error)
            }
        }
    }

    /// Goes on from a copy that was put where no cabinet is. Where this machine knows a newer row, that one is given up.
    ///
    /// # Errors
    /// [`CabinetError::Locked`], [`CabinetError::NotAllowed`], [`CabinetError::Io`].
    pub fn go_on_from_copy(
        &mut self,
        known: Option<&Known>,
        source: &Backup,
        env: &Env<'_>,
    ) -> Result<(), CabinetError> {
        let newer = known.map(|known| known.head).filter(|head| !self.proven.has(head));
        let abandoned = newer.map(|head| Abandoned { from: head.seq, rows: vec![head.hash], agreed: None });
        self.change(&format!("cabinet restore {}", source.place), env, |change| {
            change.abandoned = abandoned;
            change.put_backup(source)
        })
    }

    fn restore_now(
        &mut self,
        copy: &mut Cabinet<'_>,
        source: &Backup,
        aside: &Path,
        env: &Env<'_>,
    ) -> Result<Proven, CabinetError> {
        let present = prove(self.store.as_ref())?;
        differences(&present, &copy.proven)?;
        // read by a second connection, while this one keeps writers away
        self.store.copy_to(aside)?;
        match &self.unlocked {
            Some(unlocked) => {
                prove_copy(aside, &present.identity, unlocked)?;
            }
            None => {
                prove(&crate::SqliteStore::open_copy(aside)?)?;
            }
        }
        let abandoned = self.abandoned(&present, &copy.proven);
        refill(self.store.as_mut(), copy)?;
        let machine = self.machine();
        let unlocked = copy.unlocked.as_mut().ok_or(CabinetError::Locked)?;
        let (member, keys, ring) = unlocked.parts();
        let mut change = Change {
            store: self.store.as_mut(),
            env,
            author: Author { member, keys, machine: &machine },
            ring,
            identity: Some(present.identity),
            before: Some(copy.proven.head),
            policy: copy.proven.policy.clone(),
            policy_head: copy.proven.policy_head,
            records: copy.proven.records()?.clone(),
            inventory: copy.proven.inventory()?,
            touched: Default::default(),
            moved: Default::default(),
            names: None,
            policy_changed: false,
            resealed: false,
            abandoned: Some(abandoned),
        };
        change.put_backup(source)?;
        let head = change.finish(&format!("cabinet restore {}", source.place))?;
        let proven = prove(self.store.as_ref())?;
        if proven.head != head {
            return Err(CabinetError::Tampered("what was written is not what is there".into()));
        }
        Ok(proven)
    }

    /// The rows that the copy does not have, and that somebody who could write them gives them up.
    fn abandoned(&self, present: &Proven, copy: &Proven) -> Abandoned {
        let common = common(present, copy);
        let rows = present.hashes.get(common..).unwrap_or_default().to_vec();
        let mut abandoned = Abandoned { from: common as u64 + 1, rows, agreed: None };
        let agreed =
            self.unlocked.as_ref().filter(|unlocked| unlocked.member.is_manager()).and_then(|unlocked| {
                let signature = sign(&unlocked.keys.signing, &present.identity, &abandoned.what())?;
                Some(Agreement { signing: unlocked.member.signing.clone(), signature: hex(&signature) })
            });
        abandoned.agreed = agreed;
        abandoned
    }
}

fn refill(store: &mut dyn Store, copy: &Cabinet<'_>) -> Result<(), CabinetError> {
    store.clear()?;
    copy.store.each_row(&mut |row| store.add_row(&row))?;
    for (key, record) in copy.proven.records()? {
        let sealed = match record.version.sealed {
            Some(_) => Some(crate::change::checked_seal(copy.store.as_ref(), key, record)?),
            None => None,
        };
        store.put_record(&record.stored(key), sealed.as_deref())?;
    }
    Ok(())
}

/// How many rows both have.
fn common(one: &Proven, other: &Proven) -> usize {
    one.hashes.iter().zip(&other.hashes).take_while(|(a, b)| a == b).count()
}

fn differences(present: &Proven, copy: &Proven) -> Result<Differences, CabinetError> {
    if present.identity != copy.identity {
        let (pinned, found) = (present.identity, copy.identity);
        return Err(CabinetError::Another { by: PinnedBy::Machine, pinned, found });
    }
    let (here, there): (Arc<Inventory>, Arc<Inventory>) = (present.inventory()?, copy.inventory()?);
    let (here, there) = (names(&here), names(&there));
    let only = |one: &BTreeSet<(String, String)>, other: &BTreeSet<(String, String)>| {
        let mut names: Vec<String> = one.difference(other).map(|(name, _)| name.clone()).collect();
        names.dedup();
        names
    };
    let labels = |one: &Proven, other: &Proven| {
        let members = one.policy.members.iter().filter(|member| other.policy.member(&member.id).is_none());
        members.map(|member| member.label.clone()).collect()
    };
    Ok(Differences {
        lost: only(&here, &there),
        back: only(&there, &here),
        members_back: labels(copy, present),
        members_gone: labels(present, copy),
        rows: present.hashes.len() - common(present, copy),
    })
}
