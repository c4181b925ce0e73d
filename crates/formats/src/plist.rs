//! Property lists in XML and in their binary form, read within limits.
//!
//! The reader behind this takes whatever nesting it meets, so the bytes are looked over first: how deep its elements stand,
//! how many there are, and that nothing is in an XML one which a property list does not need (entities, attributes).
//!
//! ```text
//! binary   "bplist00", objects, table of their offsets, then the last 32 bytes:
//!          5 unused, u8 sort, u8 bytes of an offset, u8 bytes of a reference, u64 objects, u64 the outermost, u64 table at
//! object   u8 kind and length; 0xaN array, 0xcN set of N references, 0xdN dictionary of N keys and then N values;
//!          N = 15: the length follows as an integer object (0x1n, 2^n bytes)
//! ```
//! Big-endian. An object may be referred to many times: counted is what comes out, not what is in.

use std::io::Cursor as Bytes;

use plist::Value;

use crate::cursor::{Cursor, Fault, ParseError, bounded};
use crate::limits::Limits;

const WHAT: &str = "property list";

/// What a binary one begins with.
const BINARY: &[u8] = b"bplist00";

/// Reads a property list, in XML or in its binary form.
///
/// # Errors
/// [`ParseError`] for another form, a size, depth or count above the limits, entities, and what is no property list.
pub fn parse(bytes: &[u8], limits: &Limits) -> Result<Value, ParseError> {
    bounded(WHAT, bytes, limits.inflated)?;
    if bytes.starts_with(BINARY) {
        Objects::read(bytes)?.look_over(limits)?;
        return Value::from_reader(Bytes::new(bytes)).map_err(|_| malformed(0));
    }
    look_over(bytes, limits)?;
    Value::from_reader_xml(Bytes::new(bytes)).map_err(|_| malformed(0))
}

fn malformed(at: usize) -> ParseError {
    ParseError { what: WHAT, at: at as u64, fault: Fault::Malformed }
}

/// Follows the elements without their content.
fn look_over(bytes: &[u8], limits: &Limits) -> Result<(), ParseError> {
    let (mut depth, mut count, mut at) = (0u64, 0u64, 0usize);
    while let Some(next) = find(bytes, at, b"<") {
        let rest = bytes.get(next..).unwrap_or_default();
        let end: &[u8] = match rest {
            [b'<', b'!', b'-', b'-', ..] => b"-->",
            [b'<', b'!', b'[', ..] => b"]]>",
            [b'<', b'?', ..] => b"?>",
            _ => b">",
        };
        let close = find(bytes, next + 1, end).ok_or_else(|| malformed(next))?;
        let inside = bytes.get(next + 1..close).unwrap_or_default();
        at = close + end.len();
        match inside {
            [b'!', b'-', b'-', ..] | [b'!', b'[', ..] | [b'?', ..] => continue,
            // a document type may have declarations of its own between brackets
            [b'!', rest @ ..] if rest.contains(&b'[') => return Err(malformed(next)),
            [b'!', ..] => continue,
            [b'/', ..] => depth = depth.saturating_sub(1),
            _ => {
                let empty = inside.ends_with(b"/");
                let name = inside.strip_suffix(b"/").unwrap_or(inside).trim_ascii();
                // only the outermost has an attribute; a quoted `>` would make two readers see two documents
                if !name.iter().all(u8::is_ascii_lowercase) && name != b"plist version=\"1.0\"" {
                    return Err(malformed(next));
                }
                depth += u64::from(!empty);
            }
        }
        count += 1;
        for (said, limit) in [(depth, limits.depth), (count, limits.items)] {
            if said > limit {
                return Err(ParseError { what: WHAT, at: next as u64, fault: Fault::Limit { said, limit } });
            }
        }
    }
    Ok(())
}

/// A property list as XML: the same value has the same bytes.
///
/// # Errors
/// [`ParseError`] for a value that XML cannot say.
pub fn to_xml(value: &Value) -> Result<Vec<u8>, ParseError> {
    let mut out = Vec::new();
    value.to_writer_xml(&mut out).map_err(|_| malformed(0))?;
    out.push(b'\n');
    Ok(out)
}

/// A property list in the form that `like` has, so that whoever reads it finds what it knows.
///
/// # Errors
/// [`ParseError`] for a value that the form cannot say.
pub fn written_like(like: &[u8], value: &Value) -> Result<Vec<u8>, ParseError> {
    if !like.starts_with(BINARY) {
        return to_xml(value);
    }
    let mut out = Vec::new();
    value.to_writer_binary(&mut out).map_err(|_| malformed(0))?;
    Ok(out)
}

