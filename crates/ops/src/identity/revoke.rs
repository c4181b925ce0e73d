//! `identity revoke`: through the portal, after saying what falls with it.

use jiff::Timestamp;
use ninekeys_cabinet::CabinetError;
use ninekeys_core::model::{ApiUse, Facts, Inventory, ItemId, State};
use ninekeys_portal::client::PortalError;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::{FindError, IdentitySaid};
use crate::ask::AskError;
use crate::ctx::{Ctx, OpenError};
use crate::given::{self, Receiver};
use crate::identity;
use crate::portal::{ConnectError, with_portal};
use crate::project::ProjectError;

/// What was revoked.
#[derive(Debug, Serialize, JsonSchema)]
pub struct IdentityRevokeReport {
    /// The identity, which is kept, retired.
    #[serde(flatten)]
    pub identity: IdentitySaid,
    /// When.
    pub revoked: Timestamp,
    /// Whether it was revoked before, and nothing was changed.
    pub already: bool,
    /// The profiles in use that name its certificate: they are good for nothing without another.
    pub profiles: Vec<String>,
    /// Who was given it: they have to be told.
    pub given_to: Vec<Receiver>,
    /// The time of this report.
    pub at: Timestamp,
}

/// Why it was not revoked.
#[derive(Debug, Error)]
pub enum IdentityRevokeError {
    /// The identity.
    #[error(transparent)]
    Find(#[from] FindError),
    /// It has no certificate.
    #[error("{0} has no certificate yet")]
    NoCertificate(String),
    /// Nobody said yes.
    #[error("revoking {name} cannot be undone, and nobody said yes; {}", falls(profiles))]
    NotSure {
        /// The identity.
        name: String,
        /// The profiles that fall with it.
        profiles: Vec<String>,
    },
    /// The person.
    #[error(transparent)]
    Ask(#[from] AskError),
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The portal cannot be asked.
    #[error(transparent)]
    Connect(#[from] ConnectError),
    /// The portal did not do it.
    #[error(transparent)]
    Portal(#[from] PortalError),
    /// The portal did it, and the cabinet could not take it up.
    #[error("the cabinet could not note it: {cause}")]
    Unnoted {
        /// Why.
        #[source]
        cause: CabinetError,
    },
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

fn falls(profiles: &[String]) -> String {
    match profiles.len() {
        0 => "no profile names it".into(),
        1 => format!("the profile {} falls with it", profiles.join("")),
        _ => format!("the profiles {} fall with it", profiles.join(", ")),
    }
}

/// The profiles in use that name a certificate.
fn named_by(inventory: &Inventory, id: &ItemId, fingerprint: &str) -> Vec<String> {
    let active = inventory.iter().filter(|item| item.state == State::Active);
    let mut names: Vec<String> = active
        .filter(|item| {
            matches!(&item.facts, Facts::Profile(p)
                if p.certificates.contains(id) || p.foreign_certificates.iter().any(|one| one == fingerprint))
        })
        .map(|item| item.name.clone())
        .collect();
    names.sort();
    names
}

/// Revokes the certificate at the portal, and retires the identity.
///
/// # Errors
/// [`IdentityRevokeError`]; then the cabinet is as it was. What the portal did before a cut is found done by the next call.
pub fn identity_revoke(
    ctx: &Ctx<'_>,
    name: &str,
    sure: bool,
) -> Result<IdentityRevokeReport, IdentityRevokeError> {
    let file = ctx.project_file()?;
    let mut cabinet = ctx.open()?;
    let inventory = cabinet.inventory()?;
    let (item, facts) = identity::find(&inventory, name)?;
    let (name, id) = (item.name.clone(), item.id);
    let own =
        facts.certificate.as_ref().and_then(|id| Some((id, identity::certificate_facts(&inventory, id)?)));
    let (certificate, own) = own.ok_or_else(|| IdentityRevokeError::NoCertificate(name.clone()))?;
    let profiles = named_by(&inventory, certificate, &own.fingerprint);
    let report = |inventory: &Inventory, revoked, already, profiles| {
        let (item, facts) = identity::find(inventory, &id.to_string())?;
        let identity = identity::said(inventory, &item.name, facts, Some(&file.project));
        let given_to = given::receivers(inventory, &id);
        Ok(IdentityRevokeReport { identity, revoked, already, profiles, given_to, at: ctx.env.now })
    };
    if let Some(revoked) = facts.revoked {
        return report(&inventory, revoked, true, profiles);
    }
    if !sure {
        let question = format!("Revoking {name} cannot be undone; {}. Revoke it", falls(&profiles));
        match ctx.ask.sure(&question)? {
            Some(true) => {}
            Some(false) => return Err(AskError::Declined.into()),
            None => return Err(IdentityRevokeError::NotSure { name, profiles }),
        }
    }
    ctx.unlock(&mut cabinet)?;
    let serial = own.serial.clone();
    let app = facts.apps.first().cloned();
    let revoked = with_portal(ctx, &cabinet, &file, (ApiUse::Signing, app.as_deref()), |portal| {
        Ok::<_, IdentityRevokeError>(portal.revoke(&serial)?.revoked)
    })?;
    let revoked = revoked.unwrap_or(ctx.env.now);
    let noted = cabinet.change(&format!("identity revoke {name}"), &ctx.env, |change| {
        identity::note_revoked(change, &id, revoked)
    });
    noted.map_err(|cause| IdentityRevokeError::Unnoted { cause })?;
    let inventory = cabinet.inventory()?;
    report(&inventory, revoked, false, profiles)
}
