//! What was made: a cabinet, an app.

use std::io;

use ninekeys_ops::app::add::AppAddReport;
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
        }
        if self.weak_passphrase {
            let text = "the passphrase is easy to guess";
            let line = Line::new().text("  ").sign(Sign::Warn).to(VALUE).text(text).to(VALUE + 34);
            paper.put(&line.command(&["cabinet", "passphrase"]))?;
        }
        let next = ["app", "add", "NAME", "--package", "PACKAGE", "--for", "direct"];
        paper.put(&Line::new().dim("  next").to(VALUE).command(&next))
    }
}

impl Report for AppAddReport {
    const SCHEMA: &'static str = "ninekeys.app-add/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let head = Line::new().sign(Sign::Fine).text(" ").bold(&self.name).text("   ").text(&self.app.title);
        paper.put(&head.dim(format!("   written into {}", self.project)))?;
        let places = |all: &[ninekeys_core::model::Destination]| -> String {
            all.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
        };
        if let Some(android) = &self.app.android {
            let text = format!("{}   {}", android.package, places(&android.destinations));
            paper.put(&Line::new().dim("  android").to(VALUE).text(text).hang(VALUE))?;
        }
        if let Some(ios) = &self.app.ios {
            let text = format!("{}   {}", ios.bundle_id, places(&ios.destinations));
            paper.put(&Line::new().dim("  ios").to(VALUE).text(text).hang(VALUE))?;
        }
        if self.app.android.is_some() {
            let keystore = format!("{}-signing", self.name);
            let next = ["keystore", "create", &keystore, "--app", &self.name, "--common-name", "NAME"];
            paper.put(&Line::new().dim("  next").to(VALUE).command(&next))?;
        }
        Ok(())
    }
}
