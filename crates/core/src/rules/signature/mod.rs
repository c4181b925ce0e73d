//! Rules about the signature itself and the archive it stands in.

mod ios;

use ninekeys_formats::manifest::Manifest;

use super::{BuildLook, Notes, Rule, Subject, because};
use crate::android::{AndroidBuild, BlockFault, LeftOut, PackageKind, Scheme, SchemeState, SignatureFault};
use crate::findings::{Level, Mend, Observation};
use crate::model::Destination;

/// The most faults of an archive or a signature that are named one by one.
const MOST_FAULTS: usize = 20;
/// The lowest target level for which a device refuses a table of resources that it cannot map.
const FIRST_TARGET_WITH_MAPPED_RESOURCES: u32 = 30;

pub(super) const RULES: &[Rule] = &[
    Rule {
        name: "build-unsigned",
        level: Level::Error,
        about: "the build carries no signature of any scheme",
        meaning: "No device installs it and no store takes it.",
        remedy: "sign it with the key of its app",
        subjects: &[Subject::Ios(ios::unsigned), Subject::Android(unsigned)],
    },
    Rule {
        name: "signature-invalid",
        level: Level::Error,
        about: "a signature does not fit what it signs",
        meaning: "The build was changed after it was signed, or was signed wrongly. Every device refuses it.",
        remedy: "build and sign it again; nothing may touch the file after that",
        subjects: &[Subject::Ios(ios::invalid), Subject::Android(invalid)],
    },
    Rule {
        name: "resource-modified",
        level: Level::Error,
        about: "a file of a bundle is not what was sealed, or is gone",
        meaning: "The build was changed after it was signed. Devices do not install it, and the store refuses it.",
        remedy: "build and sign it again; nothing may touch the app after that",
        subjects: &[Subject::Ios(ios::modified)],
    },
    Rule {
        name: "resource-unsealed",
        level: Level::Error,
        about: "a file was put into a bundle after it was sealed",
        meaning: "What no seal covers could be anything. Devices do not install such a build.",
        remedy: "take it out, or sign the build again with it",
        subjects: &[Subject::Ios(ios::unsealed)],
    },
    Rule {
        name: "nested-code-unsigned",
        level: Level::Error,
        about: "code inside the app is not signed, or not by who signed the app",
        meaning: "A device loads no library that is not signed by the app's team; the app ends as soon as it needs it.",
        remedy: "sign the build again: what is inside is signed first",
        subjects: &[Subject::Ios(ios::nested_unsigned)],
    },
    Rule {
        name: "timestamp-untrusted",
        level: Level::Warning,
        about: "a signature was given a time by somebody whom the project does not name",
        meaning: "Anybody can put a time to a signature. It counts where the authority that does leads to a root of the \
                  project; else it is the signer's own word.",
        remedy: "put the authority's root into the project file, if it is trusted; else sign again without it",
        subjects: &[Subject::Ios(ios::timestamp_untrusted)],
    },
    Rule {
        name: "signature-scheme-missing",
        level: Level::Error,
        about: "a scheme that some of the build's devices need is missing",
        meaning: "Below SDK 24 a device reads only scheme v1, below SDK 28 not v3; a build made for SDK 30 or later \
                  needs v2 or later.",
        remedy: "sign it again with the schemes its devices need, or raise its lowest SDK",
        subjects: &[Subject::Android(scheme_missing)],
    },
    Rule {
        name: "signature-stripped",
        level: Level::Error,
        about: "one signature announces another that is not there",
        meaning: "Somebody took a stronger signature out, so that a weaker one would be looked at.",
        remedy: "do not ship it; build and sign it again from the source",
        subjects: &[Subject::Android(stripped)],
    },
    Rule {
        name: "algorithm-unsupported",
        level: Level::Error,
        about: "a signature is there that this version cannot verify",
        meaning: "A signature that was not verified says nothing. It may be good; this check does not know.",
        remedy: "sign it again with this tool, or verify that scheme by other means",
        subjects: &[Subject::Android(unsupported)],
    },
    Rule {
        name: "archive-malformed",
        level: Level::Error,
        about: "the archive is put together in a way that devices refuse or readers read differently",
        meaning: "Two readers may see two different builds in one file: what was checked is then not what runs.",
        remedy: "build it again; a file that was fetched may have been damaged on the way",
        subjects: &[Subject::Build(malformed)],
    },
    Rule {
        name: "archive-unaligned",
        level: Level::Warning,
        about: "an uncompressed entry does not begin where devices can map it",
        meaning: "Uncompressed entries belong on multiples of 4 bytes, libraries on memory pages of 4 or 16 KiB. \
                  Elsewhere they cost memory, or do not load at all.",
        remedy: "sign it again: signing moves every entry to where it belongs",
        subjects: &[Subject::Android(unaligned)],
    },
];

fn unsigned(look: &BuildLook<'_>, android: &AndroidBuild, notes: &mut Notes) {
    if android.package.block_faults.iter().any(|fault| matches!(fault, BlockFault::Malformed(_))) {
        // there is a signature, and `archive-malformed` says that it is damaged
        return notes.skip("its signature is damaged");
    }
    if !android.signatures.any() {
        let seen = Observation::new("nobody has signed it").expected("a signature").found("none");
        notes.found(sign_again(look, android, seen));
    }
}

/// Adds the command that signs the build, when signing would take it as it is.
fn sign_again(look: &BuildLook<'_>, android: &AndroidBuild, seen: Observation) -> Observation {
    let out = look.destination.is_none_or(Destination::leaves_the_house);
    if look.destination == Some(Destination::Direct) && android.package.kind == PackageKind::Bundle {
        return seen;
    }
    let takes = |manifest: &Manifest| !(out && (manifest.debuggable || manifest.test_only));
    let sound = look.build.malformed.is_empty() && android.manifest().is_some_and(takes);
    match sound && look.app.is_some() {
        true => seen.mend(Mend::Sign { key: None, destination: look.destination }),
        false => seen,
    }
}

