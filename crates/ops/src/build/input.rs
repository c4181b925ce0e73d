//! A build as it lies on the disk: a file, or the folder of an app for iOS.

use std::path::Path;

use ninekeys_core::build::Build;
use ninekeys_core::env::Env;
use ninekeys_core::ios::package::Known;

use super::check::CheckError;
use crate::files::{FileError, InputFile};
use crate::folder::FolderTree;

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

    /// Refuses what somebody wrote to since it was opened: what was read first is then not what was read later.
    ///
    /// # Errors
    /// [`FileError`].
    pub(crate) fn refuse_changed(&self, path: &Path) -> Result<(), FileError> {
        match self {
            Input::File(file) => file.refuse_changed(path),
            Input::Folder(tree) => tree.refuse_changed(),
        }
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
