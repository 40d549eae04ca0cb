//! Which definition a command works on, and what `emberwort.toml` says.

use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use anyhow::{Context, bail};
use emberwort_model::counting::some_of;
use emberwort_model::diagnostics::Finding;
use emberwort_model::{Checked, Plan, Source, Sources};
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
    /// Differences between revisions that were accepted.
    #[serde(default)]
    pub allow: Vec<AllowEntry>,
    /// Where captures come from.
    #[serde(default)]
    pub source: Vec<SourceEntry>,
    /// Which signals of waveforms are which wires.
    #[serde(default)]
    pub wires: Vec<WiresEntry>,
}

/// One `[[wires]]` of `emberwort.toml`: how waveforms of one bench are read.
#[derive(Clone, Debug, Deserialize)]
pub struct WiresEntry {
    /// Its name, for `--wires`.
    pub name: String,
    /// Options of `decode` by their names without dashes.
    #[serde(flatten)]
    pub options: toml::Table,
}

/// An option of `emberwort.toml` as words of a command line.
///
/// # Errors
/// If it is neither text nor a whole number, nor a list of such.
pub fn option_words(key: &str, value: &toml::Value) -> anyhow::Result<Vec<String>> {
    let option = format!("--{}", key.replace('_', "-"));
    let values = match value {
        toml::Value::Array(values) => values.as_slice(),
        value => std::slice::from_ref(value),
    };
    let word = |value: &toml::Value| match value {
        toml::Value::String(text) => Ok(format!("{option}={text}")),
        toml::Value::Integer(number) => Ok(format!("{option}={number}")),
        other => bail!("{key} is text or a number, not {other}"),
    };
    values.iter().map(word).collect()
}

/// One `[[source]]` of `emberwort.toml`: how files of one kind are read.
#[derive(Clone, Debug, Deserialize)]
pub struct SourceEntry {
    /// Its name, for `--source`.
    pub name: String,
    /// Its files, relative to the project file.
    #[serde(default)]
    pub files: Vec<PathBuf>,
    /// Options of `decode` by their names without dashes.
    #[serde(flatten)]
    pub options: toml::Table,
}

/// One `[[allow]]` of `emberwort.toml`: a difference that `compare` finds, and that strands nobody who matters.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AllowEntry {
    /// The difference, as `compare` names it: `GateStatus.oil: step`.
    pub difference: String,
    /// The new revision in which it is accepted.
    pub revision: u32,
    /// Why.
    pub reason: String,
}

/// One `[[generate]]` of `emberwort.toml`.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct GenerateEntry {
    /// What is made.
    pub kind: GenerateKind,
    /// The folder, relative to the file.
    pub out: PathBuf,
    /// The end that C is for: `device` or `host`; without it both.
    #[serde(default)]
    pub role: Option<Role>,
    /// The messages that C is for; without it all.
    #[serde(default)]
    pub messages: Vec<String>,
    /// The channels that C is for; without it all.
    #[serde(default)]
    pub channels: Vec<String>,
    /// The messages that C sends, in place of a role.
    #[serde(default)]
    pub send: Vec<String>,
    /// The messages that C receives.
    #[serde(default)]
    pub receive: Vec<String>,
    /// Whether C has structs of the values, beside views; it has without it.
    #[serde(default)]
    pub structs: Option<bool>,
    /// What C is made for: `fast`, as without it, or `small`.
    #[serde(default)]
    pub size: Option<CodeSize>,
    /// How C has enums: as `plain` integers with constants, as without it, or `typed`, each as an `enum`.
    #[serde(default)]
    pub enums: Option<Enums>,
    /// The crate that Rust is made as, or what the package of JavaScript is called.
    #[serde(default)]
    pub package: Option<String>,
    /// Whether Python is for small interpreters, which have neither types nor data classes.
    #[serde(default)]
    pub slim: Option<bool>,
    /// What all names in C begin with, in place of the link's name.
    #[serde(default)]
    pub prefix: Option<String>,
}

impl GenerateEntry {
    /// All of the link, into a folder.
    pub fn new(kind: GenerateKind, out: &str) -> Self {
        Self {
            kind,
            out: PathBuf::from(out),
            role: None,
            messages: Vec::new(),
            channels: Vec::new(),
            send: Vec::new(),
            receive: Vec::new(),
            structs: None,
            size: None,
            enums: None,
            slim: None,
            package: None,
            prefix: None,
        }
    }
}

/// What generated code is made for.
#[derive(Clone, Copy, Debug, Deserialize, PartialEq, Eq)]
#[serde(rename_all = "lowercase")]
pub enum CodeSize {
    /// Speed.
    Fast,
    /// Little room.
    Small,
}

