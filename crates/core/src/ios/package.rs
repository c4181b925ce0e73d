//! A build for iOS: the app and what is inside it, what each says of itself, who signed it, and whether signature and seal hold.
//!
//! Every file is read once: hashed for the seals of all bundles that it is in, and proved as code where it is code. What is
//! written into a seal of one bundle is compared when all files are known.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::atomic::{AtomicU64, Ordering};

use aws_lc_rs::digest::{Context, SHA1_FOR_LEGACY_USE_ONLY, SHA256};
use ninekeys_formats::code_resources::{CodeResources, Content};
use ninekeys_formats::cursor::ParseError;
use ninekeys_formats::info_plist::InfoPlist;
use ninekeys_formats::limits::Limits;
use ninekeys_formats::macho;
use ninekeys_formats::zip::ZipError;
use rayon::prelude::*;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::code::{self, Code, CodeError, Home, Signature, Signed, SignedBy};
use super::seal::{self, Flaws};
use super::tree::{Kind, Node, Tree, TreeError, above, path_faults, stays_inside};
use crate::env::Env;
use crate::stream::{DigestError, Space};

/// The files of a bundle that count by their names.
pub(crate) const INFO: &str = "Info.plist";
pub(crate) const SEAL: &str = "_CodeSignature/CodeResources";
pub(super) const SEALS: &str = "_CodeSignature";
pub(crate) const PROFILE: &str = "embedded.mobileprovision";
/// The folder of an IPA that the app is in.
const PAYLOAD: &str = "Payload";

/// The most bundles of a build, how deep they stand in each other, and the largest files that are read whole.
const MOST_BUNDLES: usize = 1_000;
const DEEPEST: usize = 8;
pub(super) const MOST_INFO: u64 = 1 << 20;
const MOST_SEAL: u64 = 32 << 20;
const MOST_PROFILE: u64 = 1 << 20;

/// What is read of a seal: as much as there can be over so many files, each on two lists with a path and two hashes.
fn seal_limits(files: usize) -> Limits {
    let files = files as u64 + 100;
    Limits { inflated: MOST_SEAL.min(files << 12), items: files * 32, ..Limits::USUAL }
}

/// How a build lies.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
pub enum Container {
    /// An IPA.
    #[serde(rename = "ipa")]
    Ipa,
    /// An archive of the app's folder.
    #[serde(rename = "zipped-app")]
    Zipped,
    /// The app's folder.
    #[serde(rename = "app")]
    Folder,
}

impl Container {
    /// What people call it.
    pub fn word(self) -> &'static str {
        match self {
            Container::Ipa => "IPA",
            Container::Zipped => "zipped .app",
            Container::Folder => ".app",
        }
    }

    /// What the names of signed builds end with: an archive is made an IPA.
    pub fn ending(self) -> &'static str {
        match self {
            Container::Ipa | Container::Zipped => "ipa",
            Container::Folder => "app",
        }
    }
}

/// What a bundle is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum BundleKind {
    /// The app.
    App,
    /// An app inside it, for a watch.
    Inner,
    /// An extension.
    Extension,
    /// A framework.
    Framework,
    /// Something else with code.
    Other,
}

impl BundleKind {
    fn of(path: &str) -> Self {
        match path.rsplit_once('.').map(|(_, ending)| ending) {
            Some("app") => BundleKind::Inner,
            Some("appex") => BundleKind::Extension,
            Some("framework") => BundleKind::Framework,
            _ => BundleKind::Other,
        }
    }

    /// Whether it is signed with a profile of its own.
    pub fn has_profile(self) -> bool {
        matches!(self, BundleKind::App | BundleKind::Inner | BundleKind::Extension)
    }

    /// As a sentence says it.
    pub fn word(self) -> &'static str {
        match self {
            BundleKind::App => "app",
            BundleKind::Inner => "watch app",
            BundleKind::Extension => "extension",
            BundleKind::Framework => "framework",
            BundleKind::Other => "bundle",
        }
    }
}

/// Why a file is no code that could be looked at.
#[derive(Debug, Error)]
pub enum Unlooked {
    /// It is not there.
    #[error("it is not there")]
    Missing,
    /// It is no executable.
    #[error("it is no executable")]
    NotCode,
    /// It does not hold together.
    #[error(transparent)]
    Broken(macho::MachoError),
}

