//! A build for iOS, as answers say it: the app and what is inside it, each with who signed it and its profile.

use std::collections::BTreeMap;

use jiff::Timestamp;
use ninekeys_core::digest::sha256_hex;
use ninekeys_core::ios::code::{Signature, SignedBy};
use ninekeys_core::ios::look::{IosLook, PartLook, signed};
use ninekeys_core::ios::package::{Bundle, Executable, Seal};
use ninekeys_core::keys::PublicKey;
use ninekeys_core::model::{Destination, Facts, Inventory};
use schemars::JsonSchema;
use serde::Serialize;

use super::check::{Holder, holder};
use crate::answers::CertificateSaid;

/// What only a build for iOS has.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct IosLines {
    /// The app, and then what is inside it, by path.
    pub bundles: Vec<BundleLine>,
    /// Libraries that are in a bundle and have none of their own.
    pub libraries: Vec<CodeLine>,
    /// How many executables were looked at.
    pub executables: usize,
    /// How many files were hashed.
    pub files: usize,
}

/// A bundle with code.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct BundleLine {
    /// Its path in the build.
    pub path: String,
    /// App, extension, watch app, framework.
    pub kind: &'static str,
    /// The path of the bundle that it is inside of.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub inside: Option<String>,
    /// Its bundle id.
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
    /// Its executable.
    pub code: CodeLine,
    /// Its profile.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub profile: Option<ProfileLine>,
    /// What it claims, each value as text.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub entitlements: BTreeMap<String, String>,
    /// What it asks people for, each with the reason that it gives.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub asks_for: BTreeMap<String, String>,
    /// How many of its files are sealed; nothing without a seal.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sealed: Option<usize>,
    /// Whether its seal and everything under it are as they were signed.
    pub intact: bool,
}

/// A file with code.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct CodeLine {
    /// Its path in the build.
    pub path: String,
    /// The processors that it is for.
    pub processors: Vec<String>,
    /// Who signed it.
    pub signed: SignedWord,
    /// The team that signed it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub team: Option<String>,
    /// The certificate that signed it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub certificate: Option<CertificateSaid>,
    /// The identity of the cabinet that has this certificate and its key.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub identity: Option<String>,
    /// When somebody else says that the signature was there.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub stamped: Option<StampedSaid>,
    /// Whether everything of its signature holds.
    pub holds: bool,
}

/// A time that somebody put to a signature.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct StampedSaid {
    /// When.
    pub at: Timestamp,
    /// The subject of who says so.
    pub authority: String,
}

/// Who signed code.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum SignedWord {
    /// Nobody, or it cannot be read.
    None,
    /// A linker, with hashes alone.
    ByLinker,
    /// Nobody in particular: hashes without a certificate.
    AdHoc,
    /// The holder of a certificate.
    ByCertificate,
}

/// A profile that lies in a bundle.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct ProfileLine {
    /// What it is called in the file.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    /// The profile of the cabinet that is this file.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub item: Option<String>,
    /// What builds with it are for.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub destination: Option<Destination>,
    /// Until when it is good.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub not_after: Option<Timestamp>,
    /// How many devices it allows; nothing where it has no list.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub devices: Option<usize>,
    /// Why it is not to be believed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub fault: Option<String>,
}

impl IosLines {
    pub(crate) fn of(look: &IosLook<'_>, inventory: Option<&Inventory>) -> Self {
        let build = look.build;
        let line = |bundle: &Bundle| {
            let inside = bundle.inside.and_then(|index| build.bundles.get(index));
            let part = look.parts.iter().find(|part| part.bundle.path == bundle.path);
            bundle_line(bundle, inside, part, inventory)
        };
        IosLines {
            bundles: build.bundles.iter().map(line).collect(),
            libraries: build.loose.iter().map(|one| code_line(one, inventory)).collect(),
            executables: build.executables().count(),
            files: build.files,
        }
    }
}

