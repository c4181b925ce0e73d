//! `lend --explain`: what a build's settings have to read, before anything is lent.

use ninekeys_core::model::Destination;
use schemars::JsonSchema;
use serde::Serialize;

use super::{LendError, wanted};
use crate::build::material;
use crate::ctx::Ctx;

/// Whose loan is explained.
#[derive(Debug)]
pub struct ExplainRequest {
    /// The app whose key would be lent.
    pub app: String,
    /// Where its build goes; its first destination when nothing is said.
    pub destination: Option<Destination>,
    /// The keystore, when there are several.
    pub key: Option<String>,
}

/// What a build command would be given, and under which names.
#[derive(Debug, Serialize, JsonSchema)]
pub struct LendExplainReport {
    /// The app's name.
    pub app: String,
    /// Where its build goes.
    pub destination: Destination,
    /// The keystore whose key would be lent.
    pub keystore: String,
    /// The key's alias in it.
    pub alias: String,
    /// The environment variables.
    pub variables: Vec<Setting>,
    /// The properties file.
    pub properties: PropertiesSaid,
}

/// What a build's settings read, and what they find there.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Setting {
    /// The name of the variable or field.
    pub name: String,
    /// What it holds.
    pub holds: Holds,
}

/// What is lent.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Holds {
    /// The path of a PKCS#12 file.
    Keystore,
    /// The key's alias in it.
    Alias,
    /// The file's password.
    Password,
    /// The key's password, which is the same.
    KeyPassword,
}

impl Holds {
    /// In the order of [`ninekeys_core::model::Lend::variables`].
    const ALL: [Holds; 4] = [Holds::Keystore, Holds::Alias, Holds::Password, Holds::KeyPassword];

    fn under(names: [&str; 4]) -> Vec<Setting> {
        Holds::ALL.into_iter().zip(names).map(|(holds, name)| Setting { name: name.into(), holds }).collect()
    }
}

/// A properties file on loan.
#[derive(Debug, Serialize, JsonSchema)]
pub struct PropertiesSaid {
    /// Whether it is written without `--properties`: the project file describes it.
    pub always: bool,
    /// Where it is, if not in the private folder.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
    /// The environment variable with its path.
    pub variable: String,
    /// Its fields.
    pub fields: Vec<Setting>,
}

/// Tells what a build command would be given. Facts alone: the cabinet stays locked, and nothing is written.
///
/// # Errors
/// [`LendError`].
pub fn lend_explain(ctx: &Ctx<'_>, request: &ExplainRequest) -> Result<LendExplainReport, LendError> {
    let file = ctx.project_file()?;
    let (name, destination, names) = wanted(&file, &request.app, request.destination)?;
    let inventory = ctx.look()?.inventory;
    let (keystore, entry) = material::choose_key(&inventory, name, destination, request.key.as_deref())?;
    let properties = names.properties.clone().unwrap_or_default();
    Ok(LendExplainReport {
        app: name.into(),
        destination,
        keystore: keystore.name.clone(),
        alias: entry.alias.clone(),
        variables: Holds::under(names.variables()),
        properties: PropertiesSaid {
            always: names.properties.is_some(),
            fields: Holds::under(properties.fields()),
            file: properties.file,
            variable: properties.variable,
        },
    })
}