/// A file with code.
#[derive(Debug)]
pub struct Executable {
    /// Its path in the build.
    pub path: String,
    /// Its slices.
    pub code: Result<Vec<Code>, Unlooked>,
}

impl Executable {
    /// Its slices, where it could be read.
    pub fn slices(&self) -> &[Code] {
        self.code.as_deref().unwrap_or_default()
    }

    /// The signatures of its slices.
    pub fn signatures(&self) -> impl Iterator<Item = &Signed> {
        self.slices().iter().filter_map(|code| match &code.signature {
            Signature::Found(signed) => Some(signed.as_ref()),
            Signature::None | Signature::Unreadable(_) => None,
        })
    }

    /// Whether every slice is signed with a certificate.
    pub fn is_signed(&self) -> bool {
        let by_certificate = |code: &Code| match &code.signature {
            Signature::Found(signed) => matches!(signed.by, SignedBy::Certificate(_)),
            Signature::None | Signature::Unreadable(_) => false,
        };
        !self.slices().is_empty() && self.slices().iter().all(by_certificate)
    }
}

/// What came of the seal over a bundle's files.
#[derive(Debug)]
pub enum Seal {
    /// It has none.
    None,
    /// It cannot be read.
    Unreadable(ParseError),
    /// It was held against the files.
    Compared {
        /// What is not as it was sealed.
        flaws: Flaws,
        /// How many files are sealed.
        files: usize,
    },
}

/// A bundle with code.
#[derive(Debug)]
pub struct Bundle {
    /// Its path in the build.
    pub path: String,
    /// What it is.
    pub kind: BundleKind,
    /// The bundle that it is inside of.
    pub inside: Option<usize>,
    /// What it says of itself.
    pub info: Result<InfoPlist, ParseError>,
    /// Its executable.
    pub executable: Executable,
    /// Its seal.
    pub seal: Seal,
    /// What its executable's signature says of it, and is not so: its property list, its seal.
    pub parts: Vec<&'static str>,
    /// Its profile, as it lies there.
    pub profile: Option<Vec<u8>>,
}

impl Bundle {
    /// Its bundle id.
    pub fn id(&self) -> &str {
        self.info.as_ref().ok().and_then(|info| info.id.as_deref()).unwrap_or_default()
    }

    /// Its name, without the folders above it.
    pub fn name(&self) -> &str {
        self.path.rsplit_once('/').map_or(&self.path, |(_, name)| name)
    }
}

/// A build for iOS.
#[derive(Debug)]
pub struct IosBuild {
    /// How it lies.
    pub container: Container,
    /// The app, and then what is inside it, by path.
    pub bundles: Vec<Bundle>,
    /// Code that is in a bundle and is not its executable.
    pub loose: Vec<Executable>,
    /// How many files were hashed.
    pub files: usize,
}

impl IosBuild {
    /// The app itself.
    pub fn app(&self) -> Option<&Bundle> {
        self.bundles.first()
    }

    /// All code, the app's own first.
    pub fn executables(&self) -> impl Iterator<Item = &Executable> {
        self.bundles.iter().map(|bundle| &bundle.executable).chain(&self.loose)
    }
}

/// Why a build cannot be looked at.
#[derive(Debug, Error)]
pub enum PackageError {
    /// There is no app in it.
    #[error("there is no app in it: no folder that ends in .app")]
    NoApp,
    /// There are several.
    #[error("there are several apps in it: {}", .0.join(", "))]
    SeveralApps(Vec<String>),
    /// Reading it failed.
    #[error(transparent)]
    Tree(#[from] TreeError),
}

/// Where everything in a build is: the app's folder, the bundles with code, and what lies in each.
pub struct Outline {
    /// How it lies.
    pub container: Container,
    /// The app's folder.
    pub root: String,
    /// The bundles: the app first, then by path.
    pub bundles: Vec<Place>,
    /// Nodes by path.
    pub by_path: BTreeMap<String, usize>,
    /// What is malformed.
    pub faults: Vec<String>,
}

/// Where a bundle is.
#[derive(Debug)]
pub struct Place {
    /// Its path.
    pub path: String,
    /// What it is.
    pub kind: BundleKind,
    /// The bundle that it is inside of.
    pub inside: Option<usize>,
    /// What it says of itself.
    pub info: Result<InfoPlist, ParseError>,
    /// The path of its executable; nothing where it names none.
    pub executable: Option<String>,
}

impl Place {
    /// Its bundle id.
    pub fn id(&self) -> &str {
        self.info.as_ref().ok().and_then(|info| info.id.as_deref()).unwrap_or_default()
    }

