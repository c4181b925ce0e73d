//! Verdicts on builds: checked, signed, looked into.

use std::io;

use ninekeys_core::android::PackageKind;
use ninekeys_core::build::Form;
use ninekeys_core::findings::Level;
use ninekeys_core::model::{Destination, key_called};
use ninekeys_ops::build::check::{CheckReport, SignerLine};
use ninekeys_ops::build::sign::{BundleClaims, SignReport, SignedIos};
use schemars::JsonSchema;
use serde::Serialize;

use super::line::{Line, Paper, Sign};
use super::{Report, families, ios, words};

/// Where a build goes, and to which of several stores.
fn place(destination: Destination, store: Option<&str>) -> String {
    store.map_or_else(|| destination.phrase().to_owned(), |store| words::the_store(Some(store)))
}

impl Report for CheckReport {
    const SCHEMA: &'static str = "ninekeys.check/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let purpose = self
            .destination
            .map_or_else(String::new, |to| format!(" for {}", place(to, self.store.as_deref())));
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
        let fine = |family: &str| fine_line(self, family).into_iter().collect();
        match &self.ios {
            Some(lines) => ios::print_verdict(&self.verdict, lines, fine, paper)?,
            None => families::print(&self.verdict, fine, paper)?,
        }
        uncompared(self, paper)
    }

    fn is_quiet(&self) -> bool {
        self.verdict.findings.is_empty()
    }
}

/// A verdict with what is inside the build as a tree.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(transparent)]
pub(crate) struct WithTree<'a>(pub(crate) &'a CheckReport);

impl Report for WithTree<'_> {
    const SCHEMA: &'static str = CheckReport::SCHEMA;

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let WithTree(report) = self;
        report.text(paper)?;
        let Some(lines) = &report.ios else { return Ok(()) };
        paper.blank()?;
        ios::print_tree(lines, Some(&report.verdict), report.at, paper)
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
            if let Some(ios) = &report.ios {
                let mut all = ios
                    .bundles
                    .iter()
                    .map(|bundle| bundle.intact)
                    .chain(ios.libraries.iter().map(|one| one.holds));
                let executables = words::count(ios.executables, "executable");
                let files = words::count(ios.files, "file");
                let stamped = ios.bundles.first().and_then(|app| app.code.stamped.as_ref());
                let stamped =
                    stamped.map_or_else(String::new, |one| format!(" · stamped {}", words::day(one.at)));
                return all
                    .all(|one| one)
                    .then(|| format!("{executables}, {files}, every hash agrees{stamped}"));
            }
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
        "profile" => {
            let app = report.ios.as_ref()?.bundles.first()?;
            if report.verdict.family(family).any(|finding| finding.level == Level::Error) {
                return None;
            }
            let profile = app.profile.as_ref().filter(|profile| profile.fault.is_none())?;
            let name = profile.item.as_deref().or(profile.title.as_deref())?;
            let until = words::day_and_distance(report.at, profile.not_after?);
            let devices = profile
                .devices
                .map_or_else(String::new, |devices| format!(" · {}", words::count(devices, "device")));
            Some(format!("{name}  {}{devices} · until {until}", profile.destination?))
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

/// What came of one build.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(transparent)]
pub(crate) struct Single {
    /// The build.
    pub(crate) report: SignReport,
    /// Whether people want to know why each entitlement is claimed or left out.
    #[serde(skip)]
    pub(crate) explain: bool,
}

impl Report for Single {
    const SCHEMA: &'static str = "ninekeys.sign/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        signed(&self.report, self.explain, paper)?;
        let row = Line::new().dim("  next").to(16).hang(16);
        paper.put(&row.command(&[
            "check",
            &self.report.output,
            "--for",
            &self.report.destination.to_string(),
        ]))
    }
}

