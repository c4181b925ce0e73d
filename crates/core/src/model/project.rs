//! The project file: what an organisation's builds are, where they go, and what it expects of them.

use std::collections::BTreeMap;
use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};
use thiserror::Error;

use super::Name;

/// Where a build goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Destination {
    /// Registered devices, while it is being worked on.
    Development,
    /// Registered devices only.
    Devices,
    /// The store.
    Store,
    /// The organisation's own people.
    InHouse,
    /// A file handed to people (Android).
    Direct,
}

impl Destination {
    /// All of them, with the word a user types.
    pub const ALL: [(&'static str, Destination); 5] = [
        ("development", Destination::Development),
        ("devices", Destination::Devices),
        ("store", Destination::Store),
        ("in-house", Destination::InHouse),
        ("direct", Destination::Direct),
    ];

    /// What a sentence says after 'for'.
    pub fn phrase(self) -> &'static str {
        match self {
            Destination::Development => "development",
            Destination::Devices => "registered devices",
            Destination::Store => "the store",
            Destination::InHouse => "the organisation's own people",
            Destination::Direct => "direct release",
        }
    }
}

/// A word that names no destination.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("`{0}` is not a destination; there are development, devices, store, in-house and direct")]
pub struct UnknownDestination(pub String);

impl FromStr for Destination {
    type Err = UnknownDestination;

    fn from_str(text: &str) -> Result<Self, UnknownDestination> {
        let wanted = match text.to_ascii_lowercase().as_str() {
            "ad-hoc" => "devices".to_owned(),
            "production" => "store".to_owned(),
            other => other.to_owned(),
        };
        let found = Destination::ALL.iter().find(|(word, _)| *word == wanted);
        found.map(|(_, destination)| *destination).ok_or_else(|| UnknownDestination(text.into()))
    }
}

impl fmt::Display for Destination {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let word = Destination::ALL.iter().find(|(_, destination)| destination == self);
        f.write_str(word.map_or("", |(word, _)| word))
    }
}

/// The whole project file.
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Project {
    /// What the board is headed with.
    #[serde(default)]
    pub title: String,
    /// The team id of the iOS side.
    #[serde(default)]
    pub team: Option<String>,
    /// Where the cabinet is, relative to the project file.
    #[serde(default)]
    pub cabinet: Option<String>,
    /// A file that unlocks the cabinet at once, relative to the project file. The file is secret, its path is
    /// not.
    #[serde(default)]
    pub unlock_file: Option<String>,
    /// Which cabinet is meant, and how new it is at least.
    #[serde(default)]
    pub pin: Option<ProjectPin>,
    /// What is expected of every build.
    #[serde(default)]
    pub policy: Policy,
    /// The apps, by name.
    #[serde(default, rename = "app")]
    pub apps: BTreeMap<Name, App>,
}

/// Which cabinet is meant: hashes of 64 hexadecimal digits each.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct ProjectPin {
    /// The hash of the cabinet's first row of history: its identity.
    pub cabinet: String,
    /// The number of a later row that it has to have.
    pub row: u64,
    /// The hash of that row.
    pub hash: String,
}

/// What is expected of every build.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields, default)]
pub struct Policy {
    /// Something falls due when it ends within so many days.
    pub due_days: u32,
    /// The lowest target SDK that the store takes, if it is known.
    pub target_sdk: Option<u32>,
}

impl Default for Policy {
    fn default() -> Self {
        Policy { due_days: 45, target_sdk: None }
    }
}

/// One product.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct App {
    /// What people call it.
    pub title: String,
    /// The version that the next build should have.
    #[serde(default)]
    pub version: Option<String>,
    /// Its Android side.
    #[serde(default)]
    pub android: Option<Android>,
    /// Its iOS side.
    #[serde(default)]
    pub ios: Option<Ios>,
    /// How its build commands want what is lent to them.
    #[serde(default)]
    pub lend: Option<Lend>,
}

/// Under which names a build command gets what is lent to it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields, default)]
pub struct Lend {
    /// The environment variable with the keystore file's path.
    pub keystore: String,
    /// The one with the key's alias.
    pub alias: String,
    /// The one with the store's password.
    pub password: String,
    /// The one with the key's password.
    pub key_password: String,
    /// A properties file with the same, where a build command reads one.
    pub properties: Option<Properties>,
}

impl Default for Lend {
    fn default() -> Self {
        Lend {
            keystore: "NINEKEYS_LENT_KEYSTORE".into(),
            alias: "NINEKEYS_LENT_ALIAS".into(),
            password: "NINEKEYS_LENT_PASSWORD".into(),
            key_password: "NINEKEYS_LENT_KEY_PASSWORD".into(),
            properties: None,
        }
    }
}

impl Lend {
    /// The variables, in the order keystore, alias, password, key password.
    pub fn variables(&self) -> [&str; 4] {
        [&self.keystore, &self.alias, &self.password, &self.key_password]
    }
}

/// A properties file and the names of its fields.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields, default)]
pub struct Properties {
    /// Where it is, relative to the project file; in the private folder when nothing is said.
    pub file: Option<String>,
    /// The environment variable with its path.
    pub variable: String,
    /// The field with the keystore file's path.
    pub keystore: String,
    /// The one with the key's alias.
    pub alias: String,
    /// The one with the store's password.
    pub password: String,
    /// The one with the key's password.
    pub key_password: String,
}

impl Default for Properties {
    fn default() -> Self {
        Properties {
            file: None,
            variable: "NINEKEYS_LENT_PROPERTIES".into(),
            keystore: "keystore".into(),
            alias: "alias".into(),
            password: "password".into(),
            key_password: "key-password".into(),
        }
    }
}

/// An app's Android side.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Android {
    /// The package name.
    pub package: String,
    /// Where its builds go; the first is meant when nothing is said.
    #[serde(default)]
    pub destinations: Vec<Destination>,
}

/// An app's iOS side.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Ios {
    /// The bundle id.
    pub bundle_id: String,
    /// Where its builds go; the first is meant when nothing is said.
    #[serde(default)]
    pub destinations: Vec<Destination>,
}

impl Project {
    /// The app with that Android package.
    pub fn app_of_package(&self, package: &str) -> Option<(&str, &App)> {
        let has = |app: &App| app.android.as_ref().is_some_and(|android| android.package == package);
        self.apps.iter().find(|(_, app)| has(app)).map(|(name, app)| (name.as_str(), app))
    }

    /// The app with that name, or the only one whose name begins with it.
    pub fn app(&self, wanted: &str) -> Option<(&str, &App)> {
        if let Some((name, app)) = self.apps.get_key_value(wanted) {
            return Some((name, app));
        }
        let mut matching = self.apps.iter().filter(|(name, _)| name.starts_with(wanted));
        match (matching.next(), matching.next()) {
            (Some((name, app)), None) => Some((name, app)),
            _ => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn destinations_are_read_as_the_trade_says_them() {
        assert_eq!("ad-hoc".parse(), Ok(Destination::Devices));
        assert_eq!("production".parse(), Ok(Destination::Store));
        for (word, destination) in Destination::ALL {
            assert_eq!(word.parse(), Ok(destination));
            assert_eq!(destination.to_string(), word);
        }
        assert!("shop".parse::<Destination>().is_err());
    }
}
