//! The page that `report` writes: one HTML file that needs nothing from elsewhere.

use std::io;

use jiff::Timestamp;
use maud::{DOCTYPE, Markup, PreEscaped, html};
use ninekeys_core::board::{Cell, Mark};
use ninekeys_core::findings::Level;
use ninekeys_core::model::NineKey;
use ninekeys_ops::answers::Finding;
use ninekeys_ops::report::{Hangs, ReportReport};
use schemars::JsonSchema;
use serde::Serialize;

use super::line::{Line, Paper, Sign};
use super::{Report, picture, shell_words, words};

/// How it looks: in the light, in the dark, on a telephone and on paper.
const STYLE: &str = include_str!("page.css");

/// A page that was written.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct ReportWritten {
    /// The file.
    file: String,
    /// What is on it.
    #[serde(flatten)]
    report: ReportReport,
}

impl ReportWritten {
    pub(crate) fn new(file: String, report: ReportReport) -> Self {
        ReportWritten { file, report }
    }
}

impl Report for ReportWritten {
    const SCHEMA: &'static str = "ninekeys.report/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let head = Line::new().sign(Sign::Fine).text(" ").bold(&self.file);
        let items = words::count(self.report.items, "item");
        let todo = words::count(self.report.board.tasks.len(), "task");
        paper.put(&head.text(format!("   {items}, {todo}; one file, nothing secret in it")).hang(2))
    }
}

/// A mark with the word that says the same.
fn told(mark: Mark) -> (&'static str, &'static str, &'static str) {
    match mark {
        Mark::Expired => ("bad", "✗", "expired"),
        Mark::AtRisk => ("warn", "!", "no copy"),
        Mark::Due => ("due", "◐", "falls due"),
        Mark::Missing => ("due", "○", "missing"),
        Mark::InUse => ("good", "●", "in use"),
        Mark::NotNeeded => ("none", "·", "not needed"),
    }
}

fn plain(text: &str) -> String {
    text.replace(words::TIE, " ")
}

fn when(at: Timestamp, end: Timestamp) -> String {
    plain(&words::day_and_distance(at, end))
}

fn command(arguments: &[String]) -> Markup {
    html! { code { "ninekeys " (shell_words(arguments)) } }
}

/// The page.
pub(crate) fn page(report: &ReportReport) -> String {
    let title = if report.board.title.is_empty() { "This project" } else { &report.board.title };
    let page = html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta name="viewport" content="width=device-width, initial-scale=1";
                meta name="color-scheme" content="light dark";
                title { (title) " · keys, " (plain(&words::day(report.at))) }
                style { (PreEscaped(STYLE)) }
            }
            body {
                header {
                    h1 { (title) }
                    p { "9 keys × " (report.board.rows.iter().filter(|row| !row.app.is_empty()).count()) " apps, "
                        (plain(&words::moment(report.at))) }
                }
                main {
                    (summary(report))
                    (board(report))
                    (tasks(report))
                    section {
                        h2 { "What ends when" }
                        div.wide { (PreEscaped(picture(&report.timeline))) }
                    }
                    (map(report))
                    (findings(report))
                    (ledger(report))
                }
                footer { "Written by Nine Keys. Nothing on this page is secret." }
            }
        }
    };
    page.into_string()
}

/// How many there are of what.
fn summary(report: &ReportReport) -> Markup {
    let cells = || report.board.rows.iter().flat_map(|row| &row.cells);
    let bars = || report.timeline.groups.iter().flat_map(|group| &group.bars).chain(&report.timeline.beyond);
    // what ends is counted one by one; what is missing, and what has no copy, as the board says it
    let count = |mark: Mark| match mark {
        Mark::Expired | Mark::Due => bars().filter(|bar| bar.mark == mark).count(),
        _ => {
            let with_mark = cells().filter(|cell| cell.mark == mark && cell.key != NineKey::Cabinet);
            let mut names: Vec<_> = with_mark.map(|cell| (cell.key, &cell.item)).collect();
            names.sort();
            names.dedup();
            names.len()
        }
    };
    let all = [Mark::Expired, Mark::AtRisk, Mark::Due, Mark::Missing];
    html! {
        section.summary aria-label="Summary" {
            div.tile.good { strong { (report.items) } " in the cabinet" }
            @for mark in all {
                @let (class, sign, word) = told(mark);
                @let number = count(mark);
                div class=(if number == 0 { "tile none" } else { class_of_tile(class) }) {
                    strong { span.sign { (sign) } " " (number) } " " (word)
                }
            }
        }
    }
}

fn class_of_tile(class: &str) -> &'static str {
    match class {
        "bad" => "tile bad",
        "warn" => "tile warn",
        _ => "tile due",
    }
}

