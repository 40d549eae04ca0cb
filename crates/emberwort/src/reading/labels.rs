//! Files with texts beside nodes and values.

use std::path::Path;

use anyhow::{Context, anyhow};
use emberwort_capture::labels::Labels;
use emberwort_model::Plan;

use crate::project::read_limited;

/// Reads such a file, if there is one. Its texts are kept to the end of the program.
pub fn read(path: Option<&Path>, plan: &Plan) -> anyhow::Result<Option<&'static Labels>> {
    let Some(path) = path else { return Ok(None) };
    let shown = crate::files::shown(path);
    let bytes = read_limited(path).with_context(|| format!("the labels {shown} cannot be read"))?;
    let labels = Labels::read(&bytes).and_then(|labels| labels.check(plan).map(|()| labels));
    let labels = labels.map_err(|problem| anyhow!("{shown}, {problem}"))?;
    Ok(Some(Box::leak(Box::new(labels))))
}
