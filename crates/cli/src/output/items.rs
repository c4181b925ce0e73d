//! Items: the inventory, one item, the ledger.

use std::borrow::Cow;
use std::io;

use ninekeys_core::board::Mark;
use ninekeys_core::model::{ReleaseFacts, State, Wholeness};
use ninekeys_ops::build::releases::{Comparison, Release, ReleasesCompareReport, ReleasesReport};
use ninekeys_ops::inventory::{Group, InventoryReport, Line as Row};

use super::line::{Heads, Line, Paper, Pen, Sign};
use super::{Report, difference, words};

impl Report for InventoryReport<'_> {
    const SCHEMA: &'static str = "ninekeys.inventory/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        if self.items.is_empty() && self.total > 0 {
            let all = words::count(self.total, "item");
            return paper.put(&Line::new().text(format!("Nothing in the cabinet is like that, of {all}.")));
        }
        if self.items.is_empty() {
            paper.put(&Line::new().text("The cabinet is empty."))?;
            let next = ["keystore", "create", "NAME", "--app", "APP", "--common-name", "NAME"];
            return paper.put(&Line::new().dim("  next   ").command(&next));
        }
        let head = match self.items.len() == self.total {
            true => format!("{} in the cabinet", words::count(self.total, "item")),
            false => format!("{} of {} in the cabinet", self.items.len(), words::count(self.total, "item")),
        };
        paper.put(&Line::new().text(head))?;
        paper.blank()?;
        let left_out = match self.group {
            None => paper.tables_of(2, HEADS, &[(None, &self.items)], |row, pen| item_row(self, row, pen))?,
            Some(group) => groups(self, group, paper)?,
        };
        if !left_out.is_empty() {
            paper.blank()?;
            let what =
                format!("  no room for {}; --format csv and show NAME have it all", left_out.join(", "));
            paper.put(&Line::new().dim(what).hang(4))?;
        }
        if self.items.iter().any(|row| row.mark == Mark::AtRisk) {
            paper.blank()?;
            let line =
                Line::new().text("  ").sign(Sign::Warn).text(" keys marked `no copy` exist only here   ");
            paper.put(&line.command(&["cabinet", "backup", "FOLDER"]).hang(4))?;
        }
        Ok(())
    }

    fn is_quiet(&self) -> bool {
        false
    }
}

/// What stands over the columns of the inventory. What names, states and ends tell too goes first where there is no room.
const HEADS: Heads<'_> = Heads {
    all: &[
        "name",
        "alias",
        "kind",
        "apps",
        "subject or key id",
        "algorithm",
        "until",
        "fingerprint",
        "serial",
        "used by",
        "state",
    ],
    spare: &["serial", "algorithm", "fingerprint", "subject or key id", "alias", "used by"],
};

/// What a line's group is called.
fn group_of<'a>(row: &Row<'a>, group: Group) -> Cow<'a, str> {
    match (group, row.apps.as_slice()) {
        (Group::App, [one]) => (*one).into(),
        (Group::App, []) => "every app".into(),
        (Group::App, _) => "several apps".into(),
        (Group::Kind, _) => row.kind.into(),
        (Group::Mark, _) => state_of(row).1,
    }
}

fn groups<'a>(
    report: &'a InventoryReport<'a>,
    group: Group,
    paper: &mut Paper<'_>,
) -> io::Result<Vec<&'static str>> {
    let same = |one: &Row<'_>, other: &Row<'_>| group_of(one, group) == group_of(other, group);
    let titled = |rows: &'a [Row<'a>]| {
        let name = rows.first().map(|row| group_of(row, group)).unwrap_or_default();
        let count = format!("   {}", words::count(rows.len(), "item"));
        (Some(Line::new().text("  ").bold(name).dim(count)), rows)
    };
    let groups: Vec<_> = report.items.chunk_by(same).map(titled).collect();
    paper.tables_of(2, HEADS, &groups, |row, pen| item_row(report, row, pen))
}

