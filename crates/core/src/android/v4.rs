//! Scheme v4: a Merkle tree over the whole signed package in a file beside it, for devices that read a package before
//! it is there as a whole.

use std::sync::atomic::{AtomicU64, Ordering};

use aws_lc_rs::digest::{Context, SHA256};
use ninekeys_formats::cursor::ParseError;
use ninekeys_formats::idsig::{self, Idsig, Signer as FileSigner};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::source::Source;
use ninekeys_formats::x509::Certificate;
use rayon::prelude::*;

use super::algorithm::V2Algorithm;
use super::refusal::Refusal;
use super::report::{Scheme, SchemeReport, SchemeState, SignatureFault, Signatures};
use super::sign::SignError;
use super::signing::Signing;
use crate::env::Env;
use crate::keys::{PublicKey, verify};
use crate::stream::CHUNK;
use crate::stream::DigestError;

const BLOCK: usize = 4096;

/// The tree over a package.
struct Tree {
    root: Vec<u8>,
    /// The levels from the top to the leaves, without the root.
    levels: Vec<u8>,
}

/// SHA-256 over the salt and one block, which is filled with zeros.
fn leaf(salt: &[u8], block: &[u8]) -> [u8; 32] {
    let mut context = Context::new(&SHA256);
    context.update(salt);
    context.update(block);
    const ZEROS: [u8; BLOCK] = [0; BLOCK];
    context.update(ZEROS.get(block.len()..).unwrap_or_default());
    let mut out = [0; 32];
    out.copy_from_slice(context.finish().as_ref());
    out
}

/// Digests every block on all cores, then the digests of digests, until they fit into one block.
fn tree(source: &dyn Source, salt: &[u8], env: &Env<'_>) -> Result<Tree, DigestError> {
    let length = source.len();
    let done = AtomicU64::new(0);
    let leaves: Result<Vec<Vec<u8>>, DigestError> = (0..length.div_ceil(CHUNK))
        .into_par_iter()
        .map_init(Vec::new, |buffer, index| {
            if env.stopped() {
                return Err(DigestError::Stopped);
            }
            let start = index * CHUNK;
            let size = CHUNK.min(length - start);
            buffer.resize(usize::try_from(size).unwrap_or(0), 0);
            source.read_at(start, buffer)?;
            let so_far = done.fetch_add(size, Ordering::Relaxed) + size;
            env.progress.step("building the tree", so_far, length);
            Ok(buffer.chunks(BLOCK).flat_map(|block| leaf(salt, block)).collect())
        })
        .collect();
    env.progress.over();
    let mut level = leaves?.concat();
    let mut levels: Vec<Vec<u8>> = Vec::new();
    loop {
        level.resize(level.len().next_multiple_of(BLOCK).max(BLOCK), 0);
        levels.push(level);
        let Some(top) = levels.last().filter(|top| top.as_slice().len() > BLOCK) else { break };
        level = top.chunks(BLOCK).flat_map(|block| leaf(salt, block)).collect();
    }
    let root = levels.last().map(|top| leaf(salt, top).to_vec()).unwrap_or_default();
    levels.reverse();
    Ok(Tree { root, levels: levels.concat() })
}

/// Makes the file beside a signed package: `signatures` are those that verifying it came to. After a rotation the file
/// has a signer for the old devices and one for the new.
///
/// # Errors
/// [`SignError`] when the package cannot be read, has no scheme that v4 stands on, or the key refuses.
pub fn make_idsig(
    source: &dyn Source,
    signatures: &Signatures,
    signing: &Signing<'_>,
    env: &Env<'_>,
) -> Result<Vec<u8>, SignError> {
    let tree = tree(source, &[], env)?;
    let mut parts = Vec::new();
    for identity in signing.of_schemes() {
        let content = content_of(signatures, identity.certificate).ok_or(Refusal::NothingToStandOn)?;
        let public = identity.signer.public();
        let kind = public.shape().to_string();
        let algorithm = V2Algorithm::for_key(public.shape()).ok_or(Refusal::Key(kind))?;
        let signed = idsig::signed_part(source.len(), &[], &tree.root, &content, identity.certificate, &[]);
        let signature = identity.signer.sign(algorithm.signature, &signed)?;
        parts.push((content, identity.certificate, public.as_der().to_vec(), algorithm.id, signature));
    }
    let signers: Vec<FileSigner<'_>> = parts
        .iter()
        .map(|(content, certificate, public_key, algorithm, signature)| FileSigner {
            content,
            certificate,
            additional: &[],
            public_key,
            algorithm: *algorithm,
            signature,
        })
        .collect();
    Ok(idsig::write(&tree.root, &signers, &tree.levels))
}

