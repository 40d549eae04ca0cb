//! Capture files as a stream of pieces: pcapng, classic pcap, raw bytes, hex text.
//!
//! Everything before a damaged place is handed on; the damage is then told with its offset.

use std::io::{self, Read};
use std::ops::ControlFlow;

use emberwort_wire::Time;
use pcap_parser::pcapng::Block;
use pcap_parser::traits::PcapReaderIterator;
use pcap_parser::{LegacyPcapReader, PcapBlockOwned, PcapError, PcapNGReader};

use crate::hex_text;

/// The form of a capture.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Form {
    /// pcapng (IETF draft-ietf-opsawg-pcapng).
    Pcapng,
    /// Classic pcap, in either byte order, with micro- or nanoseconds.
    Pcap,
    /// Hex digits in text: alone, in a dump with offsets, or in a log with times.
    Hex,
    /// The bytes themselves.
    Raw,
}

/// What the bytes of an interface are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum InterfaceKind {
    /// Bytes of a serial channel (link types USER0 to USER15, raw bytes, hex text).
    Serial,
    /// Ethernet frames.
    Ethernet,
    /// IPv4 or IPv6 packets.
    Ip,
    /// Packets with a Linux "cooked" header.
    LinuxCooked,
    /// CAN and CAN FD frames as SocketCAN records them.
    Can,
    /// Something that is not read; the link type's number.
    Other(i32),
}

impl InterfaceKind {
    /// The kind for a link type number of the public registry of link types (LINKTYPE_…).
    pub fn of_link_type(number: i32) -> Self {
        match number {
            1 => InterfaceKind::Ethernet,
            101 | 228 | 229 => InterfaceKind::Ip,
            113 => InterfaceKind::LinuxCooked,
            147..=162 => InterfaceKind::Serial,
            227 => InterfaceKind::Can,
            other => InterfaceKind::Other(other),
        }
    }
}

/// One interface of a capture.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Interface {
    /// What its bytes are.
    pub kind: InterfaceKind,
    /// Its description in the file; may be empty.
    pub description: String,
}

/// Some bytes of a capture: a packet, or a part of a stream.
#[derive(Clone, Copy, Debug)]
pub struct Piece<'a> {
    /// Index of the interface, in the order in which they were announced.
    pub interface: usize,
    /// When it came, if the capture has times.
    pub time: Option<Time>,
    /// The bytes.
    pub bytes: &'a [u8],
}

/// Takes what a capture holds.
pub trait PieceSink {
    /// A capture, or a section of one, begins: interfaces are numbered from 0 again.
    fn section(&mut self);

    /// An interface, before its first piece.
    fn interface(&mut self, interface: Interface);

    /// The next piece. `Break` ends the reading.
    fn piece(&mut self, piece: Piece<'_>) -> ControlFlow<()>;

    /// All that could be read so far was handed on; what is asked for next may take a while to come.
    fn pause(&mut self) {}
}

/// A place from which on a capture cannot be read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Damage {
    /// Offset in the file.
    pub offset: u64,
    /// What is wrong there.
    pub reason: String,
}

/// How the reading of a capture ended.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Outcome {
    /// Bytes of the file that were read and understood.
    pub bytes: u64,
    /// Where it could not be read any further, if so.
    pub damage: Option<Damage>,
}

/// How many bytes at the start [`detect`] should see.
pub const DETECT_BYTES: usize = 4096;

/// Room for one block of a pcapng file; grows up to [`MAX_BLOCK`] for larger ones.
const BUFFER: usize = 1 << 18;
/// A block that claims more than this is damage, not data.
const MAX_BLOCK: usize = 1 << 25;

/// A section that describes more interfaces than this is damaged, or made to fill the memory.
const MAX_INTERFACES: usize = 4096;

/// The form of a capture that starts with these bytes.
pub fn detect(first: &[u8]) -> Form {
    match first.get(..4) {
        Some([0x0A, 0x0D, 0x0D, 0x0A]) => return Form::Pcapng,
        Some(
            [0xA1, 0xB2, 0xC3, 0xD4] | [0xD4, 0xC3, 0xB2, 0xA1] | [0xA1, 0xB2, 0x3C, 0x4D] | [0x4D, 0x3C, 0xB2, 0xA1],
        ) => {
            return Form::Pcap;
        }
        _ => {}
    }
    if hex_text::is_hex_text(first) { Form::Hex } else { Form::Raw }
}

/// Reads a capture to its end, or to the first damage, or until the sink has enough.
///
/// # Errors
/// Those of the reader.
pub fn read(form: Form, mut input: impl Read, sink: &mut impl PieceSink) -> io::Result<Outcome> {
    sink.section();
    match form {
        Form::Pcapng => {
            let head = read_some(&mut input, section_header)?;
            read_packets(PcapNGReader::new(BUFFER, head.as_slice().chain(input)), sink)
        }
        Form::Pcap => {
            let head = read_some(&mut input, |_| PCAP_HEADER)?;
            read_packets(LegacyPcapReader::new(BUFFER, head.as_slice().chain(input)), sink)
        }
        Form::Hex => hex_text::read(input, sink),
        Form::Raw => read_raw(input, sink),
    }
}

