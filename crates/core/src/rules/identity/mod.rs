//! Rules about who signed: dates, strength, and whether it is who signed before.

use jiff::{SignedDuration, Timestamp};
use ninekeys_formats::x509::{Certificate, KeyShape};

mod ios;
mod setup;

use super::{BuildLook, KnownSigner, Notes, Rule, Subject, because};
use crate::android::{AndroidBuild, PackageKind, SchemeState, SignatureFault, SignerReport};
use crate::build::SignedBy;
use crate::certificate::{LEAST_YEARS_FOR_SIGNING, end_of_validity, is_debug_certificate};
use crate::findings::{Level, Mend, Observation};
use crate::model::{Destination, Facts, Inventory, ReleaseFacts, Role, State, StoreKeys};

pub(super) use setup::due;

pub(super) const RULES: &[Rule] = &[
    Rule {
        name: "identity-missing",
        level: Level::Error,
        about: "there is no identity that a build for the destination could be signed with",
        meaning: "Without a certificate of the right kind, and its private key, nothing can be signed.",
        remedy: "ask for one at the portal; the key is made and sealed here",
        subjects: &[Subject::Setup(setup::missing)],
    },
    Rule {
        name: "identity-wrong-purpose",
        level: Level::Error,
        about: "the identity that is here signs for something else",
        meaning: "A development identity signs no build that is given away, and a distribution identity none that is debugged on devices.",
        remedy: "ask for one of the right kind at the portal; the one that is here stays what it is for",
        subjects: &[Subject::Ios(ios::wrong_purpose), Subject::Setup(setup::wrong_purpose)],
    },
    Rule {
        name: "identity-expired",
        level: Level::Error,
        about: "the signer's certificate has ended",
        meaning: "Stores refuse a build whose certificate has ended, and some devices refuse to install it.",
        remedy: "sign with a key whose certificate is still valid",
        subjects: &[Subject::Build(expired), Subject::Setup(setup::expired)],
    },
    Rule {
        name: "identity-expires-soon",
        level: Level::Warning,
        about: "the signer's certificate ends within the days that the project's policy gives",
        meaning: "What ends soon takes everything with it that it signs; a successor takes time to arrange.",
        remedy: "plan its successor now",
        subjects: &[Subject::Build(expires_soon), Subject::Setup(setup::expires_soon)],
    },
    Rule {
        name: "identity-not-yet-valid",
        level: Level::Error,
        about: "the signer's certificate begins in the future",
        meaning: "A device whose clock is right refuses it until then. Often this machine's clock is wrong.",
        remedy: "compare this machine's clock, or wait until the certificate begins",
        subjects: &[Subject::Build(not_yet_valid), Subject::Setup(setup::not_yet_valid)],
    },
    Rule {
        name: "identity-revoked",
        level: Level::Error,
        about: "the identity's certificate was revoked",
        meaning: "What a revoked certificate signed is refused by the store, and profiles that name it alone are good for nothing.",
        remedy: "ask for a new certificate, and have the profiles made again",
        subjects: &[Subject::Ios(ios::revoked), Subject::Setup(setup::revoked)],
    },
    Rule {
        name: "identity-revocation-unknown",
        level: Level::Note,
        about: "whether the identity's certificate was revoked could not be learnt",
        meaning: "The certificate names where that can be asked, and nobody answered there, or nothing that could be believed. What was revoked meanwhile would be refused by the store.",
        remedy: "check again when the address can be reached",
        subjects: &[Subject::Setup(setup::revocation_unknown)],
    },
    Rule {
        name: "identity-without-private-key",
        level: Level::Error,
        about: "the certificate is here and its private key is not",
        meaning: "A certificate alone signs nothing. Its key is on the machine where it was asked for, or lost.",
        remedy: "bring the key in with its certificate, or ask for a new one",
        subjects: &[Subject::Setup(setup::without_private_key)],
    },
    Rule {
        name: "identity-team-mismatch",
        level: Level::Error,
        about: "the identity was issued to another team than the app's",
        meaning: "Identity, profile and app belong to one team, or a device refuses the build.",
        remedy: "take an identity of the app's team",
        subjects: &[Subject::Ios(ios::team_mismatch), Subject::Setup(setup::team_mismatch)],
    },
    Rule {
        name: "identity-chain-incomplete",
        level: Level::Error,
        about: "a certificate between the identity and its root is missing",
        meaning: "A signature carries the whole chain; without the certificate in between, nobody can follow it.",
        remedy: "take in the certificate of the authority that issued it",
        subjects: &[Subject::Ios(ios::chain_incomplete), Subject::Setup(setup::chain_incomplete)],
    },
    Rule {
        name: "identity-chain-untrusted",
        level: Level::Error,
        about: "the identity does not lead to a root that the project names, or its chain does not hold",
        meaning: "A device follows the chain to a root that it knows. One that leads elsewhere is refused.",
        remedy: "compare the root with the portal's, and name it in the project file if it is the right one",
        subjects: &[Subject::Ios(ios::chain_untrusted), Subject::Setup(setup::chain_untrusted)],
    },
    Rule {
        name: "push-identity-missing",
        level: Level::Warning,
        about: "the app takes notifications, and no push identity sends them",
        meaning: "A server sends with a push certificate; without one for the right servers nothing arrives.",
        remedy: "ask for a push certificate for the app, or leave it if the server sends in another way",
        subjects: &[Subject::Setup(setup::push_missing)],
    },
    Rule {
        name: "push-identity-sandbox",
        level: Level::Warning,
        about: "the sandbox's push identity is left in place for builds that leave the house",
        meaning: "The sandbox's servers reach development builds alone: users get no notifications.",
        remedy: "ask for a push certificate for production",
        subjects: &[Subject::Setup(setup::push_sandbox)],
    },
    Rule {
        name: "signature-algorithm-weak",
        level: Level::Error,
        about: "a certificate of the chain is signed in a way that can be forged",
        meaning: "With SHA-1 two certificates can be made that have one signature.",
        remedy: "ask for a new certificate",
        subjects: &[Subject::Setup(setup::algorithm_weak)],
    },
    Rule {
        name: "key-too-weak",
        level: Level::Error,
        about: "the signer's key can be broken: RSA below 2048 bits, curves below 256, or DSA",
        meaning: "Who can compute the private key can publish updates in your name.",
        remedy: "sign with a key of at least RSA 2048 or EC P-256",
        subjects: &[Subject::Build(too_weak), Subject::Setup(setup::too_weak)],
    },
    Rule {
        name: "key-validity-short",
        level: Level::Warning,
        about: "the signing key's certificate ends less than 25 years after it began",
        meaning: "An app can be updated only while its signing key's certificate is valid; stores ask for decades.",
        remedy: "for a new app, make a key that is valid for 25 years or more",
        subjects: &[Subject::Android(validity_short), Subject::Material(kept_validity_short)],
    },
    Rule {
        name: "signer-changed",
        level: Level::Error,
        about: "the build is signed with a different key or certificate from earlier releases",
        meaning: "A device installs an update only when it is signed under the same certificate: the same key under a \
                  renewed one is a stranger to it. Every user would have to remove the app first, and lose what it stored.",
        remedy: "sign with the key and the certificate that signed the last release",
        subjects: &[Subject::Android(signer_changed)],
    },
    Rule {
        name: "lineage-invalid",
        level: Level::Error,
        about: "the proof that one key handed over to another does not hold",
        meaning: "With a proof that does not hold a device takes the new key for a stranger's, or an attacker's for \
                  the app's.",
        remedy: "sign with the key and lineage that the last release was signed with",
        subjects: &[Subject::Android(lineage_invalid)],
    },
    Rule {
        name: "debug-key",
        level: Level::Error,
        about: "the build is signed with a debug key",
        meaning: "Build tools make a debug key on every machine, under a password that everybody knows. Stores refuse it, \
                  and an app that was once released with it can be replaced by anybody's.",
        remedy: "sign it with the app's own key; what was released with a debug key has to be released as a new app",
        subjects: &[Subject::Android(debug_key)],
    },
    Rule {
        name: "signer-unknown",
        level: Level::Error,
        about: "the build goes to a store that knows another signer",
        meaning: "A store that holds an Android app's signing key takes builds from whoever has the upload key that it was told, and from nobody else; for iOS the signer's certificate is one that the portal issued.",
        remedy: "sign with that upload key; if it is lost, have the store take another: `ninekeys keystore replace-upload`",
        subjects: &[Subject::Android(signer_unknown)],
    },
    Rule {
        name: "keys-swapped",
        level: Level::Error,
        about: "the build is signed with the app's other key: the upload key for people, or the signing key for the store",
        meaning: "The upload key proves to a store who uploads; the signing key is what devices know the app by. With the \
                  wrong one of the two a store refuses the upload, or a device the update.",
        remedy: "sign it again for its destination: the right key is taken by itself",
        subjects: &[Subject::Android(keys_swapped)],
    },
];

