//! `init`: a cabinet and a project file.

use std::path::{Path, PathBuf};

use ninekeys_cabinet::{Cabinet, CabinetError, MemberKind, Memory, NewMember, Pin, Trust, WORK_FACTOR};
use ninekeys_core::model::{NameError, check_title};
use ninekeys_core::password::{PasswordError, judge_passphrase};
use ninekeys_formats::secret::SecretText;
use ninekeys_portal::client::{PortalError, check_address};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::ask::AskError;
use crate::ctx::Ctx;
use crate::files::{self, Access, FileError, NewFolders, Taken};
use crate::identity::{CertificatesError, read_certificates};
use crate::outgoing::{Outgoing, Workshop};
use crate::outputs::{self, OutputError};
use crate::project::{CABINET_NAME, FILE_NAME};

/// What is to be made.
#[derive(Debug)]
pub struct Request {
    /// What the board is headed with; the folder's name when nothing is said.
    pub title: Option<String>,
    /// The team id of the iOS side.
    pub team: Option<String>,
    /// Where the portal is that has an API.
    pub portal: Option<String>,
    /// A file with the certificate that the portal's connection has to show.
    pub portal_certificate: Option<PathBuf>,
    /// Files with the certificates that what the portal signs has to lead to.
    pub roots: Vec<PathBuf>,
    /// A passphrase that was given; asked for otherwise, unless there is an unlock file.
    pub passphrase: Option<SecretText>,
    /// Where to write a file that unlocks the cabinet at once.
    pub unlock_file: Option<PathBuf>,
}

/// What was made.
#[derive(Debug, Serialize, JsonSchema)]
pub struct InitReport {
    /// The project file.
    pub project: String,
    /// The cabinet.
    pub cabinet: String,
    /// The unlock file.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub unlock_file: Option<String>,
    /// Whether a passphrase unlocks it.
    pub passphrase: bool,
    /// Whether the cabinet was there already.
    pub joined: bool,
}

