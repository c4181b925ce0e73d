//! Keys that handed over to others: lineages made and extended, v3 and v3.1 signed with them, v4 beside, all verified by
//! our own code and by a program that was written from the formats' description alone.

#![allow(
    clippy::unwrap_used,
    clippy::panic,
    clippy::indexing_slicing,
    clippy::print_stderr,
    clippy::disallowed_methods,
    reason = "tests fail by panicking, and say what they skip"
)]

mod common;

use std::process::Command;

use common::{Memory, identity, verified, with_env};
use ninekeys_core::android::{
    Identity, Lineage, Opened, Refusal, Rotation, Scheme, SchemeState, SignError, Signing, USUAL_FLAGS,
    check_idsig, make_idsig, verify_lineage,
};
use ninekeys_core::demo::{CROSSING, DemoBuild};
use ninekeys_core::keys::{Algorithm, PrivateKey, Signer};
use ninekeys_core::model::Destination;
use ninekeys_formats::limits::Limits;

struct Keys {
    old: (PrivateKey, Vec<u8>),
    new: (PrivateKey, Vec<u8>),
    lineage: Lineage,
}

fn keys(old: Algorithm, new: Algorithm) -> Keys {
    let (old, new) = (identity(old, common::NOW, 30), identity(new, common::NOW, 30));
    let lineage = Lineage::begin(&old.1).extend(&old.0, &new.1, USUAL_FLAGS).unwrap();
    Keys { old, new, lineage }
}

fn who((signer, certificate): &(PrivateKey, Vec<u8>)) -> Identity<'_> {
    Identity { signer, certificate, alias: "ferries" }
}

impl Keys {
    fn signing(&self, from: Option<u32>) -> Signing<'_> {
        let rotation = Rotation { lineage: &self.lineage, oldest: who(&self.old), from };
        Signing { rotation: Some(rotation), ..Signing::usual(who(&self.new)) }
    }
}

fn sign(build: &DemoBuild, signing: Signing<'_>) -> Result<Vec<u8>, SignError> {
    let input = build.apk();
    with_env(common::NOW, |env| {
        let allowed = Opened::open(&input, &Limits::USUAL)?.allow(Destination::Direct)?;
        let memory = Memory::default();
        let signed = allowed.lay_out(signing, env)?.digest(&memory, env)?.sign()?;
        Ok([memory.bytes(), signed.tail].concat())
    })
}

/// Which key signed each scheme.
fn signers(bytes: &[u8], keys: &Keys) -> Vec<(Scheme, &'static str)> {
    let (_, signatures) = verified(bytes);
    for report in &signatures.schemes {
        assert_eq!(report.state, SchemeState::Verified, "{:?}", report.scheme);
    }
    assert_eq!(signatures.lineage.len(), 2, "the lineage is verified");
    let name = |fingerprint: &str| {
        if fingerprint == keys.old.0.public().fingerprint() { "old" } else { "new" }
    };
    signatures.signers.iter().map(|signer| (signer.scheme, name(&signer.key_fingerprint))).collect()
}

#[test]
fn v3_carries_the_new_key_and_older_schemes_the_old() {
    let keys = keys(Algorithm::Rsa2048, Algorithm::P384);
    let bytes = sign(&DemoBuild { min_sdk: 21, ..CROSSING }, keys.signing(None)).unwrap();
    let found = signers(&bytes, &keys);
    assert_eq!(found, [(Scheme::V1, "old"), (Scheme::V2, "old"), (Scheme::V3, "new")]);
    assert_eq!(bytes, sign(&DemoBuild { min_sdk: 21, ..CROSSING }, keys.signing(None)).unwrap());
}

#[test]
fn v31_begins_where_it_is_told_and_v3_stays_with_the_old_key() {
    let keys = keys(Algorithm::P256, Algorithm::Rsa4096);
    let bytes = sign(&CROSSING, keys.signing(Some(34))).unwrap();
    let found = signers(&bytes, &keys);
    assert_eq!(found, [(Scheme::V2, "old"), (Scheme::V3, "old"), (Scheme::V31, "new")]);
    let refused = sign(&CROSSING, keys.signing(Some(32))).unwrap_err();
    assert!(matches!(refused, SignError::Refused(Refusal::RotationLevel(32))), "{refused}");
}

