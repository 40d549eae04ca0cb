//! `decode --out DIR`: tables by message, as CSV or Parquet; many captures on all cores, and again from where it stopped.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use anyhow::{Context, bail};
use emberwort_dataset::{Folder, TableForm};
use emberwort_rows::RowForm;
use rayon::prelude::*;

use crate::cli::{DecodeArgs, DecodeForm, InputArgs};
use crate::ending::Ending;
use crate::files;
use crate::output::{Look, say};
use crate::reading::capture_definitions::open_definitions;
use crate::reading::inputs::{self, InputsOutcome};
use crate::reading::opening::input_name;
use crate::reading::queried::asked;
use crate::render::plural;
use crate::render::stats::{Account, damage_text, sentence};

/// The folder that keeps which captures are done.
const STATE: &str = "_emberwort";

pub fn run(args: &DecodeArgs, out: &Path, link: Option<&Path>, look: Look) -> anyhow::Result<Ending> {
    let form = match args.form_out {
        DecodeForm::Rows(RowForm::Csv) => TableForm::Csv,
        #[cfg(feature = "parquet")]
        DecodeForm::Parquet => TableForm::Parquet,
        _ => bail!("--out is for tables: --as csv or --as parquet"),
    };
    if form == TableForm::Csv {
        let name = args.input.inputs.first().map_or_else(|| "rows".to_owned(), |path| name_of(path));
        let (reading, tables) = one(args, args.input.clone(), (out, form, &name), link, look)?;
        for (path, rows) in tables {
            say!("{}: {}", files::shown(&path), plural(rows, "row"));
        }
        return Ok(account(&reading));
    }
    let state = out.join(STATE);
    fs::create_dir_all(&state).with_context(|| format!("{} cannot be made", files::shown(&state)))?;
    let mut names: Vec<(String, PathBuf)> = Vec::new();
    for path in &args.input.inputs {
        let name = name_of(path);
        if let Some((_, other)) = names.iter().find(|(known, _)| *known == name) {
            bail!(
                "{} and {} would have the same name in the data set; rename one",
                input_name(other),
                input_name(path)
            );
        }
        names.push((name, path.clone()));
    }
    let results = Mutex::new(Vec::new());
    let done = |name: &str| state.join(format!("{name}.done")).exists();
    let left: Vec<&(String, PathBuf)> = names.iter().filter(|(name, _)| !done(name)).collect();
    if left.len() < names.len() {
        say!("{} of {} were in the data set before", names.len() - left.len(), plural(names.len(), "capture"));
    }
    left.into_par_iter().for_each(|(name, path)| {
        if !crate::interrupt::came() {
            let result = capture(args, (out, form), (&state, name, path), link, look);
            results.lock().unwrap_or_else(std::sync::PoisonError::into_inner).push((path.clone(), result));
        }
    });
    let mut results = results.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner);
    results.sort_by(|a, b| a.0.cmp(&b.0));
    let mut ending = Ending::Clean;
    let (mut rows, mut frames) = (0, 0);
    let mut failed = None;
    for (path, result) in results {
        match result {
            Ok((reading, tables)) => {
                rows += tables.iter().map(|(_, rows)| rows).sum::<u64>();
                frames += reading.statistics.frames;
                for (name, damage) in &reading.inputs.damage {
                    say!("{}", damage_text(name, damage));
                    ending = Ending::WithFindings;
                }
            }
            Err(error) => {
                failed.get_or_insert(error.context(format!("{} is not in the data set", input_name(&path))));
            }
        }
    }
    say!("{} with {} are in {}", plural(rows, "row"), plural(frames, "frame"), files::shown(out));
    if crate::interrupt::came() {
        say!("interrupted; the same command goes on from here");
        return Ok(Ending::WithFindings);
    }
    failed.map_or(Ok(ending), Err)
}

