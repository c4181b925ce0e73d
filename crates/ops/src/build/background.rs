//! What builds are compared with: project file, cabinet, and what was learnt of revocations.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use jiff::Timestamp;
use ninekeys_core::build::Build;
use ninekeys_core::digest::sha256_hex;
use ninekeys_core::env::Env;
use ninekeys_core::ios::device;
use ninekeys_core::ios::look::{Against, IosLook, signed};
use ninekeys_core::model::{ApiUse, App, Facts, Inventory, LastBackup, Platform, Project, ReleaseFacts};
use ninekeys_core::next::Earlier;
use ninekeys_formats::x509::Certificate;
use ninekeys_portal::client::PortalError;
use ninekeys_portal::store::Delivery;

use super::check::CheckError;
use crate::ctx::Ctx;
use crate::identity;
use crate::portal::with_store;
use crate::project::ProjectError;
use crate::revocation;
use crate::store::store_keys;

/// What a build is compared with: as much of project file and cabinet as there is.
pub struct Background {
    pub(crate) project: Option<Project>,
    pub(crate) inventory: Option<Arc<Inventory>>,
    /// The backup that has most of the cabinet.
    pub(crate) last_backup: Option<LastBackup>,
    /// The authorities that the project names.
    pub(crate) roots: Vec<Certificate>,
    /// Every authority's certificate at hand.
    pub(crate) pool: Vec<Certificate>,
    /// What was learnt of certificates that are revoked: fingerprints, with when.
    learnt: Vec<(String, Timestamp)>,
    /// The builds that the store has, where it was asked.
    there: Option<Vec<Delivery>>,
}

impl Background {
    /// Reads the project file and the facts of the cabinet, as far as they are there. Neither is needed.
    ///
    /// # Errors
    /// [`CheckError`] when one is there and cannot be read.
    pub fn read(ctx: &Ctx<'_>) -> Result<Self, CheckError> {
        let file = ctx.project_if_any()?;
        let has_cabinet = match ctx.cabinet_path() {
            Ok(path) => ctx.cabinet.is_some() || path.exists(),
            Err(ProjectError::Missing) => false,
            Err(error) => return Err(error.into()),
        };
        let look = if has_cabinet { Some(ctx.look()?) } else { None };
        let last_backup = look.as_ref().and_then(|look| look.last_backup);
        let inventory = look.map(|look| look.inventory);
        let background = Background::of(file.map(|file| file.project), inventory, Vec::new());
        Ok(Background { last_backup, ..background })
    }

    /// With the authorities that the project names: a build for iOS has to lead to one of them.
    ///
    /// # Errors
    /// [`CheckError`] when one cannot be read.
    pub(crate) fn with_roots(self, ctx: &Ctx<'_>) -> Result<Self, CheckError> {
        let roots = identity::roots(ctx.project_if_any()?.as_ref())?;
        let last_backup = self.last_backup;
        let there = self.there;
        Ok(Background { last_backup, there, ..Background::of(self.project, self.inventory, roots) })
    }

    /// Out of what there is.
    pub(crate) fn of(
        project: Option<Project>,
        inventory: Option<Arc<Inventory>>,
        roots: Vec<Certificate>,
    ) -> Self {
        let mut pool = inventory.as_deref().map(identity::authorities).unwrap_or_default();
        pool.extend(roots.iter().cloned());
        Background { project, inventory, last_backup: None, roots, pool, learnt: Vec::new(), there: None }
    }

