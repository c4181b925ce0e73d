//! `cabinet history`: who did what to which item when, and whether all of it is there.

use std::path::{Path, PathBuf};

use jiff::Timestamp;
use ninekeys_cabinet::{Cabinet, CabinetError, Forgetful, Head, HistoryRow, Trust};
use ninekeys_core::model::{Facts, Inventory, Item, NotFound};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::ctx::{Ctx, OpenError};

/// Which rows are wanted, and how they are proved.
#[derive(Debug, Default)]
pub struct Request {
    /// Whether every row is proved by its author's signature.
    pub verify: bool,
    /// Rows that touched this item.
    pub item: Option<String>,
    /// Rows from then on.
    pub since: Option<Timestamp>,
    /// Rows before then.
    pub until: Option<Timestamp>,
    /// Rows that this member wrote.
    pub by: Option<String>,
    /// Copies that the history is held against: what they have has to be here.
    pub against: Vec<PathBuf>,
}

/// The history of the cabinet.
#[derive(Debug, Serialize, JsonSchema)]
pub struct HistoryReport {
    /// The rows that are wanted, oldest first.
    pub rows: Vec<HistoryRow>,
    /// How many rows there are, whichever are wanted.
    pub total: usize,
    /// Whether the signature of every row was proved, and not only of those that decide.
    pub verified: bool,
    /// The copies that it was held against.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub against: Vec<Compared>,
}

impl HistoryReport {
    /// Whether a copy has rows that are not here.
    pub fn lacks_rows(&self) -> bool {
        self.against.iter().any(|one| one.missing > 0)
    }
}

/// A copy, and how far it is the same.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Compared {
    /// The copy, as it was named.
    pub copy: String,
    /// The last row that both have.
    pub common: u64,
    /// How many rows of the copy are not here: they were cut off, or are others.
    pub missing: u64,
    /// How many rows came after what both have.
    pub newer: u64,
}

/// Why it cannot be told.
#[derive(Debug, Error)]
pub enum HistoryError {
    /// The cabinet could not be opened.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The item.
    #[error(transparent)]
    NotFound(#[from] NotFound),
    /// The cabinet could not be read, or a row does not hold.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
    /// A copy could not be read.
    #[error("{}: {cause}", path.display())]
    Copy {
        /// The copy.
        path: PathBuf,
        /// What was wrong.
        #[source]
        cause: CabinetError,
    },
    /// A copy of another cabinet.
    #[error("{} is a copy of another cabinet", .0.display())]
    OtherCabinet(PathBuf),
}

/// Tells the history; nothing is unlocked.
///
/// # Errors
/// [`HistoryError`].
pub fn history(ctx: &Ctx<'_>, request: &Request) -> Result<HistoryReport, HistoryError> {
    let mut cabinet = ctx.open()?;
    let inventory = cabinet.inventory()?;
    let items = request.item.as_deref().map(|name| ids_of(&inventory, name)).transpose()?;
    let mut rows = cabinet.history(request.verify)?;
    let total = rows.len();
    rows.retain(|row| {
        request.since.is_none_or(|since| row.at >= since)
            && request.until.is_none_or(|until| row.at < until)
            && request.by.as_ref().is_none_or(|by| row.by.eq_ignore_ascii_case(by))
            && items.as_ref().is_none_or(|ids| row.items.iter().any(|id| ids.contains(id)))
    });
    let mut against = Vec::new();
    if !request.against.is_empty() {
        let own = cabinet.heads();
        for path in &request.against {
            against.push(compare(ctx, path, (&cabinet.identity().to_string(), &own))?);
        }
    }
    Ok(HistoryReport { rows, total, verified: request.verify, against })
}

/// An item, and what it is made of.
fn ids_of(inventory: &Inventory, name: &str) -> Result<Vec<String>, NotFound> {
    let item: &Item = inventory.find(name)?;
    let mut ids = vec![item.id.to_string()];
    if matches!(item.facts, Facts::Keystore(_) | Facts::Identity(_) | Facts::ApiKey(_)) {
        ids.extend(item.facts.links().into_iter().map(ToString::to_string));
    }
    Ok(ids)
}

fn compare(ctx: &Ctx<'_>, path: &Path, (identity, own): (&str, &[Head])) -> Result<Compared, HistoryError> {
    let failed = |cause| HistoryError::Copy { path: path.to_owned(), cause };
    let trust = Trust { pin: None, memory: &Forgetful };
    let copy = Cabinet::open(&ctx.path(path), trust).map_err(failed)?;
    if copy.identity().to_string() != identity {
        return Err(HistoryError::OtherCabinet(path.to_owned()));
    }
    let theirs = copy.heads();
    let common = own.iter().zip(&theirs).take_while(|(a, b)| a.hash == b.hash).count();
    let rest = |rows: &[Head]| u64::try_from(rows.len().saturating_sub(common)).unwrap_or(u64::MAX);
    Ok(Compared {
        copy: path.display().to_string(),
        common: u64::try_from(common).unwrap_or(u64::MAX),
        missing: rest(&theirs),
        newer: rest(own),
    })
}
