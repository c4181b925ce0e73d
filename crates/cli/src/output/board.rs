//! The board: marks and words in nine columns, or marks alone where it is narrow.

use std::io;

use ninekeys_core::board::{Cell, Mark, Row};
use ninekeys_core::model::NineKey;

use ninekeys_ops::board::BoardReport;
use schemars::JsonSchema;
use serde::Serialize;

use super::line::{Line, Paper, Sign};
use super::{Report, words};

/// The least width of the column of titles, beside words.
const TITLES: usize = 17;
/// The same beside marks alone.
const SHORT_TITLES: usize = 12;
/// The most width of it.
const MOST_TITLES: usize = 44;
/// Width of a column of keys with words.
const WIDE: usize = 10;
/// Width of a column of keys with marks alone.
const NARROW: usize = 3;

/// More apps than this are not looked through one by one: a terminal shows those with something to do.
const MANY: usize = 24;
/// The most rows and the most tasks that a terminal shows of very many.
const MOST: usize = 40;

/// A board, and whether all of it is drawn however much it is.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(transparent)]
pub(crate) struct Drawn<'a> {
    pub(crate) board: &'a BoardReport,
    #[serde(skip)]
    pub(crate) all: bool,
}

impl Report for Drawn<'_> {
    const SCHEMA: &'static str = "ninekeys.board/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let board = self.board;
        let title = if board.title.is_empty() { "This project" } else { &board.title };
        let apps = board.rows.iter().filter(|row| !row.app.is_empty()).count();
        let apps = words::count(apps, "app");
        let head = Line::new().bold(title).text(format!(" · 9 keys × {apps} · {}", words::day(board.at)));
        paper.put(&head.hang(2))?;
        paper.blank()?;
        if board.rows.is_empty() {
            let next = ["app", "add", "NAME", "--package", "PACKAGE", "--for", "direct"];
            return paper.put(&Line::new().dim("  next   ").command(&next));
        }
        let columns = Columns::on(paper, &board.rows);
        heads(&columns, paper)?;
        // through a pipe nothing is left out
        let folded = !self.all && paper.width().is_some() && board.rows.len() > MANY;
        let rows = board.rows.iter().filter(|row| !folded || has_something(row));
        let most = if folded { MOST } else { usize::MAX };
        for row in rows.clone().take(most) {
            paper.put(&app_line(board, row, &columns))?;
        }
        if folded {
            rest(board, rows.count(), paper)?;
        }
        paper.blank()?;
        legend(board, columns.wide, paper)?;
        tasks(board, most, paper)
    }

    fn is_quiet(&self) -> bool {
        self.board.tasks.is_empty()
    }
}

/// Whether there is something to do about an app itself: the cabinet key is everybody's.
fn has_something(row: &Row) -> bool {
    let own = row.cells.iter().filter(|cell| cell.key != NineKey::Cabinet);
    own.map(|cell| cell.mark).any(|mark| !matches!(mark, Mark::InUse | Mark::NotNeeded))
}

/// How many apps are not drawn, and how to see them.
fn rest(board: &BoardReport, with_something: usize, paper: &mut Paper<'_>) -> io::Result<()> {
    let quiet = board.rows.len() - with_something;
    let more = with_something.saturating_sub(MOST);
    let mut parts = Vec::new();
    if more > 0 {
        parts.push(format!("{} more with something to do", words::count(more, "app")));
    }
    if quiet > 0 {
        parts.push(format!("{} with nothing to do", words::count(quiet, "app")));
    }
    let line = Line::new().text("  ").dim(format!("{}   ", parts.join(", ")));
    paper.put(&line.command(&["board", "--all"]).hang(2))
}

/// Where the columns stand: with words, or with marks alone, as wide as the paper allows.
struct Columns {
    titles: usize,
    each: usize,
    wide: bool,
}

