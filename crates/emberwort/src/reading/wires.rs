//! `--wires NAME`: the wires that `emberwort.toml` keeps under a name, put in place of it before the arguments are read.

use std::ffi::OsString;

use anyhow::{Context, bail};
use emberwort_model::diagnostics::escaped;

use crate::project::{Project, option_words};

const OPTION: &str = "--wires";

/// The words of a command line, with the options of the wires in place of their name. What the command line says itself, counts.
///
/// # Errors
/// If there are no such wires.
pub fn expanded(words: Vec<OsString>) -> anyhow::Result<Vec<OsString>> {
    let is_named = |word: &OsString| word.to_str().is_some_and(|word| word == OPTION || word.starts_with("--wires="));
    let Some(at) = words.iter().position(is_named) else { return Ok(words) };
    let (name, length) = match words[at].to_str().and_then(|word| word.split_once('=')) {
        Some((_, name)) => (name.to_owned(), 1),
        None => match words.get(at + 1).and_then(|word| word.to_str()) {
            Some(name) => (name.to_owned(), 2),
            None => return Ok(words),
        },
    };
    let project = Project::find(None)?;
    let all = project.file.map_or(Vec::new(), |(_, file)| file.wires);
    let Some(entry) = all.iter().find(|entry| entry.name == name) else {
        let names: Vec<&str> = all.iter().map(|entry| entry.name.as_str()).collect();
        match names.as_slice() {
            [] => bail!("--wires {}: emberwort.toml keeps no [[wires]]", escaped(&name)),
            names => bail!("--wires {}: emberwort.toml has the wires {}", escaped(&name), escaped(&names.join(", "))),
        }
    };
    let is_said =
        |option: &str| words.iter().filter_map(|word| word.to_str()).any(|word| word.split('=').next() == Some(option));
    let mut options = Vec::new();
    for (key, value) in &entry.options {
        let said = option_words(key, value).with_context(|| format!("the wires `{}`", escaped(&name)))?;
        options.extend(said.into_iter().filter(|word| !is_said(word.split('=').next().unwrap_or(""))));
    }
    let mut found = words[..at].to_vec();
    found.extend(options.into_iter().map(OsString::from));
    found.extend_from_slice(&words[at + length..]);
    Ok(found)
}
