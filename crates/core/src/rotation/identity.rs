//! An identity of the iOS side: a successor beside it, every profile that names it made again, then it goes.

use jiff::{SignedDuration, Timestamp};

use super::{Phase, PlanError, Planner, day, profile};
use crate::model::{
    CertificateFacts, Does, Facts, IdentityFacts, IdentityPurpose, Inventory, Item, ItemId, ProfileFacts,
    Project, State, Wholeness,
};

/// The certificate of an identity.
fn certificate<'a>(
    inventory: &'a Inventory,
    facts: &IdentityFacts,
) -> Option<(ItemId, &'a CertificateFacts)> {
    let id = facts.certificate?;
    match &inventory.get(&id)?.facts {
        Facts::Certificate(certificate) => Some((id, certificate)),
        _ => None,
    }
}

/// The profiles in use that name an identity's certificate, by name.
pub(super) fn profiles_of<'a>(
    inventory: &'a Inventory,
    facts: &IdentityFacts,
) -> Vec<(&'a Item, &'a ProfileFacts)> {
    let Some((id, own)) = certificate(inventory, facts) else { return Vec::new() };
    let active = inventory.iter().filter(|item| item.state == State::Active);
    let names = active.filter_map(|item| match &item.facts {
        Facts::Profile(profile)
            if profile.certificates.contains(&id)
                || profile.foreign_certificates.contains(&own.fingerprint) =>
        {
            Some((item, profile.as_ref()))
        }
        _ => None,
    });
    let mut all: Vec<_> = names.collect();
    // an app before its extensions
    all.sort_by(|(a, one), (b, other)| (&one.app_id, &a.name).cmp(&(&other.app_id, &b.name)));
    all
}

/// Other identities in use for the same, whole, and good longer.
fn others<'a>(inventory: &'a Inventory, item: &Item, facts: &IdentityFacts) -> Vec<(&'a Item, Timestamp)> {
    let mut all: Vec<(&Item, Timestamp)> = inventory
        .iter()
        .filter(|other| other.id != item.id && other.state == State::Active)
        .filter_map(|other| match &other.facts {
            Facts::Identity(own) if own.purpose == facts.purpose && own.apps == facts.apps => {
                let until = certificate(inventory, own)?.1.not_after;
                (own.wholeness() == Wholeness::Whole && own.revoked.is_none()).then_some((other, until))
            }
            _ => None,
        })
        .collect();
    all.sort_by(|(a, until), (b, then)| (then, &a.name).cmp(&(until, &b.name)));
    all
}

/// The app in whose name the portal is asked.
fn asked_for(
    project: &Project,
    facts: &IdentityFacts,
    profiles: &[(&Item, &ProfileFacts)],
) -> Option<String> {
    let of_profiles = profiles.iter().filter_map(|(_, profile)| profile.apps.first());
    let has_ios = |name: &&str| project.apps.get(*name).is_some_and(|app| app.ios.is_some());
    let named = facts.apps.iter().chain(of_profiles).map(String::as_str);
    let any = project.apps.keys().map(crate::model::Name::as_str);
    named.chain(any).find(has_ios).map(str::to_owned)
}

