//! The row that a signed build gets in the ledger, and what it takes the place of.

use std::path::{Path, PathBuf};

use ninekeys_cabinet::{Cabinet, NewItem};
use ninekeys_core::build::{Build, Says};
use ninekeys_core::digest::sha256_hex;
use ninekeys_core::ios::tree::Tree;
use ninekeys_core::keys::Signer;
use ninekeys_core::model::{BuildNumber, Destination, Facts, Inventory, ReleaseFacts, replaced};

use super::SignError;
use crate::build::check::place_of;
use crate::build::material::Material;
use crate::ctx::{Ctx, Notice};
use crate::files;
use crate::folder::FolderTree;

/// A signed build, on its way into the ledger.
pub(super) struct Release<'a> {
    /// The app's name.
    pub(super) app: &'a str,
    /// Where it goes.
    pub(super) destination: Destination,
    /// To which store, where it is not the one that stands with the portal.
    pub(super) store: Option<&'a str>,
    /// What it is called.
    pub(super) file: &'a str,
    /// What is in it.
    pub(super) build: &'a Build,
    /// SHA-256 over it.
    pub(super) sha256: &'a str,
    /// The signature schemes, on Android.
    pub(super) schemes: &'a [String],
    /// What signed it.
    pub(super) material: &'a Material,
    /// SHA-256 of the file that it takes the place of.
    pub(super) replaces: Option<&'a str>,
}

impl Release<'_> {
    /// How often these bytes were released for this place before: once more when they replace others, or were replaced.
    fn number(&self, inventory: &Inventory, replaces: bool) -> usize {
        let releases = inventory.releases();
        let gone = replaced(&releases);
        let same = |release: &ReleaseFacts| {
            release.sha256 == self.sha256
                && release.destination == self.destination
                && release.store.as_deref() == self.store
        };
        let own: Vec<bool> =
            releases.iter().zip(gone).filter(|(release, _)| same(release)).map(|(_, gone)| gone).collect();
        let goes_on = own.last().is_some_and(|gone| !gone) && !replaces;
        own.len() - usize::from(goes_on)
    }

    /// The release as the ledger will have it, when the output has its name. The very same bytes for the same place are
    /// one release.
    pub(super) fn item(&self, ctx: &Ctx<'_>, cabinet: &Cabinet<'_>, inventory: &Inventory) -> NewItem {
        let Release { app, destination, store, file, build, sha256, schemes, material, replaces } = *self;
        // the same file in the place of itself replaces nothing
        let replaces = replaces.filter(|replaced| *replaced != sha256);
        let number = self.number(inventory, replaces.is_some());
        let mut short = sha256_hex(format!("{sha256}{}{number}", place_of(destination, store)).as_bytes());
        short.truncate(12);
        let stem = file.rsplit_once('.').map_or(file, |(stem, _)| stem);
        let says = build.says.as_ref();
        let facts = ReleaseFacts {
            app: app.into(),
            platform: build.platform,
            id: says.map(|says| says.id.clone()).unwrap_or_default(),
            version: says.and_then(|says| says.version.clone()).unwrap_or_default(),
            number: says.map_or(BuildNumber::ZERO, Says::number),
            destination,
            store: store.map(str::to_owned),
            file: file.into(),
            size: build.size,
            content: build.content.clone().unwrap_or_default(),
            signed_with: material.name.clone(),
            signer: material.key.public().fingerprint(),
            signer_certificate: sha256_hex(&material.certificate),
            certificate: Some(material.certificate_item),
            profiles: material
                .identity()
                .map(|own| own.used.iter().map(|one| one.item).collect())
                .unwrap_or_default(),
            schemes: schemes.to_vec(),
            signed: ctx.env.now,
            by: cabinet.unlocked_by().map(|member| member.label.clone()).unwrap_or_default(),
            split: says.and_then(|says| says.part.clone()),
            replaces: replaces.map(str::to_owned),
            sha256: sha256.into(),
            folders: build.folders.clone(),
            seen: Some(Box::new(build.seen())),
            uploaded: None,
            testing: None,
            everyone: None,
            handed_on: None,
        };
        NewItem::new(format!("{stem}~{short}"), Facts::Release(Box::new(facts)), None)
    }
}

/// The SHA-256 of a file that the ledger knows; only what has a release's size is read.
pub(super) fn known_sha256(
    ctx: &Ctx<'_>,
    inventory: &Inventory,
    target: &Path,
) -> Result<Option<String>, SignError> {
    let Ok(found) = std::fs::metadata(target) else { return Ok(None) };
    let size = if found.is_dir() { FolderTree::read(target)?.size() } else { found.len() };
    let releases = inventory.releases();
    if !releases.iter().any(|release| release.size == size) {
        return Ok(None);
    }
    let sha256 = files::sha256(target, &ctx.env)?;
    Ok(releases.iter().any(|release| release.sha256 == sha256).then_some(sha256))
}

/// What was set aside and the ledger knows to the byte can be made again, and goes; anything else is named.
pub(super) fn drop_known(ctx: &Ctx<'_>, aside: PathBuf, known: Option<&str>) {
    let is_known = known.is_some_and(|known| files::sha256(&aside, &ctx.env).is_ok_and(|now| now == known));
    let gone = match aside.is_dir() {
        _ if !is_known => false,
        true => std::fs::remove_dir_all(&aside).is_ok(),
        false => std::fs::remove_file(&aside).is_ok(),
    };
    if !gone {
        ctx.notice(Notice::SetAside(aside));
    }
}
