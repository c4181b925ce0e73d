//! `give`: one folder with what an outside service needs to sign and upload an app, the password apart, and a row that says who
//! was given what.

mod sheet;

use std::path::{Path, PathBuf};

use jiff::Timestamp;
use ninekeys_cabinet::{Cabinet, CabinetError, NewItem};
use ninekeys_core::certificate::CertificateError;
use ninekeys_core::chain::End;
use ninekeys_core::digest::{hex, sha256_hex};
use ninekeys_core::ios::setup::{Setup, parsed};
use ninekeys_core::keystore::{KeystoreError as FormatError, Outgoing as OutgoingKey, write_pkcs12};
use ninekeys_core::model::{
    ApiKeyFacts, Destination, Facts, GivenItem, HandOutFacts, Inventory, Item, ItemId, NameError, NineKey,
    Platform, Service, State, check_title,
};
use ninekeys_core::rules::check_setup;
use ninekeys_formats::pem;
use ninekeys_formats::secret::{Secret, SecretBytes, SecretText};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::apikey;
use crate::ctx::{Ctx, OpenError};
use crate::files::{Access, FileError, NewFolders, OutputFile, Taken, folder_of};
use crate::keystore::{NewPassword, PasswordChoiceError, choose_password};
use crate::outgoing::{Outgoing, Plan};
use crate::outputs::{self, OutputError};
use crate::prepare::{Job, PrepareError};
use crate::project::ProjectError;

/// The identity's file in the folder.
const IDENTITY: &str = "identity.p12";
/// The push identity's.
const PUSH: &str = "push.p12";
/// The API key's.
const API_KEY: &str = "api-key.pem";
/// The sheet that says what is what.
const SHEET: &str = "what-is-what.txt";

/// What is to be given, and to whom.
#[derive(Debug)]
pub struct Request {
    /// The app.
    pub app: String,
    /// Where its builds go.
    pub destination: Destination,
    /// Who is given it.
    pub receiver: String,
    /// The folder, which is not there yet or empty.
    pub to: PathBuf,
    /// The API key that goes with it; none when nothing is said.
    pub api_key: Option<String>,
    /// The file for the password, which is not in the folder; beside it when nothing is said.
    pub password_to: Option<PathBuf>,
}

/// What was given.
#[derive(Debug, Serialize, JsonSchema)]
pub struct GiveReport {
    /// The app's name.
    pub app: String,
    /// What people call it.
    pub title: String,
    /// Its bundle id.
    pub bundle_id: String,
    /// The team that it belongs to.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub team: Option<String>,
    /// Where builds with it go.
    pub destination: Destination,
    /// Who was given it.
    pub receiver: String,
    /// The folder.
    pub folder: String,
    /// The files in it, but for the sheet.
    pub files: Vec<GivenFile>,
    /// The sheet that says what is what.
    pub sheet: String,
    /// The file with the password of the PKCS#12 files, which goes another way.
    pub password_file: String,
    /// The API key's ids, where one went with it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub api_key: Option<GivenApiKey>,
    /// Whether the app takes notifications and no push identity could go with it.
    pub lacks_push: bool,
    /// When.
    pub at: Timestamp,
}

/// A file, and what it is.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct GivenFile {
    /// Its name in the folder.
    pub file: String,
    /// Which of the nine it is.
    pub kind: NineKey,
    /// The item's name in the cabinet.
    pub name: String,
    /// SHA-256 of the certificate, or of the profile's file.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sha256: Option<String>,
    /// Until when it is good.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub not_after: Option<Timestamp>,
}

/// What somebody has to know of an API key beside its private key.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct GivenApiKey {
    /// The key id.
    pub key_id: String,
    /// The issuer id.
    pub issuer: String,
    /// What it may do.
    pub role: String,
    /// The number by which sales reports know the account.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub vendor_number: Option<String>,
}

