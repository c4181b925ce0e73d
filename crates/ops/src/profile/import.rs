//! `profile import`: provisioning profiles, their signature verified up to a root that the project names.

use std::path::{Path, PathBuf};

use jiff::Timestamp;
use ninekeys_cabinet::{CabinetError, Change, NewItem};
use ninekeys_core::digest::sha256_hex;
use ninekeys_core::ios::profile::{ProfileError, Verified};
use ninekeys_core::model::{
    Facts, Inventory, Item, ItemId, NameError, ProfileFacts, Project, State, check_name,
};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::secret::Secret;
use ninekeys_formats::x509::Certificate;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::ProfileSaid;
use crate::answers;
use crate::ctx::{Ctx, OpenError};
use crate::files::{self, FileError};
use crate::identity::accept::Outcome;
use crate::identity::{self, CertificatesError};
use crate::profile;
use crate::project::ProjectError;

/// The most of a file with a profile.
const PROFILE_LIMIT: u64 = 640 << 10;

/// The profiles to be imported.
#[derive(Debug)]
pub struct Request {
    /// The files.
    pub files: Vec<PathBuf>,
    /// What a new one is called; after its title when nothing is said.
    pub name: Option<String>,
}

/// What was imported.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ProfileImportReport {
    /// The profiles, in the order of the files.
    pub imported: Vec<Imported>,
    /// Whether the project names roots, and they were verified up to one of them.
    pub trusted: bool,
    /// The time of this report.
    pub at: Timestamp,
}

/// One profile.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Imported {
    /// The profile.
    #[serde(flatten)]
    pub profile: ProfileSaid,
    /// What it meant for the cabinet.
    pub outcome: Outcome,
    /// The one that it took the place of, which is kept, retired.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub replaces: Option<String>,
    /// The root that its signature leads to, RFC 4514.
    pub root: String,
    /// What its entitlements say.
    pub entitlements: std::collections::BTreeMap<String, String>,
}

