//! Arguments of the commands that read captures.

use std::path::PathBuf;
use std::sync::LazyLock;

use clap::builder::PossibleValue;
use clap::{Args, ValueEnum};
use emberwort_model::Plan;
use emberwort_model::ids::MessageId;
use emberwort_model::model::End;
use emberwort_model::number::Decimal;
use emberwort_model::plan::{Direction, EXTENDED_ID, KeySource};
use emberwort_rows::RowForm;
use emberwort_wire::Time;

use super::{TableForm, names, possible_form};

/// The form of a capture.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum CaptureForm {
    /// pcapng
    Pcapng,
    /// Classic pcap
    Pcap,
    /// Hex in text: digits, dumps, logs
    Hex,
    /// The bytes themselves
    Raw,
    /// Samples of a waveform, with --wire and --sample
    Samples,
}

/// One of the two ends of a link.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum SenderEnd {
    /// The firmware side
    Device,
    /// The computer side
    Host,
}

impl SenderEnd {
    /// The end as the link has it.
    pub fn end(self) -> End {
        match self {
            SenderEnd::Device => End::Device,
            SenderEnd::Host => End::Host,
        }
    }
}

/// A port or CAN identifier as it is written.
#[derive(Clone, Copy, Debug)]
pub struct GivenKey {
    number: u64,
    /// With the digits that only an extended identifier has.
    wide: bool,
}

impl GivenKey {
    fn parse(text: &str) -> Result<Self, String> {
        let value = Decimal::parse(text).and_then(Decimal::as_integer).and_then(|value| u64::try_from(value).ok());
        let number =
            value.ok_or("write a whole number, as in 420 or 0x1A4; a CAN identifier of 29 bits as 0x0CF00400")?;
        let digits = text.trim_start_matches("0x").bytes().filter(u8::is_ascii_hexdigit).count();
        Ok(Self { number, wide: text.starts_with("0x") && digits == 8 })
    }

    /// The key as a channel's frames come with it: CAN identifiers beyond 11 bits, and those written with 8 digits, are extended.
    pub fn on(self, channel: &Direction) -> u64 {
        let extended = channel.selected_by == KeySource::CanId && (self.wide || self.number > 0x7FF);
        if extended { self.number | EXTENDED_ID } else { self.number }
    }
}

/// Which bytes are read, and as what.
#[derive(Clone, Debug, Default, Args)]
pub struct InputArgs {
    /// Captures; `-` is standard input
    pub inputs: Vec<PathBuf>,
    /// Bytes in hex, in place of files
    #[arg(long, value_name = "HEX", conflicts_with = "inputs")]
    pub hex: Option<String>,
    /// The channel of serial bytes, where the capture does not say it
    #[arg(long, value_name = "CHANNEL", add = names::channels())]
    pub on: Option<String>,
    /// The end that sent the bytes, where the capture does not say it and the two ends send different frames
    #[arg(long, value_name = "END")]
    pub from: Option<SenderEnd>,
    /// The port or CAN identifier that the bytes came with, where neither capture nor frame says it
    #[arg(long, value_name = "KEY", requires = "on", value_parser = GivenKey::parse)]
    pub key: Option<GivenKey>,
    /// Form of the captures [default: found from their content]
    #[arg(long, value_name = "FORM")]
    pub form: Option<CaptureForm>,
    /// Which packets are whose, as in 'address=192.0.2.7, channel=house, node=3'; by interface, address, port, can_id, device
    #[arg(long, value_name = "RULE")]
    pub assign: Vec<String>,
    /// A source of emberwort.toml, by its name: its files, unless others are given, and its options
    #[arg(long, value_name = "NAME")]
    pub source: Option<String>,
    /// Wait at the end of a file for what is still written to it
    #[arg(long, conflicts_with = "hex")]
    pub follow: bool,
    #[command(flatten)]
    pub records: TextArgs,
    #[command(flatten)]
    pub wave: WaveArgs,
}

