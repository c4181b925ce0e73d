//! Rules about what the build says of itself: flags, names, numbers.

use ninekeys_formats::manifest::Manifest;

use super::{BuildLook, Notes, Part, Rule, Subject};
use crate::android::PackageKind;
use crate::findings::{Level, Observation};
use crate::model::Destination;

pub(super) const RULES: &[Rule] = &[
    Rule {
        name: "build-debuggable",
        level: Level::Error,
        about: "the build is debuggable",
        meaning: "Anyone with a cable can read what it stores and change what it does. Stores refuse it.",
        remedy: "build the release variant; only development builds may be debuggable",
        subject: Subject::Build(debuggable),
    },
    Rule {
        name: "build-test-only",
        level: Level::Error,
        about: "the build is marked for tests only",
        meaning: "Devices refuse to install it outside of a test.",
        remedy: "build it without the test-only flag",
        subject: Subject::Build(test_only),
    },
    Rule {
        name: "build-id-mismatch",
        level: Level::Error,
        about: "the build's package is not the one that the project file gives for the app",
        meaning: "It is another app, or a variant of it: a device would install it beside the app.",
        remedy: "choose the build of the right app, or correct the package in ninekeys.toml",
        subject: Subject::Build(id_mismatch),
    },
    Rule {
        name: "build-version-mismatch",
        level: Level::Error,
        about: "the build's version is not the one that the project file expects",
        meaning: "An old build was picked up, or the project file was not brought up to date.",
        remedy: "build the expected version, or change `version` in ninekeys.toml",
        subject: Subject::Build(version_mismatch),
    },
    Rule {
        name: "build-name-mismatch",
        level: Level::Warning,
        about: "the file's name says another version than the build",
        meaning: "Files that are named by hand get mixed up; the wrong one is sent.",
        remedy: "name the file after what is in it",
        subject: Subject::Build(name_mismatch),
    },
    Rule {
        name: "build-number-not-higher",
        level: Level::Error,
        about: "the version code is not above the last release's",
        meaning: "A store refuses a version code that it has seen; a device refuses a lower one.",
        remedy: "build it again with a higher version code",
        subject: Subject::Build(number_not_higher),
    },
    Rule {
        name: "package-incomplete",
        level: Level::Error,
        about: "the build is a part of a package, and the other parts are not there or do not fit",
        meaning: "A device installs all parts of a package at once: one base, the parts it needs, of one version, signed \
                  under one certificate. A part alone is refused.",
        remedy: "sign and check all parts in one call",
        subject: Subject::Build(incomplete),
    },
    Rule {
        name: "target-sdk-too-low",
        level: Level::Error,
        about: "the build is made for an older platform than the project's policy allows",
        meaning: "Stores raise the lowest target SDK they take every year.",
        remedy: "build it for a newer platform, or change `target-sdk` in ninekeys.toml",
        subject: Subject::Build(target_too_low),
    },
    Rule {
        name: "sdk-range-invalid",
        level: Level::Error,
        about: "the platform levels that the build names contradict each other",
        meaning: "Above its highest or below its lowest level a device does not install the build at all.",
        remedy: "correct the levels in the build's manifest",
        subject: Subject::Build(sdk_range),
    },
    Rule {
        name: "bundle-wanted",
        level: Level::Warning,
        about: "an APK is meant for the store",
        meaning: "Stores take bundles (AAB) for new apps; an APK is for people who get the file directly.",
        remedy: "build a bundle for the store, or sign this APK for `direct`",
        subject: Subject::Build(bundle_wanted),
    },
    Rule {
        name: "package-wanted",
        level: Level::Error,
        about: "a bundle (AAB) is meant for people",
        meaning: "No device installs a bundle: a store makes the files that devices get of it, and signs them.",
        remedy: "build an APK for people, or sign this bundle for `store`",
        subject: Subject::Build(package_wanted),
    },
];

fn manifest<'a>(look: &'a BuildLook<'_>, notes: &mut Notes) -> Option<&'a Manifest> {
    let manifest = look.package.manifest.as_ref().ok();
    if manifest.is_none() {
        notes.skip();
    }
    manifest
}

fn goes_out(look: &BuildLook<'_>) -> bool {
    look.destination != Some(Destination::Development)
}

