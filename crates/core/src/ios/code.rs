//! Executables of the iOS side: what they were built for, who signed them, and whether the signature holds.
//!
//! What is proved here is what one file can prove: its pages, its own blobs, the message over them. Whether the seal of the
//! resources and Info.plist of its bundle fit is proved where the bundle is.

use std::collections::BTreeMap;

use aws_lc_rs::digest::{Algorithm, SHA1_FOR_LEGACY_USE_ONLY, SHA256, SHA384, digest};
use der::asn1::{ObjectIdentifier, OctetString};
use der::{Decode, Sequence};
use jiff::Timestamp;
use ninekeys_formats::cms::{self, SignedAttributes, SignerInfo};
use ninekeys_formats::code_signature::{
    AD_HOC, BY_LINKER, Blob, CodeDirectory, CodeSignature, ENTITLEMENTS, ENTITLEMENTS_DER, HashKind,
    INFO_PLIST, MAIN_DIRECTORY, MESSAGE, REQUIREMENTS, RESOURCES, short_hashes,
};
use ninekeys_formats::cursor::ParseError;
use ninekeys_formats::entitlements::{self, Entitlement};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::macho::{self, MachoError, Misplaced, Slice, SliceAt};
use ninekeys_formats::requirement::{self, Expression};
use ninekeys_formats::source::{ReadError, Source};
use ninekeys_formats::timestamp::TOKEN;
use ninekeys_formats::x509::Certificate;
use rayon::prelude::*;
use thiserror::Error;

use super::certificate::{self, CODE_SIGNING};
use crate::chain::{Chain, NoRoot};
use crate::env::Env;
use crate::signed::{SHA256_OID, SignerFault, certificate_of, holds};
use crate::stream::{CHUNK, DigestError};
use crate::timestamp::{Stamped, TimestampFault};

/// The hashes of the directories, each with its algorithm.
pub(super) const HASHES: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113635.100.9.2");
/// The first 20 bytes of each, in a property list.
pub(super) const SHORT_HASHES: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113635.100.9.1");

/// How much of a directory's hash names it.
pub(super) const SHORT: usize = 20;

/// One slice of an executable.
#[derive(Debug)]
pub struct Code {
    /// Where it lies in the file.
    pub at: SliceAt,
    /// Its load commands.
    pub slice: Slice,
    /// What of it is not where it has to be.
    pub misplaced: Vec<Misplaced>,
    /// Its signature.
    pub signature: Signature,
}

/// Whether a slice is signed.
#[derive(Debug)]
pub enum Signature {
    /// It is not.
    None,
    /// It says that it is, and that cannot be read.
    Unreadable(ParseError),
    /// It is.
    Found(Box<Signed>),
}

/// Who signed.
#[derive(Debug)]
pub enum SignedBy {
    /// Nobody: a linker wrote hashes and no more.
    Linker,
    /// Nobody: hashes without a certificate.
    AdHoc,
    /// The holder of a certificate; nothing where its message does not say whose.
    Certificate(Option<Box<Signer>>),
}

/// The certificate that signed, and what came with it.
#[derive(Debug)]
pub struct Signer {
    /// The certificate.
    pub certificate: Certificate,
    /// The certificates beside it, which may lead it to a root.
    pub beside: Vec<Certificate>,
    /// When it says that it signed, in seconds since 1970 (UTC).
    pub signed: Option<i64>,
    /// When somebody else says that its signature was there.
    pub stamped: Option<Stamped>,
}

impl Signer {
    /// Its path through what came with it and `pool`.
    ///
    /// # Errors
    /// [`NoRoot`].
    pub fn chain(&self, pool: &[Certificate], now: Timestamp) -> Result<Vec<Certificate>, NoRoot> {
        let pool: Vec<Certificate> = pool.iter().chain(&self.beside).cloned().collect();
        let said = || self.signed.and_then(|signed| Timestamp::from_second(signed).ok());
        let signed = self.stamped.as_ref().map(|stamped| stamped.at).or_else(said);
        Chain::of_signer(&self.certificate, &pool, signed, now)
    }
}

