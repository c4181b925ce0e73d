//! Executables of the iOS side: made by independent compilers, linkers and a signer, and what somebody changed in them.

#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests fail by panicking")]

mod common;

use std::fs;
use std::path::Path;

use common::with_env;
use ninekeys_core::chain::NoRoot;
use ninekeys_core::digest::hex;
use ninekeys_core::ios::code::{Code, CodeError, CodeFault, Home, Signature, Signed, SignedBy, examine};
use ninekeys_core::ios::requirement::{Subject, holds};
use ninekeys_formats::entitlements::Entitlement;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::macho::Misplaced;
use ninekeys_formats::pem;
use ninekeys_formats::x509::Certificate;

const NOW: &str = "2026-12-01T00:00:00Z";

fn sample(name: &str) -> Vec<u8> {
    fs::read(Path::new(env!("CARGO_MANIFEST_DIR")).join("../../testkit/samples").join(name)).unwrap()
}

fn certificate(name: &str) -> Certificate {
    let der = pem::blocks(&sample(name), pem::CERTIFICATE, &Limits::USUAL).remove(0);
    Certificate::parse(&der, &Limits::USUAL).unwrap()
}

fn look(bytes: &[u8]) -> Result<Vec<Code>, CodeError> {
    with_env(NOW, |env| examine(&bytes, Home::Alone, &Limits::USUAL, env))
}

/// The signature of a file that is one slice.
fn signed(bytes: &[u8]) -> Signed {
    match look(bytes).unwrap().remove(0).signature {
        Signature::Found(signed) => *signed,
        other => panic!("{other:?}"),
    }
}

/// What is wrong with such a file, whatever says so; nothing where it is as it was signed.
fn faults(bytes: &[u8]) -> Vec<String> {
    match look(bytes) {
        Err(error) => vec![error.to_string()],
        Ok(all) => all
            .iter()
            .flat_map(|code| {
                let mut out: Vec<String> = code.misplaced.iter().map(ToString::to_string).collect();
                match &code.signature {
                    Signature::None => out.push("not signed".into()),
                    Signature::Unreadable(error) => out.push(error.to_string()),
                    Signature::Found(signed) => out.extend(signed.faults.iter().map(ToString::to_string)),
                }
                out
            })
            .collect(),
    }
}

fn put(bytes: &[u8], at: usize, value: &[u8]) -> Vec<u8> {
    let mut bytes = bytes.to_vec();
    bytes[at..at + value.len()].copy_from_slice(value);
    bytes
}

/// Where the sample's signature begins, how long its list of blobs is, and where its parts lie in it.
const SIGNATURE: usize = 65_856;

fn word(bytes: &[u8], at: usize) -> usize {
    u32::from_be_bytes(bytes[at..at + 4].try_into().unwrap()) as usize
}

/// The range of a blob in the file, by its slot.
fn blob(bytes: &[u8], slot: usize) -> std::ops::Range<usize> {
    let entry = (0..word(bytes, SIGNATURE + 8)).map(|index| SIGNATURE + 12 + 8 * index);
    let entry = entry.clone().find(|entry| word(bytes, *entry) == slot).unwrap();
    let start = SIGNATURE + word(bytes, entry + 4);
    start..start + word(bytes, start + 4)
}

