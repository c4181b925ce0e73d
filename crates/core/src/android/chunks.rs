//! The chunked content digest of APK signature schemes v2 and later, on all cores.

use std::ops::Range;
use std::sync::atomic::{AtomicU64, Ordering};

use aws_lc_rs::digest::{Context, SHA256, SHA512};
use ninekeys_formats::source::Source;
use rayon::prelude::*;

use crate::env::Env;
use crate::stream::{CHUNK, DigestError, Sink};

/// The hash of a content digest.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Hash {
    /// SHA-256
    Sha256,
    /// SHA-512
    Sha512,
}

impl Hash {
    fn context(self) -> Context {
        Context::new(match self {
            Hash::Sha256 => &SHA256,
            Hash::Sha512 => &SHA512,
        })
    }
}

/// Part of a package that is digested by itself.
pub struct Section<'a> {
    /// Where its bytes come from.
    pub source: &'a dyn Source,
    /// Which of them.
    pub range: Range<u64>,
    /// Where they are copied to, at the same positions.
    pub copy_to: Option<&'a dyn Sink>,
}

/// The chunked content digest (APK Signature Scheme v2), one value for each of `hashes`: every section is cut
/// into chunks of 1 MiB, each chunk hashed behind the byte 0xa5 and its length, and the chunk digests hashed
/// behind 0x5a and their number. Chunks are read, hashed and copied in parallel; memory stays at one chunk a
/// thread.
///
/// # Errors
/// [`DigestError`] when reading or writing fails, or the user wants to stop.
pub fn chunked(
    what: &'static str,
    hashes: &[Hash],
    sections: &[Section<'_>],
    env: &Env<'_>,
) -> Result<Vec<Vec<u8>>, DigestError> {
    // a thread that waits for its turn to write leaves a core idle: one more thread than cores takes it
    let writes = usize::from(sections.iter().any(|section| section.copy_to.is_some()));
    let pool = rayon::ThreadPoolBuilder::new().num_threads(rayon::current_num_threads() + writes).build();
    let digests = match pool {
        Ok(pool) if writes > 0 => pool.install(|| chunked_here(what, hashes, sections, env)),
        _ => chunked_here(what, hashes, sections, env),
    };
    env.progress.over();
    digests
}

fn chunked_here(
    what: &'static str,
    hashes: &[Hash],
    sections: &[Section<'_>],
    env: &Env<'_>,
) -> Result<Vec<Vec<u8>>, DigestError> {
    let total: u64 = sections.iter().map(|section| section.range.end - section.range.start).sum();
    let done = AtomicU64::new(0);
    let mut outer: Vec<Context> = hashes.iter().map(|hash| hash.context()).collect();
    let chunks: u64 = sections.iter().map(|s| (s.range.end - s.range.start).div_ceil(CHUNK)).sum();
    let count = u32::try_from(chunks).map_err(|_| DigestError::TooLarge)?;
    for context in &mut outer {
        context.update(&[0x5a]);
        context.update(&count.to_le_bytes());
    }
    for section in sections {
        let length = section.range.end - section.range.start;
        let digests: Result<Vec<Vec<Vec<u8>>>, DigestError> = (0..length.div_ceil(CHUNK))
            .into_par_iter()
            .map_init(Vec::new, |buffer, index| {
                if env.stopped() {
                    return Err(DigestError::Stopped);
                }
                let start = section.range.start + index * CHUNK;
                let end = (start + CHUNK).min(section.range.end);
                buffer.resize(usize::try_from(end - start).unwrap_or(0), 0);
                section.source.read_at(start, buffer)?;
                let digests = hashes.iter().map(|hash| chunk(*hash, buffer)).collect();
                if let Some(sink) = section.copy_to {
                    sink.write_at(start, buffer).map_err(DigestError::Write)?;
                }
                let so_far = done.fetch_add(end - start, Ordering::Relaxed) + (end - start);
                env.progress.step(what, so_far, total);
                Ok(digests)
            })
            .collect();
        for one in digests? {
            outer.iter_mut().zip(&one).for_each(|(context, digest)| context.update(digest));
        }
    }
    Ok(outer.into_iter().map(|context| context.finish().as_ref().to_vec()).collect())
}

fn chunk(hash: Hash, bytes: &[u8]) -> Vec<u8> {
    let mut context = hash.context();
    context.update(&[0xa5]);
    context.update(&(bytes.len() as u32).to_le_bytes());
    context.update(bytes);
    context.finish().as_ref().to_vec()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::digest::sha256;
    use crate::env::Silent;
    use crate::keys::SystemKeys;
    use std::sync::Mutex;
    use std::sync::atomic::AtomicBool;

    struct Written(Mutex<Vec<u8>>);

    impl Sink for Written {
        fn write_at(&self, at: u64, bytes: &[u8]) -> std::io::Result<()> {
            self.0.lock().unwrap()[at as usize..at as usize + bytes.len()].copy_from_slice(bytes);
            Ok(())
        }
    }

    fn with_env<R>(stop: bool, run: impl FnOnce(&Env<'_>) -> R) -> R {
        let stop = AtomicBool::new(stop);
        run(&Env {
            now: jiff::Timestamp::UNIX_EPOCH,
            keys: &SystemKeys,
            progress: &Silent,
            scratch: &crate::stream::InMemory,
            stop: &stop,
        })
    }

    #[test]
    fn the_digest_is_that_of_the_description_and_the_copy_is_whole() {
        let bytes: Vec<u8> = (0..CHUNK * 2 + 77).map(|at| (at % 251) as u8).collect();
        let mut all = vec![0x5a];
        all.extend_from_slice(&4u32.to_le_bytes());
        for part in [&bytes[..1 << 20], &bytes[1 << 20..2 << 20], &bytes[2 << 20..], b"end"] {
            let head = [&[0xa5], part.len().to_le_bytes()[..4].as_ref(), part].concat();
            all.extend_from_slice(&sha256(&head));
        }
        let copy = Written(Mutex::new(vec![0; bytes.len()]));
        let end = b"end".to_vec();
        let empty = Vec::new();
        let sections = [
            Section { source: &bytes, range: 0..bytes.len() as u64, copy_to: Some(&copy) },
            Section { source: &empty, range: 0..0, copy_to: None },
            Section { source: &end, range: 0..3, copy_to: None },
        ];
        let found = with_env(false, |env| chunked("digest", &[Hash::Sha256], &sections, env)).unwrap();
        assert_eq!(found, [sha256(&all).to_vec()]);
        assert_eq!(*copy.0.lock().unwrap(), bytes);
    }

    #[test]
    fn a_wish_to_stop_is_heard() {
        let bytes = vec![0u8; 100];
        let sections = [Section { source: &bytes, range: 0..100, copy_to: None }];
        let found = with_env(true, |env| chunked("digest", &[Hash::Sha256], &sections, env));
        assert!(matches!(found, Err(DigestError::Stopped)));
    }
}
