//! Reading the captures that commands are given.

use std::io::{self, IsTerminal, Read};
use std::ops::ControlFlow;
use std::path::{Path, PathBuf};

use anyhow::{Context, bail};
use emberwort_capture::demux::CaptureComment;
use emberwort_capture::merge::{self, Source};
use emberwort_capture::packing::Unpacked;
use emberwort_capture::records::{self, Skipped};
use emberwort_capture::{
    About, CaptureFormat, Damage, Decoder, DefinitionId, Demux, Interface, Item, ItemSink, Outcome, Piece, PieceSink,
    RevisionMap, Statistics, StreamSink, Wants, hex_text, source,
};
use emberwort_model::Plan;
use emberwort_model::diagnostics::escaped;
use emberwort_model::ids::{ChannelId, MessageId};
use emberwort_model::model::End;
use emberwort_rows::time::rfc3339;
use emberwort_wire::Time;
use indicatif::{ProgressBar, ProgressStyle};

use super::capture_definitions::CaptureDefinitions;
use super::opening::{input_name, open};
use super::sources::Settings;
use super::waveforms;
use crate::cli::{CaptureForm, InputArgs, SenderEnd};
use crate::render::plural;

/// What came of all inputs.
pub struct InputsOutcome {
    pub statistics: Statistics,
    pub inputs: InputsRead,
}

/// How the reading of all inputs went.
#[derive(Default)]
pub struct InputsRead {
    pub file_bytes: u64,
    pub damage: Vec<(String, Damage)>,
    /// Inputs that are text, and were read as the bytes themselves.
    texts: Vec<String>,
    /// What else is worth a word: lines that hold no record, gaps of a network.
    pub notes: Vec<String>,
    /// What is no finding: comments in the captures, levels that were found.
    pub remarks: Vec<String>,
}

impl InputsOutcome {
    /// What to do about text in which no frame was found.
    pub fn text_hint(&self) -> Option<String> {
        let name = self.inputs.texts.first().filter(|_| self.statistics.good_frames() == 0)?;
        Some(format!(
            "{name} is text, and was read as the bytes themselves; if it holds bytes in hex, leave nothing else in its lines than an offset or a \
             time in front of them, or the same bytes as text after them; --lines, --columns and --bytes-at read other text"
        ))
    }
}

/// Counts the rows that come from the end that sends their message, and those that come from the other one.
struct ByEnd<S> {
    sink: S,
    ends: [u64; 2],
}

impl<S> ByEnd<S> {
    /// That the wires of a waveform are probably swapped, if they are.
    fn swapped(&self, args: &InputArgs) -> Option<String> {
        let [right, wrong] = self.ends;
        let wire = |role: &str| args.wave.wire.iter().find_map(|wire| wire.strip_prefix(role)?.strip_prefix('='));
        let (device, host) = (wire("device"), wire("host"));
        let is_swapped = wrong > right && (device.is_some() || host.is_some());
        is_swapped.then(|| {
            let words = [("host", device), ("device", host)];
            let words =
                words.iter().filter_map(|(role, signal)| Some(format!("--wire {role}={}", escaped((*signal)?))));
            let words: Vec<String> = words.collect();
            format!(
                "{wrong} of {} come from the end that does not send them: the wires are probably swapped; try {}",
                plural(right + wrong, "frame"),
                words.join(" ")
            )
        })
    }
}

impl<S: ItemSink> ItemSink for ByEnd<S> {
    type Error = S::Error;

    fn update_revisions(&mut self, revisions: &RevisionMap) {
        self.sink.update_revisions(revisions);
    }

    fn wants(&self, definition: DefinitionId, message: MessageId) -> Wants {
        self.sink.wants(definition, message)
    }

    fn wants_body(&self, definition: DefinitionId, message: MessageId, body: &[u8]) -> bool {
        self.sink.wants_body(definition, message, body)
    }

    #[inline]
    fn item(&mut self, item: Item<'_>) -> Result<ControlFlow<()>, S::Error> {
        if let Item::Row(row) = &item {
            let is_wrong = row.plan.messages[row.message].message.from != row.from;
            self.ends[usize::from(is_wrong)] += 1;
        }
        self.sink.item(item)
    }

    fn is_full(&self) -> bool {
        self.sink.is_full()
    }

    fn pause(&mut self) -> Result<(), S::Error> {
        self.sink.pause()
    }

    fn finish(&mut self) -> Result<(), S::Error> {
        self.sink.finish()
    }
}

