//! Verdicts as SARIF 2.1.0: one run, every rule described, a result a finding.

use std::io;

use ninekeys_core::rules::Rule;
use serde_json::{Value, json};

use super::verdicts::{Judged, Judgement, remedy, sentence};

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
    let answer = json!({
        "$schema": SCHEMA,
        "version": "2.1.0",
        "runs": [{
            "tool": { "driver": {
                "name": "ninekeys",
                "semanticVersion": env!("CARGO_PKG_VERSION"),
                "rules": described(judgement),
            } },
            "invocations": [{
                "executionSuccessful": notifications.is_empty(),
                "toolExecutionNotifications": notifications,
            }],
            "artifacts": judgement.judged.iter().filter(|one| one.is_file)
                .map(|one| json!({ "location": { "uri": uri(&one.name) } })).collect::<Vec<_>>(),
            "results": results,
        }],
    });
    let mut out = serde_json::to_vec_pretty(&answer)?;
    out.push(b'\n');
    Ok(out)
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
