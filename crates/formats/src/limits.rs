//! The most that is read of anything whose size the file itself states.

use crate::cursor::{Cursor, Fault, ParseError};

/// Upper bounds on sizes, counts and depths. Every parser takes one; none takes memory before asking it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Limits {
    /// Entries of an archive. The format itself ends at 65,535.
    pub entries: u64,
    /// Bytes of an archive's central directory.
    pub directory: u64,
    /// Bytes of an archive's signing block.
    pub block: u64,
    /// Bytes of one archive entry that is inflated into memory.
    pub inflated: u64,
    /// Strings in one pool, elements in one document, items in one list.
    pub items: u64,
    /// Nesting of elements.
    pub depth: u64,
    /// Bytes of a certificate.
    pub certificate: u64,
    /// Bytes of a list of revoked certificates.
    pub revocations: u64,
    /// Signers in one signature scheme.
    pub signers: u64,
    /// Bytes of a keystore.
    pub keystore: u64,
    /// Keys and certificates in one keystore.
    pub keystore_entries: u64,
}

impl Limits {
    /// What real files need, with room to spare.
    pub const USUAL: Limits = Limits {
        entries: 65_535,
        directory: 32 << 20,
        block: 16 << 20,
        inflated: 16 << 20,
        items: 200_000,
        depth: 100,
        certificate: 64 << 10,
        revocations: 8 << 20,
        signers: 10,
        keystore: 8 << 20,
        keystore_entries: 1_000,
    };

    /// Tight bounds for tests and fuzzing.
    pub const SMALL: Limits = Limits {
        entries: 64,
        directory: 64 << 10,
        block: 64 << 10,
        inflated: 64 << 10,
        items: 512,
        depth: 16,
        certificate: 16 << 10,
        revocations: 64 << 10,
        signers: 10,
        keystore: 64 << 10,
        keystore_entries: 16,
    };

    /// `said` when it is within `limit`.
    ///
    /// # Errors
    /// [`Fault::Limit`] at the cursor's position.
    pub fn check(
        said: u64,
        limit: u64,
        what: &'static str,
        cursor: &Cursor<'_>,
    ) -> Result<usize, ParseError> {
        let fault = Fault::Limit { said, limit };
        match usize::try_from(said) {
            Ok(n) if said <= limit => Ok(n),
            _ => Err(cursor.error(what, fault)),
        }
    }
}
