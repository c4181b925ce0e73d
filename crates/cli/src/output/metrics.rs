//! Ends and states for monitoring (OpenMetrics 1.0): a text that a collector reads from a file.

use std::borrow::Cow;
use std::collections::BTreeMap;
use std::io::{self, Write};

use ninekeys_core::model::State;
use ninekeys_ops::inventory::{InventoryReport, Line};
use rayon::prelude::*;

use super::items::state_of;
use super::pieces;

/// A gauge with the samples that belong to it (OpenMetrics, section "MetricFamily").
struct Family {
    name: &'static str,
    about: &'static str,
    /// The unit, which the name ends with.
    unit: Option<&'static str>,
}

const ENDS: Family = Family {
    name: "ninekeys_not_after_timestamp_seconds",
    about: "Until when an item in use is good, in seconds since 1970.",
    unit: Some("seconds"),
};
const COUNTS: Family =
    Family { name: "ninekeys_items", about: "How many items there are in which state.", unit: None };
const BACKUP: Family = Family {
    name: "ninekeys_last_backup_timestamp_seconds",
    about: "When the last backup was made and proved, in seconds since 1970; 0 for never.",
    unit: Some("seconds"),
};
const END: &str = "# EOF\n";

impl Family {
    fn head(&self) -> String {
        let Family { name, about, unit } = self;
        let unit = unit.map(|unit| format!("# UNIT {name} {unit}\n")).unwrap_or_default();
        format!("# HELP {name} {about}\n# TYPE {name} gauge\n{unit}")
    }

    /// Adds a sample as a line.
    fn sample(&self, labels: &[(&str, &str)], value: i64, out: &mut String) {
        out.push_str(self.name);
        let mut before = '{';
        for (label, text) in labels {
            out.push(before);
            out.extend([label, "=\""]);
            out.extend(text.chars().flat_map(escaped));
            out.push('"');
            before = ',';
        }
        if before == ',' {
            out.push('}');
        }
        out.extend([" ", &value.to_string(), "\n"]);
    }
}

/// A character of a label's value (OpenMetrics, section "Escaping").
fn escaped(character: char) -> impl Iterator<Item = char> {
    let (mark, character) = match character {
        '\n' => (Some('\\'), 'n'),
        '\\' | '"' => (Some('\\'), character),
        other => (None, other),
    };
    mark.into_iter().chain([character])
}

/// Writes the inventory: until when each item in use is good, how many there are in which state, and the last backup.
pub(super) fn of_inventory(report: &InventoryReport<'_>, out: &mut dyn Write) -> io::Result<()> {
    let mut samples = String::new();
    pieces::each(&report.items, ends, |piece| {
        samples.push_str(std::str::from_utf8(piece).map_err(io::Error::other)?);
        Ok(())
    })?;
    let mut all: Vec<&str> = samples.lines().collect();
    all.par_sort_unstable();
    // what has the same labels is one
    all.dedup_by_key(|sample| sample.rsplit_once(' ').map(|(labels, _)| labels));
    if !all.is_empty() {
        out.write_all(ENDS.head().as_bytes())?;
    }
    for sample in all {
        out.write_all(sample.as_bytes())?;
        out.write_all(b"\n")?;
    }
    out.write_all(counts(report).as_bytes())
}

/// Until when items in use are good.
fn ends(lines: &[Line<'_>]) -> io::Result<Vec<u8>> {
    let mut out = String::new();
    for line in lines.iter().filter(|line| line.state == State::Active) {
        if let Some(end) = line.not_after {
            let apps: Cow<'_, str> = match line.apps.as_slice() {
                [one] => (*one).into(),
                several => several.join(" ").into(),
            };
            let labels = [
                ("name", line.name),
                ("alias", line.alias.unwrap_or_default()),
                ("kind", line.kind),
                ("apps", &apps),
            ];
            ENDS.sample(&labels, end.as_second(), &mut out);
        }
    }
    Ok(out.into_bytes())
}

/// How many items there are in which state, the last backup, and the line that ends the text.
fn counts(report: &InventoryReport<'_>) -> String {
    let mut found: BTreeMap<(&str, Cow<'_, str>), i64> = BTreeMap::new();
    for line in &report.items {
        *found.entry((line.kind, state_of(line).1)).or_default() += 1;
    }
    let mut samples = String::new();
    for ((kind, state), count) in &found {
        COUNTS.sample(&[("kind", kind), ("state", state)], *count, &mut samples);
    }
    let mut samples: Vec<&str> = samples.lines().collect();
    samples.sort_unstable();
    let mut out = if found.is_empty() { String::new() } else { COUNTS.head() };
    samples.iter().for_each(|sample| out.extend([sample, "\n"]));
    out.push_str(&BACKUP.head());
    BACKUP.sample(&[], report.last_backup.map_or(0, |backup| backup.at.as_second()), &mut out);
    out.push_str(END);
    out
}

#[cfg(test)]
mod tests {
    use prometheus_client::encoding::text::encode;
    use prometheus_client::metrics::family::Family as OtherFamily;
    use prometheus_client::metrics::gauge::Gauge;
    use prometheus_client::registry::{Registry, Unit};

    use super::*;

    #[test]
    fn a_family_is_what_another_writer_of_the_format_makes_of_it() {
        let mut registry = Registry::with_prefix("ninekeys");
        let ends = OtherFamily::<Vec<(String, String)>, Gauge>::default();
        let about = ENDS.about.trim_end_matches('.');
        registry.register_with_unit("not_after_timestamp", about, Unit::Seconds, ends.clone());
        let odd = "a \"b\" \\ c\nd ü";
        let labels = [("name", odd), ("alias", "")];
        let owned = labels.map(|(label, text)| (label.to_owned(), text.to_owned()));
        ends.get_or_create(&owned.to_vec()).set(-7);
        let backup = Gauge::<i64>::default();
        let about = BACKUP.about.trim_end_matches('.');
        registry.register_with_unit("last_backup_timestamp", about, Unit::Seconds, backup);
        let mut other = String::new();
        encode(&mut other, &registry).unwrap();

        let mut own = ENDS.head();
        ENDS.sample(&labels, -7, &mut own);
        own.push_str(&BACKUP.head());
        BACKUP.sample(&[], 0, &mut own);
        own.push_str(END);
        assert_eq!(own, other);
    }
}
