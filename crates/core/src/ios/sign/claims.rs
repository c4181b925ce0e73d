//! What a signed app claims: what its profile grants, narrowed to what the app declares (formats section 4.2, rule 7).

use std::collections::BTreeMap;

use ninekeys_formats::entitlements::Entitlement;

use crate::ios::entitlements::grants;
use crate::ios::profile::{APPLICATION, BETA, DEBUG, KEYCHAIN, PUSH, TEAM};
use crate::model::Destination;

/// Entitlements by name.
pub type Claims = BTreeMap<String, Entitlement>;

/// What an app declares.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Declared {
    /// With values.
    pub values: Claims,
    /// By name alone: whatever its profile grants of it.
    pub names: Vec<String>,
}

impl Declared {
    /// Whether it declares nothing: then it is given all that its profile grants.
    pub fn is_empty(&self) -> bool {
        self.values.is_empty() && self.names.is_empty()
    }
}

/// Who claims, and where it goes.
#[derive(Debug, Clone, Copy)]
pub struct Claimant<'a> {
    /// The bundle id.
    pub bundle_id: &'a str,
    /// What stands before it in the app id.
    pub prefix: &'a str,
    /// The team.
    pub team: &'a str,
    /// Where the build goes.
    pub destination: Destination,
}

/// Why an entitlement is claimed, or is not.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Reason {
    /// Every app claims it.
    Always,
    /// The app declares it, and its profile grants it.
    Declared,
    /// The app declares nothing, and its profile grants it.
    Granted,
    /// Left out: its profile does not grant it.
    NotGranted,
    /// Left out: its profile grants another value.
    OtherValue,
    /// Left out: its profile grants a pattern, and nobody said which value is meant.
    Pattern,
    /// Left out: the app does not declare it.
    NotDeclared,
    /// Left out: only development builds let debuggers in.
    Debug,
}

impl Reason {
    /// Whether it is claimed.
    pub fn is_taken(self) -> bool {
        matches!(self, Reason::Always | Reason::Declared | Reason::Granted)
    }

    /// As a sentence says it.
    pub fn word(self) -> &'static str {
        match self {
            Reason::Always => "every app claims it",
            Reason::Declared => "the app declares it, and its profile grants it",
            Reason::Granted => "its profile grants it, and the app declares no other",
            Reason::NotGranted => "the app declares it, and its profile does not grant it",
            Reason::OtherValue => "the app declares another value than its profile grants",
            Reason::Pattern => "its profile grants a pattern, and nobody says which value is meant",
            Reason::NotDeclared => "its profile grants it, and the app does not declare it",
            Reason::Debug => "only development builds let debuggers in",
        }
    }
}

/// What is claimed, and why each is or is not.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Chosen {
    /// What is claimed.
    pub claims: Claims,
    /// Every entitlement that was looked at.
    pub reasons: BTreeMap<String, Reason>,
}

impl Chosen {
    fn take(&mut self, key: &str, value: Entitlement, reason: Reason) {
        self.claims.insert(key.to_owned(), value);
        self.reasons.insert(key.to_owned(), reason);
    }

    fn leave(&mut self, key: &str, reason: Reason) {
        self.reasons.entry(key.to_owned()).or_insert(reason);
    }
}

/// Chooses what is claimed of what a profile grants.
pub fn choose(granted: &Claims, declared: &Declared, who: &Claimant<'_>) -> Chosen {
    let mut chosen = Chosen::default();
    let own = format!("{}.{}", who.prefix, who.bundle_id);
    chosen.take(APPLICATION, Entitlement::Text(own.clone()), Reason::Always);
    chosen.take(TEAM, Entitlement::Text(who.team.to_owned()), Reason::Always);
    debuggers(granted, declared, who.destination, &mut chosen);
    keychain(granted, declared, &own, &mut chosen);
    // the store reads of it that testers may be given the build
    if let Some(Entitlement::Flag(true)) = granted.get(BETA) {
        chosen.take(BETA, Entitlement::Flag(true), Reason::Always);
    }
    for (key, value) in &declared.values {
        if chosen.reasons.contains_key(key) {
            continue;
        }
        match granted.get(key) {
            None if *value == Entitlement::Flag(false) => chosen.take(key, value.clone(), Reason::Declared),
            None => chosen.leave(key, Reason::NotGranted),
            // the servers follow from where the build goes, whatever the project was worked on with
            Some(granted) if key == PUSH => chosen.take(key, granted.clone(), Reason::Declared),
            Some(granted) if grants(granted, value) && !is_pattern(value) => {
                chosen.take(key, value.clone(), Reason::Declared);
            }
            Some(_) => chosen.leave(key, Reason::OtherValue),
        }
    }
    for key in &declared.names {
        if chosen.reasons.contains_key(key) {
            continue;
        }
        match granted.get(key) {
            None => chosen.leave(key, Reason::NotGranted),
            Some(value) if is_pattern(value) => chosen.leave(key, Reason::Pattern),
            Some(value) => chosen.take(key, value.clone(), Reason::Declared),
        }
    }
    for (key, value) in granted {
        if chosen.reasons.contains_key(key) {
            continue;
        }
        match declared.is_empty() {
            false => chosen.leave(key, Reason::NotDeclared),
            true if is_pattern(value) => chosen.leave(key, Reason::Pattern),
            true => chosen.take(key, value.clone(), Reason::Granted),
        }
    }
    chosen
}

