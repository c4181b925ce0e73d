//! The append-only history: every row carries the hash of the one before.

use aws_lc_rs::digest::{Context, SHA256};
use serde::{Deserialize, Serialize};

use crate::CabinetError;
use crate::store::{Store, StoredHistory};

/// An item that a change touched, as it was afterwards.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Touched {
    /// Item id.
    pub id: String,
    /// Its name then.
    pub name: String,
    /// Its revision then.
    pub revision: u32,
}

/// What a history row says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct HistoryBody {
    /// When, RFC 3339.
    pub at: String,
    /// Which member had unlocked the cabinet.
    pub by: String,
    /// What was done.
    pub what: String,
    /// The items it touched.
    pub items: Vec<Touched>,
}

/// One row.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct HistoryRow {
    /// Its number, from 1.
    pub seq: u64,
    /// What it says.
    #[serde(flatten)]
    pub body: HistoryBody,
}

/// The hash of a row: over the hash before it, its number and its body.
fn hash(previous: &[u8], seq: u64, body: &str) -> Vec<u8> {
    let mut context = Context::new(&SHA256);
    context.update(previous);
    context.update(&seq.to_le_bytes());
    context.update(body.as_bytes());
    context.finish().as_ref().to_vec()
}

/// Appends a row and returns its number and hash.
pub(crate) fn append(store: &mut dyn Store, body: &HistoryBody) -> Result<(u64, Vec<u8>), CabinetError> {
    let (seq, previous) = match store.newest_history()? {
        Some((seq, hash)) => (seq + 1, hash),
        None => (1, vec![0; 32]),
    };
    let body = serde_json::to_string(body).map_err(|error| CabinetError::Io(error.to_string()))?;
    let own = hash(&previous, seq, &body);
    store.add_history(seq, &body, &previous, &own)?;
    Ok((seq, own))
}

/// Reads the whole history and proves that the chain is unbroken.
pub(crate) fn read(store: &dyn Store) -> Result<(Vec<HistoryRow>, Vec<u8>), CabinetError> {
    let broken = |seq: u64, why: &str| CabinetError::Tampered(format!("history row {seq} {why}"));
    let mut previous = vec![0; 32];
    let mut out = Vec::new();
    for StoredHistory { seq, body, previous: before, hash: own } in store.history()? {
        if seq != out.len() as u64 + 1 {
            return Err(broken(out.len() as u64 + 1, "is missing"));
        }
        if before != previous || own != hash(&previous, seq, &body) {
            return Err(broken(seq, "does not fit the one before it"));
        }
        let body = serde_json::from_str(&body).map_err(|_| broken(seq, "cannot be read"))?;
        out.push(HistoryRow { seq, body });
        previous = own;
    }
    Ok((out, previous))
}
