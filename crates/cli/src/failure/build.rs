//! Exit codes and remedies of errors about builds.

use ninekeys_core::android::ManifestFault;
use ninekeys_core::android::SignError as CoreSignError;
use ninekeys_core::ios::package::PackageError;
use ninekeys_core::ios::sign::SignError as IosSignError;
use ninekeys_core::ios::sign::code::CodeFailure;
use ninekeys_core::ios::tree::TreeError;
use ninekeys_core::keys::KeyError;
use ninekeys_core::model::Platform;
use ninekeys_formats::macho::Unsignable;
use ninekeys_ops::build::check::CheckError;
use ninekeys_ops::build::hand_on::HandOnError;
use ninekeys_ops::build::identity_material::IdentityMaterialError;
use ninekeys_ops::build::lend::LendError;
use ninekeys_ops::build::material::SignerError;
use ninekeys_ops::build::releases::ReleasesError;
use ninekeys_ops::build::setup::CheckSetupError;
use ninekeys_ops::build::sign::SignError;

use super::{Class, Classify, Exit, Remedy, again, class, defect, say};

impl Classify for CoreSignError {
    fn class(&self) -> Class {
        match self {
            Self::Zip(inner) => inner.class(),
            Self::Malformed(_) => class(Exit::Damaged, &["explain", "archive-malformed"]),
            Self::Manifest(fault) => match fault {
                ManifestFault::Missing
                | ManifestFault::Several
                | ManifestFault::Entry(_)
                | ManifestFault::Malformed(_) => class(Exit::Damaged, &["explain", "archive-malformed"]),
            },
            Self::Refused(refusal) => refusal_class(refusal),
            Self::Digest(inner) => inner.class(),
            Self::Key(_) => defect(),
        }
    }
}

fn refusal_class(refusal: &ninekeys_core::android::Refusal) -> Class {
    use ninekeys_core::android::Refusal as R;
    match refusal {
        R::NeedsSha1 { .. } => class(Exit::Refused, &["explain", "signature-scheme-missing"]),
        R::NoPlace(what) => (
            Exit::Refused,
            Remedy::Without(if *what == "version code" { "--set-build" } else { "--set-version" }),
        ),
        R::CodeUnknown => class(Exit::Refused, &["explain", "build-number-not-higher"]),
        R::Debuggable => class(Exit::Refused, &["explain", "build-debuggable"]),
        R::TestOnly => class(Exit::Refused, &["explain", "build-test-only"]),
        R::TooLarge => say(Exit::Refused, "make the build smaller: no device takes one of this size"),
        R::Certificate => again(Exit::Refused, &["--schemes", "v2,v3"]),
        R::LeavesOut(_) | R::BundleScheme => (Exit::Refused, Remedy::Without("--schemes")),
        R::NothingToStandOn => (Exit::Refused, Remedy::Without("--schemes")),
        R::BundleForPeople => class(Exit::Refused, &["explain", "package-wanted"]),
        R::RotationLevel(_) | R::NotTheLineages => defect(),
        R::Key(_) => class(Exit::Refused, &["inventory"]),
    }
}

fn key_class(error: &KeyError) -> Class {
    match error {
        KeyError::TooShort(_) | KeyError::NoSignatures(_) => {
            class(Exit::Refused, &["explain", "key-too-weak"])
        }
        KeyError::Generator
        | KeyError::Private(_)
        | KeyError::Public
        | KeyError::Sign(_)
        | KeyError::UnknownAlgorithm(_) => defect(),
    }
}

impl Classify for CheckError {
    fn class(&self) -> Class {
        match self {
            Self::File(inner) => inner.class(),
            Self::Zip(inner) => inner.class(),
            Self::Connect(inner) => inner.class(),
            Self::Store(inner) => inner.class(),
            Self::Digest(inner) => inner.class(),
            Self::Inside { .. } => say(Exit::Damaged, "look at the file, or unpack the app again"),
            Self::Certificates(inner) => inner.class(),
            Self::Project(inner) => inner.class(),
            Self::UnknownApp(_) => class(Exit::Usage, &["app", "list"]),
            Self::UnknownDevice(_) => class(Exit::Usage, &["device", "list"]),
            Self::Open(inner) => inner.class(),
        }
    }
}

impl Classify for SignerError {
    fn class(&self) -> Class {
        match self {
            Self::Cabinet(inner) => inner.class(),
            Self::NoKey { app, .. } => {
                let name = format!("{app}-signing");
                class(Exit::Refused, &["keystore", "create", &name, "--app", app, "--common-name", "NAME"])
            }
            Self::SeveralKeys { names, .. } => {
                let first = names.first().map_or("KEYSTORE", String::as_str);
                again(Exit::Refused, &["--key", first])
            }
            Self::NotAKeystore { .. } => class(Exit::Usage, &["inventory"]),
            Self::NotForTheStore { .. } => say(Exit::Refused, "mend `key` of that store in ninekeys.toml"),
            Self::Key(inner) => key_class(inner),
        }
    }
}

