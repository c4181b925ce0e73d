//! A project in a folder of its own, and somebody who answers.

#![allow(dead_code, reason = "each test file uses what it needs")]

use std::cell::RefCell;
use std::path::Path;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

use ninekeys_cabinet::Credential;
use ninekeys_core::certificate::Subject;
use ninekeys_core::env::{Env, Silent};
use ninekeys_core::keys::{Algorithm, SystemKeys};
use ninekeys_core::model::{Destination, Role};
use ninekeys_formats::secret::{Secret, SecretText};
use ninekeys_ops::app::Request as AppRequest;
use ninekeys_ops::app::add::app_add;
use ninekeys_ops::init::{Request as InitRequest, init};
use ninekeys_ops::keystore::NewPassword;
use ninekeys_ops::keystore::create::{KeyRequest, Request as CreateRequest, keystore_create};
use ninekeys_ops::memory::MachineMemory;
use ninekeys_ops::{Ask, AskError, Ctx, FileError};
use tempfile::TempDir;

static STOP: AtomicBool = AtomicBool::new(false);
pub const PASSPHRASE: &str = "brisk-lantern-oyster";

pub fn text(text: &str) -> SecretText {
    Secret::new(text.into())
}

/// What somebody else does while a question is open.
pub type Act<'a> = Box<dyn FnOnce() + 'a>;

/// Somebody who says yes, after something else was done.
#[derive(Default)]
pub struct Slow<'a> {
    meanwhile: RefCell<Option<Act<'a>>>,
}

impl<'a> Slow<'a> {
    pub fn who_lets(act: impl FnOnce() + 'a) -> Self {
        Slow { meanwhile: RefCell::new(Some(Box::new(act))) }
    }

    fn let_it_happen(&self) {
        let act = self.meanwhile.borrow_mut().take();
        act.into_iter().for_each(|act| act());
    }
}

impl Ask for Slow<'_> {
    fn given(&self) -> Result<Option<Credential>, FileError> {
        Ok(None)
    }

    fn secret(&self, _what: &str) -> Result<Option<SecretText>, AskError> {
        self.let_it_happen();
        Ok(Some(text(PASSPHRASE)))
    }

    fn line(&self, _question: &str) -> Result<Option<String>, AskError> {
        self.let_it_happen();
        Ok(Some("yes".into()))
    }

    fn tell(&self, _text: &str) {}
}

pub fn ctx<'a>(folder: &Path, person: &'a dyn Ask) -> Ctx<'a> {
    let now = "2031-05-19T12:00:00Z".parse().unwrap();
    let machine: &MachineMemory = Box::leak(Box::new(MachineMemory::none()));
    Ctx {
        env: Env {
            now,
            keys: &SystemKeys,
            progress: &Silent,
            scratch: &ninekeys_core::stream::InMemory,
            stop: &STOP,
        },
        folder: folder.into(),
        project: None,
        cabinet: None,
        store: None,
        ask: person,
        machine,
        credentials: &ninekeys_ops::remembered::KeepsNothing,
        running: &|| Duration::ZERO,
        notices: RefCell::default(),
    }
}

pub fn key(alias: &str) -> KeyRequest {
    KeyRequest {
        apps: Vec::new(),
        role: Role::Signing,
        alias: Some(alias.into()),
        algorithm: Algorithm::P256,
        subject: Subject { common_name: Some("Ferries".into()), ..Subject::default() },
        years: 30,
        insist: false,
    }
}

pub fn app(name: &str, title: Option<&str>) -> AppRequest {
    AppRequest {
        name: name.into(),
        title: title.map(str::to_owned),
        package: title.is_none().then(|| format!("example.gannetpoint.{name}")),
        bundle_id: None,
        destinations: if title.is_none() { vec![Destination::Direct] } else { Vec::new() },
        version: None,
        ios: ninekeys_ops::app::ios::IosSays::default(),
        publish: None,
        review: ninekeys_core::model::ReviewSays::default(),
    }
}

/// A project whose cabinet a passphrase opens, with one app and one keystore.
pub fn made() -> TempDir {
    let folder = tempfile::tempdir().unwrap();
    let quick = Slow::default();
    let ctx = ctx(folder.path(), &quick);
    let request = InitRequest {
        title: Some("Ferries".into()),
        team: None,
        portal: None,
        portal_certificate: None,
        roots: Vec::new(),
        passphrase: Some(text(PASSPHRASE)),
        unlock_file: None,
    };
    init(&ctx, request).unwrap();
    app_add(&ctx, app("crossing", None)).unwrap();
    let request = CreateRequest { name: "first".into(), key: key("first"), password: NewPassword::Generated };
    keystore_create(&ctx, request).unwrap();
    folder
}
