//! `check`: reports what is wrong in definitions.

use std::io::Write;
use std::path::{Path, PathBuf};

use super::Ending;
use crate::cli::CheckArgs;
use crate::output::{self, Look};
use crate::project::{Project, read_definition};
use crate::render::{findings, plural};

pub fn run(args: &CheckArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Ending> {
    let files: Vec<PathBuf> =
        if args.files.is_empty() { vec![Project::find(link)?.definition] } else { args.files.clone() };
    let mut out = output::stdout();
    let mut ending = Ending::Clean;
    for file in &files {
        let definition = read_definition(file)?;
        let found = &definition.checked.findings;
        out.write_all(findings::render(&definition.source, found, look.out).as_bytes())?;
        let errors = found.iter().filter(|finding| finding.is_error()).count();
        let warnings = found.len() - errors;
        let mut parts = Vec::new();
        if errors > 0 {
            parts.push(plural(errors, "error"));
            ending = Ending::WithFindings;
        }
        if warnings > 0 {
            parts.push(plural(warnings, "warning"));
        }
        if found.is_empty() {
            parts.push("no findings".into());
        }
        let mut line = format!("{}: {}", file.display(), parts.join(", "));
        if let Some(plan) = &definition.checked.plan {
            line.push_str(&format!(
                " ({} revision {}: {}, {})",
                plan.link.name,
                plan.link.revision,
                plural(plan.messages.len(), "message"),
                plural(plan.channels.len(), "channel")
            ));
        }
        writeln!(out, "{line}")?;
    }
    out.flush()?;
    Ok(ending)
}