/// The signers to look at; without any a rule has nothing to say.
fn signers<'a>(look: &BuildLook<'a>, notes: &mut Notes) -> &'a [SignedBy] {
    if look.build.signers.is_empty() {
        notes.skip(because::UNSIGNED);
    }
    &look.build.signers
}

pub(super) fn time(seconds: i64) -> Timestamp {
    Timestamp::from_second(seconds).unwrap_or(if seconds < 0 { Timestamp::MIN } else { Timestamp::MAX })
}

pub(super) fn day(at: Timestamp) -> String {
    at.strftime("%-d %b %Y").to_string()
}

fn subject(certificate: &Certificate) -> String {
    format!("certificate of {}", certificate.subject)
}

fn expired(look: &BuildLook<'_>, notes: &mut Notes) {
    for signer in signers(look, notes) {
        let end = time(signer.certificate.not_after);
        if end < look.now {
            let text = "the signer's certificate has ended";
            let seen = Observation::new(text).place(subject(&signer.certificate));
            notes.found(seen.expected("a certificate that is valid").found(format!("ended {}", day(end))));
        }
    }
}

fn expires_soon(look: &BuildLook<'_>, notes: &mut Notes) {
    let wait = SignedDuration::from_hours(24 * i64::from(look.policy.due_days));
    let due = look.now.saturating_add(wait).unwrap_or(Timestamp::MAX);
    for signer in signers(look, notes) {
        let end = time(signer.certificate.not_after);
        if end >= look.now && end < due {
            let days = (end.as_second() - look.now.as_second()) / 86_400;
            let text = format!("the signer's certificate ends in {days} days");
            notes.found(Observation::new(text).found(day(end)).place(subject(&signer.certificate)));
        }
    }
}

