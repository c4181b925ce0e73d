//! What was found is taken into the cabinet, each by the command for its kind, so that the same proofs hold. What lies there
//! stays there.

use std::path::{Path, PathBuf};

use ninekeys_cabinet::CabinetError;
use ninekeys_core::ios;
use ninekeys_core::keystore::{KeystoreError, OpenStore, open};
use ninekeys_core::model::{Inventory, Role, free_name};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::secret::{Secret, SecretText};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::{Found, MOST, SweepError, What, settings, walk};
use crate::apikey::import::{self as apikey_import, ApiKeyImportError};
use crate::ask::Unlocked;
use crate::build::check::{Holder, holder};
use crate::ctx::{Ctx, OpenError};
use crate::files::{self, FileError};
use crate::identity::import::{self as identity_import, IdentityImportError};
use crate::keystore::import::{self as keystore_import, ImportError};
use crate::profile::import::{self as profile_import, ProfileImportError};

/// How many of the passwords that were found are tried on one keystore: each costs what its file makes a guess cost.
const MOST_TRIES: usize = 16;

/// Something that is in the cabinet now.
#[derive(Debug, Serialize, JsonSchema)]
pub struct TakenIn {
    /// Its file, which stays.
    pub path: String,
    /// What it is.
    pub what: What,
    /// What it is called in the cabinet.
    pub items: Vec<String>,
    /// Whether it was there already, which could not be seen from outside.
    pub known: bool,
    /// The setting whose password opened it: its file and line.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub opened_by: Option<String>,
}

/// Something that was left out.
#[derive(Debug, Serialize, JsonSchema)]
pub struct NotTaken {
    /// Its file.
    pub path: String,
    /// What it is.
    pub what: What,
    /// Whether it holds an identity, and no keystore of an app.
    pub identity: bool,
    /// Why.
    pub because: String,
}

