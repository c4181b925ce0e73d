//! What an app needs before a build of it can be signed for a destination: an identity, and a profile for every bundle id.
//!
//! Each identity and each profile that could serve is looked at, with what speaks against it; the best of those that
//! nothing speaks against is taken. The rules say what is missing, the commands show what was taken.

use std::collections::HashMap;
use std::fmt;
use std::sync::OnceLock;

use jiff::Timestamp;
use ninekeys_formats::x509::Certificate;
use schemars::JsonSchema;
use serde::Serialize;

use super::profile::is_for;
use crate::chain::Chain;
use crate::digest::from_hex;
use crate::model::{
    Capability, CertificateFacts, Destination, DeviceFacts, Facts, IdentityFacts, IdentityPurpose, Inventory,
    Ios, Item, ItemId, NineKey, Policy, ProfileFacts, PushEnvironment, State, Wholeness,
};
use crate::revocation::{Learnt, Revocations};
use ninekeys_formats::limits::Limits;

/// The most profiles of other apps that are named.
const MOST_OTHERS: usize = 3;

/// An app, a destination, and everything that is held against them.
pub struct Wanted<'a> {
    /// The app's name.
    pub app: &'a str,
    /// What people call it.
    pub title: &'a str,
    /// Its iOS side.
    pub ios: &'a Ios,
    /// Where its build goes.
    pub destination: Destination,
    /// The team that it belongs to, if the project says.
    pub team: Option<&'a str>,
    /// What the project expects.
    pub policy: &'a Policy,
    /// What the cabinet holds.
    pub inventory: &'a Inventory,
    /// The same, by kind.
    pub roster: &'a Roster<'a>,
    /// The authorities that the project names.
    pub roots: &'a [Certificate],
    /// Every authority's certificate at hand.
    pub pool: &'a [Certificate],
    /// What was learnt of certificates from addresses that they name.
    pub revocations: &'a Revocations,
    /// The time that it is for.
    pub now: Timestamp,
}

/// What matters for iOS builds, by kind: picked out once, and looked at for every app and destination.
pub struct Roster<'a> {
    /// The identities, by name, retired ones too.
    pub identities: Vec<(&'a Item, &'a IdentityFacts)>,
    /// The profiles in use.
    pub profiles: Vec<(&'a Item, &'a ProfileFacts)>,
    /// The devices in use, by name.
    pub devices: Vec<(&'a Item, &'a DeviceFacts)>,
    /// Where a device stands in the list, by its identifier in small letters, and by its item.
    places: HashMap<String, usize>,
    place_of: HashMap<ItemId, usize>,
    /// The paths of certificates, by their fingerprints, each found when it is first asked for.
    chains: HashMap<&'a str, OnceLock<Option<Chain>>>,
}

impl<'a> Roster<'a> {
    /// Picks them out.
    pub fn of(inventory: &'a Inventory) -> Self {
        let mut roster = Roster {
            identities: Vec::new(),
            profiles: Vec::new(),
            devices: Vec::new(),
            places: HashMap::new(),
            place_of: HashMap::new(),
            chains: HashMap::new(),
        };
        for item in inventory.iter() {
            match &item.facts {
                Facts::Identity(facts) => roster.identities.push((item, facts)),
                Facts::Profile(facts) if item.state == State::Active => roster.profiles.push((item, facts)),
                Facts::Device(facts) if item.state == State::Active => roster.devices.push((item, facts)),
                _ => {}
            }
        }
        roster.identities.sort_by(|(a, _), (b, _)| a.name.cmp(&b.name));
        roster.devices.sort_by(|(a, _), (b, _)| a.name.cmp(&b.name));
        let lower = roster.devices.iter().map(|(_, facts)| facts.identifier.to_ascii_lowercase());
        roster.places = lower.enumerate().map(|(place, identifier)| (identifier, place)).collect();
        let ids = roster.devices.iter().map(|(item, _)| item.id);
        roster.place_of = ids.enumerate().map(|(place, id)| (id, place)).collect();
        let certificates = roster.identities.iter().filter_map(|(_, facts)| facts.certificate);
        let known = certificates.filter_map(|id| match &inventory.get(&id)?.facts {
            Facts::Certificate(certificate) => Some(certificate.fingerprint.as_str()),
            _ => None,
        });
        roster.chains = known.map(|fingerprint| (fingerprint, OnceLock::new())).collect();
        roster
    }

