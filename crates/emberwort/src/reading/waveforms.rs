//! Waveforms as inputs: the wires of a channel, read down to its bytes.

use std::io::{self, Read as _};
use std::ops::ControlFlow;
use std::path::Path;

use anyhow::{Context, anyhow, bail};
use emberwort_capture::demux::StreamSink;
use emberwort_capture::packing::Unpacked;
use emberwort_capture::source;
use emberwort_model::diagnostics::escaped;
use emberwort_model::medium::MediumKind;
use emberwort_waveform::filters::{Smoothed, Spanned};
use emberwort_waveform::findings::{Finding, Suggestion, duration, findings, remarks, too_few};
use emberwort_waveform::listener::LineObservations;
use emberwort_waveform::sources::samples::{self, Number, Sample};
use emberwort_waveform::sources::{sound, table, vcd};
use emberwort_waveform::trace::{BothSinks, Traces};
use emberwort_waveform::wiring::{Extremes, Threshold};
use emberwort_waveform::{Damage, LineSink, Listener, Moment, Outcome, WaveSink, Wire, Wiring};
use emberwort_wire::{Chunk, ChunkSink, Spent, Time};

use super::opening::{input_name, open};
use super::sources::Settings;
use crate::cli::{CaptureForm, InputArgs, SampleForm, WaveArgs, wave_span};
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
    /// What was seen on the wires.
    pub observations: Vec<LineObservations>,
}

/// Reads a waveform into a sink of the streams of its channel.
pub fn read(settings: &Settings, sink: &mut dyn StreamSink) -> anyhow::Result<Read> {
    let (done, _) = read_beside(settings, sink, &|_| None)?;
    Ok(done)
}

/// Reads a waveform into a sink of the streams of its channel, and into traces of its wires beside it, if there are to be some.
pub fn read_beside(
    settings: &Settings,
    sink: &mut dyn StreamSink,
    traces: &dyn Fn(&Wiring) -> Option<Traces>,
) -> anyhow::Result<(Read, Option<Traces>)> {
    let mut done = Read::default();
    let Settings { args, plan, on, .. } = settings;
    let Some(channel) = *on else { bail!("--on CHANNEL says which line the wires are") };
    let medium = &plan.channels[channel].medium.kind;
    if args.form.is_some() != (args.form == Some(CaptureForm::Samples)) {
        bail!("--form says the form of a capture; of a waveform it is `samples`, or left out");
    }
    if args.form.is_some() && args.wave.sample.is_none() {
        bail!("--form samples needs --sample, the form of one sample, and --rate: --sample u8 --rate 12MHz");
    }
    let [path] = args.inputs.as_slice() else { bail!("name one waveform to read, or `-` for standard input") };
    let name = &plan.channels[channel].name;
    let shown = input_name(path);
    let cannot_be_read = || format!("{shown} cannot be read");
    let input = || open(path, false).with_context(cannot_be_read);
    let mut wiring = wiring(&args.wave)?;
    if let (Some(_), Some(rate), Some(few)) = (args.wave.sample, args.wave.rate, bits_a_second(medium)) {
        done.notes.extend(too_few(rate, few).map(|finding| finding.text));
    }
    let has_threshold = args.wave.threshold.is_some();
    // What comes only once cannot be looked at before it is read.
    if path != Path::new("-") {
        let mut extremes = Extremes::new(&wiring);
        // In a part in which nothing happens there is only noise.
        filtered_part(input()?, args, None, &mut extremes).with_context(cannot_be_read)?;
        done.notes
            .extend(wiring.wires.iter().zip(extremes.found()).filter_map(|(wire, found)| outside(wire, (*found)?)));
        let swing = |(least, greatest): (f64, f64)| greatest - least;
        let widest =
            extremes.found().iter().flatten().copied().max_by(|one, other| swing(*one).total_cmp(&swing(*other)));
        for (wire, found) in wiring.wires.iter_mut().zip(extremes.found()).filter(|_| !has_threshold) {
            let (Some(found), Some(widest)) = (*found, widest) else { continue };
            // What moves far less than another wire rests, and what moves there is noise.
            let rests = swing(found) < swing(widest) * AT_REST;
            done.remarks.push(set_threshold(wire, if rests { widest } else { found }, rests.then_some(found)));
        }
    }
    let mut traces = traces(&wiring);
    let listener = Listener::new(channel, medium, wiring, args.wave.skip_bits, Lines(sink));
    let mut listener = listener.map_err(|problem| match problem {
        Some(problem) => anyhow!("{problem}"),
        None => anyhow!("waveforms of `{name}` cannot be read: {} is no line that this build decodes", medium.text()),
    })?;
    listener = listener.with_all_packets(args.wave.all);
    if let Some(shortest) = args.wave.deglitch {
        listener = listener.deglitched(shortest.saturating_mul(1000));
    }
    let heard = match &mut traces {
        None => filtered(input()?, args, &mut listener),
        Some(traces) => filtered(input()?, args, &mut BothSinks::new(&mut listener, traces)),
    };
    let heard = heard.with_context(cannot_be_read)?;
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
    let length = listener.looked_at();
    if listener.glitches() > 0 {
        let shorter = duration(args.wave.deglitch.unwrap_or(0).saturating_mul(1000));
        done.remarks
            .push(format!("{} shorter than {shorter} left out (--deglitch)", plural(listener.glitches(), "level")));
    }
    let (_, seen, dropped) = listener.finish();
    for seen in &seen {
        done.notes.extend(findings(seen, length).into_iter().map(in_words));
        done.remarks.extend(remarks(seen));
    }
    done.observations = seen;
    if dropped > 0 {
        done.remarks.push(format!("{} of frames that every receiver drops are not shown", plural(dropped, "byte")));
    }
    if let Some(traces) = &mut traces {
        traces.finish();
    }
    Ok((done, traces))
}

