//! `ninekeys explain`

use clap_complete::engine::ArgValueCandidates;
use std::io;

use ninekeys_core::findings::Level;
use ninekeys_core::rules::{self, FAMILIES};
use schemars::JsonSchema;
use serde::Serialize;

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::{Line, Output, Paper, Report};

/// Explain a rule of `check`
///
/// Explains a rule: what it looks for, why that matters, what to do. Without a name it lists all rules.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The rule's name, or any unique prefix of it
    #[arg(add = ArgValueCandidates::new(complete::rules))]
    rule: Option<String>,
}

#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct Explained {
    rules: Vec<ExplainedRule>,
    #[serde(skip)]
    whole: bool,
}

#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct ExplainedRule {
    name: &'static str,
    family: &'static str,
    level: Level,
    about: &'static str,
    meaning: &'static str,
    remedy: &'static str,
}

impl ExplainedRule {
    fn of(family: &'static str, rule: &'static rules::Rule) -> Self {
        let rules::Rule { name, level, about, meaning, remedy, .. } = rule;
        ExplainedRule { name, family, level: *level, about, meaning, remedy }
    }
}

impl Report for Explained {
    const SCHEMA: &'static str = "ninekeys.explain/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        for rule in &self.rules {
            if !self.whole {
                let line = Line::new().text("  ").bold(rule.name).to(30).dim(rule.level.to_string()).to(40);
                paper.put(&line.text(rule.about).hang(40))?;
                continue;
            }
            let head = Line::new()
                .bold(rule.name)
                .text(format!("   {}, usually of level {}", rule.family, rule.level));
            paper.put(&head)?;
            paper.blank()?;
            for (label, text) in [("looks for", rule.about), ("why", rule.meaning), ("mend", rule.remedy)] {
                paper.put(&Line::new().dim(format!("  {label}")).to(14).text(text).hang(14))?;
            }
        }
        Ok(())
    }

    fn is_quiet(&self) -> bool {
        false
    }
}

pub(crate) fn run(args: &Args, out: &mut Output) -> Result<Exit, Failure> {
    let rules = match &args.rule {
        Some(name) => {
            let (family, rule) = rules::find(name).map_err(|candidates| {
                let because = match candidates.as_slice() {
                    [] => format!("there is no rule called {name}"),
                    several => format!("{name} could be {}", several.join(", ")),
                };
                let failure = Failure::plain(Exit::Usage, &format!("explain {name}"), &because);
                match candidates.first() {
                    Some(first) => failure.next(["explain", first]),
                    None => failure.next(["explain"]),
                }
            })?;
            vec![ExplainedRule::of(family, rule)]
        }
        None => {
            let all =
                FAMILIES.iter().flat_map(|f| f.rules.iter().map(|rule| ExplainedRule::of(f.name, rule)));
            all.collect()
        }
    };
    out.emit(&Explained { rules, whole: args.rule.is_some() });
    Ok(Exit::Done)
}
