//! Proving a cabinet without unlocking it: who wrote it, that nothing was put in, taken out or put back, and how it
//! stands to what is known of it. The order is that of docs/formats/cabinet.md, 'Reading'.

use std::sync::{Arc, OnceLock};

use jiff::SignedDuration;
use ninekeys_core::keys::PublicKey;
use ninekeys_core::model::Inventory;

use crate::CabinetError;
use crate::digest::Digest;
use crate::listing::{Listing, Wanted, in_order};
use crate::policy::{Member, Policy};
use crate::records::{Backup, Intention, Record, Records, described, inventory, state};
use crate::row::{Body, Form, Head, RecordKind, body_digest, hash, is_signed};
use crate::store::{Store, StoredRow};
use crate::trust::{Known, Pin, PinnedBy, Standing};

/// Clocks differ; a row that is older than the one before it by more than this was not written by an honest one.
pub(crate) const CLOCKS_DIFFER: SignedDuration = SignedDuration::from_hours(48);

/// A cabinet whose origin and whole state were proved.
pub(crate) struct Proven {
    /// The hash of its first row.
    pub(crate) identity: Digest,
    /// Its newest row.
    pub(crate) head: Head,
    /// What that row says.
    pub(crate) newest: Body,
    /// The hash of every row.
    pub(crate) hashes: Vec<Digest>,
    /// The members and compartments.
    pub(crate) policy: Policy,
    /// The row that says so.
    pub(crate) policy_head: Head,
    /// The newest row that a manager signed: it vouches for all before it.
    pub(crate) anchor: Head,
    /// How many items are in it.
    pub(crate) count: usize,
    /// The digest of its records as they are listed, where it is known.
    listing: Option<Digest>,
    /// The backups that are noted in it.
    pub(crate) backups: Vec<Backup>,
    /// What is on its way out, by id.
    pub(crate) intentions: Vec<(String, Intention)>,
    /// Every record by itself; nothing where it was only looked at.
    records: Option<Records>,
    items: OnceLock<Arc<Inventory>>,
}

impl Proven {
    /// The items, read when they are asked for.
    pub(crate) fn inventory(&self) -> Result<Arc<Inventory>, CabinetError> {
        if let Some(known) = self.items.get() {
            return Ok(Arc::clone(known));
        }
        let read = Arc::new(inventory(self.records()?)?);
        Ok(Arc::clone(self.items.get_or_init(|| read)))
    }

    /// Everything in it.
    ///
    /// # Errors
    /// [`CabinetError::Locked`] where it was only looked at.
    pub(crate) fn records(&self) -> Result<&Records, CabinetError> {
        self.records.as_ref().ok_or(CabinetError::Locked)
    }

    /// The hash of a row.
    pub(crate) fn hash_at(&self, seq: u64) -> Option<&Digest> {
        self.hashes.get(usize::try_from(seq.checked_sub(1)?).ok()?)
    }

    /// Whether the history has that row.
    pub(crate) fn has(&self, head: &Head) -> bool {
        self.hash_at(head.seq) == Some(&head.hash)
    }

    /// What a machine remembers of it.
    pub(crate) fn known(&self) -> Known {
        let managers = self.policy.members.iter().filter(|member| member.is_manager());
        Known {
            head: self.head,
            managers: managers.map(|member| member.signing.clone()).collect(),
            listing: self.listing,
            pinned: None,
        }
    }

    /// Takes over what was remembered of its records, where that was of the same row: then it was proved before.
    pub(crate) fn recall(&mut self, known: Option<&Known>) {
        let same = known.filter(|known| known.head == self.head);
        self.listing = self.listing.or(same.and_then(|known| known.listing));
    }

    /// What a project file or an unlock file pins.
    pub(crate) fn pin(&self) -> Pin {
        Pin { identity: self.identity, head: self.policy_head }
    }

    /// How it stands to a pin.
    pub(crate) fn against(&self, pin: &Pin, by: PinnedBy) -> Result<Standing, CabinetError> {
        if pin.identity != self.identity {
            return Err(CabinetError::Another { by, pinned: pin.identity, found: self.identity });
        }
        Ok(self.to_head(&pin.head, by))
    }

    fn to_head(&self, head: &Head, by: PinnedBy) -> Standing {
        match self.hash_at(head.seq) {
            Some(hash) if *hash == head.hash => Standing::Current,
            Some(_) => Standing::Parted { by, row: head.seq },
            None => Standing::Older { by, known: head.seq, found: self.head.seq },
        }
    }
}

/// The chain of hashes over all rows, and what of the rows is read so far. The rows themselves stay in the store.
pub(crate) struct Chain<'a> {
    store: &'a dyn Store,
    forms: Vec<Form>,
    pub(crate) hashes: Vec<Digest>,
    identity: Digest,
    /// Policies, each with the number of its row, ascending.
    policies: Vec<(u64, Policy)>,
    /// The rows that may give up others: few are worth reading whole.
    giving_up: Vec<u64>,
}

