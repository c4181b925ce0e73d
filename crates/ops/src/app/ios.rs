//! What the project file says of an app's iOS side beyond its id: team, capabilities, extensions, entitlements.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use ninekeys_core::ios::certificate::is_team;
use ninekeys_core::ios::profile::is_for;
use ninekeys_core::model::{Capability, Facts, Inventory, Ios, NameError, State, check_name};
use ninekeys_formats::cursor::ParseError;
use ninekeys_formats::entitlements::Entitlement;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::plist;
use thiserror::Error;
use toml_edit::{Array, Item, Table, TableLike, Value, value};

use super::add::{IdError, check_bundle_id};
use crate::ctx::Ctx;
use crate::files::{self, FileError};

/// The most of a file with entitlements.
const ENTITLEMENTS_LIMIT: u64 = 256 << 10;

/// What is said of an iOS side; what is left out stays as it is.
#[derive(Debug, Default)]
pub struct IosSays {
    /// The team that it belongs to.
    pub team: Option<String>,
    /// Capabilities that it gets.
    pub capabilities: Vec<Capability>,
    /// Capabilities that it loses.
    pub without: Vec<Capability>,
    /// Names and bundle ids of what is inside it and has a profile of its own.
    pub extensions: Vec<(String, String)>,
    /// A property list with what its builds have to claim.
    pub entitlements: Option<PathBuf>,
}

/// Why that cannot be said of an iOS side.
#[derive(Debug, Error)]
pub enum IosError {
    /// The app has none.
    #[error("a team, capabilities, extensions and entitlements are an iOS side's, and {0} has none")]
    NoIosSide(String),
    /// A text that is no team id.
    #[error("`{0}` is no team id: 10 capitals and digits")]
    Team(String),
    /// An extension's name.
    #[error(transparent)]
    Name(#[from] NameError),
    /// An extension's bundle id.
    #[error(transparent)]
    Id(#[from] IdError),
    /// An extension whose id does not begin with the app's.
    #[error("the bundle id of an extension begins with its app's and a dot: {id} does not begin with {app}.")]
    NotInside {
        /// The extension's bundle id.
        id: String,
        /// The app's.
        app: String,
    },
    /// The file with the entitlements.
    #[error(transparent)]
    File(#[from] FileError),
    /// It cannot be read.
    #[error("{} cannot be read as entitlements: {cause}", path.display())]
    Entitlements {
        /// The file.
        path: PathBuf,
        /// What was wrong.
        cause: ParseError,
    },
    /// It holds values that no entitlement has.
    #[error("{} holds a date, a real number or data, which no entitlement is", .0.display())]
    Values(PathBuf),
}

/// What is said, checked and read.
pub(super) struct Read<'a> {
    says: &'a IosSays,
    entitlements: Option<BTreeMap<String, Entitlement>>,
}

impl IosSays {
    /// Whether nothing is said.
    pub(super) fn is_empty(&self) -> bool {
        self.team.is_none()
            && self.capabilities.is_empty()
            && self.without.is_empty()
            && self.extensions.is_empty()
            && self.entitlements.is_none()
    }

    /// Checks it, and reads the file that it names.
    pub(super) fn read(&self, ctx: &Ctx<'_>) -> Result<Read<'_>, IosError> {
        if let Some(team) = self.team.as_ref().filter(|team| !is_team(team)) {
            return Err(IosError::Team(team.clone()));
        }
        for (name, id) in &self.extensions {
            check_name(name)?;
            check_bundle_id(id)?;
        }
        let entitlements = self.entitlements.as_deref().map(|path| entitlements(ctx, path)).transpose()?;
        Ok(Read { says: self, entitlements })
    }
}

fn entitlements(ctx: &Ctx<'_>, path: &Path) -> Result<BTreeMap<String, Entitlement>, IosError> {
    let bytes = files::read_whole(&ctx.path(path), ENTITLEMENTS_LIMIT)?;
    let read = plist::parse(&bytes, &Limits::USUAL);
    let list = read.map_err(|cause| IosError::Entitlements { path: path.to_owned(), cause })?;
    match Entitlement::from_plist(&list) {
        Some(Entitlement::Map(all)) => Ok(all),
        _ => Err(IosError::Values(path.to_owned())),
    }
}

impl Read<'_> {
    /// Refuses extensions that are not inside the app.
    pub(super) fn check_inside(&self, app: &str) -> Result<(), IosError> {
        let inside = |id: &String| id.strip_prefix(app).is_some_and(|rest| rest.starts_with('.'));
        match self.says.extensions.iter().find(|(_, id)| !inside(id)) {
            Some((_, id)) => Err(IosError::NotInside { id: id.clone(), app: app.into() }),
            None => Ok(()),
        }
    }

    /// Writes it into the table of the iOS side; capabilities are put to those that `known` has.
    pub(super) fn write(&self, side: &mut dyn TableLike, known: &[Capability]) {
        if let Some(team) = &self.says.team {
            side.insert("team", value(team));
        }
        if !self.says.capabilities.is_empty() || !self.says.without.is_empty() {
            let mut all: Vec<Capability> = known.iter().chain(&self.says.capabilities).copied().collect();
            all.sort_unstable();
            all.dedup();
            all.retain(|one| !self.says.without.contains(one));
            let words: Array = all.iter().map(|one| one.word()).collect();
            side.insert("capabilities", value(words));
        }
        if !self.says.extensions.is_empty() {
            if side.get("extensions").is_none() {
                side.insert("extensions", Item::Table(Table::new()));
            }
            if let Some(table) = side.get_mut("extensions").and_then(Item::as_table_like_mut) {
                for (name, id) in &self.says.extensions {
                    table.insert(name, value(id));
                }
            }
        }
        if let Some(entitlements) = &self.entitlements {
            let mut table = Table::new();
            for (key, one) in entitlements {
                table.insert(key, Item::Value(written(one)));
            }
            side.insert("entitlements", Item::Table(table));
        }
    }
}

fn written(value: &Entitlement) -> Value {
    match value {
        Entitlement::Flag(flag) => Value::from(*flag),
        Entitlement::Number(number) => Value::from(*number),
        Entitlement::Text(text) => Value::from(text.as_str()),
        Entitlement::List(all) => Value::Array(all.iter().map(written).collect()),
        Entitlement::Map(all) => {
            let mut table = toml_edit::InlineTable::new();
            for (key, one) in all {
                table.insert(key, written(one));
            }
            Value::InlineTable(table)
        }
    }
}

/// The profiles in use of an app that do not grant a capability which it has now: they have to be made again.
pub(super) fn profiles_too_old(inventory: &Inventory, ios: &Ios, now: Timestamp) -> Vec<String> {
    let active = inventory.iter().filter(|item| item.state == State::Active);
    let lacks = |facts: &Facts| match facts {
        Facts::Profile(profile) => {
            let ungranted = |one: &Capability| !profile.entitlements.contains_key(one.entitlement());
            is_for(&profile.app_id, &ios.bundle_id)
                && profile.not_after >= now
                && ios.capabilities.iter().any(ungranted)
        }
        _ => false,
    };
    let mut names: Vec<String> =
        active.filter(|item| lacks(&item.facts)).map(|item| item.name.clone()).collect();
    names.sort();
    names
}
