//! `upload` without a build: what was signed for the store and is not there, and what stands in the way of each.

use std::collections::HashSet;

use jiff::Timestamp;
use ninekeys_core::model::{BuildNumber, Destination, Platform, ReleaseFacts, replaced};
use ninekeys_core::next::Bar;
use ninekeys_portal::store::{Delivery, Stage};
use schemars::JsonSchema;
use serde::Serialize;

use super::deliveries::{AtStore, DeliveriesError, at_store};
use super::foresee;
use crate::ctx::Ctx;

/// What could be uploaded.
#[derive(Debug, Serialize, JsonSchema)]
pub struct CandidatesReport {
    /// The store, where it is not the one that stands with the portal.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub store: Option<String>,
    /// Builds that were signed for the store and are not there, the newest first.
    pub builds: Vec<Candidate>,
    /// How many that were signed for it are there.
    pub there: usize,
    /// The time of the answer.
    pub at: Timestamp,
}

/// A build that was signed for the store.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Candidate {
    /// Its app.
    pub app: String,
    /// What it is made for.
    pub platform: Platform,
    /// The version's name.
    pub version: String,
    /// The version code or build number.
    pub number: BuildNumber,
    /// The name that the file had.
    pub file: String,
    /// When it was signed.
    pub signed: Timestamp,
    /// The rule that stands in its way; nothing for one that could go.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rule: Option<&'static str>,
    /// That, in a sentence.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub because: Option<String>,
}

/// Lists what could be uploaded.
///
/// # Errors
/// [`DeliveriesError`].
pub fn candidates(ctx: &Ctx<'_>, app: Option<&str>) -> Result<CandidatesReport, DeliveriesError> {
    let AtStore { file, app: wanted, inventory, all } = at_store(ctx, app)?;
    let ledger = inventory.releases();
    let gone = replaced(&ledger);
    let there: HashSet<&str> =
        all.iter().filter(|one| one.stage != Stage::Rejected).map(|one| one.sha256.as_str()).collect();
    let is_wanted = |one: &ReleaseFacts| {
        one.destination == Destination::Store
            && one.store == ctx.store
            && wanted.as_ref().is_none_or(|wanted| one.app == *wanted)
            && file.project.apps.contains_key(one.app.as_str())
    };
    let own: Vec<(&ReleaseFacts, bool)> =
        ledger.iter().copied().zip(gone).filter(|(one, _)| is_wanted(one)).collect();
    let at_store = |one: &ReleaseFacts| there.contains(one.sha256.as_str());
    let builds = own.iter().rev().filter(|(one, gone)| !gone && !at_store(one));
    Ok(CandidatesReport {
        store: ctx.store.clone(),
        builds: builds.map(|(one, _)| candidate(one, &all)).collect(),
        there: own.iter().filter(|(one, _)| at_store(one)).count(),
        at: ctx.env.now,
    })
}

fn candidate(release: &ReleaseFacts, all: &[Delivery]) -> Candidate {
    let bar = foresee::by_number(
        all,
        &foresee::Candidate {
            platform: release.platform,
            id: &release.id,
            version: &release.version,
            number: &release.number,
        },
    );
    let because = bar.as_ref().map(|bar| match bar {
        Bar::Number(highest) => format!("the store has number {highest}"),
        Bar::Closed(live) => format!("version {live} is live, and closed"),
        Bar::Below(live) => format!("version {live} is live"),
    });
    Candidate {
        app: release.app.clone(),
        platform: release.platform,
        version: release.version.clone(),
        number: release.number.clone(),
        file: release.file.clone(),
        signed: release.signed,
        rule: bar.as_ref().map(foresee::rule),
        because,
    }
}
