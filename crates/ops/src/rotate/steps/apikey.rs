//! Steps of API keys: a new one is made and proved by a call, the old one withdrawn.

use ninekeys_cabinet::CabinetError;
use ninekeys_core::digest::from_hex;
use ninekeys_core::keys::{KeyProof, prove};
use ninekeys_core::model::{ApiRole, ApiUse, Facts, Service};

use super::{Outcome, Work};
use crate::apikey::create;
use crate::portal;
use crate::prepare::PrepareError;
use crate::rotate::RotateError;

/// An API key for what another is for: by the portal where it can be asked, else taken in by a person.
pub(super) fn make_api_key(work: &mut Work<'_, '_>, name: &str, old: &str) -> Result<Outcome, RotateError> {
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
    let file = work.file.clone().at(before.store.as_deref())?;
    let can_ask = portal::can_ask(&file.project, &inventory, ApiUse::Access, None);
    let Some(role) = role.filter(|_| before.service == Service::Store && can_ask) else {
        let what = format!("have a key made where {} was, with the same role", old.name);
        let next = match before.service {
            Service::Store => {
                let words = [
                    "apikey",
                    "import",
                    "FILE",
                    "--name",
                    name,
                    "--key-id",
                    "ID",
                    "--issuer",
                    &before.issuer,
                ];
                let store = before.store.iter().flat_map(|store| ["--store", store.as_str()]);
                words.into_iter().chain(store).collect()
            }
            Service::Account => vec!["apikey", "import", "FILE", "--name", name],
        };
        return Ok(Outcome::waits(what, None, next.into_iter().map(str::to_owned).collect()));
    };
    let request = create::Request {
        name: name.into(),
        uses: before.uses.clone(),
        role: Some(role),
        apps: before.apps.clone(),
    };
    let id = create::create_in(work.ctx, work.cabinet, &file, &request, role)?;
    Ok(Outcome::Done(vec![(name.into(), id)]))
}

/// A call with that key and no other; a probe where no portal here would know it.
pub(super) fn prove_api_key(work: &mut Work<'_, '_>, name: &str) -> Result<Outcome, RotateError> {
    let inventory = work.cabinet.inventory()?;
    let item = work.item(&inventory, name)?;
    let gone = || RotateError::Gone(format!("the key of {name}"));
    let Facts::ApiKey(facts) = &item.facts else { return Err(gone()) };
    let file = work.file.clone().at(facts.store.as_deref())?;
    if facts.service == Service::Store && file.project.portal.is_some() {
        let called = portal::with_key(work.ctx, work.cabinet, &file, (ApiUse::Signing, facts), |portal| {
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

pub(super) fn withdraw_api_key(work: &Work<'_, '_>, name: &str) -> Result<Outcome, RotateError> {
    let inventory = work.cabinet.inventory()?;
    let item = work.item(&inventory, name)?;
    let id = match &item.facts {
        Facts::ApiKey(facts) => facts.key_id.clone(),
        _ => return Err(RotateError::Gone(name.into())),
    };
    Ok(Outcome::at_a_word(format!("withdraw {name}, key id {id}, where it was issued"), None))
}
