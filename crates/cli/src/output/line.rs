//! Lines of marks, words and values, broken to the terminal's width.

mod pen;
mod table;

use std::borrow::Cow;
use std::io::{self, Write};

use anstyle::{Ansi256Color, Style};
use ninekeys_core::board::Mark;
use ninekeys_core::findings::Level;
use unicode_width::UnicodeWidthStr;

use super::words::TIE;
pub(crate) use pen::Pen;
pub(crate) use table::Heads;

const GREEN: Style = Style::new().fg_color(Some(anstyle::Color::Ansi256(Ansi256Color(72))));
const AMBER: Style = Style::new().fg_color(Some(anstyle::Color::Ansi256(Ansi256Color(214))));
const RED: Style = Style::new().fg_color(Some(anstyle::Color::Ansi256(Ansi256Color(203))));
const BLUE: Style = Style::new().fg_color(Some(anstyle::Color::Ansi256(Ansi256Color(117))));

/// Which signs the locale can show.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Marks {
    /// `✓ ✗ ● ◐ ○ ·`
    Unicode,
    /// `ok x o ~ ? .`
    Ascii,
}

impl Marks {
    /// As `LC_ALL`, `LC_CTYPE` or `LANG` say; without any of them, Unicode.
    #[expect(clippy::disallowed_methods, reason = "the locale is the terminal's")]
    pub(crate) fn of_locale() -> Self {
        let set = |name| std::env::var(name).ok().filter(|value| !value.is_empty());
        match set("LC_ALL").or_else(|| set("LC_CTYPE")).or_else(|| set("LANG")) {
            Some(locale) if locale.to_lowercase().replace('-', "").contains("utf8") => Marks::Unicode,
            // there a console is in Unicode, and no variable says so
            None if cfg!(windows) => Marks::Unicode,
            _ => Marks::Ascii,
        }
    }

    fn show(self, unicode: &'static str, ascii: &'static str) -> &'static str {
        if self == Marks::Unicode { unicode } else { ascii }
    }

    /// A text in signs that can be shown.
    fn spell(self, text: &str) -> Cow<'_, str> {
        match self {
            Marks::Unicode => text.into(),
            Marks::Ascii => text.replace('·', "-").replace('…', "...").replace('×', "x").into(),
        }
    }
}

/// A sign in front of something, always beside a word that says the same.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Sign {
    /// Fine.
    Fine,
    /// An error, or expired.
    Bad,
    /// A warning, or at risk.
    Warn,
    /// A note.
    Note,
    /// In use.
    InUse,
    /// Falls due.
    Due,
    /// Missing.
    Missing,
    /// Not needed.
    NotNeeded,
}

impl From<Level> for Sign {
    fn from(level: Level) -> Self {
        match level {
            Level::Error => Sign::Bad,
            Level::Warning => Sign::Warn,
            Level::Note => Sign::Note,
        }
    }
}

impl From<Mark> for Sign {
    fn from(mark: Mark) -> Self {
        match mark {
            Mark::Expired => Sign::Bad,
            Mark::AtRisk => Sign::Warn,
            Mark::Due => Sign::Due,
            Mark::Missing => Sign::Missing,
            Mark::InUse => Sign::InUse,
            Mark::NotNeeded => Sign::NotNeeded,
        }
    }
}

impl Sign {
    fn style(self) -> Style {
        match self {
            Sign::Fine | Sign::InUse => GREEN,
            Sign::Bad => RED,
            Sign::Warn | Sign::Due | Sign::Missing => AMBER,
            Sign::Note | Sign::NotNeeded => Style::new().dimmed(),
        }
    }

    fn text(self, marks: Marks) -> &'static str {
        match self {
            Sign::Fine => marks.show("✓", "ok"),
            Sign::Bad => marks.show("✗", "x"),
            Sign::Warn => "!",
            Sign::Note => marks.show("·", "-"),
            Sign::InUse => marks.show("●", "o"),
            Sign::Due => marks.show("◐", "~"),
            Sign::Missing => marks.show("○", "?"),
            Sign::NotNeeded => marks.show("·", "."),
        }
    }
}

#[derive(Debug, Clone)]
enum Span<'a> {
    Text(Style, Piece<'a>),
    /// What can be typed: never broken, so that it can be copied.
    Typed(Piece<'a>),
    Sign(Sign),
    /// Spaces up to this column.
    To(usize),
}

/// A text that can do no harm, and whether it is of printable ASCII alone: then every letter is a column, in any locale.
#[derive(Debug, Clone)]
struct Piece<'a> {
    text: Cow<'a, str>,
    plain: bool,
}

impl<'a> Piece<'a> {
    fn new(text: Cow<'a, str>) -> Self {
        match is_plain(&text) {
            true => Piece { text, plain: true },
            false => Piece { text: harmless(text), plain: false },
        }
    }

