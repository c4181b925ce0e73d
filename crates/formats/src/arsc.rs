//! The compiled resources of a package (`resources.arsc`), as far as a manifest refers to them: simple values by id.
//!
//! ```text
//! table    0x0002  u32 packages, then chunks: the values' string pool (0x0001), packages
//! package  0x0200  u32 id, ..., then chunks: two string pools, 0x0202 specifications, 0x0201 types
//! type     0x0201  u8 id, u8 flags, u16, u32 count, u32 start of the entries (from the chunk's first byte),
//!                  configuration up to the header's size; then an offset an entry (u32, all ones for none;
//!                  with flag 1 pairs of u16 index and u16 offset / 4; with flag 2 u16 offset / 4)
//! entry            u16 size, u16 flags, u32 key, value; with flag 1 a map, with flag 8 compact:
//!                  u16 key, u16 flags (the type in the upper byte), u32 data
//! value            u16 size, u8 0, u8 type, u32 data
//! ```
//! An id is `0xPPTTEEEE`: package, type, entry. Nothing here was proved on a table of another tool's making.

use std::collections::BTreeMap;

use crate::axml::Value;
use crate::axml::pool::Pool;
use crate::cursor::{Cursor, Fault, ParseError};
use crate::limits::Limits;

const TABLE: u16 = 0x0002;
const STRINGS: u16 = 0x0001;
const PACKAGE: u16 = 0x0200;
const TYPE: u16 = 0x0201;
/// The bytes in front of a chunk's content: type, header size, size.
const CHUNK: u64 = 8;
/// How often one resource may refer to another.
const MOST_STEPS: usize = 8;

/// What a resource stands for.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Found {
    /// The same value under every configuration.
    One(Value),
    /// Different ones: which counts depends on the device.
    Several,
}

/// The values that some resources stand for, by id: those that have one, the same under every configuration. References
/// to other resources are followed.
///
/// # Errors
/// [`ParseError`] for sizes and offsets that leave the table, or counts above the limits.
pub fn values(bytes: &[u8], ids: &[u32], limits: &Limits) -> Result<BTreeMap<u32, Value>, ParseError> {
    let mut known: BTreeMap<u32, Found> = BTreeMap::new();
    let mut wanted: Vec<u32> = ids.to_vec();
    // each step reads the table once, for all that the step before led to
    for _ in 0..MOST_STEPS {
        wanted.retain(|id| !known.contains_key(id));
        if wanted.is_empty() {
            break;
        }
        read(bytes, &wanted, limits, &mut known)?;
        wanted = known.values().filter_map(referred).collect();
    }
    let resolve = |id: &u32| {
        let mut at = *id;
        for _ in 0..MOST_STEPS {
            match known.get(&at)? {
                Found::One(Value::Reference(next)) => at = *next,
                Found::One(value) => return Some(value.clone()),
                Found::Several => return None,
            }
        }
        None
    };
    Ok(ids.iter().filter_map(|id| Some((*id, resolve(id)?))).collect())
}

fn referred(found: &Found) -> Option<u32> {
    match found {
        Found::One(Value::Reference(id)) => Some(*id),
        _ => None,
    }
}

fn read(
    bytes: &[u8],
    wanted: &[u32],
    limits: &Limits,
    known: &mut BTreeMap<u32, Found>,
) -> Result<(), ParseError> {
    let mut c = Cursor::new(bytes, 0);
    let (kind, _, mut body) = chunk(&mut c)?;
    if kind != TABLE {
        return Err(Cursor::new(bytes, 0).error("resource table", Fault::Value(u64::from(kind))));
    }
    body.u32("number of packages")?;
    let mut pool = None;
    while !body.is_empty() {
        let (kind, header, content) = chunk(&mut body)?;
        match kind {
            STRINGS if pool.is_none() => pool = Some(Pool::parse(content, limits)?),
            PACKAGE => package(content, header, wanted, pool.as_ref(), limits, known)?,
            _ => {}
        }
    }
    Ok(())
}

/// The next chunk: its type, the size of its header, and what stands behind the three fields that every chunk has.
fn chunk<'a>(c: &mut Cursor<'a>) -> Result<(u16, u64, Cursor<'a>), ParseError> {
    let kind = c.u16("chunk type")?;
    let header = u64::from(c.u16("chunk header size")?);
    let size = u64::from(c.u32("chunk size")?);
    if header < CHUNK || header > size {
        return Err(c.error("chunk size", Fault::Value(size)));
    }
    Ok((kind, header, c.sub(size - CHUNK, "chunk")?))
}

fn package(
    mut c: Cursor<'_>,
    header: u64,
    wanted: &[u32],
    pool: Option<&Pool<'_>>,
    limits: &Limits,
    known: &mut BTreeMap<u32, Found>,
) -> Result<(), ParseError> {
    let mut head = c.sub(header - CHUNK, "package header")?;
    let id = head.u32("package id")?;
    let wanted: Vec<u32> = wanted.iter().copied().filter(|wanted| wanted >> 24 == id).collect();
    while !c.is_empty() && !wanted.is_empty() {
        let (kind, header, content) = chunk(&mut c)?;
        if kind == TYPE {
            of_type(content, header, &wanted, pool, limits, known)?;
        }
    }
    Ok(())
}

