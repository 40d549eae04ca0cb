//! Waveforms as inputs: the wires of a channel, read down to its bytes.

use std::io::{self, Read as _};
use std::path::Path;

use anyhow::{Context, anyhow, bail};
use emberwort_capture::demux::StreamSink;
use emberwort_capture::packing::Unpacked;
use emberwort_capture::source;
use emberwort_model::diagnostics::escaped;
use emberwort_model::medium::MediumKind;
use emberwort_waveform::lines::uart::Flaw;
use emberwort_waveform::lines::{spi, uart};
use emberwort_waveform::listener::Seen;
use emberwort_waveform::sources::{samples, table, vcd};
use emberwort_waveform::wiring::{Extremes, Threshold};
use emberwort_waveform::{Damage, Listener, Moment, Outcome, Role, WaveSink, Wire, Wiring};

use super::opening::{input_name, open};
use super::sources::Settings;
use crate::cli::{SampleForm, WaveArgs};
use crate::render::plural;

/// What came of reading a waveform.
#[derive(Default)]
pub struct Read {
    /// Bytes of the file that were understood.
    pub bytes: u64,
    /// Where it could not be read any further, with its name.
    pub damage: Option<(String, emberwort_capture::Damage)>,
    /// What was seen on the wires that is a finding.
    pub notes: Vec<String>,
    /// What is worth a word, and no finding.
    pub remarks: Vec<String>,
}

/// Reads a waveform into a sink of the streams of its channel.
pub fn read<S: StreamSink>(settings: &Settings, sink: S) -> anyhow::Result<(S, Read)> {
    let mut done = Read::default();
    let Settings { args, plan, on, .. } = settings;
    let Some(channel) = *on else { bail!("--on CHANNEL says which line the wires are") };
    let medium = &plan.channels[channel].medium.kind;
    let [path] = args.inputs.as_slice() else { bail!("name one waveform to read, or `-` for standard input") };
    let name = &plan.channels[channel].name;
    let shown = input_name(path);
    let cannot_be_read = || format!("{shown} cannot be read");
    let form = Form { sample: args.wave.sample, rate: args.wave.rate };
    let input = || open(path, false).with_context(cannot_be_read);
    let mut wiring = wiring(&args.wave)?;
    if let (Some(_), Some(rate), Some(few)) = (args.wave.sample, args.wave.rate, bits_a_second(medium)) {
        done.notes.extend(too_few(rate, few));
    }
    let has_threshold = args.wave.threshold.is_some();
    // What comes only once cannot be looked at before it is read.
    if !has_threshold && path != Path::new("-") {
        let mut extremes = Extremes::new(&wiring);
        hear(input()?, form, &mut extremes).with_context(cannot_be_read)?;
        for (wire, found) in wiring.wires.iter_mut().zip(extremes.found()) {
            done.remarks.extend(found.map(|found| set_threshold(wire, found)));
        }
    }
    let mut listener = Listener::new(channel, medium, wiring, sink).map_err(|problem| match problem {
        Some(problem) => anyhow!("{problem}"),
        None => anyhow!("waveforms of `{name}` cannot be read: {} is no line that this build decodes", medium.text()),
    })?;
    let heard = hear(input()?, form, &mut listener).with_context(cannot_be_read)?;
    if let Some(problem) = listener.problem() {
        // Names of signals are those of the file.
        bail!("{shown}: {}", escaped(&problem.to_string()));
    }
    done.bytes = heard.outcome.bytes;
    if let Some(damage) = heard.outcome.damage {
        let damage = emberwort_capture::Damage { offset: damage.offset, reason: escaped(&damage.reason) };
        done.damage = Some((shown, damage));
    }
    done.remarks.extend(heard.remark);
    done.notes.extend(heard.note);
    let length = listener.now();
    let (sink, seen) = listener.finish();
    for seen in &seen {
        done.notes.extend(match seen {
            Seen::Uart(role, format, seen) => of_uart(*role, *format, seen, length),
            Seen::Spi(seen) => of_spi(seen),
        });
    }
    Ok((sink, done))
}

/// How the reading of a waveform ended.
pub struct Heard {
    pub outcome: Outcome,
    /// What is worth a word, and no finding.
    pub remark: Option<String>,
    /// What is a finding.
    pub note: Option<String>,
}

/// What the arguments say of the form of a waveform.
#[derive(Clone, Copy)]
pub struct Form {
    /// Raw samples of this form.
    pub sample: Option<SampleForm>,
    /// Samples a second.
    pub rate: Option<u64>,
}

/// Reads a waveform into a sink.
pub fn hear(input: Box<dyn io::Read>, form: Form, sink: &mut impl WaveSink) -> anyhow::Result<Heard> {
    let mut unpacked = Unpacked::new(input)?;
    let (mut remark, mut note) = (None, None);
    let mut outcome = match (form.sample, form.rate) {
        (Some(_), None) => bail!("--sample needs --rate, the samples a second: --rate 12MHz"),
        (Some(form), Some(rate)) => samples::read(&mut unpacked, sample(form), rate, sink)?,
        (None, rate) => {
            let first = source::read_first(&mut unpacked)?;
            let is_dump = first.iter().find(|byte| !byte.is_ascii_whitespace()) == Some(&b'$');
            let input = first.as_slice().chain(&mut unpacked);
            if is_dump && rate.is_none() {
                vcd::read(input, sink)?
            } else {
                let (outcome, found) = table::read(input, rate, sink)?;
                let lines = plural(found.preamble, "line");
                let stepped =
                    (found.preamble > 0).then(|| format!("{lines} in front of the samples were stepped over"));
                let is_taken = outcome.damage.is_none() && !found.has_heading && rate.is_none();
                let taken = "the table has no heading: its first column is taken for the time in seconds".to_owned();
                remark =
                    stepped.into_iter().chain(is_taken.then_some(taken)).reduce(|one, other| format!("{one}\n{other}"));
                note = found.skipped.map(|(first, count)| {
                    format!("{} without a sample, the first is line {first}", plural(count, "line"))
                });
                outcome
            }
        }
    };
    if let Some(reason) = unpacked.damage() {
        outcome.damage = Some(Damage { offset: outcome.bytes, reason });
    }
    Ok(Heard { outcome, remark, note })
}

