//! What the stand-in answers: who asks, what they may do, what is done, and why not.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::{Mutex, MutexGuard, PoisonError};

use base64ct::{Base64, Encoding};
use jiff::{SignedDuration, Timestamp};
use ninekeys_core::digest::hex;
use ninekeys_core::ios::certificate::is_team;
use ninekeys_core::ios::device::identifier;
use ninekeys_core::model::{ApiRole, Capability, Destination};
use ninekeys_core::token;
use ninekeys_formats::entitlements::Entitlement;
use ninekeys_formats::profile::{self, Profile as ProfileList};
use ninekeys_formats::secret::Secret;
use rusqlite::Connection;
use serde::Serialize;
use serde::de::DeserializeOwned;
use ureq::http::{HeaderMap, StatusCode, header};

use super::authority::Authority;
use super::http::{Call, Response};
use super::router::{Answers, get, post, put_to};
use super::state::{self, State, with_env};
use super::{Clock, StandInError, enrol, revocation, store};
use crate::wire::{
    AUDIENCE, ApiKey, AppId, BASE, Capabilities, Certificate, Device, FETCHED, IDEMPOTENCY, KindSaid, List,
    NewApiKey, NewProfile, PROBLEM, Problem, Profile, Team, TeamLimits,
};

/// Distribution certificates that a team may have at once.
pub(super) const MOST_DISTRIBUTION: usize = 2;
/// Devices that a team may register.
const MOST_DEVICES: usize = 100;

/// The status of what was made.
const MADE: u16 = 201;
/// The status of what was changed.
const CHANGED: u16 = 200;

/// What every call is lent.
pub(super) struct Portal {
    pub(super) state: Mutex<State>,
    pub(super) clock: Clock,
    /// Where it listens.
    pub(super) address: String,
    /// Where builds are kept.
    pub(super) builds: PathBuf,
    /// How long the store looks at a build.
    pub(super) looks: SignedDuration,
}

/// Everything that can be asked, by its path.
pub(super) fn table() -> Vec<(String, Answers)> {
    let own = [
        ("/team", get(team)),
        ("/certificates", get(certificates)),
        ("/certificates/{id}/revocation", post(revoke)),
        ("/app-ids", get(app_ids).post(new_app_id)),
        ("/app-ids/{id}/capabilities", put_to(capabilities)),
        ("/devices", get(devices).post(new_device)),
        ("/profiles", get(profiles).post(new_profile)),
        ("/api-keys", post(new_api_key)),
        ("/api-keys/{id}/private-key", post(private_key)),
    ];
    let own = own.into_iter().map(|(path, answer)| (format!("{BASE}{path}"), answer));
    own.chain(enrol::table()).chain(revocation::table()).chain(store::table()).collect()
}

/// Why not: the status, a word for the kind, and what was wrong.
pub(super) struct Refusal {
    status: StatusCode,
    kind: &'static str,
    title: &'static str,
    detail: String,
    needs: Option<ApiRole>,
    sent: Option<String>,
    needed: Option<String>,
}

impl Refusal {
    pub(super) fn new(
        status: StatusCode,
        kind: &'static str,
        title: &'static str,
        detail: impl Into<String>,
    ) -> Self {
        Refusal { status, kind, title, detail: detail.into(), needs: None, sent: None, needed: None }
    }

    pub(super) fn malformed(detail: impl Into<String>) -> Self {
        Refusal::new(StatusCode::BAD_REQUEST, "malformed", "what was sent cannot be read", detail)
    }

    pub(super) fn limit(detail: impl Into<String>) -> Self {
        Refusal::new(StatusCode::CONFLICT, "limit-reached", "there may be no more of these", detail)
    }

    pub(super) fn taken(detail: impl Into<String>) -> Self {
        Refusal::new(StatusCode::CONFLICT, "taken", "it is there already", detail)
    }

    /// A build that breaks a rule of the store: the rule's name is the kind.
    pub(super) fn rule(kind: &'static str, detail: impl Into<String>) -> Self {
        Refusal::new(StatusCode::UNPROCESSABLE_ENTITY, kind, "the store does not take this build", detail)
    }

    /// With the value that was sent, and the one that would be taken.
    pub(super) fn values(self, sent: impl ToString, needed: impl ToString) -> Self {
        Refusal { sent: Some(sent.to_string()), needed: Some(needed.to_string()), ..self }
    }

