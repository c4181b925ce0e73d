//! Verdicts as SARIF 2.1.0: one run, every rule described, a result a finding.

use std::io;

use ninekeys_core::rules::Rule;
use serde_json::{Value, json};

use super::verdicts::{Verdicts, remedy, rules, sentence};

/// The schema of the standard.
const SCHEMA: &str =
    "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json";

/// Every rule, as SARIF describes it.
fn described() -> Vec<Value> {
    let describe = |(family, rule): (&str, &Rule)| {
        json!({
            "id": rule.name,
            "shortDescription": { "text": rule.about },
            "fullDescription": { "text": rule.meaning },
            "help": { "text": rule.remedy },
            "defaultConfiguration": { "level": rule.level.to_string() },
            "properties": { "family": family },
        })
    };
    rules().map(describe).collect()
}

/// The findings, and what could not be read.
fn results(verdicts: &Verdicts) -> (Vec<Value>, Vec<Value>) {
    let names: Vec<&str> = rules().map(|(_, rule)| rule.name).collect();
    let (mut results, mut notifications) = (Vec::new(), Vec::new());
    for one in &verdicts.builds {
        let file = || json!({ "artifactLocation": { "uri": uri(&one.build) } });
        let location = |place: &Option<String>| match place {
            Some(place) => json!({
                "physicalLocation": file(),
                "logicalLocations": [{ "fullyQualifiedName": place }],
            }),
            None => json!({ "physicalLocation": file() }),
        };
        for finding in one.check.iter().flat_map(|check| &check.verdict.findings) {
            results.push(json!({
                "ruleId": finding.rule,
                "ruleIndex": names.iter().position(|name| *name == finding.rule),
                "level": finding.level.to_string(),
                "message": { "text": format!("{}. Remedy: {}", sentence(finding), remedy(finding)) },
                "locations": [location(&finding.place)],
            }));
        }
        if let Some(error) = &one.error {
            notifications.push(json!({
                "level": "error",
                "message": { "text": error.sentence() },
                "locations": [location(&None)],
            }));
        }
    }
    (results, notifications)
}

/// SARIF 2.1.0: one run, every rule described, a result a finding.
pub(super) fn document(verdicts: &Verdicts) -> io::Result<Vec<u8>> {
    let (results, notifications) = results(verdicts);
    let answer = json!({
        "$schema": SCHEMA,
        "version": "2.1.0",
        "runs": [{
            "tool": { "driver": {
                "name": "ninekeys",
                "semanticVersion": env!("CARGO_PKG_VERSION"),
                "rules": described(),
            } },
            "invocations": [{
                "executionSuccessful": notifications.is_empty(),
                "toolExecutionNotifications": notifications,
            }],
            "artifacts": verdicts.builds.iter()
                .map(|one| json!({ "location": { "uri": uri(&one.build) } })).collect::<Vec<_>>(),
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
