//! The store: apps that it knows, builds that go to it, and what becomes of them.

pub mod advance;
pub mod candidates;
pub mod deliveries;
pub mod fetch;
mod foresee;
pub mod keys;
pub mod publish;
pub mod raise;
pub mod review;
pub mod testers;
pub mod upload;

use std::collections::{HashMap, HashSet};

use base64ct::{Base64, Encoding};
use jiff::{SignedDuration, Timestamp};
use ninekeys_cabinet::{Cabinet, CabinetError};
use ninekeys_core::digest::sha256_hex;
use ninekeys_core::model::{Destination, Facts, NextUpload, Platform, Project, ReleaseFacts, StoreKeys};
use ninekeys_portal::client::PortalError;
use ninekeys_portal::store::{Delivery, Held, Stage};
use ninekeys_portal::wire::Problem;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::answers::AppSaid;
use crate::ctx::Ctx;

/// A build at the store, as answers say it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct DeliverySaid {
    /// The build, as the store tells it.
    #[serde(flatten)]
    pub delivery: Delivery,
    /// The app of the project file that it is of.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub app: Option<AppSaid>,
    /// Since when it is where it is.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub since: Option<Timestamp>,
    /// How long the last build of the app that went through this stage was in it, in seconds.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub took_before: Option<u64>,
    /// Whether the ledger has these very bytes.
    pub in_ledger: bool,
}

/// What the store does not take: by which of its rules, and what it would take.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("the store does not take it ({rule}): {detail}{}", values(sent.as_deref(), needed.as_deref()))]
pub struct StoreRefusal {
    /// The rule, by the name that a check knows it by.
    pub rule: String,
    /// What was wrong.
    pub detail: String,
    /// The value that was sent.
    pub sent: Option<String>,
    /// The value that would be taken.
    pub needed: Option<String>,
}

fn values(sent: Option<&str>, needed: Option<&str>) -> String {
    match (sent, needed) {
        (Some(sent), Some(needed)) => format!("; sent {sent}, needed {needed}"),
        _ => String::new(),
    }
}

/// The store that is meant, as the history says it.
fn meant(ctx: &Ctx<'_>) -> String {
    ctx.store.as_ref().map_or_else(|| "the store".into(), |store| format!("the store {store}"))
}

/// The keys that a store has of an app, as the project file says them.
pub(crate) fn store_keys(held: &Held) -> StoreKeys {
    let of =
        |certificate: &str| Base64::decode_vec(certificate).map(|der| sha256_hex(&der)).unwrap_or_default();
    let next = held.next_upload.as_ref();
    StoreKeys {
        signing: of(&held.signing),
        upload: of(&held.upload),
        next_upload: next.map(|next| NextUpload { certificate: of(&next.certificate), from: next.from }),
    }
}

/// A refusal of a rule, told apart from a portal that is away and from a key that may not do it.
fn refusal(error: PortalError) -> Result<StoreRefusal, PortalError> {
    match error {
        PortalError::Refused(problem) if problem.needs.is_none() && problem.kind != "unauthorized" => {
            let Problem { kind, detail, sent, needed, .. } = *problem;
            Ok(StoreRefusal { rule: kind, detail, sent, needed })
        }
        other => Err(other),
    }
}

/// The ledger says of these bytes when a step was done: the first time stays. Where the member may add to the ledger and not change
/// what is in it, the history alone says so: what the store has done is done.
pub(crate) fn note(
    ctx: &Ctx<'_>,
    cabinet: &mut Cabinet<'_>,
    what: &str,
    (sha256, destination): (&str, Destination),
    step: impl Fn(&mut ReleaseFacts) -> &mut Option<Timestamp>,
) -> Result<(), CabinetError> {
    let noted = cabinet.change(what, &ctx.env, |change| {
        let is_it = |release: &ReleaseFacts| {
            release.sha256 == sha256 && release.destination == destination && release.store == ctx.store
        };
        let inventory = change.inventory();
        let found = inventory.iter().find(|item| matches!(&item.facts, Facts::Release(own) if is_it(own)));
        if let Some(mut item) = found.cloned()
            && let Facts::Release(facts) = &mut item.facts
            && step(facts).is_none()
        {
            *step(facts) = Some(ctx.env.now);
            change.revise(&item, None)?;
        }
        Ok(())
    });
    match noted {
        Err(CabinetError::NotAllowed { .. }) => cabinet.change(what, &ctx.env, |_| Ok(())),
        noted => noted,
    }
}

/// A build among all of them.
fn said(delivery: &Delivery, all: &[Delivery], project: &Project, ledger: &[&ReleaseFacts]) -> DeliverySaid {
    Among::of(all, project, ledger).said(delivery)
}

/// The stages of an app's builds: whose, on which platform, and which stage.
type Span<'a> = (Platform, &'a str, Stage);

/// What a build is told beside: every other one, the apps, and what was signed here.
struct Among<'a> {
    project: &'a Project,
    ledger: HashSet<&'a str>,
    /// When each stage ended, how long it took, and for which build.
    spans: HashMap<Span<'a>, Vec<(Timestamp, SignedDuration, &'a str)>>,
}

impl<'a> Among<'a> {
    fn of(all: &'a [Delivery], project: &'a Project, ledger: &[&'a ReleaseFacts]) -> Self {
        let mut spans: HashMap<Span<'a>, Vec<_>> = HashMap::new();
        for one in all {
            for two in one.stages.windows(2) {
                if let [from, to] = two {
                    let span = (to.at, to.at.duration_since(from.at), one.delivery.as_str());
                    spans.entry((one.platform, &one.id, from.stage)).or_default().push(span);
                }
            }
        }
        // the newest first
        spans.values_mut().for_each(|list| list.sort_unstable_by(|one, other| other.cmp(one)));
        Among { project, ledger: ledger.iter().map(|release| release.sha256.as_str()).collect(), spans }
    }

    fn said(&self, delivery: &Delivery) -> DeliverySaid {
        let app = self.project.app_of(delivery.platform, &delivery.id);
        DeliverySaid {
            app: app.map(|(name, app)| AppSaid { app: name.to_owned(), title: app.title.clone() }),
            since: delivery.since(),
            took_before: self.took_before(delivery),
            in_ledger: self.ledger.contains(delivery.sha256.as_str()),
            delivery: delivery.clone(),
        }
    }

    /// How long the last other build of the same app was in the stage that this one is in.
    fn took_before(&self, delivery: &Delivery) -> Option<u64> {
        let of_stage = self.spans.get(&(delivery.platform, delivery.id.as_str(), delivery.stage))?;
        let (_, last, _) = of_stage.iter().find(|(.., whose)| *whose != delivery.delivery)?;
        u64::try_from(last.as_secs()).ok()
    }
}
