//! The signature of an executable: a list of blobs, the directories of hashes first among them. Big-endian throughout.
//!
//! ```text
//! list       u32 fade0cc0, u32 length, u32 count, count x (u32 slot, u32 offset), blobs
//! blob       u32 magic, u32 length with these eight bytes, body
//! directory  u32 fade0c02, length, version, flags, hashes at, identifier at, special slots, code slots, limit;
//!            u8 hash size, hash type, platform, log2 of the page; u32 0
//!            from 0x20100 u32 scatter at; 0x20200 u32 team at; 0x20300 u32 0, u64 limit; 0x20400 u64 base, limit and flags
//!            of the code; then strings, special hashes from -n to -1, code hashes from 0
//! ```

use crate::cursor::{Cursor, Fault, ParseError};
use crate::limits::Limits;
use crate::plist;

const LIST: u32 = 0xfade_0cc0;
const DIRECTORY: u32 = 0xfade_0c02;
const ENTITLEMENTS_BLOB: u32 = 0xfade_7171;
const ENTITLEMENTS_DER_BLOB: u32 = 0xfade_7172;
const MESSAGE_BLOB: u32 = 0xfade_0b01;

/// The version of a directory that is written, and the length of what stands in it before its strings.
const WRITTEN_VERSION: u32 = 0x20400;
const WRITTEN_FIXED: u32 = 88;
/// Bytes of a page of a directory that is written, and their log2.
pub const WRITTEN_PAGE: u64 = 1 << WRITTEN_PAGE_LOG;
const WRITTEN_PAGE_LOG: u8 = 12;
/// SHA-256.
const WRITTEN_HASH: u8 = 2;
const WRITTEN_HASH_SIZE: u8 = 32;

/// The slot of the directory that a signature is over.
pub const MAIN_DIRECTORY: u32 = 0;
/// The slot whose hash is over Info.plist.
pub const INFO_PLIST: u32 = 1;
/// The slot whose hash is over the seal of the resources.
pub const RESOURCES: u32 = 3;
/// The slot of requirements.
pub const REQUIREMENTS: u32 = 2;
/// The slot of entitlements, as a property list.
pub const ENTITLEMENTS: u32 = 5;
/// The slot of entitlements, DER.
pub const ENTITLEMENTS_DER: u32 = 7;
/// The slot of the signed message.
pub const MESSAGE: u32 = 0x10000;

/// The first slot of further directories, and the one behind the last.
const MORE_DIRECTORIES: std::ops::Range<u32> = 0x1000..0x1005;

/// The most blobs that one list has.
const MOST_BLOBS: u64 = 64;

/// The code is that of a program, and not of a library.
pub const MAIN_PROGRAM: u64 = 0x1;
/// Code without a signature may be added while it runs: for debuggers.
pub const ALLOWS_UNSIGNED: u64 = 0x10;

/// A signature without a certificate.
pub const AD_HOC: u32 = 0x2;
/// A signature that a linker wrote.
pub const BY_LINKER: u32 = 0x20000;

/// One blob.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Blob<'a> {
    /// What it is there for.
    pub slot: u32,
    /// What it says that it is.
    pub magic: u32,
    /// All of it, header included: what is hashed.
    pub bytes: &'a [u8],
    /// Where it begins.
    pub at: u64,
}

impl<'a> Blob<'a> {
    /// What stands behind its header.
    pub fn body(&self) -> &'a [u8] {
        self.bytes.get(8..).unwrap_or_default()
    }
}

/// A signature, by its blobs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CodeSignature<'a> {
    /// The blobs, ascending by slot.
    pub blobs: Vec<Blob<'a>>,
}

