//! The store over HTTP.

use std::ops::RangeInclusive;

use base64ct::{Base64, Encoding};
use ninekeys_formats::secret::Secret;
use serde::de::DeserializeOwned;

use super::{Ask, HttpPortal, JSON, PortalError, parse, part};
use crate::store::{
    Advance, AsDelivered, BASE, Delivery, Deposit, Group, Held, Invitation, NewUpload, NewUploadKey, Origin,
    Question, ReceivingKey, Record, Store, Tester, Testers, Upload,
};
use crate::wire::List;

/// How long the pieces may be that a store wants, in bytes.
const PIECES: RangeInclusive<u64> = 64 << 10..=32 << 20;

/// The largest build that is fetched, in bytes.
const MOST_BUILD: u64 = 4 << 30;
/// The longest text of an answer that stands on one line, in characters.
const LONGEST: usize = 400;

/// Whether a text can stand on one line of a terminal, in a history, in a file.
fn is_line(text: &str) -> bool {
    (1..=LONGEST).contains(&text.chars().count()) && !text.chars().any(char::is_control)
}

/// Whether a text can be what something is called by: later it is a part of a path, or a key.
fn is_name(text: &str) -> bool {
    is_line(text) && text.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"-._~".contains(&byte))
}

/// What an answer has to be before anybody goes by it.
trait Sound {
    fn is_sound(&self) -> bool;
}

impl<T: Sound> Sound for Vec<T> {
    fn is_sound(&self) -> bool {
        self.iter().all(Sound::is_sound)
    }
}

impl Sound for Record {
    fn is_sound(&self) -> bool {
        let own = [&self.id, &self.title, &self.sku, &self.language];
        own.into_iter().chain(&self.seen_by).all(|text| is_line(text))
    }
}

impl Sound for Delivery {
    fn is_sound(&self) -> bool {
        let digits = self.sha256.len() == 64 && self.sha256.bytes().all(|byte| byte.is_ascii_hexdigit());
        let lines = [&self.id, &self.file].into_iter().chain(&self.groups).chain(&self.because);
        let version = self.version.is_empty() || is_line(&self.version);
        let share = self.share.is_none_or(|share| (1..=100).contains(&share));
        let last = self.stages.last().is_some_and(|last| last.stage == self.stage);
        digits
            && is_name(&self.delivery)
            && lines.into_iter().all(|text| is_line(text))
            && version
            && share
            && last
    }
}

impl Sound for Question {
    fn is_sound(&self) -> bool {
        is_name(&self.name) && is_line(&self.asks)
    }
}

impl Sound for Group {
    fn is_sound(&self) -> bool {
        is_line(&self.group) && self.tries.iter().all(|one| is_line(&one.id))
    }
}

impl Sound for Tester {
    fn is_sound(&self) -> bool {
        [&self.address, &self.group].into_iter().chain(&self.name).all(|text| is_line(text))
    }
}

impl Sound for Testers {
    fn is_sound(&self) -> bool {
        self.groups.is_sound() && self.testers.is_sound()
    }
}

impl Sound for Held {
    fn is_sound(&self) -> bool {
        let origin = match &self.origin {
            Origin::OfApp(id) => is_line(id),
            Origin::HandedOver | Origin::MadeByStore => true,
        };
        is_line(&self.id) && origin
    }
}