/// Files smaller than this are read without a progress bar.
const PROGRESS_FROM: u64 = 32 << 20;

/// Decodes all inputs into a sink.
pub fn decode_all<S>(
    args: &InputArgs,
    link: Option<&Path>,
    definitions: CaptureDefinitions,
    sink: S,
) -> anyhow::Result<InputsOutcome>
where
    S: ItemSink<Error: std::error::Error + Send + Sync + 'static>,
{
    if args.wave.span.is_some() && args.wave.wire.is_empty() {
        bail!("--span is for waveforms, with --wire; `amend --span` cuts a part out of a capture");
    }
    let mut settings = Settings::of(args, link, definitions.revisions.own())?;
    settings.nodes = definitions.nodes;
    let decoder = Decoder::of(definitions.revisions, ByEnd { sink, ends: [0; 2] }).with_deferred(definitions.deferred);
    let (decoder, mut inputs) = read_all(&settings, decoder)?;
    let (by_end, statistics) = decoder.finish()?;
    inputs.notes.extend(by_end.swapped(args));
    Ok(InputsOutcome { statistics, inputs })
}

/// Reads all inputs into a sink of their streams.
pub fn read_all<S: StreamSink>(settings: &Settings, sink: S) -> anyhow::Result<(S, InputsRead)> {
    let Settings { args, plan, on, .. } = settings;
    key_fits(args, plan, *on)?;
    if !args.wave.wire.is_empty() {
        let mut inputs = InputsRead::default();
        let mut sink = sink;
        let heard = waveforms::read(settings, &mut sink)?;
        inputs.file_bytes = heard.bytes;
        (inputs.notes, inputs.remarks) = (heard.notes, heard.remarks);
        inputs.damage.extend(heard.damage);
        return Ok((sink, inputs));
    }
    let from = args.from.map(SenderEnd::end);
    let key = args.key.zip(*on).map(|(key, on)| key.on(plan.channels[on].direction(from.unwrap_or(End::Device))));
    let demux = Demux::new(plan.clone(), sink).on(*on).assuming_from(from).assuming_key(key);
    let mut demux = demux.with_rules(settings.rules.clone()).with_nodes(settings.nodes.clone());
    let mut inputs = InputsRead::default();
    if let Some(hex) = &args.hex {
        let bytes = given_hex(hex)?;
        need_channel(args, plan, *on, "--hex")?;
        inputs.file_bytes = bytes.len() as u64;
        source::forward_all(&bytes, &mut demux);
    } else {
        read_files(settings, &mut demux, &mut inputs)?;
    }
    let _ = demux.finish();
    let losses = demux.losses();
    if losses.gaps.0 > 0 {
        inputs.notes.push(format!(
            "the capture lacks {} of TCP streams in {}; what stands before and after a gap is not joined",
            plural(losses.gaps.1, "byte"),
            plural(losses.gaps.0, "place")
        ));
    }
    if losses.late.0 > 0 {
        inputs.notes.push(format!(
            "TCP: {} came after their place had been given up, {} in them went nowhere",
            plural(losses.late.0, "segment"),
            plural(losses.late.1, "byte")
        ));
    }
    if losses.differing.0 > 0 {
        inputs.notes.push(format!(
            "TCP: {} sent again with other bytes ({}); one of each was taken",
            plural(losses.differing.0, "segment"),
            if losses.differing.1 == 1 { "1 differs".to_owned() } else { format!("{} differ", losses.differing.1) }
        ));
    }
    let nameless: Vec<String> = demux.nameless().map(escaped).collect();
    if !nameless.is_empty() {
        let mut some = nameless.clone();
        some.sort_unstable();
        some.truncate(5);
        inputs.notes.push(format!(
            "{} without a known node: {}{}; --fleet FILE says the nodes in its columns device, node and revision",
            plural(nameless.len(), "device"),
            some.join(", "),
            if nameless.len() > some.len() { ", …" } else { "" }
        ));
    }
    inputs.remarks = comments(demux.comments());
    Ok((demux.into_sink(), inputs))
}

/// What somebody wrote into the captures, for people.
fn comments((some, all): (&[CaptureComment], u64)) -> Vec<String> {
    let about = |noted: &CaptureComment| match (noted.comment.about, noted.packet) {
        (About::Capture, _) => "comment on the capture".to_owned(),
        (About::Interface, _) => "comment on an interface".to_owned(),
        (About::Piece(time), packet) => {
            let number = packet.unwrap_or_default();
            let time = time.map_or_else(String::new, |time| format!(" ({})", rfc3339(time)));
            format!("comment on packet {number}{time}")
        }
    };
    let shown = some.iter().map(|noted| format!("{}: {}", about(noted), escaped(&noted.comment.text)));
    let more = all - some.len() as u64;
    shown.chain((more > 0).then(|| format!("and {}", plural(more, "more comment")))).collect()
}

