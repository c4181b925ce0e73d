//! The text files of JAR signing: sections of `Name: value` lines, folded, each closed by a blank line.

use crate::cursor::{Fault, ParseError};
use crate::limits::Limits;

/// The most bytes of a line without its end. Writers break here; readers take any width.
const WIDTH: usize = 70;

/// A section, over the bytes it was read from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Section<'a> {
    /// All of it, its folding and its closing blank line included: what a signature file digests.
    pub raw: &'a [u8],
    /// Names and values, unfolded, in order.
    pub attributes: Vec<(String, String)>,
}

impl Section<'_> {
    /// Whether it begins with an attribute of that name, as the main section and every other one has to.
    pub fn begins_with(&self, name: &str) -> bool {
        self.attributes.first().is_some_and(|(found, _)| found.eq_ignore_ascii_case(name))
    }

    /// The value of the first attribute of that name, compared without case.
    pub fn get(&self, name: &str) -> Option<&str> {
        self.attributes
            .iter()
            .find(|(found, _)| found.eq_ignore_ascii_case(name))
            .map(|(_, value)| value.as_str())
    }
}

/// Reads a manifest or signature file: the main section, then the entries.
///
/// # Errors
/// [`ParseError`] for a line that is no attribute, text that is not UTF-8, or more sections than the limits
/// allow.
pub fn parse<'a>(bytes: &'a [u8], limits: &Limits) -> Result<Vec<Section<'a>>, ParseError> {
    let mut sections = Vec::new();
    let mut at = 0;
    while at < bytes.len() {
        let start = at as u64;
        let error = |what, fault| ParseError { what, at: start, fault };
        let rest = bytes.get(at..).unwrap_or_default();
        let (length, lines) = take_section(rest);
        let raw = rest.get(..length).unwrap_or_default();
        at += length;
        if lines.is_empty() {
            // blank lines between sections belong to none
            continue;
        }
        if sections.len() as u64 >= limits.items {
            return Err(error("sections", Fault::Limit { said: limits.items + 1, limit: limits.items }));
        }
        let mut attributes = Vec::new();
        for line in lines {
            let text = String::from_utf8(line).map_err(|_| error("attribute", Fault::Text))?;
            let (name, value) = text.split_once(": ").ok_or_else(|| error("attribute", Fault::Malformed))?;
            if !is_header_name(name) {
                return Err(error("name of an attribute", Fault::Malformed));
            }
            attributes.push((name.to_owned(), value.to_owned()));
        }
        sections.push(Section { raw, attributes });
    }
    Ok(sections)
}

/// Letters, digits, `-` and `_`, the first no sign of the two: so no byte-order mark hides in front of it.
fn is_header_name(name: &str) -> bool {
    name.starts_with(|c: char| c.is_ascii_alphanumeric())
        && name.bytes().all(|byte| byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'_'))
}

/// The length of the first section, its blank line included, and its lines, joined where they were folded.
fn take_section(bytes: &[u8]) -> (usize, Vec<Vec<u8>>) {
    let mut lines: Vec<Vec<u8>> = Vec::new();
    let mut at = 0;
    while let Some(rest) = bytes.get(at..).filter(|rest| !rest.is_empty()) {
        let end = rest.iter().position(|byte| matches!(byte, b'\r' | b'\n')).unwrap_or(rest.len());
        let line = rest.get(..end).unwrap_or_default();
        let after = rest.get(end..).unwrap_or_default();
        let ending = if after.starts_with(b"\r\n") { 2 } else { usize::from(!after.is_empty()) };
        at += end + ending;
        match (line.split_first(), lines.last_mut()) {
            (None, _) => break,
            (Some((b' ', folded)), Some(before)) => before.extend_from_slice(folded),
            _ => lines.push(line.to_vec()),
        }
    }
    (at, lines)
}

/// Writes sections, each attribute folded at 70 bytes, lines ended by CR LF.
#[derive(Debug, Default)]
pub struct Writer {
    bytes: Vec<u8>,
}

impl Writer {
    /// Nothing written yet.
    pub fn new() -> Self {
        Self::default()
    }

    /// Writes one attribute.
    pub fn attribute(&mut self, name: &str, value: &str) {
        let line = format!("{name}: {value}");
        let mut room = WIDTH;
        for byte in line.bytes() {
            if room == 0 {
                self.bytes.extend_from_slice(b"\r\n ");
                room = WIDTH - 1;
            }
            self.bytes.push(byte);
            room -= 1;
        }
        self.bytes.extend_from_slice(b"\r\n");
    }

    /// Closes the section and tells where it began and ended, given where the one before ended.
    pub fn close(&mut self) -> usize {
        self.bytes.extend_from_slice(b"\r\n");
        self.bytes.len()
    }

    /// What was written from a position on.
    pub fn since(&self, start: usize) -> &[u8] {
        self.bytes.get(start..).unwrap_or_default()
    }

    /// All of it.
    pub fn finish(self) -> Vec<u8> {
        self.bytes
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_lines_are_folded_at_seventy_bytes_inside_characters_too_and_come_back() {
        for length in [0, 1, 60, 63, 64, 65, 133, 134, 500] {
            let value = "ö".repeat(length);
            let mut writer = Writer::new();
            writer.attribute("Name", &value);
            writer.attribute("SHA-256-Digest", "abc=");
            writer.close();
            let bytes = writer.finish();
            assert!(bytes.split(|b| *b == b'\n').all(|line| line.len() <= 71), "{length}");
            let sections = parse(&bytes, &Limits::SMALL).unwrap();
            assert_eq!(sections.len(), 1);
            assert_eq!(sections[0].raw, bytes);
            assert_eq!(sections[0].get("name"), Some(value.as_str()));
            assert_eq!(sections[0].get("sha-256-digest"), Some("abc="));
        }
    }

    #[test]
    fn sections_keep_their_bytes_whatever_ends_their_lines() {
        let text = b"Manifest-Version: 1.0\n\nName: a\r\nX: 1\r\n\r\n\r\nName: b\rX: 2";
        let sections = parse(text, &Limits::SMALL).unwrap();
        let raw: Vec<&[u8]> = sections.iter().map(|section| section.raw).collect();
        assert_eq!(raw, [&b"Manifest-Version: 1.0\n\n"[..], b"Name: a\r\nX: 1\r\n\r\n", b"Name: b\rX: 2"]);
    }

    #[test]
    fn lines_that_are_no_attributes_are_errors() {
        let mark = "\u{feff}Manifest-Version: 1.0".as_bytes();
        for bad in [&b"Name"[..], b" folded first", b"Name: \xff", b"Name:a", mark, b"-a: b", b"a b: c"] {
            assert!(parse(bad, &Limits::SMALL).is_err(), "{bad:?}");
        }
    }
}
