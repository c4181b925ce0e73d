//! The binary form.
//!
//! ```text
//! file     "bplist00", objects, table of their offsets, then the last 32 bytes:
//!          5 unused, u8 sort, u8 bytes of an offset, u8 bytes of a reference, u64 objects,
//!          u64 the outermost, u64 offset of the table
//! object   u8 kind and length, then
//!          0x08 false, 0x09 true, 0x1n integer of 2^n bytes, 0x2n real of 2^n bytes,
//!          0x33 date: f64 seconds since 2001, 0x4N data, 0x5N text in ASCII,
//!          0x6N text in UTF-16, 0x8n number of an object in n + 1 bytes,
//!          0xaN array of N references, 0xdN dictionary of N keys and then N values;
//!          N = 15: the length follows as an integer object
//! ```
//! Big-endian. Several references may name one object: limits count every reference.

use std::collections::HashMap;

use super::{BINARY, Date, Dictionary, Value, WHAT, malformed, within};
use crate::cursor::{Cursor, ParseError};
use crate::limits::Limits;

/// The trailer: what tells where everything is.
const TRAILER: usize = 32;

/// Reads a property list in its binary form.
pub(super) fn parse(bytes: &[u8], limits: &Limits) -> Result<Value, ParseError> {
    let objects = Objects::read(bytes)?;
    objects.look_over(limits)?;
    objects.value(objects.outermost)
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
        let at = bytes.len().checked_sub(TRAILER).ok_or_else(|| malformed(0))?;
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

    /// Follows every reference and counts values, depth and bytes against the limits.
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
                within(at, said, limit)?;
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

    /// Builds a value. Its depth and size were checked before.
    fn value(&self, index: usize) -> Result<Value, ParseError> {
        let at = *self.offsets.get(index).ok_or_else(|| malformed(index))?;
        let wrong = || malformed(at);
        let (kind, length, body) = self.object(at)?;
        let take = |size: usize| body.get(..size).ok_or_else(wrong);
        let power = || 1usize.checked_shl(u32::try_from(length).unwrap_or(u32::MAX)).ok_or_else(wrong);
        let references = |first: usize| {
            let start = first.checked_mul(self.reference).ok_or_else(wrong)?;
            let size = length.checked_mul(self.reference).ok_or_else(wrong)?;
            let all = body.get(start..).and_then(|rest| rest.get(..size)).ok_or_else(wrong)?;
            Ok(all.chunks_exact(self.reference).map(big_endian))
        };
        Ok(match (kind, length) {
            (0x0, 8) => Value::Boolean(false),
            (0x0, 9) => Value::Boolean(true),
            (0x1, 0..=4) => Value::Integer(integer(take(power()?)?).ok_or_else(wrong)?),
            (0x2, 2 | 3) => Value::Real(real(take(power()?)?).ok_or_else(wrong)?),
            (0x3, 3) => Value::Date(real(take(8)?).and_then(Date::of_seconds).ok_or_else(wrong)?),
            (0x4, _) => Value::Data(take(length)?.to_vec()),
            (0x5, _) => Value::String(String::from_utf8(take(length)?.to_vec()).map_err(|_| wrong())?),
            (0x6, _) => {
                let units = take(length.checked_mul(2).ok_or_else(wrong)?)?.chunks_exact(2);
                let units = units.map(|unit| u16::try_from(big_endian(unit)).unwrap_or_default());
                let text: Result<String, _> = char::decode_utf16(units).collect();
                Value::String(text.map_err(|_| wrong())?)
            }
            (0x8, 0..=7) => Value::Uid(number(take(length + 1)?)),
            (0xa, _) => {
                Value::Array(references(0)?.map(|index| self.value(index)).collect::<Result<_, _>>()?)
            }
            (0xd, _) => {
                let mut all = Dictionary::with_capacity(length);
                for (key, index) in references(0)?.zip(references(length)?) {
                    let Value::String(key) = self.value(key)? else { return Err(wrong()) };
                    all.insert(key, self.value(index)?);
                }
                Value::Dictionary(all)
            }
            _ => return Err(wrong()),
        })
    }
}

/// A number of at most eight bytes; what memory cannot hold is larger than any file.
fn big_endian(bytes: &[u8]) -> usize {
    usize::try_from(number(bytes)).unwrap_or(usize::MAX)
}

/// A number of at most eight bytes.
fn number(bytes: &[u8]) -> u64 {
    bytes.iter().fold(0, |number, byte| number << 8 | u64::from(*byte))
}

/// Up to four bytes are unsigned, eight are signed. Sixteen hold an unsigned number of 64 bits.
fn integer(bytes: &[u8]) -> Option<i128> {
    match *bytes {
        [a, b, c, d, e, f, g, h] => Some(i64::from_be_bytes([a, b, c, d, e, f, g, h]).into()),
        _ if bytes.len() < 8 => Some(number(bytes).into()),
        _ => {
            let number = i128::from_be_bytes(bytes.try_into().ok()?);
            (i128::from(i64::MIN)..=i128::from(u64::MAX)).contains(&number).then_some(number)
        }
    }
}

fn real(bytes: &[u8]) -> Option<f64> {
    match *bytes {
        [a, b, c, d] => Some(f32::from_be_bytes([a, b, c, d]).into()),
        _ => Some(f64::from_be_bytes(bytes.try_into().ok()?)),
    }
}

