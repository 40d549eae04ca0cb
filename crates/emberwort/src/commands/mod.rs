//! One module for each command: arguments in, calls, output.

mod amend;
mod budget;
mod check;
mod checksum;
mod compare;
mod decode;
mod demo;
mod encode;
mod exchanges;
mod explain;
mod find;
mod generate;
mod import;
mod layout;
mod live;
mod new;
mod plot;
mod seal;
pub mod shell;
mod stats;
mod survey;
mod tables;
mod tidy;
mod timing;
mod trial;
mod value;
mod watch;
mod wave_plot;

use crate::cli::{Cli, Command};
use crate::ending::Ending;
use crate::output::Look;

/// Runs the command.
pub fn run(cli: Cli, look: Look) -> anyhow::Result<Ending> {
    let link = cli.link.as_deref();
    match cli.command {
        Command::New(args) => new::run(&args, look),
        Command::Import(args) => import::run(&args, look),
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
        Command::Find(args) => find::run(&args, link, look),
        Command::Survey(args) if args.on.is_some() => timing::run(&args, link, look),
        Command::Survey(args) => survey::run(&args, look),
        Command::Plot(args) => plot::run(&args, link, look),
        Command::Amend(args) => amend::run(&args, link, look),
        Command::Checksum(args) => checksum::run(&args, link, look),
        Command::Generate(args) => generate::run(&args, link, look),
        Command::Trial(args) => trial::run(&args, link, look),
        Command::Ports(args) => live::ports::run(&args),
        Command::Listen(args) => live::listen::run(&args, link, look),
        Command::Watch(args) => watch::run(&args, link, look),
        Command::Send(args) => live::send::run(&args, link, look),
        Command::Record(args) => live::record::run(&args, link, look),
        Command::Device(args) => live::device::run(&args, link, look),
        Command::Host(args) => live::host::run(&args, link, look),
        Command::Completions(args) => shell::completions(&args),
        Command::Man(args) => shell::man(&args),
        Command::Demo(args) => demo::run(&args, look),
    }
}
