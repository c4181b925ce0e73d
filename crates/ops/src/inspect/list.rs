//! Property lists of the iOS side: what an app claims, and what a bundle says of itself.

use std::collections::BTreeMap;

use ninekeys_formats::entitlements;
use ninekeys_formats::info_plist::InfoPlist;
use ninekeys_formats::limits::Limits;
use schemars::JsonSchema;
use serde::Serialize;

use super::Content;

/// What binary property lists begin with.
const BINARY: &[u8] = b"bplist00";

/// What an app claims.
#[derive(Debug, Serialize, JsonSchema)]
pub struct EntitlementsContent {
    /// How it is written: a property list in XML or binary, or DER.
    pub encoding: &'static str,
    /// Each entitlement, its value as text.
    pub entitlements: BTreeMap<String, String>,
}

/// What a bundle says of itself.
#[derive(Debug, Serialize, JsonSchema)]
pub struct InfoContent {
    /// How it is written: in XML or binary.
    pub encoding: &'static str,
    /// The bundle id.
    pub bundle_id: String,
    /// What people see below its icon.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    /// The version's name.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub version: Option<String>,
    /// The build number, as it stands there.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub number: Option<String>,
    /// The lowest system that it runs on.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub lowest: Option<String>,
    /// The system's libraries that it was built with.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sdk: Option<String>,
    /// The name of its executable.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub executable: Option<String>,
    /// What it asks people for, each with the reason that it gives.
    pub asks_for: BTreeMap<String, String>,
}

/// What it is, if it is one of these.
pub(super) fn read(bytes: &[u8]) -> Option<Content> {
    let text = bytes.strip_prefix(b"\xef\xbb\xbf").unwrap_or(bytes).trim_ascii_start();
    let encoding = match () {
        () if bytes.starts_with(BINARY) => "binary",
        () if [&b"<?xml"[..], b"<!DOCTYPE plist", b"<plist"].iter().any(|start| text.starts_with(start)) => {
            "XML"
        }
        () => {
            let claims = entitlements::parse_der(bytes, &Limits::USUAL).ok()?;
            return Some(told("DER", &claims));
        }
    };
    match InfoPlist::parse(bytes, &Limits::USUAL) {
        Ok(InfoPlist {
            id: Some(bundle_id),
            title,
            version,
            build,
            lowest,
            sdk,
            executable,
            asks_for,
            ..
        }) => Some(Content::Info(Box::new(InfoContent {
            encoding,
            bundle_id,
            title,
            version,
            number: build,
            lowest,
            sdk,
            executable,
            asks_for,
        }))),
        _ => Some(told(encoding, &entitlements::parse(bytes, &Limits::USUAL).ok()?)),
    }
}

fn told(encoding: &'static str, claims: &BTreeMap<String, entitlements::Entitlement>) -> Content {
    let all = claims.iter().map(|(key, value)| (key.clone(), value.to_string()));
    Content::Entitlements(EntitlementsContent { encoding, entitlements: all.collect() })
}
