//! Mach-O: what is read of an executable to check or to sign it, thin or fat. Little-endian, but for the fat header.
//!
//! ```text
//! fat     u32 cafebabe or cafebabf, u32 count, then per slice
//!         i32 cpu, i32 subtype, u32 offset, u32 size, u32 log2 of the alignment    (cafebabf: offset and size u64, u32 0)
//! slice   u32 feedfacf or feedface, cpu, subtype, kind, commands, their bytes, flags, (64 bits: u32 0)
//! command u32 which, u32 size with these eight bytes, body
//! ```
//! Offsets inside a slice count from its start.

use std::collections::BTreeSet;
use std::fmt;
use std::ops::Range;

use thiserror::Error;

use crate::cursor::{Cursor, Fault, ParseError};
use crate::limits::Limits;
use crate::source::{ReadError, Source};

const FAT: u32 = 0xcafe_babe;
const FAT_64: u32 = 0xcafe_babf;
const WIDE: u32 = 0xfeed_facf;
const NARROW: u32 = 0xfeed_face;

/// Files of another kind begin with the bytes of a fat one, and say a large number where that one says how many slices it has.
const MOST_SLICES: u32 = 30;

/// The load commands that count here.
const SEGMENT: u32 = 0x1;
const SEGMENT_64: u32 = 0x19;
const SIGNATURE: u32 = 0x1d;
const ENCRYPTION: u32 = 0x21;
const MIN_IOS: u32 = 0x25;
const ENCRYPTION_64: u32 = 0x2c;
const BUILD_VERSION: u32 = 0x32;

/// The bytes of the command that says where the signature is.
const SIGNATURE_COMMAND: u64 = 16;

/// What a program is among the kinds of slices.
const PROGRAM: u32 = 2;

/// The platforms that are simulators.
const SIMULATORS: [u32; 4] = [7, 8, 9, 12];

/// Sections of these kinds take no bytes of the file.
const ZERO_FILLED: [u32; 3] = [0x1, 0xc, 0x12];

/// Why a file cannot be read as one.
#[derive(Debug, Error)]
pub enum MachoError {
    /// A field is not what it can be.
    #[error(transparent)]
    Parse(#[from] ParseError),
    /// The system could not read the file.
    #[error(transparent)]
    Read(#[from] ReadError),
}

/// Whether a file begins like one: its first eight bytes are enough.
pub fn recognise(head: &[u8]) -> bool {
    let mut c = Cursor::new(head, 0);
    match c.u32("magic") {
        Ok(WIDE | NARROW) => true,
        Ok(magic) if [FAT, FAT_64].contains(&magic.swap_bytes()) => {
            c.u32_be("slices").is_ok_and(|count| count < MOST_SLICES)
        }
        _ => false,
    }
}

/// The processor that a slice is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Processor {
    /// Its kind.
    pub kind: u32,
    /// Which of its kind, without the bits for capabilities.
    pub subtype: u32,
}

impl Processor {
    fn new(kind: u32, subtype: u32) -> Self {
        Processor { kind, subtype: subtype & 0x00ff_ffff }
    }
}

impl Processor {
    /// Whether no phone has one.
    fn is_of_a_desktop(self) -> bool {
        matches!(self.kind, 0x07 | 0x0100_0007)
    }
}

impl fmt::Display for Processor {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match (self.kind, self.subtype) {
            (0x0100_000c, 2) => f.write_str("arm64e"),
            (0x0100_000c, _) => f.write_str("arm64"),
            (0x0200_000c, _) => f.write_str("arm64_32"),
            (0x0c, 9) => f.write_str("armv7"),
            (0x0c, 11) => f.write_str("armv7s"),
            (0x0c, 12) => f.write_str("armv7k"),
            (0x0c, _) => f.write_str("arm"),
            (0x0100_0007, _) => f.write_str("x86_64"),
            (0x07, _) => f.write_str("i386"),
            (kind, subtype) => write!(f, "{kind:#x}/{subtype}"),
        }
    }
}

