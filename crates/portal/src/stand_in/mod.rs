//! A small server that stands in for the portal: real certificates, real profiles, real refusals, and everything in one
//! file, so that it can be stopped at any instant.

mod authority;
mod enrol;
mod faults;
mod revocation;
mod routes;
mod state;
mod store;
mod tls;

use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};

use axum::Router;
use axum::serve::Listener;
use jiff::{SignedDuration, Timestamp};
use ninekeys_core::certificate::CertificateError;
use ninekeys_core::keys::KeyError;
use thiserror::Error;

use authority::Kept;
pub use faults::{Faults, FaultsError};
use state::State;
pub use state::{First, FirstKey, UploadPassword};
use tls::Sealed;

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
    listener: std::net::TcpListener,
    address: SocketAddr,
    state: Arc<Mutex<State>>,
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
        let listener = std::net::TcpListener::bind(listen).map_err(failed)?;
        listener.set_nonblocking(true).map_err(failed)?;
        let address = listener.local_addr().map_err(failed)?;
        let faults = settings.faults.clone();
        let builds = settings.folder.join(BUILDS);
        let state = Arc::new(Mutex::new(state));
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

    /// Answers until the process ends, on this thread.
    ///
    /// # Errors
    /// [`StandInError::Listen`].
    pub fn serve(self) -> Result<(), StandInError> {
        let whole = self.address();
        let StandIn { listener, address, state, clock, faults, tls, builds, looks, .. } = self;
        let failed = |cause| StandInError::Listen { address, cause };
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().map_err(failed)?;
        runtime.block_on(async move {
            let listener = tokio::net::TcpListener::from_std(listener).map_err(failed)?;
            let portal = routes::Portal { state, clock, address: whole.into(), builds: builds.into(), looks };
            let router = routes::router(portal);
            match tls {
                None => serve(listener, router, faults).await.map_err(failed),
                Some(kept) => serve(Sealed::over(listener, &kept)?, router, faults).await.map_err(failed),
            }
        })
    }
}

/// Answers on what a listener hands out, with what goes wrong on purpose.
async fn serve<L: Listener<Addr: std::fmt::Debug>>(
    listener: L,
    router: Router,
    faults: Option<Faults>,
) -> std::io::Result<()> {
    match faults {
        None => axum::serve(listener, router).await,
        Some(faults) => {
            let run = faults::Run::new(faults);
            let router = router.layer(axum::middleware::from_fn_with_state(run, faults::disturb));
            let service = router.into_make_service_with_connect_info::<faults::Left>();
            axum::serve(faults::Lines(listener), service).await
        }
    }
}

/// An error about a file.
fn folder_error(path: &Path) -> impl FnOnce(std::io::Error) -> StandInError + '_ {
    move |cause| StandInError::Folder { path: path.to_owned(), cause }
}
