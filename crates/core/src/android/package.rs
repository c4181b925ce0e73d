//! A package: its archive and its manifest.

use std::collections::BTreeMap;

use ninekeys_formats::arsc;
use ninekeys_formats::axml::Value;
use ninekeys_formats::cursor::ParseError;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::manifest::{self, Manifest};
use ninekeys_formats::signing_block::{self, Located};
use ninekeys_formats::source::Source;
use ninekeys_formats::zip::{Archive, Entry, Outline, STORED, Zip64, ZipError};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

/// What a stored entry's data is aligned to, in bytes.
pub const STORED_ALIGNMENT: u64 = 4;
/// What a stored library's data is aligned to, so that devices with pages of 16 KiB can map it.
pub const SHARED_LIBRARY_ALIGNMENT: u64 = 16 << 10;
/// What older devices, with pages of 4 KiB, need a library to be aligned to.
const SMALL_PAGE: u64 = 4 << 10;
/// The most folders and files of the top level that sizes are kept of.
const MOST_FOLDERS: usize = 200;

/// Why a package has no readable manifest.
#[derive(Debug, Error)]
pub enum ManifestFault {
    /// There is no such entry.
    #[error("there is no AndroidManifest.xml in it")]
    Missing,
    /// There are several.
    #[error("there are several AndroidManifest.xml in it")]
    Several,
    /// It does not inflate.
    #[error(transparent)]
    Entry(ZipError),
    /// It is not binary XML, or says nothing that a manifest has to say.
    #[error("AndroidManifest.xml cannot be read: {0}")]
    Malformed(#[from] ParseError),
}

/// What is wrong with a signing block.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum BlockFault {
    /// Two of its pairs have one id: which of them counts is the reader's choice.
    #[error("its signing block has two pairs with the id {0:#010x}")]
    Twice(u32),
    /// It cannot be read.
    #[error("its signing block is damaged: {0}")]
    Malformed(ParseError),
}

/// A stored entry that does not stand where it should.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Misaligned {
    /// The entry's name.
    pub name: String,
    /// Where its data begins.
    pub at: u64,
    /// What that should be a multiple of.
    pub boundary: u64,
}

/// What kind of package it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum PackageKind {
    /// An APK: a file that devices install.
    Apk,
    /// An AAB: a bundle that a store makes files for devices of.
    #[serde(rename = "aab")]
    Bundle,
}

impl PackageKind {
    /// What people call it.
    pub fn word(self) -> &'static str {
        match self {
            PackageKind::Apk => "APK",
            PackageKind::Bundle => "AAB",
        }
    }

    /// What its files' names end with.
    pub fn ending(self) -> &'static str {
        match self {
            PackageKind::Apk => "apk",
            PackageKind::Bundle => "aab",
        }
    }

    /// The entry that its manifest is.
    pub(crate) fn manifest_entry(self) -> &'static str {
        match self {
            PackageKind::Apk => "AndroidManifest.xml",
            PackageKind::Bundle => "base/manifest/AndroidManifest.xml",
        }
    }
}

/// A package that opens as an archive.
#[derive(Debug)]
pub struct Package {
    /// APK or AAB.
    pub kind: PackageKind,
    /// Its entries, and what is malformed in them.
    pub archive: Archive,
    /// The signing block, if there is one and it is sound.
    pub block: Option<Located>,
    /// What is wrong with the signing block.
    pub block_faults: Vec<BlockFault>,
    /// Its manifest.
    pub manifest: Result<Manifest, ManifestFault>,
    /// Its size in bytes.
    pub size: u64,
}

impl Package {
    /// Reads the archive's structure and the manifest.
    ///
    /// # Errors
    /// [`ZipError`] when it does not open as an archive.
    pub fn read(source: &dyn Source, limits: &Limits) -> Result<Package, ZipError> {
        let outline = Outline::read(source, Zip64::Refuse)?;
        let (block, block_faults) = match signing_block::locate(source, outline.directory().start, limits)? {
            Ok(block) => {
                let twice = block.iter().flat_map(Located::twice).map(BlockFault::Twice).collect();
                (block, twice)
            }
            Err(error) => (None, vec![BlockFault::Malformed(error)]),
        };
        let entries_end = block.as_ref().map(|block| block.range.start);
        let archive = outline.archive(source, entries_end, limits)?;
        let kind = kind(&archive);
        let manifest = read_manifest(kind, &archive, source, limits)?;
        Ok(Package { kind, archive, block, block_faults, manifest, size: source.len() })
    }

