//! Asks the portal: what every portal can be asked is a trait, and what speaks to ours over HTTP is one of it.
//!
//! What is safe to ask again is asked again, with a growing wait and some chance in it: whatever only looks, and whatever
//! carries a key that the portal knows a call by. Nothing is issued twice.

mod store;

use std::sync::Arc;
use std::time::Duration;

use base64ct::{Base64, Encoding};
use ninekeys_core::keys::KeyMaker;
use ninekeys_core::token::TokenError;
use ninekeys_formats::cms;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::secret::{Secret, SecretText};
use ninekeys_formats::x509::Certificate;
use serde::Serialize;
use serde::de::DeserializeOwned;
use thiserror::Error;
use ureq::http::{Response, Uri};
use ureq::tls::{Certificate as Pinned, RootCerts, TlsConfig};
use ureq::{Agent, Body};

use crate::store::DIGEST;
use crate::wire::{
    self, ApiKey, AppId, BASE, Capabilities, Device, EST, Enrolment, IDEMPOTENCY, List, NewApiKey,
    NewProfile, Problem, Profile, Team,
};

/// The most of an answer, in bytes.
const MOST: u64 = 16 << 20;
/// How often something is tried.
const TRIES: u32 = 5;
/// The wait before the second try; it doubles with each.
const FIRST_WAIT: Duration = Duration::from_millis(100);
/// The longest that a portal may tell us to wait.
const LONGEST_WAIT: Duration = Duration::from_secs(10);
/// How long an answer may take.
const PATIENCE: Duration = Duration::from_secs(30);