    /// The path of an identity's certificate: one certificate serves many apps, and its path is found once.
    pub fn chain(&self, certificate: &CertificateFacts, pool: &[Certificate]) -> Option<Chain> {
        let find = || parsed(certificate).map(|own| Chain::find(&own, pool));
        match self.chains.get(certificate.fingerprint.as_str()) {
            Some(known) => known.get_or_init(find).clone(),
            None => find(),
        }
    }

    /// The devices in use that a profile does not allow, by name.
    pub fn left_out(
        &self,
        inventory: &Inventory,
        profile: &ProfileFacts,
    ) -> impl Iterator<Item = (&'a Item, &'a DeviceFacts)> {
        let by_identifier = |identifier: &str| self.places.get(&identifier.to_ascii_lowercase()).copied();
        // one that came in again after the profile did is another item with the same identifier
        let known = profile.devices.iter().filter_map(|id| match self.place_of.get(id) {
            Some(place) => Some(*place),
            None => match &inventory.get(id)?.facts {
                Facts::Device(device) => by_identifier(&device.identifier),
                _ => None,
            },
        });
        let foreign = profile.foreign_devices.iter().filter_map(|identifier| by_identifier(identifier));
        let mut is_left_out = vec![true; self.devices.len()];
        for place in known.chain(foreign) {
            is_left_out.get_mut(place).into_iter().for_each(|left_out| *left_out = false);
        }
        let left_out = self.devices.iter().zip(is_left_out).filter(|(_, left_out)| *left_out);
        left_out.map(|(device, _)| *device)
    }
}

/// What could have been taken and was not.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct PassedOver {
    /// Its name in the cabinet.
    pub name: String,
    /// The bundle id that it would have been for, of a profile.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub bundle_id: Option<String>,
    /// Why not.
    pub because: String,
}

/// What speaks against an identity.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum AgainstIdentity {
    /// Its certificate has ended.
    Ended(Timestamp),
    /// Its certificate begins later.
    NotYet(Timestamp),
    /// It was issued to another team.
    OtherTeam(String),
    /// Its private key is not here.
    WithoutKey,
    /// Somebody else has its private key.
    HeldBy(String),
    /// Its certificate was asked for and is not here.
    Waiting,
    /// Its certificate was revoked.
    Revoked(Timestamp),
}

impl fmt::Display for AgainstIdentity {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            AgainstIdentity::Ended(_) => f.write_str("it has ended"),
            AgainstIdentity::NotYet(_) => f.write_str("it begins later"),
            AgainstIdentity::OtherTeam(team) => write!(f, "it is of team {team}"),
            AgainstIdentity::WithoutKey => f.write_str("its private key is not here"),
            AgainstIdentity::HeldBy(holder) => write!(f, "{holder} has its private key"),
            AgainstIdentity::Waiting => f.write_str("it waits for its certificate"),
            AgainstIdentity::Revoked(_) => f.write_str("its certificate was revoked"),
        }
    }
}

/// An identity that could serve.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct IdentityChoice<'a> {
    /// The item.
    pub item: &'a Item,
    /// Its facts.
    pub facts: &'a IdentityFacts,
    /// Its certificate.
    pub certificate: Option<&'a CertificateFacts>,
    /// What speaks against it.
    pub against: Vec<AgainstIdentity>,
}

impl IdentityChoice<'_> {
    /// Whether what is sent with it reaches those servers.
    pub fn reaches(&self, servers: PushEnvironment) -> bool {
        match self.facts.purpose {
            IdentityPurpose::Push(PushEnvironment::Both) => true,
            IdentityPurpose::Push(environment) => environment == servers,
            _ => false,
        }
    }

    /// Whether something can be sent with it, here or by whoever has its key.
    pub fn sends(&self) -> bool {
        let ended = |one: &AgainstIdentity| {
            matches!(one, AgainstIdentity::Ended(_) | AgainstIdentity::Waiting | AgainstIdentity::Revoked(_))
        };
        !self.against.iter().any(ended)
    }
}

