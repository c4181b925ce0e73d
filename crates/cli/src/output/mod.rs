//! Printing: the answer to stdout as text or JSON, everything else to stderr.

mod apikeys;
mod apps;
mod board;
mod build;
mod cabinet;
mod calendar;
mod dates;
mod devices;
mod difference;
mod families;
mod give;
mod hand_on;
mod identities;
mod inspect;
mod ios;
mod items;
mod junit;
mod keystores;
mod lend;
mod line;
mod made;
mod markup;
mod metrics;
mod notices;
mod page;
mod pieces;
mod portal;
mod prepare;
mod profiles;
mod rotate;
mod sarif;
#[cfg(test)]
mod schemas;
mod setups;
mod show;
mod spreadsheet;
mod store;
mod sweep;
mod testers;
mod timeline;
mod verdicts;
pub(crate) mod words;

use std::io::{self, BufWriter, IsTerminal, Write};

use anstream::{AutoStream, ColorChoice};
use serde::Serialize;

use ninekeys_ops::build::setup::CheckSetupReport;
use ninekeys_ops::inventory::InventoryReport;
use ninekeys_ops::sweep::SweepReport;
use ninekeys_ops::timeline::TimelineReport;
use ninekeys_ops::{Ctx, Notice};

use crate::arguments::{Format, Global};
use crate::failure::{Exit, Failure};

pub(crate) use board::Drawn;
pub(crate) use build::{Signed, Single};
pub(crate) use line::{Line, Marks, Paper, shell_words};
pub(crate) use page::{ReportWritten, page};
pub(crate) use timeline::picture;
pub(crate) use verdicts::{Outcome, Verdicts};

/// Something that can be answered, to people and to programs alike.
pub(crate) trait Report: Serialize {
    /// Name and version of its JSON form.
    const SCHEMA: &'static str;

    /// Prints it for people.
    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()>;

    /// Whether there is nothing to say when only trouble is asked for.
    fn is_quiet(&self) -> bool {
        true
    }
}

/// Where answers go.
pub(crate) struct Output {
    format: Format,
    quiet: bool,
    width: Option<usize>,
    marks: Marks,
    closed: bool,
}

/// How much of an answer is held before it is written.
const HELD: usize = 64 << 10;

#[derive(Serialize)]
struct Tagged<'a, R> {
    schema: &'static str,
    #[serde(flatten)]
    report: &'a R,
}

/// Writes a document to stdout: none has colour in it that would have to be taken out.
fn as_it_is(write: impl FnOnce(&mut dyn Write) -> io::Result<()>) -> io::Result<()> {
    let mut stdout = BufWriter::with_capacity(HELD, stdout().lock());
    write(&mut stdout)?;
    stdout.flush()
}

impl Output {
    /// As the command line and the terminal want it.
    pub(crate) fn new(global: &Global) -> Self {
        Output {
            format: global.format,
            quiet: global.quiet,
            width: width(),
            marks: Marks::of_locale(),
            closed: false,
        }
    }

    /// For words that could not be understood: as far as they say it.
    pub(crate) fn of_words(typed: &[String]) -> Self {
        let own = typed.iter().take_while(|word| *word != "--");
        let json = own.clone().any(|word| word == "--format=json")
            || own.clone().zip(own.skip(1)).any(|(option, value)| option == "--format" && value == "json");
        let format = if json { Format::Json } else { Format::Text };
        Output { format, quiet: false, width: width(), marks: Marks::of_locale(), closed: false }
    }

    /// Answers.
    pub(crate) fn emit<R: Report>(&mut self, report: &R) {
        if self.quiet && self.format == Format::Text && report.is_quiet() {
            return;
        }
        let written = match self.format {
            Format::Json => as_it_is(|stdout| {
                serde_json::to_writer_pretty(&mut *stdout, &Tagged { schema: R::SCHEMA, report })?;
                writeln!(stdout)
            }),
            _ => self.on_paper(|paper| report.text(paper)),
        };
        self.note(written);
    }