/// A signature, and what is wrong with it.
#[derive(Debug)]
pub struct Signed {
    /// Who signed.
    pub by: SignedBy,
    /// What the code is called.
    pub identifier: String,
    /// The team that the directory names.
    pub team: Option<String>,
    /// The directories of hashes.
    pub directories: Vec<Directory>,
    /// The requirement that names the code; nothing where there is none.
    pub requirement: Option<Expression>,
    /// What it claims; nothing where it claims nothing.
    pub entitlements: Option<BTreeMap<String, Entitlement>>,
    /// The same as its other encoding says it (DER).
    pub entitlements_der: Option<BTreeMap<String, Entitlement>>,
    /// What does not hold.
    pub faults: Vec<CodeFault>,
}

/// A directory of hashes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Directory {
    /// How it hashes.
    pub hash: HashKind,
    /// Bytes of a page; nothing where all of the code is one.
    pub page: Option<u64>,
    /// The first 20 bytes of its own hash: what names this code.
    pub code_hash: Vec<u8>,
    /// How many pages it has hashes of.
    pub pages: usize,
    /// The hash of the property list of its bundle.
    pub info_plist: Option<Vec<u8>>,
    /// The hash of the seal over the resources of its bundle.
    pub resources: Option<Vec<u8>>,
}

impl Directory {
    /// Whether a hash of it is over these bytes, or over nothing where there are none.
    pub fn is_over(&self, hash: Option<&[u8]>, bytes: Option<&[u8]>) -> bool {
        hash == bytes.map(|bytes| hash_of(self.hash, bytes)).as_deref()
    }
}

/// What does not hold of a signature.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum CodeFault {
    /// Pages of the code are others than were signed.
    #[error("{count} of its {pages} pages: not what was signed, from byte {first} on")]
    Pages {
        /// How many.
        count: usize,
        /// Of how many.
        pages: usize,
        /// Where the first of them begins in the slice.
        first: u64,
    },
    /// The hashes end elsewhere than where the signature begins.
    #[error("its hashes end at byte {limit} and its signature begins at byte {start}")]
    Limit {
        /// Where they end.
        limit: u64,
        /// Where it begins.
        start: u64,
    },
    /// A part is another than was signed, or was not signed.
    #[error("its {part} is not what was signed")]
    Part {
        /// Which.
        part: &'static str,
    },
    /// A part that is named in the hashes is not there.
    #[error("its {part} was signed and is gone")]
    Gone {
        /// Which.
        part: &'static str,
    },
    /// Entitlements that cannot be read.
    #[error("its entitlements cannot be read: {0}")]
    Entitlements(ParseError),
    /// Requirements that cannot be read.
    #[error("its requirements cannot be read: {0}")]
    Requirements(ParseError),
    /// Two directories that say different things of one code.
    #[error("its directories do not agree")]
    Directories,
    /// It says that somebody signed it, and no message is there.
    #[error("it says that it is signed with a certificate, and no signature is there")]
    NoMessage,
    /// The message cannot be read.
    #[error("its signature cannot be read: {0}")]
    Message(ParseError),
    /// The message has another number of signers than one.
    #[error("{0} signers signed it, where one does")]
    Signers(usize),
    /// The signer's word does not count.
    #[error("its signature does not hold: {0}")]
    Signer(SignerFault),
    /// The certificate is not for signing code.
    #[error("the certificate that signed it is not for signing code: {0}")]
    NotForCode(String),
    /// The time that somebody put to it does not hold.
    #[error("its timestamp does not hold: {0}")]
    Timestamp(#[source] TimestampFault),
    /// The message speaks of other directories.
    #[error("its signature is over other hashes")]
    OtherHashes,
    /// The certificate is another team's.
    #[error("it names the team {named}, and the certificate that signed it is of team {signer}")]
    OtherTeam {
        /// The directory's team.
        named: String,
        /// The certificate's team.
        signer: String,
    },
}

