//! Ends and states for monitoring (OpenMetrics): a text that a collector reads from a file.

use std::fmt::Error;
use std::io;
use std::sync::atomic::AtomicI64;

use ninekeys_core::model::State;
use ninekeys_ops::inventory::{InventoryReport, Line};
use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::encoding::text::encode;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::registry::{Registry, Unit};

use super::items::state_of;

/// What tells one item from another.
#[derive(Clone, Debug, Hash, PartialEq, Eq, EncodeLabelSet)]
struct Item {
    name: String,
    alias: String,
    kind: String,
    apps: String,
}

/// What tells groups of items apart.
#[derive(Clone, Debug, Hash, PartialEq, Eq, EncodeLabelSet)]
struct Group {
    kind: String,
    state: String,
}

type Of<L> = Family<L, Gauge<i64, AtomicI64>>;

fn item(line: &Line<'_>) -> Item {
    Item {
        name: line.name.to_owned(),
        alias: line.alias.unwrap_or_default().to_owned(),
        kind: line.kind.to_owned(),
        apps: line.apps.join(" "),
    }
}

/// The inventory: until when each item in use is good, how many there are in which state, and the last backup.
pub(super) fn of_inventory(report: &InventoryReport<'_>) -> io::Result<String> {
    let mut registry = Registry::with_prefix("ninekeys");
    let (ends, counts) = (Of::<Item>::default(), Of::<Group>::default());
    let backup = Gauge::<i64, AtomicI64>::default();
    let about = "Until when an item in use is good, in seconds since 1970";
    registry.register_with_unit("not_after_timestamp", about, Unit::Seconds, ends.clone());
    registry.register("items", "How many items there are in which state", counts.clone());
    let about = "When the last backup was made and proved, in seconds since 1970; 0 for never";
    registry.register_with_unit("last_backup_timestamp", about, Unit::Seconds, backup.clone());
    for line in &report.items {
        if let Some(end) = line.not_after.filter(|_| line.state == State::Active) {
            ends.get_or_create(&item(line)).set(end.as_second());
        }
        let group = Group { kind: line.kind.to_owned(), state: state_of(line).1.into_owned() };
        counts.get_or_create(&group).inc();
    }
    backup.set(report.last_backup.map_or(0, |backup| backup.at.as_second()));
    let mut text = String::new();
    encode(&mut text, &registry).map_err(|error: Error| io::Error::other(error))?;
    Ok(in_order(&text))
}

/// The samples of each family in order: the same inventory is the same text.
fn in_order(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut samples: Vec<&str> = Vec::new();
    for line in text.lines() {
        if line.starts_with('#') {
            samples.sort_unstable();
            samples.drain(..).for_each(|sample| out.extend([sample, "\n"]));
            out.extend([line, "\n"]);
        } else {
            samples.push(line);
        }
    }
    out
}
