//! A build as it lies on the disk: a file, or the folder of an app for iOS.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use ninekeys_core::build::Build;
use ninekeys_core::env::Env;
use ninekeys_core::ios::package::Known;
use ninekeys_core::ios::tree::{Kind, Node, Tree, TreeError};
use ninekeys_formats::source::Source;

use super::check::CheckError;
use crate::files::{FileError, InputFile};

/// The most files of an app's folder.
const MOST_FILES: usize = 500_000;
/// How much of a file is read at a time.
const WINDOW: u64 = 256 << 10;

/// A build that was opened.
pub(crate) enum Input {
    /// A file.
    File(InputFile),
    /// The folder of an app.
    Folder(FolderTree),
}

impl Input {
    /// Opens a build.
    ///
    /// # Errors
    /// [`FileError`], also for a folder that is no app's.
    pub(crate) fn open(path: &Path) -> Result<Self, FileError> {
        let is_app = path.is_dir() && path.extension().is_some_and(|ending| ending == "app");
        Ok(if is_app { Input::Folder(FolderTree::read(path)?) } else { Input::File(InputFile::open(path)?) })
    }

    /// Looks at it; `beside` is the file that lies beside it and belongs to it.
    ///
    /// # Errors
    /// [`CheckError`].
    pub(crate) fn examine(&self, beside: Option<&[u8]>, env: &Env<'_>) -> Result<Build, CheckError> {
        Ok(match self {
            Input::File(file) => Build::examine(file, beside, env)?,
            Input::Folder(tree) => Build::examine_tree(tree, &Known::new(), env)?,
        })
    }
}

/// The folder of an app, with everything in it by path.
pub(crate) struct FolderTree {
    nodes: Vec<Node>,
    places: Vec<PathBuf>,
    faults: Vec<String>,
}

impl FolderTree {
    /// Walks a folder; links are not followed.
    ///
    /// # Errors
    /// [`FileError`] when something in it cannot be looked at, or there is too much of it.
    pub(crate) fn read(folder: &Path) -> Result<Self, FileError> {
        let absolute = std::path::absolute(folder).map_err(|cause| FileError::new("read", folder, cause))?;
        let name = absolute.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        let mut tree = FolderTree { nodes: Vec::new(), places: Vec::new(), faults: Vec::new() };
        let mut open = vec![(absolute, name)];
        let mut found: Vec<(Node, PathBuf)> = Vec::new();
        while let Some((place, path)) = open.pop() {
            let failed = |cause| FileError::new("read", &place, cause);
            for entry in fs::read_dir(&place).map_err(failed)? {
                let entry = entry.map_err(failed)?;
                let own = entry.file_name();
                let Some(own) = own.to_str() else {
                    tree.faults.push(format!("{path}: the name {own:?} in it is not UTF-8"));
                    continue;
                };
                let path = format!("{path}/{own}");
                if let Some(node) = node(&entry, &path, &mut tree.faults).map_err(failed)? {
                    if node.kind == Kind::Folder {
                        open.push((entry.path(), path));
                    }
                    found.push((node, entry.path()));
                }
                if found.len() > MOST_FILES {
                    return Err(failed(io::Error::new(
                        io::ErrorKind::FileTooLarge,
                        "it holds more than an app does",
                    )));
                }
            }
        }
        found.sort_by(|(one, _), (other, _)| one.path.cmp(&other.path));
        (tree.nodes, tree.places) = found.into_iter().unzip();
        Ok(tree)
    }
}

fn node(entry: &fs::DirEntry, path: &str, faults: &mut Vec<String>) -> io::Result<Option<Node>> {
    let found = entry.metadata()?;
    let kind = match found.file_type() {
        kind if kind.is_dir() => Kind::Folder,
        kind if kind.is_symlink() => Kind::Link,
        kind if kind.is_file() => Kind::File,
        _ => {
            faults.push(format!("{path}: it is neither a file, nor a folder, nor a link"));
            return Ok(None);
        }
    };
    let size = if kind == Kind::Folder { 0 } else { found.len() };
    Ok(Some(Node { path: path.to_owned(), kind, size, packed: size }))
}

impl Tree for FolderTree {
    fn nodes(&self) -> &[Node] {
        &self.nodes
    }

    fn stream(&self, index: usize, take: &mut dyn FnMut(&[u8]) -> bool) -> Result<(), TreeError> {
        let (Some(node), Some(place)) = (self.nodes.get(index), self.places.get(index)) else {
            return Ok(());
        };
        let failed = |cause| TreeError::File { path: node.path.clone(), cause };
        match node.kind {
            Kind::Folder => {}
            Kind::Link => {
                let target = fs::read_link(place).map_err(failed)?;
                take(target.to_string_lossy().as_bytes());
            }
            Kind::File => {
                let file = InputFile::open(place).map_err(|error| failed(io::Error::other(error)))?;
                let mut at = 0;
                while at < file.len() {
                    let end = (at + WINDOW).min(file.len());
                    if !take(&file.bytes(at..end, WINDOW)?) {
                        break;
                    }
                    at = end;
                }
            }
        }
        Ok(())
    }

    fn faults(&self) -> Vec<String> {
        self.faults.clone()
    }

    fn is_readable(&self) -> bool {
        true
    }

    fn is_folder(&self) -> bool {
        true
    }

    fn size(&self) -> u64 {
        self.nodes.iter().map(|node| node.size).sum()
    }
}
