//! The use cases that ask the portal, at their own level: a stand-in in this process, over a real socket.

#![allow(
    clippy::unwrap_used,
    clippy::panic,
    clippy::indexing_slicing,
    clippy::disallowed_methods,
    reason = "tests fail by panicking and look at files themselves"
)]

mod common;

use std::path::Path;
use std::sync::Arc;

use common::{PASSPHRASE, Slow, ctx, text};
use ninekeys_core::model::{ApiRole, ApiUse, Destination, NineKey};
use ninekeys_ops::Ctx;
use ninekeys_ops::apikey::ask::{ApiKeyAskError, Request as AskRequest, apikey_ask};
use ninekeys_ops::apikey::create::{Request as CreateRequest, apikey_create};
use ninekeys_ops::apikey::import::{Request as ImportRequest, apikey_import};
use ninekeys_ops::apikey::password::{ApiKeyPasswordError, apikey_password};
use ninekeys_ops::app::Request as AppRequest;
use ninekeys_ops::app::add::app_add;
use ninekeys_ops::build::setup::{Request as CheckRequest, check_setups};
use ninekeys_ops::give::{GiveError, Request as GiveRequest, give};
use ninekeys_ops::given::given;
use ninekeys_ops::identity::revoke::identity_revoke;
use ninekeys_ops::init::{Request as InitRequest, init};
use ninekeys_ops::portal::take_in::{Standing, portal_take_in};
use ninekeys_ops::prepare::{Does, Request as PrepareRequest, prepare};
use ninekeys_ops::profile::create::{ProfileCreateError, Request as ProfileRequest, profile_create};
use ninekeys_ops::stand_in::{Request as ServeRequest, stand_in};
use tempfile::TempDir;

/// A stand-in that answers as long as this process lives, and its owner's key.
struct Portal {
    folder: TempDir,
    address: String,
    key_id: String,
    issuer: String,
}

fn portal() -> Portal {
    let folder = tempfile::tempdir().unwrap();
    let nobody = Slow::default();
    let ctx = ctx(folder.path(), &nobody);
    let now = ctx.env.now;
    let request = ServeRequest {
        folder: "portal".into(),
        listen: "127.0.0.1:0".parse().unwrap(),
        clock: Arc::new(move || now),
        tls: false,
        looks: jiff::SignedDuration::from_secs(2),
        faults: None,
    };
    let (report, ready) = stand_in(&ctx, request).unwrap();
    std::thread::spawn(move || ready.serve());
    let first = report.first_key.unwrap();
    Portal { address: report.address, key_id: first.key_id, issuer: first.issuer, folder }
}

/// A project that knows the portal, has the owner's key, and an app that goes to the store.
fn project(portal: &Portal, apps: &[&str]) -> TempDir {
    let folder = tempfile::tempdir().unwrap();
    let person = Slow::default();
    let ctx = ctx(folder.path(), &person);
    for file in ["root.pem", "first-key.pem"] {
        std::fs::copy(portal.folder.path().join("portal").join(file), folder.path().join(file)).unwrap();
    }
    let request = InitRequest {
        title: Some("Ferries".into()),
        team: Some("GPFERRY009".into()),
        portal: Some(portal.address.clone()),
        portal_certificate: None,
        roots: vec!["root.pem".into()],
        passphrase: Some(text(PASSPHRASE)),
        unlock_file: None,
    };
    init(&ctx, request).unwrap();
    apikey_import(&ctx, import("owner", portal)).unwrap();
    for name in apps {
        let request = AppRequest {
            name: (*name).into(),
            title: None,
            package: None,
            bundle_id: Some(format!("example.gannetpoint.{name}")),
            destinations: vec![Destination::Store],
            version: None,
            ios: ninekeys_ops::app::ios::IosSays::default(),
            publish: None,
            review: ninekeys_core::model::ReviewSays::default(),
        };
        app_add(&ctx, request).unwrap();
    }
    folder
}

fn import(name: &str, portal: &Portal) -> ImportRequest {
    ImportRequest {
        file: "first-key.pem".into(),
        name: name.into(),
        key_id: Some(portal.key_id.clone()),
        issuer: Some(portal.issuer.clone()),
        role: Some(ApiRole::Owner),
        uses: vec![ApiUse::Signing],
        apps: Vec::new(),
        vendor_number: None,
        label: None,
    }
}

fn prepared(ctx: &Ctx<'_>, app: &str) -> Vec<Does> {
    let request =
        PrepareRequest { app: app.into(), destination: Destination::Store, dry_run: false, sure: true };
    let report = prepare(ctx, &request).unwrap();
    assert!(report.ready, "{report:?}");
    report.steps.iter().map(|step| step.does).collect()
}

