//! The `emberwort` command: reads arguments, calls the libraries, shows what came of it.

mod cli;
mod commands;
mod fleet;
mod output;
mod project;
mod render;
mod revisions;

use std::process::ExitCode;

use clap::Parser;

use cli::Cli;

fn main() -> ExitCode {
    let cli = Cli::parse();
    let look = output::Look::new(cli.color);
    match commands::run(cli, look) {
        Ok(commands::Ending::Clean) => ExitCode::SUCCESS,
        Ok(commands::Ending::WithFindings) => ExitCode::from(1),
        // Nobody reads the output any longer, as with `| head`: nothing to complain about.
        Err(error) if output::is_broken_pipe(&error) => ExitCode::SUCCESS,
        Err(error) => {
            output::print_error(&error, look);
            ExitCode::from(2)
        }
    }
}