impl<'a> CodeSignature<'a> {
    /// Reads a signature; what stands behind the length that it says is none of it.
    ///
    /// # Errors
    /// [`ParseError`] for another kind of list, blobs that run out of it or overlap, slots that do not ascend.
    pub fn parse(bytes: &'a [u8]) -> Result<Self, ParseError> {
        let mut c = Cursor::new(bytes, 0);
        magic(&mut c, LIST)?;
        let length = c.u32_be("length of the signature")?;
        let whole = usize::try_from(length).ok().and_then(|length| bytes.get(..length));
        let whole =
            whole.ok_or_else(|| c.error("length of the signature", Fault::Value(u64::from(length))))?;
        let count = c.u32_be("blobs")?;
        Limits::check(u64::from(count), MOST_BLOBS, "blobs", &c)?;
        let mut blobs: Vec<Blob<'a>> = Vec::new();
        for _ in 0..count {
            let (slot, offset) = (c.u32_be("slot")?, c.u32_be("blob's start")?);
            if blobs.last().is_some_and(|last| last.slot >= slot) {
                return Err(c.error("slot", Fault::Value(u64::from(slot))));
            }
            blobs.push(blob(whole, slot, offset)?);
        }
        let mut ranges: Vec<(u64, u64)> =
            blobs.iter().map(|blob| (blob.at, blob.at + blob.bytes.len() as u64)).collect();
        ranges.sort_unstable();
        let mut end = c.at();
        for (start, next) in ranges {
            if start < end {
                return Err(ParseError { what: "blob over another", at: start, fault: Fault::Malformed });
            }
            end = next;
        }
        Ok(CodeSignature { blobs })
    }

    /// The blob of a slot.
    pub fn find(&self, slot: u32) -> Option<&Blob<'a>> {
        self.blobs.iter().find(|blob| blob.slot == slot)
    }

    /// The directories: that which is signed, and those with other hashes.
    pub fn directories(&self) -> impl Iterator<Item = &Blob<'a>> {
        self.blobs.iter().filter(|blob| blob.slot == MAIN_DIRECTORY || MORE_DIRECTORIES.contains(&blob.slot))
    }
}

fn blob(whole: &[u8], slot: u32, offset: u32) -> Result<Blob<'_>, ParseError> {
    let at = u64::from(offset);
    let short = |fault| ParseError { what: "blob", at, fault };
    let rest = usize::try_from(offset).ok().and_then(|offset| whole.get(offset..));
    let rest = rest.ok_or_else(|| short(Fault::Short { need: 8, left: 0 }))?;
    let mut c = Cursor::new(rest, at);
    let magic = c.u32_be("blob's kind")?;
    let length = c.u32_be("blob's length")?;
    let bytes =
        usize::try_from(length).ok().filter(|length| *length >= 8).and_then(|length| rest.get(..length));
    let bytes = bytes.ok_or_else(|| short(Fault::Value(u64::from(length))))?;
    Ok(Blob { slot, magic, bytes, at })
}

fn magic(c: &mut Cursor<'_>, wanted: u32) -> Result<(), ParseError> {
    let found = c.u32_be("kind of the signature")?;
    if found == wanted {
        Ok(())
    } else {
        Err(c.error("kind of the signature", Fault::Value(u64::from(found))))
    }
}

/// Reads the property list in which a signature names the directories that it is over: the first 20 bytes of the hash of each,
/// in the order of their slots.
///
/// # Errors
/// [`ParseError`] for anything else.
pub fn short_hashes(bytes: &[u8], limits: &Limits) -> Result<Vec<Vec<u8>>, ParseError> {
    let list = plist::parse(bytes, limits)?;
    let all = list.as_dictionary().and_then(|list| list.get("cdhashes")?.as_array());
    let all = all.and_then(|all| all.iter().map(|one| one.as_data().map(<[u8]>::to_vec)).collect());
    all.ok_or(ParseError { what: "hashes that a signature names", at: 0, fault: Fault::Malformed })
}

