//! Requirements: conditions on code that stand in its signature, the one that names the code itself among them. Big-endian.
//!
//! ```text
//! set          u32 fade0c01, u32 length, u32 count, count x (u32 type, u32 offset), requirements
//! requirement  u32 fade0c00, u32 length, u32 1, expression
//! expression   u32 operation, operands, in prefix form; data is u32 length, bytes, zeros up to a multiple of 4
//! match        u32 0 (is there), or u32 which with data: 1 is, 2 contains, 3 begins with, 4 ends with, 5 <, 6 >, 7 <=, 8 >=
//! ```

use std::fmt;

use der::asn1::ObjectIdentifier;

use crate::cursor::{Cursor, Fault, ParseError};
use crate::limits::Limits;

const SET: u32 = 0xfade_0c01;
const ONE: u32 = 0xfade_0c00;

/// The type of the requirement that names the code itself.
const DESIGNATED: u32 = 3;

/// Which certificate of a signer's path is meant.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Place {
    /// So many above the signer's own.
    Above(usize),
    /// The root.
    Root,
}

/// What a value has to be.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Match {
    /// There, whatever it is.
    Exists,
    /// This.
    Is(String),
    /// Something with this in it.
    Contains(String),
    /// Something that begins so.
    Begins(String),
    /// Something that ends so.
    Ends(String),
    /// Less.
    Less(String),
    /// More.
    More(String),
    /// Not more.
    AtMost(String),
    /// Not less.
    AtLeast(String),
}

/// A condition.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Expression {
    /// Never, or always.
    Constant(bool),
    /// The code is called so.
    Identifier(String),
    /// The path leads to the platform's root.
    Anchor,
    /// The vendor itself signed it.
    VendorsOwn,
    /// A certificate has this SHA-1.
    CertificateHash(Place, Vec<u8>),
    /// Both.
    And(Box<Expression>, Box<Expression>),
    /// One of them.
    Or(Box<Expression>, Box<Expression>),
    /// The code's directory has this hash.
    CodeHash(Vec<u8>),
    /// Not that.
    Not(Box<Expression>),
    /// A key of Info.plist.
    Info(String, Match),
    /// A field of a certificate's subject.
    Subject(Place, String, Match),
    /// An extension of a certificate.
    Extension(Place, ObjectIdentifier, Match),
    /// An entitlement.
    Entitlement(String, Match),
    /// A policy of a certificate.
    Policy(Place, ObjectIdentifier, Match),
}

/// Reads the requirement that names the code, out of a set; nothing where there is none.
///
/// # Errors
/// [`ParseError`] for another kind of set, requirements that run out of it, operations that are not known, and conditions deeper
/// than the limits allow.
pub fn designated(set: &[u8], limits: &Limits) -> Result<Option<Expression>, ParseError> {
    let mut c = Cursor::new(set, 0);
    expect(&mut c, "kind of the requirements", SET)?;
    c.u32_be("length of the requirements")?;
    let count = c.u32_be("requirements")?;
    Limits::check(u64::from(count), limits.signers, "requirements", &c)?;
    let mut found = None;
    for _ in 0..count {
        let (kind, offset) = (c.u32_be("type of a requirement")?, c.u32_be("requirement's start")?);
        let at = u64::from(offset);
        let rest = usize::try_from(offset).ok().and_then(|offset| set.get(offset..));
        let rest = rest.ok_or_else(|| c.error("requirement's start", Fault::Value(at)))?;
        let expression = one(rest, at, limits)?;
        if kind == DESIGNATED && found.replace(expression).is_some() {
            return Err(c.error("a second requirement that names the code", Fault::Malformed));
        }
    }
    Ok(found)
}

