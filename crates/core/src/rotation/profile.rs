//! A provisioning profile: made again with the devices, capabilities and identity that there are.

use super::{Phase, PlanError, Planner, day};
use crate::ios::profile::is_for;
use crate::ios::setup::signs_for;
use crate::model::{Does, Facts, Item, ProfileFacts, Project, State, Wholeness};

/// What a profile is for.
struct Part<'a> {
    app: &'a str,
    extension: Option<&'a str>,
    bundle_id: &'a str,
}

impl<'a> Part<'a> {
    fn of(project: &'a Project, facts: &ProfileFacts) -> Option<Self> {
        project.apps.iter().find_map(|(app, side)| {
            let ios = side.ios.as_ref()?;
            let inside = ios.extensions.iter().map(|(name, id)| (Some(name.as_str()), id));
            let mut ids = std::iter::once((None, &ios.bundle_id)).chain(inside);
            let (extension, bundle_id) = ids.find(|(_, id)| is_for(&facts.app_id, id))?;
            Some(Part { app, extension, bundle_id })
        })
    }
}

/// A profile by itself: with the identity of its kind that is good the longest.
pub(super) fn add<'a>(
    planner: &mut Planner<'a>,
    item: &'a Item,
    facts: &'a ProfileFacts,
) -> Result<(), PlanError> {
    let made_again =
        |does: &Does| matches!(does, Does::GetProfile { instead_of, .. } if *instead_of == item.name);
    if planner.steps.iter().any(|(_, does, _)| made_again(does)) {
        return Ok(());
    }
    let inventory = planner.view.inventory;
    let kind = signs_for(facts.destination);
    let usable =
        inventory.iter().filter(|one| one.state == State::Active).filter_map(|one| match &one.facts {
            Facts::Identity(own) if own.purpose.nine_key() == kind && own.wholeness() == Wholeness::Whole => {
                match &inventory.get(&own.certificate?)?.facts {
                    Facts::Certificate(certificate) => Some((certificate.not_after, one)),
                    _ => None,
                }
            }
            _ => None,
        });
    let best = usable.max_by(|(until, one), (then, other)| (until, &other.name).cmp(&(then, &one.name)));
    let Some((_, identity)) = best.filter(|(until, _)| *until > planner.view.now) else {
        let because = format!("there is no {} that could sign with it", kind.word());
        return Err(PlanError::NotWhole { name: item.name.clone(), because });
    };
    let when = if facts.not_after > planner.view.now { "ends" } else { "ended" };
    let why = format!("{} {when} on {}", item.name, day(facts.not_after));
    // one that is replaced too is named by its successor
    let successor = planner.steps.iter().find_map(|(_, does, _)| match does {
        Does::MakeIdentity { identity: new, instead_of, .. } if *instead_of == identity.name => {
            Some(new.clone())
        }
        _ => None,
    });
    again(planner, item, facts, successor.as_ref().unwrap_or(&identity.name), &why);
    Ok(())
}

/// A profile made again with an identity, proved, told of, and the old one retired.
pub(super) fn again(planner: &mut Planner<'_>, item: &Item, facts: &ProfileFacts, identity: &str, why: &str) {
    let Some(part) = Part::of(planner.view.project, facts) else {
        let does = Does::LookAfter { profile: item.name.clone(), identity: identity.into() };
        return planner.step(Phase::People, does, format!("{why}, and it is for no app of the project file"));
    };
    let (app, destination) = (part.app.to_owned(), facts.destination);
    if facts.not_after > planner.view.now {
        planner.meanwhile(&item.name, facts.not_after, "builds with it go on running, and being signed");
    }
    let profile = successor(planner, item, facts, &part, identity, why);
    let does = Does::ProveBuild { app: app.clone(), destination, with: identity.into() };
    planner.step(Phase::Proofs, does, "nothing goes before its successor has signed and passed a check");
    planner.tell(item);
    settings(planner, app, &item.name);
    let does = Does::Retire { item: item.name.clone(), successor: profile };
    planner.step(Phase::Retire, does, "its successor has been proved by then");
}

/// The profile that takes its place: one that is there and names the identity, one that another item needs too, or a new one.
fn successor(
    planner: &mut Planner<'_>,
    item: &Item,
    facts: &ProfileFacts,
    part: &Part<'_>,
    identity: &str,
    why: &str,
) -> String {
    let same = planner.steps.iter().find_map(|(_, does, _)| match does {
        Does::GetProfile { profile, app, bundle_id, destination, .. }
            if app == part.app && bundle_id == part.bundle_id && *destination == facts.destination =>
        {
            Some(profile.clone())
        }
        _ => None,
    });
    if let Some(known) = same.or_else(|| ready(planner, item, facts, identity)) {
        return known;
    }
    let year = planner.next_year() - 1;
    let inside = part.extension.map(|name| format!("{name}-")).unwrap_or_default();
    let profile = planner.name(&format!("{}-{inside}{}-{year}", part.app, facts.destination));
    let does = Does::GetProfile {
        profile: profile.clone(),
        instead_of: item.name.clone(),
        app: part.app.into(),
        bundle_id: part.bundle_id.into(),
        destination: facts.destination,
        identity: identity.into(),
    };
    planner.step(Phase::Profiles, does, why);
    profile
}

/// A profile in use for the same, which names the identity already, and is good longer.
fn ready(planner: &Planner<'_>, item: &Item, facts: &ProfileFacts, identity: &str) -> Option<String> {
    let inventory = planner.view.inventory;
    let Facts::Identity(identity) = &inventory.find(identity).ok()?.facts else { return None };
    let certificate = identity.certificate?;
    let same = inventory.iter().filter(|other| other.id != item.id && other.state == State::Active);
    let named = same.filter(|other| match &other.facts {
        Facts::Profile(own) => {
            own.app_id == facts.app_id
                && own.destination == facts.destination
                && own.certificates.contains(&certificate)
                && own.not_after > facts.not_after
        }
        _ => false,
    });
    named.map(|other| other.name.clone()).min()
}

/// Settings of an app's builds that name what is replaced; one step for all of it.
fn settings(planner: &mut Planner<'_>, app: String, item: &str) {
    let known = planner.steps.iter_mut().find_map(|(_, does, _)| match does {
        Does::ChangeSettings { app: of, names } if *of == app => Some(names),
        _ => None,
    });
    match known {
        Some(names) if names.iter().any(|name| name == item) => {}
        Some(names) => names.push(item.into()),
        None => {
            let why = "settings may name a profile by its identifier, or a certificate by its serial number";
            planner.step(Phase::People, Does::ChangeSettings { app, names: vec![item.into()] }, why);
        }
    }
}
