//! What a user is told when a command was not done: cause, what changed, what to type next, and the exit code. Which
//! error has which code and remedy is said in the files of this folder, one match an error and none with a wildcard, so that
//! the compiler asks about every new variant.

mod apikey;
mod app;
mod build;
mod cabinet;
mod date;
mod files;
mod give;
mod identity;
mod keystore;
mod look;
mod portal;
mod profile;
mod rotate;
mod store;

use std::error::Error;
use std::io;
use std::process::ExitCode;
use std::sync::OnceLock;

use schemars::{JsonSchema, schema_of};
use serde::{Serialize, Serializer};

use crate::output::{Line, Paper};
use crate::store::meant;

/// What the process ends with. Scripts depend on the numbers.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Exit {
    /// Done, nothing wrong.
    Done,
    /// Done, with findings of level error.
    Findings,
    /// Typed wrongly.
    Usage,
    /// Something could not be read or written, or is damaged.
    Damaged,
    /// Locked, or a wrong passphrase or password.
    Locked,
    /// Refused: policy, a limit, it exists already.
    Refused,
    /// The portal or the store refused or failed.
    Portal,
    /// A defect of the tool.
    Defect,
    /// Stopped by the user.
    Stopped,
    /// What a command ended with that was run with something on loan.
    Child(u8),
}

impl Exit {
    /// The number.
    pub(crate) fn code(self) -> u8 {
        match self {
            Exit::Done => 0,
            Exit::Findings => 1,
            Exit::Usage => 2,
            Exit::Damaged => 3,
            Exit::Locked => 4,
            Exit::Refused => 5,
            Exit::Portal => 6,
            Exit::Defect => 70,
            Exit::Stopped => 130,
            Exit::Child(code) => code,
        }
    }
}

impl From<Exit> for ExitCode {
    fn from(exit: Exit) -> Self {
        ExitCode::from(exit.code())
    }
}

schema_of!(Exit, { "type": "integer", "minimum": 0, "maximum": 255 });

impl Serialize for Exit {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_u8(self.code())
    }
}

/// Name and version of the JSON form of an error.
#[derive(Debug)]
struct ErrorSchema;

schema_of!(ErrorSchema, { "const": "ninekeys.error/1" });

impl Serialize for ErrorSchema {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str("ninekeys.error/1")
    }
}

/// Why a command was not done, as the user is told.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct Failure {
    schema: ErrorSchema,
    /// What was tried, on what.
    attempt: String,
    /// What was wrong.
    because: String,
    /// What is other than before.
    changed: String,
    /// The next command to type, as arguments behind the program's name.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    next: Vec<String>,
    /// What to do where no command of ours does it.
    #[serde(skip_serializing_if = "Option::is_none")]
    remedy: Option<&'static str>,
    /// The exit code.
    pub(crate) exit: Exit,
}

/// The exit code of an error, and what to do.
pub(crate) type Class = (Exit, Remedy);

