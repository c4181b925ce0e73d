//! Loose and leaked material.

use std::io;

use ninekeys_core::findings::Level;
use ninekeys_ops::sweep::{BroughtBackReport, Found, SweepReport, What};

use super::items::name_in;
use super::line::{Line, Paper, Sign};
use super::{Report, words};

impl Report for SweepReport {
    const SCHEMA: &'static str = "ninekeys.sweep/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let leaks = self.found.iter().filter(|one| one.level == Level::Error).count();
        let files = words::count(self.files, "file");
        let (sign, head) = match leaks {
            0 => (Sign::Fine, " Nothing secret lies open".to_owned()),
            1 => (Sign::Bad, " 1 secret where it should not be".to_owned()),
            some => (Sign::Bad, format!(" {some} secrets where they should not be")),
        };
        let mut looked = format!("   {files}");
        if self.repositories > 0 {
            looked = format!(
                "{looked}, the history of {}",
                words::count(self.repositories, "repository").replace("ys", "ies")
            );
        }
        if self.unreadable > 0 {
            looked = format!("{looked}; {} could not be read", self.unreadable);
        }
        paper.put(&Line::new().sign(sign).bold(head).text(looked).hang(2))?;
        if self.found.is_empty() {
            return ending(self, paper);
        }
        paper.blank()?;
        paper.table_of(2, &["where", "what", "of", "in the cabinet", "why"], &self.found, |one| {
            row(self, one)
        })?;
        ending(self, paper)
    }

    fn is_quiet(&self) -> bool {
        !self.leaks()
    }
}

/// The same key under several names, and what was moved.
fn ending(report: &SweepReport, paper: &mut Paper<'_>) -> io::Result<()> {
    taken_in(report, paper)?;
    for alike in &report.alike {
        paper.blank()?;
        paper.put(
            &Line::new().text("  ").sign(Sign::Warn).text(format!(" one key: {}", alike.join(", "))).hang(4),
        )?;
    }
    if let Some(list) = &report.list {
        paper.blank()?;
        let count = words::count(report.moved.len(), "file");
        let line = Line::new()
            .text("  ")
            .sign(Sign::Note)
            .text(format!(" {count} set aside; to bring them back   "));
        paper.put(&line.command(&["sweep", "--bring-back", list]).hang(4))?;
    }
    Ok(())
}

/// What is in the cabinet now, and what could not be taken in, with the command that can.
fn taken_in(report: &SweepReport, paper: &mut Paper<'_>) -> io::Result<()> {
    if !report.taken_in.is_empty() {
        paper.blank()?;
    }
    for own in &report.taken_in {
        let done = if own.known { "was in the cabinet, as" } else { "taken in as" };
        let by = own.opened_by.as_ref().map(|place| format!(", opened by the password in {place}"));
        let line = Line::new().text("  ").sign(Sign::Fine).text(format!(" {} {done} ", own.path));
        paper.put(&line.bold(own.items.join(", ")).text(by.unwrap_or_default()).hang(4))?;
    }
    if !report.not_taken.is_empty() {
        paper.blank()?;
    }
    for own in &report.not_taken {
        let text = format!(" {} stays out: {}   ", own.path, own.because);
        let line = Line::new().text("  ").sign(Sign::Warn).text(text);
        let path = own.path.as_str();
        let line = match own.what {
            What::PrivateKey => line
                .command(&["apikey", "import", path, "--name", "NAME", "--key-id", "ID", "--issuer", "ID"]),
            What::ServiceKey => line.command(&["apikey", "import", path, "--name", "NAME"]),
            What::Profile => line.command(&["inspect", path]),
            What::Keystore if own.identity => line.command(&["identity", "import", path, "--app", "APP"]),
            What::Keystore => line.command(&["keystore", "import", path, "--password-in", "FILE"]),
            What::EncryptedKey
            | What::Certificate
            | What::Password
            | What::UnlockFile
            | What::RecoveryPiece => line.command(&["inspect", path]),
        };
        paper.put(&line.hang(4))?;
    }
    Ok(())
}

impl Report for BroughtBackReport {
    const SCHEMA: &'static str = "ninekeys.sweep-bring-back/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let count = words::count(self.back.len(), "file");
        let was = if self.back.len() == 1 { "it was" } else { "they were" };
        paper.put(&Line::new().sign(Sign::Fine).text(format!(" {count} where {was} before")))?;
        for left in &self.left {
            let text = format!(" {} stays aside: something else has its name now", left.from);
            paper.put(&Line::new().text("  ").sign(Sign::Warn).text(text).hang(4))?;
        }
        Ok(())
    }
}

fn row<'a>(report: &SweepReport, one: &'a Found) -> [Line<'a>; 5] {
    let sign = match one.level {
        Level::Error => Sign::Bad,
        Level::Warning => Sign::Warn,
        Level::Note => Sign::Note,
    };
    let place = match (one.line, &one.commit) {
        (Some(line), None) => format!("{}:{line}", one.path),
        (_, Some(commit)) => format!("{} in {commit}", one.path),
        _ => one.path.clone(),
    };
    let mut why = Vec::new();
    if one.commit.is_some() {
        why.push("in the history");
    }
    if one.open_to_others && one.level == Level::Error {
        why.push("others can read it");
    }
    if one.not_after.is_some_and(|end| end < report.at) {
        why.push("ended");
    }
    [
        Line::new().sign(sign).text(" ").bold(place),
        Line::new().like(sign, one.what.word()),
        Line::new().text(one.subject.as_deref().map(name_in).unwrap_or_default()),
        Line::new()
            .text(one.item.as_deref().unwrap_or(""))
            .like(Sign::Warn, if one.backed_up == Some(false) { " (no backup)" } else { "" }),
        Line::new().dim(why.join(", ")),
    ]
}
