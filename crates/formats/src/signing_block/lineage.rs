//! The proof of rotation: which key handed over to which, oldest first.
//!
//! ```text
//! value  = u32 version (1), lp(node)...
//! node   = lp(signed) u32 flags, u32 algorithm for the next node, lp(signature by the node before)
//! signed = lp(certificate) u32 algorithm that the node before signed with
//! ```

use super::prefixed;
use crate::cursor::{Cursor, Fault, ParseError};
use crate::limits::Limits;

/// The most nodes that are read; real lineages have two or three.
const MOST_NODES: u64 = 64;

/// One key of a lineage.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Node<'a> {
    /// What the node before signed: certificate and algorithm.
    pub signed: &'a [u8],
    /// The certificate, DER.
    pub certificate: &'a [u8],
    /// The algorithm that the node before signed with, as this node states it; 0 in the first.
    pub parent_algorithm: u32,
    /// What this key may still do after its successor took over.
    pub flags: u32,
    /// The algorithm that this key signs the next node with; 0 in the last.
    pub next_algorithm: u32,
    /// The signature of the node before over `signed`; empty in the first.
    pub signature: &'a [u8],
}

/// Reads a lineage; what it says is not verified here.
///
/// # Errors
/// [`ParseError`] for another version, a length that runs out, bytes left over, no node or too many.
pub fn parse<'a>(value: &'a [u8], limits: &Limits) -> Result<Vec<Node<'a>>, ParseError> {
    let mut c = Cursor::new(value, 0);
    let version = c.u32("version of the lineage")?;
    if version != 1 {
        return Err(c.error("version of the lineage", Fault::Value(u64::from(version))));
    }
    let mut nodes = Vec::new();
    while !c.is_empty() {
        Limits::check(nodes.len() as u64 + 1, MOST_NODES.min(limits.items), "nodes of the lineage", &c)?;
        let mut node = c.prefixed("node of the lineage")?;
        let mut signed = node.prefixed("signed part of a node")?;
        let signed_bytes = signed.rest();
        let certificate = signed.prefixed("certificate of a node")?.rest();
        let parent_algorithm = signed.u32("parent algorithm of a node")?;
        signed.finish("signed part of a node")?;
        let flags = node.u32("flags of a node")?;
        let next_algorithm = node.u32("next algorithm of a node")?;
        let signature = node.prefixed("signature of a node")?.rest();
        node.finish("node of the lineage")?;
        nodes.push(Node {
            signed: signed_bytes,
            certificate,
            parent_algorithm,
            flags,
            next_algorithm,
            signature,
        });
    }
    if nodes.is_empty() {
        return Err(c.error("nodes of the lineage", Fault::Value(0)));
    }
    Ok(nodes)
}

/// What the node before signs: a certificate and the algorithm it signs with.
pub fn signed_part(certificate: &[u8], parent_algorithm: u32) -> Vec<u8> {
    [prefixed(certificate), parent_algorithm.to_le_bytes().to_vec()].concat()
}

/// A lineage of these nodes: signed part, flags, next algorithm, signature.
pub fn write(nodes: &[(Vec<u8>, u32, u32, Vec<u8>)]) -> Vec<u8> {
    let mut out = 1u32.to_le_bytes().to_vec();
    for (signed, flags, next, signature) in nodes {
        let node = [
            prefixed(signed),
            flags.to_le_bytes().to_vec(),
            next.to_le_bytes().to_vec(),
            prefixed(signature),
        ];
        out.extend_from_slice(&prefixed(&node.concat()));
    }
    out
}