/// Where a slice lies in its file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SliceAt {
    /// Its bytes.
    pub range: Range<u64>,
    /// Log2 of what its start is a multiple of; nothing in a file that is one slice alone.
    pub align: Option<u32>,
    /// What the fat header says that it is for, with the bits for capabilities.
    pub said: Option<(u32, u32)>,
    /// What the fat header says that it is for.
    pub processor: Option<Processor>,
}

/// Tells the slices of a file, in file order.
///
/// # Errors
/// [`MachoError`] for another kind of file, slices that run out of it, overlap each other or the header, or are for the same
/// processor twice.
pub fn slices(source: &dyn Source) -> Result<Vec<SliceAt>, MachoError> {
    let head = source.bytes(0..source.len().min(8), 8)?;
    let mut c = Cursor::new(&head, 0);
    let magic = c.u32("magic")?;
    let wide = match magic.swap_bytes() {
        FAT => false,
        FAT_64 => true,
        _ if [WIDE, NARROW].contains(&magic) => {
            return Ok(vec![SliceAt { range: 0..source.len(), align: None, said: None, processor: None }]);
        }
        _ => return Err(ParseError { what: "magic", at: 0, fault: Fault::Value(u64::from(magic)) }.into()),
    };
    let count = c.u32_be("slices")?;
    let least = |what| ParseError { what, at: 4, fault: Fault::Value(u64::from(count)) };
    if count == 0 || count >= MOST_SLICES {
        return Err(least("slices").into());
    }
    let length = u64::from(count) * if wide { 32 } else { 20 };
    let table = source.bytes(8..8 + length, length)?;
    let mut c = Cursor::new(&table, 8);
    let mut all = Vec::new();
    for _ in 0..count {
        all.push(slice_at(&mut c, wide, source.len())?);
    }
    apart(&all, 8 + length)?;
    Ok(all)
}

fn slice_at(c: &mut Cursor<'_>, wide: bool, length: u64) -> Result<SliceAt, ParseError> {
    let said = (c.u32_be("processor")?, c.u32_be("processor")?);
    let processor = Processor::new(said.0, said.1);
    let at = c.at();
    let (start, size) = match wide {
        true => (c.u64_be("slice's start")?, c.u64_be("slice's size")?),
        false => (u64::from(c.u32_be("slice's start")?), u64::from(c.u32_be("slice's size")?)),
    };
    let align = c.u32_be("slice's alignment")?;
    if wide {
        c.u32_be("reserved")?;
    }
    let wrong = |what, said| ParseError { what, at, fault: Fault::Value(said) };
    let end = start.checked_add(size).filter(|end| *end <= length).ok_or(wrong("slice's size", size))?;
    if align > 24 || start % (1 << align) != 0 {
        return Err(wrong("slice's start", start));
    }
    Ok(SliceAt { range: start..end, align: Some(align), said: Some(said), processor: Some(processor) })
}

fn apart(slices: &[SliceAt], header: u64) -> Result<(), ParseError> {
    let mut ranges: Vec<&Range<u64>> = slices.iter().map(|slice| &slice.range).collect();
    ranges.sort_by_key(|range| range.start);
    let mut end = header;
    for range in ranges {
        if range.start < end {
            let fault = Fault::Value(range.start);
            return Err(ParseError { what: "slice over another", at: 8, fault });
        }
        end = range.end;
    }
    let processors: BTreeSet<_> = slices.iter().map(|slice| slice.processor).collect();
    match processors.len() == slices.len() {
        true => Ok(()),
        false => Err(ParseError { what: "two slices of one processor", at: 8, fault: Fault::Malformed }),
    }
}

/// A version as a load command packs it: 16, 8 and 8 bits.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct PackedVersion(pub u32);

impl fmt::Display for PackedVersion {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (major, minor, patch) = (self.0 >> 16, self.0 >> 8 & 0xff, self.0 & 0xff);
        write!(f, "{major}.{minor}")?;
        if patch > 0 { write!(f, ".{patch}") } else { Ok(()) }
    }
}

/// What a slice was built for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct BuiltFor {
    /// The platform's number: 2 is iOS, 7 its simulator.
    pub platform: u32,
    /// The lowest version that it runs on.
    pub lowest: PackedVersion,
    /// The version of the libraries that it was built with.
    pub sdk: PackedVersion,
}

