//! An output is proved before it gets its name.

use ninekeys_core::build::{Build, ExamineError};
use ninekeys_core::ios::package::Known;
use ninekeys_core::ios::sign::Packed;
use ninekeys_core::ios::tree::ZipTree;
use ninekeys_core::stream::{DigestError, source_sha256};

use ninekeys_formats::limits::Limits;

use super::SignError;
use crate::build::background::Background;
use crate::build::check::{self, BuildSubject, CheckError, CheckReport};
use crate::ctx::Ctx;
use crate::files::{FileError, OutputFile};
use crate::folder::{self, FolderTree, OutputFolder};

/// What was proved of the output.
pub(super) struct Proof {
    /// What the check said.
    pub(super) check: CheckReport,
    /// What is in it.
    pub(super) build: Build,
    /// SHA-256 over it.
    pub(super) sha256: String,
}

/// Checks what was written by the code of `check`, and hashes it for the ledger, while the disk settles. Only what is
/// ready passes.
pub(super) fn prove(
    ctx: &Ctx<'_>,
    output: &OutputFile,
    background: &Background,
    subject: &BuildSubject<'_>,
) -> Result<Proof, SignError> {
    let written = output.reread()?;
    let env = ctx.env;
    let (proof, settled, hashed) = std::thread::scope(|scope| {
        let settling = scope.spawn(|| output.settle());
        let check = || {
            let build = Build::examine(&written, None, &env)?;
            Ok((check::judge(&env, background, subject, &build), build))
        };
        // the hash is one long chain and keeps a core to itself; the check takes the others, and that one too once it is free
        let (hashed, proof) = rayon::join(|| source_sha256(&written, &env), check);
        (proof, settling.join(), hashed)
    });
    settled.unwrap_or_else(|panic| std::panic::resume_unwind(panic))?;
    let (check, build) = proof.map_err(stopped_or_unchecked)?;
    if !check.ready {
        return Err(SignError::NotReady(Box::new(check)));
    }
    Ok(Proof { check, build, sha256: hashed? })
}

/// As [`prove`], for a folder: every file of it is read and hashed again, and those that a seal covers are compared with it.
pub(super) fn prove_folder(
    ctx: &Ctx<'_>,
    output: &OutputFolder,
    background: &Background,
    subject: &BuildSubject<'_>,
) -> Result<Proof, SignError> {
    let env = ctx.env;
    let check = || {
        let written = FolderTree::read_as(output.path(), &subject.file)?;
        let build = Build::examine_tree(&written, &Known::new(), &env);
        let build = build.map_err(|error| stopped_or_unchecked(error.into()))?;
        Ok::<_, SignError>((check::judge(&env, background, subject, &build), build))
    };
    let (sha256, proof) = rayon::join(|| folder::sha256(output.path(), &env), check);
    let (check, build) = proof?;
    if !check.ready {
        return Err(SignError::NotReady(Box::new(check)));
    }
    Ok(Proof { check, build, sha256: sha256? })
}

fn stopped_or_unchecked(error: CheckError) -> SignError {
    match error {
        CheckError::Digest(DigestError::Stopped) => DigestError::Stopped.into(),
        other => SignError::Check(Box::new(other)),
    }
}

/// Writes an archive that was laid out, and proves it: what is read back is what was laid out, byte for byte, so that its hash is
/// that of what was laid out, and what was copied is what was read before; everything else is looked at anew. The hash is one
/// long chain, and is made meanwhile.
pub(super) fn write_and_prove(
    ctx: &Ctx<'_>,
    output: &OutputFile,
    packed: &Packed<'_>,
    examine: &(dyn Fn(&ZipTree<'_>) -> Result<Build, ExamineError> + Sync),
    background: &Background,
    subject: &BuildSubject<'_>,
) -> Result<Proof, SignError> {
    let env = ctx.env;
    let failed = |cause| SignError::from(FileError::new("written", output.target(), cause));
    let work = || {
        packed.write(output, &env).map_err(|error| match error {
            DigestError::Write(cause) => failed(cause),
            other => other.into(),
        })?;
        let written = output.reread()?;
        let (settled, proof) = std::thread::scope(|scope| {
            let settling = scope.spawn(|| output.settle());
            let check = || {
                if !packed.is(&written, &env)? {
                    return Err(failed(std::io::Error::other("it reads back as something else")));
                }
                let tree = ZipTree::open(&written, &Limits::USUAL).map_err(CheckError::from);
                let build = tree.and_then(|tree| Ok(examine(&tree)?)).map_err(stopped_or_unchecked)?;
                Ok((check::judge(&env, background, subject, &build), build))
            };
            let proof = check();
            (settling.join(), proof)
        });
        settled.unwrap_or_else(|panic| std::panic::resume_unwind(panic))?;
        proof
    };
    let (hashed, proof) = rayon::join(|| source_sha256(packed.source(), &env), work);
    let (check, build) = proof?;
    if !check.ready {
        return Err(SignError::NotReady(Box::new(check)));
    }
    Ok(Proof { check, build, sha256: hashed? })
}
