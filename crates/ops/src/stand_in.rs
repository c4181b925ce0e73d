//! `stand-in serve`: the small server that stands in for the portal.

use std::net::SocketAddr;
use std::path::PathBuf;

use jiff::SignedDuration;

pub use ninekeys_portal::stand_in::{Clock, Faults};
use ninekeys_portal::stand_in::{ROOT, Settings, StandIn, StandInError, TLS};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::ctx::Ctx;
use crate::project::ProjectError;

/// The server to be run.
pub struct Request {
    /// The folder of its state.
    pub folder: PathBuf,
    /// Where it listens.
    pub listen: SocketAddr,
    /// What the time is, each time that it is asked for.
    pub clock: Clock,
    /// Whether connections are sealed.
    pub tls: bool,
    /// How long the store looks at a build.
    pub looks: SignedDuration,
    /// What goes wrong on purpose.
    pub faults: Option<Faults>,
}

/// A server that is ready.
#[derive(Debug, Serialize, JsonSchema)]
pub struct StandInReport {
    /// Its address.
    pub address: String,
    /// The folder of its state.
    pub folder: String,
    /// The file with its root's certificate.
    pub root: String,
    /// The file with the certificate that its connections show, where they are sealed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub certificate: Option<String>,
    /// The team that it issues to.
    pub team: String,
    /// Whether the project file names it.
    pub known: bool,
    /// What goes wrong on purpose: each fault with its share of the calls in percent, and the seed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub faults: Option<String>,
    /// The key of the account's owner, where it was made with the folder.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub first_key: Option<FirstKeySaid>,
    /// An account's upload password, where it was made with the folder.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub upload_password: Option<UploadPasswordSaid>,
}

/// The key of the account's owner.
#[derive(Debug, Serialize, JsonSchema)]
pub struct FirstKeySaid {
    /// The file with its private key.
    pub file: String,
    /// The key id.
    pub key_id: String,
    /// The issuer id.
    pub issuer: String,
}

/// A password with which an account uploads, and does nothing else.
#[derive(Debug, Serialize, JsonSchema)]
pub struct UploadPasswordSaid {
    /// The file with it.
    pub file: String,
    /// The account.
    pub account: String,
    /// What it is called there.
    pub label: String,
}

/// Why it does not serve.
#[derive(Debug, Error)]
pub enum StandInServeError {
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The server.
    #[error(transparent)]
    StandIn(#[from] StandInError),
}

/// Makes the server ready: it listens when this returns, and answers once it serves.
///
/// # Errors
/// [`StandInServeError`].
pub fn stand_in(ctx: &Ctx<'_>, request: Request) -> Result<(StandInReport, StandIn), StandInServeError> {
    let project = ctx.project_if_any()?.map(|file| file.project);
    let named = project.as_ref().and_then(|project| project.portal.clone());
    let team = project.as_ref().and_then(|project| project.team.clone());
    let title = project.map(|project| project.title).filter(|title| !title.trim().is_empty());
    let settings = Settings {
        folder: ctx.path(&request.folder),
        team: team.unwrap_or_else(|| "GPFERRY009".into()),
        title: title.unwrap_or_else(|| "Gannet Point Ferries".into()),
        sealed: request.tls,
        looks: request.looks,
        faults: request.faults,
    };
    let ready = StandIn::open(&settings, request.listen, request.clock)?;
    let inside = |file: &str| request.folder.join(file).display().to_string();
    let first_key = ready.first().map(|first| FirstKeySaid {
        file: inside(&first.key.file),
        key_id: first.key.key_id.clone(),
        issuer: first.key.issuer.clone(),
    });
    let upload_password = ready.first().map(|first| UploadPasswordSaid {
        file: inside(&first.upload_password.file),
        account: first.upload_password.account.clone(),
        label: first.upload_password.label.clone(),
    });
    let address = ready.address();
    let report = StandInReport {
        known: named.is_some_and(|named| named.trim_end_matches('/') == address),
        address,
        folder: request.folder.display().to_string(),
        root: inside(ROOT),
        certificate: request.tls.then(|| inside(TLS)),
        team: settings.team,
        faults: settings.faults.map(|faults| faults.to_string()),
        first_key,
        upload_password,
    };
    Ok((report, ready))
}