/// Waveforms: exports of logic analysers and oscilloscopes.
#[derive(Clone, Debug, Default, Args)]
pub struct WaveArgs {
    /// The input is a waveform: which signal is which wire of --on, as device=D0; roles are device, host, clock, select, data, bus, plus, minus, line; CH1-CH2 is a difference
    #[arg(long, value_name = "ROLE=SIGNAL", help_heading = "Waveforms", requires = "on", conflicts_with_all = ["hex", "follow", "lines", "bytes_at"])]
    pub wire: Vec<String>,
    /// The wires, and what else is said of waveforms, that emberwort.toml keeps under this name, in `[[wires]]`
    #[arg(long, value_name = "NAME", help_heading = "Waveforms")]
    pub wires: Option<String>,
    /// This wire is low where its signal is high
    #[arg(long, value_name = "ROLE", help_heading = "Waveforms", requires = "wire")]
    pub invert: Vec<String>,
    /// The middle between low and high, as 1.6V, for signals that have numbers
    #[arg(long, value_name = "VOLTS", help_heading = "Waveforms", requires = "wire", value_parser = volts, allow_hyphen_values = true)]
    pub threshold: Option<f64>,
    /// By how much a signal has to pass the threshold, up or down in all, as 0.4V
    #[arg(long, value_name = "VOLTS", help_heading = "Waveforms", requires = "wire", value_parser = volts)]
    pub hysteresis: Option<f64>,
    /// Signals with numbers lose what changes faster than this, as 20kHz: against ringing
    #[arg(long, value_name = "FREQUENCY", help_heading = "Waveforms", requires = "wire", value_parser = hertz)]
    pub smooth: Option<u64>,
    /// Levels that last for less than this are left out, as 50ns
    #[arg(long, value_name = "TIME", help_heading = "Waveforms", requires = "wire", value_parser = emberwort_link::duration)]
    pub deglitch: Option<u64>,
    /// Leave out so many bits at the beginning of each data wire that has a clock
    #[arg(long, value_name = "N", help_heading = "Waveforms", requires = "wire", default_value = "0")]
    pub skip_bits: u32,
    /// Of a universal serial bus show every packet: tokens, handshakes, starts of frames, broken ones, and data that nobody acknowledged
    #[arg(long, help_heading = "Waveforms", requires = "wire")]
    pub all: bool,
    /// Read only this part: 1.2s..1.4s of a waveform; `amend` leaves out all packets outside of it, since the first frame, or moments
    #[arg(long, value_name = "FROM..TO", help_heading = "Waveforms")]
    pub span: Option<String>,
    /// The waveform is raw samples of this form; otherwise its content says what it is
    #[arg(long, value_name = "FORM", help_heading = "Waveforms", requires = "wire")]
    pub sample: Option<SampleForm>,
    /// Samples a second, as 12MHz
    #[arg(long, value_name = "RATE", help_heading = "Waveforms", requires = "wire", value_parser = hertz)]
    pub rate: Option<u64>,
    /// How many signals there are in raw samples of numbers, one behind the other: A0, A1 and so on
    #[arg(long, value_name = "N", help_heading = "Waveforms", requires = "sample", default_value = "1", value_parser = clap::value_parser!(u16).range(1..=64))]
    pub channels: u16,
}

/// The form of raw samples.
#[derive(Clone, Copy, Debug, ValueEnum)]
pub enum SampleForm {
    /// Eight wires, D0 to D7
    U8,
    /// Sixteen wires, D0 to D15, little-endian
    U16,
    /// One signal, A0, 16 bits with a sign, little-endian; full scale is 1
    I16,
    /// One signal, A0, 32-bit float, little-endian
    F32,
}

/// Volts, with or without their unit.
fn volts(text: &str) -> Result<f64, String> {
    let (number, factor) = match text.trim().strip_suffix(['V', 'v']) {
        Some(number) => match number.strip_suffix('m') {
            Some(number) => (number, 1e-3),
            None => (number, 1.0),
        },
        None => (text.trim(), 1.0),
    };
    let volts = number.trim().parse::<f64>().ok().filter(|volts| volts.is_finite());
    volts.map(|volts| volts * factor).ok_or_else(|| format!("`{text}` is no voltage; write it as 1.6V or 400mV"))
}

