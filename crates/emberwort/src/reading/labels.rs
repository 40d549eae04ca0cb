//! Files with texts beside nodes and values.

use std::path::Path;
use std::sync::Arc;

use anyhow::{Context, anyhow};
use emberwort_capture::labels::Labels;
use emberwort_model::Plan;

use crate::project::read_limited;

/// Reads such a file, if there is one.
pub fn read(path: Option<&Path>, plan: &Plan) -> anyhow::Result<Option<Arc<Labels>>> {
    let Some(path) = path else { return Ok(None) };
    let shown = crate::files::shown(path);
    let bytes = read_limited(path).with_context(|| format!("the labels {shown} cannot be read"))?;
    let labels = Labels::read(&bytes).and_then(|labels| labels.check(plan).map(|()| labels));
    let labels = labels.map_err(|problem| anyhow!("{shown}, {problem}"))?;
    Ok(Some(Arc::new(labels)))
}
