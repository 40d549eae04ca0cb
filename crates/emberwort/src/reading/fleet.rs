//! Fleet files: which device has which revision.

use std::collections::{HashMap, HashSet};
use std::path::Path;

use anyhow::{Context, bail};
use emberwort_model::diagnostics::escaped;
use serde::Deserialize;

use crate::project::read_limited;

/// A device of a fleet.
#[derive(Clone, Debug)]
pub struct Unit {
    /// Its name.
    pub device: String,
    /// Its node, if the file says it: in a column of its own, or as the device's name.
    pub node: Option<u64>,
    /// The revision that it has.
    pub revision: u32,
    /// Whether it can never be updated.
    pub is_fixed: bool,
    /// The definition that it has for itself or with its group, as `--device` names one; `None` if it has that of its revision.
    pub definition: Option<String>,
}

/// The devices of a file.
#[derive(Clone, Debug, Default)]
pub struct Fleet {
    /// Those that it names.
    pub units: Vec<Unit>,
    /// The definition of all others.
    pub default: Option<String>,
}

/// In place of a device's name: all of its group, or all devices if there is no group, that say nothing else.
const ALL: &str = "*";

#[derive(Deserialize)]
struct Line {
    device: String,
    #[serde(default)]
    node: Option<u64>,
    #[serde(default)]
    group: Option<String>,
    revision: Option<u32>,
    #[serde(default)]
    update: Option<String>,
    #[serde(default)]
    definition: Option<String>,
}

/// Reads a fleet file.
pub fn read(path: &Path) -> anyhow::Result<Fleet> {
    let shown = crate::files::shown(path);
    let bytes = read_limited(path).with_context(|| format!("the fleet file {shown} cannot be read"))?;
    // A file lies beside the fleet file; revisions and commits are named as they are everywhere.
    let named = |name: String| {
        let is_revision = name.strip_prefix('r').is_some_and(|number| number.parse::<u32>().is_ok());
        match is_revision || name.starts_with("git:") {
            true => name,
            false => path.parent().unwrap_or(Path::new("")).join(name).display().to_string(),
        }
    };
    let mut fleet = Fleet::default();
    let (mut of_groups, mut groups) = (HashMap::new(), Vec::new());
    let (mut devices, mut nodes) = (HashSet::new(), HashSet::new());
    let mut reader = csv::ReaderBuilder::new().trim(csv::Trim::All).from_reader(bytes.as_slice());
    for (index, line) in reader.deserialize().enumerate() {
        let number = index + 2;
        let line: Line = line.with_context(|| {
            format!(
                "{shown}: it has the columns device and revision, and maybe node, update, group and definition, as in\n\
                 device,node,revision,update\neast gate,3,2,no\n"
            )
        })?;
        let group = line.group.filter(|group| !group.is_empty());
        let definition = line.definition.filter(|name| !name.is_empty()).map(named);
        if line.device == ALL {
            let of = match &group {
                Some(group) => format!("the group {}", escaped(group)),
                None => "all devices".to_owned(),
            };
            let Some(definition) = definition else {
                bail!("{shown}, line {number}: it names no definition for {of}");
            };
            let before = match group {
                Some(group) => of_groups.insert(group, definition),
                None => fleet.default.replace(definition),
            };
            if before.is_some() {
                bail!("{shown}, line {number}: the definition of {of} stands there twice");
            }
            continue;
        }
        let Some(revision) = line.revision else {
            bail!("{shown}, line {number}: the device {} has no revision", escaped(&line.device));
        };
        if !devices.insert(line.device.clone()) {
            bail!("{shown}, line {number}: the device {} stands there twice", escaped(&line.device));
        }
        let is_fixed = match line.update.as_deref() {
            None | Some("" | "yes") => false,
            Some("no") => true,
            Some(other) => bail!("{shown}, line {number}: update is yes or no, not {}", escaped(other)),
        };
        let node = line.node.or_else(|| line.device.parse().ok());
        if let Some(node) = node.filter(|node| !nodes.insert(*node)) {
            bail!("{shown}, line {number}: the node {node} stands there twice");
        }
        fleet.units.push(Unit { device: line.device, node, revision, is_fixed, definition });
        groups.push(group);
    }
    for (unit, group) in fleet.units.iter_mut().zip(groups) {
        let of_group = || of_groups.get(&group?).cloned();
        unit.definition = unit.definition.take().or_else(of_group);
    }
    Ok(fleet)
}
