//! A copy of an archive with its entries aligned: laid out first, streamed afterwards.
//!
//! Nothing is inflated or compressed again. Local headers are written anew from the central directory: data
//! descriptors and extra fields go, stored entries are moved to their alignment by a padding field
//! (id 0xd935). The result is an [`Assembly`], a list of ranges to copy and bytes to put between them, which
//! is itself a [`Source`]: it can be digested and written out without ever being held in memory.

use std::ops::Range;

use super::{Archive, Entry, FLAG_DESCRIPTOR, STORED};
use crate::source::{ReadError, Source};

const PADDING_ID: u16 = 0xd935;
const PADDING_LEAST: u64 = 6;

/// Part of an [`Assembly`].
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Piece {
    /// Bytes of the original.
    Copy(Range<u64>),
    /// Bytes of another source, by its place among those that the assembly is made over.
    From(usize, Range<u64>),
    /// New bytes.
    Bytes(Vec<u8>),
}

impl Piece {
    fn len(&self) -> u64 {
        match self {
            Piece::Copy(range) | Piece::From(_, range) => range.end - range.start,
            Piece::Bytes(bytes) => bytes.len() as u64,
        }
    }
}

/// An archive laid out anew: its entries as pieces, its directory as bytes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Layout {
    /// The entries, in file order.
    pub pieces: Vec<Piece>,
    /// Length of all entries in bytes.
    pub body: u64,
    /// The central directory for these entries.
    pub directory: Vec<u8>,
    /// How many entries there are.
    pub count: u16,
    /// How many were moved to their alignment.
    pub realigned: usize,
}

/// Lays out the entries that `keep` accepts, in the order in which they stand in the file, behind `added`
/// ones, which are compressed. `alignment` gives the multiple that a stored entry's first data byte must stand
/// at.
pub fn lay_out(
    archive: &Archive,
    added: &[(String, Vec<u8>)],
    keep: impl Fn(&Entry) -> bool,
    alignment: impl Fn(&Entry) -> u64,
) -> Layout {
    let mut kept: Vec<&Entry> = archive.entries.iter().filter(|entry| keep(entry)).collect();
    kept.sort_by_key(|entry| entry.header_at);
    let mut layout = Layout { pieces: Vec::new(), body: 0, directory: Vec::new(), count: 0, realigned: 0 };
    for (name, content) in added {
        let (entry, data) = super::write::entry_of(name, content);
        let header_at = layout.body;
        let header = local_header(&entry, header_at, 1);
        layout.body += header.len() as u64 + entry.compressed;
        layout.pieces.extend([Piece::Bytes(header), Piece::Bytes(data)]);
        layout.directory.extend_from_slice(&directory_entry(&entry, header_at));
        layout.count = layout.count.saturating_add(1);
    }
    for entry in kept {
        let boundary = if entry.method == STORED { alignment(entry).max(1) } else { 1 };
        if !entry.data_at.is_multiple_of(boundary) {
            layout.realigned += 1;
        }
        let header_at = layout.body;
        let header = local_header(entry, header_at, boundary);
        layout.body += header.len() as u64 + entry.compressed;
        layout.pieces.push(Piece::Bytes(header));
        if entry.compressed > 0 {
            layout.pieces.push(Piece::Copy(entry.data()));
        }
        layout.directory.extend_from_slice(&directory_entry(entry, header_at));
        layout.count = layout.count.saturating_add(1);
    }
    layout
}

/// Where the content of an entry comes from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Data {
    /// It stays as it is, compressed as it was.
    Kept(Range<u64>),
    /// Other bytes, compressed as the entry says: a range of a further source.
    New(usize, Range<u64>),
    /// Other bytes, compressed as the entry says.
    Bytes(Vec<u8>),
}

/// Lays out entries in the order in which they are given, each with its content, at the multiple that `alignment` gives. An entry's
/// sizes are those of its content.
pub fn lay_out_as_given(entries: &[(Entry, Data)], alignment: impl Fn(&Entry) -> u64) -> Layout {
    let mut layout = Layout { pieces: Vec::new(), body: 0, directory: Vec::new(), count: 0, realigned: 0 };
    for (entry, data) in entries {
        let header = local_header(entry, layout.body, alignment(entry).max(1));
        layout.directory.extend_from_slice(&directory_entry(entry, layout.body));
        layout.body += header.len() as u64 + entry.compressed;
        layout.pieces.push(Piece::Bytes(header));
        layout.pieces.push(match data {
            Data::Kept(range) => Piece::Copy(range.clone()),
            Data::New(index, range) => Piece::From(*index, range.clone()),
            Data::Bytes(bytes) => Piece::Bytes(bytes.clone()),
        });
        layout.count = layout.count.saturating_add(1);
    }
    layout
}