/// Why the portal did not do it.
#[derive(Debug, Error)]
pub enum PortalError {
    /// An address that is none.
    #[error("`{0}` is no address of a portal: https://HOST:PORT, or http://127.0.0.1:PORT")]
    Address(String),
    /// Plain HTTP to another machine.
    #[error(
        "{0} is on another machine, and what is said to a portal there would be read by others on the way"
    )]
    NotLoopback(String),
    /// A sealed connection to nobody in particular.
    #[error("who answers at {0} is not known: the project file does not pin its certificate")]
    NotPinned(String),
    /// What is pinned cannot be used.
    #[error("the certificate that is pinned for the portal cannot be used: {0}")]
    Pin(rustls::Error),
    /// It cannot be reached, or the connection broke.
    #[error("the portal at {address} cannot be reached: {cause}")]
    Unreachable {
        /// Its address.
        address: String,
        /// What was wrong.
        cause: String,
    },
    /// It refused.
    #[error("the portal refused: {}", .0.detail)]
    Refused(Box<Problem>),
    /// It failed.
    #[error("the portal failed, with status {status}{}", detail(detail_text))]
    Failed {
        /// The HTTP status.
        status: u16,
        /// What it said of it.
        detail_text: String,
    },
    /// It answered something that is no answer.
    #[error("what the portal answered to {0} cannot be read")]
    Answer(&'static str),
    /// It answered more than anybody needs.
    #[error("the portal answered more than {most} MiB to {0}", most = MOST >> 20)]
    TooLarge(&'static str),
    /// No token could be made.
    #[error(transparent)]
    Token(#[from] TokenError),
}

fn detail(text: &str) -> String {
    if text.is_empty() { String::new() } else { format!(": {text}") }
}

/// What a portal can be asked. Another portal is another of these.
pub trait Portal {
    /// The team.
    ///
    /// # Errors
    /// [`PortalError`]; so with all that follow.
    fn team(&self) -> Result<Team, PortalError>;

    /// The certificates of the team.
    ///
    /// # Errors
    /// [`PortalError`].
    fn certificates(&self) -> Result<Vec<wire::Certificate>, PortalError>;

    /// The certificates above those that are issued, from the issuer's upwards.
    ///
    /// # Errors
    /// [`PortalError`].
    fn authorities(&self) -> Result<Vec<Certificate>, PortalError>;

    /// Asks for a certificate with a request (PKCS#10, DER), and tells it; `call` is known by, so that none is issued twice.
    ///
    /// # Errors
    /// [`PortalError`].
    fn enrol(&self, wanted: &Enrolment, request: &[u8], call: &str) -> Result<Certificate, PortalError>;

    /// Revokes a certificate.
    ///
    /// # Errors
    /// [`PortalError`].
    fn revoke(&self, id: &str) -> Result<wire::Certificate, PortalError>;

    /// The app ids of the team.
    ///
    /// # Errors
    /// [`PortalError`].
    fn app_ids(&self) -> Result<Vec<AppId>, PortalError>;

    /// Registers an app id, for ever.
    ///
    /// # Errors
    /// [`PortalError`].
    fn new_app_id(&self, new: &AppId) -> Result<AppId, PortalError>;

    /// Switches capabilities on, in the place of those that are.
    ///
    /// # Errors
    /// [`PortalError`].
    fn set_capabilities(&self, bundle_id: &str, all: &Capabilities) -> Result<AppId, PortalError>;

    /// The devices of the team.
    ///
    /// # Errors
    /// [`PortalError`].
    fn devices(&self) -> Result<Vec<Device>, PortalError>;

    /// Registers a device.
    ///
    /// # Errors
    /// [`PortalError`].
    fn new_device(&self, new: &Device) -> Result<Device, PortalError>;

    /// The profiles of the team.
    ///
    /// # Errors
    /// [`PortalError`].
    fn profiles(&self) -> Result<Vec<Profile>, PortalError>;

    /// Has a profile made; `call` is known by, so that none is made twice.
    ///
    /// # Errors
    /// [`PortalError`].
    fn new_profile(&self, new: &NewProfile, call: &str) -> Result<Profile, PortalError>;

    /// Has an API key made.
    ///
    /// # Errors
    /// [`PortalError`].
    fn new_api_key(&self, new: &NewApiKey, call: &str) -> Result<ApiKey, PortalError>;

    /// Fetches the private key of an API key, in PEM: that can be done once, so nothing is tried again.
    ///
    /// # Errors
    /// [`PortalError`].
    fn private_key(&self, key_id: &str) -> Result<SecretText, PortalError>;
}

/// Says who calls, for one call: what stands behind `authorization`, by [`bearer`] or [`basic`].
pub type Tokens<'a> = &'a dyn Fn() -> Result<SecretText, TokenError>;

/// Who calls, by a token (RFC 6750).
pub fn bearer(token: &SecretText) -> SecretText {
    token.lend(|token| Secret::new(format!("Bearer {token}")))
}

/// Who calls, by an account and a password of it (RFC 7617).
pub fn basic(account: &str, password: &[u8]) -> SecretText {
    let mut both = Vec::with_capacity(account.len() + 1 + password.len());
    both.extend_from_slice(account.as_bytes());
    both.push(b':');
    both.extend_from_slice(password);
    let both = Secret::new(both);
    let encoded = Secret::new(both.lend(|both| Base64::encode_string(both)));
    encoded.lend(|encoded| Secret::new(format!("Basic {encoded}")))
}

/// A portal that speaks our JSON over HTTP.
pub struct HttpPortal<'a> {
    agent: Agent,
    address: String,
    tokens: Tokens<'a>,
    chance: &'a dyn KeyMaker,
}

/// What is done with a path.
enum Ask<'a> {
    Get,
    /// Bytes, and their media type.
    Post(&'a [u8], &'static str),
    Put(&'a [u8]),
    /// A piece of a file, and its digest (RFC 9530).
    Piece(&'a [u8], &'a str),
    Delete,
}

/// The media type of what is said in JSON.
const JSON: &str = "application/json";
/// The media type of bytes.
const BYTES: &str = "application/octet-stream";

/// Whether something is the address of a portal: plain HTTP on this machine alone, or a sealed connection to somebody who is
/// known.
///
/// # Errors
/// [`PortalError::Address`], [`PortalError::NotLoopback`], [`PortalError::NotPinned`].
pub fn check_address(address: &str, pinned: bool) -> Result<(), PortalError> {
    let wrong = || PortalError::Address(address.chars().take(100).collect());
    let uri: Uri = address.trim_end_matches('/').parse().map_err(|_| wrong())?;
    let host = uri.host().ok_or_else(wrong)?;
    if !matches!(uri.path(), "" | "/") {
        return Err(wrong());
    }
    match uri.scheme_str() {
        Some("https") if pinned => return Ok(()),
        Some("https") => return Err(PortalError::NotPinned(address.into())),
        Some("http") => {}
        _ => return Err(wrong()),
    }
    let ip = host.trim_matches(['[', ']']).parse::<std::net::IpAddr>();
    if !ip.is_ok_and(|ip| ip.is_loopback()) && host != "localhost" {
        return Err(PortalError::NotLoopback(address.into()));
    }
    Ok(())
}

/// Trusts what is pinned and nothing else.
fn tls(pin: Option<&[u8]>) -> Result<TlsConfig, PortalError> {
    let pinned = pin.map(|der| {
        // what the connection would leave out without a word is refused here
        let mut known = rustls::RootCertStore::empty();
        known.add(der.to_vec().into()).map_err(PortalError::Pin)?;
        Ok::<_, PortalError>(Pinned::from_der(der).to_owned())
    });
    let pinned: Vec<Pinned<'static>> = pinned.transpose()?.into_iter().collect();
    Ok(TlsConfig::builder()
        .unversioned_rustls_crypto_provider(Arc::new(rustls::crypto::aws_lc_rs::default_provider()))
        .root_certs(RootCerts::Specific(Arc::new(pinned)))
        .build())
}

/// What asks: it follows nobody elsewhere, and goes by no proxy.
pub(crate) fn agent(pin: Option<&[u8]>, patience: Duration) -> Result<Agent, PortalError> {
    let config = Agent::config_builder()
        .tls_config(tls(pin)?)
        .timeout_global(Some(patience))
        .http_status_as_error(false)
        .max_redirects(0)
        .proxy(None)
        .build();
    Ok(config.into())
}

impl<'a> HttpPortal<'a> {
    /// The portal at an address, and the certificate that it has to show or that has to have signed it, DER, where the
    /// connection is sealed.
    ///
    /// # Errors
    /// [`PortalError::Address`], [`PortalError::NotLoopback`], [`PortalError::NotPinned`], [`PortalError::Pin`].
    pub fn at(
        address: &str,
        pin: Option<&[u8]>,
        tokens: Tokens<'a>,
        chance: &'a dyn KeyMaker,
    ) -> Result<HttpPortal<'a>, PortalError> {
        check_address(address, pin.is_some())?;
        let address = address.trim_end_matches('/').to_owned();
        Ok(HttpPortal { agent: agent(pin, PATIENCE)?, address, tokens, chance })
    }

    fn once(&self, ask: &Ask<'_>, path: &str, call: Option<&str>) -> Result<Response<Body>, PortalError> {
        let url = format!("{}{path}", self.address);
        let caller = (self.tokens)()?;
        let sent = caller.lend(|caller| match ask {
            Ask::Get => self.agent.get(&url).header("authorization", caller).call(),
            Ask::Delete => self.agent.delete(&url).header("authorization", caller).call(),
            Ask::Piece(body, digest) => {
                let request = self.agent.put(&url).header("authorization", caller);
                request.header("content-type", BYTES).header(DIGEST, *digest).send(*body)
            }
            Ask::Post(body, _) | Ask::Put(body) => {
                let (request, kind) = match ask {
                    Ask::Post(_, kind) => (self.agent.post(&url), *kind),
                    _ => (self.agent.put(&url), JSON),
                };
                let request = request.header("authorization", caller).header("content-type", kind);
                match call {
                    Some(call) => request.header(IDEMPOTENCY, call).send(*body),
                    None => request.send(*body),
                }
            }
        });
        let unreachable = |error: ureq::Error| PortalError::Unreachable {
            address: self.address.clone(),
            cause: error.to_string(),
        };
        sent.map_err(unreachable)
    }

    /// Asks, and asks again where that is safe; tells the answer's body.
    fn ask(
        &self,
        what: &'static str,
        ask: &Ask<'_>,
        path: &str,
        call: Option<&str>,
    ) -> Result<Secret<Vec<u8>>, PortalError> {
        let again = matches!(ask, Ask::Get | Ask::Put(_) | Ask::Piece(..)) || call.is_some();
        let mut wait = FIRST_WAIT;
        let mut tries = 1;
        loop {
            let sent = self.once(ask, path, call).map_err(|error| (error, None));
            let done = sent.and_then(|response| self.body(what, response));
            let (pause, error) = match done {
                Ok(body) => return Ok(body),
                Err((error, told)) => (told.unwrap_or(wait), error),
            };
            let passing = match &error {
                // the next call has a token of its own
                PortalError::Refused(problem) if problem.kind == "unauthorized" => tries == 1,
                PortalError::Unreachable { .. } | PortalError::Answer(_) => true,
                PortalError::Failed { status, .. } => *status == 429 || *status >= 500,
                _ => false,
            };
            // too busy to do it, or not taken for who asks, is not done: so may be asked again whatever it was
            let undone = match &error {
                PortalError::Failed { status, .. } => *status == 429,
                PortalError::Refused(problem) => problem.kind == "unauthorized",
                _ => false,
            };
            if !(again || undone) || !passing || tries >= TRIES {
                return Err(error);
            }
            std::thread::sleep(pause.min(LONGEST_WAIT) + self.jitter());
            wait *= 2;
            tries += 1;
        }
    }
}

