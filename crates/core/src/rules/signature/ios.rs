//! The same rules on the signatures and seals of a build for iOS.

use std::collections::BTreeSet;

use super::super::{BuildLook, Notes, because, sign_again};
use super::first_of;
use crate::findings::Observation;
use crate::ios::code::{Signature, SignedBy};
use crate::ios::look::{IosLook, signed};
use crate::ios::package::{Executable, INFO, SEAL, Seal};
use crate::ios::seal::FlawKind;

/// The most files of one bundle that are named.
const MOST_NAMED: usize = 10;

/// Who signed, in a word, where nobody with a certificate did.
fn unsigned_word(executable: &Executable) -> String {
    let mut words: Vec<&str> = Vec::new();
    for code in executable.slices() {
        let word = match &code.signature {
            Signature::None => "not at all",
            Signature::Unreadable(_) => "by something that cannot be read",
            Signature::Found(signed) => match signed.by {
                SignedBy::Linker => "by the linker alone",
                SignedBy::AdHoc => "without a certificate",
                SignedBy::Certificate(_) => continue,
            },
        };
        if !words.contains(&word) {
            words.push(word);
        }
    }
    words.join(", ")
}

pub(super) fn unsigned(look: &BuildLook<'_>, ios: &IosLook<'_>, notes: &mut Notes) {
    let Some(app) = ios.build.app() else { return notes.skip("there is no app in it") };
    if let Err(error) = &app.executable.code {
        let seen = Observation::new("the app's executable cannot be looked at").found(error);
        return notes.found(seen.place(&app.executable.path));
    }
    if !app.executable.is_signed() {
        let seen = Observation::new("nobody has signed it").expected("a signature");
        let seen = seen.found(unsigned_word(&app.executable)).place(&app.executable.path);
        notes.found(sign_again(look, seen));
    }
}

pub(super) fn nested_unsigned(look: &BuildLook<'_>, ios: &IosLook<'_>, notes: &mut Notes) {
    if !ios.is_signed() {
        return notes.skip(because::UNSIGNED);
    }
    let team = ios.app().and_then(|app| app.signed().next()).and_then(|(signed, _)| signed.team.clone());
    let mut found = Vec::new();
    for executable in ios.build.executables().skip(1) {
        if let Err(error) = &executable.code {
            let seen = Observation::new("this code cannot be looked at").found(error).place(&executable.path);
            found.push(seen);
        } else if !executable.is_signed() {
            let seen = Observation::new("this code is not signed").expected("as the app is");
            let seen = seen.found(unsigned_word(executable)).place(&executable.path);
            found.push(sign_again(look, seen));
        } else if let Some((other, _)) = signed(executable).find(|(signed, _)| signed.team != team) {
            let seen = Observation::new("this code is signed by another team than the app");
            let none = || "none".to_owned();
            let seen = seen.expected(team.clone().unwrap_or_else(none));
            let seen = seen.found(other.team.clone().unwrap_or_else(none)).place(&executable.path);
            found.push(sign_again(look, seen));
        }
    }
    first_of(found.into_iter(), notes);
}

pub(super) fn invalid(_: &BuildLook<'_>, ios: &IosLook<'_>, notes: &mut Notes) {
    if !ios.is_signed() {
        return notes.skip(because::UNSIGNED);
    }
    let mut found = Vec::new();
    let text = "the signature is not valid";
    for executable in ios.build.executables() {
        let seen = |fault: String| Observation::new(text).found(fault).place(&executable.path);
        for code in executable.slices() {
            found.extend(code.misplaced.iter().map(|misplaced| seen(misplaced.to_string())));
            match &code.signature {
                Signature::None => {}
                Signature::Unreadable(error) => found.push(seen(error.to_string())),
                Signature::Found(signed) => {
                    found.extend(signed.faults.iter().map(|fault| seen(fault.to_string())));
                }
            }
        }
        for (signed, signer) in signed(executable) {
            if ios.meets(signed, signer) == Some(false) {
                found.push(seen("the code is not what its own requirement demands".into()));
            }
        }
    }
    for bundle in &ios.build.bundles {
        let seen = |fault: String, name: &str| {
            Observation::new("the seal is not valid").found(fault).place(format!("{}/{name}", bundle.path))
        };
        let identifiers =
            bundle.executable.signatures().filter(|signed| !matches!(signed.by, SignedBy::Linker));
        for signed in identifiers.filter(|signed| signed.identifier != bundle.id()) {
            let fault = format!("its code is called {}, and the bundle {}", signed.identifier, bundle.id());
            found.push(seen(fault, INFO));
        }
        found.extend(bundle.parts.iter().map(|part| seen("it is not what was signed".into(), part)));
        match &bundle.seal {
            Seal::None if bundle.executable.is_signed() => {
                found.push(seen("it has no seal over its files".into(), SEAL));
            }
            Seal::Unreadable(error) => found.push(seen(error.to_string(), SEAL)),
            Seal::None | Seal::Compared { .. } => {}
        }
    }
    first_of(found.into_iter(), notes);
}

