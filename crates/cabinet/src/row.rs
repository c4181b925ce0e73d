//! A row of history: what was done, which records it touched, what all of them were afterwards; hashed onto the row
//! before it and signed by its author.

use std::fmt;

use jiff::Timestamp;
use ninekeys_core::keys::{PublicKey, SignatureKind, verify};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::digest::{Digest, Framed, digest};
use crate::policy::Policy;

const BODY: &str = "ninekeys.body/2";
const ROW: &str = "ninekeys.row/2";
const ABANDONED: &str = "ninekeys.abandoned/2";
const SIGNED: &str = "ninekeys.signed/2";

/// What a record is. The order is that of the words: records are sorted by them as bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum RecordKind {
    /// A copy that was made and proved.
    Backup,
    /// A member's compartment keys, encrypted to that member.
    Envelope,
    /// Something that is about to get its final name outside of the cabinet.
    Intention,
    /// One thing in the cabinet, with its sealed part.
    Item,
    /// A member's private keys, encrypted under that member's passphrase.
    Passphrase,
}

impl RecordKind {
    /// The word that stands in the database.
    pub fn word(self) -> &'static str {
        match self {
            RecordKind::Backup => "backup",
            RecordKind::Envelope => "envelope",
            RecordKind::Intention => "intention",
            RecordKind::Item => "item",
            RecordKind::Passphrase => "passphrase",
        }
    }

    /// From its word; nothing for a kind that this version does not know.
    pub(crate) fn from_word(word: &str) -> Option<Self> {
        // most are items
        let all = [Self::Item, Self::Backup, Self::Envelope, Self::Intention, Self::Passphrase];
        all.into_iter().find(|kind| kind.word() == word)
    }
}

impl fmt::Display for RecordKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

/// One end of a touch: what a record was, by its digests.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Version {
    /// Over the stored facts.
    pub facts: Digest,
    /// Over the sealed bytes, where the record has any.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sealed: Option<Digest>,
}

/// A record that a change touched, with both ends.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct Touch {
    /// What kind of record it is.
    pub kind: RecordKind,
    /// What it is among its kind: `key`, `release`; for an intention its purpose.
    pub of: String,
    /// Its id.
    pub id: String,
    /// The compartment that it belongs to.
    pub compartment: String,
    /// What it was; nothing when it was not there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before: Option<Version>,
    /// What it is; nothing when it is gone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub after: Option<Version>,
}

/// What a restore gave up: the rows from `from` on, by their hashes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct Abandoned {
    /// The number of the first of them.
    pub from: u64,
    /// Their hashes, in order.
    pub rows: Vec<Digest>,
    /// A manager of the cabinet that was given up agreed, where the row's author is none there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub agreed: Option<Agreement>,
}

/// A signature over what is given up.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct Agreement {
    /// The key of the manager: SubjectPublicKeyInfo, hexadecimal.
    pub signing: String,
    /// The signature, hexadecimal.
    pub signature: String,
}

impl Abandoned {
    /// What a manager agrees to, in the place of a row: all that is given up.
    pub(crate) fn what(&self) -> Head {
        let mut all = Framed::new(ABANDONED).number(self.from);
        self.rows.iter().for_each(|row| all.push(row.as_bytes()));
        Head { seq: self.from, hash: all.finish() }
    }

    /// Whether it names this row.
    pub(crate) fn names(&self, head: &Head) -> bool {
        let at = head.seq.checked_sub(self.from).and_then(|at| usize::try_from(at).ok());
        at.and_then(|at| self.rows.get(at)) == Some(&head.hash)
    }
}

/// What a row says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct Body {
    /// When, by its author's clock.
    pub at: Timestamp,
    /// Its author: the id of a member.
    pub by: Digest,
    /// The machine that it was done on.
    pub machine: String,
    /// What was done.
    pub what: String,
    /// The records that it touched, ascending by kind and id.
    pub touches: Vec<Touch>,
    /// The digest of all records as they were afterwards.
    pub state: Digest,
    /// The members and compartments from this row on; in rows of that form alone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub policy: Option<Policy>,
    /// What was given up, where this row is a restore's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub abandoned: Option<Abandoned>,
}

/// Whether a row changes who may do what. It stands beside the body and is hashed with it, so that the rows that
/// decide are found without reading all bodies.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Form {
    /// Records alone are changed.
    Change,
    /// The row holds a policy.
    Policy,
}

impl Form {
    /// The word that stands in the database.
    pub fn word(self) -> &'static str {
        match self {
            Form::Change => "change",
            Form::Policy => "policy",
        }
    }

    /// From its word.
    pub(crate) fn from_word(word: &str) -> Option<Self> {
        [Form::Change, Form::Policy].into_iter().find(|form| form.word() == word)
    }
}

/// The newest row that somebody knows, by number and hash.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Head {
    /// Its number, from 1.
    pub seq: u64,
    /// Its hash.
    pub hash: Digest,
}

pub(crate) fn body_digest(body: &[u8]) -> Digest {
    digest(BODY, body)
}

