//! What an app may do on a device, as profiles grant it and apps claim it: keys with values of a few kinds. A signature says
//! them twice, as a property list and in DER:
//!
//! ```text
//! DER         70 { 02 01 01 (version 1), b0 { entry... } }
//! entry       30 { 0c key, value }, ascending by the key's bytes
//! value       01 yes or no, 02 number, 0c text, 30 { value... } list, b0 { entry... } values by name
//! ```

use std::collections::BTreeMap;
use std::fmt;

use der::{Decode, Encode};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::cursor::{Fault, ParseError, bounded};
use crate::limits::Limits;
use crate::plist::{self, Dictionary, Value};
use crate::tlv::{content, elements, inside, malformed, tlv, unreadable};

/// The value of an entitlement. Dates, reals and data have no agreed form in a signature, and are none.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum Entitlement {
    /// Yes or no.
    Flag(bool),
    /// A whole number.
    Number(i64),
    /// A text.
    Text(String),
    /// Several values, in order.
    List(Vec<Entitlement>),
    /// Values by name.
    Map(BTreeMap<String, Entitlement>),
}

impl Entitlement {
    /// From a property list; nothing for kinds that an entitlement cannot be. Whatever reads property lists has bounded
    /// their depth.
    pub fn from_plist(value: &Value) -> Option<Self> {
        Some(match value {
            Value::Boolean(flag) => Entitlement::Flag(*flag),
            Value::Integer(number) => Entitlement::Number(i64::try_from(*number).ok()?),
            Value::String(text) => Entitlement::Text(text.clone()),
            Value::Array(all) => {
                Entitlement::List(all.iter().map(Self::from_plist).collect::<Option<Vec<_>>>()?)
            }
            Value::Dictionary(all) => Entitlement::Map(map(all)?),
            _ => return None,
        })
    }

    /// As a property list has it.
    fn to_plist(&self) -> Value {
        match self {
            Entitlement::Flag(flag) => Value::Boolean(*flag),
            Entitlement::Number(number) => Value::Integer((*number).into()),
            Entitlement::Text(text) => Value::String(text.clone()),
            Entitlement::List(all) => Value::Array(all.iter().map(Entitlement::to_plist).collect()),
            Entitlement::Map(all) => Value::Dictionary(dictionary(all)),
        }
    }

    fn to_der(&self) -> der::Result<Vec<u8>> {
        match self {
            Entitlement::Flag(flag) => flag.to_der(),
            Entitlement::Number(number) => number.to_der(),
            Entitlement::Text(text) => tlv(0x0c, &[text.as_bytes()]),
            Entitlement::List(all) => {
                let all = all.iter().map(Entitlement::to_der).collect::<der::Result<Vec<_>>>()?;
                tlv(0x30, &all.iter().map(Vec::as_slice).collect::<Vec<_>>())
            }
            Entitlement::Map(all) => der_map(all),
        }
    }

    /// From DER, with so many levels left.
    fn from_der(der: &[u8], left: u64) -> der::Result<Self> {
        let left = left.checked_sub(1).ok_or_else(malformed)?;
        Ok(match der.first() {
            Some(0x01) => Entitlement::Flag(bool::from_der(der)?),
            Some(0x02) => Entitlement::Number(i64::from_der(der)?),
            Some(0x0c) => Entitlement::Text(String::from_der(der)?),
            Some(0x30) => {
                let all = inside(der, 0x30)?.into_iter();
                Entitlement::List(all.map(|one| Self::from_der(one, left)).collect::<der::Result<_>>()?)
            }
            Some(0xb0) => Entitlement::Map(map_of_der(der, left)?),
            _ => return Err(malformed()),
        })
    }

    /// The text, where it is one.
    pub fn text(&self) -> Option<&str> {
        if let Entitlement::Text(text) = self { Some(text) } else { None }
    }
}

/// Reads what an executable claims: a property list that is one dictionary.
///
/// # Errors
/// [`ParseError`] for another property list, and for values that no entitlement has.
pub fn parse(bytes: &[u8], limits: &Limits) -> Result<BTreeMap<String, Entitlement>, ParseError> {
    let list = plist::parse(bytes, limits)?;
    let wrong = || ParseError { what: "entitlements", at: 0, fault: Fault::Malformed };
    list.as_dictionary().and_then(map).ok_or_else(wrong)
}

/// The same as they stand in DER, as the other half of a signature says them.
///
/// # Errors
/// [`ParseError`] for another form, keys that do not ascend, and nesting beyond the limits.
pub fn parse_der(bytes: &[u8], limits: &Limits) -> Result<BTreeMap<String, Entitlement>, ParseError> {
    bounded("entitlements in DER", bytes, limits.inflated)?;
    let read = || {
        let parts = inside(bytes, 0x70)?;
        match parts.as_slice() {
            [version, all] if u8::from_der(version)? == 1 => map_of_der(all, limits.depth),
            _ => Err(malformed()),
        }
    };
    read().map_err(unreadable("entitlements in DER"))
}