fn sound<T: Sound>(what: &'static str, answer: T) -> Result<T, PortalError> {
    if answer.is_sound() { Ok(answer) } else { Err(PortalError::Answer(what)) }
}

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
        let what = "a question about apps";
        let list: List<Record> = self.of_store(what, &Ask::Get, "/records", None)?;
        sound(what, list.items)
    }

    fn new_record(&self, new: &Record) -> Result<Record, PortalError> {
        let what = "an app";
        let body = serde_json::to_vec(new).map_err(|_| PortalError::Answer(what))?;
        let call = format!("record-{}-{}", new.platform, new.id);
        sound(what, self.of_store(what, &Ask::Post(&body, JSON), "/records", Some(&call))?)
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
        if there.sha256 == upload { sound(what, there) } else { Err(PortalError::Answer(what)) }
    }

    fn deliveries(&self) -> Result<Vec<Delivery>, PortalError> {
        let what = "a question about deliveries";
        let list: List<Delivery> = self.of_store(what, &Ask::Get, "/deliveries", None)?;
        sound(what, list.items)
    }

    fn advance(&self, delivery: &str, wanted: &Advance) -> Result<Delivery, PortalError> {
        let what = "a step of a delivery";
        // a login for reviewers may be in it
        let body = Secret::new(serde_json::to_vec(wanted).map_err(|_| PortalError::Answer(what))?);
        let path = format!("/deliveries/{}/stage", part(delivery));
        sound(what, body.lend(|body| self.of_store(what, &Ask::Put(body), &path, None))?)
    }

    fn questions(&self) -> Result<Vec<Question>, PortalError> {
        let what = "what the store asks";
        let list: List<Question> = self.of_store(what, &Ask::Get, "/questions", None)?;
        sound(what, list.items)
    }

    fn hold(&self, delivery: &str) -> Result<Delivery, PortalError> {
        let path = format!("/deliveries/{}/hold", part(delivery));
        sound("a hold", self.of_store("a hold", &Ask::Put(b"{}"), &path, None)?)
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
            done => sound("a question about keys", done?).map(Some),
        }
    }

    fn deposit(&self, package: &str, deposit: &Deposit) -> Result<Held, PortalError> {
        let what = "a signing key that goes to the store";
        let body = serde_json::to_vec(deposit).map_err(|_| PortalError::Answer(what))?;
        let path = format!("/apps/{}/signing-key", part(package));
        sound(what, self.of_store(what, &Ask::Put(&body), &path, None)?)
    }

    fn replace_upload(&self, package: &str, new: &NewUploadKey) -> Result<Held, PortalError> {
        let what = "another upload key";
        let body = serde_json::to_vec(new).map_err(|_| PortalError::Answer(what))?;
        let path = format!("/apps/{}/upload-key", part(package));
        sound(what, self.of_store(what, &Ask::Put(&body), &path, None)?)
    }

    fn as_delivered(&self, delivery: &str) -> Result<AsDelivered, PortalError> {
        let what = "what devices get";
        let path = format!("/deliveries/{}/as-delivered", part(delivery));
        let told: AsDelivered = self.of_store(what, &Ask::Get, &path, None)?;
        let is_so =
            PIECES.contains(&told.piece) && (1..=MOST_BUILD).contains(&told.size) && is_name(&told.delivery);
        if is_so { Ok(told) } else { Err(PortalError::Answer(what)) }
    }

    fn delivered_piece(&self, delivery: &str, number: u64) -> Result<Vec<u8>, PortalError> {
        let path = format!("{BASE}/deliveries/{}/as-delivered/{number}", part(delivery));
        let bytes = self.ask("a piece of what devices get", &Ask::Get, &path, None)?;
        Ok(bytes.lend(Vec::clone))
    }

    fn testers(&self) -> Result<Testers, PortalError> {
        let what = "a question about testers";
        sound(what, self.of_store(what, &Ask::Get, "/testers", None)?)
    }

    fn put_group(&self, group: &Group) -> Result<Group, PortalError> {
        let what = "a group of testers";
        let body = serde_json::to_vec(group).map_err(|_| PortalError::Answer(what))?;
        let path = format!("/testers/groups/{}", part(&group.group));
        sound(what, self.of_store(what, &Ask::Put(&body), &path, None)?)
    }

    fn invite(&self, group: &str, address: &str, name: Option<&str>) -> Result<Tester, PortalError> {
        let what = "an invitation";
        let new = Invitation { name: name.map(str::to_owned) };
        let body = serde_json::to_vec(&new).map_err(|_| PortalError::Answer(what))?;
        let path = format!("/testers/groups/{}/members/{}", part(group), part(address));
        sound(what, self.of_store(what, &Ask::Put(&body), &path, None)?)
    }

    fn remove_tester(&self, group: &str, address: &str) -> Result<Tester, PortalError> {
        let path = format!("/testers/groups/{}/members/{}", part(group), part(address));
        let what = "a tester who goes";
        sound(what, self.of_store(what, &Ask::Delete, &path, None)?)
    }
}

#[cfg(test)]
mod tests {
    use ninekeys_core::model::{BuildNumber, Platform};

    use super::*;
    use crate::store::{Reached, Stage};

    fn delivery() -> Delivery {
        let at = jiff::Timestamp::UNIX_EPOCH;
        Delivery {
            delivery: "0a1b".into(),
            id: "example.gannetpoint.crossing".into(),
            platform: Platform::Android,
            version: "2.4.0".into(),
            number: BuildNumber::from(12),
            file: "crossing.apk".into(),
            size: 1,
            sha256: "0".repeat(64),
            stage: Stage::Ready,
            stages: vec![Reached { stage: Stage::Ready, at }],
            because: None,
            groups: Vec::new(),
            on: None,
            share: None,
            held: false,
        }
    }

    #[test]
    fn an_answer_that_could_be_more_than_a_line_is_none() {
        assert!(delivery().is_sound());
        let wrong: [fn(&mut Delivery); 9] = [
            |one| one.file = "a\u{1b}[2J".into(),
            |one| one.file = "a".repeat(LONGEST + 1),
            |one| one.delivery = "../../deliveries".into(),
            |one| one.delivery = String::new(),
            |one| one.sha256 = "z".repeat(64),
            |one| one.groups = vec!["Crew\nother".into()],
            |one| one.share = Some(0),
            |one| one.stage = Stage::Live,
            |one| one.stages.clear(),
        ];
        for (at, spoil) in wrong.iter().enumerate() {
            let mut one = delivery();
            spoil(&mut one);
            assert!(!one.is_sound(), "{at}");
        }
        let question = |name: &str| Question { name: name.into(), asks: "Does it?".into() };
        assert!(question("own-encryption").is_sound());
        assert!(!question("a.b = 1 #").is_sound() && !question("").is_sound());
    }
}
