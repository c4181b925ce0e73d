//! Walking an archive: the end record backwards from the end, the directory, every local header.

use std::collections::BTreeSet;
use std::ops::Range;

use rayon::prelude::*;

use super::local::{self, Extent};
use super::{Archive, Entry, Zip64, ZipError, ZipFault};
use crate::cursor::{Cursor, Fault};
use crate::limits::Limits;
use crate::source::Source;

const END_SIGNATURE: [u8; 4] = *b"PK\x05\x06";
const END_LENGTH: u64 = 22;
const LONGEST_COMMENT: u64 = 0xffff;
const LOCATOR_SIGNATURE: [u8; 4] = *b"PK\x06\x07";
const LOCATOR_LENGTH: u64 = 20;
const END64_SIGNATURE: [u8; 4] = *b"PK\x06\x06";
/// The end record of zip64 without what may follow in it.
const END64_LENGTH: u64 = 56;
/// The extra field of zip64.
const ZIP64_EXTRA: u16 = 1;
/// No file is larger; sums of two such numbers do not overflow.
const MOST_BYTES: u64 = 1 << 60;
const DIRECTORY_SIGNATURE: u32 = 0x0201_4b50;
const ZIP64_MARK: u32 = 0xffff_ffff;

/// An archive whose end was found: where its directory stands is known, what is in it is not.
pub struct Outline {
    end: End,
    directory: Range<u64>,
    zip64: Zip64,
    faults: Vec<ZipFault>,
}

impl Outline {
    /// Finds the end record, and that of zip64 where it is read.
    ///
    /// # Errors
    /// [`ZipError`] when it is not an archive, is cut short or cannot be read.
    pub fn read(source: &dyn Source, zip64: Zip64) -> Result<Outline, ZipError> {
        let mut faults = Vec::new();
        let mut end = find_end(source, &mut faults)?;
        let locator = end.locator(source)?;
        let mut tail = end.range.start;
        match (zip64, locator) {
            (Zip64::Read, Some(record_at)) => {
                tail = record_at;
                end.widen(source, record_at)?;
            }
            (Zip64::Refuse, Some(_)) => faults.push(ZipFault::Zip64),
            (_, None) => {}
        }
        let directory = end.directory_range(tail)?;
        if directory.end < tail && (zip64, locator.is_some()) != (Zip64::Refuse, true) {
            let (at, length) = (directory.end, tail - directory.end);
            faults.push(ZipFault::Stray { at, length, place: "between directory and end record" });
        }
        Ok(Outline { end, directory, zip64, faults })
    }

    /// Where the central directory stands.
    pub fn directory(&self) -> Range<u64> {
        self.directory.clone()
    }

    /// Whether an entry's name is such a one: enough to tell what kind of build it is.
    ///
    /// # Errors
    /// [`ZipError`] when the directory is damaged or the file cannot be read.
    pub fn any_name(
        &self,
        source: &dyn Source,
        limits: &Limits,
        is: impl Fn(&[u8]) -> bool,
    ) -> Result<bool, ZipError> {
        let Directory { entries, .. } = read_directory(source, &self.directory, self.zip64, limits)?;
        Ok(entries.iter().any(|entry| is(&entry.name)))
    }

    /// Walks the archive: the directory and every local header. `entries_end` is where the entries end, when it is not at the
    /// directory.
    ///
    /// # Errors
    /// [`ZipError`] when the directory is damaged or the file cannot be read.
    pub fn archive(
        self,
        source: &dyn Source,
        entries_end: Option<u64>,
        limits: &Limits,
    ) -> Result<Archive, ZipError> {
        let Outline { end, directory, zip64, mut faults } = self;
        let Directory { mut entries, zip64: needs_zip64, on_another_disk } =
            read_directory(source, &directory, zip64, limits)?;
        if zip64 == Zip64::Refuse && (needs_zip64 || end.needs_zip64) && !faults.contains(&ZipFault::Zip64) {
            faults.push(ZipFault::Zip64);
        }
        end.compare_counts(entries.len() as u64, &mut faults);
        check_names(&entries, &mut faults);
        check_sizes(&entries, source.len(), &mut faults);
        if on_another_disk {
            faults.push(ZipFault::Disks);
        }
        let body_end = entries_end.unwrap_or(directory.start);
        let mut extents = resolve_all(source, &mut entries, body_end, &mut faults)?;
        extents.sort_by_key(|extent| (extent.range.start, extent.range.end));
        local::check_gaps(source, &entries, &extents, body_end, entries_end.is_some(), &mut faults)?;
        Ok(Archive { entries, body_end, directory, end_record: end.range, faults })
    }
}

