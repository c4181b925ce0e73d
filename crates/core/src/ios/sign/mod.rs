//! How a build for iOS is signed: profiles put in, resources sealed, code signed from the inside out.
//!
//! `Opened` is read strictly. What is signed does not lie in memory: code is unpacked to a [`Scratch`](crate::stream::Scratch),
//! signed from there, and packed again; everything else is hashed as it streams by and copied as it is.

mod archive;
pub mod claims;
pub mod code;
mod files;

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;

use ninekeys_formats::code_resources::{self, Content};
use ninekeys_formats::cursor::ParseError;
use ninekeys_formats::info_plist::{Changes, InfoPlist};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::profile::Profile;
use rayon::prelude::*;
use thiserror::Error;

pub use self::archive::{Packed, known_in};
use self::claims::{Chosen, Claimant, Claims, Declared};
use self::code::{CodeFailure, CodeSigner, SignedAs, signed_copy};
pub use self::files::NewFile;
use self::files::Packing;
use super::code::claims_of;
use super::package::{
    Container, INFO, Known, KnownFile, MOST_INFO, Outline, PROFILE, PackageError, Place, SEAL, SEALS,
};
use super::profile::pattern_prefix;
use super::tree::{Kind, Tree, TreeError};
use crate::build::Says;
use crate::env::Env;
use crate::model::Destination;
use crate::stream::DigestError;

/// Why a build is not signed.
#[derive(Debug, Error)]
pub enum SignError {
    /// There is no app in it, or it cannot be read.
    #[error(transparent)]
    Package(#[from] PackageError),
    /// It is malformed.
    #[error("the build is malformed: {0}")]
    Malformed(String),
    /// It does not say what it is.
    #[error("the build does not say its bundle id")]
    NoId,
    /// Something in it has no profile to be signed with.
    #[error("{path} is the {kind} {bundle_id}, and there is no profile for it")]
    NoProfile {
        /// Its path in the build.
        path: String,
        /// What it is.
        kind: &'static str,
        /// Its bundle id.
        bundle_id: String,
    },
    /// A bundle without code.
    #[error("{0} has no executable")]
    NoCode(String),
    /// Code cannot be signed.
    #[error("{path}: {cause}")]
    Code {
        /// Its path in the build.
        path: String,
        /// Why.
        #[source]
        cause: Box<CodeFailure>,
    },
    /// A property list cannot be set, or a seal cannot be written.
    #[error("{path}: {cause}")]
    List {
        /// Its path in the build.
        path: String,
        /// Why.
        #[source]
        cause: ParseError,
    },
    /// It would be larger than an archive can say.
    #[error("the signed build would be larger than 4 GiB, or have more than 65,534 files")]
    TooLarge,
    /// Reading or writing failed, or the user stopped.
    #[error(transparent)]
    Digest(#[from] DigestError),
}

impl From<TreeError> for SignError {
    fn from(error: TreeError) -> Self {
        match error {
            TreeError::Digest(error) => SignError::Digest(error),
            TreeError::Zip(ninekeys_formats::zip::ZipError::Stopped) => DigestError::Stopped.into(),
            other => SignError::Package(other.into()),
        }
    }
}

/// A build that was read and is sound.
pub struct Opened<'a> {
    tree: &'a dyn Tree,
    outline: Outline,
}

/// What is put into a bundle that has a profile.
#[derive(Debug, Clone)]
pub struct Embedded {
    /// The profile, as it came.
    pub bytes: Vec<u8>,
    /// What it says.
    pub profile: Profile,
}

/// How a build is signed.
pub struct Signing<'a> {
    /// Who signs.
    pub who: CodeSigner<'a>,
    /// The profile of each bundle that needs one, by the path of the bundle.
    pub profiles: BTreeMap<String, Embedded>,
    /// Where it goes.
    pub destination: Destination,
    /// What the app itself declares.
    pub declared: Declared,
    /// What extensions declare, by bundle id; of others it stands in them.
    pub declared_inside: BTreeMap<String, Claims>,
    /// Whether that is all that it declares, whatever stands in it.
    pub declared_is_all: bool,
    /// What is set in it.
    pub changes: Changes,
}

