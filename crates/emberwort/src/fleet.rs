//! Fleet files: which device has which revision.

use std::collections::HashSet;
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
}

#[derive(Deserialize)]
struct Line {
    device: String,
    #[serde(default)]
    node: Option<u64>,
    revision: u32,
    #[serde(default)]
    update: Option<String>,
}

/// Reads a fleet file.
pub fn read(path: &Path) -> anyhow::Result<Vec<Unit>> {
    let shown = crate::files::shown(path);
    let bytes = read_limited(path).with_context(|| format!("the fleet file {shown} cannot be read"))?;
    let mut units = Vec::new();
    let (mut devices, mut nodes) = (HashSet::new(), HashSet::new());
    let mut reader = csv::ReaderBuilder::new().trim(csv::Trim::All).from_reader(bytes.as_slice());
    for (index, line) in reader.deserialize().enumerate() {
        let number = index + 2;
        let line: Line = line.with_context(|| {
            format!(
                "{shown}: it has the columns device and revision, and maybe node and update, as in\n\
                 device,node,revision,update\neast gate,3,2,no\n"
            )
        })?;
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
        units.push(Unit { device: line.device, node, revision: line.revision, is_fixed });
    }
    Ok(units)
}
