//! What the cells of a table are written with: straight into columns, or as lines where there is no room for columns.

use std::io::{self, Write};

use anstyle::Style;

use super::{Line, Marks, Paper, Sign, columns, harmless, is_plain};
use crate::output::words::TIE;

/// Writes the cells of a row, one after the other. Nothing else is kept of what it draws: a list may have 100,000 rows.
pub(crate) struct Pen<'p, 't> {
    to: To<'p, 't>,
    /// Where a text is put together that stands nowhere yet.
    made: String,
}

enum To<'p, 't> {
    Columns(Drawing<'p>),
    Lines(&'p mut Vec<Line<'t>>),
}

impl<'p, 't> Pen<'p, 't> {
    /// One that draws cells, in signs that the locale can show.
    pub(super) fn on_cells(cells: &'p mut Cells, marks: Marks, colour: bool) -> Self {
        Pen { to: To::Columns(Drawing::new(cells, marks, colour)), made: String::new() }
    }

    /// One that makes a line of each cell.
    pub(super) fn on_lines(lines: &'p mut Vec<Line<'t>>) -> Self {
        Pen { to: To::Lines(lines), made: String::new() }
    }

    /// Begins the next cell.
    pub(crate) fn cell(&mut self) -> &mut Self {
        match &mut self.to {
            To::Columns(drawing) => drawing.next(),
            To::Lines(lines) => lines.push(Line::new()),
        }
        self
    }

    /// The next cell, as it stands in a line.
    pub(super) fn line(&mut self, line: &Line<'t>) {
        match &mut self.to {
            To::Columns(drawing) => drawing.line(line),
            To::Lines(lines) => lines.push(line.clone()),
        }
    }

    fn put(&mut self, style: Style, text: &str) -> &mut Self {
        match &mut self.to {
            To::Columns(drawing) => drawing.put(style, text),
            To::Lines(lines) => last(lines, |line| line.push(style, text.to_owned())),
        }
        self
    }

    /// Plain text.
    pub(crate) fn text(&mut self, text: &str) -> &mut Self {
        self.put(Style::new(), text)
    }

    /// A name.
    pub(crate) fn bold(&mut self, text: &str) -> &mut Self {
        self.put(Style::new().bold(), text)
    }

    /// A label.
    pub(crate) fn dim(&mut self, text: &str) -> &mut Self {
        self.put(Style::new().dimmed(), text)
    }

    /// Text in a sign's colour.
    pub(crate) fn like(&mut self, sign: Sign, text: &str) -> &mut Self {
        self.put(sign.style(), text)
    }

    /// Plain text that is put together for it.
    pub(crate) fn made(&mut self, make: impl FnOnce(&mut String)) -> &mut Self {
        let mut text = std::mem::take(&mut self.made);
        text.clear();
        make(&mut text);
        self.text(&text);
        self.made = text;
        self
    }

    /// A sign.
    pub(crate) fn sign(&mut self, sign: Sign) -> &mut Self {
        match &mut self.to {
            To::Columns(drawing) => drawing.put(sign.style(), sign.text(drawing.marks)),
            To::Lines(lines) => last(lines, |line| line.sign(sign)),
        }
        self
    }

    /// Ends the row.
    pub(super) fn end_row(&mut self) -> io::Result<()> {
        match &mut self.to {
            To::Columns(drawing) => drawing.end_row(),
            To::Lines(_) => Ok(()),
        }
    }
}

fn last<'t>(lines: &mut [Line<'t>], change: impl FnOnce(Line<'t>) -> Line<'t>) {
    if let Some(line) = lines.last_mut() {
        *line = change(std::mem::take(line));
    }
}

/// Rows of a table, drawn before it is known how wide its columns are.
#[derive(Default)]
pub(super) struct Cells {
    text: Vec<u8>,
    /// How many bytes and how many columns each cell takes, row after row.
    sizes: Vec<(u32, u32)>,
    /// The widest of each column.
    pub(super) widths: Vec<usize>,
}

impl Cells {
    /// Room for so many rows of so many cells.
    pub(super) fn for_rows(rows: usize, cells: usize) -> Self {
        Cells { sizes: Vec::with_capacity(rows * cells), ..Cells::default() }
    }

    /// Its rows as they stand under each other, without the columns that have no width: no row ends in spaces.
    pub(super) fn aligned(&self, indent: usize, widths: &[Option<usize>]) -> Vec<u8> {
        let mut out = Vec::with_capacity(2 * self.text.len());
        let mut text = self.text.as_slice();
        for row in self.sizes.chunks(widths.len().max(1)) {
            let (mut at, mut column) = (indent, 0);
            for ((bytes, columns), width) in row.iter().zip(widths) {
                let (cell, rest) = text.split_at_checked(*bytes as usize).unwrap_or_default();
                text = rest;
                let Some(width) = width else { continue };
                if !cell.is_empty() {
                    let gap = at.saturating_sub(column).max(usize::from(column > 0));
                    out.resize(out.len() + gap, b' ');
                    out.extend_from_slice(cell);
                    column += gap + *columns as usize;
                }
                at += width + 2;
            }
            out.push(b'\n');
        }
        out
    }
}

/// A row that is being drawn.
struct Drawing<'p> {
    cells: &'p mut Cells,
    marks: Marks,
    colour: bool,
    /// Which cell of the row is open, from 1, and where it begins.
    number: usize,
    start: usize,
    /// How many columns the open cell takes.
    columns: usize,
    /// Spaces that are written as soon as something stands behind them.
    owed: usize,
    /// Whether all could be drawn.
    drawn: io::Result<()>,
}

