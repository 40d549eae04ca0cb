//! Transfers on a two-wire bus (UM10204).

use super::pen::{Pen, Transfer};

const CLOCK: usize = 0;
const DATA: usize = 1;

/// Draws a transfer to a node, or from it. Addresses beyond 7 bits are those of 10. Wires: clock, data.
pub(super) fn draw(pen: &mut Pen<'_>, hertz: u32, transfer: &Transfer<'_>) {
    let quarter = 2.5e11 / f64::from(hertz.max(1));
    let mut bus = Bus { quarter, data: true };
    let reads = !transfer.from_host;
    bus.start(pen);
    if transfer.node > 0x7F {
        let first = 0b1111_0000 | (transfer.node >> 7 & 0b110) as u8;
        bus.byte(pen, first, true);
        bus.byte(pen, transfer.node as u8, true);
        if reads {
            bus.again(pen);
            bus.byte(pen, first | 1, true);
        }
    } else {
        bus.byte(pen, (transfer.node as u8) << 1 | u8::from(reads), true);
    }
    for (n, byte) in transfer.bytes.iter().enumerate() {
        // The host ends what it reads by not acknowledging the last byte.
        bus.byte(pen, *byte, !reads || n + 1 < transfer.bytes.len());
    }
    bus.stop(pen);
}

struct Bus {
    quarter: f64,
    data: bool,
}

impl Bus {
    fn put(&mut self, pen: &mut Pen<'_>, level: bool) {
        if self.data != level {
            self.data = level;
            pen.set(DATA, level);
        }
    }

    fn start(&mut self, pen: &mut Pen<'_>) {
        self.put(pen, false);
        pen.wait(2.0 * self.quarter);
        pen.set(CLOCK, false);
        pen.wait(self.quarter);
    }

    /// A repeated start.
    fn again(&mut self, pen: &mut Pen<'_>) {
        self.put(pen, true);
        pen.wait(self.quarter);
        pen.set(CLOCK, true);
        pen.wait(2.0 * self.quarter);
        self.start(pen);
    }

    fn bit(&mut self, pen: &mut Pen<'_>, bit: bool) {
        self.put(pen, bit);
        pen.wait(self.quarter);
        pen.set(CLOCK, true);
        pen.wait(2.0 * self.quarter);
        pen.set(CLOCK, false);
        pen.wait(self.quarter);
    }

    fn byte(&mut self, pen: &mut Pen<'_>, byte: u8, is_acknowledged: bool) {
        for n in (0..8).rev() {
            self.bit(pen, byte >> n & 1 == 1);
        }
        self.bit(pen, !is_acknowledged);
    }

    fn stop(&mut self, pen: &mut Pen<'_>) {
        self.put(pen, false);
        pen.wait(self.quarter);
        pen.set(CLOCK, true);
        pen.wait(2.0 * self.quarter);
        self.put(pen, true);
        // The bus is free for longer than half a period.
        pen.wait(4.0 * self.quarter);
    }
}
