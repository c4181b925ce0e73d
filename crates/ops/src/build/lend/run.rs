//! The command that a loan is for: waited for, its signals passed on, what it says shown without the secrets in it.

use std::io::{Read, Write};
use std::process::{Child, ExitStatus};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, mpsc};
use std::thread;
use std::time::Duration;

use ninekeys_core::lending::Mask;
use ninekeys_formats::secret::SecretText;

use super::Request;

/// How long a command that is over may take to have its last words read.
const LAST_WORDS: Duration = Duration::from_millis(200);
/// How often a running command and pending signals are looked at.
const PATIENCE: Duration = Duration::from_millis(15);

/// Shows bytes that a command said; tells whether anybody reads them.
pub(crate) type Shown<'a> = &'a (dyn Fn(&[u8]) -> bool + Sync);

/// A child that does not outlive us.
pub(super) struct Guard(pub(super) Child);

impl Drop for Guard {
    fn drop(&mut self) {
        // already over in the usual case, and then this does nothing
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// Waits for the command; signals go on to it. A terminal's interrupt reaches it by itself as well, which does no
/// harm.
pub(super) fn wait(child: &mut Guard, request: &Request<'_>) -> std::io::Result<ExitStatus> {
    loop {
        if let Some(status) = child.0.try_wait()? {
            return Ok(status);
        }
        if let Some(signal) = (request.signal)() {
            pass_on(&mut child.0, signal);
        }
        thread::sleep(PATIENCE);
    }
}

#[cfg(unix)]
fn pass_on(child: &mut Child, signal: i32) {
    use rustix::process::{Pid, Signal, kill_process};
    if let (Some(pid), Some(signal)) =
        (Pid::from_raw(child.id().cast_signed()), Signal::from_named_raw(signal))
    {
        let _ = kill_process(pid, signal);
    }
}

#[cfg(not(unix))]
fn pass_on(child: &mut Child, _signal: i32) {
    let _ = child.kill();
}

/// What a stream of the command said, or that it ended.
type Piece = (usize, Option<Vec<u8>>);

/// Waits, and shows what the command says without the secrets in it. When the command is over, what it said before is
/// shown to its end; a program that it left behind may hold the streams open, and is not waited for.
pub(super) fn masked(
    child: &mut Guard,
    request: &Request<'_>,
    password: &SecretText,
) -> std::io::Result<ExitStatus> {
    let (to, from) = mpsc::channel();
    let closed = [Arc::new(AtomicBool::new(false)), Arc::new(AtomicBool::new(false))];
    let [stdout, stderr] = &closed;
    if let Some(stream) = child.0.stdout.take() {
        read_pieces(0, stream, to.clone(), Arc::clone(stdout));
    }
    if let Some(stream) = child.0.stderr.take() {
        read_pieces(1, stream, to.clone(), Arc::clone(stderr));
    }
    drop(to);
    let mut masks = [Mask::new([password]), Mask::new([password])];
    let mut show = |(which, piece): Piece| {
        let (Some(mask), Some(closed)) = (masks.get_mut(which), closed.get(which)) else { return };
        let shown = match piece {
            Some(bytes) => mask.feed(&bytes),
            None => mask.finish(),
        };
        let (to_stdout, to_stderr) = request.outputs;
        let put = if which == 0 { to_stdout } else { to_stderr };
        // nobody reads any more: the command hears of it as it would without us
        if !put(&shown) {
            closed.store(true, Ordering::Relaxed);
        }
    };
    let status = loop {
        match from.recv_timeout(PATIENCE) {
            Ok(piece) => show(piece),
            Err(mpsc::RecvTimeoutError::Disconnected) => break wait(child, request)?,
            Err(mpsc::RecvTimeoutError::Timeout) => {}
        }
        if let Some(status) = child.0.try_wait()? {
            break status;
        }
        if let Some(signal) = (request.signal)() {
            pass_on(&mut child.0, signal);
        }
    };
    while let Ok(piece) = from.recv_timeout(LAST_WORDS) {
        show(piece);
    }
    Ok(status)
}

/// Reads a stream until it ends or nobody wants it, in a thread of its own that is not waited for.
fn read_pieces(
    which: usize,
    mut from: impl Read + Send + 'static,
    to: mpsc::Sender<Piece>,
    closed: Arc<AtomicBool>,
) {
    thread::spawn(move || {
        let mut buffer = [0; 8192];
        while let Ok(length @ 1..) = from.read(&mut buffer) {
            let bytes = buffer.get(..length).unwrap_or_default().to_vec();
            if to.send((which, Some(bytes))).is_err() || closed.load(Ordering::Relaxed) {
                return;
            }
        }
        let _ = to.send((which, None));
    });
}

pub(super) fn code(status: ExitStatus) -> u8 {
    #[cfg(unix)]
    {
        use std::os::unix::process::ExitStatusExt;
        if let Some(signal) = status.signal() {
            return u8::try_from(128 + signal).unwrap_or(u8::MAX);
        }
    }
    status.code().and_then(|code| u8::try_from(code).ok()).unwrap_or(1)
}
/// Writes to a stream that may go away; tells whether it is still there.
pub fn put_through(mut to: impl Write, bytes: &[u8]) -> bool {
    to.write_all(bytes).and_then(|()| to.flush()).is_ok()
}
