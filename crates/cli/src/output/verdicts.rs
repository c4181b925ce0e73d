//! Verdicts on several builds at once, and verdicts for other programs: SARIF and JUnit.

use std::io::{self, Write};

use jiff::Timestamp;
use ninekeys_core::findings::Level;
use ninekeys_core::rules::{FAMILIES, Rule};
use ninekeys_ops::answers::Finding;
use ninekeys_ops::build::check::CheckReport;
use serde::Serialize;
use serde_json::{Value, json};

use super::Report;
use super::line::{Line, Paper, Sign};
use super::words;
use crate::failure::{Exit, Failure};

/// What came of every build, in the order in which they were named.
#[derive(Debug, Serialize)]
pub(crate) struct Verdicts {
    /// Whether nothing speaks against any of them.
    ready: bool,
    builds: Vec<Outcome>,
    at: Timestamp,
}

#[derive(Debug, Serialize)]
struct Outcome {
    build: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    check: Option<CheckReport>,
    #[serde(skip_serializing_if = "Option::is_none")]
    error: Option<Failure>,
}

impl Verdicts {
    /// From the builds and their reports.
    pub(crate) fn new(all: Vec<(String, Result<CheckReport, Failure>)>, at: Timestamp) -> Self {
        let builds: Vec<Outcome> = all
            .into_iter()
            .map(|(build, outcome)| match outcome {
                Ok(check) => Outcome { build, check: Some(check), error: None },
                Err(error) => Outcome { build, check: None, error: Some(error) },
            })
            .collect();
        let ready = builds.iter().all(|one| one.check.as_ref().is_some_and(|check| check.ready));
        Verdicts { ready, builds, at }
    }

    /// The only report, when there was one build.
    pub(crate) fn only(&self) -> Option<&CheckReport> {
        match self.builds.as_slice() {
            [one] => one.check.as_ref(),
            _ => None,
        }
    }

    /// Of several, the code furthest down the list.
    pub(crate) fn exit(&self) -> Exit {
        let codes = self.builds.iter().map(|one| match (&one.check, &one.error) {
            (_, Some(error)) => error.exit,
            (Some(check), _) if !check.ready => Exit::Findings,
            _ => Exit::Done,
        });
        codes.max_by_key(|exit| exit.code()).unwrap_or(Exit::Done)
    }
}

impl Report for Verdicts {
    const SCHEMA: &'static str = "ninekeys.checks/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        for one in &self.builds {
            match (&one.check, &one.error) {
                (Some(check), _) => check.text(paper)?,
                (None, Some(error)) => error.text(paper)?,
                (None, None) => {}
            }
            paper.blank()?;
        }
        let good = self.builds.iter().filter(|one| one.check.as_ref().is_some_and(|c| c.ready)).count();
        let sign = if self.ready { Sign::Fine } else { Sign::Bad };
        let text = format!(" {good} of {} ready", words::count(self.builds.len(), "build"));
        paper.put(&Line::new().sign(sign).bold(text))
    }

    fn is_quiet(&self) -> bool {
        self.builds.iter().all(|one| one.check.as_ref().is_some_and(Report::is_quiet))
    }
}

/// The rules that look at builds, with their family.
fn rules() -> impl Iterator<Item = (&'static str, &'static Rule)> {
    let all = FAMILIES.iter().flat_map(|family| family.rules.iter().map(|rule| (family.name, rule)));
    all.filter(|(_, rule)| rule.is_for_builds())
}

/// What a finding says, in one line.
fn sentence(finding: &Finding) -> String {
    let part = |label: &str, value: &Option<String>| {
        value.as_ref().map(|value| format!("; {label} {value}")).unwrap_or_default()
    };
    let (found, expected) = (part("found", &finding.found), part("expected", &finding.expected));
    format!("{}{found}{expected}", finding.text)
}

fn remedy(finding: &Finding) -> String {
    match &finding.mend {
        Some(words) => format!("ninekeys {}", super::shell_words(words)),
        None => finding.remedy.into(),
    }
}

/// Every rule, as SARIF describes it.
fn described() -> Vec<Value> {
    let describe = |(family, rule): (&str, &Rule)| {
        json!({
            "id": rule.name,
            "shortDescription": { "text": rule.about },
            "fullDescription": { "text": rule.meaning },
            "help": { "text": rule.remedy },
            "defaultConfiguration": { "level": rule.level.to_string() },
            "properties": { "family": family },
        })
    };
    rules().map(describe).collect()
}

/// The findings, and what could not be read.
fn results(verdicts: &Verdicts) -> (Vec<Value>, Vec<Value>) {
    let names: Vec<&str> = rules().map(|(_, rule)| rule.name).collect();
    let (mut results, mut notifications) = (Vec::new(), Vec::new());
    for one in &verdicts.builds {
        let file = || json!({ "artifactLocation": { "uri": uri(&one.build) } });
        let location = |place: &Option<String>| match place {
            Some(place) => json!({
                "physicalLocation": file(),
                "logicalLocations": [{ "fullyQualifiedName": place }],
            }),
            None => json!({ "physicalLocation": file() }),
        };
        for finding in one.check.iter().flat_map(|check| &check.verdict.findings) {
            results.push(json!({
                "ruleId": finding.rule,
                "ruleIndex": names.iter().position(|name| *name == finding.rule),
                "level": finding.level.to_string(),
                "message": { "text": format!("{}. Remedy: {}", sentence(finding), remedy(finding)) },
                "locations": [location(&finding.place)],
            }));
        }
        if let Some(error) = &one.error {
            notifications.push(json!({
                "level": "error",
                "message": { "text": error.sentence() },
                "locations": [location(&None)],
            }));
        }
    }
    (results, notifications)
}

