//! Tables: rows whose cells stand in columns as wide as the widest, in whatever shape there is room for.

use std::io;

use rayon::prelude::*;

use super::pen::{Cells, Pen};
use super::{Line, Paper, Span, columns};

impl Paper<'_> {
    /// Lines whose parts stand in columns: every row has as many cells as there are columns, the last is as
    /// wide as it is. `indent` spaces stand in front.
    pub(crate) fn table(&mut self, indent: usize, rows: &[Vec<Line<'_>>]) -> io::Result<()> {
        self.table_of(indent, &[], rows, |row| row.as_slice())
    }

    /// The same under heads, of rows that are made where they are needed, some at a time and on all cores: a list may have
    /// 100,000. Where it is wider than the paper, each row stands by itself and the heads are labels.
    pub(crate) fn table_of<'t, T: Sync, R: AsRef<[Line<'t>]>>(
        &mut self,
        indent: usize,
        heads: &[&str],
        things: &'t [T],
        row: impl Fn(&'t T) -> R + Sync,
    ) -> io::Result<()> {
        let lines = |thing: &'t T, pen: &mut Pen<'_, 't>| {
            row(thing).as_ref().iter().for_each(|line| pen.line(line));
        };
        let heads = Heads { all: heads, spare: &[] };
        self.tables_of(indent, heads, &[(None, things)], lines).map(|_| ())
    }

    /// The same in groups, each under its title: the columns go through all of them, and the heads stand above the first.
    /// Each row is written with a pen, a cell for each column. Says what is left out because there is no room for it.
    pub(crate) fn tables_of<'t, 'h, T: Sync>(
        &mut self,
        indent: usize,
        heads: Heads<'h>,
        groups: &[(Option<Line<'_>>, &'t [T])],
        row: impl Fn(&'t T, &mut Pen<'_, 't>) + Sync,
    ) -> io::Result<Vec<&'h str>> {
        let (marks, colour) = (self.marks, self.colour);
        let draw_some = |some: &'t [T]| -> io::Result<Cells> {
            let mut cells = Cells::for_rows(some.len(), heads.all.len());
            let mut pen = Pen::on_cells(&mut cells, marks, colour);
            for thing in some {
                row(thing, &mut pen);
                pen.end_row()?;
            }
            Ok(cells)
        };
        let draw = |things: &'t [T]| things.par_chunks(AT_A_TIME).map(draw_some).collect();
        let drawn: io::Result<Vec<Vec<Cells>>> = groups.iter().map(|(_, things)| draw(things)).collect();
        let drawn = drawn?;
        let Layout { widths, shape, left_out } = Layout::of(indent, heads, widest(&drawn), self.width);
        if !heads.all.is_empty() && matches!(shape, Shape::Aligned | Shape::LastBroken) {
            let over: Vec<Line<'_>> = heads.all.iter().map(|head| Line::new().dim(*head)).collect();
            self.put(&in_columns(indent, &widths, &over))?;
        }
        for (index, ((title, things), drawn)) in groups.iter().zip(drawn).enumerate() {
            if let Some(title) = title {
                if index > 0 {
                    self.blank()?;
                }
                self.put(title)?;
            }
            if shape == Shape::Aligned {
                self.aligned(indent, &widths, &drawn)?;
                continue;
            }
            let mut cells = Vec::new();
            for thing in things.iter() {
                cells.clear();
                row(thing, &mut Pen::on_lines(&mut cells));
                match shape {
                    Shape::Aligned | Shape::LastBroken => self.put(&in_columns(indent, &widths, &cells))?,
                    Shape::LastBelow => self.last_below(indent, &widths, &cells)?,
                    Shape::Stacked => self.stacked(indent, heads.all, &cells)?,
                }
            }
        }
        Ok(left_out)
    }

    /// Rows as they were drawn, under each other.
    fn aligned(&mut self, indent: usize, widths: &[Option<usize>], drawn: &[Cells]) -> io::Result<()> {
        for some in drawn.chunks(TOGETHER) {
            let aligned: Vec<Vec<u8>> = some.par_iter().map(|cells| cells.aligned(indent, widths)).collect();
            aligned.iter().try_for_each(|text| self.out.write_all(text))?;
        }
        Ok(())
    }
}

/// What stands over the columns of a table.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Heads<'h> {
    /// All of it, a head a column; nothing for a table without heads.
    pub(crate) all: &'h [&'h str],
    /// The columns that are left out where there is no room, the first one first, before a row is told in any other way.
    pub(crate) spare: &'h [&'h str],
}

/// The widest cell of each column.
fn widest(drawn: &[Vec<Cells>]) -> Vec<usize> {
    let mut widths: Vec<usize> = Vec::new();
    for cells in drawn.iter().flatten() {
        widths.resize(widths.len().max(cells.widths.len()), 0);
        widths.iter_mut().zip(&cells.widths).for_each(|(all, some)| *all = *some.max(all));
    }
    widths
}

