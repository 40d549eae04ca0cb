//! `checksum packet`: the checksums of network packets.

use std::fs::File;
use std::io::{self, BufWriter, Read, Write};
use std::ops::ControlFlow;

use anyhow::{Context, bail};
use emberwort_capture::network::ip_packet;
use emberwort_capture::{Interface, InterfaceKind, Piece, PieceSink, source};
use emberwort_checksum::packet::{PacketSum, Verdict, checksums, explain};
use emberwort_checksum::working::hex;
use serde_json::json;

use crate::cli::{PacketArgs, TableForm};
use crate::ending::Ending;
use crate::output::{self, Stdout, say};
use crate::reading::inputs::given_hex;
use crate::render::table::{Table, table};
use crate::render::{plural, working, wrapped};

/// Takes the packets of a capture.
struct Packets<'a> {
    args: &'a PacketArgs,
    kinds: Vec<InterfaceKind>,
    number: u64,
    shown: Shown,
    /// Why nothing more could be written.
    failed: Option<io::Error>,
}

/// What is shown, and what was counted.
struct Shown {
    out: BufWriter<Stdout>,
    /// What was not written yet: rows, and what stands below them.
    rows: Table,
    row_count: usize,
    /// Whether a table stands above.
    began: bool,
    below: String,
    sums: u64,
    wrong: u64,
    /// Packets without any checksum that is known here.
    without: u64,
}

/// So many checksums stand in one table, and the next ones in another, so that what is kept does not grow with the capture.
const ROWS_AT_ONCE: usize = 1000;

fn empty_table() -> Table {
    table(&["packet", "checksum", "covers", "expected", "found", "result"], &[true, false, false, false, false, false])
}

pub fn run(args: &PacketArgs) -> anyhow::Result<Ending> {
    let (out, rows) = (output::stdout(), empty_table());
    let mut shown =
        Shown { out, rows, row_count: 0, began: false, below: String::new(), sums: 0, wrong: 0, without: 0 };
    if let Some(text) = &args.hex {
        let bytes = given_hex(text)?;
        match checksums(&bytes) {
            Ok(sums) => shown.add(args, 1, &bytes, &sums)?,
            Err(problem) => bail!("this is not an IP packet: {}", problem.0),
        }
    } else if let Some(path) = &args.file {
        let failed = || format!("{} cannot be read", crate::files::shown(path));
        let mut file: Box<dyn Read> = match path.as_os_str() == "-" {
            true => Box::new(io::stdin().lock()),
            false => Box::new(File::open(path).with_context(failed)?),
        };
        let first = source::read_first(&mut file).with_context(failed)?;
        let mut packets = Packets { args, kinds: Vec::new(), number: 0, shown, failed: None };
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
        if let Some(error) = packets.failed {
            return Err(error.into());
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
    shown.write_out()?;
    shown.out.flush()?;
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
            Some((packet, Ok(sums))) => {
                if let Err(error) = self.shown.add(self.args, self.number, packet, &sums) {
                    self.failed = Some(error);
                    return ControlFlow::Break(());
                }
            }
            _ => self.shown.without += 1,
        }
        if crate::interrupt::came() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    }
}

impl Shown {
    /// Writes what there is.
    fn write_out(&mut self) -> io::Result<()> {
        let rows = std::mem::replace(&mut self.rows, empty_table());
        if std::mem::take(&mut self.row_count) > 0 {
            if std::mem::replace(&mut self.began, true) {
                self.out.write_all(b"\n")?;
            }
            self.out.write_all(rows.lines().as_bytes())?;
        }
        self.out.write_all(std::mem::take(&mut self.below).as_bytes())
    }

    fn add(&mut self, args: &PacketArgs, number: u64, packet: &[u8], sums: &[PacketSum]) -> io::Result<()> {
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
                self.row_count += 1;
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
        if self.row_count >= ROWS_AT_ONCE || self.below.len() >= 1 << 16 { self.write_out() } else { Ok(()) }
    }
}