/// What to do next. Words in capitals are the user's.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Remedy {
    /// This command: arguments behind the program's name.
    Command(Vec<String>),
    /// What was typed, with these words behind it; an option that stands there already gives way.
    Again(Vec<String>),
    /// What was typed, without this option.
    Without(&'static str),
    /// Something that no command of ours does.
    Say(&'static str),
    /// What to do where what was asked for is there all the same.
    Stands {
        /// What is other than before.
        changed: &'static str,
        /// What to do.
        next: Box<Remedy>,
    },
}

/// An error that knows its class.
pub(crate) trait Classify: Error {
    /// The exit code and the remedy.
    fn class(&self) -> Class;
}

fn owned(words: &[&str]) -> Vec<String> {
    words.iter().map(|&word| word.to_owned()).collect()
}

fn class(exit: Exit, next: &[&str]) -> Class {
    (exit, Remedy::Command(owned(next)))
}

fn again(exit: Exit, with: &[&str]) -> Class {
    (exit, Remedy::Again(owned(with)))
}

fn say(exit: Exit, remedy: &'static str) -> Class {
    (exit, Remedy::Say(remedy))
}

/// Of what only the tool's makers can mend.
fn defect() -> Class {
    say(Exit::Defect, "tell the makers of this tool, with what you typed and what it said")
}

/// What was typed behind the program's name.
static TYPED: OnceLock<Vec<String>> = OnceLock::new();

/// Keeps what was typed, for advice that goes on from it. Secrets are never arguments.
pub(crate) fn keep_typed(words: Vec<String>) {
    let _ = TYPED.set(words);
}

impl Remedy {
    /// The command to type, if one does it.
    fn command(&self, typed: &[String]) -> Vec<String> {
        match self {
            Remedy::Command(words) => meant(words.clone()),
            Remedy::Again(with) => with_option(typed, with),
            Remedy::Without(option) => without_option(typed, option, true),
            Remedy::Stands { next, .. } => next.command(typed),
            Remedy::Say(_) => Vec::new(),
        }
    }
}

/// What was typed, without an option and, where it has one, its value.
fn without_option(typed: &[String], option: &str, has_value: bool) -> Vec<String> {
    let mut out = Vec::new();
    let mut words = typed.iter();
    while let Some(word) = words.next() {
        if word == option {
            if has_value {
                words.next();
            }
        } else if !word.starts_with(&format!("{option}=")) {
            out.push(word.clone());
        }
    }
    out
}

/// What was typed, with words put behind it, but before a command of the user's that is to be run.
fn with_option(typed: &[String], with: &[String]) -> Vec<String> {
    let (own, lent) = match typed.iter().position(|word| word == "--") {
        Some(at) => typed.split_at(at),
        None => (typed, &[][..]),
    };
    let own = match with {
        [option, rest @ ..] if option.starts_with("--") => without_option(own, option, !rest.is_empty()),
        _ => own.to_vec(),
    };
    own.iter().chain(with).chain(lent).cloned().collect()
}

impl Failure {
    /// From an error that knows its code and remedy.
    pub(crate) fn of<E: Classify>(attempt: &str, error: &E) -> Self {
        let (exit, remedy) = error.class();
        Failure::plain(exit, attempt, &with_causes(error)).remedy(&remedy)
    }

    /// Says what to do.
    fn remedy(mut self, remedy: &Remedy) -> Self {
        self.next = remedy.command(TYPED.get().map_or(&[], Vec::as_slice));
        match remedy {
            Remedy::Say(text) => self.remedy = Some(text),
            Remedy::Stands { changed, next } => {
                (*changed).clone_into(&mut self.changed);
                return self.remedy(next);
            }
            Remedy::Command(_) | Remedy::Again(_) | Remedy::Without(_) => {}
        }
        self
    }

    /// From a sentence.
    pub(crate) fn plain(exit: Exit, attempt: &str, because: &str) -> Self {
        Failure {
            schema: ErrorSchema,
            attempt: attempt.into(),
            because: because.into(),
            changed: "nothing".into(),
            next: Vec::new(),
            remedy: None,
            exit,
        }
    }

    /// Ends with another code.
    pub(crate) fn ending(mut self, exit: Exit) -> Self {
        self.exit = exit;
        self
    }

    /// Says what is other than before, where it is not nothing.
    pub(crate) fn changed(mut self, changed: &str) -> Self {
        self.changed = changed.into();
        self
    }

    /// Says what to do where no command of ours does it.
    pub(crate) fn say(mut self, remedy: &'static str) -> Self {
        self.remedy = Some(remedy);
        self
    }

    /// Says that what was typed works with these words behind it.
    pub(crate) fn again(self, with: &[&str]) -> Self {
        self.remedy(&Remedy::Again(owned(with)))
    }

    /// Says what to type next.
    pub(crate) fn next<S: Into<String>>(mut self, arguments: impl IntoIterator<Item = S>) -> Self {
        self.next = arguments.into_iter().map(Into::into).collect();
        self
    }

    /// Puts what the user typed in the place of a word in capitals, so that the advice can be copied as it is.
    pub(crate) fn naming(mut self, placeholder: &str, typed: impl AsRef<str>) -> Self {
        for word in self.next.iter_mut().filter(|word| *word == placeholder) {
            typed.as_ref().clone_into(word);
        }
        self
    }

    /// The same with several words in the place of one.
    pub(crate) fn naming_all(mut self, placeholder: &str, typed: &[String]) -> Self {
        let words = self.next.iter().flat_map(|word| match word == placeholder {
            true => typed.to_vec(),
            false => vec![word.clone()],
        });
        self.next = words.collect();
        self
    }

    /// What was tried and why it was not done, in one line.
    pub(crate) fn sentence(&self) -> String {
        format!("cannot {}: {}", self.attempt, self.because)
    }

    /// For people.
    pub(crate) fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let row = |label: &'static str| Line::new().dim(label).to(12).hang(12);
        paper.put(&Line::new().text(format!("ninekeys: cannot {}", self.attempt)).hang(10))?;
        paper.put(&row("  because").text(&self.because))?;
        paper.put(&row("  changed").text(&self.changed))?;
        match &self.remedy {
            _ if !self.next.is_empty() => paper.put(&row("  next").command(&self.next)),
            Some(remedy) => paper.put(&row("  next").text(*remedy)),
            None => Ok(()),
        }
    }
}

