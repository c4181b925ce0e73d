//! Verdicts on several builds at once.

use std::io;
use std::time::Duration;

use jiff::Timestamp;
use ninekeys_core::rules::{FAMILIES, Rule};
use ninekeys_ops::answers::{Finding, Verdict};
use ninekeys_ops::build::check::CheckReport;
use ninekeys_ops::build::setup::CheckSetupReport;
use schemars::JsonSchema;
use serde::Serialize;

use super::line::{Line, Paper, Sign};
use super::words;
use super::{Report, build};
use crate::failure::{Exit, Failure};

/// What came of every build, in the order in which they were named.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct Verdicts {
    /// Whether nothing speaks against any of them.
    ready: bool,
    builds: Vec<Outcome>,
    at: Timestamp,
    /// Whether people want to see what is inside as a tree.
    #[serde(skip)]
    pub(super) tree: bool,
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
    pub(crate) fn new(builds: Vec<Outcome>, at: Timestamp, tree: bool) -> Self {
        let ready = builds.iter().all(|one| one.check.as_ref().is_some_and(|check| check.ready));
        Verdicts { ready, builds, at, tree }
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
                (Some(check), _) if self.tree => build::WithTree(check).text(paper)?,
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

/// What was judged: a build, or what an app needs for a destination.
pub(super) struct Judged<'a> {
    /// What it is called.
    pub(super) name: String,
    /// Whether that is a file's name.
    pub(super) is_file: bool,
    /// What was found, or why nothing could be.
    pub(super) outcome: Result<&'a Verdict, String>,
    /// How long it took.
    pub(super) took: Duration,
}

/// Verdicts of one kind, for documents that programs read.
pub(super) struct Judgement<'a> {
    /// The rules that look at things of this kind, with their family.
    pub(super) rules: Vec<(&'static str, &'static Rule)>,
    /// What was judged.
    pub(super) judged: Vec<Judged<'a>>,
    /// When.
    pub(super) at: Timestamp,
}

fn rules(is_wanted: impl Fn(&Rule) -> bool) -> Vec<(&'static str, &'static Rule)> {
    let all = FAMILIES.iter().flat_map(|family| family.rules.iter().map(|rule| (family.name, rule)));
    all.filter(|(_, rule)| is_wanted(rule)).collect()
}

impl<'a> Judgement<'a> {
    /// Of builds.
    pub(super) fn of_builds(verdicts: &'a Verdicts) -> Self {
        let judged = |one: &'a Outcome| Judged {
            name: one.build.clone(),
            is_file: true,
            outcome: match (&one.check, &one.error) {
                (Some(check), _) => Ok(&check.verdict),
                (None, error) => Err(error.as_ref().map(Failure::sentence).unwrap_or_default()),
            },
            took: one.took,
        };
        Judgement {
            rules: rules(Rule::is_for_builds),
            judged: verdicts.builds.iter().map(judged).collect(),
            at: verdicts.at,
        }
    }

    /// Of what apps need, and of the cabinet.
    pub(super) fn of_setups(report: &'a CheckSetupReport) -> Self {
        let judged = |name: String, verdict: &'a Verdict| Judged {
            name,
            is_file: false,
            outcome: Ok(verdict),
            took: Duration::ZERO,
        };
        let setups = report
            .setups
            .iter()
            .map(|one| judged(format!("{} for {}", one.app, one.destination), &one.verdict));
        let cabinet = report.cabinet.iter().map(|verdict| judged("the cabinet".into(), verdict));
        Judgement {
            rules: rules(Rule::is_for_setups),
            judged: setups.chain(cabinet).collect(),
            at: report.at,
        }
    }
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
