//! What a build command would be lent.

use std::io;

use ninekeys_core::model::key_called;
use ninekeys_ops::build::lend::{Holds, LendExplainReport, Setting};

use super::Report;
use super::line::{Line, Paper};

/// The blanks between a name and what it holds.
const GAP: usize = 3;

fn holds(what: Holds) -> &'static str {
    match what {
        Holds::Keystore => "the path of the keystore, a PKCS#12 file",
        Holds::Alias => "the key's alias",
        Holds::Password => "the file's password, good for this one loan",
        Holds::KeyPassword => "the key's password, which is the same",
        Holds::Identity => "the path of a PKCS#12 file: key, certificate and chain",
        Holds::Chain => "the path of the chain, in PEM",
        Holds::Certificate => "the certificate's common name",
        Holds::Team => "the team",
        Holds::Profiles => "the path of a folder with the profiles",
        Holds::Profile => "what the profile is known by",
        Holds::NextVersion => "with --next: the version that the next build should have",
        Holds::NextBuild => "with --next: its version code or build number",
    }
}

fn settings(all: &[Setting], at: usize, paper: &mut Paper<'_>) -> io::Result<()> {
    all.iter().try_for_each(|one| {
        let what = match &one.bundle_id {
            Some(id) => format!("what the profile of {id} is known by"),
            None => holds(one.holds).to_owned(),
        };
        paper.put(&Line::new().text("    ").bold(&one.name).to(at).text(what).hang(at))
    })
}

impl Report for LendExplainReport {
    const SCHEMA: &'static str = "ninekeys.lend-explain/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        let key = match (&self.keystore, &self.alias, &self.identity) {
            (Some(keystore), Some(alias), _) => key_called(keystore, alias),
            (_, _, identity) => identity.clone().unwrap_or_default(),
        };
        let head = Line::new()
            .bold(&self.app)
            .text(format!(" for {}: {key} would be lent", self.destination.phrase()));
        paper.put(&head.hang(2))?;
        for (id, profile) in &self.profiles {
            paper.put(&Line::new().text(format!("  with {profile} for {id}")).hang(4))?;
        }
        paper.blank()?;
        let fields = self.properties.iter().flat_map(|properties| &properties.fields);
        let names = self.variables.iter().chain(fields).map(|one| one.name.chars().count());
        let at = 4 + names.max().unwrap_or(0) + GAP;
        paper.put(&Line::new().text("  As environment variables:"))?;
        settings(&self.variables, at, paper)?;
        paper.blank()?;
        if let Some(properties) = &self.properties {
            let place = properties.file.as_ref().map_or_else(String::new, |file| format!(" {file},"));
            let when = if properties.always { "" } else { " (with --properties)" };
            let variable = &properties.variable;
            let what = format!("  As properties{when}, in the file{place} that {variable} names:");
            paper.put(&Line::new().text(what).hang(2))?;
            settings(&properties.fields, at, paper)?;
            paper.blank()?;
        }
        if let Some(folder) = &self.profiles_folder {
            paper.put(&Line::new().text(format!("  The profiles are put into {folder}, too.")).hang(2))?;
        }
        for (when, words) in [("Before it", &self.before), ("After it", &self.after)] {
            if !words.is_empty() {
                let said = format!("  {when}, with the same variables: {}", words.join(" "));
                paper.put(&Line::new().text(said).hang(4))?;
            }
        }
        let change = format!("Other names: [app.{}.lend] in the project file.", self.app);
        paper.put(&Line::new().text("  ").dim(change).hang(2))
    }

    fn is_quiet(&self) -> bool {
        false
    }
}
