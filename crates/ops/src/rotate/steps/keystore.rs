//! Steps of keystores: a new key is made, filed, handed over to, and takes over.

use ninekeys_cabinet::{CabinetError, NewItem};
use ninekeys_core::android::{Lineage, verify_lineage};
use ninekeys_core::certificate::{Subject, self_signed};
use ninekeys_core::digest::{from_hex, hex};
use ninekeys_core::keys::{Algorithm, PrivateKey};
use ninekeys_core::model::{Facts, Item, ItemId, KeystoreEntry, KeystoreFacts, Role, TookOver, Use};
use ninekeys_core::password;
use ninekeys_core::rotation::USUAL_FROM_SDK;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::pem;
use ninekeys_formats::x509::Certificate;

use super::{Outcome, Work};
use crate::app::statement::with_colons;
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
    let what =
        format!("file {file} with the store as the new upload certificate, and wait until it says yes");
    Ok(Outcome::at_a_word(what, Some(file.into())))
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
    let (new, old) = (work.item(&inventory, new)?.id, work.item(&inventory, old)?.id);
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
