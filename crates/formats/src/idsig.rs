//! The file beside a package that holds scheme v4: a Merkle tree over the whole package, and a signature over its
//! root.
//!
//! ```text
//! u32 version (2)
//! lp(hashing)  u32 hash (1 = SHA-256), u8 log2 of the block, lp(salt), lp(root)
//! lp(signers)  signer, then for a rotated key: u32 id of v3.1, lp(signer)
//! lp(tree)
//! signer = lp(content digest) lp(certificate) lp(additional) lp(public key) u32 algorithm lp(signature)
//! ```

use crate::cursor::{Cursor, Fault, ParseError};
use crate::limits::Limits;
use crate::signing_block::prefixed;

/// The version that is read and written.
pub const VERSION: u32 = 2;
/// SHA-256.
pub const SHA256: u32 = 1;
/// Log2 of 4096, the size of a block.
pub(crate) const LOG2_BLOCK: u8 = 12;
/// What a file name ends with, behind the package's own name.
pub const ENDING: &str = "idsig";

/// A file, read but not verified.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Idsig<'a> {
    /// The salt of every block.
    pub salt: &'a [u8],
    /// The root of the tree.
    pub root: &'a [u8],
    /// The signer, and the one of a rotated key.
    pub signers: Vec<Signer<'a>>,
    /// The tree: the top level first, without its root; empty when it is missing.
    pub tree: &'a [u8],
}

/// A signer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Signer<'a> {
    /// The content digest of the same signer in v3 or v2.
    pub content: &'a [u8],
    /// The certificate, DER.
    pub certificate: &'a [u8],
    /// Further data that is signed.
    pub additional: &'a [u8],
    /// SubjectPublicKeyInfo.
    pub public_key: &'a [u8],
    /// The algorithm's id.
    pub algorithm: u32,
    /// The signature.
    pub signature: &'a [u8],
}

/// Reads a file.
///
/// # Errors
/// [`ParseError`] for another version, hash or block, lengths that run out, and bytes left over.
pub fn parse<'a>(bytes: &'a [u8], limits: &Limits) -> Result<Idsig<'a>, ParseError> {
    let mut c = Cursor::new(bytes, 0);
    expect(&mut c, "version of the idsig", VERSION)?;
    let mut hashing = c.prefixed("hashing of the idsig")?;
    expect(&mut hashing, "hash of the idsig", SHA256)?;
    let log2 = hashing.u8("block size of the idsig")?;
    if log2 != LOG2_BLOCK {
        return Err(hashing.error("block size of the idsig", Fault::Value(u64::from(log2))));
    }
    let salt = hashing.prefixed("salt of the idsig")?.rest();
    let root = hashing.prefixed("root of the idsig")?.rest();
    hashing.finish("hashing of the idsig")?;
    let mut list = c.prefixed("signers of the idsig")?;
    let mut signers = vec![signer(&mut list)?];
    while !list.is_empty() {
        Limits::check(signers.len() as u64 + 1, limits.signers, "signers of the idsig", &list)?;
        expect(&mut list, "block of a signer", crate::signing_block::V31)?;
        let mut more = list.prefixed("signer of the idsig")?;
        signers.push(signer(&mut more)?);
        more.finish("signer of the idsig")?;
    }
    let tree = if c.is_empty() { &[] } else { c.prefixed("tree of the idsig")?.rest() };
    c.finish("idsig")?;
    Ok(Idsig { salt, root, signers, tree })
}

fn expect(c: &mut Cursor<'_>, what: &'static str, wanted: u32) -> Result<(), ParseError> {
    let at = c.at();
    let found = c.u32(what)?;
    if found == wanted {
        return Ok(());
    }
    Err(ParseError { what, at, fault: Fault::Value(u64::from(found)) })
}

fn signer<'a>(c: &mut Cursor<'a>) -> Result<Signer<'a>, ParseError> {
    Ok(Signer {
        content: c.prefixed("content digest")?.rest(),
        certificate: c.prefixed("certificate")?.rest(),
        additional: c.prefixed("additional data")?.rest(),
        public_key: c.prefixed("public key")?.rest(),
        algorithm: c.u32("algorithm")?,
        signature: c.prefixed("signature")?.rest(),
    })
}

