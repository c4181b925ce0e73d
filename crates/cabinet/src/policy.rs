//! Who may do what: the members with their public keys, and the compartments.

use jiff::Timestamp;
use ninekeys_core::digest::from_hex;
use ninekeys_core::keys::PublicKey;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::digest::Digest;
use crate::row::{Body, Form, RecordKind, Touch};

/// The compartment of members' envelopes and of everything about the cabinet itself.
pub(crate) const MANAGE: &str = "manage";
/// The compartment of what serves several apps, or none.
pub const SHARED: &str = "shared";
/// What the name of an app's compartment begins with.
const APP: &str = "app/";
/// More members than this are no team, but somebody's attempt to make work.
const MOST_MEMBERS: usize = 1_000;
/// Likewise compartments.
const MOST_COMPARTMENTS: usize = 10_000;

/// The compartment of what serves that app alone.
pub fn app_compartment(app: &str) -> String {
    format!("{APP}{app}")
}

/// The compartment of what serves these apps.
pub(crate) fn compartment_for(apps: &[&str]) -> String {
    match apps {
        [one] => app_compartment(one),
        _ => SHARED.into(),
    }
}

/// How a member unlocks.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum MemberKind {
    /// By a passphrase: the member's private keys lie in the cabinet, encrypted under it.
    Passphrase,
    /// By an unlock file, which holds the private keys.
    UnlockFile,
}

/// What a member may do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub enum Role {
    /// Everything.
    Manager,
    /// Sign and lend with the keys of these compartments; write them out where `exports` says so.
    Signer {
        /// The compartments.
        compartments: Vec<String>,
        /// Whether keys may be written out.
        exports: bool,
    },
    /// Look.
    Reader,
}

/// Somebody, or something, that can unlock the cabinet.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Member {
    /// SHA-256 of the signing key (SubjectPublicKeyInfo).
    pub id: Digest,
    /// What people call it.
    pub label: String,
    /// How it unlocks.
    pub kind: MemberKind,
    /// What it may do.
    pub role: Role,
    /// The key that signs its rows: SubjectPublicKeyInfo, hexadecimal.
    pub signing: String,
    /// The key that its envelope is encrypted to: SubjectPublicKeyInfo, hexadecimal.
    pub agreement: String,
    /// Since when.
    pub added: Timestamp,
}

impl Member {
    pub(crate) fn signing_key(&self) -> Option<PublicKey> {
        PublicKey::from_der(&from_hex(&self.signing)?).ok()
    }

    pub(crate) fn agreement_key(&self) -> Option<PublicKey> {
        PublicKey::from_der(&from_hex(&self.agreement)?).ok()
    }

    /// Whether the key of a compartment (`shared`, or `app/` and an app's name) is wrapped to this member.
    pub fn opens(&self, compartment: &str) -> bool {
        match &self.role {
            Role::Manager => true,
            Role::Signer { compartments, .. } => compartments.iter().any(|name| name == compartment),
            Role::Reader => false,
        }
    }

    pub(crate) fn is_manager(&self) -> bool {
        self.role == Role::Manager
    }

    /// Whether the id is that of its key, and both keys are on P-256.
    fn is_sound(&self) -> bool {
        let of = |text: &str| from_hex(text).filter(|der| ninekeys_core::digest::hex(der) == text);
        let is_p256 = |key: Option<PublicKey>| key.is_some_and(|key| key.shape().to_string() == "EC P-256");
        let id = of(&self.signing).map(|der| Digest::plain(&der));
        id == Some(self.id)
            && of(&self.agreement).is_some()
            && self.signing != self.agreement
            && is_p256(self.signing_key())
            && is_p256(self.agreement_key())
    }
}

/// A group of items that one key seals.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct Compartment {
    /// `manage`, `shared`, or `app/` and the app's name.
    pub name: String,
    /// Counts its keys, from 1.
    pub epoch: u32,
    /// A MAC under the key: tells that a key is this one before anything is opened with it.
    pub check: Digest,
}

/// Members and compartments, from one row of history on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Policy {
    /// 32 random bytes, the same in every policy of a cabinet: no two cabinets begin alike.
    pub origin: Digest,
    /// The members, ascending by id.
    pub members: Vec<Member>,
    /// The compartments, ascending by name.
    pub compartments: Vec<Compartment>,
}

impl Policy {
    /// The member with that id.
    pub fn member(&self, id: &Digest) -> Option<&Member> {
        self.members.iter().find(|member| member.id == *id)
    }

    /// The compartment of that name.
    pub fn compartment(&self, name: &str) -> Option<&Compartment> {
        self.compartments.iter().find(|compartment| compartment.name == name)
    }

    /// Puts members and compartments into their order.
    pub(crate) fn sort(&mut self) {
        self.members.sort_by_key(|member| member.id);
        self.compartments.sort_by(|a, b| a.name.cmp(&b.name));
    }