impl HttpPortal<'_> {
    /// The body of an answer; a refusal or a failure with how long it wants to be left alone.
    fn body(
        &self,
        what: &'static str,
        mut response: Response<Body>,
    ) -> Result<Secret<Vec<u8>>, (PortalError, Option<Duration>)> {
        let status = response.status().as_u16();
        let header = |name: &str| response.headers().get(name).and_then(|value| value.to_str().ok());
        let pause = header("retry-after").and_then(|text| text.parse().ok()).map(Duration::from_secs);
        let is_problem = header("content-type").is_some_and(|kind| kind.starts_with(wire::PROBLEM));
        let read = response.body_mut().with_config().limit(MOST).read_to_vec();
        let bytes = match read {
            Ok(bytes) => Secret::new(bytes),
            Err(ureq::Error::BodyExceedsLimit(_)) => return Err((PortalError::TooLarge(what), None)),
            // an answer that was cut off on the way
            Err(_) => return Err((PortalError::Answer(what), None)),
        };
        if (200..300).contains(&status) {
            return Ok(bytes);
        }
        let problem: Option<Problem> =
            if is_problem { bytes.lend(|bytes| serde_json::from_slice(bytes).ok()) } else { None };
        Err(match problem {
            Some(problem) if status < 500 && status != 429 => {
                (PortalError::Refused(Box::new(plain(problem))), None)
            }
            problem => {
                let detail_text = problem.map(|problem| plain(problem).detail).unwrap_or_default();
                (PortalError::Failed { status, detail_text }, pause)
            }
        })
    }

    /// A wait that is another one each time, so that many who were cut off do not all come back at once.
    fn jitter(&self) -> Duration {
        let mut byte = [0];
        let _ = self.chance.fill(&mut byte);
        Duration::from_millis(u64::from(byte[0] % 100))
    }

    fn read<T: DeserializeOwned>(&self, what: &'static str, path: &str) -> Result<T, PortalError> {
        parse(what, &self.ask(what, &Ask::Get, &format!("{BASE}{path}"), None)?)
    }

    fn list<T: DeserializeOwned>(&self, what: &'static str, path: &str) -> Result<Vec<T>, PortalError> {
        Ok(self.read::<List<T>>(what, path)?.items)
    }

    fn post<T: DeserializeOwned>(
        &self,
        what: &'static str,
        path: &str,
        body: &impl Serialize,
        call: &str,
    ) -> Result<T, PortalError> {
        let body = serde_json::to_vec(body).map_err(|_| PortalError::Answer(what))?;
        parse(what, &self.ask(what, &Ask::Post(&body, JSON), &format!("{BASE}{path}"), Some(call))?)
    }
}

