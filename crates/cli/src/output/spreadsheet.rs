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
    let mut heading = Vec::new();
    write_record(COLUMNS, &mut heading);
    out.write_all(&heading)?;
    let lay_out = |lines: &[Line<'_>]| {
        let mut rows = Vec::new();
        for line in lines {
            write_record(record(report, line), &mut rows);
        }
        Ok(rows)
    };
    pieces::each(&report.items, lay_out, |piece| out.write_all(piece))
}

/// Writes one record (RFC 4180, section 2). A field is quoted only where it has to be.
fn write_record(fields: impl IntoIterator<Item: AsRef<str>>, out: &mut Vec<u8>) {
    let mut separator: &[u8] = b"";
    for field in fields {
        let field = field.as_ref();
        out.extend_from_slice(separator);
        separator = b",";
        if field.contains(['"', ',', '\r', '\n']) {
            out.push(b'"');
            out.extend_from_slice(field.replace('"', "\"\"").as_bytes());
            out.push(b'"');
        } else {
            out.extend_from_slice(field.as_bytes());
        }
    }
    out.extend_from_slice(b"\r\n");
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
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn records_are_those_of_another_writer(rows in prop::collection::vec(prop::collection::vec("[a\",\r\n' ü]{0,4}", 2..5), 1..4)) {
            let mut theirs = csv::WriterBuilder::new()
                .terminator(csv::Terminator::CRLF)
                .flexible(true)
                .from_writer(Vec::new());
            let mut own = Vec::new();
            for row in &rows {
                theirs.write_record(row).unwrap();
                write_record(row, &mut own);
            }
            prop_assert_eq!(own, theirs.into_inner().unwrap());
        }
    }

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