impl Columns {
    /// As wide as the longest title needs, where there is room for it.
    fn on(paper: &Paper<'_>, rows: &[Row]) -> Self {
        let longest = rows.iter().map(|row| row.title.chars().count()).max().unwrap_or(0) + 4;
        let left = |keys: usize| paper.width().map_or(MOST_TITLES, |width| width.saturating_sub(keys));
        let wide = left(9 * WIDE - 3) >= TITLES;
        let (least, keys) = if wide { (TITLES, 9 * WIDE - 3) } else { (SHORT_TITLES, 9 * NARROW) };
        let most = left(keys).clamp(least, MOST_TITLES);
        Columns { titles: longest.clamp(least, most), each: if wide { WIDE } else { NARROW }, wide }
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

fn tasks(report: &BoardReport, most: usize, paper: &mut Paper<'_>) -> io::Result<()> {
    if report.tasks.is_empty() {
        return Ok(());
    }
    paper.blank()?;
    let rows: Vec<Vec<Line<'_>>> = report
        .tasks
        .iter()
        .take(most)
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
    paper.table(2, &rows)?;
    match report.tasks.len().saturating_sub(most) {
        0 => Ok(()),
        more => {
            let line = Line::new().text("  ").dim(format!("and {more} more   "));
            paper.put(&line.command(&["board", "--all"]).hang(2))
        }
    }
}

#[cfg(test)]
mod tests {
    use ninekeys_core::board::Task;
    use ninekeys_core::model::Destination;

    use super::*;
    use crate::output::Marks;

    /// Two hundred apps; a distribution identity of every fiftieth falls due.
    fn many() -> BoardReport {
        let row = |number: usize| {
            let cell = |key: &NineKey| {
                let due = *key == NineKey::Distribution && number.is_multiple_of(50);
                let mark = match key {
                    NineKey::Cabinet => Mark::AtRisk,
                    _ if due => Mark::Due,
                    _ => Mark::InUse,
                };
                Cell { key: *key, mark, item: None, not_after: None, asked_at: None }
            };
            let (app, title) = (format!("app-{number:03}"), format!("Ferry line {number:03}"));
            let cells = NineKey::ALL.iter().map(cell).collect();
            Row { app, title, cells, first: Destination::Store }
        };
        let task = |number: usize| Task {
            mark: Mark::Due,
            text: format!("distribution-{number} (identity)"),
            next: vec!["rotate".into(), "draft".into(), format!("distribution-{number}")],
        };
        BoardReport {
            title: "Gannet Point Ferries".into(),
            at: "2031-05-19T12:00:00Z".parse().unwrap(),
            due_days: 45,
            rows: (0..200).map(row).collect(),
            tasks: (0..50).map(task).collect(),
        }
    }

    fn drawn(width: Option<usize>, all: bool) -> String {
        let (board, mut out) = (many(), Vec::new());
        Drawn { board: &board, all }.text(&mut Paper::new(&mut out, width, Marks::Unicode)).unwrap();
        anstream::adapter::strip_str(&String::from_utf8(out).unwrap()).to_string()
    }

    #[test]
    fn of_very_many_apps_a_terminal_shows_those_with_something_to_do() {
        for width in [60, 80, 100, 140] {
            let text = drawn(Some(width), false);
            let rows: Vec<&str> = text.lines().filter(|line| line.starts_with("  Ferry")).collect();
            assert_eq!(rows.len(), 4, "{width}\n{text}");
            assert!(
                rows[1].starts_with("  Ferry line 050") && text.contains("196 apps with nothing to do"),
                "{text}"
            );
            assert!(text.contains("and 10 more   ninekeys board --all"), "{text}");
            // only what is to be typed may be wider: it stays whole, to be copied
            let wide: Vec<&str> =
                text.lines().filter(|line| unicode_width::UnicodeWidthStr::width(*line) > width).collect();
            assert!(wide.is_empty(), "{width}: {wide:?}");
        }
        for text in [drawn(None, false), drawn(Some(80), true)] {
            assert_eq!(text.lines().filter(|line| line.starts_with("  Ferry")).count(), 200, "{text}");
            assert!(!text.contains("--all"), "{text}");
        }
    }
}
