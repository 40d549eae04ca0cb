//! How bits stand on a line of one wire whose code is spelled out, and how its frames are made of bits.

use std::fmt;

/// A line of one wire.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct LineCode {
    /// How bits stand on it.
    pub bits: BitCode,
    /// How frames are made of bits.
    pub frame: BitFrame,
    /// Whether it is high at rest.
    pub rests_high: bool,
}

/// How bits stand on a line.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum BitCode {
    /// A level for each bit: high is 1 (NRZ-L of ANSI/INCITS and CCSDS 401).
    Nrz {
        /// Bits a second.
        bitrate: u32,
    },
    /// One of the bits changes the level at its start, the other one keeps it.
    Nrzi {
        /// Bits a second.
        bitrate: u32,
        /// The bit that changes the level.
        toggles: bool,
        /// Behind so many bits in sequence that keep the level, one that changes it is put in.
        stuff: Option<u8>,
    },
    /// The level changes in the middle of each bit.
    Manchester {
        /// Bits a second.
        bitrate: u32,
        /// Whether it rises there for a 1 (IEEE 802.3) or falls (G. E. Thomas).
        one_rises: bool,
    },
    /// The level changes between all bits; one of the bits changes it in its middle, too.
    Differential {
        /// Bits a second.
        bitrate: u32,
        /// The bit that changes the level in its middle.
        splits: bool,
    },
    /// How long something lasts says which bit it is.
    Pulse {
        /// What lasts.
        what: Pulse,
        /// The shortest and the longest of a 0, in nanoseconds.
        zero: (u64, u64),
        /// The shortest and the longest of a 1, in nanoseconds.
        one: (u64, u64),
    },
}

/// What of a pulse says which bit it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Pulse {
    /// How long the line is high.
    High,
    /// How long it is low.
    Low,
    /// From one rising edge to the next.
    Rising,
    /// From one falling edge to the next.
    Falling,
    /// Each of the two halves of a bit, whichever level it has.
    Half,
}

impl Pulse {
    /// All of them, with their words.
    pub const ALL: [(&str, Self); 5] = [
        ("high", Self::High),
        ("low", Self::Low),
        ("rising", Self::Rising),
        ("falling", Self::Falling),
        ("half", Self::Half),
    ];
}

/// How frames are made of bits.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct BitFrame {
    /// At least so many of this bit come first.
    pub preamble: Option<(u16, bool)>,
    /// The bit in front of each byte.
    pub start: Option<bool>,
    /// The bit behind the last byte.
    pub end: Option<bool>,
    /// Whether the least significant bit of a byte comes first.
    pub is_lsb_first: bool,
}

impl LineCode {
    /// Why a receiver could not tell where frames begin and end, and what to write, if it could not.
    pub fn cannot_be_read(&self) -> Option<(&'static str, &'static str)> {
        let BitFrame { preamble, start, end, .. } = self.frame;
        let of = preamble.map(|(_, bit)| bit);
        if preamble.is_some() && start.is_none() {
            return Some((
                "a preamble needs a start bit, which says where it is over",
                "write `preamble 16 of 1 start 0`",
            ));
        }
        if of.is_some() && of == start {
            return Some((
                "the start bit has to differ from the bits of the preamble",
                "write `preamble 16 of 1 start 0`",
            ));
        }
        if end.is_some() && (start.is_none() || end == start) {
            return Some((
                "an end bit stands where another start bit could, so it has to be the other one",
                "write `start 0 end 1`",
            ));
        }
        let rest = match self.bits {
            BitCode::Nrz { .. } | BitCode::Nrzi { .. } => self.bit_at_rest().unwrap_or(false),
            BitCode::Manchester { .. } if start.is_none() => {
                return Some((
                    "without a start bit a receiver of a Manchester code cannot tell where bits begin",
                    "write `start 0` or `start 1`",
                ));
            }
            BitCode::Manchester { .. } | BitCode::Differential { .. } | BitCode::Pulse { .. } => return None,
        };
        match (of.or(start), start) {
            (None, _) => Some((
                "a receiver of this code needs a start bit to see where a frame begins",
                "write `start 0` or `start 1`",
            )),
            (Some(first), _) if first == rest => Some((
                "the first bit of a frame is the one as which a resting line is read, so nobody sees it begin",
                "write the other bit for the preamble, or for `start` without a preamble",
            )),
            (_, Some(start)) if start == rest && end.is_none() => Some((
                "a line that rests is read as more start bits, so a frame needs an end bit",
                "write `end 0` or `end 1`, the other bit than that of `start`",
            )),
            _ => None,
        }
    }

    /// The bit as which a resting line is read, if it is read as one.
    pub fn bit_at_rest(&self) -> Option<bool> {
        match self.bits {
            BitCode::Nrz { .. } => Some(self.rests_high),
            BitCode::Nrzi { toggles, .. } => Some(!toggles),
            BitCode::Manchester { .. } | BitCode::Differential { .. } | BitCode::Pulse { .. } => None,
        }
    }

