//! The command line: names, options and help.

mod captures;
mod checksum;
mod live;
mod names;

use std::path::PathBuf;

use clap::builder::{PossibleValue, PossibleValuesParser, TypedValueParser};
use clap::{Args, Parser, Subcommand, ValueEnum};
use emberwort_model::number::Decimal;
use emberwort_rows::RowForm;

use crate::output::ColorChoice;
use crate::project::{GenerateKind, Role};

pub use captures::{
    AmendArgs, AskedArgs, BytesAs, CaptureForm, DecodeArgs, DecodeForm, FindArgs, InputArgs, PlotArgs, PlotForm,
    RevisionArgs, SampleForm, SenderEnd, StatsArgs, StatsForm, SurveyArgs, TextArgs, TimeAs, WaveArgs, moment,
    wave_span,
};
pub use checksum::{BytesArgs, ChecksumArgs, ChecksumJob, CodeLanguage, IdentifyArgs, PacketArgs, StrengthArgs};
pub use live::{DeviceArgs, Level, LineArgs, ListenArgs, PlayArgs, PortsArgs, RecordArgs, SendArgs, WatchArgs};

/// Define the binary messages between a device and a host, generate the code for both ends, try the link, and read
/// captured traffic down to the wire.
#[derive(Debug, Parser)]
#[command(name = "emberwort", version, arg_required_else_help = true, max_term_width = 110)]
#[command(
    after_help = "The definition is found by --link, by emberwort.toml in this folder or above it, or as the only \
    .ember file here.\n\nExamples:\n  emberwort demo\n  emberwort check"
)]
pub struct Cli {
    /// The definition file
    #[arg(long, global = true, value_name = "FILE", env = "EMBERWORT_LINK", add = names::files("ember"))]
    pub link: Option<PathBuf>,

    /// When to use colour
    #[arg(long, global = true, value_name = "WHEN", default_value = "auto")]
    pub color: ColorChoice,

    #[command(subcommand)]
    pub command: Command,
}

#[derive(Debug, Subcommand)]
pub enum Command {
    /// Start a project
    #[command(after_help = "Asks nothing. The definition is clean and its trial passes; change it from there.\n\n\
        Examples:\n  emberwort new my_link\n  emberwort new water_gauge --for lora")]
    New(NewArgs),

