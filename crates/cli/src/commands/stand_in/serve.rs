//! `ninekeys stand-in serve`

use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::Arc;

use jiff::SignedDuration;
use ninekeys_ops::Ctx;
use ninekeys_ops::stand_in::{Faults, Request, StandInServeError, stand_in};

use crate::arguments::Global;
use crate::clock;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Run a small server that stands in for the portal
///
/// Runs a small server on this machine that answers as a portal with an API would: it issues certificates and profiles,
/// registers app ids and devices, keeps to limits and roles, and refuses. For demos, tests and trying things out. Its state is
/// one file in its folder: it can be stopped at any time and started again.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The folder of its state; made where it is not there
    #[arg(long, default_value = "stand-in")]
    folder: PathBuf,
    /// Where it listens, on this machine alone; port 0 takes any that is free
    #[arg(long, value_name = "ADDRESS:PORT", default_value = "127.0.0.1:0")]
    listen: SocketAddr,
    /// Seal connections, with a certificate that it makes for itself: the project file pins it
    #[arg(long)]
    tls: bool,
    /// How long the store looks at a build before testers can have it, and again before everyone can, in seconds
    #[arg(long, value_name = "SECONDS", default_value_t = 2, value_parser = clap::value_parser!(i64).range(0..=86_400))]
    looks: i64,
    /// What goes wrong on purpose, in percent of the calls: slow, busy, failed, dropped, cut, all of
    /// these, or stale (tokens that count as ended); by a seed. clock=SECONDS is how far its clock is off
    #[arg(long, value_name = "FAULT=PERCENT,…,seed=N")]
    faults: Option<Faults>,
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, global: &Global, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("stand in for the portal at {}", args.listen);
    let fixed = global.at;
    let clock = Arc::new(move || fixed.unwrap_or_else(clock::now));
    let Args { folder, listen, tls, looks, faults } = args;
    let looks = SignedDuration::from_secs(looks);
    let request = Request { folder, listen, clock, tls, looks, faults };
    let (report, ready) = stand_in(ctx, request).map_err(|error| Failure::of(&attempt, &error))?;
    out.emit(&report);
    let served = ready.serve().map_err(StandInServeError::from);
    served.map_err(|error| Failure::of(&attempt, &error))?;
    Ok(Exit::Done)
}