    /// How many columns it takes.
    fn columns(&self) -> usize {
        if self.plain { self.text.len() } else { columns(&self.text) }
    }
}

/// One line being put together. Whatever comes out of files is made harmless on the way in.
#[derive(Debug, Clone, Default)]
pub(crate) struct Line<'a> {
    spans: Vec<Span<'a>>,
    hang: usize,
}

impl<'a> Line<'a> {
    /// An empty line.
    pub(crate) fn new() -> Self {
        Line::default()
    }

    fn push(mut self, style: Style, text: impl Into<Cow<'a, str>>) -> Self {
        let text = text.into();
        if text.is_empty() {
            return self;
        }
        self.spans.push(Span::Text(style, Piece::new(text)));
        self
    }

    /// Plain text.
    pub(crate) fn text(self, text: impl Into<Cow<'a, str>>) -> Self {
        self.push(Style::new(), text)
    }

    /// A name.
    pub(crate) fn bold(self, text: impl Into<Cow<'a, str>>) -> Self {
        self.push(Style::new().bold(), text)
    }

    /// A label.
    pub(crate) fn dim(self, text: impl Into<Cow<'a, str>>) -> Self {
        self.push(Style::new().dimmed(), text)
    }

    /// Text in a sign's colour.
    pub(crate) fn like(self, sign: Sign, text: impl Into<Cow<'a, str>>) -> Self {
        self.push(sign.style(), text)
    }

    /// What can be typed.
    pub(crate) fn typed(self, text: impl Into<Cow<'a, str>>) -> Self {
        let mut line = self;
        line.spans.push(Span::Typed(Piece::new(text.into())));
        line
    }

    /// A command of this program, ready to copy.
    pub(crate) fn command<S: AsRef<str>>(self, arguments: &[S]) -> Self {
        debug_assert!(parses(arguments), "advice that does not run: ninekeys {}", shell_words(arguments));
        let words = crate::store::meant(arguments.iter().map(|word| word.as_ref().to_owned()).collect());
        self.typed(format!("ninekeys {}", shell_words(&words)))
    }

    /// A sign.
    pub(crate) fn sign(mut self, sign: Sign) -> Self {
        self.spans.push(Span::Sign(sign));
        self
    }

    /// Whether nothing stands in it.
    fn is_empty(&self) -> bool {
        self.spans.iter().all(|span| match span {
            Span::Text(_, piece) | Span::Typed(piece) => piece.text.is_empty(),
            Span::Sign(_) => false,
            Span::To(_) => true,
        })
    }

    /// Spaces up to a column, one at least.
    pub(crate) fn to(mut self, column: usize) -> Self {
        self.spans.push(Span::To(column));
        self
    }

    /// What another line says, behind this.
    pub(crate) fn join(mut self, other: Line<'a>) -> Self {
        self.spans.extend(other.spans);
        self
    }

    /// The column that continued lines begin at.
    pub(crate) fn hang(mut self, column: usize) -> Self {
        self.hang = column;
        self
    }
}

/// Whether our own parser takes these arguments: advice must run. Looked at in debug builds, and so by tests.
fn parses<S: AsRef<str>>(arguments: &[S]) -> bool {
    use clap::Parser;
    let words = std::iter::once("ninekeys").chain(arguments.iter().map(AsRef::as_ref));
    match crate::arguments::Cli::try_parse_from(words) {
        Ok(_) => true,
        Err(error) => error.kind() == clap::error::ErrorKind::DisplayHelp,
    }
}

/// Whether a text is of printable ASCII alone.
fn is_plain(text: &str) -> bool {
    // all of it is looked at: many bytes at once are faster than the first that is not plain
    text.bytes().fold(true, |plain, byte| plain & (0x20..0x7f).contains(&byte))
}

/// Escapes what could move the cursor, change colours or turn the direction of writing.
fn harmless(text: Cow<'_, str>) -> Cow<'_, str> {
    let unsafe_char = |c: char| {
        c.is_control()
            || matches!(c, '\u{200b}'..='\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2060}'..='\u{2069}' | '\u{feff}')
    };
    if !text.chars().any(unsafe_char) {
        return text;
    }
    text.chars().flat_map(|c| if unsafe_char(c) { c.escape_default().collect() } else { vec![c] }).collect()
}

/// Arguments as a shell reads them.
pub(crate) fn shell_words<S: AsRef<str>>(arguments: &[S]) -> String {
    // no argument has a zero byte in it: what cannot be quoted cannot be typed
    let words = arguments.iter().filter_map(|word| shlex::try_quote(word.as_ref()).ok());
    words.collect::<Vec<_>>().join(" ")
}

/// What lines are put on.
pub(crate) struct Paper<'a> {
    out: &'a mut dyn Write,
    width: Option<usize>,
    marks: Marks,
    colour: bool,
    /// Spaces that the line has and that are written as soon as something stands behind them: no line ends in
    /// spaces, wherever it is broken.
    owed: usize,
}

