//! Asking a person: for what is missing, and again when an answer will not do.

use std::path::PathBuf;

use ninekeys_cabinet::Credential;
use ninekeys_formats::secret::SecretText;
use thiserror::Error;

use crate::files::FileError;

/// Why a question was not answered.
#[derive(Debug, Error)]
pub enum AskError {
    /// The person wants it not to be done.
    #[error("you said no")]
    Declined,
    /// The terminal cannot be read.
    #[error("the terminal cannot be read: {0}")]
    Terminal(#[source] std::io::Error),
}

/// What is to be said of an answer that will not do.
pub(crate) type Judged = Result<(), String>;

/// A person. All answers are nothing when there is nobody to ask: a script is never asked.
pub trait Ask {
    /// A credential that was given beforehand: by an option, a file, the environment.
    ///
    /// # Errors
    /// [`FileError`] when the file that was named cannot be read.
    fn given(&self) -> Result<Option<Credential>, FileError>;

    /// Files that secrets were named to be in: nothing may be written over them.
    fn secret_files(&self) -> Vec<PathBuf> {
        Vec::new()
    }

    /// A secret, which is not shown while it is typed.
    ///
    /// # Errors
    /// [`AskError::Terminal`]; so with all that follow.
    fn secret(&self, what: &str) -> Result<Option<SecretText>, AskError>;

    /// A line of text; empty when nothing was typed.
    ///
    /// # Errors
    /// [`AskError::Terminal`].
    fn line(&self, question: &str) -> Result<Option<String>, AskError>;

    /// Says something that belongs to the questions.
    fn tell(&self, text: &str);

    /// Whether something is to be done.
    ///
    /// # Errors
    /// [`AskError::Terminal`].
    fn sure(&self, question: &str) -> Result<Option<bool>, AskError> {
        let answer = self.line(&format!("{question}? yes or no"))?;
        Ok(answer.map(|answer| matches!(answer.to_ascii_lowercase().as_str(), "y" | "yes")))
    }

    /// A new secret, asked for twice, until `judge` takes it and both entries are the same.
    ///
    /// # Errors
    /// [`AskError::Terminal`].
    fn new_secret(
        &self,
        what: &str,
        judge: &dyn Fn(&SecretText) -> Judged,
    ) -> Result<Option<SecretText>, AskError> {
        loop {
            let Some(first) = self.secret(what)? else { return Ok(None) };
            if let Err(lacks) = judge(&first) {
                self.tell(&lacks);
                continue;
            }
            let Some(second) = self.secret("Once more")? else { return Ok(None) };
            if first.lend(|first| second.lend(|second| first == second)) {
                return Ok(Some(first));
            }
            self.tell("the two entries differ");
        }
    }

    /// A text that `judge` takes; `usual` is meant when nothing is typed.
    ///
    /// # Errors
    /// [`AskError::Terminal`].
    fn answer(
        &self,
        question: &str,
        usual: Option<&str>,
        judge: &dyn Fn(&str) -> Judged,
    ) -> Result<Option<String>, AskError> {
        let question = match usual {
            Some(usual) if !usual.is_empty() => format!("{question} [{usual}]"),
            _ => question.to_owned(),
        };
        loop {
            let Some(answer) = self.line(&question)? else { return Ok(None) };
            let answer = match (answer.trim(), usual) {
                ("", Some(usual)) => usual.to_owned(),
                (typed, _) => typed.to_owned(),
            };
            match judge(&answer) {
                Ok(()) => return Ok(Some(answer)),
                Err(lacks) => self.tell(&lacks),
            }
        }
    }
}

/// How often a person may mistype a secret that opens something.
const TRIES: usize = 3;

/// Opens something with a secret that is asked for, and asks again where it is the wrong one. Nothing when there is nobody to
/// ask; else what came of it.
///
/// # Errors
/// [`AskError::Terminal`].
pub(crate) fn open_asking<T, E>(
    ask: &dyn Ask,
    question: &str,
    again: &str,
    mut open: impl FnMut(SecretText) -> Result<T, E>,
    is_wrong: impl Fn(&E) -> bool,
) -> Result<Option<Result<T, E>>, AskError> {
    let mut tries = 1;
    let mut question = question;
    loop {
        let Some(secret) = ask.secret(question)? else { return Ok(None) };
        match open(secret) {
            Err(error) if is_wrong(&error) && tries < TRIES => question = again,
            done => return Ok(Some(done)),
        }
        tries += 1;
    }
}

/// A person who has unlocked the cabinet, and is not asked for that again by the use cases that follow.
pub(crate) struct Unlocked<'a> {
    person: &'a dyn Ask,
    credential: Credential,
}

impl<'a> Unlocked<'a> {
    /// With what unlocked it.
    pub(crate) fn new(person: &'a dyn Ask, credential: Credential) -> Self {
        Unlocked { person, credential }
    }
}

