//! `cabinet members`: who opens the cabinet, each by a key of their own, and what they may do there.

use std::path::{Path, PathBuf};

use jiff::Timestamp;
use ninekeys_cabinet::{
    Cabinet, CabinetError, Change, Digest, Issued, Member, MemberKind, NewMember, Role, SHARED,
    app_compartment,
};
use ninekeys_core::model::{Facts, Inventory, Item, ItemId, NameError, State, check_name};
use ninekeys_core::rotation::Left;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::ask::AskError;
use crate::ctx::{Ctx, OpenError};
use crate::files::{Access, FileError, Taken};
use crate::outgoing::Outgoing;
use crate::outputs::{self, OutputError};
use crate::project::ProjectError;
use crate::rotate::draft::{self, RotateDraftError};

/// What somebody may do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum May {
    /// Everything.
    Everything,
    /// Sign, with what these apps have by themselves and, where that is said, with what several of them share.
    Sign {
        /// The apps.
        apps: Vec<String>,
        /// With what several apps share, and what is for none: identities of a team, for one.
        shared: bool,
        /// Whether keys may be written out.
        exports: bool,
    },
    /// Look.
    Look,
}

/// Somebody who is to open the cabinet.
#[derive(Debug)]
pub struct Request {
    /// What the member is called.
    pub label: String,
    /// What the member may do.
    pub may: May,
    /// The unlock file that is written for it.
    pub to: PathBuf,
}

/// A member, as answers say it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct MemberSaid {
    /// What people call it.
    pub member: String,
    /// Its id: SHA-256 of the key that signs its rows.
    pub id: Digest,
    /// How it unlocks.
    pub kind: MemberKind,
    /// What it may do.
    pub role: Role,
    /// Since when.
    pub added: Timestamp,
    /// How many private keys and passwords it can open.
    pub opens: usize,
}

/// The members.
#[derive(Debug, Serialize, JsonSchema)]
pub struct MembersReport {
    /// The members, by name.
    pub members: Vec<MemberSaid>,
    /// How many private keys and passwords the cabinet holds.
    pub secrets: usize,
    /// The time of this report.
    pub at: Timestamp,
}

/// A member that was added.
#[derive(Debug, Serialize, JsonSchema)]
pub struct MemberAddReport {
    /// The member.
    #[serde(flatten)]
    pub member: MemberSaid,
    /// The file that it opens with.
    pub file: String,
    /// The time of this report.
    pub at: Timestamp,
}

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