    /// Whether it can be one: sorted, nothing twice, keys and ids that fit, a manager.
    pub(crate) fn is_sound(&self) -> bool {
        let sizes = self.members.len() <= MOST_MEMBERS && self.compartments.len() <= MOST_COMPARTMENTS;
        let members = self.members.windows(2).all(|pair| matches!(pair, [a, b] if a.id < b.id));
        let compartments = self.compartments.windows(2).all(|pair| matches!(pair, [a, b] if a.name < b.name));
        sizes
            && members
            && compartments
            && self.members.iter().all(Member::is_sound)
            && self.members.iter().any(Member::is_manager)
    }

    /// Why the author of a row was not allowed to write it, as of this policy; nothing when it is allowed. Managers do
    /// everything. Signers make releases, loans and, where granted, exports in their compartments, note backups, and
    /// begin and end their own intentions. Readers do nothing.
    pub(crate) fn refuses(&self, author: &Member, form: Form, body: &Body) -> Option<&'static str> {
        if author.is_manager() {
            return None;
        }
        if form == Form::Policy || body.abandoned.is_some() {
            return Some("only a manager changes members and restores");
        }
        let Role::Signer { exports, .. } = &author.role else {
            return Some("a reader writes nothing");
        };
        let fits = |touch: &Touch| author.opens(&touch.compartment);
        for touch in &body.touches {
            let makes = touch.before.is_none() && touch.after.is_some();
            let allowed = match (touch.kind, touch.of.as_str()) {
                (RecordKind::Item, "release") => makes && fits(touch),
                (RecordKind::Item, "hand-out") => *exports && makes && fits(touch),
                (RecordKind::Backup, _) => makes,
                (RecordKind::Intention, "export" | "hand-over") => *exports && fits(touch),
                (RecordKind::Intention, _) => fits(touch),
                _ => false,
            };
            if !allowed {
                return Some("its author may not change what it changes");
            }
        }
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::digest::digest;
    use crate::row::Version;

    fn member(role: Role) -> Member {
        Member {
            id: digest("test", b"m"),
            label: "m".into(),
            kind: MemberKind::UnlockFile,
            role,
            signing: String::new(),
            agreement: String::new(),
            added: Timestamp::UNIX_EPOCH,
        }
    }

    fn body(touches: Vec<Touch>) -> Body {
        let state = digest("test", b"s");
        let (machine, what) = ("machine".into(), "what".into());
        let at = Timestamp::UNIX_EPOCH;
        Body { at, by: state, machine, what, touches, state, policy: None, abandoned: None }
    }

    fn touch(kind: RecordKind, of: &str, compartment: &str, made: bool) -> Touch {
        let version = Some(Version { facts: digest("test", b"f"), sealed: None });
        let before = if made { None } else { version };
        let (of, compartment) = (of.into(), compartment.into());
        Touch { kind, of, id: "1".into(), compartment, before, after: version }
    }

    #[test]
    fn each_role_writes_what_it_may_and_nothing_else() {
        let policy = Policy { origin: digest("test", b"o"), members: vec![], compartments: vec![] };
        let signer = |exports| Role::Signer { compartments: vec!["app/crossing".into()], exports };
        let cases = [
            (signer(false), touch(RecordKind::Item, "release", "app/crossing", true), true),
            (signer(false), touch(RecordKind::Item, "release", "app/quayside", true), false),
            (signer(false), touch(RecordKind::Item, "release", "app/crossing", false), false),
            (signer(false), touch(RecordKind::Item, "key", "app/crossing", true), false),
            (signer(false), touch(RecordKind::Envelope, "envelope", MANAGE, true), false),
            (signer(false), touch(RecordKind::Passphrase, "passphrase", MANAGE, false), false),
            (signer(false), touch(RecordKind::Backup, "backup", MANAGE, true), true),
            (signer(false), touch(RecordKind::Backup, "backup", MANAGE, false), false),
            (signer(false), touch(RecordKind::Intention, "lend", "app/crossing", true), true),
            (signer(false), touch(RecordKind::Intention, "lend", SHARED, true), false),
            (signer(false), touch(RecordKind::Intention, "export", "app/crossing", true), false),
            (signer(true), touch(RecordKind::Intention, "export", "app/crossing", true), true),
            (Role::Reader, touch(RecordKind::Backup, "backup", MANAGE, true), false),
            (Role::Manager, touch(RecordKind::Passphrase, "passphrase", MANAGE, false), true),
        ];
        for (role, touch, allowed) in cases {
            let say = format!("{role:?} {touch:?}");
            let refused = policy.refuses(&member(role), Form::Change, &body(vec![touch]));
            assert_eq!(refused.is_none(), allowed, "{say}: {refused:?}");
        }
        let refused = |role| policy.refuses(&member(role), Form::Policy, &body(Vec::new()));
        assert!(refused(signer(true)).is_some() && refused(Role::Reader).is_some());
        assert!(refused(Role::Manager).is_none());
    }

    #[test]
    fn one_app_has_a_compartment_and_several_share_one() {
        assert_eq!(compartment_for(&["crossing"]), "app/crossing");
        assert_eq!(compartment_for(&[]), SHARED);
        assert_eq!(compartment_for(&["crossing", "deckhand"]), SHARED);
    }
}
