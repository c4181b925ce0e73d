//! What ends when, as bars: in the terminal, and as a picture (SVG).

use std::fmt::Write as _;
use std::io;

use jiff::tz::TimeZone;
use jiff::{Span, Timestamp, Zoned};
use ninekeys_core::board::Mark;
use ninekeys_ops::timeline::{Bar, TimelineReport};

use super::line::{Line, Paper, Sign};
use super::markup::escape;
use super::{Report, words};

/// The width of a page without one.
const USUAL_WIDTH: usize = 100;
/// Where names stand, and the most that they take.
const INDENT: usize = 4;
const LONGEST_NAME: usize = 32;
/// The fewest cells of a picture.
const FEWEST_CELLS: usize = 14;

/// Where times stand.
struct Scale {
    from: Timestamp,
    until: Timestamp,
    cells: usize,
}

impl Scale {
    fn of(report: &TimelineReport, cells: usize) -> Self {
        Scale { from: report.from, until: report.until, cells }
    }

    /// As wide as the room allows with what stands behind the bars.
    fn fitting(report: &TimelineReport, room: usize) -> Self {
        let fits = |scale: &Scale| {
            let bars = report.groups.iter().flat_map(|group| &group.bars);
            bars.map(|bar| scale.at(bar.not_after.max(report.at)) + 3 + label(report, bar).chars().count())
                .all(|end| end <= room)
        };
        let scales = (FEWEST_CELLS..=room).rev().map(|cells| Scale::of(report, cells));
        scales.into_iter().find(fits).unwrap_or_else(|| Scale::of(report, FEWEST_CELLS))
    }

    /// The cell that a time falls into.
    fn at(&self, time: Timestamp) -> usize {
        let whole = (self.until.as_second() - self.from.as_second()).max(1);
        let part = (time.as_second() - self.from.as_second()).clamp(0, whole);
        let cells = i64::try_from(self.cells).unwrap_or(i64::MAX);
        usize::try_from(part.saturating_mul(cells) / whole).unwrap_or(0).min(self.cells.saturating_sub(1))
    }
}

/// The months of a picture, each with its first moment.
fn months(report: &TimelineReport) -> Vec<Zoned> {
    let first = report.from.to_zoned(TimeZone::UTC);
    let month = |later| first.checked_add(Span::new().months(later)).ok();
    (0..report.months).filter_map(month).collect()
}

/// What is said behind a bar.
fn label(report: &TimelineReport, bar: &Bar) -> String {
    let distance = words::distance(report.at, bar.not_after);
    let day = words::tied(&bar.not_after.strftime("%-d %b").to_string());
    let takes = match bar.profiles {
        0 => String::new(),
        some => format!(" · {}", words::count(some, "profile")),
    };
    match bar.mark {
        Mark::Expired => format!("expired {day}, {distance}"),
        _ => format!("{day}, {distance}{takes}"),
    }
}

/// The sign of a bar: dates alone decide here.
fn sign(bar: &Bar) -> Sign {
    match bar.mark {
        Mark::Expired => Sign::Bad,
        Mark::Due => Sign::Due,
        _ => Sign::InUse,
    }
}

impl Report for TimelineReport {
    const SCHEMA: &'static str = "ninekeys.timeline/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let title = if self.title.is_empty() { "This project" } else { &self.title };
        let count: usize = self.groups.iter().map(|group| group.bars.len()).sum();
        let within = format!(
            "   {} within {}",
            words::count(count, "end"),
            words::count(self.months as usize, "month")
        );
        paper.put(&Line::new().bold(title).text(within).dim(format!(" · {}", words::day(self.at))))?;
        paper.blank()?;
        if self.groups.is_empty() {
            paper.put(&Line::new().text("  ").sign(Sign::Fine).text(" nothing ends in that time"))?;
        } else {
            let names = self.groups.iter().flat_map(|group| &group.bars).map(|bar| bar.name.len()).max();
            let width = paper.width().unwrap_or(USUAL_WIDTH);
            let name = names.unwrap_or(0).min(LONGEST_NAME).min(width / 3);
            let chart = INDENT + name + 2;
            let scale = Scale::fitting(self, width.saturating_sub(chart));
            heads(self, &scale, chart, paper)?;
            for group in &self.groups {
                let today = chart + scale.at(self.at);
                let line = Line::new().text("  ").bold(&group.title);
                let has_room = group.title.len() + 2 < today;
                let line = if has_room { line.to(today).dim(paper.show("│", "|")) } else { line };
                paper.put(&line)?;
                for bar in &group.bars {
                    paper.put(&row(self, bar, &scale, (name, chart), paper))?;
                }
            }
        }
        beyond(self, paper)
    }

    fn is_quiet(&self) -> bool {
        self.groups.iter().flat_map(|group| &group.bars).all(|bar| bar.mark == Mark::InUse)
    }
}

