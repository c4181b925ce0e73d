//! `identity export`: a PKCS#12 file with key and full chain, or the certificate alone.

use std::path::{Path, PathBuf};

use ninekeys_cabinet::{Cabinet, CabinetError};
use ninekeys_core::chain::Chain;
use ninekeys_core::digest::sha256_hex;
use ninekeys_core::keystore::{KeystoreError as FormatError, Outgoing as OutgoingKey, write_pkcs12};
use ninekeys_core::model::{Inventory, ItemId};
use ninekeys_formats::pem;
use ninekeys_formats::secret::Secret;
use ninekeys_formats::x509::Certificate;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::{CertificatesError, ChainSaid, FindError, IdentitySaid};
use crate::ctx::{Ctx, Notice, OpenError};
use crate::files::{Access, FileError, Taken};
use crate::identity;
use crate::keystore::export::{Form, PasswordFrom};
use crate::keystore::{self, NewPassword, PasswordChoiceError};
use crate::outgoing::{Outgoing, Plan};
use crate::outputs::{self, OutputError};
use crate::project::ProjectError;

/// What is to be exported.
#[derive(Debug)]
pub struct Request {
    /// The identity.
    pub name: String,
    /// The file.
    pub to: PathBuf,
    /// What the file will be.
    pub form: Form,
    /// Where its password comes from; asked for when nothing is said.
    pub password: NewPassword,
    /// A file that the password is written into.
    pub password_to: Option<PathBuf>,
    /// Whether files that are there are replaced.
    pub replace: bool,
}

/// What was exported.
#[derive(Debug, Serialize, JsonSchema)]
pub struct IdentityExportReport {
    /// The identity.
    #[serde(flatten)]
    pub identity: IdentitySaid,
    /// The file.
    pub file: String,
    /// What the file is.
    pub form: Form,
    /// What went with it.
    pub chain: ChainSaid,
    /// Where its password is from.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub password: Option<PasswordFrom>,
    /// Where the password was written to.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub password_file: Option<String>,
    /// Whether a chosen password is easy to guess.
    pub weak_password: bool,
}