    /// Report what is wrong in a definition
    #[command(
        after_help = "Exit code 1 if there are errors; warnings change it with --deny warnings, hints never.\n\n\
        Examples:\n  emberwort check\n  emberwort check --deny warnings --as ndjson marlock.ember"
    )]
    Check(CheckArgs),

    /// Rewrite definitions in the one canonical style
    #[command(
        after_help = "Comments and meaning stay as they are. With `-` standard input goes to standard output, for editors.\n\n\
        Examples:\n  emberwort tidy\n  emberwort tidy --check marlock.ember"
    )]
    Tidy(TidyArgs),

    /// Show where every field of a message lies
    #[command(after_help = "Places are byte.bit, bit 0 being the least significant of its byte.\n\n\
        Examples:\n  emberwort layout GateStatus\n  emberwort layout GateStatus --as picture")]
    Layout(LayoutArgs),

    /// Show what messages cost: bytes, time on the wire, shares of a channel
    #[command(after_help = "docs/budget.md has the formulas. Numbers are exact; a column with ≈ is rounded.\n\n\
        Examples:\n  emberwort budget gauges --devices 2\n  emberwort budget gauges --what-if 'gauges sf12' --what-if \
        'Level.depth step 0.01'")]
    Budget(BudgetArgs),

    /// Show one number every way: physical, raw, hex, binary, bytes
    #[command(
        after_help = "Without VALUE the type itself is shown, and what other widths would give. TYPE is written as in a \
        definition.\n\nExamples:\n  emberwort value '-1.5 .. 9.5 m step 0.005' 3.217\n  emberwort value i16 --raw 0xFFFE"
    )]
    Value(ValueArgs),

    /// Freeze the current revision, or show the frozen ones
    #[command(
        after_help = "Writes sealed/NAME-rN.ember beside the definition, all imports in one file, and its SHA-256 digest. \
        Exit code 1 if it is refused, or a sealed file was edited or is missing.\n\n\
        Examples:\n  emberwort seal --note 'first units shipped'\n  emberwort seal --list"
    )]
    Seal(SealArgs),

    /// Show what changed between two revisions, and what that does to units in the field
    #[command(
        after_help = "OLD and NEW are files, sealed revisions as `r2`, or what version control has, as `git:v1.4`. What is wrong is \
        shown with a message: its bytes, what was meant, what would be read, and what to write instead. Exit code 1 if a difference \
        strands devices or hosts.\n\n\
        Examples:\n  emberwort compare\n  emberwort compare r1 --prove --as markdown"
    )]
    Compare(CompareArgs),

    /// Make a definition of the CAN database (.dbc) that somebody else describes a bus with
    #[command(
        after_help = "Writes two files: FILE-imported.ember, which is written again each time, and FILE.ember for your own part, which is made \
        once and stays. What cannot be carried over is said by its line.\n\n\
        Examples:\n  emberwort import databases/power-pack.dbc --out pack.ember\n  \
        emberwort import databases/power-pack.dbc --out pack.ember --host Keeper --medium 'can 250 kbit/s'"
    )]
    Import(ImportArgs),

    /// Turn one message into bytes
    #[command(after_help = "Without --on the body is printed, with it the whole frame.\n\n\
        Examples:\n  emberwort encode MoveGate target=80 speed=12 --on bus485 --node 3\n  \
        emberwort encode Refused command=0x40 reason=oil_hot --as bytes")]
    Encode(EncodeArgs),

    /// Turn captures or bytes into messages
    #[command(
        after_help = "The form of a capture is found from its content. Afterwards standard error says where every \
        byte went. Devices that have another revision than the definition's are read as that: --device, --fleet, or what their frames \
        say.\n\nExamples:\n  emberwort decode stormy-night.pcapng --device 4=r2 --node 4\n  \
        emberwort decode --on bus485 --hex 'C6 39 03 40 00 02 A0 12 F5 90'"
    )]
    Decode(DecodeArgs),

    /// Count what captures hold
    #[command(after_help = "Good, broken and stray bytes add up to the input.\n\n\
        Examples:\n  emberwort stats stormy-night.pcapng\n  emberwort stats stormy-night.pcapng --as ndjson")]
    Stats(StatsArgs),

    /// Look for a value in captures: which fields, or which bytes, hold it
    #[command(
        after_help = "Numbers are looked for as physical values, as raw codes, and in bytes of any width, order and power of ten. Nothing that is \
        found in bytes alone is proof: the more frames have it at one place, the better.\n\n\
        Examples:\n  emberwort find 231.5 stormy-night.pcapng\n  emberwort find --like GateStatus.oil stormy-night.pcapng"
    )]
    Find(FindArgs),

    /// Look at what is on the wires of a waveform, and what that probably is
    #[command(
        after_help = "Levels, pulses and what fits them: an asynchronous line with its speed and form, a clock with what belongs to it, a bus, or a code. Ends with what to write into the definition, and what to run next. With --on the timing of what was decoded: speed, bits, rests between bytes and frames, answers, edges, beside what is allowed.\n\n\
        Examples:\n  emberwort survey waveforms/bus.csv\n  emberwort survey waveforms/bus.csv --on bus485 --wire device=CH1 --wire host=CH2"
    )]
    Survey(SurveyArgs),

    /// Draw fields of captures over the time
    #[command(
        after_help = "Numbers are lines, labels and flags are bands, and broken frames stand as ticks below. Where frames lack, lines have gaps.\n\n\
        Examples:\n  emberwort plot stormy-night.pcapng --node 3 --field oil --field state\n  \
        emberwort plot stormy-night.pcapng --field oil,pump_temp --field state --latency --out night.svg"
    )]
    Plot(PlotArgs),

    /// Copy a capture with some frames changed
    #[command(
        after_help = "The capture itself stays as it is. Lengths and checksums of all layers follow what is changed, and the copy is read back.\n\n\
        Examples:\n  emberwort amend stormy-night.pcapng --out oil.pcapng --frame 1070 --set oil=80\n  \
        emberwort amend stormy-night.pcapng --out nameless.pcapng --scrub operator --keep 'not broken and not stray'"
    )]
    Amend(AmendArgs),

    /// Compute a checksum, show the working, find what is wrong with one
    #[command(after_help = "Examples:\n  emberwort checksum internet --hex '00 01 F2 03 F4' --explain\n  \
        emberwort checksum crc-16/ibm-3740 --hex 'C6 39 03 40 00 02 A0 12' --from 2 --verify 0x90F5")]
    Checksum(ChecksumArgs),

    /// Write code, documents and test vectors
    #[command(
        after_help = "Without KIND, what emberwort.toml lists is written; without emberwort.toml, everything below \
        gen/.\n\nWith --check nothing is written, and exit code 1 says that a file lacks or is another.\n\nExamples:\n  emberwort generate\n  emberwort generate c --out firmware/link"
    )]
    Generate(GenerateArgs),

    /// Try the link: a simulated device, a faulty wire, and what must hold
    #[command(
        after_help = "Runs in virtual time; the same seed gives the same bytes. Exit code 1 if something that must \
        hold does not.\n\nExamples:\n  emberwort trial trials/stormy-night.toml\n  \
        emberwort trial trials/clear-day.toml --seed 7 --host r2 --record clear-day.pcapng"
    )]
    Trial(TrialArgs),

    /// List the serial ports of this machine
    #[command(after_help = "The newest stands first.\n\nExamples:\n  emberwort ports\n  emberwort ports --as ndjson")]
    Ports(PortsArgs),

    /// Show what comes through a port, as it comes
    #[command(
        after_help = "Speed and form of a serial line come from the channel's medium. A port that vanishes is waited for. Afterwards \
        standard error says where every byte went.\n\nExamples:\n  emberwort listen /dev/ttyUSB0 --on bus485\n  \
        emberwort listen tcp://bridge:4001 --on bus485 --as ndjson --count 10"
    )]
    Listen(ListenArgs),

    /// Send a message through a port, and show what is answered
    #[command(
        after_help = "Prints the request and its answer. Exit code 1 if the answer is a refusal (any but the first message that the \
        definition names), comes late, damaged, or not at all.\n\nExamples:\n  \
        emberwort send /dev/ttyUSB0 MoveGate target=80 speed=12 --on bus485 --node 3\n  \
        emberwort send tcp://bridge:4001 WhoAreYou --on bus485 --node 3 --every 200ms --count 5"
    )]
    Send(SendArgs),

    /// Record what comes through a port, or between two
    #[command(
        after_help = "The file can be read at any moment, also after a crash. With --between what comes at one port goes out at the \
        other.\n\nExamples:\n  emberwort record /dev/ttyUSB0 --on bus485 --out night.pcapng\n  \
        emberwort record --between /dev/ttyUSB0 pty --on bus485 --out night.pcapng"
    )]
    Record(RecordArgs),

    /// Watch a link on the terminal: messages, fields, broken frames; fill in messages and send them
    #[command(
        after_help = "Shows a port live, or plays a recording. ? lists the keys. When the definition is saved, it is read \
        again.\n\nExamples:\n  emberwort watch /dev/ttyUSB0 --on bus485\n  \
        emberwort watch stormy-night.pcapng --speed 10 --frames 3 --as text"
    )]
    Watch(WatchArgs),

    /// Play the devices of a trial on a real port
    #[command(after_help = "They send what the trial says, in real time, and answer.\n\nExamples:\n  \
        emberwort device trials/stormy-night.toml --port pty\n  \
        emberwort device trials/clear-day.toml --port udp://:4850 --node 3")]
    Device(DeviceArgs),

    /// Play the host of a trial on a real port
    #[command(
        after_help = "It sends the trial's requests in real time. Exit code 1 if one is not answered in time.\n\nExamples:\n  \
        emberwort host trials/stormy-night.toml --port /dev/ttyUSB0\n  \
        emberwort host trials/clear-day.toml --port udp://127.0.0.1:4850 --for 10s"
    )]
    Host(PlayArgs),

    /// Write the example project and run the whole job on it
    #[command(after_help = "Examples:\n  emberwort demo\n  emberwort demo my-first-link")]
    Demo(DemoArgs),

    /// Print completions for a shell
    #[command(
        after_help = "In ~/.bashrc: source <(emberwort completions bash). It knows the channels, messages and sealed revisions of the \
        project that you are in, and the checksums.\n\nExamples:\n  emberwort completions bash\n  emberwort completions zsh"
    )]
    Completions(CompletionsArgs),

    /// Print the manual page, or write one for each command
    #[command(after_help = "Examples:\n  emberwort man\n  emberwort man --out man-pages")]
    Man(ManArgs),
}

