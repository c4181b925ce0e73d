//! `upload --next`: a build whose number is taken gets the next one, is signed with it, and goes in the place of the one that was named.

use std::path::{Path, PathBuf};

use ninekeys_cabinet::Cabinet;
use ninekeys_core::model::{ApiUse, BuildNumber, Destination, Platform, ReleaseFacts};
use ninekeys_core::next::{Earlier, bar, next};
use ninekeys_portal::store::Delivery;
use schemars::JsonSchema;
use serde::Serialize;

use super::upload::{Request, UploadError};
use crate::build::check::{CheckReport, file_name};
use crate::build::sign::{self, Set, SignError};
use crate::ctx::Ctx;
use crate::files;
use crate::outputs::OutputError;
use crate::portal::with_store;

/// A build that was signed again to go to the store.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Raised {
    /// The build that was named.
    pub from: String,
    /// The version that it had.
    pub version: String,
    /// The number that it had.
    pub number: BuildNumber,
}

/// What is known of an app's builds on one platform, at the store and in the ledger.
pub(super) fn earlier(
    (platform, id): (Platform, &str),
    all: &[Delivery],
    (ledger, store): (&[&ReleaseFacts], Option<&str>),
    but: &str,
) -> Vec<Earlier> {
    let there = all.iter().filter(|one| one.counts_for(platform, id)).map(Delivery::earlier);
    // each store has numbers of its own
    let own = |one: &&&ReleaseFacts| {
        one.platform == platform && one.id == id && one.sha256 != but && one.store.as_deref() == store
    };
    let signed = ledger.iter().filter(own).map(|one| Earlier::signed(one));
    there.chain(signed).collect()
}

/// How many numbers are tried whose output has its name taken.
const MOST_TRIES: u32 = 20;

/// Whether a build was not signed because its output's name is taken.
fn is_taken(error: &SignError) -> bool {
    match error {
        SignError::Exists(_) | SignError::Output(OutputError::Exists(_)) => true,
        SignError::File(error) => error.cause.kind() == std::io::ErrorKind::AlreadyExists,
        _ => false,
    }
}

/// The build that can go: the one that was named where its number is free and it is signed for the store, else one that is signed now,
/// beside it.
pub(super) fn raise<'c>(
    ctx: &'c Ctx<'_>,
    request: &Request,
    checked: &CheckReport,
    cabinet: &mut Cabinet<'c>,
) -> Result<(PathBuf, Option<Raised>), UploadError> {
    let no_app = || UploadError::NoApp(file_name(&request.build));
    let app = checked.app.as_deref().ok_or_else(no_app)?;
    let says = checked.says.as_ref().ok_or_else(no_app)?;
    let file = ctx.project_file()?;
    let all = with_store(ctx, cabinet, &file, (ApiUse::Uploads, Some(app)), |store| {
        store.deliveries().map_err(UploadError::Store)
    })?;
    let inventory = cabinet.inventory()?;
    let ledger = inventory.releases();
    let sha256 = files::sha256(&ctx.path(&request.build), &ctx.env)?;
    let version = says.version.clone().unwrap_or_default();
    let platform = checked.platform;
    let number = &says.number.clone().unwrap_or(BuildNumber::ZERO);
    let earlier = earlier((platform, &says.id), &all, (&ledger, ctx.store.as_deref()), &sha256);
    let is_signed = |one: &&ReleaseFacts| {
        one.sha256 == sha256 && one.destination == Destination::Store && one.store == ctx.store
    };
    let (mut set, mut tries) = (Set::default(), 0);
    if bar(platform, &earlier, &version, number).is_some() {
        let next = next(platform, &earlier, Some(&version));
        set.build = Some(next.number);
        set.version = next.raised.then_some(next.version);
    } else if ledger.iter().copied().any(|one| is_signed(&one)) {
        return Ok((request.build.clone(), None));
    }
    let signed = loop {
        let wanted = sign::Request {
            builds: vec![request.build.clone()],
            app: Some(app.to_owned()),
            destination: Some(Destination::Store),
            store: None,
            key: None,
            to: request.build.parent().unwrap_or(Path::new("")).to_owned(),
            replace: false,
            schemes: None,
            idsig: false,
            set: set.clone(),
            timestamp: false,
            entitlements: None,
        };
        match (sign::sign_with(ctx, &wanted, cabinet), &set.build) {
            // another call was quicker, or the name stands for something else: the number behind it
            (Err(error), Some(number)) if is_taken(&error) && tries < MOST_TRIES => {
                set.build = Some(number.next());
                tries += 1;
            }
            (done, _) => break done?.into_iter().next().ok_or_else(no_app)?,
        }
    };
    let raised = Raised { from: request.build.display().to_string(), version, number: number.clone() };
    Ok((PathBuf::from(signed.output), Some(raised)))
}
