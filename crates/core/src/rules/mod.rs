//! Every rule a check knows. A rule is one function, with its name, level, texts and remedy beside it, in the
//! file of its family; to add one is to write it there and name it in that file's list.

mod build;
mod entitlements;
mod hygiene;
mod identity;
mod profile;
mod signature;

pub use build::{file_stem, lacks_parts};
pub use identity::is_too_short;
use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;

use crate::android::AndroidBuild;
use crate::build::Build;
use crate::findings::{Finding, Level, Mend, Observation};
use crate::ios::look::IosLook;
use crate::ios::setup::Setup;
use crate::model::{App, BuildNumber, Destination, Inventory, LastBackup, Policy, ReleaseFacts, Role};
use crate::next::Earlier;

/// A build under check and what it is compared with.
pub struct BuildLook<'a> {
    /// The file's name, without its folder.
    pub file: &'a str,
    /// What is in it.
    pub build: &'a Build,
    /// Where it goes, if that is known.
    pub destination: Option<Destination>,
    /// To which store, where it is not the one that stands with the portal.
    pub store: Option<&'a str>,
    /// Its app in the project file, by name.
    pub app: Option<(&'a str, &'a App)>,
    /// What the project expects of every build.
    pub policy: &'a Policy,
    /// The last release of the same app before this build.
    pub last: Option<&'a ReleaseFacts>,
    /// The release to the same place that has the highest version, on iOS, where numbers count within a version.
    pub highest_version: Option<&'a ReleaseFacts>,
    /// What the store has of the app, where it was asked.
    pub there: Option<&'a [Earlier]>,
    /// A number that it has to be above, whatever the ledger says.
    pub above: Option<&'a BuildNumber>,
    /// The builds that are looked at together with it.
    pub parts: &'a [Part],
    /// The keys that the cabinet holds for this app.
    pub known_signers: &'a [KnownSigner],
    /// What only a build for iOS has.
    pub ios: Option<&'a IosLook<'a>>,
    /// The time of this check.
    pub now: Timestamp,
}

/// What has to be known of a build that another may be a part of one package with.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Part {
    /// The file's name.
    pub file: String,
    /// The package's name.
    pub id: String,
    /// Which part it is; nothing for the base.
    pub part: Option<String>,
    /// Its version code.
    pub number: BuildNumber,
    /// The fingerprints of its signers' certificates, in order.
    pub certificates: Vec<String>,
}

/// A key of the cabinet that an app may be signed with, in one of its roles: a key that has both for the app is there twice.
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
    /// The certificates that it took the place of, where whoever knows them was told so: the store, of an upload key.
    pub replaces: Vec<String>,
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
    /// The last of those that are kept elsewhere than the cabinet.
    pub off_site: Option<LastBackup>,
    /// Files of ours that matter to whoever guards it.
    pub files: &'a [OwnFile],
    /// How it stands to what is known of it.
    pub standing: CabinetStanding,
    /// The time of this check.
    pub now: Timestamp,
}

/// A file of ours, as it lies on the disk.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OwnFile {
    /// Its path, as the user would write it.
    pub path: String,
    /// Whether it unlocks the cabinet; else it is the cabinet.
    pub unlocks: bool,
    /// Whether others on this machine can read it.
    pub open_to_others: bool,
    /// Whether it is in a repository.
    pub in_repository: bool,
}