/// What was signed, with what, and what came of its check.
fn signed(report: &SignReport, explain: bool, paper: &mut Paper<'_>) -> io::Result<()> {
    let head = Line::new().sign(Sign::Fine).text(" ").bold(&report.output);
    paper.put(
        &head
            .text(format!(
                "   {}, for {}",
                words::size(report.size),
                place(report.destination, report.store.as_deref())
            ))
            .hang(2),
    )?;
    paper.blank()?;
    match &report.ios {
        Some(ios) => signed_ios(report, ios, explain, paper)?,
        None => signed_android(report, paper)?,
    }
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

fn row(label: &'static str) -> Line<'static> {
    Line::new().dim(label).to(16).hang(16)
}

fn signed_android(report: &SignReport, paper: &mut Paper<'_>) -> io::Result<()> {
    let signer = format!(
        "{}, certificate {}",
        key_called(
            report.keystore.as_deref().unwrap_or_default(),
            report.alias.as_deref().unwrap_or_default()
        ),
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
    paper.put(&row("  SHA-256").text(&report.sha256))
}

fn signed_ios(report: &SignReport, ios: &SignedIos, explain: bool, paper: &mut Paper<'_>) -> io::Result<()> {
    let until = words::day_and_distance(report.check.at, report.certificate.not_after);
    let identity = report.identity.as_deref().unwrap_or_default();
    let short = words::short(&report.certificate.sha256);
    let signer = format!(", certificate {short} · team {} · until {until}", ios.team);
    paper.put(&row("  signed with").bold(identity).text(signer))?;
    let width = ios.profiles.iter().map(|one| one.bundle_id.chars().count()).max().unwrap_or(0);
    for (index, profile) in ios.profiles.iter().enumerate() {
        let until = words::day_and_distance(report.check.at, profile.not_after);
        let line =
            row(if index == 0 { "  profile" } else { "" }).text(format!("{:width$}  ", profile.bundle_id));
        paper.put(&line.bold(&profile.profile).text(format!(" {:?} · until {until}", profile.title)))?;
    }
    for (index, other) in ios.passed_over.iter().enumerate().filter(|_| explain) {
        let label = if index == 0 { "  not taken" } else { "" };
        let of = other.bundle_id.as_ref().map_or_else(String::new, |id| format!(" for {id}"));
        let line = row(label).text(format!("{}{of}", other.name));
        paper.put(&line.dim(format!(" · {}", other.because)).hang(18))?;
    }
    for (index, bundle) in ios.claims.iter().enumerate() {
        claims(bundle, index == 0, explain, paper)?;
    }
    let code = words::count(ios.executables, "executable");
    let text = format!("{code}, {} sealed", words::count(ios.sealed, "file"));
    paper.put(&row("  signed").text(text))?;
    for out in &ios.left_out {
        let text = format!("for a simulator ({}), out of {}", out.processors, out.path);
        paper.put(&row("  left out").sign(Sign::Warn).text(" ").text(text))?;
    }
    if let Some(first) = ios.dropped.first() {
        let text = match ios.dropped.len() {
            1 => format!("{first}: a desktop system had left it there"),
            many => format!("{first} and {} more that a desktop system had left there", many - 1),
        };
        paper.put(&row("  dropped").sign(Sign::Warn).text(" ").text(text))?;
    }
    paper.put(&row("  SHA-256").text(&report.sha256))
}

/// What a bundle claims: in a line, or every entitlement with the reason.
fn claims(bundle: &BundleClaims, is_first: bool, explain: bool, paper: &mut Paper<'_>) -> io::Result<()> {
    let name = bundle.path.rsplit_once('/').map_or(bundle.path.as_str(), |(_, name)| name);
    let label = if is_first { "  claims" } else { "" };
    let (taken, left): (Vec<_>, Vec<_>) = bundle.entitlements.iter().partition(|claim| claim.claimed);
    if !explain {
        let left = match left.len() {
            0 => String::new(),
            many => format!(", {many} left out"),
        };
        let text = format!("{name}: {}{left}", words::count(taken.len(), "entitlement"));
        return paper.put(&row(label).text(text));
    }
    paper.put(&row(label).bold(name))?;
    for claim in taken {
        let value = claim.value.as_deref().unwrap_or_default();
        let line = Line::new().to(18).sign(Sign::Fine).text(format!(" {} = {value}", claim.key));
        paper.put(&line.dim(format!(" · {}", claim.because)).hang(20))?;
    }
    for claim in left {
        let line = Line::new().to(18).sign(Sign::NotNeeded).text(format!(" {}", claim.key));
        paper.put(&line.dim(format!(" · left out: {}", claim.because)).hang(20))?;
    }
    Ok(())
}

/// What came of several builds.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct Signed {
    /// In the order in which they were named.
    pub(crate) builds: Vec<SignReport>,
    /// Whether people want to know why each entitlement is claimed or left out.
    #[serde(skip)]
    pub(crate) explain: bool,
}

impl Report for Signed {
    const SCHEMA: &'static str = "ninekeys.signed/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        for (index, one) in self.builds.iter().enumerate() {
            if index > 0 {
                paper.blank()?;
            }
            signed(one, self.explain, paper)?;
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
