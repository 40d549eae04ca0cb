//! Trial files.

use std::path::Path;
use std::sync::Arc;

use anyhow::{Context, anyhow};
use emberwort_link::{Revisions, Scenario};
use emberwort_model::Plan;
use emberwort_model::Source;
use emberwort_model::diagnostics::escaped;

use super::recordings;
use crate::project::read_text;

/// A trial file that was read.
pub struct Trial {
    /// Its text.
    pub text: String,
    pub scenario: Scenario,
}

/// Reads a trial file, and the files that it names: they lie beside it. Another seed may replace its own.
pub fn read(path: &Path, plan: &Arc<Plan>, revisions: &Revisions, seed: Option<u64>) -> anyhow::Result<Trial> {
    let shown = crate::files::shown(path);
    let text = read_text(path).with_context(|| format!("the trial {shown} cannot be read"))?;
    let scenario = parse(path, &text, plan, revisions).map_err(|error| {
        let place = error.place(&text).map(|place| excerpt(&shown, &text, place.start)).unwrap_or_default();
        anyhow!("{error}{place}").context(format!("the trial {shown} cannot be used"))
    });
    let mut scenario = scenario?;
    recordings::load(path, plan, &mut scenario)?;
    scenario.seed = seed.unwrap_or(scenario.seed);
    Ok(Trial { text, scenario })
}

/// Reads the text of a trial as if it stood at a path.
pub fn parse(
    path: &Path,
    text: &str,
    plan: &Arc<Plan>,
    revisions: &Revisions,
) -> Result<Scenario, emberwort_link::ScenarioError> {
    let beside = |name: &str| {
        let path = path.parent().unwrap_or(Path::new("")).join(name);
        read_text(&path).map_err(|error| error.to_string())
    };
    Scenario::parse_with(text, plan, revisions, &beside)
}

/// The line of a text in which an offset lies, with its place.
fn excerpt(name: &str, text: &str, offset: usize) -> String {
    let (line, column) = Source::new(name, text).line_column(offset);
    let shown = escaped(text.lines().nth(line - 1).unwrap_or_default());
    format!("\n  {name}:{line}:{column}\n  {line} | {shown}")
}
