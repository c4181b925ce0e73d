//! Exit codes and remedies of errors about keystores.

use ninekeys_core::certificate::CertificateError;
use ninekeys_core::hand_over::HandOverError;
use ninekeys_core::keystore::KeystoreError as FormatError;
use ninekeys_ops::keystore::KeystoreError;

use super::{Class, Classify, Exit, class};

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
