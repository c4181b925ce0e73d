//! What each step of a rotation does. A step that was cut off is done again: what is there already is seen, and not made twice.

use jiff::Timestamp;
use ninekeys_cabinet::{Cabinet, CabinetError, Change, NewItem};
use ninekeys_core::android::{Lineage, verify_lineage};
use ninekeys_core::certificate::{Subject, self_signed};
use ninekeys_core::demo::{DECKHAND_IPA, DemoBuild};
use ninekeys_core::digest::{from_hex, hex};
use ninekeys_core::keys::{Algorithm, KeyProof, PrivateKey, prove};
use ninekeys_core::model::{
    ApiRole, ApiUse, BuildNumber, Destination, Does, Facts, IdentityPurpose, Inventory, Item, ItemId,
    KeystoreEntry, KeystoreFacts, OldKeyMay, Platform, Role, RotationFacts, Service, State, TookOver, Use,
};
use ninekeys_core::password;
use ninekeys_core::rotation::USUAL_FROM_SDK;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::pem;
use ninekeys_formats::x509::Certificate;
use ninekeys_portal::client::PortalError;

use super::RotateError;
use crate::apikey::create;
use crate::app::statement::with_colons;
use crate::build::sign;
use crate::ctx::Ctx;
use crate::files::{Access, Taken};
use crate::identity;
use crate::keystore::create::MakeError;
use crate::keystore::{self, NewKey};
use crate::outgoing::{Outgoing, Workshop};
use crate::outputs;
use crate::portal;
use crate::prepare::by_hand::write_request;
use crate::prepare::by_portal::{Which, get_chain, get_identity, get_profiles, register, with};
use crate::prepare::{Asked, Job, PrepareError, Waits, request_for};
use crate::project::ProjectFile;

/// How long a new upload key is valid, in years: as long as one that `keystore create` makes.
const YEARS: u16 = 30;

/// A rotation at work.
pub(super) struct Work<'w, 'c> {
    pub(super) ctx: &'c Ctx<'c>,
    pub(super) file: &'w ProjectFile,
    pub(super) cabinet: &'w mut Cabinet<'c>,
    pub(super) facts: &'w RotationFacts,
}

/// What came of a step.
pub(super) enum Outcome {
    /// It is done, and this was made, under the names of the draft.
    Done(Vec<(String, ItemId)>),
    /// A person has to do something. Where a command takes it in, it is seen that it was done; else somebody has to say so.
    Waits(Waits),
}

impl Outcome {
    fn waits(what: String, file: Option<String>, next: Vec<String>) -> Self {
        Outcome::Waits(Waits { what, file, next })
    }

    /// A step that is done when somebody says so.
    fn at_a_word(what: String, file: Option<String>) -> Self {
        Outcome::waits(what, file, Vec::new())
    }
}

/// Carries a step out.
pub(super) fn carry(work: &mut Work<'_, '_>, step: &Does) -> Result<Outcome, RotateError> {
    match step {
        Does::MakeIdentity { identity, purpose, apps, .. } => make_identity(work, identity, *purpose, apps),
        Does::GetCertificate { identity, app, makes_room } => {
            get_certificate(work, identity, app, makes_room.as_deref())
        }
        Does::GetProfile { profile, app, bundle_id, destination, identity, .. } => {
            get_profile(work, profile, (app, bundle_id), *destination, identity)
        }
        Does::MakeKey { keystore, role, .. } => make_key(work, keystore, *role),
        Does::HandOver { keystore, instead_of, alias, from_sdk, old_key_may } => {
            let flags = OldKeyMay::flags(old_key_may);
            hand_over(work, keystore, (instead_of, alias), *from_sdk, flags)
        }
        Does::MakeApiKey { api_key, instead_of } => make_api_key(work, api_key, instead_of),
        Does::ProveApiKey { api_key } => prove_api_key(work, api_key),
        Does::WithdrawApiKey { api_key } => withdraw_api_key(work, api_key),
        Does::Reseal => reseal(work),
        Does::BackUp => back_up(work, step),
        Does::RegisterFingerprint { app, keystore } => register_fingerprint(work, app, keystore),
        Does::FileCertificate { keystore, file } => file_certificate(work, keystore, file),
        Does::TakeOver { keystore, instead_of, alias } => take_over(work, keystore, instead_of, alias),
        Does::ProveBuild { app, destination, with } => prove_build(work, app, *destination, with),
        Does::ProveKey { item } => prove_key(work, item),
        Does::Tell { receiver, app, destination } => tell(work, receiver, app, *destination),
        Does::ChangeSettings { names, .. } => {
            let what = settings(work, names)?;
            Ok(Outcome::at_a_word(what, None))
        }
        Does::LookAfter { .. } | Does::ChangeServer { .. } => {
            Ok(Outcome::at_a_word(ninekeys_core::rotation::said(step), None))
        }
        Does::Retire { item, successor } => retire(work, item, successor),
        Does::Revoke { item, successor } => revoke(work, item, successor),
    }
}

