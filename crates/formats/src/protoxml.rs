//! XML as a protobuf message, the form in which a bundle carries its manifest.
//!
//! | message | fields that are read |
//! |---|---|
//! | node | 1 element |
//! | element | 3 name, 4 attribute (repeated), 5 child node (repeated) |
//! | attribute | 2 name, 3 value as text, 5 resource id, 6 compiled item |
//! | item | 1 reference { 2 id }, 2 string { 1 }, 7 primitive { 6 decimal, 7 hexadecimal, 8 boolean } |
//!
//! Fields that are not named here are skipped, as protobuf wants it. What comes out is the same as from binary XML.

use crate::axml::{Attribute, Element, Value};
use crate::cursor::{Cursor, Fault, ParseError};
use crate::limits::Limits;

/// One field of a message.
enum Field<'a> {
    Number(u64),
    Bytes(Cursor<'a>),
    Skipped,
}

/// Reads a document into its elements, in document order.
///
/// # Errors
/// [`ParseError`] for a message that is malformed, nested too deep or has more elements than the limits allow.
pub fn parse(bytes: &[u8], limits: &Limits) -> Result<Vec<Element>, ParseError> {
    let mut elements = Vec::new();
    node(Cursor::new(bytes, 0), 1, limits, &mut elements)?;
    if elements.is_empty() {
        return Err(Cursor::new(bytes, 0).error("root element", Fault::Malformed));
    }
    Ok(elements)
}

/// The next field's number and value.
fn field<'a>(c: &mut Cursor<'a>) -> Result<(u64, Field<'a>), ParseError> {
    let key = varint(c)?;
    let value = match key & 7 {
        0 => Field::Number(varint(c)?),
        1 => {
            c.take(8, "protobuf field")?;
            Field::Skipped
        }
        2 => {
            let length = varint(c)?;
            Field::Bytes(c.sub(length, "protobuf field")?)
        }
        5 => {
            c.take(4, "protobuf field")?;
            Field::Skipped
        }
        other => return Err(c.error("protobuf field", Fault::Value(other))),
    };
    Ok((key >> 3, value))
}

fn varint(c: &mut Cursor<'_>) -> Result<u64, ParseError> {
    let mut value = 0u64;
    for shift in (0..64).step_by(7) {
        let byte = c.u8("protobuf number")?;
        value |= u64::from(byte & 0x7f) << shift;
        if byte & 0x80 == 0 {
            return Ok(value);
        }
    }
    Err(c.error("protobuf number", Fault::Malformed))
}

fn node(mut c: Cursor<'_>, depth: u64, limits: &Limits, out: &mut Vec<Element>) -> Result<(), ParseError> {
    Limits::check(depth, limits.depth, "nesting of elements", &c)?;
    while !c.is_empty() {
        if let (1, Field::Bytes(content)) = field(&mut c)? {
            element(content, depth, limits, out)?;
        }
    }
    Ok(())
}

fn element(mut c: Cursor<'_>, depth: u64, limits: &Limits, out: &mut Vec<Element>) -> Result<(), ParseError> {
    Limits::check(out.len() as u64 + 1, limits.items, "number of elements", &c)?;
    let at = out.len();
    out.push(Element { depth, name: String::new(), attributes: Vec::new() });
    let mut found = Element { depth, name: String::new(), attributes: Vec::new() };
    while !c.is_empty() {
        match field(&mut c)? {
            (3, Field::Bytes(content)) => found.name = text(&content)?,
            (4, Field::Bytes(content)) => {
                Limits::check(
                    found.attributes.len() as u64 + 1,
                    limits.items,
                    "number of attributes",
                    &content,
                )?;
                found.attributes.push(attribute(content)?);
            }
            (5, Field::Bytes(content)) => node(content, depth + 1, limits, out)?,
            _ => {}
        }
    }
    if let Some(place) = out.get_mut(at) {
        *place = found;
    }
    Ok(())
}

fn attribute(mut c: Cursor<'_>) -> Result<Attribute, ParseError> {
    let (mut name, mut plain, mut id, mut compiled) = (String::new(), String::new(), None, None);
    while !c.is_empty() {
        match field(&mut c)? {
            (2, Field::Bytes(content)) => name = text(&content)?,
            (3, Field::Bytes(content)) => plain = text(&content)?,
            // resource ids have 32 bits, and 0 is none
            (5, Field::Number(number)) => id = u32::try_from(number).ok().filter(|id| *id != 0),
            (6, Field::Bytes(content)) => compiled = item(content)?,
            _ => {}
        }
    }
    Ok(Attribute { id, name, value: compiled.unwrap_or(Value::Text(plain)) })
}

