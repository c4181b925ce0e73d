//! Dates that belong to no key.

use std::io;

use ninekeys_core::model::DateFacts;
use ninekeys_ops::date::DateSaid;
use ninekeys_ops::date::add::DateAddReport;
use ninekeys_ops::date::done::DateDoneReport;
use ninekeys_ops::date::list::DateListReport;
use ninekeys_ops::date::remove::DateRemoveReport;

use super::line::{Line, Paper, Sign};
use super::{Report, words};

/// How often a date falls due.
fn how_often(date: &DateSaid) -> String {
    let DateSaid { title, on, every_months, apps, done, .. } = date.clone();
    DateFacts { title, on, every_months, apps, done }.how_often()
}

impl Report for DateAddReport {
    const SCHEMA: &'static str = "ninekeys.date-add/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let date = &self.date;
        let when = words::day_and_distance(self.at, date.on);
        let head = Line::new().sign(Sign::Fine).text(" ").bold(&date.title);
        paper.put(&head.text(format!("   {when}, {}   ", how_often(date))).dim(&date.date).hang(2))?;
        paper.put(&Line::new().dim("  next   ").command(&["timeline"]))
    }
}

impl Report for DateListReport {
    const SCHEMA: &'static str = "ninekeys.date-list/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        if self.dates.is_empty() {
            paper.put(&Line::new().text("No date is kept beside the keys."))?;
            let next = ["help", "date", "add"];
            return paper.put(&Line::new().dim("  next   ").command(&next));
        }
        paper.put(
            &Line::new().text(format!("{}, the first one first", words::count(self.dates.len(), "date"))),
        )?;
        paper.blank()?;
        let heads = ["date", "called", "falls due", "how often", "for", "last seen to"];
        paper.table_of(2, &heads, &self.dates, |date| {
            let done = date.done.map_or_else(String::new, words::day);
            let apps = if date.apps.is_empty() { "all apps".into() } else { date.apps.join(", ") };
            let sign = Sign::from(date.mark);
            [
                Line::new().sign(sign).text(" ").bold(&date.date),
                Line::new().text(&date.title),
                Line::new().like(sign, words::day_and_distance(self.at, date.on)),
                Line::new().text(how_often(date)),
                Line::new().text(apps),
                Line::new().text(done),
            ]
        })
    }

    fn is_quiet(&self) -> bool {
        false
    }
}

impl Report for DateDoneReport {
    const SCHEMA: &'static str = "ninekeys.date-done/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let head = Line::new().sign(Sign::Fine).text(" ").bold(&self.date.title);
        let text = match self.over {
            true => "   was seen to, and does not come again".to_owned(),
            false => format!(
                "   was seen to; it falls due again on {}",
                words::day_and_distance(self.at, self.date.on)
            ),
        };
        paper.put(&head.text(text).hang(2))
    }
}

impl Report for DateRemoveReport {
    const SCHEMA: &'static str = "ninekeys.date-remove/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        paper.put(
            &Line::new().sign(Sign::Fine).text(" ").bold(&self.title).text(" is not kept any more").hang(2),
        )
    }
}