/// What speaks against a profile.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum AgainstProfile {
    /// It has ended.
    Ended(Timestamp),
    /// It begins later.
    NotYet(Timestamp),
    /// Builds with it are for something else.
    Kind(Destination),
    /// It is for another app.
    App(String),
    /// It was issued to another team.
    OtherTeam(String),
    /// It does not allow the certificates of these identities.
    LacksIdentity(Vec<String>),
    /// Every certificate that it allows was revoked.
    OnlyRevoked,
}

impl fmt::Display for AgainstProfile {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            AgainstProfile::Ended(_) => f.write_str("it has ended"),
            AgainstProfile::NotYet(_) => f.write_str("it begins later"),
            AgainstProfile::Kind(destination) => write!(f, "it is for {}", destination.phrase()),
            AgainstProfile::App(_) => f.write_str("it is for another app"),
            AgainstProfile::OtherTeam(team) => write!(f, "it is of team {team}"),
            AgainstProfile::LacksIdentity(_) => f.write_str("it does not allow the identity"),
            AgainstProfile::OnlyRevoked => f.write_str("every certificate that it allows was revoked"),
        }
    }
}

/// A profile that could serve.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ProfileChoice<'a> {
    /// The item.
    pub item: &'a Item,
    /// Its facts.
    pub facts: &'a ProfileFacts,
    /// What speaks against it.
    pub against: Vec<AgainstProfile>,
}

/// One bundle id, and the profiles for it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Part<'a> {
    /// The extension's name; nothing for the app itself.
    pub extension: Option<&'a str>,
    /// Its bundle id.
    pub bundle_id: &'a str,
    /// The profiles that could serve, the best first.
    pub profiles: Vec<ProfileChoice<'a>>,
}

impl<'a> Part<'a> {
    /// The profile that is taken: the best that nothing speaks against.
    pub fn taken(&self) -> Option<&ProfileChoice<'a>> {
        self.profiles.first().filter(|choice| choice.against.is_empty())
    }

    /// The profile that comes nearest where none can be taken: right app, kind and team.
    pub fn nearest(&self) -> Option<&ProfileChoice<'a>> {
        let near = |choice: &&ProfileChoice<'a>| {
            !choice.against.iter().any(|one| {
                matches!(one, AgainstProfile::Kind(_) | AgainstProfile::App(_) | AgainstProfile::OtherTeam(_))
            })
        };
        self.profiles.iter().find(near).filter(|choice| !choice.against.is_empty())
    }
}

/// What was found for an app and a destination.
pub struct Setup<'a> {
    /// What it is for.
    pub wanted: Wanted<'a>,
    /// The identities that could serve, the best first.
    pub identities: Vec<IdentityChoice<'a>>,
    /// The chain of the identity that is taken.
    pub chain: Option<Chain>,
    /// The app and what is inside it.
    pub parts: Vec<Part<'a>>,
    /// Push identities for the app.
    pub push: Vec<IdentityChoice<'a>>,
}

/// The kind of identity that signs for a destination.
pub fn signs_for(destination: Destination) -> NineKey {
    match destination {
        Destination::Development => NineKey::Development,
        _ => NineKey::Distribution,
    }
}

