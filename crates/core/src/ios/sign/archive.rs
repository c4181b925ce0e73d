//! A signed build as an archive: unchanged entries are copied as they are, in their order.

use std::collections::BTreeMap;

use ninekeys_formats::source::Source;
use ninekeys_formats::zip::rewrite::{Assembly, Data, Layout, Piece, lay_out_as_given};
use ninekeys_formats::zip::write::end_record;
use ninekeys_formats::zip::{Entry, FLAG_UTF8};
use rayon::prelude::*;

use super::{NewFile, SignError, Signed};
use crate::env::Env;
use crate::ios::package::{Container, Known, KnownFile};
use crate::ios::tree::ZipTree;
use crate::stream::{CHUNK, DigestError, Sink};

/// A file that may run, and one that may not; a folder.
const PROGRAM: u32 = 0o100_755;
const FILE: u32 = 0o100_644;
const FOLDER: u32 = 0o040_755;
/// The largest archive that is no zip64.
const MOST: u64 = u32::MAX as u64;

/// A signed build, laid out.
pub struct Packed<'a> {
    assembly: Assembly<'a>,
}

impl<'a> Packed<'a> {
    /// Decides where every byte goes.
    ///
    /// # Errors
    /// [`SignError::TooLarge`].
    pub fn lay_out(tree: &ZipTree<'a>, container: Container, signed: &'a Signed) -> Result<Self, SignError> {
        let mut sources: Vec<&'a dyn Source> = Vec::new();
        let mut new = |file: &'a NewFile, mut entry: Entry| {
            sources.push(file.source());
            (entry.method, entry.crc) = (file.method, file.crc);
            (entry.compressed, entry.size) = (file.length, file.size);
            (entry, Data::New(sources.len() - 1, 0..file.length))
        };
        let mut entries = Vec::new();
        if container == Container::Zipped {
            entries.push((Entry::made_by_unix("Payload/", FOLDER), Data::Kept(0..0)));
        }
        let mut order: Vec<usize> = (0..tree.archive.entries.len()).collect();
        order.sort_by_key(|index| tree.archive.entries.get(*index).map(|entry| entry.header_at));
        for index in order {
            let Some(entry) = tree.archive.entries.get(index) else { continue };
            if signed.dropped.binary_search(&index).is_ok() {
                continue;
            }
            let mut entry = entry.clone();
            // what is in it is UTF-8, whatever its writer said
            if !entry.name.is_ascii() {
                entry.flags |= FLAG_UTF8;
            }
            entry.versions.1 = entry.versions.1.min(20);
            entry.name = placed(container, entry.name);
            entries.push(match signed.replaced.get(&index) {
                Some(file) => {
                    if entry.unix_mode().is_none() && file.is_code {
                        let name = String::from_utf8_lossy(&entry.name).into_owned();
                        entry = Entry { modified: entry.modified, ..Entry::made_by_unix(&name, PROGRAM) };
                    }
                    new(file, entry)
                }
                None => {
                    let data = entry.data();
                    (entry, Data::Kept(data))
                }
            });
        }
        for (path, file) in &signed.added {
            let name = placed(container, path.clone().into_bytes());
            let mode = if file.is_code { PROGRAM } else { FILE };
            entries.push(new(file, Entry::made_by_unix(&String::from_utf8_lossy(&name), mode)));
        }
        if entries.iter().any(|(entry, _)| entry.size > MOST) {
            return Err(SignError::TooLarge);
        }
        let count = u16::try_from(entries.len()).ok().filter(|count| *count < u16::MAX);
        let count = count.ok_or(SignError::TooLarge)?;
        let Layout { pieces, body, directory, .. } = lay_out_as_given(&entries, |_| 1);
        if body + directory.len() as u64 + 22 > MOST {
            return Err(SignError::TooLarge);
        }
        let mut pieces = pieces;
        let end = end_record(count, directory.len() as u32, body as u32);
        pieces.push(Piece::Bytes([directory, end].concat()));
        Ok(Packed { assembly: Assembly::over(tree.source(), sources, pieces) })
    }

    /// Writes all of it, some at a time on all cores.
    ///
    /// # Errors
    /// [`DigestError`].
    pub fn write(&self, sink: &dyn Sink, env: &Env<'_>) -> Result<(), DigestError> {
        let length = self.assembly.len();
        (0..length.div_ceil(CHUNK)).into_par_iter().try_for_each(|index| {
            if env.stopped() {
                return Err(DigestError::Stopped);
            }
            let (from, end) = (index * CHUNK, ((index + 1) * CHUNK).min(length));
            let bytes = self.assembly.bytes(from..end, CHUNK)?;
            sink.write_at(from, &bytes).map_err(DigestError::Write)
        })
    }

    /// All of it, as one run of bytes.
    pub fn source(&self) -> &dyn Source {
        &self.assembly
    }

    /// Whether what was written is the same, byte for byte.
    ///
    /// # Errors
    /// [`DigestError`].
    pub fn is(&self, written: &dyn Source, env: &Env<'_>) -> Result<bool, DigestError> {
        let length = self.assembly.len();
        let same = |index: u64| {
            if env.stopped() {
                return Err(DigestError::Stopped);
            }
            let (from, end) = (index * CHUNK, ((index + 1) * CHUNK).min(length));
            Ok(self.assembly.bytes(from..end, CHUNK)? == written.bytes(from..end, CHUNK)?)
        };
        if written.len() != length {
            return Ok(false);
        }
        let all: Result<Vec<bool>, DigestError> =
            (0..length.div_ceil(CHUNK)).into_par_iter().map(same).collect();
        Ok(all?.into_iter().all(|same| same))
    }
}

/// The name of an entry in the IPA: what was no IPA before is put where the app belongs.
fn placed(container: Container, name: Vec<u8>) -> Vec<u8> {
    match container {
        Container::Zipped => [b"Payload/", name.as_slice()].concat(),
        Container::Ipa | Container::Folder => name,
    }
}

/// What is known of the files in a signed archive: those that were copied as they lay in the one before, where they were unpacked and
/// hashed, and new code, which was hashed as it was packed. Good only for an archive that [is](Packed::is) what was laid out; what is
/// unpacked of it is held against the CRC-32 of what was hashed.
pub fn known_in(before: &ZipTree<'_>, signed: &Signed, container: Container, after: &ZipTree<'_>) -> Known {
    type Said = (u16, u32, u64, u64);
    let said = |entry: &Entry| -> Said { (entry.method, entry.crc, entry.compressed, entry.size) };
    let by_name: BTreeMap<Vec<u8>, (Said, &KnownFile)> = signed
        .known
        .iter()
        .filter_map(|(index, known)| {
            let entry = before.archive.entries.get(*index)?;
            let own = match signed.replaced.get(index) {
                Some(file) => (file.method, file.crc, file.length, file.size),
                None => said(entry),
            };
            Some((placed(container, entry.name.clone()), (own, known)))
        })
        .collect();
    let known = |(index, entry): (usize, &Entry)| {
        let (own, known) = by_name.get(&entry.name)?;
        (*own == said(entry)).then(|| (index, (*known).clone()))
    };
    after.archive.entries.iter().enumerate().filter_map(known).collect()
}
