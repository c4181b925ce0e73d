//! The form in XML.
//!
//! Supported XML: elements without attributes (the outermost has its version), text with the five
//! named entities and character references, comments, processing instructions and a document type
//! without declarations.

use std::borrow::Cow;

use base64ct::{Base64, Encoding};

use super::{Date, Dictionary, Value, malformed, within};
use crate::cursor::ParseError;
use crate::limits::Limits;

const PROLOGUE: &str = concat!(
    "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n",
    "<!DOCTYPE plist PUBLIC \"-//Apple//DTD PLIST 1.0//EN\" \"http://www.apple.com/DTDs/PropertyList-1.0.dtd\">\n",
    "<plist version=\"1.0\">\n",
);
/// Bytes of data in a line.
const LINE: usize = 51;
/// The longest name of an entity, or number of a character.
const LONGEST_REFERENCE: usize = 10;

/// Reads a property list in XML.
pub(super) fn parse(bytes: &[u8], limits: &Limits) -> Result<Value, ParseError> {
    let text = std::str::from_utf8(bytes).map_err(|error| malformed(error.valid_up_to()))?;
    let text = text.strip_prefix('\u{feff}').unwrap_or(text);
    let mut reader = Reader { text, at: 0, limits, count: 0 };
    let mut tag = reader.tag()?;
    let has_root = tag.name == "plist";
    if has_root {
        reader.counted(1)?;
        tag = if tag.kind == Kind::Start { reader.tag()? } else { return Err(malformed(reader.at)) };
    }
    let value = reader.value(&tag, 1 + u64::from(has_root))?;
    if has_root {
        reader.end("plist")?;
    }
    match reader.next()? {
        None => Ok(value),
        Some(_) => Err(malformed(reader.at)),
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Kind {
    Start,
    End,
    /// A start with its end.
    Empty,
}

#[derive(Debug, Clone, Copy)]
struct Tag<'a> {
    kind: Kind,
    name: &'a str,
}

struct Reader<'a> {
    text: &'a str,
    at: usize,
    limits: &'a Limits,
    count: u64,
}