/// A directory that is written, but for the hashes of its pages: SHA-256 throughout.
#[derive(Debug, Clone)]
pub struct NewDirectory<'a> {
    /// What the code is called.
    pub identifier: &'a str,
    /// The team that signs it.
    pub team: &'a str,
    /// Up to where the code is hashed.
    pub limit: u64,
    /// Where the segment with the code lies.
    pub code: std::ops::Range<u64>,
    /// What the code may do: [`MAIN_PROGRAM`], [`ALLOWS_UNSIGNED`].
    pub code_flags: u64,
    /// The hashes of the special slots that are there.
    pub special: &'a [(u32, [u8; 32])],
}

impl NewDirectory<'_> {
    /// The highest special slot.
    fn slots(&self) -> u32 {
        self.special.iter().map(|(slot, _)| *slot).max().unwrap_or(0)
    }

    fn hashes_at(&self) -> u32 {
        let strings = self.identifier.len() + self.team.len() + 2;
        WRITTEN_FIXED + strings as u32 + self.slots() * u32::from(WRITTEN_HASH_SIZE)
    }

    /// How many pages its code has.
    pub fn pages(&self) -> u64 {
        self.limit.div_ceil(WRITTEN_PAGE)
    }

    /// How long it will be, in bytes.
    pub fn length(&self) -> u64 {
        u64::from(self.hashes_at()) + self.pages() * u64::from(WRITTEN_HASH_SIZE)
    }

    /// The directory, with the hashes of its pages in order.
    pub fn write(&self, pages: &[[u8; 32]]) -> Vec<u8> {
        let mut out = Vec::new();
        let mut put = |number: u32| out.extend_from_slice(&number.to_be_bytes());
        let length = self.hashes_at() + pages.len() as u32 * u32::from(WRITTEN_HASH_SIZE);
        let team_at = WRITTEN_FIXED + self.identifier.len() as u32 + 1;
        for number in [DIRECTORY, length, WRITTEN_VERSION, 0, self.hashes_at(), WRITTEN_FIXED, self.slots()] {
            put(number);
        }
        put(pages.len() as u32);
        put(u32::try_from(self.limit).unwrap_or(0));
        put(u32::from_be_bytes([WRITTEN_HASH_SIZE, WRITTEN_HASH, 0, WRITTEN_PAGE_LOG]));
        for number in [0, 0, team_at, 0] {
            put(number);
        }
        // the long form of the limit is for code that the short one cannot say
        let long = if self.limit > u64::from(u32::MAX) { self.limit } else { 0 };
        for number in [long, self.code.start, self.code.end - self.code.start, self.code_flags] {
            out.extend_from_slice(&number.to_be_bytes());
        }
        for text in [self.identifier, self.team] {
            out.extend_from_slice(text.as_bytes());
            out.push(0);
        }
        for slot in (1..=self.slots()).rev() {
            let hash = self.special.iter().find(|(own, _)| *own == slot);
            out.extend_from_slice(&hash.map_or([0; 32], |(_, hash)| *hash));
        }
        out.extend(pages.iter().flatten());
        out
    }
}

/// A blob with entitlements, as a property list.
pub fn entitlements_blob(list: &[u8]) -> Vec<u8> {
    with_header(ENTITLEMENTS_BLOB, list)
}

/// A blob with entitlements in DER.
pub fn entitlements_der_blob(der: &[u8]) -> Vec<u8> {
    with_header(ENTITLEMENTS_DER_BLOB, der)
}

/// A blob with the signed message.
pub fn message_blob(message: &[u8]) -> Vec<u8> {
    with_header(MESSAGE_BLOB, message)
}

fn with_header(magic: u32, body: &[u8]) -> Vec<u8> {
    [&magic.to_be_bytes(), &(8 + body.len() as u32).to_be_bytes(), body].concat()
}

/// The bytes of a list before its blobs.
pub fn list_header(blobs: usize) -> u64 {
    12 + 8 * blobs as u64
}

