//! Rules about the signature itself and the archive it stands in.

use ninekeys_formats::manifest::Manifest;
use ninekeys_formats::zip::ZipFault;

use super::{BuildLook, Notes, Rule, Subject};
use crate::android::{
    FIRST_SDK_WITH_V2, FIRST_SDK_WITH_V3, FIRST_TARGET_WITHOUT_V1, PackageKind, Scheme, SchemeState,
    SignatureFault,
};
use crate::findings::{Level, Observation};
use crate::model::Destination;

/// The most faults of an archive or a signature that are named one by one.
const MOST_FAULTS: usize = 20;

pub(super) const RULES: &[Rule] = &[
    Rule {
        name: "build-unsigned",
        level: Level::Error,
        about: "the build carries no signature of any scheme",
        meaning: "No device installs it and no store takes it.",
        remedy: "sign it with the key of its app",
        subject: Subject::Build(unsigned),
    },
    Rule {
        name: "signature-invalid",
        level: Level::Error,
        about: "a signature does not fit what it signs",
        meaning: "The build was changed after it was signed, or was signed wrongly. Every device refuses it.",
        remedy: "build and sign it again; nothing may touch the file after that",
        subject: Subject::Build(invalid),
    },
    Rule {
        name: "signature-scheme-missing",
        level: Level::Error,
        about: "a scheme that some of the build's devices need is missing",
        meaning: "Below SDK 24 a device reads only scheme v1, below SDK 28 not v3; a build made for SDK 30 or later \
                  needs v2 or later.",
        remedy: "sign it again with the schemes its devices need, or raise its lowest SDK",
        subject: Subject::Build(scheme_missing),
    },
    Rule {
        name: "signature-stripped",
        level: Level::Error,
        about: "one signature announces another that is not there",
        meaning: "Somebody took a stronger signature out, so that a weaker one would be looked at.",
        remedy: "do not ship it; build and sign it again from the source",
        subject: Subject::Build(stripped),
    },
    Rule {
        name: "algorithm-unsupported",
        level: Level::Error,
        about: "a signature is there that this version cannot verify",
        meaning: "A signature that was not verified says nothing. It may be good; this check does not know.",
        remedy: "sign it again with this tool, or verify that scheme by other means",
        subject: Subject::Build(unsupported),
    },
    Rule {
        name: "archive-malformed",
        level: Level::Error,
        about: "the archive is put together in a way that devices refuse or readers read differently",
        meaning: "Two readers may see two different builds in one file: what was checked is then not what runs.",
        remedy: "build it again; a file that was fetched may have been damaged on the way",
        subject: Subject::Build(malformed),
    },
    Rule {
        name: "archive-unaligned",
        level: Level::Warning,
        about: "an uncompressed entry does not begin where devices can map it",
        meaning: "Uncompressed entries belong on multiples of 4 bytes, libraries on memory pages of 4 or 16 KiB. \
                  Elsewhere they cost memory, or do not load at all.",
        remedy: "sign it again: signing moves every entry to where it belongs",
        subject: Subject::Build(unaligned),
    },
];

fn unsigned(look: &BuildLook<'_>, notes: &mut Notes) {
    if look.package.archive.faults.iter().any(|fault| matches!(fault, ZipFault::Block(_))) {
        // there is a signature, and `archive-malformed` says that it is damaged
        return notes.skip();
    }
    if !look.signatures.any() {
        let seen = Observation::new("nobody has signed it").expected("a signature").found("none");
        notes.found(sign_again(look, seen));
    }
}

/// Adds the command that signs the build, when signing would take it as it is.
fn sign_again(look: &BuildLook<'_>, seen: Observation) -> Observation {
    let goes_out = look.destination != Some(Destination::Development);
    let for_people = look.destination == Some(Destination::Direct);
    if for_people && look.package.kind == PackageKind::Bundle {
        return seen;
    }
    let takes = |manifest: &Manifest| !(goes_out && (manifest.debuggable || manifest.test_only));
    let sound = look.package.archive.faults.is_empty() && look.package.manifest.as_ref().is_ok_and(takes);
    if sound && look.app.is_some() { seen.mend(["sign", look.path]) } else { seen }
}

/// Every fault in every scheme, with the scheme.
fn faults<'a>(look: &'a BuildLook<'_>) -> impl Iterator<Item = (Scheme, &'a SignatureFault)> {
    look.signatures.schemes.iter().flat_map(|report| {
        let faults = match &report.state {
            SchemeState::Broken(faults) => faults.as_slice(),
            _ => &[],
        };
        faults.iter().map(|fault| (report.scheme, fault))
    })
}

