//! `ninekeys rotate draft`

use std::path::PathBuf;

use clap_complete::engine::ArgValueCandidates;
use ninekeys_core::model::OldKeyMay;
use ninekeys_core::rotation::{HandOver, USUAL_FROM_SDK};
use ninekeys_ops::Ctx;
use ninekeys_ops::rotate::draft::{Request, rotate_draft};

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Write down how material will be replaced, for people to read first
///
/// Writes a file with everything that will happen, in order and with reasons: new keys and certificates, the profiles that have to
/// be made again, who has to be told, what stays valid meanwhile, and what goes at the end and not before. Nothing of it is done
/// until `rotate carry-out FILE`.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// What is to be replaced: identities, profiles, keystores with one key, API
    /// keys, or `cabinet` for the keys that the cabinet is sealed with
    #[arg(value_name = "WHAT", add = ArgValueCandidates::new(complete::items))]
    what: Vec<String>,
    /// Everything that ends within so many days, in one draft: 60d
    #[arg(long, value_name = "DAYS", value_parser = crate::commands::inventory::days)]
    due: Option<u32>,
    /// Have the old certificates revoked at the end; else they run out by themselves
    #[arg(long)]
    revoke: bool,
    /// The SDK from which on a new signing key counts: 33 or higher, or 28 for every device that reads a proof of rotation
    #[arg(long, value_name = "LEVEL", default_value_t = USUAL_FROM_SDK, value_parser = level)]
    from_sdk: u32,
    /// What a signing key may still do on devices after its successor took over: installed-data, shared-user, permissions,
    /// accounts, rollback or nothing; several times for several. Everything but rollback when nothing is said
    #[arg(long, value_name = "WHAT", value_parser = old_key_may)]
    old_key_may: Vec<Option<OldKeyMay>>,
    /// The file; rotation-DAY.toml when nothing is said
    #[arg(long, value_name = "FILE")]
    to: Option<PathBuf>,
    /// Take the place of a file of that name, which is set aside
    #[arg(long)]
    replace: bool,
}

fn level(text: &str) -> Result<u32, String> {
    let level =
        text.parse::<u32>().ok().filter(|level| *level == 28 || (USUAL_FROM_SDK..1_000).contains(level));
    level.ok_or_else(|| "it is 33 or higher, or 28 for every device that reads a proof".into())
}

fn old_key_may(text: &str) -> Result<Option<OldKeyMay>, String> {
    if text == "nothing" {
        return Ok(None);
    }
    let found = OldKeyMay::ALL.iter().find(|(word, ..)| *word == text);
    let words = || OldKeyMay::ALL.map(|(word, ..)| word).join(", ");
    found.map(|(_, may, _)| Some(*may)).ok_or_else(|| format!("it is one of {}, or nothing", words()))
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = match (args.what.is_empty(), args.due) {
        (false, _) => format!("draft the rotation of {}", args.what.join(", ")),
        (true, Some(_)) => "draft the rotation of what falls due".into(),
        (true, None) => "draft a rotation".into(),
    };
    let Args { what, due, revoke, from_sdk, old_key_may, to, replace } = args;
    let old_key_may = match old_key_may.is_empty() {
        true => OldKeyMay::usual(),
        false => old_key_may.into_iter().flatten().collect(),
    };
    let hand_over = HandOver { from_sdk, old_key_may };
    let report = rotate_draft(ctx, &Request { what, due, revoke, hand_over, to, replace })
        .map_err(|error| Failure::of(&attempt, &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
