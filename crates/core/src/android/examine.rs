//! An Android package as a build like any other.

use ninekeys_formats::limits::Limits;
use ninekeys_formats::manifest::Manifest;
use ninekeys_formats::source::Source;

use super::package::Package;
use super::report::Signatures;
use super::{check_idsig, verify};
use crate::build::{Build, ExamineError, Form, Inside, Malformed, Number, Says, SignedBy};
use crate::env::Env;
use crate::model::{Platform, Seen};

/// What is in a package, and what came of its signatures.
#[derive(Debug)]
pub struct AndroidBuild {
    /// What is in it.
    pub package: Package,
    /// What came of its signatures.
    pub signatures: Signatures,
}

impl AndroidBuild {
    /// Its manifest, if it can be read.
    pub fn manifest(&self) -> Option<&Manifest> {
        self.package.manifest.as_ref().ok()
    }

    /// Adds what devices see of it.
    pub(crate) fn tell(&self, seen: &mut Seen) {
        let Some(manifest) = self.manifest() else { return };
        seen.lowest = Some(manifest.min_sdk.to_string());
        seen.made_for = Some(manifest.target_sdk.to_string());
        seen.highest = manifest.max_sdk.map(|highest| highest.to_string());
    }
}

/// What a manifest says of its build.
pub fn says(manifest: &Manifest) -> Says {
    let number = match manifest.version_code {
        Some(code) => Number::Is(code.into()),
        None if manifest.version_code_unknown => Number::Unknown,
        None => Number::Missing,
    };
    Says {
        id: manifest.package.clone(),
        version: manifest.version_name.clone(),
        number,
        part: manifest.split.clone(),
        title: manifest.label.clone(),
        asks_for: manifest.permissions.clone(),
    }
}

/// Reads a package and verifies its signatures, that of the file of scheme v4 beside it included.
pub(crate) fn examine(
    source: &dyn Source,
    idsig: Option<&[u8]>,
    env: &Env<'_>,
) -> Result<Build, ExamineError> {
    let limits = &Limits::USUAL;
    let package = Package::read(source, limits)?;
    let mut signatures = verify(source, &package, limits, env)?;
    if let Some(idsig) = idsig {
        check_idsig(source, idsig, &mut signatures, limits, env)?;
    }
    let place = package.kind.manifest_entry();
    let archive = package.archive.faults.iter().map(ToString::to_string);
    let block = package.block_faults.iter().map(ToString::to_string);
    let archive = archive.chain(block).map(|text| Malformed { text, place: None });
    let manifest = package.manifest.as_ref().err();
    let manifest = manifest.map(|fault| Malformed { text: fault.to_string(), place: Some(place) });
    Ok(Build {
        platform: Platform::Android,
        form: Form::Android(package.kind),
        size: package.size,
        says: package.manifest.as_ref().ok().map(says),
        says_in: place,
        signers: signed_by(&signatures),
        content: signatures.content.clone(),
        malformed: archive.chain(manifest).collect(),
        folders: package.folders(),
        inside: Inside::Android(Box::new(AndroidBuild { package, signatures })),
    })
}

fn signed_by(signatures: &Signatures) -> Vec<SignedBy> {
    let mut out: Vec<SignedBy> = Vec::new();
    for signer in &signatures.signers {
        if !out.iter().any(|known| known.certificate_fingerprint == signer.certificate_fingerprint) {
            out.push(SignedBy {
                certificate: signer.certificate.clone(),
                certificate_fingerprint: signer.certificate_fingerprint.clone(),
                key_fingerprint: signer.key_fingerprint.clone(),
            });
        }
    }
    out
}
