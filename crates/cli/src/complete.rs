//! What a shell offers for a value: the names that stand in the project file and in the cabinet beside it, rules,
//! destinations. Nothing is asked, nothing is unlocked, and whatever cannot be read offers nothing.

use std::sync::atomic::AtomicBool;
use std::time::Duration;

use clap::CommandFactory;
use clap_complete::engine::CompletionCandidate;
use clap_complete::env::{Bash, CompleteEnv, Elvish, EnvCompleter, Fish, Powershell, Shells, Zsh};
use ninekeys_core::env::{Env, Silent};
use ninekeys_core::keys::SystemKeys;
use ninekeys_core::model::{Capability, Destination, Facts, Inventory, Project, State};
use ninekeys_core::rules::FAMILIES;
use ninekeys_ops::memory::MachineMemory;
use ninekeys_ops::{Ctx, Nobody};

use crate::arguments::Cli;
use crate::machine;

/// The variable that a shell's script sets when it wants to be told what to offer.
const VARIABLE: &str = "NINEKEYS_COMPLETE";
const SHELLS: Shells<'_> = Shells(&[&Bash, &Elvish, &Fish, &Powershell, &Zsh]);

/// The shells that there are scripts for.
pub(crate) fn shells() -> Vec<&'static str> {
    SHELLS.names().collect()
}

/// Answers a shell that wants to know what to offer; goes on otherwise.
pub(crate) fn answer_a_shell() {
    CompleteEnv::with_factory(Cli::command).var(VARIABLE).shells(SHELLS).complete();
}

/// The script that makes a shell ask.
pub(crate) fn script(shell: &str) -> std::io::Result<Vec<u8>> {
    let mut text = Vec::new();
    let completer: &dyn EnvCompleter = SHELLS.completer(shell).unwrap_or(&Bash);
    completer.write_registration(VARIABLE, "ninekeys", "ninekeys", "ninekeys", &mut text)?;
    Ok(text)
}

fn candidates(names: impl IntoIterator<Item = (String, String)>) -> Vec<CompletionCandidate> {
    let candidate = |(name, help): (String, String)| CompletionCandidate::new(name).help(Some(help.into()));
    names.into_iter().map(candidate).collect()
}

/// Destinations.
pub(crate) fn destinations() -> Vec<CompletionCandidate> {
    let all = Destination::ALL.iter();
    candidates(all.map(|(word, destination)| ((*word).to_owned(), destination.phrase().to_owned())))
}

/// Capabilities of an iOS app.
pub(crate) fn capabilities() -> Vec<CompletionCandidate> {
    candidates(Capability::ALL.map(|(word, _, entitlement)| (word.to_owned(), entitlement.to_owned())))
}

/// Rules of `check`.
pub(crate) fn rules() -> Vec<CompletionCandidate> {
    let all = FAMILIES.iter().flat_map(|family| family.rules);
    candidates(all.map(|rule| (rule.name.to_owned(), rule.about.to_owned())))
}

/// Apps of the project file.
pub(crate) fn apps() -> Vec<CompletionCandidate> {
    let project = look(|ctx| Some(ctx.project_if_any().ok()??.project)).unwrap_or_else(Project::default);
    candidates(project.apps.into_iter().map(|(name, app)| (name.to_string(), app.title)))
}

/// The stores of the project file.
pub(crate) fn stores() -> Vec<CompletionCandidate> {
    let project = look(|ctx| Some(ctx.project_if_any().ok()??.project)).unwrap_or_else(Project::default);
    candidates(project.stores.into_iter().map(|(name, place)| (name.to_string(), place.address)))
}

/// Keystores in use.
pub(crate) fn keystores() -> Vec<CompletionCandidate> {
    let names = of_cabinet(|all| {
        let active = all.keystores().into_iter().filter(|(item, _)| item.state == State::Active);
        let aliases = |facts: &ninekeys_core::model::KeystoreFacts| {
            let aliases: Vec<&str> = facts.entries.iter().map(|entry| entry.alias.as_str()).collect();
            aliases.join(", ")
        };
        active.map(|(item, facts)| (item.name.clone(), aliases(facts))).collect()
    });
    candidates(names)
}

