//! Files and folders that a build for iOS is made of, whether they lie in an archive or in a folder.

use std::collections::{BTreeMap, BTreeSet};
use std::io;

use ninekeys_formats::limits::Limits;
use ninekeys_formats::source::{ReadError, Source};
use ninekeys_formats::zip::{Archive, Entry, Zip64, ZipError};
use thiserror::Error;

use crate::stream::DigestError;

/// The longest path that a device can have, in bytes, and the longest target of a link.
const LONGEST_PATH: usize = 1_023;

/// The types of files in the mode that a Unix gives them.
const TYPE: u32 = 0o170_000;
const LINK: u32 = 0o120_000;

/// What a node is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// A file.
    File,
    /// A folder.
    Folder,
    /// A link to something else, by a path.
    Link,
}

/// One file, folder or link.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Node {
    /// Its path from the top, without a slash at its end.
    pub path: String,
    /// What it is.
    pub kind: Kind,
    /// Its bytes; of a link the length of its target.
    pub size: u64,
    /// The bytes that it takes where it lies.
    pub packed: u64,
}

/// Reading something of a build failed.
#[derive(Debug, Error)]
pub enum TreeError {
    /// In an archive.
    #[error(transparent)]
    Zip(#[from] ZipError),
    /// In a folder.
    #[error("{path} could not be read")]
    File {
        /// Which.
        path: String,
        /// What the system said.
        #[source]
        cause: io::Error,
    },
    /// By position.
    #[error(transparent)]
    Read(#[from] ReadError),
    /// Digesting it failed, or the user stopped.
    #[error(transparent)]
    Digest(#[from] DigestError),
}

/// What a build is made of.
pub trait Tree: Sync {
    /// All of it, in the order in which it lies there.
    fn nodes(&self) -> &[Node];

    /// Gives the content of a node to `take`, a window at a time, until it wants no more.
    ///
    /// # Errors
    /// [`TreeError`].
    fn stream(&self, index: usize, take: &mut dyn FnMut(&[u8]) -> bool) -> Result<(), TreeError>;

    /// The content of a node, of at most `limit` bytes; nothing when it has more.
    ///
    /// # Errors
    /// [`TreeError`].
    fn read(&self, index: usize, limit: u64) -> Result<Option<Vec<u8>>, TreeError> {
        let mut out = Vec::new();
        let mut fits = true;
        let done = self.stream(index, &mut |bytes| {
            fits = (out.len() + bytes.len()) as u64 <= limit;
            if fits {
                out.extend_from_slice(bytes);
            }
            fits
        });
        match done {
            Err(TreeError::Zip(ZipError::Stopped)) if !fits => Ok(None),
            done => done.map(|()| fits.then_some(out)),
        }
    }

    /// What is malformed where it lies.
    fn faults(&self) -> Vec<String>;

    /// Whether all of it can be read with work in proportion to its size.
    fn is_readable(&self) -> bool;

    /// Whether it is a folder, and no archive.
    fn is_folder(&self) -> bool;

    /// The bytes that it takes.
    fn size(&self) -> u64;
}

/// The files of an archive.
pub struct ZipTree<'a> {
    source: &'a dyn Source,
    /// The archive.
    pub archive: Archive,
    nodes: Vec<Node>,
}

impl<'a> ZipTree<'a> {
    /// Opens an archive.
    ///
    /// # Errors
    /// [`ZipError`] when it is none, is cut short or cannot be read.
    pub fn open(source: &'a dyn Source, limits: &Limits) -> Result<Self, ZipError> {
        let archive = Archive::open(source, Zip64::Read, limits)?;
        let nodes = archive.entries.iter().map(node).collect();
        Ok(ZipTree { source, archive, nodes })
    }

    /// Where its bytes are.
    pub fn source(&self) -> &'a dyn Source {
        self.source
    }
}

fn node(entry: &Entry) -> Node {
    let kind = match () {
        () if entry.is_directory() => Kind::Folder,
        () if entry.unix_mode().is_some_and(|mode| mode & TYPE == LINK) => Kind::Link,
        () => Kind::File,
    };
    let path = entry.name_text();
    let path = path.strip_suffix('/').unwrap_or(&path).to_owned();
    Node { path, kind, size: entry.size, packed: entry.compressed }
}

impl Tree for ZipTree<'_> {
    fn nodes(&self) -> &[Node] {
        &self.nodes
    }

