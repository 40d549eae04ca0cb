//! `completions` and `man`: for the shell.

use std::io::Write;

use anyhow::bail;
use clap::CommandFactory;
use clap_complete::CompleteEnv;
use clap_complete::env::Shells;

use crate::cli::{Cli, CompletionsArgs, ManArgs};
use crate::ending::Ending;
use crate::files::{self, Replace};
use crate::output::{self};

/// The variable by which the script of `completions` asks for names.
const ASKS: &str = "EMBERWORT_COMPLETES";

/// Answers the shell if it asks for names that fit; whether it did.
///
/// # Errors
/// What it asks cannot be understood, or the answer cannot be written.
pub fn complete() -> Result<bool, clap::Error> {
    let folder = std::env::current_dir().ok();
    CompleteEnv::with_factory(Cli::command).var(ASKS).try_complete(std::env::args_os(), folder.as_deref())
}

pub fn completions(args: &CompletionsArgs) -> anyhow::Result<Ending> {
    let mut script = Vec::new();
    let shells = Shells::builtins();
    let name = args.shell.to_string();
    let Some(shell) = shells.completer(&name) else { bail!("there are no completions for {name}") };
    shell.write_registration(ASKS, "emberwort", "emberwort", "emberwort", &mut script)?;
    let mut out = output::stdout();
    out.write_all(&script)?;
    out.flush()?;
    Ok(Ending::Clean)
}

pub fn man(args: &ManArgs) -> anyhow::Result<Ending> {
    let mut command = Cli::command();
    command.build();
    let Some(folder) = &args.out else {
        let mut page = Vec::new();
        clap_mangen::Man::new(command).render(&mut page)?;
        let mut out = output::stdout();
        out.write_all(&page)?;
        out.flush()?;
        return Ok(Ending::Clean);
    };
    let mut pages = vec![("emberwort".to_owned(), command.clone())];
    for subcommand in command.get_subcommands().filter(|subcommand| subcommand.get_name() != "help") {
        pages.push((format!("emberwort-{}", subcommand.get_name()), subcommand.clone()));
    }
    for (name, command) in pages {
        let mut page = Vec::new();
        clap_mangen::Man::new(command).render(&mut page)?;
        files::write_file(&folder.join(format!("{name}.1")), &page, Replace::Generated(".TH emberwort"))?;
    }
    Ok(Ending::Clean)
}
