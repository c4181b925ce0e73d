//! BER (X.690), brought into definite lengths and unbroken strings, so that the DER readers take it.
//!
//! Some programs write PKCS#12 and CMS with indefinite lengths and with OCTET STRINGs in pieces. Nothing is sorted
//! and no value is changed: whoever verifies a signature over such bytes verifies what was there.

use crate::cursor::{Cursor, Fault, ParseError};
use crate::limits::Limits;

const OCTET_STRING: u8 = 0x04;
const OCTET_STRING_IN_PIECES: u8 = 0x24;
const CONSTRUCTED: u8 = 0x20;
const INDEFINITE: u8 = 0x80;

/// One element with definite lengths. Bytes that are so already come back as they are.
///
/// # Errors
/// [`ParseError`] for lengths that run out, tags of more than one byte, nesting deeper than the limits allow, and
/// anything behind the element.
pub fn to_definite(bytes: &[u8], limits: &Limits) -> Result<Vec<u8>, ParseError> {
    let mut cursor = Cursor::new(bytes, 0);
    let mut out = Vec::new();
    element(&mut cursor, limits.depth, limits, &mut out)?;
    cursor.finish("ASN.1 element")?;
    Ok(out)
}

/// Reads one element and appends its definite form.
fn element(
    cursor: &mut Cursor<'_>,
    depth: u64,
    limits: &Limits,
    out: &mut Vec<u8>,
) -> Result<(), ParseError> {
    if depth == 0 {
        return Err(
            cursor.error("ASN.1 nesting", Fault::Limit { said: limits.depth + 1, limit: limits.depth })
        );
    }
    let tag = cursor.u8("ASN.1 tag")?;
    if tag & 0x1f == 0x1f {
        return Err(cursor.error("ASN.1 tag", Fault::Value(u64::from(tag))));
    }
    let mut inner = Vec::new();
    match length(cursor)? {
        Some(length) => {
            let mut content = cursor.sub(length, "ASN.1 content")?;
            if tag & CONSTRUCTED == 0 {
                inner.extend_from_slice(content.rest());
            } else {
                while !content.is_empty() {
                    element(&mut content, depth - 1, limits, &mut inner)?;
                }
            }
        }
        None if tag & CONSTRUCTED == 0 => {
            return Err(cursor.error("ASN.1 length", Fault::Value(u64::from(INDEFINITE))));
        }
        None => {
            while !cursor.rest().starts_with(&[0, 0]) {
                element(cursor, depth - 1, limits, &mut inner)?;
            }
            cursor.take(2, "end of contents")?;
        }
    }
    if tag == OCTET_STRING_IN_PIECES {
        inner = join(&inner)?;
    }
    let tag = if tag == OCTET_STRING_IN_PIECES { OCTET_STRING } else { tag };
    out.push(tag);
    write_length(inner.len(), out);
    out.extend_from_slice(&inner);
    Ok(())
}

/// The contents of OCTET STRINGs that stand one after the other, in one.
///
/// # Errors
/// [`ParseError`] when something else stands among them.
pub fn join(pieces: &[u8]) -> Result<Vec<u8>, ParseError> {
    let mut cursor = Cursor::new(pieces, 0);
    let mut out = Vec::new();
    while !cursor.is_empty() {
        let tag = cursor.u8("piece of a string")?;
        if tag != OCTET_STRING {
            return Err(cursor.error("piece of a string", Fault::Value(u64::from(tag))));
        }
        let length = length(&mut cursor)?;
        let length = length.ok_or_else(|| cursor.error("piece of a string", Fault::Malformed))?;
        out.extend_from_slice(cursor.sub(length, "piece of a string")?.rest());
    }
    Ok(out)
}

/// A length, or nothing when it is indefinite.
fn length(cursor: &mut Cursor<'_>) -> Result<Option<u64>, ParseError> {
    let first = cursor.u8("ASN.1 length")?;
    if first < INDEFINITE {
        return Ok(Some(u64::from(first)));
    }
    if first == INDEFINITE {
        return Ok(None);
    }
    let count = usize::from(first & 0x7f);
    if count > 8 {
        return Err(cursor.error("ASN.1 length", Fault::Value(u64::from(first))));
    }
    let digits = cursor.take(count, "ASN.1 length")?;
    Ok(Some(digits.iter().fold(0, |sum, digit| sum << 8 | u64::from(*digit))))
}

fn write_length(length: usize, out: &mut Vec<u8>) {
    if length < usize::from(INDEFINITE) {
        out.push(length as u8);
        return;
    }
    let bytes = length.to_be_bytes();
    let digits: Vec<u8> = bytes.into_iter().skip_while(|byte| *byte == 0).collect();
    out.push(INDEFINITE | digits.len() as u8);
    out.extend_from_slice(&digits);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn indefinite_lengths_and_strings_in_pieces_become_definite() {
        // SEQUENCE (indefinite) { OCTET STRING in pieces (indefinite) { "ab", "c" }, INTEGER 5 }
        let ber = b"\x30\x80\x24\x80\x04\x02ab\x04\x01c\x00\x00\x02\x01\x05\x00\x00";
        let der = to_definite(ber, &Limits::SMALL).unwrap();
        assert_eq!(der, b"\x30\x08\x04\x03abc\x02\x01\x05");
        assert_eq!(to_definite(&der, &Limits::SMALL).unwrap(), der, "what is definite stays as it is");
    }

    #[test]
    fn long_lengths_are_written_as_short_as_they_can_be() {
        let ber = [&b"\x04\x84\x00\x00\x01\x00"[..], &[7; 256]].concat();
        let der = to_definite(&ber, &Limits::SMALL).unwrap();
        assert_eq!(der, [&b"\x04\x82\x01\x00"[..], &[7; 256]].concat());
    }

    #[test]
    fn what_lies_or_is_too_deep_is_refused() {
        let deep = [0x30, 0x80].repeat(200);
        for bad in [
            &deep[..],
            b"",
            b"\x30",
            b"\x30\x80",
            b"\x04\x80\x00\x00",
            b"\x30\x89\x01\x01\x01\x01\x01\x01\x01\x01\x01",
            b"\x30\x88\xff\xff\xff\xff\xff\xff\xff\xff",
            b"\x1f\x01\x00",
            b"\x24\x03\x02\x01\x00",
            b"\x30\x00\x00",
        ] {
            assert!(to_definite(bad, &Limits::SMALL).is_err(), "{bad:02x?}");
        }
    }
}