#[test]
fn a_lineage_is_extended_read_again_and_ends_with_its_signer() {
    let keys = keys(Algorithm::Rsa2048, Algorithm::P256);
    let third = identity(Algorithm::Rsa3072, common::NOW, 30);
    let read = Lineage::read(&keys.lineage.to_bytes(), &Limits::USUAL).unwrap();
    assert_eq!(read, keys.lineage);
    let longer = read.extend(&keys.new.0, &third.1, 1).unwrap();
    let verified = verify_lineage(&longer.to_bytes(), &third.1, &Limits::USUAL).unwrap();
    let flags: Vec<u32> = verified.iter().map(|key| key.flags).collect();
    assert_eq!(flags, [USUAL_FLAGS, 1, USUAL_FLAGS]);
    // extended by somebody who is not its last key
    let forged = keys.lineage.clone().extend(&keys.old.0, &third.1, USUAL_FLAGS).unwrap();
    assert!(Lineage::read(&forged.to_bytes(), &Limits::USUAL).is_err());
    let rotation = Rotation { lineage: &longer, oldest: who(&keys.old), from: None };
    let wrong = Signing { rotation: Some(rotation), ..Signing::usual(who(&keys.new)) };
    let refused = sign(&CROSSING, wrong).unwrap_err();
    assert!(matches!(refused, SignError::Refused(Refusal::NotTheLineages)), "{refused}");
    let right = Signing { rotation: Some(rotation), ..Signing::usual(who(&third)) };
    assert_eq!(verified_lineage(&sign(&CROSSING, right).unwrap()), 3);
}

fn verified_lineage(bytes: &[u8]) -> usize {
    verified(bytes).1.lineage.len()
}

#[test]
fn an_independent_program_verifies_every_scheme_the_lineage_and_the_tree() {
    let there = |program: &str, word: &str| Command::new(program).arg(word).output().is_ok();
    if !there("python3", "--version") || !there("openssl", "version") {
        eprintln!("skipped: there is no python3 or no openssl on this machine");
        return;
    }
    let script = format!("{}/../../testkit/independent/schemes.py", env!("CARGO_MANIFEST_DIR"));
    let folder = tempfile::tempdir().unwrap();
    let cases = [
        (Algorithm::Rsa2048, Algorithm::P256, None, 1),
        (Algorithm::P384, Algorithm::Rsa3072, Some(33), 2),
        (Algorithm::Rsa4096, Algorithm::P384, Some(35), 2),
    ];
    for (old, new, from, trees) in cases {
        let keys = keys(old, new);
        let signing = keys.signing(from);
        let bytes = sign(&CROSSING, signing).unwrap();
        let (_, mut signatures) = verified(&bytes);
        let idsig = with_env(common::NOW, |env| {
            let idsig = make_idsig(&bytes, &signatures, &signing, env).unwrap();
            check_idsig(&bytes, &idsig, &mut signatures, &Limits::USUAL, env).unwrap();
            idsig
        });
        let last = signatures.schemes.last().unwrap();
        assert_eq!((last.scheme, &last.state), (Scheme::V4, &SchemeState::Verified));
        let apk = folder.path().join("rotated.apk");
        std::fs::write(&apk, &bytes).unwrap();
        std::fs::write(folder.path().join("rotated.apk.idsig"), idsig).unwrap();
        let output = Command::new("python3").arg(&script).arg(&apk).arg(folder.path()).output().unwrap();
        let said = String::from_utf8_lossy(&output.stdout).into_owned();
        assert!(output.status.success(), "{said}{}", String::from_utf8_lossy(&output.stderr));
        assert!(said.contains("after a lineage of 2 keys"), "{said}");
        assert!(said.contains(&format!("v4 holds for {trees} signers")), "{said}");
        if let Some(level) = from {
            assert!(said.contains("v3.1 holds") && said.contains(&format!("announces v3.1 from {level}")));
        }
    }
}

