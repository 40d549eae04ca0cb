//! Sound files (Microsoft and IBM, Multimedia Programming Interface and Data Specifications 1.0, 1991: RIFF WAVE), as sound cards and
//! some instruments write them.

use std::io::{self, Read};

use super::samples::{self, Number, Sample};
use crate::wave::{Damage, Outcome, WaveSink};

/// What a sound file begins with, as far as its form is said.
const MARK: &[u8; 4] = b"RIFF";

/// Chunks in front of the samples that are longer than this are none.
const LONGEST_CHUNK: u32 = 1 << 24;

/// Whether bytes are the beginning of a sound file.
pub fn is_sound(first: &[u8]) -> bool {
    first.starts_with(MARK) && first.get(8..12).is_none_or(|kind| kind == b"WAVE")
}

/// What the header of a sound file says.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Header {
    /// The form of samples, one for each channel at each moment.
    pub sample: Sample,
    /// Samples a second.
    pub rate: u64,
}

/// Reads up to as many bytes as there is room, or to the end.
fn fill(input: &mut impl Read, room: &mut [u8]) -> io::Result<usize> {
    let mut filled = 0;
    while filled < room.len() {
        match input.read(&mut room[filled..]) {
            Ok(0) => break,
            Ok(read) => filled += read,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Err(error),
        }
    }
    Ok(filled)
}

/// Reads a sound file to its end, or until the sink has enough: the channels are the signals `A0`, `A1` and so on, full scale is 1.
///
/// # Errors
/// Those of the reader.
pub fn read(mut input: impl Read, sink: &mut dyn WaveSink) -> io::Result<Outcome> {
    let damaged = |offset: u64, reason: &str| {
        Ok(Outcome { bytes: offset, damage: Some(Damage { offset, reason: reason.to_owned() }) })
    };
    let mut riff = [0; 12];
    if fill(&mut input, &mut riff)? < riff.len() || !is_sound(&riff) {
        return damaged(0, "this is no sound file: RIFF and WAVE are what it begins with");
    }
    let mut at = riff.len() as u64;
    let mut header: Option<Header> = None;
    loop {
        let mut chunk = [0; 8];
        if fill(&mut input, &mut chunk)? < chunk.len() {
            return damaged(at, "the sound file ends before its samples begin");
        }
        let [a, b, c, d, length @ ..] = chunk;
        let length = u32::from_le_bytes(length);
        if &[a, b, c, d] == b"data" {
            let Some(Header { sample, rate }) = header else {
                return damaged(at, "the samples of the sound file come before their form is said");
            };
            at += chunk.len() as u64;
            // Who writes without knowing the length says the greatest, or none: all that follows are samples.
            let limit = if matches!(length, 0 | u32::MAX) { u64::MAX } else { u64::from(length) };
            let mut taken = (&mut input).take(limit);
            let mut outcome = samples::read(&mut taken, sample, rate, sink)?;
            let left = taken.limit();
            // What was read was also handed on, unless the sink had enough.
            let is_all = outcome.damage.is_none() && limit != u64::MAX && outcome.bytes == limit - left;
            if is_all && left > 0 && fill(&mut taken, &mut [0])? == 0 {
                let reason = "the sound file ends before all samples that its header says".to_owned();
                outcome.damage = Some(Damage { offset: outcome.bytes, reason });
            }
            if is_all && left == 0 {
                // Titles and the like may follow; they are no samples.
                outcome.bytes += io::copy(&mut input, &mut io::sink())?;
            }
            outcome.bytes += at;
            if let Some(damage) = &mut outcome.damage {
                damage.offset += at;
            }
            return Ok(outcome);
        }
        if length > LONGEST_CHUNK {
            return damaged(at, "a part of the sound file in front of its samples is too long");
        }
        // Parts have an even length in the file.
        let mut body = vec![0; length as usize + length as usize % 2];
        let read = fill(&mut input, &mut body)?;
        if read < length as usize {
            return damaged(at, "the sound file ends before its samples begin");
        }
        if &[a, b, c, d] == b"fmt " {
            match form(&body) {
                Ok(form) => header = Some(form),
                Err(reason) => return damaged(at, &reason),
            }
        }
        at += 8 + read as u64;
    }
}

/// The part that says the form of samples.
fn form(body: &[u8]) -> Result<Header, String> {
    let word = |at: usize| body.get(at..at + 2).map(|bytes| u16::from_le_bytes([bytes[0], bytes[1]]));
    let too_short = || "the part of the sound file that says the form of its samples is too short".to_owned();
    let (mut kind, channels, bits) = match (word(0), word(2), word(14)) {
        (Some(kind), Some(channels), Some(bits)) => (kind, usize::from(channels), bits),
        _ => return Err(too_short()),
    };
    let rate = body.get(4..8).map(|rate| u32::from_le_bytes([rate[0], rate[1], rate[2], rate[3]]));
    let rate = u64::from(rate.ok_or_else(too_short)?);
    // The extensible form says what it is at the beginning of an identifier further behind.
    if kind == 0xFFFE {
        kind = word(24).ok_or_else(too_short)?;
    }
    let number = match (kind, bits) {
        (1, 8) => Number::U8,
        (1, 16) => Number::I16,
        (1, 24) => Number::I24,
        (1, 32) => Number::I32,
        (3, 32) => Number::F32,
        (3, 64) => Number::F64,
        (1 | 3, _) => return Err(format!("samples of {bits} bits in a sound file cannot be read")),
        _ => {
            return Err(format!(
                "the sound file is packed in a way (number {kind}) that cannot be read; save it as PCM"
            ));
        }
    };
    if rate == 0 || channels == 0 {
        return Err("the sound file says no samples a second, or no channels".to_owned());
    }
    Ok(Header { sample: Sample::Numbers(number, channels), rate })
}