impl<'a> Reader<'a> {
    fn rest(&self) -> &'a str {
        self.text.get(self.at..).unwrap_or_default()
    }

    fn wrong(&self) -> ParseError {
        malformed(self.at)
    }

    /// Takes what is before `end`, and `end` with it.
    fn until(&mut self, end: &str) -> Result<&'a str, ParseError> {
        let (inside, _) = self.rest().split_once(end).ok_or_else(|| self.wrong())?;
        self.at += inside.len() + end.len();
        Ok(inside)
    }

    /// Counts one more element, at this depth.
    fn counted(&mut self, depth: u64) -> Result<(), ParseError> {
        self.count += 1;
        within(self.at, depth, self.limits.depth)?;
        within(self.at, self.count, self.limits.items)
    }

    /// The next tag, behind blanks alone; nothing at the end.
    fn next(&mut self) -> Result<Option<Tag<'a>>, ParseError> {
        loop {
            let rest = self.rest();
            self.at += rest.len() - rest.trim_start().len();
            if self.rest().is_empty() {
                return Ok(None);
            }
            if let Some(tag) = self.markup()? {
                return Ok(Some(tag));
            }
        }
    }

    /// One piece of markup; nothing for one without meaning here.
    fn markup(&mut self) -> Result<Option<Tag<'a>>, ParseError> {
        let rest = self.rest();
        let end = match rest.as_bytes() {
            [b'<', b'!', b'-', b'-', ..] => {
                self.at += 4;
                "-->"
            }
            [b'<', b'?', ..] => "?>",
            [b'<', b'!', b'D', ..] => {
                let declared = self.until(">")?;
                // a document type may have declarations of its own between brackets
                return if declared.contains('[') { Err(self.wrong()) } else { Ok(None) };
            }
            [b'<', b'!', ..] => return Err(self.wrong()),
            [b'<', ..] => {
                self.at += 1;
                return self.element().map(Some);
            }
            _ => return Err(self.wrong()),
        };
        self.until(end)?;
        Ok(None)
    }

    /// A tag behind its bracket.
    fn element(&mut self) -> Result<Tag<'a>, ParseError> {
        let at = self.at;
        let inside = self.until(">")?;
        let (kind, name) = match (inside.strip_prefix('/'), inside.strip_suffix('/')) {
            (Some(name), _) => (Kind::End, name),
            (_, Some(name)) => (Kind::Empty, name),
            _ => (Kind::Start, inside),
        };
        let name = name.trim_ascii_end();
        // a quoted `>` in an attribute would make two readers see two documents
        match name {
            "plist version=\"1.0\"" if kind != Kind::End => Ok(Tag { kind, name: "plist" }),
            _ if !name.is_empty() && name.bytes().all(|byte| byte.is_ascii_lowercase()) => {
                Ok(Tag { kind, name })
            }
            _ => Err(malformed(at)),
        }
    }

    fn tag(&mut self) -> Result<Tag<'a>, ParseError> {
        self.next()?.ok_or_else(|| self.wrong())
    }

    fn end(&mut self, name: &str) -> Result<(), ParseError> {
        let tag = self.tag()?;
        if tag.kind == Kind::End && tag.name == name { Ok(()) } else { Err(self.wrong()) }
    }

    fn value(&mut self, tag: &Tag<'a>, depth: u64) -> Result<Value, ParseError> {
        if tag.kind == Kind::End {
            return Err(self.wrong());
        }
        self.counted(depth)?;
        let is_empty = tag.kind == Kind::Empty;
        match tag.name {
            "array" if is_empty => Ok(Value::Array(Vec::new())),
            "dict" if is_empty => Ok(Value::Dictionary(Dictionary::new())),
            "true" | "false" => {
                if !is_empty {
                    self.end(tag.name)?;
                }
                Ok(Value::Boolean(tag.name == "true"))
            }
            "array" => self.array(depth),
            "dict" => self.dictionary(depth),
            _ => {
                let text = if is_empty { String::new() } else { self.content(tag.name)? };
                scalar(tag.name, text).ok_or_else(|| self.wrong())
            }
        }
    }

    fn array(&mut self, depth: u64) -> Result<Value, ParseError> {
        let mut all = Vec::new();
        loop {
            let tag = self.tag()?;
            if tag.kind == Kind::End && tag.name == "array" {
                return Ok(Value::Array(all));
            }
            all.push(self.value(&tag, depth + 1)?);
        }
    }

    fn dictionary(&mut self, depth: u64) -> Result<Value, ParseError> {
        let mut all = Dictionary::new();
        loop {
            let key = match self.tag()? {
                Tag { kind: Kind::End, name: "dict" } => return Ok(Value::Dictionary(all)),
                Tag { kind: Kind::Start, name: "key" } => self.content("key")?,
                Tag { kind: Kind::Empty, name: "key" } => String::new(),
                _ => return Err(self.wrong()),
            };
            self.counted(depth + 1)?;
            let tag = self.tag()?;
            let value = self.value(&tag, depth + 1)?;
            all.insert(key, value);
        }
    }

    /// Text up to the end of its element.
    fn content(&mut self, name: &str) -> Result<String, ParseError> {
        let mut out = String::new();
        loop {
            let rest = self.rest();
            let plain = rest.find(['<', '&']).ok_or_else(|| self.wrong())?;
            let (text, rest) = rest.split_at_checked(plain).ok_or_else(|| self.wrong())?;
            out.push_str(&lines(text));
            self.at += plain;
            if rest.starts_with('&') {
                self.at += 1;
                out.push(self.reference()?);
            } else if rest.starts_with("<![CDATA[") {
                self.at += "<![CDATA[".len();
                out.push_str(&lines(self.until("]]>")?));
            } else {
                match self.markup()? {
                    None => {}
                    Some(Tag { kind: Kind::End, name: ended }) if ended == name => return Ok(out),
                    Some(_) => return Err(self.wrong()),
                }
            }
        }
    }

    /// A character by its name or number (XML 1.0, sections 4.1 and 4.6).
    fn reference(&mut self) -> Result<char, ParseError> {
        let name = self.rest().split(';').next().filter(|name| name.len() <= LONGEST_REFERENCE);
        let found = match name.ok_or_else(|| self.wrong())? {
            "lt" => Some('<'),
            "gt" => Some('>'),
            "amp" => Some('&'),
            "quot" => Some('"'),
            "apos" => Some('\''),
            number => {
                let (digits, radix) = match number.strip_prefix("#x") {
                    Some(digits) => (Some(digits), 16),
                    None => (number.strip_prefix('#'), 10),
                };
                let digits = digits.filter(|digits| digits.chars().all(|digit| digit.is_digit(radix)));
                let number = digits.and_then(|digits| u32::from_str_radix(digits, radix).ok());
                number.and_then(char::from_u32).filter(|c| *c != '\0')
            }
        };
        let found = found.ok_or_else(|| self.wrong())?;
        self.until(";")?;
        Ok(found)
    }
}

