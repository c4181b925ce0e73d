//! Where bytes lie for a while: in memory as long as there is little of them, in files without a name beyond that.

use std::fs::File;
use std::io;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use ninekeys_core::stream::{InMemory, Scratch, Sink, Space};
use ninekeys_formats::source::{ReadError, Source};

use crate::files::{read_exact_at, write_all_at};

/// The most that lies in memory at any time, whatever is asked for.
const MOST_IN_MEMORY: u64 = 96 << 20;

/// Memory for the first few mebibytes, the system's folder for temporary files beyond.
#[derive(Default)]
pub struct TemporarySpace {
    in_memory: Arc<AtomicU64>,
}

impl Scratch for TemporarySpace {
    fn space(&self, size: u64) -> io::Result<Box<dyn Space>> {
        let taken = self.in_memory.fetch_update(Ordering::Relaxed, Ordering::Relaxed, |taken| {
            taken.checked_add(size).filter(|all| *all <= MOST_IN_MEMORY)
        });
        match taken {
            Ok(_) => {
                let of = Arc::clone(&self.in_memory);
                Ok(Box::new(Counted { space: InMemory.space(size)?, size, of }))
            }
            Err(_) => {
                let file = tempfile::tempfile()?;
                file.set_len(size)?;
                Ok(Box::new(Nameless { file, size, turn: Mutex::new(()) }))
            }
        }
    }
}

/// A piece of the memory that there is.
struct Counted {
    space: Box<dyn Space>,
    size: u64,
    of: Arc<AtomicU64>,
}

impl Drop for Counted {
    fn drop(&mut self) {
        self.of.fetch_sub(self.size, Ordering::Relaxed);
    }
}

impl Space for Counted {}

impl Source for Counted {
    fn len(&self) -> u64 {
        self.size
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> Result<(), ReadError> {
        self.space.read_at(at, into)
    }
}

impl Sink for Counted {
    fn write_at(&self, at: u64, bytes: &[u8]) -> io::Result<()> {
        self.space.write_at(at, bytes)
    }
}

/// A file that has no name, and is gone with the program.
struct Nameless {
    file: File,
    size: u64,
    turn: Mutex<()>,
}

impl Space for Nameless {}

impl Source for Nameless {
    fn len(&self) -> u64 {
        self.size
    }

    fn read_at(&self, at: u64, into: &mut [u8]) -> Result<(), ReadError> {
        let wanted = into.len() as u64;
        read_exact_at(&self.file, at, into).map_err(|cause| ReadError { at, wanted, cause })
    }
}

impl Sink for Nameless {
    fn write_at(&self, at: u64, bytes: &[u8]) -> io::Result<()> {
        let _turn = self.turn.lock().unwrap_or_else(PoisonError::into_inner);
        write_all_at(&self.file, at, bytes)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_does_not_fit_into_memory_goes_to_a_file_and_reads_the_same() {
        let scratch = TemporarySpace::default();
        let small = scratch.space(MOST_IN_MEMORY - 10).unwrap();
        let large = scratch.space(100).unwrap();
        for space in [&small, &large] {
            space.write_at(50, b"ferry").unwrap();
            assert_eq!(space.bytes(48..57, 9).unwrap(), b"\0\0ferry\0\0");
        }
        assert_eq!(scratch.in_memory.load(Ordering::Relaxed), MOST_IN_MEMORY - 10);
        drop(small);
        assert_eq!(scratch.in_memory.load(Ordering::Relaxed), 0);
    }
}
