//! The signature algorithms of the signing block, by their ids.

use ninekeys_formats::x509::KeyShape;

use super::chunks::Hash;
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

/// What an algorithm id of the signing block is called, the number where it has no name.
pub(super) fn name(id: u32) -> String {
    let known = match id {
        0x0101 => "RSASSA-PSS with SHA-256",
        0x0102 => "RSASSA-PSS with SHA-512",
        0x0103 => "RSA with SHA-256",
        0x0104 => "RSA with SHA-512",
        0x0201 => "ECDSA with SHA-256",
        0x0202 => "ECDSA with SHA-512",
        0x0301 => "DSA with SHA-256",
        0x0421 => "RSA with SHA-256 over a tree",
        0x0423 => "ECDSA with SHA-256 over a tree",
        0x0425 => "DSA with SHA-256 over a tree",
        other => return format!("{other:#06x}"),
    };
    known.into()
}

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
