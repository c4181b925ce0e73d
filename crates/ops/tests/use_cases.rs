//! Each use case at its own level: what it is asked, what it answers, and what is in the folder and the cabinet then.

#![allow(
    clippy::unwrap_used,
    clippy::panic,
    clippy::disallowed_methods,
    reason = "tests fail by panicking and look at files themselves"
)]

mod common;

use std::path::{Path, PathBuf};

use common::{PASSPHRASE, Slow, app, ctx, key, made, text};
use ninekeys_cabinet::Standing;
use ninekeys_core::board::Mark;
use ninekeys_core::model::{Destination, State};
use ninekeys_ops::app::add::app_add;
use ninekeys_ops::app::list::app_list;
use ninekeys_ops::app::statement::{AppStatementError, app_statement};
use ninekeys_ops::board::board;
use ninekeys_ops::build::check::{self, check};
use ninekeys_ops::build::releases::{compare_releases, releases};
use ninekeys_ops::build::sign::{self, SignError, sign};
use ninekeys_ops::cabinet::adopt::adopt;
use ninekeys_ops::cabinet::backup::backup;
use ninekeys_ops::cabinet::passphrase::passphrase;
use ninekeys_ops::cabinet::pin::pin;
use ninekeys_ops::cabinet::restore::restore;
use ninekeys_ops::cabinet::status::status;
use ninekeys_ops::cabinet::unlock_file::unlock_file;
use ninekeys_ops::compare::{Sameness, compare};
use ninekeys_ops::init::{InitError, Request as InitRequest, init};
use ninekeys_ops::inspect::{Content, inspect};
use ninekeys_ops::inventory::{Wanted, inventory, look};
use ninekeys_ops::keystore::NewPassword;
use ninekeys_ops::keystore::change::{Request as ChangeRequest, keystore_change};
use ninekeys_ops::keystore::export::{
    ExportError, Form, PasswordFrom, Request as ExportRequest, keystore_export,
};
use ninekeys_ops::keystore::hand_over::{Request as HandOverRequest, keystore_hand_over};
use ninekeys_ops::keystore::import::{ImportError, Request as ImportRequest, keystore_import};
use ninekeys_ops::keystore::password::keystore_password;
use ninekeys_ops::keystore::retire::{RetireError, keystore_retire};
use ninekeys_ops::keystore::settings::SettingsRequest;
use ninekeys_ops::show::show;
use testkit::builds;

fn export(to: &str) -> ExportRequest {
    ExportRequest {
        name: "first".into(),
        aliases: Vec::new(),
        to: to.into(),
        form: Form::Pkcs12,
        password: None,
        password_to: None,
        properties: None,
        replace: false,
    }
}

fn signing(build: &str) -> sign::Request {
    sign::Request {
        timestamp: false,
        builds: vec![build.into()],
        app: None,
        destination: None,
        store: None,
        key: None,
        to: ".".into(),
        replace: false,
        schemes: None,
        idsig: false,
        set: ninekeys_ops::build::sign::Set::default(),
        entitlements: None,
    }
}

fn checking(build: &str) -> check::Request {
    check::Request {
        build: build.into(),
        destination: None,
        app: None,
        above: None,
        device: None,
        ask_store: false,
    }
}

/// How many lines the inventory has.
fn count(ctx: &ninekeys_ops::Ctx<'_>) -> usize {
    inventory(ctx, &look(ctx).unwrap(), &Wanted::default()).unwrap().items.len()
}

/// A project with a key for Crossing, and its build.
fn with_build() -> tempfile::TempDir {
    let folder = made();
    let person = Slow::default();
    let request = ChangeRequest {
        name: "first".into(),
        alias: None,
        new_name: None,
        new_alias: None,
        role: None,
        add_apps: vec!["crossing".into()],
        drop_apps: Vec::new(),
        password: None,
    };
    keystore_change(&ctx(folder.path(), &person), request).unwrap();
    std::fs::write(folder.path().join("crossing.apk"), builds::crossing().apk()).unwrap();
    folder
}

#[test]
fn a_project_begins_once_and_joins_a_cabinet_that_is_there() {
    let folder = made();
    let person = Slow::default();
    let request = || InitRequest {
        title: Some("Ferries".into()),
        team: None,
        portal: None,
        portal_certificate: None,
        roots: Vec::new(),
        passphrase: None,
        unlock_file: None,
    };
    let twice = init(&ctx(folder.path(), &person), request());
    assert!(matches!(twice, Err(InitError::Exists(_))), "{twice:?}");
    std::fs::remove_file(folder.path().join("ninekeys.toml")).unwrap();
    let joined = init(&ctx(folder.path(), &person), request()).unwrap();
    assert!(joined.joined && joined.unlock_file.is_none());
    assert_eq!(count(&ctx(folder.path(), &person)), 1, "its keys are there");
}