#[test]
fn a_tree_over_other_bytes_and_a_strangers_are_no_signatures() {
    let one = identity(Algorithm::P256, common::NOW, 30);
    let two = identity(Algorithm::P256, common::NOW, 30);
    let bytes = sign(&CROSSING, Signing::usual(who(&one))).unwrap();
    let other = sign(&DemoBuild { code: 13, ..CROSSING }, Signing::usual(who(&one))).unwrap();
    let theirs = sign(&CROSSING, Signing::usual(who(&two))).unwrap();
    let state = |package: &Vec<u8>, of: &Vec<u8>, signer: &(PrivateKey, Vec<u8>)| {
        with_env(common::NOW, |env| {
            let made = make_idsig(of, &verified(of).1, &Signing::usual(who(signer)), env).unwrap();
            let mut signatures = verified(package).1;
            check_idsig(package, &made, &mut signatures, &Limits::USUAL, env).unwrap();
            signatures.schemes.pop().unwrap().state
        })
    };
    assert_eq!(state(&bytes, &bytes, &one), SchemeState::Verified);
    assert!(matches!(state(&bytes, &other, &one), SchemeState::Broken(_)));
    assert!(matches!(state(&bytes, &theirs, &two), SchemeState::Broken(_)));
    let nothing = with_env(common::NOW, |env| {
        make_idsig(&bytes, &verified(&bytes).1, &Signing::usual(who(&two)), env).unwrap_err()
    });
    assert!(matches!(nothing, SignError::Refused(Refusal::NothingToStandOn)), "{nothing}");
}

#[test]
fn a_root_without_a_tree_is_no_signature() {
    let one = identity(Algorithm::P256, common::NOW, 30);
    let bytes = sign(&CROSSING, Signing::usual(who(&one))).unwrap();
    with_env(common::NOW, |env| {
        let made = make_idsig(&bytes, &verified(&bytes).1, &Signing::usual(who(&one)), env).unwrap();
        let file = ninekeys_formats::idsig::parse(&made, &Limits::USUAL).unwrap();
        let empty = ninekeys_formats::idsig::write(file.root, &file.signers, &[]);
        for without in [empty.clone(), empty[..empty.len() - 4].to_vec()] {
            let mut signatures = verified(&bytes).1;
            check_idsig(&bytes, &without, &mut signatures, &Limits::USUAL, env).unwrap();
            let state = signatures.schemes.pop().unwrap().state;
            let SchemeState::Broken(faults) = state else { panic!("taken for whole") };
            assert!(faults[0].to_string().contains("no tree below it"), "{faults:?}");
        }
    });
}

#[test]
fn trees_of_every_depth_are_built_as_they_are_read() {
    // one block, one level full, one block more than that, three levels
    let key = identity(Algorithm::P256, common::NOW, 30);
    for size in [1, 4096, 4097, 128 * 4096, 128 * 4096 + 1, (128 * 128 + 5) * 4096] {
        let bytes: Vec<u8> = (0..size).map(|at: usize| ((at * 7) >> 3) as u8).collect();
        let package = sign(&CROSSING, Signing::usual(who(&key))).unwrap();
        let signatures = verified(&package).1;
        with_env(common::NOW, |env| {
            let made = make_idsig(&bytes, &signatures, &Signing::usual(who(&key)), env).unwrap();
            let check = |bytes: &Vec<u8>| {
                let mut copy = signatures.clone();
                check_idsig(bytes, &made, &mut copy, &Limits::USUAL, env).unwrap();
                copy.schemes.pop().unwrap().state
            };
            assert_eq!(check(&bytes), SchemeState::Verified, "{size}");
            let mut changed = bytes.clone();
            changed[size / 2] ^= 1;
            assert_ne!(check(&changed), SchemeState::Verified, "{size}");
        });
    }
}
