//! `demo`: a fresh folder with the made-up ferry company's builds, and the steps that a person would type.

use std::path::{Path, PathBuf};

use ninekeys_core::demo::{CROSSING, QUAYSIDE_DEBUG};
use thiserror::Error;

use crate::ctx::Ctx;
use crate::files::{self, Access, FileError};

/// A step of the demo: what it shows, what is typed, and which exit code it has to end with.
#[derive(Debug, Clone, Copy)]
pub struct Step {
    /// What it shows, in a sentence.
    pub about: &'static str,
    /// The words behind the program's name.
    pub words: &'static [&'static str],
    /// The exit code that shows that it worked.
    pub exit: u8,
}

/// The steps, in the order of the work.
pub const STEPS: &[Step] = &[
    Step {
        about: "A cabinet for the keys and a project file for the apps. The unlock file spares this demo a passphrase.",
        words: &[
            "init",
            "--title",
            "Gannet Point Ferries",
            "--team",
            "GPFERRY009",
            "--new-unlock-file",
            "private/unlock.txt",
        ],
        exit: 0,
    },
    Step {
        about: "The apps: Crossing for passengers, Quayside for the kiosk.",
        words: &[
            "app",
            "add",
            "crossing",
            "--package",
            "example.gannetpoint.crossing",
            "--for",
            "direct",
            "--for",
            "store",
            "--version-name",
            "2.4.0",
        ],
        exit: 0,
    },
    Step {
        about: "",
        words: &["app", "add", "quayside", "--package", "example.gannetpoint.quayside", "--for", "direct"],
        exit: 0,
    },
    Step {
        about: "The key that every update of Crossing will have to be signed with.",
        words: &[
            "keystore",
            "create",
            "crossing-signing",
            "--app",
            "crossing",
            "--common-name",
            "Gannet Point Ferries",
            "--country",
            "GB",
        ],
        exit: 0,
    },
    Step {
        about: "The release build, signed; the output is checked before it gets its name.",
        words: &["sign", "builds/crossing-release.apk", "--for", "direct", "--to", "signed"],
        exit: 0,
    },
    Step {
        about: "The check, as anybody can run it.",
        words: &["check", "signed/crossing-2.4.0-12-direct.apk", "--for", "direct"],
        exit: 0,
    },
    Step {
        about: "A build from the wrong folder is refused for what it is.",
        words: &["check", "builds/quayside-debug.apk", "--for", "direct"],
        exit: 1,
    },
    Step {
        about: "A copy on another disk would be better; this one shows how.",
        words: &["cabinet", "backup", "backups"],
        exit: 0,
    },
    Step { about: "What there is, and what to do next.", words: &["inventory"], exit: 0 },
    Step { about: "", words: &["board"], exit: 0 },
];

/// Why there is no demo.
#[derive(Debug, Error)]
pub enum DemoError {
    /// The folder has something in it.
    #[error("{0} is there and not empty")]
    NotEmpty(String),
    /// A file.
    #[error(transparent)]
    File(#[from] FileError),
}

/// Makes the folder and the unsigned builds in it.
///
/// # Errors
/// [`DemoError`]; a folder that has anything in it is left alone.
pub fn prepare(ctx: &Ctx<'_>, folder: &Path) -> Result<PathBuf, DemoError> {
    let folder = ctx.path(folder);
    let failed = |cause| FileError::new("read", &folder, cause);
    if folder.exists() && std::fs::read_dir(&folder).map_err(failed)?.next().is_some() {
        return Err(DemoError::NotEmpty(folder.display().to_string()));
    }
    let builds = folder.join("builds");
    files::make_folder(&builds)?;
    for (name, build) in [("crossing-release.apk", CROSSING), ("quayside-debug.apk", QUAYSIDE_DEBUG)] {
        files::write_whole(&builds.join(name), &build.apk(), Access::Usual, false)?;
    }
    Ok(folder)
}