    /// The path of a file of it.
    pub fn file(&self, name: &str) -> String {
        format!("{}/{name}", self.path)
    }

    /// The path within it of something that is in it.
    pub fn within<'p>(&self, path: &'p str) -> Option<&'p str> {
        path.strip_prefix(self.path.as_str())?.strip_prefix('/')
    }
}

impl Outline {
    /// Finds the app and the bundles in it.
    ///
    /// # Errors
    /// [`PackageError`].
    pub fn of(tree: &dyn Tree) -> Result<Outline, PackageError> {
        let nodes = tree.nodes();
        let (container, root) = find_app(tree)?;
        let mut faults = tree.faults();
        faults.extend(path_faults(nodes));
        let by_path: BTreeMap<String, usize> =
            nodes.iter().enumerate().map(|(index, node)| (node.path.clone(), index)).collect();
        let mut outline = Outline { container, root, bundles: Vec::new(), by_path, faults };
        if tree.is_readable() {
            outline.find_bundles(tree)?;
        }
        Ok(outline)
    }

    /// The file of that path.
    pub fn file(&self, tree: &dyn Tree, path: &str) -> Option<usize> {
        let index = *self.by_path.get(path)?;
        tree.nodes().get(index).is_some_and(|node| node.kind == Kind::File).then_some(index)
    }

    fn find_bundles(&mut self, tree: &dyn Tree) -> Result<(), PackageError> {
        let below = format!("{}/", self.root);
        let infos = self.by_path.range(below.clone()..).take_while(|(path, _)| path.starts_with(&below));
        let folders = infos.filter_map(|(path, _)| path.strip_suffix(INFO)?.strip_suffix('/'));
        let is_bundle = |folder: &&str| *folder == self.root || name_of(folder).contains('.');
        let mut folders: Vec<String> = folders.filter(is_bundle).map(str::to_owned).collect();
        folders.sort();
        if !folders.contains(&self.root) {
            self.faults.push(format!("{}: it has no {INFO}", self.root));
        }
        for path in folders {
            if self.bundles.len() >= MOST_BUNDLES {
                self.faults.push(format!("it has more than {MOST_BUNDLES} bundles"));
                break;
            }
            if let Some(place) = self.place(tree, path)? {
                self.bundles.push(place);
            }
        }
        Ok(())
    }

    /// The bundle at a path; nothing where it is resources alone.
    fn place(&mut self, tree: &dyn Tree, path: String) -> Result<Option<Place>, PackageError> {
        let kind = if path == self.root { BundleKind::App } else { BundleKind::of(&path) };
        let Some(index) = self.file(tree, &format!("{path}/{INFO}")) else { return Ok(None) };
        let info = read_info(tree, index)?;
        let named = info.as_ref().ok().and_then(|info| info.executable.clone());
        let executable = named.map(|name| format!("{path}/{name}"));
        let is_there = executable.as_ref().is_some_and(|path| self.file(tree, path).is_some());
        // what names no code of its own is a folder of resources
        let needs_code = !matches!(kind, BundleKind::Other | BundleKind::Framework);
        if !is_there && !needs_code && (kind == BundleKind::Other || executable.is_none()) {
            return Ok(None);
        }
        if let Err(error) = &info {
            self.faults.push(format!("{path}/{INFO}: {error}"));
        }
        let inside = above(&path).find_map(|above| self.bundles.iter().position(|known| known.path == above));
        let place = Place { path, kind, inside, info, executable };
        if self.depth(&place) > DEEPEST {
            let path = &place.path;
            self.faults.push(format!("{path}: bundles stand in each other more than {DEEPEST} deep"));
            return Ok(None);
        }
        Ok(Some(place))
    }

    /// How many bundles a bundle is inside of.
    pub(super) fn depth(&self, place: &Place) -> usize {
        let outer = |place: &Place| place.inside.and_then(|index| self.bundles.get(index));
        std::iter::successors(outer(place), |place| outer(place)).count()
    }

