//! `app statement`: the file on a web domain that says which app may open its links: a list of statements, each a relation
//! and a target (Digital Asset Links, version 1).

use ninekeys_core::model::{Android, Inventory, Role};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::ctx::{Ctx, OpenError};
use crate::keystore;
use crate::project::ProjectError;

/// What the file says that an app may do: open links to the domain.
const OPENS_LINKS: &str = "delegate_permission/common.handle_all_urls";

/// The statement of one app.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Statement {
    /// What it may do.
    pub relation: Vec<&'static str>,
    /// Which app.
    pub target: Target,
}

/// An app, by its package and the certificates it may be signed under.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Target {
    /// Always `android_app`.
    pub namespace: &'static str,
    /// The package.
    pub package_name: String,
    /// SHA-256 of each certificate: pairs of upper-case digits with colons between.
    pub sha256_cert_fingerprints: Vec<String>,
}

/// The file's content, and which app it is for.
#[derive(Debug, Serialize, JsonSchema)]
pub struct AppStatementReport {
    /// The app's name.
    pub app: String,
    /// Where the file belongs on the domain.
    pub place: &'static str,
    /// The file's content.
    pub statements: Vec<Statement>,
}

/// Why there is none.
#[derive(Debug, Error)]
pub enum AppStatementError {
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// No such app.
    #[error("the project file has no app called {0}")]
    UnknownApp(String),
    /// It has no Android side.
    #[error("{0} has no Android side in the project file")]
    NotAndroid(String),
    /// It has no signing key.
    #[error("the cabinet holds no signing key for {0}")]
    NoKey(String),
    /// The cabinet could not be opened.
    #[error(transparent)]
    Open(#[from] OpenError),
}

/// Makes the statement of an app out of its signing keys: what devices know it by.
///
/// # Errors
/// [`AppStatementError`].
pub fn app_statement(ctx: &Ctx<'_>, name: &str) -> Result<AppStatementReport, AppStatementError> {
    let project = ctx.project_file()?.project;
    let (name, app) = project.app(name).ok_or_else(|| AppStatementError::UnknownApp(name.into()))?;
    let android = app.android.as_ref().ok_or_else(|| AppStatementError::NotAndroid(name.into()))?;
    let inventory = ctx.look()?.inventory;
    statement_of(&inventory, name, android).ok_or_else(|| AppStatementError::NoKey(name.into()))
}

/// The statement of an app; nothing where it has no signing key.
pub(crate) fn statement_of(
    inventory: &Inventory,
    name: &str,
    android: &Android,
) -> Option<AppStatementReport> {
    let keys = inventory.android_keys(name, Role::Signing);
    let mut fingerprints: Vec<String> = keys
        .filter_map(|(_, entry)| keystore::certificate_of(inventory, entry))
        .map(|facts| with_colons(&facts.fingerprint))
        .collect();
    fingerprints.sort();
    fingerprints.dedup();
    if fingerprints.is_empty() {
        return None;
    }
    let target = Target {
        namespace: "android_app",
        package_name: android.package.clone(),
        sha256_cert_fingerprints: fingerprints,
    };
    Some(AppStatementReport {
        app: name.into(),
        place: "/.well-known/assetlinks.json",
        statements: vec![Statement { relation: vec![OPENS_LINKS], target }],
    })
}

/// Pairs of upper-case digits with colons between.
pub(crate) fn with_colons(digits: &str) -> String {
    let upper = digits.to_ascii_uppercase();
    let pairs: Vec<&str> =
        upper.as_bytes().chunks(2).filter_map(|pair| std::str::from_utf8(pair).ok()).collect();
    pairs.join(":")
}