/// What a new project begins with.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Preset {
    /// A serial line with sync bytes, length and CRC
    Uart,
    /// A CAN bus, messages by identifier
    Can,
    /// A LoRa network, messages by port
    Lora,
    /// UDP datagrams
    Udp,
    /// Lines of text
    Console,
}

#[derive(Debug, Args)]
pub struct NewArgs {
    /// A folder that does not exist yet; its name becomes the link's
    pub dir: PathBuf,
    /// What the link runs over
    #[arg(long = "for", value_name = "WHAT", default_value = "uart")]
    pub preset: Preset,
}

#[derive(Debug, Args)]
pub struct CheckArgs {
    /// Definitions to check; `-` is standard input [default: the project's]
    #[arg(add = names::files("ember"))]
    pub files: Vec<PathBuf>,
    /// Which findings beside errors make the exit code 1
    #[arg(long, value_name = "WHAT")]
    pub deny: Option<Deny>,
    /// Say what each channel's framing can promise: what damage costs, false starts, errors that its checksum finds
    #[arg(long)]
    pub frames: bool,
    /// Form of the output
    #[arg(long = "as", value_name = "FORM", default_value = "table")]
    pub form: TableForm,
}

#[derive(Debug, Args)]
pub struct TidyArgs {
    /// Definitions to rewrite; `-` is standard input [default: the project's]
    #[arg(add = names::files("ember"))]
    pub files: Vec<PathBuf>,
    /// Change nothing; exit code 1 if a file is not in canonical style
    #[arg(long)]
    pub check: bool,
}

