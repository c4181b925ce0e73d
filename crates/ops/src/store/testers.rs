//! `testers`: groups inside and outside of the company, invitations, and who accepted.

use std::collections::HashSet;
use std::path::PathBuf;

use jiff::Timestamp;
use ninekeys_cabinet::{Cabinet, CabinetError};
use ninekeys_core::model::{ApiUse, Platform, Project};
use ninekeys_portal::client::PortalError;
use ninekeys_portal::store::{Delivery, Group, Stage, Store, Tester, Testers, Tried};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::{StoreRefusal, refusal};
use crate::answers::AppSaid;
use crate::ctx::{Ctx, OpenError};
use crate::device::import::{BadLine, lines};
use crate::files::{self, FileError};
use crate::portal::{ConnectError, with_store};
use crate::project::{ProjectError, ProjectFile};

/// The most of a file with addresses, in bytes.
const MOST: u64 = 4 << 20;

/// The groups, and everybody in them.
#[derive(Debug, Serialize, JsonSchema)]
pub struct TestersListReport {
    /// The store, where it is not the one that stands with the portal.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub store: Option<String>,
    /// The groups.
    pub groups: Vec<GroupSaid>,
    /// The time of the answer.
    pub at: Timestamp,
}

/// A group of testers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct GroupSaid {
    /// Its name.
    pub group: String,
    /// Whether its people are from outside the company.
    pub outside: bool,
    /// The apps of the project file that it tries; all when nothing is said.
    pub apps: Vec<AppSaid>,
    /// Its people.
    pub testers: Vec<Tester>,
    /// How many of them accepted.
    pub accepted: usize,
    /// Ids of the builds that it has.
    pub deliveries: Vec<String>,
}

/// People who were invited.
#[derive(Debug, Serialize, JsonSchema)]
pub struct TestersInviteReport {
    /// The store, where it is not the one that stands with the portal.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub store: Option<String>,
    /// The group.
    pub group: String,
    /// Who was invited.
    pub invited: Vec<Tester>,
    /// Who was invited before.
    pub known: Vec<Tester>,
    /// The time of the answer.
    pub at: Timestamp,
}

/// A group as it is now.
#[derive(Debug, Serialize, JsonSchema)]
pub struct TestersGroupReport {
    /// The store, where it is not the one that stands with the portal.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub store: Option<String>,
    /// The group.
    #[serde(flatten)]
    pub group: GroupSaid,
    /// Whether it was there before.
    pub known: bool,
    /// The time of the answer.
    pub at: Timestamp,
}

/// Somebody who is in a group no more.
#[derive(Debug, Serialize, JsonSchema)]
pub struct TestersRemoveReport {
    /// The store, where it is not the one that stands with the portal.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub store: Option<String>,
    /// Who.
    #[serde(flatten)]
    pub tester: Tester,
    /// The time of the answer.
    pub at: Timestamp,
}

