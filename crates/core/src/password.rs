//! Passwords: generated ones, and what is wrong with chosen ones.

use ninekeys_formats::secret::{Secret, SecretText};
use thiserror::Error;

use crate::env::Env;
use crate::keys::KeyError;

/// The fewest characters that keystore formats and readers agree on.
pub(crate) const LEAST: usize = 6;
/// Length of a generated password in characters; 24 of 62 are 142 bits.
const GENERATED: usize = 24;
const ALPHABET: &[u8; 62] = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789";

/// Why a password is refused.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum PasswordError {
    /// Fewer characters than any password needs.
    #[error("at least {LEAST} characters are needed")]
    TooShort,
    /// A program would find the passphrase by guessing.
    #[error("a program would guess this passphrase: it takes fewer than 10^{LEAST_GUESSES} tries")]
    Guessable,
}

/// How many guesses a cabinet's passphrase has to withstand, as a power of ten: whoever has the cabinet's file can try as long
/// as they like.
pub(crate) const LEAST_GUESSES: u8 = 10;

/// How easily a password is guessed, on the scale of its estimator: 0 (at once) to 4 (not in practice).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Strength {
    /// 0 to 4.
    pub score: u8,
    /// Whether a warning is due: below 3.
    pub weak: bool,
}

/// A password of 24 letters and digits: ASCII alone, so that every reader of keystores takes it.
///
/// # Errors
/// [`KeyError::Generator`] when the source of randomness fails.
pub fn generate(env: &Env<'_>) -> Result<SecretText, KeyError> {
    let mut text = String::with_capacity(GENERATED);
    while text.len() < GENERATED {
        let mut byte = [0];
        env.keys.fill(&mut byte)?;
        let [value] = byte;
        // 248 is the largest multiple of 62 in a byte: above it the choice would be uneven
        let chosen = ALPHABET.get(usize::from(value % 62)).filter(|_| value < 248);
        text.extend(chosen.map(|&letter| char::from(letter)));
    }
    Ok(Secret::new(text))
}

/// Judges a password that somebody chose; `known` are words that an attacker would try first.
///
/// # Errors
/// [`PasswordError::TooShort`].
pub fn judge(password: &SecretText, known: &[&str]) -> Result<Strength, PasswordError> {
    password.lend(|text| {
        if text.chars().count() < LEAST {
            return Err(PasswordError::TooShort);
        }
        let score = u8::from(zxcvbn::zxcvbn(text, known).score());
        Ok(Strength { score, weak: score < 3 })
    })
}

/// Judges a passphrase that somebody chose for a cabinet; `known` are words that an attacker would try first.
///
/// # Errors
/// [`PasswordError`].
pub fn judge_passphrase(passphrase: &SecretText, known: &[&str]) -> Result<(), PasswordError> {
    judge(passphrase, known)?;
    let guesses = passphrase.lend(|text| zxcvbn::zxcvbn(text, known).guesses_log10());
    if guesses < f64::from(LEAST_GUESSES) { Err(PasswordError::Guessable) } else { Ok(()) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::env::Silent;
    use crate::keys::SystemKeys;
    use std::sync::atomic::AtomicBool;

    #[test]
    fn generated_passwords_are_strong_and_differ() {
        let stop = AtomicBool::new(false);
        let env = Env {
            now: jiff::Timestamp::UNIX_EPOCH,
            keys: &SystemKeys,
            progress: &Silent,
            scratch: &crate::stream::InMemory,
            stop: &stop,
        };
        let (one, two) = (generate(&env).unwrap(), generate(&env).unwrap());
        assert_ne!(one.lend(Clone::clone), two.lend(Clone::clone));
        assert_eq!(one.lend(String::len), 24);
        assert_eq!(judge(&one, &[]), Ok(Strength { score: 4, weak: false }));
    }

    #[test]
    fn short_ones_are_refused_and_guessable_ones_are_weak() {
        let judged = |text: &str| judge(&Secret::new(text.into()), &["gannetpoint"]);
        assert_eq!(judged("ferry"), Err(PasswordError::TooShort));
        assert!(judged("password1").unwrap().weak);
        assert!(judged("gannetpoint").unwrap().weak, "words of the project are tried first");
        assert!(!judged("brisk-lantern-oyster-quilt").unwrap().weak);
        let judged = |text: &str| judge_passphrase(&Secret::new(text.into()), &["gannetpoint"]);
        assert_eq!(judged("ferry"), Err(PasswordError::TooShort));
        assert_eq!(judged("password1"), Err(PasswordError::Guessable));
        assert_eq!(judged("gannetpoint-7"), Err(PasswordError::Guessable));
        assert_eq!(judged("brisk-lantern-oyster"), Ok(()));
    }
}