/// A row's hash: onto the one before it; 32 zero bytes stand before the first.
pub(crate) fn hash(previous: Option<&Digest>, seq: u64, form: Form, body: &Digest) -> Digest {
    let previous = previous.map_or([0; 32], |digest| *digest.as_bytes());
    let row = Framed::new(ROW).field(&previous).number(seq).field(form.word().as_bytes());
    row.field(body.as_bytes()).finish()
}

/// What a row's author signs.
fn signed(identity: &Digest, head: &Head) -> Digest {
    Framed::new(SIGNED).field(identity.as_bytes()).number(head.seq).field(head.hash.as_bytes()).finish()
}

/// Signs a row: 64 bytes, r and s.
pub(crate) fn sign(
    key: &dyn ninekeys_core::keys::Signer,
    identity: &Digest,
    head: &Head,
) -> Option<[u8; 64]> {
    let der = key.sign(SignatureKind::EcdsaSha256, signed(identity, head).as_bytes()).ok()?;
    fixed(&der)
}

/// Whether the holder of `key` signed the row.
pub(crate) fn is_signed(key: &PublicKey, identity: &Digest, head: &Head, signature: &[u8]) -> bool {
    let Some(der) = asn1(signature) else { return false };
    verify(key, SignatureKind::EcdsaSha256, signed(identity, head).as_bytes(), &der) == Some(true)
}

/// An ECDSA signature as two numbers of 32 bytes, from its DER form (RFC 3279, section 2.2.3).
fn fixed(der: &[u8]) -> Option<[u8; 64]> {
    let [0x30, _, 0x02, length, rest @ ..] = der else { return None };
    let (r, rest) = rest.split_at_checked(usize::from(*length))?;
    let [0x02, length, s @ ..] = rest else { return None };
    if s.len() != usize::from(*length) {
        return None;
    }
    let mut out = [0; 64];
    let (first, second) = out.split_at_mut(32);
    for (number, to) in [(r, first), (s, second)] {
        let number = number.strip_prefix(&[0]).unwrap_or(number);
        let at = to.len().checked_sub(number.len())?;
        to.get_mut(at..)?.copy_from_slice(number);
    }
    Some(out)
}

/// The way back.
fn asn1(fixed: &[u8]) -> Option<Vec<u8>> {
    if fixed.len() != 64 {
        return None;
    }
    let mut numbers = Vec::with_capacity(70);
    for half in fixed.chunks(32) {
        let zeros = half.iter().take_while(|byte| **byte == 0).count().min(31);
        let number = half.get(zeros..)?;
        // a first bit that is set would make the number negative
        let pad = number.first().is_some_and(|byte| byte & 0x80 != 0);
        numbers.extend([0x02, u8::try_from(number.len() + usize::from(pad)).ok()?]);
        numbers.extend(pad.then_some(0));
        numbers.extend_from_slice(number);
    }
    let length = u8::try_from(numbers.len()).ok()?;
    Some([&[0x30, length], numbers.as_slice()].concat())
}

#[cfg(test)]
mod tests {
    use ninekeys_core::keys::{Algorithm, KeyMaker, PrivateKey, Signer, SystemKeys};

    use super::*;

    #[test]
    fn a_row_is_signed_for_its_place_in_its_cabinet_alone() {
        let key = SystemKeys.make(Algorithm::P256).unwrap().lend(|der| PrivateKey::from_pkcs8(der)).unwrap();
        let (identity, hash) = (digest("test", b"i"), digest("test", b"h"));
        for seq in 1..200 {
            let head = Head { seq, hash };
            let signature = sign(&key, &identity, &head).unwrap();
            assert!(is_signed(key.public(), &identity, &head, &signature), "row {seq}");
            assert!(!is_signed(key.public(), &hash, &head, &signature));
            assert!(!is_signed(key.public(), &identity, &Head { seq: seq + 1, hash }, &signature));
            let other = Head { seq, hash: identity };
            assert!(!is_signed(key.public(), &identity, &other, &signature));
        }
        assert!(!is_signed(key.public(), &identity, &Head { seq: 1, hash }, &[0; 64]));
        assert!(!is_signed(key.public(), &identity, &Head { seq: 1, hash }, &[1; 63]));
    }

    #[test]
    fn short_and_negative_looking_numbers_keep_their_value() {
        for (r, s) in [(1u8, 0x80u8), (0xff, 1), (0, 0x7f)] {
            let mut all = [0; 64];
            (all[31], all[32]) = (r, s);
            assert_eq!(fixed(&asn1(&all).unwrap()), Some(all));
        }
    }

    #[test]
    fn bodies_are_strict() {
        let state = digest("test", b"");
        let body = Body {
            at: Timestamp::UNIX_EPOCH,
            by: state,
            machine: "m".into(),
            what: "w".into(),
            touches: Vec::new(),
            state,
            policy: None,
            abandoned: None,
        };
        let text = serde_json::to_string(&body).unwrap();
        assert_eq!(serde_json::from_str::<Body>(&text).unwrap(), body);
        for (from, to) in
            [("\"what\":\"w\"", "\"what\":\"w\",\"what\":\"x\""), ("{\"at\"", "{\"b\":1,\"at\"")]
        {
            assert!(serde_json::from_str::<Body>(&text.replacen(from, to, 1)).is_err(), "{to}");
        }
    }
}