/// What one bundle claims, and why.
#[derive(Debug, Clone)]
pub struct Claimed {
    /// The path of the bundle.
    pub path: String,
    /// What was chosen.
    pub chosen: Chosen,
}

/// A signed build, as what is different from the one that it was made of.
pub struct Signed {
    /// Files with other bytes, by their nodes.
    pub replaced: BTreeMap<usize, NewFile>,
    /// Files that were not there, by path.
    pub added: BTreeMap<String, NewFile>,
    /// Files that are not there any more.
    pub dropped: Vec<usize>,
    /// What every file and link that stayed as it was came to, by its node, and what new code did.
    pub known: Known,
    /// What desktop systems had left in it, and was dropped.
    pub rubbish: Vec<String>,
    /// What each bundle claims.
    pub claimed: Vec<Claimed>,
    /// Slices for simulators that were left out: the path, and the processors.
    pub left_out: Vec<(String, String)>,
    /// How many executables were signed.
    pub executables: usize,
    /// How many files are sealed in the app.
    pub sealed: usize,
}

impl fmt::Debug for Signed {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Signed({} replaced, {} added, ..)", self.replaced.len(), self.added.len())
    }
}

impl<'a> Opened<'a> {
    /// Reads a build strictly.
    ///
    /// # Errors
    /// [`SignError`].
    pub fn open(tree: &'a dyn Tree) -> Result<Self, SignError> {
        let outline = Outline::of(tree)?;
        if let Some(fault) = outline.faults.first() {
            return Err(SignError::Malformed(fault.clone()));
        }
        let opened = Opened { tree, outline };
        if opened.says().is_none() { Err(SignError::NoId) } else { Ok(opened) }
    }

    /// How it lies.
    pub fn container(&self) -> Container {
        self.outline.container
    }

    /// What the app says of itself.
    pub fn says(&self) -> Option<Says> {
        super::examine::says(self.outline.bundles.first()?.info.as_ref().ok()?)
    }

    /// The bundles with a profile of their own: path, what it is, bundle id.
    pub fn parts(&self) -> impl Iterator<Item = (&str, &'static str, &str)> {
        let own = self.outline.bundles.iter().filter(|place| place.kind.has_profile());
        own.map(|place| (place.path.as_str(), place.kind.word(), place.id()))
    }

    /// Whether an earlier signature is there.
    pub fn is_signed(&self) -> bool {
        let app = self.outline.bundles.first();
        app.is_some_and(|app| self.outline.by_path.contains_key(&app.file(SEAL)))
    }

    /// Signs it.
    ///
    /// # Errors
    /// [`SignError`].
    pub fn sign(&self, signing: &Signing<'_>, env: &Env<'_>) -> Result<Signed, SignError> {
        let mut work = Work::begin(self, signing);
        work.set_lists()?;
        work.put_profiles()?;
        work.drop_what_goes();
        let codes = work.hash_the_rest(env)?;
        let waves = work.waves(&codes)?;
        for wave in waves.into_iter().rev() {
            let made: Result<Vec<Made>, SignError> =
                wave.into_par_iter().with_max_len(1).map(|unit| work.make(&unit, env)).collect();
            for made in made? {
                work.take(made);
            }
        }
        Ok(work.done)
    }
}

/// Something with code that is signed.
struct Unit {
    /// The node of the code.
    node: usize,
    /// The bundle whose executable it is; nothing for a library in one.
    bundle: Option<usize>,
}

/// What came of one.
struct Made {
    node: usize,
    content: Content,
    file: NewFile,
    /// The seal of its bundle, by its path.
    seal: Option<(String, NewFile, Content, usize)>,
    claimed: Option<Claimed>,
    left_out: Option<(String, String)>,
}