impl<'a> Setup<'a> {
    /// Looks through the cabinet.
    pub fn of(wanted: Wanted<'a>) -> Self {
        let kind = signs_for(wanted.destination);
        let mut identities = identities(&wanted, |facts| facts.purpose.nine_key() == kind);
        let push = identities_for_push(&wanted);
        let usable: Vec<&IdentityChoice<'a>> =
            identities.iter().filter(|choice| choice.against.is_empty()).collect();
        let parts = parts(&wanted, &usable);
        let allowed = |choice: &IdentityChoice<'a>| {
            parts
                .iter()
                .filter_map(Part::taken)
                .filter(|taken| allows(wanted.inventory, taken.facts, choice))
                .count()
        };
        let rank: Vec<usize> = identities.iter().map(allowed).collect();
        let mut order: Vec<usize> = (0..identities.len()).collect();
        order.sort_by_key(|index| {
            let choice = identities.get(*index);
            let until = choice.and_then(|choice| choice.certificate).map(|certificate| certificate.not_after);
            let against = choice.map_or(usize::MAX, |choice| choice.against.len());
            (against, std::cmp::Reverse(rank.get(*index).copied()), std::cmp::Reverse(until))
        });
        identities = order.iter().filter_map(|index| identities.get(*index).cloned()).collect();
        let taken = identities.first().filter(|choice| choice.against.is_empty());
        let certificate = taken.and_then(|choice| choice.certificate);
        let chain = certificate.and_then(|own| wanted.roster.chain(own, wanted.pool));
        Setup { wanted, identities, chain, parts, push }
    }

    /// The identity that is taken: the best that nothing speaks against.
    pub fn taken(&self) -> Option<&IdentityChoice<'a>> {
        self.identities.first().filter(|choice| choice.against.is_empty())
    }

    /// What could have been taken and was not, with the reason: identities, and then the profiles of each bundle id.
    pub fn passed_over(&self) -> Vec<PassedOver> {
        let words = |against: Vec<String>, otherwise: &str| match against.is_empty() {
            true => otherwise.to_owned(),
            false => against.join(", "),
        };
        let identities = self.identities.iter().skip(1).map(|choice| PassedOver {
            name: choice.item.name.clone(),
            bundle_id: None,
            because: words(
                choice.against.iter().map(ToString::to_string).collect(),
                "the profiles allow the other, or it is good longer",
            ),
        });
        let profiles = self.parts.iter().flat_map(|part| {
            part.profiles.iter().skip(1).map(|choice| PassedOver {
                name: choice.item.name.clone(),
                bundle_id: Some(part.bundle_id.to_owned()),
                because: words(
                    choice.against.iter().map(ToString::to_string).collect(),
                    if super::profile::is_wildcard(&choice.facts.app_id) {
                        "it is for several apps, and the other for this one"
                    } else {
                        "the other is good longer, or newer"
                    },
                ),
            })
        });
        identities.chain(profiles).collect()
    }

    /// The servers that builds for the destination listen to.
    pub fn servers(&self) -> PushEnvironment {
        match self.wanted.destination {
            Destination::Development => PushEnvironment::Sandbox,
            _ => PushEnvironment::Production,
        }
    }

    /// The push identity that is taken: with its key here, for those servers, and nothing against it.
    pub fn push_taken(&self) -> Option<&IdentityChoice<'a>> {
        self.push.iter().find(|choice| choice.against.is_empty() && choice.reaches(self.servers()))
    }

    /// Whether the app takes notifications from a server.
    pub fn has_push(&self) -> bool {
        self.wanted.ios.capabilities.contains(&Capability::Push)
    }
}

/// A kept certificate, read.
pub fn parsed(facts: &CertificateFacts) -> Option<Certificate> {
    Certificate::parse(&from_hex(&facts.der)?, &Limits::USUAL).ok()
}

fn identities<'a>(
    wanted: &Wanted<'a>,
    is_wanted: impl Fn(&IdentityFacts) -> bool,
) -> Vec<IdentityChoice<'a>> {
    let mut out: Vec<IdentityChoice<'a>> = Vec::new();
    for (item, facts) in wanted.roster.identities.iter().copied() {
        // a revoked one is retired, and is why nothing can be signed until there is another
        if item.state != State::Active && facts.revoked.is_none() {
            continue;
        }
        let for_app = facts.apps.is_empty() || facts.apps.iter().any(|app| app == wanted.app);
        if !for_app || !is_wanted(facts) {
            continue;
        }
        let certificate = facts.certificate.and_then(|id| match &wanted.inventory.get(&id)?.facts {
            Facts::Certificate(certificate) => Some(certificate.as_ref()),
            _ => None,
        });
        out.push(IdentityChoice {
            item,
            facts,
            certificate,
            against: against_identity(wanted, facts, certificate),
        });
    }
    out
}