/// The set with the one requirement that names code signed with a developer's certificate: called so, under a path to the
/// platform's root, by this certificate, from an issuer with that mark.
pub fn write_designated(identifier: &str, common_name: &str, issuer_mark: &ObjectIdentifier) -> Vec<u8> {
    let number = |number: u32| number.to_be_bytes().to_vec();
    let data = |bytes: &[u8]| {
        let mut out = [&number(bytes.len() as u32), bytes].concat();
        out.resize(out.len().next_multiple_of(4), 0);
        out
    };
    let (and, exists, is) = (number(6), number(0), number(1));
    let expression = [
        &and,
        &number(2),
        &data(identifier.as_bytes()),
        &and,
        &number(15),
        &and,
        &number(11),
        &number(0),
        &data(b"subject.CN"),
        &is,
        &data(common_name.as_bytes()),
        &number(14),
        &number(1),
        &data(issuer_mark.as_bytes()),
        &exists,
    ]
    .map(Vec::as_slice)
    .concat();
    let with_length =
        |magic: u32, rest: &[u8]| [&number(magic), &number(8 + rest.len() as u32), rest].concat();
    let one = with_length(ONE, &[number(1), expression].concat());
    with_length(SET, &[number(1), number(DESIGNATED), number(20), one].concat())
}

fn one(bytes: &[u8], at: u64, limits: &Limits) -> Result<Expression, ParseError> {
    let mut c = Cursor::new(bytes, at);
    expect(&mut c, "kind of a requirement", ONE)?;
    let length = c.u32_be("length of a requirement")?;
    let rest = u64::from(length)
        .checked_sub(8)
        .ok_or_else(|| c.error("length of a requirement", Fault::Malformed))?;
    let mut c = c.sub(rest, "requirement")?;
    expect(&mut c, "form of a requirement", 1)?;
    let expression = expression(&mut c, limits.depth)?;
    c.finish("requirement")?;
    Ok(expression)
}

fn expect(c: &mut Cursor<'_>, what: &'static str, wanted: u32) -> Result<(), ParseError> {
    let at = c.at();
    let found = c.u32_be(what)?;
    if found == wanted { Ok(()) } else { Err(ParseError { what, at, fault: Fault::Value(u64::from(found)) }) }
}

/// An expression, with so many levels left. The platform's own compiler nests a chain of conditions to the right, a level each.
fn expression(c: &mut Cursor<'_>, left: u64) -> Result<Expression, ParseError> {
    let Some(left) = left.checked_sub(1) else {
        return Err(c.error("depth of a requirement", Fault::Malformed));
    };
    let at = c.at();
    let operation = c.u32_be("operation")?;
    let next = |c: &mut Cursor<'_>| expression(c, left).map(Box::new);
    Ok(match operation {
        0 => Expression::Constant(false),
        1 => Expression::Constant(true),
        2 => Expression::Identifier(text(c)?),
        3 => Expression::VendorsOwn,
        15 => Expression::Anchor,
        4 => Expression::CertificateHash(place(c)?, data(c)?.to_vec()),
        6 => Expression::And(next(c)?, next(c)?),
        7 => Expression::Or(next(c)?, next(c)?),
        8 => Expression::CodeHash(data(c)?.to_vec()),
        9 => Expression::Not(next(c)?),
        10 => Expression::Info(text(c)?, matching(c)?),
        11 => Expression::Subject(place(c)?, text(c)?, matching(c)?),
        14 => Expression::Extension(place(c)?, oid(c)?, matching(c)?),
        16 => Expression::Entitlement(text(c)?, matching(c)?),
        17 => Expression::Policy(place(c)?, oid(c)?, matching(c)?),
        other => {
            return Err(ParseError { what: "operation", at, fault: Fault::Value(u64::from(other)) });
        }
    })
}

fn data<'a>(c: &mut Cursor<'a>) -> Result<&'a [u8], ParseError> {
    let length = c.u32_be("length of data")?;
    let size = usize::try_from(length).map_err(|_| c.error("length of data", Fault::Malformed))?;
    let bytes = c.take(size, "data")?;
    let padding = c.take(size.wrapping_neg() % 4, "padding")?;
    match padding.iter().all(|byte| *byte == 0) {
        true => Ok(bytes),
        false => Err(c.error("padding", Fault::Malformed)),
    }
}

