//! Builds for iOS: the app and what is inside it, as a tree or one bundle after the other.

use std::io;

use jiff::Timestamp;
use ninekeys_core::findings::Level;
use ninekeys_ops::answers::{Finding, Verdict};
use ninekeys_ops::build::ios::{BundleLine, CodeLine, IosLines, ProfileLine, SignedWord};

use super::line::{Line, Paper, Sign};
use super::{families, words};

/// Where what is said of a node begins, behind its name and the levels above it.
const SAYS: usize = 42;
/// What that needs at least to stand there.
const ROOM: usize = 58;

/// The bundle that a finding is about: the innermost that its place is in, the app where it has none.
fn bundle_of<'a>(ios: &'a IosLines, finding: &Finding) -> Option<&'a BundleLine> {
    let place = finding.place.as_deref().unwrap_or_default();
    let is_in = |bundle: &&BundleLine| {
        place.strip_prefix(bundle.path.as_str()).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
    };
    ios.bundles.iter().filter(is_in).max_by_key(|bundle| bundle.path.len()).or(ios.bundles.first())
}

/// A verdict, bundle by bundle: the app first, with what is fine of it.
pub(super) fn print_verdict(
    verdict: &Verdict,
    ios: &IosLines,
    fine: impl Fn(&str) -> Vec<String>,
    paper: &mut Paper<'_>,
) -> io::Result<()> {
    for (index, bundle) in ios.bundles.iter().enumerate() {
        let is_own = |finding: &Finding| bundle_of(ios, finding).is_some_and(|own| own.path == bundle.path);
        if index > 0 && !verdict.findings.iter().any(is_own) {
            continue;
        }
        if index > 0 {
            paper.blank()?;
        }
        let name = name_within(ios, &bundle.path);
        let line = Line::new().text("  ").bold(name).text("  ").dim(bundle.kind);
        paper.put(&line.dim(named(bundle)).hang(4))?;
        let fine = |family: &str| if index == 0 { fine(family) } else { Vec::new() };
        families::print_those(verdict, is_own, fine, paper)?;
    }
    if ios.bundles.is_empty() {
        families::print_those(verdict, |_| true, |_| Vec::new(), paper)?;
    }
    paper.blank()?;
    families::print_end(verdict, paper)
}

/// The path of something in the app, without the folders above the app.
fn name_within<'a>(ios: &'a IosLines, path: &'a str) -> &'a str {
    let root = ios.bundles.first().map_or("", |app| app.path.as_str());
    match path.strip_prefix(root).and_then(|path| path.strip_prefix('/')) {
        Some(inside) => inside,
        None => path.rsplit_once('/').map_or(path, |(_, name)| name),
    }
}

/// The app, its extensions, libraries, profiles, identity and key as a tree, each with its state.
pub(super) fn print_tree(
    ios: &IosLines,
    verdict: Option<&Verdict>,
    at: Timestamp,
    paper: &mut Paper<'_>,
) -> io::Result<()> {
    let Some(app) = ios.bundles.first() else { return Ok(()) };
    print_node(ios, app, 1, verdict, at, paper)
}

fn print_node(
    ios: &IosLines,
    bundle: &BundleLine,
    level: usize,
    verdict: Option<&Verdict>,
    at: Timestamp,
    paper: &mut Paper<'_>,
) -> io::Result<()> {
    let parent = bundle.inside.as_deref().unwrap_or_default();
    let name = bundle.path.strip_prefix(parent).unwrap_or(&bundle.path).trim_start_matches('/');
    let name = if level == 1 { name_within(ios, &bundle.path) } else { name };
    node(level, name, true, paper, said_of(ios, bundle, verdict))?;
    let inner = level + 1;
    if let Some(profile) = &bundle.profile {
        let place = format!("{}/embedded.mobileprovision", bundle.path);
        let is_bad = |finding: &Finding| {
            finding.level == Level::Error && finding.place.as_deref() == Some(place.as_str())
        };
        let is_bad = verdict.is_some_and(|verdict| verdict.findings.iter().any(is_bad));
        print_profile(profile, is_bad, inner, at, paper)?;
    }
    // the same identity signs all of it: said once, and below where it is another
    let above = bundle.inside.as_ref().and_then(|path| ios.bundles.iter().find(|one| one.path == *path));
    let same =
        |code: &CodeLine| code.certificate == bundle.code.certificate && code.signed == bundle.code.signed;
    if above.is_none_or(|above| !same(&above.code)) {
        print_identity(&bundle.code, inner, at, paper)?;
    }
    print_libraries(ios, bundle, inner, same, paper)?;
    for inside in ios.bundles.iter().filter(|one| one.inside.as_deref() == Some(bundle.path.as_str())) {
        print_node(ios, inside, inner, verdict, at, paper)?;
    }
    Ok(())
}

