//! A package with other numbers in its manifest: what is signed is read from here instead of from the file.

use ninekeys_formats::limits::Limits;
use ninekeys_formats::manifest::{self, Numbers};
use ninekeys_formats::source::{ReadError, Source};
use ninekeys_formats::zip::rewrite::{Assembly, Data, Layout, Piece, lay_out_as_given};
use ninekeys_formats::zip::write::{deflate_part, end_record};
use ninekeys_formats::zip::{DEFLATED, Entry, STORED};

use super::package::{ManifestFault, PackageKind, boundary};
use super::refusal::Refusal;
use super::sign::{Opened, SignError};

/// What the manifests of a bundle's modules are called.
const OF_A_MODULE: &[u8] = b"/manifest/AndroidManifest.xml";

/// A package laid out around its new manifest; whatever else is in it stands as it is.
pub struct Renumbered<'a> {
    assembly: Assembly<'a>,
    /// Whether the package was signed: a signing block does not come along.
    pub was_signed: bool,
}

impl<'a> Renumbered<'a> {
    /// Sets the numbers of a package: in a bundle those of every module.
    ///
    /// # Errors
    /// [`SignError`] when it cannot be read, is malformed, or has no place for a number.
    pub fn of(source: &'a dyn Source, numbers: &Numbers, limits: &Limits) -> Result<Self, SignError> {
        let opened = Opened::open(source, limits)?;
        let (kind, archive) = (opened.kind(), opened.archive());
        let is_part = opened.manifest().split.is_some();
        let own = kind.manifest_entry().as_bytes();
        let mut in_order: Vec<&Entry> = archive.entries.iter().collect();
        in_order.sort_by_key(|entry| entry.header_at);
        let mut entries = Vec::new();
        for entry in in_order {
            let is_modules = kind == PackageKind::Bundle && entry.name.ends_with(OF_A_MODULE);
            if entry.name != own && !is_modules {
                entries.push((entry.clone(), Data::Kept(entry.data())));
                continue;
            }
            let bytes = archive.read(source, entry, limits).map_err(ManifestFault::Entry)?;
            let done = manifest::renumber(&bytes, kind == PackageKind::Bundle, numbers, limits);
            let done = done.map_err(ManifestFault::Malformed)?;
            if entry.name == own && !done.has_code {
                return Err(Refusal::NoPlace("version code").into());
            }
            if entry.name == own && !done.has_name && !is_part {
                return Err(Refusal::NoPlace("version name").into());
            }
            entries.push(with_content(entry, done.bytes));
        }
        let was_aligned = |entry: &Entry| match entry.method == STORED && kind == PackageKind::Apk {
            true if entry.data_at.is_multiple_of(boundary(entry)) => boundary(entry),
            _ => 1,
        };
        let Layout { mut pieces, body, directory, count, .. } = lay_out_as_given(&entries, was_aligned);
        let (Ok(size), Ok(at)) = (u32::try_from(directory.len()), u32::try_from(body)) else {
            return Err(Refusal::TooLarge.into());
        };
        pieces.push(Piece::Bytes([directory, end_record(count, size, at)].concat()));
        Ok(Renumbered { assembly: Assembly::new(source, pieces), was_signed: opened.is_signed() })
    }
}

/// An entry with other content, compressed as it was.
fn with_content(entry: &Entry, content: Vec<u8>) -> (Entry, Data) {
    let mut entry = entry.clone();
    (entry.crc, entry.size) = (crc32fast::hash(&content), content.len() as u64);
    let packed = if entry.method == DEFLATED { deflate_part(&content, true) } else { None };
    entry.method = if packed.is_some() { DEFLATED } else { STORED };
    let data = packed.unwrap_or(content);
    entry.compressed = data.len() as u64;
    (entry, Data::Bytes(data))
}

impl Source for Renumbered<'_> {
    fn len(&self) -> u64 {
        self.assembly.len()
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> Result<(), ReadError> {
        self.assembly.read_at(at, into)
    }
}