fn text(c: &mut Cursor<'_>) -> Result<String, ParseError> {
    let bytes = data(c)?;
    std::str::from_utf8(bytes).map(str::to_owned).map_err(|_| c.error("text of a requirement", Fault::Text))
}

fn oid(c: &mut Cursor<'_>) -> Result<ObjectIdentifier, ParseError> {
    let bytes = data(c)?;
    ObjectIdentifier::from_bytes(bytes).map_err(|_| c.error("identifier of an extension", Fault::Malformed))
}

fn place(c: &mut Cursor<'_>) -> Result<Place, ParseError> {
    let number = c.u32_be("certificate")?;
    match number {
        u32::MAX => Ok(Place::Root),
        0..=16 => Ok(Place::Above(number as usize)),
        other => Err(c.error("certificate", Fault::Value(u64::from(other)))),
    }
}

fn matching(c: &mut Cursor<'_>) -> Result<Match, ParseError> {
    let at = c.at();
    let make: fn(String) -> Match = match c.u32_be("match")? {
        0 => return Ok(Match::Exists),
        1 => Match::Is,
        2 => Match::Contains,
        3 => Match::Begins,
        4 => Match::Ends,
        5 => Match::Less,
        6 => Match::More,
        7 => Match::AtMost,
        8 => Match::AtLeast,
        other => return Err(ParseError { what: "match", at, fault: Fault::Value(u64::from(other)) }),
    };
    text(c).map(make)
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Place::Above(0) => f.write_str("signer"),
            Place::Above(1) => f.write_str("signer's issuer"),
            Place::Above(number) => write!(f, "certificate {number} above the signer"),
            Place::Root => f.write_str("root"),
        }
    }
}

impl fmt::Display for Match {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Match::Exists => f.write_str("is there"),
            Match::Is(value) => write!(f, "is {value:?}"),
            Match::Contains(value) => write!(f, "contains {value:?}"),
            Match::Begins(value) => write!(f, "begins with {value:?}"),
            Match::Ends(value) => write!(f, "ends with {value:?}"),
            Match::Less(value) => write!(f, "is below {value:?}"),
            Match::More(value) => write!(f, "is above {value:?}"),
            Match::AtMost(value) => write!(f, "is at most {value:?}"),
            Match::AtLeast(value) => write!(f, "is at least {value:?}"),
        }
    }
}

/// Hexadecimal digits.
struct Digits<'a>(&'a [u8]);

impl fmt::Display for Digits<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.iter().try_for_each(|byte| write!(f, "{byte:02x}"))
    }
}

/// What is combined by another word, and what is denied, stands in brackets.
struct Inside<'a>(&'a Expression);

impl fmt::Display for Inside<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.0 {
            Expression::And(..) | Expression::Or(..) => write!(f, "({})", self.0),
            other => other.fmt(f),
        }
    }
}

impl fmt::Display for Expression {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Expression::Constant(false) => f.write_str("never"),
            Expression::Constant(true) => f.write_str("always"),
            Expression::Identifier(name) => write!(f, "the identifier is {name:?}"),
            Expression::Anchor => f.write_str("the path leads to the vendor's root"),
            Expression::VendorsOwn => f.write_str("the vendor itself signed it"),
            Expression::CertificateHash(place, hash) => {
                write!(f, "the SHA-1 of the {place} is {}", Digits(hash))
            }
            Expression::And(one, other) => match other.as_ref() {
                Expression::And(..) => write!(f, "{}, and {other}", Inside(one)),
                _ => write!(f, "{}, and {}", Inside(one), Inside(other)),
            },
            Expression::Or(one, other) => write!(f, "{}, or {}", Inside(one), Inside(other)),
            Expression::CodeHash(hash) => write!(f, "the code hash is {}", Digits(hash)),
            Expression::Not(what) => write!(f, "not: {}", Inside(what)),
            Expression::Info(key, value) => write!(f, "{key} in Info.plist {value}"),
            Expression::Subject(place, field, value) => write!(f, "{field} of the {place} {value}"),
            Expression::Extension(place, oid, value) => {
                write!(f, "the extension {oid} of the {place} {value}")
            }
            Expression::Entitlement(key, value) => write!(f, "the entitlement {key} {value}"),
            Expression::Policy(place, oid, value) => write!(f, "the policy {oid} of the {place} {value}"),
        }
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used, reason = "tests fail by panicking")]
mod tests {
    use super::*;

