//! `profile export`: the file, for a build program that wants it.

use std::path::PathBuf;

use ninekeys_cabinet::CabinetError;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::{FindError, ProfileSaid};
use crate::ctx::{Ctx, OpenError};
use crate::files::{Access, FileError, Taken};
use crate::outgoing::Outgoing;
use crate::outputs::{self, OutputError};
use crate::profile;
use crate::project::ProjectError;

/// What is to be exported.
#[derive(Debug)]
pub struct Request {
    /// The profile.
    pub name: String,
    /// The file; its identifier with the usual ending when nothing is said.
    pub to: Option<PathBuf>,
    /// Whether a file that is there is replaced.
    pub replace: bool,
}

/// What was exported.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ProfileExportReport {
    /// The profile.
    #[serde(flatten)]
    pub profile: ProfileSaid,
    /// The file.
    pub file: String,
}

/// Why nothing was exported.
#[derive(Debug, Error)]
pub enum ProfileExportError {
    /// The profile.
    #[error(transparent)]
    Find(#[from] FindError),
    /// Its identifier cannot be a file's name.
    #[error("the identifier of {0} cannot be the name of a file")]
    Identifier(String),
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The output would fall on something of ours, or has its name taken.
    #[error(transparent)]
    Output(#[from] OutputError),
    /// A file.
    #[error(transparent)]
    File(#[from] FileError),
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

/// Writes the profile's file, byte for byte as it came in.
///
/// # Errors
/// [`ProfileExportError`]; then no file is there that was not.
pub fn profile_export(ctx: &Ctx<'_>, request: &Request) -> Result<ProfileExportReport, ProfileExportError> {
    let mut cabinet = ctx.open()?;
    let inventory = cabinet.inventory()?;
    let (item, facts) = profile::find(&inventory, &request.name)?;
    let to = match &request.to {
        Some(to) => to.clone(),
        None => {
            let plain = facts.uuid.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-');
            if !plain || facts.uuid.len() > 64 {
                return Err(ProfileExportError::Identifier(item.name.clone()));
            }
            PathBuf::from(format!("{}.mobileprovision", facts.uuid))
        }
    };
    let path = ctx.path(&to);
    outputs::refuse_ours(ctx, &[&path], &[])?;
    outputs::refuse_taken(ctx, &[&path], request.replace)?;
    ctx.unlock(&mut cabinet)?;
    let bytes = cabinet.secret(item)?;
    let taken = Taken::when_told(request.replace, ctx.env.now);
    ctx.notice_aside(bytes.lend(|bytes| Outgoing::write_whole(ctx, &path, bytes, Access::Usual, taken))?);
    let project = ctx.project_if_any()?.map(|file| file.project);
    Ok(ProfileExportReport {
        profile: profile::said(&inventory, &item.name, facts, project.as_ref()),
        file: to.display().to_string(),
    })
}
