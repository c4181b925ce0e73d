//! Exit codes and remedies of errors about rotations.

use ninekeys_core::rotation::PlanError;
use ninekeys_ops::rotate::RotateError;
use ninekeys_ops::rotate::draft::RotateDraftError;

use super::{Class, Classify, Exit, Remedy, again, class, defect, owned, say};

impl Classify for PlanError {
    fn class(&self) -> Class {
        match self {
            Self::NotFound(_) => class(Exit::Usage, &["inventory"]),
            Self::NotRotated { .. } => class(Exit::Refused, &["inventory", "--expiring", "60d"]),
            Self::Retired(name) => class(Exit::Refused, &["show", name]),
            Self::NotWhole { name, .. } => class(Exit::Refused, &["show", name]),
            Self::NoApp(_) => class(Exit::Refused, &["app", "list"]),
            Self::NothingDue(_) => class(Exit::Refused, &["board"]),
        }
    }
}

impl Classify for RotateDraftError {
    fn class(&self) -> Class {
        match self {
            Self::Nothing => again(Exit::Usage, &["--due", "60d"]),
            Self::Ask(_) => again(Exit::Usage, &[]),
            Self::NoneCan(_) => class(Exit::Refused, &["board"]),
            Self::Project(inner) => inner.class(),
            Self::Plan(inner) => inner.class(),
            Self::Text(_) => defect(),
            Self::Output(inner) => inner.class(),
            Self::File(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for RotateError {
    fn class(&self) -> Class {
        match self {
            Self::Project(inner) => inner.class(),
            Self::File(inner) => inner.class(),
            Self::NoDraft { .. } => class(Exit::Damaged, &["rotate", "draft", "WHAT"]),
            Self::OtherCabinet(_) => class(Exit::Refused, &["cabinet", "status"]),
            Self::NoLongerFits { rotates, .. } => {
                let words = ["rotate", "draft"].into_iter().chain(rotates.iter().map(String::as_str));
                let words: Vec<&str> = words.chain(["--to", "FILE"]).collect();
                (Exit::Refused, Remedy::Command(owned(&words)))
            }
            Self::Begun(name) => class(Exit::Refused, &["rotate", "resume", name]),
            Self::Over { name, .. } => class(Exit::Refused, &["show", name]),
            Self::None => class(Exit::Refused, &["rotate", "draft", "WHAT"]),
            Self::Several(names) => {
                class(Exit::Refused, &["rotate", "resume", names.first().map_or("ROTATION", String::as_str)])
            }
            Self::NotFound(_) => class(Exit::Usage, &["inventory"]),
            Self::NotARotation { .. } => class(Exit::Usage, &["rotate", "resume"]),
            Self::NotAPersons { rotation, .. } => class(Exit::Usage, &["rotate", "resume", rotation]),
            Self::NotSure(_) => again(Exit::Refused, &["--yes"]),
            Self::Ask(_) => again(Exit::Refused, &[]),
            Self::NoApp(_) => class(Exit::Refused, &["app", "list"]),
            Self::Gone(_) => class(Exit::Refused, &["inventory"]),
            Self::NotProved(name) => class(Exit::Damaged, &["show", name]),
            Self::Lineage(_) | Self::Key(_) => defect(),
            Self::Make(inner) => inner.class(),
            Self::Prepare(inner) => inner.class(),
            Self::ApiKey(inner) => inner.class(),
            // the build is ours and gone: what it lacked is looked at where the rotation stands
            Self::Probe(inner) => again(inner.class().0, &[]),
            Self::Output(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
            Self::Step { rotation, cause, .. } => match cause.class() {
                // what cannot be mended by a command is tried again
                (exit, Remedy::Say(text)) => say(exit, text),
                (exit, Remedy::Again(_)) => class(exit, &["rotate", "resume", rotation]),
                other => other,
            },
        }
    }
}
