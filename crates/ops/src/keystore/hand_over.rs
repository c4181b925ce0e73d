//! `keystore hand-over`: a private key encrypted to a store's public key, so that the store can hold it.

use std::path::PathBuf;

use ninekeys_cabinet::CabinetError;
use ninekeys_core::digest::sha256_hex;
use ninekeys_core::hand_over::{HandOverError as EncryptError, Receiver, hand_over};
use ninekeys_core::model::{Role, Use, key_called};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::pem;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::answers::KeySaid;
use crate::ctx::{Ctx, Notice, OpenError};
use crate::files::{self, Access, FileError, Taken};
use crate::keystore::{self, FindError};
use crate::outgoing::{Outgoing, Plan};
use crate::outputs::{self, OutputError};

/// The most that a certificate's or a public key's file has.
const RECEIVER_LIMIT: u64 = 1 << 20;
/// The label of a CMS message in PEM (RFC 7468, section 9).
const CMS: &str = "CMS";

/// What is to be handed over, and to whom.
#[derive(Debug)]
pub struct Request {
    /// The keystore.
    pub name: String,
    /// The key; its only one when nothing is said.
    pub alias: Option<String>,
    /// The store's certificate or public key, PEM or DER.
    pub receiver: PathBuf,
    /// The file; PEM when its name ends so, else DER.
    pub to: PathBuf,
    /// Whether a file that is there is replaced.
    pub replace: bool,
}

/// What was handed over.
#[derive(Debug, Serialize, JsonSchema)]
pub struct KeystoreHandOverReport {
    /// The keystore.
    pub keystore: String,
    /// The key's alias.
    pub alias: String,
    /// What it is for.
    pub uses: Vec<Use>,
    /// What it was made as.
    pub role: Role,
    /// The key that was handed over.
    pub key: KeySaid,
    /// The file.
    pub file: String,
    /// Who can open it.
    pub receiver: ReceiverSaid,
}

/// Who can open what was handed over.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ReceiverSaid {
    /// The subject of its certificate, RFC 4514, where it is a certificate.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub subject: Option<String>,
    /// Its key.
    pub key: KeySaid,
}

/// Why nothing was handed over.
#[derive(Debug, Error)]
pub enum HandOverError {
    /// The keystore or its key.
    #[error(transparent)]
    Find(#[from] FindError),
    /// Encrypting the key to the receiver.
    #[error(transparent)]
    Encrypt(#[from] EncryptError),
    /// The output would fall on something of ours, or has its name taken.
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

/// Encrypts the key, writes the message and the history's row: both or neither.
///
/// # Errors
/// [`HandOverError`]; then no file is there that was not.
pub fn keystore_hand_over(ctx: &Ctx<'_>, request: &Request) -> Result<KeystoreHandOverReport, HandOverError> {
    let path = ctx.path(&request.to);
    let source = ctx.path(&request.receiver);
    outputs::refuse_ours(ctx, &[&path], &[&source])?;
    outputs::refuse_taken(ctx, &[&path], request.replace)?;
    let receiver = files::read_whole(&source, RECEIVER_LIMIT)?;
    let receiver = Receiver::read(&receiver, &Limits::USUAL)?;
    let mut cabinet = ctx.open()?;
    let inventory = cabinet.inventory()?;
    let (item, facts) = keystore::find(&inventory, &request.name)?;
    let entry = keystore::entry(&item.name, facts, request.alias.as_deref())?;
    let gone = || CabinetError::Tampered(format!("the key of {} is gone", entry.alias));
    let key = KeySaid::from(keystore::key_facts(&inventory, entry).ok_or_else(gone)?);
    ctx.unlock(&mut cabinet)?;
    let secret = cabinet.secret(inventory.get(&entry.key).ok_or_else(gone)?)?;
    let mut message = hand_over(&receiver, &secret, &ctx.env)?;
    if request.to.extension().is_some_and(|ending| ending.eq_ignore_ascii_case("pem")) {
        message = pem::encode(CMS, &message).map(String::into_bytes).unwrap_or(message);
    }
    let algorithm = receiver.key().shape().to_string();
    let receiver_key = KeySaid { sha256: receiver.key().fingerprint(), algorithm };
    let short: String = receiver_key.sha256.chars().take(16).collect();
    let what = format!("keystore hand-over {} to the key {short}", key_called(&item.name, &entry.alias));
    let mut outgoing = Outgoing::begin(ctx, &cabinet)?;
    let output = outgoing.file(&path, Access::Owner)?;
    output.put(0, &message)?;
    let files = vec![(output, Some(sha256_hex(&message)))];
    let plan = Plan { what: &what, purpose: "hand-over", from: &[entry.key], completes: None };
    let taken = Taken::when_told(request.replace, ctx.env.now);
    let aside = outgoing.deliver::<HandOverError>(ctx, &mut cabinet, plan, files, taken)?;
    aside.into_iter().for_each(|path| ctx.notice(Notice::SetAside(path)));
    Ok(KeystoreHandOverReport {
        keystore: item.name.clone(),
        alias: entry.alias.clone(),
        role: entry.role,
        uses: entry.uses.clone(),
        key,
        file: request.to.display().to_string(),
        receiver: ReceiverSaid { subject: receiver.subject.clone(), key: receiver_key },
    })
}