pub(super) fn timestamp_untrusted(_: &BuildLook<'_>, ios: &IosLook<'_>, notes: &mut Notes) {
    let all = ios.build.executables().flat_map(|executable| {
        let stamped = signed(executable).filter_map(|(_, signer)| signer.stamped.as_ref());
        stamped.map(move |stamped| (executable, stamped))
    });
    let mut all = all.peekable();
    if all.peek().is_none() {
        return notes.skip("no signature has a timestamp");
    }
    let roots = ios.against.roots;
    if roots.is_empty() {
        return notes.skip("the project file names no roots");
    }
    // one authority stamps all of a build
    let mut told = BTreeSet::new();
    for (executable, stamped) in all {
        let because = match stamped.chain(ios.against.pool) {
            Ok(path) if path.last().is_some_and(|root| roots.iter().any(|own| own.der == root.der)) => {
                continue;
            }
            Ok(path) => path.last().map(|root| root.subject.clone()).unwrap_or_default(),
            Err(error) => error.to_string(),
        };
        if told.insert(stamped.authority.der.clone()) {
            let text = format!("its timestamp is by {}", stamped.authority.subject);
            let seen = Observation::new(text).expected("an authority below a root of the project");
            notes.found(seen.found(because).place(&executable.path));
        }
    }
}

/// Files of one kind, bundle by bundle: the nearest bundle is the one that is said, since whatever is around it tells the same.
fn files(ios: &IosLook<'_>, notes: &mut Notes, say: impl Fn(FlawKind) -> Option<&'static str>) {
    if !ios.is_signed() {
        return notes.skip(because::UNSIGNED);
    }
    let mut told: BTreeSet<String> = BTreeSet::new();
    // inner bundles come after those that they are inside of
    for bundle in ios.build.bundles.iter().rev() {
        let Seal::Compared { flaws, .. } = &bundle.seal else { continue };
        let mut count = 0;
        let mut more = flaws.more;
        for (path, kind) in &flaws.files {
            let Some(text) = say(*kind) else { continue };
            let place = format!("{}/{path}", bundle.path);
            if told.contains(&place) {
                continue;
            }
            count += 1;
            match count <= MOST_NAMED {
                true => notes.found(Observation::new(text).place(&place)),
                false => more += 1,
            }
            told.insert(place);
        }
        if count > 0 && more > 0 {
            notes.found(Observation::new(format!("and {more} files more")).place(&bundle.path));
        }
    }
}

pub(super) fn modified(_: &BuildLook<'_>, ios: &IosLook<'_>, notes: &mut Notes) {
    files(ios, notes, |kind| match kind {
        FlawKind::Modified => Some("this file is not what was sealed"),
        FlawKind::Missing => Some("this file was sealed and is not there"),
        FlawKind::Unsealed => None,
    });
}

pub(super) fn unsealed(_: &BuildLook<'_>, ios: &IosLook<'_>, notes: &mut Notes) {
    files(ios, notes, |kind| match kind {
        FlawKind::Unsealed => Some("this file was put there after the bundle was sealed"),
        FlawKind::Modified | FlawKind::Missing => None,
    });
}