/// Why something was left out.
#[derive(Debug, Error)]
enum Why {
    #[error(transparent)]
    File(#[from] FileError),
    #[error(transparent)]
    Open(#[from] OpenError),
    #[error(transparent)]
    Keystore(#[from] ImportError),
    #[error(transparent)]
    Identity(#[from] IdentityImportError),
    #[error(transparent)]
    Profile(#[from] ProfileImportError),
    #[error(transparent)]
    ApiKey(#[from] ApiKeyImportError),
    #[error("a private key does not say what it is for: its key id and issuer id are needed")]
    Alone,
    #[error("a private key under a password does not say what it is for")]
    Encrypted,
    #[error("it has ended")]
    Ended,
    #[error("it was stopped")]
    Stopped,
}

impl Why {
    /// Whether it is of an identity.
    fn is_of_identity(&self) -> bool {
        matches!(self, Why::Identity(_))
    }

    /// The same, where it is one file's; a cabinet that cannot be written to takes in no other either.
    fn of_one_file(self) -> Result<Self, SweepError> {
        match self {
            Why::Stopped => Err(SweepError::Stopped),
            // somebody else takes in the same meanwhile
            Why::Keystore(ImportError::Cabinet(CabinetError::NameTaken(_)))
            | Why::ApiKey(ApiKeyImportError::Cabinet(CabinetError::NameTaken(_))) => Ok(self),
            Why::Open(error)
            | Why::Keystore(ImportError::Open(error))
            | Why::Identity(IdentityImportError::Open(error))
            | Why::Profile(ProfileImportError::Open(error))
            | Why::ApiKey(ApiKeyImportError::Open(error)) => Err(error.into()),
            Why::Keystore(ImportError::Cabinet(error))
            | Why::Identity(IdentityImportError::Cabinet(error))
            | Why::Profile(ProfileImportError::Cabinet(error))
            | Why::ApiKey(ApiKeyImportError::Cabinet(error)) => Err(error.into()),
            one => Ok(one),
        }
    }
}

impl From<KeystoreError> for Why {
    fn from(error: KeystoreError) -> Self {
        Why::Keystore(error.into())
    }
}

/// A password in settings.
struct Setting {
    place: String,
    folder: PathBuf,
    value: SecretText,
}

/// What came of a file that was taken in.
struct Took {
    /// Names in the cabinet.
    items: Vec<String>,
    /// Whether they were there already.
    known: bool,
    /// The setting whose password opened it.
    opened_by: Option<String>,
    /// Whether every key in it is in the cabinet now.
    whole: bool,
}

impl Took {
    /// A file with one thing in it, which nothing had to open.
    fn open(items: Vec<String>, known: bool) -> Self {
        Took { items, known, opened_by: None, whole: true }
    }
}

/// Takes in what is in nobody's cabinet yet. The cabinet is unlocked once.
///
/// # Errors
/// [`SweepError`] when it cannot be unlocked, or the user stops; what went in before stays in. What cannot be taken in is told,
/// with the reason.
pub(super) fn take_in(
    ctx: &Ctx<'_>,
    found: &mut [Found],
    taken: &mut Vec<TakenIn>,
) -> Result<Vec<NotTaken>, SweepError> {
    let mut wanted: Vec<(String, What)> = found
        .iter()
        .filter(|one| one.commit.is_none() && one.item.is_none() && is_material(one.what))
        .map(|one| (one.path.clone(), one.what))
        .collect();
    wanted.sort();
    wanted.dedup();
    if wanted.is_empty() {
        return Ok(Vec::new());
    }
    let settings = passwords(ctx, found);
    let credential = ctx.unlocked_by(&mut ctx.open()?)?;
    let person = Unlocked::new(ctx.ask, credential);
    let inner = ctx.asking(&person);
    let mut left = Vec::new();
    for (path, what) in wanted {
        if ctx.env.stopped() {
            return Err(SweepError::Stopped);
        }
        match one(&inner, &path, what, found, &settings) {
            Ok(Took { items, known, opened_by, whole }) => {
                let is_it = |one: &&mut Found| one.path == path && one.what == what && one.commit.is_none();
                found.iter_mut().filter(is_it).for_each(|one| {
                    one.item = Some(items.join(", "));
                    one.held_whole = whole;
                });
                taken.push(TakenIn { path, what, items, known, opened_by });
            }
            Err(why) => {
                let why = why.of_one_file()?;
                left.push(NotTaken { path, what, identity: why.is_of_identity(), because: why.to_string() });
            }
        }
    }
    inner.notices.into_inner().into_iter().for_each(|notice| ctx.notice(notice));
    Ok(left)
}

/// Whether something can be an item of the cabinet by itself.
fn is_material(what: What) -> bool {
    !matches!(what, What::Certificate | What::Password | What::UnlockFile | What::RecoveryPiece)
}

/// The passwords that were found, read again from where they stand.
fn passwords(ctx: &Ctx<'_>, found: &[Found]) -> Vec<Setting> {
    let mut all = Vec::new();
    let with = found.iter().filter(|one| one.what == What::Password && one.commit.is_none());
    let mut paths: Vec<&str> = with.map(|one| one.path.as_str()).collect();
    paths.dedup();
    for shown in paths {
        let path = ctx.path(Path::new(shown));
        let Some(bytes) = walk::whole(&path, MOST).map(Secret::new) else { continue };
        let folder = files::folder_of(&path).to_owned();
        let values = bytes.lend(|bytes| settings::values(bytes));
        all.extend(values.into_iter().map(|(line, value)| Setting {
            place: format!("{shown}:{line}"),
            folder: folder.clone(),
            value,
        }));
    }
    all
}

fn one(ctx: &Ctx<'_>, path: &str, what: What, found: &[Found], settings: &[Setting]) -> Result<Took, Why> {
    let file = PathBuf::from(path);
    match what {
        What::Keystore => keystore(ctx, file, settings),
        What::Profile => {
            let ended = |one: &Found| one.path == path && one.not_after.is_some_and(|end| end < ctx.env.now);
            if found.iter().any(ended) {
                return Err(Why::Ended);
            }
            let request = profile_import::Request { files: vec![file], name: None };
            let report = profile_import::profile_import(ctx, &request)?;
            let names = report.imported.into_iter().map(|one| one.profile.profile).collect();
            Ok(Took::open(names, false))
        }
        What::ServiceKey => {
            let name = name_for(&ctx.look()?.inventory, &file);
            let request = apikey_import::Request {
                file,
                name,
                key_id: None,
                issuer: None,
                role: None,
                uses: Vec::new(),
                apps: Vec::new(),
                vendor_number: None,
                label: None,
            };
            match apikey_import::apikey_import(ctx, request) {
                Ok(report) => Ok(Took::open(vec![report.api_key.api_key], false)),
                Err(ApiKeyImportError::Known(name)) => Ok(Took::open(vec![name], true)),
                Err(error) => Err(error.into()),
            }
        }
        What::PrivateKey => Err(Why::Alone),
        What::EncryptedKey | What::Certificate | What::Password | What::UnlockFile | What::RecoveryPiece => {
            Err(Why::Encrypted)
        }
    }
}

/// A name that the cabinet does not have yet, after the file's.
fn name_for(inventory: &Inventory, file: &Path) -> String {
    let name = keystore_import::name_after(file);
    let name = if name.is_empty() { "found".to_owned() } else { name };
    free_name(&name, |name| inventory.iter().any(|item| item.name.eq_ignore_ascii_case(name)))
}

/// A keystore of an app, or a file with identities: its certificates say which.
fn keystore(ctx: &Ctx<'_>, file: PathBuf, settings: &[Setting]) -> Result<Took, Why> {
    let bytes = files::read_whole(&ctx.path(&file), Limits::USUAL.keystore)?;
    // those beside it first
    let folder = files::folder_of(&ctx.path(&file)).to_owned();
    let (near, far): (Vec<&Setting>, Vec<&Setting>) =
        settings.iter().partition(|setting| setting.folder == folder);
    let tried: Vec<&Setting> = near.into_iter().chain(far).take(MOST_TRIES).collect();
    let (store, password, opened_by) = opened(ctx, &bytes, &file, &tried)?;
    let certificates: Vec<_> = store.keys.iter().filter_map(|key| key.certificate(&Limits::USUAL)).collect();
    let inventory = ctx.look()?.inventory;
    let held = certificates.iter().map(|own| {
        let (key, own) = (ninekeys_core::digest::sha256_hex(&own.public_key), &own.der);
        holder(&inventory, &key, &ninekeys_core::digest::sha256_hex(own)).as_ref().and_then(Holder::of_both)
    });
    let held: Option<Vec<String>> = held.collect();
    if let Some(mut names) = held.filter(|names| !names.is_empty() && names.len() == store.keys.len()) {
        names.dedup();
        return Ok(Took { items: names, known: true, opened_by, whole: true });
    }
    let is_identity = |own| ios::certificate::read(own).is_ok_and(|says| says.purpose.is_some());
    if certificates.iter().any(is_identity) {
        let request =
            identity_import::Request { file, name: None, apps: Vec::new(), password: Some(password) };
        let report = identity_import::identity_import(ctx, request)?;
        let items = report.imported.into_iter().map(|one| one.identity.identity).collect();
        return Ok(Took { items, known: false, opened_by, whole: report.left.is_empty() });
    }
    let request = keystore_import::Request {
        name: Some(name_for(&inventory, &file)),
        file,
        aliases: Vec::new(),
        role: Role::Signing,
        apps: Vec::new(),
        key_passwords: own_passwords(&store, &password, &tried),
        password: Some(password),
    };
    let report = keystore_import::keystore_import(ctx, request)?;
    Ok(Took { items: vec![report.keystore], known: false, opened_by, whole: report.left.is_empty() })
}

/// Opens a keystore with a password that was found, else with one that is asked for.
fn opened(
    ctx: &Ctx<'_>,
    bytes: &[u8],
    file: &Path,
    tried: &[&Setting],
) -> Result<(OpenStore, SecretText, Option<String>), Why> {
    for setting in tried {
        if ctx.env.stopped() {
            return Err(Why::Stopped);
        }
        match open(bytes, &setting.value, &Limits::USUAL) {
            Ok(store) => return Ok((store, setting.value.duplicate(), Some(setting.place.clone()))),
            Err(KeystoreError::WrongStorePassword) => {}
            Err(error) => return Err(error.into()),
        }
    }
    let (store, password) = keystore_import::open_asking(ctx, bytes, &file.display().to_string())?;
    Ok((store, password, None))
}

/// The passwords that open single keys, of those that were found.
fn own_passwords(store: &OpenStore, password: &SecretText, tried: &[&Setting]) -> Vec<(String, SecretText)> {
    let has_own = |key: &&_| {
        let key: &ninekeys_core::keystore::StoredKey = key;
        matches!(key.unlock(password, &Limits::USUAL), Err(KeystoreError::WrongKeyPassword(_)))
    };
    let own = store.keys.iter().filter(has_own).filter_map(|key| {
        let opens = tried.iter().find(|setting| key.unlock(&setting.value, &Limits::USUAL).is_ok())?;
        Some((key.alias.clone(), opens.value.duplicate()))
    });
    own.collect()
}
