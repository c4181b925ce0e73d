//! Rules about what the build says of itself: flags, names, numbers.

use ninekeys_formats::manifest::Manifest;

use super::{BuildLook, Notes, Part, Rule, Subject, because};
use crate::android::{AndroidBuild, PackageKind, Refusal};
use crate::build::{Number, Says};
use crate::findings::{Level, Mend, Observation};
use crate::ios::look::IosLook;
use crate::model::{BuildNumber, Destination};
use crate::next::{highest, live};

pub(super) const RULES: &[Rule] = &[
    Rule {
        name: "build-debuggable",
        level: Level::Error,
        about: "the build is debuggable",
        meaning: "Anyone with a cable can read what it stores and change what it does. Stores refuse it.",
        remedy: "build the release variant; only development builds may be debuggable",
        subjects: &[Subject::Android(debuggable)],
    },
    Rule {
        name: "build-test-only",
        level: Level::Error,
        about: "the build is marked for tests only",
        meaning: "Devices refuse to install it outside of a test.",
        remedy: "build it without the test-only flag",
        subjects: &[Subject::Android(test_only)],
    },
    Rule {
        name: "build-for-simulator",
        level: Level::Error,
        about: "the build, or code inside it, is for a simulator",
        meaning: "It runs on no device, and the store refuses a build with a single library for a simulator in it.",
        remedy: "build it for devices, and take out of libraries what is for the simulator",
        subjects: &[Subject::Ios(for_simulator)],
    },
    Rule {
        name: "build-encrypted",
        level: Level::Error,
        about: "code in the build is encrypted by the store",
        meaning: "It was taken off a device: it runs only where it was bought, and cannot be signed again.",
        remedy: "use the build that was made, not one that a device had",
        subjects: &[Subject::Ios(encrypted)],
    },
    Rule {
        name: "build-id-mismatch",
        level: Level::Error,
        about: "the build's id is not the one that the project file gives for the app",
        meaning: "It is another app, or a variant of it: a device would install it beside the app.",
        remedy: "choose the build of the right app, or correct the id in ninekeys.toml",
        subjects: &[Subject::Build(id_mismatch)],
    },
    Rule {
        name: "build-version-mismatch",
        level: Level::Error,
        about: "the build's version is not the one that the project file expects",
        meaning: "An old build was picked up, or the project file was not brought up to date.",
        remedy: "build the expected version, or change `version` in ninekeys.toml",
        subjects: &[Subject::Build(version_mismatch)],
    },
    Rule {
        name: "version-not-higher",
        level: Level::Warning,
        about: "the version is below one that was released to the same place",
        meaning: "A store takes no version below the one that people have; their devices would not get it.",
        remedy: "build it with a version above that one",
        subjects: &[Subject::Ios(version_not_higher)],
    },
    Rule {
        name: "version-closed",
        level: Level::Error,
        about: "everyone has a build of this version, and the store takes no more of it",
        meaning: "A store closes a version when it goes live: what comes after it has to be a higher version.",
        remedy: "build it with the next version; `ninekeys app next` says which, and `ninekeys upload --next` signs it so",
        subjects: &[Subject::Ios(version_closed)],
    },
    Rule {
        name: "parts-differ",
        level: Level::Warning,
        about: "what is inside the app says another version or build number than the app, or an id that is not below the app's",
        meaning: "Stores refuse an extension whose id does not begin with the app's, and want one version throughout.",
        remedy: "give all targets of the app one version; signing can set it: --set-build, --set-version",
        subjects: &[Subject::Ios(parts_differ)],
    },
    Rule {
        name: "build-name-mismatch",
        level: Level::Warning,
        about: "the file's name says another version than the build",
        meaning: "Files that are named by hand get mixed up; the wrong one is sent.",
        remedy: "name the file after what is in it",
        subjects: &[Subject::Build(name_mismatch)],
    },
    Rule {
        name: "displayed-name-mismatch",
        level: Level::Error,
        about: "the build is called otherwise below its icon than the project file expects",
        meaning: "It is a variant for tests, or of another customer: people would see another name on their devices.",
        remedy: "choose the right build, or change `displayed-name` in ninekeys.toml; on iOS signing can set it: --set-title",
        subjects: &[Subject::Build(displayed_name)],
    },
    Rule {
        name: "permissions-differ",
        level: Level::Error,
        about: "the build asks people for more or less than the project file lists",
        meaning: "A library may bring permissions that nobody meant to ask for: people and stores are asked to agree to them.",
        remedy: "take out what brings it, or list it under `permissions` in ninekeys.toml",
        subjects: &[Subject::Build(permissions_differ)],
    },
    Rule {
        name: "build-number-not-higher",
        level: Level::Error,
        about: "the version code or build number is not above the last release's",
        meaning: "A store refuses a number that it has seen; a device refuses a lower one.",
        remedy: "build it again with a higher number",
        subjects: &[Subject::Build(number_not_higher)],
    },
    Rule {
        name: "package-incomplete",
        level: Level::Error,
        about: "the build is a part of a package, and the other parts are not there or do not fit",
        meaning: "A device installs all parts of a package at once: one base, the parts it needs, of one version, signed \
                  under one certificate. A part alone is refused.",
        remedy: "sign and check all parts in one call",
        subjects: &[Subject::Android(incomplete)],
    },
    Rule {
        name: "target-sdk-too-low",
        level: Level::Error,
        about: "the build is made for an older platform than the project's policy allows",
        meaning: "Stores raise the lowest target SDK they take every year.",
        remedy: "build it for a newer platform, or change `target-sdk` in ninekeys.toml",
        subjects: &[Subject::Android(target_too_low)],
    },
    Rule {
        name: "sdk-range-invalid",
        level: Level::Error,
        about: "the platform levels that the build names contradict each other",
        meaning: "Above its highest or below its lowest level a device does not install the build at all.",
        remedy: "correct the levels in the build's manifest",
        subjects: &[Subject::Android(sdk_range)],
    },
    Rule {
        name: "bundle-wanted",
        level: Level::Warning,
        about: "an APK is meant for the store",
        meaning: "Stores take bundles (AAB) for new apps; an APK is for people who get the file directly.",
        remedy: "build a bundle for the store, or sign this APK for `direct`",
        subjects: &[Subject::Android(bundle_wanted)],
    },
    Rule {
        name: "enrolment-missing",
        level: Level::Note,
        about: "a bundle goes to a store, and nothing says that the store holds the app's signing key",
        meaning: "A store signs what it makes of a bundle, with the app's signing key: it refuses a bundle before it was given that key, or made one.",
        remedy: "hand the signing key over, or have the store make one; if that was done on a web page, `store-keys` in ninekeys.toml says so",
        subjects: &[Subject::Android(enrolment_missing)],
    },
    Rule {
        name: "package-wanted",
        level: Level::Error,
        about: "a bundle (AAB) is meant for people",
        meaning: "No device installs a bundle: a store makes the files that devices get of it, and signs them.",
        remedy: "build an APK for people, or sign this bundle for `store`",
        subjects: &[Subject::Android(package_wanted)],
    },
];

