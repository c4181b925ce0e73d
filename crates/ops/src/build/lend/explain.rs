//! `lend --explain`: what a build's settings have to read, before anything is lent.

use std::collections::BTreeMap;

use ninekeys_core::ios::setup::Roster;
use ninekeys_core::model::{Destination, Lend, Platform};
use ninekeys_core::revocation::Revocations;
use schemars::JsonSchema;
use serde::Serialize;

use super::{LendError, Wanted, wanted};
use crate::build::identity_material::Choice;
use crate::build::material;
use crate::ctx::Ctx;
use crate::identity;

/// Whose loan is explained.
#[derive(Debug)]
pub struct ExplainRequest {
    /// The app whose key would be lent.
    pub app: String,
    /// The platform that is built for, when the app has several sides.
    pub platform: Option<Platform>,
    /// Where its build goes; its first destination when nothing is said.
    pub destination: Option<Destination>,
    /// The keystore or the identity, when there are several.
    pub key: Option<String>,
}

/// What a build command would be given, and under which names.
#[derive(Debug, Serialize, JsonSchema)]
pub struct LendExplainReport {
    /// The app's name.
    pub app: String,
    /// The platform that it is built for.
    pub platform: Platform,
    /// Where its build goes.
    pub destination: Destination,
    /// The keystore whose key would be lent, on Android.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub keystore: Option<String>,
    /// The key's alias in it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub alias: Option<String>,
    /// The identity that would be lent, on iOS.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub identity: Option<String>,
    /// The profiles that would be, by bundle id.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub profiles: BTreeMap<String, String>,
    /// The environment variables.
    pub variables: Vec<Setting>,
    /// The properties file, on Android.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub properties: Option<PropertiesSaid>,
    /// The folder that the profiles are put into as well.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub profiles_folder: Option<String>,
    /// The words of the command that is run first.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub before: Vec<String>,
    /// The words of the one that is run at the end.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub after: Vec<String>,
}

/// What a build's settings read, and what they find there.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Setting {
    /// The name of the variable or field.
    pub name: String,
    /// What it holds.
    pub holds: Holds,
    /// The bundle id that it is about.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub bundle_id: Option<String>,
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
    /// The path of a PKCS#12 file with key, certificate and chain.
    Identity,
    /// The path of the chain in PEM.
    Chain,
    /// The certificate's common name.
    Certificate,
    /// The team.
    Team,
    /// The path of a folder with profiles.
    Profiles,
    /// What a profile is known by.
    Profile,
    /// The version that the next build should have, where that is asked for.
    NextVersion,
    /// Its number.
    NextBuild,
}

impl Holds {
    fn under(self, name: &str) -> Setting {
        Setting { name: name.into(), holds: self, bundle_id: None }
    }

    /// In the order of [`ninekeys_core::model::Lend::variables`].
    const OF_A_KEYSTORE: [Holds; 4] = [Holds::Keystore, Holds::Alias, Holds::Password, Holds::KeyPassword];

    fn of_a_keystore(names: [&str; 4]) -> Vec<Setting> {
        Holds::OF_A_KEYSTORE.into_iter().zip(names).map(|(holds, name)| holds.under(name)).collect()
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
    let asked = ctx.destination(request.destination)?;
    let wanted = wanted(&file, &request.app, request.platform, asked)?;
    let inventory = ctx.look()?.inventory;
    let mut report = LendExplainReport {
        app: wanted.name.into(),
        platform: wanted.platform,
        destination: wanted.destination,
        keystore: None,
        alias: None,
        identity: None,
        profiles: BTreeMap::new(),
        variables: Vec::new(),
        properties: None,
        profiles_folder: None,
        before: wanted.names.before.clone(),
        after: wanted.names.after.clone(),
    };
    let key = request.key.as_deref();
    match wanted.platform {
        Platform::Android => {
            let chosen = material::choose_key(
                &inventory,
                (&file.project, ctx.env.now),
                (wanted.name, wanted.destination),
                key,
            )?;
            report.keystore = Some(chosen.0.name.clone());
            report.alias = Some(chosen.1.alias.clone());
            report.variables = Holds::of_a_keystore(wanted.names.variables());
            report.properties = Some(properties(&wanted.names));
        }
        Platform::Ios => {
            let roots = identity::roots(Some(&file))?;
            let mut pool = identity::authorities(&inventory);
            pool.extend(roots.iter().cloned());
            let choice = Choice {
                project: &file.project,
                inventory: &inventory,
                roster: &Roster::of(&inventory),
                roots: &roots,
                pool: &pool,
                revocations: &Revocations::new(),
                now: ctx.env.now,
            };
            let app = (wanted.name, wanted.app);
            let (identity, profiles) = choice.names(app, wanted.destination, &wanted.needs(), key)?;
            report.identity = Some(identity);
            report.profiles = profiles;
            report.variables = of_an_identity(&wanted);
            report.profiles_folder.clone_from(&wanted.names.ios.profiles_folder);
        }
    }
    let Lend { next_version, next_build, .. } = &wanted.names;
    report.variables.extend([Holds::NextVersion.under(next_version), Holds::NextBuild.under(next_build)]);
    Ok(report)
}

fn properties(names: &Lend) -> PropertiesSaid {
    let properties = names.properties.clone().unwrap_or_default();
    PropertiesSaid {
        always: names.properties.is_some(),
        fields: Holds::of_a_keystore(properties.fields()),
        file: properties.file,
        variable: properties.variable,
    }
}

fn of_an_identity(wanted: &Wanted<'_>) -> Vec<Setting> {
    let (names, ios) = (&wanted.names, &wanted.names.ios);
    let mut all = vec![
        Holds::Identity.under(&ios.identity),
        Holds::Password.under(&names.password),
        Holds::Chain.under(&ios.chain),
        Holds::Certificate.under(&ios.certificate),
        Holds::Team.under(&ios.team),
        Holds::Profiles.under(&ios.profiles),
    ];
    let known_by = wanted.profile_variables().into_iter();
    all.extend(known_by.map(|(name, id)| Setting { name, holds: Holds::Profile, bundle_id: Some(id) }));
    all
}
