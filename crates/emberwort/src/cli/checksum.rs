//! The arguments of `checksum`.

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};

use super::{TableForm, names};

#[derive(Debug, Args)]
#[command(args_conflicts_with_subcommands = true, subcommand_negates_reqs = true)]
pub struct ChecksumArgs {
    #[command(subcommand)]
    pub job: Option<ChecksumJob>,
    /// crc-16/ibm-3740, internet, sum8 negated, or spelled out: 'crc 16 poly 0x1021 init 0xFFFF'; several with commas
    #[arg(required_unless_present = "list", add = names::checksums())]
    pub algorithm: Option<String>,
    #[command(flatten)]
    pub bytes: BytesArgs,
    /// Show the working, as on paper
    #[arg(long)]
    pub explain: bool,
    /// Show the working of a CRC bit by bit
    #[arg(long, requires = "explain")]
    pub bits: bool,
    /// Compare with a value; if it differs, look for what went wrong
    #[arg(long, value_name = "VALUE", conflicts_with = "explain")]
    pub verify: Option<String>,
    /// Print it as a function in this language
    #[arg(long, value_name = "LANGUAGE", conflicts_with_all = ["explain", "verify", "file", "hex", "text"])]
    pub code: Option<CodeLanguage>,
    /// Print the names of all algorithms
    #[arg(long)]
    pub list: bool,
    /// Form of the output
    #[arg(long = "as", value_name = "FORM", default_value = "table")]
    pub form: TableForm,
}

#[derive(Debug, Subcommand)]
pub enum ChecksumJob {
    /// Check the checksums of network packets: IPv4, UDP, UDP-Lite, TCP, ICMP, ICMPv6
    #[command(after_help = "Exit code 1 if one is wrong.\n\nExamples:\n  \
        emberwort checksum packet --explain --hex '45 00 00 1D 00 00 00 00 40 11 66 CE 0A 00 00 01 0A 00 00 02 12 34 56 78 00 09 \
        22 2D 61'\n  emberwort checksum packet --hex '45 00 00 14 00 00 00 00 40 11 66 D7 0A 00 00 01 0A 00 00 02' --as ndjson")]
    Packet(PacketArgs),

    /// Find which checksum some frames carry
    #[command(
        after_help = "Frames are lines of hex in a file or on standard input, or the packets of a capture. Exit code 1 if \
        nothing explains them.\n\nExamples:\n  emberwort checksum identify --hex 010300000002C40B,1103006B00037687,02074112\n  \
        emberwort checksum identify stormy-night.pcapng --most 12"
    )]
    Identify(IdentifyArgs),

    /// Say which errors a checksum finds, and which it misses
    #[command(
        after_help = "Hamming distances are computed, not looked up. docs/checksums.md has the method.\n\nExamples:\n  \
        emberwort checksum strength --on bus485 --bit-errors 1e-6 --frames-a-second 10\n  \
        emberwort checksum strength --best 16 --length 64"
    )]
    Strength(StrengthArgs),
}

#[derive(Debug, Args)]
pub struct StrengthArgs {
    /// The algorithm
    #[arg(required_unless_present_any = ["best", "on"], add = names::checksums())]
    pub algorithm: Option<String>,
    /// Data that it covers: 64, 64bytes, 512bits
    #[arg(long, value_name = "N", value_parser = data_bits, required_unless_present = "on")]
    pub length: Option<usize>,
    /// The checksum and the longest frame of this channel
    #[arg(long, value_name = "CHANNEL", conflicts_with_all = ["algorithm", "best", "length"], add = names::channels())]
    pub on: Option<String>,
    /// List the CRCs of the catalogue with so many bits, the best first
    #[arg(long, value_name = "BITS", conflicts_with = "algorithm", value_parser = clap::value_parser!(u8).range(3..=64))]
    pub best: Option<u8>,
    /// The chance that a bit is received wrong
    #[arg(long, value_name = "CHANCE", value_parser = chance)]
    pub bit_errors: Option<f64>,
    /// How many frames are sent a second
    #[arg(long, value_name = "N", requires = "bit_errors", default_value_t = 1.0)]
    pub frames_a_second: f64,
    /// Form of the output
    #[arg(long = "as", value_name = "FORM", default_value = "table")]
    pub form: TableForm,
}