/// Why nothing was imported.
#[derive(Debug, Error)]
pub enum ProfileImportError {
    /// A name that cannot be one.
    #[error(transparent)]
    Name(#[from] NameError),
    /// One name for several.
    #[error("one name is for one profile, and {0} files were named")]
    SeveralForOneName(usize),
    /// A file.
    #[error(transparent)]
    File(#[from] FileError),
    /// A file that is no profile that could be believed.
    #[error("{}: {cause}", path.display())]
    Profile {
        /// The file.
        path: PathBuf,
        /// What was wrong.
        cause: ProfileError,
    },
    /// It leads to another root than the project names.
    #[error("{}: its signature leads to {root}, which is not among the roots that the project names", path.display())]
    OtherRoot {
        /// The file.
        path: PathBuf,
        /// RFC 4514.
        root: String,
    },
    /// It was issued to another team.
    #[error("{}: it was issued to the team {team}, and the project file names {}", path.display(), known.join(", "))]
    OtherTeam {
        /// The file.
        path: PathBuf,
        /// Its team.
        team: String,
        /// The teams that are named.
        known: Vec<String>,
    },
    /// The project's roots.
    #[error(transparent)]
    Certificates(#[from] CertificatesError),
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

/// A profile that is fit to be kept.
pub(crate) struct Fit {
    pub(crate) bytes: Vec<u8>,
    pub(crate) verified: Verified,
    team: String,
    apps: Vec<String>,
}

/// What profiles are held against.
pub(crate) struct Measure<'a> {
    pub(crate) project: Option<&'a Project>,
    pub(crate) roots: &'a [Certificate],
    pub(crate) pool: &'a [Certificate],
    pub(crate) now: Timestamp,
}

impl Fit {
    /// Reads a profile and verifies it; refuses one of another root or team.
    pub(crate) fn read(
        path: &Path,
        bytes: Vec<u8>,
        measure: &Measure<'_>,
    ) -> Result<Fit, ProfileImportError> {
        let opened = Verified::open(&bytes, measure.pool, measure.now, &Limits::USUAL);
        let verified = opened.map_err(|cause| ProfileImportError::Profile { path: path.into(), cause })?;
        if let Some(root) = verified.root()
            && !measure.roots.is_empty()
            && !measure.roots.iter().any(|known| known.der == root.der)
        {
            return Err(ProfileImportError::OtherRoot { path: path.into(), root: root.subject.clone() });
        }
        let known = measure.project.map(Project::teams).unwrap_or_default();
        let teams = &verified.profile.teams;
        let own = teams.iter().find(|team| known.is_empty() || known.contains(&team.as_str()));
        let Some(team) = own.cloned() else {
            let known = known.into_iter().map(str::to_owned).collect();
            return Err(ProfileImportError::OtherTeam { path: path.into(), team: teams.join(", "), known });
        };
        let apps = profile::apps_of(&verified.app_id, measure.project);
        Ok(Fit { bytes, verified, team, apps })
    }

    fn fingerprint(&self) -> String {
        sha256_hex(&self.bytes)
    }

    /// Until when it is good.
    pub(crate) fn not_after(&self) -> Timestamp {
        answers::time(self.verified.profile.not_after)
    }

    /// Looks again which apps it is for: the project file may have more of them now.
    pub(crate) fn find_apps(&mut self, project: &Project) {
        self.apps = profile::apps_of(&self.verified.app_id, Some(project));
    }

    /// Whether it has the same title, and is for the same.
    pub(crate) fn is_like(&self, other: &Fit) -> bool {
        let (own, their) = (&self.verified, &other.verified);
        own.profile.title == their.profile.title
            && (own.app_id == their.app_id && own.destination == their.destination)
            && self.team == other.team
    }

    /// The item of this very file.
    pub(crate) fn known<'a>(&self, inventory: &'a Inventory) -> Option<&'a Item> {
        let fingerprint = self.fingerprint();
        inventory.iter().find(|item| matches!(&item.facts, Facts::Profile(p) if p.fingerprint == fingerprint))
    }

    /// The profile in use that it takes the place of: of the same title, for the same, and not made later.
    pub(crate) fn older<'a>(&self, inventory: &'a Inventory) -> Option<&'a Item> {
        let made = answers::time(self.verified.profile.not_before);
        inventory.iter().find(|item| match &item.facts {
            Facts::Profile(p) => {
                item.state == State::Active
                    && p.title == self.verified.profile.title
                    && (p.app_id == self.verified.app_id && p.destination == self.verified.destination)
                    && (p.team == self.team && p.not_before <= made)
            }
            _ => false,
        })
    }

    fn facts(&self, inventory: &Inventory, roots: &[Certificate]) -> ProfileFacts {
        let profile = &self.verified.profile;
        let mut certificates: Vec<ItemId> = Vec::new();
        let mut foreign_certificates = Vec::new();
        for der in &profile.certificates {
            let fingerprint = sha256_hex(der);
            match identity::certificate_with(inventory, &fingerprint) {
                Some(item) => certificates.push(item.id),
                None => foreign_certificates.push(fingerprint),
            }
        }
        let device = |identifier: &str| {
            inventory.iter().find(|item| {
                matches!(&item.facts, Facts::Device(d) if d.identifier.eq_ignore_ascii_case(identifier))
            })
        };
        let (mut devices, mut foreign_devices) = (Vec::new(), Vec::new());
        for identifier in profile.devices.iter().flatten() {
            match device(identifier) {
                Some(item) => devices.push(item.id),
                None => foreign_devices.push(identifier.clone()),
            }
        }
        let trusted = self.verified.root().filter(|root| roots.iter().any(|known| known.der == root.der));
        ProfileFacts {
            uuid: profile.uuid.clone(),
            title: profile.title.clone(),
            destination: self.verified.destination,
            app_id: self.verified.app_id.clone(),
            apps: self.apps.clone(),
            team: self.team.clone(),
            foreign_certificates,
            certificates,
            devices,
            foreign_devices,
            entitlements: profile.entitlements.clone(),
            root: trusted.map(|root| sha256_hex(&root.der)),
            not_before: answers::time(profile.not_before),
            not_after: answers::time(profile.not_after),
            fingerprint: self.fingerprint(),
        }
    }

    /// Puts it in, unless it is there; tells its name and what that meant. What it takes the place of is retired.
    pub(crate) fn put(
        &self,
        change: &mut Change<'_>,
        name: Option<&str>,
        roots: &[Certificate],
    ) -> Result<(String, Outcome), CabinetError> {
        let older = self.older(&change.inventory()).map(|item| item.id);
        self.put_after(change, name, roots, older)
    }

    /// The same, beside whatever is there: that stays in use until this one is proved.
    pub(crate) fn put_beside(
        &self,
        change: &mut Change<'_>,
        name: &str,
        roots: &[Certificate],
    ) -> Result<(String, Outcome), CabinetError> {
        self.put_after(change, Some(name), roots, None)
    }

    fn put_after(
        &self,
        change: &mut Change<'_>,
        name: Option<&str>,
        roots: &[Certificate],
        replaces: Option<ItemId>,
    ) -> Result<(String, Outcome), CabinetError> {
        let inventory = change.inventory();
        if let Some(item) = self.known(&inventory) {
            return Ok((item.name.clone(), Outcome::Known));
        }
        let base = slug(&self.verified.profile.title);
        let name = name.map_or_else(|| identity::free_name(&inventory, &base), str::to_owned);
        let facts = Facts::Profile(Box::new(self.facts(&inventory, roots)));
        let new =
            NewItem { name: name.clone(), facts, secret: Some(Secret::new(self.bytes.clone())), replaces };
        change.put(new)?;
        Ok((name, Outcome::New))
    }
}

