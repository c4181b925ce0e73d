//! Bytes that pass by: where they go, what they hash to, and why that was not finished.

use std::sync::{PoisonError, RwLock};

use aws_lc_rs::digest::{Context, SHA256};
use ninekeys_formats::source::{ReadError, Source};
use thiserror::Error;

use crate::digest::hex;
use crate::env::Env;

/// Size of a piece in bytes.
pub(crate) const CHUNK: u64 = 1 << 20;

/// Where bytes that were digested are written to at the same time. Called from several threads.
pub trait Sink: Sync {
    /// Writes `bytes` at the position `at`.
    ///
    /// # Errors
    /// What the system said.
    fn write_at(&self, at: u64, bytes: &[u8]) -> std::io::Result<()>;
}

/// Bytes that are put somewhere for a while, and read again.
pub trait Space: Source + Sink + Send {}

/// Where bytes are put for a while that have to be read in another order than they come in.
pub trait Scratch: Sync {
    /// Room for so many bytes, all zero.
    ///
    /// # Errors
    /// What the system said.
    fn space(&self, size: u64) -> std::io::Result<Box<dyn Space>>;
}

/// Puts them into memory, however many they are: for tests, and for what is small.
pub struct InMemory;

impl Scratch for InMemory {
    fn space(&self, size: u64) -> std::io::Result<Box<dyn Space>> {
        let size = usize::try_from(size).map_err(|_| std::io::ErrorKind::OutOfMemory)?;
        Ok(Box::new(Memory(RwLock::new(vec![0; size]))))
    }
}

/// Bytes in memory.
struct Memory(RwLock<Vec<u8>>);

impl Space for Memory {}

impl Source for Memory {
    fn len(&self) -> u64 {
        Source::len(&*self.0.read().unwrap_or_else(PoisonError::into_inner))
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> Result<(), ReadError> {
        self.0.read().unwrap_or_else(PoisonError::into_inner).read_at(at, into)
    }
}

impl Sink for Memory {
    fn write_at(&self, at: u64, bytes: &[u8]) -> std::io::Result<()> {
        let mut all = self.0.write().unwrap_or_else(PoisonError::into_inner);
        let place = usize::try_from(at).ok().and_then(|at| all.get_mut(at..)?.get_mut(..bytes.len()));
        place.ok_or(std::io::ErrorKind::UnexpectedEof)?.copy_from_slice(bytes);
        Ok(())
    }
}

/// Why a digest was not finished.
#[derive(Debug, Error)]
pub enum DigestError {
    /// Reading failed.
    #[error(transparent)]
    Read(#[from] ReadError),
    /// Writing what was read failed.
    #[error("the output could not be written")]
    Write(#[source] std::io::Error),
    /// The user wanted to stop.
    #[error("stopped on request")]
    Stopped,
    /// There is more than a chunk count can say.
    #[error("too large for a package")]
    TooLarge,
}

/// SHA-256 over all of a source, in lower-case hexadecimal: what any other program says of the file.
///
/// # Errors
/// [`DigestError`] when reading fails or the user wants to stop.
pub fn source_sha256(source: &dyn Source, env: &Env<'_>) -> Result<String, DigestError> {
    let mut context = Context::new(&SHA256);
    let mut buffer = Vec::new();
    let mut at = 0;
    while at < source.len() {
        if env.stopped() {
            return Err(DigestError::Stopped);
        }
        let size = CHUNK.min(source.len() - at);
        buffer.resize(usize::try_from(size).unwrap_or(0), 0);
        source.read_at(at, &mut buffer)?;
        context.update(&buffer);
        at += size;
    }
    Ok(hex(context.finish().as_ref()))
}
