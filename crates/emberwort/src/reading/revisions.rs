//! Where revisions are: sealed ones beside the definition, those in version control, files, and the definition as it is.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Arc;

use anyhow::{Context, bail};
use emberwort_evolution::{History, Revision, Sealed, compare, folded, same_content};
use emberwort_model::diagnostics::escaped;
use emberwort_model::{Checked, Plan, Source};
use emberwort_rows::Paint;

use crate::output::Look;
use crate::project::{AllowEntry, import_path, read_definition, read_limited};
use crate::render::findings;

/// The folder of sealed revisions, beside the definition.
pub fn folder(definition: &Path) -> PathBuf {
    definition.parent().unwrap_or(Path::new("")).join("sealed")
}

/// The sealed revisions of a link.
pub fn history(definition: &Path, link: &str) -> anyhow::Result<History> {
    Ok(History::of(link, &files(&folder(definition))?))
}

/// The files of the folder, if there is one.
fn files(folder: &Path) -> anyhow::Result<BTreeMap<String, Vec<u8>>> {
    let mut files = BTreeMap::new();
    let entries = match fs::read_dir(folder) {
        Ok(entries) => entries,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(files),
        Err(error) => return Err(error).with_context(|| format!("{} cannot be read", crate::files::shown(folder))),
    };
    for entry in entries {
        let path: PathBuf = entry.with_context(|| format!("{} cannot be read", crate::files::shown(folder)))?.path();
        let ours = path.extension().is_some_and(|end| end == "ember");
        if let (Some(name), true) = (path.file_name().and_then(|name| name.to_str()), ours) {
            let bytes =
                read_limited(&path).with_context(|| format!("{} cannot be read", crate::files::shown(&path)))?;
            files.insert(name.to_owned(), bytes);
        }
    }
    Ok(files)
}

/// Shows what is wrong with sealed revisions.
pub fn report_problems(history: &History, look: Look) {
    for problem in &history.problems {
        crate::output::say!("{} {problem}", look.paint_err(Paint::Bad, "finding:"));
    }
}

/// A sealed revision, for comparing.
pub fn of_sealed(sealed: &Sealed) -> anyhow::Result<Revision> {
    let source = Source::new(format!("r{}", sealed.revision), sealed.text.as_str());
    let checked = emberwort_model::check(&source);
    let date = if sealed.date.is_empty() { String::new() } else { format!(", sealed {}", sealed.date) };
    of_checked(format!("revision {}{date}", sealed.revision), checked, Look { out: false, err: false })
}

/// What a definition is called: the number of its revision and where it is; the place alone, if its errors leave no number.
pub fn numbered(checked: &Checked, between: &str, place: &str) -> String {
    match &checked.plan {
        Some(plan) => format!("revision {}{between}{place}", plan.link.revision),
        None => place.to_owned(),
    }
}

/// The last sealed revision, if a definition has the number of a sealed one and does not mean the same.
pub fn edited_after_sealing(history: &History, plan: &Plan, text: &str) -> Option<u32> {
    let known = history.revisions.iter().find(|sealed| sealed.revision == plan.link.revision)?;
    let same = same_content(&known.text, text) || nothing_differs(known, plan, text);
    if same { None } else { history.last().map(|last| last.revision) }
}

/// Whether nothing that an end could notice differs.
fn nothing_differs(known: &Sealed, plan: &Plan, text: &str) -> bool {
    let now = Revision { name: String::new(), plan: Arc::new(plan.clone()), text: text.to_owned() };
    of_sealed(known).is_ok_and(|known| compare(&known, &now).changes.is_empty())
}

/// What a definition says, for comparing; its findings are shown if it has errors.
pub fn of_checked(name: String, checked: Checked, look: Look) -> anyhow::Result<Revision> {
    let Some(plan) = checked.plan else {
        let errors: Vec<_> = checked.findings.into_iter().filter(|finding| finding.is_error()).collect();
        crate::output::say_text(&findings::render(&checked.sources, &errors, look.err));
        bail!("{name} has errors; mend them before you compare");
    };
    match folded(&checked.sources) {
        Ok(text) => Ok(Revision { name, plan: Arc::new(plan), text }),
        Err(found) => bail!("{name} cannot be folded into one file: {}", found[0].message),
    }
}

