//! The same rules on what an app has before there is a build: the identity that would sign it.

use jiff::SignedDuration;

use super::super::Notes;
use super::{day, short};
use crate::chain::End;
use crate::findings::{Level, Mend, Observation};
use crate::ios::setup::{AgainstIdentity, IdentityChoice, Setup, parsed, signs_for};
use crate::keys::SignatureKind;
use crate::model::{CertificateFacts, IdentityPurpose, PushEnvironment, State, Wholeness};
use crate::revocation::Learnt;

fn request(setup: &Setup<'_>) -> Mend {
    Mend::Prepare { app: setup.wanted.app.to_owned(), destination: setup.wanted.destination }
}

fn called(choice: &IdentityChoice<'_>) -> String {
    let short = choice.certificate.map(|certificate| short(&certificate.fingerprint));
    short.map_or_else(|| choice.item.name.clone(), |short| format!("{} {short}", choice.item.name))
}

/// The identities that are not taken, where none is.
fn passed_over<'s, 'a>(setup: &'s Setup<'a>) -> impl Iterator<Item = &'s IdentityChoice<'a>> {
    setup.identities.iter().filter(|_| setup.taken().is_none())
}

/// What is said of identities where none can be taken: of the one that comes nearest as the rule says, of others as a note.
fn each(setup: &Setup<'_>, notes: &mut Notes, say: impl Fn(&AgainstIdentity) -> Option<Observation>) {
    each_choice(setup, notes, |_, against| say(against));
}

