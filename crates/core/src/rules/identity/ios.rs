//! The same rules on who signed a build for iOS.

use super::super::{BuildLook, Notes, because, sign_again};
use super::{day, short, subject};
use crate::chain::NoRoot;
use crate::digest::sha256_hex;
use crate::findings::Observation;
use crate::ios::certificate;
use crate::ios::look::IosLook;
use crate::ios::setup::signs_for;
use crate::model::IdentityPurpose;

pub(super) fn wrong_purpose(look: &BuildLook<'_>, ios: &IosLook<'_>, notes: &mut Notes) {
    if !ios.is_signed() {
        return notes.skip(because::UNSIGNED);
    }
    let Some(destination) = look.destination else { return notes.skip("where it goes is not known") };
    let wanted = signs_for(destination);
    for signer in &look.build.signers {
        let found = certificate::read(&signer.certificate).ok().and_then(|says| says.purpose);
        if found.map(IdentityPurpose::nine_key) != Some(wanted) {
            let text =
                format!("the certificate that signed it is not for builds for {}", destination.phrase());
            let found = found.map_or("none that is known", |found| found.nine_key().word());
            let seen = Observation::new(text).expected(wanted.word()).found(found);
            notes.found(sign_again(look, seen.place(subject(&signer.certificate))));
        }
    }
}

pub(super) fn revoked(look: &BuildLook<'_>, ios: &IosLook<'_>, notes: &mut Notes) {
    if !ios.is_signed() {
        return notes.skip(because::UNSIGNED);
    }
    for signer in &look.build.signers {
        let known = ios.against.revoked.iter().find(|(known, _)| *known == signer.certificate_fingerprint);
        if let Some((_, at)) = known {
            let seen = Observation::new("the certificate that signed it was revoked");
            let seen = seen.found(format!("on {}", day(*at))).place(subject(&signer.certificate));
            notes.found(sign_again(look, seen));
        }
    }
}

pub(super) fn team_mismatch(look: &BuildLook<'_>, ios: &IosLook<'_>, notes: &mut Notes) {
    let Some(team) = ios.against.team else { return notes.skip("the project file names no team") };
    for signer in &look.build.signers {
        let own = certificate::read(&signer.certificate).ok().and_then(|says| says.team);
        if own.as_deref() != Some(team) {
            let seen = Observation::new("the certificate that signed it is another team's").expected(team);
            let seen = seen.found(own.as_deref().unwrap_or("none")).place(subject(&signer.certificate));
            notes.found(sign_again(look, seen));
        }
    }
}

pub(super) fn chain_incomplete(look: &BuildLook<'_>, ios: &IosLook<'_>, notes: &mut Notes) {
    if look.build.signers.is_empty() {
        return notes.skip(because::UNSIGNED);
    }
    for (fingerprint, chain) in ios.chains() {
        match chain {
            Ok(_) => {}
            Err(NoRoot::Lacks(issuer)) => {
                let seen = Observation::new("the path of its signer lacks a certificate").found("nothing");
                notes.found(sign_again(look, seen.expected(issuer).place(short(fingerprint))));
            }
            Err(NoRoot::Path(fault)) => {
                let seen = Observation::new("the path of its signer does not hold").found(fault);
                notes.found(sign_again(look, seen.place(short(fingerprint))));
            }
        }
    }
}

pub(super) fn chain_untrusted(look: &BuildLook<'_>, ios: &IosLook<'_>, notes: &mut Notes) {
    let roots = ios.against.roots;
    if roots.is_empty() {
        return notes.skip("the project file names no roots");
    }
    for (fingerprint, chain) in ios.chains() {
        let Some(root) = chain.as_ref().ok().and_then(|chain| chain.last()) else { continue };
        if !roots.iter().any(|known| known.der == root.der) {
            let seen = Observation::new("its signer leads to no root that the project names");
            let found = format!("{} {}", root.subject, short(&sha256_hex(&root.der)));
            notes.found(sign_again(look, seen.found(found).place(short(fingerprint))));
        }
    }
}