/// What a build says of itself; a rule that needs it is skipped where it cannot be read.
fn says<'a>(look: &BuildLook<'a>, notes: &mut Notes) -> Option<&'a Says> {
    let says = look.build.says.as_ref();
    if says.is_none() {
        notes.skip(because::UNREADABLE);
    }
    says
}

/// The same of a package's manifest.
fn manifest<'a>(android: &'a AndroidBuild, notes: &mut Notes) -> Option<&'a Manifest> {
    let manifest = android.manifest();
    if manifest.is_none() {
        notes.skip(because::UNREADABLE);
    }
    manifest
}

fn leaves_the_house(look: &BuildLook<'_>) -> bool {
    look.destination.is_none_or(Destination::leaves_the_house)
}

fn debuggable(look: &BuildLook<'_>, android: &AndroidBuild, notes: &mut Notes) {
    let Some(manifest) = manifest(android, notes) else { return };
    if manifest.debuggable && leaves_the_house(look) {
        let seen = Observation::new(Refusal::Debuggable.to_string());
        notes.found(seen.expected("a release build").found("debuggable").place(look.build.says_in));
    }
}

fn test_only(look: &BuildLook<'_>, android: &AndroidBuild, notes: &mut Notes) {
    let Some(manifest) = manifest(android, notes) else { return };
    if manifest.test_only && leaves_the_house(look) {
        let seen = Observation::new(Refusal::TestOnly.to_string());
        notes.found(seen.expected("a release build").found("test-only").place(look.build.says_in));
    }
}