    fn word(number: u32) -> Vec<u8> {
        number.to_be_bytes().to_vec()
    }

    fn put(text: &[u8]) -> Vec<u8> {
        let mut out = word(text.len() as u32);
        out.extend_from_slice(text);
        out.resize(out.len().next_multiple_of(4), 0);
        out
    }

    fn set(expression: &[u8]) -> Vec<u8> {
        let one = [word(ONE), word(12 + expression.len() as u32), word(1), expression.to_vec()].concat();
        [word(SET), word(20 + one.len() as u32), word(1), word(DESIGNATED), word(20), one].concat()
    }

    fn read(expression: &[u8]) -> Result<Option<Expression>, ParseError> {
        designated(&set(expression), &Limits::SMALL)
    }

    #[test]
    fn conditions_are_told_in_words() {
        let marker = [0x2a, 0x86, 0x48, 0x86, 0xf7, 0x63, 0x64, 0x06, 0x02, 0x01];
        let usual = [
            word(6),
            [word(2), put(b"example.gannetpoint.crossing")].concat(),
            word(6),
            word(15),
            word(6),
            [word(11), word(0), put(b"subject.CN"), word(1), put(b"Pier")].concat(),
            [word(14), word(1), put(&marker), word(0)].concat(),
        ];
        let told = "the identifier is \"example.gannetpoint.crossing\", and the path leads to the vendor's root, and \
                    subject.CN of the signer is \"Pier\", and the extension 1.2.840.113635.100.6.2.1 of the signer's \
                    issuer is there";
        assert_eq!(read(&usual.concat()).unwrap().unwrap().to_string(), told);
        let other = [word(9), word(7), word(0), word(8), put(&[0xab; 3])].concat();
        assert_eq!(read(&other).unwrap().unwrap().to_string(), "not: (never, or the code hash is ababab)");
    }

    #[test]
    fn what_is_no_condition_is_refused() {
        assert_eq!(designated(&[word(SET), word(12), word(0)].concat(), &Limits::SMALL), Ok(None));
        assert_eq!(read(&word(5)).unwrap_err().fault, Fault::Value(5));
        assert!(matches!(read(&[word(1), word(1)].concat()).unwrap_err().fault, Fault::Leftover(4)));
        assert!(matches!(read(&[word(2), word(u32::MAX)].concat()).unwrap_err().fault, Fault::Short { .. }));
        assert!(matches!(read(&word(6)).unwrap_err().fault, Fault::Short { .. }));
        let unpadded = [word(2), word(1), vec![b'a', 0, 1, 0]].concat();
        assert_eq!(read(&unpadded).unwrap_err().what, "padding");
        assert_eq!(read(&[word(4), word(17), put(b"x")].concat()).unwrap_err().what, "certificate");
        assert_eq!(read(&[word(10), put(b"k"), word(9)].concat()).unwrap_err().what, "match");
        // deeper than anybody nests
        let deep: Vec<u8> = (0..40).flat_map(|_| word(9)).chain(word(1)).collect();
        assert_eq!(read(&deep).unwrap_err().what, "depth of a requirement");
    }
}
