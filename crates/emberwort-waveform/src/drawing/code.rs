//! Frames of bits on a line of one wire whose code is spelled out.

use emberwort_model::medium::{BitCode, LineCode, Pulse};

use super::pen::Pen;

/// The one wire.
const WIRE: usize = 0;

/// Draws a frame from the level of the line on, and the rest behind it that ends it. Returns the level at which it rests.
pub(super) fn draw(pen: &mut Pen<'_>, code: &LineCode, level: bool, bytes: &[u8]) -> bool {
    let mut line = Line { level };
    let bits = bits(code, bytes);
    let bit_time = code.bit_picoseconds() as f64;
    match code.bits {
        BitCode::Nrz { .. } => {
            for bit in bits {
                line.become_level(pen, bit);
                pen.wait(bit_time);
            }
        }
        BitCode::Nrzi { toggles, stuff, .. } => {
            let mut held = 0;
            for bit in bits {
                if bit == toggles {
                    line.toggle(pen);
                    held = 0;
                } else {
                    held += 1;
                }
                pen.wait(bit_time);
                if stuff == Some(held) {
                    line.toggle(pen);
                    pen.wait(bit_time);
                    held = 0;
                }
            }
        }
        BitCode::Manchester { one_rises, .. } => {
            for bit in bits {
                line.become_level(pen, bit != one_rises);
                pen.wait(bit_time / 2.0);
                line.toggle(pen);
                pen.wait(bit_time / 2.0);
            }
        }
        BitCode::Differential { splits, .. } => {
            for bit in bits {
                line.toggle(pen);
                pen.wait(bit_time / 2.0);
                if bit == splits {
                    line.toggle(pen);
                }
                pen.wait(bit_time / 2.0);
            }
        }
        BitCode::Pulse { what, zero, one } => {
            let pause = code.pause_picoseconds() as f64;
            let middle = |(least, most): (u64, u64)| (least + most) as f64 * 500.0;
            let shortest = middle(zero).min(middle(one));
            // The edge that begins the first bit leads away from the level at rest, or comes behind one that does.
            if matches!((what, code.rests_high), (Pulse::Rising, true) | (Pulse::Falling, false)) {
                line.toggle(pen);
                pen.wait(shortest / 2.0);
            }
            for bit in &bits {
                let own = middle(if *bit { one } else { zero });
                match what {
                    Pulse::High | Pulse::Low => {
                        let says = what == Pulse::High;
                        // The level that says something is the one away from rest, or comes behind a pause.
                        if code.rests_high == says {
                            line.become_level(pen, !says);
                            pen.wait(pause);
                        }
                        line.become_level(pen, says);
                        pen.wait(own);
                        if code.rests_high != says {
                            line.become_level(pen, !says);
                            pen.wait(pause);
                        }
                    }
                    Pulse::Rising | Pulse::Falling => {
                        line.become_level(pen, what == Pulse::Rising);
                        pen.wait(own / 2.0);
                        line.become_level(pen, what == Pulse::Falling);
                        pen.wait(own / 2.0);
                    }
                    Pulse::Half => {
                        line.toggle(pen);
                        pen.wait(own);
                        line.toggle(pen);
                        pen.wait(own);
                    }
                }
            }
            // What ends the last bit.
            match what {
                Pulse::High | Pulse::Low => {
                    if code.rests_high == (what == Pulse::High) {
                        line.become_level(pen, !code.rests_high);
                        pen.wait(pause);
                    }
                }
                Pulse::Rising | Pulse::Falling => {
                    line.become_level(pen, what == Pulse::Rising);
                    pen.wait(shortest / 2.0);
                }
                Pulse::Half => {
                    // Half a bit, so that it is none.
                    line.toggle(pen);
                    pen.wait(shortest);
                }
            }
        }
    }
    // Where changes are bits, one that is none would be read.
    if !matches!(code.bits, BitCode::Nrzi { .. }) {
        line.become_level(pen, code.rests_high);
    }
    // A little more than receivers wait for.
    pen.wait(1.5 * code.silence_picoseconds() as f64);
    line.level
}

/// The bits of a frame.
fn bits(code: &LineCode, bytes: &[u8]) -> Vec<bool> {
    let frame = code.frame;
    let mut bits = Vec::new();
    if let Some((count, bit)) = frame.preamble {
        bits.extend((0..count).map(|_| bit));
    }
    for byte in bytes {
        bits.extend(frame.start);
        bits.extend((0..8).map(|n| byte >> (if frame.is_lsb_first { n } else { 7 - n }) & 1 == 1));
    }
    bits.extend(frame.end);
    bits
}

struct Line {
    level: bool,
}

impl Line {
    fn become_level(&mut self, pen: &mut Pen<'_>, level: bool) {
        if self.level != level {
            self.toggle(pen);
        }
    }

    fn toggle(&mut self, pen: &mut Pen<'_>) {
        self.level = !self.level;
        pen.set(WIRE, self.level);
    }
}
