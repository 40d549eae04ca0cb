//! `tidy`: definitions in the one canonical style.

use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};

use anyhow::{Context, bail};
use emberwort_model::tidy::tidy;
use emberwort_model::{Source, Sources};

use crate::cli::TidyArgs;
use crate::ending::Ending;
use crate::files;
use crate::output::{self, Look};
use crate::project::{Project, read_limited};
use crate::render::findings;

pub fn run(args: &TidyArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Ending> {
    let files: Vec<PathBuf> =
        if args.files.is_empty() { vec![Project::find(link)?.definition] } else { args.files.clone() };
    let mut out = output::stdout();
    let mut ending = Ending::Clean;
    for path in &files {
        let from_input = path == Path::new("-");
        let shown = if from_input { "standard input".to_owned() } else { crate::files::shown(path) };
        let bytes = if from_input {
            let mut bytes = Vec::new();
            io::stdin()
                .lock()
                .take(emberwort_model::MAX_BYTES as u64 + 1)
                .read_to_end(&mut bytes)
                .context("standard input cannot be read")?;
            bytes
        } else {
            read_limited(path).with_context(|| format!("{shown} cannot be read"))?
        };
        let text = match emberwort_model::decode_text(bytes) {
            Ok(text) => text,
            Err(error) => bail!("{shown}: {}", error.0.message),
        };
        let tidied = match tidy(&text) {
            Ok(tidied) => tidied,
            Err(found) => {
                let errors: Vec<_> = found.into_iter().filter(|finding| finding.is_error()).collect();
                output::say_text(&findings::render(&Sources::of(Source::new(shown.as_str(), text)), &errors, look.err));
                bail!("{shown} has syntax errors, so it is left as it is");
            }
        };
        if args.check {
            if tidied != text {
                ending = Ending::WithFindings;
                let line = text.lines().zip(tidied.lines()).position(|(a, b)| a != b);
                let line = line.unwrap_or_else(|| text.lines().count().min(tidied.lines().count())) + 1;
                writeln!(out, "{shown}:{line}: not in canonical style; `emberwort tidy {shown}` mends it")?;
            }
        } else if from_input {
            out.write_all(tidied.as_bytes())?;
        } else if tidied != text {
            files::rewrite(path, text.as_bytes(), tidied.as_bytes())?;
            writeln!(out, "{shown}: tidied")?;
        } else {
            writeln!(out, "{shown}: tidy already")?;
        }
    }
    out.flush()?;
    Ok(ending)
}