/// How the reading of one input ended.
struct InputRead {
    outcome: Outcome,
    skipped: Skipped,
    is_text: bool,
}

impl InputsRead {
    /// All that is to be said beside the accounting, line by line.
    pub fn all_remarks(&self) -> impl Iterator<Item = &String> {
        self.notes.iter().chain(&self.remarks)
    }

    fn add(&mut self, name: String, read: InputRead) {
        self.file_bytes += read.outcome.bytes;
        if read.is_text {
            self.texts.push(name.clone());
        }
        if let Some((number, why)) = read.skipped.first {
            let lines = plural(read.skipped.lines, "line");
            let hold = if read.skipped.lines == 1 { "holds" } else { "hold" };
            self.notes.push(format!("{name}: {lines} {hold} no record; the first is line {number}: {why}"));
        }
        self.damage.extend(read.outcome.damage.map(|found| (name, found)));
    }
}

fn read_files(settings: &Settings, sink: &mut dyn PieceSink, inputs: &mut InputsRead) -> anyhow::Result<()> {
    let paths = &settings.args.inputs;
    let length =
        |path: &PathBuf| std::fs::metadata(path).ok().filter(std::fs::Metadata::is_file).map_or(0, |file| file.len());
    let length: u64 = paths.iter().map(length).sum();
    let bar = if length >= PROGRESS_FROM && io::stderr().is_terminal() && !settings.args.follow {
        let style = ProgressStyle::with_template("{bar:40} {bytes} of {total_bytes}, {eta} left")?;
        ProgressBar::new(length).with_style(style)
    } else {
        ProgressBar::hidden()
    };
    match paths.as_slice() {
        [] => bail!("name a capture to read, `-` for standard input, or give bytes with --hex"),
        [path] => {
            let read = read_one(settings, path, &bar, sink);
            bar.finish_and_clear();
            inputs.add(input_name(path), read.with_context(|| format!("{} cannot be read", input_name(path)))?);
        }
        paths => {
            let all = paths.iter().map(|path| {
                let first = first_time(settings, path);
                let (settings, bar, path) = (settings.clone(), bar.clone(), path.clone());
                let read = move |to: &mut merge::Batches| Ok(read_one(&settings, &path, &bar, to));
                Source { first, read: Box::new(read) }
            });
            let mut failed = None;
            merge::read(all.collect(), sink, |index, read| {
                let name = input_name(&paths[index]);
                match read.map_err(anyhow::Error::from).and_then(|read| read) {
                    Ok(read) => inputs.add(name, read),
                    Err(error) => {
                        failed.get_or_insert(error.context(format!("{name} cannot be read")));
                    }
                }
            });
            bar.finish_and_clear();
            // In the order in which they were given.
            let place = |name: &String| paths.iter().position(|path| input_name(path) == *name);
            inputs.damage.sort_by_key(|(name, _)| place(name));
            failed.map_or(Ok(()), Err)?;
        }
    }
    Ok(())
}

/// Ends at the first piece that has a time.
#[derive(Default)]
struct FirstTime(Option<Time>);

impl PieceSink for FirstTime {
    fn section(&mut self) {}

    fn interface(&mut self, _: Interface) {}

    fn piece(&mut self, piece: Piece<'_>) -> ControlFlow<()> {
        self.0 = piece.time;
        if self.0.is_some() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    }
}

/// When the first piece of a file came, as far as that can be seen without waiting.
fn first_time(settings: &Settings, path: &Path) -> Option<Time> {
    let is_file = std::fs::metadata(path).is_ok_and(|metadata| metadata.is_file());
    let mut first = FirstTime::default();
    if is_file {
        let mut settings = settings.clone();
        settings.args.follow = false;
        // What is wrong with it is said when its turn comes.
        let _ = read_one(&settings, path, &ProgressBar::hidden(), &mut first);
    }
    first.0
}

/// The bytes of `--hex`: digits, or what was copied from a dump or a program.
pub fn given_hex(text: &str) -> anyhow::Result<Vec<u8>> {
    match hex_text::bytes_in(text) {
        Ok(bytes) => Ok(bytes),
        Err(why) => bail!("--hex: {why}; it takes pairs of hex digits, as in --hex 'C6 39 03'"),
    }
}

