//! `trial --sweep`: a trial at many rates of one fault.

use std::io::Write;
use std::path::Path;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};

use anyhow::{Context, bail};
use emberwort_link::Scenario;
use emberwort_link::sweep::{SweepPoint, Swept, rates, sweep};
use emberwort_model::diagnostics::nearest;
use emberwort_rows::{Paint, time};
use serde_json::json;

use crate::cli::{TableForm, TrialArgs};
use crate::ending::Ending;
use crate::files::{self, Replace};
use crate::output::{self, Look, Progress, say};
use crate::render::{plural, sweep_figure, table, wrapped};

/// Reads `bit_errors=1e-6..1e-2`.
fn read(words: &str) -> anyhow::Result<(&'static str, Swept, f64, f64)> {
    const FORM: &str = "write FAULT=FROM..TO, as bit_errors=1e-6..1e-2";
    let (name, range) = words.split_once('=').context(FORM)?;
    let names = Swept::ALL.map(|(name, _)| name);
    let Some((name, swept)) = Swept::ALL.into_iter().find(|(known, _)| *known == name) else {
        match nearest(name, names) {
            Some(near) => bail!("`{name}` is no fault that can be swept; did you mean `{near}`?"),
            None => bail!("`{name}` is no fault that can be swept; those are {}", names.join(", ")),
        }
    };
    let (from, to) = range.split_once("..").context(FORM)?;
    let rate = |text: &str| text.trim().parse::<f64>().with_context(|| format!("`{text}` is not a number; {FORM}"));
    let (from, to) = (rate(from)?, rate(to)?);
    if !(from > 0.0 && from < to && to <= 1.0) {
        bail!("the rates must rise from more than 0 to at most 1; {FORM}");
    }
    Ok((name, swept, from, to))
}

pub fn run(args: &TrialArgs, words: &str, scenario: &Scenario, look: Look) -> anyhow::Result<Ending> {
    let (name, swept, from, to) = read(words)?;
    let rates = rates(from, to, args.per_decade);
    crate::interrupt::catch();
    let whole = rates.len() as u64 * args.seeds;
    let progress = Mutex::new(Progress::new(whole));
    let count = AtomicU64::new(0);
    let done = || {
        let count = count.fetch_add(1, Ordering::Relaxed) + 1;
        progress.lock().unwrap_or_else(PoisonError::into_inner).at(count);
    };
    let points = sweep(scenario, swept, &rates, args.seeds, &done, &|| !crate::interrupt::came());
    progress.into_inner().unwrap_or_else(PoisonError::into_inner).end();
    let mut out = output::stdout();
    match args.form {
        TableForm::Table => out.write_all(rows(name, &points, args.seeds, look).as_bytes())?,
        TableForm::Ndjson => {
            for point in &points {
                writeln!(out, "{}", as_json(name, point))?;
            }
        }
    }
    out.flush()?;
    if let Some(path) = &args.figure {
        draw(path, name, &points)?;
        say!("the figure is in {}", files::shown(path));
    }
    if crate::interrupt::came() {
        say!("interrupted after {} of {}", count.load(Ordering::Relaxed), plural(whole, "run"));
        return Ok(Ending::WithFindings);
    }
    Ok(Ending::Clean)
}

fn draw(path: &Path, name: &str, points: &[SweepPoint]) -> anyhow::Result<()> {
    let svg = sweep_figure::svg(name, points)?;
    let bytes = match path.extension().and_then(|ending| ending.to_str()) {
        Some("svg") => svg.into_bytes(),
        #[cfg(feature = "pictures")]
        Some("png") => crate::render::png::png(&svg)?,
        _ => bail!("{} is neither .svg nor .png", files::shown(path)),
    };
    files::write_file(path, &bytes, Replace::Generated(emberwort_codegen::MARK))
}

/// Whether what was found lies in the band that theory allows.
fn fits(point: &SweepPoint) -> bool {
    let (low, high) = point.band();
    (low..=high).contains(&point.expected_loss)
}

fn rows(name: &str, points: &[SweepPoint], seeds: u64, look: Look) -> String {
    let titles = [
        name,
        "sent",
        "lost",
        "lost %",
        "theory %",
        "99 % band",
        "",
        "false accepts",
        "expected",
        "recovery",
        "at most",
        "passed",
    ];
    let right = [true, true, true, true, true, true, false, true, true, true, true, true];
    let mut grid = table::table(&titles, &right);
    for point in points {
        let (low, high) = point.band();
        let time = |time: Option<u64>| time.map_or_else(String::new, time::duration);
        grid.add_row([
            format!("{:.2e}", point.rate),
            point.sent.to_string(),
            point.lost.to_string(),
            percent(point.loss()),
            percent(point.expected_loss),
            format!("{}-{}", percent(low), percent(high)),
            if fits(point) { String::new() } else { "outside".to_owned() },
            point.false_accepts.to_string(),
            format!("{:.2}", point.expected_false_accepts),
            time(point.recovery.map(|(median, _)| median)),
            time(point.recovery.map(|(_, longest)| longest)),
            format!("{}/{seeds}", point.passed),
        ]);
    }
    let lines = grid.lines();
    let mut out = String::new();
    for line in lines.lines() {
        let painted = if line.contains("outside") {
            line.replacen("outside", &look.paint(Paint::Bad, "outside"), 1)
        } else {
            line.to_owned()
        };
        out += &painted;
        out.push('\n');
    }
    let title = "lost frames, from one in a million on the left to all on the right; o is what was found, | theory:";
    out += &format!("\n{}\n", wrapped(title));
    for point in points {
        out += &format!("{:>9} {}\n", format!("{:.2e}", point.rate), bar(point));
    }
    let theory = "theory: a frame is lost if at least one of its bits or bytes is hit, 1 - (1 - p)^n; all other faults of the trial are left out";
    out + &format!("\n{}\n", wrapped(theory))
}

/// Found and expected loss on a logarithmic scale of six decades.
fn bar(point: &SweepPoint) -> String {
    const WIDTH: usize = 60;
    let place = |share: f64| {
        let decades = (share.max(1e-6).log10() + 6.0) / 6.0;
        ((decades * (WIDTH - 1) as f64).round() as usize).min(WIDTH - 1)
    };
    let mut cells = vec!['.'; WIDTH];
    cells[place(point.expected_loss)] = '|';
    if point.lost > 0 {
        cells[place(point.loss())] = 'o';
    }
    cells.into_iter().collect()
}

fn percent(share: f64) -> String {
    let percent = 100.0 * share;
    if percent >= 10.0 { format!("{percent:.1}") } else { format!("{percent:.4}") }
}

fn as_json(name: &str, point: &SweepPoint) -> serde_json::Value {
    let (low, high) = point.band();
    json!({
        "fault": name, "rate": point.rate, "sent": point.sent, "lost": point.lost, "loss": point.loss(),
        "expected_loss": point.expected_loss, "band": [low, high], "false_accepts": point.false_accepts,
        "expected_false_accepts": point.expected_false_accepts, "recovery_median_ns": point.recovery.map(|(median, _)| median),
        "recovery_longest_ns": point.recovery.map(|(_, longest)| longest), "passed": point.passed,
    })
}