/// The objects of a binary property list, by where each stands.
struct Objects<'a> {
    bytes: &'a [u8],
    offsets: Vec<usize>,
    reference: usize,
    outermost: usize,
}

impl<'a> Objects<'a> {
    fn read(bytes: &'a [u8]) -> Result<Self, ParseError> {
        let at = bytes.len().checked_sub(32).ok_or_else(|| malformed(0))?;
        let mut c = Cursor::new(bytes.get(at..).unwrap_or_default(), at as u64);
        c.take(6, WHAT)?;
        let (offset, reference) = (usize::from(c.u8(WHAT)?), usize::from(c.u8(WHAT)?));
        let number = |c: &mut Cursor<'_>| {
            let said = c.u64_be(WHAT)?;
            usize::try_from(said).map_err(|_| malformed(at))
        };
        let (count, outermost, table) = (number(&mut c)?, number(&mut c)?, number(&mut c)?);
        if !(1..=8).contains(&offset) || !(1..=8).contains(&reference) {
            return Err(malformed(at));
        }
        let length = count.checked_mul(offset).ok_or_else(|| malformed(at))?;
        let table = bytes.get(..at).and_then(|before| before.get(table..)?.get(..length));
        let table = table.ok_or_else(|| malformed(at))?;
        let offsets = table.chunks_exact(offset).map(big_endian).collect();
        Ok(Objects { bytes, offsets, reference, outermost })
    }

    /// Follows every reference, and counts what comes out: how many values, how deep, how many bytes.
    fn look_over(&self, limits: &Limits) -> Result<(), ParseError> {
        let (mut count, mut size) = (0u64, 0u64);
        let mut open = vec![(self.outermost, 0u64)];
        while let Some((index, depth)) = open.pop() {
            let at = *self.offsets.get(index).ok_or_else(|| malformed(index))?;
            let (kind, length, body) = self.object(at)?;
            let references = match kind {
                0xa | 0xc => length,
                0xd => length.checked_mul(2).ok_or_else(|| malformed(at))?,
                _ => 0,
            };
            count += 1;
            size = size.saturating_add(length as u64);
            let all = references.checked_mul(self.reference).and_then(|size| body.get(..size));
            let all = all.ok_or_else(|| malformed(at))?;
            let waiting = count + (open.len() + references) as u64;
            let most = [(depth, limits.depth), (waiting, limits.items), (size, limits.inflated)];
            for (said, limit) in most {
                if said > limit {
                    return Err(ParseError {
                        what: WHAT,
                        at: at as u64,
                        fault: Fault::Limit { said, limit },
                    });
                }
            }
            open.extend(all.chunks_exact(self.reference).map(|one| (big_endian(one), depth + 1)));
        }
        Ok(())
    }

    /// The kind of an object, its length, and the bytes behind that.
    fn object(&self, at: usize) -> Result<(u8, usize, &'a [u8]), ParseError> {
        let [marker, rest @ ..] = self.bytes.get(at..).unwrap_or_default() else { return Err(malformed(at)) };
        let (kind, short) = (marker >> 4, usize::from(marker & 0xf));
        if !matches!(kind, 0x4..=0x6 | 0xa | 0xc | 0xd) || short < 0xf {
            return Ok((kind, short, rest));
        }
        let [marker, rest @ ..] = rest else { return Err(malformed(at)) };
        let bytes =
            1usize.checked_shl(u32::from(marker & 0xf)).filter(|bytes| *bytes <= 8 && marker >> 4 == 1);
        let parts = bytes.and_then(|bytes| rest.split_at_checked(bytes));
        let (length, rest) = parts.ok_or_else(|| malformed(at))?;
        Ok((kind, big_endian(length), rest))
    }
}

/// A number of at most eight bytes; what memory cannot hold is larger than any file.
fn big_endian(bytes: &[u8]) -> usize {
    let number = bytes.iter().fold(0u64, |number, byte| number << 8 | u64::from(*byte));
    usize::try_from(number).unwrap_or(usize::MAX)
}

