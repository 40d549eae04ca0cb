//! The `emberwort` command: reads arguments, calls the libraries, shows what came of it.

mod cli;
mod commands;
mod ending;
mod files;
mod interrupt;
mod lines;
mod output;
mod project;
mod reading;
mod render;

use std::io::{ErrorKind, Write};
use std::process::ExitCode;

use clap::Parser;

use cli::Cli;

fn main() -> ExitCode {
    match commands::shell::complete() {
        Ok(false) => {}
        Ok(true) => return ExitCode::SUCCESS,
        Err(error) => return explained(&error),
    }
    let words = match reading::wires::expanded(std::env::args_os().collect()) {
        Ok(words) => words,
        Err(error) => {
            output::print_error(&error, output::Look::new(output::ColorChoice::Auto));
            return ExitCode::from(2);
        }
    };
    let cli = match Cli::try_parse_from(words) {
        Ok(cli) => cli,
        Err(error) => return explained(&error),
    };
    let look = output::Look::new(cli.color);
    interrupt::watch();
    match commands::run(cli, look) {
        Ok(_) if interrupt::cut_short() => ExitCode::from(interrupt::EXIT_CODE),
        Ok(ending::Ending::Clean) => ExitCode::SUCCESS,
        Ok(ending::Ending::WithFindings) => ExitCode::from(1),
        // Nobody reads the output any longer, as with `| head`: nothing to complain about.
        Err(error) if output::is_broken_pipe(&error) => ExitCode::SUCCESS,
        Err(error) => {
            output::print_error(&error, look);
            ExitCode::from(if interrupt::came() { interrupt::EXIT_CODE } else { 2 })
        }
    }
}

/// Shows help, or why the arguments cannot be understood.
fn explained(error: &clap::Error) -> ExitCode {
    let shown = error.print().and_then(|()| std::io::stdout().flush());
    if error.use_stderr() {
        return ExitCode::from(2);
    }
    match shown {
        Ok(()) if !emberwort_startup::stdout_was_closed() => ExitCode::SUCCESS,
        Err(problem) if problem.kind() == ErrorKind::BrokenPipe => ExitCode::SUCCESS,
        Ok(()) => ExitCode::from(2),
        Err(problem) => {
            output::say!("error: the help cannot be written: {problem}");
            ExitCode::from(2)
        }
    }
}
