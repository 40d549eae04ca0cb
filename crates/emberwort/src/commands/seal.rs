//! `seal`: freezes the current revision, and shows the sealed ones.

use std::io::Write;
use std::path::Path;

use anyhow::bail;
use emberwort_evolution::{History, Sealed, file_name, folded, sealed_text};
use emberwort_model::Plan;
use emberwort_rows::Paint;
use serde_json::json;

use crate::cli::{SealArgs, TableForm};
use crate::ending::Ending;
use crate::files::{self, PendingFile};
use crate::output::{self, Look, say};
use crate::project::{Project, read_definition};
use crate::reading::revisions;
use crate::render::findings;
use crate::render::plural;
use crate::render::table::table;

pub fn run(args: &SealArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Ending> {
    let definition = Project::find(link)?.definition;
    let checked = read_definition(&definition)?;
    let Some(plan) = &checked.plan else {
        let errors: Vec<_> = checked.findings.into_iter().filter(|finding| finding.is_error()).collect();
        output::say_text(&findings::render(&checked.sources, &errors, look.err));
        say!("{} has errors, so nothing is sealed", crate::files::shown(&definition));
        return Ok(Ending::WithFindings);
    };
    let folder = revisions::folder(&definition);
    let history = revisions::history(&definition, &plan.link.name)?;
    if args.list {
        return list(&history, args.form, look);
    }
    if let [_, ..] = history.problems.as_slice() {
        revisions::report_problems(&history, look);
        say!("nothing is sealed until the history is whole again: restore these files from version control");
        return Ok(Ending::WithFindings);
    }
    let text = match folded(&checked.sources) {
        Ok(text) => text,
        Err(found) => bail!("the definition cannot be folded into one file: {}", found[0].message),
    };
    // What is sealed has to mean what was checked.
    let again = emberwort_model::check(&emberwort_model::Source::new("sealed", text.as_str()));
    if again.plan.is_none_or(|again| again.link != plan.link || again.channels != plan.channels) {
        bail!(
            "{} and its imports mean something else as one file, so it is not sealed",
            crate::files::shown(&definition)
        );
    }
    match refusal(&history, plan, &text) {
        Verdict::Known => {
            let mut out = output::stdout();
            writeln!(out, "revision {} is sealed already, with this content", plan.link.revision)?;
            out.flush()?;
            Ok(Ending::Clean)
        }
        Verdict::Refused(why) => {
            say!("{}", look.paint_err(Paint::Bad, &why));
            Ok(Ending::WithFindings)
        }
        Verdict::New => seal(args, plan, &text, &folder),
    }
}

/// Whether a definition can be sealed.
enum Verdict {
    New,
    Known,
    Refused(String),
}

fn refusal(history: &History, plan: &Plan, text: &str) -> Verdict {
    let revision = plan.link.revision;
    let Some(last) = history.last() else { return Verdict::New };
    if let Some(last) = revisions::edited_after_sealing(history, plan, text) {
        return Verdict::Refused(format!(
            "revision {revision} is sealed already, with another content\nwhat is released stays as it is: write `revision {}` into \
             the link, or take the change back",
            last + 1
        ));
    }
    if history.revisions.iter().any(|sealed| sealed.revision == revision) {
        return Verdict::Known;
    }
    if revision < last.revision {
        return Verdict::Refused(format!(
            "the revision went down: {} is sealed, and the definition says {revision}\nwrite `revision {}`",
            last.revision,
            last.revision + 1
        ));
    }
    if revision > last.revision + 1 {
        return Verdict::Refused(format!(
            "revision {} comes after {}, and the definition says {revision}\nwrite `revision {0}`",
            last.revision + 1,
            last.revision
        ));
    }
    Verdict::New
}

fn seal(args: &SealArgs, plan: &Plan, text: &str, folder: &Path) -> anyhow::Result<Ending> {
    let revision = plan.link.revision;
    let today = || jiff::Timestamp::now().to_zoned(jiff::tz::TimeZone::UTC).date();
    let date = args.date.unwrap_or_else(today);
    let file = file_name(&plan.link.name, revision);
    let text = sealed_text(text, revision, &date.to_string(), args.note.as_deref().unwrap_or_default());
    let path = folder.join(&file);
    // Text and digest are one file, which is there as a whole or not at all; of two that seal at once, one does.
    let mut sealed = PendingFile::new(&path)?;
    sealed.write_all(text.as_bytes())?;
    sealed.commit(false)?;
    let mut out = output::stdout();
    writeln!(out, "revision {revision} of {} is sealed: {}", plan.link.name, files::shown(&path))?;
    writeln!(out, "add {}/ to version control; its files do not change any more", files::shown(folder))?;
    out.flush()?;
    Ok(Ending::Clean)
}

fn list(history: &History, form: TableForm, look: Look) -> anyhow::Result<Ending> {
    let mut out = output::stdout();
    let mut rows =
        table(&["revision", "sealed", "added", "longest frame", "note"], &[true, false, false, false, false]);
    let mut before: Option<&Sealed> = None;
    for sealed in &history.revisions {
        let added = sealed.added(before);
        let longest = sealed.longest_frame();
        match form {
            TableForm::Ndjson => writeln!(
                out,
                "{}",
                json!({
                    "revision": sealed.revision, "sealed": sealed.date, "added": added,
                    "longest_frame": longest.map(|(channel, bytes)| json!({"channel": channel, "bytes": bytes})), "note": sealed.note,
                })
            )?,
            TableForm::Table => rows.add_row([
                sealed.revision.to_string(),
                sealed.date.clone(),
                match before {
                    Some(_) => added.join(", "),
                    None if history.problems.is_empty() => "(the first)".to_owned(),
                    None => String::new(),
                },
                longest.map_or(String::new(), |(channel, bytes)| format!("{} on {channel}", plural(bytes, "byte"))),
                sealed.note.clone(),
            ]),
        }
        before = Some(sealed);
    }
    if form == TableForm::Table {
        match history.revisions.as_slice() {
            [] => writeln!(out, "nothing is sealed yet: `emberwort seal` freezes the current revision")?,
            _ => write!(out, "{}", rows.lines())?,
        }
    }
    out.flush()?;
    revisions::report_problems(history, look);
    Ok(if history.problems.is_empty() { Ending::Clean } else { Ending::WithFindings })
}