fn broken(seq: u64, why: &str) -> CabinetError {
    CabinetError::Tampered(format!("history row {seq} {why}"))
}

/// How many bytes of rows are hashed together.
const HELD: usize = 1 << 20;

/// What the chain needs of a row.
struct Hashed {
    seq: u64,
    form: Option<Form>,
    body: Digest,
    may_give_up: bool,
}

impl Hashed {
    fn of(row: &StoredRow) -> Self {
        Hashed {
            seq: row.seq,
            form: Form::from_word(&row.form),
            body: body_digest(row.body.as_bytes()),
            may_give_up: row.body.contains("\"abandoned\""),
        }
    }
}

impl<'a> Chain<'a> {
    /// Hashes all rows, and proves every row that changes who may do what.
    pub(crate) fn read(store: &'a dyn Store) -> Result<Self, CabinetError> {
        let identity = Digest::plain(&[]);
        let (forms, hashes, giving_up) = Default::default();
        let mut chain = Chain { store, forms, hashes, identity, policies: Vec::new(), giving_up };
        in_order(
            |hand_out| {
                let mut held: Vec<StoredRow> = Vec::new();
                let mut size = 0;
                store.each_row(&mut |row| {
                    size += row.body.len();
                    held.push(row);
                    if size > HELD {
                        size = 0;
                        hand_out(std::mem::take(&mut held))?;
                    }
                    Ok(())
                })?;
                hand_out(held)
            },
            |rows: Vec<StoredRow>| rows.iter().map(Hashed::of).collect::<Vec<_>>(),
            |rows| rows.iter().try_for_each(|row| chain.add(row)),
        )?;
        chain.identity =
            *chain.hashes.first().ok_or_else(|| CabinetError::Tampered("it has no history".into()))?;
        chain.read_policies()?;
        Ok(chain)
    }

    /// Hashes the row that comes next.
    fn add(&mut self, row: &Hashed) -> Result<(), CabinetError> {
        let wanted = self.hashes.len() as u64 + 1;
        if row.seq != wanted {
            return Err(broken(wanted, "is missing"));
        }
        let form = row.form.ok_or_else(|| broken(wanted, "is of a form that is not known"))?;
        if row.may_give_up {
            self.giving_up.push(wanted);
        }
        self.hashes.push(hash(self.hashes.last(), row.seq, form, &row.body));
        self.forms.push(form);
        Ok(())
    }

    /// The number of its newest row.
    pub(crate) fn last(&self) -> u64 {
        self.hashes.len() as u64
    }

    fn read_policies(&mut self) -> Result<(), CabinetError> {
        if self.forms.first() != Some(&Form::Policy) {
            return Err(broken(1, "does not say who may write it"));
        }
        let of_policy: Vec<u64> =
            (1u64..).zip(&self.forms).filter(|(_, f)| **f == Form::Policy).map(|(s, _)| s).collect();
        for seq in of_policy {
            let row = self.row(seq)?;
            let body = self.body_of(&row)?;
            let Some(policy) = body.policy.clone().filter(Policy::is_sound) else {
                return Err(broken(seq, "holds no policy that can be one"));
            };
            // the first row is signed by one of those that it names itself: its hash is what is pinned
            let before = self.policies.last().map_or(&policy, |(_, policy)| policy);
            if before.origin != policy.origin {
                return Err(broken(seq, "belongs to another cabinet"));
            }
            self.prove_author(&row, &body, before)?;
            self.policies.push((seq, policy));
        }
        Ok(())
    }

    fn row(&self, seq: u64) -> Result<StoredRow, CabinetError> {
        let row = self.store.row(seq)?.ok_or_else(|| broken(seq, "is missing"))?;
        // what a database finds by number and what it lists need not be the same, where somebody meddled with its pages
        let body = body_digest(row.body.as_bytes());
        let before = seq.checked_sub(1).and_then(|before| self.head(before)).map(|head| head.hash);
        let found = hash(before.as_ref(), seq, self.form(seq), &body);
        if row.seq != seq || self.head(seq).map(|head| head.hash) != Some(found) {
            return Err(broken(seq, "is found and listed differently"));
        }
        Ok(row)
    }

    fn form(&self, seq: u64) -> Form {
        let at = seq.checked_sub(1).and_then(|at| usize::try_from(at).ok());
        at.and_then(|at| self.forms.get(at)).copied().unwrap_or(Form::Change)
    }

    pub(crate) fn head(&self, seq: u64) -> Option<Head> {
        let at = usize::try_from(seq.checked_sub(1)?).ok()?;
        self.hashes.get(at).map(|hash| Head { seq, hash: *hash })
    }