impl<'a> Paper<'a> {
    /// Paper of a width, or endless.
    pub(crate) fn new(out: &'a mut dyn Write, width: Option<usize>, marks: Marks) -> Self {
        Paper { out, width, marks, colour: true, owed: 0 }
    }

    /// Without colour: nothing has to be taken out again where none can be shown.
    pub(crate) fn without_colour(self) -> Self {
        Paper { colour: false, ..self }
    }

    fn styled(&mut self, style: Style, text: &str) -> io::Result<()> {
        self.spaces(0)?;
        if self.colour {
            write!(self.out, "{style}")?;
        }
        for (index, piece) in text.split(TIE).enumerate() {
            if index > 0 {
                self.out.write_all(b" ")?;
            }
            self.out.write_all(piece.as_bytes())?;
        }
        if self.colour { write!(self.out, "{style:#}") } else { Ok(()) }
    }

    /// What the locale can show of two.
    pub(crate) fn show(&self, unicode: &'static str, ascii: &'static str) -> &'static str {
        self.marks.show(unicode, ascii)
    }

    /// The width of the paper.
    pub(crate) fn width(&self) -> Option<usize> {
        self.width
    }

    /// An empty line.
    pub(crate) fn blank(&mut self) -> io::Result<()> {
        self.owed = 0;
        writeln!(self.out)
    }

    /// A line, broken between words where it is too long.
    pub(crate) fn put(&mut self, line: &Line<'_>) -> io::Result<()> {
        self.spans(line, 0, line.hang)?;
        self.blank()
    }

    /// Writes a line's parts from a column on and returns the column after them.
    fn spans(&mut self, line: &Line<'_>, start: usize, hang: usize) -> io::Result<usize> {
        let mut column = start;
        let mut spans = line.spans.iter().peekable();
        while let Some(span) = spans.next() {
            match span {
                Span::To(wanted) => column = self.gap(column, *wanted)?,
                Span::Sign(sign) => {
                    let text = sign.text(self.marks);
                    // a mark stays with its word
                    if let Some(Span::Text(_, word)) = spans.peek() {
                        let word = word.text.trim_start().split(' ').next().unwrap_or_default();
                        column = self.room_for(columns(text) + 1 + columns(word), column, hang)?;
                    }
                    self.styled(sign.style(), text)?;
                    column += columns(text);
                }
                Span::Text(style, piece) => column = self.text(*style, piece, column, hang)?,
                Span::Typed(piece) => {
                    column = self.room_for(piece.columns(), column, hang)?;
                    self.styled(BLUE, &piece.text)?;
                    column += piece.columns();
                }
            }
        }
        Ok(column)
    }

    /// Writes spaces, the owed ones too.
    fn spaces(&mut self, count: usize) -> io::Result<()> {
        const SPACES: &[u8] = &[b' '; 64];
        let mut count = count + std::mem::take(&mut self.owed);
        while count > 0 {
            let some = SPACES.get(..count).unwrap_or(SPACES);
            self.out.write_all(some)?;
            count -= some.len();
        }
        Ok(())
    }

    /// Spaces up to a column, one at least, none at the line's start.
    fn gap(&mut self, column: usize, wanted: usize) -> io::Result<usize> {
        let gap = wanted.saturating_sub(column).max(usize::from(column > 0));
        self.owed += gap;
        Ok(column + gap)
    }

    /// Begins a line of its own for something that does not fit into the rest of this one. Where it would not
    /// fit behind the hanging indent either, it begins near the margin.
    fn room_for(&mut self, length: usize, column: usize, hang: usize) -> io::Result<usize> {
        let Some(width) = self.width.filter(|width| column + length > *width && column > 4) else {
            return Ok(column);
        };
        let indent = if hang + length <= width { hang } else { 4 };
        if column <= indent {
            return Ok(column);
        }
        self.blank()?;
        self.spaces(indent)?;
        Ok(indent)
    }

    /// Writes a text and returns the column after it.
    fn text(&mut self, style: Style, piece: &Piece<'_>, start: usize, hang: usize) -> io::Result<usize> {
        let text = piece.text.as_ref();
        let whole = start + text.len();
        if !piece.plain || self.width.is_some_and(|width| whole > width) {
            return self.words(style, text, start, hang);
        }
        let seen = text.trim_end_matches(' ');
        if !seen.is_empty() {
            self.styled(style, seen)?;
        }
        self.owed += text.len() - seen.len();
        Ok(whole)
    }

    /// Writes text word by word and returns the column after it.
    fn words(&mut self, style: Style, text: &str, start: usize, hang: usize) -> io::Result<usize> {
        let text = self.marks.spell(text);
        let whole = start + columns(&text);
        if self.width.is_none_or(|width| whole <= width) {
            let seen = text.trim_end_matches(' ');
            if !seen.is_empty() {
                self.styled(style, seen)?;
            }
            self.owed += text.len() - seen.len();
            return Ok(whole);
        }
        let (mut column, mut broken) = (start, false);
        let room = self.width.map_or(usize::MAX, |width| width.saturating_sub(hang).max(12));
        for (index, word) in text.split(' ').enumerate() {
            for (piece_index, piece) in pieces(word, room).iter().enumerate() {
                // pieces of one word have no space between them
                let space = usize::from(index > 0 && piece_index == 0);
                let long = self.width.is_some_and(|width| column + space + columns(piece) > width);
                if long && column > hang && !piece.is_empty() {
                    self.blank()?;
                    self.spaces(hang)?;
                    (column, broken) = (hang, true);
                } else if space > 0 && !(broken && column == hang) {
                    self.owed += 1;
                    column += 1;
                }
                if !piece.is_empty() {
                    self.styled(style, piece)?;
                    column += columns(piece);
                }
            }
        }
        Ok(column)
    }
}

