//! Which identity and profiles sign a build for iOS: what `check --app` finds for the bundle ids that the build has.

use std::collections::BTreeMap;

use jiff::Timestamp;
use ninekeys_cabinet::{Cabinet, CabinetError};
use ninekeys_core::digest::from_hex;
use ninekeys_core::findings::Level;
use ninekeys_core::ios::profile::{ProfileError, Verified};
use ninekeys_core::ios::setup::{IdentityChoice, Roster, Setup, Wanted};
use ninekeys_core::ios::sign::Embedded;
use ninekeys_core::keys::{KeyError, PrivateKey};
use ninekeys_core::model::{App, Destination, Inventory, Ios, ItemId, Name, Project};
use ninekeys_core::revocation::Revocations;
use ninekeys_core::rules::check_setup;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::x509::Certificate;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::material::{IdentityMaterial, Material, MaterialKind};
use crate::advice;
use crate::answers::Verdict;
use crate::identity;

/// Why there is nothing to sign a build for iOS with.
#[derive(Debug, Error)]
pub enum IdentityMaterialError {
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
    /// The project file has no iOS side of the app.
    #[error("{0} has no iOS side in the project file")]
    NotIos(String),
    /// Something is missing, has ended, or does not fit.
    #[error("what {title} needs for {} is not in place: {}", destination.phrase(), errors.join("; "))]
    NotInPlace {
        /// The app's name.
        app: String,
        /// What people call it.
        title: String,
        /// Where it goes.
        destination: Destination,
        /// What was found, each a sentence.
        errors: Vec<String>,
        /// The first command that mends something of it.
        mend: Option<Vec<String>>,
    },
    /// An identity was named that is none for this.
    #[error("{name} cannot sign {title} for {}: {}", destination.phrase(), because)]
    Named {
        /// Its name.
        name: String,
        /// What people call the app.
        title: String,
        /// Where it goes.
        destination: Destination,
        /// Why.
        because: String,
    },
    /// A profile of the cabinet that does not hold.
    #[error("the profile {name} cannot be used: {cause}")]
    Profile {
        /// Its name.
        name: String,
        /// Why.
        #[source]
        cause: ProfileError,
    },
    /// The private key cannot be used.
    #[error(transparent)]
    Key(#[from] KeyError),
}

/// A profile that is put into a build.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct ProfileUsed {
    /// The bundle id that it is for.
    pub bundle_id: String,
    /// Its name in the cabinet.
    pub profile: String,
    /// What it is called in the file.
    pub title: String,
    /// Until when it is good.
    pub not_after: Timestamp,
    /// Its item.
    #[serde(skip)]
    pub(crate) item: ItemId,
}

/// What a choice is made of.
pub(crate) struct Choice<'a> {
    pub(crate) project: &'a Project,
    pub(crate) inventory: &'a Inventory,
    pub(crate) roster: &'a Roster<'a>,
    pub(crate) roots: &'a [Certificate],
    pub(crate) pool: &'a [Certificate],
    pub(crate) revocations: &'a Revocations,
    pub(crate) now: Timestamp,
}

/// A bundle of the build that needs a profile.
pub(crate) struct Needs {
    /// Its path in the build.
    pub(crate) path: String,
    /// Its bundle id, as it will be.
    pub(crate) bundle_id: String,
}