/// Those that send to the servers which builds for the destination listen to come first.
fn identities_for_push<'a>(wanted: &Wanted<'a>) -> Vec<IdentityChoice<'a>> {
    let mut all = identities(wanted, |facts| matches!(facts.purpose, IdentityPurpose::Push(_)));
    // one that is for no app by name is for none
    all.retain(|choice| choice.facts.apps.iter().any(|app| app == wanted.app));
    all.sort_by_key(|choice| choice.against.len());
    all
}

fn against_identity(
    wanted: &Wanted<'_>,
    facts: &IdentityFacts,
    certificate: Option<&CertificateFacts>,
) -> Vec<AgainstIdentity> {
    let mut out = Vec::new();
    match (facts.wholeness(), &facts.held_by) {
        (_, Some(holder)) => out.push(AgainstIdentity::HeldBy(holder.clone())),
        (Wholeness::Waiting, None) => out.push(AgainstIdentity::Waiting),
        (Wholeness::WithoutKey, None) => out.push(AgainstIdentity::WithoutKey),
        _ => {}
    }
    if let Some(at) = revoked(wanted, facts, certificate) {
        out.push(AgainstIdentity::Revoked(at));
    }
    if let Some(certificate) = certificate {
        if certificate.not_after < wanted.now {
            out.push(AgainstIdentity::Ended(certificate.not_after));
        } else if certificate.not_before > wanted.now {
            out.push(AgainstIdentity::NotYet(certificate.not_before));
        }
    }
    if let (Some(wanted), Some(own)) = (wanted.team, &facts.team)
        && wanted != own
    {
        out.push(AgainstIdentity::OtherTeam(own.clone()));
    }
    out
}

/// When an identity's certificate was revoked: as the cabinet knows, or as its issuer says now.
fn revoked(
    wanted: &Wanted<'_>,
    facts: &IdentityFacts,
    certificate: Option<&CertificateFacts>,
) -> Option<Timestamp> {
    let learnt = certificate.and_then(|certificate| wanted.revocations.get(&certificate.fingerprint));
    match (facts.revoked, learnt) {
        (Some(at), _) => Some(at),
        (None, Some(Learnt::Revoked(at))) => Some(*at),
        (None, _) => None,
    }
}

fn parts<'a>(wanted: &Wanted<'a>, usable: &[&IdentityChoice<'a>]) -> Vec<Part<'a>> {
    let app = std::iter::once((None, wanted.ios.bundle_id.as_str()));
    let inside = wanted.ios.extensions.iter().map(|(name, id)| (Some(name.as_str()), id.as_str()));
    app.chain(inside)
        .map(|(extension, bundle_id)| Part {
            extension,
            bundle_id,
            profiles: profiles(wanted, bundle_id, usable),
        })
        .collect()
}

fn profiles<'a>(
    wanted: &Wanted<'a>,
    bundle_id: &str,
    usable: &[&IdentityChoice<'a>],
) -> Vec<ProfileChoice<'a>> {
    let all = |is_wanted: &dyn Fn(&ProfileFacts) -> bool| -> Vec<ProfileChoice<'a>> {
        let wanted_ones = wanted.roster.profiles.iter().filter(|(_, facts)| is_wanted(facts));
        let choice = |(item, facts): &(&'a Item, &'a ProfileFacts)| ProfileChoice {
            item,
            facts,
            against: against_profile(wanted, bundle_id, facts, usable),
        };
        wanted_ones.map(choice).collect()
    };
    let sort = |all: &mut Vec<ProfileChoice<'a>>| {
        all.sort_by(|a, b| {
            let key = |choice: &ProfileChoice<'a>| {
                // an exact id before a wildcard, a later end before an earlier one
                let wildcard = super::profile::is_wildcard(&choice.facts.app_id);
                (choice.against.len(), wildcard, std::cmp::Reverse(choice.facts.not_after))
            };
            key(a).cmp(&key(b)).then_with(|| (b.item.made, &a.item.name).cmp(&(a.item.made, &b.item.name)))
        });
    };
    let mut own = all(&|facts| is_for(&facts.app_id, bundle_id));
    sort(&mut own);
    if own.is_empty() {
        own = all(&|facts| facts.destination == wanted.destination);
        sort(&mut own);
        own.truncate(MOST_OTHERS);
    }
    own
}