#[test]
fn apps_are_listed_with_the_keystores_that_serve_them() {
    let folder = with_build();
    let person = Slow::default();
    let ctx = ctx(folder.path(), &person);
    let added = app_add(&ctx, app("quayside", None)).unwrap();
    assert_eq!(added.could_serve, ["first"], "one keystore for many apps is how people work");
    let listed = app_list(&ctx).unwrap().apps;
    let said: Vec<(&str, Vec<String>)> =
        listed.iter().map(|one| (one.app.as_str(), one.keystores.clone())).collect();
    assert_eq!(said, [("crossing", vec!["first".into()]), ("quayside", Vec::new())]);
    let statement = app_statement(&ctx, "crossing").unwrap();
    let target = &statement.statements.first().unwrap().target;
    assert_eq!(target.package_name, "example.gannetpoint.crossing");
    let shown = show(&ctx, "first").unwrap();
    let sha256 = shown.parts.first().unwrap().forms.sha256.clone();
    assert_eq!(target.sha256_cert_fingerprints, [sha256]);
    let nothing = app_statement(&ctx, "quayside");
    assert!(matches!(nothing, Err(AppStatementError::NoKey { .. })), "{nothing:?}");
}

#[test]
fn a_build_is_signed_checked_and_listed_and_the_next_is_compared_with_it() {
    let folder = with_build();
    let person = Slow::default();
    let ctx = ctx(folder.path(), &person);
    let before = check(&ctx, &[checking("crossing.apk")]).unwrap().pop().unwrap().outcome.unwrap();
    assert!(!before.ready && before.signers.is_empty());
    let signed = sign(&ctx, &signing("crossing.apk")).unwrap().pop().unwrap();
    assert_eq!((signed.keystore.as_deref(), signed.destination), (Some("first"), Destination::Direct));
    assert_eq!(signed.output, "crossing-2.4.0-12-direct.apk");
    assert!(signed.check.ready && !signed.was_signed);
    let taken = sign(&ctx, &signing("crossing.apk"));
    assert!(matches!(taken, Err(SignError::Exists(_))), "{taken:?}");
    let after = check(&ctx, &[checking(&signed.output)]).unwrap().pop().unwrap().outcome.unwrap();
    assert_eq!(after.signers.first().unwrap().item.as_deref(), Some("first"));
    assert_eq!(after.signers.first().unwrap().certificate, signed.certificate);
    std::fs::write(folder.path().join("next.apk"), builds::crossing_code(13).apk()).unwrap();
    sign(&ctx, &signing("next.apk")).unwrap();
    let ledger = releases(&ctx, Some("crossing")).unwrap().releases;
    let numbers: Vec<String> = ledger.iter().map(|release| release.facts.number.to_string()).collect();
    assert_eq!(numbers, ["13", "12"]);
    assert_eq!(ledger.last().unwrap().facts.sha256, signed.sha256);
    let compared = compare_releases(&ctx, None).unwrap().comparisons;
    assert_eq!(compared.first().unwrap().before.as_deref(), Some("crossing-2.4.0-12-direct.apk"));
    let shown = show(&ctx, "first").unwrap();
    assert_eq!(shown.releases.len(), 2);
}

#[test]
fn several_builds_are_checked_in_their_order_and_one_that_is_none_stops_no_other() {
    let folder = with_build();
    std::fs::write(folder.path().join("none.apk"), b"no archive").unwrap();
    let person = Slow::default();
    let ctx = ctx(folder.path(), &person);
    let all = check(&ctx, &[checking("none.apk"), checking("crossing.apk"), checking("gone.apk")]).unwrap();
    let came: Vec<(PathBuf, bool)> = all.into_iter().map(|one| (one.build, one.outcome.is_ok())).collect();
    assert_eq!(came, [("none.apk".into(), false), ("crossing.apk".into(), true), ("gone.apk".into(), false)]);
}