fn invalid(look: &BuildLook<'_>, notes: &mut Notes) {
    if !look.signatures.any() {
        return notes.skip();
    }
    let is_own = |fault: &SignatureFault| {
        use SignatureFault as F;
        !matches!(fault, F::Unsupported(..) | F::UnsupportedV1(..) | F::Lineage(_))
    };
    // the same fault in several schemes is one finding
    let mut own: Vec<(&SignatureFault, Vec<String>)> = Vec::new();
    for (scheme, fault) in faults(look).filter(|(_, fault)| is_own(fault)) {
        match own.iter_mut().find(|(known, _)| *known == fault) {
            Some((_, schemes)) => schemes.push(scheme.to_string()),
            None => own.push((fault, vec![scheme.to_string()])),
        }
    }
    for (fault, schemes) in own.iter().take(MOST_FAULTS) {
        let many = if schemes.len() == 1 { "signature is" } else { "signatures are" };
        let seen = Observation::new(format!("the {} {many} not valid", schemes.join(" and "))).found(fault);
        notes.found(seen.place(format!("signature scheme {}", schemes.join(", "))));
    }
    if own.len() > MOST_FAULTS {
        notes.found(Observation::new(format!("and {} faults more", own.len() - MOST_FAULTS)));
    }
}

fn unsupported(look: &BuildLook<'_>, notes: &mut Notes) {
    if !look.signatures.any() {
        return notes.skip();
    }
    for (scheme, fault) in faults(look) {
        if matches!(fault, SignatureFault::Unsupported(..) | SignatureFault::UnsupportedV1(..)) {
            let seen = Observation::new(format!("the {scheme} signature cannot be verified")).found(fault);
            notes.found(seen.place(format!("signature scheme {scheme}")));
        }
    }
}

fn stripped(look: &BuildLook<'_>, notes: &mut Notes) {
    if !look.signatures.any() {
        return notes.skip();
    }
    for scheme in &look.signatures.stripped {
        let text = format!("another signature announces scheme {scheme}, and it is not there");
        notes.found(Observation::new(text).expected(format!("scheme {scheme}")).found("taken out"));
    }
}

fn manifest<'a>(look: &'a BuildLook<'_>, notes: &mut Notes) -> Option<&'a Manifest> {
    let manifest = look.package.manifest.as_ref().ok();
    if manifest.is_none() {
        notes.skip();
    }
    manifest
}

fn scheme_missing(look: &BuildLook<'_>, notes: &mut Notes) {
    if !look.signatures.any() {
        return notes.skip();
    }
    if look.package.kind == PackageKind::Bundle {
        if !look.signatures.has(Scheme::V1) {
            let seen = Observation::new("a store reads only scheme v1 in a bundle");
            notes.found(sign_again(look, seen.expected("scheme v1").found("only later schemes")));
        }
        return;
    }
    let Some(manifest) = manifest(look, notes) else { return };
    let (min, target) = (&manifest.min_sdk, &manifest.target_sdk);
    let later = [Scheme::V2, Scheme::V3, Scheme::V31].iter().any(|scheme| look.signatures.has(*scheme));
    if min.may_be_below(FIRST_SDK_WITH_V2) && !look.signatures.has(Scheme::V1) {
        let text = "devices below SDK 24 would find no signature in it";
        let seen = Observation::new(text).expected("scheme v1").found("only later schemes");
        // whether there are such devices is not known where the level is not
        let level = if min.level().is_some() { Level::Error } else { Level::Warning };
        notes.found(seen.level(level).place(format!("lowest SDK {min}")));
    }
    let before_v3 = look.signatures.has(Scheme::V1) || look.signatures.has(Scheme::V2);
    if min.level().is_some_and(|min| (FIRST_SDK_WITH_V2..FIRST_SDK_WITH_V3).contains(&min)) && !before_v3 {
        let text = "devices from SDK 24 to 27 would find no signature in it: they do not read v3";
        let seen = Observation::new(text).expected("scheme v1 or v2 beside v3").found("only v3");
        notes.found(sign_again(look, seen.place(format!("lowest SDK {}", manifest.min_sdk))));
    }
    if !target.may_be_below(FIRST_TARGET_WITHOUT_V1) && !later {
        let text = "a build made for SDK 30 or later needs a signature of scheme v2 or later";
        let seen = Observation::new(text).expected("scheme v2 or later").found("scheme v1 alone");
        notes.found(sign_again(look, seen.place(format!("target SDK {}", manifest.target_sdk))));
    }
}

fn malformed(look: &BuildLook<'_>, notes: &mut Notes) {
    let faults = &look.package.archive.faults;
    for fault in faults.iter().take(MOST_FAULTS) {
        notes.found(Observation::new(fault.to_string()));
    }
    if faults.len() > MOST_FAULTS {
        notes.found(Observation::new(format!("and {} faults more", faults.len() - MOST_FAULTS)));
    }
    if let Err(fault) = &look.package.manifest {
        notes.found(Observation::new(fault.to_string()).place(look.package.kind.manifest_entry()));
    }
}

fn unaligned(look: &BuildLook<'_>, notes: &mut Notes) {
    let all = look.package.misaligned();
    let Some(first) = all.first() else { return };
    let new = look.package.manifest.as_ref().is_ok_and(|m| !m.target_sdk.may_be_below(30));
    let table = all.iter().any(|entry| entry.name == "resources.arsc");
    let others = match all.len() {
        1 => String::new(),
        2 => " and 1 other".into(),
        many => format!(" and {} others", many - 1),
    };
    let seen = Observation::new("uncompressed entries do not begin where devices can map them")
        .level(if table && new { Level::Error } else { Level::Warning })
        .expected(format!("a multiple of {}", first.boundary))
        .found(format!("byte {}", first.at))
        .place(format!("{}{others}", first.name));
    notes.found(sign_again(look, seen));
}
