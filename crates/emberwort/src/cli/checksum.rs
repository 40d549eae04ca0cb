//! The arguments of `checksum`.

use std::path::PathBuf;

use clap::{Args, Subcommand};

use super::TableForm;

#[derive(Debug, Args)]
#[command(args_conflicts_with_subcommands = true, subcommand_negates_reqs = true)]
pub struct ChecksumArgs {
    #[command(subcommand)]
    pub job: Option<ChecksumJob>,
    /// crc-16/ibm-3740, internet, sum8 negated, or spelled out: 'crc 16 poly 0x1021 init 0xFFFF'; several with commas
    #[arg(required_unless_present = "list")]
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
}

#[derive(Debug, Args)]
pub struct PacketArgs {
    /// The capture: pcapng or pcap with Ethernet, IP or Linux \"cooked\" packets
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