#[test]
fn what_is_exported_comes_back_as_the_same_key_and_never_over_a_file_unasked() {
    let folder = made();
    let person = Slow::default();
    let ctx = ctx(folder.path(), &person);
    let mut request = export("out.p12");
    request.password_to = Some("note.txt".into());
    request.properties = Some(SettingsRequest { file: "app.properties".into(), app: None });
    let report = keystore_export(&ctx, request).unwrap();
    assert_eq!((report.password, report.entries.len()), (Some(PasswordFrom::Keystore), 1));
    let settings = report.properties.unwrap();
    assert_eq!(settings.keep_out, ["/out.p12", "/note.txt", "/app.properties"]);
    let note = std::fs::read_to_string(folder.path().join("note.txt")).unwrap();
    let told = keystore_password(&ctx, "first").unwrap().password;
    assert_eq!(told.lend(Clone::clone), note.trim_end());
    let lines = std::fs::read_to_string(folder.path().join("app.properties")).unwrap();
    assert!(lines.ends_with(&format!("\nalias=first\npassword={0}\nkey-password={0}\n", note.trim_end())));
    let again = keystore_export(&ctx, export("out.p12"));
    assert!(matches!(again, Err(ExportError::Output(_))), "{again:?}");
    let same = compare(&ctx, "out.p12", "first", Some(&told)).unwrap();
    assert_eq!((same.same, same.pairs.len()), (Sameness::Certificate, 1));
    let request = ImportRequest {
        file: "out.p12".into(),
        name: Some("back".into()),
        aliases: Vec::new(),
        role: ninekeys_core::model::Role::Upload,
        apps: Vec::new(),
        password: Some(text("walnut-tide-compass")),
        key_passwords: Vec::new(),
    };
    let wrong = keystore_import(&ctx, ImportRequest { ..request });
    assert!(matches!(wrong, Err(ImportError::Format(_))), "{wrong:?}");
    assert_eq!(count(&ctx), 1, "nothing came in");
}

#[test]
fn an_import_says_which_keys_are_known_and_proves_all_of_them() {
    let folder = made();
    let person = Slow::default();
    let ctx = ctx(folder.path(), &person);
    let sample = testkit::data("samples/ferries.jks");
    let key_passwords =
        vec![("harbour".into(), text("harbour-key-pass")), ("crew".into(), text("crew-key-pass"))];
    let report = keystore_import(
        &ctx,
        ImportRequest {
            file: sample,
            name: None,
            aliases: Vec::new(),
            role: ninekeys_core::model::Role::Signing,
            apps: vec!["crossing".into()],
            password: Some(text("store-pass-1")),
            key_passwords,
        },
    )
    .unwrap();
    assert_eq!((report.keystore.as_str(), report.keys.len(), report.left.len()), ("ferries", 2, 0));
    assert!(report.keys.iter().all(|key| key.proved && key.same_as.is_empty()));
    let look = look(&ctx).unwrap();
    let listed = inventory(&ctx, &look, &Wanted::default()).unwrap();
    let signing: Vec<&str> = listed.items.iter().filter_map(|line| line.alias).collect();
    assert_eq!(signing, ["crew", "harbour", "first"]);
    assert!(!listed.backed_up && listed.items.iter().all(|line| line.mark == Mark::AtRisk));
}

#[test]
fn a_key_is_handed_over_to_a_certificate_and_the_message_names_its_receiver() {
    let folder = made();
    let person = Slow::default();
    let ctx = ctx(folder.path(), &person);
    let mut certificate = export("receiver.pem");
    certificate.form = Form::CertificatePem;
    keystore_export(&ctx, certificate).unwrap();
    let request = HandOverRequest {
        name: "first".into(),
        alias: None,
        receiver: "receiver.pem".into(),
        to: "handed.pem".into(),
        replace: false,
    };
    let report = keystore_hand_over(&ctx, &request).unwrap();
    assert_eq!((report.alias.as_str(), report.receiver.subject.as_deref()), ("first", Some("CN=Ferries")));
    let seen = inspect(&ctx, Path::new("handed.pem"), None).unwrap();
    assert!(matches!(seen.content, Content::Envelope(_)), "{:?}", seen.content);
    let seen = inspect(&ctx, Path::new("receiver.pem"), None).unwrap();
    assert!(matches!(seen.content, Content::Certificates { encoding: "PEM", .. }), "{:?}", seen.content);
    let seen = inspect(&ctx, Path::new("ninekeys.cabinet"), None).unwrap();
    assert!(matches!(seen.content, Content::Cabinet(_)), "{:?}", seen.content);
}