/// A segment, by its bytes of the file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Segment {
    /// Its name.
    pub name: String,
    /// Its bytes.
    pub file: Range<u64>,
    /// Where the command that describes it begins.
    at: u64,
}

/// A slice, by its load commands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Slice {
    /// How long it is.
    pub length: u64,
    /// What it is for.
    pub processor: Processor,
    /// Whether it has 64 bits.
    pub wide: bool,
    /// What it is: 2 executable, 6 library, 8 bundle.
    pub kind: u32,
    /// Its load commands.
    pub commands: Range<u64>,
    /// How many they are.
    count: u32,
    /// Its segments, in the order of their commands.
    pub segments: Vec<Segment>,
    /// Where its signature is, by the command that says so.
    pub signature: Option<Range<u64>>,
    /// Where that command begins.
    signature_command: u64,
    /// What it was built for.
    pub built_for: Option<BuiltFor>,
    /// Whether the store encrypted its code.
    pub encrypted: bool,
    /// Where the first section lies that has bytes of the file: so far the commands can grow.
    pub content_at: Option<u64>,
    /// The property list that a lone executable carries.
    pub info_plist: Option<Range<u64>>,
}

impl Slice {
    /// Reads the load commands of the slice that lies there.
    ///
    /// # Errors
    /// [`MachoError`] for another kind of file, commands that run out, are twice where one can be, or name bytes that the slice
    /// does not have.
    pub fn read(source: &dyn Source, at: &SliceAt, limits: &Limits) -> Result<Slice, MachoError> {
        let length = at.range.end.saturating_sub(at.range.start);
        let head = source.bytes(at.range.start..at.range.start + length.min(32), 32)?;
        let mut c = Cursor::new(&head, 0);
        let magic = c.u32("magic")?;
        let wide = match magic {
            WIDE => true,
            NARROW => false,
            other => {
                let fault = Fault::Value(u64::from(other));
                return Err(ParseError { what: "magic of a slice", at: 0, fault }.into());
            }
        };
        let processor = Processor::new(c.u32("processor")?, c.u32("processor")?);
        if at.processor.is_some_and(|said| said != processor) {
            return Err(c.error("another processor than the fat header says", Fault::Malformed).into());
        }
        let kind = c.u32("kind")?;
        let count = c.u32("load commands")?;
        let size = c.u32("size of the load commands")?;
        Limits::check(u64::from(count), limits.items, "load commands", &c)?;
        Limits::check(u64::from(size), limits.block, "size of the load commands", &c)?;
        let start = if wide { 32 } else { 28 };
        let commands = start..start + u64::from(size);
        if commands.end > length {
            return Err(c.error("size of the load commands", Fault::Value(u64::from(size))).into());
        }
        let from = at.range.start;
        let bytes = source.bytes(from + commands.start..from + commands.end, limits.block)?;
        let (segments, signature, built_for, encrypted) = Default::default();
        let (content_at, info_plist) = (None, None);
        let mut slice = Slice {
            length,
            processor,
            wide,
            kind,
            segments,
            signature,
            signature_command: 0,
            built_for,
            encrypted,
            content_at,
            info_plist,
            commands,
            count,
        };
        let mut c = Cursor::new(&bytes, start);
        for _ in 0..count {
            slice.command(&mut c)?;
        }
        c.finish("load commands")?;
        Ok(slice)
    }

    fn command(&mut self, c: &mut Cursor<'_>) -> Result<(), ParseError> {
        let at = c.at();
        let which = c.u32("load command")?;
        let size = c.u32("load command's size")?;
        let step = if self.wide { 8 } else { 4 };
        if size < 8 || size % step != 0 {
            return Err(c.error("load command's size", Fault::Value(u64::from(size))));
        }
        let mut body = c.sub(u64::from(size) - 8, "load command")?;
        match which {
            SEGMENT_64 | SEGMENT => self.segment(&mut body, at, which == SEGMENT_64),
            SIGNATURE => {
                let (start, size) = (body.u32("signature's start")?, body.u32("signature's size")?);
                let range = self.inside(&body, "signature's size", u64::from(start), u64::from(size))?;
                self.signature_command = at;
                once(&mut self.signature, range, &body, "a second signature")
            }
            BUILD_VERSION => {
                let platform = body.u32("platform")?;
                self.built(&mut body, platform)
            }
            MIN_IOS => self.built(&mut body, 2),
            ENCRYPTION | ENCRYPTION_64 => {
                body.take(8, "encrypted part")?;
                self.encrypted |= body.u32("encryption")? != 0;
                Ok(())
            }
            _ => Ok(()),
        }
    }