/// A compiled value; nothing for kinds that a manifest's facts do not have.
fn item(mut c: Cursor<'_>) -> Result<Option<Value>, ParseError> {
    let mut value = None;
    while !c.is_empty() {
        match field(&mut c)? {
            (1, Field::Bytes(content)) => value = Some(Value::Reference(reference(content)?)),
            (2, Field::Bytes(mut content)) => {
                while !content.is_empty() {
                    if let (1, Field::Bytes(string)) = field(&mut content)? {
                        value = Some(Value::Text(text(&string)?));
                    }
                }
            }
            (7, Field::Bytes(content)) => value = primitive(content)?,
            _ => {}
        }
    }
    Ok(value)
}

fn reference(mut c: Cursor<'_>) -> Result<u32, ParseError> {
    let mut id = 0;
    while !c.is_empty() {
        if let (2, Field::Number(number)) = field(&mut c)? {
            id = u32::try_from(number).unwrap_or(0);
        }
    }
    Ok(id)
}

fn primitive(mut c: Cursor<'_>) -> Result<Option<Value>, ParseError> {
    // an empty message stands for something that has no facts: a null, or a value of a later version
    let mut value = Some(Value::Other { kind: 0, data: 0 });
    while !c.is_empty() {
        match field(&mut c)? {
            // negative numbers are written with all 64 bits
            (6 | 7, Field::Number(number)) => value = Some(Value::Number(number as u32)),
            (8, Field::Number(number)) => value = Some(Value::Boolean(number != 0)),
            _ => {}
        }
    }
    Ok(value)
}

fn text(c: &Cursor<'_>) -> Result<String, ParseError> {
    std::str::from_utf8(c.rest()).map(str::to_owned).map_err(|_| c.error("protobuf text", Fault::Text))
}

/// The document with another value for the root's attribute of that resource id, and every other field as it is; nothing where the
/// root has no such attribute.
///
/// # Errors
/// [`ParseError`] when the document is malformed, or would be with that value.
pub fn set_on_root(
    bytes: &[u8],
    id: u32,
    value: &Value,
    limits: &Limits,
) -> Result<Option<Vec<u8>>, ParseError> {
    let mut wanted = parse(bytes, limits)?;
    let mut found = false;
    let out = map_fields(bytes, 1, &mut |element| {
        map_fields(element, 4, &mut |own| {
            if found || attribute(Cursor::new(own, 0))?.id != Some(id) {
                return Ok(own.to_vec());
            }
            found = true;
            let mut kept = without_value(own)?;
            let (text, item) = match value {
                Value::Number(number) => (number.to_string(), write::item(value)),
                Value::Text(text) => (text.clone(), None),
                _ => return Err(Cursor::new(own, 0).error("attribute to be set", Fault::Malformed)),
            };
            kept.extend(write::message(3, text.as_bytes()));
            kept.extend(item.map_or_else(Vec::new, |item| write::message(6, &item)));
            Ok(kept)
        })
    })?;
    if !found {
        return Ok(None);
    }
    let root = wanted.first_mut().into_iter().flat_map(|root| &mut root.attributes);
    root.filter(|own| own.id == Some(id)).take(1).for_each(|own| own.value = value.clone());
    // nothing else may have changed
    if parse(&out, limits)? == wanted {
        Ok(Some(out))
    } else {
        Err(Cursor::new(bytes, 0).error("attribute to be set", Fault::Malformed))
    }
}

/// What a field of bytes becomes.
type Mapped<'f> = dyn FnMut(&[u8]) -> Result<Vec<u8>, ParseError> + 'f;

/// A message whose fields of that number are other ones.
fn map_fields(bytes: &[u8], number: u64, map: &mut Mapped<'_>) -> Result<Vec<u8>, ParseError> {
    let mut c = Cursor::new(bytes, 0);
    let mut out = Vec::with_capacity(bytes.len());
    while !c.is_empty() {
        let before = c.rest();
        match field(&mut c)? {
            (own, Field::Bytes(content)) if own == number => {
                out.extend(write::message(number, &map(content.rest())?));
            }
            _ => out.extend_from_slice(before.get(..before.len() - c.rest().len()).unwrap_or_default()),
        }
    }
    Ok(out)
}

/// An attribute without its text and its compiled value.
fn without_value(bytes: &[u8]) -> Result<Vec<u8>, ParseError> {
    let mut c = Cursor::new(bytes, 0);
    let mut out = Vec::new();
    while !c.is_empty() {
        let before = c.rest();
        let (number, _) = field(&mut c)?;
        if !matches!(number, 3 | 6) {
            out.extend_from_slice(before.get(..before.len() - c.rest().len()).unwrap_or_default());
        }
    }
    Ok(out)
}

/// Writes a document: what the demo's bundles are made with.
pub mod write {
    use crate::axml::Value;
    use crate::axml::write::Node;

    /// A message with one element as its root.
    pub fn write(root: &Node) -> Vec<u8> {
        message(1, &element(root))
    }

    fn element(node: &Node) -> Vec<u8> {
        let mut out = message(3, node.name().as_bytes());
        for (id, name, value) in node.attributes() {
            out.extend(message(4, &attribute(id, name, value)));
        }
        for child in node.children() {
            out.extend(message(5, &write(child)));
        }
        out
    }