fn debuggable(look: &BuildLook<'_>, notes: &mut Notes) {
    let Some(manifest) = manifest(look, notes) else { return };
    if manifest.debuggable && goes_out(look) {
        let seen = Observation::new("it is debuggable: anyone with a cable can read and change what it does");
        notes.found(
            seen.expected("a release build").found("debuggable").place(look.package.kind.manifest_entry()),
        );
    }
}

fn test_only(look: &BuildLook<'_>, notes: &mut Notes) {
    let Some(manifest) = manifest(look, notes) else { return };
    if manifest.test_only && goes_out(look) {
        let seen = Observation::new("it is marked test-only: devices refuse to install it");
        notes.found(
            seen.expected("a release build").found("test-only").place(look.package.kind.manifest_entry()),
        );
    }
}

fn id_mismatch(look: &BuildLook<'_>, notes: &mut Notes) {
    let Some(manifest) = manifest(look, notes) else { return };
    let Some(android) = look.app.and_then(|(_, app)| app.android.as_ref()) else { return notes.skip() };
    if manifest.package != android.package {
        let seen = Observation::new("its package is not the app's");
        let seen = seen.expected(&android.package).found(&manifest.package);
        notes.found(seen.place(look.package.kind.manifest_entry()));
    }
}

fn version_mismatch(look: &BuildLook<'_>, notes: &mut Notes) {
    let Some(manifest) = manifest(look, notes) else { return };
    let Some(version) = look.app.and_then(|(_, app)| app.version.as_deref()) else { return notes.skip() };
    let found = manifest.version_name.as_deref().unwrap_or("no version");
    if found != version {
        let seen = Observation::new("its version is not the one the project file expects");
        notes.found(seen.expected(version).found(found).place(look.package.kind.manifest_entry()));
    }
}

/// Only names of the form APP-VERSION-CODE-DESTINATION say anything; others are nobody's claim.
fn name_mismatch(look: &BuildLook<'_>, notes: &mut Notes) {
    let Some(manifest) = manifest(look, notes) else { return };
    let Some((app, _)) = look.app else { return notes.skip() };
    let stem = look.file.rsplit_once('.').map_or(look.file, |(stem, _)| stem);
    let Some(claim) = stem.strip_prefix(app).and_then(|rest| rest.strip_prefix('-')) else { return };
    let Some((_, destination)) = Destination::ALL.iter().find(|(word, _)| claim.ends_with(*word)) else {
        return;
    };
    let wanted = file_stem(app, manifest, *destination);
    if stem != wanted {
        let seen = Observation::new("its file name says something else than the build inside");
        let ending = look.package.kind.ending();
        notes.found(seen.expected(format!("{wanted}.{ending}")).found(look.file));
    }
}

/// What a signed build is called: APP-VERSION-CODE-DESTINATION.
pub fn file_stem(app: &str, manifest: &Manifest, destination: Destination) -> String {
    let version = manifest.version_name.as_deref().unwrap_or("0");
    let code = manifest.version_code.unwrap_or(0);
    let plain = |c: char| if c.is_ascii_alphanumeric() || matches!(c, '.' | '_' | '+') { c } else { '_' };
    let version: String = version.chars().map(plain).collect();
    let split = manifest.split.as_deref().map_or_else(String::new, |split| {
        let split: String = split.chars().map(plain).collect();
        format!("-{split}")
    });
    format!("{app}-{version}-{code}{split}-{destination}")
}

fn number_not_higher(look: &BuildLook<'_>, notes: &mut Notes) {
    let Some(manifest) = manifest(look, notes) else { return };
    let last = look.last.map(|last| (last.code, format!("above {}, the code of {}", last.code, last.file)));
    let above = look.above.map(|code| (code, format!("above {code}, as asked for")));
    let Some((least, expected)) = last.into_iter().chain(above).max_by_key(|(code, _)| *code) else {
        return notes.skip();
    };
    if manifest.version_code_unknown {
        let seen =
            Observation::new("its version code is not known: it refers to something that is not in it");
        return notes.found(seen.expected(expected).place(look.package.kind.manifest_entry()));
    }
    let code = manifest.version_code.unwrap_or(0);
    // what is built to be worked on keeps its number
    let worked_on = look.destination == Some(Destination::Development);
    if code < least || (code == least && !(worked_on && look.above.is_none())) {
        let seen = Observation::new("its version code is not above the last release's");
        let seen = seen.expected(expected).found(code);
        // a device takes the same code again, a store does not
        let again = code == least && look.destination == Some(Destination::Direct) && look.above.is_none();
        let level = if again || (worked_on && look.above.is_none()) { Level::Warning } else { Level::Error };
        notes.found(seen.level(level).place(look.package.kind.manifest_entry()));
    }
}

