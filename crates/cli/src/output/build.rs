//! Verdicts on builds: checked, signed, looked into.

use std::io;

use ninekeys_core::android::PackageKind;
use ninekeys_core::build::Form;
use ninekeys_core::model::key_called;
use ninekeys_ops::build::check::{CheckReport, SignerLine};
use ninekeys_ops::build::sign::SignReport;
use schemars::JsonSchema;
use serde::Serialize;

use super::line::{Line, Paper, Sign};
use super::{Report, families, words};

impl Report for CheckReport {
    const SCHEMA: &'static str = "ninekeys.check/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let purpose = self.destination.map_or_else(String::new, |d| format!(" for {}", d.phrase()));
        let facts = in_short(self);
        if self.verdict.findings.is_empty() {
            let rules = words::count(self.verdict.rules, "rule");
            let head = Line::new().sign(Sign::Fine).text(" ").bold(format!("Ready{purpose}"));
            paper.put(&head.text(format!("   {rules} looked at, all fine     ")).dim(facts).hang(2))?;
            return uncompared(self, paper);
        }
        let (ready, not_ready) = (format!("Ready{purpose}"), format!("Not ready{purpose}"));
        let head = families::headline(&self.verdict, &ready, &not_ready);
        paper.put(&head.to(60).dim(facts).hang(2))?;
        paper.blank()?;
        families::print(&self.verdict, |family| fine_line(self, family).into_iter().collect(), paper)?;
        uncompared(self, paper)
    }

    fn is_quiet(&self) -> bool {
        self.verdict.findings.is_empty()
    }
}

/// `Crossing 2.4.0 (12) · android · 84.1 MiB · crossing-2.4.0-12.apk`
fn in_short(report: &CheckReport) -> String {
    let mut parts = Vec::new();
    if let Some(says) = &report.says {
        let name = report.title.as_deref().unwrap_or(&says.id);
        let version = says.version.as_deref().unwrap_or("no version");
        let number = says.number.as_ref().map_or_else(String::new, |number| format!(" ({number})"));
        parts.push(format!("{name} {version}{number}"));
    }
    let platform = format!("{} {}", report.platform, report.form.word());
    parts.extend([platform, words::size(report.size), report.file.clone()]);
    parts.join(" · ")
}

/// What is good in a family, in a line; nothing when there is nothing good to say.
fn fine_line(report: &CheckReport, family: &str) -> Option<String> {
    match family {
        "identity" => {
            let signer = report.signers.first()?;
            let name = held_as(signer, "a key that is not in the cabinet");
            let until = words::day_and_distance(report.at, signer.certificate.not_after);
            let certificate = words::short(&signer.certificate.sha256);
            Some(format!("{name} {certificate}  {} · until {until}", signer.key.algorithm))
        }
        "signature" => {
            let verified: Vec<String> = report
                .android
                .iter()
                .flat_map(|android| &android.schemes)
                .filter(|s| s.verified)
                .map(|s| s.scheme.to_string())
                .collect();
            (!verified.is_empty())
                .then(|| format!("scheme {} verified, the content is as signed", verified.join(", ")))
        }
        "build" => {
            let last = &report.last_release.as_ref()?.number;
            let number = report.says.as_ref()?.number.as_ref()?;
            let word = report.platform.number_word();
            (number > last).then(|| format!("{word} {number} is above {last} (the last release)"))
        }
        _ => None,
    }
}

/// What a signer is called in the cabinet: the key alone, under another certificate, is not what the cabinet holds.
pub(super) fn held_as(signer: &SignerLine, otherwise: &str) -> String {
    match (&signer.item, &signer.same_key_as) {
        (Some(name), _) => name.clone(),
        (None, Some(name)) => format!("the key of {name} under another certificate"),
        (None, None) => otherwise.into(),
    }
}

fn uncompared(report: &CheckReport, paper: &mut Paper<'_>) -> io::Result<()> {
    for what in &report.not_compared {
        paper.put(&Line::new().dim(format!("  not compared: {what}")).hang(2))?;
    }
    Ok(())
}

impl Report for SignReport {
    const SCHEMA: &'static str = "ninekeys.sign/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        signed(self, paper)?;
        let row = Line::new().dim("  next").to(16).hang(16);
        paper.put(&row.command(&["check", &self.output, "--for", &self.destination.to_string()]))
    }
}

/// What was signed, with what, and what came of its check.
fn signed(report: &SignReport, paper: &mut Paper<'_>) -> io::Result<()> {
    let row = |label: &'static str| Line::new().dim(label).to(16).hang(16);
    let head = Line::new().sign(Sign::Fine).text(" ").bold(&report.output);
    paper.put(
        &head.text(format!("   {}, for {}", words::size(report.size), report.destination.phrase())).hang(2),
    )?;
    paper.blank()?;
    let signer = format!(
        "{}, certificate {}",
        key_called(&report.keystore, &report.alias),
        words::short(&report.certificate.sha256)
    );
    paper.put(&row("  signed with").text(signer))?;
    let moved = match report.realigned {
        _ if report.check.form == Form::Android(PackageKind::Bundle) => {
            "what devices get of it is signed by the store".to_owned()
        }
        0 => "every stored entry stood where it belongs".to_owned(),
        1 => "1 stored entry moved to where devices can map it".to_owned(),
        many => format!("{many} stored entries moved to where devices can map them"),
    };
    paper.put(&row("  scheme").text(format!("{} · {moved}", report.schemes.join(", "))))?;
    paper.put(&row("  SHA-256").text(&report.sha256))?;
    if let Some(idsig) = &report.idsig {
        paper.put(&row("  beside it").bold(idsig))?;
    }
    if report.was_signed {
        let text = "it was signed before; the old signature was dropped";
        paper.put(&row("  before").sign(Sign::Warn).text(" ").text(text))?;
    }
    let rules = format!("{} looked at", words::count(report.check.verdict.rules, "rule"));
    let fine = report.check.verdict.findings.is_empty();
    let text = if fine { format!("{rules}, all fine") } else { rules };
    paper.put(&row("  checked").sign(Sign::Fine).text(" ").text(text))?;
    for finding in &report.check.verdict.findings {
        let sign = Sign::from(finding.level);
        paper.put(&row("").sign(sign).text(" ").like(sign, finding.rule).text("  ").text(&finding.text))?;
    }
    Ok(())
}

/// What came of several builds.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct Signed {
    /// In the order in which they were named.
    pub(crate) builds: Vec<SignReport>,
}

impl Report for Signed {
    const SCHEMA: &'static str = "ninekeys.signed/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        for (index, one) in self.builds.iter().enumerate() {
            if index > 0 {
                paper.blank()?;
            }
            signed(one, paper)?;
        }
        paper.blank()?;
        // parts are checked together, as they were signed
        let mut next = vec!["check".to_owned()];
        next.extend(self.builds.iter().map(|one| one.output.clone()));
        if let Some(first) = self.builds.first()
            && self.builds.iter().all(|one| one.destination == first.destination)
        {
            next.extend(["--for".to_owned(), first.destination.to_string()]);
        }
        paper.put(&Line::new().dim("  next").to(16).command(&next).hang(16))
    }
}
