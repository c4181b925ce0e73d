//! What of an item is public. Facts are stored in clear and bound to the item's sealed part by their digest.
//!
//! A private key is one item; each certificate over it is another that names the key; a keystore and an
//! identity name both. So one key may carry many certificates and serve several apps, and nothing is said
//! twice. Times are UTC, fingerprints SHA-256 in lower-case hexadecimal, binary values hexadecimal.

use std::collections::BTreeMap;
use std::fmt;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::de::value::MapAccessDeserializer;
use serde::de::{Error as _, MapAccess, Visitor};
use serde::{Deserialize, Deserializer, Serialize};

use super::abridged::Fields;
use super::seen::Seen;
use super::{
    ApiUse, BuildNumber, DateFacts, Destination, DeviceFacts, HandOutFacts, IdentityFacts, ItemId, NineKey,
    Platform, ProfileFacts, RotationFacts, moment,
};

/// The facts of an item, by kind. What is large stands apart: a cabinet may hold 100,000 of them.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Facts {
    /// A private key.
    Key(KeyFacts),
    /// A certificate.
    Certificate(Box<CertificateFacts>),
    /// A keystore.
    Keystore(KeystoreFacts),
    /// An identity.
    Identity(Box<IdentityFacts>),
    /// A provisioning profile.
    Profile(Box<ProfileFacts>),
    /// A store API key or a service key.
    ApiKey(Box<ApiKeyFacts>),
    /// A registered device.
    Device(DeviceFacts),
    /// A signed build in the ledger.
    Release(Box<ReleaseFacts>),
    /// What somebody was given.
    HandOut(Box<HandOutFacts>),
    /// Material that is replaced step by step.
    Rotation(Box<RotationFacts>),
    /// A date that belongs to no key.
    Date(Box<DateFacts>),
}

/// The kinds, as they are written.
#[derive(Clone, Copy, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(super) enum Kind {
    Key,
    Certificate,
    Keystore,
    Identity,
    Profile,
    ApiKey,
    Device,
    Release,
    HandOut,
    Rotation,
    Date,
}

/// The name that the kind stands under.
#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Tag {
    Kind,
}

/// Reads what is written with the kind first, as it always is, straight into place: what stands anywhere would have to be
/// kept aside until the kind is known.
impl<'de> Deserialize<'de> for Facts {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        deserializer.deserialize_map(KindFirst(|_| &[]))
    }
}

/// The same, with the fields of each kind that are passed over.
pub(super) struct KindFirst(pub(super) fn(Kind) -> &'static [&'static str]);

impl<'de> Visitor<'de> for KindFirst {
    type Value = Facts;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("facts that say their kind first")
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Facts, A::Error> {
        let Some(Tag::Kind) = map.next_key()? else {
            return Err(A::Error::missing_field("kind"));
        };
        let kind = map.next_value()?;
        let rest = MapAccessDeserializer::new(Fields::without(self.0(kind), map));
        Ok(match kind {
            Kind::Key => Facts::Key(Deserialize::deserialize(rest)?),
            Kind::Certificate => Facts::Certificate(Deserialize::deserialize(rest)?),
            Kind::Keystore => Facts::Keystore(Deserialize::deserialize(rest)?),
            Kind::Identity => Facts::Identity(Deserialize::deserialize(rest)?),
            Kind::Profile => Facts::Profile(Deserialize::deserialize(rest)?),
            Kind::ApiKey => Facts::ApiKey(Deserialize::deserialize(rest)?),
            Kind::Device => Facts::Device(Deserialize::deserialize(rest)?),
            Kind::Release => Facts::Release(Deserialize::deserialize(rest)?),
            Kind::HandOut => Facts::HandOut(Deserialize::deserialize(rest)?),
            Kind::Rotation => Facts::Rotation(Deserialize::deserialize(rest)?),
            Kind::Date => Facts::Date(Deserialize::deserialize(rest)?),
        })
    }
}

