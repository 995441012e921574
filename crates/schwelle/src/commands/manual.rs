//! `schwelle manual`

use std::io;
use std::path::{Path, PathBuf};

use clap::Args;

use crate::error::{CliError, Kind};
use crate::screen::Screen;
use crate::text::typed;

/// Write the manual pages, one for each command
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  schwelle manual /usr/local/share/man/man1\n  schwelle manual pages; man -l pages/schwelle-check.1"
)]
pub(crate) struct ManualArgs {
    /// Folder for the pages; those of an earlier version are replaced
    dir: PathBuf,
}

/// `program` is the command line as a whole.
pub(crate) fn run(
    args: &ManualArgs,
    program: clap::Command,
    screen: &Screen,
) -> Result<u8, CliError> {
    let mut program = program.disable_help_subcommand(true);
    // Commands learn the options of every command, and their whole names.
    program.build();
    let mut count = 0;
    std::fs::create_dir_all(&args.dir)
        .and_then(|()| write(&program, &args.dir, &mut count))
        .map_err(|error| {
            CliError::new(
                Kind::Unchanged,
                format!("{}: {error}", args.dir.display()),
                "The pages were not all written.",
                "Name a folder that can be written and has space.",
            )
        })?;
    let first = typed(&args.dir.join("schwelle.1"));
    screen.show(&format!(
        "{count} pages written. To read the first: man -l {first}\n"
    ));
    Ok(0)
}

/// The page of a command, and those of the commands below it.
fn write(command: &clap::Command, dir: &Path, count: &mut usize) -> io::Result<()> {
    let name = command
        .get_display_name()
        .unwrap_or_else(|| command.get_name());
    let mut page = Vec::new();
    clap_mangen::Man::new(command.clone())
        .title(name)
        .render(&mut page)?;
    std::fs::write(dir.join(format!("{name}.1")), page)?;
    *count += 1;
    for below in command
        .get_subcommands()
        .filter(|below| !below.is_hide_set())
    {
        write(below, dir, count)?;
    }
    Ok(())
}
