//! Words of a serial peripheral interface.

use emberwort_model::medium::SpiWords;

use super::pen::Pen;

/// Draws words. What the other side shifts out meanwhile is 0. Wires: clock, device, host.
pub(super) fn draw(
    pen: &mut Pen<'_>,
    words: &SpiWords,
    hertz: u32,
    select: Option<usize>,
    from_host: bool,
    bytes: &[u8],
) {
    let half = 5e11 / f64::from(hertz.max(1));
    let rests_high = words.clock_rests_high();
    let wire = if from_host { 2 } else { 1 };
    // Data are put out at the edge at which they are not taken; where they are taken at the first edge of a pulse, before it.
    let takes_first = words.takes_rising()[usize::from(from_host)] != rests_high;
    if let Some(select) = select {
        pen.set(select, words.select == Some(true));
        pen.wait(half);
    }
    let mut level = false;
    for word in bytes.chunks(words.bytes()) {
        let mut padded = word.to_vec();
        padded.resize(words.bytes(), 0);
        let value = match words.is_lsb_first {
            true => padded.iter().rev().fold(0u64, |value, byte| value << 8 | u64::from(*byte)),
            false => padded.iter().fold(0u64, |value, byte| value << 8 | u64::from(*byte)),
        };
        let count = u32::from(words.bits);
        for n in 0..count {
            let bit = value >> (if words.is_lsb_first { n } else { count - 1 - n }) & 1 == 1;
            let mut put = |pen: &mut Pen<'_>| {
                if bit != level {
                    pen.set(wire, bit);
                    level = bit;
                }
            };
            if takes_first {
                put(pen);
            }
            pen.wait(half);
            pen.set(0, !rests_high);
            if !takes_first {
                put(pen);
            }
            pen.wait(half);
            pen.set(0, rests_high);
        }
        pen.wait(half / 2.0);
    }
    pen.wait(half);
    if level {
        pen.set(wire, false);
    }
    if let Some(select) = select {
        pen.set(select, words.select != Some(true));
        pen.wait(2.0 * half);
    } else {
        // Silence ends a frame.
        pen.wait(2.0 * half * 3.0 * f64::from(words.bits.max(4)));
    }
}
