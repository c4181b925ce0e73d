//! What is in place, and what is not, before there is a build.

use std::io;

use jiff::Timestamp;
use ninekeys_core::model::Destination;
use ninekeys_ops::answers::Verdict;
use ninekeys_ops::build::setup::{CheckSetupReport, PartSaid, SetupSaid};

use super::line::{Line, Paper, Sign};
use super::{Report, families, words};

impl Report for CheckSetupReport {
    const SCHEMA: &'static str = "ninekeys.check-setup/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let troubled: Vec<&SetupSaid> =
            self.setups.iter().filter(|one| !one.verdict.findings.is_empty()).collect();
        let cabinet = self.cabinet.as_ref().filter(|verdict| !verdict.findings.is_empty());
        if let ([only], None) = (self.setups.as_slice(), &self.cabinet) {
            return setup(only, self.at, paper);
        }
        for one in &troubled {
            setup(one, self.at, paper)?;
            paper.blank()?;
        }
        if let Some(verdict) = cabinet {
            paper.put(&families::headline(verdict, "The cabinet is kept well", "The cabinet is at risk"))?;
            paper.blank()?;
            families::print(verdict, |_| Vec::new(), paper)?;
            paper.blank()?;
        }
        summary(self, paper)
    }

    fn is_quiet(&self) -> bool {
        let fine = |verdict: &Verdict| verdict.findings.is_empty();
        self.setups.iter().all(|one| fine(&one.verdict)) && self.cabinet.as_ref().is_none_or(fine)
    }
}

/// One line for all of it.
fn summary(report: &CheckSetupReport, paper: &mut Paper<'_>) -> io::Result<()> {
    let verdicts = report.setups.iter().map(|one| &one.verdict).chain(&report.cabinet);
    let rules: usize = verdicts.map(|verdict| verdict.rules).sum();
    let ready = report.setups.iter().filter(|one| one.ready).count();
    let many = match report.setups.len() {
        1 => "1 app and destination".to_owned(),
        many => format!("{many} apps and destinations"),
    };
    let sign = if report.ready { Sign::Fine } else { Sign::Bad };
    let text = match (report.is_quiet(), report.setups.len()) {
        (true, 0) => " All is in place".to_owned(),
        (true, _) => format!(" All is in place   {many}"),
        (false, _) => format!(" {ready} of {many} ready"),
    };
    let rules = words::count(rules, "rule");
    paper.put(&Line::new().sign(sign).bold(text).text(format!("   {rules} looked at")))
}

/// `Crossing · ios · example.gannetpoint.crossing`
fn in_short(one: &SetupSaid) -> String {
    let id = one.parts.first().map(|part| part.bundle_id.as_str()).unwrap_or_default();
    format!("{} · {} · {id}", one.title, one.platform)
}

fn setup(one: &SetupSaid, at: Timestamp, paper: &mut Paper<'_>) -> io::Result<()> {
    let purpose = one.destination.phrase();
    let facts = in_short(one);
    if one.verdict.findings.is_empty() {
        let rules = words::count(one.verdict.rules, "rule");
        let head = Line::new().sign(Sign::Fine).text(" ").bold(format!("Ready for {purpose}"));
        paper.put(&head.text(format!("   {rules} looked at, all fine     ")).dim(facts).hang(2))?;
        let taken = identity_line(one, at).into_iter().chain(profile_lines(one, at));
        return taken.into_iter().try_for_each(|text| paper.put(&Line::new().text("  ").text(text).hang(4)));
    }
    let (ready, not_ready) = (format!("Ready for {purpose}"), format!("Not ready for {purpose}"));
    let head = families::headline(&one.verdict, &ready, &not_ready);
    paper.put(&head.to(60).dim(facts).hang(2))?;
    paper.blank()?;
    let fine = |family: &str| match family {
        "identity" => identity_line(one, at),
        "profile" => profile_lines(one, at),
        _ => Vec::new(),
    };
    families::print(&one.verdict, fine, paper)
}

/// The identity that would sign.
fn identity_line(one: &SetupSaid, at: Timestamp) -> Vec<String> {
    let Some(identity) = &one.identity else { return Vec::new() };
    let Some(certificate) = &identity.certificate else { return Vec::new() };
    let until = words::day_and_distance(at, certificate.not_after);
    let team = identity.team.as_deref().unwrap_or("no team");
    let which = format!("{} {}", identity.identity, words::short(&certificate.sha256));
    vec![format!("{which}  {} · {team} · until {until}", identity.kind.word())]
}

/// The profile of every part that has one.
fn profile_lines(one: &SetupSaid, at: Timestamp) -> Vec<String> {
    one.parts.iter().filter_map(|part| profile_line(part, one.destination, at)).collect()
}

fn profile_line(part: &PartSaid, to: Destination, at: Timestamp) -> Option<String> {
    let profile = part.profile.as_ref()?;
    let until = words::day_and_distance(at, profile.not_after);
    let of = part.extension.as_ref().map_or_else(String::new, |name| format!(" for {name}"));
    let devices = match to {
        Destination::Development | Destination::Devices => {
            format!(" · {}", words::count(profile.devices, "device"))
        }
        _ => String::new(),
    };
    Some(format!("{} ({}){of}{devices} · until {until}", profile.profile, profile.title))
}
