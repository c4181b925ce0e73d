//! What was made: a cabinet.

use std::io;

use ninekeys_ops::init::InitReport;

use super::Report;
use super::line::{Line, Paper, Sign};

/// Where values stand behind labels.
const VALUE: usize = 16;

impl Report for InitReport {
    const SCHEMA: &'static str = "ninekeys.init/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let head = Line::new().sign(Sign::Fine).text(" ").bold(&self.cabinet);
        let what =
            if self.joined { "   was there, described by " } else { "   a new cabinet, described by " };
        paper.put(&head.text(what).bold(&self.project))?;
        paper.blank()?;
        let mut unlocked_by = Vec::new();
        unlocked_by.extend(self.passphrase.then(|| "the passphrase".to_owned()));
        unlocked_by.extend(self.unlock_file.as_ref().map(|file| format!("the file {file}")));
        paper.put(&Line::new().dim("  unlocked by").to(VALUE).text(unlocked_by.join(", or ")).hang(VALUE))?;
        if let Some(file) = &self.unlock_file {
            let text = format!("whoever has {file} needs no passphrase: keep it out of version control");
            paper.put(&Line::new().text("  ").sign(Sign::Warn).to(VALUE).text(text).hang(VALUE))?;
            if !self.passphrase {
                paper.put(&super::cabinet::no_passphrase())?;
            }
        }
        let next = ["app", "add", "NAME", "--package", "PACKAGE", "--for", "direct"];
        paper.put(&Line::new().dim("  next").to(VALUE).command(&next))
    }
}
