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