#[test]
fn what_an_independent_signer_signed_holds_and_leads_to_its_root() {
    let bytes = sample("code/crossing-signed");
    let all = look(&bytes).unwrap();
    let [code] = all.as_slice() else { panic!("{} slices", all.len()) };
    let built = code.slice.built_for.unwrap();
    assert_eq!((code.slice.processor.to_string(), built.platform), ("arm64".into(), 2));
    assert_eq!((built.lowest.to_string(), built.sdk.to_string()), ("14.0".into(), "16.0".into()));
    assert_eq!((code.slice.kind, code.slice.encrypted, code.misplaced.len()), (2, false, 0));
    let signed = signed(&bytes);
    assert_eq!(signed.faults, []);
    assert_eq!(
        (signed.identifier.as_str(), signed.team.as_deref()),
        ("example.gannetpoint.crossing", Some("GPFERRY009"))
    );
    let required = signed.requirement.unwrap();
    let told = required.to_string();
    assert!(told.starts_with("the identifier is \"example.gannetpoint.crossing\""), "{told}");
    let claimed = signed.entitlements.unwrap();
    assert_eq!(claimed.get("get-task-allow"), Some(&Entitlement::Flag(false)));
    assert_eq!(claimed.get("aps-environment"), Some(&Entitlement::Text("production".into())));
    let [directory] = signed.directories.as_slice() else { panic!("{:?}", signed.directories) };
    assert_eq!((directory.pages, directory.page), (17, Some(4096)));
    assert_eq!(hex(&directory.code_hash), "1bfc80889d7b6edfaa2b40c318d273d0de582ac1");
    let SignedBy::Certificate(Some(signer)) = signed.by else { panic!("{:?}", signed.by) };
    let chain = signer.chain(&[], NOW.parse().unwrap()).unwrap();
    assert_eq!(chain.last(), Some(&certificate("ios/root.pem")));
    // the requirement that names the code is met by it, and by no other
    let of = |identifier, chain, anchored| {
        let code_hashes = std::slice::from_ref(&directory.code_hash);
        holds(&required, &Subject { identifier, chain, anchored, code_hashes, entitlements: Some(&claimed) })
    };
    let own = "example.gannetpoint.crossing";
    assert_eq!(of(own, &chain, Some(true)), Some(true), "{told}");
    assert_eq!(of(own, &chain, None), None);
    assert_eq!(of(own, &chain, Some(false)), Some(false));
    assert_eq!(of("example.gannetpoint.quayside", &chain, None), Some(false));
    assert_eq!(of(own, &chain[1..], Some(true)), Some(false));
    // what came with it is what leads there
    let alone = ninekeys_core::ios::code::Signer { beside: Vec::new(), ..*signer };
    assert!(matches!(alone.chain(&[], NOW.parse().unwrap()), Err(NoRoot::Lacks(_))));
    let pool = [certificate("ios/intermediate.pem"), certificate("ios/root.pem")];
    assert_eq!(alone.chain(&pool, NOW.parse().unwrap()).unwrap().len(), 3);
    // signed while it was good, or good now
    assert!(alone.chain(&pool, "2031-01-01T00:00:00Z".parse().unwrap()).is_ok());
    let undated = ninekeys_core::ios::code::Signer { signed: None, ..alone };
    assert!(matches!(undated.chain(&pool, "2031-01-01T00:00:00Z".parse().unwrap()), Err(NoRoot::Path(_))));
}

#[test]
fn what_a_linker_hashed_we_hash_alike_in_every_slice() {
    let bytes = sample("code/deckhand-fat");
    let all = look(&bytes).unwrap();
    let said: Vec<String> = all.iter().map(|code| code.slice.processor.to_string()).collect();
    assert_eq!(said, ["arm64", "x86_64"]);
    for code in &all {
        let Signature::Found(signed) = &code.signature else { panic!("{:?}", code.signature) };
        assert!(matches!(signed.by, SignedBy::Linker), "{:?}", signed.by);
        assert_eq!((signed.faults.len(), signed.identifier.as_str()), (0, "Deckhand"), "{:?}", signed.faults);
        assert!(signed.directories[0].pages > 5 && signed.entitlements.is_none() && signed.team.is_none());
    }
    // a byte of the second slice is no matter of the first
    let changed = put(&bytes, all[1].at.range.start as usize + 5000, &[0xff]);
    let faulty: Vec<bool> = look(&changed)
        .unwrap()
        .iter()
        .map(|code| matches!(&code.signature, Signature::Found(signed) if !signed.faults.is_empty()))
        .collect();
    assert_eq!(faulty, [false, true]);
}

#[test]
fn how_much_room_there_is_for_a_signature_is_told() {
    let tight = sample("code/deckhand-tight");
    let code = look(&tight).unwrap().remove(0);
    assert!(matches!(code.signature, Signature::None));
    assert_eq!(code.slice.room(), 8);
    assert!(look(&sample("code/crossing-signed")).unwrap()[0].slice.room() > 1000);
}