/// How a table stands on paper.
struct Layout<'h> {
    /// How wide each column is; nothing for one that is left out.
    widths: Vec<Option<usize>>,
    shape: Shape,
    /// What there was no room for.
    left_out: Vec<&'h str>,
}

impl<'h> Layout<'h> {
    fn of(indent: usize, heads: Heads<'h>, widest: Vec<usize>, paper: Option<usize>) -> Self {
        let has_heads = !heads.all.is_empty();
        let head_widths = heads.all.iter().map(|head| columns(head)).chain(std::iter::repeat(0));
        // a column that nothing stands in needs neither head nor room
        let width = |(width, head): (usize, usize)| (!has_heads || width > 0).then(|| width.max(head));
        let widths: Vec<Option<usize>> = widest.into_iter().zip(head_widths).map(width).collect();
        let mut fewer = widths.clone();
        let mut left_out = Vec::new();
        let mut spare = heads.spare.iter();
        while !fits(indent, &fewer, paper) {
            let Some(next) = spare.next() else {
                let (mut widths, left_out) = (widths, Vec::new());
                let shape = Shape::of(indent, &mut widths, has_heads, paper);
                return Layout { widths, shape, left_out };
            };
            let place = heads.all.iter().position(|head| head == next);
            let width = place.and_then(|at| fewer.get_mut(at));
            left_out.extend(width.and_then(Option::take).map(|_| *next));
        }
        Layout { widths: fewer, shape: Shape::Aligned, left_out }
    }
}

/// How much a table takes, with two spaces behind its last column.
fn taken(indent: usize, widths: &[Option<usize>]) -> usize {
    indent + widths.iter().flatten().map(|width| width + 2).sum::<usize>()
}

fn fits(indent: usize, widths: &[Option<usize>], paper: Option<usize>) -> bool {
    paper.is_none_or(|width| taken(indent, widths) <= width + 2)
}

/// The shapes of a table.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Shape {
    /// As it is: there is room.
    Aligned,
    /// The last column is broken within the room that is left for it.
    LastBroken,
    /// The last column stands below its row.
    LastBelow,
    /// Each row stands by itself.
    Stacked,
}

impl Shape {
    /// The shape of a table that is wider than the paper; takes the last column from the widths where it does not stand in the
    /// row.
    fn of(indent: usize, widths: &mut Vec<Option<usize>>, has_heads: bool, paper: Option<usize>) -> Self {
        let whole = taken(indent, widths);
        let room = paper.map_or(usize::MAX, |width| width + 2);
        let Some(last) = widths.pop() else { return Shape::Aligned };
        if has_heads && room >= whole - last.unwrap_or(0) + LAST_COLUMN {
            Shape::LastBroken
        } else if !has_heads && widths.len() > 1 && taken(indent, widths) <= room {
            Shape::LastBelow
        } else {
            Shape::Stacked
        }
    }
}

/// A row in columns of these widths; what stands in the column behind them is broken within that column.
fn in_columns<'a>(indent: usize, widths: &[Option<usize>], cells: &[Line<'a>]) -> Line<'a> {
    let (mut line, mut at) = (Line::new(), indent);
    for (index, cell) in cells.iter().enumerate() {
        if let Some(width) = widths.get(index).copied().unwrap_or(Some(0)) {
            line = line.to(at).hang(at);
            line.spans.extend(cell.spans.iter().cloned());
            at += width + 2;
        }
    }
    line
}

/// With how much room left for it a table's last column is broken rather than every row stacked.
const LAST_COLUMN: usize = 30;

/// How many rows are drawn together.
const AT_A_TIME: usize = 1_024;

/// How many pieces of so many rows are laid out before they are written: what is written needs no room any more.
const TOGETHER: usize = 16;

