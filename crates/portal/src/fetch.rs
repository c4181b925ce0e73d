//! Fetches what a certificate says can be had somewhere: lists of revoked certificates, answers about single ones, certificates.
//!
//! Such an address comes out of a file: whoever asks has verified that file's signature first. What comes back is believed for
//! its own signature, so that plain HTTP does, as RFC 5280, section 8, wants it.

use std::time::Duration;

use thiserror::Error;
use ureq::Agent;
use ureq::http::Uri;

use crate::client::{PortalError, agent};

/// The most that is fetched, in bytes.
const MOST: u64 = 8 << 20;
/// How long it may take.
const PATIENCE: Duration = Duration::from_secs(5);

/// Why nothing was fetched.
#[derive(Debug, Error)]
pub enum FetchError {
    /// The address is none that is asked.
    #[error("it is no address of HTTP")]
    Address,
    /// Nobody answered, or the connection broke.
    #[error("it cannot be reached")]
    Unreachable(#[source] Box<ureq::Error>),
    /// It answered with something else.
    #[error("it answered with status {0}")]
    Status(u16),
    /// It answered more than anybody needs.
    #[error("it answered more than {most} MiB", most = MOST >> 20)]
    TooLarge,
}

/// Asks addresses, one after the other.
pub struct Fetcher(Agent);

impl Fetcher {
    /// One that trusts, on sealed connections, the certificate that is pinned for the portal and nothing else.
    ///
    /// # Errors
    /// [`PortalError::Pin`].
    pub fn new(pin: Option<&[u8]>) -> Result<Self, PortalError> {
        Ok(Fetcher(agent(pin, PATIENCE)?))
    }

    /// What stands at an address.
    ///
    /// # Errors
    /// [`FetchError`].
    pub fn get(&self, address: &str) -> Result<Vec<u8>, FetchError> {
        check(address)?;
        read(self.0.get(address).call())
    }

    /// What is answered there to some bytes of that kind.
    ///
    /// # Errors
    /// [`FetchError`].
    pub fn post(&self, address: &str, kind: &str, bytes: &[u8]) -> Result<Vec<u8>, FetchError> {
        check(address)?;
        read(self.0.post(address).header("content-type", kind).send(bytes))
    }
}

fn check(address: &str) -> Result<(), FetchError> {
    let uri: Uri = address.parse().map_err(|_| FetchError::Address)?;
    let is_http = matches!(uri.scheme_str(), Some("http" | "https"));
    if is_http && uri.host().is_some() { Ok(()) } else { Err(FetchError::Address) }
}

fn read(answer: Result<ureq::http::Response<ureq::Body>, ureq::Error>) -> Result<Vec<u8>, FetchError> {
    let unreachable = |error: ureq::Error| match error {
        ureq::Error::BodyExceedsLimit(_) => FetchError::TooLarge,
        error => FetchError::Unreachable(Box::new(error)),
    };
    let mut answer = answer.map_err(unreachable)?;
    match answer.status().as_u16() {
        200 => answer.body_mut().with_config().limit(MOST).read_to_vec().map_err(unreachable),
        other => Err(FetchError::Status(other)),
    }
}
