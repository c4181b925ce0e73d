//! A small server that stands in for the portal: real certificates, real profiles, real refusals, and everything in one
//! file, so that it can be stopped at any instant.

mod authority;
mod enrol;
mod faults;
mod http;
mod revocation;
mod router;
mod routes;
mod state;
mod store;
mod tls;

use std::net::{SocketAddr, TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use jiff::{SignedDuration, Timestamp};
use ninekeys_core::certificate::CertificateError;
use ninekeys_core::keys::KeyError;
use thiserror::Error;

use authority::Kept;
pub use faults::{Faults, FaultsError};
use http::{Ended, converse};
use router::Router;
use routes::Portal;
use state::State;
pub use state::{First, FirstKey, UploadPassword};
use tls::Sealing;

/// How long a client may take to agree on keys, and how long a connection may be silent.
const AGREEING: Duration = Duration::from_secs(10);
const PATIENCE: Duration = Duration::from_secs(120);
/// How long to wait before the next connection is taken, after one could not be.
const PAUSE: Duration = Duration::from_millis(100);
/// The most connections at a time: each costs a thread.
const MOST_CONNECTIONS: usize = 512;

/// What a clock says.
pub type Clock = Arc<dyn Fn() -> Timestamp + Send + Sync>;

/// Where its state is, and for whom it issues.
#[derive(Debug, Clone)]
pub struct Settings {
    /// The folder of its state.
    pub folder: PathBuf,
    /// The team's id.
    pub team: String,
    /// What people call the team.
    pub title: String,
    /// Whether connections are sealed.
    pub sealed: bool,
    /// How long the store looks at a build before testers can have it, and again before everyone can.
    pub looks: SignedDuration,
    /// What goes wrong on purpose.
    pub faults: Option<Faults>,
}

/// Why it does not serve.
#[derive(Debug, Error)]
pub enum StandInError {
    /// Its folder or a file in it.
    #[error("{}: {cause}", path.display())]
    Folder {
        /// Which.
        path: PathBuf,
        /// What was wrong.
        #[source]
        cause: std::io::Error,
    },
    /// A file that would be written is another's.
    #[error("{} is there, and was not made by what stands in", .0.display())]
    Taken(PathBuf),
    /// Its state.
    #[error("its state cannot be used: {0}")]
    State(#[from] rusqlite::Error),
    /// What is in it.
    #[error("its state is damaged: {0}")]
    Damaged(&'static str),
    /// A certificate.
    #[error(transparent)]
    Certificate(#[from] CertificateError),
    /// A key.
    #[error(transparent)]
    Key(#[from] KeyError),
    /// The address.
    #[error("{address} cannot be listened on: {cause}")]
    Listen {
        /// Which.
        address: SocketAddr,
        /// What was wrong.
        #[source]
        cause: std::io::Error,
    },
    /// Sealing connections.
    #[error("connections cannot be sealed: {0}")]
    Tls(#[from] rustls::Error),
    /// An address that others could reach.
    #[error("{0} can be reached by others, and what stands in is for this machine alone")]
    NotLoopback(SocketAddr),
}

/// A server that is ready.
pub struct StandIn {
    listener: TcpListener,
    address: SocketAddr,
    state: State,
    clock: Clock,
    first: Option<First>,
    tls: Option<Kept>,
    faults: Option<Faults>,
    builds: PathBuf,
    looks: SignedDuration,
}

/// The paths that are answered, with `{NAME}` where something stands for itself: what `docs/portal.openapi.yaml` describes.
pub fn paths() -> Vec<String> {
    routes::table().into_iter().map(|(path, _)| path.replace("{*", "{")).collect()
}

/// The root's certificate, in the folder.
pub const ROOT: &str = "root.pem";
/// The folder of the builds that were uploaded, in the folder.
const BUILDS: &str = "builds";
/// The certificate that connections are sealed with, in the folder.
pub const TLS: &str = "tls.pem";

impl StandIn {
    /// Opens its state, or makes it, and listens.
    ///
    /// # Errors
    /// [`StandInError`].
    pub fn open(settings: &Settings, listen: SocketAddr, clock: Clock) -> Result<Self, StandInError> {
        if !listen.ip().is_loopback() {
            return Err(StandInError::NotLoopback(listen));
        }
        let clock = settings
            .faults
            .as_ref()
            .map_or_else(|| Arc::clone(&clock), |faults| faults.off(Arc::clone(&clock)));
        let (mut state, first) = State::open(settings, clock())?;
        let tls = if settings.sealed { Some(state.tls(&settings.folder, clock())?) } else { None };
        let failed = |cause| StandInError::Listen { address: listen, cause };
        let listener = TcpListener::bind(listen).map_err(failed)?;
        let address = listener.local_addr().map_err(failed)?;
        let faults = settings.faults.clone();
        let builds = settings.folder.join(BUILDS);
        let looks = settings.looks;
        Ok(StandIn { listener, address, state, clock, first, tls, faults, builds, looks })
    }

    /// Where it listens.
    pub fn address(&self) -> String {
        let scheme = if self.tls.is_some() { "https" } else { "http" };
        format!("{scheme}://{}", self.address)
    }

    /// What was made with a new folder, for people to fetch.
    pub fn first(&self) -> Option<&First> {
        self.first.as_ref()
    }

    /// Answers until the process ends, each connection on a thread of its own.
    ///
    /// # Errors
    /// [`StandInError::Tls`].
    pub fn serve(self) -> Result<(), StandInError> {
        let address = self.address();
        let StandIn { listener, state, clock, faults, tls, builds, looks, .. } = self;
        let portal = Portal { state: Mutex::new(state), clock, address, builds, looks };
        let router = Router::new(portal, faults.map(faults::Run::new));
        let sealing = tls.as_ref().map(Sealing::with).transpose()?;
        let open = AtomicUsize::new(0);
        std::thread::scope(|threads| {
            loop {
                while open.load(Ordering::Relaxed) >= MOST_CONNECTIONS {
                    std::thread::sleep(PAUSE);
                }
                let Ok((stream, _)) = listener.accept() else {
                    // no descriptors are left, or the client was gone at once
                    std::thread::sleep(PAUSE);
                    continue;
                };
                let counted = Counted::new(&open);
                let (router, sealing) = (&router, sealing.as_ref());
                let attended = std::thread::Builder::new().spawn_scoped(threads, move || {
                    let _counted = counted;
                    // a connection that fails is its client's concern
                    let _ = attend(stream, sealing, router);
                });
                // where there is no room for a thread the connection is closed, and its client may come again
                drop(attended);
            }
        })
    }
}

/// A connection that is open.
struct Counted<'a>(&'a AtomicUsize);

impl<'a> Counted<'a> {
    fn new(open: &'a AtomicUsize) -> Self {
        open.fetch_add(1, Ordering::Relaxed);
        Counted(open)
    }
}

impl Drop for Counted<'_> {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::Relaxed);
    }
}

/// Answers on one connection.
fn attend(stream: TcpStream, sealing: Option<&Sealing>, router: &Router) -> std::io::Result<()> {
    stream.set_nodelay(true)?;
    stream.set_write_timeout(Some(PATIENCE))?;
    stream.set_read_timeout(Some(AGREEING))?;
    let Some(sealing) = sealing else {
        stream.set_read_timeout(Some(PATIENCE))?;
        return converse(&stream, router).map(drop);
    };
    let plain = stream.try_clone()?;
    let mut sealed = sealing.agree(stream)?;
    plain.set_read_timeout(Some(PATIENCE))?;
    if converse(&mut sealed, router)? == Ended::Whole { sealed.end() } else { Ok(()) }
}

/// An error about a file.
fn folder_error(path: &Path) -> impl FnOnce(std::io::Error) -> StandInError + '_ {
    move |cause| StandInError::Folder { path: path.to_owned(), cause }
}