impl<'p> Drawing<'p> {
    fn new(cells: &'p mut Cells, marks: Marks, colour: bool) -> Self {
        Drawing { cells, marks, colour, number: 0, start: 0, columns: 0, owed: 0, drawn: Ok(()) }
    }

    fn next(&mut self) {
        self.close();
        self.number += 1;
        (self.start, self.columns, self.owed) = (self.cells.text.len(), 0, 0);
    }

    fn close(&mut self) {
        let Some(at) = self.number.checked_sub(1) else { return };
        match (u32::try_from(self.cells.text.len() - self.start), u32::try_from(self.columns)) {
            (Ok(bytes), Ok(columns)) => self.cells.sizes.push((bytes, columns)),
            (Err(error), _) | (_, Err(error)) => self.drawn = Err(io::Error::other(error)),
        }
        match self.cells.widths.get_mut(at) {
            Some(known) => *known = self.columns.max(*known),
            None => self.cells.widths.push(self.columns),
        }
    }

    fn end_row(&mut self) -> io::Result<()> {
        self.close();
        self.number = 0;
        std::mem::replace(&mut self.drawn, Ok(()))
    }

    fn line(&mut self, line: &Line<'_>) {
        self.next();
        let out = &mut self.cells.text;
        let mut paper = Paper { out, width: None, marks: self.marks, colour: self.colour, owed: 0 };
        match paper.spans(line, 0, 0) {
            Ok(columns) => self.columns = columns - paper.owed,
            Err(error) => self.drawn = Err(error),
        }
    }

    fn put(&mut self, style: Style, text: &str) {
        let seen = text.trim_end_matches(' ');
        let behind = text.len() - seen.len();
        if seen.is_empty() {
            self.owed += behind;
            return;
        }
        let out = &mut self.cells.text;
        out.resize(out.len() + self.owed, b' ');
        self.columns += std::mem::replace(&mut self.owed, behind);
        // a vector takes whatever is written
        if self.colour {
            let _ = write!(out, "{style}");
        }
        self.columns += match is_plain(seen) {
            true => {
                out.extend_from_slice(seen.as_bytes());
                seen.len()
            }
            false => letters(seen, self.marks, out),
        };
        if self.colour {
            let _ = write!(self.cells.text, "{style:#}");
        }
    }
}

/// Writes a text that is not of printable ASCII alone and returns how many columns it takes.
fn letters(text: &str, marks: Marks, out: &mut Vec<u8>) -> usize {
    let (start, mut count) = (out.len(), 0);
    for letter in text.chars() {
        match (letter, u8::try_from(letter)) {
            (' '..='~', Ok(byte)) => out.push(byte),
            (TIE, _) => out.push(b' '),
            // what our own words have in them beside letters
            ('…' | '·', _) if marks == Marks::Unicode => {
                out.extend_from_slice(letter.encode_utf8(&mut [0; 4]).as_bytes());
            }
            _ => {
                out.truncate(start);
                let shown = marks.spell(&harmless(text.into())).replace(TIE, " ");
                out.extend_from_slice(shown.as_bytes());
                return columns(&shown);
            }
        }
        count += 1;
    }
    count
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// A cell drawn by the pen, and the same text as a line draws it.
    fn both(parts: &[(Style, String)], marks: Marks, colour: bool) -> [(Vec<u8>, usize); 2] {
        let drawn = |draw: &dyn Fn(&mut Pen<'_, '_>)| {
            let mut cells = Cells::default();
            let mut pen = Pen::on_cells(&mut cells, marks, colour);
            draw(&mut pen);
            pen.end_row().unwrap();
            (cells.text, cells.widths[0])
        };
        let written = drawn(&|pen| {
            pen.cell();
            parts.iter().for_each(|(style, text)| {
                pen.put(*style, text);
            });
        });
        let as_line = drawn(&|pen| {
            let line = parts.iter().fold(Line::new(), |line, (style, text)| line.push(*style, text.clone()));
            let mut lines = Vec::new();
            // what makes lines makes this one
            let mut other = Pen::on_lines(&mut lines);
            other.cell();
            parts.iter().for_each(|(style, text)| {
                other.put(*style, text);
            });
            assert_eq!(format!("{lines:?}"), format!("{:?}", [&line]));
            pen.line(&line);
        });
        [written, as_line]
    }

    proptest! {
        #[test]
        fn what_is_written_is_what_a_line_says(
            parts in proptest::collection::vec("[a-z ]{0,6}|[ ~·…\u{a0}×é漢\u{1b}\u{202e}]{0,4}", 0..5),
            ascii: bool,
            colour: bool,
        ) {
            let marks = if ascii { Marks::Ascii } else { Marks::Unicode };
            let styles = [Style::new(), Style::new().bold(), Style::new().dimmed()];
            let parts: Vec<(Style, String)> = styles.into_iter().cycle().zip(parts).collect();
            let [written, as_line] = both(&parts, marks, colour);
            prop_assert_eq!(written, as_line);
        }
    }

    #[test]
    fn cells_stand_in_columns_and_no_row_ends_in_spaces() {
        let mut cells = Cells::for_rows(2, 3);
        for row in [["a", "", "c  "], ["long", "b", ""]] {
            let mut pen = Pen::on_cells(&mut cells, Marks::Unicode, false);
            row.into_iter().for_each(|text| {
                pen.cell().text(text);
            });
            pen.end_row().unwrap();
        }
        assert_eq!(cells.widths, [4, 1, 1]);
        let said = |widths: [Option<usize>; 3]| String::from_utf8(cells.aligned(2, &widths)).unwrap();
        assert_eq!(said([Some(4), Some(1), Some(1)]), "  a        c\n  long  b\n");
        assert_eq!(said([Some(4), None, Some(1)]), "  a     c\n  long\n");
    }
}