/// The bundle id behind what a bundle is, where it has one.
fn named(bundle: &BundleLine) -> String {
    if bundle.bundle_id.is_empty() { String::new() } else { format!(" · {}", bundle.bundle_id) }
}

/// What a bundle is, and the rules that found something in it.
fn said_of(ios: &IosLines, bundle: &BundleLine, verdict: Option<&Verdict>) -> Line<'static> {
    let version = match (&bundle.version, &bundle.number) {
        (Some(version), Some(number)) => format!(" · {version} ({number})"),
        _ => String::new(),
    };
    let found = |finding: &&Finding| bundle_of(ios, finding).is_some_and(|own| own.path == bundle.path);
    let worst = verdict.and_then(|verdict| verdict.findings.iter().filter(found).map(|one| one.level).max());
    let sign = match (worst, bundle.intact) {
        (None, _) if bundle.code.signed != SignedWord::ByCertificate => Sign::Missing,
        (Some(Level::Error), _) | (None, false) => Sign::Bad,
        (Some(level), _) => Sign::from(level),
        (None, true) => Sign::Fine,
    };
    let says = format!("{}{}{version}", bundle.kind, named(bundle));
    let mut rules: Vec<&str> = verdict
        .map(|verdict| verdict.findings.iter().filter(found).map(|one| one.rule).collect())
        .unwrap_or_default();
    rules.dedup();
    let rules = if rules.is_empty() { String::new() } else { format!(" · {}", rules.join(", ")) };
    Line::new().sign(sign).text(format!(" {says}")).like(sign, rules)
}

/// The libraries of a bundle that have none of their own; `same` tells whether its signer signed one.
fn print_libraries(
    ios: &IosLines,
    bundle: &BundleLine,
    level: usize,
    same: impl Fn(&CodeLine) -> bool,
    paper: &mut Paper<'_>,
) -> io::Result<()> {
    let own =
        ios.libraries.iter().filter(|library| nearest(ios, &library.path) == Some(bundle.path.as_str()));
    for library in own {
        let name = library.path.strip_prefix(bundle.path.as_str()).unwrap_or(&library.path);
        let (sign, says) = match (library.holds, same(library)) {
            (true, true) => (Sign::Fine, "library · signed by the same".to_owned()),
            (true, false) => (Sign::Warn, format!("library · {}", signed_words(library))),
            (false, _) => (Sign::Bad, format!("library · {}", signed_words(library))),
        };
        node(
            level,
            name.trim_start_matches('/'),
            false,
            paper,
            Line::new().sign(sign).text(format!(" {says}")),
        )?;
    }
    Ok(())
}

/// The innermost bundle that a path is in.
fn nearest<'a>(ios: &'a IosLines, path: &str) -> Option<&'a str> {
    let is_in = |bundle: &&BundleLine| {
        path.strip_prefix(bundle.path.as_str()).is_some_and(|rest| rest.starts_with('/'))
    };
    ios.bundles.iter().filter(is_in).max_by_key(|one| one.path.len()).map(|one| one.path.as_str())
}

fn node(level: usize, name: &str, bold: bool, paper: &mut Paper<'_>, says: Line<'_>) -> io::Result<()> {
    let line = Line::new().text(" ".repeat(2 * level));
    let line = if bold { line.bold(name) } else { line.text(name) };
    // where there is little room, what is said of a node stands below its name, a step further in
    if paper.width().is_some_and(|width| width < SAYS + ROOM) {
        paper.put(&line)?;
        let at = 2 * level + 2;
        return paper.put(&Line::new().to(at).join(says).hang(at + 2));
    }
    // a long name has what is said of it on a line of its own
    if 2 * level + name.chars().count() >= SAYS {
        paper.put(&line)?;
        return paper.put(&Line::new().to(SAYS).join(says).hang(SAYS + 2));
    }
    paper.put(&line.to(SAYS).join(says).hang(SAYS + 2))
}

