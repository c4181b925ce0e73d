//! The file of scheme v4 beside an output: made with it, and taken out of its way.

use std::path::{Path, PathBuf};

use ninekeys_core::android::{Scheme, Signing as PackageSigning, check_idsig, make_idsig};
use ninekeys_core::build::Build;
use ninekeys_core::digest::sha256_hex;
use ninekeys_formats::idsig;
use ninekeys_formats::limits::Limits;

use super::SignError;
use crate::build::check;
use crate::ctx::{Ctx, Notice};
use crate::files::{self, FileError, InputFile, OutputFile};

/// The tree over the output and its signature, under a temporary name, verified as `check` would; with its SHA-256.
pub(super) fn write(
    ctx: &Ctx<'_>,
    output: &OutputFile,
    proved: &Build,
    signing: &PackageSigning<'_>,
    file: OutputFile,
) -> Result<(OutputFile, String), SignError> {
    let Some(android) = proved.android() else { return Err(SignError::Idsig) };
    let written = output.reread()?;
    let bytes = make_idsig(&written, &android.signatures, signing, &ctx.env)?;
    let mut signatures = android.signatures.clone();
    check_idsig(&written, &bytes, &mut signatures, &Limits::USUAL, &ctx.env)?;
    if !signatures.holds(Scheme::V4) {
        return Err(SignError::Idsig);
    }
    file.put(0, &bytes)?;
    Ok((file, sha256_hex(&bytes)))
}

/// A file of scheme v4 that lies beside where the output goes and is not the output's: it would speak against it.
pub(super) struct Stale {
    place: PathBuf,
    aside: PathBuf,
    /// Whether it holds for the build that the output takes the place of, and goes with it.
    belonged: bool,
}

impl Stale {
    /// Takes what lies there out of the way.
    pub(super) fn set_aside(ctx: &Ctx<'_>, target: &Path) -> Result<Option<Self>, SignError> {
        let place = beside(target);
        if std::fs::symlink_metadata(&place).is_err() {
            return Ok(None);
        }
        let belonged = InputFile::open(target).is_ok_and(|old| {
            let examined = files::read_whole(&place, check::MOST_IDSIG)
                .ok()
                .and_then(|idsig| Build::examine(&old, Some(&idsig), &ctx.env).ok());
            let held = examined.as_ref().and_then(Build::android);
            held.is_some_and(|android| android.signatures.holds(Scheme::V4))
        });
        let failed = |cause| FileError::new("written", &place, cause);
        let Some(aside) = files::set_aside(&place, ctx.env.now).map_err(failed)? else { return Ok(None) };
        match std::fs::remove_file(&place) {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(failed(error).into()),
            _ => Ok(Some(Stale { place, aside, belonged })),
        }
    }

    /// The output was not made: everything is as it was.
    pub(super) fn put_back(self) {
        let _ = files::rename(&self.aside, &self.place);
    }

    /// The output was made: what belonged to the old one goes with it, anything else is named.
    pub(super) fn drop_or_name(self, ctx: &Ctx<'_>) {
        if !self.belonged || std::fs::remove_file(&self.aside).is_err() {
            ctx.notice(Notice::SetAside(self.aside));
        }
    }
}

/// Where the file of scheme v4 beside a build is.
pub(super) fn beside(target: &Path) -> PathBuf {
    let mut name = target.as_os_str().to_owned();
    name.push(".");
    name.push(idsig::ENDING);
    PathBuf::from(name)
}