/// Aliases of keys in keystores.
pub(crate) fn aliases() -> Vec<CompletionCandidate> {
    let names = of_cabinet(|all| {
        let entries = |(item, facts): (&ninekeys_core::model::Item, &ninekeys_core::model::KeystoreFacts)| {
            let place = item.name.clone();
            facts.entries.iter().map(|entry| (entry.alias.clone(), place.clone())).collect::<Vec<_>>()
        };
        all.keystores().into_iter().flat_map(entries).collect()
    });
    candidates(names)
}

/// Identities in use.
pub(crate) fn identities() -> Vec<CompletionCandidate> {
    of_kind(|facts| match facts {
        Facts::Identity(facts) => Some(facts.purpose.nine_key().word().to_owned()),
        _ => None,
    })
}

/// Provisioning profiles.
pub(crate) fn profiles() -> Vec<CompletionCandidate> {
    of_kind(|facts| match facts {
        Facts::Profile(facts) => Some(facts.title.clone()),
        _ => None,
    })
}

/// API keys.
pub(crate) fn api_keys() -> Vec<CompletionCandidate> {
    of_kind(|facts| match facts {
        Facts::ApiKey(facts) => Some(facts.service.nine_key().word().to_owned()),
        _ => None,
    })
}

/// Rotations that are under way.
pub(crate) fn rotations() -> Vec<CompletionCandidate> {
    of_kind(|facts| match facts {
        Facts::Rotation(facts) if facts.is_open() => Some(facts.rotates.join(", ")),
        _ => None,
    })
}

/// Members of the cabinet.
pub(crate) fn members() -> Vec<CompletionCandidate> {
    let known = look(|ctx| Some(ctx.open().ok()?.status().ok()?.members)).unwrap_or_default();
    candidates(known.into_iter().map(|member| (member.label, member.id.to_string())))
}

/// Dates that are not over.
pub(crate) fn dates() -> Vec<CompletionCandidate> {
    of_kind(|facts| match facts {
        Facts::Date(facts) => Some(facts.title.clone()),
        _ => None,
    })
}

/// Devices.
pub(crate) fn devices() -> Vec<CompletionCandidate> {
    of_kind(|facts| match facts {
        Facts::Device(facts) => Some(facts.title.clone()),
        _ => None,
    })
}

/// The items of a kind, by name, each with a word beside it.
fn of_kind(beside: impl Fn(&Facts) -> Option<String>) -> Vec<CompletionCandidate> {
    let names = of_cabinet(|all| {
        let active = all.iter().filter(|item| item.state == State::Active);
        let mut all: Vec<_> =
            active.filter_map(|item| Some((item.name.clone(), beside(&item.facts)?))).collect();
        all.sort();
        all
    });
    candidates(names)
}

/// Everything in the cabinet that has a name of its own.
pub(crate) fn items() -> Vec<CompletionCandidate> {
    let names = of_cabinet(|all| {
        let own = all.iter().filter(|item| !matches!(item.facts, Facts::Key(_) | Facts::Certificate(_)));
        let mut own: Vec<_> = own.map(|item| (item.name.clone(), item.facts.word().to_owned())).collect();
        own.sort();
        own
    });
    candidates(names)
}

fn of_cabinet(names: impl FnOnce(&Inventory) -> Vec<(String, String)>) -> Vec<(String, String)> {
    look(|ctx| ctx.open().ok()?.inventory().ok()).map(|all| names(&all)).unwrap_or_default()
}

/// Looks from the folder that the shell is in.
#[expect(
    clippy::disallowed_methods,
    reason = "a shell's completion knows no options: the environment says which are meant"
)]
fn look<R>(at: impl FnOnce(&Ctx<'_>) -> Option<R>) -> Option<R> {
    let stop = AtomicBool::new(false);
    let env = Env {
        now: crate::clock::now(),
        keys: &SystemKeys,
        progress: &Silent,
        scratch: &ninekeys_core::stream::InMemory,
        stop: &stop,
    };
    // looked at, and remembered by nobody
    let machine = MachineMemory::new(None, machine::name());
    at(&Ctx {
        env,
        folder: std::env::current_dir().ok()?,
        project: std::env::var_os("NINEKEYS_PROJECT").map(Into::into),
        cabinet: std::env::var_os("NINEKEYS_CABINET").map(Into::into),
        store: None,
        ask: &Nobody,
        machine: &machine,
        credentials: &ninekeys_ops::remembered::KeepsNothing,
        running: &|| Duration::ZERO,
        notices: std::cell::RefCell::default(),
    })
}
