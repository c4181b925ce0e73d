//! The few steps that every ASN.1 reader and writer here takes: one element's content, the elements in it, and back.

use der::{Encode, Reader, SliceReader, Tag};

use crate::cursor::{Fault, ParseError};

/// The error for a grammar that does not hold.
pub(crate) fn malformed() -> der::Error {
    Tag::Sequence.value_error().into()
}

/// The same error, said of what was read.
pub(crate) fn unreadable(what: &'static str) -> impl Fn(der::Error) -> ParseError {
    move |error| ParseError {
        what,
        at: error.position().map_or(0, |at| u64::from(u32::from(at))),
        fault: Fault::Malformed,
    }
}

/// The content of one element with that tag.
pub(crate) fn content(tlv: &[u8], tag: Tag) -> der::Result<&[u8]> {
    let any = <der::asn1::AnyRef<'_> as der::Decode<'_>>::from_der(tlv)?;
    der::Tagged::tag(&any).assert_eq(tag)?;
    Ok(any.value())
}

/// The elements of a constructed value, one after the other.
pub(crate) fn elements(content: &[u8]) -> der::Result<Vec<&[u8]>> {
    let mut reader = SliceReader::new(content)?;
    let mut out = Vec::new();
    while !reader.is_finished() {
        out.push(reader.tlv_bytes()?);
    }
    Ok(out)
}

/// The elements of one element, which has to have the tag byte `tag`.
pub(crate) fn inside(tlv: &[u8], tag: u8) -> der::Result<Vec<&[u8]>> {
    elements(value(tlv, tag)?)
}

/// The content of one element, which has to have the tag byte `tag`.
pub(crate) fn value(tlv: &[u8], tag: u8) -> der::Result<&[u8]> {
    if tlv.first() != Some(&tag) {
        return Err(malformed());
    }
    Ok(<der::asn1::AnyRef<'_> as der::Decode<'_>>::from_der(tlv)?.value())
}

/// A number that is not negative and fits into 64 bits.
pub(crate) fn number(tlv: &[u8]) -> der::Result<u64> {
    <u64 as der::Decode<'_>>::from_der(tlv)
}

/// One element made of its parts.
pub(crate) fn tlv(tag: u8, parts: &[&[u8]]) -> der::Result<Vec<u8>> {
    let length = parts.iter().map(|part| part.len()).sum::<usize>();
    let length = der::Length::try_from(length)?.to_der()?;
    Ok([&[tag], length.as_slice(), &parts.concat()].concat())
}