    fn attribute(id: Option<u32>, name: &str, value: &Value) -> Vec<u8> {
        let mut out = message(2, name.as_bytes());
        if let Value::Text(text) = value {
            out.extend(message(3, text.as_bytes()));
        }
        out.extend(id.map_or_else(Vec::new, |id| number_field(5, u64::from(id))));
        out.extend(item(value).map_or_else(Vec::new, |item| message(6, &item)));
        out
    }

    /// A compiled value.
    pub(super) fn item(value: &Value) -> Option<Vec<u8>> {
        Some(match value {
            Value::Number(number) => message(7, &number_field(6, u64::from(*number))),
            Value::Boolean(truth) => message(7, &number_field(8, u64::from(*truth))),
            Value::Reference(id) => message(1, &number_field(2, u64::from(*id))),
            Value::Text(_) | Value::Other { .. } => return None,
        })
    }

    pub(super) fn message(number: u64, content: &[u8]) -> Vec<u8> {
        let mut out = varint(number << 3 | 2);
        out.extend(varint(content.len() as u64));
        out.extend_from_slice(content);
        out
    }

    fn number_field(number: u64, value: u64) -> Vec<u8> {
        [varint(number << 3), varint(value)].concat()
    }

    fn varint(mut value: u64) -> Vec<u8> {
        let mut out = Vec::new();
        while value >= 0x80 {
            out.push(value as u8 | 0x80);
            value >>= 7;
        }
        out.push(value as u8);
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::axml::write::Node;

    #[test]
    fn what_is_written_is_read_back_in_document_order() {
        let root = Node::new("manifest")
            .plain("package", "example.gannetpoint.quayside")
            .platform(0x0101_021b, "versionCode", Value::Number(4))
            .child(Node::new("application").platform(0x0101_000f, "debuggable", Value::Boolean(true)))
            .child(Node::new("uses-sdk").platform(0x0101_020c, "minSdkVersion", Value::Reference(7)));
        let bytes = write::write(&root);
        let elements = parse(&bytes, &Limits::SMALL).unwrap();
        let names: Vec<(&str, u64)> = elements.iter().map(|e| (e.name.as_str(), e.depth)).collect();
        assert_eq!(names, [("manifest", 1), ("application", 2), ("uses-sdk", 2)]);
        assert_eq!(elements[0].by_id(0x0101_021b), Some(&Value::Number(4)));
        assert_eq!(elements[0].by_name("package"), Some(&Value::Text("example.gannetpoint.quayside".into())));
        assert_eq!(elements[1].by_id(0x0101_000f), Some(&Value::Boolean(true)));
        assert_eq!(elements[2].by_id(0x0101_020c), Some(&Value::Reference(7)));
        for end in 0..bytes.len() {
            assert!(parse(&bytes[..end], &Limits::SMALL).is_err(), "cut at {end}");
        }
    }

    #[test]
    fn an_attribute_of_the_root_is_set_and_nothing_else() {
        let root = Node::new("manifest")
            .plain("package", "example.gannetpoint.quayside")
            .platform(0x0101_021b, "versionCode", Value::Number(4))
            .platform(0x0101_021c, "versionName", Value::Text("1.0".into()))
            .child(Node::new("application").platform(0x0101_021b, "versionCode", Value::Number(9)));
        // a field that nobody knows here stays where it is
        let bytes = [write::write(&root), write::message(99, b"later")].concat();
        let set = |bytes: &[u8], id, value| set_on_root(bytes, id, &value, &Limits::SMALL).unwrap();
        let once = set(&bytes, 0x0101_021b, Value::Number(300)).unwrap();
        let twice = set(&once, 0x0101_021c, Value::Text("2.1".into())).unwrap();
        assert!(twice.ends_with(b"later"));
        let elements = parse(&twice, &Limits::SMALL).unwrap();
        assert_eq!(elements[0].by_id(0x0101_021b), Some(&Value::Number(300)));
        assert_eq!(elements[0].by_id(0x0101_021c), Some(&Value::Text("2.1".into())));
        assert_eq!(elements[1].by_id(0x0101_021b), Some(&Value::Number(9)));
        assert_eq!(set(&bytes, 0x0101_0576, Value::Number(1)), None);
        assert!(set_on_root(&bytes[..9], 1, &Value::Number(1), &Limits::SMALL).is_err());
    }

    #[test]
    fn what_is_nested_too_deep_or_lies_is_refused() {
        let mut deep = vec![];
        for _ in 0..40 {
            let element = [&[0x2a, deep.len() as u8][..], &deep].concat();
            deep = [&[0x0a, element.len() as u8][..], &element].concat();
        }
        assert!(parse(&deep, &Limits::SMALL).is_err());
        for bad in [&[0x0a, 0xff][..], &[0xff; 12], &[0x0b], &[0x0a, 0x02, 0x1a, 0x09], &[]] {
            assert!(parse(bad, &Limits::SMALL).is_err(), "{bad:02x?}");
        }
    }
}