fn id_mismatch(look: &BuildLook<'_>, notes: &mut Notes) {
    let Some(says) = says(look, notes) else { return };
    let Some(side) = look.app.and_then(|(_, app)| app.side(look.build.platform)) else {
        return notes.skip(because::NO_APP);
    };
    if says.id != side.id {
        let word = look.build.platform.id_word();
        let seen = Observation::new(format!("its {word} is not the app's"));
        notes.found(seen.expected(side.id).found(&says.id).place(look.build.says_in));
    }
}

fn version_mismatch(look: &BuildLook<'_>, notes: &mut Notes) {
    let Some(says) = says(look, notes) else { return };
    let Some(version) = look.app.and_then(|(_, app)| app.version.as_deref()) else {
        return notes.skip("the project file expects no version");
    };
    let found = says.version.as_deref().unwrap_or("no version");
    if found != version {
        let seen = Observation::new("its version is not the one the project file expects");
        notes.found(seen.expected(version).found(found).place(look.build.says_in));
    }
}

/// Only names of the form APP-VERSION-NUMBER-DESTINATION say anything; others are nobody's claim.
fn name_mismatch(look: &BuildLook<'_>, notes: &mut Notes) {
    let Some(says) = says(look, notes) else { return };
    let Some((app, _)) = look.app else { return notes.skip(because::NO_APP) };
    let stem = look.file.rsplit_once('.').map_or(look.file, |(stem, _)| stem);
    let Some(claim) = stem.strip_prefix(app).and_then(|rest| rest.strip_prefix('-')) else { return };
    // the store first: its name may end with the word for a destination
    let mut words = look.store.into_iter().chain(Destination::ALL.iter().map(|(word, _)| *word));
    let Some(place) = words.find(|word| claim.ends_with(*word)) else { return };
    let wanted = file_stem(app, says, place);
    if stem != wanted {
        let seen = Observation::new("its file name says something else than the build inside");
        let ending = look.build.form.ending();
        notes.found(seen.expected(format!("{wanted}.{ending}")).found(look.file));
    }
}

/// What a signed build is called: APP-VERSION-NUMBER-PLACE, the place a destination or the name of a store.
pub fn file_stem(app: &str, says: &Says, place: &str) -> String {
    let plain = |c: char| if c.is_ascii_alphanumeric() || matches!(c, '.' | '_' | '+') { c } else { '_' };
    let version: String = says.version.as_deref().unwrap_or("0").chars().map(plain).collect();
    let number = says.number();
    let part = says.part.as_deref().map_or_else(String::new, |part| {
        let part: String = part.chars().map(plain).collect();
        format!("-{part}")
    });
    format!("{app}-{version}-{number}{part}-{place}")
}