/// What a build lacks of its package, given the other builds at hand.
pub fn lacks_parts<'a>(
    manifest: &Manifest,
    others: impl Iterator<Item = &'a Part> + Clone,
) -> Option<String> {
    let mut own = others.filter(|part| part.package == manifest.package);
    match &manifest.split {
        Some(split) if own.all(|part| part.split.is_some()) => {
            Some(format!("it is the part {split} of a package, and does not run without its base"))
        }
        None if manifest.needs_splits && own.all(|part| part.split.is_none()) => {
            Some("it does not run without further parts (splits), and none is at hand".into())
        }
        _ => None,
    }
}

fn incomplete(look: &BuildLook<'_>, notes: &mut Notes) {
    let Some(manifest) = manifest(look, notes) else { return };
    let goes_out = look.destination != Some(Destination::Development);
    let level = if goes_out { Level::Error } else { Level::Warning };
    if let Some(lacks) = lacks_parts(manifest, look.parts.iter()) {
        let alone = if manifest.split.is_some() { "a part alone" } else { "the base alone" };
        let seen = Observation::new(lacks).level(level).expected("all parts together").found(alone);
        notes.found(seen.place(look.package.kind.manifest_entry()));
    }
    let mut own: Vec<&str> =
        look.signatures.signers.iter().map(|signer| signer.certificate_fingerprint.as_str()).collect();
    own.sort_unstable();
    own.dedup();
    let of_package = |part: &&Part| part.package == manifest.package && part.split != manifest.split;
    for part in look.parts.iter().filter(of_package) {
        if part.code != manifest.version_code {
            let code = |code: Option<u64>| code.map_or_else(|| "none".into(), |code| code.to_string());
            let seen = Observation::new("the parts of the package are of different versions").level(level);
            let found = format!(
                "code {}, and code {} in {}",
                code(manifest.version_code),
                code(part.code),
                part.file
            );
            notes.found(seen.expected("one version code").found(found));
        }
        if part.certificates != own {
            let seen =
                Observation::new("the parts of the package are not signed by the same signer").level(level);
            notes.found(seen.expected("one certificate").found(format!("another one in {}", part.file)));
        }
    }
}

fn target_too_low(look: &BuildLook<'_>, notes: &mut Notes) {
    let Some(manifest) = manifest(look, notes) else { return };
    let Some(least) = look.policy.target_sdk else { return notes.skip() };
    if manifest.target_sdk.level().is_none() {
        return notes.skip();
    }
    if manifest.target_sdk.is_below(least) {
        let seen = Observation::new("it is made for an older platform than the policy allows");
        let seen = seen.expected(format!("target SDK {least} or later"));
        notes.found(seen.found(&manifest.target_sdk).place(look.package.kind.manifest_entry()));
    }
}

fn sdk_range(look: &BuildLook<'_>, notes: &mut Notes) {
    let Some(manifest) = manifest(look, notes) else { return };
    let Some(min) = manifest.min_sdk.level() else { return notes.skip() };
    if let Some(max) = manifest.max_sdk
        && max < min
    {
        let seen = Observation::new("its highest SDK is below its lowest: no device would install it");
        notes.found(
            seen.expected(format!("{min} or later")).found(max).place(look.package.kind.manifest_entry()),
        );
    }
    if let Some(target) = manifest.target_sdk.level().filter(|target| *target < min) {
        let seen = Observation::new("its target SDK is below its lowest").level(Level::Warning);
        notes.found(
            seen.expected(format!("{min} or later")).found(target).place(look.package.kind.manifest_entry()),
        );
    }
}

fn package_wanted(look: &BuildLook<'_>, notes: &mut Notes) {
    if look.destination == Some(Destination::Direct) && look.package.kind == PackageKind::Bundle {
        let seen = Observation::new("it is a bundle, which only a store makes anything of");
        notes.found(seen.expected("APK").found("AAB"));
    }
}

fn bundle_wanted(look: &BuildLook<'_>, notes: &mut Notes) {
    if look.destination == Some(Destination::Store) && look.package.kind == PackageKind::Apk {
        let seen = Observation::new("it is an APK, and a store wants a bundle for a new app");
        notes.found(seen.expected("AAB").found("APK"));
    }
}
