//! How characters stand on an asynchronous serial line.

use std::fmt;

/// How characters stand on an asynchronous serial line.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct UartFormat {
    /// Bits a second.
    pub baud: u32,
    /// Data bits, 5 to 9. Of nine the last one is no part of a byte: it is sent as 0.
    pub data_bits: u8,
    /// `N` none, `E` even, `O` odd, `M` mark (always 1), `S` space (always 0).
    pub parity: char,
    /// Stop bits in halves: 2, 3 or 4.
    pub stop_halves: u8,
    /// Whether the line is low at rest.
    pub rests_low: bool,
    /// Whether the most significant bit comes first.
    pub is_msb_first: bool,
}

impl UartFormat {
    /// Characters of 8 data bits, no parity and one stop bit.
    pub const fn usual(baud: u32) -> Self {
        Self { baud, data_bits: 8, parity: 'N', stop_halves: 2, rests_low: false, is_msb_first: false }
    }

    /// Half bits of a character: a start bit, the data bits, a parity bit if there is one, the stop bits.
    pub fn halves(&self) -> u32 {
        2 + 2 * u32::from(self.data_bits) + 2 * u32::from(self.has_parity()) + u32::from(self.stop_halves)
    }

    /// Whether there is a parity bit.
    pub fn has_parity(&self) -> bool {
        self.parity != 'N'
    }

    /// The parity bit for some data bits.
    pub fn parity_bit(&self, data: u32) -> bool {
        match self.parity {
            'E' => data.count_ones() % 2 == 1,
            'O' => data.count_ones().is_multiple_of(2),
            'M' => true,
            _ => false,
        }
    }

    /// `8N1`.
    pub fn characters(&self) -> String {
        let stop = match self.stop_halves {
            3 => "1.5",
            4 => "2",
            _ => "1",
        };
        format!("{}{}{stop}", self.data_bits, self.parity)
    }

    /// Whether its characters arrive at a receiver that is set up for another format. It may look at fewer stop bits.
    pub fn is_heard_by(&self, receiver: &Self) -> bool {
        let alike = Self { stop_halves: receiver.stop_halves, ..*self };
        alike == *receiver && self.stop_halves >= receiver.stop_halves
    }
}

impl fmt::Display for UartFormat {
    /// As a definition says it: `115200 8N1 resting low msb first`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}", self.baud, self.characters())?;
        if self.rests_low {
            f.write_str(" resting low")?;
        }
        if self.is_msb_first {
            f.write_str(" msb first")?;
        }
        Ok(())
    }
}
