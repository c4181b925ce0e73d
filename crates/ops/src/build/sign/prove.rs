//! An output is proved before it gets its name.

use ninekeys_core::build::Build;
use ninekeys_core::stream::{DigestError, source_sha256};

use super::SignError;
use crate::build::check::{self, Background, BuildSubject, CheckError, CheckReport};
use crate::ctx::Ctx;
use crate::files::OutputFile;

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

fn stopped_or_unchecked(error: CheckError) -> SignError {
    match error {
        CheckError::Digest(DigestError::Stopped) => DigestError::Stopped.into(),
        other => SignError::Check(Box::new(other)),
    }
}
