//! One file a command: what can be typed, and the call.

pub(crate) mod advance;
pub(crate) mod apikey;
pub(crate) mod app;
pub(crate) mod board;
pub(crate) mod cabinet;
pub(crate) mod check;
pub(crate) mod compare;
pub(crate) mod completions;
pub(crate) mod date;
pub(crate) mod deliveries;
pub(crate) mod demo;
pub(crate) mod device;
pub(crate) mod explain;
pub(crate) mod give;
pub(crate) mod given;
pub(crate) mod hand_on;
pub(crate) mod help;
pub(crate) mod identity;
pub(crate) mod init;
pub(crate) mod inspect;
pub(crate) mod inventory;
pub(crate) mod keystore;
pub(crate) mod lend;
pub(crate) mod manual;
pub(crate) mod portal;
pub(crate) mod prepare;
pub(crate) mod profile;
pub(crate) mod releases;
pub(crate) mod report;
pub(crate) mod rotate;
pub(crate) mod show;
pub(crate) mod sign;
pub(crate) mod stand_in;
pub(crate) mod sweep;
pub(crate) mod testers;
pub(crate) mod timeline;
pub(crate) mod upload;

use ninekeys_ops::Ctx;

use crate::arguments::{Command, Global};
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Runs a command; the board when none was typed.
pub(crate) fn run(
    command: Option<Command>,
    ctx: &Ctx<'_>,
    global: &Global,
    out: &mut Output,
) -> Result<Exit, Failure> {
    match command {
        None => board::run(&board::Args::default(), ctx, out),
        Some(Command::Init(args)) => init::run(args, ctx, out),
        Some(Command::Demo(args)) => demo::run(&args, ctx, global, out),
        Some(Command::Cabinet(command)) => cabinet::run(command, ctx, out),
        Some(Command::Keystore(command)) => keystore::run(command, ctx, out),
        Some(Command::Identity(command)) => identity::run(command, ctx, out),
        Some(Command::Profile(command)) => profile::run(command, ctx, out),
        Some(Command::Device(command)) => device::run(command, ctx, out),
        Some(Command::Apikey(command)) => apikey::run(command, ctx, out),
        Some(Command::App(command)) => app::run(command, ctx, out),
        Some(Command::Portal(command)) => portal::run(command, ctx, out),
        Some(Command::Prepare(args)) => prepare::run(args, ctx, out),
        Some(Command::Date(command)) => date::run(command, ctx, out),
        Some(Command::Rotate(command)) => rotate::run(command, ctx, out),
        Some(Command::StandIn(command)) => stand_in::run(command, ctx, global, out),
        Some(Command::Give(args)) => give::run(args, ctx, out),
        Some(Command::Given(args)) => given::run(&args, ctx, out),
        Some(Command::Board(args)) => board::run(&args, ctx, out),
        Some(Command::Inventory(args)) => inventory::run(&args, ctx, out),
        Some(Command::Sweep(args)) => sweep::run(args, ctx, out),
        Some(Command::Report(args)) => report::run(&args, ctx, out),
        Some(Command::Timeline(args)) => timeline::run(&args, ctx, out),
        Some(Command::Show(args)) => show::run(&args, ctx, out),
        Some(Command::Inspect(args)) => inspect::run(&args, ctx, out),
        Some(Command::Compare(args)) => compare::run(&args, ctx, out),
        Some(Command::Sign(args)) => sign::run(args, ctx, out),
        Some(Command::Check(args)) => check::run(args, ctx, out),
        Some(Command::Releases(args)) => releases::run(&args, ctx, out),
        Some(Command::HandOn(args)) => hand_on::run(args, ctx, out),
        Some(Command::Upload(args)) => upload::run(args, ctx, out),
        Some(Command::Deliveries(args)) => deliveries::run(&args, ctx, out),
        Some(Command::Advance(args)) => advance::run(args, ctx, out),
        Some(Command::Testers(command)) => testers::run(command, ctx, out),
        Some(Command::Lend(args)) => lend::run(args, ctx, global, out),
        Some(Command::Explain(args)) => explain::run(&args, out),
        Some(Command::Help(args)) => help::run(&args, out),
        Some(Command::Completions(args)) => completions::run(&args, out),
        Some(Command::Manual(args)) => manual::run(&args, ctx, out),
    }
}
