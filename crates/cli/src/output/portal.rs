//! What stands at the portal, and what was taken in of it.

use std::io;

use ninekeys_core::model::Capability;
use ninekeys_ops::device::Limit;
use ninekeys_ops::portal::take_in::{
    Because, PortalTakeInReport, Standing, TakenAppId, TakenCertificate, TakenDevice, TakenProfile,
};

use super::line::{Line, Paper, Sign};
use super::{Report, words};

impl Report for PortalTakeInReport {
    const SCHEMA: &'static str = "ninekeys.portal-take-in/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let all: Vec<Standing> = (self.certificates.iter().map(|one| one.standing))
            .chain(self.app_ids.iter().map(|one| one.standing))
            .chain(self.devices.iter().map(|one| one.standing))
            .chain(self.profiles.iter().map(|one| one.standing))
            .collect();
        let many = |standing: Standing| all.iter().filter(|one| **one == standing).count();
        let new = many(Standing::New);
        let head = match (self.dry_run, new) {
            _ if all.is_empty() => " Nothing stands at the portal".to_owned(),
            (_, 0) => " Nothing at the portal is new".to_owned(),
            (true, _) => format!(" {new} at the portal would be taken in"),
            (false, _) => format!(" {new} taken in from the portal"),
        };
        let sign = if self.dry_run { Sign::Note } else { Sign::Fine };
        let mut told: Vec<String> = Vec::new();
        for standing in [Standing::Known, Standing::Different, Standing::Left] {
            let many = many(standing);
            if many > 0 {
                told.push(format!("{many} {}", word(standing)));
            }
        }
        paper.put(&Line::new().sign(sign).bold(head).text(format!("   {}", told.join(", "))).hang(2))?;
        certificates(self, paper)?;
        app_ids(self, paper)?;
        devices(self, paper)?;
        profiles(self, paper)?;
        next(self, new > 0, paper)
    }

    fn is_quiet(&self) -> bool {
        true
    }
}

fn word(standing: Standing) -> &'static str {
    match standing {
        Standing::New => "new",
        Standing::Known => "known",
        Standing::Different => "different",
        Standing::Left => "left there",
    }
}

/// Why something is left where it is, and else what it is to what is here.
fn standing(standing: Standing, because: Option<Because>) -> Line<'static> {
    let line = Line::new();
    match (standing, because) {
        (_, Some(because)) => line.dim(match because {
            Because::Revoked => "left: revoked",
            Because::Expired => "left: over",
            Because::Superseded => "left: a later one is there",
            Because::Wildcard => "left: for several apps",
        }),
        (Standing::New, None) => line.like(Sign::Fine, "new"),
        (Standing::Different, None) => line.like(Sign::Warn, "different"),
        (standing, None) => line.dim(word(standing)),
    }
}

/// What uses something.
fn used_by<'a>(unused: bool, profiles: &[String], otherwise: &'a str) -> Line<'a> {
    match (unused, profiles) {
        (true, _) => Line::new().like(Sign::Warn, "nothing uses it"),
        (false, []) => Line::new().dim(otherwise),
        (false, all) => Line::new().text(all.join(", ")),
    }
}

fn certificates(report: &PortalTakeInReport, paper: &mut Paper<'_>) -> io::Result<()> {
    if report.certificates.is_empty() {
        return Ok(());
    }
    paper.blank()?;
    let heads = ["certificate", "is", "serial", "ends", "key", "used by"];
    paper.table_of(2, &heads, &report.certificates, |one: &TakenCertificate| {
        let uses = match (one.releases, one.profiles.is_empty()) {
            (many, true) if many > 0 => Line::new().text(words::count(many, "build")),
            _ => used_by(one.unused, &one.profiles, "not seen from here"),
        };
        let name = one.identity.as_deref().unwrap_or_else(|| one.kind.word());
        let is = match (one.standing, one.revoked) {
            (Standing::Different, Some(_)) => Line::new().like(Sign::Warn, "revoked there"),
            (Standing::Known, Some(_)) => Line::new().dim("known, revoked"),
            _ => standing(one.standing, one.because),
        };
        vec![
            Line::new().bold(name),
            is,
            Line::new().text(&one.serial),
            Line::new().text(words::day_and_distance(report.at, one.certificate.not_after)),
            if one.has_key { Line::new().text("here") } else { Line::new().dim("not here") },
            uses,
        ]
    })?;
    let Some(limits) = &report.limits else { return Ok(()) };
    let Limit { used, most } = limits.distribution_certificates;
    let text = format!("{used} of {most} for distribution");
    match used < most {
        true => paper.put(&Line::new().text("  ").dim(text)),
        false => {
            let text = format!(" {text}: the portal issues no more until one is revoked");
            paper.put(&Line::new().text("  ").sign(Sign::Warn).text(text))
        }
    }
}