/// An error and the causes that its own sentence does not say.
fn with_causes(error: &dyn Error) -> String {
    let mut text = error.to_string();
    let mut cause = error.source();
    while let Some(inner) = cause {
        let says = inner.to_string();
        if !text.contains(&says) && !is_system_error(inner) {
            text = format!("{text}: {says}");
        }
        cause = inner.source();
    }
    text
}

/// A file error says in words what the system's error says in its own.
fn is_system_error(error: &(dyn Error + 'static)) -> bool {
    error.downcast_ref::<io::Error>().is_some_and(|e| e.kind() != io::ErrorKind::Other)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::path::Path;

    use ninekeys_cabinet::CabinetError;
    use ninekeys_core::android::SignError as CoreSignError;
    use ninekeys_core::stream::DigestError;
    use ninekeys_formats::zip::ZipError;
    use ninekeys_ops::build::check::CheckError;
    use ninekeys_ops::build::material::SignerError;
    use ninekeys_ops::build::sign::SignError;
    use ninekeys_ops::inventory::InventoryError;
    use ninekeys_ops::keystore::create::CreateError;
    use ninekeys_ops::{FileError, OpenError};

    #[test]
    fn causes_are_told_once_and_systems_errors_in_our_words() {
        let cause = io::Error::from(io::ErrorKind::PermissionDenied);
        let error = FileError::new("read", Path::new("a.apk"), cause);
        assert_eq!(with_causes(&error), "a.apk could not be read: you have no permission");
        let cause = CheckError::Zip(ZipError::Truncated);
        let error = SignError::Check(Box::new(cause));
        let text = with_causes(&error);
        assert_eq!(text.matches("cut short").count(), 1, "{text}");
        assert!(text.starts_with("the signed output could not be checked: "), "{text}");
    }

    #[test]
    fn the_code_is_that_of_the_innermost_cause() {
        let locked = || OpenError::NobodyToAsk("ninekeys.cabinet".into());
        assert_eq!(SignError::Open(locked()).class().0, Exit::Locked);
        assert_eq!(InventoryError::Open(locked()).class().0, Exit::Locked);
        let taken = CabinetError::NameTaken("k".into());
        assert_eq!(CreateError::Cabinet(taken).class(), class(Exit::Refused, &["show", "k"]));
        let stopped = CoreSignError::Digest(DigestError::Stopped);
        assert_eq!(SignError::Android(stopped).class().0.code(), 130);
    }

    #[test]
    fn every_failure_is_printed_with_cause_change_and_advice() {
        let missing = SignerError::NoKey { app: "crossing".into(), role: "signing" };
        let failure = Failure::of("sign a b.apk", &missing);
        let mut out = Vec::new();
        let mut paper = Paper::new(&mut out, None, crate::output::Marks::Unicode);
        failure.text(&mut paper).unwrap();
        let text = anstream::adapter::strip_bytes(&out).into_vec();
        assert_eq!(
            String::from_utf8(text).unwrap(),
            "ninekeys: cannot sign a b.apk\n  \
             because   the cabinet holds no signing key for crossing\n  \
             changed   nothing\n  \
             next      ninekeys keystore create crossing-signing --app crossing --common-name NAME\n"
        );
        let json = serde_json::to_value(&failure).unwrap();
        assert_eq!((&json["exit"], &json["schema"]), (&5.into(), &"ninekeys.error/1".into()));
    }

    #[test]
    fn advice_goes_on_from_what_was_typed() {
        let typed = owned(&["sign", "a.apk", "--to", "out", "--for", "store"]);
        let next = |remedy: Remedy| remedy.command(&typed).join(" ");
        assert_eq!(next(again(Exit::Refused, &["--replace"]).1), "sign a.apk --to out --for store --replace");
        assert_eq!(next(again(Exit::Usage, &["--for", "direct"]).1), "sign a.apk --to out --for direct");
        assert_eq!(next(Remedy::Without("--to")), "sign a.apk --for store");
        let typed = owned(&["lend", "--app=x", "--", "make", "--app", "y"]);
        let next = again(Exit::Usage, &["--app", "z"]).1.command(&typed).join(" ");
        assert_eq!(next, "lend --app z -- make --app y", "what is run is the user's");
    }
}