/// Two moments of a waveform, in nanoseconds.
///
/// # Errors
/// If they are none, or in the wrong order.
pub fn wave_span(text: &str) -> Result<(u64, u64), String> {
    let (from, to) = text.split_once("..").ok_or_else(|| format!("`{text}` is no span; write it as 1.2s..1.4s"))?;
    let moment =
        |text: &str, other: u64| if text.trim().is_empty() { Ok(other) } else { emberwort_link::duration(text) };
    let (from, to) = (moment(from, 0)?, moment(to, u64::MAX / 1000)?);
    if from < to { Ok((from, to)) } else { Err(format!("`{text}` ends before it begins")) }
}

/// Hertz, with or without a unit.
fn hertz(text: &str) -> Result<u64, String> {
    let split = text.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(text.len());
    let (number, unit) = text.split_at(split);
    let factor = match unit.trim() {
        "" | "Hz" => Some(1.0),
        "kHz" => Some(1e3),
        "MHz" => Some(1e6),
        "GHz" => Some(1e9),
        _ => None,
    };
    let rate = number.parse::<f64>().ok().zip(factor).map(|(number, factor)| (number * factor).round());
    let rate = rate.filter(|rate| (1.0..=1e12).contains(rate));
    rate.map(|rate| rate as u64).ok_or_else(|| format!("`{text}` is no rate; write it as 12MHz"))
}

/// Text whose lines are records.
#[derive(Clone, Debug, Default, Args)]
pub struct TextArgs {
    /// Lines of a log, as in '{time} {can_id:hex} {bytes}'; also port, channel, direction, device, and {} for anything
    #[arg(long, value_name = "PATTERN", help_heading = "Text with a record in each line", conflicts_with_all = ["columns", "bytes_at", "form"])]
    pub lines: Option<String>,
    /// A table with these columns, by name or by number from 0: time=Time,bytes=Data,can_id=ID; of a waveform time=0,rx=2
    #[arg(long, value_name = "LIST", help_heading = "Text with a record in each line", conflicts_with_all = ["bytes_at", "form"])]
    pub columns: Option<String>,
    /// JSON objects; where the bytes stand, as a JSON pointer: /uplink/payload
    #[arg(long, value_name = "POINTER", help_heading = "Text with a record in each line", conflicts_with = "form")]
    pub bytes_at: Option<String>,
    /// Where the time stands
    #[arg(long, value_name = "POINTER", help_heading = "Text with a record in each line", requires = "bytes_at")]
    pub time_at: Option<String>,
    /// Where the port stands
    #[arg(long, value_name = "POINTER", help_heading = "Text with a record in each line", requires = "bytes_at")]
    pub port_at: Option<String>,
    /// Where the CAN identifier stands
    #[arg(long, value_name = "POINTER", help_heading = "Text with a record in each line", requires = "bytes_at")]
    pub can_id_at: Option<String>,
    /// Where the channel's name stands
    #[arg(long, value_name = "POINTER", help_heading = "Text with a record in each line", requires = "bytes_at")]
    pub channel_at: Option<String>,
    /// Where it says which end sent it: device, host, uplink, downlink
    #[arg(long, value_name = "POINTER", help_heading = "Text with a record in each line", requires = "bytes_at")]
    pub direction_at: Option<String>,
    /// Where the device stands: its node, or its name in the fleet file
    #[arg(long, value_name = "POINTER", help_heading = "Text with a record in each line", requires = "bytes_at")]
    pub device_at: Option<String>,
    /// How the bytes are written [default: hex]
    #[arg(long, value_name = "FORM", help_heading = "Text with a record in each line")]
    pub bytes_as: Option<BytesAs>,
    /// How times are written [default: a date and a time of day, that alone, or seconds]
    #[arg(long, value_name = "UNIT", help_heading = "Text with a record in each line")]
    pub time_as: Option<TimeAs>,
}

