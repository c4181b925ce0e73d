//! The stand-in's side of the two-key enrolment: it holds signing keys, knows upload keys, and signs what devices get.

use std::path::Path as FilePath;
use std::sync::Mutex;

use base64ct::{Base64, Encoding};
use jiff::{SignedDuration, Timestamp};
use ninekeys_core::android::{Identity, Opened, Signing};
use ninekeys_core::certificate::{Subject, self_signed};
use ninekeys_core::envelope;
use ninekeys_core::keys::{Algorithm, PrivateKey, Signer};
use ninekeys_core::model::{ApiRole, Destination, Platform};
use ninekeys_core::stream::{Sink, source_sha256};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::secret::{Secret, SecretBytes};
use ninekeys_formats::source::Source;
use ninekeys_formats::x509::Certificate;
use rusqlite::{Connection, OptionalExtension, params};
use ureq::http::StatusCode;

use super::super::authority::Kept;
use super::super::http::{Call, Response};
use super::super::routes::{Portal, Refusal, answer, read};
use super::super::state::{self, with_env};
use super::file::{OnDisk, Written};
use super::{DELIVERY, failed, known_record};
use crate::store::{
    AsDelivered, Delivery, Deposit, Held, NewUploadKey, NextUpload, Origin, PIECE, ReceivingKey,
};

/// The kind that the keys of an app are kept as.
const HELD: &str = "held";
/// How long another upload key waits: whoever stole the old one cannot put their own in its place unseen.
const WAITING: SignedDuration = SignedDuration::from_hours(48);
/// Years that a key made by the store is valid for.
const YEARS: u16 = 30;
/// The alias that a key has where a signature names one.
const ALIAS: &str = "STORE";

/// The keys of an app, as they are now.
pub(super) fn held(database: &Connection, id: &str, now: Timestamp) -> Result<Option<Held>, Refusal> {
    Ok(state::one::<Held>(database, HELD, id)?.map(|held| held.at(now)))
}

pub(super) fn receiving_key(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    portal.admit(&call.headers, ApiRole::Developer)?;
    let kept = portal.state().receiver(portal.now()).map_err(|error| broken(&error))?;
    answer(&ReceivingKey { certificate: Base64::encode_string(&kept.certificate) })
}

fn broken(error: &dyn std::fmt::Display) -> Refusal {
    failed(&std::io::Error::other(error.to_string()))
}

pub(super) fn keys(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    let id = call.part(0);
    portal.admit_upload(&call.headers)?;
    let now = portal.now();
    let found = portal.state().change(|database, _| held(database, id, now))?;
    answer(&found.ok_or_else(|| not_held(id))?)
}

fn not_held(id: &str) -> Refusal {
    Refusal::unknown(format!("the store holds no signing key for {id}"))
}

/// A certificate that somebody sent.
fn certificate(text: &str) -> Result<Certificate, Refusal> {
    let der = Base64::decode_vec(text).map_err(|_| Refusal::malformed("a certificate is DER in Base64"))?;
    Certificate::parse(&der, &Limits::USUAL)
        .map_err(|_| Refusal::malformed("what was sent as a certificate is none"))
}

pub(super) fn deposit(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    let id = call.part(0);
    portal.admit(&call.headers, ApiRole::Manager)?;
    let wanted: Deposit = read(&call.body)?;
    let now = portal.now();
    let receiver = portal.state().receiver(now).map_err(|error| broken(&error))?;
    let said = portal.state().change(|database, _| {
        known_record(database, Platform::Android, id)?;
        if let Some(known) = held(database, id, now)? {
            // the same once more is answered as it was the first time
            let same = known.origin == wanted.origin
                && wanted.certificate.as_ref().is_none_or(|own| *own == known.signing);
            let detail = format!("the store holds a signing key for {id}, and gives none away");
            return if same { Ok(known) } else { Err(Refusal::taken(detail)) };
        }
        let upload = certificate(&wanted.upload)?;
        let (secret, signing) = match &wanted.origin {
            Origin::HandedOver => handed_over(&receiver, &wanted)?,
            Origin::MadeByStore => made(id, now)?,
            Origin::OfApp(other) => {
                let known = secret_of(database, other)?;
                known.ok_or_else(|| not_held(other))?
            }
        };
        let own = Certificate::parse(&signing, &Limits::USUAL).map_err(|error| broken(&error))?;
        if own.public_key == upload.public_key {
            let detail = "the upload key is the signing key, and whoever steals it has both";
            return Err(Refusal::rule("keys-swapped", detail));
        }
        let sql = "insert into held_key (id, secret, certificate) values (?1, ?2, ?3)";
        secret.lend(|secret| database.execute(sql, params![id, secret, signing]))?;
        let held = Held {
            id: id.into(),
            origin: wanted.origin,
            since: now,
            signing: Base64::encode_string(&signing),
            upload: wanted.upload,
            next_upload: None,
        };
        state::put(database, HELD, id, now, &held)?;
        Ok(held)
    })?;
    answer(&said)
}