fn print_profile(
    profile: &ProfileLine,
    is_bad: bool,
    level: usize,
    at: Timestamp,
    paper: &mut Paper<'_>,
) -> io::Result<()> {
    let line = match (&profile.fault, profile.not_after) {
        (Some(fault), _) => Line::new().sign(Sign::Bad).text(format!(" {fault}")),
        (None, until) => {
            let title = profile.title.as_deref().unwrap_or_default();
            let name = profile.item.as_ref().map_or_else(String::new, |item| format!("{item} "));
            let to = profile.destination.map_or_else(String::new, |to| format!(" · {to}"));
            let devices = profile
                .devices
                .map_or_else(String::new, |devices| format!(" · {}", words::count(devices, "device")));
            let ended = until.is_some_and(|until| until < at);
            let until = until
                .map_or_else(String::new, |until| format!(" · until {}", words::day_and_distance(at, until)));
            let sign = if ended || is_bad { Sign::Bad } else { Sign::Fine };
            Line::new().sign(sign).text(format!(" {name}{title:?}{to}{devices}{until}"))
        }
    };
    node(level, "profile", false, paper, line)
}

fn print_identity(code: &CodeLine, level: usize, at: Timestamp, paper: &mut Paper<'_>) -> io::Result<()> {
    let Some(certificate) = &code.certificate else {
        let line = Line::new().sign(Sign::Bad).text(format!(" {}", signed_words(code)));
        return node(level, "identity", false, paper, line);
    };
    let until = words::day_and_distance(at, certificate.not_after);
    let short = words::short(&certificate.sha256);
    let name = code.identity.as_deref().unwrap_or("not in the cabinet");
    let good = at <= certificate.not_after && code.holds;
    let sign = if good { Sign::Fine } else { Sign::Bad };
    let team = code.team.as_ref().map_or_else(String::new, |team| format!(" · {team}"));
    let stamped =
        code.stamped.as_ref().map(|one| format!(" · stamped {} by {}", words::day(one.at), one.authority));
    let stamped = stamped.unwrap_or_default();
    let line = Line::new().sign(sign).text(format!(" {name} {short}{team} · until {until}{stamped}"));
    node(level, "identity", false, paper, line)?;
    let (sign, says) = match code.identity {
        Some(_) => (Sign::Fine, "in the cabinet"),
        None => (Sign::Missing, "not in the cabinet"),
    };
    node(level + 1, "key", false, paper, Line::new().sign(sign).text(format!(" {says}")))
}

fn signed_words(code: &CodeLine) -> &'static str {
    match code.signed {
        SignedWord::None => "not signed",
        SignedWord::ByLinker => "hashed by its linker, not signed",
        SignedWord::AdHoc => "hashed, not signed with a certificate",
        SignedWord::ByCertificate if code.holds => "signed by another",
        SignedWord::ByCertificate => "its signature does not hold",
    }
}

/// What is in the build, for `inspect`: the tree, and what each bundle claims and asks people for.
pub(super) fn print_content(ios: &IosLines, at: Timestamp, paper: &mut Paper<'_>) -> io::Result<()> {
    paper.blank()?;
    print_tree(ios, None, at, paper)?;
    for bundle in &ios.bundles {
        if bundle.entitlements.is_empty() && bundle.asks_for.is_empty() {
            continue;
        }
        paper.blank()?;
        paper.put(&Line::new().text("  ").bold(name_within(ios, &bundle.path)))?;
        let systems = [("from iOS", &bundle.lowest), ("built with", &bundle.sdk)];
        for (label, value) in systems {
            if let Some(value) = value {
                paper.put(&Line::new().to(4).dim(label).to(18).text(value))?;
            }
        }
        for (index, (key, value)) in bundle.entitlements.iter().enumerate() {
            let line = Line::new().to(4).dim(if index == 0 { "claims" } else { "" }).to(18);
            paper.put(&line.text(format!("{key} = {value}")).hang(20))?;
        }
        for (index, (key, reason)) in bundle.asks_for.iter().enumerate() {
            let line = Line::new().to(4).dim(if index == 0 { "asks for" } else { "" }).to(18);
            paper.put(&line.text(format!("{key}: {reason:?}")).hang(20))?;
        }
    }
    Ok(())
}
