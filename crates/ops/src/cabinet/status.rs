//! `cabinet status`: members, history, backups, and how well it is kept.

use jiff::Timestamp;
use ninekeys_cabinet::{
    Backup, CabinetError, Digest, HistoryRow, Intention, MemberKind, PinnedBy, Role, Standing,
};
use ninekeys_core::model::Facts;
use ninekeys_core::rules::{CabinetLook, CabinetStanding, check_cabinet};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::own_files::own_files;
use crate::advice;
use crate::answers::Verdict;
use crate::ctx::{Ctx, Notice, OpenError};
use crate::remembered;

/// The state of the cabinet.
#[derive(Debug, Serialize, JsonSchema)]
pub struct StatusReport {
    /// Its file.
    pub path: String,
    /// What is pinned: the hash of its first row of history.
    pub identity: Digest,
    /// When it was made.
    pub made: Timestamp,
    /// Private keys in it.
    pub keys: usize,
    /// All items in it.
    pub items: usize,
    /// Who can unlock it.
    pub members: Vec<MemberLine>,
    /// Its newest row of history: everything up to it was proved.
    pub newest: HistoryRow,
    /// The newest row that a manager signed.
    pub anchor: u64,
    /// How it stands to what is known of it.
    pub standing: Standing,
    /// Who says that it is the one that is meant.
    pub pinned_by: Vec<PinnedBy>,
    /// Whether this machine remembers what it has seen.
    pub remembers: bool,
    /// The last backup.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub last_backup: Option<Backup>,
    /// The last backup that is kept elsewhere than the cabinet.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub off_site: Option<Backup>,
    /// Until when this machine keeps what unlocks it, where somebody asked for that.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub remembered_until: Option<Timestamp>,
    /// What is on its way out, or was cut off.
    pub open: Vec<Intention>,
    /// Whether every seal was opened as well, which takes unlocking.
    pub proved: bool,
    /// How well it is kept.
    pub verdict: Verdict,
    /// The time of the look.
    pub at: Timestamp,
}

/// A member, for people.
#[derive(Debug, Serialize, JsonSchema)]
pub struct MemberLine {
    /// Its name among the members.
    pub label: String,
    /// How it unlocks.
    pub kind: MemberKind,
    /// What it may do.
    pub role: Role,
    /// Its id: SHA-256 of the key that signs its rows.
    pub id: Digest,
    /// Since when.
    pub added: Timestamp,
}

/// Why it cannot be told.
#[derive(Debug, Error)]
pub enum StatusError {
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet could not be read, or is not whole.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

/// Looks at the cabinet; with `prove` it is unlocked and every seal opened, also where it is a copy, or older than what
/// is known.
///
/// # Errors
/// [`StatusError`].
pub fn status(ctx: &Ctx<'_>, prove: bool) -> Result<StatusReport, StatusError> {
    let mut cabinet = ctx.open()?;
    // the answer says it as a finding
    ctx.forget_notice(&Notice::NotCurrent(cabinet.standing()));
    if prove {
        ctx.unlock_with(&mut cabinet, |cabinet, credential| cabinet.unlock_to_look(credential))?;
        cabinet.open_every_seal()?;
    }
    let path = ctx.cabinet_path().map_err(OpenError::from)?;
    let status = cabinet.status()?;
    let inventory = cabinet.inventory()?;
    let files = own_files(ctx)?;
    let look = CabinetLook {
        files: &files,
        inventory: &inventory,
        last_backup: cabinet.last_backup(),
        off_site: cabinet.off_site_backup(),
        standing: standing(status.standing),
        now: ctx.env.now,
    };
    let members = status.members.into_iter().map(|member| MemberLine {
        label: member.label,
        kind: member.kind,
        role: member.role,
        id: member.id,
        added: member.added,
    });
    Ok(StatusReport {
        path: path.strip_prefix(&ctx.folder).unwrap_or(&path).display().to_string(),
        identity: status.identity,
        made: status.made,
        keys: inventory.iter().filter(|item| matches!(item.facts, Facts::Key(_))).count(),
        items: inventory.iter().count(),
        members: members.collect(),
        newest: status.newest,
        anchor: status.anchor,
        standing: status.standing,
        pinned_by: status.pinned_by,
        remembers: ctx.machine.is_kept(),
        last_backup: status.backups.last().cloned(),
        off_site: status.backups.iter().rev().find(|backup| backup.off_site).cloned(),
        remembered_until: remembered::find(ctx, &status.identity).map(|(_, until)| until),
        open: status.intentions.into_iter().map(|(_, intention)| intention).collect(),
        proved: prove,
        verdict: check_cabinet(&look).map(advice::in_general),
        at: ctx.env.now,
    })
}

/// How the cabinet stands, in the words of the rules.
pub(crate) fn standing(standing: Standing) -> CabinetStanding {
    match standing {
        Standing::Current => CabinetStanding::Current,
        Standing::Older { by, known, found } => CabinetStanding::Older { by: by.to_string(), known, found },
        Standing::Parted { by, row } => CabinetStanding::Parted { by: by.to_string(), row },
    }
}
