//! Taking in what another copy of the same cabinet has and this one lacks: after two copies both went on.

use ninekeys_core::env::Env;
use ninekeys_core::model::{Inventory, Item};
use schemars::JsonSchema;
use serde::Serialize;

use crate::CabinetError;
use crate::cabinet::Cabinet;
use crate::trust::PinnedBy;

/// What was taken in.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Adopted {
    /// Names of what was taken in, as they are here.
    pub taken: Vec<String>,
    /// Names of what both have and only one of them changed, or each in another way: it stays as it is here.
    pub differs: Vec<String>,
}

impl Cabinet<'_> {
    /// Takes in every item that `other`, which is unlocked, has and this cabinet lacks. A name that is taken here gets an
    /// ending.
    ///
    /// # Errors
    /// [`CabinetError::Another`] when it is no copy of this cabinet, [`CabinetError::Locked`],
    /// [`CabinetError::NotAllowed`], [`CabinetError::Io`]; then this cabinet is as it was.
    pub fn adopt(&mut self, other: &Cabinet<'_>, what: &str, env: &Env<'_>) -> Result<Adopted, CabinetError> {
        if self.identity() != other.identity() {
            let (pinned, found) = (self.identity(), other.identity());
            return Err(CabinetError::Another { by: PinnedBy::Machine, pinned, found });
        }
        let there = other.inventory()?;
        self.change(what, env, |change| {
            let here = change.inventory();
            let mut adopted = Adopted::default();
            let mut missing: Vec<&Item> = there.iter().filter(|item| here.get(&item.id).is_none()).collect();
            missing.sort_by(|a, b| a.name.cmp(&b.name));
            for item in missing {
                let name = free_name(&item.name, |name| change.is_free(name));
                let secret = if other.has_secret(item) { Some(other.secret(item)?) } else { None };
                change.take_in(item, name.clone(), secret.as_ref())?;
                adopted.taken.push(name);
            }
            adopted.differs = differing(&here, &there);
            Ok(adopted)
        })
    }
}

/// The name, or the first ending to it that is free: before the stroke, so that a keystore's parts stay below it.
fn free_name(name: &str, mut is_free: impl FnMut(&str) -> bool) -> String {
    if is_free(name) {
        return name.into();
    }
    let (top, below) = name.split_once('/').map_or((name, None), |(top, below)| (top, Some(below)));
    for number in 2u32.. {
        let top = format!("{top}-{number}");
        let wanted = below.map_or_else(|| top.clone(), |below| format!("{top}/{below}"));
        if is_free(&wanted) {
            return wanted;
        }
    }
    name.into()
}

fn differing(here: &Inventory, there: &Inventory) -> Vec<String> {
    let differs = |item: &&Item| {
        there.get(&item.id).is_some_and(|other| {
            (&other.facts, &other.name, other.state) != (&item.facts, &item.name, item.state)
        })
    };
    let mut names: Vec<String> = here.iter().filter(differs).map(|item| item.name.clone()).collect();
    names.sort();
    names
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_that_is_taken_gets_an_ending_and_parts_stay_below_it() {
        let taken = ["ferries", "ferries-2", "ferries/upload"];
        let free = |name: &str| free_name(name, |wanted| !taken.contains(&wanted));
        assert_eq!(free("harbour"), "harbour");
        assert_eq!(free("ferries"), "ferries-3");
        assert_eq!(free("ferries/upload"), "ferries-2/upload");
        assert_eq!(free("ferries/signing"), "ferries/signing");
    }
}
