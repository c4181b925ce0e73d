//! Steps of keystores: a new key is made, filed, handed over to, and takes over.

use ninekeys_cabinet::{CabinetError, NewItem};
use ninekeys_core::android::{Lineage, verify_lineage};
use ninekeys_core::certificate::{Subject, self_signed};
use ninekeys_core::digest::{from_hex, hex};
use ninekeys_core::keys::{Algorithm, PrivateKey};
use ninekeys_core::model::{
    Does, Facts, Item, ItemId, KeystoreEntry, KeystoreFacts, Role, RotationFacts, StoreKeys, TookOver, Use,
};
use ninekeys_core::password;
use ninekeys_core::rotation::USUAL_FROM_SDK;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::pem;
use ninekeys_formats::x509::Certificate;

use super::{Outcome, Work};
use crate::app::statement::with_colons;
use crate::ctx::Ctx;
use crate::files::{Access, Taken};
use crate::keystore::NewKey;
use crate::keystore::create::MakeError;
use crate::outgoing::Outgoing;
use crate::rotate::RotateError;
use crate::{keystore, outputs};

/// How long a new upload key is valid, in years: as long as one that `keystore create` makes.
const YEARS: u16 = 30;

pub(super) fn make_key(work: &mut Work<'_, '_>, name: &str, role: Role) -> Result<Outcome, RotateError> {
    let inventory = work.cabinet.inventory()?;
    if let Ok(known) = work.item(&inventory, name) {
        let is_ours = matches!(known.facts, Facts::Keystore(_)) && known.created >= work.facts.drafted;
        return match is_ours {
            true => Ok(Outcome::Done(vec![(name.into(), known.id)])),
            false => Err(CabinetError::NameTaken(name.into()).into()),
        };
    }
    let env = work.ctx.env;
    let secret = env.keys.make(Algorithm::Rsa3072)?;
    let key = secret.lend(|der| PrivateKey::from_pkcs8(der))?;
    let title = work.file.project.title.trim();
    let common_name = Some(if title.is_empty() { name.to_owned() } else { title.to_owned() });
    let subject = Subject { common_name, ..Subject::default() };
    let certificate = self_signed(&key, &subject, YEARS, &env).map_err(MakeError::from)?;
    let certificate = Certificate::parse(&certificate, &Limits::USUAL).map_err(MakeError::from)?;
    let password = password::generate(&env)?;
    let what = format!("rotate: make {name}");
    let id = work.cabinet.change(&what, &env, |change| {
        // what it is for is said when it takes over
        let new = NewKey { alias: name, role, apps: &[], secret, certificate: &certificate };
        let entry = keystore::put_key(change, name, new)?;
        let facts = KeystoreFacts { entries: vec![entry], weak_password: false, foreign_password: false };
        let sealed = keystore::as_bytes(&password);
        change.put(NewItem::new(name, Facts::Keystore(facts), Some(sealed)))
    })?;
    Ok(Outcome::Done(vec![(name.into(), id)]))
}

/// The one key of a keystore that a rotation made.
fn only_entry(item: &Item) -> Option<&KeystoreEntry> {
    match &item.facts {
        Facts::Keystore(facts) => facts.entries.first(),
        _ => None,
    }
}

pub(super) fn file_certificate(
    work: &mut Work<'_, '_>,
    name: &str,
    file: &str,
) -> Result<Outcome, RotateError> {
    let inventory = work.cabinet.inventory()?;
    let item = work.item(&inventory, name)?;
    let gone = || RotateError::Gone(name.into());
    let entry = only_entry(&item).ok_or_else(gone)?;
    let certificate = keystore::certificate_of(&inventory, entry).ok_or_else(gone)?;
    let der = from_hex(&certificate.der).ok_or_else(gone)?;
    let path = work.ctx.path(file.as_ref());
    outputs::refuse_ours(work.ctx, &[&path], &[])?;
    if !path.exists() {
        let text = pem::encode(pem::CERTIFICATE, &der).map(String::into_bytes).unwrap_or(der);
        Outgoing::write_whole(work.ctx, &path, &text, Access::Usual, Taken::Refuse)?;
    }
    let said: Vec<StoreSays> = stores_of(work, name)?;
    if said.is_empty() {
        let what =
            format!("file {file} with the store as the new upload certificate, and wait until it says yes");
        return Ok(Outcome::at_a_word(what, Some(file.into())));
    }
    // a store that is known to hold the signing key takes another upload key by a command, and says from when on
    let now = work.ctx.env.now;
    let waits = said.iter().find(|one| one.keys.upload_at(now) != certificate.fingerprint);
    let Some(StoreSays { app, store, keys }) = waits else { return Ok(Outcome::Done(Vec::new())) };
    let place = store.as_ref().map_or_else(|| "the store".to_owned(), |store| format!("the store {store}"));
    let next = keys.next_upload.as_ref().filter(|next| next.certificate == certificate.fingerprint);
    let (what, words) = match next {
        Some(next) => {
            let from = next.from.strftime("%-d %b %Y, %H:%M UTC");
            (
                format!("wait until {from}: from then on {place} takes builds of {app} with {name}"),
                vec!["rotate", "resume"],
            )
        }
        None => {
            let words = vec!["keystore", "replace-upload", "--app", app, "--key", name];
            (format!("have {place} take {name} as the upload key of {app}, and wait until it counts"), words)
        }
    };
    let at = store.iter().filter(|_| next.is_none()).flat_map(|store| ["--store", store.as_str()]);
    let words = words.into_iter().chain(at).map(str::to_owned).collect();
    Ok(Outcome::waits(what, Some(file.into()), words))
}