/// What a name in a subject may be followed by.
const ATTRIBUTES: [&str; 6] = ["OU=", "O=", "L=", "ST=", "C=", "UID="];

/// The name in a certificate's subject: the rest of it says the same of all that look alike.
pub(super) fn name_in(subject: &str) -> &str {
    let begins = subject.strip_prefix("CN=").or_else(|| subject.split_once(",CN=").map(|(_, behind)| behind));
    let name = begins.unwrap_or(subject);
    let is_end = |at: &usize| {
        let behind = name.get(at + 1..).unwrap_or_default();
        ATTRIBUTES.iter().any(|attribute| behind.starts_with(attribute))
    };
    let commas = || name.bytes().enumerate().filter(|(_, byte)| *byte == b',').map(|(at, _)| at);
    let end = begins.is_some().then(|| commas().find(is_end)).flatten();
    end.and_then(|end| name.get(..end)).unwrap_or(name)
}

/// The most letters of a subject in a table; all of it is in the other formats, and in `show`.
const LONGEST_SUBJECT: usize = 28;

/// The same as far as a table has room.
fn short_name(subject: &str) -> Cow<'_, str> {
    let name = name_in(subject);
    match name.chars().count() > LONGEST_SUBJECT {
        true => name.chars().take(LONGEST_SUBJECT - 1).chain(['…']).collect::<String>().into(),
        false => name.into(),
    }
}

/// How an item stands: its mark and its word.
pub(super) fn state_of(row: &Row<'_>) -> (Sign, Cow<'static, str>) {
    let state = match (row.state, row.mark) {
        (_, _) if row.revoked.is_some() => "revoked",
        (State::Retired, _) => "retired",
        (_, Mark::Expired) => "expired",
        (_, Mark::AtRisk) => "no copy",
        (_, Mark::Due) => "falls due",
        // what nothing names and nothing was signed with waits to be used
        _ if row.is_idle() => "ready",
        _ => "in use",
    };
    match (row.wholeness, row.held_by, row.state, row.mark) {
        (_, _, State::Retired, _) => (Sign::NotNeeded, state.into()),
        // an end that has come matters more than where the key is
        (_, _, _, Mark::Expired) | (None | Some(Wholeness::Whole), ..) => {
            (Sign::from(row.mark), state.into())
        }
        (Some(Wholeness::Waiting), None, ..) => (Sign::Missing, "asked for".into()),
        (Some(Wholeness::WithoutKey), ..) => (Sign::Warn, "without key".into()),
        (Some(_), Some(holder), ..) => (Sign::Note, format!("key held by {holder}").into()),
        (Some(_), None, ..) => (Sign::Note, state.into()),
    }
}

fn item_row(report: &InventoryReport<'_>, row: &Row<'_>, pen: &mut Pen<'_, '_>) {
    let (mark, state) = state_of(row);
    pen.cell().sign(mark).text(" ").bold(row.name);
    // a key that is called as its keystore needs no second name
    pen.cell().dim(row.alias.filter(|alias| *alias != row.name).unwrap_or_default());
    pen.cell().text(if report.group == Some(Group::Kind) { "" } else { row.kind });
    pen.cell();
    for (index, app) in row.apps.iter().enumerate().filter(|_| report.group != Some(Group::App)) {
        pen.text(if index > 0 { ", " } else { "" }).text(app);
    }
    pen.cell().dim(&row.subject.map(short_name).unwrap_or_default());
    pen.cell().text(row.algorithm.unwrap_or_default());
    pen.cell();
    if let Some(until) = row.not_after {
        pen.made(|out| words::push_day_and_distance(out, report.at, until));
    }
    for digits in [row.sha256, row.serial] {
        pen.cell();
        if let Some(digits) = digits {
            pen.made(|out| words::push_short(out, digits));
        }
    }
    used_by(row, pen.cell());
    pen.cell().like(mark, &state);
}

