//! How a build for iOS is signed: profiles and identity from the cabinet, code and seals by the core, the archive copied around
//! them.

use std::collections::{BTreeMap, BTreeSet};

use ninekeys_core::build::{Build, Number, Says};
use ninekeys_core::ios::package::Container;
use ninekeys_core::ios::setup::PassedOver;
use ninekeys_core::ios::sign::claims::{Claims, Declared};
use ninekeys_core::ios::sign::code::CodeSigner;
use ninekeys_core::ios::sign::{self, Packed, Signed, Signing};
use ninekeys_core::ios::tree::{Kind, Node, Tree, TreeError, ZipTree};
use ninekeys_core::model::Ios;
use ninekeys_core::stream::DigestError;
use ninekeys_core::timestamp::Timestamper;
use ninekeys_formats::entitlements;
use ninekeys_formats::info_plist::Changes;
use ninekeys_formats::limits::Limits;
use rayon::prelude::*;
use schemars::JsonSchema;
use serde::Serialize;

use super::prove::{self, Proof};
use super::{IosError, Job, Made, Plan, Proving, Request, Set, SignError, Told};
use crate::build::identity_material::{Needs, ProfileUsed};
use crate::build::material::IdentityMaterial;
use crate::ctx::Ctx;
use crate::files::{self, Access};
use crate::folder::{FolderTree, USUAL_FILE, USUAL_FOLDER};
use crate::outgoing::{Outgoing, Output};
use crate::timestamps::Server;

/// The largest file with entitlements.
const MOST_ENTITLEMENTS: u64 = 1 << 20;

/// What was done to a build for iOS.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct SignedIos {
    /// The team that signed.
    pub team: String,
    /// The profiles that were put into it, the app's first.
    pub profiles: Vec<ProfileUsed>,
    /// Identities and profiles that could have been taken and were not.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub passed_over: Vec<PassedOver>,
    /// What each bundle claims, and why; the app's first.
    pub claims: Vec<BundleClaims>,
    /// How many executables were signed.
    pub executables: usize,
    /// How many files the app's seal is over.
    pub sealed: usize,
    /// What desktop systems had left in it, and was dropped.
    pub dropped: Vec<String>,
    /// Parts for simulators that were left out of its code.
    pub left_out: Vec<LeftOut>,
}

/// What one bundle claims.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct BundleClaims {
    /// Its path in the build.
    pub path: String,
    /// Every entitlement that was looked at.
    pub entitlements: Vec<Claim>,
}

/// An entitlement that is claimed, or was left out.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct Claim {
    /// Which.
    pub key: String,
    /// Its value as text, where it is claimed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub value: Option<String>,
    /// Whether it is claimed.
    pub claimed: bool,
    /// Why.
    pub because: &'static str,
}

/// A part for simulators.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct LeftOut {
    /// The executable that it was in.
    pub path: String,
    /// What it was for.
    pub processors: String,
}

/// What a build lies in.
#[derive(Clone, Copy)]
pub(super) enum Lies<'s> {
    /// An archive.
    Packed(&'s ZipTree<'s>),
    /// A folder.
    Loose(&'s FolderTree),
}

/// A build that was opened.
pub(super) struct Opened<'s> {
    pub(super) build: sign::Opened<'s>,
    lies: Lies<'s>,
}

impl<'s> Opened<'s> {
    pub(super) fn open(lies: Lies<'s>) -> Result<Self, SignError> {
        let tree: &dyn Tree = match lies {
            Lies::Packed(tree) => tree,
            Lies::Loose(tree) => tree,
        };
        Ok(Opened { build: sign::Opened::open(tree)?, lies })
    }

    /// What it will say of itself.
    pub(super) fn says(&self, set: &Set) -> Says {
        let mut says = self.build.says().unwrap_or(Says {
            id: String::new(),
            version: None,
            number: Number::Missing,
            part: None,
            title: None,
            asks_for: BTreeSet::new(),
        });
        says.id = set.id.clone().unwrap_or(says.id);
        says.version = set.version.clone().or(says.version);
        says.title = set.title.clone().or(says.title);
        if let Some(build) = &set.build {
            says.number = Number::Is(build.clone());
        }
        says
    }

