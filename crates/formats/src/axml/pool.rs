//! The string pool of a binary XML document: UTF-16 in manifests, UTF-8 elsewhere.

use crate::cursor::{Cursor, Fault, ParseError};
use crate::limits::Limits;

/// The flag of strings that stand in their order.
pub(super) const SORTED: u32 = 0x1;
/// The flag of strings in UTF-8.
pub(super) const UTF8: u32 = 0x100;

/// Strings by index, decoded when they are asked for.
pub(crate) struct Pool<'a> {
    offsets: Vec<u32>,
    data: Cursor<'a>,
    utf8: bool,
}

impl<'a> Pool<'a> {
    /// Reads what follows the chunk's type and sizes.
    pub(crate) fn parse(c: Cursor<'a>, limits: &Limits) -> Result<Self, ParseError> {
        let mut data = c.clone();
        let mut c = c;
        let count = c.u32("number of strings")?;
        Limits::check(u64::from(count), limits.items, "number of strings", &c)?;
        c.u32("number of styles")?;
        let utf8 = c.u32("string flags")? & UTF8 != 0;
        let start = c.u32("start of the strings")?;
        c.u32("start of the styles")?;
        let mut offsets = Vec::new();
        for _ in 0..count {
            offsets.push(c.u32("string offset")?);
        }
        // the start counts from the chunk's own first byte, eight bytes before `data`
        let skip =
            start.checked_sub(8).filter(|_| count > 0).unwrap_or(if count == 0 { 0 } else { u32::MAX });
        data.take(usize::try_from(skip).unwrap_or(usize::MAX), "strings")?;
        Ok(Pool { offsets, data, utf8 })
    }

    /// The string at `index`; `at` is where it was asked for.
    pub(crate) fn text(&self, index: u32, at: &Cursor<'_>) -> Result<String, ParseError> {
        let unknown = || at.error("string index", Fault::Value(u64::from(index)));
        let position = usize::try_from(index).map_err(|_| unknown())?;
        let offset = *self.offsets.get(position).ok_or_else(unknown)?;
        let mut c = self.data.clone();
        c.take(usize::try_from(offset).unwrap_or(usize::MAX), "string offset")?;
        if self.utf8 { utf8(&mut c) } else { utf16(&mut c) }
    }
}

fn utf16(c: &mut Cursor<'_>) -> Result<String, ParseError> {
    let mut units = u32::from(c.u16("string length")?);
    if units & 0x8000 != 0 {
        units = (units & 0x7fff) << 16 | u32::from(c.u16("string length")?);
    }
    let bytes = c.sub(u64::from(units) * 2, "string")?;
    let units = bytes.rest().as_chunks::<2>().0.iter().map(|&pair| u16::from_le_bytes(pair));
    char::decode_utf16(units).collect::<Result<String, _>>().map_err(|_| bytes.error("string", Fault::Text))
}

fn utf8(c: &mut Cursor<'_>) -> Result<String, ParseError> {
    short_or_long(c)?;
    let length = short_or_long(c)?;
    let bytes = c.sub(u64::from(length), "string")?;
    match std::str::from_utf8(bytes.rest()) {
        Ok(text) => Ok(text.to_owned()),
        Err(_) => Err(bytes.error("string", Fault::Text)),
    }
}

/// A length of one byte, or of two when bit 7 of the first is set.
fn short_or_long(c: &mut Cursor<'_>) -> Result<u16, ParseError> {
    let first = u16::from(c.u8("string length")?);
    if first & 0x80 == 0 {
        return Ok(first);
    }
    Ok((first & 0x7f) << 8 | u16::from(c.u8("string length")?))
}
