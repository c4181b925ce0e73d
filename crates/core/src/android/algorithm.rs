//! The signature algorithms of the signing block, by their ids.

use ninekeys_formats::x509::KeyShape;

use crate::digest::Hash;
use crate::keys::SignatureKind;

/// An algorithm id of scheme v2 that can be verified.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct V2Algorithm {
    /// The id in the block.
    pub id: u32,
    /// How the signed data is signed.
    pub signature: SignatureKind,
    /// How the content is digested.
    pub hash: Hash,
}

const KNOWN: [V2Algorithm; 6] = [
    V2Algorithm { id: 0x0101, signature: SignatureKind::PssSha256, hash: Hash::Sha256 },
    V2Algorithm { id: 0x0102, signature: SignatureKind::PssSha512, hash: Hash::Sha512 },
    V2Algorithm { id: 0x0103, signature: SignatureKind::RsaSha256, hash: Hash::Sha256 },
    V2Algorithm { id: 0x0104, signature: SignatureKind::RsaSha512, hash: Hash::Sha512 },
    V2Algorithm { id: 0x0201, signature: SignatureKind::EcdsaSha256, hash: Hash::Sha256 },
    V2Algorithm { id: 0x0202, signature: SignatureKind::EcdsaSha512, hash: Hash::Sha512 },
];

impl V2Algorithm {
    /// The algorithm with that id, when it can be verified here.
    pub fn by_id(id: u32) -> Option<V2Algorithm> {
        KNOWN.into_iter().find(|known| known.id == id)
    }

    /// What a key signs with: SHA-256 for RSA up to 3072 bits and curves up to 256, SHA-512 above.
    pub fn for_key(key: &KeyShape) -> Option<V2Algorithm> {
        let id = match key {
            KeyShape::Rsa { bits } if *bits <= 3072 => 0x0103,
            KeyShape::Rsa { .. } => 0x0104,
            KeyShape::Ec { curve } if curve == "P-256" => 0x0201,
            KeyShape::Ec { curve } if curve == "P-384" => 0x0202,
            _ => return None,
        };
        V2Algorithm::by_id(id)
    }
}