    fn built(&mut self, body: &mut Cursor<'_>, platform: u32) -> Result<(), ParseError> {
        let lowest = PackedVersion(body.u32("lowest version")?);
        let sdk = PackedVersion(body.u32("version built with")?);
        // one slice may say that it is for two platforms; iOS is what counts here
        let said = BuiltFor { platform, lowest, sdk };
        if self.built_for.is_none() || platform == 2 {
            self.built_for = Some(said);
        }
        Ok(())
    }

    fn segment(&mut self, body: &mut Cursor<'_>, at: u64, wide: bool) -> Result<(), ParseError> {
        let number = |c: &mut Cursor<'_>, what| match wide {
            true => c.u64(what),
            false => c.u32(what).map(u64::from),
        };
        let name = fixed_name(body.take(16, "segment's name")?);
        number(body, "segment's address")?;
        number(body, "segment's addresses")?;
        let start = number(body, "segment's start")?;
        let size = number(body, "segment's size")?;
        let file = self.inside(body, "segment's size", start, size)?;
        body.take(8, "segment's protection")?;
        let sections = body.u32("sections")?;
        body.u32("segment's flags")?;
        for _ in 0..sections {
            let mut section = body.sub(if wide { 80 } else { 68 }, "section")?;
            let own = fixed_name(section.take(16, "section's name")?);
            section.take(16, "section's segment")?;
            number(&mut section, "section's address")?;
            let size = number(&mut section, "section's size")?;
            let start = u64::from(section.u32("section's start")?);
            section.take(12, "section's alignment and relocations")?;
            let flags = section.u32("section's flags")?;
            if ZERO_FILLED.contains(&(flags & 0xff)) || size == 0 {
                continue;
            }
            let range = self.inside(&section, "section's size", start, size)?;
            self.content_at = Some(self.content_at.map_or(start, |known| known.min(start)));
            if (name.as_str(), own.as_str()) == ("__TEXT", "__info_plist") {
                once(&mut self.info_plist, range, &section, "a second property list")?;
            }
        }
        body.clone().finish("segment")?;
        self.segments.push(Segment { name, file, at });
        Ok(())
    }

    /// The range, where the slice has it.
    fn inside(
        &self,
        c: &Cursor<'_>,
        what: &'static str,
        start: u64,
        size: u64,
    ) -> Result<Range<u64>, ParseError> {
        let end = start.checked_add(size).filter(|end| *end <= self.length);
        end.map(|end| start..end).ok_or_else(|| c.error(what, Fault::Value(size)))
    }

    /// Whether it runs in a simulator, or on a desktop, and on no device.
    pub fn is_for_a_simulator(&self) -> bool {
        let built = self.built_for.map(|built| built.platform);
        built.is_some_and(|platform| SIMULATORS.contains(&platform)) || self.processor.is_of_a_desktop()
    }

    /// How many bytes its load commands could grow by.
    pub fn room(&self) -> u64 {
        self.content_at.map_or(0, |at| at.saturating_sub(self.commands.end))
    }

    /// Whether it is a program, and no library.
    pub fn is_program(&self) -> bool {
        self.kind == PROGRAM
    }

    /// The segment with its code.
    pub fn code(&self) -> Option<&Segment> {
        self.segments.iter().find(|segment| segment.name == "__TEXT")
    }

    /// Where a new signature begins: at the old one, else behind its last segment.
    ///
    /// # Errors
    /// [`Unsignable`] when a signature has no place in it.
    pub fn signature_start(&self) -> Result<u64, Unsignable> {
        if self.encrypted {
            return Err(Unsignable::Encrypted);
        }
        if let Some(misplaced) = self.misplaced().first() {
            return Err(Unsignable::Misplaced(*misplaced));
        }
        if let Some(signature) = &self.signature {
            return Ok(signature.start);
        }
        if self.room() < SIGNATURE_COMMAND {
            return Err(Unsignable::NoRoom { room: self.room() });
        }
        let linked = self.segments.iter().map(|segment| segment.file.end).max().unwrap_or(0);
        match linked == self.length {
            true => Ok(linked.next_multiple_of(16)),
            false => Err(Unsignable::Behind(self.length.saturating_sub(linked))),
        }
    }

    /// The header and load commands for a signature of `size` bytes, and that many bytes behind them as are taken by a command
    /// which was not there. `head` is how the slice begins, up to where its commands can grow.
    ///
    /// # Errors
    /// [`Unsignable`] when a signature has no place in it.
    pub fn head_for(&self, head: &[u8], size: u64) -> Result<Vec<u8>, Unsignable> {
        let start = self.signature_start()?;
        let end = start.checked_add(size).filter(|end| *end <= u64::from(u32::MAX));
        let end = end.ok_or(Unsignable::TooLarge)?;
        let mut out = head.to_vec();
        let command = match self.signature {
            Some(_) => self.signature_command,
            None => self.add_command(&mut out)?,
        };
        put(&mut out, command, &SIGNATURE.to_le_bytes())?;
        put(&mut out, command + 4, &(SIGNATURE_COMMAND as u32).to_le_bytes())?;
        put(&mut out, command + 8, &(start as u32).to_le_bytes())?;
        put(&mut out, command + 12, &(size as u32).to_le_bytes())?;
        let last = self.segments.iter().max_by_key(|segment| segment.file.end);
        let last = last.ok_or(Unsignable::Misplaced(Misplaced::LastSegment))?;
        let length = end - last.file.start;
        let mapped = length.next_multiple_of(0x4000);
        match self.wide {
            true => {
                put(&mut out, last.at + 32, &mapped.to_le_bytes())?;
                put(&mut out, last.at + 48, &length.to_le_bytes())?;
            }
            false => {
                put(&mut out, last.at + 28, &(mapped as u32).to_le_bytes())?;
                put(&mut out, last.at + 36, &(length as u32).to_le_bytes())?;
            }
        }
        Ok(out)
    }

    /// Makes room for the command behind the others, which has to be zeros.
    fn add_command(&self, head: &mut [u8]) -> Result<u64, Unsignable> {
        let at = self.commands.end;
        let room = usize::try_from(at).ok().and_then(|at| head.get(at..)?.get(..SIGNATURE_COMMAND as usize));
        if room.is_none_or(|room| room.iter().any(|byte| *byte != 0)) {
            return Err(Unsignable::NoRoom { room: 0 });
        }
        let size = at + SIGNATURE_COMMAND - if self.wide { 32 } else { 28 };
        put(head, 16, &(self.count + 1).to_le_bytes())?;
        put(head, 20, &(size as u32).to_le_bytes())?;
        Ok(at)
    }

    /// What of its segments and its signature is not where the system wants it.
    pub fn misplaced(&self) -> Vec<Misplaced> {
        let mut out = Vec::new();
        let last = self.segments.iter().max_by_key(|segment| segment.file.end);
        if last.is_none_or(|segment| segment.name != "__LINKEDIT") {
            out.push(Misplaced::LastSegment);
        }
        let mut files: Vec<&Range<u64>> =
            self.segments.iter().map(|s| &s.file).filter(|file| !file.is_empty()).collect();
        files.sort_by_key(|file| file.start);
        if files.windows(2).any(|pair| matches!(pair, [one, next] if next.start < one.end)) {
            out.push(Misplaced::SegmentsOverlap);
        }
        let Some(signature) = &self.signature else { return out };
        if signature.start % 16 != 0 {
            out.push(Misplaced::SignatureStart);
        }
        let linked = last.map_or(0, |segment| segment.file.end);
        if signature.end != self.length || signature.end != linked {
            out.push(Misplaced::SignatureEnd);
        }
        if signature.start < self.commands.end {
            out.push(Misplaced::SignatureStart);
        }
        out
    }
}

