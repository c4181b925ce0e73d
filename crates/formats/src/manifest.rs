//! What an Android manifest says about a build.

use crate::axml::{self, Element, Value};
use crate::cursor::{Fault, ParseError};
use crate::limits::Limits;
use crate::protoxml;

/// Name of the manifest in a package.
pub const ENTRY: &[u8] = b"AndroidManifest.xml";
/// The same in a bundle.
pub const BUNDLE_ENTRY: &[u8] = b"base/manifest/AndroidManifest.xml";

/// Resource ids of the attributes that are read and written.
pub mod id {
    /// `label`
    pub const LABEL: u32 = 0x0101_0001;
    /// `name`
    pub const NAME: u32 = 0x0101_0003;
    /// `debuggable`
    pub const DEBUGGABLE: u32 = 0x0101_000f;
    /// `minSdkVersion`
    pub const MIN_SDK: u32 = 0x0101_020c;
    /// `versionCode`
    pub const VERSION_CODE: u32 = 0x0101_021b;
    /// `versionName`
    pub const VERSION_NAME: u32 = 0x0101_021c;
    /// `targetSdkVersion`
    pub const TARGET_SDK: u32 = 0x0101_0270;
    /// `maxSdkVersion`
    pub const MAX_SDK: u32 = 0x0101_0271;
    /// `testOnly`
    pub const TEST_ONLY: u32 = 0x0101_0272;
    /// `versionCodeMajor`
    pub const VERSION_CODE_MAJOR: u32 = 0x0101_0576;
}

/// A platform level: a number, or the codename of a release under development.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, serde::Serialize)]
#[serde(untagged)]
pub enum Sdk {
    /// A level.
    Level(u32),
    /// A codename, or a reference that the manifest alone does not resolve.
    Codename(String),
}

impl Sdk {
    /// The level; a codename counts as the lowest, so that nothing is left out for an old device.
    pub fn lowest_level(&self) -> u32 {
        match self {
            Sdk::Level(level) => *level,
            Sdk::Codename(_) => 1,
        }
    }
}

impl std::fmt::Display for Sdk {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Sdk::Level(level) => write!(f, "{level}"),
            Sdk::Codename(name) => f.write_str(name),
        }
    }
}

/// The part of a manifest that signing and checking need.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
pub struct Manifest {
    /// The package name.
    pub package: String,
    /// The version code, with its upper half; missing in some files.
    pub version_code: Option<u64>,
    /// The version's name, unless it is a reference or missing.
    pub version_name: Option<String>,
    /// The lowest platform level it runs on; 1 when the manifest does not say.
    pub min_sdk: Sdk,
    /// The level it was made for; the lowest one when the manifest does not say.
    pub target_sdk: Sdk,
    /// The highest level, if it is limited.
    pub max_sdk: Option<u32>,
    /// Whether anyone with a cable can look into it.
    pub debuggable: bool,
    /// Whether devices refuse it unless it is installed for a test.
    pub test_only: bool,
    /// The name of the split, for a part of a package.
    pub split: Option<String>,
}

impl Manifest {
    /// Reads a manifest in binary XML.
    ///
    /// # Errors
    /// [`ParseError`] when the document is malformed, or has no root `manifest` with a package name.
    pub fn parse(bytes: &[u8], limits: &Limits) -> Result<Manifest, ParseError> {
        Manifest::of_elements(&axml::parse(bytes, limits)?)
    }

    /// Reads a manifest in protobuf form, as bundles have it.
    ///
    /// # Errors
    /// As [`Manifest::parse`].
    pub fn parse_protobuf(bytes: &[u8], limits: &Limits) -> Result<Manifest, ParseError> {
        Manifest::of_elements(&protoxml::parse(bytes, limits)?)
    }

