//! `check`: reports what is wrong in definitions.

use std::collections::HashSet;
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};

use anyhow::Context;
use emberwort_checksum::frames::{Guarantees, promises};
use emberwort_evolution::{file_name, folded};
use emberwort_model::diagnostics::{Code, Finding, Severity};
use emberwort_model::model::End;
use emberwort_model::plan::{Channel, Direction};
use emberwort_model::{Checked, Plan, Span, named_place};

use super::generate::{clashes, usual_name};
use crate::cli::{CheckArgs, Deny, TableForm};
use crate::ending::Ending;
use crate::output::{self, Look, say};
use crate::project::{GenerateKind, PROJECT_FILE, Project, check_bytes, read_definition};
use crate::reading::revisions;
use crate::render::{findings, frames, plural};

pub fn run(args: &CheckArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Ending> {
    let files: Vec<PathBuf> =
        if args.files.is_empty() { vec![Project::find(link)?.definition] } else { args.files.clone() };
    let mut out = output::stdout();
    let mut ending = Ending::Clean;
    for file in &files {
        let checked = if file == Path::new("-") {
            let mut bytes = Vec::new();
            let most = emberwort_model::MAX_BYTES as u64 + 1;
            io::stdin().lock().take(most).read_to_end(&mut bytes).context("standard input cannot be read")?;
            check_bytes("standard input".into(), bytes)
        } else {
            read_definition(file)?
        };
        let mut checked = checked;
        let stopped = note_clashes(&mut checked, &generated(file));
        if stopped > 0 {
            ending = Ending::WithFindings;
        }
        if is_edited_after_sealing(file, &checked)? && args.deny == Some(Deny::Warnings) {
            ending = Ending::WithFindings;
        }
        let found = &checked.findings;
        let count = |severity: Severity| found.iter().filter(|finding| finding.code.severity() == severity).count();
        let (errors, warnings, hints) = (count(Severity::Error), count(Severity::Warning), count(Severity::Hint));
        if errors > 0 || warnings > 0 && args.deny == Some(Deny::Warnings) {
            ending = Ending::WithFindings;
        }
        if args.form == TableForm::Ndjson {
            out.write_all(findings::as_ndjson(&checked.sources, found).as_bytes())?;
            for (channel, from, promises) in of_frames(args, &checked) {
                writeln!(out, "{}", frames::row(channel, from, &promises))?;
            }
            continue;
        }
        out.write_all(findings::render(&checked.sources, found, look.out).as_bytes())?;
        let mut parts = Vec::new();
        for (count, what) in [(errors, "error"), (warnings, "warning"), (hints, "hint")] {
            if count > 0 {
                parts.push(plural(count, what));
            }
        }
        if checked.plan.as_ref().is_some_and(has_too_many_fields) {
            parts.push("names in generated code not compared, as there are so many (`generate` does)".into());
        }
        if stopped > 0 {
            let clashes = plural(stopped, "name");
            parts.push(format!("{clashes} that nothing can be generated with, as {PROJECT_FILE} asks for it"));
        }
        if found.is_empty() {
            parts.push("no findings".into());
        }
        let mut line = format!("{}: {}", crate::files::shown(file), parts.join(", "));
        if let Some(plan) = &checked.plan {
            line.push_str(&format!(
                " ({} revision {}: {}, {})",
                plan.link.name,
                plan.link.revision,
                plural(plan.messages.len(), "message"),
                plural(plan.channels.len(), "channel")
            ));
        }
        writeln!(out, "{line}")?;
        for (channel, from, promises) in of_frames(args, &checked) {
            write!(out, "\n{}", frames::sentences(channel, from, &promises, look))?;
        }
    }
    out.flush()?;
    Ok(ending)
}

/// Says so if a definition has the number of a sealed revision and another content.
fn is_edited_after_sealing(file: &Path, checked: &Checked) -> anyhow::Result<bool> {
    let Some(plan) = checked.plan.as_ref().filter(|_| file != Path::new("-")) else { return Ok(false) };
    if !revisions::folder(file).join(file_name(&plan.link.name, plan.link.revision)).is_file() {
        return Ok(false);
    }
    let history = revisions::history(file, &plan.link.name)?;
    let Ok(text) = folded(&checked.sources) else { return Ok(false) };
    let Some(last) = revisions::edited_after_sealing(&history, plan, &text) else { return Ok(false) };
    say!(
        "warning: revision {} of {} is sealed, with another content: write `revision {}` into the link before this is released",
        plan.link.revision,
        plan.link.name,
        last + 1
    );
    Ok(true)
}

/// The channels whose framing is asked about, those with other frames in each direction twice, and what it can promise.
fn of_frames<'a>(args: &CheckArgs, checked: &'a Checked) -> Vec<(&'a Direction, Option<End>, Guarantees)> {
    let Some(plan) = checked.plan.as_ref().filter(|_| args.frames) else { return Vec::new() };
    let each = plan.channels.iter().flat_map(Channel::directions);
    each.map(|(from, direction)| (&**direction, from, promises(plan, direction))).collect()
}

/// With more fields than this `check` leaves it to `generate` to find names that clash, which takes several times as long as all else.
const MAX_COMPARED: usize = 20_000;

fn has_too_many_fields(plan: &Plan) -> bool {
    plan.messages.iter().map(|message| message.message.fields.len()).sum::<usize>() > MAX_COMPARED
}

/// What the project of a definition generates.
fn generated(file: &Path) -> Vec<GenerateKind> {
    let project = Project::find(None).ok().filter(|project| project.definition == file);
    let entries = project.and_then(|project| project.file).map(|(_, file)| file.generate).unwrap_or_default();
    entries.into_iter().map(|entry| entry.kind).collect()
}

/// Adds findings about names that would be the same in generated code. How many of them stop a generator that is used.
fn note_clashes(checked: &mut Checked, used: &[GenerateKind]) -> usize {
    let Some(plan) = &checked.plan else { return 0 };
    if has_too_many_fields(plan) {
        return 0;
    }
    let (mut seen, mut stopped) = (HashSet::new(), HashSet::new());
    for (kind, clash) in clashes(plan) {
        let language = usual_name(kind);
        let names = (clash.first.clone(), clash.second.clone());
        if used.contains(&kind) {
            stopped.insert(names.clone());
        }
        // Once is enough for two names.
        if !seen.insert(names) {
            continue;
        }
        let [first, second] = [&clash.first, &clash.second].map(|path| named_place(&checked.sources, path));
        let span = second.or(first).unwrap_or(Span::new(0, 0));
        let help = format!("rename one of them; until then no {language} can be generated");
        let mut finding = Finding::new(Code::NameClash, span, clash.sentence(language), help);
        if let (Some(first), Some(second)) = (first, second)
            && first != second
        {
            finding = finding.related(first, "becomes the same name");
        }
        checked.findings.push(finding);
    }
    checked.findings.sort_by_key(|finding| finding.span.start);
    stopped.len()
}
