//! `rotate draft`: what will happen, in order, with reasons, as a file that can be read and reviewed.

use std::path::{Path, PathBuf};

use jiff::Timestamp;
use ninekeys_cabinet::Cabinet;
use ninekeys_core::model::Inventory;
use ninekeys_core::rotation::{self, Draft, HandOver, Left, Meanwhile, Order, PlanError, SCHEMA, Step, View};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::RotateError;
use crate::ask::AskError;
use crate::ctx::{Ctx, OpenError};
use crate::files::{self, Access, FileError, Taken};
use crate::outgoing::Outgoing;
use crate::outputs::{self, OutputError};
use crate::project::{ProjectError, ProjectFile};

/// The most that a draft has.
const LIMIT: u64 = 16 << 20;

/// What is to be drafted.
#[derive(Debug)]
pub struct Request {
    /// Items, by name.
    pub what: Vec<String>,
    /// Everything that ends within so many days too.
    pub due: Option<u32>,
    /// Whether the old certificates are revoked at the end.
    pub revoke: bool,
    /// How a signing key hands over.
    pub hand_over: HandOver,
    /// The file; named after the day when nothing is said.
    pub to: Option<PathBuf>,
    /// Whether it may take the place of a file that is there.
    pub replace: bool,
}

/// What was drafted.
#[derive(Debug, Serialize, JsonSchema)]
pub struct RotateDraftReport {
    /// The file, as the user would write its path.
    pub file: String,
    /// What is replaced.
    pub rotates: Vec<String>,
    /// What will happen.
    pub steps: Vec<StepDrafted>,
    /// What stays valid meanwhile.
    pub meanwhile: Vec<Meanwhile>,
    /// What falls due and is not in it.
    pub left: Vec<Left>,
    /// The time of this report.
    pub at: Timestamp,
}

/// A step of a draft, as answers say it.
#[derive(Debug, Serialize, JsonSchema)]
pub struct StepDrafted {
    /// The step.
    #[serde(flatten)]
    pub step: Step,
    /// What it does, in a sentence.
    pub text: String,
    /// Whether a person has to do it.
    pub is_a_persons: bool,
}

