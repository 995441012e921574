//! `schwelle`: takes a PC's system disk over the threshold from BIOS to UEFI.
//!
//! A command is one file in `commands/`: its arguments, and the function that runs it. What is
//! shown is in `views/`; how an error becomes a sentence and an exit code is in `error.rs`.

mod cli;
mod commands;
mod disk;
mod document;
mod emulate;
mod error;
mod events;
#[doc(hidden)]
pub mod hostile;
mod linux;
mod machine;
mod many;
mod options;
mod policy;
mod progress;
mod random;
mod screen;
mod sizes;
mod text;
mod unlock;
mod views;
mod which;
mod words;

use std::process::ExitCode;

use clap::Parser;

/// The program: reads the command line, and does what it says.
pub fn run() -> ExitCode {
    unlock::take_variable();
    let cli = cli::Cli::parse();
    let screen = screen::Screen::new(&cli.common);
    match cli::run(cli.command, &screen) {
        Ok(code) => ExitCode::from(code),
        Err(error) => {
            screen.error(&error);
            ExitCode::from(error.exit_code())
        }
    }
}
