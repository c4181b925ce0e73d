//! What API keys may do, and what they are used for.

use std::fmt;
use std::str::FromStr;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use thiserror::Error;

/// What an API key may do: each role may do what those before it may.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum ApiRole {
    /// Looks at reports.
    Reader,
    /// Brings builds to the store and to testers.
    Developer,
    /// Makes certificates, devices, profiles and store records.
    Manager,
    /// Grants access to others.
    Owner,
}

impl ApiRole {
    /// All of them, with the word that is typed.
    pub const ALL: [(&'static str, ApiRole); 4] = [
        ("reader", ApiRole::Reader),
        ("developer", ApiRole::Developer),
        ("manager", ApiRole::Manager),
        ("owner", ApiRole::Owner),
    ];
}

/// What an API key is used for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum ApiUse {
    /// Reading reports.
    Reports,
    /// Bringing builds to the store.
    Uploads,
    /// Testers and their groups.
    Testers,
    /// Certificates, devices and profiles.
    Signing,
    /// Other people's access.
    Access,
}

impl ApiUse {
    /// All of them, with the word that is typed.
    pub const ALL: [(&'static str, ApiUse); 5] = [
        ("reports", ApiUse::Reports),
        ("uploads", ApiUse::Uploads),
        ("testers", ApiUse::Testers),
        ("signing", ApiUse::Signing),
        ("access", ApiUse::Access),
    ];

    /// The smallest role that may do it.
    pub fn needs(self) -> ApiRole {
        match self {
            ApiUse::Reports => ApiRole::Reader,
            ApiUse::Uploads | ApiUse::Testers => ApiRole::Developer,
            ApiUse::Signing => ApiRole::Manager,
            ApiUse::Access => ApiRole::Owner,
        }
    }
}

/// A word that names none of them.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("`{word}` is none of {}", known.join(", "))]
pub struct UnknownWord {
    /// What was said.
    pub word: String,
    /// What there is.
    pub known: Vec<&'static str>,
}

fn find<T: Copy, const N: usize>(all: &[(&'static str, T); N], text: &str) -> Result<T, UnknownWord> {
    let found = all.iter().find(|(word, _)| *word == text.to_ascii_lowercase());
    let unknown = || UnknownWord { word: text.into(), known: all.iter().map(|(word, _)| *word).collect() };
    found.map(|(_, one)| *one).ok_or_else(unknown)
}

impl FromStr for ApiRole {
    type Err = UnknownWord;

    fn from_str(text: &str) -> Result<Self, UnknownWord> {
        find(&ApiRole::ALL, text)
    }
}

impl FromStr for ApiUse {
    type Err = UnknownWord;

    fn from_str(text: &str) -> Result<Self, UnknownWord> {
        find(&ApiUse::ALL, text)
    }
}

impl fmt::Display for ApiRole {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let word = ApiRole::ALL.iter().find(|(_, one)| one == self);
        f.write_str(word.map_or("", |(word, _)| word))
    }
}

impl fmt::Display for ApiUse {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let word = ApiUse::ALL.iter().find(|(_, one)| one == self);
        f.write_str(word.map_or("", |(word, _)| word))
    }
}
