//! The store over HTTP.

use std::ops::RangeInclusive;

use base64ct::{Base64, Encoding};
use ninekeys_formats::secret::Secret;
use serde::de::DeserializeOwned;

use super::{Ask, HttpPortal, JSON, PortalError, parse, part};
use crate::store::{
    Advance, AsDelivered, BASE, Delivery, Deposit, Group, Held, Invitation, NewUpload, NewUploadKey,
    Question, ReceivingKey, Record, Store, Tester, Testers, Upload,
};
use crate::wire::List;

/// How long the pieces may be that a store wants, in bytes.
const PIECES: RangeInclusive<u64> = 64 << 10..=32 << 20;

impl HttpPortal<'_> {
    fn of_store<T: DeserializeOwned>(
        &self,
        what: &'static str,
        ask: &Ask<'_>,
        path: &str,
        call: Option<&str>,
    ) -> Result<T, PortalError> {
        parse(what, &self.ask(what, ask, &format!("{BASE}{path}"), call)?)
    }
}

impl Store for HttpPortal<'_> {
    fn records(&self) -> Result<Vec<Record>, PortalError> {
        let list: List<Record> = self.of_store("a question about apps", &Ask::Get, "/records", None)?;
        Ok(list.items)
    }

    fn new_record(&self, new: &Record) -> Result<Record, PortalError> {
        let what = "an app";
        let body = serde_json::to_vec(new).map_err(|_| PortalError::Answer(what))?;
        let call = format!("record-{}-{}", new.platform, new.id);
        self.of_store(what, &Ask::Post(&body, JSON), "/records", Some(&call))
    }

    fn begin(&self, new: &NewUpload) -> Result<Upload, PortalError> {
        let what = "the beginning of an upload";
        let body = serde_json::to_vec(new).map_err(|_| PortalError::Answer(what))?;
        // the same bytes are the same upload: to ask again is safe
        let begun: Upload =
            self.of_store(what, &Ask::Put(&body), &format!("/uploads/{}", part(&new.sha256)), None)?;
        // a piece is held in memory, and none of them is empty; no more of them are there than the file has
        let is_so = PIECES.contains(&begun.piece)
            && begun.received <= new.size.div_ceil(begun.piece)
            && begun.upload == new.sha256;
        if is_so { Ok(begun) } else { Err(PortalError::Answer(what)) }
    }

    fn send(
        &self,
        upload: &str,
        number: u64,
        (bytes, digest): (&[u8], &[u8]),
    ) -> Result<Upload, PortalError> {
        let digest = format!("sha-256=:{}:", Base64::encode_string(digest));
        let path = format!("/uploads/{}/pieces/{number}", part(upload));
        self.of_store("a piece of an upload", &Ask::Piece(bytes, &digest), &path, None)
    }

    fn complete(&self, upload: &str) -> Result<Delivery, PortalError> {
        let what = "the end of an upload";
        let path = format!("/uploads/{}/completion", part(upload));
        let call = format!("completion-{upload}");
        let there: Delivery = self.of_store(what, &Ask::Post(b"{}", JSON), &path, Some(&call))?;
        // an upload is called by its bytes, and so is what came of it
        if there.sha256 == upload { Ok(there) } else { Err(PortalError::Answer(what)) }
    }

    fn deliveries(&self) -> Result<Vec<Delivery>, PortalError> {
        let what = "a question about deliveries";
        let list: List<Delivery> = self.of_store(what, &Ask::Get, "/deliveries", None)?;
        Ok(list.items)
    }

    fn advance(&self, delivery: &str, wanted: &Advance) -> Result<Delivery, PortalError> {
        let what = "a step of a delivery";
        // a login for reviewers may be in it
        let body = Secret::new(serde_json::to_vec(wanted).map_err(|_| PortalError::Answer(what))?);
        let path = format!("/deliveries/{}/stage", part(delivery));
        body.lend(|body| self.of_store(what, &Ask::Put(body), &path, None))
    }

    fn questions(&self) -> Result<Vec<Question>, PortalError> {
        let list: List<Question> = self.of_store("what the store asks", &Ask::Get, "/questions", None)?;
        Ok(list.items)
    }

    fn hold(&self, delivery: &str) -> Result<Delivery, PortalError> {
        let path = format!("/deliveries/{}/hold", part(delivery));
        self.of_store("a hold", &Ask::Put(b"{}"), &path, None)
    }

    fn receiving_key(&self) -> Result<Vec<u8>, PortalError> {
        let what = "the key that the store receives by";
        let key: ReceivingKey = self.of_store(what, &Ask::Get, "/receiving-key", None)?;
        Base64::decode_vec(&key.certificate).map_err(|_| PortalError::Answer(what))
    }

    fn keys(&self, package: &str) -> Result<Option<Held>, PortalError> {
        let path = format!("/apps/{}/keys", part(package));
        match self.of_store("a question about keys", &Ask::Get, &path, None) {
            Err(PortalError::Refused(problem)) if problem.kind == "unknown" => Ok(None),
            done => done.map(Some),
        }
    }

    fn deposit(&self, package: &str, deposit: &Deposit) -> Result<Held, PortalError> {
        let what = "a signing key that goes to the store";
        let body = serde_json::to_vec(deposit).map_err(|_| PortalError::Answer(what))?;
        self.of_store(what, &Ask::Put(&body), &format!("/apps/{}/signing-key", part(package)), None)
    }

    fn replace_upload(&self, package: &str, new: &NewUploadKey) -> Result<Held, PortalError> {
        let what = "another upload key";
        let body = serde_json::to_vec(new).map_err(|_| PortalError::Answer(what))?;
        self.of_store(what, &Ask::Put(&body), &format!("/apps/{}/upload-key", part(package)), None)
    }

    fn as_delivered(&self, delivery: &str) -> Result<AsDelivered, PortalError> {
        let what = "what devices get";
        let path = format!("/deliveries/{}/as-delivered", part(delivery));
        let told: AsDelivered = self.of_store(what, &Ask::Get, &path, None)?;
        if PIECES.contains(&told.piece) { Ok(told) } else { Err(PortalError::Answer(what)) }
    }

    fn delivered_piece(&self, delivery: &str, number: u64) -> Result<Vec<u8>, PortalError> {
        let path = format!("{BASE}/deliveries/{}/as-delivered/{number}", part(delivery));
        let bytes = self.ask("a piece of what devices get", &Ask::Get, &path, None)?;
        Ok(bytes.lend(Vec::clone))
    }

    fn testers(&self) -> Result<Testers, PortalError> {
        self.of_store("a question about testers", &Ask::Get, "/testers", None)
    }

    fn put_group(&self, group: &Group) -> Result<Group, PortalError> {
        let what = "a group of testers";
        let body = serde_json::to_vec(group).map_err(|_| PortalError::Answer(what))?;
        self.of_store(what, &Ask::Put(&body), &format!("/testers/groups/{}", part(&group.group)), None)
    }

    fn invite(&self, group: &str, address: &str, name: Option<&str>) -> Result<Tester, PortalError> {
        let what = "an invitation";
        let new = Invitation { name: name.map(str::to_owned) };
        let body = serde_json::to_vec(&new).map_err(|_| PortalError::Answer(what))?;
        let path = format!("/testers/groups/{}/members/{}", part(group), part(address));
        self.of_store(what, &Ask::Put(&body), &path, None)
    }

    fn remove_tester(&self, group: &str, address: &str) -> Result<Tester, PortalError> {
        let path = format!("/testers/groups/{}/members/{}", part(group), part(address));
        self.of_store("a tester who goes", &Ask::Delete, &path, None)
    }
}
