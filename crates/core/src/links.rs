//! Both ways of an item's links: what it needs, and what stops without it, from when on, in which apps and destinations.

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;

use crate::ios::setup::allows_device;
use crate::model::{
    App, Destination, Facts, IdentityPurpose, Inventory, Item, ItemId, KeystoreFacts, ProfileFacts, Project,
    Role, State,
};

/// Something that an item needs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Need {
    /// Its name.
    pub name: String,
    /// The word for its kind.
    pub kind: &'static str,
    /// Until when it is good.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub not_after: Option<Timestamp>,
}

/// What an app can no longer do.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Stops {
    /// No update can be signed that a device takes.
    Updates,
    /// The store takes no build.
    Uploads,
    /// No build can be signed.
    Builds,
    /// No notification can be sent.
    Notifications,
    /// No call can be made to the portal or the store.
    Calls,
    /// A device runs no build.
    Device,
}

impl Stops {
    /// In words.
    pub fn words(self) -> &'static str {
        match self {
            Stops::Updates => "no update that devices take",
            Stops::Uploads => "no upload",
            Stops::Builds => "no new build",
            Stops::Notifications => "no notifications",
            Stops::Calls => "no calls to portal or store",
            Stops::Device => "no build runs on it",
        }
    }
}

/// What stops in an app.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
pub struct Stop {
    /// The app's name.
    pub app: String,
    /// What people call it.
    pub title: String,
    /// Where its builds go, where that matters.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub destination: Option<Destination>,
    /// What stops.
    pub what: Stops,
    /// The item in between.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub through: Option<String>,
    /// When it stops by itself; nothing for what does not end.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from: Option<Timestamp>,
}

/// When an item ends.
pub fn end_of(inventory: &Inventory, item: &Item) -> Option<Timestamp> {
    match &item.facts {
        Facts::Certificate(facts) => Some(facts.not_after),
        Facts::Identity(facts) => end_at(inventory, facts.certificate.as_ref()?),
        Facts::Profile(facts) => Some(facts.not_after),
        Facts::Keystore(facts) => {
            facts.entries.iter().filter_map(|entry| end_at(inventory, &entry.certificate)).min()
        }
        _ => None,
    }
}

fn end_at(inventory: &Inventory, certificate: &ItemId) -> Option<Timestamp> {
    inventory.certificate(certificate).map(|facts| facts.not_after)
}

/// The items that an item names, by kind and name.
pub fn needs(inventory: &Inventory, item: &Item) -> Vec<Need> {
    let mut needs: Vec<Need> = item
        .facts
        .links()
        .into_iter()
        .filter_map(|id| inventory.get(id))
        .map(|need| Need {
            name: need.name.clone(),
            kind: need.facts.word(),
            not_after: end_of(inventory, need),
        })
        .collect();
    needs.sort_by(|a, b| (a.kind, &a.name).cmp(&(b.kind, &b.name)));
    needs.dedup();
    needs
}

/// Looks for what stops without something.
struct Look<'a> {
    inventory: &'a Inventory,
    project: Option<&'a Project>,
    stops: Vec<Stop>,
}

/// What stops without an item, in the order of apps.
pub fn stops(inventory: &Inventory, project: Option<&Project>, item: &Item) -> Vec<Stop> {
    let mut look = Look { inventory, project, stops: Vec::new() };
    look.at(item);
    look.stops.sort();
    look.stops.dedup();
    look.stops
}

