//! Info.plist: what a bundle of the iOS side says of itself. XML or binary; the bytes are sealed, so they are kept as they are
//! unless something in them is set.

use std::collections::BTreeMap;

use crate::cursor::{Fault, ParseError};
use crate::limits::Limits;
use crate::plist::{self as list, Dictionary, Value};

/// The key of the bundle id.
const ID: &str = "CFBundleIdentifier";
const VERSION: &str = "CFBundleShortVersionString";
const BUILD: &str = "CFBundleVersion";
const DISPLAY_NAME: &str = "CFBundleDisplayName";
/// What a bundle of a watch names its app by.
const COMPANION: &str = "WKCompanionAppBundleIdentifier";
const COMPANION_OF_EXTENSION: &str = "WKAppBundleIdentifier";

/// What an Info.plist says.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct InfoPlist {
    /// The bundle id.
    pub id: Option<String>,
    /// The name of its executable.
    pub executable: Option<String>,
    /// `APPL`, `FMWK`, `XPC!`, `BNDL`.
    pub kind: Option<String>,
    /// The version's name.
    pub version: Option<String>,
    /// The build number.
    pub build: Option<String>,
    /// What people see below its icon.
    pub title: Option<String>,
    /// The lowest system that it runs on.
    pub lowest: Option<String>,
    /// The version of the system's libraries that it was built with.
    pub sdk: Option<String>,
    /// What it was built for: devices or their simulator.
    pub platforms: Vec<String>,
    /// What an extension extends.
    pub extends: Option<String>,
    /// The app that a watch app belongs to.
    pub companion: Option<String>,
    /// What it asks people for, each with the reason that it gives.
    pub asks_for: BTreeMap<String, String>,
}

impl InfoPlist {
    /// Reads one.
    ///
    /// # Errors
    /// [`ParseError`] for what is no property list with a dictionary, or a name of an executable that is a path.
    pub fn parse(bytes: &[u8], limits: &Limits) -> Result<InfoPlist, ParseError> {
        let value = list::parse(bytes, limits)?;
        let all = value.as_dictionary().ok_or_else(|| fault("Info.plist"))?;
        let text = |key: &str| all.get(key).and_then(Value::as_string).map(str::to_owned);
        let executable = text("CFBundleExecutable").filter(|name| !name.is_empty());
        let is_path = |name: &String| name.contains('/') || name == "." || name == "..";
        if executable.as_ref().is_some_and(is_path) {
            return Err(fault("CFBundleExecutable"));
        }
        let platforms = all.get("CFBundleSupportedPlatforms").and_then(Value::as_array);
        let platforms = platforms.into_iter().flatten().filter_map(Value::as_string);
        let extension = all.get("NSExtension").and_then(Value::as_dictionary);
        let reason = |(key, value): (&String, &Value)| {
            let asks = key.ends_with("UsageDescription");
            asks.then(|| Some((key.clone(), value.as_string()?.to_owned()))).flatten()
        };
        Ok(InfoPlist {
            id: text(ID),
            executable,
            kind: text("CFBundlePackageType"),
            version: text(VERSION),
            build: text(BUILD),
            title: text(DISPLAY_NAME).or_else(|| text("CFBundleName")),
            lowest: text("MinimumOSVersion"),
            sdk: text("DTSDKName"),
            platforms: platforms.map(str::to_owned).collect(),
            extends: extension
                .and_then(|all| all.get("NSExtensionPointIdentifier"))
                .and_then(Value::as_string)
                .map(str::to_owned),
            companion: text(COMPANION),
            asks_for: all.iter().filter_map(reason).collect(),
        })
    }
}

fn fault(what: &'static str) -> ParseError {
    ParseError { what, at: 0, fault: Fault::Malformed }
}

/// What is set in an Info.plist.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Changes {
    /// The bundle id that begins all ids of the app, and what takes its place.
    pub id: Option<(String, String)>,
    /// What people see below its icon.
    pub title: Option<String>,
    /// The version's name.
    pub version: Option<String>,
    /// The build number.
    pub build: Option<String>,
}

impl Changes {
    /// Whether nothing is set.
    pub fn is_empty(&self) -> bool {
        *self == Changes::default()
    }