/// The earlier sealed revisions with which a definition does not get along, beyond what was accepted.
pub fn incompatible_revisions(
    definition: &Path,
    plan: &Arc<Plan>,
    allowed: &[AllowEntry],
    look: Look,
) -> anyhow::Result<Vec<u32>> {
    let history = history(definition, &plan.link.name)?;
    let earlier: Vec<&Sealed> =
        history.revisions.iter().filter(|sealed| sealed.revision < plan.link.revision).collect();
    if earlier.is_empty() {
        return Ok(Vec::new());
    }
    let now = of_checked("the definition".into(), read_definition(definition)?, look)?;
    let mut incompatible = Vec::new();
    for sealed in earlier {
        let accepted =
            |name: &str| allowed.iter().any(|entry| entry.difference == name && entry.revision == plan.link.revision);
        let found = compare(&of_sealed(sealed)?, &now).changes;
        let mut strands = found.iter().filter(|change| change.worst().strands());
        if strands.any(|change| !accepted(&change.difference.to_string())) {
            incompatible.push(sealed.revision);
        }
    }
    Ok(incompatible)
}

/// A revision as a user names it: `r2`, `git:v1.4`, or a file.
pub fn named(name: &str, definition: &Path, history: &History, look: Look) -> anyhow::Result<Revision> {
    if let Some(number) = name.strip_prefix('r').and_then(|number| number.parse::<u32>().ok()) {
        let Some(sealed) = history.revisions.iter().find(|sealed| sealed.revision == number) else {
            let known: Vec<String> = history.revisions.iter().map(|sealed| format!("r{}", sealed.revision)).collect();
            let known = if known.is_empty() { "nothing".to_owned() } else { known.join(", ") };
            bail!(
                "there is no sealed revision {number} in {}; it has {known}",
                crate::files::shown(&folder(definition))
            );
        };
        return of_sealed(sealed);
    }
    if let Some(commit) = name.strip_prefix("git:") {
        let checked = in_git(commit, definition)?;
        return of_checked(numbered(&checked, " in ", &escaped(name)), checked, look);
    }
    let path = Path::new(name);
    let checked = read_definition(path).with_context(|| {
        format!(
            "{} is not a file; name sealed revisions as `r2`, those in version control as `git:COMMIT`",
            crate::files::shown(path)
        )
    })?;
    of_checked(numbered(&checked, " in ", &crate::files::shown(path)), checked, look)
}

/// The definition as it stands in a commit.
fn in_git(commit: &str, definition: &Path) -> anyhow::Result<Checked> {
    if commit.is_empty() || commit.starts_with('-') {
        bail!("`git:` needs a commit, a tag or a branch after it, as in git:v1.4");
    }
    let folder = definition.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let read = |path: &Path| -> Result<Vec<u8>, String> {
        // `./` makes git look from the folder, not from the top of the repository.
        let object = format!("{commit}:./{}", path.display());
        let output = Command::new("git").arg("-C").arg(folder).args(["show", &object]).output();
        let output = output.map_err(|error| format!("git cannot be run: {error}"))?;
        if output.status.success() {
            return Ok(output.stdout);
        }
        let said = String::from_utf8_lossy(&output.stderr);
        Err(format!("git says: {}", escaped(said.lines().next().unwrap_or("nothing"))))
    };
    let Some(file) = definition.file_name().map(Path::new) else {
        bail!("{} is not a file", crate::files::shown(definition))
    };
    let bytes = read(file).map_err(|why| {
        anyhow::anyhow!("{} cannot be read from commit {}: {why}", crate::files::shown(file), escaped(commit))
    })?;
    let text = match emberwort_model::decode_text(bytes) {
        Ok(text) => text,
        Err(error) => bail!("{} in commit {}: {}", crate::files::shown(file), escaped(commit), error.0.message),
    };
    let mut import = |importer: &str, path: &str| -> Result<Source, String> {
        let found = import_path(importer, path);
        let text = emberwort_model::decode_text(read(&found)?).map_err(|error| error.0.message.clone())?;
        Ok(Source::new(found.display().to_string(), text))
    };
    Ok(emberwort_model::check_with(Source::new(file.display().to_string(), text), &mut import))
}