/// How generated code has enums.
#[derive(Clone, Copy, Debug, Deserialize, PartialEq, Eq)]
#[serde(rename_all = "lowercase")]
pub enum Enums {
    /// Integers, and a constant for each label.
    Plain,
    /// Types of the language.
    Typed,
}

/// An end that code is generated for.
#[derive(Clone, Copy, Debug, Deserialize, PartialEq, Eq, clap::ValueEnum)]
#[serde(rename_all = "lowercase")]
pub enum Role {
    /// The device
    Device,
    /// The host
    Host,
}

/// What `generate` can make.
#[derive(Clone, Copy, Debug, Deserialize, PartialEq, Eq, clap::ValueEnum)]
#[serde(rename_all = "lowercase")]
pub enum GenerateKind {
    /// C99: NAME.h, NAME.c, NAME_vectors.c
    C,
    /// Python 3.9 and later: NAME.py, NAME_test.py
    Python,
    /// Rust for no_std: NAME.rs, NAME_test.rs
    Rust,
    /// ES module: NAME.js, NAME.d.ts, NAME.test.js, package.json
    Javascript,
    /// TS013 payload codec for LoRaWAN network servers: NAME_codec.js
    #[serde(rename = "payload-codec")]
    PayloadCodec,
    /// Documentation: NAME.html, NAME.md and a picture for each message
    Document,
    /// Test vectors: vectors.ndjson, streams.ndjson
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
            let text = read_text(&path).with_context(|| format!("{} cannot be read", crate::files::shown(&path)))?;
            let file: ProjectFile = toml::from_str(&text)
                .with_context(|| format!("{} is not a valid project file", crate::files::shown(&path)))?;
            // Paths are shown as the user would type them from here.
            let folder = if folder == here { PathBuf::new() } else { folder.to_owned() };
            return Ok(Self { definition: folder.join(&file.link), file: Some((folder, file)) });
        }
        let mut found = Vec::new();
        for entry in fs::read_dir(&here).context("the current folder cannot be read")?.flatten() {
            let path = entry.path();
            if path.extension().is_some_and(|extension| extension == "ember")
                && let Ok(bytes) = read_limited(&path)
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
                let names: Vec<_> = several.iter().map(|path| crate::files::shown(path)).collect();
                bail!("several definitions are here: {}\nname one with --link FILE", names.join(", "))
            }
        }
    }
}

/// Reads and checks a definition file with all that it imports. Findings are part of the result.
pub fn read_definition(path: &Path) -> anyhow::Result<Checked> {
    let name = path.display().to_string();
    let bytes = read_limited(path).with_context(|| format!("the definition {name} cannot be read"))?;
    Ok(check_bytes(name, bytes))
}

/// Checks the bytes of a definition file; imports are looked for beside it.
pub fn check_bytes(name: String, bytes: Vec<u8>) -> Checked {
    match source_of(name, bytes) {
        Ok(source) => {
            let mut import = imports_of(Path::new(&source.name));
            emberwort_model::check_with(source, &mut import)
        }
        Err(checked) => *checked,
    }
}

/// The text of a definition file's bytes, or the finding that it is none.
fn source_of(name: String, bytes: Vec<u8>) -> Result<Source, Box<Checked>> {
    emberwort_model::decode_text(bytes).map(|text| Source::new(name.clone(), text)).map_err(|error| {
        let (finding, shown) = *error;
        Box::new(Checked { plan: None, findings: vec![finding], sources: Sources::of(Source::new(name, shown)) })
    })
}

/// The text of a file that is no longer than a definition may be.
///
/// # Errors
/// As [`read_limited`]; also if it is longer, or no UTF-8.
pub fn read_text(path: &Path) -> std::io::Result<String> {
    let bytes = read_limited(path)?;
    if bytes.len() > emberwort_model::MAX_BYTES {
        let most = emberwort_model::MAX_BYTES >> 20;
        return Err(std::io::Error::other(format!("it has more than {most} MiB")));
    }
    String::from_utf8(bytes).map_err(|error| {
        let at = error.utf8_error().valid_up_to();
        std::io::Error::other(format!("it is no text: byte {at} is no UTF-8"))
    })
}

/// The bytes of a file, as far as a definition may reach.
///
/// # Errors
/// Also for what is no file: a pipe without a writer, or a terminal, would be waited for without end.
pub fn read_limited(path: &Path) -> std::io::Result<Vec<u8>> {
    let mut bytes = Vec::new();
    let kind = fs::metadata(path)?.file_type();
    if kind.is_dir() {
        return Err(std::io::Error::other("it is a folder"));
    }
    if !kind.is_file() {
        return Err(std::io::Error::other("it is a pipe or a device, and this is read from a file"));
    }
    let file = fs::File::open(path)?;
    let most = emberwort_model::MAX_BYTES as u64 + 1;
    std::io::Read::read_to_end(&mut std::io::Read::take(file, most), &mut bytes)?;
    Ok(bytes)
}