    /// What a row says.
    pub(crate) fn body(&self, seq: u64) -> Result<Body, CabinetError> {
        self.body_of(&self.row(seq)?)
    }

    fn body_of(&self, row: &StoredRow) -> Result<Body, CabinetError> {
        let seq = row.seq;
        let body: Body = serde_json::from_str(&row.body).map_err(|_| broken(seq, "cannot be read"))?;
        if body.policy.is_some() != (self.form(seq) == Form::Policy) {
            return Err(broken(seq, "is not of the form that it says"));
        }
        let ascending = |pair: &[crate::row::Touch]| match pair {
            [a, b] => (a.kind.word(), &a.id) < (b.kind.word(), &b.id),
            _ => true,
        };
        if !body.touches.windows(2).all(ascending) {
            return Err(broken(seq, "names a record twice"));
        }
        Ok(body)
    }

    /// The policy as of the row before `seq`.
    fn policy_before(&self, seq: u64) -> Option<&Policy> {
        self.policies.iter().rev().find(|(row, _)| *row < seq).map(|(_, policy)| policy)
    }

    /// The policy that names a row's author.
    pub(crate) fn policy_for(&self, seq: u64) -> Option<&Policy> {
        self.policy_before(seq).or_else(|| self.policies.first().map(|(_, policy)| policy))
    }

    /// Whether the author of a row was a member, signed it, and was allowed to write it.
    fn prove_author(&self, row: &StoredRow, body: &Body, policy: &Policy) -> Result<Member, CabinetError> {
        let seq = row.seq;
        let author =
            policy.member(&body.by).ok_or_else(|| broken(seq, "was written by nobody who was a member"))?;
        let key = author.signing_key().ok_or_else(|| broken(seq, "names a key that cannot be read"))?;
        let head = self.head(seq).ok_or_else(|| broken(seq, "is missing"))?;
        if !is_signed(&key, &self.identity, &head, &row.signature) {
            return Err(broken(seq, "is not signed by its author"));
        }
        match policy.refuses(author, self.form(seq), body) {
            Some(why) => Err(broken(seq, why)),
            None => Ok(author.clone()),
        }
    }

    /// Proves one row, whatever its form.
    pub(crate) fn prove_row(&self, seq: u64) -> Result<(Body, Member), CabinetError> {
        let row = self.row(seq)?;
        let body = self.body_of(&row)?;
        let policy = match self.policy_before(seq) {
            Some(policy) => policy,
            None => body.policy.as_ref().ok_or_else(|| broken(seq, "does not say who may write it"))?,
        };
        let author = self.prove_author(&row, &body, policy)?;
        Ok((body, author))
    }

    /// Proves the rows from the newest back to one that a manager signed.
    fn vouched(&self) -> Result<Vouched, CabinetError> {
        let mut later = Vec::new();
        let mut seq = self.last();
        loop {
            let (newest, author) = self.prove_row(seq)?;
            if author.is_manager() {
                return Ok(Vouched { anchor: seq, newest, later });
            }
            later.push(newest);
            seq = seq
                .checked_sub(1)
                .filter(|seq| *seq > 0)
                .ok_or_else(|| broken(1, "is by nobody who may write it"))?;
        }
    }

    /// Whether a row that gives up others names `known`, and somebody who could do everything there agreed.
    fn is_given_up(&self, known: &Known) -> bool {
        self.giving_up.iter().rev().any(|seq| {
            let proved = self.prove_row(*seq);
            proved.is_ok_and(|(body, author)| agreed(&self.identity, &body, &author, known))
        })
    }
}

/// The newest rows.
struct Vouched {
    /// The number of the newest that a manager signed: it vouches for all before it.
    anchor: u64,
    /// What that one says.
    newest: Body,
    /// What the later ones say, the newest first.
    later: Vec<Body>,
}

fn agreed(identity: &Digest, body: &Body, author: &Member, known: &Known) -> bool {
    let Some(abandoned) = body.abandoned.as_ref().filter(|abandoned| abandoned.names(&known.head)) else {
        return false;
    };
    if known.managers.contains(&author.signing) {
        return true;
    }
    abandoned.agreed.as_ref().is_some_and(|agreement| {
        let key = ninekeys_core::digest::from_hex(&agreement.signing)
            .and_then(|der| PublicKey::from_der(&der).ok());
        let signature = ninekeys_core::digest::from_hex(&agreement.signature).unwrap_or_default();
        known.managers.contains(&agreement.signing)
            && key.is_some_and(|key| is_signed(&key, identity, &abandoned.what(), &signature))
    })
}

/// Proves everything that can be proved without a secret: the rows, their authors, and that the records are what the
/// newest row says.
pub(crate) fn prove(store: &dyn Store) -> Result<Proven, CabinetError> {
    prove_for(store, Purpose::Proof)
}