fn put(head: &mut [u8], at: u64, bytes: &[u8]) -> Result<(), Unsignable> {
    let place = usize::try_from(at).ok().and_then(|at| head.get_mut(at..)?.get_mut(..bytes.len()));
    place.ok_or(Unsignable::NoRoom { room: 0 })?.copy_from_slice(bytes);
    Ok(())
}

/// Why a slice cannot be signed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum Unsignable {
    /// The store encrypted it.
    #[error("its code is encrypted by the store")]
    Encrypted,
    /// Its parts are not where a signature can be put behind them.
    #[error("{0}")]
    Misplaced(Misplaced),
    /// Its load commands cannot grow.
    #[error(
        "it has {room} bytes of room behind its load commands, and the one that says where a signature is takes 16"
    )]
    NoRoom {
        /// The bytes that are there.
        room: u64,
    },
    /// Bytes stand behind its last segment.
    #[error("{0} bytes stand behind its last segment, where its signature has to be")]
    Behind(u64),
    /// It would be too large for its own offsets.
    #[error("it would be larger than its offsets can say")]
    TooLarge,
}

/// A slice that is written, with what the fat header says of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NewSlice {
    /// What it is for, as the header had it: kind and subtype, capabilities included.
    pub processor: (u32, u32),
    /// How long it is.
    pub length: u64,
    /// Log2 of what its start is a multiple of.
    pub align: u32,
}