    fn stream(&self, index: usize, take: &mut dyn FnMut(&[u8]) -> bool) -> Result<(), TreeError> {
        match self.archive.entries.get(index) {
            Some(entry) => Ok(entry.stream(self.source, take)?),
            None => Ok(()),
        }
    }

    fn faults(&self) -> Vec<String> {
        self.archive.faults.iter().map(ToString::to_string).collect()
    }

    fn is_readable(&self) -> bool {
        self.archive.is_readable_whole()
    }

    fn is_folder(&self) -> bool {
        false
    }

    fn size(&self) -> u64 {
        self.source.len()
    }
}

/// Paths that no two systems put to the same place: what is one file on one of them is two on another.
pub(super) fn path_faults(nodes: &[Node]) -> Vec<String> {
    let mut faults = Vec::new();
    let kinds: BTreeMap<&str, Kind> = nodes.iter().map(|node| (node.path.as_str(), node.kind)).collect();
    let mut folded = BTreeSet::new();
    for node in nodes {
        if node.path.len() > LONGEST_PATH {
            faults.push(format!(
                "{}: its path has {} bytes, and no device has such",
                node.path,
                node.path.len()
            ));
        }
        if !folded.insert(node.path.to_lowercase()) {
            faults.push(format!("{}: another differs from it by small and capital letters alone", node.path));
        }
        let through =
            above(&node.path).find(|above| kinds.get(above).is_some_and(|kind| *kind != Kind::Folder));
        if let Some(through) = through {
            faults.push(format!("{}: it lies below {through}, which is no folder", node.path));
        }
    }
    faults
}

/// The folders above a path, the nearest first.
pub(super) fn above(path: &str) -> impl Iterator<Item = &str> {
    std::iter::successors(path.rsplit_once('/').map(|(above, _)| above), |path| {
        path.rsplit_once('/').map(|(above, _)| above)
    })
}

/// Whether a link at `path` stays inside the folder `home`, which is above it.
pub(super) fn stays_inside(path: &str, target: &str, home: &str) -> bool {
    if target.is_empty() || target.starts_with('/') || target.len() > LONGEST_PATH {
        return false;
    }
    let within = path.strip_prefix(home).unwrap_or_default().trim_start_matches('/');
    let mut depth = within.split('/').count().saturating_sub(1);
    for part in target.split('/') {
        match part {
            "" | "." => {}
            ".." if depth == 0 => return false,
            ".." => depth -= 1,
            _ => depth += 1,
        }
    }
    true
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn links_stay_inside_or_are_told() {
        let home = "Payload/Crossing.app";
        for (path, target, inside) in [
            ("Payload/Crossing.app/linked", "en.lproj/a", true),
            ("Payload/Crossing.app/a/linked", "../b", true),
            ("Payload/Crossing.app/linked", "../b", false),
            ("Payload/Crossing.app/a/linked", "../../b", false),
            ("Payload/Crossing.app/linked", "/etc/passwd", false),
            ("Payload/Crossing.app/linked", "a/../../x", false),
            ("Payload/Crossing.app/linked", "", false),
        ] {
            assert_eq!(stays_inside(path, target, home), inside, "{path} -> {target}");
        }
    }

    #[test]
    fn twins_and_files_below_files_are_told() {
        let node = |path: &str, kind| Node { path: path.into(), kind, size: 0, packed: 0 };
        let nodes = [
            node("a", Kind::Folder),
            node("a/b", Kind::File),
            node("A/B", Kind::File),
            node("l", Kind::Link),
            node("l/x", Kind::File),
            node("a/b/c", Kind::File),
        ];
        let faults = path_faults(&nodes);
        assert_eq!(faults.len(), 3, "{faults:?}");
        assert!(
            faults[0].starts_with("A/B") && faults[1].starts_with("l/x") && faults[2].starts_with("a/b/c")
        );
    }
}
