//! `completions` and `man`: for the shell.

use std::io::Write;

use clap::CommandFactory;

use super::Ending;
use crate::cli::{Cli, CompletionsArgs, ManArgs};
use crate::files::{self, Replace};
use crate::output::{self};

pub fn completions(args: &CompletionsArgs) -> anyhow::Result<Ending> {
    let mut script = Vec::new();
    clap_complete::generate(args.shell, &mut Cli::command(), "emberwort", &mut script);
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
