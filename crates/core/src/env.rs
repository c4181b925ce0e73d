//! What the computation needs from outside: the time, new keys, progress, and whether to stop.

use std::sync::atomic::{AtomicBool, Ordering};

use jiff::Timestamp;

use crate::keys::KeyMaker;
use crate::stream::Scratch;

/// Where long work reports to. Called from several threads.
pub trait Progress: Sync {
    /// `done` of `total` bytes of the work called `what` are done.
    fn step(&self, what: &'static str, done: u64, total: u64);

    /// That work is over, done or not: whatever was drawn goes.
    fn over(&self) {}
}

/// Reports to nobody.
pub struct Silent;

impl Progress for Silent {
    fn step(&self, _what: &'static str, _done: u64, _total: u64) {}
}

/// What the core is lent for one command.
#[derive(Clone, Copy)]
pub struct Env<'a> {
    /// The one time of this command.
    pub now: Timestamp,
    /// Makes keys and random bytes.
    pub keys: &'a dyn KeyMaker,
    /// Hears how far long work is.
    pub progress: &'a dyn Progress,
    /// Where bytes are put for a while.
    pub scratch: &'a dyn Scratch,
    /// Set when the user wants to stop; looked at every chunk.
    pub stop: &'a AtomicBool,
}

impl Env<'_> {
    /// Whether the user wants to stop.
    pub fn stopped(&self) -> bool {
        self.stop.load(Ordering::Relaxed)
    }
}
