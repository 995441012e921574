//! The command line as a whole.

use clap::{CommandFactory, Parser, Subcommand};

use crate::commands;
use crate::error::CliError;
use crate::options::Common;
use crate::screen::Screen;
use crate::words::here::here;

/// Converts a PC's system disk from BIOS/MBR to UEFI/GPT, in place, or back: checks it, drafts the result,
/// rehearses its start, and only then writes.
#[derive(Debug, Parser)]
#[command(name = "schwelle", version, propagate_version = true)]
#[command(after_help = after_help())]
pub(crate) struct Cli {
    #[command(subcommand)]
    pub(crate) command: Option<Command>,
    #[command(flatten)]
    pub(crate) common: Common,
}

fn after_help() -> String {
    let disk = here().some_disk;
    format!(
        "\
Where to begin:
  schwelle demo my-demo            the whole job on made-up disks
  schwelle survey                  this PC's disks
  schwelle check {disk:<18}whether it can be converted

Exit codes:
  0  done, or no blocking issue
  1  a rule blocks, a rehearsal does not say \"starts\", or a confirmation says no
  2  wrong usage, or a question not answered
  3  disk or job folder not readable or writable; nothing changed on the disk
  4  stopped between first and last write: the disk needs resume or undo"
    )
}

/// What the program says where no command is named.
const GREETING: &str = "\
Schwelle converts a PC's system disk from BIOS/MBR to UEFI/GPT, in place, and
back. It checks, drafts and rehearses first; everything overwritten is saved.

  1. Which disks are there?          schwelle survey
  2. Can it be converted?            schwelle check DISK
  3. What would be written where?    schwelle plan DISK

To see all of it on made-up disks: schwelle demo my-demo
All commands: schwelle --help
";

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    Survey(commands::survey::SurveyArgs),
    Check(commands::check::CheckArgs),
    Rules(commands::rules::RulesArgs),
    Plan(commands::plan::PlanArgs),
    Convert(commands::convert::ConvertArgs),
    Mend(commands::mend::MendArgs),
    Rehearse(commands::rehearse::RehearseArgs),
    Confirm(commands::confirm::ConfirmArgs),
    Firmware(commands::firmware::FirmwareArgs),
    Resume(commands::resume::ResumeArgs),
    Undo(commands::undo::UndoArgs),
    Report(commands::report::ReportArgs),
    Demo(commands::demo::DemoArgs),
    Completions(commands::completions::CompletionsArgs),
    Manual(commands::manual::ManualArgs),
}

/// Runs a command; the exit code where it did its work.
pub(crate) fn run(command: Option<Command>, screen: &Screen) -> Result<u8, CliError> {
    let Some(command) = command else {
        screen.show(GREETING);
        return Ok(0);
    };
    match command {
        Command::Survey(args) => commands::survey::run(&args, screen),
        Command::Check(args) => commands::check::run(&args, screen),
        Command::Rules(args) => commands::rules::run(&args, screen),
        Command::Plan(args) => commands::plan::run(&args, screen),
        Command::Convert(args) => commands::convert::run(&args, screen),
        Command::Mend(args) => commands::mend::run(&args, screen),
        Command::Rehearse(args) => commands::rehearse::run(&args, screen),
        Command::Confirm(args) => commands::confirm::run(&args, screen),
        Command::Firmware(args) => commands::firmware::run(&args, screen),
        Command::Resume(args) => commands::resume::run(&args, screen),
        Command::Undo(args) => commands::undo::run(&args, screen),
        Command::Report(args) => commands::report::run(&args, screen),
        Command::Demo(args) => commands::demo::run(&args, screen),
        Command::Completions(args) => commands::completions::run(&args, Cli::command(), screen),
        Command::Manual(args) => commands::manual::run(&args, Cli::command(), screen),
    }
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    #[test]
    fn the_definitions_hold_together() {
        super::Cli::command().debug_assert();
    }

    #[test]
    fn every_command_says_what_it_does_and_shows_an_example() {
        fn look(command: &clap::Command, path: &str) {
            let path = format!("{path} {}", command.get_name());
            let text = |text: Option<&clap::builder::StyledStr>| text.map(ToString::to_string);
            assert!(text(command.get_about()).is_some(), "{path}");
            let after = text(command.get_after_help()).unwrap_or_default();
            assert!(
                after.contains("Example") && after.contains(path.trim_start()),
                "{path}: {after}"
            );
            for argument in command.get_arguments() {
                assert!(argument.get_help().is_some(), "{path}: {argument}");
            }
            command
                .get_subcommands()
                .for_each(|below| look(below, &path));
        }
        let program = super::Cli::command();
        program
            .get_subcommands()
            .for_each(|command| look(command, "schwelle"));
    }
}
