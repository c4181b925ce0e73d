//! The one cursor that every format is read with: nothing indexes, nothing overruns.

use thiserror::Error;

/// What was wrong with the bytes, and where.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("{what} at byte {at}: {fault}")]
pub struct ParseError {
    /// The field that was being read.
    pub what: &'static str,
    /// Its offset, counted from the start of the file or structure that the cursor was made for.
    pub at: u64,
    /// What was wrong with it.
    pub fault: Fault,
}

/// Refuses what is larger than a limit, before it is looked at.
pub(crate) fn bounded(what: &'static str, bytes: &[u8], limit: u64) -> Result<(), ParseError> {
    let said = bytes.len() as u64;
    if said > limit { Err(ParseError { what, at: 0, fault: Fault::Limit { said, limit } }) } else { Ok(()) }
}

/// The kinds of fault a field can have.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum Fault {
    /// The structure ends before the field does.
    #[error("{need} bytes are needed and {left} are left")]
    Short {
        /// Bytes the field needs.
        need: u64,
        /// Bytes that are left.
        left: u64,
    },
    /// The structure goes on after its last field.
    #[error("{0} bytes too many")]
    Leftover(u64),
    /// A value that the format does not allow.
    #[error("the value {0:#x} is not allowed here")]
    Value(u64),
    /// A size, count or depth above the limit of [`crate::limits::Limits`].
    #[error("{said} is above the limit of {limit}")]
    Limit {
        /// What the file says.
        said: u64,
        /// The most that is read.
        limit: u64,
    },
    /// Text that is not valid in its encoding.
    #[error("not valid text")]
    Text,
    /// A structure that its own grammar refuses.
    #[error("not well formed")]
    Malformed,
}

/// A reading position in a slice. Offsets in errors count from where the outermost cursor began.
#[derive(Debug, Clone)]
pub struct Cursor<'a> {
    rest: &'a [u8],
    at: u64,
}

impl<'a> Cursor<'a> {
    /// A cursor over `bytes`, whose first byte stands at offset `at` of the file.
    pub fn new(bytes: &'a [u8], at: u64) -> Self {
        Cursor { rest: bytes, at }
    }

    /// The offset of the next byte.
    pub fn at(&self) -> u64 {
        self.at
    }

    /// Whether nothing is left.
    pub fn is_empty(&self) -> bool {
        self.rest.is_empty()
    }

