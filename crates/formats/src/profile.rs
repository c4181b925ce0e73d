//! Provisioning profiles: the property list that a signed message holds. Whether the signature holds is another matter.

use std::collections::BTreeMap;

use crate::cursor::{Fault, ParseError};
use crate::entitlements::{self, Entitlement};
use crate::limits::Limits;
use crate::plist::{self as list, Date, Dictionary, Value};

/// What a profile says. Times are seconds since 1970 (UTC).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Profile {
    /// Identifies it among all others, and names its file on a device.
    pub uuid: String,
    /// What people call it.
    pub title: String,
    /// The teams that it was issued to.
    pub teams: Vec<String>,
    /// What stands before the bundle id in an app id: mostly the team.
    pub prefixes: Vec<String>,
    /// The most that an app may claim.
    pub entitlements: BTreeMap<String, Entitlement>,
    /// The certificates that may sign, DER.
    pub certificates: Vec<Vec<u8>>,
    /// First second of its validity.
    pub not_before: i64,
    /// Last second of its validity.
    pub not_after: i64,
    /// The devices that it allows; nothing where it has no list.
    pub devices: Option<Vec<String>>,
    /// Whether it allows every device.
    pub all_devices: bool,
    /// The platforms that it is for.
    pub platforms: Vec<String>,
}

impl Profile {
    /// Reads the property list out of a profile's message. Keys that are not known are passed over.
    ///
    /// # Errors
    /// [`ParseError`] that names the key that is missing or of another kind.
    pub fn parse(bytes: &[u8], limits: &Limits) -> Result<Profile, ParseError> {
        let value = list::parse(bytes, limits)?;
        let all = value.as_dictionary().ok_or_else(|| fault("profile"))?;
        let named = all.get("Entitlements").and_then(Value::as_dictionary);
        let certificates = all.get("DeveloperCertificates").and_then(Value::as_array);
        let certificates = certificates.ok_or_else(|| fault("profile's DeveloperCertificates"))?.iter();
        let certificates: Option<Vec<Vec<u8>>> =
            certificates.map(|one| one.as_data().map(<[u8]>::to_vec)).collect();
        Ok(Profile {
            uuid: text(all, "UUID", "profile's UUID")?,
            title: text(all, "Name", "profile's Name")?,
            teams: texts(all, "TeamIdentifier")?
                .filter(|teams| !teams.is_empty())
                .ok_or_else(|| fault("profile's TeamIdentifier"))?,
            prefixes: texts(all, "ApplicationIdentifierPrefix")?.unwrap_or_default(),
            entitlements: named.and_then(entitlements::map).ok_or_else(|| fault("profile's Entitlements"))?,
            certificates: certificates.ok_or_else(|| fault("profile's DeveloperCertificates"))?,
            not_before: time(all, "CreationDate", "profile's CreationDate")?,
            not_after: time(all, "ExpirationDate", "profile's ExpirationDate")?,
            devices: texts(all, "ProvisionedDevices")?,
            all_devices: matches!(all.get("ProvisionsAllDevices"), Some(Value::Boolean(true))),
            platforms: texts(all, "Platform")?.unwrap_or_default(),
        })
    }

    /// The app id that it is for, with its prefix; it may end in a wildcard.
    pub fn app_id(&self) -> Option<&str> {
        self.entitlements.get("application-identifier").and_then(Entitlement::text)
    }
}

fn fault(what: &'static str) -> ParseError {
    ParseError { what, at: 0, fault: Fault::Malformed }
}

fn text(all: &Dictionary, key: &str, what: &'static str) -> Result<String, ParseError> {
    let found = all.get(key).and_then(Value::as_string).filter(|text| !text.is_empty());
    found.map(str::to_owned).ok_or_else(|| fault(what))
}

/// A list of texts; nothing where the key is not there.
fn texts(all: &Dictionary, key: &str) -> Result<Option<Vec<String>>, ParseError> {
    let Some(found) = all.get(key) else { return Ok(None) };
    let list = found.as_array().ok_or_else(|| fault("list in a profile"))?;
    let texts: Option<Vec<String>> = list.iter().map(|one| one.as_string().map(str::to_owned)).collect();
    texts.map(Some).ok_or_else(|| fault("list in a profile"))
}

fn time(all: &Dictionary, key: &str, what: &'static str) -> Result<i64, ParseError> {
    let found = all.get(key).and_then(Value::as_date).map(Date::unix);
    found.filter(|at| *at >= 0).ok_or_else(|| fault(what))
}