/// SARIF 2.1.0: one run, every rule described, a result a finding.
pub(crate) fn sarif(verdicts: &Verdicts, out: &mut dyn Write) -> io::Result<()> {
    let (results, notifications) = results(verdicts);
    let answer = json!({
        "version": "2.1.0",
        "runs": [{
            "tool": { "driver": {
                "name": "ninekeys",
                "semanticVersion": env!("CARGO_PKG_VERSION"),
                "rules": described(),
            } },
            "invocations": [{
                "executionSuccessful": notifications.is_empty(),
                "toolExecutionNotifications": notifications,
            }],
            "artifacts": verdicts.builds.iter()
                .map(|one| json!({ "location": { "uri": uri(&one.build) } })).collect::<Vec<_>>(),
            "results": results,
        }],
    });
    serde_json::to_writer_pretty(&mut *out, &answer)?;
    writeln!(out)
}

/// A path as a relative or absolute URI reference (RFC 3986): what is not plain is escaped.
fn uri(path: &str) -> String {
    let plain = |byte: u8| byte.is_ascii_alphanumeric() || b"-._~/".contains(&byte);
    let escaped: String = path
        .replace('\\', "/")
        .bytes()
        .map(|byte| if plain(byte) { char::from(byte).to_string() } else { format!("%{byte:02X}") })
        .collect();
    if escaped.starts_with('/') { format!("file://{escaped}") } else { escaped }
}

/// JUnit XML: a suite a build, a case a rule. Errors fail; warnings and notes are written down beside.
pub(crate) fn junit(verdicts: &Verdicts, out: &mut dyn Write) -> io::Result<()> {
    writeln!(out, "<?xml version=\"1.0\" encoding=\"UTF-8\"?>")?;
    writeln!(out, "<testsuites name=\"ninekeys check\">")?;
    for one in &verdicts.builds {
        match (&one.check, &one.error) {
            (Some(check), _) => suite(&one.build, check, verdicts.at, out)?,
            (None, Some(error)) => {
                let name = xml(&one.build);
                writeln!(
                    out,
                    "  <testsuite name=\"{name}\" tests=\"1\" failures=\"0\" errors=\"1\" skipped=\"0\">"
                )?;
                writeln!(out, "    <testcase name=\"{name}\" classname=\"read\">")?;
                writeln!(out, "      <error message=\"{}\"/>", xml(&error.sentence()))?;
                writeln!(out, "    </testcase>\n  </testsuite>")?;
            }
            (None, None) => {}
        }
    }
    writeln!(out, "</testsuites>")
}

fn suite(build: &str, check: &CheckReport, at: Timestamp, out: &mut dyn Write) -> io::Result<()> {
    let of = |rule: &Rule| -> Vec<&Finding> {
        check.verdict.findings.iter().filter(|finding| finding.rule == rule.name).collect()
    };
    let fails = |rule: &Rule| of(rule).iter().any(|finding| finding.level == Level::Error);
    let failures = rules().filter(|(_, rule)| fails(rule)).count();
    let skipped = check.verdict.not_compared.len();
    let time = at.strftime("%Y-%m-%dT%H:%M:%S");
    writeln!(
        out,
        "  <testsuite name=\"{}\" tests=\"{}\" failures=\"{failures}\" errors=\"0\" skipped=\"{skipped}\" timestamp=\"{time}\">",
        xml(build),
        rules().count(),
    )?;
    for (family, rule) in rules() {
        let found = of(rule);
        let skip = check.verdict.not_compared.contains(&rule.name);
        if found.is_empty() && !skip {
            writeln!(out, "    <testcase name=\"{}\" classname=\"{family}\"/>", rule.name)?;
            continue;
        }
        writeln!(out, "    <testcase name=\"{}\" classname=\"{family}\">", rule.name)?;
        if skip {
            writeln!(out, "      <skipped message=\"there was nothing to compare with\"/>")?;
        }
        for finding in found {
            let text = xml(&sentence(finding));
            let place = finding.place.as_deref().map(|place| format!("where: {place}\n")).unwrap_or_default();
            let details = xml(&format!("{place}mend: {}", remedy(finding)));
            match finding.level {
                Level::Error => {
                    writeln!(
                        out,
                        "      <failure message=\"{text}\" type=\"{}\">{details}</failure>",
                        rule.name
                    )?;
                }
                level => writeln!(out, "      <system-out>{level}: {text}\n{details}</system-out>")?,
            }
        }
        writeln!(out, "    </testcase>")?;
    }
    writeln!(out, "  </testsuite>")
}

/// Text as XML 1.0 takes it: what it cannot hold at all becomes a question mark.
fn xml(text: &str) -> String {
    let mut out = String::new();
    for c in text.chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            '\n' => out.push_str("&#10;"),
            c if c.is_control() || matches!(c, '\u{fffe}' | '\u{ffff}') => out.push('?'),
            c => out.push(c),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn text_out_of_files_cannot_break_out_of_xml() {
        assert_eq!(xml("a<b & \"c\"\u{1b}\n"), "a&lt;b &amp; &quot;c&quot;?&#10;");
    }

    #[test]
    fn paths_become_uris() {
        assert_eq!(uri("out/a b#1.apk"), "out/a%20b%231.apk");
        assert_eq!(uri("/tmp/ä.apk"), "file:///tmp/%C3%A4.apk");
    }
}
