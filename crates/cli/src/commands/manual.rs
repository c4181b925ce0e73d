//! `ninekeys manual`

use std::io;
use std::path::{Path, PathBuf};

use clap::CommandFactory;
use clap_mangen::Man;
use ninekeys_ops::files::{self, Access, Taken};
use ninekeys_ops::{Ctx, FileError};
use schemars::JsonSchema;
use serde::Serialize;

use crate::arguments::Cli;
use crate::failure::{Exit, Failure};
use crate::output::{Line, Output, Paper, Report, words};

/// Write the manual pages into a folder
///
/// Writes the manual pages, one a command, into a folder.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The folder, made if it is missing
    folder: PathBuf,
}

/// The pages that were written.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct ManualReport {
    /// The folder.
    folder: String,
    /// The files in it.
    pages: Vec<String>,
}

impl Report for ManualReport {
    const SCHEMA: &'static str = "ninekeys.manual/1";

    fn text(&self, paper: &mut Paper<'_>) -> io::Result<()> {
        paper.put(&Line::new().text(format!("{} in {}", words::count(self.pages.len(), "page"), self.folder)))
    }
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let folder = ctx.path(&args.folder);
    let mut command = Cli::command();
    command.build();
    let mut pages = Vec::new();
    let written = files::make_folder(&folder).and_then(|()| write(&command, "ninekeys", &folder, &mut pages));
    written.map_err(|error| Failure::of("write the manual pages", &error))?;
    out.emit(&ManualReport { folder: args.folder.display().to_string(), pages });
    Ok(Exit::Done)
}

/// Writes the page of a command and of everything below it.
fn write(
    command: &clap::Command,
    name: &str,
    folder: &Path,
    pages: &mut Vec<String>,
) -> Result<(), FileError> {
    let file = format!("{name}.1");
    let path = folder.join(&file);
    let mut page = Vec::new();
    let rendered = Man::new(command.clone()).title(name.to_uppercase()).render(&mut page);
    rendered.map_err(|cause: io::Error| FileError::new("written", &path, cause))?;
    files::write_whole(&path, &page, Access::Usual, Taken::Replace)?;
    pages.push(file);
    let mut below = command.get_subcommands();
    below.try_for_each(|sub| write(sub, &format!("{name}-{}", sub.get_name()), folder, pages))
}