fn number_not_higher(look: &BuildLook<'_>, notes: &mut Notes) {
    let Some(says) = says(look, notes) else { return };
    let word = look.build.platform.number_word();
    let last =
        look.last.map(|last| (&last.number, format!("above {}, which {} has", last.number, last.file)));
    let above = look.above.map(|number| (number, format!("above {number}, as asked for")));
    let version = says.version.as_deref().unwrap_or_default();
    let there = look.there.and_then(|all| highest(look.build.platform, all, version));
    let there = there.map(|number| (number, format!("above {number}, which the store has")));
    let from_store = there.as_ref().map(|(number, _)| *number);
    // what was asked for, and what a store has, is held to the letter
    let strict = above.iter().chain(&there).map(|(number, _)| *number).max();
    let all = last.into_iter().chain(above).chain(there);
    let Some((least, expected)) = all.max_by_key(|(number, _)| *number) else {
        return notes.skip(because::NOTHING_BEFORE);
    };
    if says.number == Number::Unknown {
        let seen =
            Observation::new(format!("its {word} is not known: it refers to something that is not in it"));
        return notes.found(seen.expected(expected).place(look.build.says_in));
    }
    let number = says.number();
    let asked = strict == Some(least);
    let again = number == *least && !asked;
    let takes_again = look.destination.is_some_and(Destination::takes_a_number_again);
    let worked_on = !leaves_the_house(look) && !asked;
    if number < *least || (number == *least && !(again && worked_on)) {
        let what = if from_store == Some(least) { "what the store has" } else { "the last release's" };
        let seen = Observation::new(format!("its {word} is not above {what}"));
        let seen = seen.expected(expected).found(number);
        let level = if (again && takes_again) || worked_on { Level::Warning } else { Level::Error };
        notes.found(seen.level(level).place(look.build.says_in));
    }
}

/// What a build lacks of its package, given the other builds at hand.
pub fn lacks_parts<'a>(
    manifest: &Manifest,
    others: impl Iterator<Item = &'a Part> + Clone,
) -> Option<String> {
    let mut own = others.filter(|part| part.id == manifest.package);
    match &manifest.split {
        Some(split) if own.all(|part| part.part.is_some()) => {
            Some(format!("it is the part {split} of a package, and does not run without its base"))
        }
        None if manifest.needs_splits && own.all(|part| part.part.is_none()) => {
            Some("it does not run without further parts (splits), and none is at hand".into())
        }
        _ => None,
    }
}

fn incomplete(look: &BuildLook<'_>, android: &AndroidBuild, notes: &mut Notes) {
    let Some(manifest) = manifest(android, notes) else { return };
    let Some(says) = says(look, notes) else { return };
    let level = if leaves_the_house(look) { Level::Error } else { Level::Warning };
    if let Some(lacks) = lacks_parts(manifest, look.parts.iter()) {
        let alone = if manifest.split.is_some() { "a part alone" } else { "the base alone" };
        let seen = Observation::new(lacks).level(level).expected("all parts together").found(alone);
        notes.found(seen.place(look.build.says_in));
    }
    let mut own: Vec<&str> =
        look.build.signers.iter().map(|signer| signer.certificate_fingerprint.as_str()).collect();
    own.sort_unstable();
    let of_package = |part: &&Part| part.id == says.id && part.part != says.part;
    for part in look.parts.iter().filter(of_package) {
        if part.number != says.number() {
            let seen = Observation::new("the parts of the package are of different versions").level(level);
            let found = format!("code {}, and code {} in {}", says.number(), part.number, part.file);
            notes.found(seen.expected("one version code").found(found));
        }
        if part.certificates != own {
            let seen =
                Observation::new("the parts of the package are not signed by the same signer").level(level);
            notes.found(seen.expected("one certificate").found(format!("another one in {}", part.file)));
        }
    }
}

fn target_too_low(look: &BuildLook<'_>, android: &AndroidBuild, notes: &mut Notes) {
    let Some(manifest) = manifest(android, notes) else { return };
    let Some(least) = look.policy.target_sdk else {
        return match look.destination {
            Some(Destination::Store) => {
                let seen = Observation::new("nobody has said which target SDK the store takes at least");
                let seen = seen.expected("`target-sdk` in ninekeys.toml").found(&manifest.target_sdk);
                notes.found(seen.level(Level::Note).place(look.build.says_in));
            }
            _ => notes.skip("the policy names no target SDK"),
        };
    };
    if manifest.target_sdk.level().is_none() {
        return notes.skip("its target SDK is not known");
    }
    if manifest.target_sdk.is_below(least) {
        let seen = Observation::new("it is made for an older platform than the policy allows");
        let seen = seen.expected(format!("target SDK {least} or later"));
        notes.found(seen.found(&manifest.target_sdk).place(look.build.says_in));
    }
}