/// A signature out of its blobs, which ascend by slot.
pub fn write_list(blobs: &[(u32, Vec<u8>)]) -> Vec<u8> {
    let header = list_header(blobs.len()) as u32;
    let size = blobs.iter().map(|(_, blob)| blob.len() as u32).sum::<u32>();
    let mut out = Vec::new();
    for number in [LIST, header + size, blobs.len() as u32] {
        out.extend_from_slice(&number.to_be_bytes());
    }
    let mut at = header;
    for (slot, blob) in blobs {
        out.extend_from_slice(&slot.to_be_bytes());
        out.extend_from_slice(&at.to_be_bytes());
        at += blob.len() as u32;
    }
    out.extend(blobs.iter().flat_map(|(_, blob)| blob));
    out
}

/// The property list in which a signature names the directories that it is over.
///
/// # Errors
/// [`ParseError`] when it cannot be written.
pub fn write_short_hashes(hashes: &[Vec<u8>]) -> Result<Vec<u8>, ParseError> {
    let hashes = hashes.iter().cloned().map(plist::Value::Data).collect();
    let mut all = plist::Dictionary::new();
    all.insert("cdhashes".into(), plist::Value::Array(hashes));
    plist::to_xml(&plist::Value::Dictionary(all))
}

/// How a directory hashes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum HashKind {
    /// SHA-1, 20 bytes.
    Sha1,
    /// SHA-256, 32 bytes.
    Sha256,
    /// SHA-256, its first 20 bytes.
    Sha256Short,
    /// SHA-384, 48 bytes.
    Sha384,
}

impl HashKind {
    fn from_number(number: u8) -> Option<Self> {
        Some(match number {
            1 => HashKind::Sha1,
            2 => HashKind::Sha256,
            3 => HashKind::Sha256Short,
            4 => HashKind::Sha384,
            _ => return None,
        })
    }

    /// How long a hash is, in bytes.
    pub fn size(self) -> usize {
        match self {
            HashKind::Sha1 | HashKind::Sha256Short => 20,
            HashKind::Sha256 => 32,
            HashKind::Sha384 => 48,
        }
    }

    /// Its name.
    pub fn word(self) -> &'static str {
        match self {
            HashKind::Sha1 => "SHA-1",
            HashKind::Sha256 => "SHA-256",
            HashKind::Sha256Short => "SHA-256, cut to 20 bytes",
            HashKind::Sha384 => "SHA-384",
        }
    }
}

/// A directory of hashes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CodeDirectory<'a> {
    /// All of it: what is signed.
    pub bytes: &'a [u8],
    /// What it says of the code: [`AD_HOC`], [`BY_LINKER`] and others.
    pub flags: u32,
    /// What the code is called.
    pub identifier: &'a str,
    /// The team that signed it.
    pub team: Option<&'a str>,
    /// How it hashes.
    pub hash: HashKind,
    /// Bytes of a page; nothing where all of the code is one.
    pub page: Option<u64>,
    /// Up to where the code is hashed.
    pub limit: u64,
    special: &'a [u8],
    code: &'a [u8],
}