/// Signing, under way.
struct Work<'o> {
    tree: &'o dyn Tree,
    outline: &'o Outline,
    signing: &'o Signing<'o>,
    packing: Packing,
    /// What every file of the app will be, by path.
    contents: BTreeMap<String, Content>,
    /// The bundle ids, as they will be.
    ids: Vec<String>,
    done: Signed,
}

impl<'o> Work<'o> {
    fn begin(opened: &'o Opened<'_>, signing: &'o Signing<'_>) -> Self {
        let done = Signed {
            replaced: BTreeMap::new(),
            added: BTreeMap::new(),
            dropped: Vec::new(),
            known: Known::new(),
            rubbish: Vec::new(),
            claimed: Vec::new(),
            left_out: Vec::new(),
            executables: 0,
            sealed: 0,
        };
        // a folder becomes a folder, anything else an archive
        let packing = if opened.tree.is_folder() { Packing::Loose } else { Packing::Packed };
        let ids = opened.outline.bundles.iter().map(|place| place.id().to_owned()).collect();
        Work {
            tree: opened.tree,
            outline: &opened.outline,
            signing,
            packing,
            contents: BTreeMap::new(),
            ids,
            done,
        }
    }

    /// Puts bytes to a path, in the place of what is there.
    fn put(&mut self, path: String, bytes: Vec<u8>) -> Result<(), SignError> {
        self.contents.insert(path.clone(), files::content_of(&bytes));
        let file = NewFile::small(bytes, self.packing)?;
        self.put_file(path, file);
        Ok(())
    }

    fn put_file(&mut self, path: String, file: NewFile) {
        match self.outline.file(self.tree, &path) {
            Some(index) => drop(self.done.replaced.insert(index, file)),
            None => drop(self.done.added.insert(path, file)),
        }
    }

    /// Sets ids, versions and names.
    fn set_lists(&mut self) -> Result<(), SignError> {
        if self.signing.changes.is_empty() {
            return Ok(());
        }
        for (index, place) in self.outline.bundles.iter().enumerate() {
            let path = place.file(INFO);
            let Some(node) = self.outline.file(self.tree, &path).filter(|_| place.kind.has_profile()) else {
                continue;
            };
            let bytes = self.tree.read(node, MOST_INFO)?.unwrap_or_default();
            let failed = |cause| SignError::List { path: path.clone(), cause };
            let changed = self.signing.changes.apply(&bytes, index == 0, &Limits::USUAL).map_err(failed)?;
            let info = InfoPlist::parse(&changed, &Limits::USUAL).map_err(failed)?;
            if let (Some(own), Some(id)) = (self.ids.get_mut(index), info.id) {
                *own = id;
            }
            self.put(path, changed)?;
        }
        Ok(())
    }

    fn put_profiles(&mut self) -> Result<(), SignError> {
        for place in self.outline.bundles.iter().filter(|place| place.kind.has_profile()) {
            let profile = self.signing.profiles.get(&place.path);
            let embedded = profile.ok_or_else(|| SignError::NoProfile {
                path: place.path.clone(),
                kind: place.kind.word(),
                bundle_id: place.id().to_owned(),
            })?;
            self.put(place.file(PROFILE), embedded.bytes.clone())?;
        }
        Ok(())
    }

    /// Old seals, and what desktop systems leave behind.
    fn drop_what_goes(&mut self) {
        let seals: Vec<String> =
            self.outline.bundles.iter().map(|place| format!("{}/", place.file(SEALS))).collect();
        for (index, node) in self.tree.nodes().iter().enumerate() {
            if files::is_rubbish(&node.path) {
                self.done.rubbish.push(node.path.clone());
                self.done.dropped.push(index);
            } else if node.kind != Kind::Folder
                && seals.iter().any(|seal| node.path.starts_with(seal))
                && !node.path.ends_with(SEAL)
            {
                self.done.dropped.push(index);
            }
        }
    }