#[derive(Debug, Args)]
pub struct SealArgs {
    /// Show the sealed revisions instead: date, what each added, its longest frame
    #[arg(long, conflicts_with_all = ["note", "date"])]
    pub list: bool,
    /// A few words to keep with it
    #[arg(long, value_name = "TEXT")]
    pub note: Option<String>,
    /// The day that it says, as 2031-03-09 [default: today]
    #[arg(long, value_name = "DATE")]
    pub date: Option<jiff::civil::Date>,
    /// Form of the list
    #[arg(long = "as", value_name = "FORM", default_value = "table", requires = "list")]
    pub form: TableForm,
}

/// Forms of a comparison.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum CompareForm {
    /// For people
    Table,
    /// One JSON object a line
    Ndjson,
    /// A release note
    Markdown,
}

#[derive(Debug, Args)]
pub struct CompareArgs {
    /// The old revision and the new one [default: the last sealed one, and the definition as it is]
    #[arg(num_args = 0..=2, value_names = ["OLD", "NEW"], add = names::revisions_or_files())]
    pub revisions: Vec<String>,
    /// Compare as if a field had another type, as `GateStatus.oil 0 .. 400 bar in 12 bits`
    #[arg(long, value_name = "CHANGE")]
    pub what_if: Vec<String>,
    /// Send many more messages between both revisions, and show whether a verdict is contradicted
    #[arg(long)]
    pub prove: bool,
    /// Random messages of each kind that --prove sends, each way
    #[arg(long, value_name = "COUNT", default_value_t = 200, requires = "prove")]
    pub random: usize,
    /// Chooses other random messages
    #[arg(long, value_name = "NUMBER", default_value_t = 1, requires = "prove")]
    pub seed: u64,
    /// CSV with the columns device and revision, and maybe update (no: it cannot be updated): who has which revision
    #[arg(long, value_name = "FILE")]
    pub fleet: Option<PathBuf>,
    /// Accept a difference, as `GateStatus.oil: step=no unit has that sensor`; emberwort.toml keeps such ones, see docs/versioning.md
    #[arg(long, value_name = "DIFFERENCE=REASON")]
    pub allow: Vec<String>,
    /// Form of the output
    #[arg(long = "as", value_name = "FORM", default_value = "table")]
    pub form: CompareForm,
}

