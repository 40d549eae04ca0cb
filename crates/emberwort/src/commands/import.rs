//! `import`: what others describe a bus with, as a definition.

use std::fmt::Write as _;
use std::io::Write as _;
use std::path::Path;

use anyhow::{Context, bail};
use emberwort_import::{Imported, Options, definition, names, read};
use emberwort_model::diagnostics::escaped;

use crate::cli::ImportArgs;
use crate::ending::Ending;
use crate::files::{self, Replace, shown};
use crate::output::{self, Look, say};
use crate::project::{read_definition, read_limited};
use crate::render::{plural, wrapped};

/// What the imported file begins with, so that it is known as one that may be replaced.
const MARK: &str = "Imported by Emberwort";

/// So many names and things that were left out are shown; all of them stand in the imported file.
const SHOWN: usize = 20;

pub fn run(args: &ImportArgs, look: Look) -> anyhow::Result<Ending> {
    let extension = args.out.extension().and_then(|extension| extension.to_str());
    if extension != Some("ember") {
        bail!("--out {}: a definition ends with .ember", shown(&args.out));
    }
    let bytes = read_limited(&args.file).with_context(|| format!("{} cannot be read", shown(&args.file)))?;
    let database = read(&bytes);
    if database.messages.is_empty() {
        let first = database.skipped.first();
        let why =
            first.map_or(String::new(), |first| format!(": line {}, {}, {}", first.line, first.item, first.reason));
        bail!("{} holds no message of a CAN database{}", shown(&args.file), escaped(&why));
    }
    let stem = args.out.file_stem().map_or("bus".into(), |stem| stem.to_string_lossy());
    let name = names::lower(&stem, "bus");
    let file = args.file.file_name().map_or(String::new(), |file| escaped(&file.to_string_lossy()));
    let channel = args.channel.clone().unwrap_or_else(|| name.clone());
    let heading = format!(
        "{MARK} from {file}. What is changed here is lost when it is imported again:\nadd your own to the file that imports this one."
    );
    let options = Options { channel: &channel, medium: args.medium.as_deref(), hosts: &args.host, heading: &heading };
    for host in &args.host {
        if !database.nodes.contains(host) {
            bail!("--host {}: the nodes of the database are {}", escaped(host), escaped(&database.nodes.join(", ")));
        }
    }
    let imported = definition(&database, &options);
    let imported_path = args.out.with_file_name(format!("{stem}-imported.ember"));
    let imported_name = imported_path.file_name().map_or(String::new(), |name| name.to_string_lossy().into_owned());
    let text = format!("{}{}", imported.text, account(&imported));
    files::write_file(&imported_path, text.as_bytes(), Replace::Generated(MARK))?;
    let mut out = output::stdout();
    writeln!(out, "{} ({} lines)", shown(&imported_path), text.lines().count())?;
    own_file(&args.out, &name, &imported_name, &mut out)?;
    out.flush()?;
    say(&imported, database.is_utf8);
    let checked = read_definition(&args.out)?;
    let errors = checked.findings.iter().filter(|finding| finding.is_error()).count();
    if errors > 0 {
        output::say_text(&crate::render::findings::render(&checked.sources, &checked.findings, look.err));
        say!("{} has {}", shown(&args.out), plural(errors, "error"));
    }
    let is_whole = !imported.left_out.iter().any(|left| left.is_about_bytes) && errors == 0;
    Ok(if is_whole { Ending::Clean } else { Ending::WithFindings })
}

/// The file that imports the imported one: it is made once, and never changed.
fn own_file(path: &Path, name: &str, imported: &str, out: &mut impl std::io::Write) -> anyhow::Result<()> {
    let import = format!("import \"{imported}\"");
    if path.exists() {
        let text = read_limited(path).with_context(|| format!("{} cannot be read", shown(path)))?;
        if !String::from_utf8_lossy(&text).contains(&import) {
            say!("{} is left as it is; it needs the line: {}", shown(path), escaped(&import));
        }
        return Ok(());
    }
    let text = format!(
        "# Your own part of the link: it imports what {} says, and stays as it is when that is imported again.\n\n{import}\n\nlink {name} {{\n    revision    1\n    byte_order  little\n}}\n",
        escaped(imported)
    );
    files::write_file(path, text.as_bytes(), Replace::No)?;
    writeln!(out, "{} ({} lines)", shown(path), text.lines().count())?;
    Ok(())
}

/// What became of the names and of what is left out, as comments at the end of the imported file.
fn account(imported: &Imported) -> String {
    let mut text = String::new();
    if !imported.renamed.is_empty() {
        text.push_str("\n# Names that are others than in the database:\n");
        for (was, is, of) in &imported.renamed {
            let _ = writeln!(text, "#   {} is {is}, {of}", escaped(was));
        }
    }
    if !imported.left_out.is_empty() {
        text.push_str("\n# Left out, by line of the database:\n");
        for left in &imported.left_out {
            let _ = writeln!(
                text,
                "#   {}: {}, since {}",
                left.line,
                escaped(left.item.trim_end_matches(',')),
                escaped(&left.reason)
            );
        }
    }
    text
}

/// Says what was imported, and what was not.
fn say(imported: &Imported, is_utf8: bool) {
    say!("{} with {}", plural(imported.messages, "message"), plural(imported.signals, "signal"));
    if !is_utf8 {
        say!("the file is not UTF-8, and was read as Windows-1252");
    }
    for (was, is, of) in imported.renamed.iter().take(SHOWN) {
        say!("{}", wrapped(&format!("`{}` is called `{is}` here: {of}", escaped(was))));
    }
    if imported.renamed.len() > SHOWN {
        say!("and {} more names, which stand at the end of the imported file", imported.renamed.len() - SHOWN);
    }
    for left in imported.left_out.iter().take(SHOWN) {
        say!(
            "{}",
            wrapped(&format!("line {}: {} is left out: {}", left.line, escaped(&left.item), escaped(&left.reason)))
        );
    }
    if imported.left_out.len() > SHOWN {
        say!("and {} more, which stand at the end of the imported file", imported.left_out.len() - SHOWN);
    }
}
