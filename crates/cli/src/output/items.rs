//! Items: the inventory, one item, the ledger.

use std::io;

use ninekeys_core::board::Mark;
use ninekeys_core::model::State;
use ninekeys_ops::build::releases::{Comparison, ReleasesCompareReport, ReleasesReport};
use ninekeys_ops::inventory::{InventoryReport, Line as Row};
use ninekeys_ops::show::ShowReport;

use super::line::{Line, Paper, Sign};
use super::{Report, words};

impl Report for InventoryReport {
    const SCHEMA: &'static str = "ninekeys.inventory/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        if self.items.is_empty() {
            paper.put(&Line::new().text("The cabinet is empty."))?;
            let next = ["keystore", "create", "NAME", "--app", "APP", "--common-name", "NAME"];
            return paper.put(&Line::new().dim("  next   ").command(&next));
        }
        let head = format!("{} in the cabinet", words::count(self.items.len(), "item"));
        paper.put(&Line::new().text(head))?;
        paper.blank()?;
        paper.table_of(2, &HEADS, &self.items, |row| item_row(self, row))?;
        if !self.backed_up {
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

/// What stands over the columns of the inventory.
const HEADS: [&str; 8] = ["name", "alias", "kind", "algorithm", "apps", "until", "certificate", "state"];

fn item_row(report: &InventoryReport, row: &Row) -> Vec<Line> {
    let state = match (row.state, row.mark) {
        (State::Retired, _) => "retired",
        (_, Mark::Expired) => "expired",
        (_, Mark::AtRisk) => "no copy",
        (_, Mark::Due) => "falls due",
        _ => "in use",
    };
    let until = row.not_after.map_or_else(String::new, |until| words::day_and_distance(report.at, until));
    let mark = if row.state == State::Retired { Sign::NotNeeded } else { Sign::from(row.mark) };
    vec![
        Line::new().sign(mark).text(" ").bold(&row.name),
        // a key that is called as its keystore needs no second name
        Line::new().dim(row.alias.as_deref().filter(|alias| *alias != row.name).unwrap_or("")),
        Line::new().text(row.kind),
        Line::new().text(row.algorithm.as_deref().unwrap_or("")),
        Line::new().text(row.apps.join(", ")),
        Line::new().text(until),
        Line::new().text(row.sha256.as_deref().map(words::short).unwrap_or_default()),
        Line::new().like(mark, state),
    ]
}

impl Report for ShowReport {
    const SCHEMA: &'static str = "ninekeys.show/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let row = |label: &str, value: &str| Line::new().dim(label).to(18).text(value).hang(18);
        let state = if self.state == State::Active { "in use" } else { "retired" };
        let sign = if self.state == State::Active { Sign::InUse } else { Sign::NotNeeded };
        let head = Line::new().sign(sign).text(" ").bold(&self.name);
        paper.put(&head.text(format!("   {}, {state}, generation {}", self.kind, self.generation)))?;
        for part in &self.parts {
            paper.blank()?;
            paper.put(&row("  alias", "").bold(&part.alias))?;
            if part.uses.is_empty() {
                let kind = part.role.nine_key().word();
                paper.put(&row("  for", &format!("no app yet; made as a {kind}")))?;
            }
            for (index, (role, apps)) in words::by_role(&part.uses).into_iter().enumerate() {
                let label = if index == 0 { "  for" } else { "" };
                paper.put(&row(label, &format!("{} ({})", apps.join(", "), role.nine_key().word())))?;
            }
            paper.put(&row("  key", &part.key.algorithm))?;
            if part.signs_nothing {
                let text = " kept and exported, but not signed with: it is too short, or of a kind that signs nothing";
                paper.put(&Line::new().to(18).sign(Sign::Warn).text(text).hang(20))?;
            }
            paper.put(&row("  subject", &part.certificate.subject))?;
            paper.put(&row("  serial", &part.serial))?;
            paper.put(&row("  begins", &words::day_and_distance(self.at, part.certificate.not_before)))?;
            paper.put(&row("  ends", &words::day_and_distance(self.at, part.certificate.not_after)))?;
            paper.put(&row("  certificate", &words::whole(&part.certificate.sha256)))?;
            paper.put(&row("  its SHA-1", &part.forms.sha1))?;
            let base64 = format!("SHA-1 {}, SHA-256 {}", part.forms.sha1_base64, part.forms.sha256_base64);
            paper.put(&row("  in Base64", &base64))?;
            paper.put(&row("  public key", &words::whole(&part.key.sha256)))?;
        }
        if self.parts.is_empty() {
            paper.blank()?;
            // kinds without a picture of their own show their facts as they are
            if let Ok(serde_json::Value::Object(facts)) = serde_json::to_value(&self.facts) {
                for (name, value) in facts.iter().filter(|(name, _)| name.as_str() != "kind") {
                    let value = value.as_str().map_or_else(|| value.to_string(), str::to_owned);
                    let label = format!("  {}", name.replace('_', " "));
                    paper.put(&row(&label, &value))?;
                }
            }
        }
        paper.blank()?;
        paper.put(&row("  made", &words::day_and_distance(self.at, self.created)))?;
        if !self.dependents.is_empty() {
            let names: Vec<String> =
                self.dependents.iter().map(|d| format!("{} ({})", d.name, d.kind)).collect();
            paper.put(&row("  used by", &names.join(", ")))?;
        }
        for (index, release) in self.releases.iter().take(10).enumerate() {
            paper.put(&row(if index == 0 { "  signed" } else { "" }, release))?;
        }
        if self.releases.len() > 10 {
            paper.put(&row("", &format!("and {} more: ninekeys releases", self.releases.len() - 10)))?;
        }
        if self.backed_up {
            return paper.put(&row("  copies", "in the last backup"));
        }
        let line = Line::new().dim("  copies").to(18).sign(Sign::Warn).text(" 1, in this cabinet   ");
        paper.put(&line.command(&["cabinet", "backup", "FOLDER"]).hang(18))
    }

    fn is_quiet(&self) -> bool {
        false
    }
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
        let row = |row: &ninekeys_ops::build::releases::Release| {
            let release = &row.facts;
            let file = Line::new().dim(&release.file);
            vec![
                Line::new().bold(&release.app).text(format!(" {} ({})", release.version, release.number)),
                Line::new().text(release.destination.to_string()),
                Line::new().text(format!("{} · {}", release.signed_with, release.schemes.join(", "))),
                Line::new().text(words::size(release.size)),
                Line::new().text(words::day_and_distance(self.at, release.signed)),
                if row.replaced { file.text("  replaced") } else { file },
            ]
        };
        let heads = ["release", "for", "signed with", "size", "when", "file"];
        paper.table_of(2, &heads, &self.releases, row)
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

/// A smaller change, in bytes, would be shown as none.
const SHOWN: u64 = 1 << 10;

fn compared(one: &Comparison, paper: &mut Paper<'_>) -> io::Result<()> {
    let (before, now) = (one.size_before, one.size);
    let Some(last) = &one.before else {
        let head = Line::new().bold(&one.file).text(format!("   {}", words::size(now)));
        return paper.put(&head.dim(format!("   the first of {} for {}", one.app, one.destination.phrase())));
    };
    let change = signed_size(before, now);
    let head = Line::new().bold(&one.file).text(format!("   {}, {change}", words::size(now)));
    paper.put(&head.dim(format!("   before: {last}, {}", words::size(before))).hang(2))?;
    if one.unknown {
        let text = "one of the two was signed by a version that did not write down what is in it";
        return paper.put(&Line::new().text("  ").sign(Sign::Warn).text(format!(" {text}")).hang(4));
    }
    paper.blank()?;
    let changed = || one.folders.iter().filter(|folder| folder.change() != 0);
    let rows: Vec<Vec<Line>> = changed()
        .filter(|folder| folder.change().unsigned_abs() >= SHOWN)
        .map(|folder| {
            let what = match (folder.before, folder.now) {
                (0, _) => "new".to_owned(),
                (_, 0) => "gone".to_owned(),
                (before, now) => format!("{} to {}", words::size(before), words::size(now)),
            };
            vec![
                Line::new().text(&folder.name),
                Line::new().text(signed_size(folder.before, folder.now)),
                Line::new().dim(what),
            ]
        })
        .collect();
    paper.table(2, &rows)?;
    let small = changed().count() - rows.len();
    match (rows.len(), small) {
        (0, 0) => paper.put(&Line::new().text("  what is in it has the same sizes")),
        (_, 0) => Ok(()),
        _ => paper.put(&Line::new().dim(format!("  and {small} with changes below 1 KiB"))),
    }
}

/// `+1.2 MiB`, `-0.003 MiB`
fn signed_size(before: u64, now: u64) -> String {
    let sign = if now < before { "-" } else { "+" };
    format!("{sign}{}", words::size(now.abs_diff(before)))
}
