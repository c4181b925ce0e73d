//! Files of a build while it is signed: hashed, unpacked, packed again.

use std::sync::atomic::{AtomicU64, Ordering};

use aws_lc_rs::digest::{Context, SHA1_FOR_LEGACY_USE_ONLY, SHA256};
use ninekeys_formats::code_resources::Content;
use ninekeys_formats::macho;
use ninekeys_formats::source::Source;
use ninekeys_formats::zip::write::{deflate_part, most_deflated};
use ninekeys_formats::zip::{DEFLATED, Entry, STORED};
use rayon::prelude::*;

use super::SignError;
use crate::digest::{sha1, sha256};
use crate::env::Env;
use crate::ios::package::in_order_of_work;
use crate::ios::tree::{Kind, Tree, TreeError};
use crate::stream::{CHUNK, DigestError, Scratch, Space};

/// What new files are made for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Packing {
    /// Entries of an archive: compressed.
    Packed,
    /// Files of a folder: as they are.
    Loose,
}

/// A file that is new, or has other bytes.
pub struct NewFile {
    /// Its bytes, as an archive or a folder has them, in front of what may be behind them.
    pub(super) bytes: Box<dyn Space>,
    /// How many they are.
    pub(super) length: u64,
    /// How they are packed.
    pub(super) method: u16,
    /// Its size when it is unpacked.
    pub(super) size: u64,
    /// CRC-32 of it, unpacked; not looked at in a folder.
    pub(super) crc: u32,
    /// Whether it is code.
    pub is_code: bool,
}

impl NewFile {
    /// Its bytes.
    pub fn source(&self) -> &dyn Source {
        self.bytes.as_ref()
    }

    /// Gives its bytes as they are when unpacked to `take`, until it wants no more.
    ///
    /// # Errors
    /// [`TreeError`].
    pub fn stream(&self, take: &mut dyn FnMut(&[u8]) -> bool) -> Result<(), TreeError> {
        if self.method == STORED {
            let mut at = 0;
            while at < self.length {
                let end = (at + CHUNK).min(self.length);
                if !take(&self.bytes.bytes(at..end, CHUNK)?) {
                    break;
                }
                at = end;
            }
            return Ok(());
        }
        let mut entry = Entry::made_by_unix("", 0);
        (entry.method, entry.crc) = (self.method, self.crc);
        (entry.compressed, entry.size) = (self.length, self.size);
        Ok(entry.stream(self.source(), take)?)
    }

    /// A file that is in memory anyway.
    pub(super) fn small(content: Vec<u8>, packing: Packing) -> Result<Self, SignError> {
        let (crc, size) = (crc32fast::hash(&content), content.len() as u64);
        let packed = if packing == Packing::Packed { deflate_part(&content, true) } else { None };
        let (method, bytes) = match packed {
            Some(packed) => (DEFLATED, packed),
            None => (STORED, content),
        };
        let space = crate::stream::InMemory.space(bytes.len() as u64).map_err(DigestError::Write)?;
        space.write_at(0, &bytes).map_err(DigestError::Write)?;
        Ok(NewFile { length: bytes.len() as u64, bytes: space, method, size, crc, is_code: false })
    }

    /// Code that was signed, with its hashes.
    pub(super) fn of_code(
        code: Box<dyn Space>,
        packing: Packing,
        env: &Env<'_>,
    ) -> Result<(Content, Self), SignError> {
        let size = code.len();
        if packing == Packing::Loose {
            let content = hash(code.as_ref(), env)?;
            let file = NewFile { bytes: code, length: size, method: STORED, size, crc: 0, is_code: true };
            return Ok((content, file));
        }
        let (content, packed) = rayon::join(|| hash(code.as_ref(), env), || pack(code.as_ref(), env));
        let (bytes, length, crc) = packed?;
        let file = NewFile { bytes, length, method: DEFLATED, size, crc, is_code: true };
        Ok((content?, file))
    }
}

/// Both hashes of what lies in memory.
pub(super) fn content_of(bytes: &[u8]) -> Content {
    Content::File { sha1: sha1(bytes), sha256: sha256(bytes) }
}

/// Both hashes of something large.
fn hash(source: &dyn Source, env: &Env<'_>) -> Result<Content, DigestError> {
    let (mut sha1, mut sha256) = (Context::new(&SHA1_FOR_LEGACY_USE_ONLY), Context::new(&SHA256));
    let mut at = 0;
    while at < source.len() {
        if env.stopped() {
            return Err(DigestError::Stopped);
        }
        let end = (at + CHUNK).min(source.len());
        let bytes = source.bytes(at..end, CHUNK)?;
        sha1.update(&bytes);
        sha256.update(&bytes);
        at = end;
    }
    Ok(finished(sha1, sha256))
}

fn finished(sha1: Context, sha256: Context) -> Content {
    let (mut one, mut other) = ([0; 20], [0; 32]);
    one.copy_from_slice(sha1.finish().as_ref());
    other.copy_from_slice(sha256.finish().as_ref());
    Content::File { sha1: one, sha256: other }
}