impl<'a> Look<'a> {
    fn at(&mut self, item: &'a Item) {
        match &item.facts {
            Facts::Keystore(facts) => self.keystore(facts, None),
            Facts::Identity(facts) => {
                let end = end_of(self.inventory, item);
                match facts.purpose {
                    IdentityPurpose::Push(_) => {
                        let stop = |app: &String| (app.clone(), None, Stops::Notifications, None, end);
                        facts.apps.iter().map(stop).collect::<Vec<_>>().into_iter().for_each(|s| self.put(s));
                    }
                    _ => {
                        let names = |profile: &ProfileFacts| {
                            facts.certificate.is_some_and(|id| profile.certificates.contains(&id))
                        };
                        self.profiles(Stops::Builds, end, names);
                    }
                }
            }
            Facts::Profile(facts) => self.profile(facts, Stops::Builds, None, None),
            Facts::Device(facts) => {
                let inventory = self.inventory;
                self.profiles(Stops::Device, None, |profile| {
                    allows_device(inventory, profile, &facts.identifier)
                });
            }
            Facts::ApiKey(facts) => {
                for app in &facts.apps {
                    self.put((app.clone(), None, Stops::Calls, None, None));
                }
            }
            Facts::Key(_) | Facts::Certificate(_) => self.holders(item),
            Facts::Release(_) | Facts::HandOut(_) | Facts::Rotation(_) | Facts::Date(_) => {}
        }
    }

    /// What stops with whatever holds a key or a certificate: of a keystore only what that key is for.
    fn holders(&mut self, item: &'a Item) {
        let inventory = self.inventory;
        for holder in active(inventory) {
            match &holder.facts {
                Facts::Keystore(facts) => self.keystore(facts, Some(&item.id)),
                Facts::Identity(facts)
                    if facts.key == Some(item.id) || facts.certificate == Some(item.id) =>
                {
                    self.at(holder);
                }
                Facts::ApiKey(facts) if facts.key == Some(item.id) => self.at(holder),
                _ => {}
            }
        }
    }

    /// What stops without the keys of a keystore, or without the one that names `only`.
    fn keystore(&mut self, facts: &KeystoreFacts, only: Option<&ItemId>) {
        for entry in &facts.entries {
            if only.is_some_and(|id| entry.key != *id && entry.certificate != *id) {
                continue;
            }
            let end = end_at(self.inventory, &entry.certificate);
            for role in entry.roles() {
                let what = if role == Role::Signing { Stops::Updates } else { Stops::Uploads };
                for app in entry.apps_as(role) {
                    for destination in self.destinations(app, role) {
                        self.put((app.to_owned(), destination, what, None, end));
                    }
                }
            }
        }
    }

    /// Where an Android app's builds go that are signed in this role; one place that is not known, without a project file.
    fn destinations(&self, app: &str, role: Role) -> Vec<Option<Destination>> {
        let android = self.app(app).and_then(|app| app.android.as_ref());
        match (role, android) {
            (Role::Upload, _) => vec![Some(Destination::Store)],
            (Role::Signing, Some(android)) if !android.destinations.is_empty() => {
                android.destinations.iter().copied().map(Some).collect()
            }
            (Role::Signing, _) => vec![None],
        }
    }

    /// What stops with the profiles in use of which something holds.
    fn profiles(&mut self, what: Stops, end: Option<Timestamp>, holds: impl Fn(&ProfileFacts) -> bool) {
        let inventory = self.inventory;
        for item in active(inventory) {
            if let Facts::Profile(facts) = &item.facts
                && holds(facts)
            {
                self.profile(facts, what, Some(&item.name), end);
            }
        }
    }

    fn profile(&mut self, facts: &ProfileFacts, what: Stops, through: Option<&str>, end: Option<Timestamp>) {
        let from = end.map_or(facts.not_after, |end| end.min(facts.not_after));
        for app in &facts.apps {
            let through = through.map(str::to_owned);
            self.put((app.clone(), Some(facts.destination), what, through, Some(from)));
        }
    }

    fn app(&self, name: &str) -> Option<&'a App> {
        self.project?.apps.iter().find(|(known, _)| known.as_str() == name).map(|(_, app)| app)
    }

    fn put(
        &mut self,
        (app, destination, what, through, from): (
            String,
            Option<Destination>,
            Stops,
            Option<String>,
            Option<Timestamp>,
        ),
    ) {
        let title = self.app(&app).map_or_else(|| app.clone(), |known| known.title.clone());
        self.stops.push(Stop { app, title, destination, what, through, from });
    }
}

fn active(inventory: &Inventory) -> impl Iterator<Item = &Item> {
    inventory.iter().filter(|item| item.state == State::Active)
}