impl Work<'_, '_> {
    /// The item that the rotation calls by that name.
    fn item(&self, inventory: &Inventory, name: &str) -> Result<Item, RotateError> {
        let known = self.facts.items.get(name).and_then(|id| inventory.get(id));
        let named = || inventory.iter().find(|item| item.name == name);
        known.or_else(named).cloned().ok_or_else(|| RotateError::Gone(name.into()))
    }

    /// The certificate of an identity, and its item.
    fn certificate(
        &self,
        inventory: &Inventory,
        name: &str,
    ) -> Result<Option<(ItemId, String)>, RotateError> {
        let item = self.item(inventory, name)?;
        let Facts::Identity(facts) = &item.facts else { return Err(RotateError::Gone(name.into())) };
        let Some(id) = facts.certificate else { return Ok(None) };
        let certificate = identity::certificate_facts(inventory, &id);
        Ok(certificate.map(|certificate| (id, certificate.serial.clone())))
    }

    fn can_ask(&self, app: &str) -> Result<bool, RotateError> {
        let inventory = self.cabinet.inventory()?;
        Ok(portal::can_ask(&self.file.project, &inventory, ApiUse::Signing, Some(app)))
    }

    /// The app in whose name the portal is asked for an identity.
    fn asks_for(&self, identity: &str) -> Option<String> {
        self.facts.steps.iter().find_map(|step| match &step.step {
            Does::GetCertificate { identity: of, app, .. } if of == identity => Some(app.clone()),
            _ => None,
        })
    }
}

fn make_identity(
    work: &mut Work<'_, '_>,
    name: &str,
    purpose: IdentityPurpose,
    apps: &[String],
) -> Result<Outcome, RotateError> {
    let inventory = work.cabinet.inventory()?;
    if let Ok(known) = work.item(&inventory, name) {
        // a call that was cut off made it
        let own =
            matches!(&known.facts, Facts::Identity(facts) if facts.purpose == purpose && facts.apps == apps);
        let is_ours = own && known.created >= work.facts.drafted;
        return match is_ours {
            true => Ok(Outcome::Done(vec![(name.into(), known.id)])),
            false => Err(CabinetError::NameTaken(name.into()).into()),
        };
    }
    let app = work.asks_for(name).ok_or_else(|| RotateError::NoApp(name.into()))?;
    let asked = Asked { name: name.into(), purpose, apps: apps.to_vec(), request: None };
    let (ctx, file) = (work.ctx, work.file);
    let job = begin(ctx, file, &inventory, &app, Destination::Store)?;
    request_for(&job, work.cabinet, &asked)?;
    let made = work.item(&*work.cabinet.inventory()?, name)?;
    Ok(Outcome::Done(vec![(name.into(), made.id)]))
}

/// What asks the portal for an app.
fn begin<'j>(
    ctx: &'j Ctx<'j>,
    file: &'j ProjectFile,
    inventory: &Inventory,
    app: &'j str,
    destination: Destination,
) -> Result<Job<'j>, RotateError> {
    let gone = || RotateError::NoApp(app.into());
    let (name, known) = file.project.apps.get_key_value(app).ok_or_else(gone)?;
    let ios = known.ios.as_ref().ok_or_else(gone)?;
    Ok(Job::begin(ctx, file, (name.as_str(), known, ios), destination, inventory)?)
}