/// How bytes are written in text.
#[derive(Clone, Copy, Debug, ValueEnum)]
pub enum BytesAs {
    /// Hex digits
    Hex,
    /// Base 64 (RFC 4648)
    Base64,
}

/// The unit of times that are numbers.
#[derive(Clone, Copy, Debug, ValueEnum)]
pub enum TimeAs {
    /// Seconds
    S,
    /// Milliseconds
    Ms,
    /// Microseconds
    Us,
    /// Nanoseconds
    Ns,
}

/// Who speaks another revision than the definition's.
#[derive(Debug, Default, Args)]
pub struct RevisionArgs {
    /// A device has another revision than the definition's: 3=r2 for node 3, r2 for all that are not named
    #[arg(long, value_name = "NODE=REVISION")]
    pub device: Vec<String>,
    /// CSV with the columns device, node and revision: which device has which revision
    #[arg(long, value_name = "FILE")]
    pub fleet: Option<PathBuf>,
}

/// Which rows are wanted, by what they hold and when they came.
#[derive(Clone, Debug, Args)]
pub struct AskedArgs {
    /// Only these messages
    #[arg(long, value_name = "MESSAGE", add = names::messages())]
    pub message: Vec<String>,
    /// Only frames of this node
    #[arg(long, value_name = "N")]
    pub node: Option<u64>,
    /// Only rows for which this holds: 'GateStatus.opening > 40 and state == held'
    #[arg(long = "where", value_name = "CONDITION")]
    pub condition: Option<String>,
    /// Only what came from this moment on: 2031-03-09T02:11:00Z
    #[arg(long, value_name = "TIME", value_parser = moment)]
    pub since: Option<Time>,
    /// Only what came up to this moment
    #[arg(long, value_name = "TIME", value_parser = moment)]
    pub until: Option<Time>,
    /// Only what came shortly before and after rows for which this holds: 'message == Alarm'
    #[arg(long, value_name = "CONDITION")]
    pub around: Option<String>,
    /// How long before them
    #[arg(long, value_name = "TIME", default_value = "2s", value_parser = emberwort_link::duration, requires = "around")]
    pub before: u64,
    /// How long after them
    #[arg(long, value_name = "TIME", default_value = "2s", value_parser = emberwort_link::duration, requires = "around")]
    pub after: u64,
}

impl AskedArgs {
    /// Whether anything is asked.
    pub fn is_asked(&self) -> bool {
        !self.message.is_empty()
            || self.node.is_some()
            || self.condition.is_some()
            || self.since.is_some()
            || self.until.is_some()
            || self.around.is_some()
    }

    /// The message whose rows alone are wanted, by index.
    pub fn only_message(&self, plan: &Plan) -> Option<MessageId> {
        match &self.message[..] {
            [only] => plan.message_index(only),
            _ => None,
        }
    }
}

/// A moment as it stands in rows.
pub fn moment(text: &str) -> Result<Time, String> {
    let said = || format!("`{text}` is not a time; write it as 2031-03-09T02:11:00Z");
    let time: jiff::Timestamp = text.parse().map_err(|_| said())?;
    u64::try_from(time.as_nanosecond()).map(Time::from_nanoseconds).map_err(|_| said())
}

