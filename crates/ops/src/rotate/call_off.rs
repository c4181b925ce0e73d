//! `rotate call-off`: a rotation is given up, and what can be undone of it is undone.

use jiff::Timestamp;
use ninekeys_cabinet::{CabinetError, Change};
use ninekeys_core::model::{Does, Facts, Inventory, ItemId, RotationFacts, RotationStep, State};
use schemars::JsonSchema;
use serde::Serialize;

use super::carry_out::{refuse_over, revise};
use super::{RotateError, find, steps};
use crate::ask::AskError;
use crate::ctx::Ctx;

/// What was undone.
#[derive(Debug, Serialize, JsonSchema)]
pub struct RotateCallOffReport {
    /// The rotation.
    pub rotation: String,
    /// What was made for it, and is retired now: kept, and used for nothing.
    pub retired: Vec<String>,
    /// What it had retired, and is in use again.
    pub back: Vec<String>,
    /// What cannot be undone.
    pub stays: Vec<Stays>,
    /// The time of this report.
    pub at: Timestamp,
}

/// Something that cannot be undone.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case", tag = "what")]
pub enum Stays {
    /// A certificate that the portal issued: it counts there until it is revoked.
    Issued {
        /// The identity.
        identity: String,
    },
    /// A certificate that was revoked.
    Revoked {
        /// The identity.
        identity: String,
    },
    /// Something that a person did.
    Done {
        /// The step.
        number: usize,
        /// What it was, in a sentence.
        text: String,
    },
}

/// Calls a rotation off.
///
/// # Errors
/// [`RotateError`]; then nothing was changed.
pub fn rotate_call_off(
    ctx: &Ctx<'_>,
    name: Option<&str>,
    sure: bool,
) -> Result<RotateCallOffReport, RotateError> {
    let mut cabinet = ctx.open()?;
    let inventory = cabinet.inventory()?;
    let (item, facts) = find(&inventory, name)?;
    refuse_over(item, facts)?;
    let undo = Undo::of(&inventory, facts);
    if !sure {
        let question = format!("{} is called off: {}. Do it", item.name, undo.sentence());
        match ctx.ask.sure(&question)? {
            Some(true) => {}
            Some(false) => return Err(AskError::Declined.into()),
            None => {
                return Err(RotateError::NotSure(format!(
                    "{} would be called off: {}",
                    item.name,
                    undo.sentence()
                )));
            }
        }
    }
    let (id, name) = (item.id, item.name.clone());
    ctx.unlock(&mut cabinet)?;
    let taken_over = cabinet.change(&format!("rotate call-off {name}"), &ctx.env, |change| {
        let inventory = change.inventory();
        let (item, facts) = find(&inventory, Some(&id.to_string()))?;
        refuse_over(item, facts)?;
        let now = Undo::of(&inventory, facts);
        // what is undone is what somebody said yes to
        if now != undo {
            return Err(CabinetError::ChangedMeanwhile(item.name.clone()).into());
        }
        undo.carry_out(change, facts)?;
        let taken_over = taken_over(facts);
        revise(change, &id, |_, facts| {
            facts.called_off = Some(ctx.env.now);
            Ok(())
        })?;
        Ok::<_, RotateError>(taken_over)
    })?;
    for (new, old) in &taken_over {
        steps::rename_in_project(ctx, new, old)?;
    }
    let names = |items: Vec<(ItemId, String)>| items.into_iter().map(|(_, name)| name).collect();
    Ok(RotateCallOffReport {
        rotation: name,
        retired: names(undo.retires),
        back: names(undo.brings_back),
        stays: undo.stays,
        at: ctx.env.now,
    })
}

/// What is undone of a rotation, and what stays.
#[derive(PartialEq)]
struct Undo {
    retires: Vec<(ItemId, String)>,
    brings_back: Vec<(ItemId, String)>,
    stays: Vec<Stays>,
}

impl Undo {
    fn of(inventory: &Inventory, facts: &RotationFacts) -> Self {
        let mut undo = Undo { retires: Vec::new(), brings_back: Vec::new(), stays: Vec::new() };
        for (index, step) in facts.steps.iter().enumerate().filter(|(_, step)| step.begun.is_some()) {
            undo.add(inventory, facts, index + 1, &step.step, step.done.is_some());
        }
        undo
    }

