//! `keystore export`: a PKCS#12 file that other programs read, or a certificate alone.

use std::path::{Path, PathBuf};

use ninekeys_cabinet::{Cabinet, CabinetError};
use ninekeys_core::digest::{from_hex, sha256_hex};
use ninekeys_core::keystore::{KeystoreError as FormatError, Outgoing as OutgoingKey, write_pkcs12};
use ninekeys_core::model::{
    CertificateFacts, Inventory, Item, ItemId, KeystoreEntry, KeystoreFacts, Properties, key_called,
};
use ninekeys_core::password;
use ninekeys_formats::pem;
use ninekeys_formats::secret::{Secret, SecretBytes, SecretText};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::answers::CertificateSaid;
use crate::ctx::{Ctx, Notice, OpenError};
use crate::files::{Access, FileError, OutputFile, Taken};
use crate::keystore::settings::{self, SettingsError, SettingsRequest, SettingsSaid};
use crate::keystore::{self, FindError, NewPassword, PasswordChoiceError};
use crate::outgoing::{Outgoing, Plan};
use crate::outputs::{self, OutputError};

/// What a keystore becomes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Form {
    /// PKCS#12, with the private keys.
    Pkcs12,
    /// Certificates alone, PEM.
    CertificatePem,
    /// One certificate alone, DER.
    CertificateDer,
}

/// What is to be exported.
#[derive(Debug)]
pub struct Request {
    /// The keystore.
    pub name: String,
    /// The aliases wanted; all when none is named.
    pub aliases: Vec<String>,
    /// The file.
    pub to: PathBuf,
    /// What the file will be.
    pub form: Form,
    /// Another password than the keystore's own.
    pub password: Option<NewPassword>,
    /// A file that the password is written into.
    pub password_to: Option<PathBuf>,
    /// A properties file that leads to the key.
    pub properties: Option<SettingsRequest>,
    /// Whether files that are there are replaced.
    pub replace: bool,
}

/// What was exported.
#[derive(Debug, Serialize, JsonSchema)]
pub struct KeystoreExportReport {
    /// The keystore.
    pub keystore: String,
    /// The file.
    pub file: String,
    /// What the file is.
    pub form: Form,
    /// What is in it.
    pub entries: Vec<Exported>,
    /// Where its password is from.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub password: Option<PasswordFrom>,
    /// Where the password was written to.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub password_file: Option<String>,
    /// The properties file that leads to the key.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub properties: Option<SettingsSaid>,
    /// Whether a chosen password is easy to guess.
    pub weak_password: bool,
    /// Whether others may know the password: it came into the cabinet with a file.
    pub foreign_password: bool,
}

/// One key of an exported file, or its certificate alone.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Exported {
    /// Its alias.
    pub alias: String,
    /// Its certificate.
    pub certificate: CertificateSaid,
}

/// Where an exported file's password is from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum PasswordFrom {
    /// The keystore's own.
    Keystore,
    /// Chosen for this file.
    Chosen,
    /// Made up for this file.
    Generated,
}

