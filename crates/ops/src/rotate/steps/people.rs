//! What somebody who was given material has to hear.

use ninekeys_core::model::{Destination, Does, Facts, ItemId};

use super::{Outcome, Work};
use crate::rotate::RotateError;

/// Whoever was given the old one has the new one when the list of what was given says so.
pub(super) fn tell(
    work: &mut Work<'_, '_>,
    receiver: &str,
    app: &str,
    destination: Destination,
) -> Result<Outcome, RotateError> {
    let inventory = work.cabinet.inventory()?;
    let made: Vec<ItemId> = work
        .facts
        .steps
        .iter()
        .filter_map(|step| match &step.step {
            Does::MakeIdentity { identity, .. } => work.facts.items.get(identity),
            Does::GetProfile { profile, .. } => work.facts.items.get(profile),
            Does::MakeApiKey { api_key, .. } => work.facts.items.get(api_key),
            _ => None,
        })
        .copied()
        .collect();
    let has = inventory.iter().any(|item| match &item.facts {
        Facts::HandOut(given) => {
            given.receiver == receiver
                && given.app == app
                && given.destination == destination
                && given.given.iter().any(|one| made.contains(&one.item))
        }
        _ => false,
    });
    if has {
        return Ok(Outcome::Done(Vec::new()));
    }
    let to = destination.to_string();
    let mut next = vec!["give", "--app", app, "--for", &to, "--receiver", receiver, "--to", "FOLDER"];
    let api_key = work.facts.steps.iter().find_map(|step| match &step.step {
        Does::MakeApiKey { api_key, .. } => Some(api_key.as_str()),
        _ => None,
    });
    next.extend(api_key.iter().flat_map(|name| ["--api-key", name]));
    let what = format!("{receiver} was given what is replaced, and needs the new material");
    Ok(Outcome::waits(what, None, next.into_iter().map(str::to_owned).collect()))
}