    /// How long a bit takes on average over 0 and 1, in picoseconds.
    pub fn bit_picoseconds(&self) -> u64 {
        match self.bits {
            BitCode::Nrz { bitrate }
            | BitCode::Nrzi { bitrate, .. }
            | BitCode::Manchester { bitrate, .. }
            | BitCode::Differential { bitrate, .. } => 1_000_000_000_000 / u64::from(bitrate.max(1)),
            BitCode::Pulse { .. } => (self.pulse_picoseconds(false) + self.pulse_picoseconds(true)) / 2,
        }
    }

    /// How long a bit of a pulse code takes as it is sent, in picoseconds; 0 for other codes.
    pub(crate) fn pulse_picoseconds(&self, bit: bool) -> u64 {
        let BitCode::Pulse { what, zero, one } = self.bits else { return 0 };
        let middle = |(least, most): (u64, u64)| (least + most) * 500;
        let own = middle(if bit { one } else { zero });
        match what {
            // The other level lasts as long as the shorter of the two.
            Pulse::High | Pulse::Low => own + self.pause_picoseconds(),
            Pulse::Rising | Pulse::Falling => own,
            Pulse::Half => 2 * own,
        }
    }

    /// How long the level lasts that says nothing, in picoseconds; 0 where each says something.
    pub fn pause_picoseconds(&self) -> u64 {
        match self.bits {
            BitCode::Pulse { what: Pulse::High | Pulse::Low, zero, one } => (zero.0 + zero.1).min(one.0 + one.1) * 500,
            _ => 0,
        }
    }

    /// A line that rests for so many picoseconds ends a frame.
    pub fn silence_picoseconds(&self) -> u64 {
        match self.bits {
            BitCode::Pulse { zero, one, .. } => 1500 * zero.1.max(one.1),
            BitCode::Nrzi { stuff: Some(stuff), .. } => (u64::from(stuff) + 3) * self.bit_picoseconds(),
            // A byte of equal bits changes nothing on the line.
            BitCode::Nrz { .. } | BitCode::Nrzi { .. } => 20 * self.bit_picoseconds(),
            BitCode::Manchester { .. } | BitCode::Differential { .. } => 3 * self.bit_picoseconds(),
        }
    }

    /// Bits of a frame of so many bytes.
    pub(crate) fn bits_of(&self, bytes: u64) -> u64 {
        let each = 8 + u64::from(self.frame.start.is_some());
        self.frame.preamble.map_or(0, |(count, _)| u64::from(count))
            + bytes * each
            + u64::from(self.frame.end.is_some())
    }
}

/// A duration in the greatest unit in which it is a whole number.
struct Duration(u64);

impl fmt::Display for Duration {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.0 {
            0 => f.write_str("0 ns"),
            ns if ns % 1_000_000 == 0 => write!(f, "{} ms", ns / 1_000_000),
            ns if ns % 1_000 == 0 => write!(f, "{} us", ns / 1_000),
            ns => write!(f, "{ns} ns"),
        }
    }
}

fn bitrate_text(bitrate: u32) -> String {
    super::speed_text(bitrate, "bit/s")
}

fn digit(bit: bool) -> char {
    if bit { '1' } else { '0' }
}

impl fmt::Display for LineCode {
    /// As a definition says it, without the word `line` in front.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.bits {
            BitCode::Nrz { bitrate } => write!(f, "{} nrz", bitrate_text(bitrate))?,
            BitCode::Nrzi { bitrate, toggles, stuff } => {
                write!(f, "{} nrzi {} toggles", bitrate_text(bitrate), digit(toggles))?;
                if let Some(stuff) = stuff {
                    write!(f, " stuff {stuff}")?;
                }
            }
            BitCode::Manchester { bitrate, one_rises } => {
                let way = if one_rises { "rises" } else { "falls" };
                write!(f, "{} manchester 1 {way}", bitrate_text(bitrate))?;
            }
            BitCode::Differential { bitrate, splits } => {
                write!(f, "{} manchester differential {} splits", bitrate_text(bitrate), digit(splits))?;
            }
            BitCode::Pulse { what, zero, one } => {
                let word = Pulse::ALL.iter().find(|(_, known)| *known == what).map_or("", |(word, _)| word);
                write!(f, "pulse {word}")?;
                for (bit, (least, most)) in [(false, zero), (true, one)] {
                    write!(f, " {} {} .. {}", digit(bit), Duration(least), Duration(most))?;
                }
            }
        }
        let frame = self.frame;
        if let Some((count, bit)) = frame.preamble {
            write!(f, " preamble {count} of {}", digit(bit))?;
        }
        for (word, bit) in [("start", frame.start), ("end", frame.end)] {
            if let Some(bit) = bit {
                write!(f, " {word} {}", digit(bit))?;
            }
        }
        if frame.is_lsb_first {
            f.write_str(" lsb first")?;
        }
        if self.rests_high { f.write_str(" resting high") } else { Ok(()) }
    }
}