#[derive(Debug, Args)]
pub struct DecodeArgs {
    #[command(flatten)]
    pub input: InputArgs,
    #[command(flatten)]
    pub revisions: RevisionArgs,
    /// The bytes are the bare body of this message
    #[arg(long, value_name = "MESSAGE", requires = "hex", conflicts_with_all = ["device", "fleet"], add = names::messages())]
    pub body: Option<String>,
    /// Show each request with its answer in one line, and how long it took
    #[arg(long, conflicts_with_all = ["first", "last", "threads", "raw", "around"])]
    pub exchanges: bool,
    /// Show only which fields changed from one message of a sender to its next: old value and new
    #[arg(long, conflicts_with_all = ["first", "last", "threads", "exchanges"])]
    pub changes: bool,
    /// Tell of the frame with this number how its values came about: packets, channel, checksum, bits
    #[arg(long, value_name = "FRAME", value_parser = clap::value_parser!(u64).range(1..), conflicts_with_all = ["first", "last", "threads", "exchanges", "changes", "body"])]
    pub explain: Option<u64>,
    #[command(flatten)]
    pub asked: AskedArgs,
    /// End after so many rows
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..))]
    pub first: Option<u64>,
    /// Show only so many rows, the last ones
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..), conflicts_with = "first")]
    pub last: Option<u64>,
    /// A folder for a table of each message: --as csv, or --as parquet by message and day. FILE.csv: all rows in one file
    #[arg(long, value_name = "DIR", conflicts_with_all = ["first", "last", "raw", "threads", "exchanges", "changes", "explain", "hex", "follow"])]
    pub out: Option<PathBuf>,
    /// CSV with texts beside nodes and values: the columns node, field, address (of a table's entry), value (3, held, 80..100), text
    #[arg(long, value_name = "FILE", conflicts_with_all = ["out", "exchanges", "changes", "explain", "body"])]
    pub labels: Option<PathBuf>,
    /// Raw codes in place of physical values
    #[arg(long)]
    pub raw: bool,
    /// Exit code 1 if there are broken frames or stray bytes
    #[arg(long)]
    pub strict: bool,
    /// Tables show times in this zone: a name of the time zone database, or an offset as +02:00
    #[arg(long, value_name = "ZONE", conflicts_with = "times", allow_hyphen_values = true)]
    pub zone: Option<String>,
    /// Tables show seconds: since the row `before`, since the frame with a number, or since a moment
    #[arg(long, value_name = "WHAT")]
    pub times: Option<String>,
    /// Write rows on so many cores; the output is the same for any number [default: all cores]
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..=256))]
    pub threads: Option<u16>,
    /// Form of the output
    #[arg(long = "as", value_name = "FORM", default_value = "table")]
    pub form_out: DecodeForm,
}

/// The form of what `decode` shows or writes. Tables for engines need captures that end: what is live has rows alone.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum DecodeForm {
    Rows(RowForm),
    #[cfg(feature = "parquet")]
    Parquet,
}

impl ValueEnum for DecodeForm {
    fn value_variants<'a>() -> &'a [Self] {
        static ALL: LazyLock<Vec<DecodeForm>> = LazyLock::new(|| {
            let rows = RowForm::ALL.into_iter().map(DecodeForm::Rows);
            #[cfg(feature = "parquet")]
            let rows = rows.chain([DecodeForm::Parquet]);
            rows.collect()
        });
        &ALL
    }

    fn to_possible_value(&self) -> Option<PossibleValue> {
        match self {
            Self::Rows(form) => Some(possible_form(*form)),
            #[cfg(feature = "parquet")]
            Self::Parquet => Some(
                PossibleValue::new("parquet").help("Tables by message and day in a folder, for engines: --out DIR"),
            ),
        }
    }
}

#[derive(Debug, Args)]
pub struct StatsArgs {
    #[command(flatten)]
    pub input: InputArgs,
    #[command(flatten)]
    pub revisions: RevisionArgs,
    #[command(flatten)]
    pub asked: AskedArgs,
    /// How often and how regularly messages come, what lacks, who began again or fell silent, how long answers take
    #[arg(long)]
    pub timing: bool,
    /// What each field held: least, mean, greatest, labels by their share of the time, unused codes; with --timing
    #[arg(long)]
    pub fields: bool,
    /// Show what differs from another recording, in place of all
    #[arg(long, value_name = "FILE", conflicts_with_all = ["hex", "follow"])]
    pub against: Option<PathBuf>,
    /// Form of the output
    #[arg(long = "as", value_name = "FORM", default_value = "table")]
    pub form_out: StatsForm,
}