/// What a cabinet is proved for, and so what is kept of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Purpose {
    /// To know that it is whole: the records, of which the items are read when they are asked for.
    Proof,
    /// To look at the items: without the records.
    Look,
    /// To work with it: both.
    Work,
}

/// The same for a purpose: the items are read meanwhile where they are asked for next, and what a machine may remember of the
/// records is digested where somebody looks.
pub(crate) fn prove_for(store: &dyn Store, purpose: Purpose) -> Result<Proven, CabinetError> {
    let chain = Chain::read(store)?;
    let looks = purpose == Purpose::Look;
    let wanted = Wanted { facts: true, items: purpose != Purpose::Proof, abridged: false, listing: looks };
    let mut listing = Listing::read(store, wanted)?;
    let last = chain.last();
    let Vouched { anchor, newest, later } = chain.vouched()?;
    let items = listing.take_items();
    let (state, (items, records)) = rayon::join(
        || prove_state(&listing, last, &newest, &later),
        || (items.map(Inventory::of_shared), (!looks).then(|| listing.records())),
    );
    // nothing is told of what was not proved, not even that it cannot be read
    state?;
    let items = match purpose {
        Purpose::Proof => OnceLock::new(),
        Purpose::Look | Purpose::Work => OnceLock::from(Arc::new(items?)),
    };
    let newest = later.into_iter().next().unwrap_or(newest);
    let head = |seq| chain.head(seq).ok_or_else(|| broken(seq, "is missing"));
    let (head_now, anchor) = (head(last)?, head(anchor)?);
    let (policy_seq, policy) = chain.policies.last().cloned().ok_or_else(|| broken(1, "is missing"))?;
    Ok(Proven {
        identity: chain.identity,
        head: head_now,
        newest,
        policy,
        policy_head: head(policy_seq)?,
        anchor,
        count: listing.count(),
        listing: listing.digest(),
        backups: listing.read_kind(RecordKind::Backup).map(|(_, backup)| backup).collect(),
        intentions: listing.read_kind(RecordKind::Intention).collect(),
        records,
        items,
        hashes: chain.hashes,
    })
}

/// The records give the newest row's state; with the touches of later rows undone they give the anchor's. Otherwise a
/// member who may do little could hide a change under a state of its own.
fn prove_state(listing: &Listing, last: u64, anchor: &Body, later: &[Body]) -> Result<(), CabinetError> {
    let newest = later.first().unwrap_or(anchor);
    if listing.state() != newest.state {
        return Err(CabinetError::Tampered(
            "what is in it is not what the newest row of its history says".into(),
        ));
    }
    if later.is_empty() {
        return Ok(());
    }
    let mut undone = listing.records();
    for (body, seq) in later.iter().zip((0..=last).rev()) {
        let earlier = later.get(usize::try_from(last - seq + 1).unwrap_or(usize::MAX)).unwrap_or(anchor);
        if earlier.at.duration_since(body.at) > CLOCKS_DIFFER {
            return Err(broken(seq, "is older than the one before it"));
        }
        for touch in body.touches.iter().rev() {
            let key = (touch.kind, touch.id.clone());
            let left = undone.get(&key);
            if left.map(|record| record.version) != touch.after {
                return Err(broken(seq, "does not leave what it says"));
            }
            // what its author may write depends on what it is and where it belongs: it has to say so truly
            let is = |record: &Record| {
                described(touch.kind, &record.facts) == (touch.of.clone(), touch.compartment.clone())
            };
            if left.is_some_and(|record| !record.facts.is_empty() && !is(record)) {
                return Err(broken(seq, "calls something what it is not"));
            }
            match touch.before {
                Some(version) => undone.insert(key, Record { facts: String::new(), version }),
                None => undone.remove(&key),
            };
        }
        if state(&undone) != earlier.state {
            return Err(broken(seq, "changes more than it says"));
        }
    }
    Ok(())
}

/// How a proven cabinet stands to pins and memory, the worst first.
pub(crate) fn standing(
    proven: &Proven,
    pin: Option<&Pin>,
    known: Option<&Known>,
    store: &dyn Store,
) -> Result<Standing, CabinetError> {
    let mut all = Vec::new();
    if let Some(pin) = pin {
        all.push(proven.against(pin, PinnedBy::ProjectFile)?);
    }
    if let Some(known) = known {
        let found = proven.to_head(&known.head, PinnedBy::Machine);
        // a restore is an honest step back, where somebody signed it who could do everything there
        let given_up = found != Standing::Current && { Chain::read(store)?.is_given_up(known) };
        all.push(if given_up { Standing::Current } else { found });
    }
    Ok(all.into_iter().find(|standing| *standing != Standing::Current).unwrap_or(Standing::Current))
}
