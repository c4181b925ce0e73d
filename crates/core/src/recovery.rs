//! Recovery pieces: a secret that opens the cabinet, split so that some of the pieces tell it, and fewer tell nothing (Shamir's
//! scheme over GF(2^8), each byte by itself). A piece is text that can be printed and typed, with a checksum of its own.

use ninekeys_formats::secret::{Secret, SecretBytes, SecretText};
use thiserror::Error;
use zeroize::Zeroizing;

use crate::base32;
use crate::digest::sha256;
use crate::env::Env;
use crate::field;
use crate::keys::KeyError;

/// Bytes of the secret: 160 bits, more than anybody tries.
const SECRET: usize = 20;
/// Version, set (4), needed.
const HEAD: usize = 6;
/// A share: its number, and a byte for each of the secret.
const SHARE: usize = SECRET + 1;
/// Bytes of the checksum.
const CHECK: usize = 4;
/// All of a piece: 31 bytes, 50 letters.
const PIECE: usize = HEAD + SHARE + CHECK;
/// The one version there is.
const VERSION: u8 = 1;
/// The most pieces of a set.
pub const MOST_PIECES: u8 = 32;
/// Letters of a group of a piece.
const GROUP: usize = 4;

/// Why pieces tell nothing.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum RecoveryError {
    /// Numbers that make no set.
    #[error(
        "{needed} of {pieces} pieces cannot be: at least 2 are needed, and there are at most {MOST_PIECES}"
    )]
    Numbers {
        /// How many tell the secret.
        needed: u8,
        /// How many there are.
        pieces: u8,
    },
    /// A piece that was typed wrongly. Pieces count from 1, as they were given.
    #[error("piece {0} was typed wrongly, or is none: its checksum does not fit")]
    Mistyped(usize),
    /// A piece of another set.
    #[error("piece {0} is of another set than the first")]
    OtherSet(usize),
    /// The same piece twice.
    #[error("piece {0} was given before")]
    Twice(usize),
    /// Too few.
    #[error("{given} of the {needed} pieces that are needed {}", if *given == 1 { "is here" } else { "are here" })]
    TooFew {
        /// How many tell the secret.
        needed: u8,
        /// How many were given.
        given: usize,
    },
    /// They do not go together.
    #[error("the pieces do not go together")]
    Shares,
}

/// A secret and the pieces of it.
#[derive(Debug)]
pub struct Pieces {
    /// The passphrase that they tell together.
    pub passphrase: SecretText,
    /// The pieces, each a line of letters and digits.
    pub pieces: Vec<SecretText>,
}