/// Reads every local header, on all cores: each is a system call of its own.
fn resolve_all(
    source: &dyn Source,
    entries: &mut [Entry],
    body_end: u64,
    faults: &mut Vec<ZipFault>,
) -> Result<Vec<Extent>, ZipError> {
    let resolved: Result<Vec<_>, ZipError> = entries
        .par_iter_mut()
        .with_min_len(512)
        .map(|entry| {
            let mut own = Vec::new();
            Ok((local::resolve(source, entry, body_end, &mut own)?, own))
        })
        .collect();
    let mut extents = Vec::with_capacity(entries.len());
    for (index, (range, own)) in resolved?.into_iter().enumerate() {
        faults.extend(own);
        extents.extend(range.map(|range| Extent { range, index }));
    }
    Ok(extents)
}

struct End {
    range: Range<u64>,
    disks: (u32, u32),
    counts: (u64, u64),
    directory_size: u64,
    directory_at: u64,
    /// Whether a field says that zip64 holds it.
    needs_zip64: bool,
}

impl End {
    /// Where the directory stands, which ends at `tail` at the latest.
    fn directory_range(&self, tail: u64) -> Result<Range<u64>, ZipError> {
        let end = self.directory_at.checked_add(self.directory_size);
        match end {
            Some(end) if end <= tail => Ok(self.directory_at..end),
            _ => Err(ZipError::Truncated),
        }
    }

    fn compare_counts(&self, found: u64, faults: &mut Vec<ZipFault>) {
        for said in [self.counts.0, self.counts.1] {
            if said != found {
                faults.push(ZipFault::Count { said, found });
                break;
            }
        }
        if self.disks != (0, 0) {
            faults.push(ZipFault::Disks);
        }
    }

    /// Where the locator of zip64, which stands right before the end record, says that its record is.
    fn locator(&self, source: &dyn Source) -> Result<Option<u64>, ZipError> {
        let Some(at) = self.range.start.checked_sub(LOCATOR_LENGTH) else { return Ok(None) };
        let bytes = source.bytes(at..self.range.start, LOCATOR_LENGTH)?;
        if !bytes.starts_with(&LOCATOR_SIGNATURE) {
            return Ok(None);
        }
        let mut c = Cursor::new(&bytes, at);
        c.u32("locator")?;
        c.u32("disk of the zip64 end record")?;
        Ok(Some(c.u64("zip64 end record")?))
    }

    /// Takes counts, size and offset from the end record of zip64, which ends where its locator begins.
    fn widen(&mut self, source: &dyn Source, record_at: u64) -> Result<(), ZipError> {
        let ends = self.range.start - LOCATOR_LENGTH;
        if record_at > ends || ends - record_at < END64_LENGTH {
            return Err(ZipError::Truncated);
        }
        let bytes = source.bytes(record_at..record_at + END64_LENGTH, END64_LENGTH)?;
        let mut c = Cursor::new(&bytes, record_at);
        let start = c.clone();
        if c.take(4, "zip64 end record")? != END64_SIGNATURE {
            return Err(start.error("zip64 end record", Fault::Malformed).into());
        }
        let length = c.u64("length of the zip64 end record")?;
        if length.checked_add(12) != Some(ends - record_at) {
            return Err(start.error("length of the zip64 end record", Fault::Value(length)).into());
        }
        c.u32("versions")?;
        self.disks = (c.u32("disk number")?, c.u32("disk of the directory")?);
        self.counts = (c.u64("entries on this disk")?, c.u64("entries")?);
        self.directory_size = c.u64("directory size")?;
        self.directory_at = c.u64("directory offset")?;
        Ok(())
    }
}

