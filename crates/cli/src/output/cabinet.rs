//! The cabinet itself: status, history, copies.

use std::io;

use jiff::Timestamp;
use ninekeys_cabinet::{HistoryRow, MemberKind};
use ninekeys_ops::backup::BackupReport;
use ninekeys_ops::passphrase::PassphraseReport;
use ninekeys_ops::restore::RestoreReport;
use ninekeys_ops::status::StatusReport;
use serde::Serialize;

use super::line::{Line, Paper, Sign};
use super::{Report, words};

const VALUE: usize = 16;

impl Report for StatusReport {
    const SCHEMA: &'static str = "ninekeys.cabinet-status/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let fine = self.verdict.findings.is_empty();
        let sign = if fine { Sign::Fine } else { Sign::Warn };
        let head = Line::new().sign(sign).text(" ").bold(&self.path);
        paper.put(&head.text(format!(
            "   {}, {}",
            words::count(self.keys, "key"),
            words::count(self.items, "record")
        )))?;
        paper.blank()?;
        let row = |label: &str| Line::new().dim(label).to(VALUE).hang(VALUE);
        for (index, member) in self.members.iter().enumerate() {
            let label = if index == 0 { "  unlocked by" } else { "" };
            let kind = match member.kind {
                MemberKind::Passphrase => "a passphrase".to_owned(),
                MemberKind::Recipient => {
                    let key: String = member.recipient.iter().flat_map(|r| r.chars().take(12)).collect();
                    format!("an unlock file, {key}…")
                }
            };
            paper.put(&row(label).bold(&member.label).text(format!("   {kind}")))?;
        }
        let proof = if self.proved { "every seal opened" } else { "seals not opened: add --prove" };
        let chain = format!("{}, unbroken · {proof}", words::count(self.history, "change"));
        paper.put(&row("  history").text(chain))?;
        if let Some(newest) = &self.newest {
            paper.put(&row("").dim(format!("last: {} by {}", newest.body.what, newest.body.by)))?;
        }
        let backup = match &self.last_backup {
            Some((at, place)) => {
                let when = at.parse::<Timestamp>().map(|at| words::day_and_distance(self.at, at));
                format!("{place}, {}", when.unwrap_or_else(|_| at.clone()))
            }
            None => "none".into(),
        };
        paper.put(&row("  backup").text(backup))?;
        let mut findings = self.verdict.findings.iter().peekable();
        while let Some(finding) = findings.next() {
            let sign = Sign::from(finding.level);
            paper
                .put(&row("").sign(sign).text(" ").like(sign, finding.rule).text("  ").text(&finding.text))?;
            // what one command mends is mended by it once
            let next = findings.peek().and_then(|next| next.mend.as_ref());
            if let Some(mend) = finding.mend.as_ref().filter(|mend| next != Some(*mend)) {
                paper.put(&row("  mend").command(mend))?;
            }
        }
        Ok(())
    }

    fn is_quiet(&self) -> bool {
        self.verdict.findings.is_empty()
    }
}

impl Report for PassphraseReport {
    const SCHEMA: &'static str = "ninekeys.cabinet-passphrase/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let what = if self.replaced {
            "has a new passphrase; the old one opens nothing now"
        } else {
            "is a new member"
        };
        paper.put(
            &Line::new().sign(Sign::Fine).text(" ").bold(&self.member).text(format!(" {what}")).hang(2),
        )?;
        paper.put(&Line::new().dim("  copies made before still open with the old one").hang(2))?;
        if self.weak {
            let line = Line::new().text("  ").sign(Sign::Warn).text(" the new one is easy to guess   ");
            paper.put(&line.command(&["cabinet", "passphrase"]))?;
        }
        Ok(())
    }
}

impl Report for BackupReport {
    const SCHEMA: &'static str = "ninekeys.cabinet-backup/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        for copy in &self.copies {
            let head = Line::new().sign(Sign::Fine).text(" ").bold(copy);
            let text = format!("   {}, read back and opened", words::count(self.items, "record"));
            paper.put(&head.text(text).hang(2))?;
        }
        if self.same_disk {
            let line = Line::new().text("  ").sign(Sign::Warn);
            paper.put(
                &line
                    .text(" a copy is on the same disk as the cabinet; when that disk goes, both go")
                    .hang(4),
            )?;
        }
        let first = self.copies.first().map_or("COPY", String::as_str);
        paper.put(&Line::new().dim("  to bring it back").text("   ").command(&["cabinet", "restore", first]))
    }
}

impl Report for RestoreReport {
    const SCHEMA: &'static str = "ninekeys.cabinet-restore/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let counts =
            format!("{}, {}", words::count(self.items, "record"), words::count(self.history, "change"));
        let head = Line::new().sign(Sign::Fine).text(" ").bold(&self.to);
        paper.put(&head.text(format!("   restored from {}: {counts}, every seal opened", self.from)).hang(2))
    }
}

/// The history of the cabinet.
#[derive(Debug, Serialize)]
pub(crate) struct HistoryReport {
    pub(crate) rows: Vec<HistoryRow>,
}

impl Report for HistoryReport {
    const SCHEMA: &'static str = "ninekeys.cabinet-history/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        paper.put(&Line::new().text(format!("{}, unbroken", words::count(self.rows.len(), "change"))))?;
        paper.blank()?;
        let row = |row: &HistoryRow| {
            let at = row.body.at.replace('T', " ").replace('Z', "");
            vec![
                Line::new().dim(row.seq.to_string()),
                Line::new().dim(at),
                Line::new().text(&row.body.what),
                Line::new().dim(format!("by {}", row.body.by)),
            ]
        };
        let rows: Vec<Vec<Line>> = self.rows.iter().map(row).collect();
        paper.table(2, &rows)
    }

    fn is_quiet(&self) -> bool {
        false
    }
}
