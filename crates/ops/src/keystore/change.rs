//! `keystore change`: names, aliases, apps, kinds and passwords; the keys stay what they are.

use ninekeys_cabinet::{CabinetError, Change};
use ninekeys_core::model::{Facts, Inventory, Item, KeystoreEntry, KeystoreFacts, Role, check_name};
use serde::Serialize;

use crate::ctx::Ctx;
use crate::keystore::{self, KeystoreError, NewPassword, OtherKey};

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
    /// What the key is for from now on.
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
#[derive(Debug, Serialize)]
pub struct KeystoreChangeReport {
    /// The keystore's name now.
    pub name: String,
    /// What was changed, a sentence each.
    pub changed: Vec<String>,
    /// The key that alias, kind or apps were changed of.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub key: Option<ChangedKey>,
    /// Whether a chosen password is easy to guess.
    pub weak_password: bool,
}

/// A key whose place was changed, and not itself.
#[derive(Debug, Serialize)]
pub struct ChangedKey {
    /// Its alias now.
    pub alias: String,
    /// What it is for.
    pub role: Role,
    /// SHA-256 of the public key: as before.
    pub key_fingerprint: String,
    /// Every app that it is for, in any keystore.
    pub apps: Vec<String>,
    /// Other keys of this kind that its apps have.
    pub others: Vec<OtherKey>,
}

/// Changes the keystore.
///
/// # Errors
/// [`KeystoreError`]; then the cabinet is as it was.
pub fn keystore_change(ctx: &Ctx<'_>, mut request: Request) -> Result<KeystoreChangeReport, KeystoreError> {
    if !request.touches_a_key() && request.new_name.is_none() && request.password.is_none() {
        return Err(KeystoreError::NothingToChange);
    }
    if let Some(name) = &request.new_name {
        check_name(name)?;
    }
    if let Some(alias) = &request.new_alias {
        keystore::check_alias(alias)?;
    }
    let add: Vec<String> =
        keystore::apps(ctx, &request.add_apps)?.into_iter().map(|(name, _)| name).collect();
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
        Ok::<_, KeystoreError>((plan, key))
    })?;
    let inventory = cabinet.inventory()?;
    let key = key.map(|(_, entry)| changed_key(&inventory, &entry));
    let weak_password = plan.facts.weak_password;
    Ok(KeystoreChangeReport { name: plan.item.name, changed: plan.changed, key, weak_password })
}

fn changed_key(inventory: &Inventory, entry: &KeystoreEntry) -> ChangedKey {
    let fingerprint = keystore::key_facts(inventory, entry).map(|facts| facts.fingerprint.clone());
    let fingerprint = fingerprint.unwrap_or_default();
    ChangedKey {
        others: keystore::others(inventory, &entry.apps, entry.role, &fingerprint),
        alias: entry.alias.clone(),
        role: entry.role,
        apps: keystore::apps_of_key(inventory, &entry.key),
        key_fingerprint: fingerprint,
    }
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
    ) -> Result<(Plan, Option<(String, KeystoreEntry)>), KeystoreError> {
        let (item, facts) = keystore::find(inventory, &request.name)?;
        let mut plan = Plan { item: item.clone(), facts: facts.clone(), changed: Vec::new() };
        let key = if request.touches_a_key() { Some(plan.change_key(request, add)?) } else { None };
        if let Some(name) = &request.new_name {
            plan.rename(inventory, name)?;
        }
        Ok((plan, key))
    }

    fn rename(&mut self, inventory: &Inventory, name: &str) -> Result<(), KeystoreError> {
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
    ) -> Result<(String, KeystoreEntry), KeystoreError> {
        let place = self.item.name.clone();
        let wanted = keystore::entry(&place, &self.facts, request.alias.as_deref())?.alias.clone();
        if let Some(alias) = &request.new_alias {
            let taken =
                |entry: &KeystoreEntry| entry.alias != wanted && entry.alias.eq_ignore_ascii_case(alias);
            if self.facts.entries.iter().any(taken) {
                return Err(KeystoreError::AliasTaken { place, alias: alias.clone() });
            }
        }
        let changed = &mut self.changed;
        let found = self.facts.entries.iter_mut().find(|entry| entry.alias == wanted);
        let entry = found.ok_or(KeystoreError::NothingToChange)?;
        if let Some(alias) = &request.new_alias {
            changed.push(format!("the alias {wanted} is {alias} from now on"));
            entry.alias = alias.clone();
        }
        if let Some(role) = request.role {
            changed.push(format!("it is kept as the {}", role.nine_key().word()));
            entry.role = role;
        }
        for app in add.iter().filter(|app| !entry.apps.contains(app)).cloned().collect::<Vec<_>>() {
            changed.push(format!("it is for {app} as well"));
            entry.apps.push(app);
        }
        for app in &request.drop_apps {
            if !entry.apps.contains(app) {
                let (app, alias) = (app.clone(), entry.alias.clone());
                return Err(KeystoreError::NotForApp { alias, app });
            }
            changed.push(format!("it is not for {app} any more"));
            entry.apps.retain(|name| name != app);
        }
        Ok((wanted, entry.clone()))
    }
}

/// Keys and certificates are named below their keystore: they follow its name and their alias.
fn rename_parts(
    change: &mut Change<'_>,
    before: &str,
    after: &str,
    key: Option<&(String, KeystoreEntry)>,
) -> Result<(), KeystoreError> {
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
