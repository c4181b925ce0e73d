//! The APK signing block (APK Signature Scheme v2 and later): its pairs here, signers in [`signer`], proofs of
//! rotation in [`lineage`].
//!
//! ```text
//! u64 S, pairs (u64 length, u32 id, value), u64 S again, "APK Sig Block 42"
//! ```
//! The block ends where the central directory begins; `S` counts everything after the first field.

pub mod lineage;
pub mod signer;

use std::ops::Range;

use crate::cursor::{Cursor, Fault, ParseError};
use crate::limits::Limits;
use crate::source::{ReadError, Source};

/// Id of the pair that holds scheme v2.
pub const V2: u32 = 0x7109_871a;
/// Id of the pair that holds scheme v3.
pub const V3: u32 = 0xf053_68c0;
/// Id of the pair that holds scheme v3.1.
pub const V31: u32 = 0x1b93_ad61;
/// Id of the zero pair that fills the block to a whole page.
pub(crate) const PADDING: u32 = 0x4272_6577;
/// Attribute of a v2 signer: a later scheme (its number is the value) is there as well.
pub const ATTRIBUTE_LATER_SCHEME: u32 = 0xbeef_f00d;
/// Attribute of a v3 or v3.1 signer: the proof of rotation.
pub const ATTRIBUTE_LINEAGE: u32 = 0x3ba0_6f8c;
/// Attribute of a v3 signer: from this SDK on, v3.1 is there and decides.
pub const ATTRIBUTE_ROTATION_MIN_SDK: u32 = 0x559f_8b02;
/// The highest SDK there can be.
pub const LAST_SDK: u32 = 0x7fff_ffff;

const MAGIC: &[u8; 16] = b"APK Sig Block 42";
const FOOTER: u64 = 24;
const PAGE: usize = 4096;

/// A signing block: where it stands and its pairs in order.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Located {
    /// From the first size field to the end of the magic.
    pub range: Range<u64>,
    /// Ids and values.
    pub pairs: Vec<(u32, Vec<u8>)>,
}

impl Located {
    /// The ids that more than one pair has, the padding's aside; each once. Which of them counts is not certain: devices
    /// take the first, and so does [`Located::find`].
    pub fn twice(&self) -> Vec<u32> {
        let mut ids: Vec<u32> = self.pairs.iter().map(|(id, _)| *id).filter(|id| *id != PADDING).collect();
        ids.sort_unstable();
        let mut twice: Vec<u32> = ids
            .windows(2)
            .filter_map(|pair| if let [a, b] = pair { (a == b).then_some(*a) } else { None })
            .collect();
        twice.dedup();
        twice
    }

    /// The value of the first pair with that id.
    pub fn find(&self, id: u32) -> Option<&[u8]> {
        self.pairs.iter().find(|(found, _)| *found == id).map(|(_, value)| value.as_slice())
    }
}

/// Looks for a block that ends at `directory_at`. The outer error is the system's; the inner one is a block
/// that is there and damaged.
///
/// # Errors
/// [`ReadError`] when the source cannot be read.
#[allow(clippy::type_complexity, reason = "two kinds of failure, both said in the signature")]
pub fn locate(
    source: &dyn Source,
    directory_at: u64,
    limits: &Limits,
) -> Result<Result<Option<Located>, ParseError>, ReadError> {
    if directory_at < FOOTER + 8 {
        return Ok(Ok(None));
    }
    let footer = source.bytes(directory_at - FOOTER..directory_at, FOOTER)?;
    if !footer.ends_with(MAGIC) {
        return Ok(Ok(None));
    }
    let mut c = Cursor::new(&footer, directory_at - FOOTER);
    let lying =
        |fault| Ok(Err(ParseError { what: "size of the signing block", at: directory_at - FOOTER, fault }));
    let size = match c.u64("size of the signing block") {
        Ok(size) => size,
        Err(error) => return Ok(Err(error)),
    };
    if size < FOOTER || size.checked_add(8).is_none_or(|whole| whole > directory_at) {
        return lying(Fault::Value(size));
    }
    if size > limits.block {
        return lying(Fault::Limit { said: size, limit: limits.block });
    }
    let start = directory_at - size - 8;
    let bytes = source.bytes(start..directory_at, limits.block + 8)?;
    Ok(parse(&bytes, start, size, limits).map(|pairs| Some(Located { range: start..directory_at, pairs })))
}

fn parse(bytes: &[u8], start: u64, size: u64, limits: &Limits) -> Result<Vec<(u32, Vec<u8>)>, ParseError> {
    let mut c = Cursor::new(bytes, start);
    let first = c.u64("first size of the signing block")?;
    if first != size {
        return Err(ParseError {
            what: "first size of the signing block",
            at: start,
            fault: Fault::Value(first),
        });
    }
    let mut body = c.sub(size - FOOTER, "pairs of the signing block")?;
    let mut pairs: Vec<(u32, Vec<u8>)> = Vec::new();
    while !body.is_empty() {
        Limits::check(pairs.len() as u64 + 1, limits.items, "pairs of the signing block", &body)?;
        let length = body.u64("length of a pair")?;
        let mut pair = body.sub(length, "pair of the signing block")?;
        let id = pair.u32("id of a pair")?;
        pairs.push((id, pair.rest().to_vec()));
    }
    Ok(pairs)
}