/// The request of an identity that waits for its certificate.
fn asked(item: &Item) -> Option<Asked> {
    let Facts::Identity(facts) = &item.facts else { return None };
    let request = facts.request.as_deref().and_then(from_hex);
    Some(Asked { name: item.name.clone(), purpose: facts.purpose, apps: facts.apps.clone(), request })
}

fn get_certificate(
    work: &mut Work<'_, '_>,
    name: &str,
    app: &str,
    makes_room: Option<&str>,
) -> Result<Outcome, RotateError> {
    let inventory = work.cabinet.inventory()?;
    if work.certificate(&inventory, name)?.is_some() {
        return Ok(Outcome::Done(Vec::new()));
    }
    let item = work.item(&inventory, name)?;
    let asked = asked(&item).ok_or_else(|| RotateError::Gone(name.into()))?;
    let by_portal = work.can_ask(app)?;
    let job = begin(work.ctx, work.file, &inventory, app, Destination::Store)?;
    if !by_portal {
        let waits = write_request(&job, work.cabinet, &asked)?;
        return Ok(Outcome::Waits(waits));
    }
    let again =
        Asked { name: asked.name.clone(), apps: asked.apps.clone(), request: asked.request.clone(), ..asked };
    let mut steps = Vec::new();
    if let IdentityPurpose::Push(_) = asked.purpose {
        // a push certificate is for an app id that has push switched on
        register(&job, work.cabinet, &mut steps)?;
    }
    match get_identity(&job, work.cabinet, Some(asked), &mut steps) {
        Err(PrepareError::Portal(PortalError::Refused(problem)))
            if problem.kind == "limit-reached" && makes_room.is_some() =>
        {
            let idle = work.item(&inventory, makes_room.unwrap_or_default())?;
            revoke_at(&job, work.cabinet, &idle)?;
            get_identity(&job, work.cabinet, Some(again), &mut steps)?;
        }
        other => other?,
    }
    get_chain(&job, work.cabinet, &mut steps)?;
    Ok(Outcome::Done(Vec::new()))
}

/// Revokes an identity's certificate at the portal, and notes it.
fn revoke_at(job: &Job<'_>, cabinet: &mut Cabinet<'_>, item: &Item) -> Result<(), RotateError> {
    let inventory = cabinet.inventory()?;
    let gone = || RotateError::Gone(item.name.clone());
    let Facts::Identity(facts) = &item.facts else { return Err(gone()) };
    let own =
        facts.certificate.and_then(|id| identity::certificate_facts(&inventory, &id)).ok_or_else(gone)?;
    let revoked = with(job, cabinet, |portal| Ok(portal.revoke(&own.serial)?.revoked))?;
    let at = revoked.unwrap_or(job.ctx.env.now);
    let what = format!("rotate: revoke {}", item.name);
    cabinet.change(&what, &job.ctx.env, |change| identity::note_revoked(change, &item.id, at))?;
    Ok(())
}

fn get_profile(
    work: &mut Work<'_, '_>,
    name: &str,
    (app, bundle_id): (&str, &str),
    destination: Destination,
    identity: &str,
) -> Result<Outcome, RotateError> {
    let inventory = work.cabinet.inventory()?;
    let gone = || RotateError::Gone(format!("the certificate of {identity}"));
    let (certificate, serial) = work.certificate(&inventory, identity)?.ok_or_else(gone)?;
    let drafted = work.facts.drafted;
    let is_it = |item: &&Item| {
        item.state == State::Active
            && item.created >= drafted
            && matches!(&item.facts, Facts::Profile(profile)
                if profile.destination == destination
                    && ninekeys_core::ios::profile::is_for(&profile.app_id, bundle_id)
                    && profile.certificates.contains(&certificate))
    };
    if let Some(made) = inventory.iter().filter(is_it).max_by_key(|item| item.seq) {
        return Ok(Outcome::Done(vec![(name.into(), made.id)]));
    }
    if !work.can_ask(app)? {
        let devices = if destination.has_devices() { ", with all devices" } else { "" };
        let what = format!(
            "have a profile made at the portal for {bundle_id}, for {}, with the certificate of serial number {serial}{devices}",
            destination.phrase()
        );
        let next = ["profile", "import", "FILE", "--name", name].map(str::to_owned).into();
        return Ok(Outcome::waits(what, None, next));
    }
    let job = begin(work.ctx, work.file, &inventory, app, destination)?;
    let mut steps = Vec::new();
    register(&job, work.cabinet, &mut steps)?;
    let which = Which::Beside { bundle_id, name };
    let names = get_profiles(&job, work.cabinet, &which, Some(&serial), &mut steps)?;
    let inventory = work.cabinet.inventory()?;
    let made = names.first().and_then(|made| inventory.iter().find(|item| item.name == *made));
    let made = made.ok_or_else(|| RotateError::Gone(name.into()))?;
    Ok(Outcome::Done(vec![(name.into(), made.id)]))
}

