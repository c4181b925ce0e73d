//! What was typed wrongly, said in our own form: what it was, what is wrong with it, what to type instead.

use clap::error::{ContextKind, ContextValue, ErrorKind};
use clap::{Command, CommandFactory};

use crate::arguments::Cli;
use crate::failure::{Exit, Failure};

/// The failure for words that could not be understood.
pub(crate) fn failure(error: &clap::Error, typed: &[String]) -> Failure {
    let command = words_of_command(typed);
    let attempt = match command.as_slice() {
        [] => "understand what was typed".to_owned(),
        words => format!("understand what was typed behind `{}`", words.join(" ")),
    };
    let failure = Failure::plain(Exit::Usage, &attempt, &because(error));
    match instead(error, typed) {
        Some(words) => failure.next(words),
        None => failure.next(std::iter::once("help".to_owned()).chain(command)),
    }
}

/// The words that name a command, out of all that were typed.
fn words_of_command(typed: &[String]) -> Vec<String> {
    let mut out = Vec::new();
    let root = Cli::command();
    let mut at: &Command = &root;
    for word in typed {
        match at.find_subcommand(word) {
            Some(below) => {
                out.push(word.clone());
                at = below;
            }
            None if word.starts_with('-') => {}
            None => break,
        }
    }
    out
}

/// Text that clap put beside an error: words, each alone.
fn context(error: &clap::Error, kind: ContextKind) -> Vec<String> {
    match error.get(kind) {
        Some(ContextValue::String(text)) => vec![text.clone()],
        Some(ContextValue::Strings(all)) => all.clone(),
        Some(ContextValue::StyledStr(text)) => vec![text.to_string()],
        _ => Vec::new(),
    }
}

fn first(error: &clap::Error, kind: ContextKind) -> String {
    context(error, kind).into_iter().next().unwrap_or_default()
}

/// What is wrong, in a sentence.
fn because(error: &clap::Error) -> String {
    let argument = context(error, ContextKind::InvalidArg).join(", ");
    let value = first(error, ContextKind::InvalidValue);
    match error.kind() {
        ErrorKind::UnknownArgument => format!("there is no option or word {argument} here"),
        ErrorKind::InvalidSubcommand => {
            format!("there is no command {}", first(error, ContextKind::InvalidSubcommand))
        }
        ErrorKind::MissingSubcommand | ErrorKind::DisplayHelpOnMissingArgumentOrSubcommand => {
            "it does not say which of its commands is meant".into()
        }
        ErrorKind::MissingRequiredArgument => format!("{argument} is missing"),
        ErrorKind::InvalidValue if value.is_empty() => format!("{argument} needs a value behind it"),
        ErrorKind::InvalidValue => {
            let known = context(error, ContextKind::ValidValue).join(", ");
            format!("`{value}` is no value for {argument}; there are {known}")
        }
        // the value's own reader has said what it lacks
        ErrorKind::ValueValidation => match std::error::Error::source(error) {
            Some(reason) => format!("{argument}: {reason}"),
            None => format!("`{value}` is no value for {argument}"),
        },
        ErrorKind::ArgumentConflict => {
            let other = context(error, ContextKind::PriorArg).join(", ");
            match other == argument || other.is_empty() {
                true => format!("{argument} stands there more than once"),
                false => format!("{argument} cannot be used with {other}"),
            }
        }
        ErrorKind::TooManyValues => format!("`{value}` is too much for {argument}"),
        ErrorKind::TooFewValues | ErrorKind::WrongNumberOfValues => {
            format!("{argument} needs another number of values")
        }
        ErrorKind::InvalidUtf8 => "a word in it is not text (UTF-8)".into(),
        _ => error.to_string().trim_start_matches("error: ").lines().next().unwrap_or_default().to_owned(),
    }
}

