//! What builds are made for, and where they go. [`Platform`] and [`Destination`] alone say what is possible and what may
//! leave the house: nobody else decides by them.

use std::fmt;
use std::str::FromStr;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use thiserror::Error;

use super::Role;

/// What a build is made for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Platform {
    /// APK and AAB.
    Android,
    /// IPA.
    Ios,
}

impl Platform {
    /// Both.
    pub const ALL: [Platform; 2] = [Platform::Android, Platform::Ios];

    /// As a sentence writes it.
    pub fn title(self) -> &'static str {
        match self {
            Platform::Android => "Android",
            Platform::Ios => "iOS",
        }
    }

    /// Where its builds can go, the usual place first.
    pub fn destinations(self) -> &'static [Destination] {
        match self {
            Platform::Android => &[Destination::Direct, Destination::Store, Destination::Development],
            Platform::Ios => {
                &[Destination::Store, Destination::Devices, Destination::Development, Destination::InHouse]
            }
        }
    }

    /// Whether its builds can go there.
    pub fn has(self, destination: Destination) -> bool {
        self.destinations().contains(&destination)
    }

    /// What people call the id that tells its apps apart.
    pub fn id_word(self) -> &'static str {
        match self {
            Platform::Android => "package",
            Platform::Ios => "bundle id",
        }
    }

    /// What people call the number that tells its builds apart.
    pub fn number_word(self) -> &'static str {
        match self {
            Platform::Android => "version code",
            Platform::Ios => "build number",
        }
    }
}

impl fmt::Display for Platform {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Platform::Android => "android",
            Platform::Ios => "ios",
        })
    }
}

/// Where a build goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
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

    /// Whether builds for it run on devices that their profiles name, and on no others.
    pub fn has_devices(self) -> bool {
        matches!(self, Destination::Development | Destination::Devices)
    }

    /// Whether what goes there leaves the house: what is being worked on may be debuggable, under a debug key, in parts.
    pub fn leaves_the_house(self) -> bool {
        self != Destination::Development
    }

    /// Whether the number of a build that is there already is taken again: people may install the same once more, and what
    /// is worked on keeps its number; a store takes every number once.
    pub(crate) fn takes_a_number_again(self) -> bool {
        self != Destination::Store
    }

    /// Which of an Android app's keys signs what goes there, if it matters: a store learns from the upload key who uploads,
    /// devices know the app by its signing key.
    pub fn android_role(self) -> Option<Role> {
        match self {
            Destination::Store => Some(Role::Upload),
            Destination::Direct => Some(Role::Signing),
            Destination::Development | Destination::Devices | Destination::InHouse => None,
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

    #[test]
    fn every_destination_belongs_to_a_platform_and_both_have_the_store() {
        for (_, destination) in Destination::ALL {
            assert!(Platform::ALL.iter().any(|platform| platform.has(destination)), "{destination}");
        }
        assert!(Platform::ALL.iter().all(|platform| platform.has(Destination::Store)));
        assert!(!Platform::Android.has(Destination::Devices) && !Platform::Ios.has(Destination::Direct));
    }
}