/// How the reading of a waveform ended.
pub struct WaveformOutcome {
    pub outcome: Outcome,
    /// What is worth a word, and no finding.
    pub remark: Option<String>,
    /// What is a finding.
    pub note: Option<String>,
}

/// What the arguments say of the form of a waveform.
#[derive(Clone, Copy)]
pub struct WaveformForm<'a> {
    /// Raw samples of this form.
    pub sample: Option<SampleForm>,
    /// Samples a second.
    pub rate: Option<u64>,
    /// Signals with numbers in raw samples.
    pub channels: u16,
    /// Columns of a table: what they are called, and where they are.
    pub columns: &'a [(String, String)],
}

/// The columns of a table of samples: `time=0,rx=2`.
fn columns(text: Option<&str>) -> anyhow::Result<Vec<(String, String)>> {
    let pair = |pair: &str| match pair.split_once('=') {
        Some((name, column)) if !name.trim().is_empty() => Ok((name.trim().to_owned(), column.trim().to_owned())),
        _ => bail!("--columns of a waveform: `{}` is no NAME=COLUMN, as in time=0,rx=2", escaped(pair)),
    };
    text.map_or(Ok(Vec::new()), |text| text.split(',').map(pair).collect())
}

/// Reads a waveform into a sink.
pub fn hear(
    input: Box<dyn io::Read>,
    form: WaveformForm<'_>,
    sink: &mut dyn WaveSink,
) -> anyhow::Result<WaveformOutcome> {
    let mut unpacked = Unpacked::new(input)?;
    let (mut remark, mut note) = (None, None);
    let mut outcome = match (form.sample, form.rate) {
        (Some(_), None) => bail!("--sample needs --rate, the samples a second: --rate 12MHz"),
        (Some(of), Some(rate)) => samples::read(&mut unpacked, sample(of, usize::from(form.channels)), rate, sink)?,
        (None, rate) => {
            let first = source::read_first(&mut unpacked)?;
            let is_dump = first.iter().find(|byte| !byte.is_ascii_whitespace()) == Some(&b'$');
            let input = first.as_slice().chain(&mut unpacked);
            if is_dump && rate.is_none() {
                vcd::read(input, sink)?
            } else if sound::is_sound(&first) && rate.is_none() {
                sound::read(input, sink)?
            } else {
                let (outcome, found) = table::read(input, rate, form.columns, sink)?;
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
    Ok(WaveformOutcome { outcome, remark, note })
}

/// That the threshold of a wire lies outside of its signal, if it does.
fn outside(wire: &Wire, (least, greatest): (f64, f64)) -> Option<String> {
    let at = wire.threshold?.at;
    (!(least..=greatest).contains(&at)).then(|| {
        format!(
            "the threshold {at:.3} of `{}` lies outside of its signal, which goes from {least:.3} to {greatest:.3}: leave --threshold out, or try {:.3}",
            wire.role,
            f64::midpoint(least, greatest)
        )
    })
}

/// A wire that moves by less than this share of what another one does is at rest.
const AT_REST: f64 = 0.3;

/// Puts the threshold of a wire in the middle between its extremes, or those of another wire if it rests between its own; says so.
fn set_threshold(wire: &mut Wire, (least, greatest): (f64, f64), rests: Option<(f64, f64)>) -> String {
    let (at, swing) = (f64::midpoint(least, greatest), greatest - least);
    let hysteresis = wire.threshold.map_or(swing / 10.0, |said| said.hysteresis);
    wire.threshold = Some(Threshold { at, hysteresis });
    if let Some((least, greatest)) = rests {
        return format!(
            "the wire `{}` goes only from {least:.3} to {greatest:.3} and is taken to be at rest; its threshold is that of the other wires, {at:.3} (--threshold)",
            wire.role
        );
    }
    format!(
        "the wire `{}` goes from {least:.3} to {greatest:.3}; its threshold is {at:.3}, with a hysteresis of {hysteresis:.3} (--threshold, --hysteresis)",
        wire.role
    )
}

/// The wires that the arguments say.
pub fn wiring(args: &WaveArgs) -> anyhow::Result<Wiring> {
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

fn sample(form: SampleForm, signals: usize) -> Sample {
    match form {
        SampleForm::U8 => Sample::Bits(1),
        SampleForm::U16 => Sample::Bits(2),
        SampleForm::I16 => Sample::Numbers(Number::I16, signals),
        SampleForm::F32 => Sample::Numbers(Number::F32, signals),
    }
}

/// Bits a second of a line, or the most of its clock.
fn bits_a_second(medium: &MediumKind) -> Option<u64> {
    match *medium {
        MediumKind::Uart(format) => Some(u64::from(format.baud)),
        MediumKind::Spi { hertz, .. } | MediumKind::I2c { hertz } => Some(u64::from(hertz)),
        MediumKind::Can { bitrate, data_bitrate, .. } => Some(u64::from(data_bitrate.unwrap_or(bitrate))),
        MediumKind::Usb { speed } => Some(u64::from(speed.bitrate())),
        MediumKind::Line(code) => Some(1_000_000_000_000 / code.bit_picoseconds().max(1)),
        _ => None,
    }
}

/// A sink of streams as one of lines. It is not known at compile time, so that the decoders of lines and the sources are there only once.
struct Lines<'a>(&'a mut dyn StreamSink);

impl ChunkSink for Lines<'_> {
    fn chunk(&mut self, chunk: &Chunk<'_>) -> ControlFlow<()> {
        self.0.chunk(chunk)
    }

    fn pause(&mut self) {
        self.0.pause();
    }
}

impl LineSink for Lines<'_> {
    fn bind_tap(&mut self, tap: u32, node: u64) {
        self.0.bind_tap(tap, node);
    }

    fn line_packet(&mut self, packet: &Chunk<'_>) -> ControlFlow<()> {
        self.0.line_packet(packet)
    }

    fn spent(&mut self, spent: Spent, from: Time, until: Time) {
        self.0.spent(spent, from, until);
    }
}

/// Reads a waveform through the filters that the arguments say.
pub fn filtered(
    input: Box<dyn io::Read>,
    args: &InputArgs,
    sink: &mut dyn WaveSink,
) -> anyhow::Result<WaveformOutcome> {
    filtered_part(input, args, args.wave.span.as_deref(), sink)
}

/// Reads a part of a waveform, or all of it, through the other filters that the arguments say.
pub fn filtered_part(
    input: Box<dyn io::Read>,
    args: &InputArgs,
    span: Option<&str>,
    sink: &mut dyn WaveSink,
) -> anyhow::Result<WaveformOutcome> {
    let columns = columns(args.records.columns.as_deref())?;
    let args = &args.wave;
    let form = WaveformForm { sample: args.sample, rate: args.rate, channels: args.channels, columns: &columns };
    let moment = |nanoseconds: u64| Moment::from_picoseconds(nanoseconds.saturating_mul(1000));
    let span = span.map(wave_span).transpose().map_err(|problem| anyhow!("--span: {problem}"))?;
    let span = span.map(|(from, to)| (moment(from), moment(to)));
    match (span, args.smooth) {
        (None, None) => hear(input, form, sink),
        (Some(span), None) => hear(input, form, &mut Spanned::new(span, sink)),
        (None, Some(hertz)) => hear(input, form, &mut Smoothed::new(hertz as f64, sink)),
        (Some(span), Some(hertz)) => hear(input, form, &mut Smoothed::new(hertz as f64, &mut Spanned::new(span, sink))),
    }
}

/// What is wrong, with the option that may mend it.
fn in_words(finding: Finding) -> String {
    let text = finding.text;
    match finding.suggestion {
        Some(Suggestion::Invert(role)) => format!("{text}; try --invert {role}"),
        Some(Suggestion::Deglitch(picoseconds)) => format!("{text}; try --deglitch {}", duration(picoseconds)),
        Some(Suggestion::AllPackets) => format!("{text}; --all shows them"),
        _ => text,
    }
}
