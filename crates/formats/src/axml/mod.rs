//! Binary XML, the form in which a package carries its manifest.
//!
//! A document is a chunk of chunks: a string pool, a map from the first strings to resource ids, then
//! namespaces and elements in document order. Attributes are told by their resource **id**, not by their
//! name: names can be anything, and a platform goes by the id.

pub mod edit;
pub(crate) mod pool;
pub mod write;

use crate::cursor::{Cursor, Fault, ParseError};
use crate::limits::Limits;
use pool::Pool;

const DOCUMENT: u16 = 0x0003;
const STRINGS: u16 = 0x0001;
const RESOURCE_MAP: u16 = 0x0180;
const START_ELEMENT: u16 = 0x0102;
const END_ELEMENT: u16 = 0x0103;
const NONE: u32 = u32::MAX;

/// The value of an attribute.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Value {
    /// Text from the string pool.
    Text(String),
    /// A reference to a resource; what it stands for is not in the manifest.
    Reference(u32),
    /// A number, written in decimal or hexadecimal.
    Number(u32),
    /// A truth value.
    Boolean(bool),
    /// Any other type, with its data.
    Other {
        /// The type byte.
        kind: u8,
        /// The data word.
        data: u32,
    },
}

/// An attribute of an element.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Attribute {
    /// The resource id of its name, for attributes of the platform.
    pub id: Option<u32>,
    /// Its name.
    pub name: String,
    /// Its value.
    pub value: Value,
}

/// An element, in document order.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Element {
    /// 1 for the root.
    pub depth: u64,
    /// Its name.
    pub name: String,
    /// Its attributes.
    pub attributes: Vec<Attribute>,
}

impl Element {
    /// The value of the platform attribute with that resource id.
    pub fn by_id(&self, id: u32) -> Option<&Value> {
        self.attributes.iter().find(|a| a.id == Some(id)).map(|a| &a.value)
    }

    /// The value of the attribute that has that name and no resource id.
    pub fn by_name(&self, name: &str) -> Option<&Value> {
        self.attributes.iter().find(|a| a.id.is_none() && a.name == name).map(|a| &a.value)
    }
}

/// Reads a document into its elements.
///
/// # Errors
/// [`ParseError`] for sizes and offsets that leave the document, a missing string pool, strings that are
/// not text, elements that do not nest, or counts above the limits.
pub fn parse(bytes: &[u8], limits: &Limits) -> Result<Vec<Element>, ParseError> {
    let mut c = Cursor::new(bytes, 0);
    let (kind, mut body) = chunk(&mut c)?;
    if kind != DOCUMENT {
        return Err(Cursor::new(bytes, 0).error("document chunk", Fault::Value(u64::from(kind))));
    }
    let mut reader = Reader { pool: None, ids: Vec::new(), elements: Vec::new(), depth: 0, limits };
    while !body.is_empty() {
        let (kind, content) = chunk(&mut body)?;
        reader.chunk(kind, content)?;
    }
    if reader.depth != 0 {
        return Err(body.error("end of an element", Fault::Malformed));
    }
    Ok(reader.elements)
}

/// The next chunk: its type, and what stands behind its type and sizes.
fn chunk<'a>(c: &mut Cursor<'a>) -> Result<(u16, Cursor<'a>), ParseError> {
    let kind = c.u16("chunk type")?;
    let header = c.u16("chunk header size")?;
    let size = c.u32("chunk size")?;
    if header < 8 || u32::from(header) > size {
        return Err(c.error("chunk size", Fault::Value(u64::from(size))));
    }
    Ok((kind, c.sub(u64::from(size) - 8, "chunk")?))
}

struct Reader<'a, 'l> {
    pool: Option<Pool<'a>>,
    ids: Vec<u32>,
    elements: Vec<Element>,
    depth: u64,
    limits: &'l Limits,
}

impl<'a> Reader<'a, '_> {
    fn chunk(&mut self, kind: u16, mut c: Cursor<'a>) -> Result<(), ParseError> {
        match kind {
            STRINGS => self.pool = Some(Pool::parse(c, self.limits)?),
            RESOURCE_MAP => {
                while !c.is_empty() {
                    Limits::check(self.ids.len() as u64 + 1, self.limits.items, "resource ids", &c)?;
                    self.ids.push(c.u32("resource id")?);
                }
            }
            START_ELEMENT => {
                self.depth += 1;
                Limits::check(self.depth, self.limits.depth, "nesting of elements", &c)?;
                let count = self.elements.len() as u64 + 1;
                Limits::check(count, self.limits.items, "elements", &c)?;
                let element = self.element(c)?;
                self.elements.push(element);
            }
            END_ELEMENT => match self.depth.checked_sub(1) {
                Some(depth) => self.depth = depth,
                None => return Err(c.error("end of an element", Fault::Malformed)),
            },
            // namespaces and text carry nothing that is asked for; unknown chunks are skipped
            _ => {}
        }
        Ok(())
    }

    fn element(&self, mut c: Cursor<'a>) -> Result<Element, ParseError> {
        c.take(8, "line and comment")?;
        let base = c.clone();
        c.u32("namespace of an element")?;
        let name = self.text(c.u32("name of an element")?, &c)?;
        let start = c.u16("attribute start")?;
        let size = c.u16("attribute size")?;
        let count = c.u16("attribute count")?;
        if size < 20 {
            return Err(c.error("attribute size", Fault::Value(u64::from(size))));
        }
        let mut list = base;
        list.take(usize::from(start), "attributes")?;
        let mut attributes = Vec::new();
        for _ in 0..count {
            let attribute = list.sub(u64::from(size), "attribute")?;
            attributes.push(self.attribute(attribute)?);
        }
        Ok(Element { depth: self.depth, name, attributes })
    }

    fn attribute(&self, mut c: Cursor<'a>) -> Result<Attribute, ParseError> {
        c.u32("namespace of an attribute")?;
        let index = c.u32("name of an attribute")?;
        let name = self.text(index, &c)?;
        let raw = c.u32("raw value")?;
        c.u16("value size")?;
        c.u8("value padding")?;
        let kind = c.u8("value type")?;
        let data = c.u32("value")?;
        let id = usize::try_from(index).ok().and_then(|i| self.ids.get(i)).copied().filter(|&id| id != 0);
        let value = match kind {
            0x01 => Value::Reference(data),
            0x03 => Value::Text(self.text(data, &c)?),
            0x10 | 0x11 => Value::Number(data),
            0x12 => Value::Boolean(data != 0),
            // no typed value: the raw text is all there is
            0x00 if raw != NONE => Value::Text(self.text(raw, &c)?),
            _ => Value::Other { kind, data },
        };
        Ok(Attribute { id, name, value })
    }

    fn text(&self, index: u32, c: &Cursor<'_>) -> Result<String, ParseError> {
        match &self.pool {
            Some(pool) => pool.text(index, c),
            None => Err(c.error("string pool", Fault::Malformed)),
        }
    }
}

#[cfg(test)]
mod tests;