    pub(super) fn unknown(detail: impl Into<String>) -> Self {
        Refusal::new(StatusCode::NOT_FOUND, "unknown", "there is no such thing", detail)
    }

    fn problem(&self) -> Problem {
        Problem {
            kind: self.kind.into(),
            title: self.title.into(),
            status: self.status.as_u16(),
            detail: self.detail.clone(),
            needs: self.needs,
            sent: self.sent.clone(),
            needed: self.needed.clone(),
        }
    }
}

impl From<rusqlite::Error> for Refusal {
    fn from(error: rusqlite::Error) -> Self {
        let detail = format!("its state cannot be used: {error}");
        Refusal::new(StatusCode::INTERNAL_SERVER_ERROR, "failed", "the portal failed", detail)
    }
}

impl From<StandInError> for Refusal {
    fn from(error: StandInError) -> Self {
        Refusal::new(StatusCode::INTERNAL_SERVER_ERROR, "failed", "the portal failed", error.to_string())
    }
}

impl From<Refusal> for Response {
    fn from(refusal: Refusal) -> Response {
        let body = serde_json::to_string(&refusal.problem()).unwrap_or_default();
        Response::new(refusal.status).body(PROBLEM, body)
    }
}

/// A JSON answer.
fn json(status: u16, body: String) -> Response {
    let status = StatusCode::from_u16(status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
    Response::new(status).body("application/json", body)
}

pub(super) fn answer<T: Serialize>(thing: &T) -> Result<Response, Refusal> {
    let body = serde_json::to_string(thing).map_err(|error| Refusal::malformed(error.to_string()))?;
    Ok(json(200, body))
}

impl Portal {
    pub(super) fn now(&self) -> Timestamp {
        (self.clock)()
    }

    pub(super) fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Who asks; refuses tokens that are not good, and roles that are too small.
    pub(super) fn admit(&self, headers: &HeaderMap, needs: ApiRole) -> Result<ApiKey, Refusal> {
        let refused = |detail: String| {
            Refusal::new(StatusCode::UNAUTHORIZED, "unauthorized", "the token is not taken", detail)
        };
        let said = headers.get(header::AUTHORIZATION).and_then(|value| value.to_str().ok());
        if said.is_some_and(|said| said.starts_with("Basic ")) {
            let detail = "an upload password uploads, and says how far builds are".to_owned();
            let refusal =
                Refusal::new(StatusCode::FORBIDDEN, "role-too-small", "the password may not do that", detail);
            return Err(Refusal { needs: Some(needs), ..refusal });
        }
        let token = said.and_then(|said| said.strip_prefix("Bearer "));
        let token = token.ok_or_else(|| refused("there is none".into()))?;
        let key_id = token::key_id(token).map_err(|fault| refused(fault.to_string()))?;
        let known = self.state().api_key(&key_id)?;
        let (public, key) = known.ok_or_else(|| refused(format!("there is no API key {key_id}")))?;
        let claims = token::check(token, &public, AUDIENCE, self.now());
        let claims = claims.map_err(|fault| refused(fault.to_string()))?;
        if claims.iss != key.issuer {
            return Err(refused(format!("{} is not the issuer of {key_id}", claims.iss)));
        }
        if key.role < needs {
            let detail =
                format!("{key_id} has the role {}, and this takes {needs} or a larger one", key.role);
            let refusal =
                Refusal::new(StatusCode::FORBIDDEN, "role-too-small", "the key may not do that", detail);
            return Err(Refusal { needs: Some(needs), ..refusal });
        }
        Ok(key)
    }

    /// Who asks for what an upload takes: with a token as everywhere, or with an account's upload password (RFC 7617).
    pub(super) fn admit_upload(&self, headers: &HeaderMap) -> Result<ApiKey, Refusal> {
        let said = headers.get(header::AUTHORIZATION).and_then(|value| value.to_str().ok());
        let Some(both) = said.and_then(|said| said.strip_prefix("Basic ")) else {
            return self.admit(headers, ApiRole::Developer);
        };
        let refused = || {
            let detail = "it is no upload password of that account";
            Refusal::new(StatusCode::UNAUTHORIZED, "unauthorized", "the password is not taken", detail)
        };
        let both = Base64::decode_vec(both).map(Secret::new).map_err(|_| refused())?;
        both.lend(|both| {
            let (account, password) =
                std::str::from_utf8(both).ok().and_then(|both| both.split_once(':')).ok_or_else(refused)?;
            if !self.state().uploads(account, password)? {
                return Err(refused());
            }
            Ok(ApiKey {
                key_id: "upload-password".into(),
                issuer: account.into(),
                title: "an upload password".into(),
                role: ApiRole::Developer,
                fetched: true,
            })
        })
    }

    /// Does something once, and answers with that status: a call with a key that was answered before is answered the same
    /// again.
    pub(super) fn once<T: Serialize>(
        &self,
        headers: &HeaderMap,
        asked_by: &ApiKey,
        status: u16,
        work: impl FnOnce(&Connection, &Authority) -> Result<T, Refusal>,
    ) -> Result<Response, Refusal> {
        let (status, body) = self.once_as(headers, asked_by, status, |database, authority| {
            let thing = work(database, authority)?;
            serde_json::to_string(&thing).map_err(|error| Refusal::malformed(error.to_string()))
        })?;
        Ok(json(status, body))
    }

    /// The same with an answer that is no JSON: its status, and the body that is kept.
    pub(super) fn once_as(
        &self,
        headers: &HeaderMap,
        asked_by: &ApiKey,
        status: u16,
        work: impl FnOnce(&Connection, &Authority) -> Result<String, Refusal>,
    ) -> Result<(u16, String), Refusal> {
        let call = headers.get(IDEMPOTENCY).and_then(|value| value.to_str().ok());
        let call = call.map(|call| format!("{} {call}", asked_by.key_id));
        self.state().change(|database, authority| {
            if let Some(call) = &call
                && let Some(before) = state::answered(database, call)?
            {
                return Ok::<_, Refusal>(before);
            }
            let body = work(database, authority)?;
            if let Some(call) = &call {
                state::keep_answer(database, call, status, &body)?;
            }
            Ok((status, body))
        })
    }
}

pub(super) fn read<T: DeserializeOwned>(body: &[u8]) -> Result<T, Refusal> {
    serde_json::from_slice(body).map_err(|error| Refusal::malformed(error.to_string()))
}

fn team(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    portal.admit(&call.headers, ApiRole::Reader)?;
    let state = portal.state();
    let limits = TeamLimits { distribution_certificates: MOST_DISTRIBUTION, devices: MOST_DEVICES };
    answer(&Team { team: state.team.clone(), title: state.title.clone(), limits: Some(limits) })
}

/// All things of a kind, for who may look at them.
fn list<T: Serialize + DeserializeOwned>(
    portal: &Portal,
    headers: &HeaderMap,
    kind: &str,
) -> Result<Response, Refusal> {
    portal.admit(headers, ApiRole::Developer)?;
    let items: Vec<T> = portal.state().all(kind)?;
    answer(&List { items })
}

fn certificates(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    list::<Certificate>(portal, &call.headers, "certificate")
}

fn app_ids(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    list::<AppId>(portal, &call.headers, "app-id")
}

fn devices(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    list::<Device>(portal, &call.headers, "device")
}

fn profiles(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    list::<Profile>(portal, &call.headers, "profile")
}

fn revoke(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    let id = call.part(0);
    let asked_by = portal.admit(&call.headers, ApiRole::Manager)?;
    let now = portal.now();
    portal.once(&call.headers, &asked_by, CHANGED, |database, _| {
        let known: Vec<Certificate> = state::all(database, "certificate")?;
        let found = known.into_iter().find(|one| one.id == id);
        let mut found = found.ok_or_else(|| Refusal::unknown(format!("there is no certificate {id}")))?;
        found.revoked = found.revoked.or(Some(now));
        state::put(database, "certificate", &found.id, now, &found)?;
        Ok(found)
    })
}

fn is_bundle_id(id: &str) -> bool {
    let plain = id.strip_suffix(".*").unwrap_or(id);
    let part = |part: &str| !part.is_empty() && part.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-');
    let first = plain.split('.').next().unwrap_or_default();
    plain.contains('.') && plain.len() <= 255 && plain.split('.').all(part) && !is_team(first)
}

fn new_app_id(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    let asked_by = portal.admit(&call.headers, ApiRole::Manager)?;
    let new: AppId = read(&call.body)?;
    let now = portal.now();
    portal.once(&call.headers, &asked_by, MADE, |database, _| {
        if !is_bundle_id(&new.bundle_id) {
            return Err(Refusal::malformed(format!("{} cannot be a bundle id", new.bundle_id)));
        }
        let known: Vec<AppId> = state::all(database, "app-id")?;
        if known.iter().any(|one| one.bundle_id == new.bundle_id) {
            return Err(Refusal::taken(format!("{} is registered", new.bundle_id)));
        }
        state::put(database, "app-id", &new.bundle_id, now, &new)?;
        Ok(new)
    })
}

fn capabilities(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    let id = call.part(0);
    let asked_by = portal.admit(&call.headers, ApiRole::Manager)?;
    let wanted: Capabilities = read(&call.body)?;
    let now = portal.now();
    portal.once(&call.headers, &asked_by, CHANGED, |database, _| {
        let known: Vec<AppId> = state::all(database, "app-id")?;
        let found = known.into_iter().find(|one| one.bundle_id == id);
        let mut found = found.ok_or_else(|| Refusal::unknown(format!("{id} is not registered")))?;
        found.capabilities = wanted.capabilities;
        state::put(database, "app-id", id, now, &found)?;
        Ok(found)
    })
}

fn new_device(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    let asked_by = portal.admit(&call.headers, ApiRole::Manager)?;
    let mut new: Device = read(&call.body)?;
    new.identifier = identifier(&new.identifier).map_err(|error| Refusal::malformed(error.to_string()))?;
    let now = portal.now();
    portal.once(&call.headers, &asked_by, MADE, |database, _| {
        let known: Vec<Device> = state::all(database, "device")?;
        if known.iter().any(|one| one.identifier == new.identifier) {
            return Err(Refusal::taken(format!("{} is registered", new.identifier)));
        }
        if known.len() >= MOST_DEVICES {
            return Err(Refusal::limit(format!("{MOST_DEVICES} devices are registered this year")));
        }
        state::put(database, "device", &new.identifier, now, &new)?;
        Ok(new)
    })
}

fn new_profile(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    let asked_by = portal.admit(&call.headers, ApiRole::Manager)?;
    let new: NewProfile = read(&call.body)?;
    let team = portal.state().team.clone();
    let now = portal.now();
    portal.once(&call.headers, &asked_by, MADE, |database, authority| {
        let list = profile_list(database, &new, &team, now)?;
        let written = profile::write(&list).map_err(|_| StandInError::Damaged("a profile"))?;
        let file = authority.sign_profile(&written, now).map_err(StandInError::from)?;
        let made = Profile {
            id: list.uuid.clone(),
            title: new.title.clone(),
            destination: new.destination,
            bundle_id: new.bundle_id.clone(),
            file,
            not_after: Timestamp::from_second(list.not_after).unwrap_or(Timestamp::MAX),
        };
        state::put(database, "profile", &made.id, now, &made)?;
        Ok(made)
    })
}

/// What stands in a profile that is asked for; refuses what does not go together.
fn profile_list(
    database: &Connection,
    new: &NewProfile,
    team: &str,
    now: Timestamp,
) -> Result<ProfileList, Refusal> {
    let known: Vec<AppId> = state::all(database, "app-id")?;
    let app = known.into_iter().find(|one| one.bundle_id == new.bundle_id);
    let app = app.ok_or_else(|| Refusal::unknown(format!("{} is not registered", new.bundle_id)))?;
    let for_development = new.destination == Destination::Development;
    let kind = if for_development { KindSaid::Development } else { KindSaid::Distribution };
    let issued: Vec<Certificate> = state::all(database, "certificate")?;
    let mut certificates = Vec::new();
    for id in &new.certificates {
        let found = issued.iter().find(|one| one.id == *id);
        let found = found.ok_or_else(|| Refusal::unknown(format!("there is no certificate {id}")))?;
        if found.revoked.is_some() || found.not_after <= now || found.kind != kind {
            return Err(Refusal::malformed(format!("the certificate {id} is not good for that")));
        }
        certificates.push(found.certificate.clone());
    }
    if certificates.is_empty() {
        return Err(Refusal::malformed("a profile names at least one certificate"));
    }
    let has_devices = new.destination.has_devices();
    let registered: Vec<Device> = state::all(database, "device")?;
    if let Some(other) =
        new.devices.iter().find(|id| !registered.iter().any(|device| device.identifier == **id))
    {
        return Err(Refusal::unknown(format!("the device {other} is not registered")));
    }
    if has_devices == new.devices.is_empty() || new.destination == Destination::Direct {
        return Err(Refusal::malformed(format!("a profile for {} has other devices", new.destination)));
    }
    let uuid = with_env(now, |env| {
        let mut bytes = [0; 16];
        env.keys.fill(&mut bytes).map(|()| uuid(bytes))
    });
    Ok(ProfileList {
        uuid: uuid.map_err(StandInError::from)?,
        title: new.title.clone(),
        teams: vec![team.into()],
        prefixes: vec![team.into()],
        entitlements: entitlements(&app, team, new.destination),
        certificates,
        not_before: now.as_second(),
        not_after: Authority::profile_end(now).as_second(),
        devices: has_devices.then(|| new.devices.clone()),
        all_devices: new.destination == Destination::InHouse,
        platforms: vec!["iOS".into()],
    })
}

/// A random UUID (RFC 9562, section 5.4).
fn uuid(mut bytes: [u8; 16]) -> String {
    let [_, _, _, _, _, _, version, _, variant, ..] = &mut bytes;
    *version = *version & 0x0f | 0x40;
    *variant = *variant & 0x3f | 0x80;
    let digits = hex(&bytes);
    let part = |from: usize, to: usize| digits.get(from..to).unwrap_or_default();
    format!("{}-{}-{}-{}-{}", part(0, 8), part(8, 12), part(12, 16), part(16, 20), part(20, 32))
}

/// The most that an app with the profile may claim (formats section 4).
fn entitlements(app: &AppId, team: &str, destination: Destination) -> BTreeMap<String, Entitlement> {
    let text = |text: String| Entitlement::Text(text);
    let for_development = destination == Destination::Development;
    let mut all = BTreeMap::from([
        ("application-identifier".to_owned(), text(format!("{team}.{}", app.bundle_id))),
        ("com.apple.developer.team-identifier".to_owned(), text(team.into())),
        ("get-task-allow".to_owned(), Entitlement::Flag(for_development)),
        ("keychain-access-groups".to_owned(), Entitlement::List(vec![text(format!("{team}.*"))])),
    ]);
    if destination == Destination::Store {
        all.insert("beta-reports-active".into(), Entitlement::Flag(true));
    }
    for capability in &app.capabilities {
        let value = match capability {
            Capability::Push if for_development => text("development".into()),
            Capability::Push => text("production".into()),
            Capability::HealthData => Entitlement::Flag(true),
            Capability::AssociatedDomains => text("*".into()),
            Capability::AppGroups => Entitlement::List(vec![text(format!("group.{}", app.bundle_id))]),
            Capability::TagReading => Entitlement::List(vec![text("TAG".into())]),
            Capability::NetworkExtensions => Entitlement::List(vec![text("packet-tunnel-provider".into())]),
        };
        all.insert(capability.entitlement().into(), value);
    }
    all
}

fn new_api_key(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    let asked_by = portal.admit(&call.headers, ApiRole::Owner)?;
    let new: NewApiKey = read(&call.body)?;
    portal.once(&call.headers, &asked_by, MADE, |database, _| {
        Ok(state::make_api_key(database, &asked_by.issuer, &new.title, new.role)?)
    })
}

/// Gives out the private key of an API key, once. It is not kept as an answer: then it would be given out again.
fn private_key(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    let id = call.part(0);
    portal.admit(&call.headers, ApiRole::Owner)?;
    let fetched = portal.state().change(|database, _| state::fetch_api_key(database, id))?;
    let gone = || {
        let detail = format!("the private key of {id} was fetched before, or there is no such key");
        Refusal::new(StatusCode::GONE, FETCHED, "it can be fetched once", detail)
    };
    let text = fetched.ok_or_else(gone)?;
    Ok(Response::new(StatusCode::OK).body("application/x-pem-file", text))
}