impl Choice<'_> {
    /// Takes the best identity and the best profiles for the bundle ids of a build, the app's first.
    ///
    /// # Errors
    /// [`IdentityMaterialError`].
    pub(crate) fn take(
        &self,
        cabinet: &Cabinet<'_>,
        app: (&str, &App),
        destination: Destination,
        needs: &[Needs],
        named: Option<&str>,
    ) -> Result<Material, IdentityMaterialError> {
        self.with_taken(app, destination, needs, named, &mut |setup, taken| {
            self.material(cabinet, setup, taken, needs)
        })
    }

    /// The name of the identity that would be taken, and the profiles by bundle id; nothing is unlocked for it.
    ///
    /// # Errors
    /// [`IdentityMaterialError`].
    pub(crate) fn names(
        &self,
        app: (&str, &App),
        destination: Destination,
        needs: &[Needs],
        named: Option<&str>,
    ) -> Result<(String, BTreeMap<String, String>), IdentityMaterialError> {
        self.with_taken(app, destination, needs, named, &mut |setup, taken| {
            let taken_by = setup.parts.iter().filter_map(|part| Some((part, part.taken()?)));
            let profiles =
                taken_by.map(|(part, choice)| (part.bundle_id.to_owned(), choice.item.name.to_string()));
            Ok((taken.item.name.clone(), profiles.collect()))
        })
    }

    /// Judges what is there as `check --app` does, and goes on with what is taken.
    fn with_taken<T>(
        &self,
        app: (&str, &App),
        destination: Destination,
        needs: &[Needs],
        named: Option<&str>,
        then: &mut dyn FnMut(&Setup<'_>, &IdentityChoice<'_>) -> Result<T, IdentityMaterialError>,
    ) -> Result<T, IdentityMaterialError> {
        let (name, app) = app;
        let own = app.ios.as_ref().ok_or_else(|| IdentityMaterialError::NotIos(app.title.clone()))?;
        let ios = as_built(own, needs);
        let setup = Setup::of(Wanted {
            app: name,
            title: &app.title,
            ios: &ios,
            destination,
            team: self.project.team_of(own),
            policy: &self.project.policy,
            inventory: self.inventory,
            roster: self.roster,
            roots: self.roots,
            pool: self.pool,
            revocations: self.revocations,
            now: self.now,
        });
        let verdict = check_setup(&setup).map(advice::in_general);
        let title = app.title.clone();
        if !verdict.is_ready() {
            let errors = errors_of(&verdict);
            let is_error = |finding: &&crate::answers::Finding| finding.level == Level::Error;
            let mend = verdict.findings.iter().filter(is_error).find_map(|finding| finding.mend.clone());
            return Err(IdentityMaterialError::NotInPlace {
                app: name.into(),
                title,
                destination,
                errors,
                mend,
            });
        }
        let taken =
            setup.taken().filter(|taken| named.is_none_or(|named| taken.item.name.starts_with(named)));
        let taken = taken.ok_or_else(|| IdentityMaterialError::Named {
            name: named.unwrap_or_default().into(),
            title,
            destination,
            because: match setup.taken() {
                Some(other) => format!("{} is what its profiles allow", other.item.name),
                None => "no identity is in place".into(),
            },
        })?;
        then(&setup, taken)
    }

    /// The identity that was taken, unlocked, with what belongs to it.
    fn material(
        &self,
        cabinet: &Cabinet<'_>,
        setup: &Setup<'_>,
        taken: &IdentityChoice<'_>,
        needs: &[Needs],
    ) -> Result<Material, IdentityMaterialError> {
        let gone = || CabinetError::Tampered(format!("a part of {} is gone", taken.item.name));
        let key = taken.facts.key.ok_or_else(gone)?;
        let certificate_item = taken.facts.certificate.ok_or_else(gone)?;
        let certificate = taken.certificate.ok_or_else(gone)?;
        let key_facts = identity::key_facts(self.inventory, &key).ok_or_else(gone)?;
        let item = self.inventory.get(&key).ok_or_else(gone)?;
        let (profiles, used) = self.profiles(cabinet, setup, needs)?;
        Ok(Material {
            name: taken.item.name.clone(),
            key_item: key,
            certificate_item,
            key: cabinet.secret(item)?.lend(|der| PrivateKey::from_pkcs8(der))?,
            certificate: from_hex(&certificate.der).ok_or_else(gone)?,
            key_said: key_facts.into(),
            certificate_said: certificate.into(),
            kind: MaterialKind::Identity(Box::new(IdentityMaterial {
                chain: setup.chain.as_ref().map(|chain| chain.certificates.clone()).unwrap_or_default(),
                team: taken.facts.team.clone().unwrap_or_default(),
                profiles,
                used,
                passed_over: setup.passed_over(),
            })),
        })
    }

    /// The profile of every part, opened: as it is put into the build, and as answers say it.
    fn profiles(
        &self,
        cabinet: &Cabinet<'_>,
        setup: &Setup<'_>,
        needs: &[Needs],
    ) -> Result<(BTreeMap<String, Embedded>, Vec<ProfileUsed>), IdentityMaterialError> {
        let mut profiles = BTreeMap::new();
        let mut used = Vec::new();
        for (part, choice) in setup.parts.iter().filter_map(|part| Some((part, part.taken()?))) {
            let bytes = cabinet.secret(choice.item)?.lend(Clone::clone);
            let verified = Verified::open(&bytes, self.pool, self.now, &Limits::USUAL);
            let failed = |cause| IdentityMaterialError::Profile { name: choice.item.name.clone(), cause };
            let profile = verified.map_err(failed)?.profile;
            used.push(ProfileUsed {
                bundle_id: part.bundle_id.into(),
                profile: choice.item.name.clone(),
                title: profile.title.clone(),
                not_after: choice.facts.not_after,
                item: choice.item.id,
            });
            for need in needs.iter().filter(|need| need.bundle_id == part.bundle_id) {
                profiles
                    .insert(need.path.clone(), Embedded { bytes: bytes.clone(), profile: profile.clone() });
            }
        }
        Ok((profiles, used))
    }
}

/// The errors of a verdict, each a sentence with its rule.
fn errors_of(verdict: &Verdict) -> Vec<String> {
    let errors = verdict.findings.iter().filter(|finding| finding.level == Level::Error);
    let text = |finding: &crate::answers::Finding| {
        let place = finding.place.as_ref().map(|place| format!("{place}: ")).unwrap_or_default();
        format!("{place}{} ({})", finding.text, finding.rule)
    };
    errors.map(text).collect()
}

/// The iOS side of an app with the bundle ids that a build of it has.
fn as_built(own: &Ios, needs: &[Needs]) -> Ios {
    let mut ios = own.clone();
    let mut ids = needs.iter().map(|need| need.bundle_id.as_str());
    if let Some(app) = ids.next() {
        ios.bundle_id = app.to_owned();
    }
    ios.extensions = ids
        .enumerate()
        .filter_map(|(index, id)| {
            let known = own.extensions.iter().find(|(_, known)| known.as_str() == id);
            let name = known.map(|(name, _)| name.clone());
            Some((name.or_else(|| Name::new(&format!("inside-{}", index + 1)).ok())?, id.to_owned()))
        })
        .collect();
    ios
}