impl Paper<'_> {
    /// A row of a table of which all but the last column fits: where that is a command, it stands below its row; where it is
    /// none, the row is stacked.
    fn last_below(&mut self, indent: usize, widths: &[Option<usize>], row: &[Line<'_>]) -> io::Result<()> {
        let typed = |cell: &Line<'_>| cell.spans.iter().any(|span| matches!(span, Span::Typed(_)));
        match row.split_last() {
            Some((last, before)) if typed(last) => {
                self.put(&in_columns(indent, widths, before))?;
                let mut below = Line::new().to(indent + 2).hang(indent + 2);
                below.spans.extend(last.spans.iter().cloned());
                self.put(&below)
            }
            _ => self.stacked(indent, &[], row),
        }
    }

    /// A row of a table that is wider than the paper: what it is about on a line, everything else below it, each under its
    /// label where there are heads.
    fn stacked(&mut self, indent: usize, heads: &[&str], row: &[Line<'_>]) -> io::Result<()> {
        let Some((first, rest)) = row.split_first() else { return Ok(()) };
        let mut head = Line::new().to(indent);
        head.spans.extend(first.spans.iter().cloned());
        self.put(&head.hang(indent + 2))?;
        if let [_, heads @ ..] = heads {
            let at = indent + 4;
            let value = at + heads.iter().map(|head| columns(head)).max().unwrap_or(0) + 2;
            for (head, cell) in heads.iter().zip(rest).filter(|(_, cell)| !cell.is_empty()) {
                let mut line = Line::new().to(at).dim(*head).to(value).hang(value);
                line.spans.extend(cell.spans.iter().cloned());
                self.put(&line)?;
            }
            return Ok(());
        }
        let mut below = Line::new().to(indent + 4);
        for cell in rest.iter().filter(|cell| !cell.spans.is_empty()) {
            if below.spans.len() > 1 {
                below = below.text("  ");
            }
            below.spans.extend(cell.spans.iter().cloned());
        }
        if below.spans.len() > 1 { self.put(&below.hang(indent + 4)) } else { Ok(()) }
    }
}

#[cfg(test)]
mod tests {
    use super::super::Marks;
    use super::*;

    #[test]
    fn a_table_wider_than_the_paper_is_stacked() {
        let rows = [
            vec![
                Line::new().text("ferries"),
                Line::new(),
                Line::new().text("signing key"),
                Line::new().text("30 y"),
            ],
            vec![
                Line::new().text("quay"),
                Line::new().text("up"),
                Line::new().text("upload key"),
                Line::new().text("2 y"),
            ],
        ];
        let table = |width| {
            let mut out = Vec::new();
            Paper::new(&mut out, width, Marks::Unicode).table(2, &rows).unwrap();
            String::from_utf8(out).unwrap()
        };
        let wide = "  ferries      signing key  30 y\n  quay     up  upload key   2 y\n";
        assert_eq!(table(None), wide);
        assert_eq!(table(Some(33)), wide);
        let stacked = "  ferries\n      signing key  30 y\n  quay\n      up  upload key  2 y\n";
        assert_eq!(table(Some(30)), stacked);
    }

    #[test]
    fn a_command_that_does_not_fit_into_its_row_stands_below_it() {
        let rows = [
            vec![
                Line::new().text("due"),
                Line::new().text("a key"),
                Line::new().command(&["rotate", "draft", "a"]),
            ],
            vec![Line::new().text("missing"), Line::new().text("b"), Line::new().command(&["show", "b"])],
        ];
        let mut out = Vec::new();
        Paper::new(&mut out, Some(34), Marks::Ascii).without_colour().table(2, &rows).unwrap();
        let said = "  due      a key\n    ninekeys rotate draft a\n  missing  b\n    ninekeys show b\n";
        assert_eq!(String::from_utf8(out).unwrap(), said);
    }

    #[test]
    fn a_table_whose_last_column_is_too_wide_breaks_that_one_alone() {
        let things =
            ["a short one", "one that is so long that it goes on for more than the rest of the line"];
        let row = |what: &&'static str| {
            vec![Line::new().text("7"), Line::new().text("today"), Line::new().text(*what)]
        };
        let said = |width| {
            let mut out = Vec::new();
            Paper::new(&mut out, Some(width), Marks::Ascii)
                .without_colour()
                .table_of(2, &["no", "when", "what"], &things, row)
                .unwrap();
            String::from_utf8(out).unwrap()
        };
        let start =
            "  no  when   what\n  7   today  a short one\n  7   today  one that is so long that it goes on\n";
        assert_eq!(said(50), format!("{start}             for more than the rest of the line\n"));
        assert!(said(36).contains("\n      when  today\n      what  a short one\n"), "{}", said(36));
    }

    #[test]
    fn columns_that_can_be_spared_go_before_rows_are_stacked_and_empty_ones_take_no_room() {
        let things = [["pier", "", "8C41", "used"], ["quay", "", "D0", "retired"]];
        let heads = Heads { all: &["name", "alias", "serial", "state"], spare: &["alias", "serial"] };
        let table = |width| {
            let mut out = Vec::new();
            let mut paper = Paper::new(&mut out, width, Marks::Unicode).without_colour();
            let row = |row: &[&str; 4], pen: &mut Pen<'_, '_>| {
                row.iter().for_each(|text| {
                    pen.cell().text(text);
                });
            };
            let left_out = paper.tables_of(2, heads, &[(None, &things)], row).unwrap();
            (String::from_utf8(out).unwrap(), left_out)
        };
        let whole = "  name  serial  state\n  pier  8C41    used\n  quay  D0      retired\n".to_owned();
        assert_eq!(table(None), (whole.clone(), vec![]));
        assert_eq!(table(Some(23)), (whole, vec![]));
        let fewer = "  name  state\n  pier  used\n  quay  retired\n".to_owned();
        assert_eq!(table(Some(22)), (fewer.clone(), vec!["serial"]));
        assert_eq!(table(Some(15)), (fewer, vec!["serial"]));
        // where even that is too wide nothing is left out
        let stacked = "  pier\n      serial  8C41\n      state   used\n  quay\n      serial  D0\n      state   retired\n";
        assert_eq!(table(Some(14)), (stacked.to_owned(), vec![]));
    }
}
