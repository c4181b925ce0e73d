//! What the stand-in answers as the store: apps, uploads in pieces, and what becomes of builds.

mod deliveries;
mod file;
mod keys;
mod rules;
mod testers;

use std::fs::OpenOptions;
use std::io::{Seek, SeekFrom, Write};
use std::path::PathBuf;

use base64ct::{Base64, Encoding};
use jiff::{SignedDuration, Timestamp};
use ninekeys_core::build::Build;
use ninekeys_core::digest::{sha256, sha256_hex};
use ninekeys_core::model::{ApiRole, BuildNumber, Platform};
use ninekeys_core::stream::source_sha256;
use rusqlite::Connection;
use serde::{Deserialize, Serialize};
use ureq::http::StatusCode;

use self::deliveries::as_of;
use self::file::OnDisk;
use super::http::{Call, Response};
use super::router::{Answers, get, post, put_to};
use super::routes::{Portal, Refusal, answer, read};
use super::state::{self, with_env};
use crate::store::{BASE, DIGEST, Delivery, NewUpload, PIECE, Reached, Record, Stage, Upload};
use crate::wire::{AppId, Certificate, List};

/// The largest build.
const MOST_BUILD: u64 = 4 << 30;

/// Everything that can be asked of the store, by its path.
pub(super) fn table() -> Vec<(String, Answers)> {
    let piece = usize::try_from(PIECE).unwrap_or(usize::MAX);
    let own = [
        ("/records", get(records).post(new_record)),
        ("/uploads/{sha256}", put_to(begin)),
        ("/uploads/{sha256}/pieces/{number}", put_to(take).up_to(piece)),
        ("/uploads/{sha256}/completion", post(complete).beside_others()),
        ("/questions", get(deliveries::questions)),
        ("/deliveries", get(deliveries::deliveries)),
        ("/deliveries/{id}/stage", put_to(deliveries::advance)),
        ("/deliveries/{id}/hold", put_to(deliveries::hold)),
        ("/deliveries/{id}/as-delivered", get(keys::delivered).beside_others()),
        ("/deliveries/{id}/as-delivered/{number}", get(keys::delivered_piece).beside_others()),
        ("/receiving-key", get(keys::receiving_key)),
        ("/apps/{package}/keys", get(keys::keys)),
        ("/apps/{package}/signing-key", put_to(keys::deposit)),
        ("/apps/{package}/upload-key", put_to(keys::replace_upload)),
        ("/testers", get(testers::testers)),
        ("/testers/groups/{group}", put_to(testers::put_group)),
        ("/testers/groups/{group}/members/{address}", put_to(testers::invite).delete(testers::remove)),
        ("/testers/acceptances/{word}", get(testers::accept)),
    ];
    own.into_iter().map(|(path, answer)| (format!("{BASE}{path}"), answer)).collect()
}

/// An upload that is not at its end.
#[derive(Serialize, Deserialize)]
struct Begun {
    new: NewUpload,
    received: u64,
}

impl Begun {
    fn pieces(&self) -> u64 {
        self.new.size.div_ceil(PIECE)
    }

    fn said(&self) -> Upload {
        Upload { upload: self.new.sha256.clone(), piece: PIECE, received: self.received }
    }
}

const RECORD: &str = "record";
/// The most people that a record names.
const MOST_SEEING: usize = 100;
const UPLOAD: &str = "upload";
const DELIVERY: &str = "delivery";
/// What a build asks people for.
const ASKS: &str = "asks";
const GROUP: &str = "group";
/// The certificate that an app's first build was signed with.
const SIGNER: &str = "first-signer";

fn key_of(record: &Record) -> String {
    format!("{}/{}", record.platform, record.id)
}

fn is_sha256(text: &str) -> bool {
    text.len() == 64 && text.bytes().all(|byte| byte.is_ascii_digit() || (b'a'..=b'f').contains(&byte))
}

/// An app that the store knows.
fn known_record(database: &Connection, platform: Platform, id: &str) -> Result<Record, Refusal> {
    let known: Vec<Record> = state::all(database, RECORD)?;
    known.into_iter().find(|one| one.id == id && one.platform == platform).ok_or_else(|| {
        let detail = format!("the store knows no app {id} for {}", platform.title());
        Refusal::rule("record-missing", detail).values(id, "an app that is at the store")
    })
}

fn records(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    portal.admit(&call.headers, ApiRole::Developer)?;
    let items: Vec<Record> = portal.state().all(RECORD)?;
    answer(&List { items })
}

/// A text on one line, and of a length that a list has room for.
fn good_line(text: &str) -> bool {
    (1..=100).contains(&text.chars().count()) && !text.chars().any(char::is_control) && text.trim() == text
}

fn check_record(new: &Record) -> Result<(), Refusal> {
    for (what, text) in
        [("id", &new.id), ("title", &new.title), ("SKU", &new.sku), ("language", &new.language)]
    {
        if !good_line(text) {
            return Err(Refusal::malformed(format!("the {what} is 1 to 100 characters on one line")));
        }
    }
    let is_address = |text: &String| good_line(text) && text.contains('@');
    match new.seen_by.iter().find(|text| !is_address(text)) {
        _ if new.seen_by.len() > MOST_SEEING => {
            Err(Refusal::malformed(format!("at most {MOST_SEEING} people are named who may see it")))
        }
        Some(text) => {
            Err(Refusal::malformed("who may see it is named by an address for mail")
                .values(text, "NAME@HOST"))
        }
        None => Ok(()),
    }
}