/// Years and months over the picture, as many as there is room for.
fn heads(report: &TimelineReport, scale: &Scale, chart: usize, paper: &mut Paper<'_>) -> io::Result<()> {
    let (mut years, mut names) = (Line::new(), Line::new());
    let (mut free_year, mut free_name) = (0, 0);
    let all = months(report);
    // a whole year's name matters more than that of the one which goes
    let next = all.iter().skip(1).find(|month| month.month() == 1).map(|month| scale.at(month.timestamp()));
    for (index, month) in all.iter().enumerate() {
        let at = scale.at(month.timestamp());
        let is_first = index == 0 && next.is_none_or(|next| next >= 5);
        if (month.month() == 1 || is_first) && at >= free_year {
            years = years.to(chart + at).dim(month.year().to_string());
            free_year = at + 5;
        }
        if at >= free_name {
            names = names.to(chart + at).dim(month.strftime("%b").to_string());
            free_name = at + 4;
        }
    }
    paper.put(&years)?;
    paper.put(&names)
}

/// One item: its name, its bar from today on, and when it ends.
fn row<'a>(
    report: &TimelineReport,
    bar: &'a Bar,
    scale: &Scale,
    (name, chart): (usize, usize),
    paper: &Paper<'_>,
) -> Line<'a> {
    let (wall, block) = (paper.show("│", "|"), paper.show("▇", "#"));
    let sign = sign(bar);
    let short: String = match bar.name.chars().count() > name {
        true => bar.name.chars().take(name.saturating_sub(1)).chain(paper.show("…", "~").chars()).collect(),
        false => bar.name.clone(),
    };
    let today = scale.at(report.at);
    let line = Line::new().to(INDENT).text(short);
    let behind = label(report, bar);
    if bar.mark == Mark::Expired {
        let at = (chart + today).saturating_sub(1);
        return line.to(at).sign(sign).dim(wall).text(" ").like(sign, behind).hang(chart + today + 2);
    }
    let length = scale.at(bar.not_after).saturating_sub(today).max(1);
    let line = line.to(chart + today).dim(wall).like(sign, block.repeat(length));
    line.text(" ").like(sign, words::tied(&behind)).hang(chart + today + 2)
}

/// What ends behind the picture.
fn beyond(report: &TimelineReport, paper: &mut Paper<'_>) -> io::Result<()> {
    let Some(first) = report.beyond.first() else { return Ok(()) };
    let count = words::count(report.beyond.len(), "more");
    let count = count.trim_end_matches('s');
    let first = format!("the first on {} ({})", words::day(first.not_after), first.name);
    paper.blank()?;
    paper.put(&Line::new().dim(format!("  beyond this picture: {count}, {first}")).hang(2))
}

/// A colour of a picture in the light and in the dark.
const COLOURS: &str = "\
.in-use{fill:#5f9f7f}.due{fill:#e69f00}.expired{fill:#d5534e}\
text{font:13px system-ui,sans-serif;fill:#24292e}.dim{fill:#6a737d}.head{font-weight:600}\
.line{stroke:#d0d7de;stroke-width:1}.today{stroke:#24292e;stroke-width:1.5}\
@media(prefers-color-scheme:dark){text{fill:#e6edf3}.dim{fill:#8b949e}.line{stroke:#30363d}.today{stroke:#e6edf3}}";