    /// Hashes every other file of the app; tells those with code, which are hashed when they are signed.
    fn hash_the_rest(&mut self, env: &Env<'_>) -> Result<Vec<usize>, SignError> {
        let below = format!("{}/", self.outline.root);
        let seals: BTreeSet<String> = self.outline.bundles.iter().map(|place| place.file(SEAL)).collect();
        let dropped = &self.done.dropped;
        let rest = self.tree.nodes().iter().enumerate().filter(|(index, node)| {
            node.kind != Kind::Folder
                && node.path.starts_with(&below)
                && !self.done.replaced.contains_key(index)
                && dropped.binary_search(index).is_err()
                && !seals.contains(&node.path)
        });
        let rest: Vec<usize> = rest.map(|(index, _)| index).collect();
        let hashed = files::hash_all(self.tree, &rest, env)?;
        let mut codes = Vec::new();
        for (index, content) in hashed {
            match (content, self.tree.nodes().get(index)) {
                (Some(content), Some(node)) => {
                    let known = KnownFile { content: content.clone(), is_code: false };
                    self.done.known.insert(index, known);
                    self.contents.insert(node.path.clone(), content);
                }
                (None, _) => codes.push(index),
                (Some(_), None) => {}
            }
        }
        Ok(codes)
    }

    /// What is signed, the outermost first: what is inside comes before what it is inside of.
    fn waves(&self, codes: &[usize]) -> Result<Vec<Vec<Unit>>, SignError> {
        let mut waves: Vec<Vec<Unit>> = Vec::new();
        let mut add = |depth: usize, unit: Unit| {
            waves.resize_with(waves.len().max(depth + 1), Vec::new);
            waves.get_mut(depth).into_iter().for_each(|wave| wave.push(Unit { ..unit }));
        };
        let depth = |place: &Place| self.outline.depth(place);
        let wanted: BTreeSet<usize> = codes.iter().copied().collect();
        let mut own = BTreeSet::new();
        for (index, place) in self.outline.bundles.iter().enumerate() {
            let node = place.executable.as_ref().and_then(|path| self.outline.file(self.tree, path));
            match node.filter(|node| wanted.contains(node)) {
                Some(node) => {
                    own.insert(node);
                    add(depth(place), Unit { node, bundle: Some(index) });
                }
                None if place.kind.has_profile() => return Err(SignError::NoCode(place.path.clone())),
                None => {}
            }
        }
        for node in codes.iter().filter(|node| !own.contains(node)) {
            let path = self.tree.nodes().get(*node).map(|node| node.path.as_str()).unwrap_or_default();
            let around = self.outline.bundles.iter().rev().find(|place| place.within(path).is_some());
            add(around.map_or(0, depth) + 1, Unit { node: *node, bundle: None });
        }
        Ok(waves)
    }

