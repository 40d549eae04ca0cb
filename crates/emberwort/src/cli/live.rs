//! Arguments of the commands that use real ports.

use std::path::PathBuf;

use clap::{Args, ValueEnum};
use emberwort_port::Address;
use emberwort_rows::RowForm;

use super::{AskedArgs, RevisionArgs, SenderEnd, TableForm, names, row_form};

/// The port, and what is said of it.
#[derive(Debug, Args)]
pub struct PortArgs {
    /// A device path, pty, tcp://HOST:PORT, tcp://:PORT, udp://HOST:PORT, udp://:PORT, command:PROGRAM, or `-`
    #[arg(value_name = "PORT")]
    pub port: Address,
    #[command(flatten)]
    pub line: LineArgs,
}

/// How a port is used.
#[derive(Debug, Args)]
pub struct LineArgs {
    /// The channel that runs over the port [default: the only one that can]
    #[arg(long, value_name = "CHANNEL", add = names::channels())]
    pub on: Option<String>,
    /// Bits a second, in place of what the channel's medium says
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..))]
    pub baud: Option<u32>,
    /// End when the other side is gone, in place of waiting for it
    #[arg(long)]
    pub once: bool,
    /// Level of the line RTS of a serial port
    #[arg(long, value_name = "LEVEL")]
    pub rts: Option<Level>,
    /// Level of the line DTR of a serial port
    #[arg(long, value_name = "LEVEL")]
    pub dtr: Option<Level>,
    /// Raise RTS while something is sent, which switches the driver of an RS-485 bus
    #[arg(long, conflicts_with = "rts")]
    pub rs485: bool,
}

/// The level of a control line.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Level {
    /// Raised
    On,
    /// Lowered
    Off,
}

#[derive(Debug, Args)]
pub struct ListenArgs {
    #[command(flatten)]
    pub port: PortArgs,
    /// The end that sends what is heard, where the two ends send different frames
    #[arg(long, value_name = "END")]
    pub from: Option<SenderEnd>,
    #[command(flatten)]
    pub revisions: RevisionArgs,
    #[command(flatten)]
    pub asked: AskedArgs,
    /// CSV with texts beside nodes and values: the columns node, field, address (of a table's entry), value (3, held, 80..100), text
    #[arg(long, value_name = "FILE")]
    pub labels: Option<PathBuf>,
    /// Run a program whenever this message comes
    #[arg(long, value_name = "MESSAGE", requires = "run", add = names::messages())]
    pub on_message: Vec<String>,
    /// The program, with its arguments, in which {field}, {message} and {node} stand for what came; takes all that follows
    #[arg(long, value_name = "PROGRAM", requires = "on_message", num_args = 1.., allow_hyphen_values = true)]
    pub run: Vec<String>,
    /// End after so many rows
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..))]
    pub count: Option<u64>,
    /// End after so long, as 10s
    #[arg(long = "for", value_name = "TIME", value_parser = emberwort_link::duration)]
    pub lasting: Option<u64>,
    /// Raw codes in place of physical values
    #[arg(long)]
    pub raw: bool,
    /// Exit code 1 if there are broken frames or stray bytes
    #[arg(long)]
    pub strict: bool,
    /// Form of the output
    #[arg(long = "as", value_name = "FORM", default_value = "table", value_parser = row_form())]
    pub form: RowForm,
}

#[derive(Debug, Args)]
pub struct PortsArgs {
    /// Form of the output
    #[arg(long = "as", value_name = "FORM", default_value = "table")]
    pub form: TableForm,
}

