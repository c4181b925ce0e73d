//! How a package is signed: by whom, with which schemes, after which rotation.

use super::refusal::Refusal;
use super::rotation::Lineage;
use super::schemes::Schemes;
use crate::keys::Signer;

/// The lowest platform level that reads scheme v3.1.
const FIRST_SDK_WITH_V31: u32 = 33;

/// Who signs: a key, its certificate, and the alias that the files of scheme v1 are named after.
#[derive(Clone, Copy)]
pub struct Identity<'a> {
    /// The key.
    pub signer: &'a dyn Signer,
    /// Its certificate, DER.
    pub certificate: &'a [u8],
    /// Its name.
    pub alias: &'a str,
}

/// A key that took over from another.
#[derive(Clone, Copy)]
pub struct Rotation<'a> {
    /// The proof; it ends with the key that signs.
    pub lineage: &'a Lineage,
    /// The first key of the lineage: what devices that know no lineage go by.
    pub oldest: Identity<'a>,
    /// The level from which on the new key counts (scheme v3.1); nothing for every device that reads v3.
    pub from: Option<u32>,
}

/// How a package is signed.
#[derive(Clone, Copy)]
pub struct Signing<'a> {
    /// Who signs; after a rotation the newest key.
    pub identity: Identity<'a>,
    /// The schemes, when they are not chosen by the package's devices.
    pub schemes: Option<Schemes>,
    /// The rotation, if there was one.
    pub rotation: Option<Rotation<'a>>,
}

impl<'a> Signing<'a> {
    /// One key, and the schemes that the package's devices need.
    pub fn usual(identity: Identity<'a>) -> Self {
        Signing { identity, schemes: None, rotation: None }
    }

    /// Who signs v1 and v2: the oldest key, since their readers know no lineage.
    pub(super) fn oldest(&self) -> Identity<'a> {
        self.rotation.map_or(self.identity, |rotation| rotation.oldest)
    }

    /// Who signs v3, and who v3.1: what v4 has signers of.
    pub(super) fn of_schemes(&self) -> Vec<Identity<'a>> {
        match self.rotation {
            Some(rotation) if rotation.from.is_some() => vec![rotation.oldest, self.identity],
            _ => vec![self.identity],
        }
    }

    pub(super) fn refuse(&self) -> Result<(), Refusal> {
        let Some(rotation) = self.rotation else { return Ok(()) };
        if let Some(level) = rotation.from.filter(|level| *level < FIRST_SDK_WITH_V31) {
            return Err(Refusal::RotationLevel(level));
        }
        if rotation.lineage.last() != self.identity.certificate {
            return Err(Refusal::NotTheLineages);
        }
        Ok(())
    }
}
