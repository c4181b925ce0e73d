//! An app for iOS as a build like any other.

use std::collections::BTreeMap;

use ninekeys_formats::cms;
use ninekeys_formats::info_plist::InfoPlist;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::profile::Profile;

use super::code::SignedBy as CodeSignedBy;
use super::package::{self, Container, INFO, IosBuild, Known, PackageError};
use super::tree::Tree;
use crate::build::{Build, ExamineError, Form, Inside, Malformed, Number, Says, SignedBy};
use crate::digest::sha256_hex;
use crate::env::Env;
use crate::keys::PublicKey;
use crate::model::{Platform, Seen};

/// A hostile build may have a folder for every file.
const MOST_FOLDERS: usize = 1_000;

/// What an Info.plist says of its build; nothing without a bundle id.
pub fn says(info: &InfoPlist) -> Option<Says> {
    let number = match info.build.as_deref().map(str::parse) {
        Some(Ok(number)) => Number::Is(number),
        Some(Err(_)) | None => Number::Missing,
    };
    Some(Says {
        id: info.id.clone()?,
        version: info.version.clone(),
        number,
        part: None,
        title: info.title.clone(),
        asks_for: info.asks_for.keys().cloned().collect(),
    })
}

/// Looks at an app and what is inside it.
pub(crate) fn examine(tree: &dyn Tree, known: &Known, env: &Env<'_>) -> Result<Build, ExamineError> {
    let (inside, faults) = match package::examine(tree, known, env) {
        Ok(found) => found,
        Err(PackageError::Tree(error)) => return Err(error.into()),
        Err(error @ (PackageError::NoApp | PackageError::SeveralApps(_))) => {
            let container = if tree.is_folder() { Container::Folder } else { Container::Ipa };
            let none = IosBuild { container, bundles: Vec::new(), loose: Vec::new(), files: 0 };
            (none, vec![error.to_string()])
        }
    };
    let app = inside.app();
    let says = app.and_then(|app| says(app.info.as_ref().ok()?));
    let mut malformed: Vec<Malformed> =
        faults.into_iter().map(|text| Malformed { text, place: None }).collect();
    if app.is_some() && says.is_none() {
        malformed.push(Malformed { text: "it does not say its bundle id".into(), place: Some(INFO) });
    }
    Ok(Build {
        platform: Platform::Ios,
        form: Form::Ios(inside.container),
        size: tree.size(),
        says,
        says_in: INFO,
        signers: signers(&inside),
        content: content(&inside),
        malformed,
        folders: folders(tree, app.map(|app| app.path.as_str()).unwrap_or_default()),
        inside: Inside::Ios(Box::new(inside)),
    })
}

impl IosBuild {
    /// Adds what devices see of it: what each bundle claims, as its signature says it, and the profile in it.
    pub(crate) fn tell(&self, seen: &mut Seen) {
        if let Some(info) = self.app().and_then(|app| app.info.as_ref().ok()) {
            seen.lowest.clone_from(&info.lowest);
            seen.made_for.clone_from(&info.sdk);
        }
        for bundle in self.bundles.iter().filter(|bundle| bundle.kind.has_profile()) {
            let claims = bundle.executable.signatures().find_map(|signed| signed.entitlements.as_ref());
            if let Some(claims) = claims {
                let own = claims.iter().map(|(key, value)| (key.clone(), value.to_string())).collect();
                seen.claims.insert(bundle.id().to_owned(), own);
            }
            if let Some(profile) = bundle.profile.as_deref().and_then(said_by) {
                let text = format!("{} ({})", profile.title, profile.uuid);
                seen.profiles.insert(bundle.id().to_owned(), text);
            }
        }
    }
}

/// What a profile says; whether it is signed is another matter.
fn said_by(profile: &[u8]) -> Option<Profile> {
    let message = cms::parse(profile, &Limits::USUAL).ok()?;
    Profile::parse(message.content.as_deref()?, &Limits::USUAL).ok()
}

/// Every certificate once, that of the app first.
fn signers(build: &IosBuild) -> Vec<SignedBy> {
    let mut out: Vec<SignedBy> = Vec::new();
    for signed in build.executables().flat_map(|executable| executable.signatures()) {
        let CodeSignedBy::Certificate(Some(signer)) = &signed.by else { continue };
        let certificate_fingerprint = sha256_hex(&signer.certificate.der);
        if out.iter().any(|known| known.certificate_fingerprint == certificate_fingerprint) {
            continue;
        }
        let key = PublicKey::from_der(&signer.certificate.public_key);
        out.push(SignedBy {
            certificate: signer.certificate.clone(),
            certificate_fingerprint,
            key_fingerprint: key.map(|key| key.fingerprint()).unwrap_or_default(),
        });
    }
    out
}

/// What the signature of the app covers: through its seal, all of the app.
fn content(build: &IosBuild) -> Option<String> {
    let signed = build.app()?.executable.signatures();
    let hashes: Vec<u8> =
        signed.flat_map(|signed| &signed.directories).flat_map(|one| one.code_hash.iter().copied()).collect();
    (!hashes.is_empty()).then(|| sha256_hex(&hashes))
}

/// What stands at the top of the app, with the bytes that it takes.
fn folders(tree: &dyn Tree, root: &str) -> BTreeMap<String, u64> {
    let mut sizes = BTreeMap::new();
    for node in tree.nodes() {
        let inside = node.path.strip_prefix(root).and_then(|path| path.strip_prefix('/'));
        let Some(inside) = inside else { continue };
        let top = inside.split_once('/').map_or(inside.to_owned(), |(folder, _)| format!("{folder}/"));
        if sizes.len() < MOST_FOLDERS || sizes.contains_key(&top) {
            *sizes.entry(top).or_insert(0) += node.packed;
        }
    }
    sizes
}