/// Forms of counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum StatsForm {
    /// Tables for people
    Table,
    /// One JSON object
    Ndjson,
    /// Tables for a page
    Markdown,
}

#[derive(Debug, Args)]
pub struct SurveyArgs {
    /// The waveform; `-` is standard input
    pub file: PathBuf,
    /// In place of what it may be: the timing of the line of this channel, as its wires show it, with --wire
    #[arg(long, value_name = "CHANNEL", requires = "wire", add = names::channels())]
    pub on: Option<String>,
    /// Which signal is which wire of --on, as device=D0
    #[arg(long, value_name = "ROLE=SIGNAL", requires = "on")]
    pub wire: Vec<String>,
    /// This wire is low where its signal is high
    #[arg(long, value_name = "ROLE", requires = "wire")]
    pub invert: Vec<String>,
    /// The middle between low and high, as 1.6V, for signals that have numbers
    #[arg(long, value_name = "VOLTS", requires = "wire", value_parser = volts, allow_hyphen_values = true)]
    pub threshold: Option<f64>,
    /// By how much a signal has to pass the threshold, up or down in all, as 0.4V
    #[arg(long, value_name = "VOLTS", requires = "wire", value_parser = volts)]
    pub hysteresis: Option<f64>,
    /// Levels that last for less than this are left out, as 50ns
    #[arg(long, value_name = "TIME", requires = "wire", value_parser = emberwort_link::duration)]
    pub deglitch: Option<u64>,
    /// Read only this part: 1.2s..1.4s
    #[arg(long, value_name = "FROM..TO", requires = "wire")]
    pub span: Option<String>,
    /// It is raw samples of this form; otherwise its content says what it is
    #[arg(long, value_name = "FORM", requires = "rate")]
    pub sample: Option<SampleForm>,
    /// Samples a second, as 12MHz
    #[arg(long, value_name = "RATE", value_parser = hertz)]
    pub rate: Option<u64>,
    /// How many signals there are in raw samples of numbers: A0, A1 and so on
    #[arg(long, value_name = "N", requires = "sample", default_value = "1", value_parser = clap::value_parser!(u16).range(1..=64))]
    pub channels: u16,
    /// Form of the output
    #[arg(long = "as", value_name = "FORM", default_value = "table")]
    pub form: TableForm,
}

#[derive(Debug, Args)]
pub struct FindArgs {
    /// A number, also as 0x1A4; a label; a text; bytes, as "C6 39"
    pub value: Option<String>,
    #[command(flatten)]
    pub input: InputArgs,
    #[command(flatten)]
    pub revisions: RevisionArgs,
    #[command(flatten)]
    pub asked: AskedArgs,
    /// In place of a value: which fields change together with this one
    #[arg(long, value_name = "FIELD")]
    pub like: Option<String>,
    /// Form of the output
    #[arg(long = "as", value_name = "FORM", default_value = "table")]
    pub form_out: TableForm,
}

