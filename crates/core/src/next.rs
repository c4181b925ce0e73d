//! The version and the number that an app's next build should have: above everything that was signed or delivered.

use std::cmp::Ordering;

use schemars::JsonSchema;
use serde::Serialize;

use crate::model::{BuildNumber, Platform, ReleaseFacts};

/// A build that there is, signed or at the store.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Earlier {
    /// The version's name.
    pub version: String,
    /// The version code or build number.
    pub number: BuildNumber,
    /// Whether everyone has it: its version takes no more builds then.
    pub live: bool,
}

impl Earlier {
    /// A build of the ledger.
    pub fn signed(release: &ReleaseFacts) -> Self {
        Earlier { version: release.version.clone(), number: release.number.clone(), live: false }
    }
}

/// What stands in the way of a build at the store.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Bar {
    /// Its number is not above this one, which is there.
    Number(BuildNumber),
    /// Its version is live, and takes no more builds.
    Closed(BuildNumber),
    /// Its version is below this one, which is live.
    Below(BuildNumber),
}

/// The highest version that everyone has.
pub(crate) fn live(earlier: &[Earlier]) -> Option<BuildNumber> {
    earlier.iter().filter(|one| one.live).filter_map(|one| one.version.parse().ok()).max()
}

/// The highest number that counts for a build of a version: on Android every one, on iOS those of the version.
pub(crate) fn highest<'a>(
    platform: Platform,
    earlier: &'a [Earlier],
    version: &str,
) -> Option<&'a BuildNumber> {
    let counts = |one: &&Earlier| platform == Platform::Android || one.version == version;
    earlier.iter().filter(counts).map(|one| &one.number).max()
}

/// What stands in the way of a build, by its number and its version; `earlier` is what the store has of the app.
pub fn bar(platform: Platform, earlier: &[Earlier], version: &str, number: &BuildNumber) -> Option<Bar> {
    if platform == Platform::Ios
        && let (Some(live), Ok(own)) = (live(earlier), version.parse::<BuildNumber>())
    {
        match own.cmp(&live) {
            Ordering::Equal => return Some(Bar::Closed(live)),
            Ordering::Less => return Some(Bar::Below(live)),
            Ordering::Greater => {}
        }
    }
    highest(platform, earlier, version).filter(|highest| number <= *highest).cloned().map(Bar::Number)
}

/// What the next build should have.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Next {
    /// The version's name.
    pub version: String,
    /// The version code or build number.
    pub number: BuildNumber,
    /// Whether the version that was meant is closed, and this is the one behind it.
    pub raised: bool,
}

/// The version and the number of the next build. `wanted` is the version that it should have; the highest there was when nothing
/// is said. On Android the number is above all others; on iOS above those of its version, which is above every one that is live.
pub fn next(platform: Platform, earlier: &[Earlier], wanted: Option<&str>) -> Next {
    let parsed = |version: &str| version.parse::<BuildNumber>().ok();
    let versions = earlier.iter().filter_map(|one| parsed(&one.version).map(|parts| (parts, &one.version)));
    let newest = versions.max_by(|(one, _), (other, _)| one.cmp(other)).map(|(_, version)| version.clone());
    let meant = wanted.map(str::to_owned).or(newest).unwrap_or_else(|| "1.0".into());
    let live = live(earlier).filter(|_| platform == Platform::Ios);
    // a version that is live, or below one that is, takes no more builds
    let closed = live.filter(|live| parsed(&meant).is_some_and(|own| own <= *live));
    let raised = closed.is_some();
    let version = closed.map_or(meant, |live| live.next().to_string());
    let number = highest(platform, earlier, &version);
    let number = number.map_or_else(|| BuildNumber::from(1), BuildNumber::next);
    Next { version, number, raised }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn earlier(all: &[(&str, u64, bool)]) -> Vec<Earlier> {
        let one = |(version, number, live): &(&str, u64, bool)| Earlier {
            version: (*version).to_owned(),
            number: BuildNumber::from(*number),
            live: *live,
        };
        all.iter().map(one).collect()
    }

    fn told(platform: Platform, all: &[(&str, u64, bool)], wanted: Option<&str>) -> (String, String, bool) {
        let Next { version, number, raised } = next(platform, &earlier(all), wanted);
        (version, number.to_string(), raised)
    }

    #[test]
    fn an_android_number_is_above_all_others_whatever_their_version() {
        let all = [("2.4.0", 12, true), ("2.3.9", 40, false)];
        assert_eq!(told(Platform::Android, &all, None), ("2.4.0".into(), "41".into(), false));
        assert_eq!(told(Platform::Android, &all, Some("3.0")), ("3.0".into(), "41".into(), false));
        assert_eq!(told(Platform::Android, &[], None), ("1.0".into(), "1".into(), false));
    }

    #[test]
    fn an_ios_number_counts_within_its_version_and_a_live_version_is_closed() {
        let all = [("2.4.0", 12, false), ("2.3.9", 40, true)];
        assert_eq!(told(Platform::Ios, &all, None), ("2.4.0".into(), "13".into(), false));
        assert_eq!(told(Platform::Ios, &all, Some("2.5")), ("2.5".into(), "1".into(), false));
        let live = [("2.4.0", 12, true)];
        assert_eq!(told(Platform::Ios, &live, None), ("2.4.1".into(), "1".into(), true));
        assert_eq!(
            told(Platform::Ios, &live, Some("2.3")),
            ("2.4.1".into(), "1".into(), true),
            "below what is live"
        );
        assert_eq!(
            told(Platform::Ios, &live, Some("2.10")),
            ("2.10".into(), "1".into(), false),
            "part by part"
        );
    }
}
