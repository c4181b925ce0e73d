//! What is other in one build than in another, as text.

use std::io;

use ninekeys_core::model::{Aspect, BuildNumber, SeenChange};
use ninekeys_ops::build::difference::{Difference, FolderChange};

use super::line::{Line, Paper};
use super::words;

/// A smaller change of a size, in bytes, would be shown as none.
const SHOWN: u64 = 1 << 10;

/// What people and devices see, and then what takes how much room.
pub(super) fn put(difference: &Difference, paper: &mut Paper<'_>) -> io::Result<()> {
    if difference.changes.is_empty() {
        paper.put(&Line::new().text("  what people and devices see of it is the same"))?;
    } else {
        let rows: Vec<Vec<Line<'_>>> = difference.changes.iter().map(changed).collect();
        paper.table(2, &rows)?;
    }
    paper.blank()?;
    if !difference.sizes_comparable {
        let text = "  one lies in an archive and the other in a folder: their sizes have nothing to do with each other";
        return paper.put(&Line::new().dim(text).hang(2));
    }
    let changed = || difference.folders.iter().filter(|folder| folder.change() != 0);
    let rows: Vec<Vec<Line<'_>>> =
        changed().filter(|folder| folder.change().unsigned_abs() >= SHOWN).map(folder).collect();
    paper.table(2, &rows)?;
    let small = changed().count() - rows.len();
    match (rows.len(), small) {
        (0, 0) => paper.put(&Line::new().text("  what is in it has the same sizes")),
        (_, 0) => Ok(()),
        _ => paper.put(&Line::new().dim(format!("  and {small} with changes below 1 KiB"))),
    }
}

fn changed(change: &SeenChange) -> Vec<Line<'_>> {
    let (before, now) = (change.before.as_deref(), change.now.as_deref());
    let name = change.name.as_deref().unwrap_or_default();
    let value = now.or(before).unwrap_or_default();
    let was = match (before, now) {
        (Some(before), Some(_)) => format!("was {before}"),
        (Some(_), None) => "no more".into(),
        (None, _) => "new".into(),
    };
    let (label, subject, what) = match change.of {
        Aspect::AsksFor if now.is_some() => {
            ("asks for", name.to_owned(), "new: people are asked for it".into())
        }
        Aspect::AsksFor => ("asks for", name.to_owned(), was),
        Aspect::Entitlement => {
            let what = if before.is_some() { was } else { format!("new: {value}") };
            let what = if let (Some(_), Some(now)) = (before, now) { format!("{now}, {what}") } else { what };
            ("claims", name.to_owned(), what)
        }
        Aspect::Lowest if is_raised(before, now) => {
            ("runs from", value.to_owned(), format!("{was}: who has less gets no update"))
        }
        Aspect::Lowest => ("runs from", value.to_owned(), was),
        Aspect::MadeFor => ("made for", value.to_owned(), was),
        Aspect::Highest => ("runs up to", value.to_owned(), was),
        Aspect::Signer => {
            ("signer", common_name(value).to_owned(), format!("{was}, certificate {}", words::short(name)))
        }
        Aspect::Profile => ("profile", value.to_owned(), was),
        Aspect::Title => ("name", value.to_owned(), was),
    };
    let what = Line::new().text(what);
    let what = match &change.bundle_id {
        Some(id) => what.dim(format!(" · {id}")),
        None => what,
    };
    vec![Line::new().dim(label), Line::new().text(subject), what]
}

/// The common name of a subject; all of it where there is none.
fn common_name(subject: &str) -> &str {
    subject.split(',').find_map(|part| part.trim().strip_prefix("CN=")).unwrap_or(subject)
}

/// Whether devices that ran the one do not run the other.
fn is_raised(before: Option<&str>, now: Option<&str>) -> bool {
    let level = |text: Option<&str>| text.and_then(|text| text.parse::<BuildNumber>().ok());
    match (level(before), level(now)) {
        (Some(before), Some(now)) => now > before,
        _ => false,
    }
}

fn folder(folder: &FolderChange) -> Vec<Line<'_>> {
    let what = match (folder.before, folder.now) {
        (0, _) => "new".to_owned(),
        (_, 0) => "gone".to_owned(),
        (before, now) => format!("{} to {}", words::size(before), words::size(now)),
    };
    vec![
        Line::new().text(&folder.name),
        Line::new().text(signed_size(folder.before, folder.now)),
        Line::new().dim(what),
    ]
}

/// `+1.2 MiB`, `-0.003 MiB`
pub(super) fn signed_size(before: u64, now: u64) -> String {
    let sign = if now < before { "-" } else { "+" };
    format!("{sign}{}", words::size(now.abs_diff(before)))
}
