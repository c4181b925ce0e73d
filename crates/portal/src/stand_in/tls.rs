//! Connections that nobody reads on the way: TLS with a certificate that the stand-in makes for itself, and that the project
//! file pins.

use std::io;
use std::sync::Arc;
use std::time::Duration;

use axum::serve::Listener;
use rustls::ServerConfig;
use rustls::crypto::aws_lc_rs;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, PrivatePkcs8KeyDer};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::mpsc;
use tokio_rustls::TlsAcceptor;
use tokio_rustls::server::TlsStream;

use super::authority::Kept;

/// How long somebody may take to agree on keys.
const PATIENCE: Duration = Duration::from_secs(10);
/// How many connections may wait to be served.
const WAITING: usize = 64;

/// Listens, and hands out connections that keys were agreed on for. Who takes long to do so keeps nobody waiting.
pub(super) struct Sealed {
    ready: mpsc::Receiver<TlsStream<TcpStream>>,
}

impl Sealed {
    /// Seals what comes in, with a key and the certificate over it.
    pub(super) fn over(mut listener: TcpListener, kept: &Kept) -> Result<Self, rustls::Error> {
        let key = kept.secret.lend(|der| PrivatePkcs8KeyDer::from(der.to_vec()));
        let certificate = CertificateDer::from(kept.certificate.clone());
        let config = ServerConfig::builder_with_provider(Arc::new(aws_lc_rs::default_provider()))
            .with_safe_default_protocol_versions()?
            .with_no_client_auth()
            .with_single_cert(vec![certificate], PrivateKeyDer::Pkcs8(key))?;
        let acceptor = TlsAcceptor::from(Arc::new(config));
        let (done, ready) = mpsc::channel(WAITING);
        tokio::spawn(async move {
            loop {
                let (stream, _) = Listener::accept(&mut listener).await;
                let agreed = acceptor.accept(stream);
                let done = done.clone();
                tokio::spawn(async move {
                    if let Ok(Ok(stream)) = tokio::time::timeout(PATIENCE, agreed).await {
                        // nobody takes it when the server ends
                        let _ = done.send(stream).await;
                    }
                });
            }
        });
        Ok(Sealed { ready })
    }
}

impl Listener for Sealed {
    type Io = TlsStream<TcpStream>;
    type Addr = ();

    async fn accept(&mut self) -> (Self::Io, ()) {
        match self.ready.recv().await {
            Some(stream) => (stream, ()),
            // the task that accepts ends with the server alone
            None => std::future::pending().await,
        }
    }

    fn local_addr(&self) -> io::Result<()> {
        Ok(())
    }
}