impl Facts {
    /// The word for the kind.
    pub fn word(&self) -> &'static str {
        match self {
            Facts::Key(_) => "key",
            Facts::Certificate(_) => "certificate",
            Facts::Keystore(_) => "keystore",
            Facts::Identity(_) => "identity",
            Facts::Profile(_) => "profile",
            Facts::ApiKey(_) => "API key",
            Facts::Device(_) => "device",
            Facts::Release(_) => "release",
            Facts::HandOut(_) => "hand-out",
            Facts::Rotation(_) => "rotation",
            Facts::Date(_) => "date",
        }
    }

    /// The word with its article: "an identity".
    pub fn one(&self) -> String {
        let word = self.word();
        let article = if word.starts_with(['a', 'A', 'e', 'i', 'o', 'u']) { "an" } else { "a" };
        format!("{article} {word}")
    }

    /// Its place among the nine, for what has one by itself: a key is one of them by what it is in.
    pub fn nine_key(&self) -> Option<NineKey> {
        match self {
            Facts::Identity(identity) => Some(identity.purpose.nine_key()),
            Facts::Profile(_) => Some(NineKey::Profile),
            Facts::ApiKey(key) => Some(key.service.nine_key()),
            Facts::Key(_)
            | Facts::Certificate(_)
            | Facts::Keystore(_)
            | Facts::Device(_)
            | Facts::Release(_)
            | Facts::HandOut(_)
            | Facts::Rotation(_)
            | Facts::Date(_) => None,
        }
    }

    /// The items that these facts name.
    pub fn links(&self) -> Vec<&ItemId> {
        match self {
            Facts::Key(_) | Facts::Device(_) | Facts::Date(_) => Vec::new(),
            Facts::Certificate(c) => c.key.iter().collect(),
            Facts::Keystore(k) => k.entries.iter().flat_map(KeystoreEntry::links).collect(),
            Facts::Identity(i) => i.key.iter().chain(&i.certificate).collect(),
            Facts::Profile(p) => p.certificates.iter().chain(&p.devices).collect(),
            Facts::ApiKey(a) => a.key.iter().collect(),
            Facts::Release(r) => r.certificate.iter().chain(&r.profiles).collect(),
            Facts::HandOut(h) => h.given.iter().map(|one| &one.item).collect(),
            Facts::Rotation(r) => r.items.values().collect(),
        }
    }
}

/// A private key; its sealed part is PKCS#8.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct KeyFacts {
    /// Kind and size, for people.
    pub algorithm: String,
    /// SubjectPublicKeyInfo.
    pub public_key: String,
    /// SHA-256 over the SubjectPublicKeyInfo: what makes it the same key under any name.
    pub fingerprint: String,
}

/// A certificate; its sealed part is empty.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct CertificateFacts {
    /// The key it is for; nothing where the cabinet does not hold it, as with those of an authority.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<ItemId>,
    /// All of it, DER.
    pub der: String,
    /// SHA-256 over the DER.
    pub fingerprint: String,
    /// RFC 4514.
    pub subject: String,
    /// RFC 4514.
    pub issuer: String,
    /// Serial number.
    pub serial: String,
    /// First second of its validity.
    #[serde(deserialize_with = "moment::read")]
    pub not_before: Timestamp,
    /// Last second of its validity.
    #[serde(deserialize_with = "moment::read")]
    pub not_after: Timestamp,
}

/// What a key of a keystore is called: by the keystore alone where both have one name.
pub fn key_called(keystore: &str, alias: &str) -> String {
    if keystore == alias { keystore.into() } else { format!("{keystore} ({alias})") }
}

/// Which of the two Android keys an entry of a keystore is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Role {
    /// The app's identity on devices.
    Signing,
    /// Proves who uploads.
    Upload,
}

impl Role {
    /// The other of the two.
    pub fn other(self) -> Role {
        match self {
            Role::Signing => Role::Upload,
            Role::Upload => Role::Signing,
        }
    }

    /// Its place among the nine.
    pub fn nine_key(self) -> NineKey {
        match self {
            Role::Signing => NineKey::Signing,
            Role::Upload => NineKey::Upload,
        }
    }
}

/// A named group of keys; its sealed part holds the passwords.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct KeystoreFacts {
    /// The keys, in the order in which they were added.
    pub entries: Vec<KeystoreEntry>,
    /// Whether a chosen password was found easy to guess when it was set.
    pub weak_password: bool,
    /// Whether the password came in with a file, so that others may know it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub foreign_password: bool,
}

/// A key in a keystore.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(from = "WrittenEntry")]
pub struct KeystoreEntry {
    /// Its name in exported keystores; compared without case.
    pub alias: String,
    /// What it was made as: what it is for an app when nothing else is said.
    pub role: Role,
    /// The private key.
    pub key: ItemId,
    /// The certificate that goes with it here.
    pub certificate: ItemId,
    /// What it is for: one key may sign one app and upload another, or do both for one.
    pub uses: Vec<Use>,
    /// How it took over from another signing key.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub after: Option<Box<TookOver>>,
}

