//! Keys that make tokens: a new one is made beside the old one, proved by a call, and then the old one goes.

use super::{Phase, PlanError, Planner};
use crate::model::{ApiKeyFacts, Does, Item};

pub(super) fn add<'a>(
    planner: &mut Planner<'a>,
    item: &'a Item,
    facts: &'a ApiKeyFacts,
) -> Result<(), PlanError> {
    if facts.key.is_none() {
        let because = match facts.asked_of {
            Some(_) => "it was asked for and is not here",
            None => "it is an upload password, which is made by hand",
        };
        return Err(PlanError::NotWhole { name: item.name.clone(), because: because.into() });
    }
    let year = planner.next_year() - 1;
    let api_key = planner.name(&format!("{}-{year}", item.name));
    let does = Does::MakeApiKey { api_key: api_key.clone(), instead_of: item.name.clone() };
    planner.step(Phase::Keys, does, "both are good side by side until the old one is withdrawn");
    let does = Does::ProveApiKey { api_key: api_key.clone() };
    planner.step(Phase::Proofs, does, "it has to be taken before the old one goes");
    planner.tell(item);
    let does = Does::WithdrawApiKey { api_key: item.name.clone() };
    planner.step(Phase::Withdrawal, does, "a key that is withdrawn makes no calls, whoever has it");
    let does = Does::Retire { item: item.name.clone(), successor: api_key };
    planner.step(Phase::Retire, does, "its successor makes the calls by then");
    Ok(())
}