fn parse<T: DeserializeOwned>(what: &'static str, bytes: &Secret<Vec<u8>>) -> Result<T, PortalError> {
    bytes.lend(|bytes| serde_json::from_slice(bytes)).map_err(|_| PortalError::Answer(what))
}

/// The certificates of an answer: nobody's message, in Base64 (RFC 7030, section 4.1.3).
fn bundle(what: &'static str, bytes: &Secret<Vec<u8>>) -> Result<Vec<Certificate>, PortalError> {
    let wrong = || PortalError::Answer(what);
    let text = bytes.lend(|bytes| String::from_utf8(bytes.clone())).map_err(|_| wrong())?;
    let text: String = text.split_ascii_whitespace().collect();
    let der = Base64::decode_vec(&text).map_err(|_| wrong())?;
    let ders = cms::bundle(&der, &Limits::USUAL).map_err(|_| wrong())?;
    ders.iter().map(|der| Certificate::parse(der, &Limits::USUAL).map_err(|_| wrong())).collect()
}

/// A problem whose texts can be shown: short, and on one line.
fn plain(problem: Problem) -> Problem {
    let text = |text: &str| text.chars().take(300).map(|c| if c.is_control() { ' ' } else { c }).collect();
    Problem {
        detail: text(&problem.detail),
        title: text(&problem.title),
        kind: text(&problem.kind),
        ..problem
    }
}

/// A part of a path: an id is never more than one.
fn part(id: &str) -> String {
    let plain = |byte: u8| byte.is_ascii_alphanumeric() || b"-._~".contains(&byte);
    id.bytes()
        .map(|byte| if plain(byte) { char::from(byte).to_string() } else { format!("%{byte:02X}") })
        .collect()
}