/// Text with the ends of its lines as XML reads them (XML 1.0, section 2.11).
fn lines(text: &str) -> Cow<'_, str> {
    match text.contains('\r') {
        true => text.replace("\r\n", "\n").replace('\r', "\n").into(),
        false => text.into(),
    }
}

/// The value of an element that holds text.
fn scalar(name: &str, text: String) -> Option<Value> {
    Some(match name {
        "string" => Value::String(text),
        "data" => {
            let digits: String = text.split_ascii_whitespace().collect();
            Value::Data(Base64::decode_vec(&digits).ok()?)
        }
        "date" => Value::Date(Date::parse(&text)?),
        "real" => Value::Real(text.parse().ok()?),
        "integer" => {
            let number = match text.strip_prefix("0x") {
                Some(digits) => u64::from_str_radix(digits, 16).ok()?.into(),
                None => text.parse::<i128>().ok()?,
            };
            let fits = (i128::from(i64::MIN)..=i128::from(u64::MAX)).contains(&number);
            Value::Integer(fits.then_some(number)?)
        }
        _ => return None,
    })
}

/// Writes one, without a last line break.
pub(super) fn write(value: &Value) -> Result<String, ParseError> {
    let mut out = String::from(PROLOGUE);
    push(&mut out, value, 0)?;
    out.push_str("</plist>");
    Ok(out)
}

fn push(out: &mut String, value: &Value, level: usize) -> Result<(), ParseError> {
    let indent = "\t".repeat(level);
    out.push_str(&indent);
    match value {
        Value::Array(all) if all.is_empty() => out.push_str("<array/>\n"),
        Value::Dictionary(all) if all.is_empty() => out.push_str("<dict/>\n"),
        Value::Array(all) => {
            out.push_str("<array>\n");
            all.iter().try_for_each(|one| push(out, one, level + 1))?;
            out.push_str(&format!("{indent}</array>\n"));
        }
        Value::Dictionary(all) => {
            out.push_str("<dict>\n");
            for (key, one) in all {
                out.push_str(&indent);
                out.push('\t');
                element(out, "key", key);
                push(out, one, level + 1)?;
            }
            out.push_str(&format!("{indent}</dict>\n"));
        }
        Value::Boolean(flag) => out.push_str(&format!("<{flag}/>\n")),
        Value::Data(bytes) => {
            out.push_str("<data>\n");
            for line in bytes.chunks(LINE) {
                out.push_str(&format!("{indent}{}\n", Base64::encode_string(line)));
            }
            out.push_str(&format!("{indent}</data>\n"));
        }
        Value::Date(date) => element(out, "date", &date.to_string()),
        Value::Integer(number) => element(out, "integer", &number.to_string()),
        Value::Real(number) => element(out, "real", &number.to_string()),
        Value::String(text) => element(out, "string", text),
        Value::Uid(_) => return Err(malformed(0)),
    }
    Ok(())
}

fn element(out: &mut String, name: &str, text: &str) {
    out.push_str(&format!("<{name}>"));
    for c in text.chars() {
        match c {
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '&' => out.push_str("&amp;"),
            '"' => out.push_str("&quot;"),
            '\'' => out.push_str("&apos;"),
            // a reader takes a plain one for the end of a line (XML 1.0, section 2.11)
            '\r' => out.push_str("&#13;"),
            _ => out.push(c),
        }
    }
    out.push_str(&format!("</{name}>\n"));
}
