//! Files of packets: pcapng (IETF draft-ietf-opsawg-pcapng) and classic pcap, by a library; packets, which are almost all of a
//! file's blocks, are stepped over here.

use std::io::{self, Read};
use std::ops::ControlFlow;

use emberwort_wire::Time;
use pcap_parser::Block;
use pcap_parser::traits::PcapReaderIterator;
use pcap_parser::{LegacyPcapReader, PcapBlockOwned, PcapError, PcapNGReader};
use pcap_parser::{OptionCode, PcapNGOption};

use crate::pieces::{About, Comment, Damage, Interface, InterfaceKind, Outcome, Piece, PieceSink};

/// Room for one block of a file; grows up to [`MAX_BLOCK`] for larger ones.
const BUFFER: usize = 1 << 18;
/// A block that claims more than this is damage, not data.
const MAX_BLOCK: usize = 1 << 25;

/// A section that describes more interfaces than this is damaged, or made to fill the memory.
const MAX_INTERFACES: usize = 4096;

/// Reads a pcapng file to its end, or to the first damage, or until the sink has enough.
///
/// # Errors
/// Those of the reader.
pub(crate) fn read_pcapng(input: impl Read, sink: &mut dyn PieceSink) -> io::Result<Outcome> {
    read(PcapNGReader::new(BUFFER, input), sink)
}

/// Reads a classic pcap file to its end, or to the first damage, or until the sink has enough.
///
/// # Errors
/// Those of the reader.
pub(crate) fn read_pcap(input: impl Read, sink: &mut dyn PieceSink) -> io::Result<Outcome> {
    read(LegacyPcapReader::new(BUFFER, input), sink)
}

/// How the times of an interface count.
struct Clock {
    units_a_second: u64,
    offset_seconds: i64,
}

impl Clock {
    #[inline]
    fn time(&self, units: u64) -> Option<Time> {
        if (self.units_a_second, self.offset_seconds) == (1_000_000_000, 0) {
            return Some(Time::from_nanoseconds(units));
        }
        let nanoseconds = u128::from(units) * 1_000_000_000 / u128::from(self.units_a_second.max(1));
        let offset = i128::from(self.offset_seconds) * 1_000_000_000;
        let nanoseconds = u64::try_from(i128::try_from(nanoseconds).ok()? + offset).ok()?;
        Some(Time::from_nanoseconds(nanoseconds))
    }
}

/// Units a second by the option if_tsresol (draft-ietf-opsawg-pcapng, section 4.2): powers of 10, or of 2 with the highest bit.
fn units_a_second(resolution: u8) -> Option<u64> {
    let exponent = u32::from(resolution & 0x7F);
    if resolution & 0x80 == 0 { 10u64.checked_pow(exponent) } else { 1u64.checked_shl(exponent) }
}

type Opened<R> = Result<R, PcapError<&'static [u8]>>;