/// What a store is known to take builds of an app with.
struct StoreSays {
    app: String,
    /// Which of several stores.
    store: Option<String>,
    keys: StoreKeys,
}

/// The keystore that one takes over from.
fn instead_of<'f>(facts: &'f RotationFacts, new: &str) -> Option<&'f str> {
    facts.steps.iter().find_map(|step| match &step.step {
        Does::TakeOver { keystore, instead_of, .. } if keystore == new => Some(instead_of.as_str()),
        _ => None,
    })
}

/// The stores that builds go to which the old key signs, as far as they hold the signing key and the project file says so.
fn stores_of(work: &Work<'_, '_>, new: &str) -> Result<Vec<StoreSays>, RotateError> {
    let Some(old) = instead_of(work.facts, new) else { return Ok(Vec::new()) };
    let inventory = work.cabinet.inventory()?;
    let names = [old, new];
    let own = |app: &str| {
        let of = |item: &Item| names.contains(&item.name.as_str());
        inventory.android_keys(app, Role::Upload).any(|(item, _)| of(item))
    };
    let project = work.ctx.project_file()?.project;
    let mut out = Vec::new();
    for (app, android) in project.apps.iter().filter_map(|(app, known)| Some((app, known.android.as_ref()?)))
    {
        let signs_for = |key: &Option<String>| key.as_deref().is_some_and(|key| names.contains(&key));
        let named = android.stores.iter().filter(|(_, there)| signs_for(&there.key));
        let named: Vec<_> =
            named.map(|(store, there)| (Some(store.to_string()), there.store_keys.clone())).collect();
        let first = (named.is_empty() && own(app.as_str())).then(|| (None, android.store_keys.clone()));
        for (store, keys) in named.into_iter().chain(first) {
            out.extend(keys.map(|keys| StoreSays { app: app.to_string(), store, keys }));
        }
    }
    Ok(out)
}

/// The store that the project file names a keystore for.
pub(super) fn store_of(
    work: &Work<'_, '_>,
    app: &str,
    keystore: &str,
) -> Result<Option<String>, RotateError> {
    let project = work.ctx.project_file()?.project;
    let stores = project.apps.get(app).and_then(|app| app.android.as_ref()).map(|android| &android.stores);
    let mut named = stores.into_iter().flatten().filter(|(_, there)| there.key.as_deref() == Some(keystore));
    Ok(named.next().map(|(store, _)| store.to_string()))
}

/// Where the project file names the old keystore for a store, it names the new one from here on.
pub(in crate::rotate) fn rename_in_project(ctx: &Ctx<'_>, old: &str, new: &str) -> Result<(), RotateError> {
    let Some(file) = ctx.project_if_any()? else { return Ok(()) };
    let sides = file.project.apps.values().filter_map(|app| app.android.as_ref());
    let named =
        sides.flat_map(|android| android.stores.values()).any(|there| there.key.as_deref() == Some(old));
    if !named {
        return Ok(());
    }
    file.change(ctx, |now, document| {
        for (app, known) in &now.project.apps {
            let stores = known.android.iter().flat_map(|android| &android.stores);
            for (store, _) in stores.filter(|(_, there)| there.key.as_deref() == Some(old)) {
                let path = ["app", app.as_str(), "android", "store", store.as_str()];
                let table = path.iter().try_fold(document.as_item_mut(), |item, name| item.get_mut(name));
                if let Some(table) = table.and_then(toml_edit::Item::as_table_like_mut) {
                    table.insert("key", toml_edit::value(new));
                }
            }
        }
        Ok::<_, RotateError>(())
    })
}

