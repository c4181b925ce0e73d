//! A small build, signed and checked as a release would be: nothing is retired before that.

use ninekeys_core::demo::{DECKHAND_IPA, DemoBuild};
use ninekeys_core::model::{BuildNumber, Destination, Facts, Inventory, Platform};

use super::{Outcome, Work};
use crate::build::sign;
use crate::files::{Access, Taken};
use crate::outgoing::Workshop;
use crate::rotate::RotateError;

/// A version and a build number above every release of an app.
fn above(inventory: &Inventory, app: &str, platform: Platform) -> (String, BuildNumber) {
    let own: Vec<_> = inventory
        .releases()
        .into_iter()
        .filter(|release| release.app == app && release.platform == platform)
        .collect();
    let highest = own.iter().map(|release| &release.number).max();
    let number = highest.map_or_else(|| BuildNumber::from(1), BuildNumber::next);
    let versions = own
        .iter()
        .filter_map(|release| Some((release.version.parse::<BuildNumber>().ok()?, release.version.clone())));
    let version = versions.max_by(|(one, _), (other, _)| one.cmp(other));
    (version.map_or_else(|| "1.0".to_owned(), |(_, text)| text), number)
}

/// Signs a small build of an app and checks it, as a release would be; nothing of it is kept.
pub(super) fn prove_build(
    work: &mut Work<'_, '_>,
    app: &str,
    destination: Destination,
    with: &str,
) -> Result<Outcome, RotateError> {
    let inventory = work.cabinet.inventory()?;
    let signer = work.item(&inventory, with)?;
    let known = work.file.project.apps.get(app).ok_or_else(|| RotateError::NoApp(app.into()))?;
    let platform = if matches!(signer.facts, Facts::Keystore(_)) { Platform::Android } else { Platform::Ios };
    let (version, number) = above(&inventory, app, platform);
    let mut set = sign::Set { version: Some(version), build: Some(number), ..sign::Set::default() };
    let bytes = match (platform, &known.ios, &known.android) {
        (Platform::Ios, Some(ios), _) => {
            set.id = Some(ios.bundle_id.clone());
            DECKHAND_IPA.to_vec()
        }
        (Platform::Android, _, Some(android)) => {
            let build = DemoBuild { package: &android.package, ..ninekeys_core::demo::CROSSING };
            if destination == Destination::Store { build.aab() } else { build.apk() }
        }
        _ => return Err(RotateError::NoApp(app.into())),
    };
    let workshop = Workshop::begin(work.ctx, &work.ctx.cabinet_path()?)?;
    let build = workshop.file();
    crate::files::write_whole(&build, &bytes, Access::Owner, Taken::Refuse)?;
    let request = sign::Request {
        builds: vec![build],
        app: Some(app.into()),
        destination: Some(destination),
        store: super::keystore::store_of(work, app, with)?.filter(|_| destination == Destination::Store),
        key: Some(signer.name),
        to: workshop.folder().to_owned(),
        replace: false,
        schemes: None,
        idsig: false,
        set,
        timestamp: false,
        entitlements: None,
    };
    sign::rehearse(work.ctx, &request, work.cabinet)?;
    Ok(Outcome::Done(Vec::new()))
}
