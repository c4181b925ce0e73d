//! Ends and states for monitoring (OpenMetrics): a text that a collector reads from a file.

use std::borrow::Cow;
use std::collections::BTreeMap;
use std::fmt::Error;
use std::io::{self, Write};
use std::sync::atomic::AtomicI64;

use ninekeys_core::model::State;
use ninekeys_ops::inventory::{InventoryReport, Line};
use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::encoding::text::encode;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::registry::{Registry, Unit};
use rayon::prelude::*;

use super::items::state_of;
use super::pieces;

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

/// Writes the inventory: until when each item in use is good, how many there are in which state, and the last backup.
pub(super) fn of_inventory(report: &InventoryReport<'_>, out: &mut dyn Write) -> io::Result<()> {
    let (mut head, mut samples) = (String::new(), String::new());
    pieces::each(&report.items, ends, |piece| {
        let piece = std::str::from_utf8(piece).map_err(io::Error::other)?;
        let (about, some) = piece.split_at(piece.find("\nninekeys").map_or(piece.len(), |at| at + 1));
        if !some.is_empty() {
            about.clone_into(&mut head);
            samples.push_str(some);
        }
        Ok(())
    })?;
    let mut all: Vec<&str> = samples.lines().collect();
    all.par_sort_unstable();
    // what has the same labels is one
    all.dedup_by_key(|sample| sample.rsplit_once(' ').map(|(labels, _)| labels));
    if !all.is_empty() {
        out.write_all(head.as_bytes())?;
    }
    for sample in all {
        out.write_all(sample.as_bytes())?;
        out.write_all(b"\n")?;
    }
    out.write_all(in_order(&counts(report)?).as_bytes())
}

/// Until when items in use are good, without the line that ends a text.
fn ends(lines: &[Line<'_>]) -> io::Result<Vec<u8>> {
    let mut registry = Registry::with_prefix("ninekeys");
    let ends = Of::<Item>::default();
    let about = "Until when an item in use is good, in seconds since 1970";
    registry.register_with_unit("not_after_timestamp", about, Unit::Seconds, ends.clone());
    for line in lines.iter().filter(|line| line.state == State::Active) {
        if let Some(end) = line.not_after {
            ends.get_or_create(&item(line)).set(end.as_second());
        }
    }
    let text = encoded(&registry)?;
    Ok(text.strip_suffix("# EOF\n").unwrap_or(&text).into())
}

/// How many items there are in which state, and the last backup.
fn counts(report: &InventoryReport<'_>) -> io::Result<String> {
    let mut registry = Registry::with_prefix("ninekeys");
    let counts = Of::<Group>::default();
    let backup = Gauge::<i64, AtomicI64>::default();
    registry.register("items", "How many items there are in which state", counts.clone());
    let about = "When the last backup was made and proved, in seconds since 1970; 0 for never";
    registry.register_with_unit("last_backup_timestamp", about, Unit::Seconds, backup.clone());
    let mut found: BTreeMap<(&str, Cow<'_, str>), i64> = BTreeMap::new();
    for line in &report.items {
        *found.entry((line.kind, state_of(line).1)).or_default() += 1;
    }
    for ((kind, state), count) in found {
        counts.get_or_create(&Group { kind: kind.to_owned(), state: state.into_owned() }).set(count);
    }
    backup.set(report.last_backup.map_or(0, |backup| backup.at.as_second()));
    encoded(&registry)
}

fn encoded(registry: &Registry) -> io::Result<String> {
    let mut text = String::new();
    encode(&mut text, registry).map_err(|error: Error| io::Error::other(error))?;
    Ok(text)
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