/// What a rule looks at. A rule may look at several, each in its own way.
pub enum Subject {
    /// A build of any platform.
    Build(fn(&BuildLook<'_>, &mut Notes)),
    /// An Android package.
    Android(fn(&BuildLook<'_>, &AndroidBuild, &mut Notes)),
    /// A build for iOS.
    Ios(fn(&BuildLook<'_>, &IosLook<'_>, &mut Notes)),
    /// The material in a cabinet that builds are signed with.
    Material(fn(&Inventory, &mut Notes)),
    /// What an app needs for a destination, before there is a build.
    Setup(fn(&Setup<'_>, &mut Notes)),
    /// A cabinet, as it is kept.
    Cabinet(fn(&CabinetLook<'_>, &mut Notes)),
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
    /// The looks themselves.
    pub subjects: &'static [Subject],
}

impl Rule {
    /// Whether it looks at what is in place before there is a build, or at the cabinet.
    pub fn is_for_setups(&self) -> bool {
        self.subjects
            .iter()
            .any(|subject| matches!(subject, Subject::Setup(_) | Subject::Material(_) | Subject::Cabinet(_)))
    }

    /// Whether it looks at builds.
    pub fn is_for_builds(&self) -> bool {
        self.subjects
            .iter()
            .any(|subject| matches!(subject, Subject::Build(_) | Subject::Android(_) | Subject::Ios(_)))
    }
}

/// What a rule writes down.
#[derive(Default)]
pub struct Notes {
    observations: Vec<Observation>,
    skipped: Option<&'static str>,
}

impl Notes {
    /// Something was found.
    pub fn found(&mut self, observation: Observation) {
        self.observations.push(observation);
    }

    /// There was nothing to look at, or nothing to compare it with: why, in a few words. The first reason stays.
    pub fn skip(&mut self, because: &'static str) {
        self.skipped.get_or_insert(because);
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
    Family { name: "profile", rules: profile::RULES },
    Family { name: "entitlements", rules: entitlements::RULES },
    Family { name: "signature", rules: signature::RULES },
    Family { name: "build", rules: build::RULES },
    Family { name: "hygiene", rules: hygiene::RULES },
];

/// The rule of that name, or the only one whose name begins with it; and its family's name.
///
/// # Errors
/// The names that begin with it, when they are none or several.
pub fn find(wanted: &str) -> Result<(&'static str, &'static Rule), Vec<&'static str>> {
    let all = || FAMILIES.iter().flat_map(|family| family.rules.iter().map(|rule| (family.name, rule)));
    if let Some(exact) = all().find(|(_, rule)| rule.name == wanted) {
        return Ok(exact);
    }
    let begin: Vec<_> = all().filter(|(_, rule)| rule.name.starts_with(wanted)).collect();
    match begin.as_slice() {
        [only] => Ok(*only),
        several => Err(several.iter().map(|(_, rule)| rule.name).collect()),
    }
}

/// What a check came to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Verdict<M = Mend> {
    /// What was found, family by family.
    pub findings: Vec<Finding<M>>,
    /// How many rules looked.
    pub rules: usize,
    /// How many of them had nothing to say.
    pub fine: usize,
    /// The rules that had nothing to look at, or nothing to compare it with.
    pub skipped: Vec<Skipped>,
}

/// A rule that had nothing to look at, or nothing to compare it with.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Skipped {
    /// Its name.
    pub rule: &'static str,
    /// Why.
    pub because: &'static str,
}

/// Why rules are skipped.
mod because {
    pub(super) const UNSIGNED: &str = "not signed, so not looked at";
    pub(super) const UNREADABLE: &str = "what it says of itself cannot be read";
    pub(super) const NO_APP: &str = "the project file has no such app";
    pub(super) const NOT_OUT: &str = "it does not leave the house";
    pub(super) const NOTHING_BEFORE: &str = "there is nothing in ledger and cabinet to compare it with";
}

impl<M> Verdict<M> {
    /// How many findings are of that level.
    pub fn count(&self, level: Level) -> usize {
        self.findings.iter().filter(|finding| finding.level == level).count()
    }

    /// Whether nothing speaks against what was looked at.
    pub fn is_ready(&self) -> bool {
        self.count(Level::Error) == 0
    }

    /// The findings of a family.
    pub fn family(&self, name: &str) -> impl Iterator<Item = &Finding<M>> {
        self.findings.iter().filter(move |finding| finding.family == name)
    }

    /// The same with what mends each finding said in another way.
    pub fn map<N>(self, mut say: impl FnMut(M) -> N) -> Verdict<N> {
        let Verdict { findings, rules, fine, skipped } = self;
        let findings = findings.into_iter().map(|finding| finding.map(&mut say)).collect();
        Verdict { findings, rules, fine, skipped }
    }
}

impl Verdict {
    fn add(&mut self, family: &'static str, rule: &'static Rule, notes: Notes) {
        if let Some(because) = notes.skipped {
            self.skipped.push(Skipped { rule: rule.name, because });
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

/// Adds the command that signs a build for iOS again, where signing takes it as it is.
fn sign_again(look: &BuildLook<'_>, seen: Observation) -> Observation {
    let is_signable = look.ios.is_some_and(|ios| {
        let mut all = ios.build.executables().flat_map(|executable| executable.slices());
        !all.any(|code| code.slice.encrypted || code.slice.is_for_a_simulator())
    });
    match is_signable && look.app.is_some() && look.build.malformed.is_empty() {
        true => seen.mend(Mend::Sign { key: None, destination: look.destination }),
        false => seen,
    }
}

/// Looks at a build with every rule for builds of its platform.
pub fn check_build(look: &BuildLook<'_>) -> Verdict {
    run(|subject, notes| match (subject, look.build.android()) {
        (Subject::Build(rule), _) => {
            rule(look, notes);
            true
        }
        (Subject::Android(rule), Some(android)) => {
            rule(look, android, notes);
            true
        }
        (Subject::Ios(rule), _) => look.ios.is_some_and(|ios| {
            rule(look, ios, notes);
            true
        }),
        (Subject::Android(_), None) | (Subject::Material(_) | Subject::Setup(_) | Subject::Cabinet(_), _) => {
            false
        }
    })
}

/// Looks at a cabinet with every rule for cabinets, and at the material in it.
pub fn check_cabinet(look: &CabinetLook<'_>) -> Verdict {
    run(|subject, notes| match subject {
        Subject::Cabinet(rule) => {
            rule(look, notes);
            true
        }
        Subject::Material(rule) => {
            rule(look.inventory, notes);
            true
        }
        Subject::Build(_) | Subject::Android(_) | Subject::Ios(_) | Subject::Setup(_) => false,
    })
}

/// Looks at what an app needs for a destination with every rule for that.
pub fn check_setup(setup: &Setup<'_>) -> Verdict {
    run(|subject, notes| match subject {
        Subject::Setup(rule) => {
            rule(setup, notes);
            true
        }
        _ => false,
    })
}

fn run(look: impl Fn(&Subject, &mut Notes) -> bool) -> Verdict {
    let mut verdict = Verdict { findings: Vec::new(), rules: 0, fine: 0, skipped: Vec::new() };
    for family in FAMILIES {
        for rule in family.rules {
            let mut notes = Notes::default();
            let looked = rule.subjects.iter().filter(|subject| look(subject, &mut notes)).count();
            if looked > 0 {
                verdict.add(family.name, rule, notes);
            }
        }
    }
    verdict
}

#[cfg(test)]
mod tests;