fn board(report: &ReportReport) -> Markup {
    html! {
        section {
            h2 { "Nine keys" }
            div.wide {
                table.board {
                    thead { tr {
                        th {}
                        @for (index, key) in NineKey::ALL.iter().enumerate() {
                            @let (first, second) = key.words();
                            th scope="col" { span.number { (index + 1) } br; (first) br; (second) }
                        }
                    } }
                    tbody { @for row in &report.board.rows { tr {
                        th scope="row" { (row.title) }
                        @for cell in &row.cells { (board_cell(report, cell)) }
                    } } }
                }
            }
            p.legend { @for mark in [Mark::InUse, Mark::Due, Mark::Expired, Mark::AtRisk, Mark::Missing, Mark::NotNeeded] {
                @let (class, sign, word) = told(mark);
                span { span.sign.(class) { (sign) } " " (word) } " "
            } }
        }
    }
}

fn board_cell(report: &ReportReport, cell: &Cell) -> Markup {
    let (class, sign, word) = told(cell.mark);
    let text = match (cell.mark, cell.not_after) {
        (Mark::AtRisk, _) => "no copy".to_owned(),
        (Mark::Missing, _) if cell.asked_at.is_some() => "asked".into(),
        (Mark::Missing, _) => "none".into(),
        (_, Some(end)) => plain(&words::distance(report.at, end)),
        _ => String::new(),
    };
    html! { td class=(class) title=(cell.item.as_deref().unwrap_or(word)) { span.sign { (sign) } " " (text) } }
}

fn tasks(report: &ReportReport) -> Markup {
    html! {
        section {
            h2 { "What to do" }
            @if report.board.tasks.is_empty() { p { span.sign.good { "✓" } " nothing" } }
            @else { ul.tasks { @for task in &report.board.tasks {
                @let (class, sign, word) = told(task.mark);
                li { span class=(class) { span.sign { (sign) } " " (word) } " " (task.text) " " (command(&task.next)) }
            } } }
        }
    }
}

fn map(report: &ReportReport) -> Markup {
    html! {
        section {
            h2 { "What hangs on what" }
            @if report.map.is_empty() { p { "There is nothing in the cabinet yet." } }
            ul.map { @for one in &report.map { (hangs(report, one)) } }
        }
    }
}

fn hangs(report: &ReportReport, one: &Hangs) -> Markup {
    let (class, sign, _) = told(one.mark);
    html! {
        li {
            @if one.kind == "app" { span { (one.name) } }
            @else { span class=(class) { span.sign { (sign) } } " " strong { (one.name) } " " span.dim { (one.kind) } }
            @if let Some(end) = one.not_after { " " span class=(class) { (when(report.at, end)) } }
            @if !one.below.is_empty() { ul { @for below in &one.below { (hangs(report, below)) } } }
        }
    }
}

fn findings(report: &ReportReport) -> Markup {
    let of_cabinet = report.findings.cabinet.iter().flat_map(|verdict| &verdict.findings);
    html! {
        section {
            h2 { "What a check finds" }
            @for setup in &report.findings.setups {
                h3 { span.sign.(if setup.ready { "good" } else { "bad" }) { (if setup.ready { "✓" } else { "✗" }) }
                    " " (setup.title) " for " (setup.destination.phrase()) }
                ul.findings { @for one in &setup.verdict.findings { (finding(one)) } }
            }
            @if of_cabinet.clone().next().is_some() {
                h3 { "The cabinet" }
                ul.findings { @for one in of_cabinet { (finding(one)) } }
            }
        }
    }
}

fn finding(one: &Finding) -> Markup {
    let (class, sign) = match one.level {
        Level::Error => ("bad", "✗ error"),
        Level::Warning => ("warn", "! warning"),
        Level::Note => ("none", "· note"),
    };
    html! { li {
        span class=(class) { (sign) } " " strong { (one.rule) } " " (one.text)
        @if let Some(place) = &one.place { " " span.dim { "(" (place) ")" } }
        @if let Some(mend) = &one.mend { " " (command(mend)) }
    } }
}

fn ledger(report: &ReportReport) -> Markup {
    html! {
        section {
            h2 { "What was signed with what" }
            @if report.releases.is_empty() { p { "Nothing was signed yet." } } @else {
                div.wide { table.ledger {
                    thead { tr { th { "release" } th { "for" } th { "signed with" } th { "when" } th { "file" } } }
                    tbody { @for one in &report.releases { tr {
                        td { strong { (one.app) } " " (one.version) " (" (one.number) ")" }
                        td { (one.store.clone().unwrap_or_else(|| one.destination.to_string())) }
                        td { (one.signed_with) }
                        td { (when(report.at, one.signed)) }
                        td.dim { (one.file) }
                    } } }
                } }
                @if report.all_releases > report.releases.len() {
                    p.dim { (report.all_releases - report.releases.len()) " older ones: " code { "ninekeys releases" } }
                }
            }
        }
    }
}