/// The bytes at the start of an input by which [`detect`] tells its form, as many as come at once: a pipe may have no more for now.
///
/// # Errors
/// Those of the reader.
pub fn read_first(input: &mut impl Read) -> io::Result<Vec<u8>> {
    // What may become one of the longer marks has to be seen whole.
    let marks =
        [[0x0A, 0x0D, 0x0D, 0x0A], [0xA1, 0xB2, 0xC3, 0xD4], [0xD4, 0xC3, 0xB2, 0xA1], [0xA1, 0xB2, 0x3C, 0x4D]];
    let marks = [marks.as_slice(), &[[0x4D, 0x3C, 0xB2, 0xA1]]].concat();
    read_some(input, |first| {
        let may_be_marked = marks.iter().any(|mark| mark.starts_with(&first[..first.len().min(4)]));
        match may_be_marked {
            true => 4,
            // What is text, and which, whole lines tell.
            false if hex_text::may_be_cut(first) => DETECT_BYTES,
            false => 1,
        }
    })
}

/// Bytes of the header of a classic pcap file.
const PCAP_HEADER: usize = 24;

/// How many bytes the section header at the start of a pcapng file has, as far as these first ones tell.
fn section_header(first: &[u8]) -> usize {
    let number = |at: usize| first.get(at..at + 4).and_then(|bytes| <[u8; 4]>::try_from(bytes).ok());
    let (Some(length), Some(order)) = (number(4), number(8)) else { return 12 };
    let is_big = u32::from_be_bytes(order) == 0x1A2B_3C4D;
    let length = if is_big { u32::from_be_bytes(length) } else { u32::from_le_bytes(length) };
    (length as usize).clamp(12, DETECT_BYTES)
}

/// The first bytes of an input: as many as are wanted, going by those that are there, and more if they come at once.
fn read_some(input: &mut impl Read, wanted: impl Fn(&[u8]) -> usize) -> io::Result<Vec<u8>> {
    let mut first = vec![0; DETECT_BYTES];
    let mut filled = 0;
    while filled < wanted(&first[..filled]) {
        match input.read(&mut first[filled..]) {
            Ok(0) => break,
            Ok(n) => filled += n,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(_) if filled > 0 => break,
            Err(error) => return Err(error),
        }
    }
    first.truncate(filled);
    Ok(first)
}

/// Hands on bytes that somebody gave by themselves, as one piece, also if there are none: a packet, or a stretch of a stream.
pub fn hand_over(bytes: &[u8], sink: &mut impl PieceSink) {
    sink.section();
    sink.interface(serial_interface());
    let _ = sink.piece(Piece { interface: 0, time: None, bytes });
}

/// Reads once, also if a signal came in between.
pub(crate) fn read_once(input: &mut impl Read, buffer: &mut [u8]) -> io::Result<usize> {
    loop {
        match input.read(buffer) {
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            other => return other,
        }
    }
}

pub(crate) fn serial_interface() -> Interface {
    Interface { kind: InterfaceKind::Serial, description: String::new() }
}

fn read_raw(mut input: impl Read, sink: &mut impl PieceSink) -> io::Result<Outcome> {
    sink.interface(serial_interface());
    let mut buffer = vec![0; 1 << 16];
    let mut outcome = Outcome::default();
    loop {
        let n = read_once(&mut input, &mut buffer)?;
        outcome.bytes += n as u64;
        if n == 0 || sink.piece(Piece { interface: 0, time: None, bytes: &buffer[..n] }).is_break() {
            return Ok(outcome);
        }
        if n < buffer.len() {
            sink.pause();
        }
    }
}

/// What is needed to read the packets of an interface.
struct Clock {
    units_a_second: u64,
    offset_seconds: i64,
}

impl Clock {
    fn time(&self, units: u64) -> Option<Time> {
        let units_a_second = u128::from(self.units_a_second.max(1));
        let nanoseconds = u128::from(units) * 1_000_000_000 / units_a_second;
        let offset = i128::from(self.offset_seconds) * 1_000_000_000;
        let nanoseconds = u64::try_from(i128::try_from(nanoseconds).ok()? + offset).ok()?;
        Some(Time::from_nanoseconds(nanoseconds))
    }
}

type Opened<R> = Result<R, PcapError<&'static [u8]>>;

