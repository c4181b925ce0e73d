//! `cabinet members remove`: who leaves opens nothing that is sealed from then on.

use std::path::Path;

use jiff::Timestamp;
use ninekeys_cabinet::{CabinetError, Change, Digest, Member, Role};
use ninekeys_core::model::{Facts, Inventory, Item, ItemId, State};
use ninekeys_core::rotation::Left;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::ask::AskError;
use crate::cabinet::issue::raise_pin;
use crate::ctx::{Ctx, OpenError};
use crate::outputs::{self, OutputError};
use crate::project::ProjectError;
use crate::rotate::draft::{self, RotateDraftError};

/// A member that was removed.
#[derive(Debug, Serialize, JsonSchema)]
pub struct MemberRemoveReport {
    /// What it was called.
    pub member: String,
    /// Its id.
    pub id: Digest,
    /// What it could open, and should be replaced: copies made before still open with its key.
    pub seen: Vec<Seen>,
    /// The draft of a rotation of that, where one was asked for.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub draft: Option<String>,
    /// What is not in the draft.
    pub left: Vec<Left>,
    /// The time of this report.
    pub at: Timestamp,
}

/// Something that a former member could open.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Seen {
    /// Its name.
    pub item: String,
    /// The word for its kind.
    pub kind: &'static str,
}

/// Why nobody was removed.
#[derive(Debug, Error)]
pub enum MemberRemoveError {
    /// Nobody is called so.
    #[error("no member is called {wanted}; there {} {}", if known.len() == 1 { "is" } else { "are" }, known.join(", "))]
    Unknown {
        /// What was typed.
        wanted: String,
        /// Those that there are.
        known: Vec<String>,
    },
    /// The member that the cabinet was opened with.
    #[error("{0} is who opened the cabinet now; another manager can remove it")]
    Oneself(String),
    /// The last one that may do everything.
    #[error("{0} is the last member that may do everything")]
    LastManager(String),
    /// Nobody said yes.
    #[error("removing {0} seals everything that it opened under new keys, and nobody said yes")]
    NotSure(String),
    /// The person.
    #[error(transparent)]
    Ask(#[from] AskError),
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The draft would fall on something of ours, or has its name taken.
    #[error(transparent)]
    Output(#[from] OutputError),
    /// The member is removed, and the draft could not be written.
    #[error("{cause}")]
    Undrafted {
        /// The member.
        member: String,
        /// What was wrong.
        #[source]
        cause: Box<RotateDraftError>,
    },
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

/// The member with that name, or whose id begins so.
fn find(members: &[Member], wanted: &str) -> Result<Member, MemberRemoveError> {
    let named = members.iter().find(|member| member.label.eq_ignore_ascii_case(wanted));
    let by_id = || {
        let long = wanted.len() >= 8;
        members.iter().find(|member| long && member.id.to_string().starts_with(&wanted.to_lowercase()))
    };
    let mut known: Vec<String> = members.iter().map(|member| member.label.clone()).collect();
    known.sort();
    named.or_else(by_id).cloned().ok_or_else(|| MemberRemoveError::Unknown { wanted: wanted.into(), known })
}

/// Removes a member: everything that it opened is sealed under new keys.
///
/// # Errors
/// [`MemberRemoveError`]; then the members are as they were, but for [`MemberRemoveError::Undrafted`].
pub fn member_remove(
    ctx: &Ctx<'_>,
    wanted: &str,
    sure: bool,
    to: Option<&Path>,
) -> Result<MemberRemoveReport, MemberRemoveError> {
    if let Some(to) = to {
        let path = ctx.path(to);
        outputs::refuse_ours(ctx, &[&path], &[])?;
        outputs::refuse_taken(ctx, &[&path], false)?;
    }
    let mut cabinet = ctx.open()?;
    let member = find(&cabinet.status()?.members, wanted)?;
    if !sure {
        let question = format!("{} opens nothing from then on. Remove it", member.label);
        match ctx.ask.sure(&question)? {
            Some(true) => {}
            Some(false) => return Err(AskError::Declined.into()),
            None => return Err(MemberRemoveError::NotSure(member.label)),
        }
    }
    ctx.unlock(&mut cabinet)?;
    if cabinet.unlocked_by().is_some_and(|own| own.id == member.id) {
        return Err(MemberRemoveError::Oneself(member.label));
    }
    let what = format!("cabinet members remove {}", member.label);
    let seen = cabinet.change(&what, &ctx.env, |change| {
        // by its id: a name may be another's by now
        let members = change.members();
        let own = find(&members, &member.id.to_string())?;
        let managers = members.iter().filter(|one| one.role == Role::Manager).count();
        if own.role == Role::Manager && managers == 1 {
            return Err(MemberRemoveError::LastManager(own.label));
        }
        let seen = seen_by(change, &own);
        change.remove_member(&own.id)?;
        Ok(seen)
    })?;
    raise_pin(ctx, &cabinet)?;
    let mut report = MemberRemoveReport {
        member: member.label.clone(),
        id: member.id,
        seen,
        draft: None,
        left: Vec::new(),
        at: ctx.env.now,
    };
    if let Some(to) = to {
        let names: Vec<String> = report.seen.iter().map(|one| one.item.clone()).collect();
        let drafted = draft::of_what_can_be(ctx, &cabinet, &names, to);
        report.left = drafted
            .map_err(|cause| MemberRemoveError::Undrafted { member: member.label, cause: Box::new(cause) })?;
        report.draft = Some(to.display().to_string());
    }
    Ok(report)
}

/// What in use a member can open, by name.
fn seen_by(change: &Change<'_>, member: &Member) -> Vec<Seen> {
    let inventory = change.inventory();
    let opens = |id: &ItemId| member.opens(&change.compartment_of(id));
    let secrets = |item: &Item| secrets_of(&inventory, item).iter().any(opens);
    let active = inventory.iter().filter(|item| item.state == State::Active);
    let mut seen: Vec<Seen> = active
        .filter(|item| secrets(item))
        .map(|item| Seen { item: item.name.clone(), kind: item.facts.word() })
        .collect();
    seen.sort_by(|a, b| (a.kind, &a.item).cmp(&(b.kind, &b.item)));
    seen
}

/// The items with the secrets of something that has a name of its own.
fn secrets_of(inventory: &Inventory, item: &Item) -> Vec<ItemId> {
    match &item.facts {
        Facts::Keystore(facts) => facts.entries.iter().map(|entry| entry.key).collect(),
        Facts::Identity(facts) => facts.key.into_iter().collect(),
        Facts::ApiKey(facts) => vec![facts.key.unwrap_or(item.id)],
        _ => Vec::new(),
    }
    .into_iter()
    .filter(|id| inventory.get(id).is_some())
    .collect()
}
