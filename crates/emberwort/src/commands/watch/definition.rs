//! The definition, which may change while it is watched: the last good one counts.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant, SystemTime};

use emberwort_model::Plan;
use emberwort_model::diagnostics::{Finding, escaped};

use crate::output::Look;
use crate::project::{load_plan_of, read_definition};

/// How often it is looked whether the file was saved.
const LOOK_EVERY: Duration = Duration::from_millis(300);

pub struct Definition {
    path: PathBuf,
    plan: Arc<Plan>,
    /// What the saved file is like: when it was changed, and its size.
    saved: Option<(SystemTime, u64)>,
    looked: Instant,
    /// What is wrong with the file as it is saved; the plan is then an earlier one.
    pub problem: Option<String>,
}

fn state(path: &Path) -> Option<(SystemTime, u64)> {
    let metadata = fs::metadata(path).ok()?;
    Some((metadata.modified().ok()?, metadata.len()))
}

impl Definition {
    /// Reads a definition, which must be good at first.
    pub fn load(path: &Path, look: Look) -> anyhow::Result<Self> {
        let plan = load_plan_of(path, look)?;
        let saved = state(path);
        Ok(Self { path: path.to_owned(), plan, saved, looked: Instant::now(), problem: None })
    }

    /// The last good one.
    pub fn plan(&self) -> &Arc<Plan> {
        &self.plan
    }

    /// Reads it again if it was saved. Returns whether there is another good one.
    pub fn reload(&mut self) -> bool {
        if self.looked.elapsed() < LOOK_EVERY {
            return false;
        }
        self.looked = Instant::now();
        let now = state(&self.path);
        if now == self.saved {
            return false;
        }
        self.saved = now;
        match read_definition(&self.path) {
            Ok(checked) => match checked.plan {
                Some(plan) => {
                    (self.plan, self.problem) = (Arc::new(plan), None);
                    return true;
                }
                None => {
                    let first = checked.findings.iter().find(|finding| Finding::is_error(finding));
                    let said = first.map(|finding| {
                        format!("{}: {}", checked.sources.place(finding.span), escaped(&finding.message))
                    });
                    self.problem = Some(said.unwrap_or_else(|| "the definition has errors".to_owned()));
                }
            },
            Err(error) => self.problem = Some(escaped(&error.to_string())),
        }
        false
    }
}