    /// The path in a bundle of every file and link that its seal is over, with its node.
    pub fn sealed_by<'o>(
        &'o self,
        place: &'o Place,
        tree: &'o dyn Tree,
    ) -> impl Iterator<Item = (&'o str, usize)> {
        let below = format!("{}/", place.path);
        let all = self.by_path.range(below.clone()..).take_while(move |(path, _)| path.starts_with(&below));
        all.filter_map(|(path, index)| {
            let within = place.within(path)?;
            let own = place.executable.as_deref() == Some(path) || within.split('/').next() == Some(SEALS);
            let node = tree.nodes().get(*index)?;
            (!own && node.kind != Kind::Folder).then_some((within, *index))
        })
    }
}

fn name_of(path: &str) -> &str {
    path.rsplit_once('/').map_or(path, |(_, name)| name)
}

fn read_info(tree: &dyn Tree, index: usize) -> Result<Result<InfoPlist, ParseError>, TreeError> {
    let too_large = || ParseError {
        what: INFO,
        at: 0,
        fault: ninekeys_formats::cursor::Fault::Limit { said: MOST_INFO + 1, limit: MOST_INFO },
    };
    Ok(match tree.read(index, MOST_INFO) {
        Ok(Some(bytes)) => InfoPlist::parse(&bytes, &Limits::USUAL),
        Ok(None) => Err(too_large()),
        // damaged bytes are said where all files are read
        Err(TreeError::Zip(ZipError::Entry { .. })) => {
            Err(ParseError { what: INFO, at: 0, fault: ninekeys_formats::cursor::Fault::Malformed })
        }
        Err(error) => return Err(error),
    })
}

/// The app's folder: the only one in `Payload`, or the only one at the top.
fn find_app(tree: &dyn Tree) -> Result<(Container, String), PackageError> {
    let mut in_payload = BTreeSet::new();
    let mut at_top = BTreeSet::new();
    for node in tree.nodes() {
        let mut parts = node.path.split('/');
        let (first, second) = (parts.next().unwrap_or_default(), parts.next());
        let is_inside = parts.next().is_some();
        match second {
            Some(second) if first == PAYLOAD && second.ends_with(".app") && is_inside => {
                in_payload.insert(format!("{first}/{second}"));
            }
            Some(_) if first.ends_with(".app") => {
                at_top.insert(first.to_owned());
            }
            _ => {}
        }
    }
    let other = if tree.is_folder() { Container::Folder } else { Container::Zipped };
    let (container, found) =
        if in_payload.is_empty() { (other, at_top) } else { (Container::Ipa, in_payload) };
    let found: Vec<String> = found.into_iter().collect();
    match found.as_slice() {
        [] => Err(PackageError::NoApp),
        [one] => Ok((container, one.clone())),
        _ => Err(PackageError::SeveralApps(found)),
    }
}

/// What one file came to.
struct Looked {
    content: Content,
    code: Option<Result<Vec<Code>, Unlooked>>,
}

/// What is known of a file, since it was read already and is the same to the byte.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KnownFile {
    /// Its hashes.
    pub content: Content,
    /// Whether it is code: then it is read all the same, and its signature looked at.
    pub is_code: bool,
}

/// What is known of files, by their nodes.
pub type Known = BTreeMap<usize, KnownFile>;

