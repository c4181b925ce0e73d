//! Why a build was not signed.

use ninekeys_cabinet::CabinetError;
use ninekeys_core::android::SignError as AndroidError;
use ninekeys_core::findings::Level;
use ninekeys_core::ios::sign::SignError as IosError;
use ninekeys_core::model::{Destination, Platform};
use ninekeys_core::stream::DigestError;
use ninekeys_formats::cursor::ParseError;
use thiserror::Error;

use crate::app::add::IdError;
use crate::build::check::{CheckError, CheckReport};
use crate::build::identity_material::IdentityMaterialError;
use crate::build::material::SignerError;
use crate::ctx::OpenError;
use crate::files::FileError;
use crate::identity::CertificatesError;
use crate::outputs::OutputError;
use crate::portal::ConnectError;
use crate::project::ProjectError;

/// Why it was not signed.
#[derive(Debug, Error)]
pub enum SignError {
    /// An Android build could not be read, or is refused.
    #[error(transparent)]
    Android(#[from] AndroidError),
    /// Reading or writing failed, or the user stopped.
    #[error(transparent)]
    Digest(#[from] DigestError),
    /// A file.
    #[error(transparent)]
    File(#[from] FileError),
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// The project's roots.
    #[error(transparent)]
    Certificates(#[from] CertificatesError),
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
    /// No app of that name.
    #[error("the project file has no app called {0}")]
    UnknownApp(String),
    /// No app with the build's id.
    #[error("the project file has no app with the {} {id}", platform.id_word())]
    UnknownId {
        /// What the build is made for.
        platform: Platform,
        /// Its package or bundle id.
        id: String,
    },
    /// The app goes nowhere.
    #[error("the project file names no destination for {0}")]
    NoDestination(String),
    /// A destination that its platform does not have.
    #[error("an {} build is signed for {}, not for {destination}", platform.title(), places(*platform))]
    Destination {
        /// What the build is made for.
        platform: Platform,
        /// What was asked for.
        destination: Destination,
    },
    /// The key to sign with.
    #[error(transparent)]
    Signer(#[from] SignerError),
    /// A build for iOS could not be read, or is refused.
    #[error(transparent)]
    Ios(#[from] IosError),
    /// What signs a build for iOS.
    #[error(transparent)]
    Identity(#[from] IdentityMaterialError),
    /// What the project pins.
    #[error(transparent)]
    Connect(#[from] ConnectError),
    /// The file with entitlements.
    #[error("{path} cannot be read as entitlements: {cause}")]
    Entitlements {
        /// Where it is.
        path: String,
        /// Why.
        #[source]
        cause: ParseError,
    },
    /// A bundle id that is none.
    #[error(transparent)]
    Id(#[from] IdError),
    /// A name that nobody could read below an icon.
    #[error("a name below an icon has something to read in it, no control characters, and at most 255 bytes")]
    Title,
    /// A version that nobody could read.
    #[error("a version has something to read in it, no control characters, and at most 255 bytes")]
    Version,
    /// A version that an app for iOS cannot have.
    #[error("a version of an app for iOS is numbers with dots between: 2.4.1")]
    VersionNumbers,
    /// A version code that a package cannot have.
    #[error("a version code is a whole number from 1 to 2147483647")]
    Code,
    /// Something that only builds of the other platform have.
    #[error("{option} is for builds for {}", platform.title())]
    OnlyFor {
        /// The option.
        option: &'static str,
        /// The platform that has it.
        platform: Platform,
    },
    /// A timestamp for a package.
    #[error("signatures of Android packages have no place for a timestamp that a device would read")]
    TimestampForIos,
    /// Nobody to ask for a timestamp.
    #[error("the project file names nobody who gives timestamps")]
    NoTimestamps,
    /// A part of a package, without the others.
    #[error("{0}")]
    Incomplete(String),
    /// One of several builds.
    #[error("{0}: {1}")]
    Of(String, #[source] Box<SignError>),
    /// Some of several builds have their names, and the next one could not get its own.
    #[error("{cause}")]
    Partly {
        /// The outputs that are there.
        done: Vec<String>,
        /// Why no more.
        #[source]
        cause: Box<SignError>,
    },
    /// The output has its name taken.
    #[error("{0} exists already")]
    Exists(String),
    /// The output would fall on something of ours.
    #[error(transparent)]
    Output(#[from] OutputError),
    /// The input would be overwritten.
    #[error("the output would take the place of the build itself")]
    OverInput,
    /// The file of scheme v4 does not hold.
    #[error("the file of scheme v4 does not hold")]
    Idsig,
    /// The output could not be checked.
    #[error("the signed output could not be checked: {0}")]
    Check(#[source] Box<CheckError>),
    /// The output has findings of level error.
    #[error("the signed output is not ready: {}", errors(.0))]
    NotReady(Box<CheckReport>),
}

fn places(platform: Platform) -> String {
    let all: Vec<String> = platform.destinations().iter().map(ToString::to_string).collect();
    match all.split_last() {
        Some((last, others)) => format!("{} or {last}", others.join(", ")),
        None => String::new(),
    }
}

fn errors(report: &CheckReport) -> String {
    let errors = report.verdict.findings.iter().filter(|finding| finding.level == Level::Error);
    let texts: Vec<String> = errors.map(|finding| format!("{} ({})", finding.text, finding.rule)).collect();
    texts.join("; ")
}
