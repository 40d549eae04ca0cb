//! `generate`: code and test vectors.

use std::io::{self, Write};
use std::path::{Path, PathBuf};

use anyhow::{Context as _, bail};
use clap::ValueEnum as _;
use emberwort_codegen::{Clash, GeneratedFile, MARK, Parts, c, javascript, python, rust, streams, vectors};
use emberwort_model::Plan;
use emberwort_model::diagnostics::escaped;
use emberwort_model::model::End;
use emberwort_rows::Paint;

use crate::cli::GenerateArgs;
use crate::ending::Ending;
use crate::files::{self, Replace};
use crate::output::{self, Look, say};
use crate::project::{CodeSize, Enums, GenerateEntry, GenerateKind, Project, Role, load_plan_of, read_limited};
use crate::reading::revisions;
use crate::render::table::table;
use crate::render::wrapped;

/// The vectors of a revision are always the same.
const SEED: u64 = 0x6D61_726C_6F63_6B21;

pub fn run(args: &GenerateArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Ending> {
    if args.list {
        return list(args, link);
    }
    let project = Project::find(link)?;
    let plan = load_plan_of(&project.definition, look)?;
    let vectors = vectors::vectors(&plan, SEED);
    let allowed = project.file.as_ref().map_or(&[][..], |(_, file)| &file.allow);
    let incompatible = revisions::incompatible_revisions(&project.definition, &plan, allowed, look)?;
    let mut generated = Vec::new();
    for entry in entries(args, &project) {
        for file in of_kind(&entry, &plan, &vectors, &incompatible)? {
            generated.push((entry.out.join(&file.name), file.text.into_bytes()));
        }
    }
    if args.check {
        return check(&generated, look);
    }
    if args.clean {
        return clean(&generated);
    }
    files::write_all(&generated, Replace::Generated(MARK))?;
    let mut out = output::stdout();
    for (path, text) in &generated {
        let lines = text.iter().filter(|byte| **byte == b'\n').count();
        writeln!(out, "{} ({lines} lines)", files::shown(path))?;
    }
    out.flush()?;
    for (kind, lacking) in [
        (GenerateKind::Python, python::unsupported as UnsupportedParts),
        (GenerateKind::Rust, rust::unsupported),
        (GenerateKind::Javascript, javascript::unsupported),
    ] {
        if entries(args, &project).iter().any(|entry| entry.kind == kind) {
            lacking(&plan).iter().for_each(|sentence| say!("{}", wrapped(sentence)));
        }
    }
    Ok(Ending::Clean)
}

/// Says what generated code does not do.
type UnsupportedParts = fn(&Plan) -> Vec<String>;

/// What can be written, and where it goes.
fn list(args: &GenerateArgs, link: Option<&Path>) -> anyhow::Result<Ending> {
    let entries = match Project::find(link) {
        Ok(project) => entries(args, &project),
        Err(_) => Vec::new(),
    };
    let mut shown = table(&["kind", "what", "written to"], &[false, false, false]);
    for kind in GenerateKind::value_variants() {
        let Some(value) = kind.to_possible_value() else { continue };
        let what = value.get_help().map(ToString::to_string).unwrap_or_default();
        let folder = entries.iter().find(|entry| entry.kind == *kind).map(|entry| files::shown(&entry.out));
        shown.add_row(vec![
            value.get_name().to_owned(),
            what,
            folder.unwrap_or_else(|| format!("{}, if asked for", usual_folder(*kind))),
        ]);
    }
    let mut out = output::stdout();
    out.write_all(shown.lines().as_bytes())?;
    let mut options = table(&["in emberwort.toml", "of", "what it says"], &[false, false, false]);
    for (option, of, meaning) in OPTIONS {
        options.add_row([option, of, meaning].map(|cell| (*cell).to_owned()).to_vec());
    }
    write!(out, "\n{}", options.lines())?;
    out.flush()?;
    Ok(Ending::Clean)
}

/// What a `[[generate]]` may say beside its folder, and of which kind.
const OPTIONS: &[(&str, &str, &str)] = &[
    ("role = \"device\"", "C", "the end that it is for; without it both"),
    ("channels = [\"NAME\"]", "C", "the channels; without it all"),
    ("messages = [\"NAME\"]", "C", "the messages; without it all"),
    ("send = [\"NAME\"]", "C", "the messages that it sends, in place of a role"),
    ("receive = [\"NAME\"]", "C", "the messages that it receives"),
    ("structs = false", "C", "only views of bodies, no structs of values"),
    ("size = \"small\"", "C", "small rather than fast"),
    ("enums = \"typed\"", "C", "enums are types of their own, not integers"),
    ("prefix = \"NAME\"", "C", "what names begin with, not the link's"),
    ("package = \"NAME\"", "Rust", "as a crate of this name, with its manifest"),
    ("package = \"NAME\"", "JavaScript", "what the package is called"),
    ("slim = true", "Python", "for small interpreters: no types, no data classes"),
];

/// Whether a text can be the beginning of names in C.
fn is_name(text: &str) -> bool {
    text.starts_with(|c: char| c.is_ascii_alphabetic()) && text.chars().all(|c| c.is_ascii_alphanumeric() || c == '_')
}

/// Whether a text can be the name of a package; one of JavaScript may have a scope in front (`@lock/link`).
fn is_package(text: &str, kind: GenerateKind) -> bool {
    let is_name = |text: &str| {
        text.starts_with(|c: char| c.is_ascii_lowercase())
            && text.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || "-_".contains(c))
    };
    match text.strip_prefix('@').and_then(|rest| rest.split_once('/')) {
        Some((scope, name)) => kind == GenerateKind::Javascript && is_name(scope) && is_name(name),
        None => is_name(text),
    }
}