fn against_profile(
    wanted: &Wanted<'_>,
    bundle_id: &str,
    facts: &ProfileFacts,
    usable: &[&IdentityChoice<'_>],
) -> Vec<AgainstProfile> {
    let mut out = Vec::new();
    if !is_for(&facts.app_id, bundle_id) {
        // whatever else speaks against it does not matter
        return vec![AgainstProfile::App(facts.app_id.clone())];
    }
    if facts.destination != wanted.destination {
        out.push(AgainstProfile::Kind(facts.destination));
    }
    if wanted.team.is_some_and(|team| team != facts.team) {
        out.push(AgainstProfile::OtherTeam(facts.team.clone()));
    }
    if facts.not_after < wanted.now {
        out.push(AgainstProfile::Ended(facts.not_after));
    } else if facts.not_before > wanted.now {
        out.push(AgainstProfile::NotYet(facts.not_before));
    }
    // what cannot be signed with here is no reason against a profile
    let same_kind = facts.destination == wanted.destination;
    if same_kind && !usable.is_empty() && !usable.iter().any(|choice| allows(wanted.inventory, facts, choice))
    {
        let fingerprints =
            usable.iter().filter_map(|choice| choice.certificate).map(|c| c.fingerprint.clone());
        out.push(AgainstProfile::LacksIdentity(fingerprints.collect()));
    }
    if same_kind && usable.is_empty() && allows_only_revoked(wanted, facts) {
        out.push(AgainstProfile::OnlyRevoked);
    }
    out
}

fn allows_only_revoked(wanted: &Wanted<'_>, profile: &ProfileFacts) -> bool {
    let is_revoked = |id: &ItemId| {
        let certificate = match wanted.inventory.get(id).map(|item| &item.facts) {
            Some(Facts::Certificate(certificate)) => Some(certificate.as_ref()),
            _ => None,
        };
        let own = |facts: &IdentityFacts| facts.certificate.as_ref() == Some(id);
        wanted
            .roster
            .identities
            .iter()
            .any(|(_, facts)| own(facts) && revoked(wanted, facts, certificate).is_some())
    };
    !profile.certificates.is_empty()
        && profile.foreign_certificates.is_empty()
        && profile.certificates.iter().all(is_revoked)
}

/// Whether a profile allows the certificate of an identity, also where that came in after the profile did.
pub fn allows(inventory: &Inventory, profile: &ProfileFacts, choice: &IdentityChoice<'_>) -> bool {
    let (Some(id), Some(certificate)) = (&choice.facts.certificate, choice.certificate) else { return false };
    let same = |other: &CertificateFacts| other.fingerprint == certificate.fingerprint;
    profile.certificates.contains(id)
        || profile.foreign_certificates.contains(&certificate.fingerprint)
        || profile.certificates.iter().any(|known| {
            matches!(inventory.get(known).map(|item| &item.facts), Some(Facts::Certificate(c)) if same(c))
        })
}

/// Whether a profile allows a device, also where that came in after the profile did.
pub fn allows_device(inventory: &Inventory, profile: &ProfileFacts, identifier: &str) -> bool {
    let known = profile.devices.iter().filter_map(|id| match &inventory.get(id)?.facts {
        Facts::Device(device) => Some(device.identifier.as_str()),
        _ => None,
    });
    known
        .chain(profile.foreign_devices.iter().map(String::as_str))
        .any(|allowed| allowed.eq_ignore_ascii_case(identifier))
}