#[derive(Debug, Args)]
pub struct RecordArgs {
    /// As for `listen`; left out with --between
    #[arg(value_name = "PORT", required_unless_present = "between")]
    pub port: Option<Address>,
    /// Stand between two ports, the device's and the host's: pass on what comes, and record both directions
    #[arg(long, num_args = 2, value_names = ["DEVICE", "HOST"], conflicts_with = "port")]
    pub between: Vec<Address>,
    #[command(flatten)]
    pub line: LineArgs,
    /// The end that sends what is heard
    #[arg(long, value_name = "END", conflicts_with = "between")]
    pub from: Option<SenderEnd>,
    /// Damage on purpose what is passed on, as the wire of this trial says
    #[arg(long, value_name = "TRIAL", requires = "between")]
    pub wire: Option<PathBuf>,
    /// The recording, a file that does not exist yet
    #[arg(long, value_name = "FILE")]
    pub out: PathBuf,
    /// Go on in another file after so many bytes, as 10MB: night-0001.pcapng, night-0002.pcapng, …
    #[arg(long, value_name = "SIZE", value_parser = size)]
    pub split_size: Option<u64>,
    /// Go on in another file after so long, as 1h
    #[arg(long, value_name = "TIME", value_parser = emberwort_link::duration)]
    pub split_every: Option<u64>,
    /// Remove the oldest of these files when all together are larger, as 1GB
    #[arg(long, value_name = "SIZE", value_parser = size)]
    pub keep: Option<u64>,
    /// End after so long, as 10s
    #[arg(long = "for", value_name = "TIME", value_parser = emberwort_link::duration)]
    pub lasting: Option<u64>,
}

#[derive(Debug, Args)]
pub struct SendArgs {
    #[command(flatten)]
    pub port: PortArgs,
    /// The message
    #[arg(add = names::messages(), conflicts_with_all = ["read", "write", "read_all", "rows"])]
    pub message: Option<String>,
    /// Values in physical units: target=42.5, state=held; raw codes as target=raw:85
    #[arg(value_name = "FIELD=VALUE")]
    pub values: Vec<String>,
    /// Send the rows of this NDJSON file, one after the other
    #[arg(long, alias = "from", value_name = "FILE", conflicts_with_all = ["read", "write", "read_all"])]
    pub rows: Option<PathBuf>,
    /// Go on with the rows behind one that was not answered well
    #[arg(long, requires = "rows")]
    pub keep_going: bool,
    /// Read an entry of a table: ramp_time, or Settings.ramp_time
    #[arg(long, value_name = "NAME")]
    pub read: Vec<String>,
    /// Write an entry of a table, and read it back: ramp_time=12.5
    #[arg(long, value_name = "NAME=VALUE")]
    pub write: Vec<String>,
    /// Read all entries of a table, or of all tables
    #[arg(long, value_name = "TABLE", num_args = 0..=1)]
    pub read_all: Option<Option<String>>,
    /// The frame's node; of all nodes the answers are shown
    #[arg(long, value_name = "N")]
    pub node: Option<u64>,
    /// The sequence number of the first frame [default: where the last `send` to this node through this port ended]
    #[arg(long, value_name = "N")]
    pub sequence: Option<u64>,
    /// Move numbers outside a field's values to the nearest one
    #[arg(long)]
    pub clamp: bool,
    /// Wait for no answer
    #[arg(long)]
    pub no_answer: bool,
    /// How long an answer is waited for [default: what the message says, else 1s]
    #[arg(long, value_name = "TIME", value_parser = emberwort_link::duration, conflicts_with = "no_answer")]
    pub within: Option<u64>,
    /// Send again and again, so far apart
    #[arg(long, value_name = "TIME", value_parser = emberwort_link::duration)]
    pub every: Option<u64>,
    /// Send so many times [default: once; with --every until interrupted]
    #[arg(long, value_name = "N", requires = "every", value_parser = clap::value_parser!(u64).range(1..))]
    pub count: Option<u64>,
    /// Raw codes in place of physical values
    #[arg(long)]
    pub raw: bool,
    /// Form of the output
    #[arg(long = "as", value_name = "FORM", default_value = "table", value_parser = row_form())]
    pub form: RowForm,
}

