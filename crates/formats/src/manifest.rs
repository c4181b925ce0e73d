//! What an Android manifest says about a build.

use std::collections::{BTreeMap, BTreeSet};

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
    pub(crate) const MAX_SDK: u32 = 0x0101_0271;
    /// `testOnly`
    pub const TEST_ONLY: u32 = 0x0101_0272;
    /// `versionCodeMajor`
    pub(crate) const VERSION_CODE_MAJOR: u32 = 0x0101_0576;
    /// `isSplitRequired`
    pub const SPLIT_REQUIRED: u32 = 0x0101_0591;
    /// `requiredSplitTypes`
    pub const REQUIRED_SPLIT_TYPES: u32 = 0x0101_064e;
}

/// A platform level: a number, or the codename of a release under development.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, serde::Serialize, schemars::JsonSchema)]
#[serde(untagged)]
pub enum Sdk {
    /// A level.
    Level(u32),
    /// The codename of a release under development, or a reference that nothing resolves: no level that is known.
    Codename(String),
}

impl Sdk {
    /// The level, where it is known.
    pub fn level(&self) -> Option<u32> {
        match self {
            Sdk::Level(level) => Some(*level),
            Sdk::Codename(_) => None,
        }
    }

    /// Whether it is known to be below a level.
    pub fn is_below(&self, level: u32) -> bool {
        self.level().is_some_and(|own| own < level)
    }

    /// Whether it may be below a level: it is, or nobody knows.
    pub fn may_be_below(&self, level: u32) -> bool {
        self.level().is_none_or(|own| own < level)
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
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, schemars::JsonSchema)]
pub struct Manifest {
    /// The package name.
    pub package: String,
    /// The version code, with its upper half; missing in some files, and where it is not known.
    pub version_code: Option<u64>,
    /// Whether there is a version code that cannot be known: a reference to something that is not there, or differs by
    /// device.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub version_code_unknown: bool,
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
    /// What people see below its icon, unless it differs by language or is missing.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub label: Option<String>,
    /// The permissions that it asks for, in order.
    #[serde(skip_serializing_if = "BTreeSet::is_empty")]
    pub permissions: BTreeSet<String>,
    /// The name of the split, for a part of a package.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub split: Option<String>,
    /// Whether it does not run without further parts.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub needs_splits: bool,
}

/// The numbers that a manifest is given.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Numbers {
    /// The version code; its upper half, where there is one, becomes 0.
    pub code: Option<u32>,
    /// The version's name.
    pub name: Option<String>,
}

/// A manifest with other numbers.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Renumbered {
    /// Its bytes.
    pub bytes: Vec<u8>,
    /// Whether it had a version code, where one was to be set.
    pub has_code: bool,
    /// Whether it had a version's name, where one was to be set.
    pub has_name: bool,
}

/// Sets the numbers of a manifest, in binary XML or, where it is a bundle's, as protobuf; nothing else in it changes.
///
/// # Errors
/// [`ParseError`] when it is malformed.
pub fn renumber(
    bytes: &[u8],
    is_bundles: bool,
    numbers: &Numbers,
    limits: &Limits,
) -> Result<Renumbered, ParseError> {
    let set = |bytes: &[u8], id, value: &Value| match is_bundles {
        true => protoxml::set_on_root(bytes, id, value, limits),
        false => axml::edit::set_on_root(bytes, id, value, limits),
    };
    let mut out = Renumbered { bytes: bytes.to_vec(), has_code: true, has_name: true };
    if let Some(code) = numbers.code {
        let done = set(&out.bytes, id::VERSION_CODE, &Value::Number(code))?;
        out.has_code = done.is_some();
        out.bytes = done.unwrap_or(out.bytes);
        let done = set(&out.bytes, id::VERSION_CODE_MAJOR, &Value::Number(0))?;
        out.bytes = done.unwrap_or(out.bytes);
    }
    if let Some(name) = &numbers.name {
        let done = set(&out.bytes, id::VERSION_NAME, &Value::Text(name.clone()))?;
        out.has_name = done.is_some();
        out.bytes = done.unwrap_or(out.bytes);
    }
    Ok(out)
}

/// The attributes whose values are looked up where they are references.
const READ: [u32; 10] = [
    id::LABEL,
    id::VERSION_CODE,
    id::VERSION_CODE_MAJOR,
    id::VERSION_NAME,
    id::MIN_SDK,
    id::TARGET_SDK,
    id::MAX_SDK,
    id::DEBUGGABLE,
    id::TEST_ONLY,
    id::SPLIT_REQUIRED,
];

