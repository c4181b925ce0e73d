//! Verdicts as JUnit XML: a suite for each thing that was judged, a case a rule. Errors fail; warnings and notes are written down beside.

use std::io;
use std::time::Duration;

use jiff::Timestamp;
use ninekeys_core::findings::Level;
use ninekeys_core::rules::Rule;
use ninekeys_ops::answers::{Finding, Verdict};
use quick_xml::Writer;
use quick_xml::events::{BytesDecl, BytesText, Event};

use super::verdicts::{Judged, Judgement, remedy, sentence};

/// Writes all verdicts.
pub(super) fn document(judgement: &Judgement<'_>) -> io::Result<Vec<u8>> {
    let mut xml = Writer::new_with_indent(Vec::new(), b' ', 2);
    xml.write_event(Event::Decl(BytesDecl::new("1.0", Some("UTF-8"), None)))?;
    let time = judgement.judged.iter().map(|one| one.took).sum();
    let suites = xml.create_element("testsuites");
    let suites = suites.with_attributes([("name", "ninekeys check"), ("time", seconds(time).as_str())]);
    suites.write_inner_content(|xml| {
        judgement.judged.iter().try_for_each(|one| match &one.outcome {
            Ok(verdict) => suite(judgement, one, verdict, xml),
            Err(error) => unread(one, error, judgement.at, xml),
        })
    })?;
    let mut out = xml.into_inner();
    out.push(b'\n');
    Ok(out)
}

type Xml = Writer<Vec<u8>>;

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

/// The attributes of a suite: what it is about, and how its cases ended.
fn counts(one: &Judged<'_>, at: Timestamp, counts: [usize; 4]) -> Vec<(&'static str, String)> {
    let names = ["tests", "failures", "errors", "skipped"];
    let mut out = vec![("name", one_line(&one.name))];
    out.extend(names.into_iter().zip(counts.map(|count| count.to_string())));
    out.push(("time", seconds(one.took)));
    out.push(("timestamp", at.strftime("%Y-%m-%dT%H:%M:%S").to_string()));
    out
}

/// A build that could not be read: one case that is an error.
fn unread(one: &Judged<'_>, why: &str, at: Timestamp, xml: &mut Xml) -> io::Result<()> {
    let attributes = counts(one, at, [1, 0, 1, 0]);
    let suite = xml.create_element("testsuite").with_attributes(borrowed(&attributes));
    let name = one_line(&one.name);
    suite.write_inner_content(|xml| {
        let case = xml.create_element("testcase");
        let case = case.with_attributes([("name", name.as_str()), ("classname", "read")]);
        case.write_inner_content(|xml| {
            xml.create_element("error").with_attribute(("message", one_line(why).as_str())).write_empty()?;
            Ok(())
        })?;
        Ok(())
    })?;
    Ok(())
}

fn borrowed<'a>(all: &'a [(&'static str, String)]) -> impl Iterator<Item = (&'a str, &'a str)> {
    all.iter().map(|(name, value)| (*name, value.as_str()))
}

fn suite(judgement: &Judgement<'_>, one: &Judged<'_>, verdict: &Verdict, xml: &mut Xml) -> io::Result<()> {
    let fails = |rule: &Rule| findings(verdict, rule).any(|finding| finding.level == Level::Error);
    let failures = judgement.rules.iter().filter(|(_, rule)| fails(rule)).count();
    let attributes = counts(one, judgement.at, [judgement.rules.len(), failures, 0, verdict.skipped.len()]);
    let suite = xml.create_element("testsuite").with_attributes(borrowed(&attributes));
    suite.write_inner_content(|xml| {
        judgement.rules.iter().try_for_each(|(family, rule)| case(verdict, family, rule, xml))
    })?;
    Ok(())
}

fn findings<'a>(verdict: &'a Verdict, rule: &'a Rule) -> impl Iterator<Item = &'a Finding> {
    verdict.findings.iter().filter(|finding| finding.rule == rule.name)
}

fn case(verdict: &Verdict, family: &str, rule: &Rule, xml: &mut Xml) -> io::Result<()> {
    // without a time: that of a build is spent on all rules together
    let case = xml.create_element("testcase");
    let case = case.with_attributes([("name", rule.name), ("classname", family)]);
    let skipped = verdict.skipped.iter().find(|skipped| skipped.rule == rule.name);
    if skipped.is_none() && findings(verdict, rule).next().is_none() {
        case.write_empty()?;
        return Ok(());
    }
    case.write_inner_content(|xml| {
        if let Some(skipped) = skipped {
            xml.create_element("skipped").with_attribute(("message", skipped.because)).write_empty()?;
        }
        findings(verdict, rule).try_for_each(|finding| told(finding, xml))
    })?;
    Ok(())
}

fn told(finding: &Finding, xml: &mut Xml) -> io::Result<()> {
    let text = one_line(&sentence(finding));
    let place = finding.place.as_deref().map(|place| format!("where: {place}\n")).unwrap_or_default();
    let details = plain(&format!("{place}mend: {}", remedy(finding)));
    match finding.level {
        Level::Error => {
            let failure = xml.create_element("failure");
            let failure = failure.with_attributes([("message", text.as_str()), ("type", finding.rule)]);
            failure.write_text_content(BytesText::new(&details))?;
        }
        level => {
            let text = format!("{level}: {text}\n{details}");
            xml.create_element("system-out").write_text_content(BytesText::new(&text))?;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_xml_cannot_hold_is_left_out_and_the_rest_is_quoted_by_the_writer() {
        assert_eq!(plain("a\u{1b}[31m<b>\n"), "a?[31m<b>\n");
        let mut xml = Writer::new(Vec::new());
        let element = xml.create_element("a").with_attribute(("b", one_line("x\"<y>&\n").as_str()));
        element.write_text_content(BytesText::new("<&>")).unwrap();
        let text = String::from_utf8(xml.into_inner()).unwrap();
        assert_eq!(text, "<a b=\"x&quot;&lt;y&gt;&amp; \">&lt;&amp;&gt;</a>");
    }
}
