//! Which schemes a package is signed with: by the devices it runs on, or as told, as long as no device is left out.

use std::fmt;
use std::str::FromStr;

use ninekeys_formats::manifest::Manifest;
use thiserror::Error;

use super::package::PackageKind;
use super::refusal::Refusal;

/// The lowest platform level that reads scheme v2; below it v1 is needed.
pub(crate) const FIRST_SDK_WITH_V2: u32 = 24;
/// The lowest platform level that reads scheme v3; below it v1 or v2 is needed.
pub(crate) const FIRST_SDK_WITH_V3: u32 = 28;
/// The lowest target level for which devices want scheme v2 or later.
pub(crate) const FIRST_TARGET_WITHOUT_V1: u32 = 30;

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
        let (min, target) = (&manifest.min_sdk, &manifest.target_sdk);
        if min.is_below(FIRST_SDK_WITH_V2) && !wanted.v1 {
            return Err(Refusal::LeavesOut { devices: "below SDK 24", needs: "v1" });
        }
        if min.is_below(FIRST_SDK_WITH_V3) && !wanted.v1 && !wanted.v2 {
            return Err(Refusal::LeavesOut { devices: "from SDK 24 to 27", needs: "v1 or v2 beside v3" });
        }
        if target.level().is_some_and(|level| level >= FIRST_TARGET_WITHOUT_V1) && !wanted.has_block() {
            return Err(Refusal::LeavesOut { devices: "from SDK 30 on", needs: "v2 or v3" });
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