/// Why nothing was exported.
#[derive(Debug, Error)]
pub enum ExportError {
    /// The keystore or its keys.
    #[error(transparent)]
    Find(#[from] FindError),
    /// The password of the file.
    #[error(transparent)]
    Password(#[from] PasswordChoiceError),
    /// A password that nobody would know.
    #[error("a password that is made up for the file has to be written somewhere, or nobody can open it")]
    NobodyWouldKnow,
    /// A password that came in with a keystore and that no keystore should be written under.
    #[error(
        "the password that {0} came with has fewer than 6 characters: a file under it would be as good as open"
    )]
    TooShort(String),
    /// Passwords and properties go with private keys alone.
    #[error("a certificate alone has no password, and no build can sign with it")]
    NothingToOpen,
    /// The properties file.
    #[error(transparent)]
    Settings(#[from] SettingsError),
    /// Several certificates do not go into one DER file.
    #[error("a DER file holds one certificate, and {0} were asked for")]
    OneCertificate(usize),
    /// The keystore could not be written.
    #[error(transparent)]
    Format(#[from] FormatError),
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

/// What of a keystore is wanted.
struct Wanted<'a> {
    item: &'a Item,
    facts: &'a KeystoreFacts,
    entries: Vec<(&'a KeystoreEntry, &'a CertificateFacts)>,
}

impl<'a> Wanted<'a> {
    fn find(inventory: &'a Inventory, request: &Request) -> Result<Self, ExportError> {
        let (item, facts) = keystore::find(inventory, &request.name)?;
        let mut chosen = Vec::new();
        if request.aliases.is_empty() {
            chosen.extend(facts.entries.iter());
        }
        for alias in &request.aliases {
            chosen.push(keystore::entry(&item.name, facts, Some(alias))?);
        }
        let mut entries = Vec::new();
        for entry in chosen {
            let gone = || CabinetError::Tampered(format!("the certificate of {} is gone", entry.alias));
            entries.push((entry, keystore::certificate_of(inventory, entry).ok_or_else(gone)?));
        }
        Ok(Wanted { item, facts, entries })
    }
}

/// Where it goes.
struct Places {
    file: PathBuf,
    note: Option<PathBuf>,
    settings: Option<PathBuf>,
}

impl Places {
    fn all(&self) -> Vec<&Path> {
        [Some(&self.file), self.note.as_ref(), self.settings.as_ref()]
            .into_iter()
            .flatten()
            .map(PathBuf::as_path)
            .collect()
    }
}

/// Exports. Certificates are no secret: for them alone the cabinet is not unlocked and no history is written.
///
/// # Errors
/// [`ExportError`]; then no file is there that was not.
pub fn keystore_export(ctx: &Ctx<'_>, request: Request) -> Result<KeystoreExportReport, ExportError> {
    let mut cabinet = ctx.open()?;
    let inventory = cabinet.inventory()?;
    let wanted = Wanted::find(&inventory, &request)?;
    let with_password =
        request.password.is_some() || request.password_to.is_some() || request.properties.is_some();
    if request.form != Form::Pkcs12 && with_password {
        return Err(ExportError::NothingToOpen);
    }
    let chosen: Vec<&KeystoreEntry> = wanted.entries.iter().map(|(entry, _)| *entry).collect();
    let names = request
        .properties
        .as_ref()
        .map(|wanted| settings::names(ctx, wanted, &chosen, &request.to))
        .transpose()?;
    let places = Places {
        file: ctx.path(&request.to),
        note: request.password_to.as_ref().map(|file| ctx.path(file)),
        settings: request.properties.as_ref().map(|wanted| ctx.path(&wanted.file)),
    };
    // said before the passphrase is asked for, and before one of them is written
    outputs::refuse_ours(ctx, &places.all(), &[])?;
    outputs::refuse_taken(ctx, &places.all(), request.replace)?;
    let certificate = |(entry, facts): &(&KeystoreEntry, &CertificateFacts)| Exported {
        alias: entry.alias.clone(),
        certificate: (*facts).into(),
    };
    let mut report = KeystoreExportReport {
        keystore: wanted.item.name.clone(),
        file: request.to.display().to_string(),
        form: request.form,
        entries: wanted.entries.iter().map(certificate).collect(),
        password: None,
        password_file: None,
        properties: None,
        weak_password: false,
        foreign_password: false,
    };
    if request.form != Form::Pkcs12 {
        let taken = Taken::when_told(request.replace, ctx.env.now);
        let bytes = certificates(&wanted.entries, request.form)?;
        ctx.notice_aside(Outgoing::write_whole(ctx, &places.file, &bytes, Access::Usual, taken)?);
        return Ok(report);
    }
    let generated = matches!(request.password, Some(NewPassword::Generated));
    if generated && places.note.is_none() && places.settings.is_none() {
        return Err(ExportError::NobodyWouldKnow);
    }
    ctx.unlock(&mut cabinet)?;
    with_keys(ctx, &mut cabinet, &inventory, request, &wanted, (&places, names), &mut report)?;
    Ok(report)
}

/// Writes private keys under a password, and that password where it is wanted.
fn with_keys(
    ctx: &Ctx<'_>,
    cabinet: &mut Cabinet<'_>,
    inventory: &Inventory,
    request: Request,
    wanted: &Wanted<'_>,
    (places, names): (&Places, Option<Properties>),
    report: &mut KeystoreExportReport,
) -> Result<(), ExportError> {
    let (password, from, weak) = choose(ctx, cabinet, (wanted.item, wanted.facts), request.password)?;
    report.password = Some(from);
    report.weak_password = weak;
    report.foreign_password = from == PasswordFrom::Keystore && wanted.facts.foreign_password;
    report.password_file = request.password_to.map(|file| file.display().to_string());
    let bytes = pkcs12(ctx, cabinet, inventory, &wanted.entries, &password)?;
    let mut secrets = Vec::new();
    secrets.extend(places.note.as_deref().map(|file| (file, password_line(&password))));
    if let (Some(file), Some(names), [(one, _)]) = (&places.settings, &names, wanted.entries.as_slice()) {
        secrets.push((file, settings::text(names, &places.file, &one.alias, &password)));
        report.properties = request.properties.map(|wanted| SettingsSaid {
            file: wanted.file.display().to_string(),
            fields: names.fields().map(str::to_owned),
            keep_out: settings::keep_out(ctx, &places.all()),
        });
    }
    let mut outgoing = Outgoing::begin(ctx, cabinet)?;
    let files = prepare(&mut outgoing, (&places.file, &bytes), &secrets)?;
    let aliases: Vec<&str> = wanted.entries.iter().map(|(entry, _)| entry.alias.as_str()).collect();
    let what = format!("keystore export {}", key_called(&report.keystore, &aliases.join(", ")));
    let keys: Vec<ItemId> = wanted.entries.iter().map(|(entry, _)| entry.key).collect();
    let plan = Plan { what: &what, purpose: "export", from: &keys, completes: None };
    let taken = Taken::when_told(request.replace, ctx.env.now);
    let aside = outgoing.deliver::<ExportError>(ctx, cabinet, plan, files, taken)?;
    if let Some(settings) = &mut report.properties {
        // what was set aside holds as much as what took its place
        let aside: Vec<&Path> = aside.iter().map(PathBuf::as_path).collect();
        settings.keep_out.extend(settings::keep_out(ctx, &aside));
    }
    aside.into_iter().for_each(|path| ctx.notice(Notice::SetAside(path)));
    Ok(())
}

fn password_line(password: &SecretText) -> SecretText {
    password.lend(|password| Secret::new(format!("{password}\n")))
}

/// The files under temporary names: the keystore, and those that its password stands in.
fn prepare(
    outgoing: &mut Outgoing,
    (path, bytes): (&Path, &[u8]),
    secrets: &[(&Path, SecretText)],
) -> Result<Vec<(OutputFile, Option<String>)>, FileError> {
    let output = outgoing.file(path, Access::Owner)?;
    output.put(0, bytes)?;
    let mut files = vec![(output, Some(sha256_hex(bytes)))];
    for (path, text) in secrets {
        let output = outgoing.file(path, Access::Owner)?;
        text.lend(|text| output.put(0, text.as_bytes()))?;
        // a digest of a password would be something to guess it by
        files.push((output, None));
    }
    // what its password stands in gets its name first: so the last name says that all of it is there
    files.rotate_left(1);
    Ok(files)
}

fn certificates(entries: &[(&KeystoreEntry, &CertificateFacts)], form: Form) -> Result<Vec<u8>, ExportError> {
    let der = |facts: &CertificateFacts| from_hex(&facts.der).unwrap_or_default();
    match (form, entries) {
        (Form::CertificateDer, [(_, facts)]) => Ok(der(facts)),
        (Form::CertificateDer, many) => Err(ExportError::OneCertificate(many.len())),
        _ => {
            let encoded =
                entries.iter().filter_map(|(_, facts)| pem::encode(pem::CERTIFICATE, &der(facts)).ok());
            Ok(encoded.collect::<String>().into_bytes())
        }
    }
}

fn choose(
    ctx: &Ctx<'_>,
    cabinet: &Cabinet<'_>,
    (item, facts): (&Item, &KeystoreFacts),
    chosen: Option<NewPassword>,
) -> Result<(SecretText, PasswordFrom, bool), ExportError> {
    let Some(chosen) = chosen else {
        let own = cabinet.secret(item)?.lend(|bytes| String::from_utf8_lossy(bytes).into_owned());
        let own = Secret::new(own);
        // an imported store's own password may be none at all: a file under it would be as good as open
        if password::judge(&own, &[&item.name]).is_ok() {
            return Ok((own, PasswordFrom::Keystore, facts.weak_password));
        }
        let better = ctx
            .ask
            .new_secret(
                &format!("The password of {} is too short; a new one for this file", item.name),
                &|text| password::judge(text, &[&item.name]).map(|_| ()).map_err(|error| error.to_string()),
            )
            .map_err(PasswordChoiceError::from)?;
        let better = better.ok_or_else(|| ExportError::TooShort(item.name.clone()))?;
        let strength = password::judge(&better, &[&item.name]).map_err(PasswordChoiceError::from)?;
        return Ok((better, PasswordFrom::Chosen, strength.weak));
    };
    let from = match chosen {
        NewPassword::Generated => PasswordFrom::Generated,
        _ => PasswordFrom::Chosen,
    };
    let (password, weak) = keystore::choose_password(ctx, chosen, &[&item.name])?;
    Ok((password, from, weak))
}

fn pkcs12(
    ctx: &Ctx<'_>,
    cabinet: &Cabinet<'_>,
    inventory: &Inventory,
    entries: &[(&KeystoreEntry, &CertificateFacts)],
    password: &SecretText,
) -> Result<Vec<u8>, ExportError> {
    let mut parts: Vec<(&str, SecretBytes, Vec<u8>)> = Vec::new();
    for (entry, facts) in entries {
        let gone = || CabinetError::Tampered(format!("the key of {} is gone", entry.alias));
        let secret = cabinet.secret(inventory.get(&entry.key).ok_or_else(gone)?)?;
        parts.push((&entry.alias, secret, from_hex(&facts.der).ok_or_else(gone)?));
    }
    let keys: Vec<OutgoingKey<'_>> = parts
        .iter()
        .map(|(alias, secret, certificate)| OutgoingKey { alias, secret, certificate, chain: &[] })
        .collect();
    Ok(write_pkcs12(&keys, password, &ctx.env)?)
}
