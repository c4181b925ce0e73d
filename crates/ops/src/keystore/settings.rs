//! A properties file that lasts: what a build's settings read when a keystore stays on a machine.

use std::path::{Path, PathBuf};

use ninekeys_core::lending::{forward_strokes, keystore_properties};
use ninekeys_core::model::{KeystoreEntry, Properties};
use ninekeys_formats::secret::SecretText;
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::ctx::Ctx;
use crate::project::ProjectError;

/// What the file begins with: nobody takes it away again.
const LASTING: &str = "lasting: it stays until somebody deletes it; keep it out of version control";

/// Which properties file is wanted.
#[derive(Debug)]
pub struct SettingsRequest {
    /// The file.
    pub file: PathBuf,
    /// The app whose field names are used; when left out, the apps that the key is for have to agree.
    pub app: Option<String>,
}

/// A properties file that was written beside a keystore.
#[derive(Debug, Serialize, JsonSchema)]
pub struct SettingsSaid {
    /// The file.
    pub file: String,
    /// The names of its fields, in the order keystore, alias, password, key password.
    pub fields: [String; 4],
    /// The lines that keep what was written out of version control, where it is in the project's folder.
    pub keep_out: Vec<String>,
}

/// Why no properties file can be written.
#[derive(Debug, Error)]
pub enum SettingsError {
    /// The project file.
    #[error(transparent)]
    Project(#[from] ProjectError),
    /// No app of that name.
    #[error("the project file has no app called {0}")]
    UnknownApp(String),
    /// A properties file names one key.
    #[error("a properties file names one key, and {0} were asked for")]
    SeveralKeys(usize),
    /// A field that would have to hold two things at once.
    #[error("the field `{0}` is named twice in the project file, and cannot hold two things")]
    NamedTwice(String),
    /// A properties file is text.
    #[error("the path {0} is no text, and cannot stand in a properties file")]
    NotText(String),
    /// The builds of several apps read different fields.
    #[error("the builds of {} read fields of different names", apps.join(", "))]
    SeveralNames {
        /// The apps.
        apps: Vec<String>,
    },
}

/// Under which names a build reads its settings: as the project file says for the app, or for the apps of the key if they
/// agree.
pub(crate) fn names(
    ctx: &Ctx<'_>,
    request: &SettingsRequest,
    entries: &[&KeystoreEntry],
    keystore: &Path,
) -> Result<Properties, SettingsError> {
    let names = agreed(ctx, request, entries, keystore)?;
    match names.shared_field() {
        Some(field) => Err(SettingsError::NamedTwice(field.into())),
        None => Ok(names),
    }
}

fn agreed(
    ctx: &Ctx<'_>,
    request: &SettingsRequest,
    entries: &[&KeystoreEntry],
    keystore: &Path,
) -> Result<Properties, SettingsError> {
    let path = ctx.path(keystore);
    if path.to_str().is_none() {
        return Err(SettingsError::NotText(path.display().to_string()));
    }
    let [entry] = entries else { return Err(SettingsError::SeveralKeys(entries.len())) };
    if let Some(wanted) = &request.app {
        let file = ctx.project_file()?;
        let found = file.project.app(wanted);
        let (_, app) = found.ok_or_else(|| SettingsError::UnknownApp(wanted.clone()))?;
        return Ok(app.lend.as_ref().and_then(|lend| lend.properties.clone()).unwrap_or_default());
    }
    let Some(file) = ctx.project_if_any()? else { return Ok(Properties::default()) };
    let mut apps: Vec<&str> = entry.uses.iter().map(|one| one.app.as_str()).collect();
    apps.dedup();
    let mut known: Vec<(&str, Properties)> = Vec::new();
    for name in apps {
        let Some(app) = file.project.apps.get(name) else { continue };
        let properties = app.lend.as_ref().and_then(|lend| lend.properties.clone()).unwrap_or_default();
        if known.iter().all(|(_, other)| other.fields() != properties.fields()) {
            known.push((name, properties));
        }
    }
    if known.len() > 1 {
        let apps = known.iter().map(|(name, _)| (*name).to_owned()).collect();
        return Err(SettingsError::SeveralNames { apps });
    }
    Ok(known.pop().map(|(_, properties)| properties).unwrap_or_default())
}

/// The file's text.
pub(crate) fn text(names: &Properties, keystore: &Path, alias: &str, password: &SecretText) -> SecretText {
    keystore_properties(LASTING, names, keystore, alias, password)
}

/// The lines that keep these files out of version control: as paths from the project's folder on, where they are in it.
pub(crate) fn keep_out(ctx: &Ctx<'_>, files: &[&Path]) -> Vec<String> {
    let project = ctx.project_if_any().ok().flatten();
    let folder = project.as_ref().and_then(|file| file.path.parent()).unwrap_or(&ctx.folder);
    let real = |path: &Path| path.canonicalize().unwrap_or_else(|_| path.to_owned());
    let folder = real(folder);
    let inside = files.iter().filter_map(|file| {
        // the file itself is not there yet
        let place = real(file.parent()?).join(file.file_name()?);
        place.strip_prefix(&folder).ok().map(|rest| format!("/{}", literally(&forward_strokes(rest))))
    });
    inside.collect()
}

/// A path as a pattern that means it and nothing else: such lists take some signs for others.
fn literally(path: &str) -> String {
    let mut out = String::with_capacity(path.len());
    for c in path.chars() {
        if matches!(c, '\\' | '*' | '?' | '[' | ' ') {
            out.push('\\');
        }
        out.push(c);
    }
    out
}

#[cfg(test)]
mod tests {
    use super::literally;

    #[test]
    fn a_line_of_a_list_means_the_path_and_nothing_else() {
        assert_eq!(literally("private/upload-2.p12"), "private/upload-2.p12");
        assert_eq!(literally("a [1]*?.p12 "), "a\\ \\[1]\\*\\?.p12\\ ");
        assert_eq!(literally("a\\b"), "a\\\\b");
    }
}