/// The content digest of the newest scheme that a certificate signed.
fn content_of(signatures: &Signatures, certificate: &[u8]) -> Option<Vec<u8>> {
    let own = signatures.signers.iter().rev().filter(|signer| signer.certificate.der == certificate);
    own.filter_map(|signer| signer.content.clone()).next()
}

/// Verifies the file beside a package and adds what came of it to the package's signatures.
///
/// # Errors
/// [`DigestError`] when the package cannot be read or the user wants to stop.
pub fn check_idsig(
    source: &dyn Source,
    file: &[u8],
    signatures: &mut Signatures,
    limits: &Limits,
    env: &Env<'_>,
) -> Result<(), DigestError> {
    let faults = match idsig::parse(file, limits) {
        Ok(parsed) => check(source, &parsed, signatures, limits, env)?,
        Err(error) => vec![SignatureFault::from(error)],
    };
    signatures.schemes.push(SchemeReport { scheme: Scheme::V4, state: SchemeState::of(faults) });
    Ok(())
}

fn check(
    source: &dyn Source,
    file: &Idsig<'_>,
    signatures: &Signatures,
    limits: &Limits,
    env: &Env<'_>,
) -> Result<Vec<SignatureFault>, DigestError> {
    let mut faults = Vec::new();
    let tree = tree(source, file.salt, env)?;
    if tree.root != file.root {
        faults.push(SignatureFault::Tree("its root is another"));
    } else if file.tree.is_empty() {
        // devices read the levels out of the file while the package is still on its way
        faults.push(SignatureFault::Tree("it has a root and no tree below it"));
    } else if tree.levels != file.tree {
        faults.push(SignatureFault::Tree("its root is right, and a level below it is not"));
    }
    for signer in &file.signers {
        faults.extend(check_signer(source.len(), file, signer, signatures, limits).err());
    }
    Ok(faults)
}

fn check_signer(
    size: u64,
    file: &Idsig<'_>,
    signer: &FileSigner<'_>,
    signatures: &Signatures,
    limits: &Limits,
) -> Result<(), SignatureFault> {
    let unreadable = |error: ParseError| SignatureFault::Certificate(error);
    let certificate = Certificate::parse(signer.certificate, limits).map_err(unreadable)?;
    if certificate.public_key != signer.public_key {
        return Err(SignatureFault::KeyNotInCertificate);
    }
    let key = PublicKey::from_der(signer.public_key).map_err(|_| SignatureFault::PublicKey)?;
    let unsupported = || SignatureFault::Unsupported(signer.algorithm, key.shape().to_string());
    let algorithm = V2Algorithm::by_id(signer.algorithm).ok_or_else(unsupported)?;
    let signed =
        idsig::signed_part(size, file.salt, file.root, signer.content, signer.certificate, signer.additional);
    match verify(&key, algorithm.signature, &signed, signer.signature) {
        Some(true) => {}
        Some(false) => return Err(SignatureFault::Signature(signer.algorithm)),
        None => return Err(unsupported()),
    }
    match content_of(signatures, signer.certificate) {
        Some(content) if content == signer.content => Ok(()),
        Some(_) => Err(SignatureFault::Content),
        None => Err(SignatureFault::Stranger),
    }
}