/// Looks at all of a build.
///
/// # Errors
/// [`PackageError`] when there is no app in it, it cannot be read, or the user wants to stop. What is wrong with it otherwise is
/// part of the answer: malformed things in the second half.
pub fn examine(
    tree: &dyn Tree,
    known: &Known,
    env: &Env<'_>,
) -> Result<(IosBuild, Vec<String>), PackageError> {
    let mut outline = Outline::of(tree)?;
    let homes: BTreeSet<usize> = outline
        .bundles
        .iter()
        .filter_map(|place| outline.by_path.get(place.executable.as_ref()?).copied())
        .collect();
    let files: Vec<usize> = match tree.is_readable() {
        true => in_order_of_work(tree.nodes()),
        false => Vec::new(),
    };
    let looked = look_at_all(tree, &files, &homes, known, env)?;
    let mut all: BTreeMap<usize, Looked> = BTreeMap::new();
    for (index, result) in looked {
        match result {
            Ok(looked) => drop(all.insert(index, looked)),
            Err(text) => outline.faults.push(text),
        }
    }
    outline.faults.extend(links_that_leave(tree.nodes(), &all, &outline.root));
    let contents: BTreeMap<usize, Content> =
        all.iter().map(|(index, looked)| (*index, looked.content.clone())).collect();
    let mut codes: BTreeMap<usize, Result<Vec<Code>, Unlooked>> =
        all.into_iter().filter_map(|(index, looked)| Some((index, looked.code?))).collect();
    let places = std::mem::take(&mut outline.bundles);
    let mut bundles = Vec::new();
    for place in places {
        bundles.push(bundle(tree, &outline, place, &contents, &mut codes)?);
    }
    let inside = |path: &str| path.starts_with(&format!("{}/", outline.root));
    let loose = codes.into_iter().filter_map(|(index, code)| {
        let path = tree.nodes().get(index)?.path.clone();
        inside(&path).then_some(Executable { path, code })
    });
    let build =
        IosBuild { container: outline.container, bundles, loose: loose.collect(), files: files.len() };
    Ok((build, outline.faults))
}

/// Files and links, the largest first: the last to be begun is then soon over.
pub(super) fn in_order_of_work(nodes: &[Node]) -> Vec<usize> {
    let mut files: Vec<usize> = (0..nodes.len())
        .filter(|index| nodes.get(*index).is_some_and(|node| node.kind != Kind::Folder))
        .collect();
    files.sort_by_key(|index| std::cmp::Reverse(nodes.get(*index).map(|node| node.size)));
    files
}

type LookedAt = (usize, Result<Looked, String>);

fn look_at_all(
    tree: &dyn Tree,
    files: &[usize],
    homes: &BTreeSet<usize>,
    known: &Known,
    env: &Env<'_>,
) -> Result<Vec<LookedAt>, PackageError> {
    let total = files.iter().filter_map(|index| tree.nodes().get(*index)).map(|node| node.size).sum();
    let done = AtomicU64::new(0);
    let looked: Result<Vec<LookedAt>, TreeError> = files
        .par_iter()
        .with_max_len(1)
        .map(|index| {
            let known = known.get(index);
            if let Some(known) = known.filter(|known| !known.is_code) {
                return Ok((*index, Ok(Looked { content: known.content.clone(), code: None })));
            }
            let home = if homes.contains(index) { Home::Bundle } else { Home::Alone };
            let hashed = known.map(|known| &known.content);
            let looked = match look(tree, *index, (home, hashed), env, &|bytes| {
                let done = done.fetch_add(bytes, Ordering::Relaxed) + bytes;
                env.progress.step("checking", done, total);
            }) {
                Ok(looked) => Ok(looked),
                Err(TreeError::Zip(error @ ZipError::Entry { .. })) => Err(error.to_string()),
                Err(error) => return Err(error),
            };
            Ok((*index, looked))
        })
        .collect();
    env.progress.over();
    Ok(looked?)
}

/// Reads a file once: its hashes, where they are not known, and what it is as code.
fn look(
    tree: &dyn Tree,
    index: usize,
    (home, hashed): (Home, Option<&Content>),
    env: &Env<'_>,
    step: &(dyn Fn(u64) + Sync),
) -> Result<Looked, TreeError> {
    let Some(node) = tree.nodes().get(index) else {
        return Err(DigestError::TooLarge.into());
    };
    if node.kind == Kind::Link {
        let target = tree.read(index, MOST_INFO)?.unwrap_or_default();
        let target = String::from_utf8_lossy(&target).into_owned();
        return Ok(Looked { content: Content::Link(target), code: None });
    }
    let (mut sha1, mut sha256) = (Context::new(&SHA1_FOR_LEGACY_USE_ONLY), Context::new(&SHA256));
    let mut kept: Option<Box<dyn Space>> = None;
    let mut at = 0u64;
    let mut failed = None;
    let mut stopped = false;
    let done = tree.stream(index, &mut |bytes| {
        stopped = env.stopped();
        if hashed.is_none() {
            sha1.update(bytes);
            sha256.update(bytes);
        }
        if at == 0 && macho::recognise(bytes) {
            match env.scratch.space(node.size) {
                Ok(space) => kept = Some(space),
                Err(cause) => failed = Some(cause),
            }
        }
        // what is longer than it says is told by whoever streams it
        if let Some(space) = kept.as_ref().filter(|space| at + bytes.len() as u64 <= space.len()) {
            failed = failed.take().or(space.write_at(at, bytes).err());
        }
        at += bytes.len() as u64;
        step(bytes.len() as u64);
        !stopped && failed.is_none()
    });
    if let Some(cause) = failed {
        return Err(DigestError::Write(cause).into());
    }
    if stopped {
        return Err(DigestError::Stopped.into());
    }
    done?;
    let content = hashed.cloned().unwrap_or_else(|| {
        let mut content = ([0; 20], [0; 32]);
        content.0.copy_from_slice(sha1.finish().as_ref());
        content.1.copy_from_slice(sha256.finish().as_ref());
        Content::File { sha1: content.0, sha256: content.1 }
    });
    let code = match kept {
        None => None,
        Some(space) => match code::examine(space.as_ref(), home, &Limits::USUAL, env) {
            Ok(code) => Some(Ok(code)),
            Err(CodeError::Macho(error)) => Some(Err(Unlooked::Broken(error))),
            Err(CodeError::Digest(error)) => return Err(error.into()),
        },
    };
    Ok(Looked { content, code })
}

