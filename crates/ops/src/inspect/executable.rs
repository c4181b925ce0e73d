//! An executable of the iOS side: its slices, what they were built for, and what signed them.

use std::collections::BTreeMap;

use jiff::Timestamp;
use ninekeys_core::digest::hex;
use ninekeys_core::ios::code::{self, Code, CodeError, Signature, Signed, SignedBy};
use ninekeys_core::ios::requirement::{self, Subject};
use ninekeys_formats::limits::Limits;
use ninekeys_formats::macho::BuiltFor;
use ninekeys_formats::source::Source;
use schemars::JsonSchema;
use serde::Serialize;

use super::{CertificateContent, InspectError, Roots, Vouched, certificate};
use crate::build::background::Background;
use crate::ctx::Ctx;

/// What is in an executable.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ExecutableContent {
    /// Its size in bytes.
    pub size: u64,
    /// One for each processor.
    pub slices: Vec<SliceContent>,
}

/// One of its slices.
#[derive(Debug, Serialize, JsonSchema)]
pub struct SliceContent {
    /// The processor that it is for.
    pub processor: String,
    /// What it is: `executable`, `library`, `bundle`, or the number of another kind.
    pub kind: String,
    /// How many bytes it has.
    pub size: u64,
    /// The platform that it was built for.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub platform: Option<String>,
    /// The lowest version of that platform that it runs on.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub lowest: Option<String>,
    /// The version of the platform's libraries that it was built with.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sdk: Option<String>,
    /// Whether the store encrypted its code: then nobody else can sign it.
    pub encrypted: bool,
    /// How many bytes its load commands could grow by; a signature takes 16 where there is none.
    pub room: u64,
    /// What of it is not where it has to be.
    pub misplaced: Vec<String>,
    /// What signed it.
    pub signature: SignatureContent,
}

/// What signed a slice.
#[derive(Debug, Serialize, JsonSchema)]
#[serde(tag = "state", rename_all = "kebab-case")]
pub enum SignatureContent {
    /// Nothing.
    None,
    /// Something that cannot be read.
    Unreadable {
        /// Why.
        because: String,
    },
    /// A linker, with hashes alone.
    ByLinker(SignedContent),
    /// Nobody in particular: hashes without a certificate.
    AdHoc(SignedContent),
    /// The holder of a certificate.
    ByCertificate(SignedContent),
}

/// What a signature says, and what of it does not hold.
#[derive(Debug, Serialize, JsonSchema)]
pub struct SignedContent {
    /// What the code is called.
    pub identifier: String,
    /// The team.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub team: Option<String>,
    /// Its directories of hashes.
    pub directories: Vec<DirectoryContent>,
    /// What the signature demands of this code, and of whatever takes its place.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub requirement: Option<RequirementContent>,
    /// What it claims, each value as text; nothing where it claims nothing.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub entitlements: Option<BTreeMap<String, String>>,
    /// The certificate that signed it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub certificate: Option<CertificateContent>,
    /// Whether that leads to a root.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub leads_to: Option<Vouched>,
    /// What does not hold of it; nothing where all does.
    pub faults: Vec<String>,
}

/// What a signature demands.
#[derive(Debug, Serialize, JsonSchema)]
pub struct RequirementContent {
    /// In words.
    pub text: String,
    /// Whether the code meets it; nothing where that cannot be told here.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub holds: Option<bool>,
}

/// A directory of hashes.
#[derive(Debug, Serialize, JsonSchema)]
pub struct DirectoryContent {
    /// How it hashes.
    pub hash: &'static str,
    /// How many pages it has hashes of.
    pub pages: usize,
    /// Bytes of a page; nothing where all of the code is one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub page_size: Option<u64>,
    /// What names this code: the first 20 bytes of the directory's own hash, hexadecimal.
    pub code_hash: String,
}

pub(super) fn read(
    ctx: &Ctx<'_>,
    source: &dyn Source,
    background: &Background,
) -> Result<ExecutableContent, InspectError> {
    let all =
        code::examine(source, code::Home::Alone, &Limits::USUAL, &ctx.env).map_err(|error| match error {
            CodeError::Digest(error) => InspectError::Digest(error),
            CodeError::Macho(error) => InspectError::Executable(error),
        })?;
    let roots = Roots::of(ctx, background.inventory.as_deref());
    let look = Looked { roots, background, now: ctx.env.now };
    let slices = all.iter().map(|code| slice(code, &look)).collect();
    Ok(ExecutableContent { size: source.len(), slices })
}