    /// Writes to stdout, with colour where it can be shown.
    fn on_paper(&self, write: impl FnOnce(&mut Paper<'_>) -> io::Result<()>) -> io::Result<()> {
        if AutoStream::choice(&stdout()) == ColorChoice::Never {
            let mut stdout = BufWriter::with_capacity(HELD, stdout().lock());
            write(&mut Paper::new(&mut stdout, self.width, self.marks).without_colour())?;
            return stdout.flush();
        }
        let mut stdout = BufWriter::new(anstream::stdout().lock());
        write(&mut Paper::new(&mut stdout, self.width, self.marks))?;
        stdout.flush()
    }

    /// Answers with the verdicts of a check: on one build as that build's report, on several as a list.
    pub(crate) fn emit_verdicts(&mut self, verdicts: &Verdicts) {
        match verdicts.only() {
            _ if self.is_document() => self.document(&verdicts::Judgement::of_builds(verdicts)),
            Some(one) if verdicts.tree => self.emit(&build::WithTree(one)),
            Some(one) => self.emit(one),
            None => self.emit(verdicts),
        }
    }

    /// Answers with what ends when, as text or as a picture.
    pub(crate) fn emit_timeline(&mut self, report: &TimelineReport) {
        match self.format {
            Format::Svg => self.print(&picture(report)),
            _ => self.emit(report),
        }
    }

    /// Answers with the inventory, in whatever format was asked for.
    pub(crate) fn emit_inventory(&mut self, report: &InventoryReport<'_>) {
        let written = match self.format {
            Format::Json => as_it_is(|stdout| {
                let without = InventoryReport { items: Vec::new(), ..*report };
                let without = Tagged { schema: InventoryReport::SCHEMA, report: &without };
                pieces::json(&without, &report.items, |piece| stdout.write_all(piece))?;
                writeln!(stdout)
            }),
            Format::Csv => as_it_is(|stdout| spreadsheet::of_inventory(report, stdout)),
            Format::Ics => as_it_is(|stdout| calendar::of_inventory(report, stdout)),
            Format::Openmetrics => as_it_is(|stdout| metrics::of_inventory(report, stdout)),
            _ => return self.emit(report),
        };
        self.note(written);
    }

    /// Answers with what a sweep found.
    pub(crate) fn emit_sweep(&mut self, report: &SweepReport) {
        match self.format {
            Format::Sarif => self.written(sarif::of_sweep(report)),
            _ => self.emit(report),
        }
    }

    /// Answers with what is in place and what is not.
    pub(crate) fn emit_setups(&mut self, report: &CheckSetupReport) {
        match self.is_document() {
            true => self.document(&verdicts::Judgement::of_setups(report)),
            false => self.emit(report),
        }
    }

    /// Whether a document of another standard was asked for.
    fn is_document(&self) -> bool {
        matches!(self.format, Format::Sarif | Format::Junit)
    }

    fn document(&mut self, judgement: &verdicts::Judgement<'_>) {
        let document = match self.format {
            Format::Junit => junit::document(judgement),
            _ => sarif::document(judgement),
        };
        self.written(document);
    }

    /// Prints a document, if it could be put together.
    fn written(&mut self, document: io::Result<Vec<u8>>) {
        self.note(document.and_then(|bytes| as_it_is(|stdout| stdout.write_all(&bytes))));
    }

    /// Answers with words of the program itself: to people as they are, to programs in a document.
    pub(crate) fn tell<R: Report>(&mut self, report: &R, words: &str) {
        match self.format {
            Format::Json => self.emit(report),
            _ => self.print(words),
        }
    }

    /// Prints words of the program itself (a demo's lines), whatever the format.
    pub(crate) fn print(&mut self, text: &str) {
        let mut stdout = BufWriter::new(anstream::stdout().lock());
        let written = stdout.write_all(text.as_bytes()).and_then(|()| stdout.flush());
        self.note(written);
    }

    /// Prints lines for people.
    pub(crate) fn lines(&mut self, lines: &[Line<'_>]) {
        let written = self.on_paper(|paper| lines.iter().try_for_each(|line| paper.put(line)));
        self.note(written);
    }

    /// Says why not, on stderr.
    pub(crate) fn failure(&mut self, failure: &Failure) -> Exit {
        let mut stderr = anstream::stderr().lock();
        let _ = match self.format {
            Format::Json => serde_json::to_writer_pretty(&mut stderr, failure)
                .map_err(io::Error::from)
                .and_then(|()| writeln!(stderr)),
            _ => failure.text(&mut Paper::new(&mut stderr, self.width, self.marks)),
        };
        failure.exit
    }

    /// Says on stderr what a person has to be told whatever was asked.
    pub(crate) fn notices(&mut self, ctx: &Ctx<'_>) {
        for notice in ctx.notices.borrow().iter() {
            if self.quiet && matches!(notice, Notice::NotPinned(_)) {
                continue;
            }
            let mut stderr = anstream::stderr().lock();
            let _ = match self.format {
                Format::Json => serde_json::to_writer(&mut stderr, &notices::json(notice, &ctx.folder))
                    .map_err(io::Error::from)
                    .and_then(|()| writeln!(stderr)),
                _ => notices::text(notice, &ctx.folder, &mut Paper::new(&mut stderr, self.width, self.marks)),
            };
        }
    }

    /// The exit code, unless the answer could not be written.
    pub(crate) fn finish(&self, exit: Exit) -> Exit {
        if self.closed { Exit::Damaged } else { exit }
    }

    /// A reader that went away has seen enough; any other trouble with stdout counts.
    fn note(&mut self, written: io::Result<()>) {
        if let Err(error) = written
            && error.kind() != io::ErrorKind::BrokenPipe
        {
            self.closed = true;
            let failure = Failure::plain(Exit::Damaged, "print the answer", &error.to_string())
                .say("look at where stdout goes: it took no more");
            self.failure(&failure.changed("what was asked for is done; only its answer is lost"));
        }
    }
}

/// Stdout as it is, for what has no colour in it.
#[expect(clippy::disallowed_methods, reason = "this module prints")]
fn stdout() -> io::Stdout {
    io::stdout()
}

/// The terminal's width; nothing through a pipe, where no line is broken.
#[expect(clippy::disallowed_methods, reason = "asked for what it is, not printed to")]
fn width() -> Option<usize> {
    let forced = std::env::var("COLUMNS").ok().and_then(|columns| columns.parse().ok());
    if !io::stdout().is_terminal() {
        return None;
    }
    forced.or_else(|| terminal_size::terminal_size().map(|(width, _)| usize::from(width.0)))
}