    /// Signs one executable, with the seal of its bundle before it.
    fn make(&self, unit: &Unit, env: &Env<'_>) -> Result<Made, SignError> {
        let node = self.tree.nodes().get(unit.node);
        let path = node.map(|node| node.path.clone()).unwrap_or_default();
        let failed = |cause: CodeFailure| match cause {
            CodeFailure::Digest(error) => SignError::Digest(error),
            cause => SignError::Code { path: path.clone(), cause: Box::new(cause) },
        };
        let source = files::unpack(self.tree, unit.node, env)?;
        let place = unit.bundle.and_then(|index| self.outline.bundles.get(index));
        let name = path.rsplit_once('/').map_or(path.as_str(), |(_, name)| name);
        let library = name.strip_suffix(".dylib").unwrap_or(name);
        let identifier = unit.bundle.and_then(|index| self.ids.get(index)).map_or(library, String::as_str);
        let claimed = place.and_then(|place| {
            let embedded = self.signing.profiles.get(&place.path)?;
            let is_app = unit.bundle == Some(0);
            let chosen = self.choose(embedded, identifier, is_app, claims_of(source.as_ref()));
            Some(Claimed { path: place.path.clone(), chosen })
        });
        let seal = place.map(|place| self.seal(place)).transpose()?;
        let hash = |path: &str| match self.contents.get(path) {
            Some(Content::File { sha256, .. }) => Some(*sha256),
            _ => None,
        };
        let what = SignedAs {
            identifier,
            claims: claimed.as_ref().map(|claimed| &claimed.chosen.claims),
            info_plist: place.and_then(|place| hash(&place.file(INFO))),
            resources: seal.as_ref().map(|(bytes, _)| crate::digest::sha256(bytes)),
        };
        let new = signed_copy(source.as_ref(), &what, &self.signing.who, env).map_err(failed)?;
        drop(source);
        let (content, file) = NewFile::of_code(new.bytes, self.packing, env)?;
        let seal = match (seal, place) {
            (Some((bytes, count)), Some(place)) => {
                let content = files::content_of(&bytes);
                Some((place.file(SEAL), NewFile::small(bytes, self.packing)?, content, count))
            }
            _ => None,
        };
        let left_out = (!new.left_out.is_empty()).then(|| (path.clone(), new.left_out.join(", ")));
        Ok(Made { node: unit.node, content, file, seal, claimed, left_out })
    }

    /// What a bundle claims: of what its profile grants that which it declares, in what it is now or in the project.
    fn choose(&self, embedded: &Embedded, id: &str, is_app: bool, before: Option<Claims>) -> Chosen {
        let profile = &embedded.profile;
        let inside = || self.signing.declared_inside.get(id).cloned().unwrap_or_default();
        let mut declared = match is_app {
            true => self.signing.declared.clone(),
            false => Declared { values: inside(), names: Vec::new() },
        };
        if !(is_app && self.signing.declared_is_all) {
            for (key, value) in before.unwrap_or_default() {
                declared.values.entry(key).or_insert(value);
            }
        }
        let who = Claimant {
            bundle_id: id,
            prefix: profile.app_id().map(pattern_prefix).unwrap_or_default(),
            team: self.signing.who.team,
            destination: self.signing.destination,
        };
        claims::choose(&profile.entitlements, &declared, &who)
    }

    /// The seal over a bundle as it is now, and how many files it has.
    fn seal(&self, place: &Place) -> Result<(Vec<u8>, usize), SignError> {
        let below = format!("{}/", place.path);
        let all = self.contents.range(below.clone()..).take_while(|(path, _)| path.starts_with(&below));
        let files: BTreeMap<String, Content> = all
            .filter(|(path, _)| place.executable.as_ref() != Some(path))
            .filter_map(|(path, content)| Some((place.within(path)?, content)))
            .filter(|(path, _)| path.split('/').next() != Some(SEALS))
            .map(|(path, content)| (path.to_owned(), content.clone()))
            .collect();
        let written = code_resources::write(&files);
        let written = written.map_err(|cause| SignError::List { path: place.file(SEAL), cause })?;
        Ok((written, files.len()))
    }

    fn take(&mut self, made: Made) {
        let Made { node, content, file, seal, claimed, left_out } = made;
        self.done.known.insert(node, KnownFile { content: content.clone(), is_code: true });
        if let Some(path) = self.tree.nodes().get(node).map(|node| node.path.clone()) {
            self.contents.insert(path, content);
        }
        self.done.replaced.insert(node, file);
        self.done.executables += 1;
        if let Some((path, file, content, count)) = seal {
            self.contents.insert(path.clone(), content);
            self.put_file(path, file);
            // the app comes last
            self.done.sealed = count;
        }
        self.done.claimed.extend(claimed);
        self.done.left_out.extend(left_out);
    }
}
