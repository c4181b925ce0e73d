//! App ids at the portal, and the project file: an app of it, or what is inside one.

use jiff::Timestamp;
use ninekeys_core::ios::profile::pattern_of;
use ninekeys_core::model::{Capability, Project, ReviewSays, free_name};
use ninekeys_portal::wire;

use super::said::{Because, Standing, TakenAppId};
use super::{PortalTakeInError, There};
use crate::app;
use crate::app::add::app_add;
use crate::app::change::app_change;
use crate::app::ios::IosSays;
use crate::ctx::Ctx;
use crate::profile::import::{Fit as ProfileFit, slug};

/// What the app ids are to the project file.
pub(super) fn app_ids(there: &There, project: &Project, now: Timestamp) -> Vec<TakenAppId> {
    let of = |said: &wire::AppId| {
        let place = place_of(project, &said.bundle_id);
        let here = place.as_ref().map(|(_, extension, has)| match extension {
            // an extension has what its app has
            Some(_) => said.capabilities.as_slice(),
            None => *has,
        });
        let lacks = |has: &[Capability], all: &[Capability]| -> Vec<Capability> {
            all.iter().filter(|one| !has.contains(one)).copied().collect()
        };
        let off_there = here.map(|here| lacks(&said.capabilities, here)).unwrap_or_default();
        let off_here = here.map(|here| lacks(here, &said.capabilities)).unwrap_or_default();
        let pattern = |fit: &ProfileFit| pattern_of(&fit.verified.app_id) == said.bundle_id;
        let profiles = there.profiles_where(now, pattern);
        let is_wildcard = said.bundle_id.ends_with('*');
        TakenAppId {
            standing: match (&place, off_there.is_empty() && off_here.is_empty()) {
                (Some(_), true) => Standing::Known,
                (Some(_), false) => Standing::Different,
                (None, _) if is_wildcard => Standing::Left,
                (None, _) => Standing::New,
            },
            because: (place.is_none() && is_wildcard).then_some(Because::Wildcard),
            app: place.as_ref().map(|(app, ..)| (*app).to_owned()),
            extension: place.and_then(|(_, extension, _)| extension.map(str::to_owned)),
            bundle_id: said.bundle_id.clone(),
            title: said.title.clone(),
            capabilities: said.capabilities.clone(),
            off_there,
            off_here,
            unused: profiles.is_empty(),
            profiles,
        }
    };
    there.app_ids.iter().map(of).collect()
}

/// The app of a bundle id, the extension where it is one's, and the app's capabilities.
fn place_of<'a>(
    project: &'a Project,
    bundle_id: &str,
) -> Option<(&'a str, Option<&'a str>, &'a [Capability])> {
    project.apps.iter().find_map(|(name, app)| {
        let ios = app.ios.as_ref()?;
        if ios.bundle_id == bundle_id {
            return Some((name.as_str(), None, ios.capabilities.as_slice()));
        }
        let inside = ios.extensions.iter().find(|(_, id)| *id == bundle_id);
        inside.map(|(inside, _)| (name.as_str(), Some(inside.as_str()), ios.capabilities.as_slice()))
    })
}

/// Writes the new app ids into the project file; tells the apps that it has got.
///
/// # Errors
/// [`PortalTakeInError`]; [`PortalTakeInError::HalfWay`] where it has got some.
pub(super) fn take_apps(ctx: &Ctx<'_>, all: &mut [TakenAppId]) -> Result<Vec<String>, PortalTakeInError> {
    let mut taken: Vec<String> = Vec::new();
    let mut new: Vec<&mut TakenAppId> = all.iter_mut().filter(|one| one.standing == Standing::New).collect();
    // an app comes before what is inside it
    new.sort_by_key(|one| one.bundle_id.len());
    for one in new {
        take_app(ctx, one).map_err(|cause| cause.after(&taken))?;
        if one.standing == Standing::New {
            taken.extend(one.app.clone());
        }
    }
    taken.dedup();
    Ok(taken)
}

/// Writes one into it: as an app, or as an extension of the app whose id its begins with.
fn take_app(ctx: &Ctx<'_>, one: &mut TakenAppId) -> Result<(), PortalTakeInError> {
    let project = ctx.project_file()?.project;
    let bundle_id = one.bundle_id.clone();
    if let Some((app, extension, _)) = place_of(&project, &bundle_id) {
        one.standing = Standing::Known;
        (one.app, one.extension) = (Some(app.to_owned()), extension.map(str::to_owned));
        return Ok(());
    }
    let last = slug(bundle_id.rsplit('.').next().unwrap_or_default());
    let free = |known: &mut dyn Iterator<Item = &str>| {
        let known: Vec<&str> = known.collect();
        free_name(&last, |name| known.iter().any(|one| one.eq_ignore_ascii_case(name)))
    };
    let holder = project.apps.iter().find_map(|(name, app)| {
        let ios = app.ios.as_ref()?;
        let rest = bundle_id.strip_prefix(&ios.bundle_id)?;
        rest.starts_with('.').then_some((name, ios))
    });
    let mut request = app::Request {
        name: String::new(),
        title: None,
        package: None,
        bundle_id: None,
        destinations: Vec::new(),
        version: None,
        ios: IosSays::default(),
        publish: None,
        review: ReviewSays::default(),
    };
    if let Some((name, holder)) = holder {
        let inside = free(&mut holder.extensions.keys().map(|name| name.as_str()));
        request.name = name.to_string();
        request.ios.extensions = vec![(inside.clone(), bundle_id.clone())];
        let done = app_change(ctx, &request);
        let done = done.map_err(|cause| PortalTakeInError::Extension { bundle_id, cause })?;
        (one.app, one.extension) = (Some(done.app), Some(inside));
    } else {
        request.name = free(&mut project.apps.keys().map(|name| name.as_str()));
        request.title = Some(one.title.clone());
        request.bundle_id = Some(bundle_id.clone());
        request.ios.capabilities.clone_from(&one.capabilities);
        let done = app_add(ctx, request).map_err(|cause| PortalTakeInError::App { bundle_id, cause })?;
        one.app = Some(done.app);
    }
    Ok(())
}
