//! The history as it is told: every row with its author's name.

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;

use crate::CabinetError;
use crate::cabinet::Cabinet;
use crate::policy::Policy;
use crate::proof::Chain;
use crate::row::{Body, Head, RecordKind};

/// One row.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct HistoryRow {
    /// Its number, from 1.
    pub seq: u64,
    /// When, UTC.
    pub at: Timestamp,
    /// The member who wrote it, by label.
    pub by: String,
    /// The machine that it was written on.
    pub machine: String,
    /// What was done.
    pub what: String,
    /// How many records it touched.
    pub records: usize,
    /// The ids of the items among them.
    #[serde(skip)]
    pub items: Vec<String>,
}

impl HistoryRow {
    pub(crate) fn new(seq: u64, body: &Body, policy: &Policy) -> Self {
        let by = policy.member(&body.by).map(|member| member.label.clone());
        HistoryRow {
            seq,
            at: body.at,
            by: by.unwrap_or_else(|| body.by.to_string().chars().take(8).collect()),
            machine: body.machine.clone(),
            what: body.what.clone(),
            records: body.touches.len(),
            items: body
                .touches
                .iter()
                .filter(|touch| touch.kind == RecordKind::Item)
                .map(|touch| touch.id.clone())
                .collect(),
        }
    }
}

impl Cabinet<'_> {
    /// The whole history, oldest first; with `verify` the signature and the rights of every row are proved as well, and
    /// not only those that the newest row of a manager does not vouch for.
    ///
    /// # Errors
    /// [`CabinetError::Io`], [`CabinetError::Tampered`] when it is broken.
    pub fn history(&mut self, verify: bool) -> Result<Vec<HistoryRow>, CabinetError> {
        self.store.begin_reading()?;
        let rows = self.rows(verify);
        self.store.roll_back();
        rows
    }

    /// Every row's number and hash, oldest first: what tells how far two copies are the same.
    pub fn heads(&self) -> Vec<Head> {
        let head = |seq| self.proven.hash_at(seq).map(|hash| Head { seq, hash: *hash });
        (1..=self.proven.head.seq).filter_map(head).collect()
    }

    fn rows(&self, verify: bool) -> Result<Vec<HistoryRow>, CabinetError> {
        let chain = Chain::read(self.store.as_ref())?;
        let mut out = Vec::new();
        for seq in 1..=chain.last() {
            let body = if verify { chain.prove_row(seq)?.0 } else { chain.body(seq)? };
            let policy = chain.policy_for(seq).unwrap_or(&self.proven.policy);
            out.push(HistoryRow::new(seq, &body, policy));
        }
        Ok(out)
    }
}
