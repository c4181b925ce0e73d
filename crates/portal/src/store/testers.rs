//! Who tries builds before everyone gets them.

use jiff::Timestamp;
use ninekeys_core::model::Platform;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A group of testers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Group {
    /// Its name.
    pub group: String,
    /// Whether its people are from outside the company: they get a build only where their group is named.
    pub outside: bool,
    /// The apps that it tries; empty for all.
    pub tries: Vec<Tried>,
}

/// A side of an app that a group tries.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Tried {
    /// What it is made for.
    pub platform: Platform,
    /// Its package or bundle id.
    pub id: String,
}

/// Somebody who was invited.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Tester {
    /// An address for mail.
    pub address: String,
    /// What the person is called.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// The group.
    pub group: String,
    /// When they were invited.
    pub invited: Timestamp,
    /// When they accepted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub accepted: Option<Timestamp>,
}

/// An invitation that is to be sent.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Invitation {
    /// What the person is called.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
}

/// The groups of an account, and everybody in them.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Testers {
    /// The groups, in the order in which they were made.
    pub groups: Vec<Group>,
    /// The people, in the order in which they were invited.
    pub testers: Vec<Tester>,
}
