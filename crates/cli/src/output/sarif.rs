//! Verdicts, and what a sweep found, as SARIF 2.1.0: one run, every rule described, a result a finding.

use std::collections::BTreeSet;
use std::io;

use ninekeys_core::findings::Level;
use ninekeys_core::rules::Rule;
use ninekeys_ops::sweep::{Found, SweepReport};
use serde_json::{Value, json};

use super::items::name_in;
use super::verdicts::{Judged, Judgement, remedy, sentence};
use super::words;

/// The schema of the standard.
const SCHEMA: &str =
    "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json";

/// Every rule, as SARIF describes it.
fn described(judgement: &Judgement<'_>) -> Vec<Value> {
    let describe = |(family, rule): &(&str, &Rule)| {
        json!({
            "id": rule.name,
            "shortDescription": { "text": rule.about },
            "fullDescription": { "text": rule.meaning },
            "help": { "text": rule.remedy },
            "defaultConfiguration": { "level": rule.level.to_string() },
            "properties": { "family": family },
        })
    };
    judgement.rules.iter().map(describe).collect()
}

/// The findings, and what could not be read.
fn results(judgement: &Judgement<'_>) -> (Vec<Value>, Vec<Value>) {
    let names: Vec<&str> = judgement.rules.iter().map(|(_, rule)| rule.name).collect();
    let (mut results, mut notifications) = (Vec::new(), Vec::new());
    for one in &judgement.judged {
        let location = |place: &Option<String>| location(one, place.as_deref());
        for finding in one.outcome.iter().flat_map(|verdict| &verdict.findings) {
            results.push(json!({
                "ruleId": finding.rule,
                "ruleIndex": names.iter().position(|name| *name == finding.rule),
                "level": finding.level.to_string(),
                "message": { "text": format!("{}. Remedy: {}", sentence(finding), remedy(finding)) },
                "locations": [location(&finding.place)],
            }));
        }
        if let Err(error) = &one.outcome {
            notifications.push(json!({
                "level": "error",
                "message": { "text": error },
                "locations": [location(&None)],
            }));
        }
    }
    (results, notifications)
}

/// Where something was found: in a file, or in something that has a name and no file.
fn location(one: &Judged<'_>, place: Option<&str>) -> Value {
    let named = |name: &str| json!([{ "fullyQualifiedName": name }]);
    let file = || json!({ "artifactLocation": { "uri": uri(&one.name) } });
    match (one.is_file, place) {
        (true, Some(place)) => json!({ "physicalLocation": file(), "logicalLocations": named(place) }),
        (true, None) => json!({ "physicalLocation": file() }),
        (false, Some(place)) => json!({ "logicalLocations": named(&format!("{}: {place}", one.name)) }),
        (false, None) => json!({ "logicalLocations": named(&one.name) }),
    }
}

/// SARIF 2.1.0: one run, every rule described, a result a finding.
pub(super) fn document(judgement: &Judgement<'_>) -> io::Result<Vec<u8>> {
    let (results, notifications) = results(judgement);
    let files = judgement.judged.iter().filter(|one| one.is_file).map(|one| uri(&one.name)).collect();
    assembled(&described(judgement), files, &results, &notifications)
}

/// The document of one run: the rules it knows, the files it looked at, its results and what went wrong.
fn assembled(
    rules: &[Value],
    files: Vec<String>,
    results: &[Value],
    notifications: &[Value],
) -> io::Result<Vec<u8>> {
    let artifacts: Vec<Value> = files.into_iter().map(|uri| json!({ "location": { "uri": uri } })).collect();
    let answer = json!({
        "$schema": SCHEMA,
        "version": "2.1.0",
        "runs": [{
            "tool": { "driver": {
                "name": "ninekeys",
                "semanticVersion": env!("CARGO_PKG_VERSION"),
                "rules": rules,
            } },
            "invocations": [{
                "executionSuccessful": notifications.iter().all(|one| one.get("level").is_none_or(|level| level != "error")),
                "toolExecutionNotifications": notifications,
            }],
            "artifacts": artifacts,
            "results": results,
        }],
    });
    let mut out = serde_json::to_vec_pretty(&answer)?;
    out.push(b'\n');
    Ok(out)
}

/// A rule that a sweep goes by, and what to do where something breaks it.
struct Loose {
    name: &'static str,
    about: &'static str,
    remedy: &'static str,
    level: Level,
}