/// What was typed with the wrong word replaced by the one that was probably meant.
fn instead(error: &clap::Error, typed: &[String]) -> Option<Vec<String>> {
    let (wrong, meant) = match error.kind() {
        ErrorKind::UnknownArgument => (ContextKind::InvalidArg, ContextKind::SuggestedArg),
        ErrorKind::InvalidSubcommand => (ContextKind::InvalidSubcommand, ContextKind::SuggestedSubcommand),
        ErrorKind::InvalidValue => (ContextKind::InvalidValue, ContextKind::SuggestedValue),
        _ => return None,
    };
    let wrong = first(error, wrong);
    if error.kind() == ErrorKind::InvalidSubcommand
        && let Some(with_noun) = with_noun(&wrong, typed)
    {
        return Some(with_noun);
    }
    // the likeliest is the last; an option is named with the value that it wants
    let meant = context(error, meant).pop()?;
    let meant = meant.split_whitespace().next()?.to_owned();
    let replaced = typed.iter().map(|word| match word.strip_prefix(&wrong) {
        Some("") => meant.clone(),
        Some(rest) if rest.starts_with('=') => format!("{meant}{rest}"),
        _ => word.clone(),
    });
    let replaced: Vec<String> = replaced.collect();
    (replaced != typed && understood(&replaced)).then_some(replaced)
}

/// What was typed with the noun that was left out, where there is one alone under which it is understood.
fn with_noun(command: &str, typed: &[String]) -> Option<Vec<String>> {
    let all = <Cli as clap::CommandFactory>::command();
    let nouns = all
        .get_subcommands()
        .filter(|noun| noun.get_name() != "help" && noun.find_subcommand(command).is_some());
    let mut understood = nouns
        .map(|noun| {
            let words = typed.iter().flat_map(|word| {
                let noun = (word == command).then(|| noun.get_name().to_owned());
                noun.into_iter().chain(std::iter::once(word.clone()))
            });
            words.collect::<Vec<String>>()
        })
        .filter(|words| understood(words));
    let one = understood.next()?;
    understood.next().is_none().then_some(one)
}

/// Advice runs: what would still not be understood is no advice.
fn understood(words: &[String]) -> bool {
    let whole = std::iter::once("ninekeys").chain(words.iter().map(String::as_str));
    match <Cli as clap::Parser>::try_parse_from(whole) {
        Ok(_) => true,
        Err(error) => error.kind() == ErrorKind::DisplayHelp,
    }
}

#[cfg(test)]
mod tests {
    use clap::Parser;

    use super::*;

    fn said(line: &str) -> (String, String) {
        let typed: Vec<String> = line.split_whitespace().map(str::to_owned).collect();
        let words = std::iter::once("ninekeys".to_owned()).chain(typed.clone());
        let error = Cli::try_parse_from(words).unwrap_err();
        let json = serde_json::to_value(failure(&error, &typed)).unwrap();
        let next: Vec<&str> = json["next"].as_array().unwrap().iter().map(|w| w.as_str().unwrap()).collect();
        (json["because"].as_str().unwrap().to_owned(), next.join(" "))
    }

    #[test]
    fn every_kind_of_mistake_is_said_in_a_sentence_with_what_to_type() {
        let expect = |line: &str, because: &str, next: &str| {
            assert_eq!(said(line), (because.to_owned(), next.to_owned()), "{line}");
        };
        expect("sgin a.apk", "there is no command sgin", "sign a.apk");
        expect("history --format json", "there is no command history", "cabinet history --format json");
        expect("sign a.apk --replaec", "there is no option or word --replaec here", "sign a.apk --replace");
        expect("keystore crate x", "there is no command crate", "keystore create x");
        expect("sign", "<BUILD>... is missing", "help sign");
        expect("keystore", "it does not say which of its commands is meant", "help keystore");
        expect(
            "board --format jsno",
            "`jsno` is no value for --format <FORMAT>; there are text, json",
            "board --format json",
        );
        expect("sign a.apk --for", "--for <DESTINATION> needs a value behind it", "help sign");
        expect(
            "sign a.apk --for shop",
            "--for <DESTINATION>: `shop` is not a destination; there are development, devices, store, in-house and direct",
            "help sign",
        );
        expect(
            "keystore create x --password-in a --password-on 3",
            "--password-in <FILE> cannot be used with --password-on <NUMBER>",
            "help keystore create",
        );
    }
}