/// A key that was handed over: opened, and proven to be the certificate's.
fn handed_over(receiver: &Kept, wanted: &Deposit) -> Result<(SecretBytes, Vec<u8>), Refusal> {
    let unreadable = || Refusal::malformed("the signing key is not encrypted to the store's key");
    let message = wanted.message.as_deref().ok_or_else(unreadable)?;
    let message = Base64::decode_vec(message).map_err(|_| unreadable())?;
    let own = receiver.secret.lend(|der| PrivateKey::from_pkcs8(der)).map_err(|_| unreadable())?;
    let opened = envelope::open(own.public(), &receiver.secret, &message, &Limits::USUAL);
    let secret = opened.map_err(|_| unreadable())?;
    let signing = certificate(wanted.certificate.as_deref().unwrap_or_default())?;
    let key = secret.lend(|der| PrivateKey::from_pkcs8(der)).map_err(|_| unreadable())?;
    if key.public().as_der() != signing.public_key {
        return Err(Refusal::malformed("the signing key is not the certificate's"));
    }
    Ok((secret, signing.der))
}

/// A key that the store makes.
fn made(id: &str, now: Timestamp) -> Result<(SecretBytes, Vec<u8>), Refusal> {
    with_env(now, |env| {
        let secret = env.keys.make(Algorithm::Rsa3072).map_err(|error| broken(&error))?;
        let key = secret.lend(|der| PrivateKey::from_pkcs8(der)).map_err(|error| broken(&error))?;
        let subject = Subject {
            common_name: Some(id.chars().take(64).collect()),
            organisation: Some("Stand-In Store".into()),
            ..Subject::default()
        };
        let der = self_signed(&key, &subject, YEARS, env).map_err(|error| broken(&error))?;
        Ok((secret, der))
    })
}

/// The signing key that is held for an app, and its certificate.
fn secret_of(database: &Connection, id: &str) -> Result<Option<(SecretBytes, Vec<u8>)>, Refusal> {
    let mut query = database.prepare_cached("select secret, certificate from held_key where id = ?1")?;
    let row = query.query_row([id], |row| Ok((Secret::new(row.get(0)?), row.get(1)?)));
    Ok(row.optional()?)
}

pub(super) fn replace_upload(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    let id = call.part(0);
    portal.admit(&call.headers, ApiRole::Manager)?;
    let NewUploadKey { certificate: new } = read(&call.body)?;
    let wanted = certificate(&new)?;
    let now = portal.now();
    let said = portal.state().change(|database, _| {
        let mut known = held(database, id, now)?.ok_or_else(|| not_held(id))?;
        let signing = certificate(&known.signing)?;
        if wanted.public_key == signing.public_key {
            return Err(Refusal::rule("keys-swapped", "this is the signing key, which uploads nothing"));
        }
        let is_there = known.upload == new;
        let waits = known.next_upload.as_ref().is_some_and(|next| next.certificate == new);
        if !is_there && !waits {
            let from = now.checked_add(WAITING).map_err(|error| broken(&error))?;
            known.next_upload = Some(NextUpload { certificate: new, from });
            state::put(database, HELD, id, now, &known)?;
        }
        Ok(known)
    })?;
    answer(&said)
}

