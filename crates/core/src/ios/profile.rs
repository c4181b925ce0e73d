//! Provisioning profiles: opened, their signature verified, and held against apps.

use jiff::Timestamp;
use ninekeys_formats::cms;
use ninekeys_formats::cursor::ParseError;
use ninekeys_formats::entitlements::Entitlement;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::profile::Profile;
use ninekeys_formats::x509::Certificate;
use thiserror::Error;

use super::certificate::{self, CODE_SIGNING};
use crate::chain::{Chain, NoRoot};
use crate::model::Destination;
use crate::signed::{self, SignerFault};

/// The entitlement that names the app, with the team's prefix.
pub const APPLICATION: &str = "application-identifier";
/// The one that names the team.
pub const TEAM: &str = "com.apple.developer.team-identifier";
/// The one that lists groups of the keychain.
pub const KEYCHAIN: &str = "keychain-access-groups";
/// The one that lets testers be given a build of the store.
pub const BETA: &str = "beta-reports-active";
/// The one that lets a debugger attach.
pub const DEBUG: &str = "get-task-allow";
/// The one that says which servers' notifications are taken.
pub const PUSH: &str = "aps-environment";

/// Why a file is no profile that could be believed.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum ProfileError {
    /// It is no signed message, or what is in it is no profile.
    #[error("it cannot be read as a provisioning profile: {0}")]
    Unreadable(#[from] ParseError),
    /// A signed message without a content.
    #[error("it is a signature without the profile that it is over")]
    Empty,
    /// Several signed it, or nobody.
    #[error("{0} signed it, and a profile has one signer")]
    Signers(usize),
    /// The signature does not hold.
    #[error("its signature does not hold: {0}")]
    Signature(#[from] SignerFault),
    /// Somebody signed it who signs code: anybody with a developer's certificate could.
    #[error(
        "it is signed with the certificate of a developer ({0}), and not by who issues profiles: it is forged"
    )]
    SignedByDeveloper(String),
    /// The signer's certificate does not lead to one that vouches for itself.
    #[error(transparent)]
    NoRoot(#[from] NoRoot),
    /// It is for none of the kinds that are known.
    #[error("it is of no known kind: {0}")]
    Kind(&'static str),
    /// It names no app.
    #[error("it does not say which app it is for")]
    NoApp,
}

/// A profile whose signature holds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Verified {
    /// What it says.
    pub profile: Profile,
    /// What builds with it are for.
    pub destination: Destination,
    /// The app id that it is for, with the prefix.
    pub app_id: String,
    /// The certificates from the signer's to the root.
    pub chain: Vec<Certificate>,
}

impl Verified {
    /// Opens a profile and verifies its signature up to a certificate that vouches for itself. Whether that one is
    /// trusted is for the caller to say. The signer has to be good now, or when it says that it signed, or when the
    /// profile begins.
    ///
    /// # Errors
    /// [`ProfileError`].
    pub fn open(
        bytes: &[u8],
        pool: &[Certificate],
        now: Timestamp,
        limits: &Limits,
    ) -> Result<Self, ProfileError> {
        let message = cms::parse(bytes, limits)?;
        let content = message.content.as_deref().ok_or(ProfileError::Empty)?;
        let [signer] = message.signers.as_slice() else {
            return Err(ProfileError::Signers(message.signers.len()));
        };
        let own = signed::certificate_of(signer, &message, limits)?;
        signed::holds(signer, &own, content)?;
        let purposes = own.extensions.purposes()?;
        if purposes.contains(&CODE_SIGNING) || certificate::read(&own)?.purpose.is_some() {
            return Err(ProfileError::SignedByDeveloper(own.subject));
        }
        let beside = message.certificates.iter().filter_map(|der| Certificate::parse(der, limits).ok());
        let pool: Vec<Certificate> = pool.iter().cloned().chain(beside).collect();
        let profile = Profile::parse(content, limits)?;
        let signed = signer.attributes.as_ref().and_then(|attributes| attributes.signing_time());
        let signed = Timestamp::from_second(signed.unwrap_or(profile.not_before)).ok();
        let chain = Chain::of_signer(&own, &pool, signed, now)?;
        let destination = destination(&profile)?;
        let app_id = profile.app_id().ok_or(ProfileError::NoApp)?.to_owned();
        Ok(Verified { profile, destination, app_id, chain })
    }

    /// The certificate that its signature leads to.
    pub fn root(&self) -> Option<&Certificate> {
        self.chain.last()
    }
}

/// What builds with a profile are for (formats table 4).
///
/// # Errors
/// [`ProfileError::Kind`].
pub fn destination(profile: &Profile) -> Result<Destination, ProfileError> {
    let debug = profile.entitlements.get(DEBUG) == Some(&Entitlement::Flag(true));
    match (&profile.devices, profile.all_devices, debug) {
        (Some(_), true, _) => Err(ProfileError::Kind("it lists devices and allows all of them as well")),
        (Some(_), false, true) => Ok(Destination::Development),
        (Some(_), false, false) => Ok(Destination::Devices),
        (None, true, false) => Ok(Destination::InHouse),
        (None, false, false) => Ok(Destination::Store),
        (None, _, true) => Err(ProfileError::Kind("it lets debuggers in and lists no devices")),
    }
}

/// The bundle id, or the pattern of bundle ids, of an app id without its prefix.
pub fn pattern_of(app_id: &str) -> &str {
    app_id.split_once('.').map_or(app_id, |(_, pattern)| pattern)
}

/// What stands before the bundle id in an app id.
pub fn pattern_prefix(app_id: &str) -> &str {
    app_id.split_once('.').map_or("", |(prefix, _)| prefix)
}

/// Whether a profile's app id is for that bundle id. A `*` at the end stands for one character or more; one elsewhere is a
/// character like any other.
pub fn is_for(app_id: &str, bundle_id: &str) -> bool {
    match pattern_of(app_id).strip_suffix('*') {
        Some(beginning) => bundle_id.len() > beginning.len() && bundle_id.starts_with(beginning),
        None => pattern_of(app_id) == bundle_id,
    }
}

/// Whether an app id is for several apps.
pub fn is_wildcard(app_id: &str) -> bool {
    pattern_of(app_id).ends_with('*')
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_wildcard_stands_for_one_character_or_more_and_only_at_the_end() {
        for (app_id, bundle_id, fits) in [
            ("GPFERRY009.example.gannetpoint.crossing", "example.gannetpoint.crossing", true),
            ("GPFERRY009.example.gannetpoint.crossing", "example.gannetpoint.crossing.share", false),
            ("GPFERRY009.example.gannetpoint.*", "example.gannetpoint.crossing", true),
            ("GPFERRY009.example.gannetpoint.*", "example.gannetpoint.", false),
            ("GPFERRY009.*", "example.gannetpoint.crossing", true),
            ("GPFERRY009.example.*.crossing", "example.gannetpoint.crossing", false),
            ("GPFERRY009.*", "", false),
        ] {
            assert_eq!(is_for(app_id, bundle_id), fits, "{app_id} {bundle_id}");
        }
        assert!(is_wildcard("GPFERRY009.*") && !is_wildcard("GPFERRY009.a.b"));
    }
}
