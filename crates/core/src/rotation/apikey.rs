//! Keys that make tokens: a new one is made beside the old one, proved by a call, and then the old one goes.

use super::{PlanError, Planner};
use crate::model::{ApiKeyFacts, Item};

pub(super) fn add<'a>(
    _planner: &mut Planner<'a>,
    item: &'a Item,
    _facts: &'a ApiKeyFacts,
) -> Result<(), PlanError> {
    Err(PlanError::NotRotated { name: item.name.clone(), found: "an API key".into() })
}
