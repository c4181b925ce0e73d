//! What can be typed: one definition for parsing, help, completions and manual pages.

use std::path::PathBuf;

use clap::builder::{PossibleValuesParser, TypedValueParser};
use clap::{Args, Parser, Subcommand, ValueEnum};
use jiff::Timestamp;

use crate::commands;

/// Creates, keeps, checks and rotates what mobile releases are signed with.
#[derive(Debug, Parser)]
#[command(
    name = "ninekeys",
    version,
    about,
    long_about = "Creates, keeps, checks and rotates what mobile releases are signed with.\n\n\
                  Holds all of it in one encrypted cabinet, knows what hangs on what and until when, signs by \
                  itself, and says what is wrong before a store does. With nothing behind it, it shows the board.",
    after_help = "Start:  ninekeys demo     a full example in a fresh folder\n        ninekeys init     a cabinet and a project file in this folder",
    disable_help_subcommand = true
)]
pub(crate) struct Cli {
    #[command(flatten)]
    pub(crate) global: Global,
    #[command(subcommand)]
    pub(crate) command: Option<Command>,
}

/// How an answer is printed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Format {
    /// For people
    Text,
    /// For programs
    Json,
    /// SARIF 2.1.0, for code review
    Sarif,
    /// JUnit XML, for test reports
    Junit,
}

/// What every command prints; the other formats are those of single commands.
fn everywhere() -> impl TypedValueParser<Value = Format> {
    let known = ["text", "json"];
    PossibleValuesParser::new(known).map(|word| if word == "json" { Format::Json } else { Format::Text })
}

/// Understood by every command.
#[derive(Debug, Clone, Args)]
#[command(next_help_heading = "Everywhere")]
pub(crate) struct Global {
    /// How the answer is printed
    #[arg(long, global = true, value_parser = everywhere(), default_value = "text")]
    pub(crate) format: Format,
    /// Say nothing when all is well
    #[arg(short, long, global = true)]
    pub(crate) quiet: bool,
    /// The cabinet, instead of the one that the project file names
    #[arg(long, global = true, value_name = "FILE", env = "NINEKEYS_CABINET")]
    pub(crate) cabinet: Option<PathBuf>,
    /// The project file or its folder, instead of the nearest one
    #[arg(long, global = true, value_name = "FILE", env = "NINEKEYS_PROJECT")]
    pub(crate) project: Option<PathBuf>,
    /// An unlock file, instead of a passphrase
    #[arg(long, global = true, value_name = "FILE", env = "NINEKEYS_UNLOCK_FILE")]
    pub(crate) unlock_file: Option<PathBuf>,
    /// Read the passphrase from a file
    #[arg(long, global = true, value_name = "FILE", conflicts_with = "passphrase_fd")]
    pub(crate) passphrase_file: Option<PathBuf>,
    /// Read the passphrase from an open file descriptor
    #[arg(long, global = true, value_name = "NUMBER")]
    pub(crate) passphrase_fd: Option<u32>,
    /// Take this for the time: 2031-05-19T12:00:00Z
    #[arg(long, global = true, value_name = "TIME", env = "NINEKEYS_NOW", value_parser = crate::clock::parse)]
    pub(crate) at: Option<Timestamp>,
}

/// The commands, in the order of the work.
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Make a cabinet and a project file in this folder
    Init(commands::init::Args),
    /// Run a full example in a fresh folder
    Demo(commands::demo::Args),
    /// The cabinet itself: status, passphrase, backups
    #[command(subcommand)]
    Cabinet(CabinetCommand),
    /// Keystores with signing and upload keys
    #[command(subcommand)]
    Keystore(KeystoreCommand),
    /// What the material is for
    #[command(subcommand)]
    App(AppCommand),
    /// Show the state of everything: nine keys, every app
    Board(commands::board::Args),
    /// List everything in the cabinet
    Inventory(commands::inventory::Args),
    /// Show one item with all that hangs on it
    Show(commands::show::Args),
    /// Tell what is in a build, a certificate or an item
    Inspect(commands::inspect::Args),
    /// Tell whether two things carry the same key
    Compare(commands::compare::Args),
    /// Sign a build for its destination
    Sign(commands::sign::Args),
    /// Say everything that is wrong with a build, before the store does
    Check(commands::check::Args),
    /// Show what was signed with what
    Releases(commands::releases::Args),
    /// Run a build command with a key on loan, gone afterwards
    Lend(commands::lend::Args),
    /// Explain a rule of `check`
    Explain(commands::explain::Args),
    /// Print the completions for a shell
    Completions(commands::completions::Args),
    /// Write the manual pages into a folder
    Manual(commands::manual::Args),
}

/// `ninekeys cabinet …`
#[derive(Debug, Subcommand)]
pub(crate) enum CabinetCommand {
    /// Say who can unlock it, how it is kept, and when it was last copied
    Status(commands::cabinet_status::Args),
    /// Change the passphrase
    Passphrase(commands::cabinet_passphrase::Args),
    /// Copy it into folders; a copy counts when it was read back and opened
    Backup(commands::cabinet_backup::Args),
    /// Bring back a cabinet from one of its copies
    Restore(commands::cabinet_restore::Args),
    /// Show what was done with it, and by whom
    History(commands::cabinet_history::Args),
    /// Take in what another copy of it has, after both were changed
    Adopt(commands::cabinet_adopt::Args),
    /// Say which cabinet it is, and that it is the one that is meant
    Pin(commands::cabinet_pin::Args),
}

/// `ninekeys keystore …`
#[derive(Debug, Subcommand)]
pub(crate) enum KeystoreCommand {
    /// Make a keystore with its first key
    Create(commands::keystore_create::Args),
    /// Make another key in a keystore
    AddKey(commands::keystore_add_key::Args),
    /// Change names, aliases, apps or the password; the keys stay the same
    Change(commands::keystore_change::Args),
    /// Take the keys out of a PKCS#12 or JKS file
    Import(commands::keystore_import::Args),
    /// Write a PKCS#12 file, or a certificate alone
    Export(commands::keystore_export::Args),
    /// Encrypt a private key to a store's public key
    HandOver(commands::keystore_hand_over::Args),
}

/// `ninekeys app …`
#[derive(Debug, Subcommand)]
pub(crate) enum AppCommand {
    /// Write an app into the project file
    Add(commands::app_add::Args),
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    use super::*;

    #[test]
    fn the_definition_holds_together_and_every_word_is_explained() {
        let command = Cli::command();
        command.clone().debug_assert();
        let mut all = vec![command];
        while let Some(command) = all.pop() {
            for argument in command.get_arguments().filter(|a| !a.is_hide_set()) {
                let place = format!("{} {}", command.get_name(), argument.get_id());
                assert!(argument.get_help().is_some(), "{place} has no help");
            }
            assert!(command.get_about().is_some(), "{} has no help", command.get_name());
            all.extend(command.get_subcommands().cloned());
        }
    }

    #[test]
    fn no_secret_can_be_an_argument() {
        let mut all = vec![Cli::command()];
        while let Some(command) = all.pop() {
            for argument in command.get_arguments() {
                let id = argument.get_id().as_str();
                let secret = id.contains("password") || id.contains("passphrase");
                // where a secret goes is no secret
                let secret = secret && id != "note_password";
                let indirect =
                    ["_file", "_fd", "_env"].iter().any(|end| id.ends_with(end)) || id.starts_with("ask_");
                assert!(!secret || indirect, "{} takes {id} from the command line", command.get_name());
            }
            all.extend(command.get_subcommands().cloned());
        }
    }
}
