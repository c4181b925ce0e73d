//! Signers of scheme v2, and of v3 and v3.1, which share a form.
//!
//! ```text
//! v2 signer      = lp(signed data) lp(signatures) lp(public key)
//! v2 signed data = lp(digests) lp(certificates) lp(attributes) 00 00 00 00
//! v3 signer      = lp(signed data) u32 min SDK, u32 max SDK, lp(signatures) lp(public key)
//! v3 signed data = lp(digests) lp(certificates) u32 min SDK, u32 max SDK, lp(attributes)
//! ```

use std::ops::RangeInclusive;

use super::prefixed;
use crate::cursor::{Cursor, Fault, ParseError};
use crate::limits::Limits;

/// One signer, over the bytes it was read from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Signer<'a> {
    /// The signed bytes, without their length prefix.
    pub signed_data: &'a [u8],
    /// Algorithm ids and content digests.
    pub digests: Vec<(u32, &'a [u8])>,
    /// Certificates, DER, the signer's first.
    pub certificates: Vec<&'a [u8]>,
    /// The platform levels it is for; v3 and later.
    pub sdk: Option<RangeInclusive<u32>>,
    /// Attribute ids and values.
    pub attributes: Vec<(u32, &'a [u8])>,
    /// Algorithm ids and signatures over `signed_data`.
    pub signatures: Vec<(u32, &'a [u8])>,
    /// SubjectPublicKeyInfo, DER.
    pub public_key: &'a [u8],
}

impl<'a> Signer<'a> {
    /// The value of the first attribute with that id.
    pub fn attribute(&self, id: u32) -> Option<&'a [u8]> {
        self.attributes.iter().find(|(found, _)| *found == id).map(|(_, value)| *value)
    }
}

#[derive(Clone, Copy, PartialEq)]
enum Form {
    V2,
    V3,
}

/// Reads the value of the v2 pair.
///
/// # Errors
/// [`ParseError`] for a length that runs out, bytes left over, an empty list of signers, digests,
/// certificates or signatures, or more of them than the limits allow.
pub fn parse_v2<'a>(value: &'a [u8], limits: &Limits) -> Result<Vec<Signer<'a>>, ParseError> {
    parse(value, Form::V2, limits)
}

/// Reads the value of the v3 or the v3.1 pair.
///
/// # Errors
/// As [`parse_v2`], and for SDK ranges that are empty or differ inside and outside the signed data.
pub fn parse_v3<'a>(value: &'a [u8], limits: &Limits) -> Result<Vec<Signer<'a>>, ParseError> {
    parse(value, Form::V3, limits)
}

fn parse<'a>(value: &'a [u8], form: Form, limits: &Limits) -> Result<Vec<Signer<'a>>, ParseError> {
    let mut c = Cursor::new(value, 0);
    let mut list = c.prefixed("signers")?;
    c.finish("signers")?;
    let mut signers = Vec::new();
    while !list.is_empty() {
        Limits::check(signers.len() as u64 + 1, limits.signers, "signers", &list)?;
        signers.push(parse_signer(list.prefixed("signer")?, form, limits)?);
    }
    if signers.is_empty() {
        return Err(list.error("signers", Fault::Value(0)));
    }
    Ok(signers)
}

fn parse_signer<'a>(mut c: Cursor<'a>, form: Form, limits: &Limits) -> Result<Signer<'a>, ParseError> {
    let whole = c.clone();
    let mut data = c.prefixed("signed data")?;
    let signed_data = data.rest();
    let outer = if form == Form::V3 { Some(sdk_range(&mut c)?) } else { None };
    let signatures = algorithm_values(c.prefixed("signatures")?, "signature", limits)?;
    let public_key = c.prefixed("public key")?.rest();
    c.finish("signer")?;

    let digests = algorithm_values(data.prefixed("digests")?, "digest", limits)?;
    let certificates = list(data.prefixed("certificates")?, limits, |c| Ok(c.rest()))?;
    let inner = if form == Form::V3 { Some(sdk_range(&mut data)?) } else { None };
    if inner != outer {
        return Err(data.error("SDK range, inside and outside the signed data", Fault::Malformed));
    }
    let attributes = list(data.prefixed("attributes")?, limits, |mut attribute| {
        Ok((attribute.u32("id of an attribute")?, attribute.rest()))
    })?;
    // four zero bytes follow the attributes in every v2 block seen; one without them is as valid
    if form == Form::V2 && data.rest() == [0; 4] {
        data.take(4, "end of the signed data")?;
    }
    data.finish("signed data")?;
    // one decides who signed before, the other where v3.1 begins: of two, readers would take different ones
    for id in [super::ATTRIBUTE_LINEAGE, super::ATTRIBUTE_ROTATION_MIN_SDK] {
        if attributes.iter().filter(|(found, _)| *found == id).count() > 1 {
            return Err(whole.error("attribute, twice", Fault::Value(u64::from(id))));
        }
    }
    if certificates.is_empty() || digests.is_empty() || signatures.is_empty() {
        return Err(whole.error("signer without digest, certificate or signature", Fault::Malformed));
    }
    Ok(Signer { signed_data, digests, certificates, sdk: inner, attributes, signatures, public_key })
}

