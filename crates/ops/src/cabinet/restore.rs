//! `cabinet restore`: a cabinet from one of its copies. What is there now is set aside, never lost.

use std::cell::RefCell;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use ninekeys_cabinet::{
    Backup, Cabinet, CabinetError, Credential, Differences, Digest, Memory, Proof, Standing, Trust,
};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::ask::AskError;
use crate::ctx::{Ctx, OpenError};
use crate::files::{self, Access, FileError, InputFile, OutputFile, Taken};
use crate::memory::NameOnly;
use crate::outgoing::Workshop;
use crate::project::ProjectError;

/// What was restored.
#[derive(Debug, Serialize, JsonSchema)]
pub struct RestoreReport {
    /// The copy.
    pub from: String,
    /// The cabinet.
    pub to: String,
    /// Items in it.
    pub items: usize,
    /// Rows of history in it.
    pub history: u64,
    /// What was given up, and what came back.
    pub differences: Differences,
    /// Where the cabinet is that was there.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub set_aside: Option<String>,
}

/// Why nothing was restored.
#[derive(Debug, Error)]
pub enum RestoreError {
    /// The project file, which says where the cabinet belongs.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The copy could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// A file.
    #[error(transparent)]
    File(#[from] FileError),
    /// The copy is the cabinet itself.
    #[error("{0} is the cabinet itself")]
    Itself(String),
    /// Something would be given up, and nobody said yes.
    #[error("{}", given_up(.to, .differences))]
    NotSure {
        /// The cabinet.
        to: String,
        /// The copy.
        from: String,
        /// What would be given up.
        differences: Box<Differences>,
    },
    /// The person could not be asked.
    #[error(transparent)]
    Ask(#[from] AskError),
    /// The restored cabinet, when it was read back.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

/// What a person has to know before saying yes.
pub(crate) fn given_up(to: &str, differences: &Differences) -> String {
    let list = |names: &[String]| {
        let (shown, more) = names.split_at(names.len().min(8));
        let more = if more.is_empty() { String::new() } else { format!(" and {} more", more.len()) };
        format!("{}{more}", shown.join(", "))
    };
    let rows =
        if differences.rows == 1 { "1 change".into() } else { format!("{} changes", differences.rows) };
    let mut parts = vec![format!("{to} has {rows} that the copy lacks")];
    if !differences.lost.is_empty() {
        parts.push(format!("given up would be {}", list(&differences.lost)));
    }
    if !differences.members_back.is_empty() {
        parts.push(format!("what opened the copy opens it again: {}", list(&differences.members_back)));
    }
    if !differences.members_gone.is_empty() {
        parts.push(format!("what opens it now would not any more: {}", list(&differences.members_gone)));
    }
    parts.join("; ")
}

/// Brings the project's cabinet back to a copy. The copy is unlocked and proved first, and not written to; what is
/// there now is set aside under a name that is said, and at every instant the cabinet's name stands for a whole one.
///
/// # Errors
/// [`RestoreError`]; then everything is as it was.
pub fn restore(ctx: &Ctx<'_>, from: &Path, yes: bool) -> Result<RestoreReport, RestoreError> {
    let target = ctx.cabinet_path()?;
    let show = |path: &Path| path.strip_prefix(&ctx.folder).unwrap_or(path).display().to_string();
    let source = ctx.path(from);
    let real = |path: &Path| path.canonicalize().ok();
    if real(&source).is_some() && real(&source) == real(&target) {
        return Err(RestoreError::Itself(show(&target)));
    }
    let failed = |path: &Path| {
        let path = path.to_owned();
        move |cause| OpenError::Cabinet { path, cause }
    };
    let name = NameOnly(ctx.machine);
    let trust = Trust { pin: ctx.pin()?, memory: &name };
    let mut copy = Cabinet::open_copy(&source, trust).map_err(failed(&source))?;
    let credential = RefCell::new(None);
    ctx.unlock_with(&mut copy, |copy, given| {
        copy.unlock_to_look(given)?;
        credential.replace(Some(given.duplicate()));
        Ok(())
    })?;
    let proof = copy.open_every_seal()?;
    let sha256 = files::sha256(&source, &ctx.env)?;
    let backup = Backup {
        at: ctx.env.now,
        place: show(&source),
        seq: proof.head.seq,
        head: proof.head.hash,
        file: Digest::from_text(&sha256).unwrap_or(proof.head.hash),
        by: copy.unlocked_by().map(|member| member.label.clone()).unwrap_or_default(),
        off_site: false,
    };
    let plan = Plan { ctx, target: &target, source: &source, yes };
    let credential = credential.into_inner();
    let present = Cabinet::open(&target, Trust { pin: None, memory: &name });
    let (done, differences, aside) = match present {
        Ok(present) => plan.over(present, copy, &backup, credential.as_ref())?,
        Err(CabinetError::Missing) => (plan.anew(&copy, &backup, credential)?, Differences::default(), None),
        Err(CabinetError::Busy(holder)) => return Err(CabinetError::Busy(holder).into()),
        Err(_) => {
            let aside = plan.rename_away()?;
            (plan.anew(&copy, &backup, credential)?, Differences::default(), Some(aside))
        }
    };
    Ok(RestoreReport {
        from: show(&source),
        to: show(&target),
        items: done.items,
        history: done.head.seq,
        differences,
        set_aside: aside.map(|path| show(&path)),
    })
}

struct Plan<'a> {
    ctx: &'a Ctx<'a>,
    target: &'a Path,
    source: &'a Path,
    yes: bool,
}

impl Plan<'_> {
    fn show(&self, path: &Path) -> String {
        path.strip_prefix(&self.ctx.folder).unwrap_or(path).display().to_string()
    }

    /// Over a cabinet that is there and whole.
    fn over(
        &self,
        mut present: Cabinet<'_>,
        mut copy: Cabinet<'_>,
        backup: &Backup,
        credential: Option<&Credential>,
    ) -> Result<(Proof, Differences, Option<PathBuf>), RestoreError> {
        let ctx = self.ctx;
        let differences = present.differences(&copy)?;
        let (to, from) = (self.show(self.target), self.show(self.source));
        if !differences.are_none() && !self.yes {
            let question = format!("{}. Go back to {from}", given_up(&to, &differences));
            if ctx.ask.sure(&question)? != Some(true) {
                return Err(RestoreError::NotSure { to, from, differences: Box::new(differences) });
            }
        }
        // whoever can open the present one vouches for the step back
        if let Some(credential) = credential {
            let _ = present.unlock_to_look(credential);
        }
        let workshop = Workshop::begin(ctx, self.target)?;
        let unfinished = workshop.file();
        files::empty_private(&unfinished)?;
        let mut aside = None;
        // under the lock, so that two at once find a name each
        let mut name = || {
            aside = Some(name_aside(&unfinished, self.target, ctx.env.now)?);
            Ok(())
        };
        let done = present.restore(&mut copy, backup, &unfinished, &mut name, &ctx.env);
        let proof = match done {
            Ok(proof) => proof,
            Err(error) => {
                // this run made it, and nothing was given up
                if let Some(aside) = aside {
                    let _ = std::fs::remove_file(&aside);
                }
                return Err(error.into());
            }
        };
        self.remember(&present)?;
        Ok((proof, differences, aside))
    }

    /// Where no cabinet is.
    fn anew(
        &self,
        copy: &Cabinet<'_>,
        backup: &Backup,
        credential: Option<Credential>,
    ) -> Result<Proof, RestoreError> {
        let ctx = self.ctx;
        let name = NameOnly(ctx.machine);
        let workshop = Workshop::begin(ctx, self.target)?;
        let unfinished = workshop.file();
        let input = InputFile::open(self.source)?;
        let output = OutputFile::begin(&unfinished, Access::Owner)?;
        copy_bytes(&input, &output)?;
        output.finish(Taken::Refuse)?;
        let mut made = Cabinet::open(&unfinished, Trust { pin: None, memory: &name })?;
        if let Some(credential) = &credential {
            made.unlock_to_look(credential)?;
        }
        let known = ctx.machine.known(&copy.identity());
        made.go_on_from_copy(known.as_ref(), backup, &ctx.env)?;
        let proof = made.open_every_seal()?;
        let pin = made.pin();
        drop(made);
        files::move_into_place(&unfinished, self.target)?;
        let placed = Cabinet::open(self.target, Trust { pin: Some(pin), memory: &name })?;
        self.remember(&placed)?;
        Ok(proof)
    }

    /// This machine and the project file know what was gone back to: a person chose it.
    fn remember(&self, cabinet: &Cabinet<'_>) -> Result<(), RestoreError> {
        self.ctx.machine.keep(self.target, &cabinet.identity(), &cabinet.known());
        let file = self.ctx.project_if_any().map_err(ProjectError::unpinned)?;
        if let Some(file) = file.filter(|file| file.pin().is_some()) {
            let pin = file.pin().filter(|pin| cabinet.stands_to(pin).is_ok_and(|s| s == Standing::Current));
            if pin.is_none() {
                file.raise_pin(self.ctx, &cabinet.pin())?;
            }
        }
        Ok(())
    }

    /// A free name for what is set aside, which says when.
    fn aside(&self) -> Result<PathBuf, FileError> {
        let free = |path: &PathBuf| std::fs::symlink_metadata(path).is_err();
        let taken = || FileError::new("written", self.target, std::io::ErrorKind::AlreadyExists.into());
        files::aside_names(self.target, self.ctx.env.now).find(free).ok_or_else(taken)
    }

    /// A cabinet that cannot be opened keeps all its bytes, and what lies beside it, under another name.
    fn rename_away(&self) -> Result<PathBuf, RestoreError> {
        let aside = self.aside()?;
        let failed = |cause| FileError::new("set aside", self.target, cause);
        for suffix in ["-journal", "-wal", "-shm"] {
            let beside = |path: &Path| {
                let mut name = path.as_os_str().to_owned();
                name.push(suffix);
                PathBuf::from(name)
            };
            let from = beside(self.target);
            if std::fs::symlink_metadata(&from).is_ok() {
                std::fs::rename(&from, beside(&aside)).map_err(failed)?;
            }
        }
        std::fs::rename(self.target, &aside).map_err(failed)?;
        Ok(aside)
    }
}

/// Gives the whole copy of what is given up the first free name that says when.
fn name_aside(from: &Path, target: &Path, now: Timestamp) -> Result<PathBuf, CabinetError> {
    let mut last = None;
    for aside in files::aside_names(target, now) {
        match files::move_into_place(from, &aside) {
            Ok(()) => return Ok(aside),
            Err(error) if error.cause.kind() == std::io::ErrorKind::AlreadyExists => last = Some(error),
            Err(error) => return Err(CabinetError::Io { action: "set aside", cause: error.to_string() }),
        }
    }
    let cause = last.map_or_else(String::new, |error| error.to_string());
    Err(CabinetError::Io { action: "set aside", cause })
}

fn copy_bytes(input: &InputFile, output: &OutputFile) -> Result<(), FileError> {
    use ninekeys_formats::source::Source;
    let mut at = 0;
    while at < input.len() {
        let end = input.len().min(at + (1 << 20));
        let bytes = input.bytes(at..end, 1 << 20);
        let bytes = bytes.map_err(|error| FileError::new("read", output.target(), error.cause))?;
        output.put(at, &bytes)?;
        at = end;
    }
    Ok(())
}
