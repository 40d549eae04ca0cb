//! Reading the captures that `decode` and `stats` are given.

use emberwort_model::model::End;
use std::fs::File;
use std::io::{self, IsTerminal, Read};
use std::path::Path;

use anyhow::{Context, bail};
use emberwort_capture::packing::Unpacked;
use emberwort_capture::speakers::Later;
use emberwort_capture::{Damage, Decoder, Demux, Form, ItemSink, Outcome, Speakers, Statistics, hex_text, source};
use emberwort_model::Plan;
use indicatif::{ProgressBar, ProgressStyle};

use super::names::channel_index;
use crate::cli::{CaptureForm, InputArgs, SenderEnd};
use crate::output;

/// What came of all inputs.
pub struct Reading {
    pub statistics: Statistics,
    pub file_bytes: u64,
    pub damage: Vec<(String, Damage)>,
    /// Inputs that are text, and were read as the bytes themselves.
    pub texts: Vec<String>,
}

impl Reading {
    /// What to do about text in which no frame was found.
    pub fn text_hint(&self) -> Option<String> {
        let name = self.texts.first().filter(|_| self.statistics.good_frames() == 0)?;
        Some(format!(
            "{name} is text, and was read as the bytes themselves; if it holds bytes in hex, leave nothing else in its lines than an offset or a \
             time in front of them, or the same bytes as text after them"
        ))
    }
}

/// Files smaller than this are read without a progress bar.
const PROGRESS_FROM: u64 = 32 << 20;

/// Decodes all inputs into a sink.
pub fn decode_all<S>(args: &InputArgs, speakers: Speakers, later: Later, sink: S) -> anyhow::Result<Reading>
where
    S: ItemSink<Error: std::error::Error + Send + Sync + 'static>,
{
    let plan = &speakers.own().clone();
    let on = args.on.as_deref().map(|name| channel_index(plan, name)).transpose()?;
    key_fits(args, plan, on)?;
    let from = args.from.map(SenderEnd::end);
    let key = args.key.zip(on).map(|(key, on)| key.on(plan.channels[on].direction(from.unwrap_or(End::Device))));
    let decoder = Decoder::of(speakers, sink).asking(later);
    let mut demux = decoder.demuxed().on(on).assuming_from(from).assuming_key(key);
    let mut file_bytes = 0;
    let mut damage = Vec::new();
    let mut texts = Vec::new();
    if let Some(hex) = &args.hex {
        let bytes = given_hex(hex)?;
        need_channel(args, plan, on, "--hex")?;
        file_bytes = bytes.len() as u64;
        source::hand_over(&bytes, &mut demux);
    } else {
        if args.inputs.is_empty() {
            bail!("name a capture to read, `-` for standard input, or give bytes with --hex");
        }
        for path in &args.inputs {
            if output::interrupted() {
                break;
            }
            let shown = input_name(path);
            let outcome = read_one(args, plan, on, path, &mut demux, &mut texts)
                .with_context(|| format!("{shown} cannot be read"))?;
            file_bytes += outcome.bytes;
            damage.extend(outcome.damage.map(|found| (shown, found)));
        }
    }
    let (_, statistics) = demux.into_sink().finish()?;
    Ok(Reading { statistics, file_bytes, damage, texts })
}

/// An input as it is shown.
fn input_name(path: &Path) -> String {
    if path == Path::new("-") { "standard input".to_owned() } else { crate::files::shown(path) }
}

/// The bytes of `--hex`: digits, or what was copied from a dump or a program.
pub fn given_hex(text: &str) -> anyhow::Result<Vec<u8>> {
    match hex_text::bytes_in(text) {
        Ok(bytes) => Ok(bytes),
        Err(why) => bail!("--hex: {why}; it takes pairs of hex digits, as in --hex 'C6 39 03'"),
    }
}

/// A key can be given for channels whose frames have none.
fn key_fits(args: &InputArgs, plan: &Plan, on: Option<usize>) -> anyhow::Result<()> {
    if let (Some(_), Some(channel)) = (args.key, on)
        && !plan.channels[channel].key_is_outside()
    {
        let name = &plan.channels[channel].name;
        bail!("--key is for channels that select messages by port or can_id; on `{name}` the frame does");
    }
    Ok(())
}

/// The channel of bytes without any description, which also need the key where it does not stand in the frame.
fn need_channel(args: &InputArgs, plan: &Plan, on: Option<usize>, what: &str) -> anyhow::Result<usize> {
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
    let serial = |index: &usize| !plan.channels[*index].finder().is_packet();
    let mut serial = (0..plan.channels.len()).filter(serial);
    if let (Some(only), None) = (serial.next(), serial.next()) {
        return Ok(only);
    }
    let all: Vec<&str> = plan.channels.iter().map(|channel| channel.name.as_str()).collect();
    bail!("nothing says which channel the bytes of {what} come from\nsay it with --on CHANNEL: {}", all.join(", "))
}

fn read_one<S: ItemSink>(
    args: &InputArgs,
    plan: &Plan,
    on: Option<usize>,
    path: &Path,
    demux: &mut Demux<Decoder<S>>,
    texts: &mut Vec<String>,
) -> anyhow::Result<Outcome> {
    let (input, length): (Box<dyn Read>, u64) = if path == Path::new("-") {
        (Box::new(io::stdin().lock()), 0)
    } else {
        let file = File::open(path)?;
        let metadata = file.metadata()?;
        if metadata.is_dir() {
            bail!("it is a folder");
        }
        (Box::new(file), metadata.len())
    };
    // Raw bytes may begin with anything.
    let is_raw = matches!(args.form, Some(CaptureForm::Raw));
    let mut unpacked = if is_raw { Unpacked::as_it_is(input) } else { Unpacked::new(input)? };
    let first = source::read_first(&mut unpacked)?;
    let form = match args.form {
        None => source::detect(&first),
        Some(CaptureForm::Pcapng) => Form::Pcapng,
        Some(CaptureForm::Pcap) => Form::Pcap,
        Some(CaptureForm::Hex) => Form::Hex,
        Some(CaptureForm::Raw) => Form::Raw,
    };
    if matches!(form, Form::Hex | Form::Raw) && !first.is_empty() {
        let channel = need_channel(args, plan, on, &input_name(path))?;
        if form == Form::Raw && plan.channels[channel].finder().silence().is_some() {
            bail!(
                "on `{}` silence separates frames, and bytes without times do not say when there was any\n\
                 give a capture with times (pcapng, pcap), or hex text with a line for each frame",
                plan.channels[channel].name
            );
        }
        let is_text = || first.iter().all(|byte| byte.is_ascii_graphic() || byte.is_ascii_whitespace());
        if form == Form::Raw && !plan.channels[channel].finder().is_text() && is_text() {
            texts.push(input_name(path));
        }
    }
    let is_packed = unpacked.was_packed();
    let input = first.as_slice().chain(&mut unpacked);
    let mut outcome = if !is_packed && length >= PROGRESS_FROM && io::stderr().is_terminal() {
        let style = ProgressStyle::with_template("{bar:40} {bytes} of {total_bytes}, {eta} left")?;
        let bar = ProgressBar::new(length).with_style(style);
        let outcome = source::read(form, bar.wrap_read(input), demux)?;
        bar.finish_and_clear();
        outcome
    } else {
        source::read(form, input, demux)?
    };
    if let Some(reason) = unpacked.damage() {
        outcome.damage = Some(Damage { offset: outcome.bytes, reason });
    }
    Ok(outcome)
}