fn sdk_range(c: &mut Cursor<'_>) -> Result<RangeInclusive<u32>, ParseError> {
    let (low, high) = (c.u32("lowest SDK")?, c.u32("highest SDK")?);
    // devices read them as signed numbers
    if low > high || high > super::LAST_SDK {
        return Err(c.error("SDK range", Fault::Value(u64::from(high))));
    }
    Ok(low..=high)
}

fn list<'a, T>(
    mut list: Cursor<'a>,
    limits: &Limits,
    read: impl Fn(Cursor<'a>) -> Result<T, ParseError>,
) -> Result<Vec<T>, ParseError> {
    let mut out = Vec::new();
    while !list.is_empty() {
        Limits::check(out.len() as u64 + 1, limits.items, "items of a list", &list)?;
        out.push(read(list.prefixed("item of a list")?)?);
    }
    Ok(out)
}

fn algorithm_values<'a>(
    mut list: Cursor<'a>,
    what: &'static str,
    limits: &Limits,
) -> Result<Vec<(u32, &'a [u8])>, ParseError> {
    let mut out = Vec::new();
    while !list.is_empty() {
        Limits::check(out.len() as u64 + 1, limits.signers, what, &list)?;
        let mut one = list.prefixed(what)?;
        let algorithm = one.u32(what)?;
        let value = one.prefixed(what)?.rest();
        one.finish(what)?;
        out.push((algorithm, value));
    }
    Ok(out)
}

/// The signed data of a v2 signer: one digest, one certificate, and which later schemes there are.
pub fn v2_signed_data(algorithm: u32, digest: &[u8], certificate: &[u8], later: &[u32]) -> Vec<u8> {
    let attributes: Vec<u8> = later
        .iter()
        .flat_map(|scheme| attribute(super::ATTRIBUTE_LATER_SCHEME, &scheme.to_le_bytes()))
        .collect();
    [content(algorithm, digest, certificate), prefixed(&attributes), vec![0; 4]].concat()
}

/// The value of a v2 pair with one signer.
pub fn v2_value(signed_data: &[u8], algorithm: u32, signature: &[u8], public_key: &[u8]) -> Vec<u8> {
    let signatures = prefixed(&prefixed(&algorithm_value(algorithm, signature)));
    let signer = [prefixed(signed_data), signatures, prefixed(public_key)].concat();
    prefixed(&prefixed(&signer))
}

/// The signed data of a v3 signer for a range of platform levels: one digest, one certificate, attributes.
pub fn v3_signed_data(
    algorithm: u32,
    digest: &[u8],
    certificate: &[u8],
    sdk: &RangeInclusive<u32>,
    attributes: &[(u32, Vec<u8>)],
) -> Vec<u8> {
    let attributes: Vec<u8> = attributes.iter().flat_map(|(id, value)| attribute(*id, value)).collect();
    [content(algorithm, digest, certificate), range(sdk), prefixed(&attributes)].concat()
}

/// The value of a v3 or v3.1 pair with one signer.
pub fn v3_value(
    signed_data: &[u8],
    sdk: &RangeInclusive<u32>,
    algorithm: u32,
    signature: &[u8],
    public_key: &[u8],
) -> Vec<u8> {
    let signatures = prefixed(&prefixed(&algorithm_value(algorithm, signature)));
    let signer = [prefixed(signed_data), range(sdk), signatures, prefixed(public_key)].concat();
    prefixed(&prefixed(&signer))
}

/// Digests and certificates: what both forms begin with.
fn content(algorithm: u32, digest: &[u8], certificate: &[u8]) -> Vec<u8> {
    let digests = prefixed(&prefixed(&algorithm_value(algorithm, digest)));
    [digests, prefixed(&prefixed(certificate))].concat()
}

fn range(sdk: &RangeInclusive<u32>) -> Vec<u8> {
    [sdk.start().to_le_bytes(), sdk.end().to_le_bytes()].concat()
}

fn attribute(id: u32, value: &[u8]) -> Vec<u8> {
    prefixed(&[&id.to_le_bytes(), value].concat())
}

fn algorithm_value(algorithm: u32, value: &[u8]) -> Vec<u8> {
    [algorithm.to_le_bytes().to_vec(), prefixed(value)].concat()
}
