//! `keystore change`: names, aliases, apps, kinds and passwords; the keys stay what they are.

use ninekeys_cabinet::{CabinetError, Change};
use ninekeys_core::model::{
    Facts, Inventory, Item, KeystoreEntry, KeystoreFacts, NameError, Role, Use, check_name,
};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::answers::KeySaid;
use crate::ctx::{Ctx, OpenError};
use crate::keystore::{
    self, AliasError, AliasTaken, AppsError, FindError, NewPassword, OtherKey, PasswordChoiceError,
};

/// What is to be changed.
#[derive(Debug)]
pub struct Request {
    /// The keystore.
    pub name: String,
    /// The key that alias, kind and apps are changed of; its only one when nothing is said.
    pub alias: Option<String>,
    /// The keystore's new name.
    pub new_name: Option<String>,
    /// The key's new alias.
    pub new_alias: Option<String>,
    /// What the key is from now on: for the apps that are added or dropped, or for all of them when none is.
    pub role: Option<Role>,
    /// Apps that the key is for as well.
    pub add_apps: Vec<String>,
    /// Apps that it is not for any more.
    pub drop_apps: Vec<String>,
    /// The new password.
    pub password: Option<NewPassword>,
}

impl Request {
    fn touches_a_key(&self) -> bool {
        let apps = self.add_apps.len() + self.drop_apps.len();
        self.new_alias.is_some() || self.role.is_some() || apps > 0
    }
}

/// What was changed.
#[derive(Debug, Serialize, JsonSchema)]
pub struct KeystoreChangeReport {
    /// The keystore's name now.
    pub keystore: String,
    /// What was changed, a sentence each.
    pub changed: Vec<String>,
    /// The key that alias, kind or apps were changed of.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub key: Option<ChangedKey>,
    /// Whether a chosen password is easy to guess.
    pub weak_password: bool,
}

/// A key whose place was changed, and not itself.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ChangedKey {
    /// Its alias now.
    pub alias: String,
    /// The key: as before.
    pub key: KeySaid,
    /// What it is for, in any keystore.
    pub uses: Vec<Use>,
    /// Other keys of the same kind that its apps have.
    pub others: Vec<OtherKey>,
}

