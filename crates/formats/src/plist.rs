//! Property lists in XML, read within limits.
//!
//! The reader behind this takes whatever nesting it meets, so the text is looked over first: how deep its elements stand,
//! how many there are, and that nothing is in it which a property list does not need (entities, attributes).

use std::io::Cursor as Bytes;

use plist::Value;

use crate::cursor::{Fault, ParseError, bounded};
use crate::limits::Limits;

const WHAT: &str = "property list";

/// Reads a property list in XML.
///
/// # Errors
/// [`ParseError`] for another form, a size, depth or count above the limits, entities, and what is no property list.
pub fn parse(bytes: &[u8], limits: &Limits) -> Result<Value, ParseError> {
    bounded(WHAT, bytes, limits.inflated)?;
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
