//! The store: where builds go. What can be asked of it, and what is said over the wire; as with the portal, another store is
//! another [`Store`].

use jiff::Timestamp;
use ninekeys_core::model::{BuildNumber, Platform};
use ninekeys_core::next::Earlier;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

pub use self::keys::{AsDelivered, Deposit, Held, NewUploadKey, NextUpload, Origin, ReceivingKey};
pub use self::review::{Advance, Contact, Login, Question, Review};
pub use self::testers::{Group, Invitation, Tester, Testers, Tried};
use crate::client::PortalError;

mod keys;
mod review;
mod testers;

/// Where every path of the store begins.
pub const BASE: &str = "/store/v1";
/// How long a piece of an upload is, in bytes; the last one is shorter.
pub const PIECE: u64 = 8 << 20;
/// The header with the digest of a piece (RFC 9530).
pub const DIGEST: &str = "content-digest";

/// An app at the store.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Record {
    /// The package or bundle id.
    pub id: String,
    /// What it is made for.
    pub platform: Platform,
    /// What people call it; no other app of the store has that name.
    pub title: String,
    /// What the account calls it in its reports; no other app of the account has it.
    pub sku: String,
    /// The language that its texts are in first (BCP 47).
    pub language: String,
    /// Who of the account may see it, by their addresses for mail; everybody when nobody is named.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub seen_by: Vec<String>,
}

/// A build that is to be uploaded.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct NewUpload {
    /// The app's package or bundle id.
    pub id: String,
    /// What it is made for.
    pub platform: Platform,
    /// The file's name.
    pub file: String,
    /// Its size in bytes.
    pub size: u64,
    /// SHA-256 of it.
    pub sha256: String,
}

/// An upload, as far as it is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Upload {
    /// Its id.
    pub upload: String,
    /// How long its pieces are, in bytes.
    pub piece: u64,
    /// How many of them are there: the next one to be sent has this number.
    pub received: u64,
}

/// How far a build is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Stage {
    /// The store looks at it.
    Processing,
    /// It can go to testers, and has not yet.
    Ready,
    /// Testers have it.
    Testing,
    /// Somebody at the store looks whether everyone may have it.
    InReview,
    /// Everyone may have it, from a time on.
    Approved,
    /// Everyone has it, or a share of all.
    Live,
    /// The store does not take it.
    Rejected,
}

impl Stage {
    /// In words.
    pub fn words(self) -> &'static str {
        match self {
            Stage::Processing => "processing",
            Stage::Ready => "ready for testers",
            Stage::Testing => "testing",
            Stage::InReview => "in review",
            Stage::Approved => "approved",
            Stage::Live => "live",
            Stage::Rejected => "rejected",
        }
    }
}

/// A stage that a build came to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Reached {
    /// Which.
    pub stage: Stage,
    /// When.
    pub at: Timestamp,
}

/// A build at the store.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Delivery {
    /// Its id at the store.
    pub delivery: String,
    /// The app's package or bundle id.
    pub id: String,
    /// What it is made for.
    pub platform: Platform,
    /// The version's name.
    pub version: String,
    /// The version code or build number.
    pub number: BuildNumber,
    /// The name that the file had.
    pub file: String,
    /// Its size in bytes.
    pub size: u64,
    /// SHA-256 of it.
    pub sha256: String,
    /// How far it is.
    pub stage: Stage,
    /// Every stage that it came to, the first one first.
    pub stages: Vec<Reached>,
    /// Why it was not taken.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub because: Option<String>,
    /// The groups of testers that have it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub groups: Vec<String>,
    /// The time before which it does not go live.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub on: Option<Timestamp>,
    /// The share of people who get it, in percent; everyone when nothing is said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub share: Option<u8>,
    /// Whether nobody gets it who does not have it yet.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub held: bool,
}

impl Delivery {
    /// It, as what the next build is counted from.
    pub fn earlier(&self) -> Earlier {
        Earlier {
            version: self.version.clone(),
            number: self.number.clone(),
            live: self.stage == Stage::Live,
        }
    }

