//! The commands, one file each.

mod carry_out;
pub(crate) mod check;
pub(crate) mod completions;
pub(crate) mod confirm;
pub(crate) mod convert;
pub(crate) mod demo;
pub(crate) mod firmware;
pub(crate) mod manual;
pub(crate) mod mend;
pub(crate) mod plan;
mod recover;
pub(crate) mod rehearse;
pub(crate) mod report;
pub(crate) mod resume;
pub(crate) mod rules;
pub(crate) mod survey;
pub(crate) mod undo;

use crate::cli::Command;
use crate::error::CliError;
use crate::screen::Screen;

/// What the program says where no command is named.
const GREETING: &str = "\
Schwelle takes a PC's system disk from BIOS to UEFI, and back: checked, drafted
and rehearsed before a byte is written, and saved so that it can be taken back.

  1. Which disks are there?          schwelle survey
  2. What stands against it?         schwelle check DISK
  3. What would be written where?    schwelle plan DISK

To see all of it on made-up disks: schwelle demo my-demo
All commands: schwelle --help
";

/// Runs a command; the exit code where it did its work.
pub(crate) fn run(command: Option<Command>, screen: &Screen) -> Result<u8, CliError> {
    let Some(command) = command else {
        screen.show(GREETING);
        return Ok(0);
    };
    match command {
        Command::Survey(args) => survey::run(&args, screen),
        Command::Check(args) => check::run(&args, screen),
        Command::Rules(args) => rules::run(&args, screen),
        Command::Plan(args) => plan::run(&args, screen),
        Command::Convert(args) => convert::run(&args, screen),
        Command::Mend(args) => mend::run(&args, screen),
        Command::Rehearse(args) => rehearse::run(&args, screen),
        Command::Confirm(args) => confirm::run(&args, screen),
        Command::Firmware(args) => firmware::run(&args, screen),
        Command::Resume(args) => resume::run(&args, screen),
        Command::Undo(args) => undo::run(&args, screen),
        Command::Report(args) => report::run(&args, screen),
        Command::Demo(args) => demo::run(&args, screen),
        Command::Completions(args) => completions::run(&args, screen),
        Command::Manual(args) => manual::run(&args, screen),
    }
}
