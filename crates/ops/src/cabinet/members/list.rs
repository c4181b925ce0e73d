//! `cabinet members list`: who opens the cabinet; nothing is unlocked.

use jiff::Timestamp;
use ninekeys_cabinet::CabinetError;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::{MemberSaid, said};
use crate::ctx::{Ctx, OpenError};

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

/// Why they cannot be told.
#[derive(Debug, Error)]
pub enum MembersListError {
    /// The cabinet could not be opened.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

/// Lists the members; nothing is unlocked.
///
/// # Errors
/// [`MembersListError`].
pub fn members(ctx: &Ctx<'_>) -> Result<MembersReport, MembersListError> {
    let cabinet = ctx.open()?;
    let secrets = cabinet.secrets()?;
    let mut members: Vec<MemberSaid> =
        cabinet.status()?.members.iter().map(|member| said(member, &secrets)).collect();
    members.sort_by(|a, b| (&a.member, a.added).cmp(&(&b.member, b.added)));
    Ok(MembersReport { members, secrets: secrets.len(), at: ctx.env.now })
}