/// The elements that ask for a permission, on every device or on newer ones.
const PERMISSIONS: [&str; 2] = ["uses-permission", "uses-permission-sdk-23"];

/// What a manifest refers to, by resource id. Whoever has the resources looks the values up.
pub(crate) type Resources<'a> = dyn FnMut(&[u32]) -> BTreeMap<u32, Value> + 'a;

impl Manifest {
    /// Reads a manifest in binary XML, without the resources that it may refer to.
    ///
    /// # Errors
    /// [`ParseError`] when the document is malformed, or has no root `manifest` with a package name.
    pub fn parse(bytes: &[u8], limits: &Limits) -> Result<Manifest, ParseError> {
        Manifest::parse_with(bytes, &mut |_| BTreeMap::new(), limits)
    }

    /// The same, and looks up what it refers to, if it does.
    ///
    /// # Errors
    /// As [`Manifest::parse`].
    pub fn parse_with(
        bytes: &[u8],
        resources: &mut Resources<'_>,
        limits: &Limits,
    ) -> Result<Manifest, ParseError> {
        let mut elements = axml::parse(bytes, limits)?;
        let of_interest = |element: &&mut Element| {
            element.depth == 1 || matches!(element.name.as_str(), "uses-sdk" | "application")
        };
        let mut referring: Vec<&mut Value> = elements
            .iter_mut()
            .filter(|element| element.depth <= 2)
            .filter(of_interest)
            .flat_map(|element| &mut element.attributes)
            .filter(|attribute| attribute.id.map_or(attribute.name == "package", |id| READ.contains(&id)))
            .map(|attribute| &mut attribute.value)
            .filter(|value| matches!(value, Value::Reference(_)))
            // each is looked for in the whole table: a manifest has every attribute once
            .take(READ.len())
            .collect();
        let id = |value: &Value| if let Value::Reference(id) = value { Some(*id) } else { None };
        let ids: Vec<u32> = referring.iter().filter_map(|value| id(value)).collect();
        if !ids.is_empty() {
            let found = resources(&ids);
            for value in &mut referring {
                if let Some(known) = id(value).and_then(|id| found.get(&id)) {
                    **value = known.clone();
                }
            }
        }
        Manifest::of_elements(&elements)
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
        let asks = elements.iter().filter(|e| e.depth == 2 && PERMISSIONS.contains(&e.name.as_str()));
        let min_sdk = uses.and_then(|e| sdk(e, id::MIN_SDK)).unwrap_or(Sdk::Level(1));
        let target_sdk = uses.and_then(|e| sdk(e, id::TARGET_SDK)).unwrap_or_else(|| min_sdk.clone());
        Ok(Manifest {
            package: package.clone(),
            version_code: version_code(root),
            version_code_unknown: root.by_id(id::VERSION_CODE).is_some() && version_code(root).is_none(),
            version_name: text(root.by_id(id::VERSION_NAME)),
            max_sdk: uses.and_then(|e| number(e.by_id(id::MAX_SDK))),
            debuggable: application.is_some_and(|e| truth(e, id::DEBUGGABLE)),
            test_only: application.is_some_and(|e| truth(e, id::TEST_ONLY)),
            label: application.and_then(|e| text(e.by_id(id::LABEL))),
            permissions: asks.filter_map(|e| text(e.by_id(id::NAME))).collect(),
            split: text(root.by_name("split")),
            needs_splits: [Some(root), application].into_iter().flatten().any(|element| {
                truth(element, id::SPLIT_REQUIRED) || element.by_id(id::REQUIRED_SPLIT_TYPES).is_some()
            }),
            min_sdk,
            target_sdk,
        })
    }
}

fn version_code(root: &Element) -> Option<u64> {
    let low = u64::from(number(root.by_id(id::VERSION_CODE))?);
    let high = match root.by_id(id::VERSION_CODE_MAJOR) {
        None => 0,
        major => u64::from(number(major)?),
    };
    Some(high << 32 | low)
}

fn sdk(element: &Element, id: u32) -> Option<Sdk> {
    match element.by_id(id)? {
        Value::Number(level) => Some(Sdk::Level(*level)),
        Value::Text(text) => Some(text.parse().map_or_else(|_| Sdk::Codename(text.clone()), Sdk::Level)),
        _ => Some(Sdk::Codename("not known".into())),
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