#[test]
fn a_retired_keystore_is_kept_and_its_app_is_said_to_have_no_key() {
    let folder = with_build();
    let person = Slow::default();
    let ctx = ctx(folder.path(), &person);
    let report = keystore_retire(&ctx, "first", false).unwrap();
    assert_eq!((report.state, report.without_key.clone()), (State::Retired, vec!["crossing".to_owned()]));
    let twice = keystore_retire(&ctx, "first", false);
    assert!(matches!(twice, Err(RetireError::Already { .. })), "{twice:?}");
    assert!(matches!(sign(&ctx, &signing("crossing.apk")), Err(SignError::Signer(_))));
    keystore_retire(&ctx, "first", true).unwrap();
    assert!(sign(&ctx, &signing("crossing.apk")).is_ok());
}

#[test]
fn the_board_says_what_to_do_until_a_backup_is_made() {
    let folder = with_build();
    let person = Slow::default();
    let ctx = ctx(folder.path(), &person);
    let drawn = board(&ctx).unwrap();
    let crossing = drawn.rows.iter().find(|row| row.app == "crossing").unwrap();
    assert_eq!(crossing.cells.len(), 9);
    assert!(drawn.tasks.iter().any(|task| task.mark == Mark::AtRisk));
    let copies = backup(&ctx, &["one".into(), "two".into()], false).unwrap().copies;
    assert_eq!(copies.len(), 2);
    assert!(board(&ctx).unwrap().tasks.iter().all(|task| task.mark != Mark::AtRisk));
    assert!(show(&ctx, "first").unwrap().backed_up);
}

#[cfg(target_os = "linux")]
#[test]
fn of_a_copy_on_another_disk_a_person_is_asked_whether_it_goes_elsewhere() {
    use std::os::unix::fs::MetadataExt;
    let folder = with_build();
    let Ok(other) = tempfile::tempdir_in("/dev/shm") else {
        return eprintln!("SKIPPED: there is no second disk");
    };
    let device = |path: &Path| path.metadata().unwrap().dev();
    if device(other.path()) == device(folder.path()) {
        return eprintln!("SKIPPED: there is no second disk");
    }
    let person = Slow::default();
    let ctx = ctx(folder.path(), &person);
    let near = backup(&ctx, &["near".into()], false).unwrap();
    assert!(near.same_disk && near.off_site.is_none(), "on the same disk it cannot be, and nobody is asked");
    let far = backup(&ctx, &[other.path().join("far")], false).unwrap();
    assert_eq!(far.off_site.unwrap().place, far.copies[0], "somebody said yes, and it is remembered");
    assert!(status(&ctx, false).unwrap().off_site.is_some());
}

#[test]
fn a_copy_brings_back_what_was_lost_and_gives_what_only_it_has() {
    let folder = made();
    let person = Slow::default();
    let ctx = ctx(folder.path(), &person);
    let copy = backup(&ctx, &["copies".into()], false).unwrap().copies.pop().unwrap();
    ninekeys_ops::keystore::create::keystore_create(
        &ctx,
        ninekeys_ops::keystore::create::Request {
            name: "later".into(),
            key: key("later"),
            password: NewPassword::Generated,
        },
    )
    .unwrap();
    let restored = restore(&ctx, Path::new(&copy), true).unwrap();
    assert_eq!(count(&ctx), 1);
    let aside = restored.set_aside.unwrap();
    let adopted = adopt(&ctx, Path::new(&aside)).unwrap().adopted;
    assert!(adopted.taken.contains(&"later".to_owned()), "{adopted:?}");
    assert_eq!(count(&ctx), 2);
    let proved = status(&ctx, true).unwrap();
    assert!(proved.proved && proved.keys == 2 && proved.standing == Standing::Current);
}

#[test]
fn members_come_and_passphrases_change_and_the_pin_stays() {
    let folder = made();
    let person = Slow::default();
    let ctx = ctx(folder.path(), &person);
    let pinned = pin(&ctx, None).unwrap();
    let report = unlock_file(&ctx, Path::new("machine.txt")).unwrap();
    assert!(report.has_passphrase);
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        let mode = std::fs::metadata(folder.path().join("machine.txt")).unwrap().permissions().mode();
        assert_eq!(mode & 0o777, 0o600);
    }
    let said = status(&ctx, false).unwrap();
    assert_eq!((said.members.len(), said.identity), (2, pinned.identity));
    let changed = passphrase(&ctx, Some(text("quilted-harbour-anvil"))).unwrap();
    assert!(changed.replaced);
    assert!(status(&ctx, true).is_err(), "{PASSPHRASE} opens nothing any more");
    assert_eq!(pin(&ctx, None).unwrap().identity, pinned.identity);
}