fn make_key(work: &mut Work<'_, '_>, name: &str, role: Role) -> Result<Outcome, RotateError> {
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

fn file_certificate(work: &mut Work<'_, '_>, name: &str, file: &str) -> Result<Outcome, RotateError> {
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
fn hand_over(
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

/// An API key for what another is for: by the portal where it can be asked, else taken in by a person.
fn make_api_key(work: &mut Work<'_, '_>, name: &str, old: &str) -> Result<Outcome, RotateError> {
    let inventory = work.cabinet.inventory()?;
    let old = work.item(&inventory, old)?;
    let Facts::ApiKey(before) = &old.facts else { return Err(RotateError::Gone(old.name)) };
    if let Ok(known) = work.item(&inventory, name) {
        let is_ours = matches!(&known.facts, Facts::ApiKey(facts) if facts.key.is_some());
        return match is_ours && known.created >= work.facts.drafted {
            true => Ok(Outcome::Done(vec![(name.into(), known.id)])),
            false => Err(CabinetError::NameTaken(name.into()).into()),
        };
    }
    let role = before.role.parse::<ApiRole>().ok();
    let can_ask = portal::can_ask(&work.file.project, &inventory, ApiUse::Access, None);
    let Some(role) = role.filter(|_| before.service == Service::Store && can_ask) else {
        let what = format!("have a key made where {} was, with the same role", old.name);
        let next = match before.service {
            Service::Store => {
                vec!["apikey", "import", "FILE", "--name", name, "--key-id", "ID", "--issuer", &before.issuer]
            }
            Service::Account => vec!["apikey", "import", "FILE", "--name", name],
        };
        return Ok(Outcome::waits(what, None, next.into_iter().map(str::to_owned).collect()));
    };
    let request = create::Request { name: name.into(), uses: before.uses.clone(), role: Some(role) };
    let id = create::create_in(work.ctx, work.cabinet, work.file, &request, role)?;
    if !before.apps.is_empty() {
        let apps = before.apps.clone();
        work.cabinet.change(&format!("rotate: apps of {name}"), &work.ctx.env, |change| {
            let inventory = change.inventory();
            let mut item = inventory.get(&id).cloned().ok_or_else(|| RotateError::Gone(name.into()))?;
            if let Facts::ApiKey(facts) = &mut item.facts {
                facts.apps = apps;
            }
            Ok::<_, RotateError>(change.revise(&item, None)?)
        })?;
    }
    Ok(Outcome::Done(vec![(name.into(), id)]))
}

/// A call with that key and no other; a probe where no portal here would know it.
fn prove_api_key(work: &mut Work<'_, '_>, name: &str) -> Result<Outcome, RotateError> {
    let inventory = work.cabinet.inventory()?;
    let item = work.item(&inventory, name)?;
    let gone = || RotateError::Gone(format!("the key of {name}"));
    let Facts::ApiKey(facts) = &item.facts else { return Err(gone()) };
    if facts.service == Service::Store && work.file.project.portal.is_some() {
        let called =
            portal::with_key(work.ctx, work.cabinet, work.file, (ApiUse::Signing, facts), |portal| {
                Ok::<_, PrepareError>(portal.team()?)
            });
        called?;
        return Ok(Outcome::Done(Vec::new()));
    }
    let key = facts.key.and_then(|id| inventory.get(&id)).ok_or_else(gone)?;
    let Facts::Key(public) = &key.facts else { return Err(gone()) };
    let public = from_hex(&public.public_key).ok_or_else(gone)?;
    match work.cabinet.secret(key)?.lend(|der| prove(der, &public)) {
        KeyProof::Holds => Ok(Outcome::Done(Vec::new())),
        KeyProof::Damaged | KeyProof::Untold => Err(RotateError::NotProved(name.into())),
    }
}

fn withdraw_api_key(work: &Work<'_, '_>, name: &str) -> Result<Outcome, RotateError> {
    let inventory = work.cabinet.inventory()?;
    let item = work.item(&inventory, name)?;
    let id = match &item.facts {
        Facts::ApiKey(facts) => facts.key_id.clone(),
        _ => return Err(RotateError::Gone(name.into())),
    };
    Ok(Outcome::at_a_word(format!("withdraw {name}, key id {id}, where it was issued"), None))
}

/// New keys for the cabinet; the project file's pin goes with them.
fn reseal(work: &mut Work<'_, '_>) -> Result<Outcome, RotateError> {
    work.cabinet.change("rotate: cabinet key", &work.ctx.env, |change| change.seal_anew())?;
    if work.file.pin().is_some() {
        work.file.set_pin(work.ctx, &work.cabinet.pin())?;
    }
    Ok(Outcome::Done(Vec::new()))
}

/// A copy of the cabinet with the new keys is what is waited for: one that has the row which changed them.
fn back_up(work: &Work<'_, '_>, step: &Does) -> Result<Outcome, RotateError> {
    let changed = work.cabinet.pin().head.seq;
    if work.cabinet.last_backup().is_some_and(|backup| backup.seq >= changed) {
        return Ok(Outcome::Done(Vec::new()));
    }
    let next = ["cabinet", "backup", "FOLDER"].map(str::to_owned).into();
    Ok(Outcome::waits(ninekeys_core::rotation::said(step), None, next))
}

/// Where services know an app by its certificate, they have to know the new one.
fn register_fingerprint(work: &Work<'_, '_>, app: &str, name: &str) -> Result<Outcome, RotateError> {
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

fn take_over(work: &mut Work<'_, '_>, new: &str, old: &str, alias: &str) -> Result<Outcome, RotateError> {
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
pub(super) fn entry_of<'i>(
    item: &'i mut Item,
    alias: Option<&str>,
) -> Result<&'i mut KeystoreEntry, RotateError> {
    let gone = RotateError::Gone(format!("the key of {}", item.name));
    let Facts::Keystore(facts) = &mut item.facts else { return Err(gone) };
    let is_it = |entry: &&mut KeystoreEntry| alias.is_none_or(|alias| entry.alias == alias);
    facts.entries.iter_mut().find(is_it).ok_or(gone)
}

/// Moves what a key is for to another key; tells whether there was anything to move.
pub(super) fn move_uses(from: &mut KeystoreEntry, to: &mut KeystoreEntry) -> bool {
    let moved: Vec<Use> = std::mem::take(&mut from.uses);
    let any = !moved.is_empty();
    to.uses.extend(moved);
    any
}

/// A version and a build number above every release of an app.
fn above(inventory: &Inventory, app: &str, platform: Platform) -> (String, BuildNumber) {
    let own: Vec<_> = inventory
        .releases()
        .into_iter()
        .filter(|release| release.app == app && release.platform == platform)
        .collect();
    let highest = own.iter().map(|release| &release.number).max();
    let number = highest.map_or_else(|| BuildNumber::from(1), BuildNumber::next);
    let versions = own
        .iter()
        .filter_map(|release| Some((release.version.parse::<BuildNumber>().ok()?, release.version.clone())));
    let version = versions.max_by(|(one, _), (other, _)| one.cmp(other));
    (version.map_or_else(|| "1.0".to_owned(), |(_, text)| text), number)
}

/// Signs a small build of an app and checks it, as a release would be; nothing of it is kept.
fn prove_build(
    work: &mut Work<'_, '_>,
    app: &str,
    destination: Destination,
    with: &str,
) -> Result<Outcome, RotateError> {
    let inventory = work.cabinet.inventory()?;
    let signer = work.item(&inventory, with)?;
    let known = work.file.project.apps.get(app).ok_or_else(|| RotateError::NoApp(app.into()))?;
    let platform = if matches!(signer.facts, Facts::Keystore(_)) { Platform::Android } else { Platform::Ios };
    let (version, number) = above(&inventory, app, platform);
    let mut set = sign::Set { version: Some(version), build: Some(number), ..sign::Set::default() };
    let bytes = match (platform, &known.ios, &known.android) {
        (Platform::Ios, Some(ios), _) => {
            set.id = Some(ios.bundle_id.clone());
            DECKHAND_IPA.to_vec()
        }
        (Platform::Android, _, Some(android)) => {
            let build = DemoBuild { package: &android.package, ..ninekeys_core::demo::CROSSING };
            if destination == Destination::Store { build.aab() } else { build.apk() }
        }
        _ => return Err(RotateError::NoApp(app.into())),
    };
    let workshop = Workshop::begin(work.ctx, &work.ctx.cabinet_path()?)?;
    let build = workshop.file();
    crate::files::write_whole(&build, &bytes, Access::Owner, Taken::Refuse)?;
    let request = sign::Request {
        builds: vec![build],
        app: Some(app.into()),
        destination: Some(destination),
        key: Some(signer.name),
        to: workshop.folder().to_owned(),
        replace: false,
        schemes: None,
        idsig: false,
        set,
        timestamp: false,
        entitlements: None,
    };
    sign::rehearse(work.ctx, &request, work.cabinet)?;
    Ok(Outcome::Done(Vec::new()))
}

fn prove_key(work: &mut Work<'_, '_>, name: &str) -> Result<Outcome, RotateError> {
    let inventory = work.cabinet.inventory()?;
    let item = work.item(&inventory, name)?;
    let gone = || RotateError::Gone(format!("the key of {name}"));
    let Facts::Identity(facts) = &item.facts else { return Err(gone()) };
    let key = facts.key.and_then(|id| inventory.get(&id)).ok_or_else(gone)?;
    let own =
        facts.certificate.and_then(|id| identity::certificate_facts(&inventory, &id)).ok_or_else(gone)?;
    let certificate = identity::parsed(own).ok_or_else(gone)?;
    let secret = work.cabinet.secret(key)?;
    match secret.lend(|der| prove(der, &certificate.public_key)) {
        KeyProof::Holds => Ok(Outcome::Done(Vec::new())),
        KeyProof::Damaged | KeyProof::Untold => Err(RotateError::NotProved(name.into())),
    }
}

/// Whoever was given the old one has the new one when the list of what was given says so.
fn tell(
    work: &mut Work<'_, '_>,
    receiver: &str,
    app: &str,
    destination: Destination,
) -> Result<Outcome, RotateError> {
    let inventory = work.cabinet.inventory()?;
    let made: Vec<ItemId> = work
        .facts
        .steps
        .iter()
        .filter_map(|step| match &step.step {
            Does::MakeIdentity { identity, .. } => work.facts.items.get(identity),
            Does::GetProfile { profile, .. } => work.facts.items.get(profile),
            Does::MakeApiKey { api_key, .. } => work.facts.items.get(api_key),
            _ => None,
        })
        .copied()
        .collect();
    let has = inventory.iter().any(|item| match &item.facts {
        Facts::HandOut(given) => {
            given.receiver == receiver
                && given.app == app
                && given.destination == destination
                && given.given.iter().any(|one| made.contains(&one.item))
        }
        _ => false,
    });
    if has {
        return Ok(Outcome::Done(Vec::new()));
    }
    let to = destination.to_string();
    let mut next = vec!["give", "--app", app, "--for", &to, "--receiver", receiver, "--to", "FOLDER"];
    let api_key = work.facts.steps.iter().find_map(|step| match &step.step {
        Does::MakeApiKey { api_key, .. } => Some(api_key.as_str()),
        _ => None,
    });
    next.extend(api_key.iter().flat_map(|name| ["--api-key", name]));
    let what = format!("{receiver} was given what is replaced, and needs the new material");
    Ok(Outcome::waits(what, None, next.into_iter().map(str::to_owned).collect()))
}

/// What build settings name, and what they have to name now.
fn settings(work: &Work<'_, '_>, names: &[String]) -> Result<String, RotateError> {
    let inventory = work.cabinet.inventory()?;
    let uuid = |name: &str| match work.item(&inventory, name).map(|item| item.facts) {
        Ok(Facts::Profile(profile)) => Some(profile.uuid),
        _ => None,
    };
    let mut lines = Vec::new();
    for step in &work.facts.steps {
        if let Does::GetProfile { profile, instead_of, .. } = &step.step
            && names.contains(instead_of)
            && let (Some(old), Some(new)) = (uuid(instead_of), uuid(profile))
        {
            lines.push(format!("{old} ({instead_of}) is {new} ({profile}) now"));
        }
    }
    let told = if lines.is_empty() { names.join(", ") } else { lines.join("; ") };
    Ok(format!("where build settings name a profile by its identifier: {told}"))
}

fn retire(work: &mut Work<'_, '_>, item: &str, successor: &str) -> Result<Outcome, RotateError> {
    let inventory = work.cabinet.inventory()?;
    let (old, new) = (work.item(&inventory, item)?, work.item(&inventory, successor)?);
    let what = format!("rotate: retire {}", old.name);
    work.cabinet.change(&what, &work.ctx.env, |change| succeed(change, &old.id, &new.id))?;
    Ok(Outcome::Done(Vec::new()))
}

/// Retires what was replaced, and says of its successor what it replaced.
fn succeed(change: &mut Change<'_>, old: &ItemId, new: &ItemId) -> Result<(), RotateError> {
    let inventory = change.inventory();
    let get = |id: &ItemId| inventory.get(id).cloned().ok_or_else(|| RotateError::Gone(id.to_string()));
    let (mut old, mut new) = (get(old)?, get(new)?);
    if old.state == State::Active {
        old.state = State::Retired;
        change.revise(&old, None)?;
    }
    if new.replaces.is_none() {
        new.replaces = Some(old.id);
        new.generation = old.generation + 1;
        change.revise(&new, None)?;
    }
    Ok(())
}

/// What a step that somebody did elsewhere means in the cabinet: a certificate that was revoked by hand is noted, and its identity
/// retired.
pub(super) fn note_word(
    change: &mut Change<'_>,
    facts: &RotationFacts,
    step: &Does,
    now: Timestamp,
) -> Result<(), RotateError> {
    let Does::Revoke { item, successor } = step else { return Ok(()) };
    let get = |name: &String| facts.items.get(name).copied().ok_or_else(|| RotateError::Gone(name.clone()));
    let (old, new) = (get(item)?, get(successor)?);
    identity::note_revoked(change, &old, now)?;
    succeed(change, &old, &new)
}

fn revoke(work: &mut Work<'_, '_>, name: &str, successor: &str) -> Result<Outcome, RotateError> {
    let inventory = work.cabinet.inventory()?;
    let item = work.item(&inventory, name)?;
    let Facts::Identity(facts) = &item.facts else { return Err(RotateError::Gone(name.into())) };
    let profile_apps = work.facts.steps.iter().find_map(|step| match &step.step {
        Does::GetCertificate { app, .. } | Does::GetProfile { app, .. } => Some(app.clone()),
        _ => None,
    });
    let any = work.file.project.apps.iter().find(|(_, app)| app.ios.is_some());
    let app = facts.apps.first().cloned().or(profile_apps).or(any.map(|(name, _)| name.to_string()));
    let app = app.ok_or_else(|| RotateError::NoApp(name.into()))?;
    if facts.revoked.is_none() {
        if !work.can_ask(&app)? {
            let serial = work.certificate(&inventory, name)?.map(|(_, serial)| serial).unwrap_or_default();
            let what = format!("have the certificate of serial number {serial} revoked at the portal");
            return Ok(Outcome::at_a_word(what, None));
        }
        let job = begin(work.ctx, work.file, &inventory, &app, Destination::Store)?;
        revoke_at(&job, work.cabinet, &item)?;
    }
    retire(work, name, successor)
}
