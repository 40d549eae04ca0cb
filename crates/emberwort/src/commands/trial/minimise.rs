//! `trial --minimise`: a shorter trial in which the same thing fails for the same reason.

use std::path::Path;

use emberwort_link::minimise::minimise;
use emberwort_link::{Report, Scenario};

use crate::files::{self, Replace};
use crate::output::say;
use crate::render::plural;

/// Searches a shorter trial in which the first thing that failed fails, too, and writes it.
pub fn run(
    path: &Path,
    text: &str,
    scenario: &Scenario,
    report: &Report,
    parse: &dyn Fn(&str) -> Option<Scenario>,
) -> anyhow::Result<()> {
    let Some(failed) = report.verdicts.iter().find(|verdict| !verdict.held()) else {
        say!("nothing failed, so there is nothing to make shorter; {} was not written", files::shown(path));
        return Ok(());
    };
    let mut fails = |text: &str| {
        let Some(mut shorter) = parse(text).filter(|_| !crate::interrupt::came()) else { return false };
        shorter.seed = scenario.seed;
        let verdicts = emberwort_link::run(&shorter, &mut ()).verdicts;
        verdicts.iter().any(|verdict| verdict.sentence == failed.sentence && verdict.failed == failed.failed)
    };
    let mut found = minimise(text, scenario.span / 1_000_000, &mut fails)?;
    if let Some(line) = found.text.lines().position(|line| line.starts_with("seed")) {
        let lines: Vec<&str> = found.text.lines().collect();
        let seed = format!("seed = {}", scenario.seed);
        let lines: Vec<&str> =
            lines.iter().enumerate().map(|(n, old)| if n == line { seed.as_str() } else { old }).collect();
        found.text = lines.join("\n") + "\n";
    }
    let (before, after) = (text.lines().count(), found.text.lines().count());
    files::write_file(path, found.text.as_bytes(), Replace::No)?;
    say!(
        "a shorter trial is in {}: {after} lines in place of {before}; \"{}\" still fails for the same reason ({})",
        files::shown(path),
        emberwort_model::diagnostics::escaped(&failed.sentence),
        plural(found.runs, "trial run")
    );
    Ok(())
}
