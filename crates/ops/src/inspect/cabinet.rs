//! A cabinet's file, looked at without believing it: it may be a copy, or somebody else's.

use std::path::Path;

use jiff::Timestamp;
use ninekeys_cabinet::{Cabinet, CabinetError, Digest, Known, Memory, Standing, Trust};
use ninekeys_core::model::Facts;
use schemars::JsonSchema;
use serde::Serialize;

use super::InspectError;
use crate::ctx::{Ctx, OpenError};
use crate::memory::MachineMemory;

/// How the file of every cabinet begins (the database's own header).
pub(super) const HEAD: &[u8; 16] = b"SQLite format 3\0";

/// What a cabinet's file says, proved by itself alone.
#[derive(Debug, Serialize, JsonSchema)]
pub struct CabinetContent {
    /// What is pinned: the hash of its first row.
    pub identity: Digest,
    /// When it was made.
    pub made: Timestamp,
    /// Its newest change.
    pub changes: u64,
    /// When that was.
    pub changed: Timestamp,
    /// How many keys it holds.
    pub keys: usize,
    /// Who can open it.
    pub members: Vec<String>,
    /// How it stands to the cabinet of this project.
    pub project: ToProject,
}

/// How a cabinet stands to the one that a project file pins.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum ToProject {
    /// No project file pins one.
    NothingPinned,
    /// It is that one, and as new as anything that project file and machine know.
    ThatOne,
    /// It is that one, from before: a copy.
    Older,
    /// It went its own way after a copy was made.
    Parted,
    /// Another cabinet.
    Another,
}

/// What this machine knows, with nothing added to it: a look at a file is not a meeting.
struct Looking<'m>(&'m MachineMemory);

impl Memory for Looking<'_> {
    fn known(&self, identity: &Digest) -> Option<Known> {
        self.0.known(identity)
    }
}

pub(super) fn read(ctx: &Ctx<'_>, path: &Path) -> Result<CabinetContent, InspectError> {
    let failed = |cause| OpenError::Cabinet { path: path.to_owned(), cause };
    let memory = Looking(ctx.machine);
    let trust = Trust { pin: None, memory: &memory };
    // the one in use is read under its locks, as others may be changing it; a copy is left without any
    let own = ctx.cabinet_path().ok().and_then(|own| own.canonicalize().ok());
    let in_use = own.is_some_and(|own| path.canonicalize().is_ok_and(|path| path == own));
    let opened = if in_use { Cabinet::open(path, trust) } else { Cabinet::open_copy(path, trust) };
    let cabinet = opened.map_err(failed)?;
    let status = cabinet.status().map_err(failed)?;
    let inventory = cabinet.inventory().map_err(failed)?;
    let to_pin = ctx.pin().map_err(OpenError::from)?.map(|pin| cabinet.stands_to(&pin));
    // the project file knows some of its rows, this machine the newest
    let project = match to_pin
        .map(|found| found.map(|pinned| if pinned == Standing::Current { status.standing } else { pinned }))
    {
        None => ToProject::NothingPinned,
        Some(Ok(Standing::Current)) => ToProject::ThatOne,
        Some(Ok(Standing::Older { .. })) => ToProject::Older,
        Some(Ok(Standing::Parted { .. })) => ToProject::Parted,
        Some(Err(CabinetError::Another { .. })) => ToProject::Another,
        Some(Err(error)) => return Err(failed(error).into()),
    };
    Ok(CabinetContent {
        identity: status.identity,
        made: status.made,
        changes: status.newest.seq,
        changed: status.newest.at,
        keys: inventory.iter().filter(|item| matches!(item.facts, Facts::Key(_))).count(),
        members: status.members.into_iter().map(|member| member.label).collect(),
        project,
    })
}