fn sdk_range(look: &BuildLook<'_>, android: &AndroidBuild, notes: &mut Notes) {
    let Some(manifest) = manifest(android, notes) else { return };
    let Some(min) = manifest.min_sdk.level() else {
        return notes.skip("its lowest SDK is not known");
    };
    let expected = format!("{min} or later");
    if let Some(max) = manifest.max_sdk.filter(|max| *max < min) {
        let seen = Observation::new("its highest SDK is below its lowest: no device would install it");
        notes.found(seen.expected(&expected).found(max).place(look.build.says_in));
    }
    if let Some(target) = manifest.target_sdk.level().filter(|target| *target < min) {
        let seen = Observation::new("its target SDK is below its lowest").level(Level::Warning);
        notes.found(seen.expected(&expected).found(target).place(look.build.says_in));
    }
}

fn package_wanted(look: &BuildLook<'_>, android: &AndroidBuild, notes: &mut Notes) {
    if look.destination == Some(Destination::Direct) && android.package.kind == PackageKind::Bundle {
        let seen = Observation::new(Refusal::BundleForPeople.to_string());
        notes.found(seen.expected("APK").found("AAB"));
    }
}

fn bundle_wanted(look: &BuildLook<'_>, android: &AndroidBuild, notes: &mut Notes) {
    if look.destination == Some(Destination::Store) && android.package.kind == PackageKind::Apk {
        let seen = Observation::new("it is an APK, and a store wants a bundle for a new app");
        notes.found(seen.expected("AAB").found("APK"));
    }
}

fn enrolment_missing(look: &BuildLook<'_>, android: &AndroidBuild, notes: &mut Notes) {
    let Some((name, app)) = look.app else { return notes.skip("no app of the project file") };
    let is_told = app.android.as_ref().is_some_and(|android| android.store_keys.is_some());
    let is_bundle = android.package.kind == PackageKind::Bundle;
    if look.destination == Some(Destination::Store) && is_bundle && !is_told {
        let seen = Observation::new("nothing says that the store holds the app's signing key");
        notes.found(seen.mend(Mend::Deposit { app: name.into() }));
    }
}

fn for_simulator(_: &BuildLook<'_>, ios: &IosLook<'_>, notes: &mut Notes) {
    for executable in ios.build.executables() {
        let simulated = executable.slices().iter().filter(|code| code.slice.is_for_a_simulator());
        let processors: Vec<String> = simulated.map(|code| code.slice.processor.to_string()).collect();
        if !processors.is_empty() {
            let seen = Observation::new("it is for a simulator, or for a desktop's processor");
            notes.found(seen.expected("arm64 for iOS").found(processors.join(", ")).place(&executable.path));
        }
    }
    for bundle in &ios.build.bundles {
        let platforms = bundle.info.as_ref().map(|info| info.platforms.as_slice()).unwrap_or_default();
        if let Some(platform) = platforms.iter().find(|platform| platform.ends_with("Simulator")) {
            let seen = Observation::new("it says that it is for a simulator").found(platform);
            notes.found(seen.place(format!("{}/Info.plist", bundle.path)));
        }
    }
}

fn encrypted(_: &BuildLook<'_>, ios: &IosLook<'_>, notes: &mut Notes) {
    for executable in ios.build.executables() {
        if executable.slices().iter().any(|code| code.slice.encrypted) {
            notes.found(Observation::new("its code is encrypted by the store").place(&executable.path));
        }
    }
}

fn version_not_higher(look: &BuildLook<'_>, _: &IosLook<'_>, notes: &mut Notes) {
    let Some(says) = says(look, notes) else { return };
    let number = |text: &str| text.parse::<BuildNumber>().ok();
    let Some(own) = says.version.as_deref().and_then(number) else {
        return notes.skip("its version is no number");
    };
    if let Some(live) = look.there.and_then(live).filter(|live| own < *live) {
        let seen = Observation::new("its version is below one that everyone has").level(Level::Error);
        let seen = seen.expected(format!("above {live}, which is live")).found(own);
        return notes.found(seen.place(look.build.says_in));
    }
    let Some(highest) = look.highest_version else { return notes.skip(because::NOTHING_BEFORE) };
    if number(&highest.version).is_some_and(|highest| own < highest) {
        let seen = Observation::new("its version is below one that was signed for the same place");
        let seen = seen.expected(format!("{} or above, which {} has", highest.version, highest.file));
        notes.found(seen.found(own).place(look.build.says_in));
    }
}

