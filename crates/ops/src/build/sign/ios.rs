//! How a build for iOS is signed: profiles and identity from the cabinet, code and seals by the core, the archive copied around
//! them.

use std::collections::{BTreeMap, BTreeSet};

use ninekeys_core::build::{Build, Number, Says};
use ninekeys_core::ios::sign::claims::Declared;
use ninekeys_core::ios::sign::code::CodeSigner;
use ninekeys_core::ios::sign::{self, Packed, Signed, Signing};
use ninekeys_core::ios::tree::ZipTree;
use ninekeys_core::model::Ios;
use ninekeys_formats::entitlements;
use ninekeys_formats::info_plist::Changes;
use ninekeys_formats::limits::Limits;
use schemars::JsonSchema;
use serde::Serialize;

use super::{IosError, Job, Made, Proving, Request, Set, SignError, prove};
use crate::build::identity_material::{Needs, ProfileUsed};
use crate::ctx::Ctx;
use crate::files::{self, Access};
use crate::outgoing::Outgoing;

/// The largest file with entitlements.
const MOST_ENTITLEMENTS: u64 = 1 << 20;

/// What was done to a build for iOS.
#[derive(Debug, Clone, Serialize, JsonSchema)]
pub struct SignedIos {
    /// The team that signed.
    pub team: String,
    /// The profiles that were put into it, the app's first.
    pub profiles: Vec<ProfileUsed>,
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

/// A build that was opened.
pub(super) struct Opened<'s> {
    pub(super) build: sign::Opened<'s>,
    tree: &'s ZipTree<'s>,
}

impl<'s> Opened<'s> {
    pub(super) fn open(tree: &'s ZipTree<'s>) -> Result<Self, SignError> {
        Ok(Opened { build: sign::Opened::open(tree)?, tree })
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
        says.version = set.version.as_ref().map(ToString::to_string).or(says.version);
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
            version: set.version.as_ref().map(ToString::to_string),
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
    let signing = Signing {
        who: CodeSigner { signer: &material.key, chain: &own.chain, team: &own.team },
        profiles: own.profiles.clone(),
        destination: plan.destination,
        declared: declared(ctx, request, plan.app.1.ios.as_ref())?,
        declared_is_all: request.entitlements.is_some(),
        changes: opened.changes(&request.set),
    };
    let signed = opened.build.sign(&signing, &ctx.env)?;
    let container = opened.build.container();
    let output = outgoing.file(&plan.target, Access::Usual)?;
    let packed = Packed::lay_out(opened.tree, container, &signed)?;
    let env = ctx.env;
    let examine = |after: &ZipTree<'_>| {
        let known = sign::kept_in(opened.tree, &signed.kept, container, after);
        Build::examine_tree(after, &known, &env)
    };
    let (background, subject) = (proving.background, proving.subject(plan));
    let proof = prove::write_and_prove(ctx, &output, &packed, &examine, background, &subject)?;
    drop(packed);
    let said = said(&signed, own.team.clone(), own.used.clone());
    Ok(Made { output, idsig: None, schemes: Vec::new(), proof, realigned: 0, ios: Some(said) })
}

fn said(signed: &Signed, team: String, profiles: Vec<ProfileUsed>) -> SignedIos {
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
        team,
        profiles,
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
