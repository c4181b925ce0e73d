//! What everything at the portal is to the cabinet.

use std::collections::{BTreeSet, HashMap};

use jiff::Timestamp;
use ninekeys_core::digest::{hex, sha256_hex};
use ninekeys_core::model::{DeviceFacts, Facts, Inventory, Item, ItemId, NineKey, Project};
use ninekeys_formats::x509::Certificate;
use ninekeys_portal::wire;

use super::There;
use super::said::{Because, Standing, TakenCertificate, TakenDevice, TakenProfile};
use crate::answers::{self, CertificateSaid};
use crate::device;
use crate::identity;
use crate::identity::accept::{Fit, Place, UnfitError};
use crate::profile::import::Fit as ProfileFit;

/// What it is held against.
#[derive(Clone, Copy)]
pub(super) struct Here<'a> {
    pub(super) project: &'a Project,
    pub(super) inventory: &'a Inventory,
    pub(super) roots: &'a [Certificate],
    pub(super) now: Timestamp,
}

/// What a kind of thing at the portal is to the cabinet.
pub(super) struct Judged {
    pub(super) certificates: Vec<(TakenCertificate, Work)>,
    pub(super) devices: Vec<TakenDevice>,
    pub(super) profiles: Vec<TakenProfile>,
    lacks_authorities: bool,
}

/// What is to be done about a certificate.
pub(super) enum Work {
    /// Nothing.
    None,
    /// It is new.
    Put(Box<Fit>),
    /// That of this identity was revoked, which the cabinet does not know.
    NoteRevoked(ItemId, Timestamp),
}

impl Judged {
    /// Whether there is something to be taken into the cabinet.
    pub(super) fn is_news(&self) -> bool {
        let news = |standing: Standing| matches!(standing, Standing::New | Standing::Different);
        self.lacks_authorities
            || self.certificates.iter().any(|(_, work)| !matches!(work, Work::None))
            || self.devices.iter().any(|one| one.standing == Standing::New)
            || self.profiles.iter().any(|one| news(one.standing))
    }
}

impl Here<'_> {
    pub(super) fn pool(&self, above: &[Certificate]) -> Vec<Certificate> {
        let mut pool = identity::authorities(self.inventory);
        pool.extend(above.iter().chain(self.roots).cloned());
        pool
    }
}

impl There {
    /// The profiles that are good now and of which something is so.
    pub(super) fn profiles_where(&self, now: Timestamp, so: impl Fn(&ProfileFit) -> bool) -> Vec<String> {
        let good = self.profiles.iter().filter(|fit| fit.not_after() >= now && so(fit));
        let mut titles: Vec<String> = good.map(|fit| fit.verified.profile.title.clone()).collect();
        titles.sort();
        titles.dedup();
        titles
    }

    /// What everything is to the cabinet.
    ///
    /// # Errors
    /// [`UnfitError`] for a certificate that can be nobody's here.
    pub(super) fn judge(&self, here: &Here<'_>) -> Result<Judged, UnfitError> {
        let pool = here.pool(&self.above);
        let certificates =
            self.certificates.iter().map(|(said, own)| self.certificate(said, own, here, &pool));
        Ok(Judged {
            certificates: certificates.collect::<Result<_, _>>()?,
            devices: self.devices(here),
            profiles: (0..self.profiles.len()).filter_map(|place| self.profile(place, here)).collect(),
            lacks_authorities: self
                .above
                .iter()
                .any(|one| identity::certificate_with(here.inventory, &sha256_hex(&one.der)).is_none()),
        })
    }

    fn certificate(
        &self,
        said: &wire::Certificate,
        own: &Certificate,
        here: &Here<'_>,
        pool: &[Certificate],
    ) -> Result<(TakenCertificate, Work), UnfitError> {
        let fit = Fit::read(own.clone(), &[], Some(here.project), pool)?;
        let key = fit.key(here.inventory);
        let place = fit.place(here.inventory, key);
        let item = match &place {
            Place::Known(id) | Place::Waiting(id) | Place::Keyless(id) => here.inventory.get(id),
            Place::New => None,
        };
        let revoked_here = item.is_some_and(|item| match &item.facts {
            Facts::Identity(facts) => facts.revoked.is_some(),
            _ => false,
        });
        let because = no_good(said, own, here.now);
        let standing = match (&place, because) {
            (Place::Known(_), Some(Because::Revoked)) if !revoked_here => Standing::Different,
            (Place::Known(_), _) => Standing::Known,
            (_, Some(_)) => Standing::Left,
            (_, None) => Standing::New,
        };
        let work = |fit: Fit| match (standing, item, said.revoked) {
            (Standing::New, ..) => Work::Put(Box::new(fit)),
            (Standing::Different, Some(item), Some(at)) => Work::NoteRevoked(item.id, at),
            _ => Work::None,
        };
        let fingerprint = sha256_hex(&own.der);
        let profiles =
            self.profiles_where(here.now, |fit| fit.verified.profile.certificates.contains(&own.der));
        let releases = signed_with(here.inventory, &fingerprint);
        let kind = fit.purpose.nine_key();
        let taken = TakenCertificate {
            standing,
            because: because.filter(|_| standing == Standing::Left),
            identity: item.map(|item| item.name.clone()),
            kind,
            certificate: CertificateSaid::from(own),
            serial: hex(&own.serial),
            has_key: key.is_some(),
            revoked: said.revoked,
            unused: because.is_none() && kind != NineKey::Push && profiles.is_empty() && releases == 0,
            profiles,
            releases,
        };
        Ok((taken, work(fit)))
    }

