//! How an Android package is signed: entries streamed and digested, the signature behind them, a file of scheme v4 beside.

use std::path::Path;

use ninekeys_core::android::{
    Identity, LaidOut, Rotation, Scheme, SignError as AndroidError, Signed, Signing as PackageSigning,
};
use ninekeys_core::rules::{Part, lacks_parts};
use ninekeys_core::stream::{DigestError, Sink};

pub(super) use ninekeys_core::android::{Allowed, Opened};

use super::{Job, Made, Plan, Proving, SignError, Told, idsig};
use crate::ctx::Ctx;
use crate::files::{Access, FileError, OutputFile};
use crate::outgoing::Outgoing;

/// A part of a package runs nowhere without the others: it is signed with them.
pub(super) fn refuse_parts_alone(
    plans: &[Plan<'_>],
    all: &[super::Allowed<'_>],
    of: impl Fn(&Path, SignError) -> SignError,
) -> Result<(), SignError> {
    let parts: Vec<Part> = plans.iter().map(|plan| plan.part(Vec::new())).collect();
    for (index, (plan, allowed)) in plans.iter().zip(all).enumerate() {
        let others = parts.iter().enumerate().filter(|(at, _)| *at != index).map(|(_, part)| part);
        let super::Allowed::Android(allowed) = allowed else { continue };
        if plan.destination.leaves_the_house()
            && let Some(lacks) = lacks_parts(allowed.manifest(), others)
        {
            return Err(of(plan.build, SignError::Incomplete(lacks)));
        }
    }
    Ok(())
}

/// Writes the output and what stands beside it under temporary names, and proves both.
pub(super) fn make(
    ctx: &Ctx<'_>,
    job: &Job<'_>,
    allowed: Allowed<'_>,
    proving: &Proving<'_>,
    outgoing: &mut Outgoing,
) -> Result<Made, SignError> {
    let Job { plan, material } = *job;
    let identity = Identity {
        signer: &material.key,
        certificate: &material.certificate,
        alias: material.alias().unwrap_or_default(),
    };
    let rotation = material.rotated().map(|rotated| Rotation {
        lineage: &rotated.lineage,
        oldest: Identity {
            signer: &rotated.oldest,
            certificate: &rotated.oldest_certificate,
            alias: identity.alias,
        },
        from: rotated.from_sdk,
    });
    let signing = PackageSigning { identity, schemes: proving.request.schemes, rotation };
    let laid_out = allowed.lay_out(signing, &ctx.env)?;
    let realigned = laid_out.realigned();
    let (output, signed) = write_output(ctx, laid_out, &plan.target, outgoing)?;
    let mut schemes: Vec<String> = signed.schemes.iter().map(ToString::to_string).collect();
    let proof = proving.prove(ctx, plan, &output)?;
    let idsig = match &plan.idsig {
        Some((_, target)) => {
            schemes.push(Scheme::V4.to_string());
            let file = outgoing.file(target, Access::Usual)?;
            Some(idsig::write(ctx, &output, &proof.build, &signing, file)?)
        }
        None => None,
    };
    let told = Told { schemes, proof, realigned, ios: None };
    Ok(Made { output: output.into(), idsig, told })
}

/// Streams the entries, signs, and puts the tail behind them, all under a temporary name.
fn write_output(
    ctx: &Ctx<'_>,
    laid_out: LaidOut<'_, '_>,
    target: &Path,
    outgoing: &mut Outgoing,
) -> Result<(OutputFile, Signed), SignError> {
    let output = outgoing.file(target, Access::Usual)?;
    let ready = match laid_out.digest(&output as &dyn Sink, &ctx.env) {
        Ok(ready) => ready,
        Err(AndroidError::Digest(DigestError::Write(cause))) => {
            return Err(FileError::new("written", target, cause).into());
        }
        Err(error) => return Err(error.into()),
    };
    let signed = ready.sign()?;
    output.put(signed.at, &signed.tail)?;
    Ok((output, signed))
}
