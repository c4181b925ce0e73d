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
                  itself, and says what is wrong before a store does. On its own it shows the board.",
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
    /// Comma-separated values (RFC 4180), for spreadsheets
    Csv,
    /// iCalendar (RFC 5545), for calendars: every end with its alarms
    Ics,
    /// OpenMetrics, for monitoring
    Openmetrics,
    /// A picture
    Svg,
}

impl Format {
    /// Those that a command prints, by their words.
    pub(crate) fn among(words: &'static [&'static str]) -> impl TypedValueParser<Value = Format> {
        PossibleValuesParser::new(words).map(|word| Format::from_str(&word, false).unwrap_or(Format::Text))
    }
}

/// What every command prints; the other formats are those of single commands.
fn everywhere() -> impl TypedValueParser<Value = Format> {
    Format::among(&["text", "json"])
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
    #[arg(long, global = true, value_name = "FILE", env = "NINEKEYS_CABINET", hide_env_values = true)]
    pub(crate) cabinet: Option<PathBuf>,
    /// The project file or its folder, instead of the nearest one
    #[arg(long, global = true, value_name = "FILE", env = "NINEKEYS_PROJECT", hide_env_values = true)]
    pub(crate) project: Option<PathBuf>,
    /// An unlock file, instead of a passphrase
    #[arg(long, global = true, value_name = "FILE", env = "NINEKEYS_UNLOCK_FILE", hide_env_values = true)]
    pub(crate) unlock_file: Option<PathBuf>,
    /// Read the passphrase from a file
    #[arg(long, global = true, value_name = "FILE", conflicts_with = "passphrase_on")]
    pub(crate) passphrase_in: Option<PathBuf>,
    /// Read the passphrase from an open file descriptor
    #[arg(long, global = true, value_name = "NUMBER")]
    pub(crate) passphrase_on: Option<u32>,
    /// Use this time instead of the clock: 2031-05-19T12:00:00Z
    #[arg(long, global = true, value_name = "TIME", env = "NINEKEYS_NOW", hide_env_values = true, value_parser = crate::clock::parse)]
    pub(crate) at: Option<Timestamp>,
}

/// The commands, in the order of the work.
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    Init(commands::init::Args),
    Demo(commands::demo::Args),
    /// The cabinet itself: status, passphrase, backups
    #[command(subcommand)]
    Cabinet(commands::cabinet::Command),
    /// Keystores with signing and upload keys
    #[command(subcommand)]
    Keystore(commands::keystore::Command),
    /// Keys with the certificates that are issued over them: development, distribution, push
    #[command(subcommand)]
    Identity(commands::identity::Command),
    /// What ties app, certificates, devices and destination together
    #[command(subcommand)]
    Profile(commands::profile::Command),
    /// The devices that may run what is not from the store
    #[command(subcommand)]
    Device(commands::device::Command),
    /// Keys that make tokens for the portal and the stores
    #[command(subcommand)]
    Apikey(commands::apikey::Command),
    /// What the material is for
    #[command(subcommand)]
    App(commands::app::Command),
    /// What stands where certificates and profiles are issued
    #[command(subcommand)]
    Portal(commands::portal::Command),
    Prepare(commands::prepare::Args),
    /// Dates that belong to the job and to no key
    #[command(subcommand)]
    Date(commands::date::Command),
    /// Replace material by a draft that can be read first
    #[command(subcommand)]
    Rotate(commands::rotate::Command),
    Give(commands::give::Args),
    Given(commands::given::Args),
    Board(commands::board::Args),
    Inventory(commands::inventory::Args),
    Show(commands::show::Args),
    Timeline(commands::timeline::Args),
    Report(commands::report::Args),
    Sweep(commands::sweep::Args),
    Inspect(commands::inspect::Args),
    Compare(commands::compare::Args),
    Sign(commands::sign::Args),
    Check(commands::check::Args),
    HandOn(commands::hand_on::Args),
    Upload(commands::upload::Args),
    Deliveries(commands::deliveries::Args),
    Advance(commands::advance::Args),
    /// Who tries builds before everyone gets them
    #[command(subcommand)]
    Testers(commands::testers::Command),
    Releases(commands::releases::Args),
    Lend(commands::lend::Args),
    /// The simulated portal
    #[command(subcommand)]
    StandIn(commands::stand_in::Command),
    Explain(commands::explain::Args),
    Help(commands::help::Args),
    Completions(commands::completions::Args),
    Manual(commands::manual::Args),
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
                let secret = secret && !matches!(id, "note_password" | "random_password");
                let indirect =
                    ["_in", "_on", "_variable"].iter().any(|end| id.ends_with(end)) || id.starts_with("ask_");
                assert!(!secret || indirect, "{} takes {id} from the command line", command.get_name());
            }
            all.extend(command.get_subcommands().cloned());
        }
    }
}
