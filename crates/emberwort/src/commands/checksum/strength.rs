//! `checksum strength`: what a checksum finds and what it misses.

use std::io::Write;
use std::path::Path;

use anyhow::bail;
use emberwort_checksum::frames::{Covered, covered};
use emberwort_checksum::strength::{DistanceRange, best, distances, facts, undetected};
use emberwort_model::algorithm::Algorithm;
use emberwort_model::plan::Channel;
use serde_json::json;

use crate::cli::{StrengthArgs, TableForm};
use crate::ending::Ending;
use crate::output::{self, Look};
use crate::project::load_plan;
use crate::reading::names::channel_index;
use crate::render::table::table;
use crate::render::{grouped, plural, wrapped};

const SECONDS_A_YEAR: f64 = 365.25 * 86_400.0;

/// A checksum over some data.
struct Case {
    algorithm: Algorithm,
    name: String,
    data_bits: usize,
    /// Of the frame on the wire.
    frame_bits: usize,
    what: String,
}

pub fn run(args: &StrengthArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Ending> {
    if let Some(width) = args.best {
        return list_best(args, width);
    }
    let case = case(args, link, look)?;
    let facts = facts(&case.algorithm, case.data_bits.div_ceil(8));
    let searched = match &case.algorithm {
        Algorithm::Crc(crc) => Some(distances(crc, case.data_bits)),
        Algorithm::Sum(_) => None,
    };
    let (distance, exact) = match (&searched, facts.distance) {
        (Some(searched), _) => searched.at(case.data_bits),
        (None, Some((distance, _))) => (distance, true),
        (None, None) => (1, false),
    };
    let ranges = searched.as_ref().map(|searched| searched.ranges()).unwrap_or_default();
    let passes = args.bit_errors.map(|chance| undetected(case.frame_bits, distance, facts.random_share, chance));
    let a_year = passes.map(|share| share * args.frames_a_second * SECONDS_A_YEAR);
    let mut out = output::stdout();
    if args.form == TableForm::Ndjson {
        let ranges: Vec<_> = ranges
            .iter()
            .map(|r| json!({"distance": r.distance, "up_to_data_bits": r.up_to, "exact": r.exact}))
            .collect();
        let row = json!({
            "algorithm": case.name, "data_bits": case.data_bits, "distance": distance, "exact": exact, "distances": ranges,
            "burst_bits": facts.burst_bits, "random_share": facts.random_share, "undetected_share": passes,
            "undetected_a_year": a_year,
        });
        writeln!(out, "{row}")?;
        out.flush()?;
        return Ok(Ending::Clean);
    }
    let mut say = |text: String| writeln!(out, "{}", wrapped(&text));
    say(format!("{} over {}", case.name, case.what))?;
    let least = if exact { "" } else { "at least " };
    let found = match distance {
        0..=2 => "a single wrong bit is always found".to_owned(),
        distance => format!("up to {} wrong bits are always found", distance - 1),
    };
    say(format!("Hamming distance {least}{distance}: {found}"))?;
    if let Some((_, why)) = facts.distance {
        say(format!("  {why}"))?;
    }
    say(format!("bursts of up to {} are always found", plural(facts.burst_bits as usize, "bit")))?;
    say(format!("of frames with random content 1 in {} passes", grouped((1.0 / facts.random_share).round())))?;
    if let (Some(share), Some(a_year), Some(chance)) = (passes, a_year, args.bit_errors) {
        say(format!(
            "with a chance of {chance:e} for each of {} to be wrong, a share of ≈{share:.1e} of the frames is damaged and passes: \
             at {} a second ≈{} a year",
            plural(case.frame_bits, "bit"),
            args.frames_a_second,
            few(a_year)
        ))?;
    }
    if !ranges.is_empty() {
        let mut rows = table(&["distance", "up to data bits", "bytes"], &[true, true, true]);
        for range in &ranges {
            let bytes = range.up_to.map_or(String::new(), |bits| grouped((bits / 8) as f64));
            rows.add_row([range.distance.to_string(), up_to(range), bytes]);
        }
        writeln!(out)?;
        write!(out, "{}", rows.lines())?;
    }
    out.flush()?;
    Ok(Ending::Clean)
}

/// The most data bits at which a distance holds.
fn up_to(range: &DistanceRange) -> String {
    match range.up_to {
        None => "longer".to_owned(),
        Some(bits) => format!("{}{}", if range.exact { "" } else { "≥" }, grouped(bits as f64)),
    }
}

/// An estimate with two digits that count.
fn few(number: f64) -> String {
    if (0.01..1000.0).contains(&number) { format!("{number:.2}") } else { format!("{number:.1e}") }
}

fn case(args: &StrengthArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Case> {
    if let Some(name) = &args.on {
        let plan = load_plan(link, look)?;
        return of_channel(&plan.channels[channel_index(&plan, name)?]);
    }
    let (Some(text), Some(data_bits)) = (&args.algorithm, args.length) else {
        bail!("name an algorithm and a --length")
    };
    let mut named = super::algorithms::algorithms(text, look)?;
    let (Some((algorithm, name)), true) = (named.pop(), named.is_empty()) else {
        bail!("one algorithm is rated at a time")
    };
    let what = match data_bits % 8 {
        0 => format!("{} of data", plural(data_bits / 8, "byte")),
        _ => format!("{} of data", plural(data_bits, "bit")),
    };
    Ok(Case { algorithm, name, data_bits, frame_bits: data_bits + usize::from(algorithm.bits()), what })
}

/// The first checksum of a channel's longest frame.
fn of_channel(channel: &Channel) -> anyhow::Result<Case> {
    let each = channel.directions().filter_map(|(from, direction)| Some((from, covered(direction)?)));
    // Where the two ends send different frames, the longer one is the harder case.
    let Some((from, longest)) = each.max_by_key(|(_, covered)| covered.bytes) else {
        bail!("frames on `{}` have no checksum", channel.name);
    };
    let Covered { part, algorithm, name, bytes, frame } = longest;
    let sender = from.map_or(String::new(), |from| format!(" from the {}", from.as_str()));
    Ok(Case {
        algorithm,
        name,
        data_bits: bytes * 8,
        frame_bits: frame * 8,
        what: format!(
            "the {bytes} bytes that `{part}` covers of the longest frame{sender} on `{}`, {}",
            channel.name,
            plural(frame, "byte")
        ),
    })
}

fn list_best(args: &StrengthArgs, width: u8) -> anyhow::Result<Ending> {
    let Some(data_bits) = args.length else { bail!("say how much data it covers: --length 64") };
    let rated = best(width, data_bits);
    if rated.is_empty() {
        bail!("the catalogue has no CRC of {width} bits");
    }
    let mut out = output::stdout();
    let mut rows = table(&["distance", "up to data bits", "generator of"], &[true, true, false]);
    for one in &rated {
        let (distance, exact) = one.distances.at(data_bits);
        let range = one.distances.range_at(data_bits);
        match args.form {
            TableForm::Ndjson => {
                writeln!(
                    out,
                    "{}",
                    json!({"distance": distance, "exact": exact, "up_to_data_bits": range.and_then(|range| range.up_to), "names": one.names})
                )?;
            }
            TableForm::Table => rows.add_row([
                format!("{}{distance}", if exact { "" } else { "≥" }),
                range.as_ref().map_or(String::new(), up_to),
                one.names.join(", "),
            ]),
        }
    }
    if args.form == TableForm::Table {
        write!(out, "{}", rows.lines())?;
    }
    out.flush()?;
    Ok(Ending::Clean)
}