    /// The sizes, compressed, of what stands at the top level: folders with all that is in them, and files.
    pub fn folders(&self) -> BTreeMap<String, u64> {
        let mut sizes = BTreeMap::new();
        for entry in &self.archive.entries {
            let name = entry.name_text();
            let top = name.split_once('/').map_or(name.clone(), |(folder, _)| format!("{folder}/"));
            // a hostile archive may have a folder for every entry
            if sizes.len() < MOST_FOLDERS || sizes.contains_key(&top) {
                *sizes.entry(top).or_insert(0) += entry.compressed;
            }
        }
        sizes
    }

    /// The stored entries that do not stand where they should. In a bundle they need not stand anywhere: the store
    /// lays out what devices get.
    pub fn misaligned(&self) -> Vec<Misaligned> {
        if self.kind == PackageKind::Bundle {
            return Vec::new();
        }
        self.archive
            .entries
            .iter()
            .filter(|entry| entry.method == STORED && !entry.is_directory() && entry.data_at > 0)
            .filter_map(|entry| {
                let boundary = boundary(entry);
                // empty libraries are never mapped, and a 4 KiB boundary is enough for most devices
                let wrong = !entry.data_at.is_multiple_of(boundary) && entry.size > 0;
                let least = if boundary == STORED_ALIGNMENT { boundary } else { SMALL_PAGE };
                let boundary = if entry.data_at.is_multiple_of(least) { boundary } else { least };
                wrong.then(|| Misaligned { name: entry.name_text(), at: entry.data_at, boundary })
            })
            .collect()
    }
}

/// What an entry's data is aligned to when it is stored.
pub(super) fn boundary(entry: &Entry) -> u64 {
    let library = entry.name.starts_with(b"lib/") && entry.name.ends_with(b".so");
    if library { SHARED_LIBRARY_ALIGNMENT } else { STORED_ALIGNMENT }
}

/// A bundle has its manifest in a module's folder, and none at the top.
fn kind(archive: &Archive) -> PackageKind {
    let has = |name: &[u8]| archive.entries.iter().any(|entry| entry.name == name);
    if has(manifest::BUNDLE_ENTRY) && !has(manifest::ENTRY) { PackageKind::Bundle } else { PackageKind::Apk }
}

/// What resources stand for; nothing where there are none, or they cannot be read.
fn resources(archive: &Archive, source: &dyn Source, ids: &[u32], limits: &Limits) -> BTreeMap<u32, Value> {
    let table = archive.find(b"resources.arsc").and_then(|entry| archive.read(source, entry, limits).ok());
    table.and_then(|table| arsc::values(&table, ids, limits).ok()).unwrap_or_default()
}

/// A system error stops everything; a manifest that is missing or malformed is kept for the checks.
fn read_manifest(
    kind: PackageKind,
    archive: &Archive,
    source: &dyn Source,
    limits: &Limits,
) -> Result<Result<Manifest, ManifestFault>, ZipError> {
    let mut found = archive.entries.iter().filter(|entry| entry.name == kind.manifest_entry().as_bytes());
    let Some(entry) = found.next() else { return Ok(Err(ManifestFault::Missing)) };
    if found.next().is_some() {
        return Ok(Err(ManifestFault::Several));
    }
    Ok(match archive.read(source, entry, limits) {
        Ok(bytes) if kind == PackageKind::Bundle => {
            Manifest::parse_protobuf(&bytes, limits).map_err(ManifestFault::from)
        }
        Ok(bytes) => {
            let mut resources = |ids: &[u32]| resources(archive, source, ids, limits);
            Manifest::parse_with(&bytes, &mut resources, limits).map_err(ManifestFault::from)
        }
        Err(ZipError::Read(error)) if entry.data().end <= source.len() => return Err(ZipError::Read(error)),
        Err(error) => Err(ManifestFault::Entry(error)),
    })
}
