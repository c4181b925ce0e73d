//! What becomes of builds at the stand-in: stages go on by the clock, whenever somebody looks.

use std::collections::BTreeMap;

use jiff::{SignedDuration, Timestamp};
use ninekeys_core::model::ApiRole;
use rusqlite::Connection;

use super::super::http::{Call, Response};
use super::super::routes::{Portal, Refusal, answer, read};
use super::super::state;
use super::{ASKS, DELIVERY, GROUP, good_line};
use crate::store::{Advance, Delivery, Group, Question, Reached, Review, Stage, Tried};
use crate::wire::List;

/// The longest text that people read.
const MOST_TEXT: usize = 4_000;

/// What the store asks of every app.
const QUESTIONS: [(&str, &str); 4] = [
    ("advertising", "Does it show advertising?"),
    ("children", "Is it made for children?"),
    (LOCATION, "Does it use where people are?"),
    ("own-encryption", "Does it encrypt in ways that the system does not bring?"),
];
/// The answer that the review holds against what a build asks people for.
const LOCATION: &str = "location";

fn reach(delivery: &mut Delivery, stage: Stage, at: Timestamp) {
    delivery.stages.push(Reached { stage, at });
    delivery.stage = stage;
}

/// A build as it stands at a time: what the store looks at comes to its end by itself.
pub(super) fn as_of(mut delivery: Delivery, now: Timestamp, looks: SignedDuration) -> Delivery {
    // no stage follows itself, so that this ends
    while let Some(last) = delivery.stages.last().copied() {
        let after = last.at.checked_add(looks).ok();
        let (next, at) = match last.stage {
            Stage::Processing => (Stage::Ready, after),
            Stage::InReview if delivery.because.is_some() => (Stage::Rejected, after),
            Stage::InReview => {
                let waits = delivery.on.is_some_and(|on| after.is_some_and(|at| on > at));
                (if waits { Stage::Approved } else { Stage::Live }, after)
            }
            Stage::Approved => (Stage::Live, Some(delivery.on.map_or(last.at, |on| on.max(last.at)))),
            _ => break,
        };
        match at.filter(|at| *at <= now) {
            Some(at) => reach(&mut delivery, next, at),
            None => break,
        }
    }
    // what the review found is told at its end
    if delivery.stage == Stage::InReview {
        delivery.because = None;
    }
    delivery
}

pub(super) fn questions(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    portal.admit(&call.headers, ApiRole::Developer)?;
    let of = |(name, asks): (&str, &str)| Question { name: name.into(), asks: asks.into() };
    answer(&List { items: QUESTIONS.map(of).into() })
}

pub(super) fn deliveries(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    portal.admit_upload(&call.headers)?;
    let now = portal.now();
    let known: Vec<Delivery> = portal.state().all(DELIVERY)?;
    // the newest first
    let items: Vec<Delivery> = known.into_iter().rev().map(|one| as_of(one, now, portal.looks)).collect();
    answer(&List { items })
}

/// The build, as it was kept and as it stands.
fn find(
    database: &Connection,
    id: &str,
    (now, looks): (Timestamp, SignedDuration),
) -> Result<(Delivery, Delivery), Refusal> {
    let found: Option<Delivery> = state::one(database, DELIVERY, id)?;
    let found = found.ok_or_else(|| Refusal::unknown(format!("there is no build {id} at the store")))?;
    Ok((found.clone(), as_of(found, now, looks)))
}

pub(super) fn advance(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    let id = call.part(0);
    portal.admit(&call.headers, ApiRole::Manager)?;
    let wanted: Advance = read(&call.body)?;
    let now = portal.now();
    let said = portal.state().change(|database, _| {
        let (kept, mut found) = find(database, id, (now, portal.looks))?;
        match wanted.to {
            Stage::Testing => to_testers(database, &mut found, &wanted, now)?,
            Stage::Live => to_everyone(database, (&kept, &mut found), &wanted, now)?,
            other if other == found.stage => return Ok(found),
            other => return Err(out_of_order(found.stage, other)),
        }
        state::put(database, DELIVERY, id, now, &found)?;
        // what the review will find is not told before its end
        Ok::<_, Refusal>(as_of(found, now, portal.looks))
    })?;
    answer(&said)
}

fn out_of_order(now: Stage, wanted: Stage) -> Refusal {
    let detail = format!("a build that is {} does not go to {}", now.words(), wanted.words());
    Refusal::rule("stage-out-of-order", detail).values(now.words(), wanted.words())
}

