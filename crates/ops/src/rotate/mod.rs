//! Rotation: material is replaced by a written draft, one step after the other, each noted before and after.
//!
//! What is carried out is kept as an item of its own, so that it goes on where it stopped, on whatever machine.

pub mod call_off;
pub mod carry_out;
pub mod draft;
mod steps;

use std::path::PathBuf;

use jiff::Timestamp;
use ninekeys_cabinet::CabinetError;
use ninekeys_core::keys::KeyError;
use ninekeys_core::model::{Does, Facts, Inventory, Item, NotFound, RotationFacts};
use ninekeys_core::rotation;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::ask::AskError;
use crate::build::sign::SignError;
use crate::ctx::OpenError;
use crate::files::FileError;
use crate::outputs::OutputError;
use crate::prepare::{PrepareError, Waits};
use crate::project::ProjectError;

/// How far a rotation is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Progress {
    /// Every step is done.
    CarriedOut,
    /// It waits for somebody.
    Waiting,
    /// It was called off.
    CalledOff,
}

/// How far a step is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum StepState {
    /// It is done.
    Done,
    /// It was begun.
    Begun,
    /// It comes later.
    Open,
}

/// A step, as answers say it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct StepSaid {
    /// Its number, from 1.
    pub number: usize,
    /// What it does.
    #[serde(flatten)]
    pub step: Does,
    /// The same in a sentence.
    pub text: String,
    /// How far it is.
    pub state: StepState,
    /// When it was done.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub done_at: Option<Timestamp>,
}

/// A rotation, as answers say it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct RotationReport {
    /// Its name in the cabinet.
    pub rotation: String,
    /// What is replaced.
    pub rotates: Vec<String>,
    /// How far it is.
    pub progress: Progress,
    /// Its steps.
    pub steps: Vec<StepSaid>,
    /// What it waits for.
    pub waits: Vec<StepWaits>,
    /// What goes on from there, when all of that is done: arguments behind the program's name.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub next: Vec<String>,
    /// The time of this report.
    pub at: Timestamp,
}

/// What a rotation waits for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct StepWaits {
    /// The step.
    pub number: usize,
    /// What has to be done; nothing to type where it is done elsewhere.
    #[serde(flatten)]
    pub waits: Waits,
}