impl Classify for IosSignError {
    fn class(&self) -> Class {
        match self {
            Self::Package(inner) => inner.class(),
            Self::Malformed(_) | Self::NoId => class(Exit::Damaged, &["explain", "archive-malformed"]),
            Self::NoProfile { .. } => class(Exit::Refused, &["explain", "profile-missing"]),
            Self::NoCode(_) => class(Exit::Refused, &["explain", "nested-code-unsigned"]),
            Self::Code { cause, .. } => code_class(cause),
            Self::List { .. } => class(Exit::Damaged, &["explain", "archive-malformed"]),
            Self::TooLarge => say(Exit::Refused, "make the build smaller: no store takes one of this size"),
            Self::Digest(inner) => inner.class(),
        }
    }
}

fn code_class(error: &CodeFailure) -> Class {
    match error {
        CodeFailure::Macho(_) => class(Exit::Damaged, &["explain", "signature-invalid"]),
        CodeFailure::Unsignable(Unsignable::Encrypted) => {
            class(Exit::Refused, &["explain", "build-encrypted"])
        }
        CodeFailure::Unsignable(Unsignable::NoRoom { .. }) => {
            say(Exit::Refused, "link it again with room behind its load commands: -Wl,-headerpad,0x40")
        }
        CodeFailure::Unsignable(_) => class(Exit::Refused, &["explain", "signature-invalid"]),
        CodeFailure::Simulator(_) => class(Exit::Refused, &["explain", "build-for-simulator"]),
        CodeFailure::Timestamp(_) => say(
            Exit::Portal,
            "see whether the authority at `timestamps` in ninekeys.toml answers; without --timestamp nobody is asked",
        ),
        CodeFailure::NoRoom { .. }
        | CodeFailure::Encoding(_)
        | CodeFailure::List(_)
        | CodeFailure::Certificate(_)
        | CodeFailure::Key(_) => defect(),
        CodeFailure::Digest(inner) => inner.class(),
    }
}

impl Classify for PackageError {
    fn class(&self) -> Class {
        match self {
            Self::NoApp | Self::SeveralApps(_) => class(Exit::Damaged, &["explain", "archive-malformed"]),
            Self::Tree(TreeError::Zip(inner)) => inner.class(),
            Self::Tree(TreeError::Digest(inner)) => inner.class(),
            Self::Tree(TreeError::File { .. } | TreeError::Read(_)) => {
                say(Exit::Damaged, "look at the file, or unpack the app again")
            }
        }
    }
}

impl Classify for IdentityMaterialError {
    fn class(&self) -> Class {
        match self {
            Self::Cabinet(inner) => inner.class(),
            Self::NotIos(_) => class(Exit::Usage, &["app", "list"]),
            Self::NotInPlace { app, destination, mend, .. } => {
                let look =
                    ["check", "--app", app, "--for", &destination.to_string()].map(str::to_owned).to_vec();
                (Exit::Refused, Remedy::Command(mend.clone().unwrap_or(look)))
            }
            Self::Named { .. } => (Exit::Refused, Remedy::Without("--key")),
            Self::Profile { name, .. } => class(Exit::Refused, &["show", name]),
            Self::Key(inner) => key_class(inner),
        }
    }
}