#[derive(Debug, Args)]
pub struct AmendArgs {
    #[command(flatten)]
    pub input: InputArgs,
    #[command(flatten)]
    pub revisions: RevisionArgs,
    /// The new capture
    #[arg(long, value_name = "FILE")]
    pub out: PathBuf,
    /// The frame with this number, from 1, as decode --as tree and ndjson number them
    #[arg(long, value_name = "N", help_heading = "Which frames")]
    pub frame: Vec<u64>,
    /// Frames for which this holds
    #[arg(long = "where", value_name = "CONDITION", help_heading = "Which frames")]
    pub condition: Option<String>,
    /// Frames of these messages
    #[arg(long, value_name = "MESSAGE", help_heading = "Which frames", add = names::messages())]
    pub message: Vec<String>,
    /// Frames of this node
    #[arg(long, value_name = "N", help_heading = "Which frames")]
    pub node: Option<u64>,
    /// Another value for a field
    #[arg(long, value_name = "FIELD=VALUE", help_heading = "What becomes of them")]
    pub set: Vec<String>,
    /// Other bytes from this one on, counted from 0 in the frame without stuffing, as decode --as hex numbers them
    #[arg(long, value_name = "OFFSET=HEX", help_heading = "What becomes of them")]
    pub patch: Vec<String>,
    /// Leave them out
    #[arg(long, conflicts_with_all = ["set", "patch", "twice", "delay", "reorder"], help_heading = "What becomes of them")]
    pub drop: bool,
    /// Send them twice
    #[arg(long, help_heading = "What becomes of them")]
    pub twice: bool,
    /// Let them come so much later, or earlier: 20ms, -20ms
    #[arg(long, value_name = "TIME", allow_hyphen_values = true, value_parser = signed_duration, help_heading = "What becomes of them")]
    pub delay: Option<i64>,
    /// Let them change places with the next frame of their stream
    #[arg(long, help_heading = "What becomes of them")]
    pub reorder: bool,
    /// Leave checksums as they were, of the frames and of all layers around them
    #[arg(long, help_heading = "What becomes of them")]
    pub keep_checksums: bool,
    /// Leave out everything for which this does not hold
    #[arg(long, value_name = "CONDITION", help_heading = "What becomes of all")]
    pub keep: Option<String>,
    /// Take away what says who somebody is: fields by name, `addresses`, `ports`, `text`
    #[arg(long, value_name = "NAMES", value_delimiter = ',', help_heading = "What becomes of all")]
    pub scrub: Vec<String>,
    /// The same key gives the same new values in every capture
    #[arg(long, value_name = "TEXT", requires = "scrub", help_heading = "What becomes of all")]
    pub scrub_key: Option<String>,
    /// Form of what is said
    #[arg(long = "as", value_name = "FORM", default_value = "table")]
    pub form_out: TableForm,
}

/// A time, maybe with a minus in front, in nanoseconds.
fn signed_duration(text: &str) -> Result<i64, String> {
    let (sign, text) = text.strip_prefix('-').map_or((1, text), |text| (-1, text));
    let nanoseconds = emberwort_link::duration(text).map_err(|problem| problem.to_string())?;
    i64::try_from(nanoseconds).map(|nanoseconds| sign * nanoseconds).map_err(|_| "that is too long".to_owned())
}

#[derive(Debug, Args)]
pub struct PlotArgs {
    #[command(flatten)]
    pub input: InputArgs,
    #[command(flatten)]
    pub revisions: RevisionArgs,
    #[command(flatten)]
    pub asked: AskedArgs,
    /// A field to draw, of one message or of all that have it; several between commas share a pane
    #[arg(long, value_name = "FIELD")]
    pub field: Vec<String>,
    /// How long answers to requests took
    #[arg(long)]
    pub latency: bool,
    /// How often each value came, in place of when
    #[arg(long, requires = "field")]
    pub histogram: bool,
    /// Steps from value to value in place of lines
    #[arg(long)]
    pub steps: bool,
    /// Marks at two moments of a waveform, as 1.2ms,1.5ms: what lies between them is measured
    #[arg(long, value_name = "T1,T2", requires = "wire", value_parser = marks)]
    pub mark: Option<(u64, u64)>,
    /// Form of the picture: of a waveform also `page`, one file for a browser
    #[arg(long = "as", value_name = "FORM", requires = "out")]
    pub picture: Option<PlotForm>,
    /// The picture, as .svg or .png, a page as .html [default: text]
    #[arg(long, value_name = "FILE")]
    pub out: Option<PathBuf>,
}

/// The form of a plot.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum PlotForm {
    /// As the extension says
    Picture,
    /// One file of HTML, with pan and zoom
    Page,
}

/// Two moments of a waveform between a comma, in nanoseconds.
fn marks(text: &str) -> Result<(u64, u64), String> {
    let (one, other) = text.split_once(',').ok_or_else(|| format!("`{text}` is no two moments; write 1.2ms,1.5ms"))?;
    let (one, other) = (emberwort_link::duration(one)?, emberwort_link::duration(other)?);
    Ok((one.min(other), one.max(other)))
}