    /// Whether the next build of that app is counted from it: one that was rejected counts for nothing.
    pub fn counts_for(&self, platform: Platform, id: &str) -> bool {
        self.platform == platform && self.id == id && self.stage != Stage::Rejected
    }

    /// Since when it is where it is.
    pub fn since(&self) -> Option<Timestamp> {
        self.stages.last().map(|reached| reached.at)
    }
}

/// What a store can be asked.
pub trait Store {
    /// The apps that it knows of the account.
    ///
    /// # Errors
    /// [`PortalError`]; so with all that follow.
    fn records(&self) -> Result<Vec<Record>, PortalError>;

    /// Makes an app known.
    ///
    /// # Errors
    /// [`PortalError`].
    fn new_record(&self, new: &Record) -> Result<Record, PortalError>;

    /// Begins an upload; one that was begun with the same bytes and is not at its end goes on.
    ///
    /// # Errors
    /// [`PortalError`].
    fn begin(&self, new: &NewUpload) -> Result<Upload, PortalError>;

    /// Sends a piece: its bytes, and SHA-256 of them.
    ///
    /// # Errors
    /// [`PortalError`].
    fn send(&self, upload: &str, number: u64, piece: (&[u8], &[u8])) -> Result<Upload, PortalError>;

    /// Ends an upload: the store has every piece, and takes the build.
    ///
    /// # Errors
    /// [`PortalError`]; a refusal says the rule.
    fn complete(&self, upload: &str) -> Result<Delivery, PortalError>;

    /// The builds that it has, the newest first.
    ///
    /// # Errors
    /// [`PortalError`].
    fn deliveries(&self) -> Result<Vec<Delivery>, PortalError>;

    /// Has a build go to testers, or to everyone.
    ///
    /// # Errors
    /// [`PortalError`].
    fn advance(&self, delivery: &str, wanted: &Advance) -> Result<Delivery, PortalError>;

    /// What it asks of every app before everyone gets a build.
    ///
    /// # Errors
    /// [`PortalError`].
    fn questions(&self) -> Result<Vec<Question>, PortalError>;

    /// Gives a build that a share of people has to nobody else.
    ///
    /// # Errors
    /// [`PortalError`].
    fn hold(&self, delivery: &str) -> Result<Delivery, PortalError>;

    /// The certificate that signing keys are encrypted to, DER.
    ///
    /// # Errors
    /// [`PortalError`].
    fn receiving_key(&self) -> Result<Vec<u8>, PortalError>;

    /// The keys that it has of an Android app; nothing where it holds none.
    ///
    /// # Errors
    /// [`PortalError`].
    fn keys(&self, package: &str) -> Result<Option<Held>, PortalError>;

    /// Gives it the signing key of an app to hold.
    ///
    /// # Errors
    /// [`PortalError`].
    fn deposit(&self, package: &str, deposit: &Deposit) -> Result<Held, PortalError>;

    /// Has another key upload, after a time of waiting.
    ///
    /// # Errors
    /// [`PortalError`].
    fn replace_upload(&self, package: &str, new: &NewUploadKey) -> Result<Held, PortalError>;

    /// What devices get of a build.
    ///
    /// # Errors
    /// [`PortalError`].
    fn as_delivered(&self, delivery: &str) -> Result<AsDelivered, PortalError>;

    /// A piece of that.
    ///
    /// # Errors
    /// [`PortalError`].
    fn delivered_piece(&self, delivery: &str, number: u64) -> Result<Vec<u8>, PortalError>;

    /// The groups of testers, and everybody in them.
    ///
    /// # Errors
    /// [`PortalError`].
    fn testers(&self) -> Result<Testers, PortalError>;

    /// Makes a group, or changes it.
    ///
    /// # Errors
    /// [`PortalError`].
    fn put_group(&self, group: &Group) -> Result<Group, PortalError>;

    /// Invites somebody; who was invited before is as they were.
    ///
    /// # Errors
    /// [`PortalError`].
    fn invite(&self, group: &str, address: &str, name: Option<&str>) -> Result<Tester, PortalError>;

    /// Takes somebody out of a group.
    ///
    /// # Errors
    /// [`PortalError`].
    fn remove_tester(&self, group: &str, address: &str) -> Result<Tester, PortalError>;
}
