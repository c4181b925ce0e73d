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
        let hashing = scope.spawn(|| source_sha256(&written, &env));
        // the hash is one long chain: it keeps a core to itself, and the check takes the others
        let others = rayon::current_num_threads().saturating_sub(1).max(1);
        let check = || {
            let build = check::examine(&env, &written, None)?;
            Ok((check::judge(&env, background, subject, &build), build))
        };
        let proof = match rayon::ThreadPoolBuilder::new().num_threads(others).build() {
            Ok(pool) => pool.install(check),
            Err(_) => check(),
        };
        (proof, settling.join(), hashing.join())
    });
    settled.unwrap_or_else(|panic| std::panic::resume_unwind(panic))?;
    let (check, build) = proof.map_err(stopped_or_unchecked)?;
    if !check.ready {
        return Err(SignError::NotReady(Box::new(check)));
    }
    let sha256 = hashed.unwrap_or_else(|panic| std::panic::resume_unwind(panic))?;
    Ok(Proof { check, build, sha256 })
}

fn stopped_or_unchecked(error: CheckError) -> SignError {
    match error {
        CheckError::Digest(DigestError::Stopped) => DigestError::Stopped.into(),
        other => SignError::Check(Box::new(other)),
    }
}