/// Why nothing was given.
#[derive(Debug, Error)]
pub enum GiveError {
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The project file has no such app.
    #[error("the project file has no app called {0}")]
    UnknownApp(String),
    /// The app has no iOS side.
    #[error("{0} has no iOS side in the project file; an Android key is handed over by `keystore hand-over`")]
    NotIos(String),
    /// iOS builds do not go there.
    #[error("builds for {} are not for iOS", .0.phrase())]
    Destination(Destination),
    /// Who is given it cannot be called that.
    #[error("the receiver: {0}")]
    Receiver(#[from] NameError),
    /// Something is missing, or not good.
    #[error("not everything is in place for {title} and {}", destination.phrase())]
    NotReady {
        /// The app.
        app: String,
        /// What people call it.
        title: String,
        /// Where its builds go.
        destination: Destination,
    },
    /// A certificate of the chain is missing.
    #[error("the chain of {name} is not complete: the certificate of {lacks} is missing")]
    ChainLacks {
        /// The identity.
        name: String,
        /// Whose certificate is missing.
        lacks: String,
    },
    /// The API key.
    #[error(transparent)]
    ApiKey(#[from] apikey::FindError),
    /// It is none that can be given.
    #[error("{0} is retired, has no private key, or is no store API key")]
    NoKey(String),
    /// The folder has something in it.
    #[error("{0} is there, and has something in it")]
    NotEmpty(String),
    /// The password would go the same way as what it opens.
    #[error("{0} is in the folder that is given, and a password goes another way")]
    PasswordInside(String),
    /// What was looked at.
    #[error(transparent)]
    Prepare(#[from] PrepareError),
    /// The password.
    #[error(transparent)]
    Password(#[from] PasswordChoiceError),
    /// An archive could not be written.
    #[error(transparent)]
    Format(#[from] FormatError),
    /// A name could not be made.
    #[error(transparent)]
    Certificate(#[from] CertificateError),
    /// An output would fall on something of ours, or has its name taken.
    #[error(transparent)]
    Output(#[from] OutputError),
    /// A file.
    #[error(transparent)]
    File(#[from] FileError),
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

/// Something that goes into the folder.
struct Going {
    file: String,
    kind: NineKey,
    item: ItemId,
    name: String,
    sha256: Option<String>,
    not_after: Option<Timestamp>,
    content: Content,
}

/// Where what goes into a file comes from.
enum Content {
    /// A private key, with its certificate and those above it, DER.
    Identity { key: ItemId, certificate: Vec<u8>, above: Vec<Vec<u8>> },
    /// A sealed part as it is.
    Whole,
    /// A private key in PEM.
    Key(ItemId),
}

/// Gives. Everything has its final name, and the row that says who was given it stands, or nothing is there.
///
/// # Errors
/// [`GiveError`]; then nothing is there that was not.
pub fn give(ctx: &Ctx<'_>, request: &Request) -> Result<GiveReport, GiveError> {
    check_title(&request.receiver)?;
    let file = ctx.project_file()?;
    let unknown = || GiveError::UnknownApp(request.app.clone());
    let (name, app) = file.project.app(&request.app).ok_or_else(unknown)?;
    let ios = app.ios.as_ref().ok_or_else(|| GiveError::NotIos(app.title.clone()))?;
    let destination = request.destination;
    if !Platform::Ios.has(destination) {
        return Err(GiveError::Destination(destination));
    }
    let mut cabinet = ctx.open()?;
    let inventory = cabinet.inventory()?;
    let job = Job::begin(ctx, &file, (name, app, ios), destination, &inventory)?;
    let (going, ..) = wanted(&job, &inventory, request)?;
    let password_to = password_place(ctx, request)?;
    let places = (ctx.path(&request.to), ctx.path(&password_to));
    refuse_full(&places.0, &request.to)?;
    refuse(ctx, &places, &going)?;
    ctx.unlock(&mut cabinet)?;
    // as it is now: somebody else may have revoked or replaced some of it while this waited for a passphrase
    let (going, lacks_push, api_key) = wanted(&job, &*cabinet.inventory()?, request)?;
    let report = GiveReport {
        app: name.into(),
        title: app.title.clone(),
        bundle_id: ios.bundle_id.clone(),
        team: file.project.team_of(ios).map(str::to_owned),
        destination,
        receiver: request.receiver.clone(),
        folder: request.to.display().to_string(),
        files: going.iter().map(GivenFile::from).collect(),
        sheet: SHEET.into(),
        password_file: password_to.display().to_string(),
        api_key,
        lacks_push,
        at: ctx.env.now,
    };
    let sheet = sheet::text(&report, file.project.title.trim());
    deliver(ctx, &mut cabinet, &going, &report, &places, &sheet)?;
    Ok(report)
}

/// What goes into the folder, whether a push identity is missing, and what is to be known of the API key.
type Wanted = (Vec<Going>, bool, Option<GivenApiKey>);

fn wanted(job: &Job<'_>, inventory: &Inventory, request: &Request) -> Result<Wanted, GiveError> {
    let (app, title, destination) = (job.name.to_owned(), job.app.title.clone(), job.destination);
    let not_ready = || GiveError::NotReady { app, title, destination };
    let found = job.look(inventory, |setup| {
        if !check_setup(setup).is_ready() {
            return Ok(None);
        }
        let lacks_push = setup.has_push() && setup.push_taken().is_none();
        Ok::<_, GiveError>(identities_and_profiles(setup)?.map(|going| (going, lacks_push)))
    })?;
    let (mut going, lacks_push) = found.ok_or_else(not_ready)?;
    let api_key = api_key(inventory, request, &mut going)?;
    Ok((going, lacks_push, api_key))
}

impl From<&Going> for GivenFile {
    fn from(going: &Going) -> Self {
        GivenFile {
            file: going.file.clone(),
            kind: going.kind,
            name: going.name.clone(),
            sha256: going.sha256.clone(),
            not_after: going.not_after,
        }
    }
}

/// The identity that signs, the profile of everything that is signed, and the push identity where there is one.
fn identities_and_profiles(setup: &Setup<'_>) -> Result<Option<Vec<Going>>, GiveError> {
    let Some(taken) = setup.taken() else { return Ok(None) };
    let mut all = Vec::new();
    let wanted = [Some((taken, IDENTITY)), setup.push_taken().map(|choice| (choice, PUSH))];
    for (choice, file) in wanted.into_iter().flatten() {
        let own = choice.certificate.and_then(|facts| Some((facts, parsed(facts)?)));
        let (Some((facts, certificate)), Some(key)) = (own, choice.facts.key) else { return Ok(None) };
        let Some(chain) = setup.wanted.roster.chain(facts, setup.wanted.pool) else { return Ok(None) };
        if let End::Lacks { issuer, .. } = &chain.end {
            return Err(GiveError::ChainLacks { name: choice.item.name.clone(), lacks: issuer.clone() });
        }
        let above = chain.certificates.iter().skip(1).map(|one| one.der.clone()).collect();
        all.push(Going {
            file: file.into(),
            kind: choice.facts.purpose.nine_key(),
            item: choice.item.id,
            name: choice.item.name.clone(),
            sha256: Some(facts.fingerprint.clone()),
            not_after: Some(facts.not_after),
            content: Content::Identity { key, certificate: certificate.der, above },
        });
    }
    for part in &setup.parts {
        let Some(choice) = part.taken() else { return Ok(None) };
        if all.iter().any(|known| known.item == choice.item.id) {
            continue;
        }
        all.push(Going {
            file: format!("{}.mobileprovision", choice.item.name),
            kind: NineKey::Profile,
            item: choice.item.id,
            name: choice.item.name.clone(),
            sha256: Some(choice.facts.fingerprint.clone()),
            not_after: Some(choice.facts.not_after),
            content: Content::Whole,
        });
    }
    Ok(Some(all))
}

/// The API key that was named.
fn api_key(
    inventory: &Inventory,
    request: &Request,
    going: &mut Vec<Going>,
) -> Result<Option<GivenApiKey>, GiveError> {
    let Some(name) = &request.api_key else { return Ok(None) };
    let (item, facts): (&Item, &ApiKeyFacts) = apikey::find(inventory, name)?;
    let usable = item.state == State::Active && facts.service == Service::Store;
    let key = facts.key.filter(|_| usable).ok_or_else(|| GiveError::NoKey(item.name.clone()))?;
    going.push(Going {
        file: API_KEY.into(),
        kind: NineKey::StoreApi,
        item: item.id,
        name: item.name.clone(),
        sha256: None,
        not_after: None,
        content: Content::Key(key),
    });
    Ok(Some(GivenApiKey {
        key_id: facts.key_id.clone(),
        issuer: facts.issuer.clone(),
        role: facts.role.clone(),
        vendor_number: facts.vendor_number.clone(),
    }))
}

/// Where the password goes: beside the folder when nothing is said, and never into it.
fn password_place(ctx: &Ctx<'_>, request: &Request) -> Result<PathBuf, GiveError> {
    let beside = || {
        let name = request.to.file_name().unwrap_or_default().to_string_lossy().into_owned();
        request.to.with_file_name(format!("{name}-password.txt"))
    };
    let place = request.password_to.clone().unwrap_or_else(beside);
    let real = |path: &Path| path.canonicalize().unwrap_or_else(|_| path.to_owned());
    let (folder, holds) = (real(&ctx.path(&request.to)), real(folder_of(&ctx.path(&place))));
    if holds.starts_with(&folder) {
        return Err(GiveError::PasswordInside(place.display().to_string()));
    }
    Ok(place)
}

/// Refuses a folder with something in it: what is given is what was meant, and nothing else.
pub(crate) fn refuse_full(folder: &Path, named: &Path) -> Result<(), GiveError> {
    let full = || GiveError::NotEmpty(named.display().to_string());
    match std::fs::read_dir(folder) {
        Ok(mut inside) => {
            if inside.next().is_some() {
                Err(full())
            } else {
                Ok(())
            }
        }
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(()),
        Err(cause) => Err(FileError::new("read", folder, cause).into()),
    }
}

/// Refuses what would fall on something of ours, or on what is there: before anybody is asked for a passphrase, and again.
fn refuse(
    ctx: &Ctx<'_>,
    (folder, password_to): &(PathBuf, PathBuf),
    going: &[Going],
) -> Result<(), OutputError> {
    let mut places: Vec<PathBuf> = going.iter().map(|one| folder.join(&one.file)).collect();
    places.extend([folder.join(SHEET), password_to.clone()]);
    let places: Vec<&Path> = places.iter().map(PathBuf::as_path).collect();
    outputs::refuse_ours(ctx, &places, &[])?;
    outputs::refuse_taken(ctx, &places, false)
}

/// Writes it all, and the row that says who was given it.
fn deliver(
    ctx: &Ctx<'_>,
    cabinet: &mut Cabinet<'_>,
    going: &[Going],
    report: &GiveReport,
    places: &(PathBuf, PathBuf),
    sheet: &str,
) -> Result<(), GiveError> {
    refuse(ctx, places, going)?;
    let (folder, password_to) = places;
    let (password, _) = choose_password(ctx, NewPassword::Generated, &[])?;
    let folders = NewFolders::make(folder)?;
    let mut outgoing = Outgoing::begin(ctx, cabinet)?;
    let mut files: Vec<(OutputFile, Option<String>)> = Vec::new();
    let output = outgoing.file(password_to, Access::Owner)?;
    let line = password.lend(|password| Secret::new(format!("{password}\n")));
    line.lend(|line| output.put(0, line.as_bytes()))?;
    // a digest of a password would be something to guess it by
    files.push((output, None));
    for one in going {
        let output = outgoing.file(&folder.join(&one.file), Access::Owner)?;
        let bytes = content(ctx, cabinet, one, &password)?;
        let digest = bytes.lend(|bytes| output.put(0, bytes).map(|()| sha256_hex(bytes)))?;
        files.push((output, Some(digest)));
    }
    let output = outgoing.file(&folder.join(SHEET), Access::Owner)?;
    output.put(0, sheet.as_bytes())?;
    files.push((output, Some(sha256_hex(sheet.as_bytes()))));
    let from: Vec<ItemId> = going.iter().map(|one| one.item).collect();
    let what = format!("give {} for {} to {}", report.app, report.destination, report.receiver);
    let completes = Some(row(ctx, cabinet, going, report)?);
    let plan = Plan { what: &what, purpose: "export", from: &from, completes };
    outgoing.deliver::<GiveError>(ctx, cabinet, plan, files, Taken::Refuse)?;
    folders.keep();
    Ok(())
}

fn content(
    ctx: &Ctx<'_>,
    cabinet: &Cabinet<'_>,
    one: &Going,
    password: &SecretText,
) -> Result<SecretBytes, GiveError> {
    let inventory = cabinet.inventory()?;
    let gone = || CabinetError::Tampered(format!("what {} is made of is gone", one.name));
    let sealed = |id: &ItemId| -> Result<SecretBytes, CabinetError> {
        cabinet.secret(inventory.get(id).ok_or_else(gone)?)
    };
    Ok(match &one.content {
        Content::Whole => sealed(&one.item)?,
        Content::Key(key) => {
            let text = sealed(key)?.lend(|der| pem::encode(pem::PRIVATE_KEY, der));
            let text = text.map_err(|error| CertificateError::Encoding(error.to_string()))?;
            Secret::new(text.into_bytes())
        }
        Content::Identity { key, certificate, above } => {
            let secret = sealed(key)?;
            let entry = OutgoingKey { alias: &one.name, secret: &secret, certificate, chain: above };
            Secret::new(write_pkcs12(&[entry], password, &ctx.env)?)
        }
    })
}

/// The row that says who was given what.
fn row(
    ctx: &Ctx<'_>,
    cabinet: &Cabinet<'_>,
    going: &[Going],
    report: &GiveReport,
) -> Result<NewItem, GiveError> {
    let mut number = [0; 8];
    ctx.env.keys.fill(&mut number).map_err(|_| CabinetError::Crypto("no randomness"))?;
    let given =
        going.iter().map(|one| GivenItem { item: one.item, name: one.name.clone(), file: one.file.clone() });
    let facts = HandOutFacts {
        receiver: report.receiver.clone(),
        app: report.app.clone(),
        destination: report.destination,
        given: given.collect(),
        at: ctx.env.now,
        by: cabinet.unlocked_by().map(|member| member.label.clone()).unwrap_or_default(),
    };
    Ok(NewItem::new(format!("given~{}", hex(&number)), Facts::HandOut(Box::new(facts)), None))
}