/// Why there are no pieces.
#[derive(Debug, Error)]
pub enum SplitError {
    /// The numbers.
    #[error(transparent)]
    Numbers(#[from] RecoveryError),
    /// The source of randomness.
    #[error(transparent)]
    Key(#[from] KeyError),
}

/// Makes up a secret, and pieces of which `needed` tell it.
///
/// # Errors
/// [`SplitError`].
pub fn split(needed: u8, pieces: u8, env: &Env<'_>) -> Result<Pieces, SplitError> {
    if !(2..=MOST_PIECES).contains(&needed) || !(needed..=MOST_PIECES).contains(&pieces) {
        return Err(RecoveryError::Numbers { needed, pieces }.into());
    }
    let mut secret = Secret::new(vec![0; SECRET]);
    secret.change(|bytes| env.keys.fill(bytes))?;
    let mut set = [0; 4];
    env.keys.fill(&mut set)?;
    let mut chance = Zeroizing::new(vec![0; SECRET * (usize::from(needed) - 1)]);
    env.keys.fill(&mut chance)?;
    let shares = secret.lend(|bytes| shares_of(bytes, &chance, pieces));
    let written = shares.iter().map(|share| {
        let mut piece = Zeroizing::new(Vec::with_capacity(PIECE));
        piece.push(VERSION);
        piece.extend(set);
        piece.push(needed);
        piece.extend(share);
        let check = checksum(&piece);
        piece.extend(check);
        in_groups(&piece)
    });
    Ok(Pieces { pieces: written.collect(), passphrase: passphrase_of(&secret) })
}

/// Tells the passphrase that pieces stand for.
///
/// # Errors
/// [`RecoveryError`].
pub fn join(pieces: &[SecretText]) -> Result<SecretText, RecoveryError> {
    let mut shares: Zeroizing<Vec<Vec<u8>>> = Zeroizing::new(Vec::new());
    let mut of: Option<([u8; 5], u8)> = None;
    for (index, piece) in pieces.iter().enumerate() {
        let number = index + 1;
        // a line of a file, or all of what was typed
        let bytes = piece.lend(|text| text.lines().find_map(read).or_else(|| read(text)));
        let bytes = bytes.ok_or(RecoveryError::Mistyped(number))?;
        let wrong = || RecoveryError::Mistyped(number);
        let (head, share) = bytes.split_at_checked(HEAD).ok_or_else(wrong)?;
        let (set, needed) = head.split_first_chunk::<5>().ok_or_else(wrong)?;
        let needed = *needed.first().ok_or_else(wrong)?;
        if of.get_or_insert((*set, needed)) != &(*set, needed) {
            return Err(RecoveryError::OtherSet(number));
        }
        if shares.iter().any(|known| known.first() == share.first()) {
            return Err(RecoveryError::Twice(number));
        }
        shares.push(share.to_vec());
    }
    let needed = of.map_or(2, |(_, needed)| needed);
    if shares.len() < usize::from(needed) {
        return Err(RecoveryError::TooFew { needed, given: shares.len() });
    }
    Ok(passphrase_of(&Secret::new(secret_of(&shares).ok_or(RecoveryError::Shares)?)))
}

/// The shares of a secret, each its number and then a byte for each of the secret: the value there of a polynomial that has the
/// secret's byte at 0, and random coefficients.
fn shares_of(secret: &[u8], chance: &[u8], pieces: u8) -> Zeroizing<Vec<Vec<u8>>> {
    let degree = chance.len() / SECRET;
    let share = |number: u8| {
        let values = secret.iter().zip(chance.chunks(degree)).map(|(byte, coefficients)| {
            let higher = coefficients.iter().fold(0, |sum, one| field::times(sum ^ one, number));
            byte ^ higher
        });
        let mut share = Vec::with_capacity(SHARE);
        share.push(number);
        share.extend(values);
        share
    };
    Zeroizing::new((1..=pieces).map(share).collect())
}

/// The secret behind shares with different numbers: the value at 0 of the polynomials through them (Lagrange). Nothing where a
/// share has the number 0, which is the secret's own place.
fn secret_of(shares: &[Vec<u8>]) -> Option<Vec<u8>> {
    let numbers: Vec<u8> = shares.iter().filter_map(|share| share.first().copied()).collect();
    if numbers.len() != shares.len() || numbers.contains(&0) {
        return None;
    }
    let mut secret = vec![0; SECRET];
    for (number, share) in numbers.iter().zip(shares) {
        let others = numbers.iter().filter(|other| *other != number);
        let weight = others.fold(1, |weight, other| {
            field::times(weight, field::times(*other, field::inverse(other ^ number)))
        });
        let values = share.iter().skip(1);
        secret.iter_mut().zip(values).for_each(|(byte, value)| *byte ^= field::times(*value, weight));
    }
    Some(secret)
}

fn checksum(bytes: &[u8]) -> [u8; CHECK] {
    let digest = sha256(&[b"ninekeys.piece/1".as_slice(), bytes].concat());
    let mut check = [0; CHECK];
    check.iter_mut().zip(digest).for_each(|(to, byte)| *to = byte);
    check
}

/// The bytes of a piece in front of its checksum, where that fits; however they were grouped and written.
fn read(text: &str) -> Option<Zeroizing<Vec<u8>>> {
    let plain: Zeroizing<String> = Zeroizing::new(
        text.chars().filter(char::is_ascii_alphanumeric).map(|c| c.to_ascii_lowercase()).collect(),
    );
    let mut bytes = base32::decode(&plain)?;
    if bytes.len() != PIECE || bytes.first() != Some(&VERSION) {
        return None;
    }
    let check = bytes.split_off(PIECE - CHECK);
    (checksum(&bytes).as_slice() == check).then_some(bytes)
}

fn in_groups(piece: &[u8]) -> SecretText {
    let letters = Zeroizing::new(base32::encode(piece).to_ascii_uppercase());
    let mut out = String::with_capacity(letters.len() * 2);
    for (index, letter) in letters.chars().enumerate() {
        if index > 0 && index % GROUP == 0 {
            out.push(' ');
        }
        out.push(letter);
    }
    Secret::new(out)
}

fn passphrase_of(secret: &SecretBytes) -> SecretText {
    secret.lend(|bytes| Secret::new(std::mem::take(&mut *base32::encode(bytes))))
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::AtomicBool;

    use super::*;
    use crate::env::Silent;
    use crate::keys::SystemKeys;

    fn with_env<R>(work: impl FnOnce(&Env<'_>) -> R) -> R {
        let stop = AtomicBool::new(false);
        work(&Env {
            now: jiff::Timestamp::UNIX_EPOCH,
            keys: &SystemKeys,
            progress: &Silent,
            scratch: &crate::stream::InMemory,
            stop: &stop,
        })
    }

    fn some(pieces: &Pieces, which: &[usize]) -> Vec<SecretText> {
        which.iter().map(|index| pieces.pieces[*index].duplicate()).collect()
    }

    fn told(pieces: &[SecretText]) -> Result<String, RecoveryError> {
        join(pieces).map(|text| text.lend(Clone::clone))
    }

    #[test]
    fn any_of_them_tell_it_and_fewer_tell_nothing() {
        let made = with_env(|env| split(3, 5, env)).unwrap();
        let passphrase = made.passphrase.lend(Clone::clone);
        for which in [[0, 1, 2], [4, 2, 0], [3, 1, 4]] {
            assert_eq!(told(&some(&made, &which)), Ok(passphrase.clone()), "{which:?}");
        }
        assert_eq!(told(&some(&made, &[0, 1, 2, 3, 4])), Ok(passphrase.clone()));
        let too_few = RecoveryError::TooFew { needed: 3, given: 2 };
        assert_eq!(told(&some(&made, &[0, 4])), Err(too_few));
        assert_eq!(told(&some(&made, &[0, 4, 0])), Err(RecoveryError::Twice(3)));
        assert_eq!(passphrase.len(), 32);
    }

    /// Some bytes after others, for a scheme that asks for randomness.
    struct Counting(u8);

    impl rand_core::TryRng for Counting {
        type Error = std::convert::Infallible;

        fn try_next_u32(&mut self) -> Result<u32, Self::Error> {
            rand_core::utils::next_word_via_fill(self)
        }

        fn try_next_u64(&mut self) -> Result<u64, Self::Error> {
            rand_core::utils::next_word_via_fill(self)
        }

        fn try_fill_bytes(&mut self, into: &mut [u8]) -> Result<(), Self::Error> {
            into.iter_mut().for_each(|byte| {
                self.0 = self.0.wrapping_mul(167).wrapping_add(13);
                *byte = self.0;
            });
            Ok(())
        }
    }

    impl rand_core::TryCryptoRng for Counting {}

    #[test]
    fn shares_are_those_of_another_implementation() {
        let secret: Vec<u8> = (0..20).map(|byte| byte * 13).collect();
        let chance: Vec<u8> = (0..40).map(|byte: u8| byte.wrapping_mul(89) ^ 7).collect();
        let own = shares_of(&secret, &chance, 5);
        assert_eq!(vsss_rs::Gf256::combine_array(&own[1..4]).unwrap(), secret);
        let theirs = vsss_rs::Gf256::split_array(3, 5, &secret, Counting(7)).unwrap();
        assert_eq!(secret_of(&theirs[..3]), Some(secret.clone()));
        assert_eq!(secret_of(&theirs[2..]), Some(secret.clone()));
        assert_eq!(secret_of(&theirs), Some(secret.clone()));
        assert_ne!(secret_of(&theirs[..2]), Some(secret));
        assert_eq!(secret_of(&[vec![0; 21], vec![1; 21]]), None);
    }

    #[test]
    fn a_letter_that_is_wrong_is_seen_and_how_it_is_grouped_means_nothing() {
        let made = with_env(|env| split(2, 2, env)).unwrap();
        let text = made.pieces[0].lend(Clone::clone);
        assert_eq!(text.split(' ').count(), 13, "{text}");
        for at in [0, 9, text.len() - 1] {
            let mut letters: Vec<char> = text.chars().collect();
            letters[at] = if letters[at] == 'A' { 'B' } else { 'A' };
            let wrong = Secret::new(letters.into_iter().collect::<String>());
            assert_eq!(told(&[wrong, made.pieces[1].duplicate()]), Err(RecoveryError::Mistyped(1)), "{at}");
        }
        // the letter beside the last one differs in bits that stand for nothing
        const LETTERS: &str = "ABCDEFGHIJKLMNOPQRSTUVWXYZ234567";
        let (before, last) = text.split_at(text.len() - 1);
        let beside = LETTERS.chars().nth(LETTERS.find(last).unwrap() ^ 1).unwrap();
        let wrong = Secret::new(format!("{before}{beside}"));
        assert_eq!(told(&[wrong, made.pieces[1].duplicate()]), Err(RecoveryError::Mistyped(1)), "{beside}");
        let loose = Secret::new(text.to_lowercase().replace(' ', "-\n"));
        assert!(told(&[loose, made.pieces[1].duplicate()]).is_ok());
        for none in ["", "A", "8888 8888", &"A".repeat(52), "ü"] {
            assert_eq!(told(&[Secret::new(none.into())]), Err(RecoveryError::Mistyped(1)), "{none}");
        }
        let other = with_env(|env| split(2, 3, env)).unwrap();
        let mixed = [made.pieces[0].duplicate(), other.pieces[1].duplicate()];
        assert_eq!(told(&mixed), Err(RecoveryError::OtherSet(2)));
        for (needed, pieces) in [(1, 3), (0, 0), (4, 3), (2, 33)] {
            assert!(with_env(|env| split(needed, pieces, env)).is_err(), "{needed} of {pieces}");
        }
    }
}
