//! The page that `report` writes: one HTML file that needs nothing from elsewhere.

use std::fmt::Display;
use std::io;

use jiff::Timestamp;
use ninekeys_core::board::{Cell, Mark, Row, Task};
use ninekeys_core::findings::Level;
use ninekeys_core::model::{NineKey, ReleaseFacts};
use ninekeys_ops::answers::Finding;
use ninekeys_ops::report::{Hangs, ReportReport};
use schemars::JsonSchema;
use serde::Serialize;

use super::line::{Line, Paper, Sign};
use super::markup::{Element, element, span};
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

fn command(arguments: &[String]) -> Element {
    element("code").text("ninekeys ").text(shell_words(arguments))
}

fn section(title: &str) -> Element {
    element("section").child(element("h2").text(title))
}

fn wide(child: Element) -> Element {
    element("div").class("wide").child(child)
}

/// The page.
pub(crate) fn page(report: &ReportReport) -> String {
    let title = if report.board.title.is_empty() { "This project" } else { &report.board.title };
    let meta = |name, content| element("meta").attribute("name", name).attribute("content", content);
    let head = element("head")
        .child(element("meta").attribute("charset", "utf-8"))
        .child(meta("viewport", "width=device-width, initial-scale=1"))
        .child(meta("color-scheme", "light dark"))
        .child(element("title").text(title).text(" · keys, ").text(plain(&words::day(report.at))))
        .child(element("style").markup(STYLE));
    let apps = report.board.rows.iter().filter(|row| !row.app.is_empty()).count();
    let size = format!("9 keys × {apps} apps, {}", plain(&words::moment(report.at)));
    let timeline = element("div").class("wide").markup(picture(&report.timeline));
    let main = element("main")
        .child(summary(report))
        .child(board(report))
        .child(tasks(report))
        .child(section("What ends when").child(timeline))
        .child(map(report))
        .child(findings(report))
        .child(ledger(report));
    let body = element("body")
        .child(element("header").child(element("h1").text(title)).child(element("p").text(size)))
        .child(main)
        .child(element("footer").text("Written by Nine Keys. Nothing on this page is secret."));
    element("html").attribute("lang", "en").child(head).child(body).html()
}

/// How many there are of what.
fn summary(report: &ReportReport) -> Element {
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
    let strong = |number| element("strong").text(number);
    let items = element("div").class("tile good").child(strong(report.items)).text(" in the cabinet");
    let tile = |mark| {
        let (class, sign, word) = told(mark);
        let number = count(mark);
        let class = if number == 0 { "tile none" } else { class_of_tile(class) };
        let number = element("strong").child(span("sign", sign)).text(" ").text(number);
        element("div").class(class).child(number).text(" ").text(word)
    };
    let section = element("section").class("summary").attribute("aria-label", "Summary").child(items);
    section.children([Mark::Expired, Mark::AtRisk, Mark::Due, Mark::Missing].map(tile))
}

fn class_of_tile(class: &str) -> &'static str {
    match class {
        "bad" => "tile bad",
        "warn" => "tile warn",
        _ => "tile due",
    }
}

fn sign_of(class: &str, sign: &str) -> Element {
    span(&format!("sign {class}"), sign)
}

fn board(report: &ReportReport) -> Element {
    let key = |(index, key): (usize, &NineKey)| {
        let (first, second) = key.words();
        let head = element("th").attribute("scope", "col").child(span("number", index + 1));
        head.child(element("br")).text(first).child(element("br")).text(second)
    };
    let row = |row: &Row| {
        let title = element("th").attribute("scope", "row").text(&row.title);
        element("tr").child(title).children(row.cells.iter().map(|cell| board_cell(report, cell)))
    };
    let keys = element("tr").child(element("th")).children(NineKey::ALL.iter().enumerate().map(key));
    let table = element("table").class("board").child(element("thead").child(keys));
    let table = table.child(element("tbody").children(report.board.rows.iter().map(row)));
    let marks = [Mark::InUse, Mark::Due, Mark::Expired, Mark::AtRisk, Mark::Missing, Mark::NotNeeded];
    let legend = marks.into_iter().fold(element("p").class("legend"), |legend, mark| {
        let (class, sign, word) = told(mark);
        legend.child(element("span").child(sign_of(class, sign)).text(" ").text(word)).text(" ")
    });
    section("Nine keys").child(wide(table)).child(legend)
}

fn board_cell(report: &ReportReport, cell: &Cell) -> Element {
    let (class, sign, word) = told(cell.mark);
    let text = match (cell.mark, cell.not_after) {
        (Mark::AtRisk, _) => "no copy".to_owned(),
        (Mark::Missing, _) if cell.asked_at.is_some() => "asked".into(),
        (Mark::Missing, _) => "none".into(),
        (_, Some(end)) => plain(&words::distance(report.at, end)),
        _ => String::new(),
    };
    let title = cell.item.as_deref().unwrap_or(word);
    let element = element("td").class(class).attribute("title", title);
    element.child(span("sign", sign)).text(" ").text(text)
}

