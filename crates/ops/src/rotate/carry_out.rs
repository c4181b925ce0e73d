//! `rotate carry-out` and `rotate resume`: a draft, step by step.

use std::path::{Path, PathBuf};

use jiff::{SignedDuration, Timestamp};
use ninekeys_cabinet::{Cabinet, Change, NewItem};
use ninekeys_core::model::{Facts, Inventory, Item, ItemId, RotationFacts, RotationStep};
use ninekeys_core::rotation::{self, Draft};

use super::draft::{again, read};
use super::steps::{self, Outcome, Work};
use super::{RotateError, RotationReport, StepWaits, all, find, said};
use crate::ask::AskError;
use crate::ctx::Ctx;
use crate::identity;
use crate::prepare::Waits;
use crate::project::ProjectFile;

/// A draft to be carried out.
#[derive(Debug)]
pub struct Request {
    /// Its file.
    pub file: PathBuf,
    /// Whether it is done without asking.
    pub sure: bool,
}

/// A rotation that goes on.
#[derive(Debug)]
pub struct Resume {
    /// Its name; the only one that is under way where none is named.
    pub rotation: Option<String>,
    /// Steps that somebody did, by their numbers.
    pub done: Vec<usize>,
}

/// Carries a draft out, as far as it goes without a person.
///
/// # Errors
/// [`RotateError`]; what was done before stays, and `resume` goes on from there.
pub fn rotate_carry_out<'c>(ctx: &'c Ctx<'c>, request: &Request) -> Result<RotationReport, RotateError> {
    let file = ctx.project_file()?;
    let draft = read(&ctx.path(&request.file), &request.file)?;
    let mut cabinet = ctx.open()?;
    if draft.cabinet != cabinet.identity().to_string() {
        return Err(RotateError::OtherCabinet(request.file.clone()));
    }
    let inventory = cabinet.inventory()?;
    refuse_begun(&inventory, &draft)?;
    refuse_other(&draft, &file, &inventory, (&request.file, ctx.env.now))?;
    if !request.sure {
        agree(ctx, &draft)?;
    }
    ctx.unlock(&mut cabinet)?;
    let what = format!("rotate carry-out {}", draft.rotates.join(" "));
    let id = cabinet.change(&what, &ctx.env, |change| {
        // once more under the lock: it may be another by now
        let inventory = change.inventory();
        refuse_begun(&inventory, &draft)?;
        refuse_other(&draft, &file, &inventory, (&request.file, ctx.env.now))?;
        begin(change, &draft)
    })?;
    go_on(ctx, &file, &mut cabinet, &id)
}

/// Goes on with a rotation where it stopped.
///
/// # Errors
/// [`RotateError`].
pub fn rotate_resume<'c>(ctx: &'c Ctx<'c>, request: &Resume) -> Result<RotationReport, RotateError> {
    let file = ctx.project_file()?;
    let mut cabinet = ctx.open()?;
    let inventory = cabinet.inventory()?;
    let (item, facts) = find(&inventory, request.rotation.as_deref())?;
    refuse_over(item, facts)?;
    refuse_word(item, facts, &request.done)?;
    let id = item.id;
    ctx.unlock(&mut cabinet)?;
    if !request.done.is_empty() {
        let numbers: Vec<String> = request.done.iter().map(ToString::to_string).collect();
        let what = format!("rotate resume {}: done by a person: {}", item.name, numbers.join(", "));
        cabinet.change(&what, &ctx.env, |change| {
            let inventory = change.inventory();
            let (_, known) = find(&inventory, Some(&id.to_string()))?;
            for number in &request.done {
                let step = number.checked_sub(1).and_then(|index| known.steps.get(index));
                if let Some(step) = step.filter(|step| step.done.is_none()) {
                    steps::note_word(change, known, &step.step, ctx.env.now)?;
                }
            }
            revise(change, &id, |item, facts| {
                refuse_over(item, facts)?;
                refuse_word(item, facts, &request.done)?;
                for number in &request.done {
                    if let Some(step) = facts.steps.get_mut(number - 1) {
                        step.begun = step.begun.or(Some(ctx.env.now));
                        step.done = step.done.or(Some(ctx.env.now));
                    }
                }
                Ok(())
            })
        })?;
    }
    go_on(ctx, &file, &mut cabinet, &id)
}

