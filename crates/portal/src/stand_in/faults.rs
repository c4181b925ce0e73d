//! Faults on purpose: what a network and a busy portal do to a call, told by a seed, so that a run can be had again.

use std::fmt;
use std::str::FromStr;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use jiff::SignedDuration;
use ninekeys_core::digest::sha256;
use thiserror::Error;
use ureq::http::{StatusCode, header};

use super::Clock;
use super::http::{Response, Sent};
use super::routes::Refusal;

/// The shortest time by which a slow answer is late, and how much longer it may take.
const LATE: Duration = Duration::from_millis(200);
const LATER_MS: u64 = 400;
/// How many seconds a clock may be off: ten years.
const FURTHEST_OFF: u64 = 315_360_000;
/// No answer has a head that is shorter, in bytes.
const SHORTEST_HEAD: usize = 60;

/// What goes wrong with a call.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Fault {
    /// The answer comes late.
    Slow,
    /// 429: nothing is done, and the caller is to come again later.
    Busy,
    /// 503: before the work or after it, which the caller cannot know.
    Failed,
    /// The connection is closed without an answer, before the work or after it.
    Dropped,
    /// The work is done, and the answer ends in the middle.
    Cut,
    /// 401: the token counts as one that has ended, and nothing is done.
    Stale,
}

/// The one that `all` does not stand for: it speaks of tokens, and not every call has one.
const STALE: &str = "stale";

const ALL: [(&str, Fault); 6] = [
    ("slow", Fault::Slow),
    ("busy", Fault::Busy),
    ("failed", Fault::Failed),
    ("dropped", Fault::Dropped),
    ("cut", Fault::Cut),
    (STALE, Fault::Stale),
];

/// Which faults there are, each with its share of the calls in percent: `slow=5,busy=5,failed=10,dropped=10,cut=10,seed=7`;
/// `all=8` stands for each of these five. `stale=10` takes tokens for ended ones, `clock=-90` is a clock that is so many seconds off.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Faults {
    shares: [u8; ALL.len()],
    seed: u64,
    /// How many seconds the clock is off.
    clock: i64,
}

/// Why a list of faults cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum FaultsError {
    /// A part that says nothing.
    #[error(
        "`{0}` is no fault: slow, busy, failed, dropped, cut, stale or all, each with a percentage, seed=NUMBER, and clock=SECONDS"
    )]
    Part(String),
    /// More than every call.
    #[error("these are {0} of 100 calls")]
    TooMany(u32),
}

impl FromStr for Faults {
    type Err = FaultsError;

    fn from_str(text: &str) -> Result<Self, FaultsError> {
        let mut faults = Faults { shares: [0; ALL.len()], seed: 0, clock: 0 };
        for part in text.split(',').map(str::trim) {
            let wrong = || FaultsError::Part(part.chars().take(40).collect());
            let (word, value) = part.split_once('=').ok_or_else(wrong)?;
            if word == "seed" {
                faults.seed = value.parse().map_err(|_| wrong())?;
                continue;
            }
            if word == "clock" {
                let off = value.parse().ok().filter(|off: &i64| off.unsigned_abs() <= FURTHEST_OFF);
                faults.clock = off.ok_or_else(wrong)?;
                continue;
            }
            let share: u8 = value.parse().map_err(|_| wrong())?;
            let mut known = false;
            for ((name, _), own) in ALL.iter().zip(&mut faults.shares) {
                if word == *name || (word == "all" && *name != STALE) {
                    (*own, known) = (share, true);
                }
            }
            if !known {
                return Err(wrong());
            }
        }
        match faults.shares.iter().map(|share| u32::from(*share)).sum() {
            0..=100 => Ok(faults),
            sum => Err(FaultsError::TooMany(sum)),
        }
    }
}

impl fmt::Display for Faults {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for ((name, _), share) in ALL.iter().zip(self.shares).filter(|(_, share)| *share > 0) {
            write!(f, "{name}={share},")?;
        }
        if self.clock != 0 {
            write!(f, "clock={},", self.clock)?;
        }
        write!(f, "seed={}", self.seed)
    }
}

impl Faults {
    /// A clock that is as far off as these say.
    pub(super) fn off(&self, clock: Clock) -> Clock {
        match self.clock {
            0 => clock,
            seconds => Arc::new(move || {
                let now = clock();
                now.checked_add(SignedDuration::from_secs(seconds)).unwrap_or(now)
            }),
        }
    }