#[derive(Debug, Args)]
pub struct PlayArgs {
    /// The trial
    #[arg(add = names::files("toml"))]
    pub file: PathBuf,
    /// The port: as for `listen`
    #[arg(long, value_name = "PORT")]
    pub port: Address,
    /// Bits a second, in place of what the channel's medium says
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..))]
    pub baud: Option<u32>,
    /// End when the other side is gone, in place of waiting for it
    #[arg(long)]
    pub once: bool,
    /// Raise RTS while something is sent, which switches the driver of an RS-485 bus
    #[arg(long)]
    pub rs485: bool,
    /// Another seed than the trial's
    #[arg(long, value_name = "N")]
    pub seed: Option<u64>,
    /// End after so long, as 10s
    #[arg(long = "for", value_name = "TIME", value_parser = emberwort_link::duration)]
    pub lasting: Option<u64>,
    /// Raw codes in place of physical values
    #[arg(long)]
    pub raw: bool,
    /// Form of the output
    #[arg(long = "as", value_name = "FORM", default_value = "table", value_parser = row_form())]
    pub form: RowForm,
}

#[derive(Debug, Args)]
pub struct WatchArgs {
    /// A port, as for `listen`, or a recording
    #[arg(value_name = "PORT|FILE")]
    pub source: String,
    #[command(flatten)]
    pub line: LineArgs,
    /// The end that sends what is heard
    #[arg(long, value_name = "END")]
    pub from: Option<SenderEnd>,
    /// How many times as fast a recording is played
    #[arg(long, value_name = "N", default_value = "1", value_parser = speed)]
    pub speed: f64,
    /// Print so many pictures as text, a twentieth of a second apart, in place of using the terminal
    #[arg(long, value_name = "N")]
    pub frames: Option<u64>,
    /// Form of these pictures
    #[arg(long = "as", value_name = "FORM", requires = "frames", value_parser = ["text"])]
    pub form: Option<String>,
    /// Their size, as 160x50
    #[arg(long, value_name = "WIDTHxHEIGHT", default_value = "80x24", requires = "frames", value_parser = screen)]
    pub size: (u16, u16),
    /// Keys that are pressed as soon as something was seen
    #[arg(long, value_name = "KEYS", default_value = "", hide_default_value = true)]
    pub keys: String,
}

/// How many times as fast.
fn speed(text: &str) -> Result<f64, String> {
    match text.parse::<f64>() {
        Ok(speed) if (0.01..=4096.0).contains(&speed) => Ok(speed),
        _ => Err(format!("`{text}` is not a number from 0.01 to 4096")),
    }
}

/// The size of a screen in characters.
fn screen(text: &str) -> Result<(u16, u16), String> {
    let (width, height) = text.split_once('x').ok_or_else(|| format!("`{text}` is not a size; write 80x24"))?;
    match (width.parse::<u16>(), height.parse::<u16>()) {
        (Ok(width @ 40..=500), Ok(height @ 12..=200)) => Ok((width, height)),
        _ => Err(format!("`{text}` is not a size from 40x12 to 500x200")),
    }
}

#[derive(Debug, Args)]
pub struct DeviceArgs {
    #[command(flatten)]
    pub play: PlayArgs,
    /// Play only the device with this node
    #[arg(long, value_name = "N")]
    pub node: Option<u64>,
}

/// A size such as `500kB`, `10 MB` or `1GB`, in bytes.
fn size(text: &str) -> Result<u64, String> {
    let text = text.trim();
    let (number, unit) = text.split_at(text.find(|c: char| c.is_ascii_alphabetic()).unwrap_or(text.len()));
    let scale = match unit.to_ascii_lowercase().as_str() {
        "" | "b" => 1.0,
        "kb" => 1e3,
        "mb" => 1e6,
        "gb" => 1e9,
        _ => return Err(format!("`{text}` is not a size; write a number and kB, MB or GB, as in 10MB")),
    };
    match number.trim_end().parse::<f64>() {
        Ok(number) if number > 0.0 && number * scale < 9e18 => Ok((number * scale) as u64),
        _ => Err(format!("`{text}` is not a size; write a number and kB, MB or GB, as in 10MB")),
    }
}