/// The end record nearest the end whose comment ends exactly with the file; a record that is followed by
/// more is taken with a fault, one whose comment runs out is a file cut short.
fn find_end(source: &dyn Source, faults: &mut Vec<ZipFault>) -> Result<End, ZipError> {
    let length = source.len();
    if length == 0 {
        return Err(ZipError::Empty);
    }
    let tail_at = length.saturating_sub(END_LENGTH + LONGEST_COMMENT);
    let tail = source.bytes(tail_at..length, END_LENGTH + LONGEST_COMMENT)?;
    let mut exact = Vec::new();
    let mut loose = None;
    let mut short = false;
    for (offset, window) in tail.windows(4).enumerate() {
        if window != END_SIGNATURE {
            continue;
        }
        let at = tail_at + offset as u64;
        match tail.get(offset..).map(|record| parse_end(record, at)) {
            Some(Ok(end)) if end.range.end == length => exact.push(end),
            Some(Ok(end)) if end.range.end < length => loose = Some(end),
            _ => short = true,
        }
    }
    if exact.len() > 1 {
        faults.push(ZipFault::SecondEnd);
    }
    if let Some(end) = exact.pop() {
        return Ok(end);
    }
    match loose {
        Some(mut end) if !short => {
            let at = end.range.end;
            faults.push(ZipFault::Stray { at, length: length - at, place: "after the end record" });
            end.range.end = length;
            Ok(end)
        }
        _ if short => Err(ZipError::Truncated),
        _ => not_an_archive(source),
    }
}

/// Tells a download that was cut short from a file that never was an archive.
fn not_an_archive(source: &dyn Source) -> Result<End, ZipError> {
    let mut first = [0; 4];
    if source.len() >= 4 {
        source.read_at(0, &mut first)?;
    }
    if first == *b"PK\x03\x04" { Err(ZipError::Truncated) } else { Err(ZipError::NotAnArchive) }
}

fn parse_end(record: &[u8], at: u64) -> Result<End, crate::cursor::ParseError> {
    let mut c = Cursor::new(record, at);
    c.u32("end record signature")?;
    let disks = (u32::from(c.u16("disk number")?), u32::from(c.u16("disk of the directory")?));
    let counts = (u64::from(c.u16("entries on this disk")?), u64::from(c.u16("entries")?));
    let directory_size = c.u32("directory size")?;
    let directory_at = c.u32("directory offset")?;
    let comment = c.u16("comment length")?;
    let ends = c.at() + u64::from(comment);
    let needs_zip64 = directory_size == ZIP64_MARK || directory_at == ZIP64_MARK;
    let (directory_size, directory_at) = (u64::from(directory_size), u64::from(directory_at));
    Ok(End { range: at..ends, disks, counts, directory_size, directory_at, needs_zip64 })
}

/// What the directory says.
struct Directory {
    entries: Vec<Entry>,
    /// Whether a size or an offset says that zip64 holds it.
    zip64: bool,
    on_another_disk: bool,
}

fn read_directory(
    source: &dyn Source,
    range: &Range<u64>,
    policy: Zip64,
    limits: &Limits,
) -> Result<Directory, ZipError> {
    let size = range.end - range.start;
    let probe = Cursor::new(&[], range.start);
    Limits::check(size, limits.directory, "directory size", &probe)?;
    let bytes = source.bytes(range.clone(), limits.directory)?;
    let mut c = Cursor::new(&bytes, range.start);
    let mut entries = Vec::new();
    let (mut zip64, mut on_another_disk) = (false, false);
    while !c.is_empty() {
        Limits::check(entries.len() as u64 + 1, limits.entries, "number of entries", &c)?;
        let (entry, disk) = read_entry(&mut c, policy)?;
        on_another_disk |= disk != 0;
        zip64 |= entry.zip64;
        entries.push(entry);
    }
    Ok(Directory { entries, zip64, on_another_disk })
}

/// An entry, and the disk that it says it is on.
fn read_entry(c: &mut Cursor<'_>, policy: Zip64) -> Result<(Entry, u16), crate::cursor::ParseError> {
    let signature_at = c.clone();
    let signature = c.u32("directory entry")?;
    if signature != DIRECTORY_SIGNATURE {
        return Err(signature_at.error("directory entry", Fault::Value(u64::from(signature))));
    }
    let versions = (c.u16("version made by")?, c.u16("version needed")?);
    let flags = c.u16("flags")?;
    let method = c.u16("method")?;
    let modified = (c.u16("time")?, c.u16("date")?);
    let crc = c.u32("checksum")?;
    let mut compressed = u64::from(c.u32("compressed size")?);
    let mut size = u64::from(c.u32("size")?);
    let name_length = usize::from(c.u16("name length")?);
    let extra_length = usize::from(c.u16("extra length")?);
    let comment_length = usize::from(c.u16("comment length")?);
    let disk = c.u16("disk")?;
    let attributes = (c.u16("internal attributes")?, c.u32("external attributes")?);
    let mut header_at = u64::from(c.u32("local header offset")?);
    let name = c.take(name_length, "entry name")?.to_vec();
    let mut extra = c.sub(extra_length as u64, "entry extra field")?;
    let zip64 = [size, compressed, header_at].contains(&u64::from(ZIP64_MARK));
    if zip64 && policy == Zip64::Read {
        widen(&mut extra, [&mut size, &mut compressed, &mut header_at])?;
    }
    let comment = c.take(comment_length, "entry comment")?.to_vec();
    let entry = Entry {
        name,
        versions,
        flags,
        method,
        modified,
        crc,
        compressed,
        size,
        attributes,
        comment,
        zip64,
        header_at,
        data_at: 0,
        ends_at: 0,
    };
    Ok((entry, disk))
}

