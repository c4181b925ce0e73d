//! What a store wants to know before everyone gets a build.

use std::collections::BTreeMap;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::Stage;

/// Whom the people of the review ask.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Contact {
    /// A person or a desk.
    pub name: String,
    /// An address for mail.
    pub email: String,
    /// A number to call.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub phone: Option<String>,
}

/// An account of the app's own that is there to be tried with.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Login {
    /// Its name.
    pub account: String,
    /// Its password.
    pub password: String,
}

impl std::fmt::Debug for Login {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Login").field("account", &self.account).finish_non_exhaustive()
    }
}

impl Drop for Login {
    fn drop(&mut self) {
        zeroize::Zeroize::zeroize(&mut self.password);
    }
}

/// What is said to the people of the review.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Review {
    /// What is new in this version, for those who use the app.
    pub whats_new: String,
    /// Whom they ask.
    pub contact: Contact,
    /// What they have to know to try it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub notes: Option<String>,
    /// The answers to the store's questions, by name.
    pub declarations: BTreeMap<String, bool>,
    /// What they log in with.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub login: Option<Login>,
}

/// A question that a store asks of every app.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Question {
    /// The name that its answer goes by.
    pub name: String,
    /// What is asked; yes or no.
    pub asks: String,
}

/// Where a build is to go, and how.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Advance {
    /// Testers, or everyone by way of a review.
    pub to: Stage,
    /// The groups of testers; those inside the company when none is named.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub groups: Vec<String>,
    /// What the people of the review are told.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub review: Option<Review>,
    /// Not before this time; as soon as it may when nothing is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub on: Option<Timestamp>,
    /// The share of people who get it, in percent; everyone when nothing is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub share: Option<u8>,
}

impl Advance {
    /// To a stage, with nothing else said.
    pub fn to(to: Stage) -> Self {
        Advance { to, groups: Vec::new(), review: None, on: None, share: None }
    }
}