impl Ask for Unlocked<'_> {
    fn given(&self) -> Result<Option<Credential>, FileError> {
        Ok(Some(self.credential.duplicate()))
    }

    fn secret_files(&self) -> Vec<PathBuf> {
        self.person.secret_files()
    }

    fn secret(&self, what: &str) -> Result<Option<SecretText>, AskError> {
        self.person.secret(what)
    }

    fn line(&self, question: &str) -> Result<Option<String>, AskError> {
        self.person.line(question)
    }

    fn tell(&self, text: &str) {
        self.person.tell(text);
    }
}

/// Nobody to ask.
pub struct Nobody;

impl Ask for Nobody {
    fn given(&self) -> Result<Option<Credential>, FileError> {
        Ok(None)
    }

    fn secret(&self, _what: &str) -> Result<Option<SecretText>, AskError> {
        Ok(None)
    }

    fn line(&self, _question: &str) -> Result<Option<String>, AskError> {
        Ok(None)
    }

    fn tell(&self, _text: &str) {}
}

#[cfg(test)]
mod tests {
    use std::cell::RefCell;

    use ninekeys_formats::secret::Secret;

    use super::*;

    /// Somebody who has these answers, in this order.
    struct Person {
        answers: RefCell<Vec<&'static str>>,
        heard: RefCell<Vec<String>>,
    }

    fn person(answers: &[&'static str]) -> Person {
        let answers = answers.iter().rev().copied().collect();
        Person { answers: RefCell::new(answers), heard: RefCell::default() }
    }

    impl Ask for Person {
        fn given(&self) -> Result<Option<Credential>, FileError> {
            Ok(None)
        }

        fn secret(&self, what: &str) -> Result<Option<SecretText>, AskError> {
            Ok(self.line(what)?.map(Secret::new))
        }

        fn line(&self, question: &str) -> Result<Option<String>, AskError> {
            self.heard.borrow_mut().push(question.into());
            Ok(self.answers.borrow_mut().pop().map(str::to_owned))
        }

        fn tell(&self, text: &str) {
            self.heard.borrow_mut().push(text.into());
        }
    }

    #[test]
    fn what_opens_something_may_be_mistyped_twice_and_other_faults_are_said_at_once() {
        let open = |secret: SecretText| match secret.lend(Clone::clone).as_str() {
            "right" => Ok(42),
            "torn" => Err("damaged"),
            _ => Err("wrong"),
        };
        let tried = |answers: &[&'static str]| {
            let somebody = person(answers);
            let came =
                open_asking(&somebody, "Password", "once more", open, |error| *error == "wrong").unwrap();
            (came, somebody.heard.into_inner().join(", "))
        };
        assert_eq!(tried(&["right"]), (Some(Ok(42)), "Password".into()));
        assert_eq!(tried(&["a", "b", "right"]), (Some(Ok(42)), "Password, once more, once more".into()));
        assert_eq!(tried(&["a", "b", "c", "right"]).0, Some(Err("wrong")));
        assert_eq!(tried(&["torn", "right"]), (Some(Err("damaged")), "Password".into()));
        assert_eq!(tried(&[]).0, None);
        assert_eq!(tried(&["a"]), (None, "Password, once more".into()));
    }

    #[test]
    fn a_new_secret_is_asked_for_until_it_will_do_and_is_the_same_twice() {
        let somebody = person(&["ab", "abcdef", "abcdeg", "abcdef", "abcdef"]);
        let long = |text: &SecretText| text.lend(|text| (text.len() > 5).then_some(()).ok_or("short".into()));
        let secret = somebody.new_secret("Passphrase", &long).unwrap().unwrap();
        assert_eq!(secret.lend(Clone::clone), "abcdef");
        let heard = somebody.heard.borrow();
        let expected = [
            "Passphrase",
            "short",
            "Passphrase",
            "Once more",
            "the two entries differ",
            "Passphrase",
            "Once more",
        ];
        assert_eq!(*heard, expected);
    }

    #[test]
    fn an_empty_answer_is_the_usual_one_and_a_wrong_one_is_asked_again() {
        let somebody = person(&["!", " pier "]);
        let plain = |text: &str| if text == "!" { Err("not that".into()) } else { Ok(()) };
        assert_eq!(somebody.answer("Name", None, &plain).unwrap().as_deref(), Some("pier"));
        assert_eq!(*somebody.heard.borrow(), ["Name", "not that", "Name"]);
        let somebody = person(&[""]);
        assert_eq!(somebody.answer("Name", Some("quay"), &plain).unwrap().as_deref(), Some("quay"));
        assert_eq!(*somebody.heard.borrow(), ["Name [quay]"]);
        assert_eq!(person(&["no"]).sure("Go on").unwrap(), Some(false));
        assert_eq!(person(&["YES"]).sure("Go on").unwrap(), Some(true));
        assert_eq!(Nobody.sure("Go on").unwrap(), None);
    }
}