/// Sizes of a picture, in its own units.
const WIDTH: usize = 1_000;
const ROW: usize = 24;
const LEFT: usize = 250;
const RIGHT: usize = 190;
const TOP: usize = 46;

/// The same as a picture of its own.
pub(crate) fn picture(report: &TimelineReport) -> String {
    let rows: usize = report.groups.iter().map(|group| group.bars.len() + 1).sum();
    let height = TOP + rows * ROW + 34;
    let scale = Scale::of(report, WIDTH - LEFT - RIGHT);
    let mut out = format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 {WIDTH} {height}\" role=\"img\" \
         aria-label=\"What ends when\"><style>{COLOURS}</style>\n"
    );
    // a text cannot fail to be written into
    let _ = draw(report, &scale, height, &mut out);
    out.push_str("</svg>\n");
    out
}

fn draw(report: &TimelineReport, scale: &Scale, height: usize, out: &mut String) -> std::fmt::Result {
    let bottom = height - 30;
    let every = (months(report).len() / 14).max(1);
    for (index, month) in months(report).iter().enumerate() {
        let x = LEFT + scale.at(month.timestamp());
        writeln!(out, "<line class=\"line\" x1=\"{x}\" y1=\"{}\" x2=\"{x}\" y2=\"{bottom}\"/>", TOP - 6)?;
        if index % every == 0 {
            let name = month.strftime("%b");
            writeln!(out, "<text class=\"dim\" x=\"{}\" y=\"{}\">{name}</text>", x + 3, TOP - 10)?;
        }
        if index == 0 || month.month() == 1 {
            writeln!(out, "<text class=\"head\" x=\"{}\" y=\"{}\">{}</text>", x + 3, TOP - 28, month.year())?;
        }
    }
    let today = LEFT + scale.at(report.at);
    let mut y = TOP;
    for group in &report.groups {
        y += ROW;
        writeln!(out, "<text class=\"head\" x=\"8\" y=\"{}\">{}</text>", y - 8, escape(&group.title))?;
        for bar in &group.bars {
            y += ROW;
            draw_bar(report, bar, scale, (today, y), out)?;
        }
    }
    writeln!(
        out,
        "<line class=\"today\" x1=\"{today}\" y1=\"{}\" x2=\"{today}\" y2=\"{bottom}\"/>",
        TOP - 6
    )?;
    if let Some(first) = report.beyond.first() {
        let count = report.beyond.len();
        let first = format!("{} ({})", words::day(first.not_after), first.name).replace(words::TIE, " ");
        let text = format!("beyond this picture: {count} more, the first on {first}");
        writeln!(out, "<text class=\"dim\" x=\"8\" y=\"{}\">{}</text>", height - 10, escape(&text))?;
    }
    Ok(())
}

fn draw_bar(
    report: &TimelineReport,
    bar: &Bar,
    scale: &Scale,
    (today, y): (usize, usize),
    out: &mut String,
) -> std::fmt::Result {
    let class = match bar.mark {
        Mark::Expired => "expired",
        Mark::Due => "due",
        _ => "in-use",
    };
    let mark = match bar.mark {
        Mark::Expired => "✗",
        Mark::Due => "◐",
        _ => "●",
    };
    let name: String = bar.title.as_ref().unwrap_or(&bar.name).chars().take(32).collect();
    writeln!(out, "<text x=\"20\" y=\"{}\">{}</text>", y - 8, escape(&name))?;
    let end = LEFT + scale.at(bar.not_after);
    let (x, length) = if end >= today { (today, (end - today).max(3)) } else { (today - 8, 8) };
    writeln!(
        out,
        "<rect class=\"{class}\" x=\"{x}\" y=\"{}\" width=\"{length}\" height=\"13\" rx=\"2\"/>",
        y - 18
    )?;
    let text = format!("{mark} {}", label(report, bar)).replace(words::TIE, " ");
    writeln!(out, "<text x=\"{}\" y=\"{}\">{}</text>", x + length + 6, y - 8, escape(&text))
}