/// What a signer of a package of `size` bytes signs.
pub fn signed_part(
    size: u64,
    salt: &[u8],
    root: &[u8],
    content: &[u8],
    certificate: &[u8],
    more: &[u8],
) -> Vec<u8> {
    let rest = [
        size.to_le_bytes().to_vec(),
        SHA256.to_le_bytes().to_vec(),
        vec![LOG2_BLOCK],
        prefixed(salt),
        prefixed(root),
        prefixed(content),
        prefixed(certificate),
        prefixed(more),
    ]
    .concat();
    // the length counts itself
    let length = rest.len() as u32 + 4;
    [length.to_le_bytes().to_vec(), rest].concat()
}

/// A file without salt and additional data; the second signer is that of a rotated key.
pub fn write(root: &[u8], signers: &[Signer<'_>], tree: &[u8]) -> Vec<u8> {
    let hashing = [SHA256.to_le_bytes().to_vec(), vec![LOG2_BLOCK], prefixed(&[]), prefixed(root)].concat();
    let one = |signer: &Signer<'_>| {
        [
            prefixed(signer.content),
            prefixed(signer.certificate),
            prefixed(signer.additional),
            prefixed(signer.public_key),
            signer.algorithm.to_le_bytes().to_vec(),
            prefixed(signer.signature),
        ]
        .concat()
    };
    let mut list = Vec::new();
    for (index, signer) in signers.iter().enumerate() {
        match index {
            0 => list.extend(one(signer)),
            _ => {
                list.extend(crate::signing_block::V31.to_le_bytes());
                list.extend(prefixed(&one(signer)));
            }
        }
    }
    [VERSION.to_le_bytes().to_vec(), prefixed(&hashing), prefixed(&list), prefixed(tree)].concat()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn signer<'a>(certificate: &'a [u8]) -> Signer<'a> {
        Signer {
            content: &[1; 32],
            certificate,
            additional: &[],
            public_key: b"key",
            algorithm: 0x0103,
            signature: &[2; 256],
        }
    }

    #[test]
    fn one_signer_and_two_are_read_as_they_were_written() {
        for signers in [vec![signer(b"old")], vec![signer(b"old"), signer(b"new")]] {
            let bytes = write(&[9; 32], &signers, &[7; 4096]);
            let read = parse(&bytes, &Limits::SMALL).unwrap();
            assert_eq!((read.root, read.tree, read.salt), (&[9u8; 32][..], &[7u8; 4096][..], &[][..]));
            assert_eq!(read.signers, signers);
            for cut in [0, 3, 4, 12, 60, bytes.len() - 4_000, bytes.len() - 1] {
                assert!(parse(&bytes[..cut], &Limits::SMALL).is_err(), "cut at {cut}");
            }
            assert!(parse(&[&bytes[..], &[0]].concat(), &Limits::SMALL).is_err(), "a tail");
        }
    }

    #[test]
    fn another_version_hash_or_block_is_named() {
        let good = write(&[9; 32], &[signer(b"old")], &[]);
        for (at, value, what) in
            [(0, 3, "version of the idsig"), (8, 2, "hash of the idsig"), (12, 16, "block size of the idsig")]
        {
            let mut bytes = good.clone();
            bytes[at] = value;
            assert_eq!(parse(&bytes, &Limits::SMALL).unwrap_err().what, what);
        }
    }

    #[test]
    fn what_is_signed_counts_its_own_length() {
        let part = signed_part(1_000, &[], &[9; 32], &[1; 32], b"certificate", &[]);
        assert_eq!(u32::from_le_bytes([part[0], part[1], part[2], part[3]]) as usize, part.len());
        assert_ne!(part, signed_part(1_001, &[], &[9; 32], &[1; 32], b"certificate", &[]));
    }
}