fn debuggers(granted: &Claims, declared: &Declared, destination: Destination, chosen: &mut Chosen) {
    let yes = Entitlement::Flag(true);
    match (granted.get(DEBUG), destination) {
        (Some(granted), Destination::Development) if *granted == yes => {
            chosen.take(DEBUG, yes, Reason::Always);
        }
        (Some(_), _) => chosen.take(DEBUG, Entitlement::Flag(false), Reason::Always),
        (None, _) if declared.values.contains_key(DEBUG) => chosen.leave(DEBUG, Reason::Debug),
        (None, _) => {}
    }
}

/// Groups of the keychain: those that are declared and granted; where none is, those that are granted, with its own in the
/// place of a pattern.
fn keychain(granted: &Claims, declared: &Declared, own: &str, chosen: &mut Chosen) {
    let Some(granted) = granted.get(KEYCHAIN) else { return };
    let is_granted =
        |group: &Entitlement| !is_pattern(group) && grants(granted, &Entitlement::List(vec![group.clone()]));
    let mut reason = Reason::Declared;
    let mut groups = match declared.values.get(KEYCHAIN) {
        Some(Entitlement::List(all)) => all.iter().filter(|group| is_granted(group)).cloned().collect(),
        _ => Vec::new(),
    };
    if groups.is_empty() {
        reason = Reason::Granted;
        let all = if let Entitlement::List(all) = granted { all.as_slice() } else { &[] };
        let own = Entitlement::Text(own.to_owned());
        groups =
            all.iter().map(|group| if is_pattern(group) { own.clone() } else { group.clone() }).collect();
        groups.retain(is_granted);
        groups.dedup();
    }
    match groups.is_empty() {
        true => chosen.leave(KEYCHAIN, Reason::OtherValue),
        false => chosen.take(KEYCHAIN, Entitlement::List(groups), reason),
    }
}

/// Whether a value stands for many.
fn is_pattern(value: &Entitlement) -> bool {
    match value {
        Entitlement::Text(text) => text.ends_with('*'),
        Entitlement::List(all) => all.iter().any(is_pattern),
        Entitlement::Map(all) => all.values().any(is_pattern),
        Entitlement::Flag(_) | Entitlement::Number(_) => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn text(text: &str) -> Entitlement {
        Entitlement::Text(text.into())
    }

    fn list(all: &[&str]) -> Entitlement {
        Entitlement::List(all.iter().map(|one| text(one)).collect())
    }

    fn granted() -> Claims {
        BTreeMap::from([
            (APPLICATION.into(), text("GPFERRY009.*")),
            (TEAM.into(), text("GPFERRY009")),
            (DEBUG.into(), Entitlement::Flag(true)),
            (PUSH.into(), text("development")),
            (KEYCHAIN.into(), list(&["GPFERRY009.*", "shared.token"])),
            ("domains".into(), text("*")),
            ("groups".into(), list(&["group.ferry"])),
        ])
    }

    fn who(destination: Destination) -> Claimant<'static> {
        Claimant {
            bundle_id: "example.gannetpoint.crossing",
            prefix: "GPFERRY009",
            team: "GPFERRY009",
            destination,
        }
    }

    #[test]
    fn who_declares_nothing_gets_what_is_granted_without_patterns() {
        let chosen = choose(&granted(), &Declared::default(), &who(Destination::Development));
        assert_eq!(chosen.claims[APPLICATION], text("GPFERRY009.example.gannetpoint.crossing"));
        assert_eq!(
            chosen.claims[KEYCHAIN],
            list(&["GPFERRY009.example.gannetpoint.crossing", "shared.token"])
        );
        assert_eq!(chosen.claims[DEBUG], Entitlement::Flag(true));
        assert_eq!(chosen.claims["groups"], list(&["group.ferry"]));
        assert_eq!(chosen.reasons["domains"], Reason::Pattern);
        assert!(!chosen.claims.contains_key("domains"));
    }

    #[test]
    fn who_declares_something_gets_that_and_no_more() {
        let mut declared = Declared::default();
        declared.names.push("nfc".into());
        declared.values.insert("domains".into(), list(&["applinks:ferry.example"]));
        declared.values.insert("groups".into(), list(&["group.other"]));
        declared.values.insert(PUSH.into(), text("production"));
        declared.values.insert(KEYCHAIN.into(), list(&["GPFERRY009.shared", "STRANGER01.x"]));
        let chosen = choose(&granted(), &declared, &who(Destination::Development));
        assert_eq!(chosen.claims["domains"], list(&["applinks:ferry.example"]));
        assert_eq!(chosen.claims[PUSH], text("development"));
        assert_eq!(chosen.claims[KEYCHAIN], list(&["GPFERRY009.shared"]));
        assert_eq!(chosen.reasons["groups"], Reason::OtherValue);
        assert_eq!(chosen.reasons["nfc"], Reason::NotGranted);
    }

    #[test]
    fn debuggers_stay_out_of_what_leaves_the_house() {
        for destination in [Destination::Store, Destination::Devices] {
            let chosen = choose(&granted(), &Declared::default(), &who(destination));
            assert_eq!(chosen.claims[DEBUG], Entitlement::Flag(false));
        }
        let mut declared = Declared::default();
        declared.values.insert(DEBUG.into(), Entitlement::Flag(true));
        let chosen = choose(&BTreeMap::new(), &declared, &who(Destination::Store));
        assert_eq!(chosen.reasons[DEBUG], Reason::Debug);
        assert!(!chosen.claims.contains_key(DEBUG));
    }
}
