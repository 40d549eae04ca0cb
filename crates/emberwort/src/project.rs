//! Which definition a command works on, and what `emberwort.toml` says.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use anyhow::{Context, bail};
use emberwort_model::diagnostics::Finding;
use emberwort_model::{Checked, Plan, Source};
use serde::Deserialize;

use crate::output::Look;
use crate::render::{findings, plural};

/// The name of the project file.
pub const PROJECT_FILE: &str = "emberwort.toml";

/// What `emberwort.toml` says.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ProjectFile {
    /// The definition, relative to the file.
    pub link: PathBuf,
    /// What `generate` makes.
    #[serde(default)]
    pub generate: Vec<GenerateEntry>,
}

/// One `[[generate]]` of `emberwort.toml`.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct GenerateEntry {
    /// What is made.
    pub kind: GenerateKind,
    /// The folder, relative to the file.
    pub out: PathBuf,
}

/// What `generate` can make.
#[derive(Clone, Copy, Debug, Deserialize, PartialEq, Eq, clap::ValueEnum)]
#[serde(rename_all = "lowercase")]
pub enum GenerateKind {
    /// C99: NAME.h, NAME.c, NAME_vectors.c
    C,
    /// Test vectors: vectors.ndjson
    Vectors,
}

/// Where a project is and what it says.
#[derive(Debug)]
pub struct Project {
    /// The definition file.
    pub definition: PathBuf,
    /// The project file and its folder, if there is one.
    pub file: Option<(PathBuf, ProjectFile)>,
}

impl Project {
    /// Finds the definition: as given, else by the project file found upwards, else the only one in this folder.
    pub fn find(given: Option<&Path>) -> anyhow::Result<Self> {
        if let Some(path) = given {
            return Ok(Self { definition: path.to_owned(), file: None });
        }
        let here = std::env::current_dir().context("the current folder cannot be read")?;
        for folder in here.ancestors() {
            let path = folder.join(PROJECT_FILE);
            if !path.is_file() {
                continue;
            }
            let text = fs::read_to_string(&path).with_context(|| format!("{} cannot be read", path.display()))?;
            let file: ProjectFile = toml::from_str(&text)
                .with_context(|| format!("{} does not say what a project file says", path.display()))?;
            // Paths are shown as the user would type them from here.
            let folder = if folder == here { PathBuf::new() } else { folder.to_owned() };
            return Ok(Self { definition: folder.join(&file.link), file: Some((folder, file)) });
        }
        let mut found = Vec::new();
        for entry in fs::read_dir(&here).context("the current folder cannot be read")?.flatten() {
            let path = entry.path();
            if path.extension().is_some_and(|extension| extension == "ember")
                && let Ok(bytes) = fs::read(&path)
            {
                let text = String::from_utf8_lossy(&bytes);
                if text.lines().any(|line| line.trim_start().starts_with("link ")) {
                    found.push(PathBuf::from(entry.file_name()));
                }
            }
        }
        found.sort();
        match found.as_slice() {
            [only] => Ok(Self { definition: only.clone(), file: None }),
            [] => bail!(
                "no definition found: neither {PROJECT_FILE} in this folder or above it, nor an .ember file with a `link` item here\n\
                 name one with --link FILE, or begin with: emberwort demo"
            ),
            several => {
                let names: Vec<_> = several.iter().map(|path| path.display().to_string()).collect();
                bail!("several definitions are here: {}\nname one with --link FILE", names.join(", "))
            }
        }
    }
}

/// A definition that was read: its text, and what came of it.
pub struct Definition {
    pub source: Source,
    pub checked: Checked,
}

/// Reads and checks a definition file. Findings are part of the result.
pub fn read_definition(path: &Path) -> anyhow::Result<Definition> {
    let name = path.display().to_string();
    let mut bytes = Vec::new();
    let failed = || format!("the definition {name} cannot be read");
    let file = fs::File::open(path).with_context(failed)?;
    let most = emberwort_model::MOST_BYTES as u64 + 1;
    std::io::Read::read_to_end(&mut std::io::Read::take(file, most), &mut bytes).with_context(failed)?;
    Ok(match emberwort_model::decode_text(bytes) {
        Ok(text) => {
            let source = Source::new(name, text);
            let checked = emberwort_model::check(&source);
            Definition { source, checked }
        }
        Err(error) => {
            let (finding, shown) = *error;
            let checked = Checked { plan: None, findings: vec![finding] };
            Definition { source: Source::new(name, shown), checked }
        }
    })
}

/// The plan of the project's definition; its findings are shown if it has none.
pub fn load_plan(given: Option<&Path>, look: Look) -> anyhow::Result<Arc<Plan>> {
    let project = Project::find(given)?;
    load_plan_of(&project.definition, look)
}

/// The plan of a definition file; its findings are shown if it has none.
pub fn load_plan_of(path: &Path, look: Look) -> anyhow::Result<Arc<Plan>> {
    let definition = read_definition(path)?;
    match definition.checked.plan {
        Some(plan) => Ok(Arc::new(plan)),
        None => {
            let errors: Vec<Finding> = definition.checked.findings.into_iter().filter(Finding::is_error).collect();
            eprint!("{}", findings::render(&definition.source, &errors, look.err));
            bail!(
                "{} has {}; nothing can be done with it until they are mended",
                path.display(),
                plural(errors.len(), "error")
            );
        }
    }
}
