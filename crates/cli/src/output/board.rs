//! The board: marks and words in nine columns, or marks alone where it is narrow.

use std::io;

use ninekeys_core::board::{Cell, Mark, Row};
use ninekeys_core::model::NineKey;

use ninekeys_ops::board::BoardReport;

use super::line::{Line, Paper, Sign};
use super::{Report, words};

/// Width of the column of titles.
const TITLES: usize = 17;
/// The same where it is narrow.
const SHORT_TITLES: usize = 12;
/// Width of a column of keys with words.
const WIDE: usize = 10;
/// Width of a column of keys with marks alone.
const NARROW: usize = 3;

impl Report for BoardReport {
    const SCHEMA: &'static str = "ninekeys.board/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let title = if self.title.is_empty() { "This project" } else { &self.title };
        let apps = self.rows.iter().filter(|row| !row.app.is_empty()).count();
        let apps = words::count(apps, "app");
        let head = Line::new().bold(title).text(format!(" · 9 keys × {apps} · {}", words::day(self.at)));
        paper.put(&head)?;
        paper.blank()?;
        if self.rows.is_empty() {
            let next = ["app", "add", "NAME", "--package", "PACKAGE", "--for", "direct"];
            return paper.put(&Line::new().dim("  next   ").command(&next));
        }
        let columns = Columns::on(paper);
        heads(&columns, paper)?;
        for row in &self.rows {
            paper.put(&app_line(self, row, &columns))?;
        }
        paper.blank()?;
        legend(self, columns.wide, paper)?;
        tasks(self, paper)
    }

    fn is_quiet(&self) -> bool {
        self.tasks.is_empty()
    }
}

/// Where the columns stand: with words, or with marks alone, as wide as the paper allows.
struct Columns {
    titles: usize,
    each: usize,
    wide: bool,
}

impl Columns {
    fn on(paper: &Paper<'_>) -> Self {
        let room = |width: usize| paper.width().is_none_or(|paper| paper >= width);
        match () {
            () if room(TITLES + 9 * WIDE - 3) => Columns { titles: TITLES, each: WIDE, wide: true },
            () if room(TITLES + 9 * NARROW) => Columns { titles: TITLES, each: NARROW, wide: false },
            () => Columns { titles: SHORT_TITLES, each: NARROW, wide: false },
        }
    }

    fn at(&self, index: usize) -> usize {
        self.titles + index * self.each
    }
}

fn heads(columns: &Columns, paper: &mut Paper<'_>) -> io::Result<()> {
    let mut numbers = Line::new();
    let (mut above, mut below) = (Line::new(), Line::new());
    for (index, key) in NineKey::ALL.iter().enumerate() {
        let at = columns.at(index);
        numbers = numbers.to(at).dim((index + 1).to_string());
        let (first, second) = key.words();
        above = above.to(at).dim(first);
        below = below.to(at).dim(second);
    }
    paper.put(&numbers)?;
    if columns.wide {
        paper.put(&above)?;
        paper.put(&below)?;
    }
    Ok(())
}

fn app_line(report: &BoardReport, row: &Row, columns: &Columns) -> Line<'static> {
    let title: String = row.title.chars().take(columns.titles - 4).collect();
    let mut line = Line::new().text("  ").bold(title);
    for (index, cell) in row.cells.iter().enumerate() {
        let sign = Sign::from(cell.mark);
        line = line.to(columns.at(index)).sign(sign);
        let word = word(report, cell);
        if columns.wide && !word.is_empty() {
            line = line.text(" ").like(sign, word);
        }
    }
    line
}

/// The word beside a mark: it says what the mark says, or until when.
fn word(report: &BoardReport, cell: &Cell) -> String {
    match (cell.mark, cell.not_after) {
        (Mark::AtRisk, _) => "no copy".into(),
        (Mark::Missing, _) if cell.asked_at.is_some() => "asked".into(),
        (Mark::Missing, _) => "none".into(),
        (_, Some(until)) => words::distance(report.at, until),
        _ => String::new(),
    }
}

fn legend(report: &BoardReport, wide: bool, paper: &mut Paper<'_>) -> io::Result<()> {
    let mut line = Line::new().text("  ");
    for (sign, words) in [
        (Sign::InUse, "in use".to_owned()),
        (Sign::Due, format!("falls due in {} d", report.due_days)),
        (Sign::Bad, "expired".into()),
        (Sign::Warn, "cannot be replaced and has no backup".into()),
        (Sign::Missing, "missing".into()),
        (Sign::NotNeeded, "not needed".into()),
    ] {
        line = line.sign(sign).dim(format!(" {}   ", words::tied(&words)));
    }
    paper.put(&line.hang(2))?;
    if !wide {
        let names: Vec<String> = NineKey::ALL
            .iter()
            .enumerate()
            .map(|(at, key)| words::tied(&format!("{} {}", at + 1, key.word())))
            .collect();
        paper.put(&Line::new().text("  ").dim(names.join(", ")).hang(2))?;
    }
    Ok(())
}

fn tasks(report: &BoardReport, paper: &mut Paper<'_>) -> io::Result<()> {
    if report.tasks.is_empty() {
        return Ok(());
    }
    paper.blank()?;
    let rows: Vec<Vec<Line<'_>>> = report
        .tasks
        .iter()
        .map(|task| {
            let sign = Sign::from(task.mark);
            let word = match task.mark {
                Mark::Expired => "expired",
                Mark::AtRisk => "at risk",
                Mark::Due => "due",
                Mark::Missing => "missing",
                Mark::InUse | Mark::NotNeeded => "",
            };
            vec![
                Line::new().sign(sign).text(" ").like(sign, word),
                Line::new().text(&task.text),
                Line::new().command(&task.next),
            ]
        })
        .collect();
    paper.table(2, &rows)
}