/// `2 profiles, 1 build`
fn used_by(row: &Row<'_>, pen: &mut Pen<'_, '_>) {
    if row.profiles > 0 {
        pen.made(|out| words::push_count(out, row.profiles, "profile"));
    }
    if row.profiles > 0 && row.releases > 0 {
        pen.text(", ");
    }
    if row.releases > 0 {
        pen.made(|out| words::push_count(out, row.releases, "build"));
    }
}

/// Where a build was meant to go, and how far it went.
fn gone(release: &ReleaseFacts) -> String {
    let steps = [
        (release.everyone, "everyone"),
        (release.testing, "testing"),
        (release.uploaded, "uploaded"),
        (release.handed_on, "handed on"),
    ];
    let place = release.store.clone().unwrap_or_else(|| release.destination.to_string());
    match steps.into_iter().find(|(at, _)| at.is_some()) {
        Some((_, step)) => format!("{place} · {step}"),
        None => place,
    }
}

fn release_row<'a>(report: &ReleasesReport, row: &'a Release) -> [Line<'a>; 6] {
    let release = &row.facts;
    let file = Line::new().dim(&release.file);
    let signed_with = match release.schemes.as_slice() {
        [] => release.signed_with.clone(),
        schemes => format!("{} · {}", release.signed_with, schemes.join(", ")),
    };
    [
        Line::new().bold(&release.app).text(format!(" {} ({})", release.version, release.number)),
        Line::new().text(gone(release)),
        Line::new().text(signed_with),
        Line::new().text(words::size(release.size)),
        Line::new().text(words::day_and_distance(report.at, release.signed)),
        if row.replaced { file.text("  replaced") } else { file },
    ]
}

impl Report for ReleasesReport {
    const SCHEMA: &'static str = "ninekeys.releases/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        if self.releases.is_empty() {
            paper.put(&Line::new().text("Nothing was signed yet."))?;
            return paper.put(&Line::new().dim("  next   ").command(&["sign", "BUILD"]));
        }
        paper.put(
            &Line::new().text(format!("{}, newest first", words::count(self.releases.len(), "release"))),
        )?;
        paper.blank()?;
        let heads = ["release", "for", "signed with", "size", "when", "file"];
        paper.table_of(2, &heads, &self.releases, |row| release_row(self, row))
    }

    fn is_quiet(&self) -> bool {
        false
    }
}

impl Report for ReleasesCompareReport {
    const SCHEMA: &'static str = "ninekeys.releases-compare/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        if self.comparisons.is_empty() {
            paper.put(&Line::new().text("Nothing was signed yet."))?;
            return paper.put(&Line::new().dim("  next   ").command(&["sign", "BUILD"]));
        }
        for (index, one) in self.comparisons.iter().enumerate() {
            if index > 0 {
                paper.blank()?;
            }
            compared(one, paper)?;
        }
        Ok(())
    }

    fn is_quiet(&self) -> bool {
        false
    }
}

fn compared(one: &Comparison, paper: &mut Paper<'_>) -> io::Result<()> {
    let (before, now) = (one.difference.size_before, one.difference.size);
    let Some(last) = &one.before else {
        let head = Line::new().bold(&one.file).text(format!("   {}", words::size(now)));
        return paper.put(&head.dim(format!("   the first of {} for {}", one.app, one.destination.phrase())));
    };
    let change = difference::signed_size(before, now);
    let head = Line::new().bold(&one.file).text(format!("   {}, {change}", words::size(now)));
    paper.put(&head.dim(format!("   before: {last}, {}", words::size(before))).hang(2))?;
    if one.unknown {
        let text = "one of the two was signed by a version that did not write down what is in it";
        return paper.put(&Line::new().text("  ").sign(Sign::Warn).text(format!(" {text}")).hang(4));
    }
    paper.blank()?;
    difference::put(&one.difference, paper)
}
