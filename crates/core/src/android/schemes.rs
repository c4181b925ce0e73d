//! Which schemes a package is signed with: by the devices it runs on, or as told, as long as no device is left out.

use std::fmt;
use std::str::FromStr;

use ninekeys_formats::manifest::{Manifest, Sdk};
use thiserror::Error;

use super::package::PackageKind;
use super::refusal::Refusal;

/// The lowest platform level that reads scheme v2; below it v1 is needed.
const FIRST_SDK_WITH_V2: u32 = 24;
/// The lowest platform level that reads scheme v3; below it v1 or v2 is needed.
const FIRST_SDK_WITH_V3: u32 = 28;
/// The lowest target level for which devices want scheme v2 or later.
const FIRST_TARGET_WITHOUT_V1: u32 = 30;

/// Devices that would find no signature in a package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct LeftOut {
    /// Which devices.
    pub(crate) devices: String,
    /// What they need.
    pub(crate) needs: &'static str,
    /// Whether there are such devices for certain; where the package's levels are not known, nobody knows.
    pub(crate) certain: bool,
    /// The level of the package that it follows from, in words.
    pub(crate) from: String,
}

impl LeftOut {
    /// Who is left out by a package of these levels that is signed with these schemes.
    pub(crate) fn find(min: &Sdk, target: &Sdk, signed: Schemes) -> Vec<LeftOut> {
        let mut out = Vec::new();
        let mut add = |devices: String, needs: &'static str, certain: bool, from: String| {
            out.push(LeftOut { devices, needs, certain, from });
        };
        let from_min = || format!("lowest SDK {min}");
        if min.may_be_below(FIRST_SDK_WITH_V2) && !signed.v1 {
            add(format!("below SDK {FIRST_SDK_WITH_V2}"), "v1", min.level().is_some(), from_min());
        }
        let between = min.level().is_some_and(|min| (FIRST_SDK_WITH_V2..FIRST_SDK_WITH_V3).contains(&min));
        if between && !signed.v1 && !signed.v2 {
            let last = FIRST_SDK_WITH_V3 - 1;
            let devices = format!("from SDK {FIRST_SDK_WITH_V2} to {last}");
            add(devices, "v1 or v2 beside v3", true, from_min());
        }
        if target.level().is_some_and(|level| level >= FIRST_TARGET_WITHOUT_V1) && !signed.has_block() {
            let devices = format!("from SDK {FIRST_TARGET_WITHOUT_V1} on");
            add(devices, "v2 or v3", true, format!("target SDK {target}"));
        }
        out
    }
}

impl fmt::Display for LeftOut {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "devices {} would find no signature in it: they need {}", self.devices, self.needs)
    }
}

/// The schemes inside a package.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Schemes {
    /// JAR signing.
    pub v1: bool,
    /// The signing block's first.
    pub v2: bool,
    /// With rotation of keys.
    pub v3: bool,
}

/// A word that names no scheme.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("`{0}` is not a list of schemes: v1, v2 and v3 with commas between")]
pub struct UnknownScheme(String);

impl FromStr for Schemes {
    type Err = UnknownScheme;

    fn from_str(text: &str) -> Result<Self, UnknownScheme> {
        let mut schemes = Schemes { v1: false, v2: false, v3: false };
        for word in text.split(',') {
            match word.trim().to_ascii_lowercase().as_str() {
                "v1" => schemes.v1 = true,
                "v2" => schemes.v2 = true,
                "v3" => schemes.v3 = true,
                _ => return Err(UnknownScheme(text.into())),
            }
        }
        Ok(schemes)
    }
}

impl fmt::Display for Schemes {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let all = [(self.v1, "v1"), (self.v2, "v2"), (self.v3, "v3")];
        let names: Vec<&str> = all.into_iter().filter(|(on, _)| *on).map(|(_, name)| name).collect();
        f.write_str(&names.join(", "))
    }
}

impl Schemes {
    /// What a bundle is signed with.
    pub(super) const BUNDLE: Schemes = Schemes { v1: true, v2: false, v3: false };

    /// What a package needs for its devices: v2 and v3, and v1 where the oldest read nothing else.
    fn usual(manifest: &Manifest) -> Schemes {
        // where nobody knows the lowest level, old devices may be among them
        Schemes { v1: manifest.min_sdk.may_be_below(FIRST_SDK_WITH_V2), v2: true, v3: true }
    }

    /// Whether there is a signing block.
    pub(super) fn has_block(self) -> bool {
        self.v2 || self.v3
    }

    /// The schemes to sign with.
    ///
    /// # Errors
    /// [`Refusal`] when devices that the package is for would find no signature in it.
    pub(super) fn choose(
        kind: PackageKind,
        manifest: &Manifest,
        wanted: Option<Schemes>,
    ) -> Result<Schemes, Refusal> {
        let Some(wanted) = wanted else {
            return Ok(if kind == PackageKind::Bundle { Schemes::BUNDLE } else { Schemes::usual(manifest) });
        };
        if kind == PackageKind::Bundle {
            return if wanted == Schemes::BUNDLE { Ok(wanted) } else { Err(Refusal::BundleScheme) };
        }
        // judged by what is known: a level that nobody knows speaks against nothing
        let left_out = LeftOut::find(&manifest.min_sdk, &manifest.target_sdk, wanted);
        if let Some(left_out) = left_out.into_iter().find(|left_out| left_out.certain) {
            return Err(Refusal::LeavesOut(left_out.to_string()));
        }
        Ok(wanted)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lists_are_read_and_written() {
        let all: Schemes = "V1, v2,v3".parse().unwrap();
        assert_eq!(all.to_string(), "v1, v2, v3");
        assert_eq!("v2".parse::<Schemes>().unwrap().to_string(), "v2");
        for bad in ["", "v4", "v1,", "1"] {
            assert!(bad.parse::<Schemes>().is_err(), "{bad}");
        }
    }
}