    /// An id of the app or of what is inside it, as it will be.
    pub fn id_of(&self, id: &str) -> String {
        let Some((old, new)) = &self.id else { return id.to_owned() };
        match id.strip_prefix(old.as_str()) {
            Some("") => new.clone(),
            Some(rest) if rest.starts_with('.') => format!("{new}{rest}"),
            _ => id.to_owned(),
        }
    }

    /// The bytes with these values set, in the form that they had. `is_app` tells the app itself, which alone has a name that
    /// people see.
    ///
    /// # Errors
    /// [`ParseError`] for what is no Info.plist.
    pub fn apply(&self, bytes: &[u8], is_app: bool, limits: &Limits) -> Result<Vec<u8>, ParseError> {
        let mut value = list::parse(bytes, limits)?;
        let all = value.as_dictionary_mut().ok_or_else(|| fault("Info.plist"))?;
        for key in [ID, COMPANION, COMPANION_OF_EXTENSION] {
            rename(all, key, |id| self.id_of(id));
        }
        let title = self.title.as_ref().filter(|_| is_app);
        for (key, set) in
            [(VERSION, self.version.as_ref()), (BUILD, self.build.as_ref()), (DISPLAY_NAME, title)]
        {
            if let Some(set) = set {
                all.insert(key.to_owned(), Value::String(set.clone()));
            }
        }
        list::written_like(bytes, &value)
    }
}

fn rename(all: &mut Dictionary, key: &str, to: impl Fn(&str) -> String) {
    if let Some(Value::String(text)) = all.get_mut(key) {
        *text = to(text);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const XML: &[u8] = b"<?xml version=\"1.0\"?><plist version=\"1.0\"><dict>\
        <key>CFBundleIdentifier</key><string>example.gannetpoint.crossing</string>\
        <key>CFBundleExecutable</key><string>Crossing</string>\
        <key>CFBundleName</key><string>Crossing</string>\
        <key>CFBundleVersion</key><string>6.0</string>\
        <key>NSCameraUsageDescription</key><string>to read tickets</string>\
        <key>CFBundleSupportedPlatforms</key><array><string>iPhoneOS</string></array></dict></plist>";

    #[test]
    fn what_it_says_is_read_and_what_is_set_is_read_back_in_either_form() {
        let value = list::parse(XML, &Limits::SMALL).unwrap();
        let binary = list::written_like(b"bplist00", &value).unwrap();
        let changes = Changes {
            id: Some(("example.gannetpoint.crossing".into(), "example.gannetpoint.ferry".into())),
            title: Some("Ferry".into()),
            version: None,
            build: Some("42".into()),
        };
        for bytes in [XML, &binary] {
            let found = InfoPlist::parse(bytes, &Limits::SMALL).unwrap();
            assert_eq!(found.title.as_deref(), Some("Crossing"));
            assert_eq!(found.asks_for["NSCameraUsageDescription"], "to read tickets");
            let changed = changes.apply(bytes, true, &Limits::SMALL).unwrap();
            assert_eq!(changed.starts_with(b"bplist00"), bytes.starts_with(b"bplist00"));
            let found = InfoPlist::parse(&changed, &Limits::SMALL).unwrap();
            assert_eq!(found.id.as_deref(), Some("example.gannetpoint.ferry"));
            assert_eq!((found.title.as_deref(), found.build.as_deref()), (Some("Ferry"), Some("42")));
        }
    }

    #[test]
    fn ids_inside_follow_the_app_and_strangers_do_not() {
        let changes = Changes { id: Some(("a.b".into(), "c.d".into())), ..Changes::default() };
        for (id, then) in [("a.b", "c.d"), ("a.b.share", "c.d.share"), ("a.bc", "a.bc"), ("x", "x")] {
            assert_eq!(changes.id_of(id), then);
        }
    }

    #[test]
    fn an_executable_that_is_a_path_is_refused() {
        let text =
            String::from_utf8_lossy(XML).replace("<string>Crossing</string>", "<string>../Crossing</string>");
        assert_eq!(InfoPlist::parse(text.as_bytes(), &Limits::SMALL).unwrap_err().what, "CFBundleExecutable");
    }
}
