//! Frames of controller area networks (ISO 11898-1:2015).

use emberwort_model::budget::wire_time::can::{self, FD_SIZES};
use emberwort_model::plan::EXTENDED_ID;

use super::pen::Pen;
use crate::lines::can::{Speeds, fd_checksum, fd_stuff_count};

/// The one wire.
const BUS: usize = 0;

/// Draws a data frame that somebody acknowledges; recessive is high. Bytes beyond those that a frame can carry are not sent; CAN FD
/// frames are filled up with zeros to a size that they can have.
pub(super) fn draw(pen: &mut Pen<'_>, speeds: Speeds, key: u64, bytes: &[u8]) {
    let id = ((key & 0x1FFF_FFFF) as u32, key & EXTENDED_ID != 0);
    let nominal = 1e12 / f64::from(speeds.bitrate);
    let sample = f64::from(speeds.sample) / 100.0;
    let mut line = Line { level: true };
    // Somebody else acknowledges, then the end of frame, and the three bits of rest that are kept between frames.
    let tail = |line: &mut Line, pen: &mut Pen<'_>| {
        line.send(pen, false, nominal);
        for _ in 0..1 + 7 + 3 {
            line.send(pen, true, nominal);
        }
    };
    let Some(data_bitrate) = speeds.data_bitrate else {
        let bits = can::classic_frame(&bytes[..bytes.len().min(8)], id);
        for (bit, is_followed) in bits.iter().zip(can::stuffing(&bits)) {
            line.send(pen, *bit, nominal);
            if is_followed {
                line.send(pen, !bit, nominal);
            }
        }
        line.send(pen, true, nominal);
        return tail(&mut line, pen);
    };
    let fast = 1e12 / f64::from(data_bitrate);
    let (bits, arbitration) = can::fd_frame(&bytes[..bytes.len().min(64)], id);
    let stuffing = can::stuffing(&bits);
    let mut on_wire = Vec::with_capacity(bits.len() * 5 / 4);
    let mut stuffed = 0;
    for (n, (bit, is_followed)) in bits.iter().zip(stuffing).enumerate() {
        // The bit rate changes where the bit that says so is looked at.
        let duration = match n + 1 {
            n if n < arbitration => nominal,
            n if n == arbitration => sample * nominal + (1.0 - sample) * fast,
            _ => fast,
        };
        on_wire.push(*bit);
        line.send(pen, *bit, duration);
        // Behind the last bit the fixed stuff bit of the checksum comes.
        if is_followed && n + 1 < bits.len() {
            on_wire.push(!bit);
            stuffed += 1;
            line.send(pen, !bit, if n + 1 < arbitration { nominal } else { fast });
        }
    }
    let size = FD_SIZES.iter().copied().find(|size| *size >= bytes.len()).unwrap_or(64);
    let count = fd_stuff_count(stuffed);
    let (checksum, width) = fd_checksum(&on_wire, count, size);
    let all = u64::from(count) << width | u64::from(checksum);
    let mut last = *on_wire.last().unwrap_or(&true);
    for n in 0..4 + width {
        if n % 4 == 0 {
            line.send(pen, !last, fast);
        }
        last = all >> (3 + width - n) & 1 == 1;
        line.send(pen, last, fast);
    }
    // Back to the nominal bit rate in the delimiter of the checksum.
    line.send(pen, true, sample * fast + (1.0 - sample) * nominal);
    tail(&mut line, pen);
}

struct Line {
    level: bool,
}

impl Line {
    fn send(&mut self, pen: &mut Pen<'_>, bit: bool, duration: f64) {
        if bit != self.level {
            self.level = bit;
            pen.set(BUS, bit);
        }
        pen.wait(duration);
    }
}
