//! `cabinet members add`: a colleague or a machine opens the cabinet, by a key of its own.

use std::path::PathBuf;

use jiff::Timestamp;
use ninekeys_cabinet::{CabinetError, Member, Role, SHARED, app_compartment};
use ninekeys_core::model::{NameError, check_name};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::{MemberSaid, said};
use crate::cabinet::issue::{IssueError, issue};
use crate::ctx::Ctx;
use crate::project::ProjectError;

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

/// Why nobody new opens the cabinet.
#[derive(Debug, Error)]
pub enum MemberAddError {
    /// The name cannot be one.
    #[error(transparent)]
    Name(#[from] NameError),
    /// Another member has it.
    #[error("a member is called {0} already")]
    Taken(String),
    /// Somebody who may sign, for no app.
    #[error("who may sign signs for apps, and none was named")]
    NoApps,
    /// The project file has no such app.
    #[error("the project file has no app called {0}")]
    UnknownApp(String),
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The member, or the file that it opens with.
    #[error(transparent)]
    Issue(#[from] IssueError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

/// What the cabinet calls what somebody may do.
fn role(ctx: &Ctx<'_>, may: &May) -> Result<Role, MemberAddError> {
    let (apps, shared, exports) = match may {
        May::Everything => return Ok(Role::Manager),
        May::Look => return Ok(Role::Reader),
        May::Sign { apps, shared, exports } => (apps, *shared, *exports),
    };
    if apps.is_empty() {
        return Err(MemberAddError::NoApps);
    }
    let project = ctx.project_file()?.project;
    let mut compartments = Vec::new();
    for app in apps {
        let (name, _) = project.app(app).ok_or_else(|| MemberAddError::UnknownApp(app.clone()))?;
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
/// [`MemberAddError`]; then nobody new opens the cabinet, but for [`IssueError::Unnamed`].
pub fn member_add(ctx: &Ctx<'_>, request: &Request) -> Result<MemberAddReport, MemberAddError> {
    check_name(&request.label)?;
    let role = role(ctx, &request.may)?;
    let what = format!("cabinet members add {}", request.label);
    let name = |members: &[Member]| match members
        .iter()
        .any(|member| member.label.eq_ignore_ascii_case(&request.label))
    {
        true => Err(MemberAddError::Taken(request.label.clone())),
        false => Ok(request.label.clone()),
    };
    let (cabinet, issued) = issue(ctx, &request.to, &what, role, name)?;
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
