//! Verdicts on several builds at once.

use std::io;
use std::time::Duration;

use jiff::Timestamp;
use ninekeys_core::rules::{FAMILIES, Rule};
use ninekeys_ops::answers::Finding;
use ninekeys_ops::build::check::CheckReport;
use schemars::JsonSchema;
use serde::Serialize;

use super::Report;
use super::line::{Line, Paper, Sign};
use super::words;
use crate::failure::{Exit, Failure};

/// What came of every build, in the order in which they were named.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct Verdicts {
    /// Whether nothing speaks against any of them.
    ready: bool,
    pub(super) builds: Vec<Outcome>,
    pub(super) at: Timestamp,
}

/// What came of one build.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct Outcome {
    /// The build, as it was named.
    pub(crate) build: String,
    /// The report.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) check: Option<CheckReport>,
    /// Why there is none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) error: Option<Failure>,
    /// How long it took.
    #[serde(skip)]
    pub(crate) took: Duration,
}

impl Verdicts {
    /// From what came of every build.
    pub(crate) fn new(builds: Vec<Outcome>, at: Timestamp) -> Self {
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
pub(super) fn rules() -> impl Iterator<Item = (&'static str, &'static Rule)> {
    let all = FAMILIES.iter().flat_map(|family| family.rules.iter().map(|rule| (family.name, rule)));
    all.filter(|(_, rule)| rule.is_for_builds())
}

/// What a finding says, in one line.
pub(super) fn sentence(finding: &Finding) -> String {
    let part = |label: &str, value: &Option<String>| {
        value.as_ref().map(|value| format!("; {label} {value}")).unwrap_or_default()
    };
    let (found, expected) = (part("found", &finding.found), part("expected", &finding.expected));
    format!("{}{found}{expected}", finding.text)
}

/// What mends a finding, as it can be typed where there is a command for it.
pub(super) fn remedy(finding: &Finding) -> String {
    match &finding.mend {
        Some(words) => format!("ninekeys {}", super::shell_words(words)),
        None => finding.remedy.into(),
    }
}
