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
        self.tables_of(indent, heads, &[(None, things)], lines)
    }

    /// The same in groups, each under its title: the columns go through all of them, and the heads stand above the first.
    /// Each row is written with a pen, a cell for each column.
    pub(crate) fn tables_of<'t, T: Sync>(
        &mut self,
        indent: usize,
        heads: &[&str],
        groups: &[(Option<Line<'_>>, &'t [T])],
        row: impl Fn(&'t T, &mut Pen<'_, 't>) + Sync,
    ) -> io::Result<()> {
        let (marks, colour) = (self.marks, self.colour);
        let draw_some = |some: &'t [T]| -> io::Result<Cells> {
            let mut cells = Cells::for_rows(some.len(), heads.len());
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
        let mut widths: Vec<usize> = Vec::new();
        for cells in drawn.iter().flatten() {
            widths.resize(widths.len().max(cells.widths.len()), 0);
            widths.iter_mut().zip(&cells.widths).for_each(|(all, some)| *all = *some.max(all));
        }
        // a column that nothing stands in needs no head
        let mut shown: Vec<&str> = heads.to_vec();
        shown.iter_mut().zip(&widths).filter(|(_, width)| **width == 0).for_each(|(head, _)| *head = "");
        let head_widths = shown.iter().map(|head| columns(head));
        widths.iter_mut().zip(head_widths).for_each(|(width, head)| *width = head.max(*width));
        let shape = Shape::of(indent, &mut widths, !heads.is_empty(), self.width);
        if !heads.is_empty() && matches!(shape, Shape::Aligned | Shape::LastBroken) {
            self.put(&in_columns(indent, &widths, &heads_of(&shown)))?;
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
                    Shape::Stacked => self.stacked(indent, heads, &cells)?,
                }
            }
        }
        Ok(())
    }

    /// Rows as they were drawn, under each other.
    fn aligned(&mut self, indent: usize, widths: &[usize], drawn: &[Cells]) -> io::Result<()> {
        for some in drawn.chunks(TOGETHER) {
            let aligned: Vec<Vec<u8>> = some.par_iter().map(|cells| cells.aligned(indent, widths)).collect();
            aligned.iter().try_for_each(|text| self.out.write_all(text))?;
        }
        Ok(())
    }
}

/// How a table stands on paper of a width.
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
    /// The shape of a table with columns of these widths; takes the last from them where it does not stand in the row.
    fn of(indent: usize, widths: &mut Vec<usize>, has_heads: bool, paper: Option<usize>) -> Self {
        let taken = |widths: &[usize]| indent + widths.iter().map(|width| width + 2).sum::<usize>();
        let whole = taken(widths);
        let Some(room) = paper.map(|width| width + 2).filter(|room| whole > *room) else {
            return Shape::Aligned;
        };
        let Some(last) = widths.pop() else { return Shape::Aligned };
        if has_heads && room >= whole - last + LAST_COLUMN {
            Shape::LastBroken
        } else if !has_heads && widths.len() > 1 && taken(widths) <= room {
            Shape::LastBelow
        } else {
            Shape::Stacked
        }
    }
}

fn heads_of<'a>(heads: &[&'a str]) -> Vec<Line<'a>> {
    heads.iter().map(|head| Line::new().dim(*head)).collect()
}

/// A row in columns of these widths; what stands in the column behind them is broken within that column.
fn in_columns<'a>(indent: usize, widths: &[usize], cells: &[Line<'a>]) -> Line<'a> {
    let (mut line, mut at) = (Line::new(), indent);
    for (index, cell) in cells.iter().enumerate() {
        line = line.to(at).hang(at);
        line.spans.extend(cell.spans.iter().cloned());
        at += widths.get(index).unwrap_or(&0) + 2;
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
    fn last_below(&mut self, indent: usize, widths: &[usize], row: &[Line<'_>]) -> io::Result<()> {
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
}