fn bundle_line(
    bundle: &Bundle,
    inside: Option<&Bundle>,
    part: Option<&PartLook<'_>>,
    inventory: Option<&Inventory>,
) -> BundleLine {
    let info = bundle.info.as_ref().ok();
    let claims = bundle.executable.signatures().find_map(|signed| signed.entitlements.as_ref());
    let (sealed, whole) = match &bundle.seal {
        Seal::Compared { flaws, files } => (Some(*files), flaws.files.is_empty()),
        Seal::None | Seal::Unreadable(_) => (None, false),
    };
    let code = code_line(&bundle.executable, inventory);
    BundleLine {
        path: bundle.path.clone(),
        kind: bundle.kind.word(),
        inside: inside.map(|bundle| bundle.path.clone()),
        bundle_id: bundle.id().to_owned(),
        title: info.and_then(|info| info.title.clone()),
        version: info.and_then(|info| info.version.clone()),
        number: info.and_then(|info| info.build.clone()),
        lowest: info.and_then(|info| info.lowest.clone()),
        sdk: info.and_then(|info| info.sdk.clone()),
        profile: part.and_then(|part| profile_line(part, inventory)),
        entitlements: claims
            .into_iter()
            .flatten()
            .map(|(key, value)| (key.clone(), value.to_string()))
            .collect(),
        asks_for: info.map(|info| info.asks_for.clone()).unwrap_or_default(),
        sealed,
        intact: whole && code.holds && bundle.parts.is_empty(),
        code,
    }
}

fn code_line(executable: &Executable, inventory: Option<&Inventory>) -> CodeLine {
    let slices = executable.slices();
    let word = slices.iter().map(|code| match &code.signature {
        Signature::None | Signature::Unreadable(_) => SignedWord::None,
        Signature::Found(signed) => match signed.by {
            SignedBy::Linker => SignedWord::ByLinker,
            SignedBy::AdHoc => SignedWord::AdHoc,
            SignedBy::Certificate(_) => SignedWord::ByCertificate,
        },
    });
    let signer = signed(executable).next();
    let certificate = signer.map(|(_, signer)| &signer.certificate);
    let identity = certificate.zip(inventory).and_then(|(certificate, inventory)| {
        let key = PublicKey::from_der(&certificate.public_key).ok()?.fingerprint();
        holder(inventory, &key, &sha256_hex(&certificate.der)).as_ref().and_then(Holder::of_both)
    });
    let sound = |signed: &ninekeys_core::ios::code::Signed| signed.faults.is_empty();
    let placed = slices.iter().all(|code| code.misplaced.is_empty());
    CodeLine {
        path: executable.path.clone(),
        processors: slices.iter().map(|code| code.slice.processor.to_string()).collect(),
        // the weakest of its slices
        signed: word.min_by_key(|word| *word as u8).unwrap_or(SignedWord::None),
        team: executable.signatures().find_map(|signed| signed.team.clone()),
        certificate: certificate.map(CertificateSaid::from),
        identity,
        stamped: signer
            .and_then(|(_, signer)| signer.stamped.as_ref())
            .map(|stamped| StampedSaid { at: stamped.at, authority: stamped.authority.subject.clone() }),
        holds: executable.is_signed() && placed && executable.signatures().all(sound),
    }
}

fn profile_line(part: &PartLook<'_>, inventory: Option<&Inventory>) -> Option<ProfileLine> {
    let bytes = part.bundle.profile.as_ref()?;
    let fingerprint = sha256_hex(bytes);
    let mut items = inventory.into_iter().flat_map(|inventory| inventory.iter());
    let item =
        items.find(|item| matches!(&item.facts, Facts::Profile(facts) if facts.fingerprint == fingerprint));
    let verified = part.verified();
    let profile = verified.map(|verified| &verified.profile);
    Some(ProfileLine {
        title: profile.map(|profile| profile.title.clone()),
        item: item.map(|item| item.name.clone()),
        destination: verified.map(|verified| verified.destination),
        not_after: profile.and_then(|profile| Timestamp::from_second(profile.not_after).ok()),
        devices: profile.and_then(|profile| profile.devices.as_ref()).map(Vec::len),
        fault: part.profile.as_ref().and_then(|profile| profile.as_ref().err()).map(ToString::to_string),
    })
}