    /// With what the store has: its builds, and of these the keys that it knows.
    pub(super) fn with_store<'b>(
        mut self,
        ctx: &Ctx<'_>,
        builds: impl Iterator<Item = &'b Build>,
    ) -> Result<Self, CheckError> {
        let file = ctx.project_file()?;
        let cabinet = ctx.open_unlocked()?;
        let ids: BTreeSet<&str> = builds
            .filter(|build| build.platform == Platform::Android)
            .filter_map(|build| Some(build.says.as_ref()?.id.as_str()))
            .collect();
        let apps: BTreeSet<&str> =
            ids.iter().filter_map(|id| Some(file.project.app_of(Platform::Android, id)?.0)).collect();
        // a key for one app alone is asked where no other is looked at
        let app = apps.first().copied().filter(|_| apps.len() == 1);
        let (all, held) = with_store(ctx, &cabinet, &file, (ApiUse::Uploads, app), |store| {
            let held = ids.iter().map(|id| Ok((*id, store.keys(id)?)));
            Ok::<_, CheckError>((store.deliveries()?, held.collect::<Result<Vec<_>, PortalError>>()?))
        })?;
        if let Some(project) = &mut self.project {
            for (id, held) in held {
                let sides = project.apps.values_mut().filter_map(|app| app.android.as_mut());
                let keys = held.as_ref().map(store_keys);
                sides.filter(|side| side.package == id).for_each(|side| side.store_keys.clone_from(&keys));
            }
        }
        self.there = Some(all);
        Ok(self)
    }

    /// What the store has of an app beside this very build, where it was asked.
    pub(super) fn there(&self, build: &Build, own: &[&ReleaseFacts]) -> Option<Vec<Earlier>> {
        let id = build.says.as_ref().map(|says| says.id.as_str()).unwrap_or_default();
        let all = self.there.as_ref()?.iter().filter(|one| one.counts_for(build.platform, id));
        let is_own = |one: &&Delivery| own.iter().any(|release| release.sha256 == one.sha256);
        Some(all.filter(|one| !is_own(one)).map(Delivery::earlier).collect())
    }

    /// With what is learnt of the certificates that signed these builds, where they say that it can be asked.
    pub(super) fn with_revocations<'b>(
        mut self,
        ctx: &Ctx<'_>,
        builds: impl Iterator<Item = &'b Build>,
    ) -> Result<Self, CheckError> {
        let Some(file) = ctx.project_if_any()? else { return Ok(self) };
        let known = self.revoked();
        let mut paths: BTreeMap<String, Vec<Certificate>> = BTreeMap::new();
        let executables = builds.filter_map(Build::ios).flat_map(|ios| ios.executables());
        for (_, signer) in executables.flat_map(signed) {
            let fingerprint = sha256_hex(&signer.certificate.der);
            let is_known = known.iter().any(|(known, _)| *known == fingerprint);
            if is_known || paths.contains_key(&fingerprint) {
                continue;
            }
            if let Ok(path) = signer.chain(&self.pool, ctx.env.now) {
                paths.insert(fingerprint, path);
            }
        }
        let paths: Vec<Vec<Certificate>> = paths.into_values().collect();
        self.learnt = revocation::revoked_signers(ctx, &file, &paths, &self.roots)?;
        Ok(self)
    }

    /// The identifier of a device that is named, or that was typed as one; nothing for what is neither.
    pub(super) fn device(&self, wanted: &str) -> Option<String> {
        let devices = self.inventory.iter().flat_map(|inventory| inventory.iter());
        let named = devices.filter_map(|item| match &item.facts {
            Facts::Device(facts) => Some((item, facts)),
            _ => None,
        });
        let found = named.into_iter().find(|(item, facts)| item.name == wanted || facts.title == wanted);
        found.map(|(_, facts)| facts.identifier.clone()).or_else(|| device::identifier(wanted).ok())
    }

    /// What a build for iOS is held against, with its profiles opened.
    pub(super) fn look_at_ios<'a>(
        &'a self,
        env: &Env<'_>,
        build: &'a Build,
        app: Option<(&str, &'a App)>,
        device: Option<&'a str>,
        revoked: &'a [(String, Timestamp)],
    ) -> Option<IosLook<'a>> {
        let team = app.and_then(|(_, app)| self.project.as_ref()?.team_of(app.ios.as_ref()?));
        let against = Against { roots: &self.roots, pool: &self.pool, team, device, revoked };
        Some(IosLook::of(build.ios()?, against, env.now))
    }

    /// The certificates that are known to be revoked.
    pub(super) fn revoked(&self) -> Vec<(String, Timestamp)> {
        let Some(inventory) = self.inventory.as_deref() else { return self.learnt.clone() };
        let revoked = inventory.iter().filter_map(|item| match &item.facts {
            Facts::Identity(facts) => {
                let certificate = identity::certificate_facts(inventory, facts.certificate.as_ref()?)?;
                Some((certificate.fingerprint.clone(), facts.revoked?))
            }
            _ => None,
        });
        revoked.chain(self.learnt.iter().cloned()).collect()
    }
}