#[test]
fn from_nothing_to_a_profile_and_what_is_there_already_is_not_made_again() {
    let portal = portal();
    let folder = project(&portal, &["crossing"]);
    let person = Slow::default();
    let ctx = ctx(folder.path(), &person);
    let all = [Does::MakeKey, Does::GetCertificate, Does::RegisterAppId, Does::GetProfile];
    assert_eq!(prepared(&ctx, "crossing"), all);
    assert!(prepared(&ctx, "crossing").is_empty());
    let request = CheckRequest::App { app: "crossing".into(), destination: None };
    assert!(check_setups(&ctx, &request).unwrap().ready);
    let again =
        ProfileRequest::Create { app: "crossing".into(), destination: Destination::Store, identity: None };
    let fits = profile_create(&ctx, &again).unwrap_err();
    assert!(matches!(fits, ProfileCreateError::Fits(name) if name == "crossing-store-2031"));
    let made = apikey_create(
        &ctx,
        &CreateRequest { name: "uploads".into(), role: None, uses: vec![ApiUse::Uploads], apps: Vec::new() },
    )
    .unwrap();
    assert_eq!((made.api_key.role.as_str(), made.api_key.kind), ("developer", NineKey::StoreApi));
}

#[test]
fn what_stands_at_the_portal_comes_in_and_what_was_revoked_there_is_learnt() {
    let portal = portal();
    let (ours, theirs) = (project(&portal, &["crossing"]), project(&portal, &[]));
    let person = Slow::default();
    let (here, there) = (ctx(ours.path(), &person), ctx(theirs.path(), &person));
    prepared(&here, "crossing");
    let standings = |ctx: &Ctx<'_>, dry_run| {
        let report = portal_take_in(ctx, dry_run).unwrap();
        let of = [
            report.certificates.iter().map(|one| one.standing).collect::<Vec<_>>(),
            report.app_ids.iter().map(|one| one.standing).collect(),
            report.profiles.iter().map(|one| one.standing).collect(),
        ];
        of.concat()
    };
    assert_eq!(standings(&there, true), [Standing::New; 3]);
    assert_eq!(standings(&there, false), [Standing::New; 3]);
    assert_eq!(standings(&there, false), [Standing::Known; 3]);
    // they revoke it with their own key: ours learns it from the list before the cabinet knows
    assert!(!identity_revoke(&there, "distribution-2032", true).unwrap().already);
    let request = CheckRequest::App { app: "crossing".into(), destination: None };
    let found = check_setups(&here, &request).unwrap();
    assert!(!found.ready);
    let rules: Vec<&str> = found.setups[0].verdict.findings.iter().map(|finding| finding.rule).collect();
    assert!(rules.contains(&"identity-revoked"), "{rules:?}");
    assert_eq!(standings(&here, false)[0], Standing::Different);
    assert_eq!(prepared(&here, "crossing")[0], Does::MakeKey);
}

#[test]
fn two_who_take_in_at_once_take_in_once() {
    let portal = portal();
    let (ours, theirs) = (project(&portal, &["crossing"]), project(&portal, &[]));
    let person = Slow::default();
    prepared(&ctx(ours.path(), &person), "crossing");
    let other = || {
        let nobody = Slow::default();
        portal_take_in(&ctx(theirs.path(), &nobody), false).unwrap();
    };
    // the first waits for its passphrase while the second does it all
    let slow = Slow::who_lets(other);
    let report = portal_take_in(&ctx(theirs.path(), &slow), false).unwrap();
    assert_eq!(report.certificates[0].standing, Standing::Known);
    assert_eq!(report.profiles[0].profile.as_deref(), Some("crossing-store-2031"));
    let theirs = ctx(theirs.path(), &person);
    let look = ninekeys_ops::inventory::look(&theirs).unwrap();
    let listed =
        ninekeys_ops::inventory::inventory(&theirs, &look, &ninekeys_ops::inventory::Wanted::default())
            .unwrap();
    let profiles = listed.items.iter().filter(|line| line.kind == NineKey::Profile.word()).count();
    assert_eq!(profiles, 1);
}

