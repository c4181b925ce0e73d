//! What is lent, before it stands anywhere: a keystore's key, or an identity with its chain and profiles.

use std::path::PathBuf;

use ninekeys_cabinet::{Cabinet, CabinetError};
use ninekeys_core::digest::from_hex;
use ninekeys_core::ios::setup::Roster;
use ninekeys_core::ios::sign::code::COMMON_NAME;
use ninekeys_core::keystore::{KeystoreError as FormatError, Outgoing as OutgoingKey, write_pkcs12};
use ninekeys_core::model::{ItemId, Lend, Platform, key_called};
use ninekeys_core::password;
use ninekeys_formats::pem;
use ninekeys_formats::secret::SecretText;
use ninekeys_formats::x509::{Certificate, name_values};

use super::loan::{IDENTITY, KEYSTORE};
use super::{LendError, Wanted};
use crate::build::identity_material::{Choice, Needs};
use crate::build::material::{self, IdentityMaterial};
use crate::ctx::Ctx;
use crate::identity;
use crate::keystore;
use crate::project::ProjectFile;
use crate::revocation;

/// The chain, in the private folder.
const CHAIN: &str = "chain.pem";
/// The folder of the profiles in it, and how each of them ends.
const PROFILES: &str = "profiles";
const PROFILE_ENDING: &str = "mobileprovision";
/// The longest name that a profile has in its file.
const LONGEST_UUID: usize = 64;

/// What a variable says.
pub(super) enum Value {
    /// The path of something in the private folder.
    Within(&'static str),
    /// A text.
    Text(String),
    /// The password.
    Password,
}

/// What is lent.
pub(super) struct Goods {
    /// What the history calls it.
    pub(super) what: String,
    /// The private key in it.
    pub(super) key: ItemId,
    /// The key's alias, in a keystore.
    pub(super) alias: Option<String>,
    /// What the file with the key is called, and its bytes.
    pub(super) file: (&'static str, Vec<u8>),
    /// That file's password, made up for this one loan.
    pub(super) password: SecretText,
    /// What else stands in the private folder, by path.
    pub(super) beside: Vec<(String, Vec<u8>)>,
    /// What stands elsewhere as well.
    pub(super) outside: Vec<(PathBuf, Vec<u8>)>,
    /// What the command's environment says.
    pub(super) variables: Vec<(String, Value)>,
}

impl Goods {
    /// Takes what is wanted out of the cabinet.
    ///
    /// # Errors
    /// [`LendError`].
    pub(super) fn take(
        ctx: &Ctx<'_>,
        file: &ProjectFile,
        cabinet: &Cabinet<'_>,
        wanted: &Wanted<'_>,
        key: Option<&str>,
    ) -> Result<Self, LendError> {
        match wanted.platform {
            Platform::Android => Self::keystore(ctx, file, cabinet, wanted, key),
            Platform::Ios => Self::identity(ctx, file, cabinet, wanted, key),
        }
    }

    fn keystore(
        ctx: &Ctx<'_>,
        file: &ProjectFile,
        cabinet: &Cabinet<'_>,
        wanted: &Wanted<'_>,
        key: Option<&str>,
    ) -> Result<Self, LendError> {
        let inventory = cabinet.inventory()?;
        let (keystore, entry) = material::choose_key(
            &inventory,
            (&file.project, ctx.env.now),
            (wanted.name, wanted.destination),
            key,
        )?;
        if entry.after.is_some() {
            return Err(LendError::TookOver(key_called(&keystore.name, &entry.alias)));
        }
        let gone = || CabinetError::Tampered(format!("the key of {} is gone", entry.alias));
        let secret = cabinet.secret(inventory.get(&entry.key).ok_or_else(gone)?)?;
        let certificate = keystore::certificate_of(&inventory, entry).ok_or_else(gone)?;
        let certificate = from_hex(&certificate.der).ok_or_else(gone)?;
        let password = password::generate(&ctx.env).map_err(FormatError::from)?;
        let own = OutgoingKey { alias: &entry.alias, secret: &secret, certificate: &certificate, chain: &[] };
        let bytes = write_pkcs12(&[own], &password, &ctx.env)?;
        let [store, alias, store_password, key_password] = wanted.names.variables().map(str::to_owned);
        Ok(Goods {
            what: key_called(&keystore.name, &entry.alias),
            key: entry.key,
            alias: Some(entry.alias.clone()),
            file: (KEYSTORE, bytes),
            password,
            beside: Vec::new(),
            outside: Vec::new(),
            variables: vec![
                (store, Value::Within(KEYSTORE)),
                (alias, Value::Text(entry.alias.clone())),
                (store_password, Value::Password),
                (key_password, Value::Password),
            ],
        })
    }

