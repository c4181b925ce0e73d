//! Lists as comma-separated values (RFC 4180).

use std::borrow::Cow;
use std::io::{self, Write};

use jiff::Timestamp;
use ninekeys_ops::inventory::{InventoryReport, Line};

use super::items::state_of;
use super::pieces;

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
fn plain(text: &str) -> Cow<'_, str> {
    match text.starts_with(['=', '+', '-', '@', '\t', '\r']) {
        true => format!("'{text}").into(),
        false => text.into(),
    }
}

/// Whole days up to an end, negative behind it.
pub(super) fn days_left(now: Timestamp, end: Timestamp) -> i64 {
    (end.as_second() - now.as_second()).div_euclid(86_400)
}

/// Writes the inventory, a line an item.
pub(super) fn of_inventory(report: &InventoryReport<'_>, out: &mut dyn Write) -> io::Result<()> {
    out.write_all(&rows(|writer| writer.write_record(COLUMNS))?)?;
    let lay_out = |lines: &[Line<'_>]| {
        rows(|writer| {
            lines.iter().try_for_each(|line| {
                writer.write_record(record(report, line).iter().map(|value| value.as_bytes()))
            })
        })
    };
    pieces::each(&report.items, lay_out, |piece| out.write_all(piece))
}

fn rows(write: impl FnOnce(&mut csv::Writer<Vec<u8>>) -> csv::Result<()>) -> io::Result<Vec<u8>> {
    let mut writer = csv::WriterBuilder::new().terminator(csv::Terminator::CRLF).from_writer(Vec::new());
    write(&mut writer)?;
    writer.into_inner().map_err(|error| io::Error::other(error.to_string()))
}

fn record<'a>(report: &InventoryReport<'_>, line: &Line<'a>) -> [Cow<'a, str>; 15] {
    let text = |value: Option<&'a str>| plain(value.unwrap_or_default());
    let apps = match line.apps.as_slice() {
        [] => "".into(),
        [one] => plain(one),
        many => plain(&many.join(" ")).into_owned().into(),
    };
    let number = |number: usize| match number {
        0 => "0".into(),
        many => many.to_string().into(),
    };
    let end = line.not_after;
    [
        plain(line.name),
        text(line.alias),
        line.kind.into(),
        apps,
        text(line.subject),
        text(line.algorithm),
        text(line.sha256),
        text(line.serial),
        end.map(|end| end.to_string()).unwrap_or_default().into(),
        end.map(|end| days_left(report.at, end).to_string()).unwrap_or_default().into(),
        state_of(line).1,
        line.generation.to_string().into(),
        number(line.profiles),
        number(line.releases),
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
