//! Drafts of rotations, and how far those are that were begun.

use std::borrow::Cow;
use std::io;

use ninekeys_core::rotation::Meanwhile;
use ninekeys_ops::rotate::call_off::{RotateCallOffReport, Stays};
use ninekeys_ops::rotate::draft::RotateDraftReport;
use ninekeys_ops::rotate::{Progress, RotationReport, StepState};

use super::line::{Line, Paper, Sign};
use super::{Report, words};

/// Where values stand behind labels.
const VALUE: usize = 16;
/// Where the sentence of a step stands.
const SENTENCE: usize = 8;

fn row<'a>(label: &'a str, value: impl Into<Cow<'a, str>>) -> Line<'a> {
    Line::new().dim(label).to(VALUE).text(value).hang(VALUE)
}

/// Whether the same is said of both.
fn is_alike(one: &Meanwhile, other: &Meanwhile) -> bool {
    one.valid_until == other.valid_until && one.means == other.means
}

impl Report for RotateDraftReport {
    const SCHEMA: &'static str = "ninekeys.rotate-draft/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let head = Line::new().sign(Sign::Fine).text(" Drafted: ").bold(self.rotates.join(", "));
        let steps = words::count(self.steps.len(), "step");
        paper.put(&head.text(format!("   {steps}, nothing of it done yet")).hang(2))?;
        paper.blank()?;
        let mut why = "";
        for step in &self.steps {
            let line = Line::new().dim(format!("  {:>3}  ", step.step.number));
            let who = if step.is_a_persons { "  (by a person)" } else { "" };
            paper.put(&line.text(&step.text).dim(who).hang(SENTENCE - 1))?;
            // one reason of several steps in a row is said once
            if std::mem::replace(&mut why, &step.step.why) != step.step.why {
                paper.put(&Line::new().to(SENTENCE - 1).dim(&step.step.why).hang(SENTENCE - 1))?;
            }
        }
        if !self.meanwhile.is_empty() {
            paper.blank()?;
        }
        for (index, same) in self.meanwhile.chunk_by(is_alike).enumerate() {
            let Some(one) = same.first() else { continue };
            let label = if index == 0 { "  meanwhile" } else { "" };
            let until = words::day_and_distance(self.at, one.valid_until);
            let names: Vec<&str> = same.iter().map(|one| one.item.as_str()).collect();
            let stay = if names.len() > 1 { "stay" } else { "stays" };
            paper
                .put(&row(label, format!("{} {stay} good until {until}: {}", names.join(", "), one.means)))?;
        }
        for (index, one) in self.left.iter().enumerate() {
            let label = if index == 0 { "  not in it" } else { "" };
            paper.put(&row(label, &one.because))?;
        }
        paper.blank()?;
        paper.put(&row("  draft", &self.file))?;
        let words = ["rotate", "carry-out", &self.file];
        paper.put(&Line::new().dim("  next").to(VALUE).command(&words).hang(VALUE))
    }

    fn is_quiet(&self) -> bool {
        false
    }
}

impl Report for RotationReport {
    const SCHEMA: &'static str = "ninekeys.rotation/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let what = self.rotates.join(", ");
        let done = self.steps.iter().filter(|step| step.state == StepState::Done).count();
        let (sign, head) = match self.progress {
            Progress::CarriedOut => (Sign::Fine, format!(" Carried out: {what}")),
            Progress::Waiting => (Sign::Due, format!(" Half way: {what}")),
            Progress::CalledOff => (Sign::Note, format!(" Called off: {what}")),
        };
        let count =
            format!("   {done} of {} done · {}", words::count(self.steps.len(), "step"), self.rotation);
        paper.put(&Line::new().sign(sign).bold(head).text(count).hang(2))?;
        paper.blank()?;
        for step in &self.steps {
            let sign = match step.state {
                StepState::Done => Sign::Fine,
                StepState::Begun => Sign::Due,
                StepState::Open => Sign::NotNeeded,
            };
            let line = Line::new().text("  ").sign(sign).dim(format!(" {:>3}  ", step.number));
            paper.put(&line.text(&step.text).hang(9))?;
        }
        paper.blank()?;
        if self.waits.is_empty() {
            return paper.put(&Line::new().dim("  next").to(VALUE).command(&["board"]));
        }
        for waits in &self.waits {
            let label = format!("  yours, {}", waits.number);
            paper.put(&Line::new().dim(label).to(VALUE).text(&waits.waits.what).hang(VALUE))?;
            if !waits.waits.next.is_empty() {
                paper.put(&Line::new().to(VALUE).command(&waits.waits.next).hang(VALUE))?;
            }
        }
        paper.put(&Line::new().dim("  next").to(VALUE).command(&self.next).hang(VALUE))
    }

    fn is_quiet(&self) -> bool {
        self.progress == Progress::CarriedOut
    }
}

impl Report for RotateCallOffReport {
    const SCHEMA: &'static str = "ninekeys.rotate-call-off/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        paper.put(&Line::new().sign(Sign::Fine).bold(format!(" Called off: {}", self.rotation)).hang(2))?;
        paper.blank()?;
        if !self.retired.is_empty() {
            paper
                .put(&row("  retired", format!("{}: kept, and used for nothing", self.retired.join(", "))))?;
        }
        if !self.back.is_empty() {
            paper.put(&row("  in use again", self.back.join(", ")))?;
        }
        if self.retired.is_empty() && self.back.is_empty() {
            paper.put(&row("  undone", "nothing had been made yet"))?;
        }
        for stays in &self.stays {
            let text = match stays {
                Stays::Issued { identity } => {
                    format!(
                        "the certificate of {identity} was issued, and counts at the portal until it is revoked"
                    )
                }
                Stays::Revoked { identity } => format!("the certificate of {identity} is revoked for good"),
                Stays::Done { number, text } => format!("step {number}, which a person did: {text}"),
            };
            paper.put(&row("  stays", text))?;
        }
        let issued = self.stays.iter().find_map(|stays| match stays {
            Stays::Issued { identity } => Some(identity),
            Stays::Revoked { .. } | Stays::Done { .. } => None,
        });
        match issued {
            Some(identity) => {
                let words = ["identity", "revoke", identity];
                paper.put(&Line::new().dim("  next").to(VALUE).command(&words).hang(VALUE))
            }
            None => Ok(()),
        }
    }
}