/// The name of a capture's files.
fn name_of(path: &Path) -> String {
    let name = path.file_name().map_or_else(|| "rows".into(), |name| name.to_string_lossy());
    let plain = |c: char| if c.is_ascii_alphanumeric() || matches!(c, '-' | '_') { c } else { '_' };
    name.chars().map(plain).collect()
}

type Tables = Vec<(PathBuf, u64)>;

/// One capture of a data set: what an earlier run left of it is made again.
fn capture(
    args: &DecodeArgs,
    (out, form): (&Path, TableForm),
    (state, name, path): (&Path, &str, &Path),
    link: Option<&Path>,
    look: Look,
) -> anyhow::Result<(InputsOutcome, Tables)> {
    let (started, done) = (state.join(format!("{name}.started")), state.join(format!("{name}.done")));
    if let Ok(written) = fs::read_to_string(&started) {
        for table in written.lines() {
            let _ = fs::remove_file(out.join(table));
        }
        remove_of(out, name)?;
    }
    fs::write(&started, "").with_context(|| format!("{} cannot be written", files::shown(&started)))?;
    let input = InputArgs { inputs: vec![path.to_owned()], ..args.input.clone() };
    let (reading, tables) = one(args, input, (out, form, name), link, look)?;
    if crate::interrupt::came() {
        return Ok((reading, tables));
    }
    let listed: Vec<String> = tables
        .iter()
        .map(|(path, rows)| format!("{} {rows}", path.strip_prefix(out).unwrap_or(path).display()))
        .collect();
    fs::write(&started, listed.join("\n"))?;
    fs::rename(&started, &done)?;
    Ok((reading, tables))
}

/// Removes the tables of a capture that an earlier run did not end.
fn remove_of(out: &Path, name: &str) -> anyhow::Result<()> {
    let folders = |path: &Path| -> Vec<PathBuf> {
        let entries = fs::read_dir(path).into_iter().flatten().flatten();
        entries.map(|entry| entry.path()).filter(|path| path.is_dir()).collect()
    };
    for message in folders(out)
        .into_iter()
        .filter(|path| path.file_name().is_some_and(|name| name.to_string_lossy().starts_with("message=")))
    {
        for day in folders(&message) {
            for entry in fs::read_dir(&day)?.flatten() {
                let file = entry.file_name().to_string_lossy().into_owned();
                let rest = file.strip_prefix(name);
                let is_own = rest.is_some_and(|rest| {
                    rest == ".parquet" || rest == ".unfinished" || rest.starts_with('-') && rest.ends_with(".parquet")
                });
                if is_own {
                    fs::remove_file(entry.path())?;
                }
            }
        }
    }
    Ok(())
}

fn one(
    args: &DecodeArgs,
    input: InputArgs,
    (out, form, name): (&Path, TableForm, &str),
    link: Option<&Path>,
    look: Look,
) -> anyhow::Result<(InputsOutcome, Tables)> {
    let definitions = open_definitions(&args.revisions, link, look)?;
    let plan = definitions.revisions.own().clone();
    let mut folder = Folder::new(out, form, name, crate::interrupt::came);
    let wanted = asked(&args.asked, &plan, &mut folder)?;
    let reading = inputs::decode_all(&input, link, definitions, wanted)?;
    let tables = folder.tables().map(|(path, rows)| (path.to_owned(), rows)).collect();
    Ok((reading, tables))
}

fn account(outcome: &InputsOutcome) -> Ending {
    let account = Account {
        statistics: &outcome.statistics,
        file_bytes: outcome.inputs.file_bytes,
        damage: &outcome.inputs.damage,
    };
    say!("{}", sentence(&account));
    for (name, damage) in &outcome.inputs.damage {
        say!("{}", damage_text(name, damage));
    }
    for note in &outcome.inputs.notes {
        say!("{note}");
    }
    if outcome.inputs.damage.is_empty() { Ending::Clean } else { Ending::WithFindings }
}
