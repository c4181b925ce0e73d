//! The one way in which bytes are digested here: a domain word first, then every field behind its length.

use std::fmt;

use aws_lc_rs::digest::{Context, SHA256};
use ninekeys_core::digest::{from_hex_exactly, hex};
use schemars::schema_of;
use serde::de::Error as _;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// A SHA-256, or a member's id, which is one; 64 hexadecimal digits in text.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Digest([u8; 32]);

impl Digest {
    /// From its 32 bytes; nothing when there are more or fewer.
    pub fn from_bytes(bytes: &[u8]) -> Option<Self> {
        bytes.try_into().ok().map(Digest)
    }

    /// SHA-256 of bytes as they are, for what other programs name by it: keys and files.
    pub(crate) fn plain(bytes: &[u8]) -> Self {
        let mut context = Context::new(&SHA256);
        context.update(bytes);
        finished(context)
    }

    /// From its 64 digits; nothing when the text is anything else.
    pub fn from_text(text: &str) -> Option<Self> {
        let small = text.bytes().all(|digit| !digit.is_ascii_uppercase());
        from_hex_exactly(text).filter(|_| small).map(Digest)
    }

    /// Its bytes.
    pub fn as_bytes(&self) -> &[u8; 32] {
        &self.0
    }
}

impl fmt::Display for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&hex(&self.0))
    }
}

schema_of!(Digest, { "type": "string", "pattern": "^[0-9a-f]{64}$" });

impl Serialize for Digest {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Digest {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = <&str>::deserialize(deserializer)?;
        Digest::from_text(text).ok_or_else(|| D::Error::custom("a digest has 64 hexadecimal digits"))
    }
}

/// A digest in the making. Numbers are fields of eight bytes, little-endian, as lengths are.
pub(crate) struct Framed {
    context: Context,
    /// Small fields go to the hash together: a call costs as much as they do.
    held: [u8; HELD],
    filled: usize,
}

const HELD: usize = 512;

impl Framed {
    pub(crate) fn new(domain: &str) -> Self {
        Framed { context: Context::new(&SHA256), held: [0; HELD], filled: 0 }.field(domain.as_bytes())
    }

    pub(crate) fn field(mut self, bytes: &[u8]) -> Self {
        self.push(bytes);
        self
    }

    pub(crate) fn number(self, number: u64) -> Self {
        self.field(&number.to_le_bytes())
    }

    pub(crate) fn push(&mut self, bytes: &[u8]) {
        self.take(&(bytes.len() as u64).to_le_bytes());
        self.take(bytes);
    }

    fn take(&mut self, bytes: &[u8]) {
        let room = self.held.get_mut(self.filled..self.filled + bytes.len());
        if let Some(room) = room {
            room.copy_from_slice(bytes);
            self.filled += bytes.len();
            return;
        }
        self.pass_on();
        match self.held.get_mut(..bytes.len()) {
            Some(room) => {
                room.copy_from_slice(bytes);
                self.filled = bytes.len();
            }
            None => self.context.update(bytes),
        }
    }

    fn pass_on(&mut self) {
        self.context.update(self.held.get(..self.filled).unwrap_or(&[]));
        self.filled = 0;
    }

    pub(crate) fn finish(mut self) -> Digest {
        self.pass_on();
        finished(self.context)
    }
}

fn finished(context: Context) -> Digest {
    let mut out = [0; 32];
    out.copy_from_slice(context.finish().as_ref());
    Digest(out)
}

/// The digest of much at once: BLAKE3, which takes a tenth of the time of a SHA-2 where a processor has no instructions for
/// that. Nothing that is stored in a cabinet is named by it.
pub(crate) fn of_much(domain: &str, fields: &[&[u8]]) -> Digest {
    let mut hasher = blake3::Hasher::new();
    for field in std::iter::once(&domain.as_bytes()).chain(fields) {
        hasher.update(&(field.len() as u64).to_le_bytes());
        hasher.update(field);
    }
    Digest(*hasher.finalize().as_bytes())
}

/// The digest of one field under a domain word.
pub(crate) fn digest(domain: &str, bytes: &[u8]) -> Digest {
    Framed::new(domain).field(bytes).finish()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_stands_in_one_field_cannot_stand_in_two() {
        let of = |fields: &[&[u8]]| fields.iter().fold(Framed::new("d"), |all, field| all.field(field));
        assert_ne!(of(&[b"ab", b"c"]).finish(), of(&[b"a", b"bc"]).finish());
        assert_ne!(digest("d", b"x"), digest("e", b"x"));
    }

    #[test]
    fn text_is_64_small_digits_and_nothing_else() {
        let known = digest("d", b"x");
        assert_eq!(Digest::from_text(&known.to_string()), Some(known));
        assert_eq!(Digest::from_text(&known.to_string().to_uppercase()), None);
        assert_eq!(Digest::from_text(&known.to_string()[1..]), None);
    }
}