/// How a signing key took over from another: the proof that devices go by, and the key of those that know no proof.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct TookOver {
    /// The proof of rotation, which ends with this key's certificate.
    pub lineage: String,
    /// The first key of it: it goes on signing for devices that know no proof.
    pub oldest: ItemId,
    /// That key's certificate.
    pub oldest_certificate: ItemId,
    /// The platform level from which on the new key counts; nothing for every device that reads a proof.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from_sdk: Option<u32>,
}

/// What a key is for an app.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
pub struct Use {
    /// The app's name.
    pub app: String,
    /// Signing or upload.
    pub role: Role,
}

/// An entry as it is written, in older rows too: there one role was for all apps.
#[derive(Deserialize, JsonSchema)]
struct WrittenEntry {
    alias: String,
    role: Role,
    key: ItemId,
    certificate: ItemId,
    #[serde(default)]
    apps: Vec<String>,
    #[serde(default)]
    uses: Vec<Use>,
    #[serde(default)]
    after: Option<Box<TookOver>>,
}

impl From<WrittenEntry> for KeystoreEntry {
    fn from(written: WrittenEntry) -> Self {
        let WrittenEntry { alias, role, key, certificate, apps, mut uses, after } = written;
        uses.extend(apps.into_iter().map(|app| Use { app, role }));
        KeystoreEntry { alias, role, key, certificate, uses, after }
    }
}

impl KeystoreEntry {
    /// The items that it names: its own key and certificate, and those of the key that it took over from.
    pub fn links(&self) -> impl Iterator<Item = &ItemId> {
        let before = self.after.iter().flat_map(|after| [&after.oldest, &after.oldest_certificate]);
        [&self.key, &self.certificate].into_iter().chain(before)
    }

    /// The apps that it is for, each once, in the order in which they were named.
    pub fn apps(&self) -> Vec<&str> {
        let mut out: Vec<&str> = Vec::new();
        for one in &self.uses {
            if !out.contains(&one.app.as_str()) {
                out.push(&one.app);
            }
        }
        out
    }

    /// The apps that it is for in that role.
    pub fn apps_as(&self, role: Role) -> Vec<&str> {
        self.uses.iter().filter(|one| one.role == role).map(|one| one.app.as_str()).collect()
    }

    /// Whether it is for that app, in that role.
    pub fn is_for(&self, app: &str, role: Role) -> bool {
        self.uses.iter().any(|one| one.app == app && one.role == role)
    }

    /// The roles that it has: those of its uses, and without any the one it was made as.
    pub fn roles(&self) -> Vec<Role> {
        let has = |role: &Role| self.uses.iter().any(|one| one.role == *role);
        let used: Vec<Role> = [Role::Signing, Role::Upload].into_iter().filter(has).collect();
        if used.is_empty() { vec![self.role] } else { used }
    }
}

/// Which service an API key is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Service {
    /// Key 7: the iOS side's store.
    Store,
    /// Key 8: a service account of the Android side's store.
    Account,
}

impl Service {
    /// Its place among the nine.
    pub fn nine_key(self) -> NineKey {
        match self {
            Service::Store => NineKey::StoreApi,
            Service::Account => NineKey::Service,
        }
    }
}

/// A key that makes tokens; its private key is an item of its own.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ApiKeyFacts {
    /// Which of the two.
    pub service: Service,
    /// The key id that tokens name.
    pub key_id: String,
    /// The issuer id or account that tokens name.
    pub issuer: String,
    /// What it may do.
    pub role: String,
    /// What it is used for; several are several services with one key.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub uses: Vec<ApiUse>,
    /// Whom its tokens are for, where the key's file says it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub audience: Option<String>,
    /// The number by which sales reports know the account.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub vendor_number: Option<String>,
    /// The store that it is for, by its name in the project file; the one that stands with the portal when there is none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub store: Option<String>,
    /// The label of an account's upload password, which is the sealed part then; the issuer is the account.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub label: Option<String>,
    /// Who was asked to grant it, while it is waited for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub asked_of: Option<String>,
    /// The private key; none for a labelled upload password, and for what is waited for.
    pub key: Option<ItemId>,
    /// Names of the apps it is for; empty for all.
    pub apps: Vec<String>,
}