    fn identity(
        ctx: &Ctx<'_>,
        file: &ProjectFile,
        cabinet: &Cabinet<'_>,
        wanted: &Wanted<'_>,
        key: Option<&str>,
    ) -> Result<Self, LendError> {
        let inventory = cabinet.inventory()?;
        let roots = identity::roots(Some(file))?;
        let roster = Roster::of(&inventory);
        let mut pool = identity::authorities(&inventory);
        pool.extend(roots.iter().cloned());
        let revocations = revocation::learn(ctx, file, &inventory, &roster, &roots, &pool)?;
        let choice = Choice {
            project: &file.project,
            inventory: &inventory,
            roster: &roster,
            roots: &roots,
            pool: &pool,
            revocations: &revocations,
            now: ctx.env.now,
        };
        let needs = wanted.needs();
        let app = (wanted.name, wanted.app);
        let material = choice.take(cabinet, app, wanted.destination, &needs, key)?;
        let gone = || CabinetError::Tampered(format!("a part of {} is gone", material.name));
        let own = material.identity().ok_or_else(gone)?;
        let secret = cabinet.secret(inventory.get(&material.key_item).ok_or_else(gone)?)?;
        let above: Vec<Vec<u8>> = own.chain.iter().skip(1).map(|one| one.der.clone()).collect();
        let password = password::generate(&ctx.env).map_err(FormatError::from)?;
        let certificate = &material.certificate;
        let entry = OutgoingKey { alias: &material.name, secret: &secret, certificate, chain: &above };
        let bytes = write_pkcs12(&[entry], &password, &ctx.env)?;
        let mut goods = Goods {
            what: material.name.clone(),
            key: material.key_item,
            alias: None,
            file: (IDENTITY, bytes),
            password,
            beside: vec![(CHAIN.to_owned(), chain_pem(&own.chain))],
            outside: Vec::new(),
            variables: Vec::new(),
        };
        let names = &wanted.names;
        goods.say(&names.ios.identity, Value::Within(IDENTITY));
        goods.say(&names.password, Value::Password);
        goods.say(&names.ios.chain, Value::Within(CHAIN));
        goods.say(&names.ios.certificate, Value::Text(common_name(own.chain.first())));
        goods.say(&names.ios.team, Value::Text(own.team.clone()));
        goods.say(&names.ios.profiles, Value::Within(PROFILES));
        goods.add_profiles(
            own,
            wanted,
            names.ios.profiles_folder.as_ref().map(|folder| file.resolve(folder)),
        );
        Ok(goods)
    }

    /// Adds the profiles of the app and its extensions, in the private folder and in the one that is searched for them.
    fn add_profiles(&mut self, own: &IdentityMaterial, wanted: &Wanted<'_>, outside: Option<PathBuf>) {
        for used in &own.used {
            let Some(embedded) = own.profiles.get(&used.bundle_id) else { continue };
            // what a file says of itself is no name of a file before it was looked at
            let uuid = &embedded.profile.uuid;
            let is_plain =
                uuid.len() <= LONGEST_UUID && uuid.chars().all(|c| c.is_ascii_alphanumeric() || c == '-');
            let known_by = if is_plain && !uuid.is_empty() { uuid } else { &used.profile };
            let name = format!("{known_by}.{PROFILE_ENDING}");
            self.beside.push((format!("{PROFILES}/{name}"), embedded.bytes.clone()));
            self.outside.extend(outside.iter().map(|folder| (folder.join(&name), embedded.bytes.clone())));
            let variable = wanted.profile_variables().into_iter().find(|(_, id)| *id == used.bundle_id);
            if let Some((variable, _)) = variable {
                self.say(&variable, Value::Text(known_by.clone()));
            }
        }
    }

    fn say(&mut self, name: &str, value: Value) {
        self.variables.push((name.to_owned(), value));
    }
}

/// The name that a build's settings know a certificate by.
fn common_name(certificate: Option<&Certificate>) -> String {
    let names = certificate.and_then(|own| name_values(&own.subject_der, COMMON_NAME).ok());
    names.into_iter().flatten().next().unwrap_or_default()
}

fn chain_pem(chain: &[Certificate]) -> Vec<u8> {
    let texts = chain.iter().filter_map(|one| pem::encode(pem::CERTIFICATE, &one.der).ok());
    texts.collect::<String>().into_bytes()
}

impl Wanted<'_> {
    /// What needs a profile, the app first.
    pub(super) fn needs(&self) -> Vec<Needs> {
        let ids = self.profile_variables().into_iter();
        ids.map(|(_, id)| Needs { path: id.clone(), bundle_id: id }).collect()
    }

    /// The variables that say what a profile is known by, with the bundle ids: the app's first.
    pub(super) fn profile_variables(&self) -> Vec<(String, String)> {
        let Some(ios) = &self.app.ios else { return Vec::new() };
        let own = &self.names.ios.profile;
        let plain = |name: &str| name.to_ascii_uppercase().replace(|c: char| !c.is_ascii_alphanumeric(), "_");
        let more = ios.extensions.iter();
        let more = more.map(|(name, id)| (format!("{own}_{}", plain(name)), id.clone()));
        std::iter::once((own.clone(), ios.bundle_id.clone())).chain(more).collect()
    }
}

/// Every variable that a loan sets.
pub(super) fn variables(names: &Lend, wanted: &Wanted<'_>) -> Vec<String> {
    let mut all: Vec<String> = match wanted.platform {
        Platform::Android => {
            let file = names.properties.iter().map(|properties| properties.variable.clone());
            names.variables().into_iter().map(str::to_owned).chain(file).collect()
        }
        Platform::Ios => {
            let ios = &names.ios;
            let own =
                [&ios.identity, &names.password, &ios.chain, &ios.certificate, &ios.team, &ios.profiles];
            let profiles = wanted.profile_variables().into_iter().map(|(name, _)| name);
            own.into_iter().cloned().chain(profiles).collect()
        }
    };
    all.extend([names.next_version.clone(), names.next_build.clone()]);
    all
}