/// Writes a list. Equal values share one object unless they are collections.
pub(super) fn write(value: &Value) -> Vec<u8> {
    let mut plan = Plan::default();
    plan.add(value);
    let largest = plan.objects.len().saturating_sub(1);
    let size = bytes_for(largest as u64);
    let mut out = BINARY.to_vec();
    let mut offsets = vec![0; plan.objects.len()];
    plan.write(0, size, &mut out, &mut offsets);
    let table = out.len();
    let offset_size = bytes_for(table as u64);
    for offset in &offsets {
        push_number(&mut out, *offset as u64, offset_size);
    }
    out.extend_from_slice(&[0; 6]);
    // both are at most eight
    out.extend_from_slice(&[offset_size as u8, size as u8]);
    for number in [offsets.len(), 0, table] {
        out.extend_from_slice(&(number as u64).to_be_bytes());
    }
    out
}

/// An object to be written.
enum Object {
    /// Its bytes.
    Plain(Vec<u8>),
    /// Its kind, how many references are keys, and the references.
    Collection(u8, usize, Vec<usize>),
}

/// The objects of a list, in the order of their references.
#[derive(Default)]
struct Plan {
    objects: Vec<Object>,
    known: HashMap<Vec<u8>, usize>,
}

impl Plan {
    /// Adds the outermost value and all that is in it.
    fn add(&mut self, value: &Value) {
        let index = self.refer(value);
        self.fill(index, value);
    }

    /// The reference to a value: a new one for a collection, which is filled later.
    fn refer(&mut self, value: &Value) -> usize {
        let object = match plain(value) {
            Some(bytes) => {
                let next = self.objects.len();
                let index = *self.known.entry(bytes.clone()).or_insert(next);
                if index != next {
                    return index;
                }
                Object::Plain(bytes)
            }
            None => Object::Collection(0, 0, Vec::new()),
        };
        self.objects.push(object);
        self.objects.len() - 1
    }

    fn fill(&mut self, index: usize, value: &Value) {
        let (kind, keys, values): (_, Vec<usize>, Vec<&Value>) = match value {
            Value::Array(all) => (0xa0, Vec::new(), all.iter().collect()),
            Value::Dictionary(all) => {
                let keys = all.keys().map(|key| self.refer(&Value::String(key.clone()))).collect();
                (0xd0, keys, all.values().collect())
            }
            _ => return,
        };
        let count = keys.len();
        let inside: Vec<usize> = values.iter().map(|value| self.refer(value)).collect();
        if let Some(object) = self.objects.get_mut(index) {
            let all = keys.into_iter().chain(inside.iter().copied()).collect();
            *object = Object::Collection(kind, count, all);
        }
        for (index, value) in inside.into_iter().zip(values) {
            self.fill(index, value);
        }
    }

    /// Writes an object and what is in it, unless it is written already.
    fn write(&self, index: usize, size: usize, out: &mut Vec<u8>, offsets: &mut [usize]) {
        let (Some(object), Some(offset @ 0)) = (self.objects.get(index), offsets.get_mut(index)) else {
            return;
        };
        *offset = out.len();
        match object {
            Object::Plain(bytes) => out.extend_from_slice(bytes),
            Object::Collection(kind, keys, all) => {
                push_head(out, *kind, all.len() - keys);
                all.iter().for_each(|index| push_number(out, *index as u64, size));
                all.iter().for_each(|index| self.write(*index, size, out, offsets));
            }
        }
    }
}

/// The bytes of a value that is not a collection.
fn plain(value: &Value) -> Option<Vec<u8>> {
    let mut out = Vec::new();
    match value {
        Value::Array(_) | Value::Dictionary(_) => return None,
        Value::Boolean(flag) => out.push(8 | u8::from(*flag)),
        Value::Data(bytes) => {
            push_head(&mut out, 0x40, bytes.len());
            out.extend_from_slice(bytes);
        }
        Value::Date(date) => {
            out.push(0x33);
            out.extend_from_slice(&date.seconds().to_be_bytes());
        }
        Value::Integer(number) => push_integer(&mut out, *number),
        Value::Real(number) => {
            out.push(0x23);
            out.extend_from_slice(&number.to_be_bytes());
        }
        Value::String(text) if text.is_ascii() => {
            push_head(&mut out, 0x50, text.len());
            out.extend_from_slice(text.as_bytes());
        }
        Value::String(text) => {
            push_head(&mut out, 0x60, text.encode_utf16().count());
            out.extend(text.encode_utf16().flat_map(u16::to_be_bytes));
        }
        Value::Uid(number) => {
            let size = bytes_for(*number);
            out.push(0x80 | (size as u8 - 1));
            push_number(&mut out, *number, size);
        }
    }
    Some(out)
}

fn push_integer(out: &mut Vec<u8>, number: i128) {
    if let Ok(small) = u32::try_from(number) {
        let size = bytes_for(small.into());
        out.push(0x10 | size.ilog2() as u8);
        push_number(out, small.into(), size);
    } else if let Ok(number) = i64::try_from(number) {
        out.push(0x13);
        out.extend_from_slice(&number.to_be_bytes());
    } else {
        out.push(0x14);
        out.extend_from_slice(&number.to_be_bytes());
    }
}

/// The kind of an object with its length.
fn push_head(out: &mut Vec<u8>, kind: u8, length: usize) {
    match u8::try_from(length) {
        Ok(short @ 0..0xf) => out.push(kind | short),
        _ => {
            out.push(kind | 0xf);
            push_integer(out, length as i128);
        }
    }
}

/// How many bytes a number takes here: one, two, four or eight.
fn bytes_for(number: u64) -> usize {
    match number {
        0..=0xff => 1,
        0x100..=0xffff => 2,
        0x1_0000..=0xffff_ffff => 4,
        _ => 8,
    }
}

fn push_number(out: &mut Vec<u8>, number: u64, size: usize) {
    let bytes = number.to_be_bytes();
    out.extend_from_slice(bytes.get(bytes.len() - size..).unwrap_or_default());
}