/// The same where it matters which one it is.
fn each_choice(
    setup: &Setup<'_>,
    notes: &mut Notes,
    say: impl Fn(&IdentityChoice<'_>, &AgainstIdentity) -> Option<Observation>,
) {
    for (index, choice) in passed_over(setup).enumerate() {
        for seen in choice.against.iter().filter_map(|against| say(choice, against)) {
            let seen = seen.place(called(choice));
            notes.found(if index == 0 { seen } else { seen.level(Level::Note).without_mend() });
        }
    }
}

pub(super) fn missing(setup: &Setup<'_>, notes: &mut Notes) {
    let word = signs_for(setup.wanted.destination).word();
    if setup.identities.is_empty() {
        let text = format!(
            "the cabinet holds no {word}, and builds for {} need one",
            setup.wanted.destination.phrase()
        );
        notes.found(Observation::new(text).mend(request(setup)));
    }
    each(setup, notes, |against| match against {
        AgainstIdentity::Waiting => {
            let text = format!("the {word} was asked for, and its certificate is not here yet");
            Some(Observation::new(text).mend(Mend::AcceptCertificate))
        }
        AgainstIdentity::HeldBy(holder) => {
            let text =
                format!("the key of this {word} is held by {holder}: builds are signed there, not here");
            Some(Observation::new(text).level(Level::Note))
        }
        _ => None,
    });
}

/// Where no identity of the kind is here, one that signs for something else is taken for it easily.
pub(super) fn wrong_purpose(setup: &Setup<'_>, notes: &mut Notes) {
    if !setup.identities.is_empty() {
        return;
    }
    let wanted = signs_for(setup.wanted.destination);
    let signs = |purpose: IdentityPurpose| !matches!(purpose, IdentityPurpose::Push(_));
    for (item, facts) in &setup.wanted.roster.identities {
        let other_team = matches!((setup.wanted.team, &facts.team), (Some(team), Some(own)) if team != own);
        if item.state != State::Active || other_team || !signs(facts.purpose) || facts.certificate.is_none() {
            continue;
        }
        let word = facts.purpose.nine_key().word();
        let text = format!(
            "{} is a {word}, and signs no build for {}",
            item.name,
            setup.wanted.destination.phrase()
        );
        let seen = Observation::new(text).expected(wanted.word()).found(word).place(&item.name);
        notes.found(seen.mend(request(setup)));
    }
}

/// What brings the successor of an identity that has ended: its rotation takes all its profiles along, where its key is here.
fn successor(setup: &Setup<'_>, choice: &IdentityChoice<'_>) -> Mend {
    match choice.facts.wholeness() {
        Wholeness::Whole if choice.facts.revoked.is_none() => Mend::Rotate { item: choice.item.name.clone() },
        _ => request(setup),
    }
}

pub(super) fn expired(setup: &Setup<'_>, notes: &mut Notes) {
    each_choice(setup, notes, |choice, against| match against {
        AgainstIdentity::Ended(end) => {
            let seen = Observation::new("its certificate has ended").mend(successor(setup, choice));
            Some(seen.expected("a certificate that is valid").found(format!("ended {}", day(*end))))
        }
        _ => None,
    });
}

pub(super) fn revoked(setup: &Setup<'_>, notes: &mut Notes) {
    each(setup, notes, |against| match against {
        AgainstIdentity::Revoked(at) => {
            let seen = Observation::new("its certificate was revoked").mend(request(setup));
            Some(seen.found(format!("revoked {}", day(*at))))
        }
        _ => None,
    });
}

/// Where it cannot be learnt whether the certificate was revoked, that is said: it is no pass.
pub(super) fn revocation_unknown(setup: &Setup<'_>, notes: &mut Notes) {
    let certificate = setup.taken().and_then(|taken| Some((taken, taken.certificate?)));
    let Some((taken, certificate)) = certificate else {
        return notes.skip("there is no identity to sign with");
    };
    match setup.wanted.revocations.get(&certificate.fingerprint) {
        None => notes.skip("its certificate names no address where that could be asked, or nobody that the project names vouches for it"),
        Some(Learnt::Good | Learnt::Revoked(_)) => {}
        Some(Learnt::Nothing { address, because }) => {
            let seen = Observation::new("whether its certificate was revoked could not be learnt");
            notes.found(seen.found(format!("{address}: {because}")).place(called(taken)));
        }
    }
}

/// Whether a certificate ends within the time that the project calls due.
pub(in crate::rules) fn due(setup: &Setup<'_>, certificate: &CertificateFacts) -> bool {
    let wait = SignedDuration::from_hours(24 * i64::from(setup.wanted.policy.due_days));
    certificate.not_after.duration_since(setup.wanted.now) < wait
}

pub(super) fn expires_soon(setup: &Setup<'_>, notes: &mut Notes) {
    let Some(taken) = setup.taken() else { return notes.skip("there is no identity to sign with") };
    let Some(certificate) = taken.certificate else { return };
    if due(setup, certificate) {
        let days = certificate.not_after.duration_since(setup.wanted.now).as_hours() / 24;
        let text = format!("its certificate ends in {days} days; profiles that name it end with it");
        let seen = Observation::new(text).found(day(certificate.not_after)).place(called(taken));
        notes.found(seen.mend(Mend::Rotate { item: taken.item.name.clone() }));
    }
}

pub(super) fn not_yet_valid(setup: &Setup<'_>, notes: &mut Notes) {
    each(setup, notes, |against| match against {
        AgainstIdentity::NotYet(begin) => {
            let seen = Observation::new("its certificate is not valid yet");
            Some(seen.found(format!("begins {}", day(*begin))))
        }
        _ => None,
    });
}

pub(super) fn without_private_key(setup: &Setup<'_>, notes: &mut Notes) {
    each(setup, notes, |against| match against {
        AgainstIdentity::WithoutKey => {
            let text = "its certificate is here and its private key is not: nothing can be signed with it";
            Some(Observation::new(text).mend(Mend::ImportIdentity))
        }
        _ => None,
    });
}

pub(super) fn team_mismatch(setup: &Setup<'_>, notes: &mut Notes) {
    let Some(team) = setup.wanted.team else { return notes.skip("the project file names no team") };
    each(setup, notes, |against| match against {
        AgainstIdentity::OtherTeam(other) => {
            let seen = Observation::new("it was issued to another team").expected(team).found(other);
            Some(seen.mend(request(setup)))
        }
        _ => None,
    });
}

pub(super) fn chain_incomplete(setup: &Setup<'_>, notes: &mut Notes) {
    let (Some(taken), Some(chain)) = (setup.taken(), &setup.chain) else {
        return notes.skip("there is no identity to sign with");
    };
    match &chain.end {
        End::Root => {}
        End::Lacks { issuer, addresses } => {
            let seen = Observation::new(format!("the certificate of its issuer is not here: {issuer}"));
            let seen = match addresses.first() {
                Some(address) => seen.found(format!("it can be had from {address}")),
                None => seen,
            };
            notes.found(seen.place(called(taken)).mend(Mend::AcceptCertificate));
        }
        End::TooLong => {
            notes.found(
                Observation::new("its chain is longer than any that is believed").place(called(taken)),
            );
        }
    }
}

pub(super) fn chain_untrusted(setup: &Setup<'_>, notes: &mut Notes) {
    if setup.wanted.roots.is_empty() {
        return notes.skip("the project file names no roots");
    }
    let (Some(taken), Some(chain)) = (setup.taken(), &setup.chain) else {
        return notes.skip("there is no identity to sign with");
    };
    if let Some(root) = chain.root()
        && !setup.wanted.roots.iter().any(|known| known.der == root.der)
    {
        let text = "its chain leads to an authority that the project does not name";
        notes.found(Observation::new(text).found(&root.subject).place(called(taken)));
    }
    if let Err(fault) = chain.hold_above_leaf(setup.wanted.now) {
        notes.found(Observation::new(format!("its chain does not hold: {fault}")).place(called(taken)));
    }
}

pub(super) fn algorithm_weak(setup: &Setup<'_>, notes: &mut Notes) {
    let Some(chain) = &setup.chain else { return notes.skip("there is no identity to sign with") };
    // a root vouches for itself: its own signature proves nothing
    for certificate in chain.certificates.iter().filter(|one| !one.self_issued) {
        if SignatureKind::named(&certificate.signature_algorithm) == Some(SignatureKind::RsaSha1) {
            let seen = Observation::new("it is signed with SHA-1, which can be forged");
            notes.found(seen.place(format!("certificate of {}", certificate.subject)));
        }
    }
}

pub(super) fn too_weak(setup: &Setup<'_>, notes: &mut Notes) {
    let taken = setup.taken();
    let certificate = taken.and_then(|taken| taken.certificate).and_then(parsed);
    let (Some(taken), Some(certificate)) = (taken, certificate) else {
        return notes.skip("there is no identity to sign with");
    };
    if super::is_weak(&certificate.key) {
        notes.found(Observation::new("its key is too weak").found(&certificate.key).place(called(taken)));
    }
}

pub(super) fn push_missing(setup: &Setup<'_>, notes: &mut Notes) {
    if !setup.has_push() {
        return notes.skip("the app takes no notifications");
    }
    let wanted = setup.servers();
    if setup.push.iter().any(|choice| choice.reaches(wanted) && choice.sends()) {
        return;
    }
    let other = setup.push.iter().find(|choice| !choice.reaches(wanted) && choice.sends());
    if other.is_some() && wanted == PushEnvironment::Production {
        // what is in its place is a finding of its own
        return;
    }
    let text = format!("the app takes notifications, and there is no push identity for {}", wanted.word());
    let ended = setup.push.iter().find(|choice| choice.reaches(wanted));
    let seen = Observation::new(text);
    let seen = match ended {
        Some(choice) if choice.against.contains(&AgainstIdentity::Waiting) => {
            seen.found("asked for, and its certificate is not here yet").place(called(choice))
        }
        Some(choice) => seen.found("its certificate has ended").place(called(choice)),
        None => seen,
    };
    let waits = ended.is_some_and(|choice| choice.against.contains(&AgainstIdentity::Waiting));
    let kind = crate::model::NineKey::Push;
    let mend = match waits {
        true => Mend::AcceptCertificate,
        false => Mend::RequestIdentity { kind, app: Some(setup.wanted.app.to_owned()) },
    };
    notes.found(seen.mend(mend));
}

pub(super) fn push_sandbox(setup: &Setup<'_>, notes: &mut Notes) {
    if !setup.has_push() {
        return notes.skip("the app takes no notifications");
    }
    if setup.servers() != PushEnvironment::Production {
        return notes.skip("builds for development listen to the sandbox");
    }
    let production = setup.push.iter().any(|one| one.reaches(PushEnvironment::Production) && one.sends());
    let sandbox = setup.push.iter().find(|one| one.reaches(PushEnvironment::Sandbox) && one.sends());
    if let (false, Some(sandbox)) = (production, sandbox) {
        let text = "the push identity is the sandbox's: what it sends reaches no build that leaves the house";
        let seen = Observation::new(text).expected("production").found("sandbox").place(called(sandbox));
        let kind = crate::model::NineKey::Push;
        notes.found(seen.mend(Mend::RequestIdentity { kind, app: Some(setup.wanted.app.to_owned()) }));
    }
}