    /// What the devices are to those here; both sides are gone through once, since there may be many.
    fn devices(&self, here: &Here<'_>) -> Vec<TakenDevice> {
        let all = device::all(here.inventory);
        let known: HashMap<String, (&Item, &DeviceFacts)> =
            all.into_iter().map(|own| (own.1.identifier.to_ascii_lowercase(), own)).collect();
        let mut allowed: HashMap<String, BTreeSet<&str>> = HashMap::new();
        for fit in self.profiles.iter().filter(|fit| fit.not_after() >= here.now) {
            let profile = &fit.verified.profile;
            for identifier in profile.devices.iter().flatten() {
                allowed.entry(identifier.to_ascii_lowercase()).or_default().insert(&profile.title);
            }
        }
        let said = self.devices.iter().map(|device| {
            let identifier = device.identifier.to_ascii_lowercase();
            let profiles = allowed.get(&identifier).into_iter().flatten().map(|title| (*title).to_owned());
            Self::device(device, known.get(&identifier).copied(), profiles.collect())
        });
        said.collect()
    }

    fn device(
        device: &wire::Device,
        known: Option<(&Item, &DeviceFacts)>,
        profiles: Vec<String>,
    ) -> TakenDevice {
        let called = known.map(|(_, facts)| facts.title.clone()).filter(|title| *title != device.title);
        TakenDevice {
            standing: match (&known, &called) {
                (None, _) => Standing::New,
                (Some(_), None) => Standing::Known,
                (Some(_), Some(_)) => Standing::Different,
            },
            device: known.map(|(item, _)| item.name.clone()),
            identifier: device.identifier.clone(),
            title: device.title.clone(),
            title_here: called,
            unused: profiles.is_empty(),
            profiles,
        }
    }

    fn profile(&self, place: usize, here: &Here<'_>) -> Option<TakenProfile> {
        let (before, rest) = self.profiles.split_at_checked(place)?;
        let (fit, behind) = rest.split_first()?;
        let known = fit.known(here.inventory);
        // of two that were made in the same second, the later is the one that stands behind
        let is_later = |other: &&ProfileFit| other.is_like(fit) && other.not_after() >= here.now;
        let begins = |fit: &ProfileFit| fit.verified.profile.not_before;
        let later = before.iter().filter(is_later).any(|other| begins(other) > begins(fit))
            || behind.iter().filter(is_later).any(|other| begins(other) >= begins(fit));
        let older = fit.older(here.inventory);
        let good = |der: &Vec<u8>| {
            let said = self.certificates.iter().find(|(_, own)| own.der == *der);
            said.is_none_or(|(said, own)| no_good(said, own, here.now).is_none())
        };
        let profile = &fit.verified.profile;
        let unused = !profile.certificates.iter().any(good);
        let because = match (fit.not_after() < here.now, later, unused) {
            (true, ..) => Some(Because::Expired),
            (false, true, _) => Some(Because::Superseded),
            (false, false, true) => Some(Because::Revoked),
            (false, false, false) => None,
        };
        let standing = match (known, because, older) {
            (Some(_), ..) => Standing::Known,
            (None, Some(_), _) => Standing::Left,
            (None, None, Some(_)) => Standing::Different,
            (None, None, None) => Standing::New,
        };
        Some(TakenProfile {
            standing,
            because: because.filter(|_| standing == Standing::Left),
            profile: known.map(|item| item.name.clone()),
            title: profile.title.clone(),
            uuid: profile.uuid.clone(),
            destination: fit.verified.destination,
            app_id: fit.verified.app_id.clone(),
            not_after: fit.not_after(),
            replaces: older.filter(|_| standing == Standing::Different).map(|item| item.name.clone()),
            unused,
        })
    }
}

/// Why nothing can be signed with a certificate any more.
pub(super) fn no_good(said: &wire::Certificate, own: &Certificate, now: Timestamp) -> Option<Because> {
    match (said.revoked, answers::time(own.not_after) < now) {
        (Some(_), _) => Some(Because::Revoked),
        (None, true) => Some(Because::Expired),
        (None, false) => None,
    }
}

/// How many builds of the ledger were signed with a certificate.
fn signed_with(inventory: &Inventory, fingerprint: &str) -> usize {
    let with = |facts: &Facts| matches!(facts, Facts::Release(r) if r.signer_certificate == fingerprint);
    inventory.iter().filter(|item| with(&item.facts)).count()
}