    fn changes(&self, set: &Set) -> Changes {
        let old = self.build.says().map(|says| says.id).unwrap_or_default();
        Changes {
            id: set.id.clone().map(|new| (old, new)),
            title: set.title.clone(),
            version: set.version.clone(),
            build: set.build.as_ref().map(ToString::to_string),
        }
    }

    /// What needs a profile, the app first.
    pub(super) fn needs(&self, set: &Set) -> Vec<Needs> {
        let changes = self.changes(set);
        let need =
            |(path, _, id): (&str, _, &str)| Needs { path: path.to_owned(), bundle_id: changes.id_of(id) };
        self.build.parts().map(need).collect()
    }
}

/// What the app declares: in a file that was named, else in the project file.
fn declared(ctx: &Ctx<'_>, request: &Request, ios: Option<&Ios>) -> Result<Declared, SignError> {
    if let Some(named) = &request.entitlements {
        let bytes = files::read_whole(&ctx.path(named), MOST_ENTITLEMENTS)?;
        let failed = |cause| SignError::Entitlements { path: named.display().to_string(), cause };
        let values = entitlements::parse(&bytes, &Limits::USUAL).map_err(failed)?;
        return Ok(Declared { values, names: Vec::new() });
    }
    let names = ios.into_iter().flat_map(|ios| &ios.capabilities).map(|one| one.entitlement().to_owned());
    Ok(Declared {
        values: ios.map(|ios| ios.entitlements.clone()).unwrap_or_default(),
        names: names.collect(),
    })
}

/// What extensions declare in the project file, by bundle id.
fn declared_inside(ios: &Ios) -> BTreeMap<String, Claims> {
    let all = ios.extensions.values().filter_map(|id| Some((id.clone(), ios.expected_of(id)?.clone())));
    all.collect()
}

/// Signs, writes the output under a temporary name, and proves it.
pub(super) fn make(
    ctx: &Ctx<'_>,
    job: &Job<'_>,
    opened: &Opened<'_>,
    proving: &Proving<'_>,
    outgoing: &mut Outgoing,
) -> Result<Made, SignError> {
    let Job { plan, material } = *job;
    let request = proving.request;
    let Some(own) = material.identity() else { return Err(IosError::NoId.into()) };
    let stamper = match request.timestamp {
        true => Server::of(proving.file, &proving.background.roots, ctx.env)?,
        false => None,
    };
    let timestamper = stamper.as_ref().map(|stamper| stamper as &dyn Timestamper);
    let signing = Signing {
        who: CodeSigner { signer: &material.key, chain: &own.chain, team: &own.team, timestamper },
        profiles: own.profiles.clone(),
        destination: plan.destination,
        declared: declared(ctx, request, plan.app.1.ios.as_ref())?,
        declared_inside: plan.app.1.ios.as_ref().map(declared_inside).unwrap_or_default(),
        declared_is_all: request.entitlements.is_some(),
        changes: opened.changes(&request.set),
    };
    let signed = opened.build.sign(&signing, &ctx.env)?;
    let (output, proof) = match opened.lies {
        Lies::Packed(tree) => pack(ctx, plan, tree, &signed, opened.build.container(), proving, outgoing)?,
        Lies::Loose(tree) => copy(ctx, plan, tree, &signed, proving, outgoing)?,
    };
    let said = said(&signed, own);
    let told = Told { schemes: Vec::new(), proof, realigned: 0, ios: Some(said) };
    Ok(Made { output, idsig: None, told })
}

/// Writes an archive around what was signed.
fn pack(
    ctx: &Ctx<'_>,
    plan: &Plan<'_>,
    tree: &ZipTree<'_>,
    signed: &Signed,
    container: Container,
    proving: &Proving<'_>,
    outgoing: &mut Outgoing,
) -> Result<(Output, Proof), SignError> {
    let output = outgoing.file(&plan.target, Access::Usual)?;
    let packed = Packed::lay_out(tree, container, signed)?;
    let env = ctx.env;
    let examine = |after: &ZipTree<'_>| {
        let known = sign::known_in(tree, signed, container, after);
        Build::examine_tree(after, &known, &env)
    };
    let subject = proving.subject(plan);
    let proof = prove::write_and_prove(ctx, &output, &packed, &examine, proving.background, &subject)?;
    drop(packed);
    Ok((output.into(), proof))
}