/// Refuses what is over.
pub(super) fn refuse_over(item: &Item, facts: &RotationFacts) -> Result<(), RotateError> {
    match facts.is_open() {
        true => Ok(()),
        false => Err(RotateError::Over { name: item.name.clone(), called_off: facts.called_off.is_some() }),
    }
}

/// Only what waits for a person is done by somebody's word.
fn refuse_word(item: &Item, facts: &RotationFacts, done: &[usize]) -> Result<(), RotateError> {
    let is_a_persons = |number: &&usize| {
        let step = number.checked_sub(1).and_then(|index| facts.steps.get(index));
        !step.is_some_and(|step| step.step.may_be_said())
    };
    match done.iter().find(is_a_persons) {
        Some(number) => Err(RotateError::NotAPersons { rotation: item.name.clone(), number: *number }),
        None => Ok(()),
    }
}

fn refuse_begun(inventory: &Inventory, draft: &Draft) -> Result<(), RotateError> {
    let same = |facts: &RotationFacts| facts.drafted == draft.made && facts.rotates == draft.rotates;
    match all(inventory).into_iter().find(|(_, facts)| same(facts)) {
        Some((item, facts)) if facts.is_open() => Err(RotateError::Begun(item.name.clone())),
        Some((item, facts)) => {
            Err(RotateError::Over { name: item.name.clone(), called_off: facts.called_off.is_some() })
        }
        None => Ok(()),
    }
}

/// How long a draft is good: as long as somebody may take to review it.
const GOOD_FOR: SignedDuration = SignedDuration::from_hours(24 * 60);
/// By how much clocks may differ.
const AHEAD: SignedDuration = SignedDuration::from_hours(48);

fn is_recent(made: Timestamp, now: Timestamp) -> bool {
    let age = now.duration_since(made);
    age <= GOOD_FOR && age >= -AHEAD
}

/// Refuses a draft that is not the one that would be made now.
fn refuse_other(
    draft: &Draft,
    file: &ProjectFile,
    inventory: &Inventory,
    (path, now): (&Path, Timestamp),
) -> Result<(), RotateError> {
    let changed = match again(draft, file, inventory) {
        // names and reasons go by the day of the draft: one of another season says what is not so any more
        _ if !is_recent(draft.made, now) => {
            vec![format!("it was drafted on {}", draft.made.strftime("%-d %b %Y"))]
        }
        Ok(now) => rotation::differences(draft, &now, inventory),
        Err(error) => vec![error.to_string()],
    };
    match changed.is_empty() {
        true => Ok(()),
        false => {
            Err(RotateError::NoLongerFits { path: path.into(), rotates: draft.rotates.clone(), changed })
        }
    }
}

/// Asks a person before anything is begun.
fn agree(ctx: &Ctx<'_>, draft: &Draft) -> Result<(), RotateError> {
    let lines: String = draft
        .step
        .iter()
        .map(|step| format!("{:>2}  {}\n", step.number, rotation::said(&step.does)))
        .collect();
    match ctx.ask.sure(&format!("{lines}Carry it out"))? {
        Some(true) => Ok(()),
        Some(false) => Err(AskError::Declined.into()),
        None => Err(RotateError::NotSure(format!("{} steps would be carried out", draft.step.len()))),
    }
}

/// Writes the rotation down, with nothing of it done.
fn begin(change: &mut Change<'_>, draft: &Draft) -> Result<ItemId, RotateError> {
    let inventory = change.inventory();
    let base = format!("rotation-{}", draft.made.strftime("%Y-%m-%d"));
    let name = identity::free_name(&inventory, &base);
    let steps =
        draft.step.iter().map(|step| RotationStep { step: step.does.clone(), begun: None, done: None });
    let facts = RotationFacts {
        rotates: draft.rotates.clone(),
        drafted: draft.made,
        steps: steps.collect(),
        items: draft.stands.iter().map(|one| (one.item.clone(), one.id)).collect(),
        called_off: None,
    };
    Ok(change.put(NewItem::new(name, Facts::Rotation(Box::new(facts)), None))?)
}

