//! One line for work that takes over half a second, on a terminal alone; and the wish to stop.

use std::io::IsTerminal;
use std::sync::atomic::AtomicBool;
use std::sync::{Arc, Mutex, OnceLock, PoisonError};
use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use ninekeys_core::env::Progress;

const PATIENCE: Duration = Duration::from_millis(500);

/// Draws the bar.
pub(crate) struct Bar {
    shown: bool,
    stop: Arc<AtomicBool>,
    listening: OnceLock<()>,
    state: Mutex<State>,
}

#[derive(Default)]
struct State {
    begun: Option<(Instant, &'static str)>,
    bar: Option<ProgressBar>,
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
        if state.bar.is_none() && waited {
            let bar = draw(what, total);
            // the rate counts from here, not from what was done before the bar was drawn
            bar.set_position(done);
            bar.reset_eta();
            state.bar = Some(bar);
        }
        if let Some(bar) = &state.bar {
            bar.set_position(done);
        }
    }

    fn over(&self) {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        state.begun = None;
        if let Some(bar) = state.bar.take() {
            bar.finish_and_clear();
        }
    }
}

#[expect(clippy::disallowed_methods, reason = "asked for what it is, not printed to")]
fn stderr_is_terminal() -> bool {
    std::io::stderr().is_terminal()
}

fn draw(what: &'static str, total: u64) -> ProgressBar {
    let bar = ProgressBar::with_draw_target(Some(total), ProgressDrawTarget::stderr());
    let template =
        "  {msg}  {bar:24}  {binary_bytes} of {binary_total_bytes}  {binary_bytes_per_sec}  {eta} left";
    if let Ok(style) = ProgressStyle::with_template(template) {
        bar.set_style(style.progress_chars("▇▇·"));
    }
    bar.set_message(what);
    bar
}
