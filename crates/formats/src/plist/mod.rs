//! Property lists in XML and in their binary form, read within limits and written.

mod binary;
mod date;
mod xml;

use indexmap::IndexMap;

use crate::cursor::{Fault, ParseError, bounded};
use crate::limits::Limits;

pub use date::Date;

const WHAT: &str = "property list";

/// The first bytes of the binary form.
const BINARY: &[u8] = b"bplist00";

/// Values by name, in the order of the list.
pub type Dictionary = IndexMap<String, Value>;

/// A value of a property list.
#[derive(Debug, Clone, PartialEq)]
pub enum Value {
    /// Values in the order of the list.
    Array(Vec<Value>),
    /// A truth value: true or false.
    Boolean(bool),
    /// Bytes, base 64 in XML.
    Data(Vec<u8>),
    /// A point in time.
    Date(Date),
    /// Values by name, in the order of the list.
    Dictionary(Dictionary),
    /// An integer of 64 bits, with or without a sign.
    Integer(i128),
    /// A floating-point number of 64 bits.
    Real(f64),
    /// Text of any length.
    String(String),
    /// A number of an archived object; only the binary form has it.
    Uid(u64),
}

impl Value {
    /// Its values, if it is an array.
    pub fn as_array(&self) -> Option<&Vec<Value>> {
        if let Value::Array(all) = self { Some(all) } else { None }
    }

    /// Its bytes, if it is data.
    pub fn as_data(&self) -> Option<&[u8]> {
        if let Value::Data(bytes) = self { Some(bytes) } else { None }
    }

    /// Its point in time, if it is a date.
    pub fn as_date(&self) -> Option<Date> {
        if let Value::Date(date) = self { Some(*date) } else { None }
    }

    /// Its values by name, if it is a dictionary.
    pub fn as_dictionary(&self) -> Option<&Dictionary> {
        if let Value::Dictionary(all) = self { Some(all) } else { None }
    }

    /// The same, to be changed.
    pub fn as_dictionary_mut(&mut self) -> Option<&mut Dictionary> {
        if let Value::Dictionary(all) = self { Some(all) } else { None }
    }

    /// Its text, if it is a string.
    pub fn as_string(&self) -> Option<&str> {
        if let Value::String(text) = self { Some(text) } else { None }
    }
}

/// Reads a property list, in XML or in its binary form.
///
/// # Errors
/// [`ParseError`] for another form, unknown entities, and a size, depth or count above the limits.
pub fn parse(bytes: &[u8], limits: &Limits) -> Result<Value, ParseError> {
    bounded(WHAT, bytes, limits.inflated)?;
    if bytes.starts_with(BINARY) { binary::parse(bytes, limits) } else { xml::parse(bytes, limits) }
}

fn malformed(at: usize) -> ParseError {
    ParseError { what: WHAT, at: at as u64, fault: Fault::Malformed }
}

/// Refuses what is above a limit.
fn within(at: usize, said: u64, limit: u64) -> Result<(), ParseError> {
    if said <= limit {
        return Ok(());
    }
    Err(ParseError { what: WHAT, at: at as u64, fault: Fault::Limit { said, limit } })
}

/// A property list as XML: the same value has the same bytes.
///
/// # Errors
/// [`ParseError`] for a value that XML cannot say.
pub fn to_xml(value: &Value) -> Result<Vec<u8>, ParseError> {
    let mut out = xml::write(value)?;
    out.push('\n');
    Ok(out.into_bytes())
}

