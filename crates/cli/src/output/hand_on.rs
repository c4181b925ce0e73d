//! A build that was handed on.

use std::io;

use ninekeys_ops::build::hand_on::{HandOnReport, RunsOn};

use super::line::{Line, Paper, Sign};
use super::{Report, words};

/// Where values stand behind labels.
const VALUE: usize = 14;

fn row<'a>(label: &'a str, value: impl Into<std::borrow::Cow<'a, str>>) -> Line<'a> {
    Line::new().dim(label).to(VALUE).text(value).hang(VALUE)
}

impl Report for HandOnReport {
    const SCHEMA: &'static str = "ninekeys.hand-on/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let title = self.title.as_deref().unwrap_or(&self.id);
        let version = self.version.as_deref().unwrap_or_default();
        let number = self.number.as_ref().map(|number| format!(" ({number})")).unwrap_or_default();
        let head = Line::new().sign(Sign::Fine).text(" ").bold(format!("{title} {version}{number}"));
        let place = format!("   {} in {}, for {}", self.file, self.folder, self.destination.phrase());
        paper.put(&head.text(place).hang(2))?;
        paper.blank()?;
        paper.put(&row("  size", words::size(self.size)))?;
        paper.put(&row("  SHA-256", self.sha256.as_str()))?;
        let on = match &self.runs_on {
            RunsOn::From(system) => format!("every device from {system} on"),
            RunsOn::Company => "every device of the company".to_owned(),
            RunsOn::Listed(devices) => {
                let name = |one: &ninekeys_ops::profile::AllowedDevice| {
                    one.title.clone().unwrap_or_else(|| one.identifier.clone())
                };
                let names: Vec<String> = devices.iter().map(name).collect();
                format!("{}: {}", words::count(devices.len(), "device"), names.join(", "))
            }
        };
        paper.put(&row("  runs on", on))?;
        let until = self.not_after.map(|end| words::day_and_distance(self.at, end));
        paper.put(&row("  until", until.unwrap_or_else(|| "no end is known".to_owned())))?;
        if self.warnings > 0 {
            paper.put(&row("  check", words::stops_nothing(self.warnings)))?;
        }
        Ok(())
    }
}
