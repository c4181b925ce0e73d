//! The sheet that goes with what is given: plain text that says what is what.

use jiff::Timestamp;
use ninekeys_core::model::NineKey;

use super::{GiveReport, GivenFile};

/// Where values stand behind labels.
const VALUE: usize = 16;

fn row(label: &str, value: &str) -> String {
    format!("  {label:<VALUE$}{value}\n")
}

fn day(at: Timestamp) -> String {
    at.strftime("%Y-%m-%d").to_string()
}

/// A fingerprint as people compare it: pairs of digits, a line for each half.
fn fingerprint(sha256: &str) -> String {
    let pairs: Vec<String> =
        sha256.as_bytes().chunks(2).map(|pair| String::from_utf8_lossy(pair).to_ascii_uppercase()).collect();
    let lines: Vec<String> = pairs.chunks(16).map(|half| half.join(":")).collect();
    lines.join(&format!(":\n{:indent$}", "", indent = VALUE + 2))
}

fn about(file: &GivenFile) -> String {
    let what = match file.kind {
        NineKey::Development | NineKey::Distribution => "signs; key, certificate, and those above it",
        NineKey::Push => "sends notifications; key, certificate, and those above it",
        NineKey::Profile => "goes into the build",
        NineKey::StoreApi => "makes tokens (ES256); PKCS#8 in PEM, no password",
        NineKey::Signing | NineKey::Upload | NineKey::Service | NineKey::Cabinet => "",
    };
    let mut text = format!("{}\n{}{}", file.file, row("is", file.kind.word()), row("", what));
    if let Some(sha256) = &file.sha256 {
        let label = if file.kind == NineKey::Profile { "SHA-256 of file" } else { "SHA-256" };
        text += &row(label, &fingerprint(sha256));
    }
    if let Some(end) = file.not_after {
        text += &row("ends", &day(end));
    }
    if file.file.ends_with(".p12") {
        text += &row("password", "is not in this folder: it comes another way");
    }
    text + "\n"
}

/// The whole sheet.
pub(super) fn text(report: &GiveReport, house: &str) -> String {
    let from = if house.is_empty() { String::new() } else { format!(" by {house}") };
    let mut text = format!(
        "{} for {}\ngiven to {} on {}{from}\n\n",
        report.title,
        report.destination.phrase(),
        report.receiver,
        day(report.at)
    );
    text += &row("bundle id", &report.bundle_id);
    if let Some(team) = &report.team {
        text += &row("team id", team);
    }
    if let Some(key) = &report.api_key {
        text += &row("key id", &key.key_id);
        text += &row("issuer id", &key.issuer);
        text += &row("role of the key", &key.role);
        if let Some(number) = &key.vendor_number {
            text += &row("vendor number", number);
        }
    }
    text.push('\n');
    for file in &report.files {
        text += &about(file);
    }
    text + "Who was given what is written down: when any of it is replaced, you are told.\n"
}
