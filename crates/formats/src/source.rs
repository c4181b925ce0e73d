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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ranges_outside_are_errors_before_memory_is_taken() {
        let bytes = vec![1u8, 2, 3, 4];
        assert_eq!(bytes.bytes(1..3, 10).unwrap(), [2, 3]);
        assert_eq!(bytes.bytes(4..4, 10).unwrap(), [] as [u8; 0]);
        for (start, end) in [(3, 5), (5, 6), (0, u64::MAX), (u64::MAX - 1, u64::MAX)] {
            let error = bytes.bytes(start..end, u64::MAX).unwrap_err();
            assert_eq!((error.at, error.cause.kind()), (start, io::ErrorKind::UnexpectedEof));
        }
        assert!(bytes.bytes(0..4, 3).is_err(), "the limit holds inside the source as well");
        let reversed = std::ops::Range { start: 3, end: 1 };
        assert!(bytes.bytes(reversed, 10).is_err());
        let mut into = [0; 2];
        assert!(bytes.read_at(u64::MAX, &mut into).is_err());
        assert!(bytes.read_at(2, &mut into).is_ok());
        assert_eq!(into, [3, 4]);
        assert!(!Source::is_empty(&bytes) && Source::is_empty(&Vec::new()));
    }
}