/// Why it was not done.
#[derive(Debug, Error)]
pub enum TestersError {
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// It has no such app.
    #[error("the project file has no app called {0}")]
    UnknownApp(String),
    /// The file with addresses.
    #[error(transparent)]
    File(#[from] FileError),
    /// It is no text, or has no address in it.
    #[error("{0} names nobody")]
    Nobody(String),
    /// Lines that are no address.
    #[error("{}", lines(.0))]
    Lines(Vec<BadLine>),
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
    /// Some were invited before it ended.
    #[error("{done} of {all} were invited, and not {address}")]
    Partly {
        /// How many were.
        done: usize,
        /// How many were to be.
        all: usize,
        /// Who was not.
        address: String,
        /// Why.
        #[source]
        cause: Box<TestersError>,
    },
}

impl From<PortalError> for TestersError {
    fn from(error: PortalError) -> Self {
        refusal(error).map_or_else(Self::Store, Self::Refused)
    }
}

/// Lists the groups, and what each of them has.
///
/// # Errors
/// [`TestersError`].
pub fn list(ctx: &Ctx<'_>) -> Result<TestersListReport, TestersError> {
    let file = ctx.project_file()?;
    let cabinet = ctx.open_unlocked()?;
    let (all, builds) = asked(ctx, &cabinet, &file, |store| Ok((store.testers()?, store.deliveries()?)))?;
    let groups = all.groups.iter().map(|group| said(group, &all, &builds, &file.project));
    Ok(TestersListReport { store: ctx.store.clone(), groups: groups.collect(), at: ctx.env.now })
}

/// Makes a group, or changes whom it is for.
///
/// # Errors
/// [`TestersError`].
pub fn group(
    ctx: &Ctx<'_>,
    name: &str,
    outside: bool,
    apps: &[String],
) -> Result<TestersGroupReport, TestersError> {
    let file = ctx.project_file()?;
    let mut tries = Vec::new();
    for app in apps {
        let (_, app) = file.project.app(app).ok_or_else(|| TestersError::UnknownApp(app.clone()))?;
        let side = |platform: Platform| Some(Tried { platform, id: app.side(platform)?.id.to_owned() });
        tries.extend([Platform::Android, Platform::Ios].into_iter().filter_map(side));
    }
    let mut cabinet = ctx.open_unlocked()?;
    noted(ctx, &mut cabinet, &format!("testers: group {name}"))?;
    let new = Group { group: name.to_owned(), outside, tries };
    let (known, all) = asked(ctx, &cabinet, &file, |store| {
        let known = store.testers()?.groups.iter().any(|one| one.group == new.group);
        store.put_group(&new)?;
        Ok((known, store.testers()?))
    })?;
    let group = said(&new, &all, &[], &file.project);
    Ok(TestersGroupReport { store: ctx.store.clone(), group, known, at: ctx.env.now })
}

/// Whom to invite.
#[derive(Debug)]
pub struct Invite {
    /// The group.
    pub group: String,
    /// Their addresses.
    pub addresses: Vec<String>,
    /// A file with a line for each: the address, and the name behind a comma or a tab.
    pub from: Option<PathBuf>,
}

/// Invites people into a group; who was invited before is not written to again.
///
/// # Errors
/// [`TestersError`].
pub fn invite(ctx: &Ctx<'_>, request: &Invite) -> Result<TestersInviteReport, TestersError> {
    let file = ctx.project_file()?;
    let people = people(ctx, request)?;
    let mut cabinet = ctx.open_unlocked()?;
    let group = &request.group;
    noted(ctx, &mut cabinet, &format!("testers: {} invited to {group}", people.len()))?;
    let (mut invited, mut known) = (Vec::new(), Vec::new());
    asked(ctx, &cabinet, &file, |store| {
        let before: HashSet<String> = of_group(&store.testers()?, group);
        for (done, (address, name)) in people.iter().enumerate() {
            let tester = store.invite(group, address, name.as_deref());
            let tester = tester.map_err(|error| partly(error, done, people.len(), address))?;
            let list = if before.contains(&address.to_ascii_lowercase()) { &mut known } else { &mut invited };
            list.push(tester);
            ctx.env.progress.step("inviting", done as u64 + 1, people.len() as u64);
        }
        ctx.env.progress.over();
        Ok(())
    })?;
    Ok(TestersInviteReport {
        store: ctx.store.clone(),
        group: group.clone(),
        invited,
        known,
        at: ctx.env.now,
    })
}

fn partly(error: PortalError, done: usize, all: usize, address: &str) -> TestersError {
    let cause = TestersError::from(error);
    if done == 0 {
        return cause;
    }
    TestersError::Partly { done, all, address: address.to_owned(), cause: Box::new(cause) }
}

fn of_group(all: &Testers, group: &str) -> HashSet<String> {
    all.testers.iter().filter(|one| one.group == group).map(|one| one.address.to_ascii_lowercase()).collect()
}

/// Takes somebody out of a group.
///
/// # Errors
/// [`TestersError`].
pub fn remove(ctx: &Ctx<'_>, group: &str, address: &str) -> Result<TestersRemoveReport, TestersError> {
    let file = ctx.project_file()?;
    let mut cabinet = ctx.open_unlocked()?;
    noted(ctx, &mut cabinet, &format!("testers: {address} taken out of {group}"))?;
    let tester = asked(ctx, &cabinet, &file, |store| Ok(store.remove_tester(group, address)?))?;
    Ok(TestersRemoveReport { store: ctx.store.clone(), tester, at: ctx.env.now })
}

fn noted(ctx: &Ctx<'_>, cabinet: &mut Cabinet<'_>, what: &str) -> Result<(), CabinetError> {
    cabinet.change(what, &ctx.env, |_| Ok::<_, CabinetError>(()))
}

fn asked<R>(
    ctx: &Ctx<'_>,
    cabinet: &Cabinet<'_>,
    file: &ProjectFile,
    work: impl FnOnce(&dyn Store) -> Result<R, TestersError>,
) -> Result<R, TestersError> {
    with_store(ctx, cabinet, file, (ApiUse::Testers, None), work)
}

fn said(group: &Group, all: &Testers, builds: &[Delivery], project: &Project) -> GroupSaid {
    let of = |one: &Tried| {
        let found = project.app_of(one.platform, &one.id);
        found.map(|(name, app)| AppSaid { app: name.to_owned(), title: app.title.clone() })
    };
    let mut apps: Vec<AppSaid> = Vec::new();
    for app in group.tries.iter().filter_map(of) {
        if !apps.contains(&app) {
            apps.push(app);
        }
    }
    let testers: Vec<Tester> = all.testers.iter().filter(|one| one.group == group.group).cloned().collect();
    let has = |one: &&Delivery| one.stage == Stage::Testing && one.groups.contains(&group.group);
    GroupSaid {
        group: group.group.clone(),
        outside: group.outside,
        apps,
        accepted: testers.iter().filter(|one| one.accepted.is_some()).count(),
        testers,
        deliveries: builds.iter().filter(has).map(|one| one.delivery.clone()).collect(),
    }
}

/// Whether a text can be an address for mail.
fn is_address(text: &str) -> bool {
    let plain = text.len() <= 254 && !text.chars().any(|c| c.is_control() || c.is_whitespace());
    let parts = text.split_once('@');
    plain && parts.is_some_and(|(who, at)| !who.is_empty() && at.contains('.') && !at.contains('@'))
}

/// Everybody who is named, each once, or every line that names nobody.
fn people(ctx: &Ctx<'_>, request: &Invite) -> Result<Vec<(String, Option<String>)>, TestersError> {
    let typed = request.addresses.iter().map(|address| (0, address.clone(), None));
    let mut all: Vec<(usize, String, Option<String>)> = typed.collect();
    if let Some(path) = &request.from {
        let bytes = files::read_whole(&ctx.path(path), MOST)?;
        let text = String::from_utf8(bytes).map_err(|_| TestersError::Nobody(path.display().to_string()))?;
        all.extend(read(&text));
        if all.is_empty() {
            return Err(TestersError::Nobody(path.display().to_string()));
        }
    }
    let (mut out, mut bad, mut seen) = (Vec::new(), Vec::new(), HashSet::new());
    for (line, address, name) in all {
        if !is_address(&address) {
            let shown: String = address.chars().filter(|c| !c.is_control()).take(40).collect();
            bad.push(BadLine { line, because: format!("`{shown}` is no address for mail") });
        } else if seen.insert(address.to_ascii_lowercase()) {
            out.push((address, name));
        }
    }
    if bad.is_empty() { Ok(out) } else { Err(TestersError::Lines(bad)) }
}

/// The lines of a file: a number, an address, a name. A line of heads may stand first.
fn read(text: &str) -> Vec<(usize, String, Option<String>)> {
    let text = text.strip_prefix('\u{feff}').unwrap_or(text);
    let own = text.lines().enumerate().filter(|(_, line)| !line.trim().is_empty());
    let split = own.map(|(at, line)| {
        let (address, name) = line.split_once(['\t', ',', ';']).unwrap_or((line, ""));
        let plain = |text: &str| text.trim().trim_matches('"').trim().to_owned();
        (at + 1, plain(address), Some(plain(name)).filter(|name| !name.is_empty()))
    });
    split
        .enumerate()
        .filter(|(place, (_, address, _))| *place > 0 || address.contains('@'))
        .map(|(_, one)| one)
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_has_addresses_and_names_and_perhaps_heads() {
        let text = "\u{feff}address,name\nana@gannetpoint.example, Ana\n\n\"bo@gannetpoint.example\";\"Bo, the mate\"\n";
        let read = read(text);
        assert_eq!(
            read,
            [
                (2, "ana@gannetpoint.example".to_owned(), Some("Ana".to_owned())),
                (4, "bo@gannetpoint.example".to_owned(), Some("Bo, the mate".to_owned())),
            ]
        );
        assert_eq!(super::read("ana\nbo@x.example"), [(2, "bo@x.example".to_owned(), None)]);
    }

    #[test]
    fn an_address_has_somebody_and_somewhere() {
        for good in ["a@b.example", "first.last+ferry@mail.b.example"] {
            assert!(is_address(good), "{good}");
        }
        for bad in ["", "a", "@b.example", "a@b", "a b@c.example", "a@b.example\n", "a@b@c.example"] {
            assert!(!is_address(bad), "{bad:?}");
        }
    }
}
