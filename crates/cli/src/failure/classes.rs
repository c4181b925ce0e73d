//! The exit code and the remedy of every error: one match an error, without a wildcard.

use std::io;

use ninekeys_cabinet::CabinetError;
use ninekeys_core::android::{ManifestFault, SignError as CoreSignError};
use ninekeys_core::certificate::CertificateError;
use ninekeys_core::digest::DigestError;
use ninekeys_core::hand_over::HandOverError;
use ninekeys_core::keys::KeyError;
use ninekeys_core::keystore::KeystoreError as FormatError;
use ninekeys_formats::zip::ZipError;
use ninekeys_ops::adopt::AdoptError;
use ninekeys_ops::app_add::AppAddError;
use ninekeys_ops::backup::BackupError;
use ninekeys_ops::board::BoardError;
use ninekeys_ops::check::CheckError;
use ninekeys_ops::compare::CompareError;
use ninekeys_ops::demo::DemoError;
use ninekeys_ops::init::InitError;
use ninekeys_ops::inspect::InspectError;
use ninekeys_ops::inventory::InventoryError;
use ninekeys_ops::keystores::KeystoreError;
use ninekeys_ops::lend::LendError;
use ninekeys_ops::outputs::OutputError;
use ninekeys_ops::passphrase::PassphraseError;
use ninekeys_ops::pin::PinError;
use ninekeys_ops::project::ProjectError;
use ninekeys_ops::releases::ReleasesError;
use ninekeys_ops::restore::RestoreError;
use ninekeys_ops::show::ShowError;
use ninekeys_ops::sign::SignError;
use ninekeys_ops::signer::SignerError;
use ninekeys_ops::status::StatusError;
use ninekeys_ops::{FileError, OpenError};

use super::{Class, Classify, Exit, class};

/// An output whose name is taken is a refusal; everything else about files is damage.
impl Classify for FileError {
    fn class(&self) -> Class {
        let exists = self.action == "written" && self.cause.kind() == io::ErrorKind::AlreadyExists;
        class(if exists { Exit::Refused } else { Exit::Damaged }, &[])
    }
}

impl Classify for ProjectError {
    fn class(&self) -> Class {
        match self {
            Self::File(inner) => inner.class(),
            Self::Missing => class(Exit::Damaged, &["init"]),
            Self::Malformed { .. } => class(Exit::Damaged, &[]),
        }
    }
}

impl Classify for CabinetError {
    fn class(&self) -> Class {
        match self {
            Self::Missing => class(Exit::Damaged, &["init"]),
            Self::Tampered(_) => class(Exit::Damaged, &["cabinet", "restore", "COPY"]),
            Self::NotACabinet
            | Self::TooNew { .. }
            | Self::NotAnUnlockFile
            | Self::Busy(_)
            | Self::Io { .. }
            | Self::Unfinished(_) => class(Exit::Damaged, &[]),
            Self::Another { .. } | Self::NotCurrent(_) => class(Exit::Refused, &["cabinet", "pin"]),
            Self::WrongPassphrase | Self::WrongUnlockFile => class(Exit::Locked, &["cabinet", "status"]),
            Self::Locked => class(Exit::Locked, &["cabinet", "status"]),
            Self::NotGiven { .. } | Self::NotAllowed { .. } => class(Exit::Refused, &["cabinet", "status"]),
            Self::ChangedMeanwhile(_) => class(Exit::Refused, &["cabinet", "history"]),
            Self::ClockBehind { .. } => class(Exit::Refused, &["cabinet", "history"]),
            Self::Exists | Self::LastMember => class(Exit::Refused, &["cabinet", "status"]),
            Self::NameTaken(name) => class(Exit::Refused, &["show", name]),
            Self::Name(_) => class(Exit::Usage, &[]),
            Self::NotFound(_) => class(Exit::Usage, &["inventory"]),
            Self::Crypto(_) => class(Exit::Defect, &[]),
        }
    }
}

impl Classify for OpenError {
    fn class(&self) -> Class {
        match self {
            Self::Project(inner) => inner.class(),
            Self::File(inner) => inner.class(),
            Self::Cabinet { cause, .. } => cause.class(),
            Self::NobodyToAsk(_) => {
                class(Exit::Locked, &["cabinet", "status", "--prove", "--passphrase-file", "FILE"])
            }
            Self::Ask(_) => class(Exit::Locked, &[]),
        }
    }
}