fn links_that_leave(nodes: &[Node], all: &BTreeMap<usize, Looked>, root: &str) -> Vec<String> {
    let leaves = |(index, looked): (&usize, &Looked)| {
        let Content::Link(target) = &looked.content else { return None };
        let path = &nodes.get(*index)?.path;
        // what stands beside the app may point about there
        let home = if path.starts_with(&format!("{root}/")) { root } else { "" };
        (!stays_inside(path, target, home))
            .then(|| format!("{path}: it points to {target:?}, which is not in the app"))
    };
    all.iter().filter_map(leaves).collect()
}

fn bundle(
    tree: &dyn Tree,
    outline: &Outline,
    place: Place,
    contents: &BTreeMap<usize, Content>,
    codes: &mut BTreeMap<usize, Result<Vec<Code>, Unlooked>>,
) -> Result<Bundle, PackageError> {
    let read = |name: &str, limit: u64| match outline.file(tree, &place.file(name)) {
        // what is damaged was told
        Some(index) if contents.contains_key(&index) => tree.read(index, limit),
        _ => Ok(None),
    };
    let (info, list) = (read(INFO, MOST_INFO)?, read(SEAL, MOST_SEAL)?);
    let profile = if place.kind.has_profile() { read(PROFILE, MOST_PROFILE)? } else { None };
    let seal = match &list {
        None => Seal::None,
        Some(bytes) => match CodeResources::parse(bytes, &seal_limits(contents.len())) {
            Err(error) => Seal::Unreadable(error),
            Ok(sealed) => {
                let files: BTreeMap<&str, &Content> = outline
                    .sealed_by(&place, tree)
                    .filter_map(|(path, index)| Some((path, contents.get(&index)?)))
                    .collect();
                Seal::Compared { flaws: seal::compare(&sealed, &files), files: files.len() }
            }
        },
    };
    let path = place.executable.clone();
    let index = path.as_ref().and_then(|path| outline.by_path.get(path).copied());
    let code = match index {
        None => Err(Unlooked::Missing),
        Some(index) => codes.remove(&index).unwrap_or(Err(Unlooked::NotCode)),
    };
    let executable = Executable { path: path.unwrap_or_else(|| place.path.clone()), code };
    let parts = parts(&executable, info.as_deref(), list.as_deref());
    let Place { path, kind, inside, info, .. } = place;
    Ok(Bundle { path, kind, inside, info, executable, seal, parts, profile })
}

/// What the signatures of a bundle's executable say of its property list and its seal, and is not so.
fn parts(executable: &Executable, info: Option<&[u8]>, seal: Option<&[u8]>) -> Vec<&'static str> {
    let mut out = Vec::new();
    let signed = executable.signatures().filter(|signed| !matches!(signed.by, SignedBy::Linker));
    for directory in signed.flat_map(|signed| &signed.directories) {
        if !directory.is_over(directory.info_plist.as_deref(), info) && !out.contains(&INFO) {
            out.push(INFO);
        }
        if !directory.is_over(directory.resources.as_deref(), seal) && !out.contains(&SEAL) {
            out.push(SEAL);
        }
    }
    out
}