/// Why the members are as they were.
#[derive(Debug, Error)]
pub enum MembersError {
    /// The name cannot be one.
    #[error(transparent)]
    Name(#[from] NameError),
    /// Another member has it.
    #[error("a member is called {0} already")]
    Taken(String),
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
    /// Somebody who may sign, for no app.
    #[error("who may sign signs for apps, and none was named")]
    NoApps,
    /// The project file has no such app.
    #[error("the project file has no app called {0}")]
    UnknownApp(String),
    /// Nobody said yes.
    #[error("removing {0} seals everything that it opened under new keys, and nobody said yes")]
    NotSure(String),
    /// The person.
    #[error(transparent)]
    Ask(#[from] AskError),
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The file would fall on something of ours, or has its name taken.
    #[error(transparent)]
    Output(#[from] OutputError),
    /// The file.
    #[error(transparent)]
    File(#[from] FileError),
    /// The member is there, and its file could not be named.
    #[error("{cause}")]
    Unnamed {
        /// The member that opens with a file which is not there.
        member: String,
        /// What was wrong.
        #[source]
        cause: FileError,
    },
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

/// Lists the members; nothing is unlocked.
///
/// # Errors
/// [`MembersError`].
pub fn members(ctx: &Ctx<'_>) -> Result<MembersReport, MembersError> {
    let cabinet = ctx.open()?;
    let secrets = cabinet.secrets()?;
    let mut members: Vec<MemberSaid> =
        cabinet.status()?.members.iter().map(|member| said(member, &secrets)).collect();
    members.sort_by(|a, b| (&a.member, a.added).cmp(&(&b.member, b.added)));
    Ok(MembersReport { members, secrets: secrets.len(), at: ctx.env.now })
}

fn said(member: &Member, secrets: &[(ItemId, String)]) -> MemberSaid {
    MemberSaid {
        member: member.label.clone(),
        id: member.id,
        kind: member.kind,
        role: member.role.clone(),
        added: member.added,
        opens: secrets.iter().filter(|(_, compartment)| member.opens(compartment)).count(),
    }
}

/// What the cabinet calls what somebody may do.
fn role(ctx: &Ctx<'_>, may: &May) -> Result<Role, MembersError> {
    let (apps, shared, exports) = match may {
        May::Everything => return Ok(Role::Manager),
        May::Look => return Ok(Role::Reader),
        May::Sign { apps, shared, exports } => (apps, *shared, *exports),
    };
    if apps.is_empty() {
        return Err(MembersError::NoApps);
    }
    let project = ctx.project_file()?.project;
    let mut compartments = Vec::new();
    for app in apps {
        let (name, _) = project.app(app).ok_or_else(|| MembersError::UnknownApp(app.clone()))?;
        compartments.push(app_compartment(name));
    }
    compartments.extend(shared.then(|| SHARED.to_owned()));
    compartments.sort();
    compartments.dedup();
    Ok(Role::Signer { compartments, exports })
}

/// Adds a member, and writes the file that it opens with.
///
/// # Errors
/// [`MembersError`]; then nobody new opens the cabinet, but for [`MembersError::Unnamed`].
pub fn member_add(ctx: &Ctx<'_>, request: &Request) -> Result<MemberAddReport, MembersError> {
    check_name(&request.label)?;
    let role = role(ctx, &request.may)?;
    let what = format!("cabinet members add {}", request.label);
    let name = |members: &[Member]| match members
        .iter()
        .any(|member| member.label.eq_ignore_ascii_case(&request.label))
    {
        true => Err(MembersError::Taken(request.label.clone())),
        false => Ok(request.label.clone()),
    };
    let unnamed = |member, cause| MembersError::Unnamed { member, cause };
    let (cabinet, issued) = issue(ctx, &request.to, &what, role, name, unnamed)?;
    let id = issued.id;
    let secrets = cabinet.secrets()?;
    let status = cabinet.status()?;
    let member = status.members.iter().find(|member| member.id == id);
    let member = member.ok_or_else(|| CabinetError::Tampered(format!("the member {id} is gone")))?;
    Ok(MemberAddReport {
        member: said(member, &secrets),
        file: request.to.display().to_string(),
        at: ctx.env.now,
    })
}

/// Makes a member and the file that it opens with. The file is written before the member is one, and named after.
pub(super) fn issue<'c, E>(
    ctx: &'c Ctx<'_>,
    file: &Path,
    what: &str,
    role: Role,
    name: impl FnOnce(&[Member]) -> Result<String, E>,
    unnamed: impl FnOnce(String, FileError) -> E,
) -> Result<(Cabinet<'c>, Issued), E>
where
    E: From<OutputError> + From<OpenError> + From<FileError> + From<CabinetError> + From<ProjectError>,
{
    let path = ctx.path(file);
    outputs::refuse_ours(ctx, &[&path], &[])?;
    outputs::refuse_taken(ctx, &[&path], false)?;
    let mut cabinet = ctx.open_unlocked()?;
    let issued = issue_in(ctx, &mut cabinet, &path, what, role, name, unnamed)?;
    Ok((cabinet, issued))
}

/// The same in a cabinet that is unlocked already; `path` is free.
pub(super) fn issue_in<E>(
    ctx: &Ctx<'_>,
    cabinet: &mut Cabinet<'_>,
    path: &Path,
    what: &str,
    role: Role,
    name: impl FnOnce(&[Member]) -> Result<String, E>,
    unnamed: impl FnOnce(String, FileError) -> E,
) -> Result<Issued, E>
where
    E: From<FileError> + From<CabinetError> + From<ProjectError>,
{
    let mut scratch = Outgoing::scratch(ctx)?;
    let output = scratch.file(path, Access::Owner)?;
    let issued = cabinet.change(what, &ctx.env, |change| {
        let label = name(&change.members())?;
        let issued = change.add_member(&NewMember::UnlockFile { label }, role)?;
        if let Some(text) = &issued.text {
            text.lend(|text| output.put(0, text.as_bytes()))?;
        }
        output.settle()?;
        Ok::<_, E>(issued)
    })?;
    output.finish(Taken::Refuse).map_err(|cause| unnamed(issued.label.clone(), cause))?;
    raise_pin(ctx, cabinet)?;
    Ok(issued)
}

/// The project file pins the newest change of members.
pub(super) fn raise_pin(ctx: &Ctx<'_>, cabinet: &Cabinet<'_>) -> Result<(), ProjectError> {
    match ctx.project_if_any()?.filter(|file| file.pin().is_some()) {
        Some(project) => project.set_pin(ctx, &cabinet.pin()),
        None => Ok(()),
    }
}

/// The member with that name, or whose id begins so.
fn find(members: &[Member], wanted: &str) -> Result<Member, MembersError> {
    let named = members.iter().find(|member| member.label.eq_ignore_ascii_case(wanted));
    let by_id = || {
        let long = wanted.len() >= 8;
        members.iter().find(|member| long && member.id.to_string().starts_with(&wanted.to_lowercase()))
    };
    let mut known: Vec<String> = members.iter().map(|member| member.label.clone()).collect();
    known.sort();
    named.or_else(by_id).cloned().ok_or_else(|| MembersError::Unknown { wanted: wanted.into(), known })
}

/// Removes a member: everything that it opened is sealed under new keys.
///
/// # Errors
/// [`MembersError`]; then the members are as they were, but for [`MembersError::Undrafted`].
pub fn member_remove(
    ctx: &Ctx<'_>,
    wanted: &str,
    sure: bool,
    to: Option<&Path>,
) -> Result<MemberRemoveReport, MembersError> {
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
            None => return Err(MembersError::NotSure(member.label)),
        }
    }
    ctx.unlock(&mut cabinet)?;
    if cabinet.unlocked_by().is_some_and(|own| own.id == member.id) {
        return Err(MembersError::Oneself(member.label));
    }
    let what = format!("cabinet members remove {}", member.label);
    let seen = cabinet.change(&what, &ctx.env, |change| {
        // by its id: a name may be another's by now
        let members = change.members();
        let own = find(&members, &member.id.to_string())?;
        let managers = members.iter().filter(|one| one.role == Role::Manager).count();
        if own.role == Role::Manager && managers == 1 {
            return Err(MembersError::LastManager(own.label));
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
            .map_err(|cause| MembersError::Undrafted { member: member.label, cause: Box::new(cause) })?;
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
