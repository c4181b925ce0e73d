//! One line for work that takes over half a second, on a terminal alone; and the wish to stop.

use std::io::{IsTerminal, Write};
use std::sync::atomic::AtomicBool;
use std::sync::{Arc, Mutex, OnceLock, PoisonError};
use std::time::{Duration, Instant};

use ninekeys_core::env::Progress;

use crate::output::words;

const PATIENCE: Duration = Duration::from_millis(500);
/// The shortest time between two drawn lines.
const BETWEEN: Duration = Duration::from_millis(100);
const BAR_CELLS: u64 = 24;
/// The width of a terminal that does not tell its own.
const USUAL_WIDTH: usize = 80;
/// Goes to the start of the line and erases it (ECMA-48, EL).
const ERASE: &str = "\r\x1b[2K";

/// Draws the bar.
pub(crate) struct Bar {
    shown: bool,
    stop: Arc<AtomicBool>,
    listening: OnceLock<()>,
    state: Mutex<State>,
}

/// The progress line that the terminal shows now.
struct Drawn {
    /// Time of the first line and bytes processed by then: the rate counts from here.
    since: (Instant, u64),
    last: Instant,
}

#[derive(Default)]
struct State {
    begun: Option<(Instant, &'static str)>,
    drawn: Option<Drawn>,
}

impl Bar {
    /// A bar that is not drawn yet; `stop` is set when the user interrupts long work.
    pub(crate) fn new(stop: Arc<AtomicBool>, quiet: bool) -> Self {
        let shown = !quiet && stderr_is_terminal();
        Bar { shown, stop, listening: OnceLock::new(), state: Mutex::default() }
    }

    /// Listens for interruption from the first step of long work on: before that there is nothing to clean
    /// up, and a prompt is ended by the system as usual. A second interruption ends the process at once.
    fn listen(&self) {
        #[cfg(unix)]
        let signals = {
            use signal_hook::consts::{SIGHUP, SIGINT, SIGQUIT, SIGTERM, SIGUSR1, SIGUSR2};
            [SIGINT, SIGTERM, SIGHUP, SIGQUIT, SIGUSR1, SIGUSR2]
        };
        #[cfg(not(unix))]
        let signals = [signal_hook::consts::SIGINT, signal_hook::consts::SIGTERM];
        for signal in signals {
            let at_once =
                signal_hook::flag::register_conditional_shutdown(signal, 130, Arc::clone(&self.stop));
            let politely = signal_hook::flag::register(signal, Arc::clone(&self.stop));
            // without a handler the system ends the process: the temporary file stays, nothing else changes
            let _ = (at_once, politely);
        }
    }
}

impl Progress for Bar {
    fn step(&self, what: &'static str, done: u64, total: u64) {
        self.listening.get_or_init(|| self.listen());
        if !self.shown {
            return;
        }
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        let now = Instant::now();
        match state.begun {
            Some((_, known)) if known == what => {}
            _ => state.begun = Some((now, what)),
        }
        let waited = state.begun.is_some_and(|(begun, _)| now.duration_since(begun) >= PATIENCE);
        if !waited || state.drawn.as_ref().is_some_and(|drawn| now.duration_since(drawn.last) < BETWEEN) {
            return;
        }
        let since = state.drawn.as_ref().map_or((now, done), |drawn| drawn.since);
        state.drawn = Some(Drawn { since, last: now });
        draw(&line(what, (done, total), done.saturating_sub(since.1), now.duration_since(since.0), width()));
    }

    fn over(&self) {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        state.begun = None;
        if state.drawn.take().is_some() {
            draw("");
        }
    }
}

/// Work that failed leaves no line behind: the error is printed after this.
impl Drop for Bar {
    fn drop(&mut self) {
        self.over();
    }
}

#[expect(clippy::disallowed_methods, reason = "asked for what it is, not printed to")]
fn stderr_is_terminal() -> bool {
    std::io::stderr().is_terminal()
}

fn width() -> usize {
    terminal_size::terminal_size().map_or(USUAL_WIDTH, |(width, _)| usize::from(width.0))
}

fn draw(line: &str) {
    let mut stderr = anstream::stderr().lock();
    // work continues if the progress line cannot be written
    let _ = write!(stderr, "{ERASE}{line}").and_then(|()| stderr.flush());
}

/// The progress line: `recently` bytes were processed in the time `took`. It is cut below `width`
/// columns, so that the terminal never wraps it.
fn line(what: &str, (done, total): (u64, u64), recently: u64, took: Duration, width: usize) -> String {
    let cells = done.min(total).saturating_mul(BAR_CELLS).checked_div(total).unwrap_or(BAR_CELLS);
    let part = |count: u64, cell: &str| cell.repeat(usize::try_from(count).unwrap_or_default());
    let bar = part(cells, "▇") + &part(BAR_CELLS - cells, "·");
    let mut line = format!("  {what}  {bar}  {} of {}", words::size(done), words::size(total));
    let per_second = u128::from(recently).saturating_mul(1_000).checked_div(took.as_millis()).unwrap_or(0);
    if let Some(left) = u128::from(total.saturating_sub(done)).checked_div(per_second) {
        let rate = words::size(u64::try_from(per_second).unwrap_or(u64::MAX));
        line.push_str(&format!("  {rate}/s  {} left", clock(left)));
    }
    line.replace(words::TIE, " ").chars().take(width.saturating_sub(1)).collect()
}

/// `7s`, `3m 7s` or `2h 3m`.
fn clock(seconds: u128) -> String {
    match (seconds / 3_600, seconds / 60 % 60, seconds % 60) {
        (0, 0, seconds) => format!("{seconds}s"),
        (0, minutes, seconds) => format!("{minutes}m {seconds}s"),
        (hours, minutes, _) => format!("{hours}h {minutes}m"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_tells_rate_and_rest_and_never_wraps() {
        const MIB: u64 = 1 << 20;
        let at = |done, recently, seconds, width| {
            line("signing", (done * MIB, 96 * MIB), recently * MIB, Duration::from_secs(seconds), width)
        };
        let half = "  signing  ▇▇▇▇▇▇▇▇▇▇▇▇············  48.0 MiB of 96.0 MiB";
        assert_eq!(at(48, 0, 0, 100), half);
        assert_eq!(at(48, 12, 2, 100), format!("{half}  6.0 MiB/s  8s left"));
        assert_eq!(at(48, 12, 2, 30).chars().count(), 29);
        assert!(at(200, 104, 1, 100).contains("0s left"), "more than was foreseen");
        assert!(line("x", (5, 0), 5, Duration::from_secs(1), 100).contains("▇▇"), "nothing was foreseen");
        assert_eq!((clock(59), clock(187), clock(7_380)), ("59s".into(), "3m 7s".into(), "2h 3m".into()));
    }
}
