//! What a check has to say.

use std::fmt;

use schemars::JsonSchema;
use serde::Serialize;

use crate::model::{Destination, NineKey};

/// What would mend something. Which words that takes is said by those who know the commands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Mend {
    /// Signing the build.
    Sign {
        /// With which keystore, where it is not found by itself.
        key: Option<String>,
        /// Where it goes, where that is known.
        destination: Option<Destination>,
    },
    /// A backup of the cabinet.
    Backup,
    /// A backup that is kept elsewhere.
    BackupElsewhere,
    /// A new file that unlocks the cabinet.
    UnlockFile,
    /// Looking at an item.
    Show {
        /// Its name.
        item: String,
    },
    /// A signing key for an app.
    CreateKey {
        /// The app's name.
        app: String,
    },
    /// Asking for an identity.
    RequestIdentity {
        /// Which of the nine.
        kind: NineKey,
        /// The app that it is for, where it is for one.
        app: Option<String>,
    },
    /// Taking a certificate in.
    AcceptCertificate,
    /// Taking an identity in, with its key.
    ImportIdentity,
    /// Taking an API key in that was waited for.
    ImportApiKey {
        /// Its name.
        name: String,
    },
    /// Giving the signing key of an app to the store to hold.
    Deposit {
        /// The app's name.
        app: String,
    },
    /// A draft of its rotation.
    Rotate {
        /// Its name.
        item: String,
    },
    /// Saying that a date was seen to.
    DateDone {
        /// Its name.
        date: String,
    },
    /// Going on with a rotation.
    Resume {
        /// Its name.
        rotation: String,
    },
    /// Making or renewing whatever an app lacks for a destination.
    Prepare {
        /// The app's name.
        app: String,
        /// Where its builds go.
        destination: Destination,
    },
}

/// How much a finding matters.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Level {
    /// Worth knowing.
    Note,
    /// Will hurt later.
    Warning,
    /// Must not go out.
    Error,
}

impl fmt::Display for Level {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Level::Note => "note",
            Level::Warning => "warning",
            Level::Error => "error",
        })
    }
}

/// One thing a check has to say.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Finding<M = Mend> {
    /// The rule's name.
    pub rule: &'static str,
    /// The rule's family.
    pub family: &'static str,
    /// How much it matters.
    pub level: Level,
    /// What is wrong, in a sentence.
    pub text: String,
    /// What was expected.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub expected: Option<String>,
    /// What was found.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub found: Option<String>,
    /// Where: an entry of the build, a field.
    #[serde(rename = "where", skip_serializing_if = "Option::is_none")]
    pub place: Option<String>,
    /// What to do, in a sentence.
    pub remedy: &'static str,
    /// What mends it; in an answer the command, as arguments behind the program's name.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub mend: Option<M>,
}

impl<M> Finding<M> {
    /// The same with what mends it said in another way.
    pub fn map<N>(self, say: impl FnOnce(M) -> N) -> Finding<N> {
        let Finding { rule, family, level, text, expected, found, place, remedy, mend } = self;
        Finding { rule, family, level, text, expected, found, place, remedy, mend: mend.map(say) }
    }
}

/// What a rule saw, before the rule's name and remedy are put to it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Observation {
    pub(crate) text: String,
    pub(crate) level: Option<Level>,
    pub(crate) expected: Option<String>,
    pub(crate) found: Option<String>,
    pub(crate) place: Option<String>,
    pub(crate) mend: Option<Mend>,
}

impl Observation {
    /// Says what is wrong.
    pub fn new(text: impl Into<String>) -> Self {
        Observation { text: text.into(), ..Observation::default() }
    }

    /// Says that it matters otherwise than the rule usually does.
    #[must_use]
    pub fn level(mut self, level: Level) -> Self {
        self.level = Some(level);
        self
    }

    /// Says what was expected.
    #[must_use]
    pub fn expected(mut self, value: impl fmt::Display) -> Self {
        self.expected = Some(value.to_string());
        self
    }

    /// Says what was found.
    #[must_use]
    pub fn found(mut self, value: impl fmt::Display) -> Self {
        self.found = Some(value.to_string());
        self
    }

    /// Says where.
    #[must_use]
    pub fn place(mut self, value: impl fmt::Display) -> Self {
        self.place = Some(value.to_string());
        self
    }

    /// Says that what mends others mends it too.
    #[must_use]
    pub(crate) fn without_mend(mut self) -> Self {
        self.mend = None;
        self
    }

    /// Says what mends it.
    #[must_use]
    pub fn mend(mut self, mend: Mend) -> Self {
        self.mend = Some(mend);
        self
    }
}
