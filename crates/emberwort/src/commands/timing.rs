//! `survey --on`: the timing of a line, as its wires show it, beside what the definition and the standards allow.

use std::io::Write as _;
use std::path::Path;

use anyhow::{Context, bail};
use emberwort_capture::Decoder;
use emberwort_capture::line_timing::{LineTiming, Spread};
use emberwort_model::ids::MessageId;
use emberwort_model::model::End;
use emberwort_rows::Paint;
use emberwort_waveform::findings::{allowed_slope, bit_timing};
use emberwort_waveform::slopes::{Levels, Slope, Slopes};
use emberwort_waveform::wiring::Extremes;
use serde_json::{Value as Json, json};

use super::survey::width;
use crate::cli::{InputArgs, RevisionArgs, SurveyArgs, TableForm, WaveArgs};
use crate::ending::Ending;
use crate::output::{self, Look, say};
use crate::reading::capture_definitions::open_definitions;
use crate::reading::opening::{input_name, open};
use crate::reading::sources::Settings;
use crate::reading::waveforms::{filtered, filtered_part, read, wiring};
use crate::render::stats::{Account, damage_text, sentence, time_sentence};
use crate::render::table::table;

/// An edge of fewer samples than this cannot be measured.
const SAMPLES_OF_EDGE: f64 = 4.0;

/// One quantity that was measured.
struct Quantity {
    what: String,
    count: Option<u64>,
    /// The least, the mean, the greatest, as text.
    shown: [String; 3],
    /// The same as numbers: picoseconds, or bits a second.
    numbers: [Option<f64>; 3],
    unit: &'static str,
    allowed: String,
    /// What is beyond what is allowed.
    is_beyond: bool,
}