/// What can be denied.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Deny {
    /// Warnings too
    Warnings,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum TableForm {
    /// For people
    Table,
    /// One JSON object a line
    Ndjson,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum LayoutForm {
    /// One line a field
    Table,
    /// Rows of bytes, each field a box over its bits
    Picture,
    /// One JSON object a line
    Ndjson,
}

#[derive(Debug, Args)]
pub struct LayoutArgs {
    /// Messages to show [default: all]; a name that ends with .ember is the definition file
    #[arg(add = names::messages_or_files())]
    pub messages: Vec<String>,
    /// Form of the output
    #[arg(long = "as", value_name = "FORM", default_value = "table")]
    pub form: LayoutForm,
    /// Draw the picture as a figure for a data sheet: FILE.svg or FILE.png
    #[arg(long, value_name = "FILE", conflicts_with = "form")]
    pub out: Option<PathBuf>,
}

#[derive(Debug, Args)]
pub struct BudgetArgs {
    /// Channels to show [default: all]; a name that ends with .ember is the definition file
    #[arg(add = names::channels_or_files())]
    pub channels: Vec<String>,
    /// How many devices hang on each channel
    #[arg(long, value_name = "N", default_value = "1", value_parser = devices)]
    pub devices: u64,
    /// Show what a change would do: 'gauges sf12', 'Level every 5 min', 'Level.depth step 0.01'
    #[arg(long, value_name = "CHANGE")]
    pub what_if: Vec<String>,
    /// Show the exact cost of a message with these values: 'Pressure oil=120 pump=1500'
    #[arg(long, value_name = "MESSAGE FIELD=VALUE …")]
    pub content: Vec<String>,
    /// Form of the output
    #[arg(long = "as", value_name = "FORM", default_value = "table")]
    pub form: TableForm,
}

#[derive(Debug, Args)]
pub struct ValueArgs {
    /// A type as in a definition: u16, '0 .. 250 bar in 12 bits', f32, GateState
    #[arg(value_name = "TYPE", allow_hyphen_values = true)]
    pub ty: String,
    /// A value of this type, in its unit
    #[arg(allow_negative_numbers = true)]
    pub value: Option<String>,
    /// A raw number in place of the value
    #[arg(long, value_name = "N", conflicts_with = "value", allow_negative_numbers = true)]
    pub raw: Option<String>,
    /// Form of the output
    #[arg(long = "as", value_name = "FORM", default_value = "table")]
    pub form: TableForm,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum BytesForm {
    /// Hex digits, a line each
    Hex,
    /// The bytes themselves
    Bytes,
}

#[derive(Debug, Args)]
pub struct EncodeArgs {
    /// The message; may be left out with --values
    #[arg(add = names::messages())]
    pub message: Option<String>,
    /// Values in physical units: opening=42.5, state=held, upstream=none; raw codes as opening=raw:85
    #[arg(value_name = "FIELD=VALUE")]
    pub values: Vec<String>,
    /// Read messages as NDJSON, one a line, from a file or standard input (-)
    #[arg(long = "values", value_name = "FILE")]
    pub values_from: Option<PathBuf>,
    /// Print the whole frame as it goes over this channel
    #[arg(long, value_name = "CHANNEL", add = names::channels())]
    pub on: Option<String>,
    /// The frame's node [default: 0]
    #[arg(long, value_name = "N", requires = "on")]
    pub node: Option<u64>,
    /// The frame's sequence number [default: 0]
    #[arg(long, value_name = "N", requires = "on")]
    pub sequence: Option<u64>,
    /// Encode as a sender of this revision does [default: the link's]
    #[arg(long, value_name = "N")]
    pub sender_revision: Option<u32>,
    /// Move numbers outside a field's values to the nearest one
    #[arg(long)]
    pub clamp: bool,
    /// Form of the output
    #[arg(long = "as", value_name = "FORM", default_value = "hex")]
    pub form: BytesForm,
    /// Write to a file that does not exist yet
    #[arg(long, value_name = "FILE")]
    pub out: Option<PathBuf>,
}

/// Takes a form of rows by its name.
pub fn row_form() -> impl TypedValueParser<Value = RowForm> {
    PossibleValuesParser::new(RowForm::ALL.map(possible_form))
        .try_map(|name| RowForm::ALL.into_iter().find(|form| form.as_str() == name).ok_or("no such form"))
}

/// A form of rows, as help offers it.
pub fn possible_form(form: RowForm) -> PossibleValue {
    PossibleValue::new(form.as_str()).help(form.help())
}

#[derive(Debug, Args)]
pub struct GenerateArgs {
    /// What to write
    pub kinds: Vec<GenerateKind>,
    /// The folder to write to
    #[arg(long, value_name = "DIR")]
    pub out: Option<PathBuf>,
    /// C for one end: what it sends and what it receives
    #[arg(long)]
    pub role: Option<Role>,
    /// C for these messages alone
    #[arg(long, value_name = "NAMES", value_delimiter = ',', add = names::messages())]
    pub messages: Vec<String>,
    /// C for these channels alone
    #[arg(long, value_name = "NAMES", value_delimiter = ',', add = names::channels())]
    pub channels: Vec<String>,
    /// Write nothing; say which files lack, or differ from what would be written
    #[arg(long, conflicts_with_all = ["clean", "list"])]
    pub check: bool,
    /// Remove the files that would be written, as far as they were generated
    #[arg(long, conflicts_with = "list")]
    pub clean: bool,
    /// Show what can be written, and where it goes
    #[arg(long)]
    pub list: bool,
}

#[derive(Debug, Args)]
pub struct TrialArgs {
    /// The trial
    #[arg(add = names::files("toml"))]
    pub file: PathBuf,
    #[command(flatten)]
    pub revisions: RevisionArgs,
    /// The host has another revision than the definition's, as r2
    #[arg(long, value_name = "REVISION", add = names::revisions())]
    pub host: Option<String>,
    /// Another seed than the trial's
    #[arg(long, value_name = "N")]
    pub seed: Option<u64>,
    /// Write what each side received
    #[arg(long, value_name = "FILE", conflicts_with_all = ["sweep", "hostile"])]
    pub record: Option<PathBuf>,
    /// Write what an instrument sees on the wires, as `[wave]` of the trial says, as .vcd, .csv, .wav, .u8, .u16, .i16 or .f32
    #[arg(long, value_name = "FILE", conflicts_with_all = ["sweep", "hostile"])]
    pub wave: Option<PathBuf>,
    /// Write the results, too, as .xml (JUnit), .ndjson, .md or .html; may be given several times
    #[arg(long, value_name = "FILE", conflicts_with_all = ["sweep", "hostile"])]
    pub report: Vec<PathBuf>,
    /// If it fails, write a shorter trial that fails in the same way
    #[arg(long, value_name = "FILE.toml", conflicts_with_all = ["sweep", "hostile"])]
    pub minimise: Option<PathBuf>,
    /// Run it at many rates of one fault, as bit_errors=1e-6..1e-2; other faults are left out
    #[arg(long, value_name = "FAULT=FROM..TO", conflicts_with = "hostile")]
    pub sweep: Option<String>,
    /// How many seeds a sweep takes for each rate
    #[arg(long, value_name = "N", default_value = "20", requires = "sweep", value_parser = clap::value_parser!(u64).range(1..=100_000))]
    pub seeds: u64,
    /// How many rates a sweep takes for each factor of ten
    #[arg(long, value_name = "N", default_value = "3", requires = "sweep", value_parser = clap::value_parser!(u32).range(1..=100))]
    pub per_decade: u32,
    /// Draw the sweep as .svg or .png
    #[arg(long, value_name = "FILE", requires = "sweep")]
    pub figure: Option<PathBuf>,
    /// Feed receivers with frames that were changed on purpose, for so long, as 10s
    #[arg(long, value_name = "TIME", value_parser = emberwort_link::duration)]
    pub hostile: Option<u64>,
    /// Form of the output
    #[arg(long = "as", value_name = "FORM", default_value = "table")]
    pub form: TableForm,
}

#[derive(Debug, Args)]
pub struct ImportArgs {
    /// The database
    #[arg(add = names::files("dbc"))]
    pub file: PathBuf,
    /// The definition for your own part; what is imported stands beside it
    #[arg(long, value_name = "FILE.ember")]
    pub out: PathBuf,
    /// The name of the channel; otherwise that of the file
    #[arg(long, value_name = "NAME")]
    pub channel: Option<String>,
    /// The medium of the channel; otherwise `can` with the speed that the database says, or 500 kbit/s
    #[arg(long, value_name = "MEDIUM")]
    pub medium: Option<String>,
    /// This node of the database is the host, not a device; may be given several times
    #[arg(long, value_name = "NODE")]
    pub host: Vec<String>,
}

#[derive(Debug, Args)]
pub struct DemoArgs {
    /// A folder that does not exist yet
    #[arg(default_value = "marlock-demo")]
    pub dir: PathBuf,
}

#[derive(Debug, Args)]
pub struct CompletionsArgs {
    /// The shell
    pub shell: clap_complete::Shell,
}

#[derive(Debug, Args)]
pub struct ManArgs {
    /// Write a page for each command into this folder
    #[arg(long, value_name = "DIR")]
    pub out: Option<PathBuf>,
}

/// The number of devices, at least one.
fn devices(text: &str) -> Result<u64, String> {
    let count = Decimal::parse(text).and_then(Decimal::as_integer).and_then(|count| u64::try_from(count).ok());
    count.filter(|count| (1..=1_000_000).contains(count)).ok_or_else(|| "write a number from 1 to 1000000".into())
}
