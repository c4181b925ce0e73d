//! Drafts of rotations, over made-up inventories.

#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests fail by panicking")]

#[path = "common/made_up.rs"]
mod made_up;

use made_up::{id, identity, profile, time, written};
use ninekeys_core::model::{App, Does, Facts, HandOutFacts, Inventory, Ios, Item, Name, Project, State};
use ninekeys_core::rotation::{self, Draft, Order, PlanError, View};
use serde_json::json;

const NOW: &str = "2031-05-19T12:00:00Z";

fn project() -> Project {
    let share = Name::new("share").unwrap();
    let ios = Ios {
        bundle_id: "example.crossing".into(),
        extensions: [(share, "example.crossing.share".to_owned())].into(),
        ..Ios::default()
    };
    let app = App { title: "Crossing".into(), ios: Some(ios), ..App::default() };
    Project { apps: [(Name::new("crossing").unwrap(), app)].into(), ..Project::default() }
}

fn order(what: &[&str]) -> Order {
    Order { rotates: what.iter().map(|&name| name.to_owned()).collect(), ..Order::default() }
}

fn draft(items: &[Item], what: &[&str]) -> Result<Draft, PlanError> {
    let inventory = Inventory::new(items.to_vec());
    let project = project();
    let view = View { project: &project, inventory: &inventory, now: time(NOW) };
    rotation::draft(view, &order(what), "c")
}

/// The words of the steps, in order.
fn words(draft: &Draft) -> Vec<String> {
    let word = |does: &Does| serde_json::to_value(does).unwrap()["does"].as_str().unwrap().to_owned();
    draft.step.iter().map(|step| word(&step.does)).collect()
}

/// A distribution identity that falls due, with the profiles of an app and of its extension.
fn due() -> Vec<Item> {
    let mut items = identity(1, "gp", &json!("distribution"), "2031-06-11T12:00:00Z");
    items.push(profile(10, "store", "example.crossing", 3, "2031-06-11T12:00:00Z"));
    items.push(profile(11, "share", "example.crossing.share", 3, "2031-06-11T12:00:00Z"));
    items
}

#[test]
fn what_is_needed_first_is_made_first_and_what_is_old_goes_last() {
    let made = draft(&due(), &["gp"]).unwrap();
    assert_eq!(
        words(&made),
        [
            "make-identity",
            "get-certificate",
            "get-profile",
            "get-profile",
            "prove-build",
            "change-settings",
            "retire",
            "retire",
            "retire"
        ]
    );
    let names: Vec<&str> = made.stands.iter().map(|one| one.item.as_str()).collect();
    assert_eq!(names, ["gp", "store", "share"], "an app's profile before its extension's");
    assert_eq!(made.meanwhile.len(), 3);
    let Does::GetProfile { profile, identity, .. } = &made.step[2].does else { panic!("{:?}", made.step[2]) };
    assert_eq!((profile.as_str(), identity.as_str()), ("crossing-store-2031", "distribution-2032"));
    let last = made.step.last().unwrap();
    assert!(
        matches!(&last.does, Does::Retire { item, successor } if item == "gp" && successor == "distribution-2032")
    );
    assert!(last.why.contains("runs out on 11 Jun 2031"), "{}", last.why);
    // the same again, and with what it takes with it named too
    assert_eq!(draft(&due(), &["gp"]).unwrap(), made);
    assert_eq!(words(&draft(&due(), &["store", "gp", "share"]).unwrap()), words(&made));
}

#[test]
fn one_that_is_there_and_good_for_long_enough_is_the_successor() {
    let mut items = due();
    items.extend(identity(20, "next", &json!("distribution"), "2032-05-01T12:00:00Z"));
    let made = draft(&items, &["gp"]).unwrap();
    assert_eq!(words(&made)[0], "get-profile", "nothing is made that is there");
    items.push(profile(30, "store-new", "example.crossing", 22, "2032-05-01T12:00:00Z"));
    let made = draft(&items, &["gp"]).unwrap();
    assert_eq!(words(&made).iter().filter(|word| *word == "get-profile").count(), 1, "{:?}", words(&made));
    // one that ends soon too is none, and can make room where nothing uses it
    let mut items = due();
    items.extend(identity(20, "idle", &json!("distribution"), "2031-06-01T12:00:00Z"));
    let made = draft(&items, &["gp"]).unwrap();
    assert!(
        matches!(&made.step[1].does, Does::GetCertificate { makes_room: Some(idle), .. } if idle == "idle")
    );
}