/// A signed build, as the ledger keeps it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ReleaseFacts {
    /// The app's name in the project file.
    pub app: String,
    /// What it is made for.
    #[serde(default = "android")]
    pub platform: Platform,
    /// Package or bundle id.
    pub id: String,
    /// The version's name.
    pub version: String,
    /// The version code or build number.
    #[serde(alias = "code")]
    pub number: BuildNumber,
    /// What it was signed for.
    pub destination: Destination,
    /// Which store, by its name in the project file; the one that stands with the portal when there is none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub store: Option<String>,
    /// The file's name, without its folder.
    pub file: String,
    /// The file's size in bytes.
    pub size: u64,
    /// The content digest that its signature covers: the same bytes have the same.
    pub content: String,
    /// Name of the keystore or identity it was signed with.
    pub signed_with: String,
    /// Fingerprint of the signer's public key.
    pub signer: String,
    /// Fingerprint of the signer's certificate, which is what devices know an app by; empty in rows of versions that did
    /// not keep it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub signer_certificate: String,
    /// The certificate item, where the cabinet holds it.
    pub certificate: Option<ItemId>,
    /// The profiles in it, on iOS: the app's, and those of its extensions.
    #[serde(default, alias = "profile", deserialize_with = "one_or_several")]
    pub profiles: Vec<ItemId>,
    /// The signature schemes, in order.
    pub schemes: Vec<String>,
    /// When.
    #[serde(deserialize_with = "moment::read")]
    pub signed: Timestamp,
    /// Which member unlocked the cabinet for it.
    pub by: String,
    /// The part of a package that it is; nothing for a whole one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub split: Option<String>,
    /// SHA-256 over the file that it took the place of.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub replaces: Option<String>,
    /// SHA-256 over the file; empty in rows of versions that did not keep it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub sha256: String,
    /// What stands at the file's top level, with its size in bytes, compressed.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub folders: BTreeMap<String, u64>,
    /// What people and devices see of it; nothing in rows of versions that did not keep it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seen: Option<Box<Seen>>,
    /// When the store had all of it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub uploaded: Option<Timestamp>,
    /// When the store gave it to testers.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub testing: Option<Timestamp>,
    /// When the store was asked to give it to everyone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub everyone: Option<Timestamp>,
    /// When it was handed on in a folder.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub handed_on: Option<Timestamp>,
}

/// What every build of a row without a platform is made for.
fn android() -> Platform {
    Platform::Android
}

/// A list, or the one or none that older rows have.
fn one_or_several<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Vec<ItemId>, D::Error> {
    #[derive(Deserialize)]
    #[serde(untagged)]
    enum Written {
        Several(Vec<ItemId>),
        One(Option<ItemId>),
    }
    Ok(match Written::deserialize(deserializer)? {
        Written::Several(all) => all,
        Written::One(one) => one.into_iter().collect(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_large_stands_apart() {
        // a cabinet of 100,000 items is looked at within 128 MiB
        assert!(size_of::<Facts>() <= 80, "{}", size_of::<Facts>());
    }

    #[test]
    fn every_kind_is_read_as_it_is_written_and_the_kind_comes_first() {
        let texts = [
            r#"{"kind":"key","algorithm":"EC P-256","public_key":"00","fingerprint":"01"}"#,
            r#"{"kind":"keystore","entries":[],"weak_password":false}"#,
            r#"{"kind":"keystore","entries":[],"weak_password":true,"foreign_password":true}"#,
            r#"{"kind":"identity","purpose":{"push":"sandbox"},"key":"00000000000000000000000000000000","certificate":"00000000000000000000000000000001","team":"GPFERRY009","apps":[]}"#,
            r#"{"kind":"api-key","service":"store","key_id":"K","issuer":"I","role":"app manager","key":null,"apps":["crossing"]}"#,
            r#"{"kind":"device","identifier":"x","title":"quay"}"#,
            r#"{"kind":"hand-out","receiver":"Island Builds","app":"crossing","destination":"store","given":[{"item":"00000000000000000000000000000000","name":"distribution-2027","file":"identity.p12"}],"at":"2030-01-01T00:00:00Z","by":"M"}"#,
            r#"{"kind":"identity","purpose":"distribution","apps":[],"request":"30","held_by":"the build service"}"#,
            r#"{"kind":"certificate","key":"00000000000000000000000000000000","der":"30","fingerprint":"02","subject":"CN=a","issuer":"CN=a","serial":"1","not_before":"2030-01-01T00:00:00Z","not_after":"2060-01-01T00:00:00Z"}"#,
        ];
        for text in texts {
            let facts: Facts = serde_json::from_str(text).unwrap();
            assert_eq!(serde_json::to_string(&facts).unwrap(), text);
        }
        for wrong in [
            r#"{"identifier":"x","title":"quay","kind":"device"}"#,
            r#"{"kind":"pier","title":"quay"}"#,
            r#"{"kind":"device","title":"quay"}"#,
            r#"{"kind":"device","identifier":"x","identifier":"y","title":"quay"}"#,
            "{}",
        ] {
            assert!(serde_json::from_str::<Facts>(wrong).is_err(), "{wrong}");
        }
    }
}
