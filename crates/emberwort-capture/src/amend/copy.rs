//! Copying a capture with some of its packets changed. All else stays as it is, to the byte.

use std::io::{self, Read, Write};

use super::edits::EditsInOrder;
use super::layers::{Layer, rebuild};
use crate::pieces::InterfaceKind;
use crate::source::CaptureFormat;

/// A block, or a packet, that claims more than this is damage.
const MAX_BLOCK: usize = 1 << 25;

/// What became of a changed packet.
#[derive(Clone, Debug)]
pub struct Changed {
    /// Its number.
    pub packet: u64,
    /// The checksums around what was changed.
    pub layers: Vec<Layer>,
}

/// Why a capture could not be copied.
#[derive(Debug, thiserror::Error)]
pub enum CopyError {
    /// Reading or writing failed.
    #[error(transparent)]
    Io(#[from] io::Error),
    /// A packet cannot hold its change.
    #[error("packet {0}: {1}")]
    Packet(u64, String),
    /// The file is damaged.
    #[error("the file is damaged at byte {0}")]
    Damaged(u64),
}

/// A packet as it stands in a file.
struct Packet<'a> {
    number: u64,
    kind: InterfaceKind,
    /// In nanoseconds since 1970.
    time: Option<u64>,
    bytes: &'a [u8],
}

/// How packets are copied.
pub struct How<'a> {
    /// Whether checksums around what was changed stay as they were.
    pub keep_checksums: bool,
    /// May change each packet that is not dropped.
    pub with_all: &'a mut dyn FnMut(InterfaceKind, &mut Vec<u8>),
    /// Is told of each changed packet, in their order.
    pub report: &'a mut dyn FnMut(Changed) -> io::Result<()>,
}

/// Copies a capture of a form that has packets, or of raw bytes, with edits. Memory does not grow with the capture.
///
/// # Errors
/// What could not be done; what was written by then is no whole capture.
pub fn copy(
    form: CaptureFormat,
    mut input: impl Read,
    edits: &mut EditsInOrder,
    how: How<'_>,
    out: &mut dyn Write,
) -> Result<(), CopyError> {
    let mut copy = Copy { edits, how, number: 0 };
    match form {
        CaptureFormat::Pcapng => copy.pcapng(&mut input, out),
        CaptureFormat::Pcap => copy.pcap(&mut input, out),
        CaptureFormat::Raw | CaptureFormat::Hex => copy.raw(&mut input, out),
    }
}

struct Copy<'a, 'h> {
    edits: &'a mut EditsInOrder,
    how: How<'h>,
    number: u64,
}

/// Fills a buffer, or says that nothing more is there.
fn fill(input: &mut impl Read, bytes: &mut [u8], at: u64) -> Result<bool, CopyError> {
    let mut filled = 0;
    while filled < bytes.len() {
        match input.read(&mut bytes[filled..]) {
            Ok(0) if filled == 0 => return Ok(false),
            Ok(0) => return Err(CopyError::Damaged(at)),
            Ok(read) => filled += read,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Err(error.into()),
        }
    }
    Ok(true)
}

impl Copy<'_, '_> {
    /// What becomes of a packet: how many times it is there, by how much it is later, and its bytes.
    fn packet(&mut self, packet: Packet<'_>) -> Result<(u32, i64, Vec<u8>), CopyError> {
        let is_outside = |(from, to): (u64, u64)| packet.time.is_some_and(|time| !(from..=to).contains(&time));
        if self.edits.span.is_some_and(is_outside) {
            return Ok((0, 0, Vec::new()));
        }
        let edit = self.edits.of(packet.number)?;
        if edit.is_dropped {
            return Ok((0, 0, Vec::new()));
        }
        let bytes = edit.instead.as_deref().unwrap_or(packet.bytes);
        let mut bytes = match edit.payload(bytes) {
            None => bytes.to_vec(),
            Some((range, new)) => {
                if range.end > bytes.len() {
                    return Err(CopyError::Packet(packet.number, "it is shorter than when it was read".to_owned()));
                }
                let (bytes, layers) = rebuild(packet.kind, bytes, range, &new, self.how.keep_checksums)
                    .map_err(|why| CopyError::Packet(packet.number, why))?;
                (self.how.report)(Changed { packet: packet.number, layers })?;
                bytes
            }
        };
        (self.how.with_all)(packet.kind, &mut bytes);
        Ok((1 + edit.copies, edit.delay, bytes))
    }

