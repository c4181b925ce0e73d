//! `ninekeys inventory`

use clap_complete::engine::ArgValueCandidates;
use ninekeys_core::model::NineKey;
use ninekeys_ops::Ctx;
use ninekeys_ops::inventory::{Group, InventoryError, Sort, Standing, Wanted, inventory, look};

use crate::arguments::Format;
use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// List everything in the cabinet
///
/// Lists everything in the cabinet, or some of it, without a passphrase. Releases have a list of their own.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// Only what ends within so long (60d, 8w), or has ended, the first end first
    #[arg(long, value_name = "TIME", value_parser = days)]
    expiring: Option<u32>,
    /// Only of this kind: signing, upload, development, distribution, push, profile, store-api, service, device or date;
    /// several times for several
    #[arg(long, value_name = "KIND", value_parser = kind)]
    kind: Vec<&'static str>,
    /// Only for this app
    #[arg(long, add = ArgValueCandidates::new(complete::apps))]
    app: Option<String>,
    /// Only in this state: in-use, falls-due, expired, no-copy or retired
    #[arg(long, value_name = "STATE", value_parser = standing)]
    state: Option<Standing>,
    /// In groups of the same app, kind or state
    #[arg(long, value_name = "COLUMN", value_parser = group)]
    group: Option<Group>,
    /// How the answer is printed
    #[arg(long, value_parser = Format::among(&["text", "json", "csv", "ics", "openmetrics"]), default_value = "text", help_heading = "Everywhere")]
    format: Format,
    /// In the order of this: kind, name or end
    #[arg(long, value_name = "COLUMN", value_parser = sort)]
    sort: Option<Sort>,
}

/// A number of days, also as `60d` or `8w`.
pub(crate) fn days(text: &str) -> Result<u32, String> {
    let (number, unit) = match text.strip_suffix('w') {
        Some(weeks) => (weeks, 7),
        None => (text.strip_suffix('d').unwrap_or(text), 1),
    };
    let days = number.parse::<u32>().ok().and_then(|number| number.checked_mul(unit));
    days.filter(|days| *days <= 36_500).ok_or_else(|| "a time is a number of days or weeks: 60d, 8w".into())
}

fn kind(text: &str) -> Result<&'static str, String> {
    if let Some(other) = ["device", "date"].into_iter().find(|word| *word == text) {
        return Ok(other);
    }
    let called = |key: &NineKey| serde_json::to_value(key).is_ok_and(|word| word == text);
    let known = NineKey::ALL.into_iter().filter(|key| *key != NineKey::Cabinet).find(called);
    known.map(NineKey::word).ok_or_else(|| {
        "a kind is signing, upload, development, distribution, push, profile, store-api, service or device".into()
    })
}

fn standing(text: &str) -> Result<Standing, String> {
    Ok(match text {
        "in-use" => Standing::InUse,
        "falls-due" => Standing::FallsDue,
        "expired" => Standing::Expired,
        "no-copy" => Standing::NoCopy,
        "retired" => Standing::Retired,
        _ => return Err("a state is in-use, falls-due, expired, no-copy or retired".into()),
    })
}

fn group(text: &str) -> Result<Group, String> {
    Ok(match text {
        "app" => Group::App,
        "kind" => Group::Kind,
        "state" => Group::Mark,
        _ => return Err("a group is of one app, kind or state".into()),
    })
}

fn sort(text: &str) -> Result<Sort, String> {
    Ok(match text {
        "kind" => Sort::Kind,
        "name" => Sort::Name,
        "end" => Sort::End,
        _ => return Err("the order is that of kind, name or end".into()),
    })
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    // who asks what ends soon wants to know what does first
    let usual = if args.expiring.is_some() { Sort::End } else { Sort::Kind };
    let wanted = Wanted {
        expiring: args.expiring,
        kinds: args.kind.clone(),
        app: args.app.clone(),
        state: args.state,
        sort: args.sort.unwrap_or(usual),
        group: args.group,
    };
    let failed = |error: InventoryError| Failure::of("list the cabinet", &error);
    let look = look(ctx).map_err(|error| failed(error.into()))?;
    let report = inventory(ctx, &look, &wanted).map_err(failed)?;
    out.emit_inventory(&report);
    // the program ends here: to free 100,000 lines would only take time
    std::mem::forget(report);
    std::mem::forget(look);
    Ok(Exit::Done)
}
