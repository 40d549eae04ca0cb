//! Arguments of the commands that use real ports.

use std::path::PathBuf;

use clap::Args;
use emberwort_port::Address;

use super::{RowForm, SenderEnd, SpeakerArgs, TableForm, names};

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
}

#[derive(Debug, Args)]
pub struct ListenArgs {
    #[command(flatten)]
    pub port: PortArgs,
    /// The end that sends what is heard, where the two ends send different frames
    #[arg(long, value_name = "END")]
    pub from: Option<SenderEnd>,
    #[command(flatten)]
    pub speakers: SpeakerArgs,
    /// Show only these messages
    #[arg(long, value_name = "MESSAGE", add = names::messages())]
    pub message: Vec<String>,
    /// Show only frames of this node
    #[arg(long, value_name = "N")]
    pub node: Option<u64>,
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
    #[arg(long = "as", value_name = "FORM", default_value = "table")]
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
    /// The recording, a file that does not exist yet
    #[arg(long, value_name = "FILE")]
    pub out: PathBuf,
    /// End after so long, as 10s
    #[arg(long = "for", value_name = "TIME", value_parser = emberwort_link::duration)]
    pub lasting: Option<u64>,
}

#[derive(Debug, Args)]
pub struct SendArgs {
    #[command(flatten)]
    pub port: PortArgs,
    /// The message
    #[arg(add = names::messages(), conflicts_with_all = ["read", "write", "read_all", "from"])]
    pub message: Option<String>,
    /// Values in physical units: target=42.5, state=held; raw codes as target=raw:85
    #[arg(value_name = "FIELD=VALUE")]
    pub values: Vec<String>,
    /// Send the rows of this NDJSON file, one after the other
    #[arg(long, value_name = "FILE", conflicts_with_all = ["read", "write", "read_all"])]
    pub from: Option<PathBuf>,
    /// Read an entry of a table: ramp_time, or Settings.ramp_time
    #[arg(long, value_name = "NAME")]
    pub read: Vec<String>,
    /// Write an entry of a table, and read it back: ramp_time=12.5
    #[arg(long, value_name = "NAME=VALUE")]
    pub write: Vec<String>,
    /// Read all entries of a table, or of all tables
    #[arg(long, value_name = "TABLE", num_args = 0..=1)]
    pub read_all: Option<Option<String>>,
    /// The frame's node [default: 0]
    #[arg(long, value_name = "N")]
    pub node: Option<u64>,
    /// The sequence number of the first frame [default: 0]
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
    #[arg(long = "as", value_name = "FORM", default_value = "table")]
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
    #[arg(long = "as", value_name = "FORM", default_value = "table")]
    pub form: RowForm,
}

#[derive(Debug, Args)]
pub struct DeviceArgs {
    #[command(flatten)]
    pub play: PlayArgs,
    /// Play only the device with this node
    #[arg(long, value_name = "N")]
    pub node: Option<u64>,
}
