//! Whether certificates were revoked, learnt where they say that it can be asked.
//!
//! An address out of a certificate is asked only when the certificate leads to a root that the project names: what somebody
//! made up sends nobody anywhere. Each address is asked once; what does not answer is not asked again.

use std::collections::HashMap;
use std::time::Duration;

use jiff::Timestamp;
use ninekeys_core::digest::sha256_hex;
use ninekeys_core::ios::setup::{Roster, parsed};
use ninekeys_core::model::{Inventory, State, Wholeness};
use ninekeys_core::revocation::{self, Believed, Learnt, Revocations, Status};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::x509::Certificate;
use ninekeys_portal::fetch::{FetchError, Fetcher};

use crate::ctx::Ctx;
use crate::identity;
use crate::portal::{ConnectError, pin};
use crate::project::ProjectFile;

/// How long all of it may take together.
const BUDGET: Duration = Duration::from_secs(20);
/// How many addresses may be away before no other is asked: each takes seconds to be given up.
const MOST_AWAY: usize = 4;
/// The most addresses of one kind in a certificate that are asked.
const MOST_ADDRESSES: usize = 2;

/// Asks for one command.
struct Asking<'a> {
    ctx: &'a Ctx<'a>,
    fetcher: Fetcher,
    now: Timestamp,
    /// What each list was, by its address and the certificate of the issuer that has to have signed it.
    lists: HashMap<(String, Vec<u8>), Result<Believed, String>>,
    /// How many addresses did not answer.
    away: usize,
    /// Why an address answered nothing about single certificates.
    silent: HashMap<String, String>,
}

/// Asks about every identity that could sign or send: whole, in use, and with a certificate that is current.
///
/// # Errors
/// [`ConnectError`] when what the project pins cannot be used; that nobody answers is told in what was learnt.
pub(crate) fn learn(
    ctx: &Ctx<'_>,
    file: &ProjectFile,
    inventory: &Inventory,
    roster: &Roster<'_>,
    roots: &[Certificate],
    pool: &[Certificate],
) -> Result<Revocations, ConnectError> {
    let now = ctx.env.now;
    let whole = roster.identities.iter().filter(|(item, facts)| {
        item.state == State::Active && facts.revoked.is_none() && facts.wholeness() == Wholeness::Whole
    });
    let certificates =
        whole.filter_map(|(_, facts)| identity::certificate_facts(inventory, facts.certificate.as_ref()?));
    let current = certificates.filter(|own| own.not_before <= now && own.not_after >= now);
    let mut out = Revocations::new();
    let mut asking: Option<Asking<'_>> = None;
    for own in current {
        let Some(certificate) = parsed(own).filter(names_an_address) else { continue };
        let Some(chain) = roster.chain(own, pool) else { continue };
        let trusted = chain.root().is_some_and(|root| roots.iter().any(|known| known.der == root.der));
        let Some(issuer) = chain.certificates.get(1).filter(|_| trusted) else { continue };
        let asking = match &mut asking {
            Some(asking) => asking,
            None => asking.insert(Asking::begin(ctx, file)?),
        };
        out.insert(own.fingerprint.clone(), asking.about(&certificate, issuer));
    }
    Ok(out)
}

/// Asks about certificates that signed builds, each with its path: those that are revoked, with when. Of whom nobody answers nothing
/// is known.
///
/// # Errors
/// [`ConnectError`] when what the project pins cannot be used.
pub(crate) fn revoked_signers(
    ctx: &Ctx<'_>,
    file: &ProjectFile,
    paths: &[Vec<Certificate>],
    roots: &[Certificate],
) -> Result<Vec<(String, Timestamp)>, ConnectError> {
    let mut out = Vec::new();
    let mut asking: Option<Asking<'_>> = None;
    for path in paths {
        let trusted = path.last().is_some_and(|root| roots.iter().any(|known| known.der == root.der));
        let [own, issuer, ..] = path.as_slice() else { continue };
        if !trusted || !names_an_address(own) {
            continue;
        }
        let asking = match &mut asking {
            Some(asking) => asking,
            None => asking.insert(Asking::begin(ctx, file)?),
        };
        if let Learnt::Revoked(at) = asking.about(own, issuer) {
            out.push((sha256_hex(&own.der), at));
        }
    }
    Ok(out)
}