fn new_record(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    let asked_by = portal.admit(&call.headers, ApiRole::Manager)?;
    let new: Record = read(&call.body)?;
    check_record(&new)?;
    let now = portal.now();
    portal.once(&call.headers, &asked_by, 201, |database, _| {
        let registered: Vec<AppId> = state::all(database, "app-id")?;
        // a portal where nobody registered anything yet says nothing of what may go to its store
        let is_known = registered.iter().any(|one| one.bundle_id == new.id);
        if new.platform == Platform::Ios && !is_known && !registered.is_empty() {
            let detail = format!("{} is no bundle id that is registered at the portal", new.id);
            return Err(
                Refusal::rule("id-unregistered", detail).values(&new.id, "a bundle id that is registered")
            );
        }
        let known: Vec<Record> = state::all(database, RECORD)?;
        if known.iter().any(|one| key_of(one) == key_of(&new)) {
            return Err(Refusal::taken(format!("{} is at the store already", new.id)));
        }
        // one product may have both sides under one name
        if let Some(other) = known.iter().find(|one| one.title == new.title && one.id != new.id) {
            let detail = format!("another app is called {}: {}", new.title, other.id);
            return Err(Refusal::taken(detail).values(&new.title, "a title that no app has"));
        }
        if known.iter().any(|one| one.sku == new.sku) {
            let detail = format!("another app of the account has the SKU {}", new.sku);
            return Err(Refusal::taken(detail).values(&new.sku, "an SKU that no app has"));
        }
        state::put(database, RECORD, &key_of(&new), now, &new)?;
        Ok(new)
    })
}

impl Portal {
    /// Where the pieces of an upload are put together.
    fn part(&self, sha256: &str) -> PathBuf {
        self.builds.join(format!("{sha256}.part"))
    }
}

fn failed(error: &std::io::Error) -> Refusal {
    let detail = format!("a build cannot be kept: {error}");
    Refusal::new(StatusCode::INTERNAL_SERVER_ERROR, "failed", "the store failed", detail)
}

fn begun(database: &Connection, sha256: &str) -> Result<Option<Begun>, Refusal> {
    Ok(state::one(database, UPLOAD, sha256)?)
}

fn begin(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    let sha256 = call.part(0);
    portal.admit_upload(&call.headers)?;
    let new: NewUpload = read(&call.body)?;
    if new.sha256 != sha256 || !is_sha256(sha256) {
        return Err(Refusal::malformed("the upload is called by the SHA-256 of its file"));
    }
    if new.size == 0 || new.size > MOST_BUILD {
        return Err(Refusal::malformed(format!("a build has 1 byte to {} GiB", MOST_BUILD >> 30)));
    }
    let now = portal.now();
    let said = portal.state().change(|database, _| {
        known_record(database, new.platform, &new.id)?;
        if let Some(there) = taken(database, (now, portal.looks))?.iter().find(|one| one.sha256 == sha256) {
            let detail = format!("this very build is there, as number {}", there.number);
            return Err(Refusal::taken(detail));
        }
        let begun = match begun(database, sha256)? {
            // what was begun of the same bytes goes on, as far as its pieces are there
            Some(before) if before.new.size == new.size && before.new.id == new.id => before,
            _ => Begun { new, received: 0 },
        };
        state::put(database, UPLOAD, sha256, now, &begun)?;
        Ok(begun.said())
    })?;
    answer(&said)
}

fn take(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    let sha256_of_all = call.part(0);
    let number: u64 = call.part(1).parse().map_err(|_| Refusal::malformed("a piece has a number"))?;
    portal.admit_upload(&call.headers)?;
    let digest = call.headers.get(DIGEST).and_then(|value| value.to_str().ok()).unwrap_or_default();
    if digest != format!("sha-256=:{}:", Base64::encode_string(&sha256(&call.body))) {
        return Err(Refusal::malformed("the piece is not what its digest says"));
    }
    let now = portal.now();
    let unknown = || Refusal::unknown(format!("no upload {sha256_of_all} was begun"));
    let mut begun = begun_in(portal, sha256_of_all)?.ok_or_else(unknown)?;
    let last = begun.pieces().saturating_sub(1);
    let wanted = if number == last { begun.new.size - last * PIECE } else { PIECE };
    if number > begun.received.min(last) || call.body.len() as u64 != wanted {
        let detail = format!("piece {number} with {} bytes is not the next one", call.body.len());
        return Err(Refusal::malformed(detail).values(number, begun.received));
    }
    put_piece(portal, sha256_of_all, number, &call.body).map_err(|error| failed(&error))?;
    begun.received = begun.received.max(number + 1);
    portal.state().change(|database, _| state::put(database, UPLOAD, sha256_of_all, now, &begun))?;
    answer(&begun.said())
}