/// The header of a fat file, and where each slice begins; the long form where the short one cannot say it.
pub fn fat_header(slices: &[NewSlice]) -> (Vec<u8>, Vec<u64>) {
    let places = |entry: u64| {
        let mut at = 8 + entry * slices.len() as u64;
        let place = |slice: &NewSlice| {
            at = at.next_multiple_of(1 << slice.align.min(24));
            let start = at;
            at += slice.length;
            start
        };
        slices.iter().map(place).collect::<Vec<u64>>()
    };
    let short = places(20);
    let ends = short.iter().zip(slices).map(|(start, slice)| start + slice.length);
    let wide = ends.max().unwrap_or(0) > u64::from(u32::MAX);
    let starts = if wide { places(32) } else { short };
    let mut out = Vec::new();
    for number in [if wide { FAT_64 } else { FAT }, slices.len() as u32] {
        out.extend_from_slice(&number.to_be_bytes());
    }
    for (slice, start) in slices.iter().zip(&starts) {
        let (kind, subtype) = slice.processor;
        out.extend_from_slice(&kind.to_be_bytes());
        out.extend_from_slice(&subtype.to_be_bytes());
        for number in [*start, slice.length] {
            match wide {
                true => out.extend_from_slice(&number.to_be_bytes()),
                false => out.extend_from_slice(&(number as u32).to_be_bytes()),
            }
        }
        out.extend_from_slice(&slice.align.to_be_bytes());
        if wide {
            out.extend_from_slice(&[0; 4]);
        }
    }
    (out, starts)
}

/// A part of a slice that is not where it has to be.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum Misplaced {
    /// `__LINKEDIT` has to come last, to hold the signature.
    #[error("its last segment is not __LINKEDIT")]
    LastSegment,
    /// Two segments have the same bytes.
    #[error("two of its segments have bytes in common")]
    SegmentsOverlap,
    /// The signature begins at a multiple of 16, behind the load commands.
    #[error("its signature begins where none can")]
    SignatureStart,
    /// Slice, last segment and signature end together.
    #[error("its signature does not end with the slice and its last segment")]
    SignatureEnd,
}

fn once<T>(to: &mut Option<T>, value: T, c: &Cursor<'_>, what: &'static str) -> Result<(), ParseError> {
    match to.replace(value) {
        None => Ok(()),
        Some(_) => Err(c.error(what, Fault::Malformed)),
    }
}

/// A name of at most 16 bytes, filled up with zeros.
fn fixed_name(bytes: &[u8]) -> String {
    let end = bytes.iter().position(|byte| *byte == 0).unwrap_or(bytes.len());
    String::from_utf8_lossy(bytes.get(..end).unwrap_or_default()).into_owned()
}
