//! `keygen COUNT`: the mean time of making that many RSA-2048 keys, as a ratio to `openssl genrsa` in the same run, in
//! turn with it.

#![allow(
    clippy::unwrap_used,
    clippy::print_stdout,
    clippy::disallowed_methods,
    reason = "a measurement: it prints, reads the clock and starts another program"
)]

use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use ninekeys_core::keys::{Algorithm, KeyMaker, SystemKeys};

fn main() {
    let count: u32 = std::env::args().nth(1).and_then(|text| text.parse().ok()).unwrap_or(100);
    let openssl = |words: &[&str]| {
        let begun = Instant::now();
        let done = Command::new("openssl").args(words).stdout(Stdio::null()).stderr(Stdio::null()).status();
        assert!(done.unwrap().success());
        begun.elapsed()
    };
    // what it costs to start the program is not a part of making a key
    let start = (0..20).map(|_| openssl(&["version"])).min().unwrap();
    let (mut ours, mut theirs) = (Duration::ZERO, Duration::ZERO);
    for _ in 0..count {
        let begun = Instant::now();
        SystemKeys.make(Algorithm::Rsa2048).unwrap();
        ours += begun.elapsed();
        theirs += openssl(&["genrsa", "2048"]).saturating_sub(start);
    }
    let (ours, theirs) = (ours / count, theirs / count);
    let ratio = ours.as_secs_f64() / theirs.as_secs_f64();
    println!(
        "RSA-2048, mean of {count}  {ours:.0?} beside {theirs:.0?}   {ratio:.2} x openssl genrsa (aim 1.10)"
    );
}
