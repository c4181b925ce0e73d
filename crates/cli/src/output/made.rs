//! What was made: a cabinet, an app, a keystore.

use std::io;

use ninekeys_core::model::Role;
use ninekeys_ops::app_add::AppAddReport;
use ninekeys_ops::init::InitReport;
use ninekeys_ops::keystore_create::KeystoreCreateReport;

use super::line::{Line, Paper, Sign};
use super::{Report, words};

/// Where values stand behind labels.
const VALUE: usize = 16;

impl Report for InitReport {
    const SCHEMA: &'static str = "ninekeys.init/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let head = Line::new().sign(Sign::Fine).text(" ").bold(&self.cabinet);
        paper.put(&head.text("   a new cabinet, described by ").bold(&self.project))?;
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

impl Report for KeystoreCreateReport {
    const SCHEMA: &'static str = "ninekeys.keystore-create/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let until = format!("valid until {}", words::day_and_distance(self.now, self.not_after));
        let head = Line::new().sign(Sign::Fine).text(" ").bold(&self.name);
        let head = head.text(format!("   {}, {until}", self.algorithm));
        let fingerprint = words::short(&self.certificate_fingerprint);
        paper.put(&head.dim("   fingerprint ").text(fingerprint).hang(2))?;
        paper.blank()?;
        what_depends(self, paper)?;
        let row = |label: &str, value: &str| Line::new().dim(label).to(VALUE).text(value).hang(VALUE);
        paper.put(&row("  subject", &self.subject))?;
        paper.put(&row("  alias", &self.alias))?;
        let password = if self.generated_password {
            "made up and sealed in the cabinet"
        } else {
            "yours, sealed in the cabinet"
        };
        paper.put(&row("  password", password))?;
        if self.weak_password {
            let text = "it is easy to guess: leave the password options out, and a strong one is made up";
            paper.put(&Line::new().text("  ").sign(Sign::Warn).to(VALUE).text(text).hang(VALUE))?;
        }
        paper.put(&row("  copies", "1, in this cabinet; a backup is missing"))?;
        paper.put(&Line::new().dim("  next").to(VALUE).command(&["cabinet", "backup", "FOLDER"]))
    }
}

fn what_depends(report: &KeystoreCreateReport, paper: &mut Paper<'_>) -> io::Result<()> {
    let app = report.app.as_ref().map_or("the app it is used for", |(_, title)| title.as_str());
    let text = match (report.role, report.others.as_slice()) {
        (Role::Signing, []) => {
            format!(
                "Every update of {app} must be signed with this key. It cannot be replaced if it is lost."
            )
        }
        (Role::Signing, others) => format!(
            "{app} has a signing key already ({}). What was released with that one must be updated with it; \
             this one is for what was never released.",
            others.join(", ")
        ),
        (Role::Upload, _) => format!(
            "The store takes uploads of {app} that are signed with this key. If it is lost, the store can be \
             asked to take another."
        ),
    };
    paper.put(&Line::new().text("  ").text(text).hang(2))
}