    /// A stream of bytes is one packet, of any length: it is copied from cut to cut.
    fn raw(&mut self, input: &mut impl Read, out: &mut dyn Write) -> Result<(), CopyError> {
        let mut at = 0;
        while let Some(edit) = self.edits.next_of(1)? {
            for (range, new) in edit.cuts {
                let (kept, cut) = (range.start.saturating_sub(at) as u64, range.len() as u64);
                let copied = io::copy(&mut input.take(kept), out)? + io::copy(&mut input.take(cut), &mut io::sink())?;
                if copied < kept + cut {
                    return Err(CopyError::Packet(1, "it is shorter than when it was read".to_owned()));
                }
                out.write_all(&new)?;
                at = range.end;
            }
        }
        io::copy(input, out)?;
        Ok(())
    }

    fn pcap(&mut self, input: &mut impl Read, out: &mut dyn Write) -> Result<(), CopyError> {
        let mut header = [0; 24];
        let mut at = 0;
        if !fill(input, &mut header, at)? {
            return Ok(());
        }
        out.write_all(&header)?;
        let is_big = header[0] == 0xA1;
        let number = |bytes: &[u8]| {
            let bytes = [bytes[0], bytes[1], bytes[2], bytes[3]];
            if is_big { u32::from_be_bytes(bytes) } else { u32::from_le_bytes(bytes) }
        };
        let bytes_of = |number: u32| if is_big { number.to_be_bytes() } else { number.to_le_bytes() };
        let units: i64 = if matches!(header[..4], [0xA1, 0xB2, 0x3C, 0x4D] | [0x4D, 0x3C, 0xB2, 0xA1]) {
            1_000_000_000
        } else {
            1_000_000
        };
        let kind = InterfaceKind::of_link_type((number(&header[20..]) & 0xFFFF) as i32);
        at += 24;
        let mut record = [0; 16];
        let mut data = Vec::new();
        while fill(input, &mut record, at)? {
            let (captured, original) = (number(&record[8..]) as usize, number(&record[12..]));
            if captured > MAX_BLOCK {
                return Err(CopyError::Damaged(at));
            }
            data.resize(captured, 0);
            if captured > 0 && !fill(input, &mut data, at)? {
                return Err(CopyError::Damaged(at));
            }
            at += 16 + captured as u64;
            self.number += 1;
            let time = i64::from(number(&record)) * units + i64::from(number(&record[4..]));
            let nanoseconds = Some(time.unsigned_abs() * (1_000_000_000 / units).unsigned_abs());
            let (times, delay, bytes) =
                self.packet(Packet { number: self.number, kind, time: nanoseconds, bytes: &data })?;
            let time = (time + delay / (1_000_000_000 / units)).max(0);
            let grown = i64::from(original) + bytes.len() as i64 - captured as i64;
            for _ in 0..times {
                out.write_all(&bytes_of((time / units) as u32))?;
                out.write_all(&bytes_of((time % units) as u32))?;
                out.write_all(&bytes_of(bytes.len() as u32))?;
                out.write_all(&bytes_of(grown.max(0) as u32))?;
                out.write_all(&bytes)?;
            }
        }
        Ok(())
    }