/// Takes what the 32-bit fields cannot hold from the extra field of zip64 (APPNOTE, 4.5.3): those that say so, in this order.
fn widen(extra: &mut Cursor<'_>, fields: [&mut u64; 3]) -> Result<(), crate::cursor::ParseError> {
    let start = extra.clone();
    while !extra.is_empty() {
        let id = extra.u16("id of an extra field")?;
        let length = extra.u16("length of an extra field")?;
        let mut field = extra.sub(u64::from(length), "extra field")?;
        if id != ZIP64_EXTRA {
            continue;
        }
        for value in fields.into_iter().filter(|value| **value == u64::from(ZIP64_MARK)) {
            let at = field.clone();
            *value = field.u64("size or offset of zip64")?;
            if *value > MOST_BYTES {
                return Err(at.error("size or offset of zip64", Fault::Value(*value)));
            }
        }
        return Ok(());
    }
    Err(start.error("extra field of zip64", Fault::Malformed))
}

fn check_names(entries: &[Entry], faults: &mut Vec<ZipFault>) {
    let mut seen = BTreeSet::new();
    for entry in entries {
        if !seen.insert(entry.name.as_slice()) {
            faults.push(ZipFault::DuplicateName(entry.name_text()));
        }
        if std::str::from_utf8(&entry.name).is_err() {
            faults.push(ZipFault::NameNotText(entry.name.escape_ascii().to_string()));
        }
        if !is_plain_path(&entry.name) {
            faults.push(ZipFault::UnsafeName(entry.name_text()));
        }
        if entry.flags & 1 != 0 || entry.flags & (1 << 6) != 0 || entry.flags & (1 << 13) != 0 {
            faults.push(ZipFault::Encrypted(entry.name_text()));
        }
        if entry.method != super::STORED && entry.method != super::DEFLATED {
            faults.push(ZipFault::Method(entry.name_text(), entry.method));
        }
    }
}

/// Deflate makes at most 1,032 bytes of one (zlib's technical details), and stores what it cannot make smaller with 5
/// bytes more in every 16 KiB; both with room to spare.
const MOST_OUT_OF_ONE: u64 = 1_040;
/// What all entries may hold together: this many times the file's size, and some more for small files.
const MOST_TIMES: u64 = 100;
const MOST_BESIDE: u64 = 64 << 20;

/// Sizes that are read as they are said by whoever inflates: the work has to be in proportion to the file.
fn check_sizes(entries: &[Entry], length: u64, faults: &mut Vec<ZipFault>) {
    for entry in entries {
        let (compressed, size) = (entry.compressed, entry.size);
        let possible = match entry.method {
            super::STORED => compressed == size,
            super::DEFLATED => {
                size <= compressed.saturating_mul(MOST_OUT_OF_ONE)
                    && compressed <= size + size / 1_024 + 1_024
            }
            _ => true,
        };
        if !possible {
            faults.push(ZipFault::Impossible { name: entry.name_text(), compressed, size });
        }
    }
    let size = entries.iter().fold(0u64, |all, entry| all.saturating_add(entry.size));
    if size > length.saturating_mul(MOST_TIMES).saturating_add(MOST_BESIDE) {
        faults.push(ZipFault::Inflates { length, size });
    }
}

/// A relative path of ordinary segments: what can be unpacked anywhere without leaving the folder.
fn is_plain_path(name: &[u8]) -> bool {
    let path = name.strip_suffix(b"/").unwrap_or(name);
    !path.is_empty()
        && !path.iter().any(|&byte| byte < 0x20 || byte == 0x7f || byte == b'\\')
        && path.get(1) != Some(&b':')
        && path.split(|&byte| byte == b'/').all(|part| !part.is_empty() && part != b"." && part != b"..")
}