    /// All that is left, without moving.
    pub fn rest(&self) -> &'a [u8] {
        self.rest
    }

    /// An error about the field `what`, at the current position.
    pub fn error(&self, what: &'static str, fault: Fault) -> ParseError {
        ParseError { what, at: self.at, fault }
    }

    /// The next `n` bytes.
    ///
    /// # Errors
    /// [`Fault::Short`] when fewer are left.
    pub fn take(&mut self, n: usize, what: &'static str) -> Result<&'a [u8], ParseError> {
        let Some((head, tail)) = self.rest.split_at_checked(n) else {
            return Err(self.error(what, Fault::Short { need: n as u64, left: self.rest.len() as u64 }));
        };
        self.rest = tail;
        self.at += n as u64;
        Ok(head)
    }

    /// The next `n` bytes as a cursor of their own, whose offsets go on counting from the file's start.
    ///
    /// # Errors
    /// [`Fault::Short`] when fewer are left.
    pub fn sub(&mut self, n: u64, what: &'static str) -> Result<Cursor<'a>, ParseError> {
        let at = self.at;
        let short = Fault::Short { need: n, left: self.rest.len() as u64 };
        let n = usize::try_from(n).map_err(|_| self.error(what, short))?;
        Ok(Cursor { rest: self.take(n, what)?, at })
    }

    fn array<const N: usize>(&mut self, what: &'static str) -> Result<[u8; N], ParseError> {
        let mut out = [0; N];
        out.copy_from_slice(self.take(N, what)?);
        Ok(out)
    }

    /// One byte.
    ///
    /// # Errors
    /// [`Fault::Short`] at the end.
    pub fn u8(&mut self, what: &'static str) -> Result<u8, ParseError> {
        self.array::<1>(what).map(|[byte]| byte)
    }

    /// A little-endian 16-bit number.
    ///
    /// # Errors
    /// [`Fault::Short`] when fewer than two bytes are left.
    pub fn u16(&mut self, what: &'static str) -> Result<u16, ParseError> {
        self.array(what).map(u16::from_le_bytes)
    }

    /// A little-endian 32-bit number.
    ///
    /// # Errors
    /// [`Fault::Short`] when fewer than four bytes are left.
    pub fn u32(&mut self, what: &'static str) -> Result<u32, ParseError> {
        self.array(what).map(u32::from_le_bytes)
    }

    /// A little-endian 64-bit number.
    ///
    /// # Errors
    /// [`Fault::Short`] when fewer than eight bytes are left.
    pub fn u64(&mut self, what: &'static str) -> Result<u64, ParseError> {
        self.array(what).map(u64::from_le_bytes)
    }

    /// A big-endian 16-bit number.
    ///
    /// # Errors
    /// [`Fault::Short`] when fewer than two bytes are left.
    pub(crate) fn u16_be(&mut self, what: &'static str) -> Result<u16, ParseError> {
        self.array(what).map(u16::from_be_bytes)
    }

    /// A big-endian 32-bit number.
    ///
    /// # Errors
    /// [`Fault::Short`] when fewer than four bytes are left.
    pub(crate) fn u32_be(&mut self, what: &'static str) -> Result<u32, ParseError> {
        self.array(what).map(u32::from_be_bytes)
    }

    /// A big-endian 64-bit number.
    ///
    /// # Errors
    /// [`Fault::Short`] when fewer than eight bytes are left.
    pub(crate) fn u64_be(&mut self, what: &'static str) -> Result<u64, ParseError> {
        self.array(what).map(u64::from_be_bytes)
    }

    /// A structure behind a little-endian 32-bit length: `lp(x)` in the signing block's grammar.
    ///
    /// # Errors
    /// [`Fault::Short`] when the length runs past the end.
    pub(crate) fn prefixed(&mut self, what: &'static str) -> Result<Cursor<'a>, ParseError> {
        let length = self.u32(what)?;
        self.sub(u64::from(length), what)
    }

    /// Refuses anything that is left.
    ///
    /// # Errors
    /// [`Fault::Leftover`] with the number of bytes.
    pub fn finish(self, what: &'static str) -> Result<(), ParseError> {
        if self.rest.is_empty() {
            Ok(())
        } else {
            Err(self.error(what, Fault::Leftover(self.rest.len() as u64)))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_field_that_runs_out_names_itself_and_its_byte() {
        let mut c = Cursor::new(&[1, 0, 2], 100);
        assert_eq!(c.u16("count"), Ok(1));
        let error = c.u32("offset").unwrap_err();
        assert_eq!(error, ParseError { what: "offset", at: 102, fault: Fault::Short { need: 4, left: 1 } });
        assert_eq!(error.to_string(), "offset at byte 102: 4 bytes are needed and 1 are left");
    }

    #[test]
    fn a_lying_length_is_refused_before_anything_is_read() {
        let bytes = [0xff, 0xff, 0xff, 0xff, 1, 2];
        let error = Cursor::new(&bytes, 0).prefixed("list").unwrap_err();
        assert_eq!(error.fault, Fault::Short { need: 0xffff_ffff, left: 2 });
    }

    #[test]
    fn a_child_counts_from_the_start_of_the_file_and_refuses_leftovers() {
        let mut c = Cursor::new(&[9, 9, 1, 2, 3], 0);
        c.take(2, "head").unwrap();
        let mut child = c.sub(3, "child").unwrap();
        child.u8("first").unwrap();
        assert_eq!(child.at(), 3);
        assert_eq!(child.finish("child").unwrap_err().fault, Fault::Leftover(2));
        assert!(c.finish("all").is_ok());
    }
}