impl Classify for SignError {
    fn class(&self) -> Class {
        match self {
            Self::Android(inner) => inner.class(),
            Self::Digest(inner) => inner.class(),
            Self::File(inner) => inner.class(),
            Self::Project(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Certificates(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
            Self::Check(inner) => inner.class(),
            Self::UnknownApp(_) => class(Exit::Usage, &["app", "list"]),
            Self::UnknownId { platform, id } => {
                let option = match platform {
                    Platform::Android => "--package",
                    Platform::Ios => "--bundle-id",
                };
                let usual = platform.destinations().first().map(ToString::to_string).unwrap_or_default();
                class(Exit::Usage, &["app", "add", "NAME", option, id, "--for", &usual])
            }
            Self::NoDestination(_) => again(Exit::Usage, &["--for", "direct"]),
            Self::Destination { platform, .. } => {
                let usual = platform.destinations().first().map(ToString::to_string).unwrap_or_default();
                again(Exit::Usage, &["--for", &usual])
            }
            Self::Signer(inner) => inner.class(),
            Self::Ios(inner) => inner.class(),
            Self::Identity(inner) => inner.class(),
            Self::Connect(inner) => inner.class(),
            Self::Entitlements { .. } => {
                say(Exit::Damaged, "name a property list whose keys are entitlements, as the build's own are")
            }
            Self::Id(inner) => inner.class(),
            Self::Title => (Exit::Usage, Remedy::Without("--set-title")),
            Self::Version | Self::VersionNumbers => again(Exit::Usage, &["--set-version", "VERSION"]),
            Self::Code => {
                say(Exit::Usage, "--set-build takes a whole number, above that of the last release")
            }
            Self::OnlyFor { option, .. } => (Exit::Usage, Remedy::Without(option)),
            Self::TimestampForIos => say(Exit::Usage, "leave --timestamp out"),
            Self::NoTimestamps => say(
                Exit::Refused,
                "add to ninekeys.toml: timestamps = \"ADDRESS\", and its root to `roots`; or leave --timestamp out",
            ),
            Self::Exists(_) => again(Exit::Refused, &["--replace"]),
            Self::Incomplete(_) => again(Exit::Refused, &["OTHER-PARTS"]),
            Self::Of(_, cause) | Self::Partly { cause, .. } => cause.class(),
            Self::Idsig => defect(),
            Self::OverInput | Self::Output(_) => again(Exit::Refused, &["--to", "FOLDER"]),
            Self::NotReady(report) => {
                let mend = report.verdict.findings.iter().find_map(|finding| finding.mend.clone());
                let rule =
                    report.verdict.findings.first().map_or("signature-invalid", |finding| finding.rule);
                (Exit::Refused, Remedy::Command(mend.unwrap_or_else(|| vec!["explain".into(), rule.into()])))
            }
        }
    }
}

impl Classify for LendError {
    fn class(&self) -> Class {
        match self {
            Self::Open(inner) => inner.class(),
            Self::Project(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
            Self::UnknownApp(_) => class(Exit::Usage, &["app", "list"]),
            Self::NoDestination(_) => again(Exit::Usage, &["--for", "direct"]),
            Self::Key(inner) => inner.class(),
            Self::Format(inner) => inner.class(),
            Self::File(inner) => inner.class(),
            Self::Variable(_) | Self::NamedTwice(_) => {
                say(Exit::Damaged, "mend the name in ninekeys.toml; docs/project-file.md has every key")
            }
            Self::Exists(_) => say(
                Exit::Refused,
                "move it away, or name another file or folder under `lend` in ninekeys.toml",
            ),
            Self::NoSide { .. } => class(Exit::Usage, &["app", "list"]),
            Self::SeveralSides(_) => again(Exit::Usage, &["--platform", "ios"]),
            Self::Properties => {
                say(Exit::Usage, "leave --properties out: `lend --explain` prints the variables")
            }
            Self::Identity(inner) => inner.class(),
            Self::Certificates(inner) => inner.class(),
            Self::Connect(inner) => inner.class(),
            Self::Store(inner) => inner.class(),
            Self::Before { .. } | Self::After { .. } => say(
                Exit::Damaged,
                "run it by itself, and look at how it is written under `lend` in ninekeys.toml",
            ),
            Self::OnLoan(_) => say(Exit::Refused, "wait until that command has ended, and do it again"),
            Self::TookOver(_) => say(Exit::Refused, "build without a key, then: ninekeys sign BUILD"),
            Self::NoFolder => say(Exit::Damaged, "set TMPDIR to a folder that can be written to"),
            Self::NotStarted { .. } => {
                say(Exit::Damaged, "look at how the command behind `--` is written, and whether it is there")
            }
        }
    }
}

impl Classify for ReleasesError {
    fn class(&self) -> Class {
        match self {
            Self::Open(inner) => inner.class(),
            Self::Project(inner) => inner.class(),
            Self::UnknownApp(_) => class(Exit::Usage, &["releases"]),
        }
    }
}

impl Classify for CheckSetupError {
    fn class(&self) -> Class {
        match self {
            Self::Project(inner) => inner.class(),
            Self::UnknownApp(_) => class(Exit::Usage, &["app", "list"]),
            Self::NotIos(_) => class(Exit::Usage, &["check", "BUILD"]),
            Self::Destination { .. } => again(Exit::Usage, &["--for", "store"]),
            Self::Certificates(inner) => inner.class(),
            Self::Connect(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for HandOnError {
    fn class(&self) -> Class {
        match self {
            Self::Check(inner) => inner.class(),
            Self::ForStore(_) => class(Exit::Usage, &["upload", "BUILD"]),
            Self::NoDestination(_) => again(Exit::Usage, &["--for", "DESTINATION"]),
            Self::NoApp(_) => again(Exit::Usage, &["--app", "APP"]),
            Self::AFolder(_) => say(Exit::Usage, "name the file that `ninekeys sign` wrote"),
            Self::NotEmpty(_) => again(Exit::Refused, &["--to", "FOLDER"]),
            Self::Changed(_) => again(Exit::Damaged, &[]),
            Self::Stopped => again(Exit::Stopped, &[]),
            Self::Output(inner) => inner.class(),
            Self::File(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}
