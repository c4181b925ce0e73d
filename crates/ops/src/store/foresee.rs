//! What a store will not take, before a byte of it is sent: by what the store has said of builds and keys.

use jiff::Timestamp;
use ninekeys_core::model::{BuildNumber, Platform};
use ninekeys_core::next::{Bar, Earlier, bar};
use ninekeys_portal::store::{Delivery, Held};

use super::{StoreRefusal, store_keys};

/// A build, as far as a store goes by it.
pub(super) struct Candidate<'a> {
    pub(super) platform: Platform,
    pub(super) id: &'a str,
    pub(super) version: &'a str,
    pub(super) number: &'a BuildNumber,
}

/// What stands in its way by its version and number; a build that was rejected counts for nothing.
pub(super) fn by_number(all: &[Delivery], build: &Candidate<'_>) -> Option<Bar> {
    let earlier: Vec<Earlier> =
        all.iter().filter(|one| one.counts_for(build.platform, build.id)).map(Delivery::earlier).collect();
    bar(build.platform, &earlier, build.version, build.number)
}

/// The rule of what stands in the way.
pub(super) fn rule(bar: &Bar) -> &'static str {
    match bar {
        Bar::Number(_) => "build-number-not-higher",
        Bar::Closed(_) => "version-closed",
        Bar::Below(_) => "version-not-higher",
    }
}

/// The same as the store would say it.
pub(super) fn refusal_by_number(all: &[Delivery], build: &Candidate<'_>) -> Option<StoreRefusal> {
    let found = by_number(all, build)?;
    let (number, version) = (build.number, build.version);
    let (detail, sent, needed) = match &found {
        Bar::Number(highest) => (
            format!("its number is {number}, and the store has {highest}"),
            number.to_string(),
            highest.next(),
        ),
        Bar::Closed(live) => {
            (format!("version {version} is live, and takes no more builds"), version.to_owned(), live.next())
        }
        Bar::Below(live) => {
            (format!("its version is {version}, and {live} is live"), version.to_owned(), live.next())
        }
    };
    Some(StoreRefusal {
        rule: rule(&found).to_owned(),
        detail,
        sent: Some(sent),
        needed: Some(needed.to_string()),
    })
}

/// What a store will say of who signed a build for Android, by SHA-256 of the certificate.
pub(super) fn refusal_by_signer(
    held: Option<&Held>,
    is_bundle: bool,
    signer: &str,
    now: Timestamp,
) -> Option<StoreRefusal> {
    let refusal = |rule: &str, detail: &str, values: Option<(&str, &str)>| StoreRefusal {
        rule: rule.to_owned(),
        detail: detail.to_owned(),
        sent: values.map(|(sent, _)| sent.to_owned()),
        needed: values.map(|(_, needed)| needed.to_owned()),
    };
    let Some(held) = held else {
        let detail =
            "the store does not hold the app's signing key, and cannot sign what it makes of a bundle";
        return is_bundle.then(|| refusal("enrolment-missing", detail, None));
    };
    let keys = store_keys(held);
    let upload = keys.upload_at(now);
    if signer == upload {
        return None;
    }
    let rule = if signer == keys.signing { "keys-swapped" } else { "signer-unknown" };
    Some(refusal(rule, "it is not signed with the app's upload key", Some((signer, upload))))
}