/// Why nothing was changed.
#[derive(Debug, Error)]
pub enum ChangeError {
    /// Nothing to be changed was named.
    #[error("nothing was named that should be changed")]
    NothingToChange,
    /// The new name cannot be one.
    #[error(transparent)]
    Name(#[from] NameError),
    /// The new alias cannot be one.
    #[error(transparent)]
    Alias(#[from] AliasError),
    /// The new alias is another's.
    #[error(transparent)]
    AliasTaken(#[from] AliasTaken),
    /// The apps.
    #[error(transparent)]
    Apps(#[from] AppsError),
    /// A key is to be taken off an app that it is not for.
    #[error("the key {alias} is not for {app}")]
    NotForApp {
        /// The keystore.
        keystore: String,
        /// Its alias.
        alias: String,
        /// The app.
        app: String,
    },
    /// The keystore or its key.
    #[error(transparent)]
    Find(#[from] FindError),
    /// The new password.
    #[error(transparent)]
    Password(#[from] PasswordChoiceError),
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

/// Changes the keystore.
///
/// # Errors
/// [`ChangeError`]; then the cabinet is as it was.
pub fn keystore_change(ctx: &Ctx<'_>, mut request: Request) -> Result<KeystoreChangeReport, ChangeError> {
    if !request.touches_a_key() && request.new_name.is_none() && request.password.is_none() {
        return Err(ChangeError::NothingToChange);
    }
    if let Some(name) = &request.new_name {
        check_name(name)?;
    }
    if let Some(alias) = &request.new_alias {
        keystore::check_alias(alias)?;
    }
    let add: Vec<String> = keystore::apps(ctx, &request.add_apps)?.into_iter().map(|one| one.app).collect();
    let mut cabinet = ctx.open()?;
    // a request that cannot be is refused before the passphrase is asked for
    let inventory = cabinet.inventory()?;
    Plan::make(&inventory, &request, &add)?;
    ctx.unlock(&mut cabinet)?;
    let mut secret = None;
    let mut weak = None;
    if let Some(new) = request.password.take() {
        let known = [request.name.as_str()];
        let (chosen, is_weak) = keystore::choose_password(ctx, new, &known)?;
        weak = Some(is_weak);
        secret = Some(keystore::as_bytes(&chosen));
    }
    let what = format!("keystore change {}", request.name);
    let (plan, key) = cabinet.change(&what, &ctx.env, |change| {
        // planned again under the lock, on what is there now
        let inventory = change.inventory();
        let before = keystore::find(&inventory, &request.name)?.0.name.clone();
        let (mut plan, key) = Plan::make(&inventory, &request, &add)?;
        if let Some(weak) = weak {
            plan.changed.push("it has a new password; what was exported before keeps the old one".into());
            plan.facts.weak_password = weak;
            plan.facts.foreign_password = false;
        }
        plan.item.facts = Facts::Keystore(plan.facts.clone());
        change.revise(&plan.item, secret)?;
        rename_parts(change, &before, &plan.item.name, key.as_ref())?;
        Ok::<_, ChangeError>((plan, key))
    })?;
    let inventory = cabinet.inventory()?;
    let key = key.and_then(|(_, entry)| changed_key(&inventory, &entry));
    let weak_password = plan.facts.weak_password;
    Ok(KeystoreChangeReport { keystore: plan.item.name, changed: plan.changed, key, weak_password })
}

fn changed_key(inventory: &Inventory, entry: &KeystoreEntry) -> Option<ChangedKey> {
    let key = keystore::key_facts(inventory, entry).map(KeySaid::from)?;
    let others = |role| {
        let apps: Vec<String> = entry.apps_as(role).into_iter().map(str::to_owned).collect();
        keystore::others(inventory, &apps, role, &key.sha256)
    };
    Some(ChangedKey {
        others: entry.roles().into_iter().flat_map(others).collect(),
        alias: entry.alias.clone(),
        uses: keystore::uses_of_key(inventory, &entry.key),
        key,
    })
}

/// The keystore as it will be, and what is said of it.
struct Plan {
    item: Item,
    facts: KeystoreFacts,
    changed: Vec<String>,
}

impl Plan {
    /// What a keystore becomes by a request; and the alias of the key that is changed, with what it becomes.
    fn make(
        inventory: &Inventory,
        request: &Request,
        add: &[String],
    ) -> Result<(Plan, Option<(String, KeystoreEntry)>), ChangeError> {
        let (item, facts) = keystore::find(inventory, &request.name)?;
        let mut plan = Plan { item: item.clone(), facts: facts.clone(), changed: Vec::new() };
        let key = if request.touches_a_key() { Some(plan.change_key(request, add)?) } else { None };
        if let Some(name) = &request.new_name {
            plan.rename(inventory, name)?;
        }
        Ok((plan, key))
    }

    fn rename(&mut self, inventory: &Inventory, name: &str) -> Result<(), ChangeError> {
        let taken = |other: &Item| other.id != self.item.id && other.name.eq_ignore_ascii_case(name);
        if inventory.iter().any(taken) {
            return Err(CabinetError::NameTaken(name.into()).into());
        }
        self.changed.push(format!("{} is called {name} from now on", self.item.name));
        self.item.name = name.into();
        Ok(())
    }

    /// Changes one key's alias, kind and apps; returns its alias before and its entry now.
    fn change_key(
        &mut self,
        request: &Request,
        add: &[String],
    ) -> Result<(String, KeystoreEntry), ChangeError> {
        let place = self.item.name.clone();
        let wanted = keystore::entry(&place, &self.facts, request.alias.as_deref())?.alias.clone();
        if let Some(alias) = &request.new_alias {
            let taken =
                |entry: &KeystoreEntry| entry.alias != wanted && entry.alias.eq_ignore_ascii_case(alias);
            if self.facts.entries.iter().any(taken) {
                return Err(AliasTaken { place: place.clone(), alias: alias.clone() }.into());
            }
        }
        let changed = &mut self.changed;
        let found = self.facts.entries.iter_mut().find(|entry| entry.alias == wanted);
        let entry = found.ok_or(ChangeError::NothingToChange)?;
        if let Some(alias) = &request.new_alias {
            changed.push(format!("the alias {wanted} is {alias} from now on"));
            entry.alias = alias.clone();
        }
        change_uses(&place, entry, request, add, changed)?;
        Ok((wanted, entry.clone()))
    }
}

/// Changes what a key is for. A kind that is named without an app is what it is for all of them.
fn change_uses(
    keystore: &str,
    entry: &mut KeystoreEntry,
    request: &Request,
    add: &[String],
    changed: &mut Vec<String>,
) -> Result<(), ChangeError> {
    let everywhere = add.is_empty() && request.drop_apps.is_empty();
    if let Some(role) = request.role.filter(|_| everywhere) {
        changed.push(format!("it is kept as the {}", role.nine_key().word()));
        entry.role = role;
        entry.uses.iter_mut().for_each(|one| one.role = role);
        entry.uses.dedup();
    }
    let role = request.role.unwrap_or(entry.role);
    for app in add {
        if !entry.is_for(app, role) {
            changed.push(format!("it is the {} of {app} as well", role.nine_key().word()));
            entry.uses.push(Use { app: app.clone(), role });
        }
    }
    for app in &request.drop_apps {
        let dropped = |one: &Use| one.app == *app && request.role.is_none_or(|role| one.role == role);
        if !entry.uses.iter().any(dropped) {
            let (app, alias) = (app.clone(), entry.alias.clone());
            return Err(ChangeError::NotForApp { keystore: keystore.into(), alias, app });
        }
        entry.uses.retain(|one| !dropped(one));
        changed.push(match entry.apps().contains(&app.as_str()) {
            true => format!("it is not the {} of {app} any more", role.nine_key().word()),
            false => format!("it is not for {app} any more"),
        });
    }
    Ok(())
}

/// Keys and certificates are named below their keystore: they follow its name and their alias.
fn rename_parts(
    change: &mut Change<'_>,
    before: &str,
    after: &str,
    key: Option<&(String, KeystoreEntry)>,
) -> Result<(), ChangeError> {
    for item in change.inventory().iter() {
        let Some(rest) = item.name.strip_prefix(&format!("{before}/")) else { continue };
        let (alias, end) = match rest.strip_suffix("/certificate") {
            Some(alias) => (alias, "/certificate"),
            None => (rest, ""),
        };
        let name = match key {
            Some((old, entry)) if item.name == keystore::part_name(before, old) + end => {
                keystore::part_name(after, &entry.alias) + end
            }
            _ => format!("{after}/{alias}{end}"),
        };
        if name != item.name {
            let mut item = item.clone();
            item.name = name;
            change.revise(&item, None)?;
        }
    }
    Ok(())
}