fn tasks(report: &ReportReport) -> Element {
    let task = |task: &Task<Vec<String>>| {
        let (class, sign, word) = told(task.mark);
        let mark = element("span").class(class).child(span("sign", sign)).text(" ").text(word);
        element("li").child(mark).text(" ").text(&task.text).text(" ").child(command(&task.next))
    };
    let section = section("What to do");
    if report.board.tasks.is_empty() {
        return section.child(element("p").child(sign_of("good", "✓")).text(" nothing"));
    }
    section.child(element("ul").class("tasks").children(report.board.tasks.iter().map(task)))
}

fn map(report: &ReportReport) -> Element {
    let empty = report.map.is_empty();
    let empty = empty.then(|| element("p").text("There is nothing in the cabinet yet."));
    let list = element("ul").class("map").children(report.map.iter().map(|one| hangs(report, one)));
    section("What hangs on what").maybe(empty).child(list)
}

fn hangs(report: &ReportReport, one: &Hangs) -> Element {
    let (class, sign, _) = told(one.mark);
    let item = element("li");
    let item = if one.kind == "app" {
        item.child(element("span").text(&one.name))
    } else {
        let mark = element("span").class(class).child(span("sign", sign));
        let name = element("strong").text(&one.name);
        item.child(mark).text(" ").child(name).text(" ").child(span("dim", one.kind))
    };
    let item = match one.not_after {
        Some(end) => item.text(" ").child(span(class, when(report.at, end))),
        None => item,
    };
    let below = one.below.iter().map(|below| hangs(report, below));
    item.maybe((!one.below.is_empty()).then(|| element("ul").children(below)))
}

fn findings(report: &ReportReport) -> Element {
    let list = |findings: &[&Finding]| {
        element("ul").class("findings").children(findings.iter().map(|one| finding(one)))
    };
    let mut section = section("What a check finds");
    for setup in &report.findings.setups {
        let (class, sign) = if setup.ready { ("good", "✓") } else { ("bad", "✗") };
        let title = format!(" {} for {}", setup.title, setup.destination.phrase());
        let found: Vec<_> = setup.verdict.findings.iter().collect();
        section = section.child(element("h3").child(sign_of(class, sign)).text(title)).child(list(&found));
    }
    let of_cabinet: Vec<_> = report.findings.cabinet.iter().flat_map(|verdict| &verdict.findings).collect();
    if of_cabinet.is_empty() {
        return section;
    }
    section.child(element("h3").text("The cabinet")).child(list(&of_cabinet))
}

fn finding(one: &Finding) -> Element {
    let (class, sign) = match one.level {
        Level::Error => ("bad", "✗ error"),
        Level::Warning => ("warn", "! warning"),
        Level::Note => ("none", "· note"),
    };
    let rule = element("strong").text(one.rule);
    let mut item = element("li").child(span(class, sign)).text(" ").child(rule).text(" ").text(&one.text);
    if let Some(place) = &one.place {
        item = item.text(" ").child(span("dim", format!("({place})")));
    }
    match &one.mend {
        Some(mend) => item.text(" ").child(command(mend)),
        None => item,
    }
}

fn ledger(report: &ReportReport) -> Element {
    let section = section("What was signed with what");
    if report.releases.is_empty() {
        return section.child(element("p").text("Nothing was signed yet."));
    }
    let cell = |text: &dyn Display| element("td").text(text);
    let row = |one: &ReleaseFacts| {
        let release = element("td").child(element("strong").text(&one.app));
        let release = release.text(format!(" {} ({})", one.version, one.number));
        let destination = one.store.clone().unwrap_or_else(|| one.destination.to_string());
        let row = element("tr").child(release).child(cell(&destination)).child(cell(&one.signed_with));
        row.child(cell(&when(report.at, one.signed))).child(cell(&one.file).class("dim"))
    };
    let heads = ["release", "for", "signed with", "when", "file"].map(|head| element("th").text(head));
    let table = element("table").class("ledger");
    let table = table.child(element("thead").child(element("tr").children(heads)));
    let table = table.child(element("tbody").children(report.releases.iter().map(row)));
    let more = report.all_releases.saturating_sub(report.releases.len());
    let more = (more > 0).then(|| {
        let note = element("p").class("dim").text(format!("{more} older ones: "));
        note.child(element("code").text("ninekeys releases"))
    });
    section.child(wide(table)).maybe(more)
}