/// Compresses a mebibyte at a time, several at once; always to the same bytes.
fn pack(source: &dyn Source, env: &Env<'_>) -> Result<(Box<dyn Space>, u64, u32), DigestError> {
    let parts = source.len().div_ceil(CHUNK).max(1);
    let most = most_deflated(CHUNK) * parts;
    let space = env.scratch.space(most).map_err(DigestError::Write)?;
    let mut crc = crc32fast::Hasher::new();
    let mut at = 0;
    let together = rayon::current_num_threads().max(1) as u64 * 2;
    let mut begun = 0;
    while begun < parts {
        let end = (begun + together).min(parts);
        let done: Result<Vec<(Vec<u8>, crc32fast::Hasher)>, DigestError> = (begun..end)
            .into_par_iter()
            .map(|index| {
                if env.stopped() {
                    return Err(DigestError::Stopped);
                }
                let (from, until) = (index * CHUNK, ((index + 1) * CHUNK).min(source.len()));
                let bytes = source.bytes(from..until, CHUNK)?;
                let mut crc = crc32fast::Hasher::new();
                crc.update(&bytes);
                let packed = deflate_part(&bytes, index + 1 == parts).ok_or(DigestError::TooLarge)?;
                Ok((packed, crc))
            })
            .collect();
        for (packed, own) in done? {
            space.write_at(at, &packed).map_err(DigestError::Write)?;
            at += packed.len() as u64;
            crc.combine(&own);
        }
        begun = end;
    }
    Ok((space, at, crc.finalize()))
}

/// Puts the content of a node where it can be read at any position.
pub(super) fn unpack(tree: &dyn Tree, index: usize, env: &Env<'_>) -> Result<Box<dyn Space>, SignError> {
    let size = tree.nodes().get(index).map_or(0, |node| node.size);
    let space = env.scratch.space(size).map_err(DigestError::Write)?;
    let (mut at, mut failed, mut stopped) = (0u64, None, false);
    let done = tree.stream(index, &mut |bytes| {
        stopped = env.stopped();
        if at + bytes.len() as u64 <= size {
            failed = space.write_at(at, bytes).err();
        }
        at += bytes.len() as u64;
        failed.is_none() && !stopped
    });
    match (failed, stopped) {
        (Some(cause), _) => Err(DigestError::Write(cause).into()),
        (None, true) => Err(DigestError::Stopped.into()),
        (None, false) => Ok(done.map(|()| space)?),
    }
}

/// The hashes of files and the targets of links, in any order; nothing for what is code.
pub(super) fn hash_all(
    tree: &dyn Tree,
    files: &[usize],
    env: &Env<'_>,
) -> Result<Vec<(usize, Option<Content>)>, SignError> {
    let wanted: std::collections::BTreeSet<usize> = files.iter().copied().collect();
    let mut order = in_order_of_work(tree.nodes());
    order.retain(|index| wanted.contains(index));
    let total = order.iter().filter_map(|index| tree.nodes().get(*index)).map(|node| node.size).sum();
    let done = AtomicU64::new(0);
    let one = |index: &usize| {
        let step = |bytes: u64| {
            let done = done.fetch_add(bytes, Ordering::Relaxed) + bytes;
            env.progress.step("signing", done, total);
        };
        Ok((*index, hash_one(tree, *index, env, &step)?))
    };
    let hashed: Result<Vec<_>, SignError> = order.par_iter().with_max_len(1).map(one).collect();
    env.progress.over();
    hashed
}

fn hash_one(
    tree: &dyn Tree,
    index: usize,
    env: &Env<'_>,
    step: &(dyn Fn(u64) + Sync),
) -> Result<Option<Content>, SignError> {
    if tree.nodes().get(index).is_some_and(|node| node.kind == Kind::Link) {
        let target = tree.read(index, 1 << 10)?.unwrap_or_default();
        return Ok(Some(Content::Link(String::from_utf8_lossy(&target).into_owned())));
    }
    let (mut sha1, mut sha256) = (Context::new(&SHA1_FOR_LEGACY_USE_ONLY), Context::new(&SHA256));
    let (mut first, mut is_code, mut stopped) = (true, false, false);
    let done = tree.stream(index, &mut |bytes| {
        stopped = env.stopped();
        is_code |= first && macho::recognise(bytes);
        first = false;
        sha1.update(bytes);
        sha256.update(bytes);
        step(bytes.len() as u64);
        !is_code && !stopped
    });
    match done {
        _ if stopped => Err(DigestError::Stopped.into()),
        // it was only begun
        _ if is_code => Ok(None),
        Err(error) => Err(TreeError::into(error)),
        Ok(()) => Ok(Some(finished(sha1, sha256))),
    }
}

/// What desktop systems leave in folders and archives, and no app needs.
pub(super) fn is_rubbish(path: &str) -> bool {
    let mut parts = path.split('/');
    let name = path.rsplit_once('/').map_or(path, |(_, name)| name);
    parts.any(|part| part == "__MACOSX")
        || name == ".DS_Store"
        || name.starts_with("._")
        || matches!(name, "Thumbs.db" | "desktop.ini")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rubbish_is_told_from_files() {
        for path in ["a/.DS_Store", "__MACOSX/a/b", "a/._b", "Thumbs.db"] {
            assert!(is_rubbish(path), "{path}");
        }
        for path in ["a/DS_Store", "a/.b", "a/_b", "MACOSX/a"] {
            assert!(!is_rubbish(path), "{path}");
        }
    }
}
