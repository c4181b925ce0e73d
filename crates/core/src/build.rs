//! A build of any platform, as those speak of it who need not know which: what it says of itself, who signed it, what is
//! malformed, and what takes room in it. What only one platform has stands behind [`Inside`].

use std::collections::{BTreeMap, BTreeSet};

use ninekeys_formats::limits::Limits;
use ninekeys_formats::source::Source;
use ninekeys_formats::x509::Certificate;
use ninekeys_formats::zip::{Outline, Zip64, ZipError};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::android::{self, AndroidBuild, PackageKind};
use crate::env::Env;
use crate::ios;
use crate::ios::package::{Container, IosBuild, Known};
use crate::ios::tree::{Tree, TreeError, ZipTree};
use crate::model::{BuildNumber, Platform, Seen};
use crate::stream::DigestError;

/// What kind of file it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(untagged)]
pub enum Form {
    /// APK or AAB.
    Android(PackageKind),
    /// IPA, or an app that is not packed as one.
    Ios(Container),
}

impl Form {
    /// What people call it.
    pub fn word(self) -> &'static str {
        match self {
            Form::Android(kind) => kind.word(),
            Form::Ios(container) => container.word(),
        }
    }

    /// What its files' names end with.
    pub fn ending(self) -> &'static str {
        match self {
            Form::Android(kind) => kind.ending(),
            Form::Ios(container) => container.ending(),
        }
    }
}

/// The number that a build says it has.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Number {
    /// This one.
    Is(BuildNumber),
    /// None.
    Missing,
    /// One that refers to something which is not in the build.
    Unknown,
}

/// What a build says of itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Says {
    /// Package or bundle id.
    pub id: String,
    /// The version's name.
    pub version: Option<String>,
    /// The version code or build number.
    pub number: Number,
    /// Which part of a package it is; nothing for a whole one, and for the base of one in parts.
    pub part: Option<String>,
    /// What people see below its icon, where that is known.
    pub title: Option<String>,
    /// What it asks people for: permissions on Android, keys with a reason on iOS.
    pub asks_for: BTreeSet<String>,
}

impl Says {
    /// Its number; what has none is before all others.
    pub fn number(&self) -> BuildNumber {
        match &self.number {
            Number::Is(number) => number.clone(),
            Number::Missing | Number::Unknown => BuildNumber::ZERO,
        }
    }
}

/// A certificate that a build is signed under.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SignedBy {
    /// The certificate.
    pub certificate: Certificate,
    /// SHA-256 of it.
    pub certificate_fingerprint: String,
    /// SHA-256 of its public key.
    pub key_fingerprint: String,
}

/// Something malformed in a build.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Malformed {
    /// What, in a sentence.
    pub text: String,
    /// The entry it concerns, if it is one that every build has.
    pub place: Option<&'static str>,
}

/// What only one platform has.
#[derive(Debug)]
pub enum Inside {
    /// An Android package.
    Android(Box<AndroidBuild>),
    /// An app for iOS with what is inside it.
    Ios(Box<IosBuild>),
}

/// A build that opens as an archive, with its signatures verified.
#[derive(Debug)]
pub struct Build {
    /// What it is made for.
    pub platform: Platform,
    /// What kind of file it is.
    pub form: Form,
    /// Its size in bytes.
    pub size: u64,
    /// What it says of itself, if that can be read.
    pub says: Option<Says>,
    /// The entry that says it.
    pub says_in: &'static str,
    /// Who signed it: every certificate once.
    pub signers: Vec<SignedBy>,
    /// The digest that its signature covers, in hexadecimal: the same bytes have the same.
    pub content: Option<String>,
    /// What is malformed in it.
    pub malformed: Vec<Malformed>,
    /// What stands at its top level, with its size in bytes, compressed.
    pub folders: BTreeMap<String, u64>,
    /// What only its platform has.
    pub inside: Inside,
}