fn version_closed(look: &BuildLook<'_>, _: &IosLook<'_>, notes: &mut Notes) {
    let Some(says) = says(look, notes) else { return };
    let Some(own) = says.version.as_deref().and_then(|text| text.parse::<BuildNumber>().ok()) else {
        return notes.skip("its version is no number");
    };
    if look.destination != Some(Destination::Store) {
        return notes.skip("it does not go to a store");
    }
    let closed = |seen: Observation| {
        seen.expected(format!("{} or above", own.next())).found(&own).place(look.build.says_in)
    };
    match (look.there, look.highest_version) {
        (Some(all), _) => {
            if live(all).is_some_and(|live| live == own) {
                notes.found(closed(Observation::new(format!(
                    "version {own} is live, and takes no more builds"
                ))));
            }
        }
        // the ledger knows that everyone was to get it, and not whether they do yet
        (None, Some(last)) if last.everyone.is_some() && last.version.parse() == Ok(own.clone()) => {
            let seen = Observation::new(format!(
                "version {own} was given to everyone: once it is live it takes no more builds"
            ));
            notes.found(closed(seen).level(Level::Warning));
        }
        (None, _) => notes.skip("no store was asked, and the ledger knows of none of it that everyone has"),
    }
}

fn parts_differ(_: &BuildLook<'_>, ios: &IosLook<'_>, notes: &mut Notes) {
    let Some(app) = ios.build.app() else { return };
    let Ok(own) = &app.info else { return notes.skip(because::UNREADABLE) };
    for bundle in ios.build.bundles.iter().skip(1).filter(|bundle| bundle.kind.has_profile()) {
        let Ok(info) = &bundle.info else { continue };
        let place = format!("{}/Info.plist", bundle.path);
        let below =
            bundle.id().strip_prefix(app.id()).is_some_and(|rest| rest.len() > 1 && rest.starts_with('.'));
        if !below {
            let seen = Observation::new("its bundle id does not begin with the app's").level(Level::Error);
            notes.found(seen.expected(format!("{}.NAME", app.id())).found(bundle.id()).place(&place));
        }
        for (what, own, found) in
            [("version", &own.version, &info.version), ("build number", &own.build, &info.build)]
        {
            if own != found {
                let text = |value: &Option<String>| value.clone().unwrap_or_else(|| "none".into());
                let seen = Observation::new(format!("its {what} is another than the app's"));
                notes.found(seen.expected(text(own)).found(text(found)).place(&place));
            }
        }
    }
}

fn displayed_name(look: &BuildLook<'_>, notes: &mut Notes) {
    let Some(says) = says(look, notes) else { return };
    let Some(wanted) = look.app.and_then(|(_, app)| app.displayed_name.as_deref()) else {
        return notes.skip("the project file expects no name");
    };
    let Some(found) = says.title.as_deref() else {
        return notes.skip("its name differs by language, or is not there");
    };
    if found != wanted {
        let seen = Observation::new("it is called otherwise below its icon than the project file expects");
        notes.found(seen.expected(wanted).found(found).place(look.build.says_in));
    }
}

fn permissions_differ(look: &BuildLook<'_>, notes: &mut Notes) {
    let Some(says) = says(look, notes) else { return };
    let side = look.app.and_then(|(_, app)| app.side(look.build.platform));
    let Some(wanted) = side.and_then(|side| side.permissions) else {
        return notes.skip("the project file lists no permissions");
    };
    for more in says.asks_for.difference(wanted) {
        let seen = Observation::new(format!("it asks for {more}, which the project file does not list"));
        notes.found(seen.found(more).place(look.build.says_in));
    }
    for less in wanted.difference(&says.asks_for) {
        let seen = Observation::new(format!("it does not ask for {less}, which the project file lists"));
        notes.found(seen.expected(less).level(Level::Warning).place(look.build.says_in));
    }
}