/// A property list in the form that `like` has, so that whoever reads it finds what it knows.
///
/// # Errors
/// [`ParseError`] for a value that the form cannot say.
pub fn written_like(like: &[u8], value: &Value) -> Result<Vec<u8>, ParseError> {
    if like.starts_with(BINARY) { Ok(binary::write(value)) } else { to_xml(value) }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

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

    /// The same value for another implementation.
    fn theirs(value: &Value) -> plist::Value {
        match value {
            Value::Array(all) => plist::Value::Array(all.iter().map(theirs).collect()),
            Value::Boolean(flag) => plist::Value::Boolean(*flag),
            Value::Data(bytes) => plist::Value::Data(bytes.clone()),
            Value::Date(date) => {
                let epoch = std::time::UNIX_EPOCH + std::time::Duration::from_secs(978_307_200);
                let part = std::time::Duration::from_secs_f64(date.seconds().abs());
                let at = if date.seconds() < 0.0 { epoch - part } else { epoch + part };
                plist::Value::Date(at.into())
            }
            Value::Dictionary(all) => {
                plist::Value::Dictionary(all.iter().map(|(key, one)| (key.clone(), theirs(one))).collect())
            }
            Value::Integer(number) => match i64::try_from(*number) {
                Ok(number) => plist::Value::Integer(number.into()),
                Err(_) => plist::Value::Integer(u64::try_from(*number).unwrap().into()),
            },
            Value::Real(number) => plist::Value::Real(*number),
            Value::String(text) => plist::Value::String(text.clone()),
            Value::Uid(number) => plist::Value::Uid(plist::Uid::new(*number)),
        }
    }

    fn values() -> impl Strategy<Value = Value> {
        let text = || prop_oneof!["[a-c]{0,3}", "[<>&'\"\r\n\t ü]{0,20}", "\\PC{0,4}"];
        let scalar = prop_oneof![
            any::<bool>().prop_map(Value::Boolean),
            prop::collection::vec(any::<u8>(), 0..120).prop_map(Value::Data),
            (-62_000_000_000i64..253_000_000_000).prop_map(|at| Value::Date(Date::of_unix(at).unwrap())),
            any::<i64>().prop_map(|number| Value::Integer(number.into())),
            any::<u64>().prop_map(|number| Value::Integer(number.into())),
            (0i128..300).prop_map(Value::Integer),
            prop::num::f64::NORMAL.prop_map(Value::Real),
            text().prop_map(Value::String),
        ];
        scalar.prop_recursive(4, 60, 20, move |inner| {
            prop_oneof![
                prop::collection::vec(inner.clone(), 0..20).prop_map(Value::Array),
                prop::collection::vec((text(), inner), 0..20)
                    .prop_map(|all| Value::Dictionary(all.into_iter().collect())),
            ]
        })
    }

    proptest! {
        #[test]
        fn lists_are_those_of_another_implementation(value in values()) {
            let limits = Limits { inflated: 1 << 20, ..Limits::USUAL };
            let (mut xml, mut bytes) = (Vec::new(), Vec::new());
            theirs(&value).to_writer_xml(&mut xml).unwrap();
            theirs(&value).to_writer_binary(&mut bytes).unwrap();
            xml.push(b'\n');
            prop_assert_eq!(to_xml(&value).unwrap(), xml);
            prop_assert_eq!(binary(&value), &bytes[..]);
            prop_assert_eq!(&parse(&to_xml(&value).unwrap(), &limits).unwrap(), &value);
            prop_assert_eq!(&parse(&bytes, &limits).unwrap(), &value);
        }

        #[test]
        fn a_changed_list_is_refused_or_read_as_by_another_implementation(
            value in values(), is_binary: bool, at: prop::sample::Index, byte: u8,
        ) {
            let mut bytes = if is_binary { binary(&value) } else { to_xml(&value).unwrap() };
            let at = at.index(bytes.len());
            bytes[at] = byte;
            let limits = Limits { inflated: 1 << 20, ..Limits::USUAL };
            if let Ok(own) = parse(&bytes, &limits)
                && let Ok(other) = plist::Value::from_reader(std::io::Cursor::new(&bytes))
            {
                prop_assert_eq!(format!("{:?}", theirs(&own)), format!("{other:?}"));
            }
        }
    }

    #[test]
    fn text_is_read_as_xml_has_it_and_what_is_no_list_is_refused() {
        let text = |inside: &str| {
            let read = parse(&list(&format!("<string>{inside}</string>")), &Limits::SMALL);
            read.ok().and_then(|value| value.as_string().map(str::to_owned))
        };
        assert_eq!(text("a&#x41;&#66;<!-- c --><![CDATA[<&]]>").as_deref(), Some("aAB<&"));
        assert_eq!(text(" x ").as_deref(), Some(" x "));
        for bad in ["&nbsp;", "&#0;", "&#xd800;", "&#+65;", "& ", "<b/>", "</key>"] {
            assert_eq!(text(bad), None, "{bad}");
        }
        for bad in [
            "",
            "<string>",
            "<true/><true/>",
            "text",
            "<true>x</true>",
            "<dict><key>a</key></dict>",
            "<dict><true/></dict>",
            "<key>a</key>",
            "<array></dict>",
            "<integer> 7</integer>",
            "<integer>18446744073709551616</integer>",
            "<date>today</date>",
            "<data>?</data>",
            "<real>x</real>",
            "<set/>",
        ] {
            assert!(parse(&list(bad), &Limits::SMALL).is_err(), "{bad}");
        }
        assert_eq!(parse(b"<array/>", &Limits::SMALL).unwrap(), Value::Array(Vec::new()));
        assert_eq!(parse(&list("<integer>0xFF</integer>"), &Limits::SMALL).unwrap(), Value::Integer(255));
    }
}