impl Portal for HttpPortal<'_> {
    fn team(&self) -> Result<Team, PortalError> {
        self.read("a question about the team", "/team")
    }

    fn certificates(&self) -> Result<Vec<wire::Certificate>, PortalError> {
        self.list("a question about certificates", "/certificates")
    }

    fn authorities(&self) -> Result<Vec<Certificate>, PortalError> {
        let what = "a question about its authorities";
        bundle(what, &self.ask(what, &Ask::Get, &format!("{EST}/cacerts"), None)?)
    }

    fn enrol(&self, wanted: &Enrolment, request: &[u8], call: &str) -> Result<Certificate, PortalError> {
        let what = "a request for a certificate";
        let path = format!("{EST}/{}/simpleenroll", part(&wanted.to_string()));
        let request = Base64::encode_string(request);
        let ask = Ask::Post(request.as_bytes(), wire::PKCS10);
        let issued = bundle(what, &self.ask(what, &ask, &path, Some(call))?)?;
        match <[Certificate; 1]>::try_from(issued) {
            Ok([one]) => Ok(one),
            Err(_) => Err(PortalError::Answer(what)),
        }
    }

    fn revoke(&self, id: &str) -> Result<wire::Certificate, PortalError> {
        let path = format!("/certificates/{}/revocation", part(id));
        self.post("a revocation", &path, &serde_json::json!({}), &format!("revoke-{id}"))
    }

    fn app_ids(&self) -> Result<Vec<AppId>, PortalError> {
        self.list("a question about app ids", "/app-ids")
    }

    fn new_app_id(&self, new: &AppId) -> Result<AppId, PortalError> {
        self.post("an app id", "/app-ids", new, &format!("app-id-{}", new.bundle_id))
    }

    fn set_capabilities(&self, bundle_id: &str, all: &Capabilities) -> Result<AppId, PortalError> {
        let what = "capabilities of an app id";
        let body = serde_json::to_vec(all).map_err(|_| PortalError::Answer(what))?;
        let path = format!("{BASE}/app-ids/{}/capabilities", part(bundle_id));
        parse(what, &self.ask(what, &Ask::Put(&body), &path, None)?)
    }

    fn devices(&self) -> Result<Vec<Device>, PortalError> {
        self.list("a question about devices", "/devices")
    }

    fn new_device(&self, new: &Device) -> Result<Device, PortalError> {
        self.post("a device", "/devices", new, &format!("device-{}", new.identifier))
    }

    fn profiles(&self) -> Result<Vec<Profile>, PortalError> {
        self.list("a question about profiles", "/profiles")
    }

    fn new_profile(&self, new: &NewProfile, call: &str) -> Result<Profile, PortalError> {
        self.post("a request for a profile", "/profiles", new, call)
    }

    fn new_api_key(&self, new: &NewApiKey, call: &str) -> Result<ApiKey, PortalError> {
        self.post("a request for an API key", "/api-keys", new, call)
    }

    fn private_key(&self, key_id: &str) -> Result<SecretText, PortalError> {
        let what = "a request for a private key";
        let path = format!("{BASE}/api-keys/{}/private-key", part(key_id));
        let bytes = self.ask(what, &Ask::Post(b"{}", JSON), &path, None)?;
        let text = bytes.lend(|bytes| String::from_utf8(bytes.clone()));
        text.map(Secret::new).map_err(|_| PortalError::Answer(what))
    }
}

#[cfg(test)]
mod tests {
    use ninekeys_core::keys::SystemKeys;

    use super::*;

    #[test]
    fn plain_addresses_are_on_this_machine_and_sealed_ones_are_pinned() {
        let tokens = || Ok(Secret::new(String::new()));
        let at =
            |address: &str| HttpPortal::at(address, None, &tokens, &SystemKeys).map(|portal| portal.address);
        assert_eq!(at("http://127.0.0.1:8080/").unwrap(), "http://127.0.0.1:8080");
        assert!(at("http://localhost:1").is_ok() && at("http://[::1]:80").is_ok());
        for other in ["http://10.0.0.1", "http://portal.example:80"] {
            assert!(matches!(at(other), Err(PortalError::NotLoopback(_))), "{other}");
        }
        for wrong in [
            "",
            "127.0.0.1",
            "http://",
            "http://127.0.0.1/path",
            "https://portal.example/x",
            "ftp://127.0.0.1",
        ] {
            assert!(matches!(at(wrong), Err(PortalError::Address(_))), "{wrong}");
        }
        for address in ["https://127.0.0.1", "https://portal.example:8443"] {
            assert!(matches!(at(address), Err(PortalError::NotPinned(_))), "{address}");
            assert!(check_address(address, true).is_ok());
        }
        assert_eq!(part("a/../b?c"), "a%2F..%2Fb%3Fc");
    }
}
