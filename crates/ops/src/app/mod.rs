//! `app`: the products that keys belong to, as the project file describes them.

pub mod add;
pub mod change;
pub mod ios;
pub mod list;
pub mod next;
pub mod remove;
pub mod statement;

use ninekeys_core::model::{Destination, ReviewSays};

/// What the project file is to say of an app, new or known; what is left out of a known one stays as it is.
#[derive(Debug)]
pub struct Request {
    /// Its name in commands and file names.
    pub name: String,
    /// What people call it.
    pub title: Option<String>,
    /// The Android package.
    pub package: Option<String>,
    /// The iOS bundle id.
    pub bundle_id: Option<String>,
    /// Where its builds go; the first is meant when nothing is said. They take the place of those that stand there.
    pub destinations: Vec<Destination>,
    /// The version that the next build should have.
    pub version: Option<String>,
    /// What is said of its iOS side beyond its id.
    pub ios: ios::IosSays,
    /// Whether the store is to know it, and what it wants to hear of it.
    pub publish: Option<PublishSays>,
    /// What the people of a store's review are told; what is said takes the place of what stands there.
    pub review: ReviewSays,
}

/// What the store wants to hear of an app beside what the project file says.
#[derive(Debug, Clone, Default)]
pub struct PublishSays {
    /// What the account calls it in its reports; the app's name when nothing is said.
    pub sku: Option<String>,
    /// The language of its texts; English when nothing is said.
    pub language: Option<String>,
    /// Who of the account may see it; everybody when nobody is named.
    pub seen_by: Vec<String>,
}
