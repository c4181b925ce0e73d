//! What a check has to say.

use std::fmt;

use serde::Serialize;

/// How much a finding matters.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
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
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Finding {
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
    /// The command that mends it, as arguments behind the program's name; words in capitals are the user's.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub mend: Option<Vec<String>>,
}

/// What a rule saw, before the rule's name and remedy are put to it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Observation {
    pub(crate) text: String,
    pub(crate) level: Option<Level>,
    pub(crate) expected: Option<String>,
    pub(crate) found: Option<String>,
    pub(crate) place: Option<String>,
    pub(crate) mend: Option<Vec<String>>,
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

    /// Says which command mends it.
    #[must_use]
    pub fn mend<S: Into<String>>(mut self, arguments: impl IntoIterator<Item = S>) -> Self {
        self.mend = Some(arguments.into_iter().map(Into::into).collect());
        self
    }
}