#[test]
fn what_is_given_is_kept_and_goes_out_whole_or_not_at_all() {
    let portal = portal();
    let folder = project(&portal, &["crossing"]);
    let person = Slow::default();
    let ctx = ctx(folder.path(), &person);
    let request = |to: &str| GiveRequest {
        app: "crossing".into(),
        destination: Destination::Store,
        receiver: "Island Builds".into(),
        to: to.into(),
        api_key: Some("owner".into()),
        password_to: None,
    };
    let not_ready = give(&ctx, &request("out")).unwrap_err();
    assert!(matches!(not_ready, GiveError::NotReady { .. }), "{not_ready}");
    assert!(!folder.path().join("out").exists());
    prepared(&ctx, "crossing");
    let report = give(&ctx, &request("out")).unwrap();
    let files: Vec<&str> = report.files.iter().map(|one| one.file.as_str()).collect();
    assert_eq!(files, ["identity.p12", "crossing-store-2031.mobileprovision", "api-key.pem"]);
    assert!(files.iter().all(|file| folder.path().join("out").join(file).exists()));
    assert!(Path::new(&folder.path().join("out-password.txt")).exists());
    let rows = given(&ctx, None).unwrap().given;
    assert_eq!((rows.len(), rows[0].items.len(), rows[0].stale), (1, 3, false));
    std::fs::write(folder.path().join("other-password.txt"), "what is there").unwrap();
    let nobody = Slow::who_lets(|| panic!("what is refused anyway takes no passphrase"));
    let taken = give(&common::ctx(folder.path(), &nobody), &request("other")).unwrap_err();
    assert!(matches!(taken, GiveError::Output(_)), "{taken}");
    assert!(!folder.path().join("other").exists());
    let full = give(&ctx, &request("out")).unwrap_err();
    assert!(matches!(full, GiveError::NotEmpty(_)), "{full}");
    assert_eq!(identity_revoke(&ctx, "distribution-2032", true).unwrap().given_to.len(), 1);
    assert!(given(&ctx, Some("island builds")).unwrap().given[0].stale);
}

#[test]
fn what_was_revoked_while_a_passphrase_was_waited_for_is_not_given() {
    let portal = portal();
    let folder = project(&portal, &["crossing"]);
    let person = Slow::default();
    prepared(&ctx(folder.path(), &person), "crossing");
    let slow = Slow::who_lets(|| {
        let nobody = Slow::default();
        identity_revoke(&ctx(folder.path(), &nobody), "distribution-2032", true).unwrap();
    });
    let request = GiveRequest {
        app: "crossing".into(),
        destination: Destination::Store,
        receiver: "Island Builds".into(),
        to: "out".into(),
        api_key: None,
        password_to: None,
    };
    let refused = give(&ctx(folder.path(), &slow), &request).unwrap_err();
    assert!(matches!(refused, GiveError::NotReady { .. }), "{refused}");
    assert!(
        !folder.path().join("out").exists()
            && given(&ctx(folder.path(), &person), None).unwrap().given.is_empty()
    );
}

#[test]
fn a_key_whose_name_was_taken_meanwhile_is_kept_and_told_under_another() {
    let portal = portal();
    let folder = project(&portal, &[]);
    std::fs::write(folder.path().join("upload.txt"), "abcd-efgh\n").unwrap();
    let slow = Slow::who_lets(|| {
        let nobody = Slow::default();
        let mut request = import("uploads", &portal);
        request.file = "upload.txt".into();
        request.label = Some("nightly".into());
        apikey_import(&ctx(folder.path(), &nobody), request).unwrap();
    });
    let request =
        CreateRequest { name: "uploads".into(), role: None, uses: vec![ApiUse::Uploads], apps: Vec::new() };
    let made = apikey_create(&ctx(folder.path(), &slow), &request).unwrap().api_key;
    assert_eq!((made.api_key.as_str(), made.role.as_str()), ("uploads-2", "developer"));
    assert!(made.key.is_some() && made.label.is_none(), "{made:?}");
}

#[test]
fn what_was_asked_for_becomes_what_came_and_a_password_is_told_by_its_label() {
    let portal = portal();
    let folder = project(&portal, &[]);
    let person = Slow::default();
    let ctx = ctx(folder.path(), &person);
    let ask = |name: &str, uses: Vec<ApiUse>| {
        let of = "the account's owner".to_owned();
        apikey_ask(&ctx, AskRequest { name: name.into(), asked_of: of, role: None, uses })
    };
    assert!(matches!(ask("uploads", Vec::new()), Err(ApiKeyAskError::NoRole)));
    assert!(ask("uploads", vec![ApiUse::Uploads]).unwrap().api_key.asked_at.is_some());
    std::fs::write(folder.path().join("upload.txt"), "abcd-efgh\n").unwrap();
    let mut request = import("uploads", &portal);
    request.file = "upload.txt".into();
    request.label = Some("nightly".into());
    request.issuer = Some("releases@gannetpoint.example".into());
    let came = apikey_import(&ctx, request).unwrap().api_key;
    assert_eq!((came.asked_of, came.label.as_deref()), (None, Some("nightly")));
    let told = apikey_password(&ctx, "uploads").unwrap();
    told.password.lend(|password| assert_eq!(password, "abcd-efgh"));
    // what was asked for can be made by whoever is allowed to now
    assert!(ask("testers", vec![ApiUse::Testers]).unwrap().api_key.key.is_none());
    let request =
        CreateRequest { name: "testers".into(), role: None, uses: vec![ApiUse::Testers], apps: Vec::new() };
    let made = apikey_create(&ctx, &request).unwrap().api_key;
    assert_eq!((made.api_key.as_str(), made.asked_of, made.key.is_some()), ("testers", None, true));
    let key = apikey_password(&ctx, "owner");
    assert!(matches!(key, Err(ApiKeyPasswordError::NoPassword(_))));
}