/// How many columns a text takes.
fn columns(text: &str) -> usize {
    let mut count = 0;
    for c in text.chars() {
        // what our own words have in them beside letters is a column wide
        if !matches!(c, ' '..='~' | TIE | '…' | '·') {
            return text.width();
        }
        count += 1;
    }
    count
}

/// A word in pieces of at most `room` columns, cut behind colons: a fingerprint that is wider than the paper.
fn pieces(word: &str, room: usize) -> Vec<String> {
    if word.width() <= room || !word.contains(':') {
        return vec![word.to_owned()];
    }
    let mut out = vec![String::new()];
    for part in word.split_inclusive(':') {
        match out.last_mut() {
            Some(last) if last.width() + part.width() <= room => last.push_str(part),
            _ => out.push(part.to_owned()),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    fn printed(line: &Line<'_>, width: Option<usize>, marks: Marks) -> String {
        let mut out = Vec::new();
        Paper::new(&mut out, width, marks).put(line).unwrap();
        anstream::adapter::strip_str(&String::from_utf8(out).unwrap()).to_string()
    }

    #[test]
    fn long_lines_break_between_words_and_hang() {
        let line = Line::new().text("label").to(8).text("one two three four").hang(8);
        assert_eq!(printed(&line, Some(18), Marks::Unicode), "label   one two\n        three four\n");
        assert_eq!(printed(&line, None, Marks::Unicode), "label   one two three four\n");
    }

    #[test]
    fn commands_are_never_broken() {
        let line = Line::new().text("mend").to(8).typed("ninekeys show crossing").hang(8);
        assert_eq!(printed(&line, Some(34), Marks::Unicode), "mend    ninekeys show crossing\n");
        assert_eq!(printed(&line, Some(20), Marks::Unicode), "mend\n    ninekeys show crossing\n");
    }

    #[test]
    fn names_out_of_files_cannot_move_the_cursor() {
        let line = Line::new().text("a\u{1b}[2Jb\u{202e}c\n");
        assert_eq!(printed(&line, None, Marks::Unicode), "a\\u{1b}[2Jb\\u{202e}c\\n\n");
    }

    #[test]
    fn fingerprints_wider_than_the_paper_are_cut_behind_a_colon() {
        let line = Line::new().dim("key").to(6).text("8C:41:D0:FF:00:11:22:33").hang(6);
        let said = printed(&line, Some(20), Marks::Unicode);
        assert_eq!(said, "key   8C:41:D0:FF:\n      00:11:22:33\n");
        assert_eq!(printed(&line, Some(40), Marks::Unicode), "key   8C:41:D0:FF:00:11:22:33\n");
    }

    #[test]
    fn no_line_ends_in_spaces_wherever_it_is_broken() {
        let line = Line::new()
            .text("  ")
            .sign(Sign::InUse)
            .text(" in use")
            .text("   ")
            .sign(Sign::Bad)
            .text(" expired   ");
        for width in 8..40 {
            let said = printed(&line, Some(width), Marks::Unicode);
            assert!(said.lines().all(|line| line == line.trim_end()), "{width}: {said:?}");
        }
    }

    #[test]
    fn plain_ascii_has_marks_of_its_own() {
        let line = Line::new().sign(Sign::Fine).text(" 3 · ").sign(Sign::Missing);
        assert_eq!(printed(&line, None, Marks::Ascii), "ok 3 - ?\n");
    }

    #[test]
    fn commands_are_quoted_for_a_shell() {
        assert_eq!(shell_words(&["show", "a b", "it's", ""]), "show 'a b' \"it's\" ''");
    }
}
