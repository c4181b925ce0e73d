//! Bytes by position: how a file of any size is read without being held in memory.

use std::io;
use std::ops::Range;

use thiserror::Error;

/// Something with a length that can be read at any position, from several threads at once.
pub trait Source: Sync {
    /// Length in bytes.
    fn len(&self) -> u64;

    /// Fills `into` with the bytes at `at`.
    ///
    /// # Errors
    /// [`ReadError`] when the range is not inside the source or the system refuses.
    fn read_at(&self, at: u64, into: &mut [u8]) -> Result<(), ReadError>;

    /// Whether there is nothing to read.
    fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The bytes of `range`, at most `limit` of them.
    ///
    /// # Errors
    /// [`ReadError`], also when the range is longer than `limit` or not inside the source.
    fn bytes(&self, range: Range<u64>, limit: u64) -> Result<Vec<u8>, ReadError> {
        let wanted = range.end.saturating_sub(range.start);
        if range.end > self.len() || range.end < range.start || wanted > limit {
            return Err(ReadError::outside(range.start, wanted));
        }
        let Ok(length) = usize::try_from(wanted) else {
            return Err(ReadError::outside(range.start, wanted));
        };
        let mut out = vec![0; length];
        self.read_at(range.start, &mut out)?;
        Ok(out)
    }
}

/// Reading by position failed.
#[derive(Debug, Error)]
#[error("{wanted} bytes at byte {at} could not be read")]
pub struct ReadError {
    /// Where the reading began.
    pub at: u64,
    /// How many bytes were wanted.
    pub wanted: u64,
    /// What the system said.
    #[source]
    pub cause: io::Error,
}

impl ReadError {
    /// The error for a range that is not inside the source.
    pub fn outside(at: u64, wanted: u64) -> Self {
        ReadError { at, wanted, cause: io::ErrorKind::UnexpectedEof.into() }
    }
}

impl Source for [u8] {
    fn len(&self) -> u64 {
        <[u8]>::len(self) as u64
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> Result<(), ReadError> {
        let wanted = into.len() as u64;
        let found = usize::try_from(at)
            .ok()
            .and_then(|start| self.get(start..)?.get(..into.len()))
            .ok_or_else(|| ReadError::outside(at, wanted))?;
        into.copy_from_slice(found);
        Ok(())
    }
}

impl Source for Vec<u8> {
    fn len(&self) -> u64 {
        Source::len(self.as_slice())
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> Result<(), ReadError> {
        self.as_slice().read_at(at, into)
    }
}

impl<S: Source + ?Sized> Source for &S {
    fn len(&self) -> u64 {
        (**self).len()
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> Result<(), ReadError> {
        (**self).read_at(at, into)
    }
}
