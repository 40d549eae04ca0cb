//! Capture files as a stream of pieces: pcapng, classic pcap, raw bytes, hex text.
//!
//! Everything before a damaged place is handed on; the damage is then told with its offset.

use std::io::{self, Read};

use crate::hex_text;
use crate::packet_files::{read_pcap, read_pcapng};
use crate::pieces::{DETECT_BYTES, Outcome, Piece, PieceSink, read_once, serial_interface};

/// The form of a capture.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum CaptureFormat {
    /// pcapng (IETF draft-ietf-opsawg-pcapng).
    Pcapng,
    /// Classic pcap, in either byte order, with micro- or nanoseconds.
    Pcap,
    /// Hex digits in text: alone, in a dump with offsets, or in a log with times.
    Hex,
    /// The bytes themselves.
    Raw,
}

/// The form of a capture that starts with these bytes.
pub fn detect(first: &[u8]) -> CaptureFormat {
    match first.get(..4) {
        Some([0x0A, 0x0D, 0x0D, 0x0A]) => return CaptureFormat::Pcapng,
        Some(
            [0xA1, 0xB2, 0xC3, 0xD4] | [0xD4, 0xC3, 0xB2, 0xA1] | [0xA1, 0xB2, 0x3C, 0x4D] | [0x4D, 0x3C, 0xB2, 0xA1],
        ) => {
            return CaptureFormat::Pcap;
        }
        _ => {}
    }
    if hex_text::is_hex_text(first) { CaptureFormat::Hex } else { CaptureFormat::Raw }
}

/// Reads a capture to its end, or to the first damage, or until the sink has enough.
///
/// # Errors
/// Those of the reader.
pub fn read(form: CaptureFormat, mut input: impl Read, sink: &mut dyn PieceSink) -> io::Result<Outcome> {
    sink.section();
    match form {
        CaptureFormat::Pcapng => {
            let head = read_some(&mut input, section_header)?;
            read_pcapng(head.as_slice().chain(input), sink)
        }
        CaptureFormat::Pcap => {
            let head = read_some(&mut input, |_| PCAP_HEADER)?;
            read_pcap(head.as_slice().chain(input), sink)
        }
        CaptureFormat::Hex => {
            let first = read_first(&mut input)?;
            hex_text::read(&first, input, sink)
        }
        CaptureFormat::Raw => read_raw(input, sink),
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
pub fn forward_all(bytes: &[u8], sink: &mut dyn PieceSink) {
    sink.section();
    sink.interface(serial_interface());
    let _ = sink.piece(Piece { interface: 0, time: None, bytes });
}

fn read_raw(mut input: impl Read, sink: &mut dyn PieceSink) -> io::Result<Outcome> {
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_form_is_seen_from_the_first_bytes() {
        assert_eq!(detect(&[0x0A, 0x0D, 0x0D, 0x0A, 0x1C]), CaptureFormat::Pcapng);
        assert_eq!(detect(&[0xD4, 0xC3, 0xB2, 0xA1]), CaptureFormat::Pcap);
        assert_eq!(detect(b"C6 39\n03 21"), CaptureFormat::Hex);
        assert_eq!(detect(&[0xC6, 0x39]), CaptureFormat::Raw);
        assert_eq!(detect(b""), CaptureFormat::Raw);
    }
}
