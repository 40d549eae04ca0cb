//! Names that the shell completes: those of the project's definition, its trials and sealed revisions, and the checksums.
//!
//! Where there is no definition, or one with errors, nothing is offered; nothing is ever said.

use std::ffi::OsStr;
use std::path::Path;

use clap::builder::StyledStr;
use clap_complete::engine::{ArgValueCompleter, CompletionCandidate, PathCompleter};
use emberwort_model::Plan;
use emberwort_model::algorithm::Algorithm;
use emberwort_model::diagnostics::escaped;

use crate::project::{Project, read_definition};
use crate::reading::revisions;

/// Channels of the link.
pub fn channels() -> ArgValueCompleter {
    ArgValueCompleter::new(|current: &OsStr| starting(current, of_link(channels_of)))
}

/// Channels of the link, and definition files.
pub fn channels_or_files() -> ArgValueCompleter {
    ArgValueCompleter::new(|current: &OsStr| with_definitions(current, of_link(channels_of)))
}

/// Messages of the link.
pub fn messages() -> ArgValueCompleter {
    ArgValueCompleter::new(|current: &OsStr| starting(current, of_link(messages_of)))
}

/// Messages of the link, and definition files.
pub fn messages_or_files() -> ArgValueCompleter {
    ArgValueCompleter::new(|current: &OsStr| with_definitions(current, of_link(messages_of)))
}

/// Sealed revisions, and definition files.
pub fn revisions_or_files() -> ArgValueCompleter {
    ArgValueCompleter::new(|current: &OsStr| with_definitions(current, sealed()))
}

/// Sealed revisions.
pub fn revisions() -> ArgValueCompleter {
    ArgValueCompleter::new(|current: &OsStr| starting(current, sealed()))
}

/// Checksums of the catalogue.
pub fn checksums() -> ArgValueCompleter {
    ArgValueCompleter::new(|current: &OsStr| {
        starting(current, Algorithm::names().map(|name| (name.to_owned(), String::new())).collect())
    })
}

/// Files that end so.
pub fn files(end: &'static str) -> ArgValueCompleter {
    ArgValueCompleter::new(
        PathCompleter::file().filter(move |path| path.is_dir() || path.extension() == Some(OsStr::new(end))),
    )
}

type Named = Vec<(String, String)>;

fn starting(current: &OsStr, names: Named) -> Vec<CompletionCandidate> {
    let current = current.to_string_lossy();
    let fitting = names.into_iter().filter(|(name, _)| name.starts_with(&*current));
    fitting
        .map(|(name, what)| {
            let help = (!what.is_empty()).then(|| StyledStr::from(escaped(&what)));
            CompletionCandidate::new(name).help(help)
        })
        .collect()
}

fn with_definitions(current: &OsStr, names: Named) -> Vec<CompletionCandidate> {
    let mut all = starting(current, names);
    all.extend(files("ember").complete(current));
    all
}

/// Names of the project's link, each with a few words.
fn of_link(names: impl Fn(&Plan) -> Named) -> Named {
    let given = std::env::var_os("EMBERWORT_LINK");
    let Ok(project) = Project::find(given.as_deref().map(Path::new)) else { return Vec::new() };
    let plan = read_definition(&project.definition).ok().and_then(|checked| checked.plan);
    plan.as_ref().map_or_else(Vec::new, names)
}

fn channels_of(plan: &Plan) -> Named {
    plan.channels.iter().map(|channel| (channel.name.clone(), first_line(&channel.doc))).collect()
}

fn messages_of(plan: &Plan) -> Named {
    plan.link.messages.iter().map(|message| (message.name.clone(), first_line(&message.doc))).collect()
}

fn sealed() -> Named {
    let given = std::env::var_os("EMBERWORT_LINK");
    let Ok(project) = Project::find(given.as_deref().map(Path::new)) else { return Vec::new() };
    let plan = read_definition(&project.definition).ok().and_then(|checked| checked.plan);
    let history = plan.and_then(|plan| revisions::history(&project.definition, &plan.link.name).ok());
    let sealed = history.map_or_else(Vec::new, |history| history.revisions);
    sealed.into_iter().map(|one| (format!("r{}", one.revision), one.note)).collect()
}

fn first_line(doc: &str) -> String {
    doc.lines().next().unwrap_or_default().to_owned()
}