/// Writes a folder around what was signed: what stays as it was is copied, rights and links with it.
fn copy(
    ctx: &Ctx<'_>,
    plan: &Plan<'_>,
    tree: &FolderTree,
    signed: &Signed,
    proving: &Proving<'_>,
    outgoing: &mut Outgoing,
) -> Result<(Output, Proof), SignError> {
    let output = outgoing.folder(&plan.target)?;
    let below = |path: &str| path.split_once('/').map(|(_, path)| path.to_owned()).unwrap_or_default();
    let kept: Vec<(usize, &Node)> = tree
        .nodes()
        .iter()
        .enumerate()
        .filter(|(index, _)| signed.dropped.binary_search(index).is_err())
        .collect();
    // sorted by path, so that a folder comes before what is in it
    for (index, node) in kept.iter().filter(|(_, node)| node.kind == Kind::Folder) {
        output.folder(&below(&node.path), tree.mode(*index))?;
    }
    for path in signed.added.keys() {
        let path = below(path);
        let folder = path.rsplit_once('/').map_or("", |(folder, _)| folder);
        if !output.path().join(folder).is_dir() {
            output.folder(folder, USUAL_FOLDER)?;
        }
    }
    let env = ctx.env;
    let stopped = || if env.stopped() { Err(SignError::from(DigestError::Stopped)) } else { Ok(()) };
    kept.par_iter().try_for_each(|(index, node)| {
        stopped()?;
        let (path, mode) = (below(&node.path), tree.mode(*index));
        match (signed.replaced.get(index), node.kind) {
            (_, Kind::Folder) => Ok(()),
            (Some(file), _) => output.file(&path, mode, |take| filled(file.stream(take))),
            (None, Kind::File) => output.file(&path, mode, |take| filled(tree.stream(*index, take))),
            (None, Kind::Link) => {
                let to = tree.read(*index, 1 << 10).map_err(IosError::from)?.unwrap_or_default();
                Ok(output.link(&path, &String::from_utf8_lossy(&to))?)
            }
        }
    })?;
    for (path, file) in &signed.added {
        let mode = if file.is_code { USUAL_FOLDER } else { USUAL_FILE };
        output.file(&below(path), mode, |take| filled(file.stream(take)))?;
    }
    let proof = prove::prove_folder(ctx, &output, proving.background, &proving.subject(plan))?;
    Ok((Output::Folder(output), proof))
}

/// What is written ends where its writer wants no more, and that has its own reason.
fn filled(streamed: Result<(), TreeError>) -> Result<(), SignError> {
    match streamed {
        Err(error) => Err(IosError::from(error).into()),
        Ok(()) => Ok(()),
    }
}

fn said(signed: &Signed, own: &IdentityMaterial) -> SignedIos {
    let mut claims: Vec<BundleClaims> = Vec::new();
    for claimed in &signed.claimed {
        let claim = |(key, reason): (&String, &sign::claims::Reason)| Claim {
            key: key.clone(),
            value: claimed.chosen.claims.get(key).map(ToString::to_string),
            claimed: reason.is_taken(),
            because: reason.word(),
        };
        let entitlements = claimed.chosen.reasons.iter().map(claim).collect();
        claims.push(BundleClaims { path: claimed.path.clone(), entitlements });
    }
    claims.sort_by(|one, other| one.path.cmp(&other.path));
    let mut left_out: BTreeMap<&str, &str> = BTreeMap::new();
    left_out.extend(signed.left_out.iter().map(|(path, processors)| (path.as_str(), processors.as_str())));
    SignedIos {
        team: own.team.clone(),
        profiles: own.used.clone(),
        passed_over: own.passed_over.clone(),
        claims,
        executables: signed.executables,
        sealed: signed.sealed,
        dropped: signed.rubbish.clone(),
        left_out: left_out
            .into_iter()
            .map(|(path, processors)| LeftOut { path: path.to_owned(), processors: processors.to_owned() })
            .collect(),
    }
}
