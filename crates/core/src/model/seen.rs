//! What people and devices see of a build: kept in the ledger, and compared between one build and the next.

use std::collections::{BTreeMap, BTreeSet};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What people and devices see of a build.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Seen {
    /// What people see below its icon.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    /// What it asks people for: permissions on Android, keys with a reason on iOS.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub asks_for: BTreeSet<String>,
    /// What each bundle claims, by bundle id and entitlement, on iOS.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub claims: BTreeMap<String, BTreeMap<String, String>>,
    /// The lowest SDK or system that it runs on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lowest: Option<String>,
    /// The SDK that it was made for, or with.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub made_for: Option<String>,
    /// The highest SDK that it runs on, where that is limited.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub highest: Option<String>,
    /// SHA-256 of each signer's certificate, with its subject.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub signers: BTreeMap<String, String>,
    /// The profile of each bundle, by bundle id: its title and what it is known by.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub profiles: BTreeMap<String, String>,
}

/// What a change is of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Aspect {
    /// What it asks people for.
    AsksFor,
    /// What it claims.
    Entitlement,
    /// The lowest SDK or system.
    Lowest,
    /// The SDK that it was made for.
    MadeFor,
    /// The highest SDK.
    Highest,
    /// Who signed.
    Signer,
    /// The profile in it.
    Profile,
    /// The name below its icon.
    Title,
}

/// Something that is not as it was.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct SeenChange {
    /// What of.
    pub of: Aspect,
    /// The bundle that it is about, by its bundle id.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub bundle_id: Option<String>,
    /// Which: the permission, the entitlement, the certificate's SHA-256.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// What it was; nothing when it was not there.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub before: Option<String>,
    /// What it is; nothing when it is not there any more.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub now: Option<String>,
}

impl Seen {
    /// What is not as it was `before`, in the order of [`Aspect`].
    pub fn changes(&self, before: &Seen) -> Vec<SeenChange> {
        let named = |all: &BTreeSet<String>| -> BTreeMap<String, String> {
            all.iter().map(|name| (name.clone(), String::new())).collect()
        };
        let one = |value: &Option<String>| -> BTreeMap<String, String> {
            value.iter().map(|value| (String::new(), value.clone())).collect()
        };
        let mut out = Vec::new();
        let mut compare = |of,
                           bundle_id: Option<&String>,
                           old: &BTreeMap<String, String>,
                           new: &BTreeMap<String, String>| {
            let names: BTreeSet<&String> = old.keys().chain(new.keys()).collect();
            let changed = names.into_iter().filter(|name| old.get(*name) != new.get(*name));
            out.extend(changed.map(|name| SeenChange {
                of,
                bundle_id: bundle_id.cloned(),
                name: (!name.is_empty()).then(|| name.clone()),
                before: old.get(name).cloned(),
                now: new.get(name).cloned(),
            }));
        };
        compare(Aspect::AsksFor, None, &named(&before.asks_for), &named(&self.asks_for));
        let none = BTreeMap::new();
        let bundles: BTreeSet<&String> = before.claims.keys().chain(self.claims.keys()).collect();
        for id in bundles {
            let (old, new) = (before.claims.get(id).unwrap_or(&none), self.claims.get(id).unwrap_or(&none));
            compare(Aspect::Entitlement, Some(id), old, new);
        }
        compare(Aspect::Lowest, None, &one(&before.lowest), &one(&self.lowest));
        compare(Aspect::MadeFor, None, &one(&before.made_for), &one(&self.made_for));
        compare(Aspect::Highest, None, &one(&before.highest), &one(&self.highest));
        compare(Aspect::Signer, None, &before.signers, &self.signers);
        compare(Aspect::Title, None, &one(&before.title), &one(&self.title));
        let bundles: BTreeSet<&String> = before.profiles.keys().chain(self.profiles.keys()).collect();
        for id in bundles {
            let own = |seen: &Seen| one(&seen.profiles.get(id).cloned());
            compare(Aspect::Profile, Some(id), &own(before), &own(self));
        }
        out.sort_by_key(|change| change.of);
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_came_went_and_changed_is_told_and_nothing_else() {
        let map = |all: &[(&str, &str)]| -> BTreeMap<String, String> {
            all.iter().map(|(name, value)| ((*name).into(), (*value).into())).collect()
        };
        let before = Seen {
            asks_for: ["CAMERA".into(), "CONTACTS".into()].into(),
            claims: [("example.app".to_owned(), map(&[("aps-environment", "development"), ("a", "1")]))]
                .into(),
            lowest: Some("24".into()),
            signers: map(&[("aa", "CN=Old")]),
            ..Seen::default()
        };
        let now = Seen {
            asks_for: ["CAMERA".into(), "LOCATION".into()].into(),
            claims: [("example.app".to_owned(), map(&[("aps-environment", "production"), ("a", "1")]))]
                .into(),
            lowest: Some("26".into()),
            signers: map(&[("aa", "CN=Old")]),
            profiles: map(&[("example.app", "Crossing store")]),
            ..Seen::default()
        };
        assert_eq!(now.changes(&now), []);
        let told: Vec<String> = now
            .changes(&before)
            .into_iter()
            .map(|change| {
                let text = |value: Option<String>| value.unwrap_or("-".into());
                format!("{:?} {} {} {}", change.of, text(change.name), text(change.before), text(change.now))
            })
            .collect();
        let wanted = [
            "AsksFor CONTACTS  -",
            "AsksFor LOCATION - ",
            "Entitlement aps-environment development production",
            "Lowest - 24 26",
            "Profile - - Crossing store",
        ];
        assert_eq!(told, wanted);
    }
}
