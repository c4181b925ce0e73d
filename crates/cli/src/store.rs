//! Which of several stores is meant: `--store`, on the commands that ask one or make something for one, and in what they advise.

use std::sync::OnceLock;

use clap::{Arg, ArgMatches, CommandFactory};
use clap_complete::engine::ArgValueCandidates;

use crate::arguments::Cli;
use crate::complete;

/// What the option is called.
const OPTION: &str = "store";

/// The option. A command takes it by `#[command(arg(store::option()))]`; what was typed is in the context that it is run with.
pub(crate) fn option() -> Arg {
    Arg::new(OPTION)
        .long(OPTION)
        .value_name("NAME")
        .help("The store of that name in the project file, instead of the one that stands with the portal")
        .add(ArgValueCandidates::new(complete::stores))
}

/// What was typed for it.
pub(crate) fn typed(found: &ArgMatches) -> Option<String> {
    let own = found.try_get_one::<String>(OPTION).ok().flatten().cloned();
    own.or_else(|| found.subcommand().and_then(|(_, below)| typed(below)))
}

/// The same, for advice that goes on from it.
static TYPED: OnceLock<Option<String>> = OnceLock::new();

/// Keeps what was typed.
pub(crate) fn keep(store: Option<String>) {
    let _ = TYPED.set(store);
}

/// A command that is advised, for the store that was meant, where it is about one.
pub(crate) fn meant(words: Vec<String>) -> Vec<String> {
    match TYPED.get() {
        Some(Some(store)) => at(words, store),
        _ => words,
    }
}

/// What to do about the portal, and about one of several stores.
pub(crate) type Either = [&'static str; 2];

/// What to do about the portal, or about the store that was meant instead.
pub(crate) fn either([portal, store]: Either) -> &'static str {
    if matches!(TYPED.get(), Some(Some(_))) { store } else { portal }
}

fn at(mut words: Vec<String>, store: &str) -> Vec<String> {
    let is_said = words.iter().any(|word| word == "--store" || word.starts_with("--store="));
    if !is_said && takes_one(&words) {
        words.extend(["--store".to_owned(), store.to_owned()]);
    }
    words
}

/// Whether these words are a command that takes the option.
fn takes_one(words: &[String]) -> bool {
    let mut command = Cli::command();
    for word in words {
        match command.find_subcommand(word) {
            Some(below) => command = below.clone(),
            None => break,
        }
    }
    command.get_arguments().any(|one| one.get_id() == OPTION)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn advised(words: &str) -> String {
        at(words.split(' ').map(str::to_owned).collect(), "harbour").join(" ")
    }

    #[test]
    fn what_is_about_a_store_is_advised_for_the_one_that_was_meant() {
        assert_eq!(advised("upload b.aab --next"), "upload b.aab --next --store harbour");
        assert_eq!(advised("testers list"), "testers list --store harbour");
        assert_eq!(advised("keystore deposit --app a"), "keystore deposit --app a --store harbour");
        assert_eq!(advised("upload b.aab --store quay"), "upload b.aab --store quay");
        assert_eq!(advised("explain version-closed"), "explain version-closed");
        assert_eq!(advised("app list"), "app list");
    }

    #[test]
    fn every_command_that_is_about_a_store_takes_the_option() {
        let all = [
            "sign",
            "check",
            "upload",
            "deliveries",
            "advance",
            "lend",
            "app next",
            "app add",
            "app change",
            "keystore deposit",
            "keystore replace-upload",
            "apikey ask",
            "apikey create",
            "apikey import",
            "testers list",
            "testers group",
            "testers invite",
            "testers remove",
        ];
        let lacking: Vec<&str> = all
            .into_iter()
            .filter(|words| !takes_one(&words.split(' ').map(str::to_owned).collect::<Vec<_>>()))
            .collect();
        assert_eq!(lacking, Vec::<&str>::new());
    }
}
