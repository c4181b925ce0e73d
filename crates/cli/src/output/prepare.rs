//! What was prepared, and the server that stands in for the portal.

use std::borrow::Cow;
use std::io;

use ninekeys_ops::prepare::{Does, PrepareReport, Step};
use ninekeys_ops::stand_in::StandInReport;

use super::Report;
use super::line::{Line, Paper, Sign};

/// Where values stand behind labels.
const VALUE: usize = 16;
/// The most devices that are told one by one.
const MOST_DEVICES: usize = 5;

fn row<'a>(label: &'a str, value: impl Into<Cow<'a, str>>) -> Line<'a> {
    Line::new().dim(label).to(VALUE).text(value).hang(VALUE)
}

impl Report for PrepareReport {
    const SCHEMA: &'static str = "ninekeys.prepare/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let purpose = format!("{} for {}", self.title, self.destination.phrase());
        let (sign, head) = match (self.dry_run, self.ready, &self.waits) {
            (_, true, _) => (Sign::Fine, format!(" Ready: {purpose}")),
            (true, false, _) => (Sign::Note, format!(" Would prepare {purpose}")),
            (false, false, Some(_)) => (Sign::Due, format!(" Half way: {purpose}")),
            (false, false, None) => (Sign::Bad, format!(" Not ready yet: {purpose}")),
        };
        paper.put(&Line::new().sign(sign).bold(head))?;
        if self.ready && self.steps.is_empty() {
            return paper.put(&row("", "nothing is missing, and nothing was changed"));
        }
        if !self.steps.is_empty() {
            paper.blank()?;
        }
        for (index, sentence) in sentences(&self.steps).iter().enumerate() {
            let label = match (index, self.dry_run) {
                (0, true) => "  would",
                (0, false) => "  did",
                _ => "",
            };
            paper.put(&row(label, sentence))?;
        }
        let by = match &self.portal {
            Some(address) => format!("through the portal at {address}"),
            None => "by files: no API key of the cabinet may ask a portal".into(),
        };
        paper.put(&row("  how", by))?;
        if let Some(waits) = &self.waits {
            paper.put(&row("  yours", &waits.what))?;
            paper.put(&Line::new().dim("  next").to(VALUE).command(&waits.next).hang(VALUE))?;
            return paper.put(&row("", "then call this again: it goes on from there"));
        }
        let to = self.destination.to_string();
        let words: &[&str] = match (self.dry_run, self.ready) {
            (true, false) => &["prepare", "--app", &self.app, "--for", &to],
            _ => &["check", "--app", &self.app, "--for", &to],
        };
        paper.put(&Line::new().dim("  next").to(VALUE).command(words))
    }

    fn is_quiet(&self) -> bool {
        self.ready
    }
}

/// What is done, in a line each; many devices are one line.
fn sentences(steps: &[Step]) -> Vec<String> {
    let devices = steps.iter().filter(|step| step.does == Does::RegisterDevice).count();
    let many = devices > MOST_DEVICES;
    let mut told = false;
    let lines = steps.iter().filter_map(|step| {
        if !many || step.does != Does::RegisterDevice {
            return Some(step.sentence());
        }
        (!std::mem::replace(&mut told, true)).then(|| format!("register {devices} devices"))
    });
    lines.collect()
}

impl Report for StandInReport {
    const SCHEMA: &'static str = "ninekeys.stand-in-serve/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let head = Line::new().sign(Sign::Fine).text(" ").bold(&self.address);
        paper.put(&head.text("   stands in for the portal, until it is stopped").hang(2))?;
        paper.blank()?;
        paper.put(&row("  issues to", format!("the team {}", self.team)))?;
        paper.put(&row("  state in", &self.folder))?;
        paper.put(&row("  its root", &self.root))?;
        if let Some(certificate) = &self.certificate {
            paper.put(&row("  sealed with", certificate))?;
        }
        if let Some(faults) = &self.faults {
            let text = format!("on purpose, in percent of the calls: {}", faults.replace(',', ", "));
            paper.put(&row("  faults", text))?;
        }
        if !self.known {
            let mut lines = vec![format!("portal = \"{}\"", self.address)];
            lines.extend(self.certificate.iter().map(|file| format!("portal-certificate = \"{file}\"")));
            lines.push(format!("roots = [\"{}\"]", self.root));
            let text = lines.join(", ");
            paper.put(&row("  project file", format!("{text} make it known")))?;
        }
        if let Some(first) = &self.first_key {
            let text = format!("{}, key id {}, issuer {}", first.file, first.key_id, first.issuer);
            paper.put(&row("  owner's key", text))?;
            if let Some(upload) = &self.upload_password {
                let text = format!("{}, account {}, called {}", upload.file, upload.account, upload.label);
                paper.put(&row("  or to upload", text))?;
            }
            let words = [
                "apikey",
                "import",
                &first.file,
                "--name",
                "portal",
                "--key-id",
                &first.key_id,
                "--issuer",
                &first.issuer,
                "--role",
                "owner",
                "--use",
                "signing",
            ];
            return paper.put(&Line::new().dim("  next").to(VALUE).command(&words).hang(VALUE));
        }
        Ok(())
    }

    fn is_quiet(&self) -> bool {
        false
    }
}