/// Where `wanted` stands next.
fn find(bytes: &[u8], from: usize, wanted: &[u8]) -> Option<usize> {
    let rest = bytes.get(from..)?;
    match wanted {
        [one] => rest.iter().position(|byte| byte == one),
        _ => rest.windows(wanted.len()).position(|window| window == wanted),
    }
    .map(|at| from + at)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn list(inside: &str) -> Vec<u8> {
        format!("<?xml version=\"1.0\"?>\n<!DOCTYPE plist PUBLIC \"a\" \"b\">\n<plist version=\"1.0\">{inside}</plist>")
            .into_bytes()
    }

    #[test]
    fn values_of_every_kind_are_read() {
        let bytes = list(
            "<dict><!-- <a><b> --><key>a</key><array><true/><integer>7</integer><data>AQI=</data></array>\
             <key>b</key><string>x &lt; y</string><key>c</key><date>2031-05-19T12:00:00Z</date></dict>",
        );
        let value = parse(&bytes, &Limits::SMALL).unwrap();
        let all = value.as_dictionary().unwrap();
        assert_eq!(all.get("b").and_then(Value::as_string), Some("x < y"));
        assert_eq!(all.get("a").and_then(Value::as_array).map(Vec::len), Some(3));
        assert!(all.get("c").and_then(Value::as_date).is_some());
    }

    #[test]
    fn what_is_too_deep_too_much_or_too_large_is_refused_before_it_is_read() {
        let deep = list(&format!("{}{}", "<array>".repeat(10_000), "</array>".repeat(10_000)));
        for limits in [Limits::SMALL, Limits::USUAL] {
            let error = parse(&deep, &Limits { inflated: 1 << 20, ..limits }).unwrap_err();
            assert!(matches!(error.fault, Fault::Limit { .. }), "{error}");
        }
        let many = list(&format!("<array>{}</array>", "<true/>".repeat(1_000)));
        assert!(matches!(parse(&many, &Limits::SMALL).unwrap_err().fault, Fault::Limit { said: 513, .. }));
        let large = list(&format!("<string>{}</string>", "x".repeat(70_000)));
        assert!(matches!(parse(&large, &Limits::SMALL).unwrap_err().fault, Fault::Limit { .. }));
    }

    fn binary(value: &Value) -> Vec<u8> {
        written_like(BINARY, value).unwrap()
    }

    #[test]
    fn a_binary_list_says_the_same_as_its_xml() {
        let xml = list(
            "<dict><key>a</key><array><true/><integer>7</integer><string>gr\u{fc}n</string></array></dict>",
        );
        let value = parse(&xml, &Limits::SMALL).unwrap();
        assert_eq!(parse(&binary(&value), &Limits::SMALL).unwrap(), value);
        assert_eq!(parse(&to_xml(&value).unwrap(), &Limits::SMALL).unwrap(), value);
    }

    #[test]
    fn references_that_multiply_are_counted_by_what_comes_out() {
        // 20 arrays, each of which names the next one eight times
        let mut bytes = BINARY.to_vec();
        let mut offsets = Vec::new();
        for index in 0..20u8 {
            offsets.push(bytes.len() as u8);
            bytes.push(0xa8);
            bytes.extend([index + 1; 8]);
        }
        offsets.push(bytes.len() as u8);
        bytes.push(0x09);
        let table = bytes.len() as u64;
        let count = offsets.len() as u64;
        bytes.extend(offsets);
        bytes.extend([0, 0, 0, 0, 0, 0, 1, 1]);
        for number in [count, 0, table] {
            bytes.extend(number.to_be_bytes());
        }
        let error = parse(&bytes, &Limits { depth: 100, ..Limits::USUAL }).unwrap_err();
        assert!(matches!(error.fault, Fault::Limit { limit: 200_000, .. }), "{error}");
        // one that holds itself never ends
        let at = bytes.iter().position(|byte| *byte == 0xa8).unwrap();
        bytes[at + 1..at + 9].fill(0);
        assert!(matches!(parse(&bytes, &Limits::USUAL).unwrap_err().fault, Fault::Limit { .. }));
    }

    #[test]
    fn every_cut_of_a_binary_list_is_refused() {
        let whole =
            binary(&parse(&list("<dict><key>a</key><string>b</string></dict>"), &Limits::SMALL).unwrap());
        for end in 0..whole.len() {
            assert!(parse(&whole[..end], &Limits::SMALL).is_err(), "cut at {end}");
        }
    }

    #[test]
    fn entities_and_attributes_are_refused() {
        let entity =
            "<!DOCTYPE plist [<!ENTITY a \"aaaa\">]><plist version=\"1.0\"><string>&a;</string></plist>";
        let hidden = list(&"<array a=\"/>\">".repeat(200));
        for bytes in [entity.as_bytes(), &hidden, b"<plist", b"bplist00", b""] {
            assert!(parse(bytes, &Limits::SMALL).is_err(), "{}", String::from_utf8_lossy(bytes));
        }
    }
}