    fn of_elements(elements: &[Element]) -> Result<Manifest, ParseError> {
        let missing = |what| ParseError { what, at: 0, fault: Fault::Malformed };
        let root = elements.first().filter(|e| e.name == "manifest").ok_or(missing("manifest element"))?;
        let Some(Value::Text(package)) = root.by_name("package") else {
            return Err(missing("package name"));
        };
        let child = |name: &str| elements.iter().find(|e| e.depth == 2 && e.name == name);
        let uses = child("uses-sdk");
        let application = child("application");
        let min_sdk = uses.and_then(|e| sdk(e, id::MIN_SDK)).unwrap_or(Sdk::Level(1));
        let target_sdk = uses.and_then(|e| sdk(e, id::TARGET_SDK)).unwrap_or_else(|| min_sdk.clone());
        Ok(Manifest {
            package: package.clone(),
            version_code: version_code(root),
            version_name: text(root.by_id(id::VERSION_NAME)),
            max_sdk: uses.and_then(|e| number(e.by_id(id::MAX_SDK))),
            debuggable: application.is_some_and(|e| truth(e, id::DEBUGGABLE)),
            test_only: application.is_some_and(|e| truth(e, id::TEST_ONLY)),
            split: text(root.by_name("split")),
            min_sdk,
            target_sdk,
        })
    }
}

fn version_code(root: &Element) -> Option<u64> {
    let low = u64::from(number(root.by_id(id::VERSION_CODE))?);
    let high = u64::from(number(root.by_id(id::VERSION_CODE_MAJOR)).unwrap_or(0));
    Some(high << 32 | low)
}

fn sdk(element: &Element, id: u32) -> Option<Sdk> {
    match element.by_id(id)? {
        Value::Number(level) => Some(Sdk::Level(*level)),
        Value::Text(text) => Some(text.parse().map_or_else(|_| Sdk::Codename(text.clone()), Sdk::Level)),
        _ => Some(Sdk::Codename("a reference".into())),
    }
}

fn number(value: Option<&Value>) -> Option<u32> {
    match value? {
        Value::Number(number) => Some(*number),
        Value::Text(text) => text.parse().ok(),
        _ => None,
    }
}

fn text(value: Option<&Value>) -> Option<String> {
    match value? {
        Value::Text(text) => Some(text.clone()),
        Value::Number(number) => Some(number.to_string()),
        _ => None,
    }
}

/// A flag is off when it is missing. Anything that is not plainly `false` counts as on: a build that might
/// be debuggable is treated as one that is.
fn truth(element: &Element, id: u32) -> bool {
    match element.by_id(id) {
        None | Some(Value::Boolean(false)) => false,
        Some(Value::Text(text)) => !text.eq_ignore_ascii_case("false"),
        Some(Value::Number(number)) => *number != 0,
        Some(_) => true,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::axml::write::{Node, write};

    fn manifest(application: Node) -> Manifest {
        let root = Node::new("manifest")
            .plain("package", "example.gannetpoint.quayside")
            .platform(id::VERSION_CODE, "versionCode", Value::Number(4))
            .platform(id::VERSION_CODE_MAJOR, "versionCodeMajor", Value::Number(1))
            .child(Node::new("uses-sdk").platform(id::MIN_SDK, "minSdkVersion", Value::Number(24)))
            .child(application);
        Manifest::parse(&write(&root), &Limits::SMALL).unwrap()
    }

    #[test]
    fn what_is_missing_has_the_platforms_default() {
        let found = manifest(Node::new("application"));
        assert_eq!(found.version_code, Some((1 << 32) + 4));
        assert_eq!(found.version_name, None);
        assert_eq!(found.target_sdk, Sdk::Level(24));
        assert!(!found.debuggable && !found.test_only);
    }

    #[test]
    fn a_flag_that_cannot_be_resolved_counts_as_set() {
        let reference = Value::Reference(0x7f01_0001);
        let found = manifest(Node::new("application").platform(id::DEBUGGABLE, "debuggable", reference));
        assert!(found.debuggable);
    }

    #[test]
    fn a_name_that_is_not_the_platforms_does_not_count() {
        let found = manifest(Node::new("application").plain("debuggable", "true"));
        assert!(!found.debuggable, "attributes are told by their id");
    }
}
