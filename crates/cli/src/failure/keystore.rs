//! Exit codes and remedies of errors about keystores.

use ninekeys_core::certificate::CertificateError;
use ninekeys_core::hand_over::HandOverError as EncryptError;
use ninekeys_core::keystore::KeystoreError as FormatError;
use ninekeys_ops::keystore::change::ChangeError;
use ninekeys_ops::keystore::create::{AddKeyError, CompleteError, CreateError, MakeError};
use ninekeys_ops::keystore::export::ExportError;
use ninekeys_ops::keystore::hand_over::HandOverError;
use ninekeys_ops::keystore::import::ImportError;
use ninekeys_ops::keystore::password::PasswordReadError;
use ninekeys_ops::keystore::retire::RetireError;
use ninekeys_ops::keystore::settings::SettingsError;
use ninekeys_ops::keystore::take_out::TakeOutError;
use ninekeys_ops::keystore::{AliasError, AliasTaken, AppsError, FindError, NoAlias, PasswordChoiceError};

use super::{Class, Classify, Exit, Remedy, again, class, defect, say};

impl Classify for CertificateError {
    fn class(&self) -> Class {
        match self {
            Self::NoSubject => again(Exit::Usage, &["--common-name", "NAME"]),
            Self::Country(_) => again(Exit::Usage, &["--country", "GB"]),
            Self::Field { .. } => say(Exit::Usage, "write that field in fewer and plainer characters"),
            Self::Years(_) => again(Exit::Usage, &["--years", "30"]),
            Self::Key(_) | Self::Encoding(_) => defect(),
        }
    }
}

impl Classify for FindError {
    fn class(&self) -> Class {
        match self {
            Self::NotFound(_) | Self::NotAKeystore { .. } => class(Exit::Usage, &["inventory"]),
            Self::NoAlias(inner) => inner.class(),
            Self::SeveralAliases { known, .. } => first_of(known),
        }
    }
}

impl Classify for NoAlias {
    fn class(&self) -> Class {
        first_of(&self.known)
    }
}

/// The same command with an alias that is there.
fn first_of(known: &[String]) -> Class {
    again(Exit::Usage, &["--alias", known.first().map_or("ALIAS", String::as_str)])
}

impl Classify for AliasError {
    fn class(&self) -> Class {
        say(Exit::Usage, "choose another alias")
    }
}

impl Classify for AliasTaken {
    fn class(&self) -> Class {
        class(Exit::Refused, &["show", &self.place])
    }
}

impl Classify for AppsError {
    fn class(&self) -> Class {
        match self {
            Self::Project(inner) => inner.class(),
            Self::UnknownApp(app) => class(Exit::Usage, &["app", "add", app, "--package", "PACKAGE"]),
            Self::NotAndroid { app, .. } => {
                class(Exit::Usage, &["app", "change", app, "--package", "PACKAGE"])
            }
        }
    }
}

impl Classify for PasswordChoiceError {
    fn class(&self) -> Class {
        match self {
            Self::Password(_) => {
                say(Exit::Refused, "choose a longer one, or leave it to the tool to make one up")
            }
            Self::Ask(_) => again(Exit::Usage, &[]),
            Self::NobodyToAsk => say(
                Exit::Usage,
                "say where the password is: --password-in FILE, in the place of --ask-password",
            ),
            Self::Generator(_) => defect(),
        }
    }
}

impl Classify for MakeError {
    fn class(&self) -> Class {
        match self {
            Self::Alias(inner) => inner.class(),
            Self::Apps(inner) => inner.class(),
            Self::TooShort { .. } => again(Exit::Refused, &["--years", "30"]),
            Self::NoYears => again(Exit::Usage, &["--years", "30"]),
            Self::Certificate(inner) => inner.class(),
            Self::Key(_) | Self::Unreadable(_) => defect(),
        }
    }
}

impl Classify for CompleteError {
    fn class(&self) -> Class {
        match self {
            Self::Project(inner) => inner.class(),
            Self::Ask(_) => again(Exit::Refused, &[]),
        }
    }
}

