//! A build for iOS under check: what is in it, with every profile opened and every signer's path found once.

use std::collections::BTreeMap;

use jiff::Timestamp;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::x509::Certificate;

use super::code::{Signed, SignedBy, Signer};
use super::package::{Bundle, Executable, IosBuild};
use super::profile::{ProfileError, Verified};
use super::requirement::{self, Subject};
use crate::chain::NoRoot;
use crate::digest::sha256_hex;

/// What a build is held against beyond the project file.
#[derive(Debug, Clone, Copy, Default)]
pub struct Against<'a> {
    /// The authorities that the project names.
    pub roots: &'a [Certificate],
    /// Every authority's certificate at hand.
    pub pool: &'a [Certificate],
    /// The team that the app belongs to, if the project says.
    pub team: Option<&'a str>,
    /// A device that the build has to run on.
    pub device: Option<&'a str>,
    /// Fingerprints of certificates that were revoked, with when.
    pub revoked: &'a [(String, Timestamp)],
}

/// A build for iOS under check.
pub struct IosLook<'a> {
    /// What is in it.
    pub build: &'a IosBuild,
    /// What it is held against.
    pub against: Against<'a>,
    /// The bundles with a profile of their own.
    pub parts: Vec<PartLook<'a>>,
    /// The paths of signers, by the fingerprints of their certificates.
    chains: BTreeMap<String, Result<Vec<Certificate>, NoRoot>>,
}

/// A bundle with a profile of its own.
pub struct PartLook<'a> {
    /// What is in it.
    pub bundle: &'a Bundle,
    /// Its profile, opened; nothing where it has none.
    pub profile: Option<Result<Verified, ProfileError>>,
}

impl<'a> PartLook<'a> {
    /// Its profile, where it holds.
    pub fn verified(&self) -> Option<&Verified> {
        self.profile.as_ref()?.as_ref().ok()
    }

    /// The signatures of its executable that somebody made with a certificate.
    pub fn signed(&self) -> impl Iterator<Item = (&'a Signed, &'a Signer)> {
        signed(&self.bundle.executable)
    }
}

/// The signatures of an executable that somebody made with a certificate.
pub fn signed(executable: &Executable) -> impl Iterator<Item = (&Signed, &Signer)> {
    executable.signatures().filter_map(|signed| match &signed.by {
        SignedBy::Certificate(Some(signer)) => Some((signed, signer.as_ref())),
        SignedBy::Certificate(None) | SignedBy::AdHoc | SignedBy::Linker => None,
    })
}

impl<'a> IosLook<'a> {
    /// Opens profiles and finds paths.
    pub fn of(build: &'a IosBuild, against: Against<'a>, now: Timestamp) -> Self {
        let open = |bundle: &'a Bundle| {
            let open = |bytes: &Vec<u8>| Verified::open(bytes, against.pool, now, &Limits::USUAL);
            PartLook { bundle, profile: bundle.profile.as_ref().map(open) }
        };
        let parts = build.bundles.iter().filter(|bundle| bundle.kind.has_profile()).map(open).collect();
        let mut chains = BTreeMap::new();
        for (_, signer) in build.executables().flat_map(signed) {
            let chain = || signer.chain(against.pool, now);
            chains.entry(sha256_hex(&signer.certificate.der)).or_insert_with(chain);
        }
        IosLook { build, against, parts, chains }
    }

    /// The app itself.
    pub fn app(&self) -> Option<&PartLook<'a>> {
        self.parts.first()
    }

    /// Whether somebody signed the app with a certificate.
    pub fn is_signed(&self) -> bool {
        self.build.app().is_some_and(|app| app.executable.is_signed())
    }

    /// The paths of all signers.
    pub fn chains(&self) -> impl Iterator<Item = (&str, &Result<Vec<Certificate>, NoRoot>)> {
        self.chains.iter().map(|(fingerprint, chain)| (fingerprint.as_str(), chain))
    }

    /// Whether the code is what its own requirement demands; nothing where that cannot be told.
    pub fn meets(&self, signed: &Signed, signer: &Signer) -> Option<bool> {
        // a path that leads nowhere says nothing of what is above the signer; that it does not is told elsewhere
        let chain = self.chains.get(&sha256_hex(&signer.certificate.der))?.as_ref().ok()?;
        let required = signed.requirement.as_ref()?;
        let roots = self.against.roots;
        let anchored = chain.last().filter(|_| !roots.is_empty());
        requirement::holds(
            required,
            &Subject {
                identifier: &signed.identifier,
                chain,
                anchored: anchored.map(|root| roots.iter().any(|known| known.der == root.der)),
                code_hashes: &signed.directories.iter().map(|one| one.code_hash.clone()).collect::<Vec<_>>(),
                entitlements: signed.entitlements.as_ref(),
            },
        )
    }
}