    /// What happens to a call by its number, with some chance for the rest.
    fn of_call(&self, number: u64) -> (Option<Fault>, u64) {
        let bytes = sha256(&[self.seed.to_be_bytes(), number.to_be_bytes()].concat());
        let (first, rest) = bytes.split_at(8);
        let number = |bytes: &[u8]| bytes.iter().take(8).fold(0, |sum, byte| sum << 8 | u64::from(*byte));
        let mut rolled = number(first) % 100;
        for ((_, fault), share) in ALL.iter().zip(self.shares) {
            match rolled.checked_sub(share.into()) {
                Some(left) => rolled = left,
                None => return (Some(*fault), number(rest)),
            }
        }
        (None, number(rest))
    }
}

/// The faults of one run.
pub(super) struct Run {
    faults: Faults,
    calls: AtomicU64,
}

impl Run {
    pub(super) fn new(faults: Faults) -> Self {
        Run { faults, calls: AtomicU64::default() }
    }
}

impl Run {
    /// Answers a call, or does to it what its number says.
    pub(super) fn disturb(&self, answer: impl FnOnce() -> Response) -> Sent {
        let (fault, chance) = self.faults.of_call(self.calls.fetch_add(1, Ordering::Relaxed));
        let is_before = chance % 2 == 0;
        let failed =
            |status, kind, text: &str| Response::from(Refusal::new(status, kind, "a fault on purpose", text));
        match fault {
            None => answer().into(),
            Some(Fault::Slow) => {
                std::thread::sleep(LATE + Duration::from_millis(chance % LATER_MS));
                answer().into()
            }
            Some(Fault::Busy) => {
                let refusal = failed(StatusCode::TOO_MANY_REQUESTS, "busy", "too many calls at once");
                refusal.field(header::RETRY_AFTER.as_str(), "1").into()
            }
            Some(Fault::Failed) => {
                if !is_before {
                    drop(answer());
                }
                failed(StatusCode::SERVICE_UNAVAILABLE, "failed", "the portal failed").into()
            }
            Some(Fault::Dropped) => {
                if !is_before {
                    drop(answer());
                }
                Sent { response: Response::new(StatusCode::NO_CONTENT), cut: Some(0) }
            }
            Some(Fault::Stale) => {
                failed(StatusCode::UNAUTHORIZED, "unauthorized", "the token has ended").into()
            }
            Some(Fault::Cut) => {
                let response = answer();
                let most = SHORTEST_HEAD + response.body.len();
                let cut = usize::try_from(chance).unwrap_or(usize::MAX) % most + 1;
                Sent { response, cut: Some(cut) }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn faults_are_read_and_what_says_nothing_is_refused() {
        let faults: Faults = "slow=5, cut=10,seed=7".parse().unwrap();
        assert_eq!(faults.to_string(), "slow=5,cut=10,seed=7");
        assert_eq!(
            "all=8,cut=1".parse::<Faults>().unwrap().to_string(),
            "slow=8,busy=8,failed=8,dropped=8,cut=1,seed=0"
        );
        for wrong in ["", "slow", "slow=x", "rain=3", "seed=-1", "slow=300"] {
            assert!(matches!(wrong.parse::<Faults>(), Err(FaultsError::Part(_))), "{wrong}");
        }
        let off: Faults = "stale=3,clock=-90".parse().unwrap();
        assert_eq!(off.to_string(), "stale=3,clock=-90,seed=0");
        assert!("clock=400000000".parse::<Faults>().is_err());
        assert_eq!("all=21".parse::<Faults>(), Err(FaultsError::TooMany(105)));
    }

    #[test]
    fn a_seed_tells_the_same_faults_again_in_about_the_shares_that_were_asked_for() {
        let faults: Faults = "slow=10,dropped=30,seed=7".parse().unwrap();
        let run = |faults: &Faults| (0..1000).map(|number| faults.of_call(number)).collect::<Vec<_>>();
        assert_eq!(run(&faults), run(&faults));
        assert_ne!(run(&faults), run(&"slow=10,dropped=30,seed=8".parse().unwrap()));
        let count = |fault| run(&faults).iter().filter(|(found, _)| *found == fault).count();
        assert!((70..130).contains(&count(Some(Fault::Slow))), "{}", count(Some(Fault::Slow)));
        assert!((250..350).contains(&count(Some(Fault::Dropped))));
        assert_eq!(count(Some(Fault::Busy)) + count(Some(Fault::Cut)), 0);
        let none: Faults = "seed=1".parse().unwrap();
        assert!(run(&none).iter().all(|(fault, _)| fault.is_none()));
    }
}
