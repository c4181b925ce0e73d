//! How one executable is signed: every slice gets a directory of hashes and a message over it, and they are laid out anew.

use aws_lc_rs::digest::{SHA256, digest};
use der::Encode;
use der::asn1::ObjectIdentifier;
use ninekeys_formats::cms;
use ninekeys_formats::code_signature::{
    ALLOWS_UNSIGNED, ENTITLEMENTS, ENTITLEMENTS_DER, INFO_PLIST, MAIN_DIRECTORY, MAIN_PROGRAM, MESSAGE,
    NewDirectory, REQUIREMENTS, RESOURCES, WRITTEN_PAGE, entitlements_blob, entitlements_der_blob,
    list_header, message_blob, write_list, write_short_hashes,
};
use ninekeys_formats::cursor::ParseError;
use ninekeys_formats::entitlements::{self, Entitlement};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::macho::{self, MachoError, NewSlice, Slice, SliceAt, Unsignable};
use ninekeys_formats::requirement::write_designated;
use ninekeys_formats::source::Source;
use ninekeys_formats::timestamp::TOKEN;
use ninekeys_formats::x509::{Certificate, KeyShape, name_values};
use rayon::prelude::*;
use thiserror::Error;

use super::claims::Claims;
use crate::certificate::{CertificateError, at_time};
use crate::digest::sha256;
use crate::env::Env;
use crate::ios::code::{HASHES, NamedHash, SHORT, SHORT_HASHES};
use crate::ios::profile::DEBUG;
use crate::keys::{KeyError, SignatureKind, Signer};
use crate::request::algorithm_id;
use crate::signed::SHA256_ID;
use crate::stream::{CHUNK, DigestError, Space};
use crate::timestamp::{self, TimestampError, Timestamper};

/// commonName (RFC 4519, section 2.3).
pub const COMMON_NAME: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.5.4.3");
/// signingTime (RFC 5652, section 11.3).
const SIGNING_TIME: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.9.5");
/// The mark of who issues certificates that sign for iOS.
const ISSUER_MARK: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113635.100.6.2.1");

/// What is kept free for the message beside its certificates, as other signers do, and at least.
const ROOM_BESIDE: u64 = 6_000;
const LEAST_ROOM: u64 = 18_000;

/// Who signs.
#[derive(Clone, Copy)]
pub struct CodeSigner<'a> {
    /// The private key.
    pub signer: &'a dyn Signer,
    /// Its certificate, and those above it up to the root.
    pub chain: &'a [Certificate],
    /// The team that the certificate was issued to.
    pub team: &'a str,
    /// Who puts a time to each signature, where that is wanted.
    pub timestamper: Option<&'a dyn Timestamper>,
}

impl CodeSigner<'_> {
    /// Room for the message.
    fn room(&self) -> u64 {
        let certificates: u64 = self.chain.iter().map(|certificate| certificate.der.len() as u64).sum();
        let stamp = if self.timestamper.is_some() { timestamp::ROOM as u64 } else { 0 };
        LEAST_ROOM.max(certificates + ROOM_BESIDE) + stamp
    }
}

/// What one executable is signed as.
#[derive(Debug, Clone, Copy)]
pub struct SignedAs<'a> {
    /// What it is called.
    pub identifier: &'a str,
    /// What it claims; nothing for what is no program.
    pub claims: Option<&'a Claims>,
    /// SHA-256 of the property list of its bundle.
    pub info_plist: Option<[u8; 32]>,
    /// SHA-256 of the seal over the resources of its bundle.
    pub resources: Option<[u8; 32]>,
}