#[test]
fn every_byte_of_the_code_and_of_what_is_hashed_beside_it_is_covered() {
    let bytes = sample("code/crossing-signed");
    assert_eq!(faults(&bytes), [] as [String; 0]);
    // behind the load commands, which are read before they are hashed
    for at in (2_048..SIGNATURE).step_by(1_511).chain([SIGNATURE - 1]) {
        let wanted = format!("1 of its 17 pages: not what was signed, from byte {} on", at / 4096 * 4096);
        assert_eq!(faults(&put(&bytes, at, &[bytes[at] ^ 0x10])), [wanted], "byte {at}");
    }
    for at in (0..2_048).step_by(13) {
        assert!(!faults(&put(&bytes, at, &[bytes[at] ^ 0x10])).is_empty(), "byte {at} of the commands");
    }
    // directory, requirements and both forms of the entitlements
    for slot in [0, 2, 5, 7] {
        let range = blob(&bytes, slot);
        for at in range.clone().step_by(if range.len() > 300 { 7 } else { 1 }) {
            assert!(!faults(&put(&bytes, at, &[bytes[at] ^ 1])).is_empty(), "byte {at} of slot {slot}");
        }
    }
    // behind the list nothing is covered
    let length = word(&bytes, SIGNATURE + 4);
    assert_eq!(faults(&put(&bytes, SIGNATURE + length + 5, &[1])), [] as [String; 0]);
}

#[test]
fn a_message_that_was_changed_or_is_over_something_else_is_told() {
    let bytes = sample("code/crossing-signed");
    let message = blob(&bytes, 0x10000);
    let says = |bytes: &[u8], wanted: &str| {
        let all = faults(bytes);
        assert!(all.iter().any(|fault| fault.contains(wanted)), "{wanted}: {all:?}");
    };
    // the signature comes last in it, before the ends of what it is in
    says(
        &put(&bytes, message.end - 30, &[bytes[message.end - 30] ^ 1]),
        "does not hold: the signature is wrong",
    );
    let digest = sha256(&bytes[blob(&bytes, 0)]);
    let at = message.start + find(&bytes[message.clone()], &digest).unwrap();
    says(&put(&bytes, at, &[bytes[at] ^ 1]), "does not hold");
    // nothing there, or nothing that can be read
    says(&put(&bytes, message.start + 8, &[0x31]), "signature cannot be read");
    let empty = put(&bytes, message.start + 4, &8u32.to_be_bytes());
    says(&empty, "no signature is there");
    // the flags say that nobody signed it: then the directory is another than the one that was signed, and no certificate counts
    let directory = blob(&bytes, 0);
    let ad_hoc = put(&bytes, directory.start + 12, &2u32.to_be_bytes());
    assert!(matches!(signed(&ad_hoc).by, SignedBy::AdHoc));
    // a certificate for something else (RFC 5280, section 4.2.1.12: code signing is 3, mail 4)
    let purpose = [0x2b, 0x06, 0x01, 0x05, 0x05, 0x07, 0x03, 0x03];
    let mut for_mail = bytes.clone();
    while let Some(at) = find(&for_mail[message.clone()], &purpose) {
        for_mail[message.start + at + 7] = 4;
    }
    says(&for_mail, "is not for signing code");
    // another team than the certificate's
    let team = directory.start + find(&bytes[directory.clone()], b"GPFERRY009").unwrap();
    let other = put(&bytes, team + 9, b"8");
    let found = signed(&other).faults;
    let named = CodeFault::OtherTeam { named: "GPFERRY008".into(), signer: "GPFERRY009".into() };
    assert!(found.contains(&named) && found.contains(&CodeFault::OtherHashes), "{found:?}");
}

fn sha256(bytes: &[u8]) -> Vec<u8> {
    ninekeys_core::digest::sha256(bytes).to_vec()
}

fn find(bytes: &[u8], wanted: &[u8]) -> Option<usize> {
    bytes.windows(wanted.len()).position(|window| window == wanted)
}