/// Puts the threshold of a wire in the middle between its extremes; says so.
fn set_threshold(wire: &mut Wire, (least, greatest): (f64, f64)) -> String {
    let (at, swing) = (f64::midpoint(least, greatest), greatest - least);
    let hysteresis = wire.threshold.map_or(swing / 10.0, |said| said.hysteresis);
    wire.threshold = Some(Threshold { at, hysteresis });
    format!(
        "the wire `{}` goes from {least:.3} to {greatest:.3}; its threshold is {at:.3}, with a hysteresis of {hysteresis:.3} (--threshold, --hysteresis)",
        wire.role
    )
}

/// The wires that the arguments say.
fn wiring(args: &WaveArgs) -> anyhow::Result<Wiring> {
    let mut wires = args.wire.iter().map(|text| Wire::parse(text)).collect::<Result<Vec<_>, _>>().context("--wire")?;
    for name in &args.invert {
        let wire = wires.iter_mut().find(|wire| wire.role.to_string() == *name);
        wire.with_context(|| format!("--invert {}: no --wire says that wire", escaped(name)))?.is_inverted = true;
    }
    for wire in &mut wires {
        let middle = if wire.minus.is_some() { 0.0 } else { 0.5 };
        if args.threshold.is_some() || args.hysteresis.is_some() {
            let (at, hysteresis) = (args.threshold.unwrap_or(middle), args.hysteresis.unwrap_or(0.0));
            wire.threshold = Some(Threshold { at, hysteresis });
        }
    }
    Ok(Wiring { wires })
}

fn sample(form: SampleForm) -> samples::Sample {
    match form {
        SampleForm::U8 => samples::Sample::U8,
        SampleForm::U16 => samples::Sample::U16,
        SampleForm::I16 => samples::Sample::I16,
        SampleForm::F32 => samples::Sample::F32,
    }
}

/// Fewer samples a bit than this can be read wrong without anybody noticing.
const SAFE_SAMPLES: f64 = 4.0;

fn too_few(rate: u64, bits_a_second: u64) -> Option<String> {
    let samples = rate as f64 / bits_a_second.max(1) as f64;
    (samples < SAFE_SAMPLES).then(|| {
        format!(
            "{samples:.1} samples a bit are not safe to read; sample at {} Hz or more, {SAFE_SAMPLES} times the bits a second",
            bits_a_second * SAFE_SAMPLES as u64
        )
    })
}

/// Bits a second of a line.
fn bits_a_second(medium: &MediumKind) -> Option<u64> {
    match *medium {
        MediumKind::Uart { baud, .. } => Some(u64::from(baud)),
        MediumKind::Spi { hertz, .. } => Some(u64::from(hertz)),
        _ => None,
    }
}

fn seconds(at: Moment) -> String {
    format!("{:.6} s", at.picoseconds() as f64 / 1e12)
}

/// The sender's clock may be off by so much, in percent, before it is said.
const TOLERATED: f64 = 1.5;

/// What is worth a word about an asynchronous line.
fn of_uart(role: Role, format: uart::Format, seen: &uart::Seen, length: Moment) -> Vec<String> {
    let mut notes = Vec::new();
    if seen.edges <= 1 {
        return vec![format!("nothing happens on the wire `{role}`; is it the right signal?")];
    }
    if seen.high.saturating_mul(2) < length.picoseconds() {
        notes.push(format!("the wire `{role}` is low for most of the time, and rests high; try --invert {role}"));
    }
    for (flaw, first, count) in &seen.flaws {
        let what = match flaw {
            Flaw::Parity => "with a wrong parity bit",
            Flaw::StopBit => "without a stop bit",
            Flaw::Break => "low from begin to end, breaks",
        };
        let characters = plural(*count, "character");
        notes.push(format!("`{role}` has {characters} {what}, the first at {}", seconds(*first)));
    }
    if let Some(baud) = seen.baud() {
        let off = (baud / f64::from(format.baud) - 1.0) * 100.0;
        if off.abs() >= TOLERATED {
            notes.push(format!(
                "the sender of `{role}` has {baud:.0} baud, {:.1} % {} than the {} of the definition",
                off.abs(),
                if off > 0.0 { "faster" } else { "slower" },
                format.baud
            ));
        }
    }
    if seen.left_out > 0 {
        let characters = plural(seen.left_out, "character");
        notes.push(format!("`{role}` begins inside of a character: {characters} at the beginning left out"));
    }
    if seen.glitches > 0 {
        let pulses = plural(seen.glitches, "pulse");
        notes.push(format!("`{role}` has {pulses} too short for a start bit"));
    }
    notes
}

/// What is worth a word about a serial peripheral interface.
fn of_spi(seen: &spi::Seen) -> Vec<String> {
    let mut notes = Vec::new();
    if seen.clocks == 0 {
        notes.push(
            "the clock never ticks while the device is selected; are clock and select the right signals?".to_owned(),
        );
    }
    if let Some((first, count)) = seen.halves {
        let frames = plural(count, "frame");
        notes.push(format!(
            "{frames} ended inside of a word, the first at {}; are mode and word length right?",
            seconds(first)
        ));
    }
    notes
}