/// Every fault in every scheme, with the scheme.
fn faults(android: &AndroidBuild) -> impl Iterator<Item = (Scheme, &SignatureFault)> {
    android.signatures.schemes.iter().flat_map(|report| {
        let faults = match &report.state {
            SchemeState::Broken(faults) => faults.as_slice(),
            SchemeState::Verified => &[],
        };
        faults.iter().map(|fault| (report.scheme, fault))
    })
}

fn invalid(_: &BuildLook<'_>, android: &AndroidBuild, notes: &mut Notes) {
    if !android.signatures.any() {
        return notes.skip(because::UNSIGNED);
    }
    let is_own = |fault: &SignatureFault| {
        use SignatureFault as F;
        !matches!(fault, F::Unsupported(..) | F::UnsupportedV1(..) | F::Lineage(_))
    };
    // the same fault in several schemes is one finding
    let mut own: Vec<(&SignatureFault, Vec<String>)> = Vec::new();
    for (scheme, fault) in faults(android).filter(|(_, fault)| is_own(fault)) {
        match own.iter_mut().find(|(known, _)| *known == fault) {
            Some((_, schemes)) => schemes.push(scheme.to_string()),
            None => own.push((fault, vec![scheme.to_string()])),
        }
    }
    let found = own.iter().map(|(fault, schemes)| {
        let many = if schemes.len() == 1 { "signature is" } else { "signatures are" };
        let seen = Observation::new(format!("the {} {many} not valid", schemes.join(" and "))).found(fault);
        seen.place(format!("signature scheme {}", schemes.join(", ")))
    });
    first_of(found, notes);
}

/// Writes down as many as are worth reading one by one, and how many there are besides.
fn first_of(mut found: impl Iterator<Item = Observation>, notes: &mut Notes) {
    found.by_ref().take(MOST_FAULTS).for_each(|seen| notes.found(seen));
    let more = found.count();
    if more > 0 {
        notes.found(Observation::new(format!("and {more} faults more")));
    }
}

fn unsupported(_: &BuildLook<'_>, android: &AndroidBuild, notes: &mut Notes) {
    if !android.signatures.any() {
        return notes.skip(because::UNSIGNED);
    }
    for (scheme, fault) in faults(android) {
        if matches!(fault, SignatureFault::Unsupported(..) | SignatureFault::UnsupportedV1(..)) {
            let seen = Observation::new(format!("the {scheme} signature cannot be verified")).found(fault);
            notes.found(seen.place(format!("signature scheme {scheme}")));
        }
    }
}

fn stripped(_: &BuildLook<'_>, android: &AndroidBuild, notes: &mut Notes) {
    if !android.signatures.any() {
        return notes.skip(because::UNSIGNED);
    }
    for scheme in &android.signatures.stripped {
        let text = format!("another signature announces scheme {scheme}, and it is not there");
        notes.found(Observation::new(text).expected(format!("scheme {scheme}")).found("taken out"));
    }
}

fn scheme_missing(look: &BuildLook<'_>, android: &AndroidBuild, notes: &mut Notes) {
    let signatures = &android.signatures;
    if !signatures.any() {
        return notes.skip(because::UNSIGNED);
    }
    if android.package.kind == PackageKind::Bundle {
        if !signatures.has(Scheme::V1) {
            let seen = Observation::new("a store reads only scheme v1 in a bundle");
            let seen = seen.expected("scheme v1").found("only later schemes");
            notes.found(sign_again(look, android, seen));
        }
        return;
    }
    let Some(manifest) = android.manifest() else { return notes.skip(because::UNREADABLE) };
    let signed = signatures.inside();
    for left_out in LeftOut::find(&manifest.min_sdk, &manifest.target_sdk, signed) {
        let seen = Observation::new(left_out.to_string())
            .expected(format!("scheme {}", left_out.needs))
            .found(format!("only {signed}"))
            .level(if left_out.certain { Level::Error } else { Level::Warning })
            .place(&left_out.from);
        // what is signed again gets all that its devices need; whether old ones are among them is not known here
        notes.found(if left_out.certain { sign_again(look, android, seen) } else { seen });
    }
}

fn malformed(look: &BuildLook<'_>, notes: &mut Notes) {
    let found = look.build.malformed.iter().map(|one| {
        let seen = Observation::new(&one.text);
        match one.place {
            Some(place) => seen.place(place),
            None => seen,
        }
    });
    first_of(found, notes);
}

fn unaligned(look: &BuildLook<'_>, android: &AndroidBuild, notes: &mut Notes) {
    let all = android.package.misaligned();
    let Some(first) = all.first() else { return };
    let maps_resources = |manifest: &Manifest| {
        manifest.target_sdk.level().is_some_and(|level| level >= FIRST_TARGET_WITH_MAPPED_RESOURCES)
    };
    let table = all.iter().any(|entry| entry.name == "resources.arsc");
    let refused = table && android.manifest().is_some_and(maps_resources);
    let others = match all.len() {
        1 => String::new(),
        2 => " and 1 other".into(),
        many => format!(" and {} others", many - 1),
    };
    let seen = Observation::new("uncompressed entries do not begin where devices can map them")
        .level(if refused { Level::Error } else { Level::Warning })
        .expected(format!("a multiple of {}", first.boundary))
        .found(format!("byte {}", first.at))
        .place(format!("{}{others}", first.name));
    notes.found(sign_again(look, android, seen));
}
