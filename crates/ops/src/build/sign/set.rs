//! What is set in a build when it is signed.

use ninekeys_core::model::BuildNumber;
use ninekeys_formats::manifest::Numbers;

use super::SignError;
use crate::app::add::check_id;

/// The longest name below an icon, in bytes.
const LONGEST_TITLE: usize = 255;

/// What is set in a build when it is signed.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Set {
    /// The bundle id of the app; those of what is inside it follow.
    pub id: Option<String>,
    /// What people see below its icon.
    pub title: Option<String>,
    /// The version: on iOS numbers with dots between.
    pub version: Option<String>,
    /// The build number, or the version code.
    pub build: Option<BuildNumber>,
}

impl Set {
    /// The first option by which something is set that a package does not have, or has in every language.
    pub(super) fn first_of_ios(&self) -> Option<&'static str> {
        let all = [("--set-title", self.title.is_some()), ("--set-bundle-id", self.id.is_some())];
        all.into_iter().find(|(_, is_set)| *is_set).map(|(option, _)| option)
    }

    /// Refuses what no device would take, or show.
    pub(super) fn check(&self) -> Result<(), SignError> {
        if let Some(id) = &self.id {
            check_id(id)?;
        }
        let shows = |title: &String| {
            !title.trim().is_empty() && title.len() <= LONGEST_TITLE && !title.chars().any(char::is_control)
        };
        if !self.title.as_ref().is_none_or(shows) {
            return Err(SignError::Title);
        }
        if !self.version.as_ref().is_none_or(shows) {
            return Err(SignError::Version);
        }
        Ok(())
    }

    /// Refuses a version that an app for iOS cannot have.
    pub(super) fn check_ios(&self) -> Result<(), SignError> {
        match self.version.as_ref().is_none_or(|version| version.parse::<BuildNumber>().is_ok()) {
            true => Ok(()),
            false => Err(SignError::VersionNumbers),
        }
    }

    /// What is set in a package's manifest; nothing when that is nothing.
    pub(super) fn numbers(&self) -> Result<Option<Numbers>, SignError> {
        let code = |build: &BuildNumber| {
            let code = build.to_string().parse::<u32>().ok();
            code.filter(|code| (1..=HIGHEST_CODE).contains(code)).ok_or(SignError::Code)
        };
        let code = self.build.as_ref().map(code).transpose()?;
        let is_any = code.is_some() || self.version.is_some();
        Ok(is_any.then(|| Numbers { code, name: self.version.clone() }))
    }
}

/// The highest version code without an upper half.
const HIGHEST_CODE: u32 = i32::MAX as u32;
