//! What a build command would be lent.

use std::io;

use ninekeys_core::model::key_called;
use ninekeys_ops::build::lend::{Holds, LendExplainReport, Setting};

use super::Report;
use super::line::{Line, Paper};

/// The blanks between a name and what it holds.
const GAP: usize = 3;

fn holds(what: Holds) -> &'static str {
    match what {
        Holds::Keystore => "the path of the keystore, a PKCS#12 file",
        Holds::Alias => "the key's alias",
        Holds::Password => "the keystore's password, good for this one loan",
        Holds::KeyPassword => "the key's password, which is the same",
    }
}

fn settings(all: &[Setting], at: usize, paper: &mut Paper<'_>) -> io::Result<()> {
    all.iter().try_for_each(|one| {
        paper.put(&Line::new().text("    ").bold(&one.name).to(at).text(holds(one.holds)).hang(at))
    })
}

impl Report for LendExplainReport {
    const SCHEMA: &'static str = "ninekeys.lend-explain/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let key = key_called(&self.keystore, &self.alias);
        let head = Line::new()
            .bold(&self.app)
            .text(format!(" for {}: {key} would be lent", self.destination.phrase()));
        paper.put(&head)?;
        paper.blank()?;
        let names = self.variables.iter().chain(&self.properties.fields).map(|one| one.name.chars().count());
        let at = 4 + names.max().unwrap_or(0) + GAP;
        paper.put(&Line::new().text("  As environment variables:"))?;
        settings(&self.variables, at, paper)?;
        paper.blank()?;
        let place = self.properties.file.as_ref().map_or_else(String::new, |file| format!(" {file},"));
        let when = if self.properties.always { "" } else { " (with --properties)" };
        let variable = &self.properties.variable;
        let what = format!("  As properties{when}, in the file{place} that {variable} names:");
        paper.put(&Line::new().text(what).hang(2))?;
        settings(&self.properties.fields, at, paper)?;
        paper.blank()?;
        let change = format!("Other names: [app.{}.lend] in the project file.", self.app);
        paper.put(&Line::new().text("  ").dim(change).hang(2))
    }

    fn is_quiet(&self) -> bool {
        false
    }
}
