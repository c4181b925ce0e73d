//! `ninekeys date add`

use clap_complete::engine::ArgValueCandidates;
use jiff::Timestamp;
use ninekeys_core::model::MOST_MONTHS;
use ninekeys_ops::Ctx;
use ninekeys_ops::date::add::{Request, date_add};

use crate::complete;
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// Keep a date that belongs to no key: a membership, a contract, an audit
///
/// It stands on the board when it falls due, in the inventory, the timeline and the calendar. One that recurs falls due again once
/// `date done` says that it was seen to: none passes by itself.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// What it is called
    title: String,
    /// The day when it falls due next: 2031-05-19
    #[arg(long, value_name = "DAY", value_parser = crate::clock::parse)]
    on: Timestamp,
    /// How often it falls due: 1y, 6m
    #[arg(long, value_name = "TIME", value_parser = months)]
    every: Option<u32>,
    /// The app it is for; several times for several, all when nothing is said
    #[arg(long, value_name = "APP", add = ArgValueCandidates::new(complete::apps))]
    app: Vec<String>,
}

fn months(text: &str) -> Result<u32, String> {
    let (number, unit) = match text.strip_suffix('y') {
        Some(years) => (years, 12),
        None => (text.strip_suffix('m').unwrap_or(""), 1),
    };
    let months = number.parse::<u32>().ok().and_then(|number| number.checked_mul(unit));
    months
        .filter(|months| (1..=MOST_MONTHS).contains(months))
        .ok_or_else(|| "how often is years or months: 1y, 6m".into())
}

pub(crate) fn run(args: Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let attempt = format!("keep the date of {}", args.title);
    let request = Request { title: args.title, on: args.on, every_months: args.every, apps: args.app };
    let report = date_add(ctx, &request).map_err(|error| Failure::of(&attempt, &error))?;
    out.emit(&report);
    Ok(Exit::Done)
}