/// A key can be given for channels whose frames have none.
fn key_fits(args: &InputArgs, plan: &Plan, on: Option<ChannelId>) -> anyhow::Result<()> {
    if let (Some(_), Some(channel)) = (args.key, on)
        && !plan.channels[channel].key_is_outside()
    {
        let name = &plan.channels[channel].name;
        bail!("--key is for channels that select messages by port, endpoint or can_id; on `{name}` the frame does");
    }
    Ok(())
}

/// The channel of bytes without any description, which also need the key where it does not stand in the frame.
fn need_channel(args: &InputArgs, plan: &Plan, on: Option<ChannelId>, what: &str) -> anyhow::Result<ChannelId> {
    if let Some(index) = on {
        let channel = &plan.channels[index];
        if channel.key_is_outside() && args.key.is_none() {
            let direction = channel.direction(args.from.map_or(End::Device, SenderEnd::end));
            bail!(
                "on `{}` a key outside the frame selects the message\n\
                 give the port or CAN identifier that the bytes of {what} came with: --key {}",
                channel.name,
                direction.key_number(direction.keys.first().map_or(2, |(key, _)| *key))
            );
        }
        return Ok(index);
    }
    let mut serial = plan.channel_ids().filter(|(_, channel)| !channel.finder().is_packet());
    if let (Some((only, _)), None) = (serial.next(), serial.next()) {
        return Ok(only);
    }
    let all: Vec<&str> = plan.channels.iter().map(|channel| channel.name.as_str()).collect();
    bail!("nothing says which channel the bytes of {what} come from\nsay it with --on CHANNEL: {}", all.join(", "))
}

/// Reads one input into a sink.
fn read_one(
    settings: &Settings,
    path: &Path,
    bar: &ProgressBar,
    sink: &mut dyn PieceSink,
) -> anyhow::Result<InputRead> {
    let Settings { args, plan, on, .. } = settings;
    let input = bar.wrap_read(open(path, args.follow)?);
    // Raw bytes may begin with anything.
    let is_raw = matches!(args.form, Some(CaptureForm::Raw));
    let mut unpacked = if is_raw { Unpacked::as_it_is(input) } else { Unpacked::new(input)? };
    let mut is_text = false;
    let (mut outcome, skipped) = match &settings.records {
        Some((shape, forms)) => records::read(shape, *forms, &mut unpacked, sink)?,
        None => {
            let first = source::read_first(&mut unpacked)?;
            let form = match args.form {
                None => source::detect(&first),
                Some(CaptureForm::Pcapng) => CaptureFormat::Pcapng,
                Some(CaptureForm::Pcap) => CaptureFormat::Pcap,
                Some(CaptureForm::Hex) => CaptureFormat::Hex,
                Some(CaptureForm::Raw) => CaptureFormat::Raw,
                Some(CaptureForm::Samples) => {
                    bail!("--form samples is for waveforms: --wire says which signal is which wire")
                }
            };
            if matches!(form, CaptureFormat::Hex | CaptureFormat::Raw) && !first.is_empty() {
                let pattern = emberwort_capture::records::can_log(&first).filter(|_| args.key.is_none());
                let channel = need_channel(args, plan, *on, &input_name(path)).map_err(|problem| match pattern {
                    Some(pattern) => {
                        anyhow::anyhow!("{problem}\nor are these lines of a CAN log? --lines '{pattern}' reads them")
                    }
                    None => problem,
                })?;
                if form == CaptureFormat::Raw && plan.channels[channel].finder().silence().is_some() {
                    bail!(
                        "on `{}` silence separates frames, and bytes without times do not say when there was any\n\
                         give a capture with times (pcapng, pcap), or hex text with a line for each frame",
                        plan.channels[channel].name
                    );
                }
                let all_text = || first.iter().all(|byte| byte.is_ascii_graphic() || byte.is_ascii_whitespace());
                is_text = form == CaptureFormat::Raw && !plan.channels[channel].finder().is_text() && all_text();
            }
            let input = first.as_slice().chain(&mut unpacked);
            (source::read(form, input, sink)?, Skipped::default())
        }
    };
    if let Some(reason) = unpacked.damage() {
        outcome.damage = Some(Damage { offset: outcome.bytes, reason });
    }
    Ok(InputRead { outcome, skipped, is_text })
}