    fn add(&mut self, inventory: &Inventory, facts: &RotationFacts, number: usize, step: &Does, done: bool) {
        let get = |name: &str| facts.items.get(name).and_then(|id| inventory.get(id));
        // a step that was cut off may have made it without noting so
        let made = |name: &str| {
            let unnoted = || inventory.iter().find(|item| item.name == name && item.created >= facts.drafted);
            get(name).or_else(unnoted).filter(|item| item.state == State::Active)
        };
        match step {
            Does::MakeIdentity { identity: name, .. }
            | Does::GetProfile { profile: name, .. }
            | Does::MakeApiKey { api_key: name, .. }
            | Does::MakeKey { keystore: name, .. } => {
                if let Some(item) = made(name) {
                    self.retires.push((item.id, item.name.clone()));
                    if matches!(&item.facts, Facts::Identity(facts) if facts.certificate.is_some()) {
                        self.stays.push(Stays::Issued { identity: item.name.clone() });
                    }
                }
            }
            Does::Retire { item: name, .. } | Does::Revoke { item: name, .. } => {
                let Some(item) = get(name).filter(|item| item.state == State::Retired) else { return };
                match &item.facts {
                    Facts::Identity(facts) if facts.revoked.is_some() => {
                        self.stays.push(Stays::Revoked { identity: item.name.clone() });
                    }
                    _ => self.brings_back.push((item.id, item.name.clone())),
                }
            }
            Does::Tell { .. }
            | Does::ChangeSettings { .. }
            | Does::ChangeServer { .. }
            | Does::LookAfter { .. }
            | Does::FileCertificate { .. }
            | Does::RegisterFingerprint { .. }
            | Does::WithdrawApiKey { .. }
            | Does::Reseal
                if done =>
            {
                let text = ninekeys_core::rotation::said(step);
                self.stays.push(Stays::Done { number, text });
            }
            _ => {}
        }
    }

    /// What will happen, in a sentence.
    fn sentence(&self) -> String {
        let names = |items: &[(ItemId, String)]| {
            items.iter().map(|(_, name)| name.as_str()).collect::<Vec<_>>().join(", ")
        };
        let mut parts = Vec::new();
        if !self.retires.is_empty() {
            parts.push(format!("{} will be retired", names(&self.retires)));
        }
        if !self.brings_back.is_empty() {
            parts.push(format!("{} will be in use again", names(&self.brings_back)));
        }
        if parts.is_empty() { "nothing was made yet".into() } else { parts.join("; ") }
    }

    fn carry_out(&self, change: &mut Change<'_>, facts: &RotationFacts) -> Result<(), RotateError> {
        for step in facts.steps.iter().filter(|step| step.done.is_some()) {
            if let Does::TakeOver { keystore, instead_of, alias } = &step.step {
                give_back(change, facts, keystore, instead_of, alias)?;
            }
        }
        for (id, state) in self
            .retires
            .iter()
            .map(|(id, _)| (id, State::Retired))
            .chain(self.brings_back.iter().map(|(id, _)| (id, State::Active)))
        {
            let inventory = change.inventory();
            let mut item = inventory.get(id).ok_or_else(|| RotateError::Gone(id.to_string()))?.clone();
            item.state = state;
            change.revise(&item, None)?;
        }
        Ok(())
    }
}

/// The keystores that took over from others, and those.
fn taken_over(facts: &RotationFacts) -> Vec<(String, String)> {
    let done = facts.steps.iter().filter(|step| step.done.is_some());
    let pair = |step: &RotationStep| match &step.step {
        Does::TakeOver { keystore, instead_of, .. } => Some((keystore.clone(), instead_of.clone())),
        _ => None,
    };
    done.filter_map(pair).collect()
}

/// What an old upload key did is its again.
fn give_back(
    change: &mut Change<'_>,
    facts: &RotationFacts,
    keystore: &str,
    instead_of: &str,
    alias: &str,
) -> Result<(), RotateError> {
    let inventory = change.inventory();
    let get = |name: &str| {
        let item = facts.items.get(name).and_then(|id| inventory.get(id)).cloned();
        item.ok_or_else(|| RotateError::Gone(name.into()))
    };
    let (mut new, mut old) = (get(keystore)?, get(instead_of)?);
    if steps::move_uses(steps::entry_of(&mut new, None)?, steps::entry_of(&mut old, Some(alias))?) {
        new.replaces = None;
        change.revise(&new, None)?;
        change.revise(&old, None)?;
    }
    Ok(())
}