#[test]
fn push_identities_go_to_a_server_and_whoever_was_given_something_is_told() {
    let mut items = identity(1, "push", &json!({"push": "production"}), "2031-06-11T12:00:00Z");
    let given = HandOutFacts {
        receiver: "Shipyard".into(),
        app: "crossing".into(),
        destination: ninekeys_core::model::Destination::Store,
        given: vec![ninekeys_core::model::GivenItem {
            item: id(1),
            name: "push".into(),
            file: "p.p12".into(),
        }],
        at: time("2031-01-01T00:00:00Z"),
        by: "me".into(),
    };
    items.push(Item {
        facts: Facts::HandOut(Box::new(given)),
        ..written(40, "given~1", &json!({"kind": "device", "identifier": "x", "title": "x"}))
    });
    let made = draft(&items, &["push"]).unwrap();
    assert_eq!(
        words(&made),
        ["make-identity", "get-certificate", "prove-key", "change-server", "tell", "retire"]
    );
    assert!(made.step[3].does.is_a_persons() && made.step[4].does.is_a_persons());
    let said = rotation::said(&made.step[4].does);
    assert_eq!(said, "give Shipyard the new material of crossing for the store");
}

#[test]
fn what_cannot_be_replaced_says_why() {
    let mut items = due();
    items.push(written(50, "pier", &json!({"kind": "device", "identifier": "x", "title": "x"})));
    let refused = |what: &str, items: &[Item]| draft(items, &[what]).unwrap_err().to_string();
    assert_eq!(refused("pier", &items), "pier is a device, and nothing takes the place of one");
    assert_eq!(refused("nothing", &items), "nothing in the cabinet is called `nothing`");
    items[0].state = State::Retired;
    assert_eq!(refused("gp", &items), "gp is retired, and nothing uses it");
    items[0].state = State::Active;
    let Facts::Identity(facts) = &mut items[0].facts else { panic!() };
    facts.key = None;
    assert_eq!(refused("gp", &items), "gp is not whole: its private key is not here");
    // a profile alone needs an identity that could sign with it
    assert!(refused("store", &items).contains("there is no distribution identity"));
}

#[test]
fn due_is_what_ends_in_time_and_can_be_replaced() {
    let mut items = due();
    items.extend(identity(20, "later", &json!("development"), "2032-05-01T12:00:00Z"));
    items.push(profile(30, "stranger", "example.other", 3, "2031-06-01T12:00:00Z"));
    let inventory = Inventory::new(items);
    let project = project();
    let view = View { project: &project, inventory: &inventory, now: time(NOW) };
    let (names, left) = rotation::due(view, 60).unwrap();
    assert_eq!(
        (names.as_slice(), left.len()),
        (["gp", "share", "store", "stranger"].map(str::to_owned).as_slice(), 0)
    );
    assert_eq!(rotation::due(view, 3), Err(PlanError::NothingDue(3)));
    let made = rotation::draft(view, &order(&["gp"]), "c").unwrap();
    let after = words(&made);
    assert!(
        after.contains(&"look-after".to_owned()),
        "a profile of no app is somebody's to look after: {after:?}"
    );
}

#[test]
fn a_draft_says_what_is_other_than_when_it_was_made() {
    let made = draft(&due(), &["gp"]).unwrap();
    let against = |items: &[Item]| {
        let inventory = Inventory::new(items.to_vec());
        let now = draft(items, &["gp"]);
        now.map(|now| rotation::differences(&made, &now, &inventory))
            .unwrap_or_else(|error| vec![error.to_string()])
    };
    assert_eq!(against(&due()), [""; 0]);
    let mut items = due();
    items[3].revision = 2;
    assert_eq!(against(&items), ["store was changed since (revision 1, and it is 2)"]);
    items[3].state = State::Retired;
    assert_eq!(against(&items), ["store is retired"]);
    items.remove(3);
    assert_eq!(against(&items), ["store is not in the cabinet any more"]);
    let mut items = due();
    items.push(profile(12, "third", "example.crossing", 3, "2031-06-11T12:00:00Z"));
    assert_eq!(against(&items), ["third has come to it"]);
    let mut edited = made.clone();
    edited.step.remove(0);
    let inventory = Inventory::new(due());
    let said = rotation::differences(&edited, &made, &inventory);
    assert!(said[0].starts_with("step 1 says \"have a certificate issued"), "{said:?}");
}
