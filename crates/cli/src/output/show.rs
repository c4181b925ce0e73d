//! One item, with all that hangs on it.

use std::borrow::Cow;
use std::io;

use jiff::Timestamp;
use ninekeys_core::links::Need;
use ninekeys_core::model::State;
use ninekeys_ops::show::{KeyDoes, Part, ShowReport, Shown};

use super::line::{Line, Paper, Sign};
use super::{Report, identities, profiles, words};

/// Where values stand behind labels.
const VALUE: usize = 18;
/// The most builds that are named.
const MOST_BUILDS: usize = 10;
/// The most places in which something stops.
const MOST_STOPS: usize = 12;

fn row<'a>(label: &'a str, value: impl Into<Cow<'a, str>>) -> Line<'a> {
    Line::new().dim(label).to(VALUE).text(value).hang(VALUE)
}

impl Report for ShowReport {
    const SCHEMA: &'static str = "ninekeys.show/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let state = if self.state == State::Active { "in use" } else { "retired" };
        let sign = if self.state == State::Active { Sign::InUse } else { Sign::NotNeeded };
        let head = Line::new().sign(sign).text(" ").bold(&self.name);
        paper.put(&head.text(format!("   {}, {state}, generation {}", self.kind, self.generation)))?;
        for part in &self.parts {
            paper.blank()?;
            key(part, self.at, paper)?;
        }
        if self.parts.is_empty() {
            paper.blank()?;
            match &self.ios {
                Some(shown) => ios(shown, self.at, paper)?,
                None => facts(self, paper)?,
            }
        }
        paper.blank()?;
        paper.put(&row("  made", words::day_and_distance(self.at, self.created)))?;
        around(self, paper)
    }

    fn is_quiet(&self) -> bool {
        false
    }
}

/// A key in a keystore.
fn key(part: &Part, at: Timestamp, paper: &mut Paper<'_>) -> io::Result<()> {
    paper.put(&row("  alias", "").bold(&part.alias))?;
    if part.uses.is_empty() {
        let kind = part.role.nine_key().word();
        paper.put(&row("  for", format!("no app yet; made as a {kind}")))?;
    }
    for (index, (role, apps)) in words::by_role(&part.uses).into_iter().enumerate() {
        let label = if index == 0 { "  for" } else { "" };
        paper.put(&row(label, format!("{} ({})", apps.join(", "), role.nine_key().word())))?;
    }
    for one in &part.at_store {
        let store = words::the_store(one.store.as_deref());
        let does = match one.does {
            KeyDoes::Signs => format!("{store} signs with it what devices get"),
            KeyDoes::Uploads => format!("{store} takes builds that are signed with it"),
            KeyDoes::UploadsFrom(from) => {
                format!("{store} takes builds with it from {} on", words::moment(from))
            }
        };
        paper.put(&row("  at the store", format!("{}: {does}", one.app)))?;
    }
    paper.put(&row("  key", &part.key.algorithm))?;
    if part.signs_nothing {
        let text =
            " kept and exported, but not signed with: it is too short, or of a kind that signs nothing";
        paper.put(&Line::new().to(VALUE).sign(Sign::Warn).text(text).hang(VALUE + 2))?;
    }
    paper.put(&row("  subject", &part.certificate.subject))?;
    paper.put(&row("  serial", &part.serial))?;
    paper.put(&row("  begins", words::day_and_distance(at, part.certificate.not_before)))?;
    paper.put(&row("  ends", words::day_and_distance(at, part.certificate.not_after)))?;
    paper.put(&row("  certificate", words::whole(&part.certificate.sha256)))?;
    paper.put(&row("  its SHA-1", &part.forms.sha1))?;
    let base64 = format!("SHA-1 {}, SHA-256 {}", part.forms.sha1_base64, part.forms.sha256_base64);
    paper.put(&row("  in Base64", base64))?;
    paper.put(&row("  public key", words::whole(&part.key.sha256)))
}

/// What only the iOS side has.
fn ios(shown: &Shown, at: Timestamp, paper: &mut Paper<'_>) -> io::Result<()> {
    match shown {
        Shown::Identity { identity, chain, forms, profiles } => {
            identities::shown(identity, chain.as_ref(), at, paper)?;
            if let Some(forms) = forms {
                paper.put(&row("  SHA-256", &forms.sha256))?;
                paper.put(&row("  SHA-1", &forms.sha1))?;
            }
            match profiles.is_empty() {
                true => Ok(()),
                false => paper.put(&row("  profiles", profiles.join(", "))),
            }
        }
        Shown::Profile { profile, entitlements } => profiles::shown(profile, entitlements, at, paper),
        Shown::Device { device, profiles } => {
            paper.put(&row("  called", &device.title))?;
            paper.put(&row("  identifier", &device.identifier))?;
            let profiles = if profiles.is_empty() { "none".to_owned() } else { profiles.join(", ") };
            paper.put(&row("  profiles", profiles))
        }
    }
}