/// Why the blocks of a file are not read any further.
enum Stop {
    /// The sink has enough.
    Enough,
    /// The block at hand makes no sense.
    Damaged(&'static str),
}

/// What the blocks so far said.
#[derive(Default)]
struct Section {
    /// Of each interface.
    clocks: Vec<Clock>,
    /// Whether numbers have their most significant byte first; `None` before a pcapng section says it.
    is_big_endian: Option<bool>,
    /// Units a second of the times of a classic file.
    legacy_units: u64,
}

fn read<R: PcapReaderIterator>(reader: Opened<R>, sink: &mut dyn PieceSink) -> io::Result<Outcome> {
    let damaged = |offset: usize, reason: &str| {
        let damage = Damage { offset: offset as u64, reason: reason.to_owned() };
        Ok(Outcome { bytes: offset as u64, damage: Some(damage) })
    };
    let mut reader = match reader {
        Ok(reader) => reader,
        Err(PcapError::ReadError) => return Err(io::Error::other("the capture cannot be read")),
        Err(_) => return damaged(0, "the file's header is cut off or damaged"),
    };
    let mut section = Section { legacy_units: 1_000_000, ..Section::default() };
    let mut buffer_size = BUFFER;
    loop {
        let (size, flow) = section.packets(reader.data(), sink);
        let consumed = reader.consumed() + size;
        if size > 0 {
            reader.consume(size);
        }
        if flow.is_break() {
            return Ok(Outcome { bytes: consumed as u64, damage: None });
        }
        match reader.next() {
            Ok((size, block)) => {
                match section.block(block, sink) {
                    Ok(()) => {}
                    Err(Stop::Enough) => return Ok(Outcome { bytes: (consumed + size) as u64, damage: None }),
                    Err(Stop::Damaged(reason)) => return damaged(consumed, reason),
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

/// The comments among the options of a block: code 1 (draft-ietf-opsawg-pcapng, section 3.5).
fn comments(mut options: &[u8], is_big_endian: bool) -> Vec<String> {
    let number = |bytes: [u8; 2]| if is_big_endian { u16::from_be_bytes(bytes) } else { u16::from_le_bytes(bytes) };
    let mut found = Vec::new();
    while let Some(([a, b, c, d], rest)) = options.split_first_chunk() {
        let (code, size) = (number([*a, *b]), usize::from(number([*c, *d])));
        let Some(value) = rest.get(..size).filter(|_| code != 0) else { break };
        if code == 1 {
            found.push(String::from_utf8_lossy(value).into_owned());
        }
        options = rest.get(size.next_multiple_of(4)..).unwrap_or_default();
    }
    found
}

/// Hands on the comments among options that the library has taken apart.
fn tell_comments(about: About, options: &[PcapNGOption<'_>], sink: &mut dyn PieceSink) {
    for option in options.iter().filter(|option| option.code == OptionCode::Comment) {
        let value = &option.value[..usize::from(option.len).min(option.value.len())];
        sink.comment(Comment { about, text: String::from_utf8_lossy(value).into_owned() });
    }
}

impl Section {
    /// Hands on the packets of the enhanced packet blocks with which these bytes begin, as long as they are whole and make sense.
    /// Returns how many bytes those blocks have.
    fn packets(&self, data: &[u8], sink: &mut dyn PieceSink) -> (usize, ControlFlow<()>) {
        let mut at = 0;
        if let Some(is_big_endian) = self.is_big_endian {
            while let Some((size, piece)) = self.enhanced_packet(&data[at..], is_big_endian) {
                // Behind the packet, which is filled up to four bytes, stand options, and the block's size again.
                let options = &data[at + 28 + piece.bytes.len().next_multiple_of(4)..at + size - 4];
                if !options.is_empty() {
                    for text in comments(options, is_big_endian) {
                        sink.comment(Comment { about: About::Piece(piece.time), text });
                    }
                }
                at += size;
                if sink.piece(piece).is_break() {
                    return (at, ControlFlow::Break(()));
                }
            }
        }
        (at, ControlFlow::Continue(()))
    }

    /// The packet of an enhanced packet block (draft-ietf-opsawg-pcapng, section 4.3) and the bytes of the block; `None` for
    /// whatever else stands there.
    #[inline]
    fn enhanced_packet<'a>(&self, data: &'a [u8], is_big_endian: bool) -> Option<(usize, Piece<'a>)> {
        let number = |bytes: [u8; 4]| if is_big_endian { u32::from_be_bytes(bytes) } else { u32::from_le_bytes(bytes) };
        let head: &[u8; 28] = data.first_chunk()?;
        let word = |n: usize| number([head[4 * n], head[4 * n + 1], head[4 * n + 2], head[4 * n + 3]]);
        let (kind, size, interface, captured) = (word(0), word(1) as usize, word(2) as usize, word(5) as usize);
        if kind != 6 || size < 32 || !size.is_multiple_of(4) || captured.next_multiple_of(4) > size - 32 {
            return None;
        }
        let block = data.get(..size)?;
        if number(*block.last_chunk()?) as usize != size {
            return None;
        }
        let time = self.clocks.get(interface)?.time(u64::from(word(3)) << 32 | u64::from(word(4)));
        Some((size, Piece { interface, time, bytes: &block[28..28 + captured] }))
    }

    /// Takes any block.
    fn block(&mut self, block: PcapBlockOwned<'_>, sink: &mut dyn PieceSink) -> Result<(), Stop> {
        let flow = match block {
            PcapBlockOwned::LegacyHeader(header) => {
                if header.is_nanosecond_precision() {
                    self.legacy_units = 1_000_000_000;
                }
                self.clocks.push(Clock { units_a_second: self.legacy_units, offset_seconds: 0 });
                let kind = InterfaceKind::of_link_type(header.network.0 & 0xFFFF);
                sink.interface(Interface { kind, name: String::new(), description: String::new() });
                ControlFlow::Continue(())
            }
            PcapBlockOwned::Legacy(packet) => {
                let time = u64::from(packet.ts_sec) * self.legacy_units + u64::from(packet.ts_usec);
                let bytes = packet.data.get(..packet.caplen as usize);
                let bytes = bytes.ok_or(Stop::Damaged("a packet is longer than its record"))?;
                sink.piece(Piece { interface: 0, time: self.clocks[0].time(time), bytes })
            }
            PcapBlockOwned::NG(block) => self.pcapng_block(block, sink)?,
        };
        if flow.is_break() { Err(Stop::Enough) } else { Ok(()) }
    }

    fn pcapng_block(&mut self, block: Block<'_>, sink: &mut dyn PieceSink) -> Result<ControlFlow<()>, Stop> {
        const UNKNOWN: Stop = Stop::Damaged("a packet names an interface that the file does not describe");
        match block {
            Block::SectionHeader(header) => {
                self.clocks.clear();
                self.is_big_endian = Some(header.big_endian());
                sink.section();
                tell_comments(About::Capture, &header.options, sink);
            }
            Block::InterfaceDescription(_) if self.clocks.len() >= MAX_INTERFACES => {
                return Err(Stop::Damaged("the file describes more interfaces than a machine can have"));
            }
            Block::InterfaceDescription(interface) => {
                self.clocks.push(Clock {
                    units_a_second: units_a_second(interface.if_tsresol)
                        .ok_or(Stop::Damaged("an interface counts its times in units that are too small"))?,
                    offset_seconds: interface.ts_offset(),
                });
                tell_comments(About::Interface, &interface.options, sink);
                let text = |said: Option<Result<&str, _>>| {
                    said.and_then(Result::ok).unwrap_or_default().trim_end_matches('\0').to_owned()
                };
                sink.interface(Interface {
                    kind: InterfaceKind::of_link_type(interface.linktype.0),
                    name: text(interface.if_name()),
                    description: text(interface.if_description()),
                });
            }
            Block::EnhancedPacket(packet) => {
                let interface = packet.if_id as usize;
                let clock = self.clocks.get(interface).ok_or(UNKNOWN)?;
                let bytes = packet.data.get(..packet.caplen as usize);
                let bytes = bytes.ok_or(Stop::Damaged("a packet is longer than its block"))?;
                let time = clock.time(u64::from(packet.ts_high) << 32 | u64::from(packet.ts_low));
                tell_comments(About::Piece(time), &packet.options, sink);
                return Ok(sink.piece(Piece { interface, time, bytes }));
            }
            Block::SimplePacket(_) if self.clocks.is_empty() => return Err(UNKNOWN),
            Block::SimplePacket(packet) => {
                let length = (packet.origlen as usize).min(packet.data.len());
                return Ok(sink.piece(Piece { interface: 0, time: None, bytes: &packet.data[..length] }));
            }
            _ => {}
        }
        Ok(ControlFlow::Continue(()))
    }
}