/// A block with these pairs, filled to a multiple of 4096 bytes by a padding pair.
pub fn write(pairs: &[(u32, Vec<u8>)]) -> Vec<u8> {
    let mut body = Vec::new();
    let mut put = |id: u32, value: &[u8]| {
        body.extend_from_slice(&(value.len() as u64 + 4).to_le_bytes());
        body.extend_from_slice(&id.to_le_bytes());
        body.extend_from_slice(value);
    };
    let mut length = 8 + FOOTER as usize;
    for (id, value) in pairs {
        put(*id, value);
        length += 12 + value.len();
    }
    if !length.is_multiple_of(PAGE) {
        let fill = (length + 12).next_multiple_of(PAGE) - length - 12;
        put(PADDING, &vec![0; fill]);
    }
    let size = (body.len() as u64 + FOOTER).to_le_bytes();
    let mut out = Vec::with_capacity(body.len() + 32);
    out.extend_from_slice(&size);
    out.extend_from_slice(&body);
    out.extend_from_slice(&size);
    out.extend_from_slice(MAGIC);
    out
}

/// `lp(x)`: a 32-bit length and the bytes.
pub(crate) fn prefixed(bytes: &[u8]) -> Vec<u8> {
    [&(bytes.len() as u32).to_le_bytes(), bytes].concat()
}

#[cfg(test)]
mod tests {
    use super::signer::{parse_v2, v2_signed_data, v2_value};
    use super::*;

    fn block() -> Vec<u8> {
        let data = v2_signed_data(0x0103, &[7; 32], b"certificate", &[]);
        write(&[(V2, v2_value(&data, 0x0103, b"signature", b"key"))])
    }

    fn located(bytes: &[u8]) -> Result<Option<Located>, ParseError> {
        locate(&bytes, bytes.len() as u64, &Limits::USUAL).unwrap()
    }

    #[test]
    fn what_is_written_is_read_back_and_fills_whole_pages() {
        let bytes = block();
        assert_eq!(bytes.len() % PAGE, 0);
        let found = located(&bytes).unwrap().unwrap();
        assert_eq!(found.range, 0..bytes.len() as u64);
        let signers = parse_v2(found.find(V2).unwrap(), &Limits::USUAL).unwrap();
        assert_eq!(signers.len(), 1);
        assert_eq!(signers[0].digests, [(0x0103, [7; 32].as_slice())]);
        assert_eq!(signers[0].certificates, [b"certificate"]);
        assert_eq!(signers[0].public_key, b"key");
        assert!(signers[0].signed_data.ends_with(&[0; 4]));
    }

    #[test]
    fn size_fields_that_lie_are_refused() {
        for size in [0, 23, 4097, u64::MAX - 4, 1 << 63, 0xffff_fff0] {
            let mut bytes = block();
            let at = bytes.len() - 24;
            bytes[at..at + 8].copy_from_slice(&u64::to_le_bytes(size));
            assert!(located(&bytes).is_err(), "{size:#x}");
        }
        let mut bytes = block();
        bytes[0] ^= 1;
        assert_eq!(located(&bytes).unwrap_err().what, "first size of the signing block");
        let mut bytes = block();
        bytes[8..16].copy_from_slice(&(1u64 << 63).to_le_bytes());
        assert_eq!(located(&bytes).unwrap_err().what, "pair of the signing block");
    }

    #[test]
    fn the_same_id_twice_is_told_and_the_first_counts() {
        let bytes = write(&[(V2, vec![1]), (V3, vec![3]), (V2, vec![2]), (V2, vec![4])]);
        let found = located(&bytes).unwrap().unwrap();
        assert_eq!((found.twice(), found.find(V2)), (vec![V2], Some(&[1][..])));
    }

    #[test]
    fn bytes_left_over_in_any_list_are_refused() {
        let data = v2_signed_data(0x0103, &[7; 32], b"certificate", &[]);
        let good = v2_value(&data, 0x0103, b"signature", b"key");
        assert!(parse_v2(&good, &Limits::USUAL).is_ok());
        let mut longer = good.clone();
        longer.push(0);
        assert!(parse_v2(&longer, &Limits::USUAL).is_err());
        assert!(parse_v2(&prefixed(&[]), &Limits::USUAL).is_err());
        let mut data = data;
        data.extend_from_slice(&[0; 1]);
        assert!(parse_v2(&v2_value(&data, 0x0103, b"s", b"k"), &Limits::USUAL).is_err());
    }
}
