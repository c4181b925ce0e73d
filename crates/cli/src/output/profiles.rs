//! Provisioning profiles: imported, exported.

use std::borrow::Cow;
use std::collections::BTreeMap;
use std::io;

use jiff::Timestamp;
use ninekeys_ops::identity::IdentitySaid;
use ninekeys_ops::identity::accept::Outcome;
use ninekeys_ops::profile::ProfileSaid;
use ninekeys_ops::profile::create::ProfileCreateReport;
use ninekeys_ops::profile::export::ProfileExportReport;
use ninekeys_ops::profile::import::{Imported, ProfileImportReport};

use super::line::{Line, Paper, Sign};
use super::{Report, words};

/// Where values stand behind labels.
const VALUE: usize = 18;
/// The most devices that are named.
const MOST_NAMED: usize = 5;

fn row<'a>(label: &'a str, value: impl Into<Cow<'a, str>>) -> Line<'a> {
    Line::new().dim(label).to(VALUE).text(value).hang(VALUE)
}

/// What a profile says.
fn body(said: &ProfileSaid, at: Timestamp, paper: &mut Paper<'_>) -> io::Result<()> {
    let titles: Vec<&str> = said.apps.iter().map(|app| app.title.as_str()).collect();
    let apps = if titles.is_empty() { "no app of the project file".into() } else { titles.join(", ") };
    paper.put(&row("  for", format!("{}, {apps}", said.destination.phrase())))?;
    paper.put(&row("  app id", format!("{}   team {}", said.app_id, said.team)))?;
    for (index, certificate) in said.certificates.iter().enumerate() {
        let label = if index == 0 { "  certificates" } else { "" };
        let short = words::short(&certificate.sha256);
        paper.put(&row(label, format!("{short}   {}", certificate.whose())))?;
    }
    if !said.devices.is_empty() {
        let name = |one: &ninekeys_ops::profile::AllowedDevice| {
            one.title.clone().unwrap_or_else(|| one.identifier.clone())
        };
        let mut names: Vec<String> = said.devices.iter().take(MOST_NAMED).map(name).collect();
        if said.devices.len() > MOST_NAMED {
            names.push(format!("{} more", said.devices.len() - MOST_NAMED));
        }
        let many = words::count(said.devices.len(), "device");
        paper.put(&row("  devices", format!("{many}: {}", names.join(", "))))?;
    }
    let line = Line::new().dim("  valid until").to(VALUE);
    let until = words::day_and_distance(at, said.not_after);
    if said.not_after < at {
        paper.put(&line.sign(Sign::Bad).text(format!(" {until}: it has ended")).hang(VALUE))
    } else {
        paper.put(&line.text(until).hang(VALUE))
    }
}

/// The same for one that is looked at, with all that it grants.
pub(super) fn shown(
    said: &ProfileSaid,
    entitlements: &BTreeMap<String, String>,
    at: Timestamp,
    paper: &mut Paper<'_>,
) -> io::Result<()> {
    paper.put(&row("  called", &said.title))?;
    paper.put(&row("  UUID", &said.uuid))?;
    body(said, at, paper)?;
    for (index, (key, value)) in entitlements.iter().enumerate() {
        paper.put(&row(if index == 0 { "  grants" } else { "" }, format!("{key}: {value}")))?;
    }
    Ok(())
}

impl Report for ProfileImportReport {
    const SCHEMA: &'static str = "ninekeys.profile-import/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        for (index, one) in self.imported.iter().enumerate() {
            if index > 0 {
                paper.blank()?;
            }
            imported(one, self, paper)?;
        }
        Ok(())
    }
}

fn imported(one: &Imported, report: &ProfileImportReport, paper: &mut Paper<'_>) -> io::Result<()> {
    let said = &one.profile;
    let what = match (&one.replaces, one.outcome) {
        (Some(older), _) => format!("takes the place of {older}, which is kept, retired"),
        (None, Outcome::Known) => "here already, nothing changed".into(),
        (None, _) => "new here".into(),
    };
    let head = Line::new().sign(Sign::Fine).text(" ").bold(&said.profile);
    paper.put(&head.text(format!("   {}, {what}", said.title)).hang(2))?;
    paper.blank()?;
    body(said, report.at, paper)?;
    let line = Line::new().dim("  signature").to(VALUE).hang(VALUE + 2);
    let line = match report.trusted {
        true => line.sign(Sign::Fine).text(format!(" holds, to {}, which the project names", one.root)),
        false => line.sign(Sign::Warn).text(format!(
            " holds, to {}; `roots` in the project file would say whether to trust it",
            one.root
        )),
    };
    paper.put(&line)?;
    if let ([app, ..], false) = (said.apps.as_slice(), said.not_after < report.at) {
        let to = said.destination.to_string();
        return paper
            .put(&Line::new().dim("  next").to(VALUE).command(&["check", "--app", &app.app, "--for", &to]));
    }
    Ok(())
}

impl Report for ProfileExportReport {
    const SCHEMA: &'static str = "ninekeys.profile-export/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let head = Line::new().sign(Sign::Fine).text(" ").bold(&self.file);
        let text = format!("   {} ({}), as it came in", self.profile.profile, self.profile.title);
        paper.put(&head.text(text).hang(2))
    }
}

impl Report for ProfileCreateReport {
    const SCHEMA: &'static str = "ninekeys.profile-create/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        for said in &self.profiles {
            let head = Line::new().sign(Sign::Fine).text(" ").bold(&said.profile);
            paper.put(&head.text(format!("   {}, made by the portal", said.title)).hang(2))?;
            paper.blank()?;
            body(said, self.at, paper)?;
            paper.blank()?;
        }
        let until = |said: &IdentitySaid| {
            said.certificate
                .as_ref()
                .map(|c| words::day_and_distance(self.at, c.not_after))
                .unwrap_or_default()
        };
        let why = match (self.chosen, self.passed_over.is_empty()) {
            (true, _) => "as you chose".to_owned(),
            (false, true) => "the only one that can sign for it".to_owned(),
            (false, false) => format!("it ends last, on {}", until(&self.identity)),
        };
        paper.put(&row("  identity", format!("{}: {why}", self.identity.identity)))?;
        for other in &self.passed_over {
            paper.put(&row("", format!("{} would do too, until {}", other.identity, until(other))))?;
        }
        let Some(first) = self.profiles.first() else { return Ok(()) };
        let Some(app) = first.apps.first() else { return Ok(()) };
        let to = first.destination.to_string();
        paper.put(&Line::new().dim("  next").to(VALUE).command(&["check", "--app", &app.app, "--for", &to]))
    }
}
