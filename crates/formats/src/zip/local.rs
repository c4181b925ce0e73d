//! Local headers: where each entry's data stands, and what lies between the entries.

use std::ops::Range;

use super::{Entry, FLAG_DESCRIPTOR, STORED, ZipError, ZipFault};
use crate::source::Source;

const HEADER_SIGNATURE: [u8; 4] = *b"PK\x03\x04";
const HEADER_LENGTH: u64 = 30;
const DESCRIPTOR_SIGNATURE: [u8; 4] = *b"PK\x07\x08";
/// A local header without a name, followed by 102 zero bytes: free space that some writers leave in front.
const FREE_SPACE_LENGTH: u64 = 132;
/// Zero bytes that move what stands before the directory to a multiple of this.
const PAGE: u64 = 4096;

/// The bytes one entry takes, from its local header to the end of its descriptor.
pub(super) struct Extent {
    pub(super) range: Range<u64>,
    pub(super) index: usize,
}

/// The fields of a local header that the directory states as well.
struct Header {
    flags: u16,
    method: u16,
    crc: u32,
    compressed: u32,
    size: u32,
    name_length: u16,
    extra_length: u16,
}

/// Reads the local header of `entry`, fills in where its data is, and notes every disagreement with the
/// directory. Returns the bytes it takes, or nothing when they cannot be told.
pub(super) fn resolve(
    source: &dyn Source,
    entry: &mut Entry,
    body_end: u64,
    faults: &mut Vec<ZipFault>,
) -> Result<Option<Range<u64>>, ZipError> {
    let name_end = entry.header_at + HEADER_LENGTH + entry.name.len() as u64;
    if name_end > body_end {
        faults.push(ZipFault::NoLocalHeader(entry.name_text()));
        return Ok(None);
    }
    let bytes = source.bytes(entry.header_at..name_end, HEADER_LENGTH + u64::from(u16::MAX))?;
    let Some(header) = parse(&bytes) else {
        faults.push(ZipFault::NoLocalHeader(entry.name_text()));
        return Ok(None);
    };
    let name = bytes.get(usize::from(HEADER_LENGTH as u16)..).unwrap_or_default();
    compare(entry, &header, name, faults);
    entry.data_at =
        entry.header_at + HEADER_LENGTH + u64::from(header.name_length) + u64::from(header.extra_length);
    let data_end = entry.data_at + entry.compressed;
    if data_end > body_end {
        faults.push(ZipFault::DataOutside(entry.name_text()));
        return Ok(None);
    }
    entry.ends_at = data_end;
    if entry.flags & FLAG_DESCRIPTOR != 0 {
        entry.ends_at += descriptor_length(source, entry, data_end, body_end, faults)?;
    }
    Ok(Some(entry.header_at..entry.ends_at))
}

fn parse(bytes: &[u8]) -> Option<Header> {
    let mut c = crate::cursor::Cursor::new(bytes, 0);
    if c.take(4, "signature").ok()? != HEADER_SIGNATURE {
        return None;
    }
    c.u16("version").ok()?;
    let (flags, method) = (c.u16("flags").ok()?, c.u16("method").ok()?);
    c.u32("time").ok()?;
    let (crc, compressed, size) = (c.u32("crc").ok()?, c.u32("compressed").ok()?, c.u32("size").ok()?);
    let (name_length, extra_length) = (c.u16("name").ok()?, c.u16("extra").ok()?);
    Some(Header { flags, method, crc, compressed, size, name_length, extra_length })
}

/// With bit 3 set the local sizes may also be zero; otherwise everything must be equal.
fn compare(entry: &Entry, header: &Header, name: &[u8], faults: &mut Vec<ZipFault>) {
    let deferred = header.flags & FLAG_DESCRIPTOR != 0;
    let agrees = |local: u32, central: u64| {
        u64::from(local) == central || (deferred && local == 0) || (entry.zip64 && local == u32::MAX)
    };
    let fields = [
        ("name", usize::from(header.name_length) == entry.name.len() && name == entry.name),
        ("flags", header.flags == entry.flags),
        ("method", header.method == entry.method),
        ("checksum", agrees(header.crc, u64::from(entry.crc))),
        ("compressed size", agrees(header.compressed, entry.compressed)),
        ("size", agrees(header.size, entry.size)),
        ("stored size", entry.method != STORED || entry.compressed == entry.size),
    ];
    for (field, good) in fields {
        if !good {
            faults.push(ZipFault::Disagreement { name: entry.name_text(), field });
        }
    }
}