/// The path of a file that another one imports, from beside it.
pub fn import_path(importer: &str, path: &str) -> PathBuf {
    let folder = Path::new(importer).parent().unwrap_or(Path::new(""));
    let mut found = PathBuf::new();
    for part in folder.join(path).components() {
        // `a/../b` is `b`, so that a file has one name however it is reached.
        match part {
            std::path::Component::CurDir => {}
            std::path::Component::ParentDir if found.file_name().is_some() => {
                found.pop();
            }
            part => found.push(part),
        }
    }
    found
}

/// Reads what a definition imports.
pub fn imports_of(definition: &Path) -> impl FnMut(&str, &str) -> Result<Source, String> + use<> {
    let folder = definition.parent().unwrap_or(Path::new("")).to_owned();
    move |importer, path| import(&folder, importer, path)
}

/// Reads a file that another one imports. One from outside of the project's folder that is no definition is somebody else's: what
/// stands in it is not shown.
fn import(folder: &Path, importer: &str, path: &str) -> Result<Source, String> {
    let found = import_path(importer, path);
    let bytes = read_limited(&found).map_err(|error| match error.kind() {
        std::io::ErrorKind::NotFound => format!("there is no file {}", crate::files::shown(&found)),
        _ => error.to_string(),
    })?;
    match emberwort_model::decode_text(bytes) {
        Ok(text) if is_inside(folder, &found) || has_the_form(&text) => {
            Ok(Source::new(found.display().to_string(), text))
        }
        Ok(_) => Err(format!(
            "{} is not a definition; as it lies outside of the project's folder, nothing of it is shown here (`emberwort check` of the file \
             itself does)",
            crate::files::shown(&found)
        )),
        Err(error) => Err(error.0.message.clone()),
    }
}

/// Whether a file lies in a folder, wherever links lead.
fn is_inside(folder: &Path, file: &Path) -> bool {
    let folder = if folder.as_os_str().is_empty() { Path::new(".") } else { folder };
    match (fs::canonicalize(folder), fs::canonicalize(file)) {
        (Ok(folder), Ok(file)) => file.starts_with(folder),
        _ => false,
    }
}

/// Whether a text is written as a definition is.
fn has_the_form(text: &str) -> bool {
    emberwort_model::syntax::parse(text, 0).findings.iter().all(|finding| !finding.is_error())
}

/// The plan of the project's definition; its findings are shown if it has none.
pub fn load_plan(given: Option<&Path>, look: Look) -> anyhow::Result<Arc<Plan>> {
    let project = Project::find(given)?;
    load_plan_of(&project.definition, look)
}

/// The plan of a definition file; its findings are shown if it has none.
pub fn load_plan_of(path: &Path, look: Look) -> anyhow::Result<Arc<Plan>> {
    let mut checked = read_definition(path)?;
    match checked.plan.take() {
        Some(plan) => Ok(Arc::new(plan)),
        None => Err(nothing_to_do(path, show_errors(checked, look))),
    }
}

/// The plan of a definition file without the messages in which all its errors lie, and the names of these. The errors are shown.
pub fn load_plan_apart(path: &Path, look: Look) -> anyhow::Result<(Arc<Plan>, BTreeSet<String>)> {
    let name = path.display().to_string();
    let bytes = read_limited(path).with_context(|| format!("the definition {name} cannot be read"))?;
    let (mut checked, apart) = match source_of(name, bytes) {
        Ok(source) => emberwort_model::check_apart(source, &mut imports_of(path)),
        Err(checked) => (*checked, None),
    };
    if let Some(plan) = checked.plan.take() {
        return Ok((Arc::new(plan), BTreeSet::new()));
    }
    let errors = show_errors(checked, look);
    let Some(apart) = apart else { return Err(nothing_to_do(path, errors)) };
    let names = some_of(apart.without.iter().map(String::as_str));
    let have = if apart.without.len() == 1 { "which has errors" } else { "which have errors or need one that has" };
    crate::output::say!("left out: {names}, {have}");
    Ok((Arc::new(apart.plan), apart.without))
}

/// Shows the errors of a definition; returns how many there are.
fn show_errors(checked: Checked, look: Look) -> usize {
    let errors: Vec<Finding> = checked.findings.into_iter().filter(Finding::is_error).collect();
    crate::output::say_text(&findings::render(&checked.sources, &errors, look.err));
    errors.len()
}

fn nothing_to_do(path: &Path, errors: usize) -> anyhow::Error {
    let they_are = if errors == 1 { "it is" } else { "they are" };
    anyhow::anyhow!(
        "{} has {}; nothing can be done with it until {they_are} mended",
        crate::files::shown(path),
        plural(errors, "error")
    )
}