/// A title as far as it can be an item's name.
pub(crate) fn slug(title: &str) -> String {
    let mut out = String::new();
    for c in title.chars() {
        match c.to_ascii_lowercase() {
            c if c.is_ascii_alphanumeric() || matches!(c, '_' | '.') => out.push(c),
            _ if !out.is_empty() && !out.ends_with('-') => out.push('-'),
            _ => {}
        }
    }
    let plain: String = out.trim_start_matches(['-', '_', '.']).chars().take(56).collect();
    let plain = plain.trim_end_matches('-');
    if plain.is_empty() { "profile".into() } else { plain.into() }
}

/// Imports profiles. Nothing is kept before all of them are verified.
///
/// # Errors
/// [`ProfileImportError`]; then the cabinet is as it was.
pub fn profile_import(ctx: &Ctx<'_>, request: &Request) -> Result<ProfileImportReport, ProfileImportError> {
    request.name.as_deref().map_or(Ok(()), check_name)?;
    if request.name.is_some() && request.files.len() > 1 {
        return Err(ProfileImportError::SeveralForOneName(request.files.len()));
    }
    let file = ctx.project_if_any()?;
    let roots = identity::roots(file.as_ref())?;
    let mut cabinet = ctx.open()?;
    let inventory = cabinet.inventory()?;
    let mut pool = identity::authorities(&inventory);
    pool.extend(roots.iter().cloned());
    let project = file.as_ref().map(|file| &file.project);
    let measure = Measure { project, roots: &roots, pool: &pool, now: ctx.env.now };
    let mut fits: Vec<Fit> = Vec::new();
    for path in &request.files {
        let bytes = files::read_whole(&ctx.path(path), PROFILE_LIMIT)?;
        let fit = Fit::read(path, bytes, &measure)?;
        if !fits.iter().any(|known| known.bytes == fit.bytes) {
            fits.push(fit);
        }
    }
    if let Some(name) = &request.name
        && fits.iter().any(|fit| fit.known(&inventory).is_none())
        && inventory.iter().any(|item| item.name.eq_ignore_ascii_case(name))
    {
        return Err(CabinetError::NameTaken(name.clone()).into());
    }
    let mut outcomes: Vec<(String, Outcome)> =
        fits.iter().filter_map(|fit| Some((fit.known(&inventory)?.name.clone(), Outcome::Known))).collect();
    if outcomes.len() < fits.len() {
        ctx.unlock(&mut cabinet)?;
        let names: Vec<&str> = fits.iter().map(|fit| fit.verified.profile.title.as_str()).collect();
        let what = format!("profile import {}", names.join(", "));
        outcomes = cabinet.change(&what, &ctx.env, |change| {
            fits.iter()
                .map(|fit| fit.put(change, request.name.as_deref(), &roots))
                .collect::<Result<_, CabinetError>>()
        })?;
    }
    let inventory = cabinet.inventory()?;
    let told = fits.iter().zip(outcomes);
    let imported = told.filter_map(|(fit, outcome)| tell(&inventory, project, fit, outcome)).collect();
    Ok(ProfileImportReport { imported, trusted: !roots.is_empty(), at: ctx.env.now })
}

fn tell(
    inventory: &Inventory,
    project: Option<&Project>,
    fit: &Fit,
    (name, outcome): (String, Outcome),
) -> Option<Imported> {
    let (item, facts) = profile::find(inventory, &name).ok()?;
    let replaced =
        item.replaces.as_ref().and_then(|id| inventory.get(id)).filter(|_| outcome == Outcome::New);
    Some(Imported {
        profile: profile::said(inventory, &item.name, facts, project),
        outcome,
        replaces: replaced.map(|item| item.name.clone()),
        root: fit.verified.root().map(|root| root.subject.clone()).unwrap_or_default(),
        entitlements: facts
            .entitlements
            .iter()
            .map(|(key, value)| (key.clone(), value.to_string()))
            .collect(),
    })
}

#[cfg(test)]
mod tests {
    use super::slug;

    #[test]
    fn a_title_becomes_a_name() {
        for (title, name) in [
            ("Crossing store 2026", "crossing-store-2026"),
            ("  Fähre: *any* app!  ", "f-hre-any-app"),
            ("---", "profile"),
            ("日本", "profile"),
        ] {
            assert_eq!(slug(title), name);
        }
        assert_eq!(slug(&"x".repeat(100)).len(), 56);
    }
}