impl Classify for CreateError {
    fn class(&self) -> Class {
        match self {
            Self::Name(_) => say(Exit::Usage, "choose another name for the keystore"),
            Self::Complete(inner) => inner.class(),
            Self::Make(inner) => inner.class(),
            Self::Password(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for AddKeyError {
    fn class(&self) -> Class {
        match self {
            Self::Find(inner) => inner.class(),
            Self::Complete(inner) => inner.class(),
            Self::Make(inner) => inner.class(),
            Self::AliasTaken(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for ChangeError {
    fn class(&self) -> Class {
        match self {
            Self::NothingToChange => class(Exit::Usage, &["keystore", "change", "--help"]),
            Self::Name(_) => say(Exit::Usage, "choose another name for the keystore"),
            Self::Alias(inner) => inner.class(),
            Self::AliasTaken(inner) => inner.class(),
            Self::Apps(inner) => inner.class(),
            Self::NotForApp { keystore, .. } => class(Exit::Usage, &["show", keystore]),
            Self::Find(inner) => inner.class(),
            Self::Password(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for ImportError {
    fn class(&self) -> Class {
        match self {
            Self::File(inner) => inner.class(),
            Self::Name(_) => again(Exit::Usage, &["--name", "NAME"]),
            Self::Apps(inner) => inner.class(),
            Self::Format(FormatError::WrongStorePassword) => again(Exit::Locked, &["--password-in", "FILE"]),
            Self::Format(FormatError::WrongKeyPassword(alias)) | Self::NobodyToAskForKey(alias) => {
                again(Exit::Locked, &["--key-password-in", &format!("{alias}=FILE")])
            }
            Self::Format(inner) => inner.class(),
            Self::NoKeys(_) => {
                say(Exit::Refused, "import the file that has the private keys; this one has none to lose")
            }
            Self::NoAlias(inner) => inner.class(),
            Self::SeveralKeys(names) => {
                again(Exit::Usage, &["--alias", names.first().map_or("ALIAS", String::as_str)])
            }
            Self::ForeignAlias(_) => {
                say(Exit::Refused, "give the key a plain alias where the file was made, and import it then")
            }
            Self::NobodyToAsk(_) => again(Exit::Locked, &["--password-in", "FILE"]),
            Self::Ask(_) => again(Exit::Usage, &[]),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for ExportError {
    fn class(&self) -> Class {
        match self {
            Self::Find(inner) => inner.class(),
            Self::Password(inner) => inner.class(),
            Self::NobodyWouldKnow => again(Exit::Refused, &["--note-password", "NOTE"]),
            Self::TooShort(_) => again(Exit::Refused, &["--random-password", "--note-password", "NOTE"]),
            Self::NothingToOpen => (Exit::Usage, Remedy::Without("--as")),
            Self::Settings(inner) => inner.class(),
            Self::OneCertificate(_) => again(Exit::Usage, &["--as", "certificate-pem"]),
            Self::Format(inner) => inner.class(),
            Self::Output(inner) => inner.class(),
            Self::File(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for SettingsError {
    fn class(&self) -> Class {
        match self {
            Self::Project(inner) => inner.class(),
            Self::UnknownApp(_) => class(Exit::Usage, &["app", "list"]),
            Self::NamedTwice(_) => {
                say(Exit::Damaged, "mend the name in ninekeys.toml; docs/project-file.md has every key")
            }
            Self::NotText(_) => say(Exit::Usage, "choose a name and a folder of letters that are text"),
            Self::SeveralKeys(_) => again(Exit::Usage, &["--alias", "ALIAS"]),
            Self::SeveralNames { apps } => {
                again(Exit::Usage, &["--app", apps.first().map_or("APP", String::as_str)])
            }
        }
    }
}

impl Classify for HandOverError {
    fn class(&self) -> Class {
        match self {
            Self::Find(inner) => inner.class(),
            Self::Encrypt(inner) => inner.class(),
            Self::Output(inner) => inner.class(),
            Self::File(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for FormatError {
    fn class(&self) -> Class {
        match self {
            Self::WrongStorePassword => again(Exit::Locked, &["--password-in", "FILE"]),
            Self::WrongKeyPassword(alias) => {
                again(Exit::Locked, &["--key-password-in", &format!("{alias}=FILE")])
            }
            Self::Unknown => say(Exit::Damaged, "`ninekeys inspect` tells what it is"),
            Self::Jceks => say(Exit::Damaged, "have the program that made it write PKCS#12"),
            Self::Unsupported(_) => {
                say(Exit::Damaged, "have the program that made it write PKCS#12 with AES, and take that file")
            }
            Self::Damaged(_) | Self::Changed | Self::CertificateChanged(_) | Self::KeyDamaged(_) => {
                say(Exit::Damaged, "take another copy of the file: this one is not as it was written")
            }
            Self::NoCertificate(_) | Self::NotItsCertificate(_) | Self::Certificate(..) | Self::NoKey(_) => {
                say(
                    Exit::Damaged,
                    "have it written again by the program that made it, key and certificate together",
                )
            }
            Self::TooCostly(_) | Self::TooCostlyInAll => {
                say(Exit::Refused, "have it written with fewer rounds, by the program that made it")
            }
            Self::NotAscii => say(Exit::Refused, "choose a password of plain letters, digits and signs"),
            Self::AliasesAlike(..) => class(
                Exit::Refused,
                &["keystore", "change", "KEYSTORE", "--alias", "ALIAS", "--new-alias", "ALIAS"],
            ),
            Self::Provider | Self::Random(_) => defect(),
        }
    }
}

impl Classify for EncryptError {
    fn class(&self) -> Class {
        match self {
            Self::NotARecipient => again(Exit::Damaged, &["--receiver", "CERTIFICATE-OR-KEY"]),
            Self::Kind(_) => {
                say(Exit::Refused, "ask the receiver for a key of RSA 2048 or more, or EC P-256 or P-384")
            }
            Self::Provider | Self::Random(_) | Self::Envelope(_) => defect(),
        }
    }
}

impl Classify for RetireError {
    fn class(&self) -> Class {
        match self {
            Self::Find(inner) => inner.class(),
            Self::Already { keystore, .. } => class(Exit::Refused, &["show", keystore]),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for TakeOutError {
    fn class(&self) -> Class {
        match self {
            Self::Find(inner) => inner.class(),
            Self::NotSure { .. } => again(Exit::Refused, &["--yes"]),
            Self::Ask(_) => again(Exit::Refused, &[]),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}

impl Classify for PasswordReadError {
    fn class(&self) -> Class {
        match self {
            Self::Find(inner) => inner.class(),
            Self::Open(inner) => inner.class(),
            Self::Cabinet(inner) => inner.class(),
        }
    }
}
