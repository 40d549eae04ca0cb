//! `checksum packet`: the checksums of network packets.

use std::fs::File;
use std::io::{Read, Write};
use std::ops::ControlFlow;

use anyhow::{Context, bail};
use emberwort_capture::network::ip_packet;
use emberwort_capture::{Interface, InterfaceKind, Piece, PieceSink, source};
use emberwort_checksum::packet::{PacketSum, Verdict, checksums, explain};
use emberwort_checksum::working::hex;
use serde_json::json;

use crate::cli::{PacketArgs, TableForm};
use crate::commands::ending::Ending;
use crate::commands::inputs::given_hex;
use crate::output::{self, say};
use crate::render::table::{Table, table};
use crate::render::{plural, working, wrapped};

/// Takes the packets of a capture.
struct Packets<'a> {
    args: &'a PacketArgs,
    kinds: Vec<InterfaceKind>,
    number: u64,
    shown: Shown,
}

/// What is shown, and what was counted.
struct Shown {
    rows: Table,
    below: String,
    sums: u64,
    wrong: u64,
    /// Packets without any checksum that is known here.
    without: u64,
}

pub fn run(args: &PacketArgs) -> anyhow::Result<Ending> {
    let rows = table(
        &["packet", "checksum", "covers", "expected", "found", "result"],
        &[true, false, false, false, false, false],
    );
    let mut shown = Shown { rows, below: String::new(), sums: 0, wrong: 0, without: 0 };
    if let Some(text) = &args.hex {
        let bytes = given_hex(text)?;
        match checksums(&bytes) {
            Ok(sums) => shown.add(args, 1, &bytes, &sums),
            Err(problem) => bail!("this is not an IP packet: {}", problem.0),
        }
    } else if let Some(path) = &args.file {
        let failed = || format!("{} cannot be read", crate::files::shown(path));
        let mut file = File::open(path).with_context(failed)?;
        let first = source::read_first(&mut file).with_context(failed)?;
        let mut packets = Packets { args, kinds: Vec::new(), number: 0, shown };
        let outcome =
            source::read(source::detect(&first), first.as_slice().chain(file), &mut packets).with_context(failed)?;
        if let Some(damage) = outcome.damage {
            say!(
                "{}: from offset {} on it cannot be read: {}",
                crate::files::shown(path),
                damage.offset,
                damage.reason
            );
        }
        shown = packets.shown;
        if let Some(number) = args.number.filter(|number| *number > packets.number) {
            bail!(
                "{} has {}, and no packet {number}",
                crate::files::shown(path),
                plural(packets.number as usize, "packet")
            );
        }
    }
    let mut out = output::stdout();
    if args.form == TableForm::Table && shown.sums > 0 {
        write!(out, "{}", shown.rows.lines())?;
    }
    out.write_all(shown.below.as_bytes())?;
    out.flush()?;
    let without = match shown.without {
        0 => String::new(),
        n => format!("; {} without one that is known here", plural(n as usize, "packet")),
    };
    say!("{}, {} wrong{without}", plural(shown.sums as usize, "checksum"), shown.wrong);
    Ok(if shown.wrong > 0 { Ending::WithFindings } else { Ending::Clean })
}

impl PieceSink for Packets<'_> {
    fn section(&mut self) {
        self.kinds.clear();
    }

    fn interface(&mut self, interface: Interface) {
        self.kinds.push(interface.kind);
    }

    fn piece(&mut self, piece: Piece<'_>) -> ControlFlow<()> {
        self.number += 1;
        if self.args.number.is_some_and(|number| number != self.number) {
            return ControlFlow::Continue(());
        }
        let kind = self.kinds.get(piece.interface).copied();
        match kind.and_then(|kind| ip_packet(kind, piece.bytes)).map(|packet| (packet, checksums(packet))) {
            Some((packet, Ok(sums))) => self.shown.add(self.args, self.number, packet, &sums),
            _ => self.shown.without += 1,
        }
        if output::interrupted() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    }
}

impl Shown {
    fn add(&mut self, args: &PacketArgs, number: u64, packet: &[u8], sums: &[PacketSum]) {
        self.without += u64::from(sums.is_empty());
        for sum in sums {
            self.sums += 1;
            let found = hex(u64::from(sum.found), 16);
            let (expected, result) = match &sum.verdict {
                Verdict::Right => (found.clone(), "right".to_owned()),
                Verdict::Wrong { expected, left_to_hardware } => {
                    self.wrong += 1;
                    let why = if *left_to_hardware {
                        "WRONG: it is the sum of the pseudo-header alone, as network hardware completes it after a capture on the \
                         sending side"
                    } else {
                        "WRONG"
                    };
                    (hex(u64::from(*expected), 16), why.to_owned())
                }
                Verdict::None => (String::new(), "none: 0 says that the sender computed none".to_owned()),
                Verdict::Unknown(why) => (String::new(), format!("cannot be judged: {why}")),
            };
            let covers = match sum.covers.len() {
                0 => String::new(),
                _ => format!("bytes {} to {}", sum.covers.start, sum.covers.end - 1),
            };
            if args.form == TableForm::Ndjson {
                let row = json!({
                    "packet": number, "checksum": sum.name, "at": sum.at, "covers": [sum.covers.start, sum.covers.end],
                    "expected": expected, "found": found, "result": result,
                });
                self.below.push_str(&format!("{row}\n"));
            } else {
                self.rows.add_row([number.to_string(), sum.name.to_owned(), covers, expected, found, result]);
            }
            if args.explain {
                if args.form == TableForm::Table {
                    self.below.push_str(&wrapped(&format!("\nPacket {number}, {}:", sum.name)));
                    self.below.push('\n');
                }
                self.below.push_str(&working::render(&explain(packet, sum), args.form));
            }
        }
    }
}