/// The entries of a dictionary in DER; each key once, ascending.
fn map_of_der(der: &[u8], left: u64) -> der::Result<BTreeMap<String, Entitlement>> {
    let mut all = BTreeMap::new();
    for entry in elements(crate::tlv::value(der, 0xb0)?)? {
        let parts = elements(content(entry, der::Tag::Sequence)?)?;
        let [key, value] = parts.as_slice() else { return Err(malformed()) };
        let key = String::from_der(key)?;
        if all.last_key_value().is_some_and(|(last, _)| *last >= key) {
            return Err(malformed());
        }
        all.insert(key, Entitlement::from_der(value, left)?);
    }
    Ok(all)
}

fn der_map(all: &BTreeMap<String, Entitlement>) -> der::Result<Vec<u8>> {
    let mut entries = Vec::new();
    for (key, value) in all {
        entries.push(tlv(0x30, &[&tlv(0x0c, &[key.as_bytes()])?, &value.to_der()?])?);
    }
    tlv(0xb0, &entries.iter().map(Vec::as_slice).collect::<Vec<_>>())
}

fn dictionary(all: &BTreeMap<String, Entitlement>) -> Dictionary {
    all.iter().map(|(key, value)| (key.clone(), value.to_plist())).collect()
}

/// Entitlements as a property list.
///
/// # Errors
/// [`ParseError`] for a text that XML cannot say.
pub fn to_xml(all: &BTreeMap<String, Entitlement>) -> Result<Vec<u8>, ParseError> {
    plist::to_xml(&Value::Dictionary(dictionary(all)))
}

/// The same in DER.
///
/// # Errors
/// [`ParseError`] for a value that is too long.
pub fn to_der(all: &BTreeMap<String, Entitlement>) -> Result<Vec<u8>, ParseError> {
    let write = || tlv(0x70, &[&[0x02, 0x01, 0x01], &der_map(all)?]);
    write().map_err(unreadable("entitlements in DER"))
}

/// Every value of a dictionary; nothing when one cannot be an entitlement.
pub(crate) fn map(all: &Dictionary) -> Option<BTreeMap<String, Entitlement>> {
    let pair = |(key, value): (&String, &Value)| Some((key.clone(), Entitlement::from_plist(value)?));
    all.iter().map(pair).collect()
}

impl fmt::Display for Entitlement {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Entitlement::Flag(true) => f.write_str("yes"),
            Entitlement::Flag(false) => f.write_str("no"),
            Entitlement::Number(number) => write!(f, "{number}"),
            Entitlement::Text(text) => f.write_str(text),
            Entitlement::List(all) => {
                for (index, one) in all.iter().enumerate() {
                    write!(f, "{}{one}", if index == 0 { "" } else { ", " })?;
                }
                Ok(())
            }
            Entitlement::Map(all) => {
                for (index, (key, one)) in all.iter().enumerate() {
                    write!(f, "{}{key}: {one}", if index == 0 { "" } else { ", " })?;
                }
                Ok(())
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn all() -> BTreeMap<String, Entitlement> {
        let text = |text: &str| Entitlement::Text(text.into());
        BTreeMap::from([
            ("get-task-allow".into(), Entitlement::Flag(false)),
            ("application-identifier".into(), text("GPFERRY009.example.gannetpoint.crossing")),
            ("groups".into(), Entitlement::List(vec![text("gr\u{fc}n & <b>"), text("a")])),
            ("number".into(), Entitlement::Number(-70_000)),
            ("map".into(), Entitlement::Map(BTreeMap::from([("x".into(), Entitlement::Flag(true))]))),
        ])
    }

    #[test]
    fn both_forms_are_read_back_as_they_were_written() {
        assert_eq!(parse(&to_xml(&all()).unwrap(), &Limits::SMALL).unwrap(), all());
        assert_eq!(parse_der(&to_der(&all()).unwrap(), &Limits::SMALL).unwrap(), all());
        // as the format's description has it
        assert_eq!(to_der(&BTreeMap::new()).unwrap(), [0x70, 5, 2, 1, 1, 0xb0, 0]);
    }

    #[test]
    fn cuts_depth_and_keys_out_of_order_are_refused() {
        let whole = to_der(&all()).unwrap();
        for end in 0..whole.len() {
            assert!(parse_der(&whole[..end], &Limits::SMALL).is_err(), "cut at {end}");
        }
        let mut deep = vec![0x30, 0];
        for _ in 0..40 {
            deep = tlv(0x30, &[&deep]).unwrap();
        }
        let entry = |key: &[u8], value: &[u8]| tlv(0x30, &[&tlv(0x0c, &[key]).unwrap(), value]).unwrap();
        let list = |entries: &[&[u8]]| tlv(0x70, &[&[2, 1, 1], &tlv(0xb0, entries).unwrap()]).unwrap();
        let flag = [1, 1, 0xff];
        assert!(parse_der(&list(&[&entry(b"a", &deep)]), &Limits::SMALL).is_err());
        assert!(parse_der(&list(&[&entry(b"a", &flag), &entry(b"b", &flag)]), &Limits::SMALL).is_ok());
        assert!(parse_der(&list(&[&entry(b"b", &flag), &entry(b"a", &flag)]), &Limits::SMALL).is_err());
        assert!(parse_der(&list(&[&entry(b"a", &flag), &entry(b"a", &flag)]), &Limits::SMALL).is_err());
    }
}
