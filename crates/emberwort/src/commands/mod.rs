//! One module for each command: arguments in, calls, output.

mod budget;
mod check;
mod checksum;
mod compare;
mod decode;
mod demo;
mod encode;
mod generate;
mod inputs;
mod layout;
mod new;
mod seal;
pub mod shell;
mod speakers;
mod stats;
mod tidy;
mod trial;
mod value;

use std::path::Path;

use anyhow::bail;
use emberwort_model::Plan;
use emberwort_model::diagnostics::{escaped, nearest};

use crate::cli::{Cli, Command};
use crate::output::Look;

/// How a command that could be done ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Ending {
    /// Nothing to complain about.
    Clean,
    /// Done, but something was found.
    WithFindings,
}

/// Runs the command.
pub fn run(cli: Cli, look: Look) -> anyhow::Result<Ending> {
    let link = cli.link.as_deref();
    match cli.command {
        Command::New(args) => new::run(&args, look),
        Command::Check(args) => check::run(&args, link, look),
        Command::Tidy(args) => tidy::run(&args, link, look),
        Command::Layout(args) => layout::run(&args, link, look),
        Command::Budget(args) => budget::run(&args, link, look),
        Command::Value(args) => value::run(&args, link, look),
        Command::Seal(args) => seal::run(&args, link, look),
        Command::Compare(args) => compare::run(&args, link, look),
        Command::Encode(args) => encode::run(&args, link, look),
        Command::Decode(args) => decode::run(&args, link, look),
        Command::Stats(args) => stats::run(&args, link, look),
        Command::Checksum(args) => checksum::run(&args, link, look),
        Command::Generate(args) => generate::run(&args, link, look),
        Command::Trial(args) => trial::run(&args, link, look),
        Command::Completions(args) => shell::completions(&args),
        Command::Man(args) => shell::man(&args),
        Command::Demo(args) => demo::run(&args, look),
    }
}

/// A definition file that stands before or among names, as in `layout pump.ember`, and the names.
pub fn with_definition(names: &[String]) -> (Option<&Path>, Vec<&str>) {
    let is_file = |name: &&str| name.ends_with(".ember");
    let file = names.iter().map(String::as_str).find(is_file).map(Path::new);
    (file, names.iter().map(String::as_str).filter(|name| !is_file(name) || file != Some(Path::new(name))).collect())
}

/// The index of a message by name.
pub fn message_index(plan: &Plan, name: &str) -> anyhow::Result<usize> {
    let names = || plan.messages.iter().map(|plan| plan.message.name.as_str());
    match plan.message_index(name) {
        Some(index) => Ok(index),
        None => bail!("{}", unknown("message", name, names().collect())),
    }
}

/// The index of a channel by name.
pub fn channel_index(plan: &Plan, name: &str) -> anyhow::Result<usize> {
    match plan.channel_index(name) {
        Some(index) => Ok(index),
        None => {
            let names = plan.channels.iter().map(|channel| channel.name.as_str()).collect();
            bail!("{}", unknown("channel", name, names))
        }
    }
}

fn unknown(what: &str, name: &str, known: Vec<&str>) -> String {
    let name_shown = escaped(name);
    match nearest(name, known.iter().copied()) {
        Some(near) => format!("there is no {what} `{name_shown}`; did you mean `{near}`?"),
        None => format!("there is no {what} `{name_shown}`; this link has {}", known.join(", ")),
    }
}