impl Classify for InitError {
    fn class(&self) -> Class {
        match self {
            Self::Exists(_) => class(Exit::Refused, &["board"]),
            Self::Title(_) => class(Exit::Usage, &["init", "--title", "TITLE"]),
            Self::NobodyToAsk => class(Exit::Usage, &["init", "--passphrase-file", "FILE"]),
            Self::Passphrase(_) => class(Exit::Refused, &[]),
            Self::Ask(_) => class(Exit::Usage, &["init"]),
            Self::File(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
            Self::Output(inner) => inner.class(),
            Self::Unnamed { .. } => class(Exit::Damaged, &["init"]),
        }
    }
}

impl Classify for OutputError {
    fn class(&self) -> Class {
        class(Exit::Refused, &[])
    }
}

impl Classify for AdoptError {
    fn class(&self) -> Class {
        match self {
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for PinError {
    fn class(&self) -> Class {
        match self {
            Self::Project(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
            Self::Differs { .. } => class(Exit::Refused, &["cabinet", "pin"]),
        }
    }
}

impl Classify for AppAddError {
    fn class(&self) -> Class {
        match self {
            Self::Project(inner) => inner.class(),
            Self::Exists(_) | Self::IdTaken { .. } => class(Exit::Refused, &["board"]),
            Self::Name(_) | Self::NoSide | Self::Id(_) | Self::Destination { .. } => {
                class(Exit::Usage, &["app", "add", "--help"])
            }
        }
    }
}

impl Classify for CertificateError {
    fn class(&self) -> Class {
        match self {
            Self::NoSubject | Self::Country(_) | Self::Field { .. } | Self::Years(_) => {
                class(Exit::Usage, &["keystore", "create", "--help"])
            }
            Self::Key(_) | Self::Encoding(_) => class(Exit::Defect, &[]),
        }
    }
}

impl Classify for KeystoreError {
    fn class(&self) -> Class {
        match self {
            Self::Open(inner) => inner.class(),
            Self::Project(inner) => inner.class(),
            Self::File(inner) => inner.class(),
            Self::Certificate(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
            Self::Format(inner) => inner.class(),
            Self::HandOver(inner) => inner.class(),
            Self::UnknownApp(app) => class(Exit::Usage, &["app", "add", app, "--package", "PACKAGE"]),
            Self::NotAndroid(_) => class(Exit::Usage, &["board"]),
            Self::NotForApp { .. } => class(Exit::Usage, &["board"]),
            Self::Name(_) | Self::Alias(_) | Self::NoYears => {
                class(Exit::Usage, &["keystore", "create", "--help"])
            }
            Self::TooShort { .. } => class(
                Exit::Refused,
                &["keystore", "create", "NAME", "--common-name", "NAME", "--years", "30"],
            ),
            Self::Password(_) => class(Exit::Refused, &[]),
            Self::Ask(_) => class(Exit::Usage, &[]),
            Self::NobodyToAsk => class(
                Exit::Usage,
                &["keystore", "create", "NAME", "--common-name", "NAME", "--password-file", "FILE"],
            ),
            Self::NobodyToAskForKey(alias) => {
                let own = format!("{alias}=PASSWORD-FILE");
                class(Exit::Locked, &["keystore", "import", "FILE", "--key-password-file", &own])
            }
            Self::NobodyToAskForFile(file) => {
                class(Exit::Locked, &["keystore", "import", file, "--password-file", "PASSWORD-FILE"])
            }
            Self::ForeignAlias(_) => class(Exit::Refused, &[]),
            Self::NotAKeystore { .. } => class(Exit::Usage, &["inventory"]),
            Self::NoAlias { .. } | Self::SeveralAliases { .. } => class(Exit::Usage, &[]),
            Self::AliasTaken { place, .. } => class(Exit::Refused, &["show", place]),
            Self::NothingToChange => class(Exit::Usage, &["keystore", "change", "--help"]),
            Self::NoKeys(_) => class(Exit::Refused, &[]),
            Self::Output(inner) => inner.class(),
            Self::TooShortToExport(name) => class(
                Exit::Refused,
                &["keystore", "export", name, "--to", "FILE", "--make-up", "--note-password", "NOTE"],
            ),
            Self::NobodyWouldKnow => class(
                Exit::Refused,
                &["keystore", "export", "KEYSTORE", "--to", "FILE", "--make-up", "--note-password", "NOTE"],
            ),
            Self::OneCertificate(_) => class(Exit::Usage, &["keystore", "export", "--help"]),
            Self::Key(_) | Self::Unreadable(_) => class(Exit::Defect, &[]),
        }
    }
}

impl Classify for FormatError {
    fn class(&self) -> Class {
        match self {
            Self::WrongStorePassword => {
                class(Exit::Locked, &["keystore", "import", "FILE", "--ask-password"])
            }
            Self::WrongKeyPassword(alias) => {
                let own = format!("{alias}=PASSWORD-FILE");
                class(Exit::Locked, &["keystore", "import", "FILE", "--key-password-file", &own])
            }
            Self::Unknown
            | Self::Jceks
            | Self::Damaged(_)
            | Self::Changed
            | Self::CertificateChanged(_)
            | Self::Unsupported(_)
            | Self::NoCertificate(_)
            | Self::NotItsCertificate(_)
            | Self::KeyDamaged(_)
            | Self::Certificate(..)
            | Self::NoKey(_) => class(Exit::Damaged, &[]),
            Self::TooCostly(_) | Self::TooCostlyInAll => class(Exit::Refused, &[]),
            Self::NotAscii => {
                class(Exit::Refused, &["keystore", "export", "KEYSTORE", "--to", "FILE", "--make-up"])
            }
            Self::AliasesAlike(..) => class(
                Exit::Refused,
                &["keystore", "change", "KEYSTORE", "--alias", "ALIAS", "--new-alias", "ALIAS"],
            ),
            Self::Provider | Self::Random(_) => class(Exit::Defect, &[]),
        }
    }
}

impl Classify for HandOverError {
    fn class(&self) -> Class {
        match self {
            Self::NotARecipient => class(Exit::Damaged, &[]),
            Self::Kind(_) => class(Exit::Refused, &[]),
            Self::Provider | Self::Random(_) | Self::Envelope(_) => class(Exit::Defect, &[]),
        }
    }
}

impl Classify for ZipError {
    fn class(&self) -> Class {
        match self {
            Self::Empty | Self::NotAnArchive | Self::Truncated => class(Exit::Damaged, &[]),
            Self::Directory(_) | Self::Entry { .. } | Self::Read(_) => class(Exit::Damaged, &[]),
            Self::Stopped => class(Exit::Stopped, &[]),
        }
    }
}

impl Classify for DigestError {
    fn class(&self) -> Class {
        match self {
            Self::Stopped => class(Exit::Stopped, &[]),
            Self::Read(_) | Self::Write(_) => class(Exit::Damaged, &[]),
            Self::TooLarge => class(Exit::Refused, &[]),
        }
    }
}

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
            Self::Key(_) => class(Exit::Defect, &[]),
        }
    }
}

fn refusal_class(refusal: &ninekeys_core::android::Refusal) -> Class {
    use ninekeys_core::android::Refusal as R;
    match refusal {
        R::NeedsSha1 { .. } => class(Exit::Refused, &["explain", "signature-scheme-missing"]),
        R::CodeUnknown => class(Exit::Refused, &["inspect", "BUILD"]),
        R::Debuggable => class(Exit::Refused, &["explain", "build-debuggable"]),
        R::TestOnly => class(Exit::Refused, &["explain", "build-test-only"]),
        R::TooLarge | R::Certificate => class(Exit::Refused, &[]),
        R::LeavesOut { .. } => class(Exit::Refused, &["sign", "BUILD", "--schemes", "v1,v2,v3"]),
        R::BundleScheme | R::NothingToStandOn => class(Exit::Refused, &["sign", "BUILD"]),
        R::BundleForPeople => class(Exit::Refused, &["explain", "package-wanted"]),
        R::RotationLevel(_) | R::NotTheLineages => class(Exit::Refused, &[]),
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
        | KeyError::UnknownAlgorithm(_) => class(Exit::Defect, &[]),
    }
}

impl Classify for CheckError {
    fn class(&self) -> Class {
        match self {
            Self::File(inner) => inner.class(),
            Self::Zip(inner) => inner.class(),
            Self::Digest(inner) => inner.class(),
            Self::Project(inner) => inner.class(),
            Self::UnknownApp(_) => class(Exit::Usage, &["board"]),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
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
                class(Exit::Refused, &["sign", "BUILD", "--key", first])
            }
            Self::NotAKeystore { .. } => class(Exit::Usage, &["inventory"]),
            Self::Key(inner) => key_class(inner),
        }
    }
}

impl Classify for SignError {
    fn class(&self) -> Class {
        match self {
            Self::Core(inner) => inner.class(),
            Self::File(inner) => inner.class(),
            Self::Project(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
            Self::Check(inner) => inner.class(),
            Self::UnknownApp(_) => class(Exit::Usage, &["board"]),
            Self::UnknownPackage(package) => {
                class(Exit::Usage, &["app", "add", "NAME", "--package", package, "--for", "direct"])
            }
            Self::NoDestination(_) => class(Exit::Usage, &["sign", "BUILD", "--for", "direct"]),
            Self::Destination(_) => class(Exit::Usage, &["sign", "BUILD", "--for", "direct"]),
            Self::Signer(inner) => inner.class(),
            Self::Exists(_) => class(Exit::Refused, &["sign", "BUILD", "--replace"]),
            Self::Incomplete(_) => class(Exit::Refused, &["sign", "BUILD", "OTHER-PARTS"]),
            Self::Of(_, cause) | Self::Partly { cause, .. } => cause.class(),
            Self::Idsig => class(Exit::Defect, &[]),
            Self::OverInput => class(Exit::Refused, &["sign", "BUILD", "--to", "FOLDER"]),
            Self::Output(_) => class(Exit::Refused, &["sign", "BUILD", "--to", "FOLDER"]),
            Self::NotReady(report) => {
                let mend = report.verdict.findings.iter().find_map(|finding| finding.mend.clone());
                let rule =
                    report.verdict.findings.first().map_or("signature-invalid", |finding| finding.rule);
                (Exit::Refused, mend.unwrap_or_else(|| vec!["explain".into(), rule.into()]))
            }
        }
    }
}

impl Classify for CompareError {
    fn class(&self) -> Class {
        match self {
            Self::File(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
            Self::Keystore(_, inner) => (inner.class().0, Vec::new()),
            Self::Zip(_, inner) => inner.class(),
            Self::Digest(inner) => inner.class(),
            Self::NotFound(_) => class(Exit::Damaged, &["inventory"]),
            Self::NoKey(_) => class(Exit::Damaged, &[]),
            Self::NobodyToAsk(_) => class(Exit::Locked, &["compare", "A", "B", "--password-file", "FILE"]),
            Self::Ask(_) => class(Exit::Usage, &[]),
        }
    }
}

impl Classify for InspectError {
    fn class(&self) -> Class {
        match self {
            Self::File(inner) => inner.class(),
            Self::Zip(inner) => inner.class(),
            Self::Certificate(_) | Self::Unknown => class(Exit::Damaged, &[]),
            Self::Keystore(inner) => (inner.class().0, Vec::new()),
            Self::NoItem(inner) => inner.class(),
            Self::Background(inner) => inner.class(),
            Self::Digest(inner) => inner.class(),
        }
    }
}

impl Classify for LendError {
    fn class(&self) -> Class {
        match self {
            Self::Open(inner) => inner.class(),
            Self::Project(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
            Self::UnknownApp(_) | Self::NoDestination(_) => class(Exit::Usage, &["board"]),
            Self::Key(inner) => match inner {
                SignerError::SeveralKeys { app, names } => {
                    let first = names.first().map_or("KEYSTORE", String::as_str);
                    class(Exit::Refused, &["lend", "--app", app, "--key", first, "--", "COMMAND"])
                }
                other => other.class(),
            },
            Self::Format(inner) => inner.class(),
            Self::File(inner) => inner.class(),
            Self::Variable(_) => class(Exit::Damaged, &["lend", "--help"]),
            Self::Exists(_) | Self::OnLoan(_) => class(Exit::Refused, &[]),
            Self::NoFolder | Self::NotStarted { .. } => class(Exit::Damaged, &[]),
        }
    }
}

impl Classify for InventoryError {
    fn class(&self) -> Class {
        match self {
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
            Self::Project(inner) => inner.class(),
        }
    }
}

impl Classify for ShowError {
    fn class(&self) -> Class {
        match self {
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
            Self::NotFound(_) => class(Exit::Usage, &["inventory"]),
        }
    }
}

impl Classify for BoardError {
    fn class(&self) -> Class {
        match self {
            Self::Project(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for ReleasesError {
    fn class(&self) -> Class {
        match self {
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
            Self::Project(inner) => inner.class(),
            Self::UnknownApp(_) => class(Exit::Usage, &["releases"]),
        }
    }
}

impl Classify for StatusError {
    fn class(&self) -> Class {
        match self {
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for PassphraseError {
    fn class(&self) -> Class {
        match self {
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
            Self::Password(_) => class(Exit::Refused, &[]),
            Self::Ask(_) => class(Exit::Usage, &["cabinet", "passphrase"]),
            Self::NobodyToAsk => {
                class(Exit::Usage, &["cabinet", "passphrase", "--new-passphrase-file", "FILE"])
            }
        }
    }
}

impl Classify for BackupError {
    fn class(&self) -> Class {
        match self {
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
            Self::File(inner) => inner.class(),
            Self::Output(inner) => inner.class(),
            Self::Partly { cause, .. } => cause.class(),
            Self::NotAFolder(_) => class(Exit::Damaged, &["cabinet", "backup", "FOLDER"]),
        }
    }
}

impl Classify for RestoreError {
    fn class(&self) -> Class {
        match self {
            Self::Project(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::File(inner) => inner.class(),
            Self::Itself(_) => class(Exit::Usage, &["cabinet", "status"]),
            Self::NotSure { from, .. } => class(Exit::Refused, &["cabinet", "restore", from, "--yes"]),
            Self::Ask(_) => class(Exit::Usage, &[]),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for DemoError {
    fn class(&self) -> Class {
        match self {
            Self::NotEmpty(_) => class(Exit::Refused, &["demo", "FOLDER"]),
            Self::File(inner) => inner.class(),
            Self::Material(_) => class(Exit::Defect, &[]),
        }
    }
}
