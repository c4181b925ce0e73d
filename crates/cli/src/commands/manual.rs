//! `ninekeys manual`

use std::io;
use std::path::{Path, PathBuf};

use clap::CommandFactory;
use clap_mangen::Man;
use ninekeys_ops::files::{self, Access, Taken};
use ninekeys_ops::{Ctx, FileError};

use crate::arguments::Cli;
use crate::failure::{Exit, Failure};
use crate::output::{Line, Output};

/// Write the manual pages into a folder
///
/// Writes the manual pages, one a command, into a folder.
#[derive(Debug, clap::Args)]
pub(crate) struct Args {
    /// The folder, made if it is missing
    folder: PathBuf,
}

pub(crate) fn run(args: &Args, ctx: &Ctx<'_>, out: &mut Output) -> Result<Exit, Failure> {
    let folder = ctx.path(&args.folder);
    let mut command = Cli::command();
    command.build();
    let written = files::make_folder(&folder).and_then(|()| write(&command, "ninekeys", &folder));
    let pages = written.map_err(|error| Failure::of("write the manual pages", &error))?;
    let text = format!("{pages} pages in {}", args.folder.display());
    out.lines(&[Line::new().text(text)]);
    Ok(Exit::Done)
}

/// Writes the page of a command and of everything below it; returns how many there are.
fn write(command: &clap::Command, name: &str, folder: &Path) -> Result<usize, FileError> {
    let path = folder.join(format!("{name}.1"));
    let mut page = Vec::new();
    let rendered = Man::new(command.clone()).title(name.to_uppercase()).render(&mut page);
    rendered.map_err(|cause: io::Error| FileError::new("written", &path, cause))?;
    files::write_whole(&path, &page, Access::Usual, Taken::Replace)?;
    let below =
        command.get_subcommands().map(|sub| write(sub, &format!("{name}-{}", sub.get_name()), folder));
    below.sum::<Result<usize, FileError>>().map(|count| count + 1)
}