/// Changes what is kept of a rotation.
pub(super) fn revise(
    change: &mut Change<'_>,
    id: &ItemId,
    work: impl FnOnce(&Item, &mut RotationFacts) -> Result<(), RotateError>,
) -> Result<(), RotateError> {
    let inventory = change.inventory();
    let item = inventory.get(id).ok_or(RotateError::None)?;
    let Facts::Rotation(facts) = &item.facts else { return Err(RotateError::None) };
    let mut facts = facts.clone();
    work(item, &mut facts)?;
    let mut item = item.clone();
    item.facts = Facts::Rotation(facts);
    Ok(change.revise(&item, None)?)
}

/// Does one step after the other, until all are done or one waits for somebody. What several people have to do waits at once.
fn go_on<'c>(
    ctx: &'c Ctx<'c>,
    file: &ProjectFile,
    cabinet: &mut Cabinet<'c>,
    id: &ItemId,
) -> Result<RotationReport, RotateError> {
    let mut waiting: Vec<StepWaits> = Vec::new();
    let mut from = 0;
    loop {
        let inventory = cabinet.inventory()?;
        let item = inventory.get(id).ok_or(RotateError::None)?;
        let Facts::Rotation(facts) = &item.facts else { return Err(RotateError::None) };
        let open = facts.steps.iter().enumerate().skip(from).find(|(_, step)| step.done.is_none());
        let next = open.filter(|(_, step)| waiting.is_empty() || step.step.is_a_persons());
        let Some((index, step)) = next else {
            return Ok(said(item, facts, waiting, ctx.env.now));
        };
        let text = rotation::said(&step.step);
        let failed = |cause: RotateError| RotateError::Step {
            rotation: item.name.clone(),
            number: index + 1,
            text: text.clone(),
            cause: Box::new(cause),
        };
        note(ctx, cabinet, id, index, None).map_err(failed)?;
        let mut work = Work { ctx, file, cabinet, facts };
        match steps::carry(&mut work, &step.step).map_err(failed)? {
            Outcome::Done(made) => note(ctx, cabinet, id, index, Some(made)).map_err(failed)?,
            Outcome::Waits(waits) => match done_by_now(ctx, &waits).map_err(failed)? {
                true => note(ctx, cabinet, id, index, Some(Vec::new())).map_err(failed)?,
                false => waiting.push(StepWaits { number: index + 1, waits }),
            },
        }
        from = index + 1;
    }
}

/// Asks a person whether something is done that nobody else can see.
fn done_by_now(ctx: &Ctx<'_>, waits: &Waits) -> Result<bool, RotateError> {
    if !waits.next.is_empty() {
        return Ok(false);
    }
    Ok(ctx.ask.sure(&format!("{}\nIs that done", waits.what))?.unwrap_or(false))
}

/// Notes that a step begins, or that it is done and what it made.
fn note(
    ctx: &Ctx<'_>,
    cabinet: &mut Cabinet<'_>,
    id: &ItemId,
    index: usize,
    made: Option<Vec<(String, ItemId)>>,
) -> Result<(), RotateError> {
    let inventory = cabinet.inventory()?;
    let item = inventory.get(id).ok_or(RotateError::None)?;
    let Facts::Rotation(facts) = &item.facts else { return Err(RotateError::None) };
    let step = facts.steps.get(index).ok_or(RotateError::None)?;
    if made.is_none() && step.begun.is_some() {
        return Ok(());
    }
    let word = if made.is_some() { "done" } else { "begun" };
    let what = format!("{}: step {} {word}: {}", item.name, index + 1, rotation::said(&step.step));
    cabinet.change(&what, &ctx.env, |change| {
        revise(change, id, |item, facts| {
            refuse_over(item, facts)?;
            let step = facts.steps.get_mut(index).ok_or(RotateError::None)?;
            step.begun = step.begun.or(Some(ctx.env.now));
            if let Some(made) = made {
                step.done = step.done.or(Some(ctx.env.now));
                facts.items.extend(made);
            }
            Ok(())
        })
    })
}