/// The property list of a profile, as its issuer writes it.
///
/// # Errors
/// [`ParseError`] when it cannot be written.
pub fn write(profile: &Profile) -> Result<Vec<u8>, ParseError> {
    let strings = |all: &[String]| Value::Array(all.iter().cloned().map(Value::String).collect());
    let date = |seconds: i64, what: &'static str| {
        let date = Date::of_unix(seconds).filter(|_| seconds >= 0);
        date.map(Value::Date).ok_or_else(|| fault(what))
    };
    let mut all = Dictionary::new();
    let mut put = |key: &str, value: Value| all.insert(key.into(), value);
    put("ApplicationIdentifierPrefix", strings(&profile.prefixes));
    put("CreationDate", date(profile.not_before, "profile's CreationDate")?);
    put(
        "DeveloperCertificates",
        Value::Array(profile.certificates.iter().cloned().map(Value::Data).collect()),
    );
    let entitlements = profile.entitlements.iter().map(|(key, value)| (key.clone(), plain(value)));
    put("Entitlements", Value::Dictionary(entitlements.collect()));
    put("ExpirationDate", date(profile.not_after, "profile's ExpirationDate")?);
    put("Name", Value::String(profile.title.clone()));
    put("Platform", strings(&profile.platforms));
    if let Some(devices) = &profile.devices {
        put("ProvisionedDevices", strings(devices));
    }
    if profile.all_devices {
        put("ProvisionsAllDevices", Value::Boolean(true));
    }
    put("TeamIdentifier", strings(&profile.teams));
    put("TimeToLive", Value::Integer(((profile.not_after - profile.not_before) / 86_400).into()));
    put("UUID", Value::String(profile.uuid.clone()));
    put("Version", Value::Integer(1.into()));
    list::to_xml(&Value::Dictionary(all))
}

fn plain(value: &Entitlement) -> Value {
    match value {
        Entitlement::Flag(flag) => Value::Boolean(*flag),
        Entitlement::Number(number) => Value::Integer((*number).into()),
        Entitlement::Text(text) => Value::String(text.clone()),
        Entitlement::List(all) => Value::Array(all.iter().map(plain).collect()),
        Entitlement::Map(all) => {
            Value::Dictionary(all.iter().map(|(key, value)| (key.clone(), plain(value))).collect())
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn profile() -> Profile {
        let text = |text: &str| Entitlement::Text(text.into());
        let entitlements = [
            ("application-identifier", text("GPFERRY009.example.gannetpoint.deckhand")),
            ("get-task-allow", Entitlement::Flag(false)),
            ("keychain-access-groups", Entitlement::List(vec![text("GPFERRY009.*")])),
        ];
        Profile {
            uuid: "6b1f0c1e-7a35-4c50-9d6e-3f2a1b0c9d01".into(),
            title: "Deckhand devices 2031".into(),
            teams: vec!["GPFERRY009".into()],
            prefixes: vec!["GPFERRY009".into()],
            entitlements: entitlements.map(|(key, value)| (key.to_owned(), value)).into(),
            certificates: vec![vec![0x30, 0x00]],
            not_before: 1_937_044_800,
            not_after: 1_968_580_800,
            devices: Some(vec!["00008030-001122334455667E".into()]),
            all_devices: false,
            platforms: vec!["iOS".into()],
        }
    }

    #[test]
    fn what_is_written_is_read_back() {
        let bytes = write(&profile()).unwrap();
        assert_eq!(Profile::parse(&bytes, &Limits::SMALL), Ok(profile()));
        let everywhere = Profile { devices: None, all_devices: true, ..profile() };
        assert_eq!(Profile::parse(&write(&everywhere).unwrap(), &Limits::SMALL), Ok(everywhere));
    }

    #[test]
    fn the_key_that_is_missing_is_named() {
        let text = String::from_utf8(write(&profile()).unwrap()).unwrap();
        for key in
            ["UUID", "Name", "TeamIdentifier", "Entitlements", "DeveloperCertificates", "ExpirationDate"]
        {
            let without = text.replace(&format!("<key>{key}</key>"), "<key>Other</key>");
            let error = Profile::parse(without.as_bytes(), &Limits::SMALL).unwrap_err();
            assert!(error.what.ends_with(key), "{key}: {error}");
        }
        let strange = text.replace("<false/>", "<real>1.5</real>");
        assert!(Profile::parse(strange.as_bytes(), &Limits::SMALL).is_err());
    }
}
