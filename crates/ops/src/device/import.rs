//! `device import`: many devices at once, all of them or none.

use std::collections::HashMap;
use std::path::PathBuf;

use ninekeys_cabinet::CabinetError;
use ninekeys_core::model::check_title;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use super::{DeviceSaid, Limit};
use crate::ctx::{Ctx, OpenError};
use crate::device;
use crate::files::{self, FileError};

/// The most of a file with devices.
const FILE_LIMIT: u64 = 4 << 20;
/// The most bad lines that are named.
const MOST_NAMED: usize = 20;

/// The file.
#[derive(Debug)]
pub struct Request {
    /// Tab- or comma-separated lines: an identifier and a name, in this order; a line of heads may stand first.
    pub file: PathBuf,
}

/// What was registered.
#[derive(Debug, Serialize, JsonSchema)]
pub struct DeviceImportReport {
    /// The file.
    pub file: String,
    /// The devices that were not known.
    pub devices: Vec<DeviceSaid>,
    /// How many of the file were known already.
    pub known: usize,
    /// How many were registered within the last year.
    pub limit: Limit,
}

/// A line that names no device.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BadLine {
    /// Its number, from 1.
    pub line: usize,
    /// What is wrong with it.
    pub because: String,
}

/// Why nothing was registered.
#[derive(Debug, Error)]
pub enum DeviceImportError {
    /// The file.
    #[error(transparent)]
    File(#[from] FileError),
    /// It is no text.
    #[error("{} is not text", .0.display())]
    NotText(PathBuf),
    /// It names no device.
    #[error("{} names no device", .0.display())]
    Empty(PathBuf),
    /// Lines that name none; the first of them.
    #[error("{}", lines(.0))]
    Lines(Vec<BadLine>),
    /// The cabinet could not be opened or unlocked.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The cabinet.
    #[error(transparent)]
    Cabinet(#[from] CabinetError),
}

pub(crate) fn lines(all: &[BadLine]) -> String {
    let named = all.iter().take(MOST_NAMED).map(|bad| format!("line {}: {}", bad.line, bad.because));
    let mut text = named.collect::<Vec<_>>().join("; ");
    if all.len() > MOST_NAMED {
        text.push_str(&format!("; and {} more", all.len() - MOST_NAMED));
    }
    text
}

/// The devices of a file: identifier and title, each identifier once.
///
/// # Errors
/// Every line that names none.
fn read(text: &str) -> Result<Vec<(String, String)>, Vec<BadLine>> {
    let (mut out, mut bad) = (Vec::new(), Vec::new());
    let mut seen: HashMap<String, usize> = HashMap::new();
    let text = text.strip_prefix('\u{feff}').unwrap_or(text);
    for (index, line) in text.lines().enumerate() {
        let number = index + 1;
        if line.trim().is_empty() {
            continue;
        }
        let separator = if line.contains('\t') { '\t' } else { ',' };
        let mut fields = line.split(separator).map(|field| field.trim().trim_matches('"').trim());
        let (first, title) = (fields.next().unwrap_or_default(), fields.next().unwrap_or_default());
        let identifier = match device::identifier(first) {
            Ok(identifier) => identifier,
            // the heads of columns: words without a digit
            Err(_) if out.is_empty() && bad.is_empty() && !first.bytes().any(|b| b.is_ascii_digit()) => {
                continue;
            }
            Err(error) => {
                bad.push(BadLine { line: number, because: error.to_string() });
                continue;
            }
        };
        if let Err(error) = check_title(title) {
            bad.push(BadLine { line: number, because: error.to_string() });
        } else if let Some(before) = seen.insert(identifier.clone(), number) {
            bad.push(BadLine { line: number, because: format!("the same device as in line {before}") });
        } else {
            out.push((identifier, title.to_owned()));
        }
    }
    if bad.is_empty() { Ok(out) } else { Err(bad) }
}

/// Registers the devices of a file that are not known; nothing unless every line is good.
///
/// # Errors
/// [`DeviceImportError`]; then the cabinet is as it was.
pub fn device_import(ctx: &Ctx<'_>, request: &Request) -> Result<DeviceImportReport, DeviceImportError> {
    let bytes = files::read_whole(&ctx.path(&request.file), FILE_LIMIT)?;
    let text = String::from_utf8(bytes).map_err(|_| DeviceImportError::NotText(request.file.clone()))?;
    let wanted = read(&text).map_err(DeviceImportError::Lines)?;
    if wanted.is_empty() {
        return Err(DeviceImportError::Empty(request.file.clone()));
    }
    let mut cabinet = ctx.open_unlocked()?;
    let what = format!("device import {}", crate::build::check::file_name(&request.file));
    let unknown = |inventory: &ninekeys_core::model::Inventory| {
        let known: std::collections::HashSet<String> =
            device::all(inventory).into_iter().map(|(_, facts)| facts.identifier.clone()).collect();
        wanted.iter().filter(|(identifier, _)| !known.contains(identifier)).cloned().collect::<Vec<_>>()
    };
    let mut devices = Vec::new();
    if !unknown(&*cabinet.inventory()?).is_empty() {
        devices = cabinet.change(&what, &ctx.env, |change| {
            let new = unknown(&change.inventory());
            new.iter()
                .map(|(id, title)| device::put(change, title, id))
                .collect::<Result<Vec<_>, CabinetError>>()
        })?;
    }
    let limit = device::limit(&*cabinet.inventory()?, ctx.env.now);
    Ok(DeviceImportReport {
        file: request.file.display().to_string(),
        known: wanted.len() - devices.len(),
        devices,
        limit,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    const ONE: &str = "00008030-001122334455667E";
    const OTHER: &str = "00008030abcdef1122334455667788990011aabb";

    #[test]
    fn tabs_commas_and_a_line_of_heads_are_read() {
        let text = format!(
            "\u{feff}Device ID\tDevice Name\n{ONE}\tBridge tablet\tios\n\n{OTHER}, \"Pier, phone\"\n"
        );
        let found = read(&text).unwrap();
        assert_eq!(found.first().unwrap(), &(ONE.to_owned(), "Bridge tablet".to_owned()));
        assert_eq!(found.get(1).unwrap().0, OTHER);
    }

    #[test]
    fn every_bad_line_is_named_with_its_number() {
        let text = format!("{ONE},Bridge\n1234,Pier\n{ONE},Again\n{OTHER},\n");
        let bad = read(&text).unwrap_err();
        let numbers: Vec<usize> = bad.iter().map(|one| one.line).collect();
        assert_eq!(numbers, [2, 3, 4]);
        assert!(lines(&bad).contains("line 3: the same device as in line 1"), "{}", lines(&bad));
        let many = "12,x\n".repeat(30);
        assert!(lines(&read(&many).unwrap_err()).ends_with("; and 10 more"));
    }
}