/// Why nothing was drafted.
#[derive(Debug, Error)]
pub enum RotateDraftError {
    /// Neither a name nor a number of days.
    #[error("nothing says what is to be replaced")]
    Nothing,
    /// The person.
    #[error(transparent)]
    Ask(#[from] AskError),
    /// Nothing of what falls due can be replaced.
    #[error("nothing of what falls due can be replaced: {}", .0.join("; "))]
    NoneCan(Vec<String>),
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// What was asked for cannot be replaced.
    #[error(transparent)]
    Plan(#[from] PlanError),
    /// The draft cannot be written down.
    #[error("the draft cannot be written down: {0}")]
    Text(String),
    /// The file would fall on something of ours.
    #[error(transparent)]
    Output(#[from] OutputError),
    /// The file.
    #[error(transparent)]
    File(#[from] FileError),
    /// The cabinet could not be opened.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] ninekeys_cabinet::CabinetError),
}

/// What a person wants to have replaced.
fn asked(ctx: &Ctx<'_>, inventory: &Inventory) -> Result<String, RotateDraftError> {
    let judge = |name: &str| match name {
        rotation::CABINET => Ok(()),
        name => inventory.find(name).map(|_| ()).map_err(|error| error.to_string()),
    };
    ctx.ask.answer("What is to be replaced", None, &judge)?.ok_or(RotateDraftError::Nothing)
}

/// Writes the draft of a rotation; nothing else is changed.
///
/// # Errors
/// [`RotateDraftError`]; then there is no new file.
pub fn rotate_draft(ctx: &Ctx<'_>, request: &Request) -> Result<RotateDraftReport, RotateDraftError> {
    let file = ctx.project_file()?;
    let cabinet = ctx.open()?;
    let inventory = cabinet.inventory()?;
    let view = View { project: &file.project, inventory: &inventory, now: ctx.env.now };
    let mut rotates = match request.what.is_empty() && request.due.is_none() {
        true => vec![asked(ctx, &inventory)?],
        false => request.what.clone(),
    };
    let mut left = Vec::new();
    if let Some(days) = request.due {
        let (due, others) = rotation::due(view, days)?;
        rotates.extend(due);
        left = others;
    }
    if rotates.is_empty() {
        return Err(RotateDraftError::NoneCan(left.into_iter().map(|one| one.because).collect()));
    }
    let order = Order { rotates, revoke: request.revoke, hand_over: request.hand_over.clone() };
    let draft = rotation::draft(view, &order, &cabinet.identity().to_string())?;
    let usual = || PathBuf::from(format!("rotation-{}.toml", ctx.env.now.strftime("%Y-%m-%d")));
    let to = request.to.clone().unwrap_or_else(usual);
    write(ctx, &draft, &to, request.replace)?;
    let step = |step: Step| StepDrafted {
        text: rotation::said(&step.does),
        is_a_persons: step.does.is_a_persons(),
        step,
    };
    Ok(RotateDraftReport {
        file: to.display().to_string(),
        rotates: draft.rotates,
        steps: draft.step.into_iter().map(step).collect(),
        meanwhile: draft.meanwhile,
        left,
        at: ctx.env.now,
    })
}

/// Writes a draft into its file.
fn write(ctx: &Ctx<'_>, draft: &Draft, to: &Path, replace: bool) -> Result<(), RotateDraftError> {
    let path = ctx.path(to);
    outputs::refuse_ours(ctx, &[&path], &[])?;
    outputs::refuse_taken(ctx, &[&path], replace)?;
    let text = text(draft, to).map_err(RotateDraftError::Text)?;
    let taken = Taken::when_told(replace, ctx.env.now);
    ctx.notice_aside(Outgoing::write_whole(ctx, &path, text.as_bytes(), Access::Usual, taken)?);
    Ok(())
}

/// Drafts the rotation of everything of a list that can be replaced; tells what cannot.
pub(crate) fn of_what_can_be(
    ctx: &Ctx<'_>,
    cabinet: &Cabinet<'_>,
    names: &[String],
    to: &Path,
) -> Result<Vec<Left>, RotateDraftError> {
    let file = ctx.project_file()?;
    let inventory = cabinet.inventory()?;
    let view = View { project: &file.project, inventory: &inventory, now: ctx.env.now };
    let identity = cabinet.identity().to_string();
    let (rotates, left) = rotation::of_those(view, names);
    if rotates.is_empty() {
        return Err(RotateDraftError::NoneCan(left.into_iter().map(|one| one.because).collect()));
    }
    let order = Order { rotates, ..Order::default() };
    write(ctx, &rotation::draft(view, &order, &identity)?, to, false)?;
    Ok(left)
}

/// A draft as its file has it.
fn text(draft: &Draft, to: &Path) -> Result<String, String> {
    let body = toml_edit::ser::to_string_pretty(draft).map_err(|error| error.to_string())?;
    let day = draft.made.strftime("%-d %b %Y");
    let mut head = format!(
        "# The rotation of {}, drafted on {day}. Nothing of it is done yet.\n#\n",
        draft.rotates.join(", ")
    );
    for step in &draft.step {
        let who = if step.does.is_a_persons() { " (by a person)" } else { "" };
        head.push_str(&format!("#  {:>2}  {}{who}\n", step.number, rotation::said(&step.does)));
    }
    head.push_str(&format!(
        "#\n# Carry it out:  ninekeys rotate carry-out {}\n# It is compared with the cabinet first; where something is other by then, it is refused.\n\n",
        to.display()
    ));
    Ok(head + &body)
}

/// Reads a draft.
pub(super) fn read(path: &Path, named: &Path) -> Result<Draft, RotateError> {
    let no_draft = |because: String| RotateError::NoDraft { path: named.into(), because };
    let bytes = files::read_whole(path, LIMIT)?;
    let text = String::from_utf8(bytes).map_err(|_| no_draft("it is not text".into()))?;
    let draft: Draft = toml_edit::de::from_str(&text).map_err(|error| {
        let line = error
            .span()
            .and_then(|span| text.get(..span.start))
            .map(|before| before.matches('\n').count() + 1);
        let place = line.map_or_else(String::new, |line| format!("line {line}: "));
        let message: String = error.message().chars().take(200).flat_map(char::escape_default).collect();
        no_draft(format!("{place}{message}"))
    })?;
    if draft.schema != SCHEMA {
        return Err(no_draft(format!("its form is not {SCHEMA}")));
    }
    Ok(draft)
}

/// The same draft, made of the cabinet as it is now.
pub(super) fn again(draft: &Draft, file: &ProjectFile, inventory: &Inventory) -> Result<Draft, PlanError> {
    let view = View { project: &file.project, inventory, now: draft.made };
    let order =
        Order { rotates: draft.rotates.clone(), revoke: draft.revoke, hand_over: draft.hand_over.clone() };
    rotation::draft(view, &order, &draft.cabinet)
}