/// The proof that a signing key hands over to another, signed with the old one, and kept beside the new one.
pub(super) fn hand_over(
    work: &mut Work<'_, '_>,
    new: &str,
    (old, alias): (&str, &str),
    from_sdk: u32,
    flags: u32,
) -> Result<Outcome, RotateError> {
    let inventory = work.cabinet.inventory()?;
    let (mut new, mut old) = (work.item(&inventory, new)?, work.item(&inventory, old)?);
    let (successor, before) = (entry_of(&mut new, None)?, entry_of(&mut old, Some(alias))?);
    if successor.after.is_some() {
        return Ok(Outcome::Done(Vec::new()));
    }
    let gone = || RotateError::Gone(format!("the key of {alias}"));
    let der = |entry: &KeystoreEntry| {
        let certificate = keystore::certificate_of(&inventory, entry)?;
        from_hex(&certificate.der)
    };
    let (from, to) = (der(before).ok_or_else(gone)?, der(successor).ok_or_else(gone)?);
    let key = inventory.get(&before.key).ok_or_else(gone)?;
    let key = work.cabinet.secret(key)?.lend(|der| PrivateKey::from_pkcs8(der))?;
    let lineage = match &before.after {
        Some(after) => {
            let bytes = from_hex(&after.lineage).ok_or_else(gone)?;
            Lineage::read(&bytes, &Limits::USUAL).map_err(|fault| RotateError::Lineage(fault.to_string()))?
        }
        None => Lineage::begin(&from),
    };
    let lineage = lineage.extend(&key, &to, flags)?.to_bytes();
    // what is kept is what a device would take
    verify_lineage(&lineage, &to, &Limits::USUAL).map_err(|fault| RotateError::Lineage(fault.to_string()))?;
    let (oldest, oldest_certificate) = match &before.after {
        Some(after) => (after.oldest, after.oldest_certificate),
        None => (before.key, before.certificate),
    };
    let from_sdk = Some(from_sdk).filter(|level| *level >= USUAL_FROM_SDK);
    let after = TookOver { lineage: hex(&lineage), oldest, oldest_certificate, from_sdk };
    let what = format!("rotate: proof that {} hands over to {}", old.name, new.name);
    let id = new.id;
    work.cabinet.change(&what, &work.ctx.env, |change| {
        let inventory = change.inventory();
        let mut item = inventory.get(&id).cloned().ok_or_else(gone)?;
        entry_of(&mut item, None)?.after = Some(Box::new(after));
        Ok::<_, RotateError>(change.revise(&item, None)?)
    })?;
    Ok(Outcome::Done(Vec::new()))
}

/// Where services know an app by its certificate, they have to know the new one.
pub(super) fn register_fingerprint(
    work: &Work<'_, '_>,
    app: &str,
    name: &str,
) -> Result<Outcome, RotateError> {
    let inventory = work.cabinet.inventory()?;
    let mut item = work.item(&inventory, name)?;
    let gone = || RotateError::Gone(format!("the certificate of {name}"));
    let entry = entry_of(&mut item, None)?;
    let certificate = keystore::certificate_of(&inventory, entry).ok_or_else(gone)?;
    let sha256 = with_colons(&certificate.fingerprint);
    let what = format!(
        "register {sha256} for {app} wherever the old certificate was registered; `ninekeys app statement {app}` writes what a web domain says"
    );
    Ok(Outcome::at_a_word(what, None))
}

pub(super) fn take_over(
    work: &mut Work<'_, '_>,
    new: &str,
    old: &str,
    alias: &str,
) -> Result<Outcome, RotateError> {
    let inventory = work.cabinet.inventory()?;
    let (new, old) = (work.item(&inventory, new)?, work.item(&inventory, old)?);
    let names = (old.name, new.name);
    let (new, old) = (new.id, old.id);
    let what = format!("rotate: take over from {alias}");
    work.cabinet.change(&what, &work.ctx.env, |change| {
        let inventory = change.inventory();
        let get = |id: &ItemId| inventory.get(id).cloned().ok_or_else(|| RotateError::Gone(id.to_string()));
        let (mut successor, mut before) = (get(&new)?, get(&old)?);
        if move_uses(entry_of(&mut before, Some(alias))?, entry_of(&mut successor, None)?) {
            successor.generation = before.generation + 1;
            successor.replaces = Some(before.id);
            change.revise(&before, None)?;
            change.revise(&successor, None)?;
        }
        Ok::<_, RotateError>(())
    })?;
    rename_in_project(work.ctx, &names.0, &names.1)?;
    Ok(Outcome::Done(Vec::new()))
}

/// A key of a keystore; its first one where no alias is named.
pub(in crate::rotate) fn entry_of<'i>(
    item: &'i mut Item,
    alias: Option<&str>,
) -> Result<&'i mut KeystoreEntry, RotateError> {
    let gone = RotateError::Gone(format!("the key of {}", item.name));
    let Facts::Keystore(facts) = &mut item.facts else { return Err(gone) };
    let is_it = |entry: &&mut KeystoreEntry| alias.is_none_or(|alias| entry.alias == alias);
    facts.entries.iter_mut().find(is_it).ok_or(gone)
}

/// Moves what a key is for to another key; tells whether there was anything to move.
pub(in crate::rotate) fn move_uses(from: &mut KeystoreEntry, to: &mut KeystoreEntry) -> bool {
    let moved: Vec<Use> = std::mem::take(&mut from.uses);
    let any = !moved.is_empty();
    to.uses.extend(moved);
    any
}