/// Kinds without a picture of their own show their facts as they are.
fn facts(report: &ShowReport, paper: &mut Paper<'_>) -> io::Result<()> {
    let Ok(serde_json::Value::Object(facts)) = serde_json::to_value(&report.facts) else { return Ok(()) };
    for (name, value) in facts.iter().filter(|(name, _)| name.as_str() != "kind") {
        let value = value.as_str().map_or_else(|| value.to_string(), str::to_owned);
        paper.put(&row(&format!("  {}", name.replace('_', " ")), value))?;
    }
    Ok(())
}

/// What it needs. The parts of a keystore stand above, one by one; devices of a profile are counted.
fn needs(report: &ShowReport, paper: &mut Paper<'_>) -> io::Result<()> {
    let devices = report.needs.iter().filter(|need| need.kind == "device").count();
    let of_a_keystore = !report.parts.is_empty();
    let others = report.needs.iter().filter(|need| need.kind != "device" && !of_a_keystore);
    let end = |need: &Need| match need.not_after {
        Some(end) => format!(", until {}", words::day_and_distance(report.at, end)),
        None => String::new(),
    };
    let mut all: Vec<String> =
        others.map(|need| format!("{} ({}{})", need.name, need.kind, end(need))).collect();
    if devices > 0 {
        all.push(words::count(devices, "device"));
    }
    for (index, need) in all.into_iter().enumerate() {
        paper.put(&row(if index == 0 { "  needs" } else { "" }, need))?;
    }
    Ok(())
}

/// What stops without it.
fn stops(report: &ShowReport, paper: &mut Paper<'_>) -> io::Result<()> {
    for (index, stop) in report.stops.iter().take(MOST_STOPS).enumerate() {
        let to = stop.destination.map(|to| format!(" for {}", to.phrase())).unwrap_or_default();
        let through = stop.through.as_ref().map(|name| format!(", by {name}")).unwrap_or_default();
        let from = match stop.from {
            Some(end) if end < report.at => {
                format!("; it ended {}", words::day_and_distance(report.at, end))
            }
            Some(end) => format!("; it ends {}", words::day_and_distance(report.at, end)),
            None => String::new(),
        };
        let text = format!("{}{to}: {}{through}{from}", stop.title, stop.what.words());
        paper.put(&row(if index == 0 { "  without it" } else { "" }, text))?;
    }
    if report.stops.len() > MOST_STOPS {
        paper.put(&row("", format!("and {} more: --format json", report.stops.len() - MOST_STOPS)))?;
    }
    Ok(())
}

/// What hangs on it, what was signed with it, and whether there is a copy.
fn around(report: &ShowReport, paper: &mut Paper<'_>) -> io::Result<()> {
    needs(report, paper)?;
    stops(report, paper)?;
    for (index, one) in report.statements.iter().enumerate() {
        let line = Line::new().dim(if index == 0 { "  web domain" } else { "" }).to(VALUE);
        let line = line.text(format!("{} says of it   ", one.place));
        paper.put(&line.command(&["app", "statement", &one.app]).hang(VALUE))?;
    }
    if !report.dependents.is_empty() {
        let names: Vec<String> =
            report.dependents.iter().map(|d| format!("{} ({})", d.name, d.kind)).collect();
        paper.put(&row("  used by", names.join(", ")))?;
    }
    for (index, release) in report.releases.iter().take(MOST_BUILDS).enumerate() {
        paper.put(&row(if index == 0 { "  signed" } else { "" }, release))?;
    }
    if report.releases.len() > MOST_BUILDS {
        let more = report.releases.len() - MOST_BUILDS;
        paper.put(&row("", format!("and {more} more: ninekeys releases")))?;
    }
    for (index, one) in report.given_to.iter().enumerate() {
        let when = words::day_and_distance(report.at, one.given_at);
        let text = format!("{}, for {} and {}, {when}", one.receiver, one.app, one.destination.phrase());
        paper.put(&row(if index == 0 { "  given to" } else { "" }, text))?;
    }
    if report.backed_up {
        return paper.put(&row("  copies", "in the last backup"));
    }
    let line = Line::new().dim("  copies").to(VALUE).sign(Sign::Warn).text(" 1, in this cabinet   ");
    paper.put(&line.command(&["cabinet", "backup", "FOLDER"]).hang(VALUE))
}