fn not_yet_valid(look: &BuildLook<'_>, notes: &mut Notes) {
    for signer in signers(look, notes) {
        let start = time(signer.certificate.not_before);
        if start > look.now {
            let text = "the signer's certificate is not valid yet";
            let seen = Observation::new(text).place(subject(&signer.certificate));
            let now = format!("valid on {}", day(look.now));
            notes.found(seen.expected(now).found(format!("begins {}", day(start))));
        }
    }
}

/// Whether a key can be broken.
fn is_weak(key: &KeyShape) -> bool {
    match key {
        KeyShape::Rsa { bits } => *bits < 2048,
        KeyShape::Ec { curve } => matches!(curve.as_str(), "P-192" | "P-224"),
        KeyShape::Dsa => true,
        KeyShape::Other(_) => false,
    }
}

fn too_weak(look: &BuildLook<'_>, notes: &mut Notes) {
    for signer in signers(look, notes) {
        if is_weak(&signer.certificate.key) {
            let seen = Observation::new("the signer's key is too weak").found(&signer.certificate.key);
            notes.found(seen.expected("RSA 2048, EC P-256 or stronger").place(subject(&signer.certificate)));
        }
    }
}

fn validity_short(look: &BuildLook<'_>, _: &AndroidBuild, notes: &mut Notes) {
    if look.destination.is_some_and(|to| !to.leaves_the_house()) {
        return notes.skip(because::NOT_OUT);
    }
    for signer in signers(look, notes) {
        let (start, end) = (time(signer.certificate.not_before), time(signer.certificate.not_after));
        if is_too_short(start, end) {
            let years = years_between(start, end);
            let text = "the signing key's certificate ends too soon for an app's whole life";
            let seen = Observation::new(text).place(subject(&signer.certificate));
            let found = format!("{years} years, until {}", day(end));
            notes.found(seen.expected(format!("{LEAST_YEARS_FOR_SIGNING} years or more")).found(found));
        }
    }
}