/// Why a build cannot be looked at.
#[derive(Debug, Error)]
pub enum ExamineError {
    /// It does not open as an archive.
    #[error(transparent)]
    Zip(#[from] ZipError),
    /// Reading it failed, or the user stopped.
    #[error(transparent)]
    Digest(#[from] DigestError),
    /// A file in the app's folder cannot be read.
    #[error("{path} could not be read")]
    Inside {
        /// Which.
        path: String,
        /// What the system said.
        #[source]
        cause: std::io::Error,
    },
}

impl From<TreeError> for ExamineError {
    fn from(error: TreeError) -> Self {
        match error {
            TreeError::Zip(ZipError::Stopped) => DigestError::Stopped.into(),
            TreeError::Zip(error) => error.into(),
            TreeError::File { path, cause } => ExamineError::Inside { path, cause },
            TreeError::Read(error) => DigestError::Read(error).into(),
            TreeError::Digest(error) => error.into(),
        }
    }
}

impl Build {
    /// Reads a build and verifies its signatures. `beside` is the file that lies beside it and belongs to it: an Android
    /// package may have a signature there.
    ///
    /// # Errors
    /// [`ExamineError`] when it does not open as an archive, cannot be read, or the user wants to stop. What is wrong with
    /// it otherwise is part of the answer.
    pub fn examine(source: &dyn Source, beside: Option<&[u8]>, env: &Env<'_>) -> Result<Build, ExamineError> {
        if !is_for_ios(source) {
            return android::examine(source, beside, env);
        }
        Build::examine_tree(&ZipTree::open(source, &Limits::USUAL)?, &Known::new(), env)
    }

    /// Reads an app for iOS that lies in an archive or in a folder, and verifies signatures and seals. What is `known` is not
    /// read again.
    ///
    /// # Errors
    /// As [`Build::examine`].
    pub fn examine_tree(tree: &dyn Tree, known: &Known, env: &Env<'_>) -> Result<Build, ExamineError> {
        ios::examine::examine(tree, known, env)
    }

    /// What people and devices see of it.
    pub fn seen(&self) -> Seen {
        let says = self.says.as_ref();
        let mut seen = Seen {
            title: says.and_then(|says| says.title.clone()),
            asks_for: says.map(|says| says.asks_for.clone()).unwrap_or_default(),
            signers: self
                .signers
                .iter()
                .map(|signer| (signer.certificate_fingerprint.clone(), signer.certificate.subject.clone()))
                .collect(),
            ..Seen::default()
        };
        match &self.inside {
            Inside::Android(inside) => inside.tell(&mut seen),
            Inside::Ios(inside) => inside.tell(&mut seen),
        }
        seen
    }

    /// What it is as an Android package.
    pub fn android(&self) -> Option<&AndroidBuild> {
        match &self.inside {
            Inside::Android(inside) => Some(inside),
            Inside::Ios(_) => None,
        }
    }

    /// What it is as an app for iOS.
    pub fn ios(&self) -> Option<&IosBuild> {
        match &self.inside {
            Inside::Ios(inside) => Some(inside),
            Inside::Android(_) => None,
        }
    }
}

/// Whether an archive holds an app for iOS: in `Payload`, or at its top. What has a manifest of Android is of Android.
/// What cannot be told is not: whoever reads it as a package then says why not.
pub fn is_for_ios(source: &dyn Source) -> bool {
    let Ok(outline) = Outline::read(source, Zip64::Read) else { return false };
    let is_app = |name: &[u8]| {
        let inside = name.strip_prefix(b"Payload/").unwrap_or(name);
        let mut parts = inside.splitn(2, |byte| *byte == b'/');
        parts.next().is_some_and(|folder| folder.ends_with(b".app")) && parts.next().is_some()
    };
    let is_manifest = |name: &[u8]| {
        [PackageKind::Apk, PackageKind::Bundle].iter().any(|kind| name == kind.manifest_entry().as_bytes())
    };
    let limits = &Limits::USUAL;
    let any = |is: &dyn Fn(&[u8]) -> bool| outline.any_name(source, limits, is).unwrap_or(false);
    any(&is_app) && !any(&is_manifest)
}
