//! Characters of an asynchronous serial line.

use emberwort_model::medium::UartFormat;

use super::pen::Pen;

/// Draws characters; bits that a byte has beyond the data bits are not sent.
pub(super) fn draw(pen: &mut Pen<'_>, format: &UartFormat, wire: usize, bytes: &[u8]) {
    let bit = 1e12 / f64::from(format.baud);
    let data_bits = u32::from(format.data_bits);
    for byte in bytes {
        let data = u32::from(*byte) & ((1 << data_bits) - 1);
        let in_order = if format.is_msb_first { data.reverse_bits() >> (32 - data_bits) } else { data };
        let mut level = true;
        let mut send = |pen: &mut Pen<'_>, bit_level: bool, duration: f64| {
            if bit_level != level {
                pen.set(wire, bit_level != format.rests_low);
                level = bit_level;
            }
            pen.wait(duration);
        };
        send(pen, false, bit);
        for n in 0..data_bits {
            send(pen, in_order >> n & 1 == 1, bit);
        }
        if format.has_parity() {
            send(pen, format.parity_bit(data), bit);
        }
        send(pen, true, bit * f64::from(format.stop_halves) / 2.0);
    }
}