    fn pcapng(&mut self, input: &mut impl Read, out: &mut dyn Write) -> Result<(), CopyError> {
        let mut is_big = false;
        // The kind of each interface, how many units of its times are a second, and when those begin.
        let mut interfaces: Vec<(InterfaceKind, u64, i64)> = Vec::new();
        let mut at = 0;
        let mut head = [0; 12];
        let mut block = Vec::new();
        while fill(input, &mut head, at)? {
            if head[..4] == [0x0A, 0x0D, 0x0D, 0x0A] {
                is_big = head[8..] == [0x1A, 0x2B, 0x3C, 0x4D];
                interfaces.clear();
            }
            let number = |bytes: &[u8]| {
                let bytes = [bytes[0], bytes[1], bytes[2], bytes[3]];
                if is_big { u32::from_be_bytes(bytes) } else { u32::from_le_bytes(bytes) }
            };
            let bytes_of = |number: u32| if is_big { number.to_be_bytes() } else { number.to_le_bytes() };
            let (kind, length) = (number(&head), number(&head[4..]) as usize);
            if !(12..=MAX_BLOCK).contains(&length) || !length.is_multiple_of(4) {
                return Err(CopyError::Damaged(at));
            }
            block.resize(length, 0);
            block[..12].copy_from_slice(&head);
            if length > 12 && !fill(input, &mut block[12..], at)? {
                return Err(CopyError::Damaged(at));
            }
            at += length as u64;
            match kind {
                1 if length >= 20 => {
                    let link_type = if is_big {
                        u16::from_be_bytes([block[8], block[9]])
                    } else {
                        u16::from_le_bytes([block[8], block[9]])
                    };
                    let (units, start) = units(&block[16..length - 4], is_big);
                    interfaces.push((InterfaceKind::of_link_type(link_type.into()), units, start));
                    out.write_all(&block)?;
                }
                6 if length >= 32 => {
                    let interface = number(&block[8..]) as usize;
                    let captured = number(&block[20..]) as usize;
                    let Some((link, units, start)) =
                        interfaces.get(interface).copied().filter(|_| captured <= length - 32)
                    else {
                        return Err(CopyError::Damaged(at - length as u64));
                    };
                    self.number += 1;
                    let data = &block[28..28 + captured];
                    let options = &block[28 + captured.next_multiple_of(4)..length - 4];
                    let time = u64::from(number(&block[12..])) << 32 | u64::from(number(&block[16..]));
                    let nanoseconds =
                        i128::from(time) * 1_000_000_000 / i128::from(units.max(1)) + i128::from(start) * 1_000_000_000;
                    let packet =
                        Packet { number: self.number, kind: link, time: u64::try_from(nanoseconds).ok(), bytes: data };
                    let (times, delay, bytes) = self.packet(packet)?;
                    let delay = i128::from(delay) * i128::from(units) / 1_000_000_000;
                    let time = u64::try_from(i128::from(time) + delay).unwrap_or(0);
                    let original = i64::from(number(&block[24..])) + bytes.len() as i64 - captured as i64;
                    for _ in 0..times {
                        let size = 32 + bytes.len().next_multiple_of(4) + options.len();
                        for word in [
                            6,
                            size as u32,
                            interface as u32,
                            (time >> 32) as u32,
                            time as u32,
                            bytes.len() as u32,
                            original.max(0) as u32,
                        ] {
                            out.write_all(&bytes_of(word))?;
                        }
                        out.write_all(&bytes)?;
                        out.write_all(&[0; 4][..bytes.len().next_multiple_of(4) - bytes.len()])?;
                        out.write_all(options)?;
                        out.write_all(&bytes_of(size as u32))?;
                    }
                }
                3 if length >= 16 => {
                    let original = number(&block[8..]) as usize;
                    let captured = original.min(length - 16);
                    self.number += 1;
                    let link = interfaces.first().map_or(InterfaceKind::Other(-1), |(kind, ..)| *kind);
                    let (times, _, bytes) = self.packet(Packet {
                        number: self.number,
                        kind: link,
                        time: None,
                        bytes: &block[12..12 + captured],
                    })?;
                    for _ in 0..times {
                        let size = 16 + bytes.len().next_multiple_of(4);
                        let now = original + bytes.len() - captured;
                        for word in [3, size as u32, now as u32] {
                            out.write_all(&bytes_of(word))?;
                        }
                        out.write_all(&bytes)?;
                        out.write_all(&[0; 4][..bytes.len().next_multiple_of(4) - bytes.len()])?;
                        out.write_all(&bytes_of(size as u32))?;
                    }
                }
                _ => out.write_all(&block)?,
            }
        }
        Ok(())
    }
}

/// Units a second of the times of an interface, by its options, and the second at which they begin.
fn units(mut options: &[u8], is_big: bool) -> (u64, i64) {
    let (mut units, mut start) = (1_000_000, 0);
    let number = |bytes: &[u8]| {
        if is_big { u16::from_be_bytes([bytes[0], bytes[1]]) } else { u16::from_le_bytes([bytes[0], bytes[1]]) }
    };
    while options.len() >= 4 {
        let (code, length) = (number(options), usize::from(number(&options[2..])));
        let Some(value) = options.get(4..4 + length) else { break };
        if code == 9 && length == 1 {
            let exponent = u32::from(value[0] & 0x7F);
            let found = if value[0] & 0x80 == 0 { 10u64.checked_pow(exponent) } else { 1u64.checked_shl(exponent) };
            units = found.unwrap_or(units);
        }
        if let (14, Ok(offset)) = (code, <[u8; 8]>::try_from(value)) {
            start = if is_big { i64::from_be_bytes(offset) } else { i64::from_le_bytes(offset) };
        }
        options = options.get(4 + length.next_multiple_of(4)..).unwrap_or_default();
    }
    (units, start)
}
