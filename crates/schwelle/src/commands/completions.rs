//! `schwelle completions`

use clap::Args;
use clap_complete::Shell;

use crate::error::CliError;
use crate::screen::Screen;

/// Print what a shell needs to complete this program's commands and options
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  schwelle completions bash > /etc/bash_completion.d/schwelle\n  schwelle completions fish > \
        ~/.config/fish/completions/schwelle.fish"
)]
pub(crate) struct CompletionsArgs {
    /// The shell
    #[arg(value_enum)]
    shell: Shell,
}

/// `program` is the command line as a whole.
pub(crate) fn run(
    args: &CompletionsArgs,
    mut program: clap::Command,
    screen: &Screen,
) -> Result<u8, CliError> {
    let mut script = Vec::new();
    clap_complete::generate(args.shell, &mut program, "schwelle", &mut script);
    screen.show(&String::from_utf8_lossy(&script));
    Ok(0)
}
