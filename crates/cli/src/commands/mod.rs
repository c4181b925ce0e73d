//! One file a command: what can be typed, and the call.

pub(crate) mod app_add;
pub(crate) mod board;
pub(crate) mod cabinet_adopt;
pub(crate) mod cabinet_backup;
pub(crate) mod cabinet_history;
pub(crate) mod cabinet_passphrase;
pub(crate) mod cabinet_pin;
pub(crate) mod cabinet_restore;
pub(crate) mod cabinet_status;
pub(crate) mod check;
pub(crate) mod compare;
pub(crate) mod completions;
pub(crate) mod demo;
pub(crate) mod explain;
pub(crate) mod init;
pub(crate) mod inspect;
pub(crate) mod inventory;
pub(crate) mod key_args;
pub(crate) mod keystore_add_key;
pub(crate) mod keystore_change;
pub(crate) mod keystore_create;
pub(crate) mod keystore_export;
pub(crate) mod keystore_hand_over;
pub(crate) mod keystore_import;
pub(crate) mod lend;
pub(crate) mod manual;
pub(crate) mod releases;
pub(crate) mod show;
pub(crate) mod sign;

use ninekeys_ops::Ctx;

use crate::arguments::{AppCommand, CabinetCommand, Command, Global, KeystoreCommand};
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
        None => board::run(&board::Args {}, ctx, out),
        Some(Command::Init(args)) => init::run(args, ctx, out),
        Some(Command::Demo(args)) => demo::run(&args, ctx, global, out),
        Some(Command::Cabinet(CabinetCommand::Status(args))) => cabinet_status::run(&args, ctx, out),
        Some(Command::Cabinet(CabinetCommand::Passphrase(args))) => cabinet_passphrase::run(&args, ctx, out),
        Some(Command::Cabinet(CabinetCommand::Backup(args))) => cabinet_backup::run(&args, ctx, out),
        Some(Command::Cabinet(CabinetCommand::Restore(args))) => cabinet_restore::run(&args, ctx, out),
        Some(Command::Cabinet(CabinetCommand::History(args))) => cabinet_history::run(&args, ctx, out),
        Some(Command::Cabinet(CabinetCommand::Adopt(args))) => cabinet_adopt::run(&args, ctx, out),
        Some(Command::Cabinet(CabinetCommand::Pin(args))) => cabinet_pin::run(&args, ctx, out),
        Some(Command::Keystore(command)) => run_keystore(command, ctx, out),
        Some(Command::App(AppCommand::Add(args))) => app_add::run(args, ctx, out),
        Some(Command::Board(args)) => board::run(&args, ctx, out),
        Some(Command::Inventory(args)) => inventory::run(&args, ctx, out),
        Some(Command::Show(args)) => show::run(&args, ctx, out),
        Some(Command::Inspect(args)) => inspect::run(&args, ctx, out),
        Some(Command::Compare(args)) => compare::run(&args, ctx, out),
        Some(Command::Sign(args)) => sign::run(args, ctx, out),
        Some(Command::Check(args)) => check::run(args, ctx, out),
        Some(Command::Releases(args)) => releases::run(&args, ctx, out),
        Some(Command::Lend(args)) => lend::run(args, ctx, global),
        Some(Command::Explain(args)) => explain::run(&args, out),
        Some(Command::Completions(args)) => completions::run(&args, out),
        Some(Command::Manual(args)) => manual::run(&args, ctx, out),
    }
}

fn run_keystore(command: KeystoreCommand, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    match command {
        KeystoreCommand::Create(args) => keystore_create::run(args, ctx, out),
        KeystoreCommand::AddKey(args) => keystore_add_key::run(args, ctx, out),
        KeystoreCommand::Change(args) => keystore_change::run(args, ctx, out),
        KeystoreCommand::Import(args) => keystore_import::run(args, ctx, out),
        KeystoreCommand::Export(args) => keystore_export::run(args, ctx, out),
        KeystoreCommand::HandOver(args) => keystore_hand_over::run(args, ctx, out),
    }
}