fn of_type(
    c: Cursor<'_>,
    header: u64,
    wanted: &[u32],
    pool: Option<&Pool<'_>>,
    limits: &Limits,
    known: &mut BTreeMap<u32, Found>,
) -> Result<(), ParseError> {
    let whole = c.clone();
    let mut head = c;
    let id = head.u8("type id")?;
    let flags = head.u8("type flags")?;
    head.u16("type padding")?;
    let count = head.u32("number of entries")?;
    let start = u64::from(head.u32("start of the entries")?);
    Limits::check(u64::from(count), limits.items, "number of entries", &head)?;
    for wanted in wanted.iter().filter(|wanted| (**wanted >> 16 & 0xff) as u8 == id) {
        let index = wanted & 0xffff;
        let mut offsets = behind(&whole, header)?;
        let Some(offset) = offset(&mut offsets, flags, count, index)? else { continue };
        let entry = behind(&whole, start.saturating_add(offset))?;
        let value = value(entry, pool)?;
        let found = known.entry(*wanted).or_insert_with(|| Found::One(value.clone()));
        if *found != Found::One(value) {
            *found = Found::Several;
        }
    }
    Ok(())
}

/// What stands so many bytes behind a chunk's first byte, given what stands behind its three fields.
fn behind<'a>(content: &Cursor<'a>, position: u64) -> Result<Cursor<'a>, ParseError> {
    let mut c = content.clone();
    let skip = position.checked_sub(CHUNK).ok_or_else(|| c.error("offset", Fault::Value(position)))?;
    c.take(usize::try_from(skip).unwrap_or(usize::MAX), "offset")?;
    Ok(c)
}

/// Where an entry begins, from the start of the entries; nothing when it has no value in this configuration.
fn offset(c: &mut Cursor<'_>, flags: u8, count: u32, index: u32) -> Result<Option<u64>, ParseError> {
    const SPARSE: u8 = 1;
    const SHORT: u8 = 2;
    if flags & SPARSE != 0 {
        for _ in 0..count {
            let (found, offset) = (c.u16("index of an entry")?, c.u16("offset of an entry")?);
            if u32::from(found) == index {
                return Ok(Some(u64::from(offset) * 4));
            }
        }
        return Ok(None);
    }
    if index >= count {
        return Ok(None);
    }
    let at = usize::try_from(index).unwrap_or(usize::MAX);
    if flags & SHORT != 0 {
        c.take(at.saturating_mul(2), "offsets of entries")?;
        let offset = c.u16("offset of an entry")?;
        return Ok((offset != u16::MAX).then_some(u64::from(offset) * 4));
    }
    c.take(at.saturating_mul(4), "offsets of entries")?;
    let offset = c.u32("offset of an entry")?;
    Ok((offset != u32::MAX).then_some(u64::from(offset)))
}

fn value(mut c: Cursor<'_>, pool: Option<&Pool<'_>>) -> Result<Value, ParseError> {
    const MAP: u16 = 1;
    const COMPACT: u16 = 8;
    let size = c.u16("size of an entry")?;
    let flags = c.u16("flags of an entry")?;
    if flags & COMPACT != 0 {
        let data = c.u32("value")?;
        return typed((flags >> 8) as u8, data, pool, &c);
    }
    if flags & MAP != 0 {
        return Ok(Value::Other { kind: 0, data: 0 });
    }
    c.take(usize::from(size).saturating_sub(4), "entry")?;
    c.u16("size of a value")?;
    c.u8("padding of a value")?;
    let kind = c.u8("type of a value")?;
    let data = c.u32("value")?;
    typed(kind, data, pool, &c)
}

fn typed(kind: u8, data: u32, pool: Option<&Pool<'_>>, c: &Cursor<'_>) -> Result<Value, ParseError> {
    Ok(match (kind, pool) {
        (0x01 | 0x07, _) => Value::Reference(data),
        (0x03, Some(pool)) => Value::Text(pool.text(data, c)?),
        (0x10 | 0x11, _) => Value::Number(data),
        (0x12, _) => Value::Boolean(data != 0),
        _ => Value::Other { kind, data },
    })
}

pub mod write {
    //! Writing tables, for builds that are made here.

    use super::Value;

