//! `cabinet members`: who opens the cabinet, each by a key of their own, and what they may do there.

pub mod add;
pub mod list;
pub mod remove;

use jiff::Timestamp;
use ninekeys_cabinet::{Digest, Member, MemberKind, Role};
use ninekeys_core::model::ItemId;
use schemars::JsonSchema;
use serde::Serialize;

/// A member, as answers say it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct MemberSaid {
    /// What people call it.
    pub member: String,
    /// Its id: SHA-256 of the key that signs its rows.
    pub id: Digest,
    /// How it unlocks.
    pub kind: MemberKind,
    /// What it may do.
    pub role: Role,
    /// Since when.
    pub added: Timestamp,
    /// How many private keys and passwords it can open.
    pub opens: usize,
}

fn said(member: &Member, secrets: &[(ItemId, String)]) -> MemberSaid {
    MemberSaid {
        member: member.label.clone(),
        id: member.id,
        kind: member.kind,
        role: member.role.clone(),
        added: member.added,
        opens: secrets.iter().filter(|(_, compartment)| member.opens(compartment)).count(),
    }
}