/// Whether the files are what the definition makes.
fn check(generated: &[(PathBuf, Vec<u8>)], look: Look) -> anyhow::Result<Ending> {
    let mut wrong = 0;
    for (path, text) in generated {
        let shown = files::shown(path);
        let said = match read_limited(path) {
            Ok(there) if there == *text => continue,
            Ok(_) => format!("{shown} is not what the definition makes now: it was edited, or the definition changed"),
            Err(error) if error.kind() == io::ErrorKind::NotFound => format!("{shown} is missing"),
            Err(error) => return Err(error).with_context(|| format!("{shown} cannot be read")),
        };
        wrong += 1;
        say!("{} {said}", look.paint_err(Paint::Bad, "finding:"));
    }
    if wrong > 0 {
        say!("`emberwort generate` with the same words writes them again");
        return Ok(Ending::WithFindings);
    }
    let mut out = output::stdout();
    match generated.len() {
        1 => writeln!(out, "1 generated file is what the definition makes")?,
        count => writeln!(out, "{count} generated files are what the definition makes")?,
    }
    out.flush()?;
    Ok(Ending::Clean)
}

/// Removes what was generated: all of it, or nothing if something else stands there.
fn clean(generated: &[(PathBuf, Vec<u8>)]) -> anyhow::Result<Ending> {
    let there: Vec<&PathBuf> = generated.iter().map(|(path, _)| path).filter(|path| path.exists()).collect();
    for path in &there {
        let shown = files::shown(path);
        let text = read_limited(path).with_context(|| format!("{shown} cannot be read"))?;
        let start = String::from_utf8_lossy(&text[..text.len().min(4096)]).into_owned();
        if !start.contains(MARK) {
            bail!("{shown} was not generated by Emberwort, and is left alone; nothing was removed");
        }
    }
    let mut out = output::stdout();
    for path in &there {
        let shown = files::shown(path);
        std::fs::remove_file(path).with_context(|| format!("{shown} cannot be removed"))?;
        writeln!(out, "{shown} removed")?;
    }
    if there.is_empty() {
        writeln!(out, "there is nothing to remove")?;
    }
    out.flush()?;
    Ok(Ending::Clean)
}

