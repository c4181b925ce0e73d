//! Files of the stand-in's: read by position, and written by several threads in turn.

use std::fs::File;
use std::io::{self, Seek, SeekFrom, Write};
use std::path::Path;
use std::sync::{Mutex, PoisonError};

use ninekeys_core::stream::Sink;
use ninekeys_formats::source::{ReadError, Source};

/// A file by position.
pub(super) struct OnDisk {
    file: File,
    length: u64,
}

impl OnDisk {
    pub(super) fn open(path: &Path) -> io::Result<Self> {
        let file = File::open(path)?;
        let length = file.metadata()?.len();
        Ok(OnDisk { file, length })
    }
}

impl Source for OnDisk {
    fn len(&self) -> u64 {
        self.length
    }

    #[cfg(unix)]
    fn read_at(&self, at: u64, into: &mut [u8]) -> Result<(), ReadError> {
        use std::os::unix::fs::FileExt;
        let wanted = into.len() as u64;
        self.file.read_exact_at(into, at).map_err(|cause| ReadError { at, wanted, cause })
    }

    #[cfg(windows)]
    fn read_at(&self, at: u64, into: &mut [u8]) -> Result<(), ReadError> {
        use std::os::windows::fs::FileExt;
        let wanted = into.len() as u64;
        let mut done = 0;
        while let Some(rest) = into.get_mut(done..).filter(|rest| !rest.is_empty()) {
            match self.file.seek_read(rest, at + done as u64) {
                Ok(0) => return Err(ReadError::outside(at, wanted)),
                Ok(count) => done += count,
                Err(cause) => return Err(ReadError { at, wanted, cause }),
            }
        }
        Ok(())
    }
}

/// A file that is written.
pub(super) struct Written<'f>(pub(super) Mutex<&'f File>);

impl Sink for Written<'_> {
    fn write_at(&self, at: u64, bytes: &[u8]) -> io::Result<()> {
        let mut file = *self.0.lock().unwrap_or_else(PoisonError::into_inner);
        file.seek(SeekFrom::Start(at))?;
        file.write_all(bytes)
    }
}
