//! Verdicts as JUnit XML: a suite for each thing that was judged, a case a rule. Errors fail; warnings and notes are written down beside.

use std::io;
use std::time::Duration;

use jiff::Timestamp;
use ninekeys_core::findings::Level;
use ninekeys_core::rules::Rule;
use ninekeys_ops::answers::{Finding, Verdict};

use super::markup::{Element, element};
use super::verdicts::{Judged, Judgement, remedy, sentence};

/// Writes all verdicts.
pub(super) fn document(judgement: &Judgement<'_>) -> io::Result<Vec<u8>> {
    let time = judgement.judged.iter().map(|one| one.took).sum();
    let suites = element("testsuites").attribute("name", "ninekeys check").attribute("time", seconds(time));
    let suites = suites.children(judgement.judged.iter().map(|one| match &one.outcome {
        Ok(verdict) => suite(judgement, one, verdict),
        Err(error) => unread(one, error, judgement.at),
    }));
    Ok(suites.xml().into_bytes())
}

fn seconds(time: Duration) -> String {
    format!("{:.3}", time.as_secs_f64())
}

/// What XML 1.0 cannot hold at all becomes a question mark; quoting is the writer's.
fn plain(text: &str) -> String {
    let impossible = |c: char| (c.is_control() && c != '\n') || matches!(c, '\u{fffe}' | '\u{ffff}');
    text.chars().map(|c| if impossible(c) { '?' } else { c }).collect()
}

/// The same for an attribute, where a line's end would be read as a blank.
fn one_line(text: &str) -> String {
    plain(text).replace('\n', " ")
}

/// A suite without its cases: what it is about, and how they ended.
fn suite_of(one: &Judged<'_>, at: Timestamp, counts: [usize; 4]) -> Element {
    let names = ["tests", "failures", "errors", "skipped"];
    let suite = element("testsuite").attribute("name", one_line(&one.name));
    let suite =
        names.into_iter().zip(counts).fold(suite, |suite, (name, count)| suite.attribute(name, count));
    suite.attribute("time", seconds(one.took)).attribute("timestamp", at.strftime("%Y-%m-%dT%H:%M:%S"))
}

/// A build that could not be read: one case that is an error.
fn unread(one: &Judged<'_>, why: &str, at: Timestamp) -> Element {
    let error = element("error").attribute("message", one_line(why));
    let case = element("testcase").attribute("name", one_line(&one.name)).attribute("classname", "read");
    suite_of(one, at, [1, 0, 1, 0]).child(case.child(error))
}

fn suite(judgement: &Judgement<'_>, one: &Judged<'_>, verdict: &Verdict) -> Element {
    let fails = |rule: &Rule| findings(verdict, rule).any(|finding| finding.level == Level::Error);
    let failures = judgement.rules.iter().filter(|(_, rule)| fails(rule)).count();
    let suite = suite_of(one, judgement.at, [judgement.rules.len(), failures, 0, verdict.skipped.len()]);
    suite.children(judgement.rules.iter().map(|(family, rule)| case(verdict, family, rule)))
}

fn findings<'a>(verdict: &'a Verdict, rule: &'a Rule) -> impl Iterator<Item = &'a Finding> {
    verdict.findings.iter().filter(|finding| finding.rule == rule.name)
}

fn case(verdict: &Verdict, family: &str, rule: &Rule) -> Element {
    // without a time: that of a build is spent on all rules together
    let case = element("testcase").attribute("name", rule.name).attribute("classname", family);
    let skipped = verdict.skipped.iter().find(|skipped| skipped.rule == rule.name);
    let skipped = skipped.map(|skipped| element("skipped").attribute("message", skipped.because));
    case.maybe(skipped).children(findings(verdict, rule).map(told))
}

fn told(finding: &Finding) -> Element {
    let text = one_line(&sentence(finding));
    let place = finding.place.as_deref().map(|place| format!("where: {place}\n")).unwrap_or_default();
    let details = plain(&format!("{place}mend: {}", remedy(finding)));
    match finding.level {
        Level::Error => {
            let failure = element("failure").attribute("message", text).attribute("type", finding.rule);
            failure.text(details)
        }
        level => element("system-out").text(format!("{level}: {text}\n{details}")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_xml_cannot_hold_is_left_out_and_the_rest_is_quoted_by_the_writer() {
        assert_eq!(plain("a\u{1b}[31m<b>\n"), "a?[31m<b>\n");
        let xml = element("a").attribute("b", one_line("x\"<y>&\n")).text("<&>").xml();
        assert!(xml.ends_with("<a b=\"x&quot;&lt;y&gt;&amp; \">&lt;&amp;&gt;</a>\n"), "{xml}");
    }
}