/// What a signer is held against.
struct Looked<'a> {
    roots: Roots,
    background: &'a Background,
    now: Timestamp,
}

fn slice(code: &Code, look: &Looked<'_>) -> SliceContent {
    let slice = &code.slice;
    let kind = match slice.kind {
        2 => "executable".into(),
        6 => "library".into(),
        8 => "bundle".into(),
        other => format!("kind {other}"),
    };
    let built = slice.built_for;
    SliceContent {
        processor: slice.processor.to_string(),
        kind,
        size: slice.length,
        platform: built.map(platform),
        lowest: built.map(|built| built.lowest.to_string()),
        sdk: built.map(|built| built.sdk.to_string()),
        encrypted: slice.encrypted,
        room: slice.room(),
        misplaced: code.misplaced.iter().map(ToString::to_string).collect(),
        signature: match &code.signature {
            Signature::None => SignatureContent::None,
            Signature::Unreadable(error) => SignatureContent::Unreadable { because: error.to_string() },
            Signature::Found(signed) => match signed.by {
                SignedBy::Linker => SignatureContent::ByLinker(signed_content(signed, look)),
                SignedBy::AdHoc => SignatureContent::AdHoc(signed_content(signed, look)),
                SignedBy::Certificate(_) => SignatureContent::ByCertificate(signed_content(signed, look)),
            },
        },
    }
}

fn platform(built: BuiltFor) -> String {
    let word = match built.platform {
        1 => "macOS",
        2 => "iOS",
        3 => "tvOS",
        4 => "watchOS",
        7 => "the iOS simulator",
        8 => "the tvOS simulator",
        9 => "the watchOS simulator",
        other => return format!("platform {other}"),
    };
    word.into()
}

fn signed_content(signed: &Signed, look: &Looked<'_>) -> SignedContent {
    let signer = match &signed.by {
        SignedBy::Certificate(Some(signer)) => Some(signer.as_ref()),
        SignedBy::Certificate(None) | SignedBy::Linker | SignedBy::AdHoc => None,
    };
    let chain = signer.map(|signer| signer.chain(&look.roots.pool, look.now));
    let required = signed.requirement.as_ref().map(|required| RequirementContent {
        text: required.to_string(),
        holds: requirement::holds(
            required,
            &Subject {
                identifier: &signed.identifier,
                // a path that leads nowhere says nothing of what is above the signer
                chain: match &chain {
                    Some(Ok(chain)) => chain,
                    _ => &[],
                },
                anchored: chain.as_ref().and_then(|chain| look.roots.trusts(chain.as_ref().ok()?.last()?)),
                code_hashes: &signed.directories.iter().map(|one| one.code_hash.clone()).collect::<Vec<_>>(),
                entitlements: signed.entitlements.as_ref(),
            },
        ),
    });
    let mut faults: Vec<String> = signed.faults.iter().map(ToString::to_string).collect();
    if required.as_ref().is_some_and(|required| required.holds == Some(false)) {
        faults.push("the code is not what its own requirement demands".into());
    }
    let texts = |all: &BTreeMap<String, _>| {
        let text = |(key, value): (&String, &ninekeys_formats::entitlements::Entitlement)| {
            (key.clone(), value.to_string())
        };
        all.iter().map(text).collect()
    };
    SignedContent {
        identifier: signed.identifier.clone(),
        team: signed.team.clone(),
        directories: signed
            .directories
            .iter()
            .map(|one| DirectoryContent {
                hash: one.hash.word(),
                pages: one.pages,
                page_size: one.page,
                code_hash: hex(&one.code_hash),
            })
            .collect(),
        requirement: required,
        entitlements: signed.entitlements.as_ref().map(texts),
        certificate: signer.map(|signer| certificate(&signer.certificate, look.background)),
        leads_to: chain.map(|chain| match chain {
            Ok(chain) => look.roots.vouch(chain.last()),
            Err(fault) => Vouched::Broken { because: fault.to_string() },
        }),
        faults,
    }
}