/// Why a rotation did not go on, or was not begun.
#[derive(Debug, Error)]
pub enum RotateError {
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The draft cannot be read.
    #[error(transparent)]
    File(#[from] FileError),
    /// What was read is no draft.
    #[error("{} is no draft of a rotation: {because}", path.display())]
    NoDraft {
        /// The file.
        path: PathBuf,
        /// Why not.
        because: String,
    },
    /// It is for another cabinet.
    #[error("{} is for another cabinet", .0.display())]
    OtherCabinet(PathBuf),
    /// The cabinet is another by now.
    #[error("{} no longer fits the cabinet: {}", path.display(), changed.join("; "))]
    NoLongerFits {
        /// The file.
        path: PathBuf,
        /// What it rotates.
        rotates: Vec<String>,
        /// What is other, each a sentence.
        changed: Vec<String>,
    },
    /// It was begun before.
    #[error("it was begun before, as {0}")]
    Begun(String),
    /// It is over.
    #[error("{name} {}", if *called_off { "was called off" } else { "is carried out" })]
    Over {
        /// The rotation.
        name: String,
        /// Whether it was called off.
        called_off: bool,
    },
    /// There is none.
    #[error("no rotation is under way")]
    None,
    /// There are several.
    #[error("several rotations are under way: {}", .0.join(", "))]
    Several(Vec<String>),
    /// Nothing has that name.
    #[error(transparent)]
    NotFound(#[from] NotFound),
    /// What was named is no rotation.
    #[error("{name} is {found}, not a rotation")]
    NotARotation {
        /// Its name.
        name: String,
        /// What it is.
        found: String,
    },
    /// A step that nobody can say is done.
    #[error("step {number} of {rotation} is not one that waits for somebody's word")]
    NotAPersons {
        /// The rotation.
        rotation: String,
        /// The step.
        number: usize,
    },
    /// Nobody said yes.
    #[error("{0}, and nobody said yes")]
    NotSure(String),
    /// The person.
    #[error(transparent)]
    Ask(#[from] AskError),
    /// An app that the project file does not have any more.
    #[error("the project file has no iOS side of {0}")]
    NoApp(String),
    /// What a step needs is not there.
    #[error("{0} is not there")]
    Gone(String),
    /// The key of something does not go with its certificate.
    #[error("the key of {0} and its certificate do not go together")]
    NotProved(String),
    /// A proof of rotation that does not hold.
    #[error("the proof that one key hands over to the other: {0}")]
    Lineage(String),
    /// The key.
    #[error(transparent)]
    Key(#[from] KeyError),
    /// A new key's certificate.
    #[error(transparent)]
    Make(#[from] crate::keystore::create::MakeError),
    /// The portal, or what is asked of it.
    #[error(transparent)]
    Prepare(#[from] PrepareError),
    /// An API key.
    #[error(transparent)]
    ApiKey(#[from] crate::apikey::create::ApiKeyCreateError),
    /// The probe.
    #[error("a small build for the probe: {0}")]
    Probe(#[from] SignError),
    /// A file.
    #[error(transparent)]
    Output(#[from] OutputError),
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
    /// A step did not come about.
    #[error("step {number} ({text}): {cause}")]
    Step {
        /// The rotation.
        rotation: String,
        /// Its number.
        number: usize,
        /// What it does.
        text: String,
        /// Why not.
        #[source]
        cause: Box<RotateError>,
    },
}

impl RotateError {
    /// What was done before it, in a sentence.
    pub fn done(&self) -> Option<String> {
        let RotateError::Step { rotation, number, .. } = self else { return None };
        let before = match number {
            0 | 1 => "no step is done".to_owned(),
            2 => "step 1 is done".into(),
            _ => format!("steps 1 to {} are done", number - 1),
        };
        Some(format!("{before}; `ninekeys rotate resume {rotation}` goes on from there"))
    }
}

/// Every rotation, by name.
pub(crate) fn all(inventory: &Inventory) -> Vec<(&Item, &RotationFacts)> {
    let mut out: Vec<_> = inventory
        .iter()
        .filter_map(|item| match &item.facts {
            Facts::Rotation(facts) => Some((item, facts.as_ref())),
            _ => None,
        })
        .collect();
    out.sort_by(|(a, _), (b, _)| a.name.cmp(&b.name));
    out
}

/// The rotation with that name; the only one that is under way where none is named.
fn find<'a>(
    inventory: &'a Inventory,
    name: Option<&str>,
) -> Result<(&'a Item, &'a RotationFacts), RotateError> {
    if let Some(name) = name {
        let item = inventory.find(name)?;
        return match &item.facts {
            Facts::Rotation(facts) => Ok((item, facts)),
            other => Err(RotateError::NotARotation { name: item.name.clone(), found: other.one() }),
        };
    }
    let open: Vec<_> = all(inventory).into_iter().filter(|(_, facts)| facts.is_open()).collect();
    match open.as_slice() {
        [] => Err(RotateError::None),
        [one] => Ok(*one),
        many => Err(RotateError::Several(many.iter().map(|(item, _)| item.name.clone()).collect())),
    }
}

/// A rotation as answers say it.
fn said(item: &Item, facts: &RotationFacts, waits: Vec<StepWaits>, at: Timestamp) -> RotationReport {
    let step = |(index, step): (usize, &ninekeys_core::model::RotationStep)| StepSaid {
        number: index + 1,
        text: rotation::said(&step.step),
        step: step.step.clone(),
        state: match (step.begun, step.done) {
            (_, Some(_)) => StepState::Done,
            (Some(_), None) => StepState::Begun,
            (None, None) => StepState::Open,
        },
        done_at: step.done,
    };
    let progress = match (facts.called_off, facts.next()) {
        (Some(_), _) => Progress::CalledOff,
        (None, None) => Progress::CarriedOut,
        (None, Some(_)) => Progress::Waiting,
    };
    let mut next = Vec::new();
    if !waits.is_empty() {
        next.extend(["rotate".to_owned(), "resume".into(), item.name.clone()]);
        // what can be seen needs nobody's word
        for one in waits.iter().filter(|one| one.waits.next.is_empty()) {
            next.extend(["--done".to_owned(), one.number.to_string()]);
        }
    }
    RotationReport {
        rotation: item.name.clone(),
        rotates: facts.rotates.clone(),
        progress,
        steps: facts.steps.iter().enumerate().map(step).collect(),
        waits,
        next,
        at,
    }
}