fn names_an_address(certificate: &Certificate) -> bool {
    let extensions = &certificate.extensions;
    let has = |all: Result<Vec<String>, _>| all.is_ok_and(|all: Vec<String>| !all.is_empty());
    has(extensions.crl_addresses()) || has(extensions.ocsp_addresses())
}

impl<'a> Asking<'a> {
    fn begin(ctx: &'a Ctx<'a>, file: &ProjectFile) -> Result<Self, ConnectError> {
        let fetcher = Fetcher::new(pin(file)?.as_deref())?;
        Ok(Asking { ctx, fetcher, now: ctx.env.now, lists: HashMap::new(), away: 0, silent: HashMap::new() })
    }

    /// What its issuer says of a certificate: by the list, which is fetched once for many, and else about it alone.
    fn about(&mut self, certificate: &Certificate, issuer: &Certificate) -> Learnt {
        let extensions = &certificate.extensions;
        let lists = extensions.crl_addresses().unwrap_or_default();
        let answers = extensions.ocsp_addresses().unwrap_or_default();
        let mut first = None;
        for address in lists.into_iter().take(MOST_ADDRESSES) {
            match self.by_list(&address, certificate, issuer) {
                Ok(status) => return learnt(status, address),
                Err(because) => first = first.or(Some(Learnt::Nothing { address, because })),
            }
        }
        for address in answers.into_iter().take(MOST_ADDRESSES) {
            match self.by_answer(&address, certificate, issuer) {
                Ok(status) => return learnt(status, address),
                Err(because) => first = first.or(Some(Learnt::Nothing { address, because })),
            }
        }
        first.unwrap_or(Learnt::Nothing { address: String::new(), because: "it is not named".into() })
    }

    /// Lends what fetches to some work, unless too much time went by already.
    fn ask<R>(&mut self, work: impl FnOnce(&Fetcher) -> Result<R, FetchError>) -> Result<R, String> {
        if self.away >= MOST_AWAY || (self.ctx.running)() > BUDGET {
            return Err("it was not asked: too much time went by on others".into());
        }
        let done = work(&self.fetcher);
        self.away += usize::from(matches!(done, Err(FetchError::Unreachable(_))));
        done.map_err(|error| error.to_string())
    }

    fn by_list(
        &mut self,
        address: &str,
        certificate: &Certificate,
        issuer: &Certificate,
    ) -> Result<Status, String> {
        let key = (address.to_owned(), issuer.der.clone());
        let list = match self.lists.remove(&key) {
            Some(list) => list,
            None => self.ask(|fetcher| fetcher.get(address)).and_then(|bytes| {
                let list = Believed::read(&bytes, issuer, self.now, &Limits::USUAL);
                list.map_err(|error| format!("its list is not believed: {error}"))
            }),
        };
        let list = self.lists.entry(key).or_insert(list);
        list.as_ref().map(|list| list.status(certificate)).map_err(Clone::clone)
    }

    fn by_answer(
        &mut self,
        address: &str,
        certificate: &Certificate,
        issuer: &Certificate,
    ) -> Result<Status, String> {
        if let Some(because) = self.silent.get(address) {
            return Err(because.clone());
        }
        let mut nonce = [0; 32];
        self.ctx.env.keys.fill(&mut nonce).map_err(|error| error.to_string())?;
        let question =
            revocation::question(certificate, issuer, &nonce).map_err(|error| error.to_string())?;
        let reply = self.ask(|fetcher| fetcher.post(address, "application/ocsp-request", &question));
        let reply = reply.inspect_err(|because| {
            self.silent.insert(address.to_owned(), because.clone());
        })?;
        let status = revocation::status(&reply, certificate, issuer, &nonce, self.now, &Limits::USUAL);
        status.map_err(|error| format!("its answer is not believed: {error}"))
    }
}

fn learnt(status: Status, address: String) -> Learnt {
    match status {
        Status::Good => Learnt::Good,
        Status::Revoked(at) => Learnt::Revoked(at),
        Status::Unknown => {
            Learnt::Nothing { address, because: "who answers there does not know the certificate".into() }
        }
    }
}
