//! `advance`: a build at the store goes on, the very bytes that were there before.

use jiff::Timestamp;
use ninekeys_cabinet::CabinetError;
use ninekeys_core::model::ApiUse;
use ninekeys_portal::client::PortalError;
use ninekeys_portal::store::{Delivery, Stage};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::{DeliverySaid, StoreRefusal, refusal, said};
use crate::ask::AskError;
use crate::ctx::{Ctx, OpenError};
use crate::files::{self, FileError};
use crate::portal::{ConnectError, with_store};
use crate::project::ProjectError;

/// Where a build is to go.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum To {
    /// To testers.
    Testing,
    /// To everyone, by way of a review.
    Everyone,
}

/// The build, and where it is to go.
#[derive(Debug)]
pub struct Request {
    /// A file, the name that it had, its id at the store, or its number.
    pub build: String,
    /// Where it goes.
    pub to: To,
    /// Whether nobody is asked.
    pub sure: bool,
}

/// A build that went on.
#[derive(Debug, Serialize, JsonSchema)]
pub struct AdvanceReport {
    /// The build.
    #[serde(flatten)]
    pub delivery: DeliverySaid,
    /// Where it was before.
    pub was: Stage,
    /// The time of the answer.
    pub at: Timestamp,
}

/// Why it did not go on.
#[derive(Debug, Error)]
pub enum AdvanceError {
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The file that was named.
    #[error(transparent)]
    File(#[from] FileError),
    /// The store has no such build.
    #[error("the store has no build {0}")]
    Unknown(String),
    /// Several are called so.
    #[error("`{wanted}` could be {}", candidates.join(", "))]
    Ambiguous {
        /// What was typed.
        wanted: String,
        /// The ids of those that it could be.
        candidates: Vec<String>,
    },
    /// Nobody said yes.
    #[error("{0} goes to everyone, and nobody said yes")]
    NotSure(String),
    /// The person.
    #[error(transparent)]
    Ask(#[from] AskError),
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
    /// The store cannot be asked.
    #[error(transparent)]
    Connect(#[from] ConnectError),
    /// The store did not do it.
    #[error(transparent)]
    Store(PortalError),
    /// It does not take it.
    #[error(transparent)]
    Refused(#[from] StoreRefusal),
}

impl From<PortalError> for AdvanceError {
    fn from(error: PortalError) -> Self {
        refusal(error).map_or_else(Self::Store, Self::Refused)
    }
}

/// Has a build at the store go to testers, or to everyone. What goes on is named by its bytes: a file of the same name with other
/// bytes is another build.
///
/// # Errors
/// [`AdvanceError`]; then it is where it was.
pub fn advance(ctx: &Ctx<'_>, request: &Request) -> Result<AdvanceReport, AdvanceError> {
    let file = ctx.project_file()?;
    let path = ctx.path(request.build.as_ref());
    let sha256 = if path.is_file() { Some(files::sha256(&path, &ctx.env)?) } else { None };
    let mut cabinet = ctx.open_unlocked()?;
    let listed = with_store(ctx, &cabinet, &file, (ApiUse::Uploads, None), |store| {
        Ok::<_, AdvanceError>(store.deliveries()?)
    })?;
    let found = find(&listed, &request.build, sha256.as_deref())?.clone();
    if request.to == To::Everyone && !request.sure {
        let question = format!("{} {} ({}) goes to everyone. Go on", found.id, found.version, found.number);
        match ctx.ask.sure(&question)? {
            Some(true) => {}
            Some(false) => return Err(AskError::Declined.into()),
            None => return Err(AdvanceError::NotSure(found.file)),
        }
    }
    let (to, word) = match request.to {
        To::Testing => (Stage::Testing, "testers"),
        To::Everyone => (Stage::Live, "everyone"),
    };
    let what = format!("{} at the store goes to {word}", found.file);
    cabinet.change(&what, &ctx.env, |_| Ok::<_, CabinetError>(()))?;
    let now = with_store(ctx, &cabinet, &file, (ApiUse::Signing, None), |store| {
        Ok::<_, AdvanceError>(store.advance(&found.delivery, to)?)
    })?;
    let inventory = cabinet.inventory()?;
    let delivery = said(&now, &listed, &file.project, &inventory.releases());
    Ok(AdvanceReport { delivery, was: found.stage, at: ctx.env.now })
}

/// The build that is meant: by its bytes where a file was named, else by id, file name or number.
fn find<'d>(all: &'d [Delivery], wanted: &str, sha256: Option<&str>) -> Result<&'d Delivery, AdvanceError> {
    let is_it = |one: &&Delivery| match sha256 {
        Some(sha256) => one.sha256 == sha256,
        None => {
            one.file == wanted
                || one.number.to_string() == wanted
                || (wanted.len() >= 4 && one.delivery.starts_with(wanted))
        }
    };
    let mut found = all.iter().filter(is_it);
    match (found.next(), found.next()) {
        (Some(one), None) => Ok(one),
        (None, _) => Err(AdvanceError::Unknown(wanted.into())),
        (Some(_), Some(_)) => Err(AdvanceError::Ambiguous {
            wanted: wanted.into(),
            candidates: all.iter().filter(is_it).map(|one| one.delivery.clone()).collect(),
        }),
    }
}