fn read_packets<R: PcapReaderIterator>(reader: Opened<R>, sink: &mut impl PieceSink) -> io::Result<Outcome> {
    let damaged = |offset: usize, reason: &str| {
        let damage = Damage { offset: offset as u64, reason: reason.to_owned() };
        Ok(Outcome { bytes: offset as u64, damage: Some(damage) })
    };
    let mut reader = match reader {
        Ok(reader) => reader,
        Err(PcapError::ReadError) => return Err(io::Error::other("the capture cannot be read")),
        Err(_) => return damaged(0, "the file's header is cut off or damaged"),
    };
    let mut clocks: Vec<Clock> = Vec::new();
    let mut buffer_size = BUFFER;
    let mut legacy_units = 1_000_000;
    loop {
        let consumed = reader.consumed();
        match reader.next() {
            Ok((size, block)) => {
                let flow = match block {
                    PcapBlockOwned::LegacyHeader(header) => {
                        if header.is_nanosecond_precision() {
                            legacy_units = 1_000_000_000;
                        }
                        clocks.push(Clock { units_a_second: legacy_units, offset_seconds: 0 });
                        let kind = InterfaceKind::of_link_type(header.network.0 & 0xFFFF);
                        sink.interface(Interface { kind, description: String::new() });
                        ControlFlow::Continue(())
                    }
                    PcapBlockOwned::Legacy(packet) => {
                        let time = u64::from(packet.ts_sec) * legacy_units + u64::from(packet.ts_usec);
                        let Some(bytes) = packet.data.get(..packet.caplen as usize) else {
                            return damaged(consumed, "a packet is longer than its record");
                        };
                        sink.piece(Piece { interface: 0, time: clocks[0].time(time), bytes })
                    }
                    PcapBlockOwned::NG(block) => match block {
                        Block::SectionHeader(_) => {
                            clocks.clear();
                            sink.section();
                            ControlFlow::Continue(())
                        }
                        Block::InterfaceDescription(_) if clocks.len() >= MAX_INTERFACES => {
                            return damaged(consumed, "the file describes more interfaces than a machine can have");
                        }
                        Block::InterfaceDescription(interface) => {
                            clocks.push(Clock {
                                units_a_second: interface.ts_resolution().unwrap_or(1_000_000),
                                offset_seconds: interface.ts_offset(),
                            });
                            let description = interface.if_description().and_then(Result::ok).unwrap_or_default();
                            sink.interface(Interface {
                                kind: InterfaceKind::of_link_type(interface.linktype.0),
                                description: description.trim_end_matches('\0').to_owned(),
                            });
                            ControlFlow::Continue(())
                        }
                        Block::EnhancedPacket(packet) => {
                            let index = packet.if_id as usize;
                            let Some(clock) = clocks.get(index) else {
                                return damaged(
                                    consumed,
                                    "a packet names an interface that the file does not describe",
                                );
                            };
                            let Some(bytes) = packet.data.get(..packet.caplen as usize) else {
                                return damaged(consumed, "a packet is longer than its block");
                            };
                            let time = u64::from(packet.ts_high) << 32 | u64::from(packet.ts_low);
                            sink.piece(Piece { interface: index, time: clock.time(time), bytes })
                        }
                        Block::SimplePacket(packet) => {
                            if clocks.is_empty() {
                                return damaged(
                                    consumed,
                                    "a packet names an interface that the file does not describe",
                                );
                            }
                            let length = (packet.origlen as usize).min(packet.data.len());
                            sink.piece(Piece { interface: 0, time: None, bytes: &packet.data[..length] })
                        }
                        _ => ControlFlow::Continue(()),
                    },
                };
                if flow.is_break() {
                    return Ok(Outcome { bytes: (consumed + size) as u64, damage: None });
                }
                reader.consume(size);
            }
            Err(PcapError::Eof) => return Ok(Outcome { bytes: consumed as u64, damage: None }),
            Err(PcapError::Incomplete(_)) => {
                sink.pause();
                if reader.refill().is_err() {
                    return damaged(consumed, "the file cannot be read any further");
                }
            }
            Err(PcapError::BufferTooSmall) => {
                buffer_size *= 2;
                if buffer_size > MAX_BLOCK || !reader.grow(buffer_size) {
                    return damaged(consumed, "a block claims to be larger than any packet can be");
                }
                if reader.refill().is_err() {
                    return damaged(consumed, "the file cannot be read any further");
                }
            }
            Err(PcapError::UnexpectedEof) => return damaged(consumed, "the file ends in the middle of a block"),
            Err(PcapError::ReadError) => return damaged(consumed, "the file cannot be read any further"),
            Err(_) => return damaged(consumed, "the block that starts here is damaged"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_form_is_seen_from_the_first_bytes() {
        assert_eq!(detect(&[0x0A, 0x0D, 0x0D, 0x0A, 0x1C]), Form::Pcapng);
        assert_eq!(detect(&[0xD4, 0xC3, 0xB2, 0xA1]), Form::Pcap);
        assert_eq!(detect(b"C6 39\n03 21"), Form::Hex);
        assert_eq!(detect(&[0xC6, 0x39]), Form::Raw);
        assert_eq!(detect(b""), Form::Raw);
    }
}
