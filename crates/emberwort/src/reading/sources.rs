//! What arguments and a `[[source]]` of `emberwort.toml` say of inputs: their form, and whose packets are whose.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use anyhow::{Context, bail};
use clap::{Args, FromArgMatches};
use emberwort_capture::assign::Rule;
use emberwort_capture::records::{BytesForm, CellKind, Columns, Forms, Pattern, Pointers, Shape, TimeForm};
use emberwort_model::Plan;
use emberwort_model::diagnostics::{escaped, nearest};
use emberwort_model::ids::ChannelId;

use super::names::channel_index;
use crate::cli::{BytesAs, InputArgs, TextArgs, TimeAs};
use crate::project::{Project, SourceEntry, option_words};

/// How inputs are read.
#[derive(Clone, Debug)]
pub struct Settings {
    pub args: InputArgs,
    pub plan: Arc<Plan>,
    /// The channel that the user says.
    pub on: Option<ChannelId>,
    /// Text with records, if it is that.
    pub records: Option<(Shape, Forms)>,
    pub rules: Vec<Rule>,
    /// Nodes of devices by their names.
    pub nodes: HashMap<String, u64>,
}

impl Settings {
    /// What the arguments say, and the source that they name.
    pub fn of(args: &InputArgs, link: Option<&Path>, plan: &Arc<Plan>) -> anyhow::Result<Self> {
        let mut args = args.clone();
        let mut source_rules = Vec::new();
        if let Some(name) = args.source.clone() {
            let (folder, entry) = entry(&name, link)?;
            let source = entry_args(&entry).with_context(|| format!("the source `{}`", escaped(&name)))?;
            source_rules = source.assign.clone();
            if args.inputs.is_empty() && args.hex.is_none() {
                args.inputs = entry.files.iter().map(|file| folder.join(file)).collect();
                if args.inputs.is_empty() {
                    bail!(
                        "the source `{}` names no files; give them here, or as files = [\"log.txt\"]",
                        escaped(&name)
                    );
                }
            }
            overlay(&mut args, source);
        }
        let on = args.on.as_deref().map(|name| channel_index(plan, name)).transpose()?;
        // Columns of a waveform are signals.
        let records = if args.wave.wire.is_empty() { records(&args.records)? } else { None };
        let rules = args.assign.iter().chain(&source_rules).map(|text| {
            Rule::parse(text, plan).map_err(|problem| anyhow::anyhow!("--assign '{}': {problem}", escaped(text)))
        });
        let rules = rules.collect::<anyhow::Result<_>>()?;
        Ok(Self { args, plan: plan.clone(), on, records, rules, nodes: HashMap::new() })
    }
}

/// The entry of a source, and the folder that its files are relative to.
fn entry(name: &str, link: Option<&Path>) -> anyhow::Result<(PathBuf, SourceEntry)> {
    let project = Project::find(link)?;
    let Some((folder, file)) = project.file else {
        bail!("--source names a [[source]] of emberwort.toml, and none is read here");
    };
    let names: Vec<&str> = file.source.iter().map(|source| source.name.as_str()).collect();
    if let Some(found) = file.source.iter().find(|source| source.name == name) {
        return Ok((folder, found.clone()));
    }
    let near =
        nearest(name, names.iter().copied()).map_or_else(String::new, |near| format!("; did you mean `{near}`?"));
    match names.as_slice() {
        [] => bail!("emberwort.toml has no [[source]]"),
        _ => bail!("emberwort.toml has no source `{}`{near}; it has {}", escaped(name), names.join(", ")),
    }
}

/// The options of an entry, read as if they stood on the command line.
fn entry_args(entry: &SourceEntry) -> anyhow::Result<InputArgs> {
    let mut words = vec!["source".to_owned()];
    for (key, value) in &entry.options {
        if matches!(key.as_str(), "hex" | "source" | "inputs" | "follow") {
            bail!("`{key}` is not an option of a source");
        }
        words.extend(option_words(key, value)?);
    }
    let command = InputArgs::augment_args(clap::Command::new("source").disable_help_flag(true));
    let read = command.try_get_matches_from(words).and_then(|matches| InputArgs::from_arg_matches(&matches));
    read.map_err(|error| {
        let text = error.to_string();
        let first = text.lines().next().unwrap_or_default().trim_start_matches("error: ").to_owned();
        anyhow::anyhow!("{first}; it takes the options of decode without the dashes, as lines = \"{{time}} {{bytes}}\"")
    })
}

/// Takes from a source what was not given by itself.
fn overlay(args: &mut InputArgs, source: InputArgs) {
    let InputArgs { on, from, key, form, records, .. } = source;
    args.on = args.on.take().or(on);
    args.from = args.from.or(from);
    args.key = args.key.or(key);
    args.form = args.form.or(form);
    let own = &mut args.records;
    let is_said = own.lines.is_some() || own.columns.is_some() || own.bytes_at.is_some();
    let (bytes_as, time_as) = (own.bytes_as, own.time_as);
    if !is_said && args.form.is_none() {
        *own = records;
    }
    own.bytes_as = bytes_as.or(own.bytes_as);
    own.time_as = time_as.or(own.time_as);
}

fn records(args: &TextArgs) -> anyhow::Result<Option<(Shape, Forms)>> {
    let mut forms = Forms::default();
    let shape = if let Some(text) = &args.lines {
        let pattern = Pattern::parse(text, &mut forms);
        Shape::Lines(pattern.map_err(|problem| anyhow::anyhow!("--lines cannot be read: {problem}"))?)
    } else if let Some(text) = &args.columns {
        Shape::Table(Columns::parse(text).map_err(|problem| anyhow::anyhow!("--columns cannot be read: {problem}"))?)
    } else if args.bytes_at.is_some() {
        let pointers = [
            (CellKind::Bytes, &args.bytes_at),
            (CellKind::Time, &args.time_at),
            (CellKind::Port, &args.port_at),
            (CellKind::CanId, &args.can_id_at),
            (CellKind::Channel, &args.channel_at),
            (CellKind::Direction, &args.direction_at),
            (CellKind::Device, &args.device_at),
        ];
        let pointers = pointers.into_iter().filter_map(|(what, pointer)| Some((what, pointer.clone()?)));
        Shape::Json(Pointers::new(pointers.collect()).map_err(|problem| anyhow::anyhow!(problem))?)
    } else if args.bytes_as.is_some() || args.time_as.is_some() {
        bail!("--bytes-as and --time-as are for text with a record in each line: --lines, --columns or --bytes-at");
    } else {
        return Ok(None);
    };
    match args.bytes_as {
        Some(BytesAs::Base64) => forms.bytes = BytesForm::Base64,
        Some(BytesAs::Hex) => forms.bytes = BytesForm::Hex,
        None => {}
    }
    match args.time_as {
        Some(TimeAs::S) => forms.time = TimeForm::Text,
        Some(TimeAs::Ms) => forms.time = TimeForm::Milliseconds,
        Some(TimeAs::Us) => forms.time = TimeForm::Microseconds,
        Some(TimeAs::Ns) => forms.time = TimeForm::Nanoseconds,
        None => {}
    }
    Ok(Some((shape, forms)))
}
