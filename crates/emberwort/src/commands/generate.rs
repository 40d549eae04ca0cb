//! `generate`: code and test vectors.

use std::io::Write;
use std::path::{Path, PathBuf};

use emberwort_codegen::{GeneratedFile, MARK, c, python, vectors};
use emberwort_model::Plan;

use super::ending::Ending;
use crate::cli::GenerateArgs;
use crate::files::{self, Replace};
use crate::output::{self, Look};
use crate::project::{GenerateEntry, GenerateKind, Project, load_plan_of};
use crate::revisions;

/// The vectors of a revision are always the same.
const SEED: u64 = 0x6D61_726C_6F63_6B21;

pub fn run(args: &GenerateArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Ending> {
    let project = Project::find(link)?;
    let plan = load_plan_of(&project.definition, look)?;
    let vectors = vectors::vectors(&plan, SEED);
    let allowed = project.file.as_ref().map_or(&[][..], |(_, file)| &file.allow);
    let strangers = revisions::strangers(&project.definition, &plan, allowed, look)?;
    let mut generated = Vec::new();
    for GenerateEntry { kind, out: folder } in entries(args, &project) {
        for file in of_kind(kind, &plan, &vectors, &strangers)? {
            generated.push((folder.join(&file.name), file.text.into_bytes()));
        }
    }
    files::write_all(&generated, Replace::Generated(MARK))?;
    let mut out = output::stdout();
    for (path, text) in &generated {
        let lines = text.iter().filter(|byte| **byte == b'\n').count();
        writeln!(out, "{} ({lines} lines)", files::shown(path))?;
    }
    out.flush()?;
    Ok(Ending::Clean)
}

fn entries(args: &GenerateArgs, project: &Project) -> Vec<GenerateEntry> {
    let mut entries = match &project.file {
        Some((folder, file)) if !file.generate.is_empty() => {
            file.generate.iter().map(|entry| GenerateEntry { kind: entry.kind, out: folder.join(&entry.out) }).collect()
        }
        _ => vec![
            GenerateEntry { kind: GenerateKind::C, out: PathBuf::from("gen/c") },
            GenerateEntry { kind: GenerateKind::Vectors, out: PathBuf::from("gen") },
        ],
    };
    if !args.kinds.is_empty() {
        entries.retain(|entry| args.kinds.contains(&entry.kind));
        for kind in &args.kinds {
            if entries.iter().all(|entry| entry.kind != *kind) {
                let out = match kind {
                    GenerateKind::C | GenerateKind::Vectors => "gen",
                    GenerateKind::Python => "gen/python",
                };
                entries.push(GenerateEntry { kind: *kind, out: PathBuf::from(out) });
            }
        }
    }
    if let Some(folder) = &args.out {
        for entry in &mut entries {
            entry.out.clone_from(folder);
        }
        entries.dedup_by_key(|entry| entry.kind);
    }
    entries
}

fn of_kind(
    kind: GenerateKind,
    plan: &Plan,
    all: &[vectors::Vector],
    strangers: &[u32],
) -> anyhow::Result<Vec<GeneratedFile>> {
    Ok(match kind {
        GenerateKind::C => c::generate(plan, all, strangers)?,
        GenerateKind::Python => python::generate(plan, all)?,
        GenerateKind::Vectors => vec![vectors::ndjson(plan, all)],
    })
}
