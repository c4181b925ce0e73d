//! A verdict on anything, for people: how many findings, family by family what is fine and what is not.

use std::io;

use ninekeys_core::findings::Level;
use ninekeys_core::rules::FAMILIES;
use ninekeys_ops::answers::{Finding, Verdict};

use super::line::{Line, Paper, Sign};
use super::words;

/// Where a family's findings begin.
const RULE: usize = 15;
/// Where what a rule says begins, behind its mark and name.
const SAYS: usize = 47;
/// What it needs at least to stand there; below that it stands on a line of its own.
const ROOM: usize = 47;

/// Yes or no, of what, and how many findings there are.
pub(super) fn headline<'a>(verdict: &Verdict, ready: &'a str, not_ready: &'a str) -> Line<'a> {
    let (errors, warnings) = (verdict.count(Level::Error), verdict.count(Level::Warning));
    let mut counts = Vec::new();
    counts.extend((errors > 0).then(|| words::count(errors, "error")));
    counts.extend((warnings > 0).then(|| words::count(warnings, "warning")));
    let notes = verdict.count(Level::Note);
    counts.extend((notes > 0).then(|| words::count(notes, "note")));
    let (sign, word) = if verdict.is_ready() { (Sign::Fine, ready) } else { (Sign::Bad, not_ready) };
    let head = Line::new().sign(sign).text(" ").bold(word);
    head.text("   ").like(sign, counts.join(", "))
}

/// Every family with something to say: what is fine in a line each, then the findings, and how many rules looked.
pub(super) fn print(
    verdict: &Verdict,
    fine: impl Fn(&str) -> Vec<String>,
    paper: &mut Paper<'_>,
) -> io::Result<()> {
    print_those(verdict, |_| true, fine, paper)?;
    paper.blank()?;
    print_end(verdict, paper)
}

/// The families of some findings.
pub(super) fn print_those(
    verdict: &Verdict,
    is_wanted: impl Fn(&Finding) -> bool,
    fine: impl Fn(&str) -> Vec<String>,
    paper: &mut Paper<'_>,
) -> io::Result<()> {
    for family in FAMILIES {
        let findings = verdict.family(family.name).filter(|finding| is_wanted(finding)).collect();
        print_family(findings, family.name, &fine(family.name), paper)?;
    }
    Ok(())
}

/// How many rules looked, and how to learn what one means.
pub(super) fn print_end(verdict: &Verdict, paper: &mut Paper<'_>) -> io::Result<()> {
    let first = verdict.findings.first().map_or("build-unsigned", |finding| finding.rule);
    let rules = words::count(verdict.rules, "rule");
    let line = Line::new().text(format!("  {rules} looked at, {} fine. ", verdict.fine));
    paper.put(&line.dim("What a rule means: ").command(&["explain", first]).hang(2))
}

/// One family: what is fine, a line each, then every finding.
fn print_family(
    mut findings: Vec<&Finding>,
    name: &str,
    fine: &[String],
    paper: &mut Paper<'_>,
) -> io::Result<()> {
    let mut label = Some(name);
    let begin = |label: &mut Option<&str>| match label.take() {
        Some(name) => Line::new().dim(format!("  {name}")).to(RULE),
        None => Line::new().to(RULE),
    };
    for text in fine {
        let line = begin(&mut label).sign(Sign::Fine).text(" ").text(text);
        paper.put(&line.hang(RULE + 2))?;
    }
    findings.sort_by_key(|finding| std::cmp::Reverse(finding.level));
    for finding in findings {
        let sign = Sign::from(finding.level);
        let line = begin(&mut label).sign(sign).text(" ").like(sign, finding.rule);
        if paper.width().is_none_or(|width| width >= SAYS + ROOM) {
            paper.put(&line.to(SAYS).text(&finding.text).hang(SAYS))?;
        } else {
            paper.put(&line)?;
            paper.put(&Line::new().to(RULE + 2).text(&finding.text).hang(RULE + 2))?;
        }
        details(finding, paper)?;
    }
    Ok(())
}

fn details(finding: &Finding, paper: &mut Paper<'_>) -> io::Result<()> {
    let at = RULE + 2;
    for (label, value) in
        [("found", &finding.found), ("expected", &finding.expected), ("where", &finding.place)]
    {
        if let Some(value) = value {
            paper.put(&Line::new().to(at).dim(label).to(at + 10).text(value).hang(at + 10))?;
        }
    }
    let mend = Line::new().to(at).dim("mend").to(at + 10).hang(at + 10);
    match &finding.mend {
        Some(arguments) => paper.put(&mend.command(arguments)),
        // a note on what was passed over is mended by what is said of the rest
        None if finding.level == Level::Note => Ok(()),
        None => paper.put(&mend.text(finding.remedy)),
    }
}