/// The length of a data descriptor: a signature that may be left out, a checksum, and sizes of 4 bytes each, of 8 in zip64;
/// its values must agree.
fn descriptor_length(
    source: &dyn Source,
    entry: &Entry,
    at: u64,
    body_end: u64,
    faults: &mut Vec<ZipFault>,
) -> Result<u64, ZipError> {
    let mut expected = entry.crc.to_le_bytes().to_vec();
    for size in [entry.compressed, entry.size] {
        match entry.zip64 {
            true => expected.extend_from_slice(&size.to_le_bytes()),
            false => expected.extend_from_slice(&(size as u32).to_le_bytes()),
        }
    }
    let most = DESCRIPTOR_SIGNATURE.len() + expected.len();
    let there = (body_end - at).min(most as u64);
    let bytes = source.bytes(at..at + there, most as u64)?;
    let signed = bytes.starts_with(&DESCRIPTOR_SIGNATURE);
    let length = if signed { most } else { expected.len() };
    let values = bytes.get(length - expected.len()..length);
    if values != Some(expected.as_slice()) {
        faults.push(ZipFault::Disagreement { name: entry.name_text(), field: "data descriptor" });
    }
    Ok((length as u64).min(there))
}

/// Looks at what lies before, between and after the entries. Allowed are free-space records, zero bytes
/// between entries, and the zero bytes that move to a page what stands before the directory.
pub(super) fn check_gaps(
    source: &dyn Source,
    entries: &[Entry],
    extents: &[Extent],
    body_end: u64,
    something_behind: bool,
    faults: &mut Vec<ZipFault>,
) -> Result<(), ZipError> {
    let mut at = 0;
    let mut before: Option<usize> = None;
    let name = |index: usize| entries.get(index).map(Entry::name_text).unwrap_or_default();
    for extent in extents {
        if let Some(previous) = before.filter(|_| extent.range.start < at) {
            faults.push(ZipFault::Overlap(name(previous), name(extent.index)));
        } else if extent.range.start > at {
            let place = if before.is_none() { "before the first entry" } else { "between entries" };
            let gap = at..extent.range.start;
            if !is_allowed_gap(source, gap.clone(), before.is_some())? {
                faults.push(ZipFault::Stray { at: gap.start, length: gap.end - gap.start, place });
            }
        }
        if extent.range.end > at {
            at = extent.range.end;
            before = Some(extent.index);
        }
    }
    if at < body_end {
        let length = body_end - at;
        let moves_it = something_behind && length < PAGE && is_zero(source, at..body_end)?;
        if !moves_it {
            faults.push(ZipFault::Stray { at, length, place: "behind the last entry" });
        }
    }
    Ok(())
}

fn is_allowed_gap(source: &dyn Source, gap: Range<u64>, zeros_allowed: bool) -> Result<bool, ZipError> {
    let length = gap.end - gap.start;
    if length.is_multiple_of(FREE_SPACE_LENGTH) && length <= 64 * FREE_SPACE_LENGTH {
        let bytes = source.bytes(gap.clone(), 64 * FREE_SPACE_LENGTH)?;
        if bytes.chunks(usize::from(FREE_SPACE_LENGTH as u16)).all(is_free_space) {
            return Ok(true);
        }
    }
    Ok(zeros_allowed && length < PAGE && is_zero(source, gap)?)
}

fn is_free_space(record: &[u8]) -> bool {
    let extra_is_zero = record.get(30..).is_some_and(|extra| extra.iter().all(|&byte| byte == 0));
    parse(record).is_some_and(|header| {
        header.name_length == 0
            && u64::from(header.extra_length) == FREE_SPACE_LENGTH - HEADER_LENGTH
            && (header.compressed, header.size, header.crc) == (0, 0, 0)
    }) && extra_is_zero
}

fn is_zero(source: &dyn Source, range: Range<u64>) -> Result<bool, ZipError> {
    Ok(source.bytes(range, PAGE)?.iter().all(|&byte| byte == 0))
}
