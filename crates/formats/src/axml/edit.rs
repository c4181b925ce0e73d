//! Setting an attribute of the root element, and leaving every other byte as it is.
//!
//! A number stands in the attribute itself. A text stands in the string pool, where others may use it too: a new one is put
//! behind those that are there, so that no index changes.

use std::ops::Range;

use super::pool::{SORTED, UTF8};
use super::{DOCUMENT, Element, NONE, RESOURCE_MAP, START_ELEMENT, STRINGS, Value, parse};
use crate::cursor::{Cursor, Fault, ParseError};
use crate::limits::Limits;

/// The longest text that is set, in UTF-16 units and in bytes: a length of two bytes holds it in either form.
const LONGEST: usize = 0x7fff;
/// What stands before the offsets of a string pool.
const POOL_HEAD: usize = 28;

/// The document with another value for the root's attribute of that resource id; nothing where the root has no such attribute.
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
    let Some(place) = find(bytes, id)? else { return Ok(None) };
    let malformed =
        || ParseError { what: "attribute to be set", at: place.attribute as u64, fault: Fault::Malformed };
    let mut out = bytes.to_vec();
    let (raw, kind, data) = match value {
        Value::Number(number) => (NONE, 0x10, *number),
        Value::Text(text) => {
            let at = append(&mut out, &place.pool, text).ok_or_else(malformed)?;
            (at, 0x03, at)
        }
        _ => return Err(malformed()),
    };
    // the pool may stand before the element, and has grown
    let grown = if place.pool.start < place.attribute { out.len() - bytes.len() } else { 0 };
    let new = [&raw.to_le_bytes()[..], &[8, 0, 0, kind], &data.to_le_bytes()].concat();
    put(&mut out, place.attribute + grown + 8, &new).ok_or_else(malformed)?;
    let length = u32::try_from(out.len()).map_err(|_| malformed())?;
    put(&mut out, 4, &length.to_le_bytes()).ok_or_else(malformed)?;
    // nothing else may have changed
    set(&mut wanted, id, value);
    if parse(&out, limits)? == wanted { Ok(Some(out)) } else { Err(malformed()) }
}

/// What the elements are when it is done.
fn set(elements: &mut [Element], id: u32, value: &Value) {
    let root = elements.first_mut().into_iter().flat_map(|root| &mut root.attributes);
    root.filter(|attribute| attribute.id == Some(id))
        .take(1)
        .for_each(|attribute| attribute.value = value.clone());
}

/// Where things stand.
struct Found {
    pool: Range<usize>,
    attribute: usize,
}

fn find(bytes: &[u8], id: u32) -> Result<Option<Found>, ParseError> {
    let mut c = Cursor::new(bytes, 0);
    let (kind, mut body) = super::chunk(&mut c)?;
    if kind != DOCUMENT {
        return Err(body.error("document chunk", Fault::Value(u64::from(kind))));
    }
    let (mut pool, mut ids) = (0..0, Vec::new());
    while !body.is_empty() {
        let start = body.at() as usize;
        let (kind, mut content) = super::chunk(&mut body)?;
        match kind {
            STRINGS => pool = start..body.at() as usize,
            RESOURCE_MAP => {
                while !content.is_empty() {
                    ids.push(content.u32("resource id")?);
                }
            }
            START_ELEMENT => {
                let found = attribute(content, &ids, id)?;
                return Ok(found.map(|attribute| Found { pool, attribute }));
            }
            _ => {}
        }
    }
    Ok(None)
}

/// Where the attribute of that id begins.
fn attribute(mut c: Cursor<'_>, ids: &[u32], id: u32) -> Result<Option<usize>, ParseError> {
    c.take(8, "line and comment")?;
    let mut list = c.clone();
    c.take(8, "name of an element")?;
    let (start, size, count) =
        (c.u16("attribute start")?, c.u16("attribute size")?, c.u16("attribute count")?);
    list.take(usize::from(start), "attributes")?;
    for _ in 0..count {
        let mut one = list.sub(u64::from(size), "attribute")?;
        let at = one.at() as usize;
        one.u32("namespace of an attribute")?;
        let name = one.u32("name of an attribute")?;
        if usize::try_from(name).ok().and_then(|name| ids.get(name)) == Some(&id) {
            return Ok(Some(at));
        }
    }
    Ok(None)
}

/// Puts a text behind the others of the pool, and tells its index.
fn append(out: &mut Vec<u8>, pool: &Range<usize>, text: &str) -> Option<u32> {
    let old = out.get(pool.clone())?.to_vec();
    let word = |at: usize| Some(u32::from_le_bytes(*old.get(at..)?.first_chunk::<4>()?));
    let (count, styles, flags) = (word(8)?, word(12)?, word(16)?);
    let (strings_at, styles_at) = (word(20)? as usize, word(24)? as usize);
    let offsets = POOL_HEAD..POOL_HEAD.checked_add(usize::try_from(count).ok()?.checked_mul(4)?)?;
    let strings_end = if styles > 0 { styles_at } else { old.len() };
    let strings = old.get(strings_at..strings_end)?;
    let mut added = encoded(text, flags & UTF8 != 0)?;
    added.resize(added.len().next_multiple_of(4), 0);
    // what stands there is a multiple of four already, or was written by somebody who did not care
    let gap = strings.len().next_multiple_of(4) - strings.len();
    let offset = u32::try_from(strings.len() + gap).ok()?;
    let mut new = old.get(..offsets.end)?.to_vec();
    new.extend_from_slice(&offset.to_le_bytes());
    new.extend_from_slice(old.get(offsets.end..strings_at)?);
    new.extend_from_slice(strings);
    new.resize(new.len() + gap, 0);
    new.extend_from_slice(&added);
    new.extend_from_slice(old.get(strings_end..)?);
    let grown = u32::try_from(gap + added.len()).ok()?;
    let moved = if styles > 0 { word(24)?.checked_add(grown)?.checked_add(4)? } else { word(24)? };
    let head = [
        (4, u32::try_from(new.len()).ok()?),
        (8, count.checked_add(1)?),
        (16, flags & !SORTED),
        (20, word(20)?.checked_add(4)?),
        (24, moved),
    ];
    head.iter().try_for_each(|(at, word)| put(&mut new, *at, &word.to_le_bytes()))?;
    out.splice(pool.clone(), new);
    Some(count)
}

fn encoded(text: &str, utf8: bool) -> Option<Vec<u8>> {
    let units: Vec<u16> = text.encode_utf16().collect();
    let length = |count: usize| -> Option<Vec<u8>> {
        let count = u16::try_from(count).ok().filter(|count| usize::from(*count) <= LONGEST)?;
        Some(if count < 0x80 { vec![count as u8] } else { (count | 0x8000).to_be_bytes().to_vec() })
    };
    if utf8 {
        return Some([length(units.len())?, length(text.len())?, text.as_bytes().to_vec(), vec![0]].concat());
    }
    let count = u16::try_from(units.len()).ok().filter(|count| usize::from(*count) <= LONGEST)?;
    let all = std::iter::once(count).chain(units).chain([0]);
    Some(all.flat_map(u16::to_le_bytes).collect())
}

fn put(out: &mut [u8], at: usize, bytes: &[u8]) -> Option<()> {
    out.get_mut(at..at.checked_add(bytes.len())?)?.copy_from_slice(bytes);
    Some(())
}