fn entries(args: &GenerateArgs, project: &Project) -> Vec<GenerateEntry> {
    let mut entries = match &project.file {
        Some((folder, file)) if !file.generate.is_empty() => {
            file.generate.iter().map(|entry| GenerateEntry { out: folder.join(&entry.out), ..entry.clone() }).collect()
        }
        _ => vec![GenerateEntry::new(GenerateKind::C, "gen/c"), GenerateEntry::new(GenerateKind::Vectors, "gen")],
    };
    if !args.kinds.is_empty() {
        entries.retain(|entry| args.kinds.contains(&entry.kind));
        for kind in &args.kinds {
            if entries.iter().all(|entry| entry.kind != *kind) {
                entries.push(GenerateEntry::new(*kind, usual_folder(*kind)));
            }
        }
    }
    // Of what is not named, only C has parts.
    for entry in entries.iter_mut().filter(|entry| !args.kinds.is_empty() || entry.kind == GenerateKind::C) {
        entry.role = args.role.or(entry.role);
        for (said, of_entry) in [(&args.messages, &mut entry.messages), (&args.channels, &mut entry.channels)] {
            if !said.is_empty() {
                of_entry.clone_from(said);
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

/// Where something goes if nobody says it.
fn usual_folder(kind: GenerateKind) -> &'static str {
    match kind {
        GenerateKind::C | GenerateKind::Vectors => "gen",
        GenerateKind::Python => "gen/python",
        GenerateKind::Rust => "gen/rust",
        GenerateKind::Javascript => "gen/javascript",
        GenerateKind::PayloadCodec => "gen/payload-codec",
        GenerateKind::Document => "gen/document",
    }
}

/// Names of a definition that become one name in a language: first those of C, in which most is generated.
pub fn clashes(plan: &Plan) -> Vec<(GenerateKind, Clash)> {
    let of_language = [
        (GenerateKind::C, c::clashes(plan)),
        (GenerateKind::Python, python::clashes(plan)),
        (GenerateKind::Rust, rust::clashes(plan)),
        (GenerateKind::Javascript, javascript::clashes(plan)),
    ];
    of_language.into_iter().flat_map(|(kind, all)| all.into_iter().map(move |clash| (kind, clash))).collect()
}

/// What something is called in a sentence.
pub fn usual_name(kind: GenerateKind) -> &'static str {
    match kind {
        GenerateKind::C => "C",
        GenerateKind::Python => "Python",
        GenerateKind::Rust => "Rust",
        GenerateKind::Javascript => "JavaScript",
        GenerateKind::PayloadCodec => "a payload codec",
        GenerateKind::Document => "a document",
        GenerateKind::Vectors => "a file of vectors",
    }
}

fn of_kind(
    entry: &GenerateEntry,
    plan: &Plan,
    all: &[vectors::Vector],
    incompatible: &[u32],
) -> anyhow::Result<Vec<GeneratedFile>> {
    let role = entry.role.map(|role| match role {
        Role::Device => End::Device,
        Role::Host => End::Host,
    });
    if let Some(prefix) = &entry.prefix
        && !is_name(prefix)
    {
        bail!("prefix: `{}` is no name of C: letters, digits and `_`, and a letter in front", escaped(prefix));
    }
    let parts = Parts {
        role,
        messages: entry.messages.clone(),
        channels: entry.channels.clone(),
        send: entry.send.clone(),
        receive: entry.receive.clone(),
        views_only: entry.structs == Some(false),
        small: entry.size == Some(CodeSize::Small),
        typed_enums: entry.enums == Some(Enums::Typed),
        prefix: entry.prefix.clone(),
    };
    if parts.role.is_some() && !(parts.send.is_empty() && parts.receive.is_empty()) {
        bail!("`role` says what is sent and received, and so do `send` and `receive`: leave one of them out");
    }
    let has_parts = match entry.kind {
        GenerateKind::C => true,
        GenerateKind::PayloadCodec => parts == Parts { channels: parts.channels.clone(), ..Parts::default() },
        _ => parts.are_all(),
    };
    if !has_parts {
        match entry.kind {
            GenerateKind::PayloadCodec => {
                bail!("of a payload codec `channels` chooses the channel, and nothing else can be chosen")
            }
            kind => bail!(
                "role, messages, channels, send, receive, structs, size, enums and prefix are for C; {} has all of the link",
                usual_name(kind)
            ),
        }
    }
    if let Some(package) = &entry.package {
        if !matches!(entry.kind, GenerateKind::Rust | GenerateKind::Javascript) {
            bail!("package is for Rust and JavaScript; {} is no package", usual_name(entry.kind));
        }
        if entry.kind == GenerateKind::Rust && rust::is_taken(&package.replace('-', "_")) {
            bail!("package: Rust has another use for the name `{package}`");
        }
        if !is_package(package, entry.kind) {
            bail!(
                "package: `{}` is no name of a package: lower case letters, digits, `-` and `_`, and a letter in front",
                escaped(package)
            );
        }
    }
    if entry.slim.is_some() && entry.kind != GenerateKind::Python {
        bail!("slim is for Python; {} is made in one way", usual_name(entry.kind));
    }
    Ok(match entry.kind {
        GenerateKind::C => c::generate_parts(plan, all, incompatible, &parts)?,
        GenerateKind::Python => python::generate_for(plan, all, entry.slim == Some(true))?,
        GenerateKind::Rust => match &entry.package {
            Some(package) => rust::generate_crate(plan, all, package)?,
            None => rust::generate(plan, all)?,
        },
        GenerateKind::Javascript => match &entry.package {
            Some(package) => javascript::generate_package(plan, all, package)?,
            None => javascript::generate(plan, all)?,
        },
        GenerateKind::PayloadCodec => javascript::codec::generate(plan, &parts)?,
        GenerateKind::Document => emberwort_document::generate(plan, all),
        GenerateKind::Vectors => vec![vectors::ndjson(plan, all), streams::ndjson(plan, &streams::streams(plan))],
    })
}