/// The same of the signing keys that a cabinet holds, before anything is signed with them.
fn kept_validity_short(inventory: &Inventory, notes: &mut Notes) {
    for (item, keystore) in inventory.keystores() {
        let signing = keystore.entries.iter().filter(|entry| entry.roles().contains(&Role::Signing));
        for entry in signing.filter(|_| item.state == State::Active) {
            let certificate = inventory.get(&entry.certificate).map(|item| &item.facts);
            let Some(Facts::Certificate(certificate)) = certificate else { continue };
            if !is_too_short(certificate.not_before, certificate.not_after) {
                continue;
            }
            let years = years_between(certificate.not_before, certificate.not_after);
            let text =
                format!("the signing key {} is valid too shortly for an app's whole life", entry.alias);
            let seen = Observation::new(text).place(&item.name);
            let found = format!("{years} years, until {}", day(certificate.not_after));
            notes.found(seen.expected(format!("{LEAST_YEARS_FOR_SIGNING} years or more")).found(found));
        }
    }
}

/// Whether a validity is shorter than an app's life.
pub fn is_too_short(start: Timestamp, end: Timestamp) -> bool {
    end_of_validity(start, LEAST_YEARS_FOR_SIGNING).is_ok_and(|least| end < least)
}

fn years_between(start: Timestamp, end: Timestamp) -> i64 {
    (end.as_second() - start.as_second()) / 31_556_952
}

/// A certificate that a build may be signed with.
struct Expected<'a> {
    /// What it is called.
    name: &'a str,
    key: &'a str,
    /// Empty where an old row of the ledger does not say it: then the key has to do.
    certificate: &'a str,
}

impl<'a> Expected<'a> {
    fn known(known: &'a KnownSigner) -> Self {
        Expected { name: &known.name, key: &known.key, certificate: &known.certificate }
    }

    /// The one that signed a release, by the name that it has today.
    fn of(last: &'a ReleaseFacts, known: &'a [KnownSigner]) -> Self {
        let (key, certificate) = (last.signer.as_str(), last.signer_certificate.as_str());
        let is = |known: &&KnownSigner| match certificate {
            "" => known.key == key,
            certificate => known.certificate == certificate,
        };
        let now = known.iter().find(is);
        Expected { name: now.map_or(&last.signed_with, |known| &known.name), key, certificate }
    }

    fn is(&self, signer: &SignedBy) -> bool {
        match self.certificate {
            "" => self.key == signer.key_fingerprint,
            certificate => certificate == signer.certificate_fingerprint,
        }
    }
}

fn signer_changed(look: &BuildLook<'_>, android: &AndroidBuild, notes: &mut Notes) {
    let signers = signers(look, notes);
    if at_store(look).is_some() {
        return notes.skip("devices see the store's signature: the store knows who uploads");
    }
    // whoever took a build of the last one was told of its successor
    let told = |last: &ReleaseFacts| {
        let certificate = &last.signer_certificate;
        look.known_signers.iter().find(|known| known.replaces.contains(certificate)).map(Expected::known)
    };
    let mut expected: Vec<Expected<'_>> = match look.last {
        Some(last) => vec![told(last).unwrap_or_else(|| Expected::of(last, look.known_signers))],
        None => look.known_signers.iter().map(Expected::known).collect(),
    };
    if look.destination.is_none() {
        // it may go where the app's other key belongs
        expected.extend(look.known_signers.iter().map(Expected::known));
    }
    let Some(first) = expected.first() else { return notes.skip(because::NOTHING_BEFORE) };
    // a verified lineage is the one excuse: all its certificates are one identity
    let lineage = &android.signatures.lineage;
    let handed_over = |one: &Expected<'_>, signer: &SignedBy| {
        let has = |certificate: &str| lineage.iter().any(|key| key.certificate_fingerprint == certificate);
        has(one.certificate) && has(&signer.certificate_fingerprint)
    };
    for signer in signers {
        // the app's own other key is what `keys-swapped` says
        let fine = expected.iter().any(|one| one.is(signer) || handed_over(one, signer));
        if !fine && swapped(look, signer).is_none() {
            let renewed = expected.iter().find(|one| one.key == signer.key_fingerprint);
            let one = renewed.unwrap_or(first);
            notes.found(stranger(look, android.package.kind, signer, one, renewed.is_some()));
        }
    }
}