fn begun_in(portal: &Portal, sha256: &str) -> Result<Option<Begun>, Refusal> {
    portal.state().change(|database, _| begun(database, sha256))
}

/// A piece is on the disk before it is said to be there.
fn put_piece(portal: &Portal, sha256: &str, number: u64, bytes: &[u8]) -> std::io::Result<()> {
    std::fs::create_dir_all(&portal.builds)?;
    let mut file = OpenOptions::new().write(true).create(true).truncate(false).open(portal.part(sha256))?;
    file.seek(SeekFrom::Start(number * PIECE))?;
    file.write_all(bytes)?;
    file.sync_data()
}

fn complete(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    let sha256 = call.part(0);
    let asked_by = portal.admit_upload(&call.headers)?;
    let now = portal.now();
    let known = portal.state().change(|database, _| taken(database, (now, portal.looks)))?;
    let there = known.into_iter().find(|one| one.sha256 == sha256);
    if let Some(there) = there {
        return answer(&there);
    }
    let begun = begun_in(portal, sha256)?;
    let begun = begun.ok_or_else(|| Refusal::unknown(format!("no upload {sha256} was begun")))?;
    if begun.received < begun.pieces() {
        let detail = format!("{} of {} pieces are there", begun.received, begun.pieces());
        return Err(Refusal::malformed(detail).values(begun.received, begun.pieces()));
    }
    let (build, found) = look_at(&portal.part(sha256), now)?;
    if found != begun.new.sha256 {
        let detail = "the pieces together are not the file that was announced";
        return Err(Refusal::rule("archive-malformed", detail).values(found, &begun.new.sha256));
    }
    portal.once(&call.headers, &asked_by, 201, |database, _| {
        take_in(database, &begun.new, &build, (now, portal.looks))
    })
}

/// The builds that the store took, as they stand: a review may have come to its end since anybody looked.
fn taken(database: &Connection, (now, looks): (Timestamp, SignedDuration)) -> Result<Vec<Delivery>, Refusal> {
    let all: Vec<Delivery> = state::all(database, DELIVERY)?;
    Ok(all.into_iter().map(|one| as_of(one, now, looks)).filter(|one| one.stage != Stage::Rejected).collect())
}

/// A build that was judged, as a delivery that is processed from now on.
fn take_in(
    database: &Connection,
    new: &NewUpload,
    build: &Build,
    (now, looks): (Timestamp, SignedDuration),
) -> Result<Delivery, Refusal> {
    let record = known_record(database, new.platform, &new.id)?;
    let mut earlier = taken(database, (now, looks))?;
    earlier.retain(|one| one.id == new.id && one.platform == new.platform);
    let held = match new.platform {
        Platform::Android => keys::held(database, &new.id, now)?,
        Platform::Ios => None,
    };
    let app = key_of(&record);
    let first: Option<String> = state::one(database, SIGNER, &app)?;
    let certificates: Vec<Certificate> = state::all(database, "certificate")?;
    let good = certificates.iter().filter(|one| one.revoked.is_none() && one.not_after > now);
    let issued: Vec<String> = good.map(|one| sha256_hex(&one.certificate)).collect();
    let keys = rules::Keys { issued: &issued, held: held.as_ref(), first: first.as_deref() };
    rules::judge(&record, &earlier, build, &keys)?;
    if let Some(signer) = build.signers.first().filter(|_| first.is_none()) {
        state::put(database, SIGNER, &app, now, &signer.certificate_fingerprint)?;
    }
    let number = build.says.as_ref().map_or(BuildNumber::ZERO, |says| says.number());
    let version = build.says.as_ref().and_then(|says| says.version.clone()).unwrap_or_default();
    let asks = build.says.as_ref().map(|says| says.asks_for.clone()).unwrap_or_default();
    let delivery = Delivery {
        delivery: new.sha256.chars().take(16).collect(),
        id: new.id.clone(),
        platform: new.platform,
        version,
        number,
        file: new.file.clone(),
        size: new.size,
        sha256: new.sha256.clone(),
        stage: Stage::Processing,
        stages: vec![Reached { stage: Stage::Processing, at: now }],
        because: None,
        groups: Vec::new(),
        on: None,
        share: None,
        held: false,
    };
    state::put(database, DELIVERY, &delivery.delivery, now, &delivery)?;
    state::put(database, ASKS, &delivery.delivery, now, &asks)?;
    state::take_out(database, UPLOAD, &new.sha256)?;
    Ok(delivery)
}

/// What is in the file that was put together, and its SHA-256.
fn look_at(path: &std::path::Path, now: Timestamp) -> Result<(Build, String), Refusal> {
    let source = OnDisk::open(path).map_err(|error| failed(&error))?;
    with_env(now, |env| {
        let found = source_sha256(&source, env).map_err(|error| failed(&std::io::Error::other(error)))?;
        let build = Build::examine(&source, None, env)
            .map_err(|error| Refusal::rule("archive-malformed", error.to_string()))?;
        if !rules::is_delivered(build.form) {
            return Err(Refusal::rule("archive-malformed", "an APK, a bundle or an IPA goes to the store"));
        }
        Ok((build, found))
    })
}