/// Why nothing was made.
#[derive(Debug, Error)]
pub enum InitError {
    /// A file that would be made is there.
    #[error("there is a {0} here already")]
    Exists(String),
    /// A cabinet is there, and an unlock file was to be made with a new one.
    #[error("there is a cabinet here already, {0}: its unlock file is not made with a project file")]
    CabinetThere(String),
    /// Neither a passphrase nor an unlock file, and nobody to ask.
    #[error("a cabinet needs a passphrase or an unlock file, and there is no terminal to ask on")]
    NobodyToAsk,
    /// Its title cannot be one.
    #[error(transparent)]
    Title(#[from] NameError),
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
    /// The portal's address.
    #[error(transparent)]
    Portal(#[from] PortalError),
    /// A root.
    #[error(transparent)]
    Certificates(#[from] CertificatesError),
    /// Two of them would be one file.
    #[error(transparent)]
    Output(#[from] OutputError),
    /// The cabinet was made, and the project file could not be named.
    #[error("{cause}")]
    Unnamed {
        /// The cabinet that was made.
        cabinet: String,
        /// What was wrong.
        #[source]
        cause: FileError,
    },
}

/// Makes the cabinet, the unlock file and the project file; beside a cabinet that is there the project file alone.
///
/// # Errors
/// [`InitError`]; then nothing was made, but for [`InitError::Unnamed`], which says what was.
pub fn init(ctx: &Ctx<'_>, mut request: Request) -> Result<InitReport, InitError> {
    request.title.as_deref().map_or(Ok(()), check_title)?;
    let pinned = request.portal_certificate.is_some();
    request.portal.as_deref().map_or(Ok(()), |address| check_address(address, pinned))?;
    for root in request.roots.iter().chain(&request.portal_certificate) {
        read_certificates(&ctx.path(root))?;
    }
    let project = ctx.path(Path::new(FILE_NAME));
    let cabinet = match &ctx.cabinet {
        Some(named) => ctx.path(named),
        None => ctx.path(Path::new(CABINET_NAME)),
    };
    let unlock_file = request.unlock_file.as_ref().map(|named| ctx.path(named));
    // a passphrase that was given is not wanted: the cabinet that is there has its own
    let joins = cabinet.exists() && unlock_file.is_none();
    for path in
        [&project, &cabinet].into_iter().chain(&unlock_file).filter(|path| !joins || *path != &cabinet)
    {
        if std::fs::symlink_metadata(path).is_ok() {
            let place = display(ctx, path);
            let is_cabinet = path == &cabinet;
            return Err(if is_cabinet { InitError::CabinetThere(place) } else { InitError::Exists(place) });
        }
    }
    let all: Vec<&Path> =
        [&project, &cabinet].into_iter().chain(&unlock_file).map(PathBuf::as_path).collect();
    outputs::refuse_each_other(ctx, &all)?;
    if request.title.is_none() {
        let usual = usual_title(ctx);
        let judge = |title: &str| check_title(title).map_err(|error| error.to_string());
        request.title = ctx.ask.answer("Whose apps are these", Some(&usual), &judge)?;
    }
    if joins {
        return join(ctx, &project, &cabinet, &request);
    }
    let passphrase = match request.passphrase.as_ref().map(SecretText::duplicate) {
        Some(given) => Some(given),
        None if unlock_file.is_some() => None,
        None => {
            let judge = |text: &SecretText| judge_passphrase(text, &[]).map_err(|error| error.to_string());
            let asked = ctx.ask.new_secret("Passphrase for the new cabinet", &judge)?;
            Some(asked.ok_or(InitError::NobodyToAsk)?)
        }
    };
    passphrase.as_ref().map_or(Ok(()), |text| judge_passphrase(text, &[]))?;
    let has_passphrase = passphrase.is_some();
    let mut members = Vec::new();
    members.extend(passphrase.map(|passphrase| NewMember::Passphrase {
        label: "passphrase".into(),
        passphrase,
        work_factor: WORK_FACTOR,
    }));
    members.extend(unlock_file.as_ref().map(|_| NewMember::UnlockFile { label: "unlock-file".into() }));
    make(ctx, &request, (&project, &cabinet, unlock_file.as_deref()), &members)?;
    Ok(InitReport {
        project: display(ctx, &project),
        cabinet: display(ctx, &cabinet),
        unlock_file: unlock_file.as_ref().map(|path| display(ctx, path)),
        passphrase: has_passphrase,
        joined: false,
    })
}

/// Everything is made under other names, and then named in the order in which it depends on each other: an unlock file
/// without a cabinet opens nothing, a cabinet without a project file can be joined, and no order loses a key.
fn make(
    ctx: &Ctx<'_>,
    request: &Request,
    (project, cabinet, unlock_file): (&Path, &Path, Option<&Path>),
    members: &[NewMember],
) -> Result<(), InitError> {
    let workshop = Workshop::begin(ctx, cabinet)?;
    let unfinished = workshop.file();
    // private from the first moment
    files::empty_private(&unfinished)?;
    let (made, issued) = Cabinet::create(&unfinished, members, ctx.machine, &ctx.env)?;
    let (pin, known) = (made.pin(), made.known());
    drop(made);
    let folders = unlock_file.map(|path| NewFolders::make(files::folder_of(path))).transpose()?;
    let mut scratch = Outgoing::scratch(ctx)?;
    let mut texts = issued.into_iter().filter_map(|issued| issued.text);
    let unlock = match (unlock_file, texts.next()) {
        (Some(path), Some(text)) => {
            let output = scratch.file(path, Access::Owner)?;
            text.lend(|text| output.put(0, text.as_bytes()))?;
            Some((path, output))
        }
        _ => None,
    };
    let named = unlock_file.map(|path| display(ctx, path));
    let text = project_text(ctx, cabinet, named.as_deref(), request, &pin);
    let output = scratch.file(project, Access::Usual)?;
    output.put(0, text.as_bytes())?;
    if let Some((path, output)) = unlock {
        output.finish(Taken::Refuse)?;
        if let Err(error) = files::move_into_place(&unfinished, cabinet) {
            // this run made it, and it opens nothing
            let _ = std::fs::remove_file(path);
            return Err(error.into());
        }
    } else {
        files::move_into_place(&unfinished, cabinet)?;
    }
    if let Some(folders) = folders {
        folders.keep();
    }
    // this one is meant at this place from now on, whatever was there before
    ctx.machine.keep(cabinet, &pin.identity, &known);
    output
        .finish(Taken::Refuse)
        .map_err(|cause| InitError::Unnamed { cabinet: display(ctx, cabinet), cause })?;
    Ok(())
}

/// A project file beside a cabinet that is there.
fn join(ctx: &Ctx<'_>, project: &Path, cabinet: &Path, request: &Request) -> Result<InitReport, InitError> {
    let opened = Cabinet::open(cabinet, Trust { pin: None, memory: ctx.machine })?;
    let text = project_text(ctx, cabinet, None, request, &opened.pin());
    let passphrase = opened.status()?.members.iter().any(|member| member.kind == MemberKind::Passphrase);
    Outgoing::write_whole(ctx, project, text.as_bytes(), Access::Usual, Taken::Refuse)?;
    Ok(InitReport {
        project: display(ctx, project),
        cabinet: display(ctx, cabinet),
        unlock_file: None,
        passphrase,
        joined: true,
    })
}

fn project_text(
    ctx: &Ctx<'_>,
    cabinet: &Path,
    unlock_file: Option<&str>,
    request: &Request,
    pin: &Pin,
) -> String {
    let title = request.title.clone().unwrap_or_else(|| usual_title(ctx));
    let text = |value: &str| toml_edit::Value::from(value).to_string();
    let mut out = String::from(
        "# What this project signs, and what it expects of its builds. No secrets stand in here:\n\
         # commit it with the code.\n\n",
    );
    out.push_str(&format!("title = {}\n", text(&title)));
    if let Some(team) = &request.team {
        out.push_str(&format!("team = {}\n", text(team)));
    }
    if let Some(portal) = &request.portal {
        out.push_str(&format!("portal = {}\n", text(portal)));
    }
    if let Some(pinned) = &request.portal_certificate {
        out.push_str(&format!("portal-certificate = {}\n", text(&display(ctx, &ctx.path(pinned)))));
    }
    if !request.roots.is_empty() {
        let named: Vec<String> =
            request.roots.iter().map(|root| text(&display(ctx, &ctx.path(root)))).collect();
        out.push_str(&format!("roots = [{}]\n", named.join(", ")));
    }
    out.push_str(&format!("cabinet = {}\n", text(&display(ctx, cabinet))));
    if let Some(file) = unlock_file {
        out.push_str(&format!("unlock-file = {}   # never commit that file\n", text(file)));
    }
    out.push_str(&format!(
        "# which cabinet is meant: another one, or an older one, is refused\n\
         pin = {{ cabinet = \"{}\", row = {}, hash = \"{}\" }}\n",
        pin.identity, pin.head.seq, pin.head.hash
    ));
    out.push_str("\n[policy]\n# target-sdk = 35     # the lowest that your store takes\n");
    out.push_str("due-days = 45         # what ends sooner falls due\n");
    out
}

/// The folder's name, as far as it can be a title.
fn usual_title(ctx: &Ctx<'_>) -> String {
    let folder = ctx.folder.file_name().map(|name| name.to_string_lossy().into_owned());
    folder.filter(|name| check_title(name).is_ok()).unwrap_or_else(|| "My apps".into())
}

/// A path as the user would write it.
fn display(ctx: &Ctx<'_>, path: &Path) -> String {
    path.strip_prefix(&ctx.folder).unwrap_or(path).display().to_string()
}