/// Why a file cannot be looked at.
#[derive(Debug, Error)]
pub enum CodeError {
    /// It is no executable, or one that does not hold together.
    #[error("the executable cannot be read: {0}")]
    Macho(#[from] MachoError),
    /// Reading failed, or the user stopped.
    #[error(transparent)]
    Digest(#[from] DigestError),
}

impl From<ReadError> for CodeError {
    fn from(error: ReadError) -> Self {
        CodeError::Digest(error.into())
    }
}

/// What an executable claims now, by its first slice that claims something; whether that holds is another matter.
pub fn claims_of(source: &dyn Source) -> Option<BTreeMap<String, Entitlement>> {
    let limits = &Limits::USUAL;
    macho::slices(source).ok()?.into_iter().find_map(|at| {
        let range = Slice::read(source, &at, limits).ok()?.signature?;
        let start = at.range.start;
        let bytes = source.bytes(start + range.start..start + range.end, limits.block).ok()?;
        let list = CodeSignature::parse(&bytes).ok()?;
        entitlements::parse(list.find(ENTITLEMENTS)?.body(), limits).ok()
    })
}

/// Where an executable stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Home {
    /// By itself: what is hashed as its property list stands in it.
    Alone,
    /// In a bundle: what is hashed as its property list is a file of that.
    Bundle,
}

/// Looks at every slice of an executable, in file order.
///
/// # Errors
/// [`CodeError`].
pub fn examine(
    source: &dyn Source,
    home: Home,
    limits: &Limits,
    env: &Env<'_>,
) -> Result<Vec<Code>, CodeError> {
    macho::slices(source)?.into_iter().map(|at| code(source, at, home, limits, env)).collect()
}

fn code(
    source: &dyn Source,
    at: SliceAt,
    home: Home,
    limits: &Limits,
    env: &Env<'_>,
) -> Result<Code, CodeError> {
    let slice = Slice::read(source, &at, limits)?;
    let misplaced = slice.misplaced();
    let found = Whole { source, start: at.range.start, slice: &slice, home, limits, env };
    let signature = match slice.signature.clone() {
        None => Signature::None,
        Some(range) => {
            let from = at.range.start;
            let bytes = source.bytes(from + range.start..from + range.end, limits.block)?;
            match found.signature(&bytes, range.start) {
                Ok(signed) => Signature::Found(Box::new(signed)),
                Err(Unread::Parse(error)) => Signature::Unreadable(error),
                Err(Unread::Digest(error)) => return Err(error.into()),
            }
        }
    };
    Ok(Code { at, slice, misplaced, signature })
}

enum Unread {
    Parse(ParseError),
    Digest(DigestError),
}

impl From<ParseError> for Unread {
    fn from(error: ParseError) -> Self {
        Unread::Parse(error)
    }
}

impl From<DigestError> for Unread {
    fn from(error: DigestError) -> Self {
        Unread::Digest(error)
    }
}

/// A slice with the file that it is in.
struct Whole<'a> {
    source: &'a dyn Source,
    start: u64,
    slice: &'a Slice,
    home: Home,
    limits: &'a Limits,
    env: &'a Env<'a>,
}

