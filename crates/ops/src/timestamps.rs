//! Timestamps, asked for at the address that the project file names (RFC 3161, section 3.4).

use std::time::Duration;

use ninekeys_core::env::Env;
use ninekeys_core::timestamp::{ROOM, Stamped, TimestampError, TimestampFault, Timestamper, question};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::timestamp::{Answer, read_answer};
use ninekeys_formats::x509::Certificate;
use ninekeys_portal::fetch::{FetchError, Fetcher};

use crate::portal::{ConnectError, pin};
use crate::project::ProjectFile;

/// What a question is called.
const KIND: &str = "application/timestamp-query";
/// How often an authority that is busy or away is asked once more, and how long is waited before.
const AGAIN: [Duration; 2] = [Duration::from_millis(200), Duration::from_millis(800)];

/// An authority at an address.
pub(crate) struct Server<'a> {
    fetcher: Fetcher,
    address: String,
    /// What its certificate has to lead to.
    roots: &'a [Certificate],
    env: Env<'a>,
}

impl<'a> Server<'a> {
    /// The one that the project file names; nothing where it names none.
    ///
    /// # Errors
    /// [`ConnectError`] when what it pins cannot be used.
    pub(crate) fn of(
        file: &ProjectFile,
        roots: &'a [Certificate],
        env: Env<'a>,
    ) -> Result<Option<Self>, ConnectError> {
        let Some(address) = file.project.timestamps.clone() else { return Ok(None) };
        let fetcher = Fetcher::new(pin(file)?.as_deref())?;
        Ok(Some(Server { fetcher, address, roots, env }))
    }

    fn ask(&self, bytes: &[u8]) -> Result<Vec<u8>, TimestampError> {
        let mut pauses = AGAIN.iter();
        loop {
            let error = match self.fetcher.post(&self.address, KIND, bytes) {
                Ok(answer) => return Ok(answer),
                Err(error) => error,
            };
            let passes = matches!(error, FetchError::Unreachable(_) | FetchError::Status(429 | 500..));
            match pauses.next().filter(|_| passes && !self.env.stopped()) {
                Some(pause) => std::thread::sleep(*pause),
                None => return Err(self.not_asked(error.to_string())),
            }
        }
    }

    fn not_asked(&self, because: String) -> TimestampError {
        TimestampError::NotAsked { address: self.address.clone(), because }
    }
}

impl Timestamper for Server<'_> {
    fn stamp(&self, signature: &[u8]) -> Result<Vec<u8>, TimestampError> {
        let fault = |cause| TimestampError::Fault { address: self.address.clone(), cause };
        let (bytes, nonce) =
            question(signature, &self.env).map_err(|error| self.not_asked(error.to_string()))?;
        let answer = self.ask(&bytes)?;
        let token = match read_answer(&answer).map_err(|error| fault(error.into()))? {
            Answer::Granted(token) => token,
            Answer::Refused(status) => {
                return Err(TimestampError::Refused { address: self.address.clone(), status });
            }
        };
        // the rest is for what stands around it in the message
        let most = ROOM - 1_000;
        if token.len() > most {
            return Err(fault(TimestampFault::TooLarge { size: token.len(), most }));
        }
        let stamped = Stamped::read(&token, signature, Some(&nonce), &Limits::USUAL).map_err(fault)?;
        let path = stamped.chain(self.roots).map_err(|error| fault(error.into()))?;
        match path.last().is_some_and(|root| self.roots.iter().any(|own| own.der == root.der)) {
            true => Ok(token),
            false => Err(fault(TimestampFault::NotTrusted)),
        }
    }
}