/// What is said of a signer that is not `expected`: `renewed` when it has that one's key under another certificate.
fn stranger(
    look: &BuildLook<'_>,
    kind: PackageKind,
    signer: &SignedBy,
    expected: &Expected<'_>,
    renewed: bool,
) -> Observation {
    let with = match (renewed, look.last) {
        (true, Some(_)) => "it is signed with the same key as earlier releases, under another certificate",
        (false, Some(_)) => "it is signed with a different key from earlier releases",
        (true, None) => "it is signed with the app's key under another certificate than the cabinet's",
        (false, None) => "it is signed with none of the keys that the cabinet holds for the app",
    };
    let refused = match (kind, renewed) {
        (PackageKind::Apk, true) => "devices compare certificates, and would not take it as an update",
        (PackageKind::Apk, false) => "no device would take it as an update",
        (PackageKind::Bundle, _) => "the store would not take the upload",
    };
    let (word, wanted, found) = match renewed {
        true => ("certificate", expected.certificate, &signer.certificate_fingerprint),
        false => ("key", expected.key, &signer.key_fingerprint),
    };
    let since = look.last.map_or(String::new(), |last| format!(", which signed {}", last.file));
    let seen = Observation::new(format!("{with}; {refused}"))
        .expected(format!("{word} {} ({}{since})", short(wanted), expected.name))
        .found(format!("{word} {}, {}", short(found), subject(&signer.certificate)));
    // signing again helps only where the right certificate is at hand
    let at_hand = look.known_signers.iter().any(|known| known.certificate == expected.certificate);
    let can_mend = at_hand || expected.certificate.is_empty();
    // nobody signs a stranger's build: only what is meant to go somewhere is ours
    match look.destination.filter(|_| can_mend) {
        Some(to) => seen.mend(Mend::Sign { key: Some(expected.name.into()), destination: Some(to) }),
        None => seen,
    }
}

fn debug_key(look: &BuildLook<'_>, _: &AndroidBuild, notes: &mut Notes) {
    let signers = signers(look, notes);
    if look.destination.is_some_and(|to| !to.leaves_the_house()) {
        return notes.skip(because::NOT_OUT);
    }
    let is_debug = |signer: &&SignedBy| {
        is_debug_certificate(&signer.certificate.subject, &signer.certificate_fingerprint)
    };
    for signer in signers.iter().filter(is_debug) {
        let seen = Observation::new("it is signed with a debug key, which anybody can have");
        notes.found(seen.expected("the app's own key").found(subject(&signer.certificate)));
    }
}

/// The role that a build's destination wants, and the other.
fn roles(look: &BuildLook<'_>) -> Option<(Role, Role)> {
    let wanted = look.destination?.android_role()?;
    Some((wanted, wanted.other()))
}

/// The key that should have signed, when the app's other one did. An app that has only the one uses it for both.
fn swapped<'a>(look: &'a BuildLook<'_>, signer: &SignedBy) -> Option<&'a KnownSigner> {
    let (wanted, other) = roles(look)?;
    let held = |role: Role| {
        let is = |known: &&KnownSigner| known.certificate == signer.certificate_fingerprint;
        look.known_signers.iter().filter(is).any(|known| known.role == role)
    };
    if !held(other) || held(wanted) {
        return None;
    }
    look.known_signers.iter().find(|known| known.role == wanted)
}

/// The keys that the store has of the app that the build is of, where it goes there and the project file says them.
fn at_store<'a>(look: &BuildLook<'a>) -> Option<&'a StoreKeys> {
    let to_store = look.destination == Some(Destination::Store);
    look.app.filter(|_| to_store).and_then(|(_, app)| app.android.as_ref()?.store_keys.as_ref())
}