fn to_testers(
    database: &Connection,
    found: &mut Delivery,
    wanted: &Advance,
    now: Timestamp,
) -> Result<(), Refusal> {
    if !matches!(found.stage, Stage::Ready | Stage::Testing) {
        return Err(out_of_order(found.stage, Stage::Testing));
    }
    let groups: Vec<Group> = state::all(database, GROUP)?;
    let own = Tried { platform: found.platform, id: found.id.clone() };
    let tries = |group: &&Group| group.tries.is_empty() || group.tries.contains(&own);
    let mut of_it: Vec<String> = Vec::new();
    for name in &wanted.groups {
        let known = groups.iter().find(|group| group.group == *name);
        let known = known.ok_or_else(|| Refusal::unknown(format!("there is no group {name}")))?;
        if !tries(&known) {
            let detail = format!("the group {name} does not try {}", found.id);
            let tries: Vec<&str> = known.tries.iter().map(|one| one.id.as_str()).collect();
            return Err(Refusal::rule("group-of-another-app", detail).values(&found.id, tries.join(", ")));
        }
        of_it.push(name.clone());
    }
    if wanted.groups.is_empty() {
        let inside = groups.iter().filter(tries).filter(|group| !group.outside);
        of_it.extend(inside.map(|group| group.group.clone()));
    }
    for name in of_it {
        if !found.groups.contains(&name) {
            found.groups.push(name);
        }
    }
    if found.stage != Stage::Testing {
        reach(found, Stage::Testing, now);
    }
    Ok(())
}

fn to_everyone(
    database: &Connection,
    (kept, found): (&Delivery, &mut Delivery),
    wanted: &Advance,
    now: Timestamp,
) -> Result<(), Refusal> {
    if wanted.share.is_some_and(|share| !(1..=100).contains(&share)) {
        return Err(Refusal::malformed("a share is 1 to 100 percent"));
    }
    match found.stage {
        Stage::Ready | Stage::Testing => {
            let review = wanted.review.as_ref().ok_or_else(|| {
                Refusal::rule("review-incomplete", "nothing was said to the people of the review")
            })?;
            found.because = judge_review(database, found.delivery.as_str(), review)?;
            reach(found, Stage::InReview, now);
            found.on = wanted.on;
        }
        // what its review will find stays as it is
        Stage::InReview => {
            found.because.clone_from(&kept.because);
            found.on = wanted.on.or(found.on);
        }
        Stage::Approved => found.on = wanted.on,
        Stage::Live => {
            let (has, wants) = (found.share.unwrap_or(100), wanted.share.unwrap_or(100));
            if wants < has {
                let detail = format!("{has} % have it, and nobody who has it loses it");
                return Err(Refusal::rule("share-not-higher", detail).values(wants, has));
            }
            found.held = false;
        }
        other => return Err(out_of_order(other, Stage::Live)),
    }
    found.share = wanted.share.filter(|share| *share < 100);
    Ok(())
}

/// Whether the people of the review are told what they have to know; then what they will say against the build, if anything.
fn judge_review(database: &Connection, id: &str, review: &Review) -> Result<Option<String>, Refusal> {
    let incomplete = |what: &str, needed: &str| {
        Refusal::rule(
            "review-incomplete",
            format!("{what} is missing, or longer than {MOST_TEXT} characters"),
        )
        .values("nothing", needed)
    };
    let good = |text: &str| !text.trim().is_empty() && text.chars().count() <= MOST_TEXT;
    if !good(&review.whats_new) {
        return Err(incomplete("what is new", "a text for those who use the app"));
    }
    if !good_line(&review.contact.name) || !good_line(&review.contact.email) {
        return Err(incomplete("the contact", "a name and an address for mail"));
    }
    if review.notes.as_ref().is_some_and(|notes| !good(notes)) {
        return Err(incomplete("a note", "a text for the people of the review"));
    }
    let open = QUESTIONS.iter().find(|(name, _)| !review.declarations.contains_key(*name));
    if let Some((name, asks)) = open {
        return Err(incomplete(&format!("the answer to {name} ({asks})"), "true or false"));
    }
    let asks: Option<Vec<String>> = state::one(database, ASKS, id)?;
    let place = asks.unwrap_or_default().into_iter().find(|one| one.to_ascii_lowercase().contains(LOCATION));
    let declared: &BTreeMap<String, bool> = &review.declarations;
    Ok(place.filter(|_| declared.get(LOCATION) == Some(&false)).map(|asked| {
        format!("it asks people where they are ({asked}), and `{LOCATION}` is declared as false")
    }))
}

pub(super) fn hold(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    let id = call.part(0);
    portal.admit(&call.headers, ApiRole::Manager)?;
    let now = portal.now();
    let said = portal.state().change(|database, _| {
        let (_, mut found) = find(database, id, (now, portal.looks))?;
        if found.stage != Stage::Live || found.share.is_none() {
            let detail = "only a build that a share of people has can be held";
            return Err(
                Refusal::rule("stage-out-of-order", detail).values(found.stage.words(), "live, for a share")
            );
        }
        found.held = true;
        state::put(database, DELIVERY, id, now, &found)?;
        Ok::<_, Refusal>(found)
    })?;
    answer(&said)
}