/// Why nothing was exported.
#[derive(Debug, Error)]
pub enum IdentityExportError {
    /// The identity.
    #[error(transparent)]
    Find(#[from] FindError),
    /// It has no certificate yet.
    #[error("{0} waits for its certificate")]
    NoCertificate(String),
    /// Its key is not here.
    #[error("the private key of {0} is not here, so there is nothing to sign with in it")]
    NoKey(String),
    /// A certificate of the chain is missing.
    #[error("the chain of {name} is not complete: the certificate of {lacks} is missing")]
    ChainLacks {
        /// The identity.
        name: String,
        /// Whose certificate is missing.
        lacks: String,
    },
    /// The password of the file.
    #[error(transparent)]
    Password(#[from] PasswordChoiceError),
    /// A password that nobody would know.
    #[error("a password that is made up for the file has to be written somewhere, or nobody can open it")]
    NobodyWouldKnow,
    /// A password for what needs none.
    #[error("a certificate alone has no password")]
    NothingToOpen,
    /// The project's roots.
    #[error(transparent)]
    Certificates(#[from] CertificatesError),
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The archive could not be written.
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

/// What goes out: the certificate with what is above it, and where it goes.
struct Wanted {
    name: String,
    key: Option<ItemId>,
    certificate: Certificate,
    chain: Chain,
    path: PathBuf,
    note: Option<PathBuf>,
}

/// Exports. A certificate is no secret: for it alone the cabinet is not unlocked and no history is written.
///
/// # Errors
/// [`IdentityExportError`]; then no file is there that was not.
pub fn identity_export(ctx: &Ctx<'_>, request: Request) -> Result<IdentityExportReport, IdentityExportError> {
    let file = ctx.project_if_any()?;
    let roots = identity::roots(file.as_ref())?;
    let mut cabinet = ctx.open()?;
    let inventory = cabinet.inventory()?;
    let wanted = find(ctx, &inventory, &roots, &request)?;
    let places: Vec<&Path> =
        [Some(&wanted.path), wanted.note.as_ref()].into_iter().flatten().map(PathBuf::as_path).collect();
    outputs::refuse_ours(ctx, &places, &[])?;
    outputs::refuse_taken(ctx, &places, request.replace)?;
    let (_, facts) = identity::find(&inventory, &wanted.name)?;
    let mut report = IdentityExportReport {
        identity: identity::said(&inventory, &wanted.name, facts, file.as_ref().map(|file| &file.project)),
        file: request.to.display().to_string(),
        form: request.form,
        chain: identity::chain_said(&wanted.chain, &roots),
        password: None,
        password_file: None,
        weak_password: false,
    };
    if request.form == Form::Pkcs12 {
        with_key(ctx, &mut cabinet, &inventory, &wanted, request, &mut report)?;
        return Ok(report);
    }
    if !matches!(request.password, NewPassword::Asked) || wanted.note.is_some() {
        return Err(IdentityExportError::NothingToOpen);
    }
    let taken = Taken::when_told(request.replace, ctx.env.now);
    let bytes = alone(&wanted.certificate, &wanted.chain, request.form);
    ctx.notice_aside(Outgoing::write_whole(ctx, &wanted.path, &bytes, Access::Usual, taken)?);
    Ok(report)
}

fn find(
    ctx: &Ctx<'_>,
    inventory: &Inventory,
    roots: &[Certificate],
    request: &Request,
) -> Result<Wanted, IdentityExportError> {
    let (item, facts) = identity::find(inventory, &request.name)?;
    let certificate = facts.certificate.as_ref().and_then(|id| identity::certificate_facts(inventory, id));
    let certificate = certificate.and_then(identity::parsed);
    let certificate = certificate.ok_or_else(|| IdentityExportError::NoCertificate(item.name.clone()))?;
    let mut pool = identity::authorities(inventory);
    pool.extend(roots.iter().cloned());
    Ok(Wanted {
        name: item.name.clone(),
        key: facts.key,
        chain: Chain::find(&certificate, &pool),
        certificate,
        path: ctx.path(&request.to),
        note: request.password_to.as_ref().map(|file| ctx.path(file)),
    })
}

/// Writes key and chain under a password, and that password where it is wanted.
fn with_key(
    ctx: &Ctx<'_>,
    cabinet: &mut Cabinet<'_>,
    inventory: &Inventory,
    wanted: &Wanted,
    request: Request,
    report: &mut IdentityExportReport,
) -> Result<(), IdentityExportError> {
    let name = &wanted.name;
    let key = wanted.key.and_then(|id| inventory.get(&id));
    let key = key.ok_or_else(|| IdentityExportError::NoKey(name.clone()))?;
    if let Some(lacks) = report.chain.lacks.clone() {
        return Err(IdentityExportError::ChainLacks { name: name.clone(), lacks });
    }
    let generated = matches!(request.password, NewPassword::Generated);
    if generated && wanted.note.is_none() {
        return Err(IdentityExportError::NobodyWouldKnow);
    }
    ctx.unlock(cabinet)?;
    let (password, weak) = keystore::choose_password(ctx, request.password, &[name])?;
    report.password = Some(if generated { PasswordFrom::Generated } else { PasswordFrom::Chosen });
    report.password_file = request.password_to.map(|file| file.display().to_string());
    report.weak_password = weak;
    let secret = cabinet.secret(key)?;
    let above: Vec<Vec<u8>> = wanted.chain.certificates.iter().skip(1).map(|one| one.der.clone()).collect();
    let certificate = &wanted.certificate.der;
    let entry = OutgoingKey { alias: name, secret: &secret, certificate, chain: &above };
    let bytes = write_pkcs12(&[entry], &password, &ctx.env)?;
    let mut outgoing = Outgoing::begin(ctx, cabinet)?;
    let output = outgoing.file(&wanted.path, Access::Owner)?;
    output.put(0, &bytes)?;
    let mut files = vec![(output, Some(sha256_hex(&bytes)))];
    if let Some(note) = &wanted.note {
        let output = outgoing.file(note, Access::Owner)?;
        let line = password.lend(|password| Secret::new(format!("{password}\n")));
        line.lend(|line| output.put(0, line.as_bytes()))?;
        // a digest of a password would be something to guess it by
        files.push((output, None));
    }
    // the password gets its name first: so the last name says that all of it is there
    files.rotate_left(1);
    let what = format!("identity export {name}");
    let plan = Plan { what: &what, purpose: "export", from: &[key.id], completes: None };
    let taken = Taken::when_told(request.replace, ctx.env.now);
    let aside = outgoing.deliver::<IdentityExportError>(ctx, cabinet, plan, files, taken)?;
    aside.into_iter().for_each(|path| ctx.notice(Notice::SetAside(path)));
    Ok(())
}

/// The certificate alone; in PEM with what is above it, since people forget that.
fn alone(certificate: &Certificate, chain: &Chain, form: Form) -> Vec<u8> {
    if form == Form::CertificateDer {
        return certificate.der.clone();
    }
    let texts = chain.certificates.iter().filter_map(|one| pem::encode(pem::CERTIFICATE, &one.der).ok());
    texts.collect::<String>().into_bytes()
}