impl Whole<'_> {
    fn signature(&self, bytes: &[u8], start: u64) -> Result<Signed, Unread> {
        let list = CodeSignature::parse(bytes)?;
        let directories =
            list.directories().map(CodeDirectory::parse).collect::<Result<Vec<_>, ParseError>>()?;
        let main = list.find(MAIN_DIRECTORY).map(CodeDirectory::parse).transpose()?;
        let main = main.ok_or_else(|| missing("directory of hashes"))?;
        let mut faults = Vec::new();
        for directory in &directories {
            let said = |one: &CodeDirectory<'_>| {
                (one.identifier.to_owned(), one.team.map(str::to_owned), one.flags, one.limit)
            };
            if said(directory) != said(&main) {
                faults.push(CodeFault::Directories);
            }
            if directory.limit != start {
                faults.push(CodeFault::Limit { limit: directory.limit, start });
            } else {
                faults.extend(self.pages(directory)?);
            }
            faults.extend(self.parts(&list, directory)?);
        }
        let entitlements = list.find(ENTITLEMENTS).and_then(|blob| {
            let read = entitlements::parse(blob.body(), self.limits);
            read.map_err(|error| faults.push(CodeFault::Entitlements(error))).ok()
        });
        let entitlements_der = list.find(ENTITLEMENTS_DER).and_then(|blob| {
            let read = entitlements::parse_der(blob.body(), self.limits);
            read.map_err(|error| faults.push(CodeFault::Entitlements(error))).ok()
        });
        let requirement = list.find(REQUIREMENTS).and_then(|blob| {
            let read = requirement::designated(blob.bytes, self.limits);
            read.unwrap_or_else(|error| {
                faults.push(CodeFault::Requirements(error));
                None
            })
        });
        let by = self.by(&list, &main, &directories, &mut faults);
        faults.dedup();
        Ok(Signed {
            by,
            identifier: main.identifier.into(),
            team: main.team.map(str::to_owned),
            directories: directories.iter().map(described).collect(),
            requirement,
            entitlements,
            entitlements_der,
            faults,
        })
    }

    /// Hashes the pages of the code, some at a time on all cores, and compares them.
    fn pages(&self, directory: &CodeDirectory<'_>) -> Result<Option<CodeFault>, DigestError> {
        let wanted: Vec<&[u8]> = directory.pages().collect();
        let Some(page) = directory.page else { return self.one_page(directory, &wanted) };
        let at_a_time = usize::try_from(CHUNK / page).unwrap_or(1).max(1);
        let wrong: Result<Vec<Vec<u64>>, DigestError> = wanted
            .par_chunks(at_a_time)
            .enumerate()
            .map(|(index, hashes)| {
                if self.env.stopped() {
                    return Err(DigestError::Stopped);
                }
                let from = (index * at_a_time) as u64 * page;
                let end = (from + hashes.len() as u64 * page).min(directory.limit);
                let bytes = self.source.bytes(self.start + from..self.start + end, CHUNK.max(page))?;
                let size = usize::try_from(page).unwrap_or(usize::MAX);
                let pages = bytes.chunks(size).zip(hashes).zip(0u64..);
                let differs = pages.filter(|((bytes, hash), _)| hash_of(directory.hash, bytes) != **hash);
                Ok(differs.map(|(_, number)| from + number * page).collect())
            })
            .collect();
        let wrong: Vec<u64> = wrong?.into_iter().flatten().collect();
        Ok(wrong.first().map(|first| CodeFault::Pages {
            count: wrong.len(),
            pages: wanted.len(),
            first: *first,
        }))
    }

    /// The same where all of the code is one page.
    fn one_page(
        &self,
        directory: &CodeDirectory<'_>,
        wanted: &[&[u8]],
    ) -> Result<Option<CodeFault>, DigestError> {
        let mut context = aws_lc_rs::digest::Context::new(algorithm(directory.hash));
        let mut at = 0;
        while at < directory.limit {
            if self.env.stopped() {
                return Err(DigestError::Stopped);
            }
            let end = (at + CHUNK).min(directory.limit);
            context.update(&self.source.bytes(self.start + at..self.start + end, CHUNK)?);
            at = end;
        }
        let found = context.finish();
        let holds =
            wanted.first().is_none_or(|hash: &&[u8]| found.as_ref().get(..<[u8]>::len(hash)) == Some(*hash));
        Ok((!holds).then_some(CodeFault::Pages { count: 1, pages: 1, first: 0 }))
    }

    /// Compares the blobs beside a directory with the hashes in it.
    fn parts(
        &self,
        list: &CodeSignature<'_>,
        directory: &CodeDirectory<'_>,
    ) -> Result<Vec<CodeFault>, DigestError> {
        let mut faults = Vec::new();
        let named = [
            (REQUIREMENTS, "requirements"),
            (ENTITLEMENTS, "entitlements"),
            (ENTITLEMENTS_DER, "entitlements in DER"),
        ];
        for (slot, part) in named {
            let blob = list.find(slot).map(|blob| hash_of(directory.hash, blob.bytes));
            match (blob, directory.special(slot)) {
                (Some(found), Some(wanted)) if found == wanted => {}
                (None, None) => {}
                (None, Some(_)) => faults.push(CodeFault::Gone { part }),
                (Some(_), _) => faults.push(CodeFault::Part { part }),
            }
        }
        // a lone executable carries the property list that is hashed for it
        if let (Home::Alone, Some(range), Some(wanted)) =
            (self.home, &self.slice.info_plist, directory.special(INFO_PLIST))
        {
            let bytes =
                self.source.bytes(self.start + range.start..self.start + range.end, self.limits.inflated)?;
            if hash_of(directory.hash, &bytes) != wanted {
                faults.push(CodeFault::Part { part: "property list" });
            }
        }
        Ok(faults)
    }

    fn by(
        &self,
        list: &CodeSignature<'_>,
        main: &CodeDirectory<'_>,
        directories: &[CodeDirectory<'_>],
        faults: &mut Vec<CodeFault>,
    ) -> SignedBy {
        if main.flags & AD_HOC != 0 {
            return if main.flags & BY_LINKER != 0 { SignedBy::Linker } else { SignedBy::AdHoc };
        }
        let message = list.find(MESSAGE).map(Blob::body).filter(|body| !body.is_empty());
        let Some(message) = message else {
            faults.push(CodeFault::NoMessage);
            return SignedBy::Certificate(None);
        };
        match self.signer(message, main, directories) {
            Ok((signer, wrong)) => {
                faults.extend(wrong);
                SignedBy::Certificate(Some(Box::new(signer)))
            }
            Err(fault) => {
                faults.push(fault);
                SignedBy::Certificate(None)
            }
        }
    }

    /// The certificate that signed, and what is wrong with its word.
    fn signer(
        &self,
        message: &[u8],
        main: &CodeDirectory<'_>,
        directories: &[CodeDirectory<'_>],
    ) -> Result<(Signer, Vec<CodeFault>), CodeFault> {
        let signed = cms::parse(message, self.limits).map_err(CodeFault::Message)?;
        let [signer] = signed.signers.as_slice() else {
            return Err(CodeFault::Signers(signed.signers.len()));
        };
        let certificate = certificate_of(signer, &signed, self.limits).map_err(CodeFault::Signer)?;
        let mut faults = Vec::new();
        // the message is apart from what it is over
        match signed.content {
            Some(_) => faults.push(CodeFault::OtherHashes),
            None => faults.extend(holds(signer, &certificate, main.bytes).err().map(CodeFault::Signer)),
        }
        if signer.attributes.as_ref().is_some_and(|all| !speak_of(all, directories, self.limits)) {
            faults.push(CodeFault::OtherHashes);
        }
        if !certificate.extensions.purposes().is_ok_and(|purposes| purposes.contains(&CODE_SIGNING)) {
            faults.push(CodeFault::NotForCode(certificate.subject.clone()));
        }
        let team = certificate::read(&certificate).ok().and_then(|says| says.team);
        if let (Some(named), Some(team)) = (main.team, team)
            && named != team
        {
            faults.push(CodeFault::OtherTeam { named: named.into(), signer: team });
        }
        let beside = signed.certificates.iter().filter_map(|der| Certificate::parse(der, self.limits).ok());
        let at = signer.attributes.as_ref().and_then(SignedAttributes::signing_time);
        let (stamped, wrong) = match stamp(signer, self.limits) {
            Some(Ok(stamped)) => (Some(stamped), None),
            Some(Err(fault)) => (None, Some(CodeFault::Timestamp(fault))),
            None => (None, None),
        };
        faults.extend(wrong);
        Ok((Signer { certificate, beside: beside.collect(), signed: at, stamped }, faults))
    }
}

/// The time that somebody else put to a signature.
fn stamp(signer: &SignerInfo, limits: &Limits) -> Option<Result<Stamped, TimestampFault>> {
    let (_, values) = signer.unsigned.iter().find(|(kind, _)| *kind == TOKEN)?;
    Some(match values.as_slice() {
        [token] => Stamped::read(token, &signer.signature, None, limits),
        others => Err(TimestampFault::Signers(others.len())),
    })
}

fn missing(what: &'static str) -> ParseError {
    ParseError { what, at: 0, fault: ninekeys_formats::cursor::Fault::Malformed }
}

/// A hash with its algorithm, as the signed attribute has it.
#[derive(Sequence)]
pub(super) struct NamedHash {
    algorithm: ObjectIdentifier,
    hash: OctetString,
}

impl NamedHash {
    pub(super) fn sha256(hash: &[u8]) -> der::Result<Self> {
        Ok(NamedHash { algorithm: SHA256_OID, hash: OctetString::new(hash)? })
    }
}

/// Whether the attributes that name the directories name these, where there are any.
fn speak_of(attributes: &SignedAttributes, directories: &[CodeDirectory<'_>], limits: &Limits) -> bool {
    let values = |kind| attributes.all.iter().find(|(known, _)| *known == kind).map(|(_, values)| values);
    let whole: Vec<Vec<u8>> = directories.iter().map(|one| full_hash(one.hash, one.bytes)).collect();
    let named = values(HASHES).is_none_or(|values| {
        let hashes = values.iter().map(|der| NamedHash::from_der(der).map(|one| one.hash.into_bytes()));
        let Ok(mut hashes) = hashes.collect::<Result<Vec<_>, _>>() else { return false };
        let mut wanted: Vec<Vec<u8>> = whole.clone();
        hashes.sort();
        wanted.sort();
        hashes.iter().map(AsRef::as_ref).eq(wanted.iter().map(Vec::as_slice))
    });
    let listed = values(SHORT_HASHES).is_none_or(|values| {
        let [value] = values.as_slice() else { return false };
        let list = OctetString::from_der(value).ok();
        let hashes = list.and_then(|list| short_hashes(list.as_bytes(), limits).ok());
        let wanted: Vec<Vec<u8>> =
            whole.iter().map(|hash| hash.iter().copied().take(SHORT).collect()).collect();
        hashes == Some(wanted)
    });
    named && listed
}

fn described(directory: &CodeDirectory<'_>) -> Directory {
    let mut code_hash = full_hash(directory.hash, directory.bytes);
    code_hash.truncate(SHORT);
    let special = |slot| directory.special(slot).map(<[u8]>::to_vec);
    Directory {
        hash: directory.hash,
        page: directory.page,
        code_hash,
        pages: directory.pages().count(),
        info_plist: special(INFO_PLIST),
        resources: special(RESOURCES),
    }
}

fn algorithm(hash: HashKind) -> &'static Algorithm {
    match hash {
        HashKind::Sha1 => &SHA1_FOR_LEGACY_USE_ONLY,
        HashKind::Sha256 | HashKind::Sha256Short => &SHA256,
        HashKind::Sha384 => &SHA384,
    }
}

fn full_hash(hash: HashKind, bytes: &[u8]) -> Vec<u8> {
    digest(algorithm(hash), bytes).as_ref().to_vec()
}

/// A hash as long as the directory has them.
fn hash_of(hash: HashKind, bytes: &[u8]) -> Vec<u8> {
    let mut all = full_hash(hash, bytes);
    all.truncate(hash.size());
    all
}