fn app_ids(report: &PortalTakeInReport, paper: &mut Paper<'_>) -> io::Result<()> {
    if report.app_ids.is_empty() {
        return Ok(());
    }
    paper.blank()?;
    let heads = ["app id", "is", "app", "capabilities", "used by"];
    let words = |all: &[Capability]| all.iter().map(|one| one.word()).collect::<Vec<_>>().join(", ");
    paper.table_of(2, &heads, &report.app_ids, |one: &TakenAppId| {
        let app = match (&one.app, &one.extension) {
            (Some(app), Some(inside)) => format!("{app}, {inside}"),
            (Some(app), None) => app.clone(),
            (None, _) => one.title.clone(),
        };
        let mut capabilities = Line::new().text(words(&one.capabilities));
        for (all, text) in [(&one.off_there, "off there"), (&one.off_here, "off here")] {
            if !all.is_empty() {
                capabilities = capabilities.like(Sign::Warn, format!(" {text}: {}", words(all)));
            }
        }
        vec![
            Line::new().bold(&one.bundle_id),
            standing(one.standing, one.because),
            Line::new().text(app),
            capabilities,
            used_by(one.unused, &one.profiles, ""),
        ]
    })
}

fn devices(report: &PortalTakeInReport, paper: &mut Paper<'_>) -> io::Result<()> {
    if report.devices.is_empty() {
        return Ok(());
    }
    paper.blank()?;
    let heads = ["device", "is", "called there", "identifier", "used by"];
    paper.table_of(2, &heads, &report.devices, |one: &TakenDevice| {
        let here = one.title_here.as_ref().map_or_else(String::new, |title| format!(", here {title}"));
        vec![
            Line::new().bold(one.device.as_deref().unwrap_or(&one.title)),
            standing(one.standing, None),
            Line::new().text(&one.title).like(Sign::Warn, here),
            Line::new().text(&one.identifier),
            used_by(one.unused, &one.profiles, ""),
        ]
    })?;
    let Some(limits) = &report.limits else { return Ok(()) };
    let Limit { used, most } = limits.devices;
    paper.put(&Line::new().dim(format!("  {used} of {most} devices")))
}

fn profiles(report: &PortalTakeInReport, paper: &mut Paper<'_>) -> io::Result<()> {
    if report.profiles.is_empty() {
        return Ok(());
    }
    paper.blank()?;
    let heads = ["profile", "is", "for", "app id", "ends", ""];
    paper.table_of(2, &heads, &report.profiles, |one: &TakenProfile| {
        let more = match (&one.replaces, one.unused) {
            (_, true) => Line::new().like(Sign::Warn, "nothing can be signed with it"),
            (Some(before), false) => Line::new().text(format!("in the place of {before}")),
            (None, false) => Line::new(),
        };
        vec![
            Line::new().bold(one.profile.as_deref().unwrap_or(&one.title)),
            standing(one.standing, one.because),
            Line::new().text(one.destination.to_string()),
            Line::new().text(&one.app_id),
            Line::new().text(words::day_and_distance(report.at, one.not_after)),
            more,
        ]
    })
}

/// What can be done with what nothing uses, or is another thing there.
fn next(report: &PortalTakeInReport, is_news: bool, paper: &mut Paper<'_>) -> io::Result<()> {
    let mut lines: Vec<Vec<&str>> = Vec::new();
    if report.dry_run && is_news {
        lines.push(vec!["portal", "take-in"]);
    }
    for one in report.certificates.iter().filter(|one| one.unused) {
        if let Some(name) = &one.identity {
            lines.push(vec!["identity", "revoke", name]);
        }
    }
    for one in &report.devices {
        if let (Standing::Different, Some(device)) = (one.standing, &one.device) {
            lines.push(vec!["device", "rename", device, &one.title]);
        }
    }
    for one in
        report.app_ids.iter().filter(|one| one.standing == Standing::Different && one.extension.is_none())
    {
        let Some(app) = &one.app else { continue };
        let mut words = vec!["app", "change", app];
        for capability in &one.off_here {
            words.extend(["--capability", capability.word()]);
        }
        if !one.off_here.is_empty() {
            lines.push(words);
        }
    }
    if !lines.is_empty() {
        paper.blank()?;
    }
    let label = |index: usize| if index == 0 { "  next   " } else { "         " };
    for (index, line) in lines.into_iter().enumerate() {
        paper.put(&Line::new().dim(label(index)).command(&line))?;
    }
    Ok(())
}