impl<'a> CodeDirectory<'a> {
    /// Reads a directory.
    ///
    /// # Errors
    /// [`ParseError`] for a kind of hash or a page that is not known, scattered code, strings and hashes that run out, and
    /// another number of hashes than the code has pages.
    pub fn parse(blob: &Blob<'a>) -> Result<Self, ParseError> {
        let mut c = Cursor::new(blob.bytes, blob.at);
        let fixed = Fixed::read(&mut c)?;
        let size = fixed.hash.size() as u64;
        let wanted = fixed.page.map_or(u64::from(fixed.limit > 0), |page| fixed.limit.div_ceil(page));
        let (special, pages) = (u64::from(fixed.special), u64::from(fixed.pages));
        if pages != wanted {
            return Err(c.error("code slots", Fault::Value(pages)));
        }
        let part = |from: Option<u64>, length: u64, what| {
            let from = from.and_then(|from| usize::try_from(from).ok());
            let length = usize::try_from(length).ok();
            let found = from.zip(length).and_then(|(from, length)| blob.bytes.get(from..)?.get(..length));
            found.ok_or_else(|| c.error(what, Fault::Value(u64::from(fixed.hashes_at))))
        };
        let start = u64::from(fixed.hashes_at);
        let text = |at: u32, what| {
            let rest = usize::try_from(at).ok().and_then(|at| blob.bytes.get(at..)).unwrap_or_default();
            let end = rest.iter().position(|byte| *byte == 0);
            let text = end.and_then(|end| std::str::from_utf8(rest.get(..end)?).ok());
            text.ok_or_else(|| c.error(what, Fault::Text))
        };
        Ok(CodeDirectory {
            bytes: blob.bytes,
            flags: fixed.flags,
            identifier: text(fixed.identifier_at, "identifier")?,
            team: if fixed.team_at == 0 { None } else { Some(text(fixed.team_at, "team")?) },
            hash: fixed.hash,
            page: fixed.page,
            limit: fixed.limit,
            special: part(start.checked_sub(special * size), special * size, "special slots")?,
            code: part(Some(start), pages * size, "hashes")?,
        })
    }

    /// The hash of a special slot; nothing where it has none, or zeros in its place.
    pub fn special(&self, slot: u32) -> Option<&'a [u8]> {
        let from_end = usize::try_from(slot).ok()?.checked_mul(self.hash.size())?;
        let start = self.special.len().checked_sub(from_end)?;
        let hash = self.special.get(start..)?.get(..self.hash.size())?;
        (slot > 0 && hash.iter().any(|byte| *byte != 0)).then_some(hash)
    }

    /// The hashes of the code's pages, in order.
    pub fn pages(&self) -> impl Iterator<Item = &'a [u8]> {
        self.code.chunks_exact(self.hash.size())
    }
}

/// The numbers of a directory; which there are depends on its version.
struct Fixed {
    flags: u32,
    hashes_at: u32,
    identifier_at: u32,
    team_at: u32,
    special: u32,
    pages: u32,
    limit: u64,
    hash: HashKind,
    page: Option<u64>,
}

impl Fixed {
    fn read(c: &mut Cursor<'_>) -> Result<Self, ParseError> {
        magic(c, DIRECTORY)?;
        c.u32_be("directory's length")?;
        let version = c.u32_be("directory's version")?;
        let flags = c.u32_be("flags")?;
        let hashes_at = c.u32_be("hashes")?;
        let identifier_at = c.u32_be("identifier")?;
        let (special, pages) = (c.u32_be("special slots")?, c.u32_be("code slots")?);
        let mut limit = u64::from(c.u32_be("limit of the code")?);
        let size = usize::from(c.u8("size of a hash")?);
        let kind = c.u8("kind of hash")?;
        let hash = HashKind::from_number(kind).filter(|hash| hash.size() == size);
        let hash = hash.ok_or_else(|| c.error("kind of hash", Fault::Value(u64::from(kind))))?;
        c.u8("platform")?;
        let log = c.u8("size of a page")?;
        if log != 0 && !(12..=16).contains(&log) {
            return Err(c.error("size of a page", Fault::Value(u64::from(log))));
        }
        c.u32_be("spare")?;
        if version >= 0x20100 && c.u32_be("scatter table")? != 0 {
            return Err(c.error("scatter table", Fault::Malformed));
        }
        let team_at = if version >= 0x20200 { c.u32_be("team")? } else { 0 };
        if version >= 0x20300 {
            c.u32_be("spare")?;
            let long = c.u64_be("limit of the code")?;
            limit = if long > 0 { long } else { limit };
        }
        let page = (log > 0).then(|| 1u64 << log);
        Ok(Fixed { flags, hashes_at, identifier_at, team_at, special, pages, limit, hash, page })
    }
}