fn local_header(entry: &Entry, at: u64, boundary: u64) -> Vec<u8> {
    let bare = at + 30 + entry.name.len() as u64;
    let padding = padding(bare, boundary);
    let mut out = Vec::with_capacity(30 + entry.name.len() + padding.len());
    out.extend_from_slice(b"PK\x03\x04");
    shared_fields(entry, &mut out);
    out.extend_from_slice(&(entry.name.len() as u16).to_le_bytes());
    out.extend_from_slice(&(padding.len() as u16).to_le_bytes());
    out.extend_from_slice(&entry.name);
    out.extend_from_slice(&padding);
    out
}

/// The fields that a local header and a directory entry have in common, version needed to size.
fn shared_fields(entry: &Entry, out: &mut Vec<u8>) {
    out.extend_from_slice(&entry.versions.1.to_le_bytes());
    out.extend_from_slice(&(entry.flags & !FLAG_DESCRIPTOR).to_le_bytes());
    out.extend_from_slice(&entry.method.to_le_bytes());
    out.extend_from_slice(&entry.modified.0.to_le_bytes());
    out.extend_from_slice(&entry.modified.1.to_le_bytes());
    out.extend_from_slice(&entry.crc.to_le_bytes());
    out.extend_from_slice(&(entry.compressed as u32).to_le_bytes());
    out.extend_from_slice(&(entry.size as u32).to_le_bytes());
}

fn padding(bare: u64, boundary: u64) -> Vec<u8> {
    if bare.is_multiple_of(boundary) {
        return Vec::new();
    }
    let wanted = (bare + PADDING_LEAST).next_multiple_of(boundary) - bare;
    let mut field = Vec::new();
    field.extend_from_slice(&PADDING_ID.to_le_bytes());
    field.extend_from_slice(&((wanted - 4) as u16).to_le_bytes());
    field.extend_from_slice(&(boundary as u16).to_le_bytes());
    field.resize(usize::try_from(wanted).unwrap_or(field.len()), 0);
    field
}

fn directory_entry(entry: &Entry, header_at: u64) -> Vec<u8> {
    let mut out = Vec::with_capacity(46 + entry.name.len() + entry.comment.len());
    out.extend_from_slice(b"PK\x01\x02");
    out.extend_from_slice(&entry.versions.0.to_le_bytes());
    shared_fields(entry, &mut out);
    out.extend_from_slice(&(entry.name.len() as u16).to_le_bytes());
    out.extend_from_slice(&0u16.to_le_bytes());
    out.extend_from_slice(&(entry.comment.len() as u16).to_le_bytes());
    out.extend_from_slice(&0u16.to_le_bytes());
    out.extend_from_slice(&entry.attributes.0.to_le_bytes());
    out.extend_from_slice(&entry.attributes.1.to_le_bytes());
    out.extend_from_slice(&(header_at as u32).to_le_bytes());
    out.extend_from_slice(&entry.name);
    out.extend_from_slice(&entry.comment);
    out
}

/// Pieces over an original, readable at any position as one run of bytes.
pub struct Assembly<'a> {
    original: &'a dyn Source,
    others: Vec<&'a dyn Source>,
    pieces: Vec<(u64, Piece)>,
    length: u64,
}

impl<'a> Assembly<'a> {
    /// The pieces in order; every [`Piece::Copy`] is a range of `original`.
    pub fn new(original: &'a dyn Source, pieces: impl IntoIterator<Item = Piece>) -> Self {
        Assembly::over(original, Vec::new(), pieces)
    }

    /// The same with further sources; every [`Piece::From`] is a range of one of them.
    pub fn over(
        original: &'a dyn Source,
        others: Vec<&'a dyn Source>,
        pieces: impl IntoIterator<Item = Piece>,
    ) -> Self {
        let mut length = 0;
        let pieces = pieces
            .into_iter()
            .filter(|piece| piece.len() > 0)
            .map(|piece| {
                let start = length;
                length += piece.len();
                (start, piece)
            })
            .collect();
        Assembly { original, others, pieces, length }
    }
}

impl Source for Assembly<'_> {
    fn len(&self) -> u64 {
        self.length
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> Result<(), ReadError> {
        let wanted = into.len() as u64;
        if at.checked_add(wanted).is_none_or(|end| end > self.length) {
            return Err(ReadError::outside(at, wanted));
        }
        let first = self.pieces.partition_point(|(start, piece)| start + piece.len() <= at);
        let mut at = at;
        let mut rest = into;
        for (start, piece) in self.pieces.iter().skip(first) {
            if rest.is_empty() {
                break;
            }
            let within = at - start;
            let here = usize::try_from(piece.len() - within).unwrap_or(usize::MAX).min(rest.len());
            let (now, later) = rest.split_at_mut(here);
            match piece {
                Piece::Copy(range) => self.original.read_at(range.start + within, now)?,
                Piece::From(index, range) => match self.others.get(*index) {
                    Some(other) => other.read_at(range.start + within, now)?,
                    None => return Err(ReadError::outside(at, wanted)),
                },
                Piece::Bytes(bytes) => bytes.read_at(within, now)?,
            }
            at += here as u64;
            rest = later;
        }
        Ok(())
    }
}