/// What devices get: an APK that the held key signed; as it was uploaded where the store holds none. Made once.
fn as_delivered(portal: &Portal, id: &str) -> Result<(std::path::PathBuf, Delivery), Refusal> {
    let now = portal.now();
    let (delivery, key) = portal.state().change(|database, _| {
        let found: Option<Delivery> = state::one(database, DELIVERY, id)?;
        let found = found.ok_or_else(|| Refusal::unknown(format!("there is no build {id} at the store")))?;
        let key = match found.platform {
            Platform::Android => secret_of(database, &found.id)?,
            Platform::Ios => None,
        };
        Ok::<_, Refusal>((found, key))
    })?;
    let uploaded = portal.part(&delivery.sha256);
    let Some((secret, certificate)) = key else { return Ok((uploaded, delivery)) };
    let signed = portal.builds.join(format!("{id}.delivered"));
    if !signed.exists() {
        let key = secret.lend(|der| PrivateKey::from_pkcs8(der)).map_err(|error| broken(&error))?;
        sign(&uploaded, &signed, (&key, &certificate), now)?;
    }
    Ok((signed, delivery))
}

/// Signs a package with the key that is held, under a temporary name until it is whole.
fn sign(
    from: &FilePath,
    to: &FilePath,
    (key, certificate): (&dyn Signer, &[u8]),
    now: Timestamp,
) -> Result<(), Refusal> {
    let source = OnDisk::open(from).map_err(|error| failed(&error))?;
    let folder = to.parent().unwrap_or(FilePath::new("."));
    let output = tempfile::NamedTempFile::new_in(folder).map_err(|error| failed(&error))?;
    with_env(now, |env| {
        let opened = Opened::open(&source, &Limits::USUAL).map_err(|error| broken(&error))?;
        if opened.kind() != ninekeys_core::android::PackageKind::Apk {
            let detail = "devices get parts of a bundle, which this store does not cut out of it";
            return Err(Refusal::rule("package-wanted", detail).values("AAB", "APK"));
        }
        let allowed = opened.allow(Destination::Direct).map_err(|error| broken(&error))?;
        let signing = Signing::usual(Identity { signer: key, certificate, alias: ALIAS });
        let laid_out = allowed.lay_out(signing, env).map_err(|error| broken(&error))?;
        let place = Written(Mutex::new(output.as_file()));
        let ready = laid_out.digest(&place, env).map_err(|error| broken(&error))?;
        let done = ready.sign().map_err(|error| broken(&error))?;
        place.write_at(done.at, &done.tail).map_err(|error| failed(&error))
    })?;
    output.as_file().sync_all().map_err(|error| failed(&error))?;
    output.persist(to).map_err(|error| failed(&error.error))?;
    Ok(())
}

pub(super) fn delivered(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    let id = call.part(0);
    portal.admit(&call.headers, ApiRole::Developer)?;
    let now = portal.now();
    let (path, delivery) = as_delivered(portal, id)?;
    let source = OnDisk::open(&path).map_err(|error| failed(&error))?;
    let sha256 = with_env(now, |env| source_sha256(&source, env)).map_err(|error| broken(&error))?;
    answer(&AsDelivered { delivery: delivery.delivery, size: source.len(), sha256, piece: PIECE })
}

pub(super) fn delivered_piece(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    let id = call.part(0);
    let number: u64 = call.part(1).parse().map_err(|_| Refusal::malformed("a piece has a number"))?;
    portal.admit(&call.headers, ApiRole::Developer)?;
    let (path, _) = as_delivered(portal, id)?;
    let source = OnDisk::open(&path).map_err(|error| failed(&error))?;
    let from = number.checked_mul(PIECE).filter(|from| *from < source.len());
    let from = from.ok_or_else(|| Refusal::unknown(format!("there is no piece {number}")))?;
    let length = usize::try_from(PIECE.min(source.len() - from)).map_err(|error| broken(&error))?;
    let mut bytes = vec![0; length];
    source.read_at(from, &mut bytes).map_err(|error| broken(&error))?;
    Ok(Response::new(StatusCode::OK).body("application/octet-stream", bytes))
}
