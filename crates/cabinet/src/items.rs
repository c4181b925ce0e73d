//! Items as the model has them, and as rows.

use ninekeys_core::model::{Inventory, Item, ItemId, State};
use rayon::prelude::*;

use crate::CabinetError;
use crate::store::{Store, StoredItem};

pub(crate) fn load_inventory(store: &dyn Store) -> Result<Inventory, CabinetError> {
    let items: Result<Vec<Item>, CabinetError> = store.items()?.into_par_iter().map(from_stored).collect();
    Ok(Inventory::new(items?))
}

pub(crate) fn to_stored(item: &Item) -> Result<StoredItem, CabinetError> {
    let facts = serde_json::to_string(&item.facts).map_err(|e| CabinetError::Io(e.to_string()))?;
    Ok(StoredItem {
        id: item.id.to_string(),
        name: item.name.clone(),
        state: match item.state {
            State::Active => "active".into(),
            State::Retired => "retired".into(),
        },
        generation: item.generation,
        replaces: item.replaces.as_ref().map(ToString::to_string),
        revision: item.revision,
        created: item.created.to_string(),
        seq: item.seq,
        facts,
    })
}

fn from_stored(row: StoredItem) -> Result<Item, CabinetError> {
    let unreadable =
        |what: &str| CabinetError::Tampered(format!("the {what} of {} cannot be read", row.name));
    let facts = serde_json::from_str(&row.facts).map_err(|_| unreadable("facts"))?;
    let created = row.created.parse().map_err(|_| unreadable("date"))?;
    let state = if row.state == "retired" { State::Retired } else { State::Active };
    Ok(Item {
        id: ItemId::from_text(&row.id).ok_or_else(|| unreadable("id"))?,
        name: row.name,
        state,
        generation: row.generation,
        replaces: row.replaces.as_deref().and_then(ItemId::from_text),
        revision: row.revision,
        created,
        seq: row.seq,
        facts,
    })
}