/// Why code is not signed.
#[derive(Debug, Error)]
pub enum CodeFailure {
    /// It cannot be read.
    #[error("the executable cannot be read: {0}")]
    Macho(#[from] MachoError),
    /// A signature has no place in it.
    #[error(transparent)]
    Unsignable(#[from] Unsignable),
    /// It is for simulators alone.
    #[error("it is for a simulator alone ({0})")]
    Simulator(String),
    /// The message is larger than what was kept free for it.
    #[error("the signature has {size} bytes, and {room} were kept free for it")]
    NoRoom {
        /// Its size.
        size: u64,
        /// The room.
        room: u64,
    },
    /// A part of the signature cannot be written.
    #[error("the signature cannot be written: {0}")]
    Encoding(#[from] der::Error),
    /// A property list cannot be written.
    #[error("the signature cannot be written: {0}")]
    List(#[from] ParseError),
    /// A part of the message cannot be written.
    #[error(transparent)]
    Certificate(#[from] CertificateError),
    /// The key could not sign.
    #[error(transparent)]
    Key(#[from] KeyError),
    /// Nobody put a time to the signature.
    #[error(transparent)]
    Timestamp(#[from] TimestampError),
    /// Reading, writing, or the user stopped.
    #[error(transparent)]
    Digest(#[from] DigestError),
}

/// An executable that was signed.
pub struct NewCode {
    /// Its bytes.
    pub bytes: Box<dyn Space>,
    /// The processors of slices that were left out, since they are for simulators.
    pub left_out: Vec<String>,
}

/// One slice on its way.
struct Part {
    at: SliceAt,
    slice: Slice,
    /// Where its signature begins.
    start: u64,
    /// How long that is.
    size: u64,
    /// Its header and load commands.
    head: Vec<u8>,
}

/// Signs every slice of an executable that is for devices.
///
/// # Errors
/// [`CodeFailure`].
pub fn signed_copy(
    source: &dyn Source,
    what: &SignedAs<'_>,
    who: &CodeSigner<'_>,
    env: &Env<'_>,
) -> Result<NewCode, CodeFailure> {
    let Kept { slices: kept, left_out } = slices(source)?;
    let mut parts = Vec::new();
    for (at, slice) in kept {
        parts.push(part(source, at, slice, what, who)?);
    }
    let is_fat = parts.len() > 1;
    let length = |part: &Part| part.start + part.size;
    let (header, starts) = match is_fat {
        false => (Vec::new(), vec![0]),
        true => {
            let new = |part: &Part| NewSlice {
                processor: part.at.said.unwrap_or((part.slice.processor.kind, part.slice.processor.subtype)),
                length: length(part),
                align: part.at.align.unwrap_or(14),
            };
            macho::fat_header(&parts.iter().map(new).collect::<Vec<_>>())
        }
    };
    let total = starts.iter().zip(&parts).map(|(start, part)| start + length(part)).max().unwrap_or(0);
    let bytes = env.scratch.space(total).map_err(DigestError::Write)?;
    bytes.write_at(0, &header).map_err(DigestError::Write)?;
    for (start, part) in starts.iter().zip(&parts) {
        write(source, part, *start, bytes.as_ref(), what, who, env)?;
    }
    Ok(NewCode { bytes, left_out })
}

/// Slices for devices, and the processors of the others.
struct Kept {
    slices: Vec<(SliceAt, Slice)>,
    left_out: Vec<String>,
}

fn slices(source: &dyn Source) -> Result<Kept, CodeFailure> {
    let mut kept = Vec::new();
    let mut left_out = Vec::new();
    for at in macho::slices(source)? {
        let slice = Slice::read(source, &at, &Limits::USUAL)?;
        match slice.is_for_a_simulator() {
            true => left_out.push(slice.processor.to_string()),
            false => kept.push((at, slice)),
        }
    }
    match kept.is_empty() {
        true => Err(CodeFailure::Simulator(left_out.join(", "))),
        false => Ok(Kept { slices: kept, left_out }),
    }
}

/// The blobs of a slice's signature besides directory and message, ascending by slot.
fn blobs(
    slice: &Slice,
    what: &SignedAs<'_>,
    who: &CodeSigner<'_>,
) -> Result<Vec<(u32, Vec<u8>)>, CodeFailure> {
    let own = who.chain.first().map(|own| name_values(&own.subject_der, COMMON_NAME)).transpose()?;
    let name = own.and_then(|names| names.into_iter().next()).unwrap_or_default();
    let mut out = vec![(REQUIREMENTS, write_designated(what.identifier, &name, &ISSUER_MARK))];
    if let Some(claims) = what.claims.filter(|_| slice.is_program()) {
        out.push((ENTITLEMENTS, entitlements_blob(&entitlements::to_xml(claims)?)));
        out.push((ENTITLEMENTS_DER, entitlements_der_blob(&entitlements::to_der(claims)?)));
    }
    Ok(out)
}

fn directory<'a>(
    slice: &Slice,
    start: u64,
    what: &SignedAs<'a>,
    team: &'a str,
    special: &'a [(u32, [u8; 32])],
) -> NewDirectory<'a> {
    let debug = what.claims.is_some_and(|claims| claims.get(DEBUG) == Some(&Entitlement::Flag(true)));
    let program = slice.is_program();
    NewDirectory {
        identifier: what.identifier,
        team,
        limit: start,
        code: slice.code().map(|segment| segment.file.clone()).unwrap_or_default(),
        code_flags: if program { MAIN_PROGRAM } else { 0 }
            | if program && debug { ALLOWS_UNSIGNED } else { 0 },
        special,
    }
}

fn special(what: &SignedAs<'_>, blobs: &[(u32, Vec<u8>)]) -> Vec<(u32, [u8; 32])> {
    let own = blobs.iter().map(|(slot, blob)| (*slot, sha256(blob)));
    let info = what.info_plist.map(|hash| (INFO_PLIST, hash));
    let resources = what.resources.map(|hash| (RESOURCES, hash));
    own.chain(info).chain(resources).collect()
}

fn part(
    source: &dyn Source,
    at: SliceAt,
    slice: Slice,
    what: &SignedAs<'_>,
    who: &CodeSigner<'_>,
) -> Result<Part, CodeFailure> {
    let start = slice.signature_start()?;
    let blobs = blobs(&slice, what, who)?;
    let special = special(what, &blobs);
    let directory = directory(&slice, start, what, who.team, &special);
    let known: u64 = blobs.iter().map(|(_, blob)| blob.len() as u64).sum();
    let size = list_header(blobs.len() + 2) + known + directory.length() + who.room();
    let size = size.next_multiple_of(16);
    // the commands, and the room behind them for one more
    let end = slice.commands.end + 16;
    let from = at.range.start;
    let head = source.bytes(from..(from + end).min(at.range.end), Limits::USUAL.block);
    let head = slice.head_for(&head.map_err(DigestError::Read)?, size)?;
    Ok(Part { at, slice, start, size, head })
}

/// Writes a slice: its head, its code, and the signature over both.
fn write(
    source: &dyn Source,
    part: &Part,
    at: u64,
    out: &dyn Space,
    what: &SignedAs<'_>,
    who: &CodeSigner<'_>,
    env: &Env<'_>,
) -> Result<(), CodeFailure> {
    let Part { slice, start, size, head, .. } = part;
    let from = part.at.range.start;
    // behind the last segment there are zeros up to where the signature begins
    let there = (*start).min(part.at.range.end - from);
    let pages: Result<Vec<Vec<[u8; 32]>>, DigestError> = (0..start.div_ceil(CHUNK))
        .into_par_iter()
        .map(|index| {
            if env.stopped() {
                return Err(DigestError::Stopped);
            }
            let (begin, end) = (index * CHUNK, ((index + 1) * CHUNK).min(*start));
            let mut bytes = vec![0; usize::try_from(end - begin).unwrap_or(0)];
            let read = there.min(end).saturating_sub(begin);
            let (own, _) = bytes.split_at_mut(usize::try_from(read).unwrap_or(0));
            source.read_at(from + begin, own)?;
            overlay(&mut bytes, begin, head);
            out.write_at(at + begin, &bytes).map_err(DigestError::Write)?;
            Ok(bytes.chunks(WRITTEN_PAGE as usize).map(sha256).collect())
        })
        .collect();
    let pages = pages?.concat();
    let mut blobs = blobs(slice, what, who)?;
    let special = special(what, &blobs);
    let directory = directory(slice, *start, what, who.team, &special).write(&pages);
    let message = message_blob(&message(&directory, who, env)?);
    let used: u64 = blobs.iter().map(|(_, blob)| blob.len() as u64).sum();
    let used = used + list_header(blobs.len() + 2) + directory.len() as u64;
    let room = size.saturating_sub(used);
    if message.len() as u64 > room {
        return Err(CodeFailure::NoRoom { size: message.len() as u64, room });
    }
    blobs.insert(0, (MAIN_DIRECTORY, directory));
    blobs.push((MESSAGE, message));
    out.write_at(at + start, &write_list(&blobs)).map_err(DigestError::Write)?;
    Ok(())
}

/// Puts the head over what stands where it belongs.
fn overlay(bytes: &mut [u8], begin: u64, head: &[u8]) {
    let rest = usize::try_from(begin).ok().and_then(|begin| head.get(begin..)).unwrap_or_default();
    for (byte, new) in bytes.iter_mut().zip(rest) {
        *byte = *new;
    }
}

/// The signed message over a directory (formats section 2.4).
fn message(directory: &[u8], who: &CodeSigner<'_>, env: &Env<'_>) -> Result<Vec<u8>, CodeFailure> {
    let hash = digest(&SHA256, directory).as_ref().to_vec();
    let short: Vec<u8> = hash.iter().copied().take(SHORT).collect();
    let named = NamedHash::sha256(&hash)?.to_der()?;
    let list = der::asn1::OctetString::new(write_short_hashes(&[short])?)?.to_der()?;
    let time = at_time(env.now)?.to_der()?;
    let more: [(ObjectIdentifier, &[u8]); 3] =
        [(SIGNING_TIME, &time), (HASHES, &named), (SHORT_HASHES, &list)];
    let attributes = cms::signed_attributes(&hash, &more)?;
    let kind = match who.signer.public().shape() {
        KeyShape::Rsa { .. } => SignatureKind::RsaSha256,
        _ => SignatureKind::EcdsaSha256,
    };
    let algorithm = algorithm_id(kind)?;
    let signature = who.signer.sign(kind, &attributes)?;
    let stamp = |stamper: &dyn Timestamper| Ok::<_, CodeFailure>((TOKEN, stamper.stamp(&signature)?));
    let stamps: Vec<(ObjectIdentifier, Vec<u8>)> =
        who.timestamper.map(stamp).into_iter().collect::<Result<_, _>>()?;
    let own = who.chain.first().ok_or(CodeFailure::Encoding(der::Tag::Sequence.value_error().into()))?;
    let signer = cms::NewSigner {
        issuer: &own.issuer_der,
        serial: &own.serial,
        digest: SHA256_ID,
        algorithm: &algorithm,
        attributes: Some(&attributes),
        signature: &signature,
        unsigned: &stamps,
    };
    // above the signer first, the signer last
    let above = who.chain.iter().skip(1).chain([own]).map(|certificate| certificate.der.as_slice());
    Ok(cms::write(None, &above.collect::<Vec<_>>(), &signer)?)
}
