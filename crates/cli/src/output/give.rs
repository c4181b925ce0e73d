//! What was given to somebody, and who has what.

use std::borrow::Cow;
use std::io;

use ninekeys_core::model::NineKey;
use ninekeys_ops::give::{GiveReport, GivenFile};
use ninekeys_ops::given::{Given, GivenItem, GivenReport, Standing};

use super::line::{Line, Paper, Sign};
use super::{Report, words};

/// Where values stand behind labels.
const VALUE: usize = 16;

fn row<'a>(label: &'a str, value: impl Into<Cow<'a, str>>) -> Line<'a> {
    Line::new().dim(label).to(VALUE).text(value).hang(VALUE)
}

fn warn<'a>(text: impl Into<Cow<'a, str>>) -> Line<'a> {
    Line::new().to(VALUE).sign(Sign::Warn).text(" ").text(text).hang(VALUE + 2)
}

impl Report for GiveReport {
    const SCHEMA: &'static str = "ninekeys.give/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let head = Line::new().sign(Sign::Fine).text(" ").bold(&self.folder);
        let what = format!("   {} for {}, for {}", self.title, self.destination.phrase(), self.receiver);
        paper.put(&head.text(what).hang(2))?;
        paper.blank()?;
        paper.table_of(2, &["file", "what", "in the cabinet", "ends"], &self.files, |one: &GivenFile| {
            let ends = one.not_after.map(|end| words::day_and_distance(self.at, end)).unwrap_or_default();
            vec![
                Line::new().bold(&one.file),
                Line::new().text(one.kind.word()),
                Line::new().text(&one.name),
                Line::new().text(ends),
            ]
        })?;
        paper.blank()?;
        paper.put(&row("  sheet", format!("{} says what is what", self.sheet)))?;
        if let Some(key) = &self.api_key {
            let number =
                key.vendor_number.as_ref().map_or(String::new(), |number| format!(", vendor {number}"));
            let text = format!("{}, issuer {}, role {}{number}", key.key_id, key.issuer, key.role);
            paper.put(&row("  API key", text))?;
        }
        paper.put(&row(
            "  password",
            format!("in {}: send it another way than the folder", self.password_file),
        ))?;
        if self.lacks_push {
            paper.put(&warn(
                "the app takes notifications, and no push identity with its key is here to go with it",
            ))?;
        }
        if self.files.iter().any(|one| one.kind == NineKey::StoreApi) {
            paper.put(&warn("the API key has no password: whoever reads the folder may do what it may"))?;
        }
        paper.put(&warn("delete the folder and the password here when they have arrived"))?;
        paper.put(&Line::new().dim("  kept").to(VALUE).command(&["given"]).hang(VALUE))
    }
}

impl Report for GivenReport {
    const SCHEMA: &'static str = "ninekeys.given/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        if self.given.is_empty() {
            paper.put(&Line::new().text("Nobody was given anything."))?;
            let next = ["give", "--app", "APP", "--for", "store", "--receiver", "NAME", "--to", "FOLDER"];
            return paper.put(&Line::new().dim("  next   ").command(&next));
        }
        let stale = self.given.iter().filter(|one| one.stale).count();
        let head = match stale {
            0 => Line::new().sign(Sign::Fine).text(" All that was given is what is used"),
            many => Line::new().sign(Sign::Due).text(format!(
                " {} of {} that were given hold something that is no longer used: tell who has them",
                many,
                self.given.len()
            )),
        };
        paper.put(&head.hang(2))?;
        for one in &self.given {
            paper.blank()?;
            given(one, self, paper)?;
        }
        Ok(())
    }

    fn is_quiet(&self) -> bool {
        false
    }
}

fn given(one: &Given, report: &GivenReport, paper: &mut Paper<'_>) -> io::Result<()> {
    let head = Line::new().text("  ").bold(&one.receiver).text(format!(
        "   {} for {}",
        one.app,
        one.destination.phrase()
    ));
    let when = format!("   {}, by {}", words::day_and_distance(report.at, one.given_at), one.by);
    paper.put(&head.dim(when).hang(4))?;
    paper.table_of(4, &[], &one.items, |item: &GivenItem| {
        let (sign, text) = match item.standing {
            Standing::InUse => (Sign::InUse, "in use"),
            Standing::Expired => (Sign::Bad, "its time is over"),
            Standing::Revoked => (Sign::Bad, "revoked"),
            Standing::Retired => (Sign::Due, "retired"),
            Standing::Gone => (Sign::Due, "not in the cabinet any more"),
        };
        let by = item.replaced_by.as_ref().map_or(String::new(), |name| format!(": {name} took its place"));
        vec![
            Line::new().sign(sign).text(" ").bold(&item.name),
            Line::new().dim(&item.file),
            Line::new().text(format!("{text}{by}")),
        ]
    })
}
