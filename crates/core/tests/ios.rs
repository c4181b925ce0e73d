//! Certificates, chains and profiles of the iOS side, on material that an independent authority made.

#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests fail by panicking")]

use std::fs;
use std::path::Path;

use jiff::Timestamp;
use ninekeys_core::chain::{Chain, End, NoRoot, PathFault, is_authority, signed_by};
use ninekeys_core::ios::certificate::{is_team, read};
use ninekeys_core::ios::profile::{ProfileError, Verified};
use ninekeys_core::model::{Destination, IdentityPurpose, PushEnvironment};
use ninekeys_core::signed::SignerFault;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::pem;
use ninekeys_formats::x509::Certificate;

fn sample(name: &str) -> Vec<u8> {
    fs::read(Path::new(env!("CARGO_MANIFEST_DIR")).join("../../testkit/samples/ios").join(name)).unwrap()
}

fn certificate(name: &str) -> Certificate {
    let bytes = sample(name);
    let der = pem::blocks(&bytes, pem::CERTIFICATE, &Limits::USUAL).into_iter().next().unwrap_or(bytes);
    Certificate::parse(&der, &Limits::USUAL).unwrap()
}

fn time(text: &str) -> Timestamp {
    text.parse().unwrap()
}

fn now() -> Timestamp {
    time("2026-12-01T00:00:00Z")
}

#[test]
fn what_a_certificate_is_for_stands_in_its_marks() {
    let says = |name: &str| read(&certificate(name)).unwrap();
    assert_eq!(says("distribution.cer").purpose, Some(IdentityPurpose::Distribution));
    assert_eq!(says("development.cer").purpose, Some(IdentityPurpose::Development));
    let push = says("push.cer");
    assert_eq!(push.purpose, Some(IdentityPurpose::Push(PushEnvironment::Both)));
    assert_eq!(push.topics, ["example.gannetpoint.crossing"]);
    assert_eq!(push.team.as_deref(), Some("GPFERRY009"));
    assert_eq!(says("intermediate.pem").purpose, None);
    assert!(is_team("GPFERRY009") && !is_team("gpferry009") && !is_team("GPFERRY00"));
}

#[test]
fn a_chain_is_found_through_the_pool_whatever_its_order_and_ends_where_a_link_is_missing() {
    let (leaf, middle, root) =
        (certificate("distribution.cer"), certificate("intermediate.pem"), certificate("root.pem"));
    let whole = Chain::find(&leaf, &[root.clone(), leaf.clone(), middle.clone()]);
    assert_eq!((whole.certificates.len(), whole.root()), (3, Some(&root)));
    assert_eq!(whole.hold(now()), Ok(()));
    let cut = Chain::find(&leaf, std::slice::from_ref(&root));
    let lacks = "C=US,O=Test Vendor,OU=Test G3,CN=Test Developer Relations CA";
    assert!(matches!(&cut.end, End::Lacks { issuer, .. } if issuer == lacks), "{:?}", cut.end);
    let half = Chain::find(&leaf, std::slice::from_ref(&middle));
    assert_eq!((half.certificates.len(), half.root()), (2, None));
    assert!(is_authority(&middle) && !is_authority(&leaf));
    assert!(signed_by(&leaf, &middle) && !signed_by(&leaf, &root));
}

#[test]
fn a_chain_does_not_hold_outside_of_its_dates_or_through_a_leaf() {
    let (leaf, middle, root) =
        (certificate("distribution.cer"), certificate("intermediate.pem"), certificate("root.pem"));
    let chain = Chain::find(&leaf, &[middle, root]);
    let later = time("2028-01-01T00:00:00Z");
    assert!(matches!(chain.hold(later), Err(PathFault::NotValid { .. })));
    assert_eq!(chain.hold_above_leaf(later), Ok(()), "those above it are good for years");
    assert!(chain.hold_above_leaf(time("2040-01-01T00:00:00Z")).is_err());
    // a leaf in the place of an authority
    let mut wrong = chain.clone();
    wrong.certificates.swap(0, 1);
    assert!(matches!(wrong.hold(now()), Err(PathFault::NotAnAuthority(_))), "{:?}", wrong.hold(now()));
}

#[test]
fn a_pool_full_of_one_name_does_not_cost_more_than_the_budget() {
    let (leaf, middle) = (certificate("distribution.cer"), certificate("intermediate.pem"));
    let mut forged = middle.clone();
    forged.public_key = certificate("root.pem").public_key;
    let pool: Vec<Certificate> = (0..200u8)
        .map(|n| Certificate { der: [&forged.der[..], &[n]].concat(), ..forged.clone() })
        .chain([middle])
        .collect();
    // the right one stands behind more wrong ones than are tried
    assert_eq!(Chain::find(&leaf, &pool).certificates.len(), 1);
}

#[test]
fn every_kind_of_profile_is_told_by_what_is_in_it() {
    for (name, destination, app_id, devices) in [
        ("crossing-store", Destination::Store, "GPFERRY009.example.gannetpoint.crossing", 0),
        ("crossing-share-store", Destination::Store, "GPFERRY009.example.gannetpoint.crossing.share", 0),
        ("deckhand-devices", Destination::Devices, "GPFERRY009.example.gannetpoint.deckhand", 2),
        ("wildcard-development", Destination::Development, "GPFERRY009.*", 1),
        ("crossing-store-expired", Destination::Store, "GPFERRY009.example.gannetpoint.crossing", 0),
    ] {
        let found = Verified::open(&sample(&format!("{name}.mobileprovision")), &[], now(), &Limits::USUAL);
        let found = found.unwrap_or_else(|error| panic!("{name}: {error}"));
        assert_eq!((found.destination, found.app_id.as_str()), (destination, app_id), "{name}");
        assert_eq!(found.profile.devices.map_or(0, |all| all.len()), devices, "{name}");
        assert_eq!(found.chain.last().map(|root| &root.der), Some(&certificate("root.pem").der), "{name}");
    }
}

#[test]
fn a_profile_that_a_developer_signed_is_forged_though_its_chain_reaches_the_root() {
    let pool = [certificate("intermediate.pem"), certificate("root.pem")];
    let error = Verified::open(&sample("signed-by-developer.mobileprovision"), &pool, now(), &Limits::USUAL);
    assert!(matches!(error, Err(ProfileError::SignedByDeveloper(_))), "{error:?}");
}

#[test]
fn a_changed_content_is_found_and_no_cut_gets_through() {
    let bytes = sample("crossing-store.mobileprovision");
    let at = bytes.windows(10).position(|window| window == b"production").unwrap();
    let mut changed = bytes.clone();
    changed[at] = b'P';
    let error = Verified::open(&changed, &[], now(), &Limits::USUAL).unwrap_err();
    assert_eq!(error, ProfileError::Signature(SignerFault::OtherContent));
    for end in (0..bytes.len()).step_by(61) {
        assert!(Verified::open(&bytes[..end], &[], now(), &Limits::USUAL).is_err(), "cut at {end}");
    }
    // a signer that is good neither now nor when it signed
    let early = Verified::open(
        &sample("crossing-store-expired.mobileprovision"),
        &[],
        time("2020-01-01T00:00:00Z"),
        &Limits::USUAL,
    );
    assert!(
        matches!(early, Err(ProfileError::NoRoot(NoRoot::Path(PathFault::NotValid { .. })))),
        "{early:?}"
    );
}
