//! What the store takes and what it does not: each rule by the name that a check knows it by.

use base64ct::{Base64, Encoding};
use ninekeys_core::build::{Build, Form};
use ninekeys_core::digest::sha256_hex;
use ninekeys_core::model::{BuildNumber, Platform};
use ninekeys_core::next::{Bar, Earlier, bar};
use ninekeys_formats::manifest::Sdk;

use super::super::routes::Refusal;
use crate::store::{Delivery, Held, Record};

/// The lowest target SDK that the store takes for an Android app.
pub(super) const LOWEST_TARGET: u32 = 33;

/// Whether the store takes a build: what it is, whose it is, and that it is above what is there. Earlier builds are those of
/// the same app, whatever became of them.
pub(super) fn judge(
    record: &Record,
    earlier: &[Delivery],
    build: &Build,
    keys: &Keys<'_>,
) -> Result<(), Refusal> {
    let Some(says) = &build.says else {
        let detail = format!("{} cannot be read, so nothing says which app it is", build.says_in);
        return Err(Refusal::rule("archive-malformed", detail));
    };
    if let Some(first) = build.malformed.first() {
        return Err(Refusal::rule("archive-malformed", first.text.clone()));
    }
    if build.platform != record.platform || says.id != record.id {
        let detail = format!("this is a build of {}, and the app is {}", says.id, record.id);
        return Err(Refusal::rule("build-id-mismatch", detail).values(&says.id, &record.id));
    }
    if build.signers.is_empty() {
        return Err(Refusal::rule("build-unsigned", "nobody signed this build"));
    }
    of_android(build)?;
    match build.platform {
        Platform::Android => by_whom(build, keys)?,
        Platform::Ios => by_an_identity(build, keys)?,
    }
    above(earlier, &says.number(), says.version.as_deref().unwrap_or_default(), build.platform)
}

/// Who may sign the builds of an app.
pub(super) struct Keys<'a> {
    /// SHA-256 of the certificates that were issued and are good: who signs for iOS has one.
    pub(super) issued: &'a [String],
    /// The keys that the store has, where it holds the signing key.
    pub(super) held: Option<&'a Held>,
    /// The certificate of the first build's signer.
    pub(super) first: Option<&'a str>,
}

/// The SHA-256 of a certificate that is kept in Base64.
fn fingerprint(certificate: &str) -> String {
    Base64::decode_vec(certificate).map(|der| sha256_hex(&der)).unwrap_or_default()
}

/// On iOS a build comes from somebody to whom the portal issued a certificate.
fn by_an_identity(build: &Build, keys: &Keys<'_>) -> Result<(), Refusal> {
    let signers = build.signers.iter().map(|one| &one.certificate_fingerprint);
    match signers.into_iter().find(|signer| !keys.issued.contains(signer)) {
        None => Ok(()),
        Some(stranger) => {
            let detail = "the portal issued no certificate like the signer's that is good";
            let needed = "an identity of the team that is good";
            Err(Refusal::rule("signer-unknown", detail).values(stranger, needed))
        }
    }
}

/// A build comes from who holds the upload key; without one, from who signed the first one.
fn by_whom(build: &Build, keys: &Keys<'_>) -> Result<(), Refusal> {
    let signer = build.signers.first().map(|one| one.certificate_fingerprint.as_str()).unwrap_or_default();
    let Some(held) = keys.held else {
        if build.form.ending() == "aab" {
            let detail =
                "the store does not hold the app's signing key, and cannot sign what it makes of a bundle";
            return Err(Refusal::rule("enrolment-missing", detail));
        }
        return match keys.first {
            Some(first) if first != signer => {
                let detail = "another key signed it than the first build of the app";
                Err(Refusal::rule("signer-unknown", detail).values(signer, first))
            }
            _ => Ok(()),
        };
    };
    let upload = fingerprint(&held.upload);
    if signer == upload {
        return Ok(());
    }
    let rule = if signer == fingerprint(&held.signing) { "keys-swapped" } else { "signer-unknown" };
    let waits = match &held.next_upload {
        Some(next) if fingerprint(&next.certificate) == signer => {
            format!("; this one counts from {} on", next.from)
        }
        _ => String::new(),
    };
    let detail = format!("it is not signed with the app's upload key{waits}");
    Err(Refusal::rule(rule, detail).values(signer, upload))
}

/// What only Android builds can be.
fn of_android(build: &Build) -> Result<(), Refusal> {
    let Some(manifest) = build.android().and_then(|android| android.manifest()) else { return Ok(()) };
    if manifest.debuggable {
        let detail = "this build is debuggable: whoever has a device can look into it";
        return Err(Refusal::rule("build-debuggable", detail).values("debuggable", "a release build"));
    }
    if manifest.test_only {
        return Err(Refusal::rule("build-test-only", "this build is for tests only"));
    }
    match manifest.target_sdk {
        Sdk::Level(target) if target < LOWEST_TARGET => {
            let detail =
                format!("it is made for SDK {target}, and the store takes {LOWEST_TARGET} and higher");
            Err(Refusal::rule("target-sdk-too-low", detail).values(target, LOWEST_TARGET))
        }
        _ => Ok(()),
    }
}

/// Numbers go up: on Android above every upload there was, on iOS above every one of the same version, which is above every one
/// that is live.
fn above(
    earlier: &[Delivery],
    number: &BuildNumber,
    version: &str,
    platform: Platform,
) -> Result<(), Refusal> {
    let earlier: Vec<Earlier> = earlier.iter().map(Delivery::earlier).collect();
    match bar(platform, &earlier, version, number) {
        None => Ok(()),
        Some(Bar::Number(highest)) => {
            let of =
                if platform == Platform::Android { String::new() } else { format!(" of version {version}") };
            let detail = format!("its number is {number}, and the store has {highest}{of}");
            Err(Refusal::rule("build-number-not-higher", detail).values(number, highest.next()))
        }
        Some(Bar::Closed(live)) => {
            let detail = format!("version {version} is live, and takes no more builds");
            Err(Refusal::rule("version-closed", detail).values(version, live.next()))
        }
        Some(Bar::Below(live)) => {
            let detail = format!("its version is {version}, and {live} is live");
            Err(Refusal::rule("version-not-higher", detail).values(version, live.next()))
        }
    }
}

/// Whether a file is of a form that a store takes.
pub(super) fn is_delivered(form: Form) -> bool {
    matches!(form.ending(), "apk" | "aab" | "ipa")
}