pub fn run(args: &SurveyArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Ending> {
    if args.file == Path::new("-") {
        bail!("the timing of a line takes several looks at a waveform: give a file in place of standard input");
    }
    let input = input_args(args);
    let definitions = open_definitions(&RevisionArgs::default(), link, look)?;
    let plan = definitions.revisions.own().clone();
    let settings = Settings::of(&input, link, &plan)?;
    let Some(channel) = settings.on else { bail!("--on CHANNEL says which line the wires are") };
    let medium = &plan.channels[channel].medium.kind;
    let mut timing = LineTiming::new(plan.clone());
    let mut decoder = Decoder::of(definitions.revisions.clone(), &mut timing);
    let mut heard = read(&settings, &mut decoder)?;
    let (_, statistics) = decoder.finish()?;
    let mut all = Vec::new();
    for bits in heard.observations.iter().filter_map(|seen| bit_timing(seen, medium)) {
        let bit = 1e12 / bits.said;
        let allowed = bits.allowed.map_or_else(
            || format!("{:.0}", bits.said),
            |(percent, by)| format!("{:.0} ± {percent} %{}", bits.said, source(by)),
        );
        let off = bits.measured.map(|measured| (measured / bits.said - 1.0) * 100.0);
        all.push(Quantity {
            what: format!("bits a second, {}", bits.who),
            count: None,
            shown: [
                String::new(),
                bits.measured
                    .zip(off)
                    .map_or_else(String::new, |(measured, off)| format!("{measured:.0} ({off:+.2} %)")),
                String::new(),
            ],
            numbers: [None, bits.measured, None],
            unit: "bit/s",
            allowed,
            is_beyond: off.zip(bits.allowed).is_some_and(|(off, (percent, _))| off.abs() > percent),
        });
        if let Some((least, most)) = bits.one_bit {
            let numbers = [Some(least as f64), None, Some(most as f64)];
            let allowed = format!("{} ± half a bit", width(bit));
            let is_beyond = (least as f64) < 0.5 * bit || most as f64 > 1.5 * bit;
            all.push(Quantity::times(format!("one bit, {}", bits.who), None, numbers, allowed, is_beyond));
        }
    }
    for (from, sender) in &timing.senders {
        let who = from.map_or("the line", End::as_str);
        all.extend(spread(format!("between bytes, {who}"), &sender.between_bytes, None));
        all.extend(spread(format!("between frames, {who}"), &sender.between_frames, None));
    }
    for ((request, answer), measured) in &timing.answers {
        let name = |message: MessageId| plan.messages[message].message.name.as_str();
        let within = plan.messages[*request].message.within;
        all.extend(spread(format!("{} to {}", name(*request), name(*answer)), measured, within));
    }
    slopes(&input, medium, &mut all, &mut heard.notes)?;
    show(args.form, &all)?;
    let account = Account { statistics: &statistics, file_bytes: heard.bytes, damage: &[] };
    say!("{}", sentence(&account));
    if let Some(line) = time_sentence(&account) {
        say!("{line}");
    }
    for note in heard.notes.iter().chain(&heard.remarks) {
        say!("{}", crate::render::wrapped(note));
    }
    if let Some((name, damage)) = &heard.damage {
        say!("{} {}", look.paint_err(Paint::Bad, "finding:"), damage_text(name, damage));
        return Ok(Ending::WithFindings);
    }
    Ok(Ending::Clean)
}

/// What `decode` would have been told.
fn input_args(args: &SurveyArgs) -> InputArgs {
    let wave = WaveArgs {
        wire: args.wire.clone(),
        invert: args.invert.clone(),
        threshold: args.threshold,
        hysteresis: args.hysteresis,
        deglitch: args.deglitch,
        span: args.span.clone(),
        sample: args.sample,
        rate: args.rate,
        channels: args.channels,
        ..WaveArgs::default()
    };
    InputArgs { inputs: vec![args.file.clone()], on: args.on.clone(), wave, ..InputArgs::default() }
}

fn source(by: &str) -> String {
    if by.is_empty() { String::new() } else { format!(" ({by})") }
}

impl Quantity {
    /// Times in picoseconds.
    fn times(what: String, count: Option<u64>, numbers: [Option<f64>; 3], allowed: String, is_beyond: bool) -> Self {
        let shown = numbers.map(|number| number.map_or_else(String::new, width));
        Self { what, count, shown, numbers, unit: "ps", allowed, is_beyond }
    }
}

/// What was measured in nanoseconds, if it was; `within` so many it has to be.
fn spread(what: String, measured: &Spread, within: Option<u64>) -> Option<Quantity> {
    let mean = measured.mean()?;
    let numbers = [measured.least as f64, mean, measured.most as f64].map(|number| Some(number * 1e3));
    let allowed = within.map_or_else(String::new, |within| format!("up to {}", width(within as f64 * 1e3)));
    let is_beyond = within.is_some_and(|within| measured.most > within);
    Some(Quantity::times(what, Some(measured.count), numbers, allowed, is_beyond))
}

/// How long edges take on wires whose signals have numbers.
fn slopes(
    input: &InputArgs,
    medium: &emberwort_model::medium::MediumKind,
    all: &mut Vec<Quantity>,
    notes: &mut Vec<String>,
) -> anyhow::Result<()> {
    let wiring = wiring(&input.wave)?;
    let Some(path) = input.inputs.first() else { return Ok(()) };
    let again = || open(path, false).with_context(|| format!("{} cannot be read", input_name(path)));
    let mut extremes = Extremes::new(&wiring);
    filtered_part(again()?, input, None, &mut extremes)?;
    if extremes.found().iter().all(Option::is_none) {
        return Ok(());
    }
    let mut levels = Levels::new(&wiring, extremes.found());
    filtered(again()?, input, &mut levels)?;
    let Some(step) = levels.step else { return Ok(()) };
    let mut slopes = Slopes::new(&wiring, levels.found(), step);
    filtered(again()?, input, &mut slopes)?;
    let limits = allowed_slope(medium);
    let fastest = slopes.found.iter().flatten().filter_map(Slope::mean).min_by(f64::total_cmp);
    if let Some(fastest) = fastest
        && fastest < SAMPLES_OF_EDGE * step as f64
    {
        notes.push(format!(
            "the numbers come every {}: edges that take less than {} look longer than they are; sample faster to measure them",
            width(step as f64),
            width(SAMPLES_OF_EDGE * step as f64)
        ));
    }
    for (wire, found) in wiring.wires.iter().zip(&slopes.found) {
        for (way, slope) in ["rise", "fall"].into_iter().zip(found) {
            let Some(mean) = slope.mean() else { continue };
            let numbers = [Some(slope.least), Some(mean), Some(slope.most)];
            let allowed = limits.map_or_else(String::new, |((least, most), by)| {
                let least = if least > 0 { format!("{} to ", width(least as f64)) } else { "up to ".to_owned() };
                format!("{least}{}{}", width(most as f64), source(by))
            });
            let is_beyond =
                limits.is_some_and(|((least, most), _)| slope.least < least as f64 || slope.most > most as f64);
            let what = format!("{way} 10 % to 90 %, {}", wire.role);
            all.push(Quantity::times(what, Some(slope.count), numbers, allowed, is_beyond));
        }
    }
    Ok(())
}

fn show(form: TableForm, all: &[Quantity]) -> anyhow::Result<()> {
    let mut out = output::stdout();
    match form {
        TableForm::Table => {
            let titles = ["quantity", "count", "least", "mean", "most", "allowed"];
            let mut shown = table(&titles, &[false, true, true, true, true, false]);
            for one in all {
                let [least, mean, most] = &one.shown;
                let allowed = if one.is_beyond { format!("{}: beyond it", one.allowed) } else { one.allowed.clone() };
                let count = one.count.map_or_else(String::new, |count| count.to_string());
                shown.add_row(vec![one.what.clone(), count, least.clone(), mean.clone(), most.clone(), allowed]);
            }
            out.write_all(shown.lines().as_bytes())?;
        }
        TableForm::Ndjson => {
            for one in all {
                let [least, mean, most] = one.numbers;
                let row: Json = json!({
                    "quantity": one.what, "count": one.count, "unit": one.unit, "least": least, "mean": mean, "most": most,
                    "allowed": (!one.allowed.is_empty()).then_some(&one.allowed), "beyond": one.is_beyond,
                });
                writeln!(out, "{row}")?;
            }
        }
    }
    out.flush()?;
    Ok(())
}
