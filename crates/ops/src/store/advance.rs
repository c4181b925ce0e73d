//! `advance`: a build at the store goes on, the very bytes that were there before.

use std::path::PathBuf;

use jiff::Timestamp;
use ninekeys_cabinet::{Cabinet, CabinetError};
use ninekeys_core::model::{ApiUse, Destination};
use ninekeys_portal::client::PortalError;
use ninekeys_portal::store::{Advance, Delivery, Review, Stage};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::review::{self, ReviewError, ReviewSaid};
use super::{DeliverySaid, StoreRefusal, meant, note, refusal, said};
use crate::ask::AskError;
use crate::ctx::{Ctx, OpenError};
use crate::files::{self, FileError};
use crate::portal::{ConnectError, with_store};
use crate::project::{ProjectError, ProjectFile};

/// Where a build is to go.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum To {
    /// To testers.
    Testing {
        /// The groups; those inside the company when none is named.
        groups: Vec<String>,
    },
    /// To everyone, by way of a review.
    Everyone {
        /// What is new, for those who use the app.
        whats_new: Option<WhatsNew>,
        /// Not before this time.
        on: Option<Timestamp>,
        /// The share of people who get it, in percent.
        share: Option<u8>,
    },
    /// To nobody else.
    Nobody,
}

/// A text that says what is new in a version.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum WhatsNew {
    /// As it was typed.
    Text(String),
    /// As it stands in a file.
    In(PathBuf),
}

/// The most of such a file, in bytes.
const MOST_NEW: u64 = 64 << 10;

impl WhatsNew {
    fn text(&self, ctx: &Ctx<'_>) -> Result<String, AdvanceError> {
        match self {
            WhatsNew::Text(text) => Ok(text.clone()),
            WhatsNew::In(path) => {
                let bytes = files::read_whole(&ctx.path(path), MOST_NEW)?;
                String::from_utf8(bytes).map_err(|_| AdvanceError::NoText(path.display().to_string()))
            }
        }
    }
}

impl To {
    /// In words.
    fn words(&self) -> &'static str {
        match self {
            To::Testing { .. } => "goes to testers",
            To::Everyone { .. } => "goes to everyone",
            To::Nobody => "goes to nobody else",
        }
    }
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
    /// The store, where it is not the one that stands with the portal.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub store: Option<String>,
    /// The build.
    #[serde(flatten)]
    pub delivery: DeliverySaid,
    /// Where it was before.
    pub was: Stage,
    /// What the people of the review were told.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub review: Option<ReviewSaid>,
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
    /// The store tells of another build than the one that was meant.
    #[error("the store tells of other bytes than those of {0}")]
    OtherBytes(String),
    /// The file that says what is new holds something else.
    #[error("{0} holds no text")]
    NoText(String),
    /// What the review wants to know.
    #[error(transparent)]
    Review(#[from] ReviewError),
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
    let (wanted, review) = match &request.to {
        To::Nobody => (None, None),
        To::Testing { groups } => {
            (Some(Advance { groups: groups.clone(), ..Advance::to(Stage::Testing) }), None)
        }
        To::Everyone { whats_new, on, share } => {
            let whats_new = whats_new.as_ref().map(|new| new.text(ctx)).transpose()?;
            let review = to_the_review(ctx, &cabinet, &file, &found, whats_new.as_deref())?;
            if !request.sure {
                make_sure(ctx, &found, review.as_ref().map(|(_, said)| said))?;
            }
            let (review, said) = review.unzip();
            (Some(Advance { review, on: *on, share: *share, ..Advance::to(Stage::Live) }), said)
        }
    };
    let what = format!("{} at {} {}", found.file, meant(ctx), request.to.words());
    cabinet.change(&what, &ctx.env, |_| Ok::<_, CabinetError>(()))?;
    let now = with_store(ctx, &cabinet, &file, (ApiUse::Signing, None), |store| {
        Ok::<_, AdvanceError>(match &wanted {
            Some(wanted) => store.advance(&found.delivery, wanted)?,
            None => store.hold(&found.delivery)?,
        })
    })?;
    if now.sha256 != found.sha256 {
        return Err(AdvanceError::OtherBytes(found.file));
    }
    let done = format!("{what}: it is {}", now.stage.words());
    let sent = (now.sha256.as_str(), Destination::Store);
    // the store has done it, whether or not that can be written down now
    let _ = match &request.to {
        To::Testing { .. } => note(ctx, &mut cabinet, &done, sent, |facts| &mut facts.testing),
        To::Everyone { .. } => note(ctx, &mut cabinet, &done, sent, |facts| &mut facts.everyone),
        To::Nobody => Ok(()),
    };
    let inventory = cabinet.inventory()?;
    let delivery = said(&now, &listed, &file.project, &inventory.releases());
    Ok(AdvanceReport { store: ctx.store.clone(), delivery, was: found.stage, review, at: ctx.env.now })
}

/// What the people of the review are told, where a build has still to pass it.
fn to_the_review(
    ctx: &Ctx<'_>,
    cabinet: &Cabinet<'_>,
    file: &ProjectFile,
    found: &Delivery,
    whats_new: Option<&str>,
) -> Result<Option<(Review, ReviewSaid)>, AdvanceError> {
    if !matches!(found.stage, Stage::Ready | Stage::Testing) {
        return Ok(None);
    }
    let app = file.project.app_of(found.platform, &found.id).map(|(name, _)| name.to_owned());
    let app = app.ok_or_else(|| AdvanceError::Unknown(found.file.clone()))?;
    let questions = with_store(ctx, cabinet, file, (ApiUse::Uploads, Some(&app)), |store| {
        Ok::<_, AdvanceError>(store.questions()?)
    })?;
    let review = review::gather(ctx, cabinet, file, &app, (whats_new, &questions))?;
    let said = ReviewSaid::of(&review, &questions);
    Ok(Some((review, said)))
}

/// Shows what is sent, and asks.
fn make_sure(ctx: &Ctx<'_>, found: &Delivery, review: Option<&ReviewSaid>) -> Result<(), AdvanceError> {
    for (label, text) in review.map(ReviewSaid::lines).unwrap_or_default() {
        ctx.ask.tell(&format!("{label}: {text}"));
    }
    let question = format!("{} {} ({}) goes to everyone. Go on", found.id, found.version, found.number);
    match ctx.ask.sure(&question)? {
        Some(true) => Ok(()),
        Some(false) => Err(AskError::Declined.into()),
        None => Err(AdvanceError::NotSure(found.file.clone())),
    }
}

/// The build that is meant: by its bytes where a file was named, else by id, file name or number.
pub(super) fn find<'d>(
    all: &'d [Delivery],
    wanted: &str,
    sha256: Option<&str>,
) -> Result<&'d Delivery, AdvanceError> {
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
