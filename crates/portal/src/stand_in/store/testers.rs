//! The stand-in's testers: groups, invitations, and who accepted. An invitation is a mail: a file in the stand-in's folder, with a
//! link that accepts it.

use ninekeys_core::digest::sha256_hex;
use ninekeys_core::model::ApiRole;

use super::super::http::{Call, Response};
use super::super::routes::{Portal, Refusal, answer, read};
use super::super::state;
use super::{BASE, GROUP, failed, good_line};
use crate::store::{Group, Invitation, Tester, Testers};

/// The kind that testers are kept as.
const TESTER: &str = "tester";
/// Testers that a group may have: inside, and outside of the company.
const MOST_INSIDE: usize = 200;
const MOST_OUTSIDE: usize = 5_000;
/// The folder of mails, beside that of builds.
const MAILS: &str = "mails";

pub(super) fn testers(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    portal.admit(&call.headers, ApiRole::Developer)?;
    let state = portal.state();
    answer(&Testers { groups: state.all(GROUP)?, testers: state.all(TESTER)? })
}

pub(super) fn put_group(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    let name = call.part(0);
    portal.admit(&call.headers, ApiRole::Developer)?;
    let group: Group = read(&call.body)?;
    if group.group != name || !good_line(name) {
        return Err(Refusal::malformed("a group is called by 1 to 100 characters on one line"));
    }
    let now = portal.now();
    portal.state().change(|database, _| state::put(database, GROUP, name, now, &group))?;
    answer(&group)
}

/// What a tester is known by.
fn key_of(group: &str, address: &str) -> String {
    format!("{group}\n{}", address.to_ascii_lowercase())
}

pub(super) fn invite(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    let name = call.part(0);
    let address = call.part(1);
    portal.admit(&call.headers, ApiRole::Developer)?;
    let Invitation { name: called } = read(&call.body)?;
    let is_address = address.split_once('@').is_some_and(|(who, at)| !who.is_empty() && at.contains('.'));
    if !is_address || !good_line(address) || !called.as_deref().is_none_or(good_line) {
        return Err(Refusal::malformed(format!("{address} is no address for mail, or the name is no name")));
    }
    let now = portal.now();
    let salt = portal.state().salt()?;
    let tester = portal.state().change(|database, _| {
        let group: Option<Group> = state::one(database, GROUP, name)?;
        let group = group.ok_or_else(|| Refusal::unknown(format!("there is no group {name}")))?;
        let key = key_of(name, address);
        if let Some(known) = state::one::<Tester>(database, TESTER, &key)? {
            return Ok::<_, Refusal>(known);
        }
        let others: Vec<Tester> = state::all(database, TESTER)?;
        let (most, whose) = if group.outside { (MOST_OUTSIDE, "outside") } else { (MOST_INSIDE, "inside") };
        if others.iter().filter(|one| one.group == name).count() >= most {
            return Err(Refusal::limit(format!(
                "{name} has {most} testers, and a group {whose} has no more"
            )));
        }
        let new = Tester {
            address: address.into(),
            name: called,
            group: name.into(),
            invited: now,
            accepted: None,
        };
        // a mail that nobody could be sent invites nobody
        send_mail(portal, &salt, &new).map_err(|error| failed(&error))?;
        state::put(database, TESTER, &key, now, &new)?;
        Ok(new)
    })?;
    answer(&tester)
}

/// The word in the link of an invitation: made of what is in it and of what only the store has.
fn word_of(salt: &str, tester: &Tester) -> String {
    sha256_hex(format!("{salt}\n{}", key_of(&tester.group, &tester.address)).as_bytes())
}

fn send_mail(portal: &Portal, salt: &str, tester: &Tester) -> std::io::Result<()> {
    let word = word_of(salt, tester);
    let folder = portal.builds.with_file_name(MAILS);
    std::fs::create_dir_all(&folder)?;
    let link = format!("{}{BASE}/testers/acceptances/{word}", portal.address);
    let text = format!(
        "To: {}\nSubject: Try builds with the group {}\n\nOpen this to accept:\n{link}\n",
        tester.address, tester.group
    );
    // an address is a name of a file only as its digest
    let digest = sha256_hex(key_of(&tester.group, &tester.address).as_bytes());
    let file = digest.get(..16).unwrap_or(&digest);
    state::write(&folder.join(format!("{file}.txt")), text.as_bytes(), true)
}

/// Whoever has the link is who was invited.
pub(super) fn accept(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    let word = call.part(0);
    let all: Vec<Tester> = portal.state().all(TESTER)?;
    let salt = portal.state().salt()?;
    let found = all.into_iter().find(|one| word_of(&salt, one) == word);
    let mut tester = found.ok_or_else(|| Refusal::unknown("there is no such invitation"))?;
    let now = portal.now();
    tester.accepted = tester.accepted.or(Some(now));
    let key = key_of(&tester.group, &tester.address);
    portal.state().change(|database, _| state::put(database, TESTER, &key, now, &tester))?;
    answer(&tester)
}

pub(super) fn remove(portal: &Portal, call: &Call) -> Result<Response, Refusal> {
    let name = call.part(0);
    let address = call.part(1);
    portal.admit(&call.headers, ApiRole::Developer)?;
    let key = key_of(name, address);
    let gone = portal.state().change(|database, _| {
        let known: Option<Tester> = state::one(database, TESTER, &key)?;
        let known = known.ok_or_else(|| Refusal::unknown(format!("{address} is not in the group {name}")))?;
        state::take_out(database, TESTER, &key)?;
        Ok::<_, Refusal>(known)
    })?;
    answer(&gone)
}