/// A number of bytes or bits, in bits.
fn data_bits(text: &str) -> Result<usize, String> {
    let text = text.trim();
    let (digits, unit) = match (text.strip_suffix("bytes").or(text.strip_suffix("byte")), text.strip_suffix("bits")) {
        (Some(digits), _) => (digits, 8),
        (_, Some(digits)) => (digits, 1),
        _ => (text, 8),
    };
    let number: usize = digits.trim().parse().map_err(|_| "write a number: 64, 64bytes or 512bits".to_owned())?;
    number
        .checked_mul(unit)
        .filter(|bits| (1..=8_000_000).contains(bits))
        .ok_or("from 1 bit to 1,000,000 bytes can be rated".to_owned())
}

/// A chance from 0 to below 1.
fn chance(text: &str) -> Result<f64, String> {
    let number: f64 = text.parse().map_err(|_| "write a number, as 1e-6".to_owned())?;
    if (0.0..1.0).contains(&number) { Ok(number) } else { Err("a probability is from 0 to below 1".into()) }
}

#[derive(Debug, Args)]
pub struct IdentifyArgs {
    /// Hex text with a line for each frame, or a capture; `-` is standard input
    #[arg(required_unless_present = "hex")]
    pub file: Option<PathBuf>,
    /// Frames in hex, with commas between them
    #[arg(long, value_name = "HEX,HEX,…", conflicts_with = "file")]
    pub hex: Option<String>,
    /// The frames are stuffed as on this channel of the project
    #[arg(long, value_name = "CHANNEL", add = names::channels())]
    pub on: Option<String>,
    /// Offset of the checksum's first byte; a negative one counts from the end [default: the end]
    #[arg(long, value_name = "N", allow_negative_numbers = true)]
    pub at: Option<i64>,
    /// How many bits it has [default: any]
    #[arg(long, value_name = "BITS", value_parser = clap::value_parser!(u8).range(3..=64))]
    pub bits: Option<u8>,
    /// It may stand elsewhere: within eight bytes of the start or four of the end
    #[arg(long, conflicts_with = "at")]
    pub anywhere: bool,
    /// Look at so many different frames
    #[arg(long, value_name = "N", default_value_t = 24)]
    pub most: usize,
    /// Form of the output
    #[arg(long = "as", value_name = "FORM", default_value = "table")]
    pub form: TableForm,
}

#[derive(Debug, Args)]
pub struct PacketArgs {
    /// The capture: pcapng or pcap with Ethernet, IP or Linux "cooked" packets; `-` is standard input
    #[arg(required_unless_present = "hex")]
    pub file: Option<PathBuf>,
    /// Only the packet with this number, counted from 1
    #[arg(long, value_name = "N", conflicts_with = "hex")]
    pub number: Option<u64>,
    /// The bytes of an IP packet
    #[arg(long, value_name = "HEX", conflicts_with = "file")]
    pub hex: Option<String>,
    /// Show the working, the pseudo-header word by word
    #[arg(long)]
    pub explain: bool,
    /// Form of the output
    #[arg(long = "as", value_name = "FORM", default_value = "table")]
    pub form: TableForm,
}

/// A language for `--code`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum CodeLanguage {
    /// C99
    C,
    /// Rust
    Rust,
    /// Python 3
    Python,
    /// JavaScript: with numbers up to 32 bits, with BigInt above
    Javascript,
    /// Java
    Java,
    /// Go
    Go,
}

/// Bytes, and which of them.
#[derive(Debug, Args)]
pub struct BytesArgs {
    /// The file to sum; `-` is standard input
    pub file: Option<PathBuf>,
    /// Bytes in hex
    #[arg(long, value_name = "HEX", conflicts_with_all = ["file", "text"])]
    pub hex: Option<String>,
    /// The bytes of a text
    #[arg(long, value_name = "TEXT", conflicts_with = "file")]
    pub text: Option<String>,
    /// Begin at this byte; a negative number counts from the end
    #[arg(long, value_name = "N", allow_negative_numbers = true, default_value_t = 0)]
    pub from: i64,
    /// End before this byte; a negative number counts from the end
    #[arg(long, value_name = "N", allow_negative_numbers = true)]
    pub to: Option<i64>,
}