    /// A table with one package (0x7f) of one type (1): the values of its entries, and more of them under other
    /// configurations. Nothing stands where an entry has no value.
    pub fn table(configurations: &[Vec<Option<Value>>]) -> Vec<u8> {
        let mut strings: Vec<String> = Vec::new();
        let types: Vec<u8> =
            configurations.iter().flat_map(|entries| of_type(entries, &mut strings)).collect();
        let mut package = 0x7fu32.to_le_bytes().to_vec();
        package.resize(package.len() + 256 + 20, 0);
        let package = chunk(0x0200, package.len(), &[package.as_slice(), &types].concat());
        let content = [&1u32.to_le_bytes()[..], &pool(&strings), &package].concat();
        chunk(0x0002, 4, &content)
    }

    fn chunk(kind: u16, header: usize, content: &[u8]) -> Vec<u8> {
        let size = (content.len() as u32 + 8).to_le_bytes();
        [&kind.to_le_bytes()[..], &(header as u16 + 8).to_le_bytes(), &size, content].concat()
    }

    fn pool(strings: &[String]) -> Vec<u8> {
        let mut offsets = Vec::new();
        let mut data = Vec::new();
        for text in strings {
            offsets.extend((data.len() as u32).to_le_bytes());
            data.extend([text.len() as u8, text.len() as u8]);
            data.extend(text.as_bytes());
            data.push(0);
        }
        data.resize(data.len().next_multiple_of(4), 0);
        let start = 28 + offsets.len() as u32;
        let head = [strings.len() as u32, 0, 0x100, start, 0].map(u32::to_le_bytes).concat();
        chunk(0x0001, 20, &[head, offsets, data].concat())
    }

    fn of_type(entries: &[Option<Value>], strings: &mut Vec<String>) -> Vec<u8> {
        let mut offsets = Vec::new();
        let mut data = Vec::new();
        for entry in entries {
            let Some(value) = entry else {
                offsets.extend(u32::MAX.to_le_bytes());
                continue;
            };
            offsets.extend((data.len() as u32).to_le_bytes());
            let (kind, word) = match value {
                Value::Reference(id) => (1u8, *id),
                Value::Text(text) => {
                    strings.push(text.clone());
                    (3, strings.len() as u32 - 1)
                }
                Value::Number(number) => (0x10, *number),
                Value::Boolean(truth) => (0x12, if *truth { u32::MAX } else { 0 }),
                Value::Other { kind, data } => (*kind, *data),
            };
            data.extend([8, 0, 0, 0, 0, 0, 0, 0, 8, 0, 0, kind]);
            data.extend(word.to_le_bytes());
        }
        let configuration = [[64u8, 0, 0, 0].to_vec(), vec![0; 60]].concat();
        let header = 8 + 12 + configuration.len();
        let start = (header + offsets.len()) as u32;
        let head = [[1u8, 0, 0, 0], (entries.len() as u32).to_le_bytes(), start.to_le_bytes()].concat();
        chunk(0x0201, header - 8, &[head, configuration, offsets, data].concat())
    }
}

#[cfg(test)]
mod tests {
    use super::write::table;
    use super::*;

    fn of(bytes: &[u8], ids: &[u32]) -> Vec<Option<Value>> {
        let found = values(bytes, ids, &Limits::SMALL).unwrap();
        ids.iter().map(|id| found.get(id).cloned()).collect()
    }

    #[test]
    fn values_are_found_by_id_and_references_followed() {
        let entries = vec![
            Some(Value::Number(12)),
            Some(Value::Text("2.4.0".into())),
            Some(Value::Reference(0x7f01_0000)),
            None,
            Some(Value::Boolean(true)),
            Some(Value::Reference(0x7f01_0005)),
        ];
        let bytes = table(&[entries]);
        let ids = [0x7f01_0000, 0x7f01_0001, 0x7f01_0002, 0x7f01_0003, 0x7f01_0004, 0x7f01_0005, 0x0101_0001];
        let (twelve, text) = (Some(Value::Number(12)), Some(Value::Text("2.4.0".into())));
        let truth = Some(Value::Boolean(true));
        assert_eq!(of(&bytes, &ids), [twelve.clone(), text, twelve, None, truth, None, None]);
    }

    #[test]
    fn what_differs_by_configuration_has_no_value() {
        let bytes = table(&[
            vec![Some(Value::Number(1)), Some(Value::Number(7))],
            vec![Some(Value::Number(2)), None],
        ]);
        assert_eq!(of(&bytes, &[0x7f01_0000, 0x7f01_0001]), [None, Some(Value::Number(7))]);
    }

    #[test]
    fn every_cut_is_an_error_and_no_byte_turned_a_panic() {
        let bytes = table(&[vec![Some(Value::Text("x".into())), Some(Value::Reference(0x7f01_0000))]]);
        let ids = [0x7f01_0000, 0x7f01_0001];
        for end in 0..bytes.len() {
            assert!(values(&bytes[..end], &ids, &Limits::SMALL).is_err(), "cut at {end}");
        }
        for at in 0..bytes.len() {
            for bit in [1, 0x80] {
                let mut turned = bytes.clone();
                turned[at] ^= bit;
                let _ = values(&turned, &ids, &Limits::SMALL);
            }
        }
    }
}
