//! The content of one entry.

use flate2::{Decompress, FlushDecompress, Status};

use super::fault::EntryFault;
use super::{DEFLATED, Entry, STORED, ZipError};
use crate::limits::Limits;
use crate::source::Source;

pub(super) fn read(source: &dyn Source, entry: &Entry, limits: &Limits) -> Result<Vec<u8>, ZipError> {
    let damaged = |fault| ZipError::Entry { name: entry.name_text(), fault };
    let largest = entry.size.max(entry.compressed);
    if largest > limits.inflated {
        return Err(damaged(EntryFault::TooLarge { said: largest, limit: limits.inflated }));
    }
    let raw = source.bytes(entry.data(), limits.inflated)?;
    let content = match entry.method {
        STORED => raw,
        DEFLATED => inflate(&raw, entry.size).ok_or_else(|| damaged(EntryFault::Inflate))?,
        other => return Err(damaged(EntryFault::Method(other))),
    };
    if content.len() as u64 != entry.size {
        return Err(damaged(EntryFault::Inflate));
    }
    if crc32fast::hash(&content) != entry.crc {
        return Err(damaged(EntryFault::Checksum));
    }
    Ok(content)
}

/// How much is read and inflated at a time.
const WINDOW: usize = 256 << 10;

/// Gives the content of an entry of any size to `take`, a window at a time, and compares size and checksum. Ends where
/// `take` wants no more.
pub(super) fn stream(
    source: &dyn Source,
    entry: &Entry,
    take: &mut dyn FnMut(&[u8]) -> bool,
) -> Result<(), ZipError> {
    let damaged = |fault| ZipError::Entry { name: entry.name_text(), fault };
    let mut crc = crc32fast::Hasher::new();
    let mut size = 0u64;
    let mut pass_on = |bytes: &[u8]| {
        crc.update(bytes);
        size += bytes.len() as u64;
        if take(bytes) { Ok(()) } else { Err(ZipError::Stopped) }
    };
    match entry.method {
        STORED => windows(source, entry, &mut pass_on)?,
        DEFLATED => inflate_stream(source, entry, &mut pass_on)?,
        other => return Err(damaged(EntryFault::Method(other))),
    }
    if size != entry.size {
        return Err(damaged(EntryFault::Inflate));
    }
    if crc.finalize() == entry.crc { Ok(()) } else { Err(damaged(EntryFault::Checksum)) }
}

/// Reads the stored bytes of an entry a window at a time.
fn windows(
    source: &dyn Source,
    entry: &Entry,
    each: &mut dyn FnMut(&[u8]) -> Result<(), ZipError>,
) -> Result<(), ZipError> {
    let range = entry.data();
    let mut buffer = vec![0; WINDOW.min(usize::try_from(entry.compressed).unwrap_or(WINDOW))];
    let mut at = range.start;
    while at < range.end {
        let here = usize::try_from(range.end - at).unwrap_or(WINDOW).min(WINDOW);
        let window = buffer.get_mut(..here).unwrap_or_default();
        source.read_at(at, window)?;
        each(window)?;
        at += here as u64;
    }
    Ok(())
}

/// Inflates all of an entry; a stream that ends early, late or gives more than is stated is damaged.
fn inflate_stream(
    source: &dyn Source,
    entry: &Entry,
    pass_on: &mut dyn FnMut(&[u8]) -> Result<(), ZipError>,
) -> Result<(), ZipError> {
    let broken = || ZipError::Entry { name: entry.name_text(), fault: EntryFault::Inflate };
    let mut inflater = Decompress::new(false);
    let mut out = Vec::with_capacity(WINDOW);
    let mut ended = false;
    windows(source, entry, &mut |window| {
        let mut rest = window;
        while !rest.is_empty() {
            if ended {
                return Err(broken());
            }
            out.clear();
            let before = (inflater.total_in(), inflater.total_out());
            let status =
                inflater.decompress_vec(rest, &mut out, FlushDecompress::None).map_err(|_| broken())?;
            let taken = usize::try_from(inflater.total_in() - before.0).unwrap_or(usize::MAX);
            rest = rest.get(taken..).unwrap_or_default();
            pass_on(&out)?;
            ended = status == Status::StreamEnd;
            let stuck = before == (inflater.total_in(), inflater.total_out());
            if inflater.total_out() > entry.size || (stuck && !ended) {
                return Err(broken());
            }
        }
        Ok(())
    })?;
    // what the inflater still holds comes out without more input
    while !ended {
        out.clear();
        let before = inflater.total_out();
        let status = inflater.decompress_vec(&[], &mut out, FlushDecompress::Finish).map_err(|_| broken())?;
        pass_on(&out)?;
        ended = status == Status::StreamEnd;
        if (!ended && inflater.total_out() == before) || inflater.total_out() > entry.size {
            return Err(broken());
        }
    }
    Ok(())
}

/// Inflates to exactly `size` bytes from exactly all of `raw`; anything else is `None`.
fn inflate(raw: &[u8], size: u64) -> Option<Vec<u8>> {
    let size = usize::try_from(size).ok()?;
    // one byte more than stated, so that a stream that goes on is seen
    let mut out = Vec::with_capacity(size.checked_add(1)?);
    let mut inflater = Decompress::new(false);
    loop {
        let before = (inflater.total_in(), inflater.total_out());
        let rest = raw.get(usize::try_from(inflater.total_in()).ok()?..)?;
        match inflater.decompress_vec(rest, &mut out, FlushDecompress::Finish).ok()? {
            Status::StreamEnd => break,
            _ if before == (inflater.total_in(), inflater.total_out()) => return None,
            _ if out.len() > size => return None,
            _ => {}
        }
    }
    let whole = inflater.total_in() == raw.len() as u64 && out.len() == size;
    whole.then_some(out)
}
