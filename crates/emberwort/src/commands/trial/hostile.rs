//! `trial --hostile`: what receivers accept of frames that were changed on purpose.

use std::io::Write;
use std::time::{Duration, Instant};

use emberwort_link::Scenario;
use emberwort_link::hostile::hostile;
use emberwort_model::hex::hex;
use serde_json::json;

use crate::cli::TableForm;
use crate::ending::Ending;
use crate::output::{self, Progress};
use crate::render::{plural, wrapped};

/// So many times more false accepts than expected are a finding. Chance alone hardly makes as many.
const TOO_MANY: f64 = 3.0;

pub fn run(lasting: u64, scenario: &Scenario, form: TableForm) -> anyhow::Result<Ending> {
    crate::interrupt::catch();
    let (began, whole) = (Instant::now(), Duration::from_nanos(lasting));
    let mut progress = Progress::new(lasting);
    let found = hostile(scenario, &mut || {
        progress.at(began.elapsed().as_nanos() as u64);
        began.elapsed() < whole && !crate::interrupt::came()
    });
    progress.end();
    let mut out = output::stdout();
    // Of a few expected ones there may be some more by chance.
    let bound = (TOO_MANY * found.expected).max(found.expected + 5.0);
    let is_too_much = found.false_accepts as f64 > bound;
    match form {
        TableForm::Table => {
            let fed = format!(
                "{} fed, {}; {} accepted as they were sent, {} accepted that nobody sent",
                plural(found.fed, "changed frame"),
                plural(found.bytes, "byte"),
                found.accepted,
                found.false_accepts
            );
            writeln!(out, "{}", wrapped(&fed))?;
            if found.unchecked < found.fed {
                writeln!(out, "{:.1} of the last kind can be expected of the checksums alone", found.expected)?;
            }
            if found.unchecked > 0 {
                let of = plural(found.unchecked, "changed frame");
                writeln!(out, "{of} had no checksum: only constants and lengths keep such a frame out")?;
            }
            for (from, bytes) in &found.examples {
                writeln!(out, "  accepted from a {}: {}", from.as_str(), hex(bytes))?;
            }
            if is_too_much {
                let way = match found.unchecked {
                    0 => "let a checksum cover all of the frame, or take a longer one",
                    _ => "give the frame a checksum over all of it",
                };
                writeln!(out, "these are far too many: {way}")?;
            }
        }
        TableForm::Ndjson => {
            let examples: Vec<_> = found
                .examples
                .iter()
                .map(|(from, bytes)| json!({"direction": from.as_str(), "bytes": hex(bytes)}))
                .collect();
            let row = json!({
                "fed": found.fed, "bytes": found.bytes, "accepted": found.accepted, "false_accepts": found.false_accepts,
                "expected": found.expected, "unchecked": found.unchecked, "examples": examples,
            });
            writeln!(out, "{row}")?;
        }
    }
    out.flush()?;
    Ok(if is_too_much { Ending::WithFindings } else { Ending::Clean })
}
