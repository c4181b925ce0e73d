//! Connections that nobody reads on the way: TLS with a certificate that the stand-in makes for itself, and that the project
//! file pins.

use std::io::{self, Read, Write};
use std::net::TcpStream;
use std::sync::Arc;

use rustls::crypto::aws_lc_rs;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, PrivatePkcs8KeyDer};
use rustls::{ServerConfig, ServerConnection, StreamOwned};

use super::authority::Kept;

/// Seals connections with a key and the certificate over it.
#[derive(Clone)]
pub(super) struct Sealing(Arc<ServerConfig>);

impl Sealing {
    pub(super) fn with(kept: &Kept) -> Result<Self, rustls::Error> {
        let key = kept.secret.lend(|der| PrivatePkcs8KeyDer::from(der.to_vec()));
        let certificate = CertificateDer::from(kept.certificate.clone());
        let config = ServerConfig::builder_with_provider(Arc::new(aws_lc_rs::default_provider()))
            .with_safe_default_protocol_versions()?
            .with_no_client_auth()
            .with_single_cert(vec![certificate], PrivateKeyDer::Pkcs8(key))?;
        Ok(Sealing(Arc::new(config)))
    }

    /// Agrees on keys with the client.
    pub(super) fn agree(&self, stream: TcpStream) -> io::Result<Sealed> {
        let connection = ServerConnection::new(Arc::clone(&self.0)).map_err(io::Error::other)?;
        let mut sealed = StreamOwned::new(connection, stream);
        while sealed.conn.is_handshaking() {
            sealed.conn.complete_io(&mut sealed.sock)?;
        }
        Ok(Sealed(sealed))
    }
}

/// A connection that keys were agreed on for.
pub(super) struct Sealed(StreamOwned<ServerConnection, TcpStream>);

impl Sealed {
    /// Tells the client that nothing was cut off.
    pub(super) fn end(mut self) -> io::Result<()> {
        self.0.conn.send_close_notify();
        self.0.flush()
    }
}

impl Read for &mut Sealed {
    fn read(&mut self, to: &mut [u8]) -> io::Result<usize> {
        self.0.read(to)
    }
}

impl Write for &mut Sealed {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.0.flush()
    }
}
