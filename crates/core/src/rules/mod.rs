//! Every rule a check knows. A rule is one function, with its name, level, texts and remedy beside it, in the
//! file of its family; to add one is to write it there and name it in that file's list.

mod build;
mod hygiene;
mod identity;
mod signature;

pub use build::{file_stem, lacks_parts};
pub use identity::is_too_short;
use jiff::Timestamp;
use serde::Serialize;

use crate::android::{Package, Signatures};
use crate::findings::{Finding, Level, Observation};
use crate::model::{App, Destination, Inventory, LastBackup, Policy, ReleaseFacts, Role};

/// A build under check and what it is compared with.
pub struct BuildLook<'a> {
    /// The file's name, without its folder.
    pub file: &'a str,
    /// How a user would name the file in a command.
    pub path: &'a str,
    /// What is in it.
    pub package: &'a Package,
    /// What came of its signatures.
    pub signatures: &'a Signatures,
    /// Where it goes, if that is known.
    pub destination: Option<Destination>,
    /// Its app in the project file, by name.
    pub app: Option<(&'a str, &'a App)>,
    /// What the project expects of every build.
    pub policy: &'a Policy,
    /// The last release of the same app before this build.
    pub last: Option<&'a ReleaseFacts>,
    /// A version code that it has to be above, whatever the ledger says.
    pub above: Option<u64>,
    /// The builds that are looked at together with it.
    pub parts: &'a [Part],
    /// The keys that the cabinet holds for this app.
    pub known_signers: &'a [KnownSigner],
    /// The time of this check.
    pub now: Timestamp,
}

/// What has to be known of a build that another may be a part of one package with.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Part {
    /// The file's name.
    pub file: String,
    /// The package's name.
    pub package: String,
    /// Which part it is; nothing for the base.
    pub split: Option<String>,
    /// Its version code.
    pub code: Option<u64>,
    /// The fingerprints of its signers' certificates, in order.
    pub certificates: Vec<String>,
}

/// A key of the cabinet that an app may be signed with.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KnownSigner {
    /// The keystore's name.
    pub name: String,
    /// Signing or upload.
    pub role: Role,
    /// The key's fingerprint.
    pub key: String,
    /// The fingerprint of its certificate there: what a device compares.
    pub certificate: String,
}

/// How a cabinet stands to what somebody has seen of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum CabinetStanding {
    /// As new as anything that is known.
    Current,
    /// Somebody has seen a newer one.
    Older {
        /// Who: `this machine`, `the project file`.
        by: String,
        /// The change that they have seen.
        known: u64,
        /// The newest change of this one.
        found: u64,
    },
    /// Somebody has seen another change of that number.
    Parted {
        /// Who.
        by: String,
        /// The number.
        row: u64,
    },
}

/// A cabinet under check.
pub struct CabinetLook<'a> {
    /// What is in it.
    pub inventory: &'a Inventory,
    /// The last backup, if there is one.
    pub last_backup: Option<LastBackup>,
    /// How it stands to what is known of it.
    pub standing: CabinetStanding,
    /// The time of this check.
    pub now: Timestamp,
}

/// What a rule looks at.
pub enum Subject {
    /// A build.
    Build(fn(&BuildLook<'_>, &mut Notes)),
    /// A cabinet.
    Cabinet(fn(&CabinetLook<'_>, &mut Notes)),
    /// A build, and the material in a cabinet that builds are signed with.
    BuildAndCabinet(fn(&BuildLook<'_>, &mut Notes), fn(&CabinetLook<'_>, &mut Notes)),
}

/// A rule: its name is an interface and stays.
pub struct Rule {
    /// Its name.
    pub name: &'static str,
    /// How much its findings usually matter.
    pub level: Level,
    /// What it looks for, in a sentence.
    pub about: &'static str,
    /// Why that matters.
    pub meaning: &'static str,
    /// What to do, in a sentence.
    pub remedy: &'static str,
    /// The look itself.
    pub subject: Subject,
}

/// What a rule writes down.
#[derive(Default)]
pub struct Notes {
    observations: Vec<Observation>,
    skipped: bool,
}

impl Notes {
    /// Something was found.
    pub fn found(&mut self, observation: Observation) {
        self.observations.push(observation);
    }

    /// There was nothing to compare with.
    pub fn skip(&mut self) {
        self.skipped = true;
    }
}

/// A family of rules: a heading in a verdict.
pub struct Family {
    /// Its name.
    pub name: &'static str,
    /// Its rules.
    pub rules: &'static [Rule],
}

/// All families, in the order of a verdict.
pub const FAMILIES: &[Family] = &[
    Family { name: "identity", rules: identity::RULES },
    Family { name: "signature", rules: signature::RULES },
    Family { name: "build", rules: build::RULES },
    Family { name: "hygiene", rules: hygiene::RULES },
];

/// The rule of that name, and its family's name.
pub fn find(name: &str) -> Option<(&'static str, &'static Rule)> {
    let all = FAMILIES.iter().flat_map(|family| family.rules.iter().map(|rule| (family.name, rule)));
    all.into_iter().find(|(_, rule)| rule.name == name)
}

/// What a check came to.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct Verdict {
    /// What was found, family by family.
    pub findings: Vec<Finding>,
    /// How many rules looked.
    pub rules: usize,
    /// How many of them had nothing to say.
    pub fine: usize,
    /// The names of rules that had nothing to compare with.
    pub not_compared: Vec<&'static str>,
}

impl Verdict {
    /// How many findings are of that level.
    pub fn count(&self, level: Level) -> usize {
        self.findings.iter().filter(|finding| finding.level == level).count()
    }

    /// Whether nothing speaks against the build.
    pub fn is_ready(&self) -> bool {
        self.count(Level::Error) == 0
    }

    /// The findings of a family.
    pub fn family(&self, name: &str) -> impl Iterator<Item = &Finding> {
        self.findings.iter().filter(move |finding| finding.family == name)
    }

    fn add(&mut self, family: &'static str, rule: &'static Rule, notes: Notes) {
        if notes.skipped {
            self.not_compared.push(rule.name);
            return;
        }
        self.rules += 1;
        self.fine += usize::from(notes.observations.is_empty());
        self.findings.extend(notes.observations.into_iter().map(|seen| Finding {
            rule: rule.name,
            family,
            level: seen.level.unwrap_or(rule.level),
            text: seen.text,
            expected: seen.expected,
            found: seen.found,
            place: seen.place,
            remedy: rule.remedy,
            mend: seen.mend,
        }));
    }
}

/// Looks at a build with every rule for builds.
pub fn check_build(look: &BuildLook<'_>) -> Verdict {
    run(|subject, notes| match subject {
        Subject::Build(rule) | Subject::BuildAndCabinet(rule, _) => {
            rule(look, notes);
            true
        }
        Subject::Cabinet(_) => false,
    })
}

/// Looks at a cabinet with every rule for cabinets.
pub fn check_cabinet(look: &CabinetLook<'_>) -> Verdict {
    run(|subject, notes| match subject {
        Subject::Cabinet(rule) | Subject::BuildAndCabinet(_, rule) => {
            rule(look, notes);
            true
        }
        Subject::Build(_) => false,
    })
}

fn run(look: impl Fn(&Subject, &mut Notes) -> bool) -> Verdict {
    let mut verdict = Verdict::default();
    for family in FAMILIES {
        for rule in family.rules {
            let mut notes = Notes::default();
            if look(&rule.subject, &mut notes) {
                verdict.add(family.name, rule, notes);
            }
        }
    }
    verdict
}

#[cfg(test)]
mod tests;
