//! `init`: a cabinet and a project file.

use std::path::{Path, PathBuf};

use ninekeys_cabinet::{Cabinet, CabinetError, IdentityFile, NewMember, WORK_FACTOR};
use ninekeys_core::password::{self, PasswordError};
use ninekeys_formats::secret::SecretText;
use serde::Serialize;
use thiserror::Error;

use crate::ctx::{AskError, Ctx};
use crate::files::{self, Access, FileError};
use crate::project::{CABINET_NAME, FILE_NAME};

/// What is to be made.
#[derive(Debug)]
pub struct Request {
    /// What the board is headed with; the folder's name when nothing is said.
    pub title: Option<String>,
    /// The team id of the iOS side.
    pub team: Option<String>,
    /// A passphrase that was given; asked for otherwise, unless there is an unlock file.
    pub passphrase: Option<SecretText>,
    /// Where to write an identity file that unlocks the cabinet at once.
    pub unlock_file: Option<PathBuf>,
}

/// What was made.
#[derive(Debug, Serialize)]
pub struct InitReport {
    /// The project file.
    pub project: String,
    /// The cabinet.
    pub cabinet: String,
    /// The identity file.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub unlock_file: Option<String>,
    /// Whether a passphrase unlocks it.
    pub passphrase: bool,
    /// Whether that passphrase is easy to guess.
    pub weak_passphrase: bool,
}

/// Why nothing was made.
#[derive(Debug, Error)]
pub enum InitError {
    /// A file that would be made is there.
    #[error("there is a {0} here already")]
    Exists(String),
    /// Neither a passphrase nor an identity file, and nobody to ask.
    #[error("a cabinet needs a passphrase or an unlock file, and there is no terminal to ask on")]
    NobodyToAsk,
    /// The passphrase.
    #[error(transparent)]
    Passphrase(#[from] PasswordError),
    /// The person.
    #[error(transparent)]
    Ask(#[from] AskError),
    /// A file.
    #[error(transparent)]
    File(#[from] FileError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

/// Makes the cabinet, the identity file and the project file, in that order: what exists last names what
/// exists already.
///
/// # Errors
/// [`InitError`]; then nothing was made.
pub fn init(ctx: &Ctx<'_>, request: Request) -> Result<InitReport, InitError> {
    let project = ctx.path(Path::new(FILE_NAME));
    let cabinet = match &ctx.cabinet {
        Some(named) => ctx.path(named),
        None => ctx.path(Path::new(CABINET_NAME)),
    };
    let unlock_file = request.unlock_file.as_ref().map(|named| ctx.path(named));
    for path in [&project, &cabinet].into_iter().chain(&unlock_file) {
        if path.exists() {
            return Err(InitError::Exists(display(ctx, path)));
        }
    }
    let passphrase = match request.passphrase {
        Some(given) => Some(given),
        None if unlock_file.is_some() => None,
        None => match ctx.ask.new_secret("Passphrase for the new cabinet")? {
            Some(chosen) => Some(chosen),
            None => return Err(InitError::NobodyToAsk),
        },
    };
    let strength = passphrase.as_ref().map(|text| password::judge(text, &[])).transpose()?;
    let has_passphrase = passphrase.is_some();
    let mut members = Vec::new();
    members.extend(passphrase.map(|passphrase| NewMember::Passphrase {
        label: "passphrase".into(),
        passphrase,
        work_factor: WORK_FACTOR,
    }));
    let identity = unlock_file.as_ref().map(|_| IdentityFile::make(ctx.env.now));
    members.extend(identity.as_ref().map(|identity| NewMember::Recipient {
        label: "unlock-file".into(),
        recipient: identity.recipient.clone(),
    }));
    write_unlock_file(unlock_file.as_deref(), identity.as_ref())?;
    let named = unlock_file.as_ref().map(|path| display(ctx, path));
    let made = make_cabinet(ctx, &cabinet, &members).and_then(|()| {
        write_project(ctx, &project, &cabinet, named.as_deref(), &request.title, &request.team)
    });
    if let Err(error) = made {
        // nothing was made: the identity file opens nothing
        if let Some(path) = &unlock_file {
            let _ = std::fs::remove_file(path);
        }
        return Err(error);
    }
    Ok(InitReport {
        project: display(ctx, &project),
        cabinet: display(ctx, &cabinet),
        unlock_file: named,
        passphrase: has_passphrase,
        weak_passphrase: strength.is_some_and(|strength| strength.weak),
    })
}

fn write_unlock_file(path: Option<&Path>, identity: Option<&IdentityFile>) -> Result<(), InitError> {
    if let (Some(path), Some(identity)) = (path, identity) {
        files::make_folder(files::folder_of(path))?;
        identity.text.lend(|text| files::write_whole(path, text.as_bytes(), Access::Owner, false))?;
    }
    Ok(())
}

/// The cabinet is made beside its place and moved there when it is whole.
fn make_cabinet(ctx: &Ctx<'_>, path: &Path, members: &[NewMember]) -> Result<(), InitError> {
    let beside = files::reserve(path)?;
    let unfinished = beside.path().join("cabinet");
    Cabinet::create(&unfinished, members, &ctx.env)?;
    set_owner_only(&unfinished)?;
    files::move_into_place(&unfinished, path, false)?;
    Ok(())
}

#[cfg(unix)]
fn set_owner_only(path: &Path) -> Result<(), FileError> {
    use std::os::unix::fs::PermissionsExt;
    std::fs::set_permissions(path, std::fs::Permissions::from_mode(0o600))
        .map_err(|cause| FileError::new("made private", path, cause))
}

#[cfg(not(unix))]
fn set_owner_only(_path: &Path) -> Result<(), FileError> {
    Ok(())
}

fn write_project(
    ctx: &Ctx<'_>,
    path: &Path,
    cabinet: &Path,
    unlock_file: Option<&str>,
    title: &Option<String>,
    team: &Option<String>,
) -> Result<(), InitError> {
    let folder = || ctx.folder.file_name().map(|name| name.to_string_lossy().into_owned());
    let title = title.clone().or_else(folder).unwrap_or_else(|| "My apps".into());
    let text = |value: &str| toml_edit::Value::from(value).to_string();
    let mut out = String::from(
        "# What this project signs, and what it expects of its builds. No secrets stand in here:\n\
         # commit it with the code.\n\n",
    );
    out.push_str(&format!("title = {}\n", text(&title)));
    if let Some(team) = team {
        out.push_str(&format!("team = {}\n", text(team)));
    }
    out.push_str(&format!("cabinet = {}\n", text(&display(ctx, cabinet))));
    if let Some(file) = unlock_file {
        out.push_str(&format!("unlock-file = {}   # never commit that file\n", text(file)));
    }
    out.push_str("\n[policy]\n# target-sdk = 35     # the lowest that your store takes\n");
    out.push_str("due-days = 45         # what ends sooner falls due\n");
    Ok(files::write_whole(path, out.as_bytes(), Access::Usual, false)?)
}

/// A path as the user would write it.
fn display(ctx: &Ctx<'_>, path: &Path) -> String {
    path.strip_prefix(&ctx.folder).unwrap_or(path).display().to_string()
}