const IN_REPOSITORY: Loose = Loose {
    name: "secret-in-repository",
    about: "A secret stands in a repository's history, where everyone who has a copy of it can read it",
    remedy: "replace the key or the password by another: what was in a history cannot be called back",
    level: Level::Error,
};
const READABLE: Loose = Loose {
    name: "file-permissions-open",
    about: "A secret lies in a file that others on this machine can read",
    remedy: "take it into the cabinet and remove the file, or let nobody but its owner read it",
    level: Level::Error,
};
const OPEN: Loose = Loose {
    name: "secret-in-file",
    about: "A secret lies in a file outside the cabinet",
    remedy: "take it into the cabinet; `ninekeys sweep --set-aside FOLDER` moves what the cabinet holds",
    level: Level::Error,
};
const MATERIAL: Loose = Loose {
    name: "loose-material",
    about: "A profile, a certificate or a copy of something lies outside the cabinet; it is no secret",
    remedy: "nothing has to be done; `ninekeys sweep --set-aside FOLDER` moves what the cabinet holds",
    level: Level::Note,
};

impl Loose {
    const ALL: [&'static Loose; 4] = [&IN_REPOSITORY, &READABLE, &OPEN, &MATERIAL];

    fn of(found: &Found) -> &'static Loose {
        match found {
            Found { level: Level::Note, .. } => &MATERIAL,
            Found { commit: Some(_), .. } => &IN_REPOSITORY,
            Found { open_to_others: true, .. } => &READABLE,
            _ => &OPEN,
        }
    }

    fn described(&self) -> Value {
        json!({
            "id": self.name,
            "shortDescription": { "text": self.about },
            "help": { "text": self.remedy },
            "defaultConfiguration": { "level": self.level.to_string() },
            "properties": { "family": "hygiene" },
        })
    }
}

/// What a sweep found, as SARIF 2.1.0.
pub(super) fn of_sweep(report: &SweepReport) -> io::Result<Vec<u8>> {
    let result = |found: &Found| {
        let rule = Loose::of(found);
        let mut text = found.what.word().to_owned();
        if let Some(subject) = &found.subject {
            text = format!("{text} ({})", name_in(subject));
        }
        if let Some(item) = &found.item {
            text = format!("{text}, which the cabinet holds as {item}");
        }
        let file = json!({ "uri": uri(&found.path) });
        let location = match (found.line, &found.commit) {
            (Some(line), None) => json!({
                "physicalLocation": { "artifactLocation": file, "region": { "startLine": line } },
            }),
            (None, None) => json!({ "physicalLocation": { "artifactLocation": file } }),
            (_, Some(commit)) => json!({
                "physicalLocation": { "artifactLocation": file },
                "logicalLocations": [{ "fullyQualifiedName": format!("commit {commit}") }],
            }),
        };
        json!({
            "ruleId": rule.name,
            "ruleIndex": Loose::ALL.iter().position(|one| one.name == rule.name),
            "level": found.level.to_string(),
            "message": { "text": format!("{text}. Remedy: {}", rule.remedy) },
            "locations": [location],
        })
    };
    let results: Vec<Value> = report.found.iter().map(result).collect();
    let files: BTreeSet<String> = report.found.iter().map(|found| uri(&found.path)).collect();
    let unread = (report.unreadable > 0).then(|| {
        let text = format!("{} could not be read", words::count(report.unreadable, "file"));
        json!({ "level": "warning", "message": { "text": text } })
    });
    let rules = Loose::ALL.map(Loose::described);
    assembled(&rules, files.into_iter().collect(), &results, unread.as_slice())
}

/// A path as a relative or absolute URI reference (RFC 3986): what is not plain is escaped.
fn uri(path: &str) -> String {
    let plain = |byte: u8| byte.is_ascii_alphanumeric() || b"-._~/".contains(&byte);
    let escaped: String = path
        .replace('\\', "/")
        .bytes()
        .map(|byte| if plain(byte) { char::from(byte).to_string() } else { format!("%{byte:02X}") })
        .collect();
    if escaped.starts_with('/') { format!("file://{escaped}") } else { escaped }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_become_uris() {
        assert_eq!(uri("out/a b#1.apk"), "out/a%20b%231.apk");
        assert_eq!(uri("/tmp/ä.apk"), "file:///tmp/%C3%A4.apk");
    }
}