fn signer_unknown(look: &BuildLook<'_>, _: &AndroidBuild, notes: &mut Notes) {
    let signers = signers(look, notes);
    let Some(keys) = at_store(look) else {
        return notes.skip("no store is said to hold the app's signing key");
    };
    let upload = keys.upload_at(look.now);
    for signer in signers.iter().filter(|signer| signer.certificate_fingerprint != upload) {
        // that it is the other of the two is said where the cabinet knows both
        if swapped(look, signer).is_some() {
            continue;
        }
        let right = look.known_signers.iter().find(|known| known.certificate == upload);
        let name = right.map(|right| format!(" ({})", right.name)).unwrap_or_default();
        let waits =
            keys.next_upload.as_ref().filter(|next| next.certificate == signer.certificate_fingerprint);
        let waits =
            waits.map(|next| format!(", which counts from {} on", day(next.from))).unwrap_or_default();
        let seen = Observation::new("it is not signed with the upload key that the store knows")
            .expected(format!("certificate {}{name}", short(upload)))
            .found(format!("certificate {}{waits}", short(&signer.certificate_fingerprint)));
        notes.found(match right {
            Some(right) => {
                seen.mend(Mend::Sign { key: Some(right.name.clone()), destination: look.destination })
            }
            None => seen,
        });
    }
}

fn keys_swapped(look: &BuildLook<'_>, _: &AndroidBuild, notes: &mut Notes) {
    let signers = signers(look, notes);
    let Some((wanted, other)) = roles(look) else {
        return notes.skip("where it goes takes either key, or is not known");
    };
    if !look.known_signers.iter().any(|known| known.role == wanted) {
        return notes.skip("the cabinet holds no key of that kind for the app");
    }
    let says = match wanted {
        Role::Upload => "it is signed with the app's signing key, and goes to the store",
        Role::Signing => "it is signed with the app's upload key, and goes to people's devices",
    };
    for signer in signers {
        let Some(right) = swapped(look, signer) else { continue };
        let word = wanted.nine_key().word();
        let seen = Observation::new(says)
            .expected(format!("the {word}, key {} ({})", short(&right.key), right.name))
            .found(format!("the {}, key {}", other.nine_key().word(), short(&signer.key_fingerprint)));
        notes.found(seen.mend(Mend::Sign { key: Some(right.name.clone()), destination: look.destination }));
    }
}

fn lineage_invalid(_: &BuildLook<'_>, android: &AndroidBuild, notes: &mut Notes) {
    let signatures = &android.signatures;
    if signatures.signers.is_empty() {
        return notes.skip(because::UNSIGNED);
    }
    for report in &signatures.schemes {
        let SchemeState::Broken(faults) = &report.state else { continue };
        for fault in faults {
            if let SignatureFault::Lineage(fault) = fault {
                let text = format!("the lineage of the {} signer does not hold", report.scheme);
                let place = format!("signature scheme {}", report.scheme);
                notes.found(Observation::new(text).found(fault).place(place));
            }
        }
    }
    let mut signers: Vec<&SignerReport> = Vec::new();
    for signer in &signatures.signers {
        if !signers.iter().any(|seen| seen.certificate_fingerprint == signer.certificate_fingerprint) {
            signers.push(signer);
        }
    }
    let linked = |signer: &&SignerReport| {
        signatures.lineage.iter().any(|key| key.certificate_fingerprint == signer.certificate_fingerprint)
    };
    let newest = signers.last().map(|signer| signer.scheme);
    let several = signers.iter().any(|signer| Some(signer.scheme) != newest);
    if let Some(stranger) = signers.iter().find(|signer| several && !linked(signer)) {
        let one_key = signers.iter().all(|signer| signer.key_fingerprint == stranger.key_fingerprint);
        let what = if one_key { "under different certificates" } else { "with different keys" };
        let text = format!("its schemes are signed {what}, and no lineage links them");
        let found = format!("{} in scheme {}", subject(&stranger.certificate), stranger.scheme);
        notes.found(Observation::new(text).expected("one certificate, or a lineage").found(found));
    }
}

/// A fingerprint as a sentence shows it: three bytes.
pub(super) fn short(fingerprint: &str) -> String {
    let bytes: Vec<String> = fingerprint
        .as_bytes()
        .chunks(2)
        .take(3)
        .map(|pair| String::from_utf8_lossy(pair).to_uppercase())
        .collect();
    format!("{}…", bytes.join(":"))
}