pub(super) fn add<'a>(
    planner: &mut Planner<'a>,
    item: &'a Item,
    facts: &'a IdentityFacts,
) -> Result<(), PlanError> {
    let inventory = planner.view.inventory;
    refuse_part(item, facts)?;
    let own = certificate(inventory, facts).ok_or_else(|| not_whole(item, "its certificate is gone"))?.1;
    let profiles = profiles_of(inventory, facts);
    let app = asked_for(planner.view.project, facts, &profiles)
        .ok_or_else(|| PlanError::NoApp(item.name.clone()))?;
    let (now, until) = (planner.view.now, own.not_after);
    if until > now {
        let means = match facts.purpose {
            IdentityPurpose::Push(_) => "notifications go out with it until the server has the new one",
            IdentityPurpose::Development => "builds on registered devices keep running",
            IdentityPurpose::Distribution => {
                "builds go on being signed with it; those in the store keep running after it too"
            }
        };
        planner.meanwhile(&item.name, until, means);
    }
    let successor = successor(planner, item, facts, (&app, until));
    for (one, own) in &profiles {
        profile::again(planner, one, own, &successor, &format!("{} names {}", one.name, item.name));
    }
    match facts.purpose {
        IdentityPurpose::Push(_) => {
            let why = format!("the server has to show {successor} before {} goes", item.name);
            planner.step(
                Phase::Proofs,
                Does::ProveKey { item: successor.clone() },
                "it has to sign before the old one goes",
            );
            planner.step(
                Phase::People,
                Does::ChangeServer { app: app.clone(), identity: successor.clone() },
                why,
            );
        }
        _ if profiles.is_empty() => {
            planner.step(
                Phase::Proofs,
                Does::ProveKey { item: successor.clone() },
                "no profile names it, so no build proves it",
            );
        }
        _ => {}
    }
    planner.tell(item);
    goes(planner, item, successor, until);
    Ok(())
}

fn not_whole(item: &Item, because: &str) -> PlanError {
    PlanError::NotWhole { name: item.name.clone(), because: because.into() }
}

/// Refuses one that is not all here: nobody else's key is replaced.
fn refuse_part(item: &Item, facts: &IdentityFacts) -> Result<(), PlanError> {
    match (facts.wholeness(), &facts.held_by) {
        (Wholeness::Whole, _) => Ok(()),
        (Wholeness::Waiting, _) => Err(not_whole(item, "its certificate was asked for and is not here")),
        (Wholeness::HeldElsewhere, Some(holder)) => {
            Err(not_whole(item, &format!("{holder} has its private key")))
        }
        _ => Err(not_whole(item, "its private key is not here")),
    }
}

/// The old one goes, last of all.
fn goes(planner: &mut Planner<'_>, item: &Item, successor: String, until: Timestamp) {
    let is_good = until > planner.view.now;
    let item = item.name.clone();
    if planner.revoke && is_good {
        return planner.step(Phase::Retire, Does::Revoke { item, successor }, "nothing names it any more");
    }
    let why = match is_good {
        true => format!("nothing names it any more; its certificate runs out on {}", day(until)),
        false => format!("its certificate ended on {}", day(until)),
    };
    planner.step(Phase::Retire, Does::Retire { item, successor }, why);
}

/// The identity that takes its place: one that is there and good for long enough, or a new one.
fn successor(
    planner: &mut Planner<'_>,
    item: &Item,
    facts: &IdentityFacts,
    (app, until): (&str, Timestamp),
) -> String {
    let inventory = planner.view.inventory;
    let due = SignedDuration::from_hours(24 * i64::from(planner.view.project.policy.due_days));
    let others = others(inventory, item, facts);
    let long = |end: &Timestamp| end.duration_since(planner.view.now) >= due && *end > until;
    if let Some((ready, _)) = others.iter().find(|(_, end)| long(end)) {
        return ready.name.clone();
    }
    let year = planner.next_year();
    let base = match facts.purpose {
        IdentityPurpose::Development => format!("development-{year}"),
        IdentityPurpose::Distribution => format!("distribution-{year}"),
        IdentityPurpose::Push(_) => format!("{app}-push-{year}"),
    };
    let name = planner.name(&base);
    let when = if until > planner.view.now { "ends" } else { "ended" };
    let does = Does::MakeIdentity {
        identity: name.clone(),
        instead_of: item.name.clone(),
        purpose: facts.purpose,
        apps: facts.apps.clone(),
    };
    planner.step(
        Phase::Keys,
        does,
        format!("{} {when} on {}; a new certificate is for a new key", item.name, day(until)),
    );
    let idle = others.iter().rev().find(|(other, _)| match &other.facts {
        Facts::Identity(own) => profiles_of(inventory, own).is_empty(),
        _ => false,
    });
    let makes_room = idle.map(|(other, _)| other.name.clone());
    let does = Does::GetCertificate { identity: name.clone(), app: app.to_owned(), makes_room };
    planner.step(Phase::Certificates, does, "both certificates are good side by side until the old one goes");
    name
}
