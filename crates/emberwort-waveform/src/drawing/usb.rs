//! Transactions on a universal serial bus at low and full speed (USB 2.0, chapters 7 and 8).

use emberwort_model::medium::UsbSpeed;
use emberwort_model::medium::usb::{BETWEEN, PacketId, data, stuffed, token};

use super::pen::{Pen, Transfer};

const PLUS: usize = 0;
const MINUS: usize = 1;

/// Draws a transaction that is acknowledged: token, data, handshake. The node is the address, the key the endpoint. Wires: D+, D-.
pub(super) fn draw(pen: &mut Pen<'_>, speed: UsbSpeed, transfer: &Transfer<'_>, toggle: bool) {
    let mut bus = Bus {
        bit: 1e12 / f64::from(speed.bitrate()),
        rest: [speed == UsbSpeed::Full, speed == UsbSpeed::Low],
        is_resting: true,
    };
    let direction = if transfer.from_host { PacketId::Out } else { PacketId::In };
    bus.packet(pen, &token(direction, transfer.node as u8, transfer.key.unwrap_or(0) as u8));
    let toggle = if toggle { PacketId::Data1 } else { PacketId::Data0 };
    bus.packet(pen, &data(toggle, transfer.bytes));
    bus.packet(pen, &[PacketId::Ack.byte()]);
}

struct Bus {
    bit: f64,
    /// Levels at rest.
    rest: [bool; 2],
    is_resting: bool,
}

impl Bus {
    fn set(&self, pen: &mut Pen<'_>, levels: [bool; 2]) {
        pen.set(PLUS, levels[0]);
        pen.set(MINUS, levels[1]);
    }

    /// A bit: a 0 changes the line, a 1 does not.
    fn bit(&mut self, pen: &mut Pen<'_>, bit: bool) {
        if !bit {
            self.is_resting = !self.is_resting;
            self.set(pen, if self.is_resting { self.rest } else { self.rest.map(|level| !level) });
        }
        pen.wait(self.bit);
    }

    fn packet(&mut self, pen: &mut Pen<'_>, bytes: &[u8]) {
        for n in 0..8 {
            self.bit(pen, n == 7);
        }
        for bit in stuffed(bytes) {
            self.bit(pen, bit);
        }
        // Two bits with both wires low, one of rest (section 7.1.13.2).
        for (wire, rest) in [PLUS, MINUS].into_iter().zip(self.rest) {
            if rest == self.is_resting {
                pen.set(wire, false);
            }
        }
        pen.wait(2.0 * self.bit);
        let which = if self.rest[PLUS] { PLUS } else { MINUS };
        pen.set(which, true);
        self.is_resting = true;
        pen.wait((1 + BETWEEN) as f64 * self.bit);
    }
}
