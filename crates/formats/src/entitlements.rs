//! What an app may do on a device, as profiles grant it and apps claim it: keys with values of a few kinds.

use std::collections::BTreeMap;
use std::fmt;

use ::plist::Value;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::cursor::{Fault, ParseError};
use crate::limits::Limits;
use crate::plist;

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
            Value::Integer(number) => Entitlement::Number(number.as_signed()?),
            Value::String(text) => Entitlement::Text(text.clone()),
            Value::Array(all) => {
                Entitlement::List(all.iter().map(Self::from_plist).collect::<Option<Vec<_>>>()?)
            }
            Value::Dictionary(all) => Entitlement::Map(map(all)?),
            _ => return None,
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

/// Every value of a dictionary; nothing when one cannot be an entitlement.
pub(crate) fn map(all: &::plist::Dictionary) -> Option<BTreeMap<String, Entitlement>> {
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