#[test]
fn directories_that_lie_are_refused_before_anything_is_hashed() {
    let bytes = sample("code/crossing-signed");
    let directory = blob(&bytes, 0).start;
    let unreadable = |at: usize, value: &[u8], what: &str| {
        let all = faults(&put(&bytes, directory + at, value));
        assert!(all.iter().any(|fault| fault.contains(what)), "{what}: {all:?}");
    };
    unreadable(39, &[31], "size of a page");
    unreadable(39, &[3], "size of a page");
    unreadable(37, &[9], "kind of hash");
    unreadable(36, &[20], "kind of hash");
    unreadable(44, &1u32.to_be_bytes(), "scatter table");
    unreadable(28, &u32::MAX.to_be_bytes(), "code slots");
    unreadable(24, &u32::MAX.to_be_bytes(), "special slots");
    unreadable(16, &u32::MAX.to_be_bytes(), "special slots");
    unreadable(20, &u32::MAX.to_be_bytes(), "identifier");
    unreadable(48, &u32::MAX.to_be_bytes(), "team");
    unreadable(32, &4096u32.to_be_bytes(), "code slots");
    unreadable(56, &u64::MAX.to_be_bytes(), "code slots");
    // as many pages as the limit says, and the limit elsewhere
    let mut short = put(&bytes, directory + 32, &(16 * 4096u32).to_be_bytes());
    short = put(&short, directory + 28, &16u32.to_be_bytes());
    assert!(
        faults(&short).iter().any(|fault| fault.contains("its hashes end at byte 65536")),
        "{:?}",
        faults(&short)
    );
    // blobs over each other, twice in a slot, out of the list
    let entry = |index: usize| SIGNATURE + 12 + 8 * index;
    for (at, value, what) in [
        (entry(1) + 4, word(&bytes, entry(0) + 4) as u32, "blob over another"),
        (entry(1), 0, "slot"),
        (entry(1) + 4, u32::MAX, "blob"),
        (SIGNATURE + 4, u32::MAX, "length of the signature"),
        (SIGNATURE + 8, 65, "blobs"),
        (SIGNATURE, 0xfade_0cc1, "kind of the signature"),
    ] {
        let all = faults(&put(&bytes, at, &value.to_be_bytes()));
        assert!(all.iter().any(|fault| fault.contains(what)), "{what}: {all:?}");
    }
}

#[test]
fn files_whose_numbers_lie_are_refused() {
    let (thin, fat) = (sample("code/crossing-signed"), sample("code/deckhand-fat"));
    let refused = |bytes: &[u8], what: &str| {
        let error = look(bytes).map(|_| ()).unwrap_err().to_string();
        assert!(error.contains(what), "{what}: {error}");
    };
    refused(b"", "magic");
    refused(b"PK\x03\x04abcd", "magic");
    refused(&thin[..40], "load commands");
    refused(&put(&thin, 16, &u32::MAX.to_le_bytes()), "above the limit");
    refused(&put(&thin, 20, &u32::MAX.to_le_bytes()), "above the limit");
    refused(&put(&thin, 20, &85_960u32.to_le_bytes()), "size of the load commands");
    refused(&put(&thin, 36, &7u32.to_le_bytes()), "load command's size");
    refused(&put(&thin, 36, &u32::MAX.to_le_bytes()), "load command");
    // slices: none, too many, over the header, over each other, out of the file, of one processor twice
    for (at, value, what) in [
        (4, 0u32, "slices"),
        (4, 29, "slice"),
        (4, 30, "slices"),
        (16, 0, "slice over another"),
        (36, 16384, "slice over another"),
        (40, u32::MAX, "slice's size"),
        (24, 40, "slice's start"),
        (8, 0x0c, "another processor"),
    ] {
        refused(&put(&fat, at, &value.to_be_bytes()), what);
    }
    let twice = put(&put(&fat, 28, &fat[8..12]), 32, &fat[12..16]);
    refused(&twice, "two slices of one processor");
    // a signature that does not end with the slice
    let mut longer = thin.clone();
    longer.extend([0; 16]);
    assert!(faults(&longer).contains(&Misplaced::SignatureEnd.to_string()));
}
