//! Lists as comma-separated values (RFC 4180).

use std::io;

use jiff::Timestamp;
use ninekeys_ops::inventory::{InventoryReport, Line};

use super::items::state_of;

/// The columns of the inventory.
const COLUMNS: [&str; 15] = [
    "name",
    "alias",
    "kind",
    "apps",
    "subject",
    "algorithm",
    "sha256",
    "serial",
    "not_after",
    "days_left",
    "state",
    "generation",
    "profiles",
    "releases",
    "held_by",
];

/// A value that no spreadsheet takes for a formula.
fn plain(text: &str) -> String {
    if text.starts_with(['=', '+', '-', '@', '\t', '\r']) { format!("'{text}") } else { text.to_owned() }
}

/// Whole days up to an end, negative behind it.
pub(super) fn days_left(now: Timestamp, end: Timestamp) -> i64 {
    (end.as_second() - now.as_second()).div_euclid(86_400)
}

/// The inventory, a line an item.
pub(super) fn of_inventory(report: &InventoryReport<'_>) -> io::Result<String> {
    let mut writer = csv::WriterBuilder::new().terminator(csv::Terminator::CRLF).from_writer(Vec::new());
    writer.write_record(COLUMNS)?;
    for line in &report.items {
        writer.write_record(record(report, line))?;
    }
    let bytes = writer.into_inner().map_err(|error| io::Error::other(error.to_string()))?;
    String::from_utf8(bytes).map_err(io::Error::other)
}

fn record(report: &InventoryReport<'_>, line: &Line<'_>) -> [String; 15] {
    let text = |value: Option<&str>| plain(value.unwrap_or_default());
    let end = line.not_after;
    [
        plain(line.name),
        text(line.alias),
        line.kind.to_owned(),
        plain(&line.apps.join(" ")),
        text(line.subject),
        text(line.algorithm),
        text(line.sha256),
        text(line.serial),
        end.map(|end| end.to_string()).unwrap_or_default(),
        end.map(|end| days_left(report.at, end).to_string()).unwrap_or_default(),
        state_of(line).1.into_owned(),
        line.generation.to_string(),
        line.profiles.to_string(),
        line.releases.to_string(),
        text(line.held_by),
    ]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_value_is_a_formula_and_days_are_whole() {
        assert_eq!(plain("=1+1"), "'=1+1");
        assert_eq!(plain("a=b"), "a=b");
        let at = |text: &str| text.parse::<Timestamp>().unwrap();
        let now = at("2031-05-19T12:00:00Z");
        assert_eq!(days_left(now, at("2031-05-20T11:59:59Z")), 0);
        assert_eq!(days_left(now, at("2031-05-19T11:59:59Z")), -1);
        assert_eq!(days_left(now, at("2031-05-21T12:00:00Z")), 2);
    }
}
