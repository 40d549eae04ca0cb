//! How words stand on the wires of a serial peripheral interface.

use std::fmt;

/// How words stand on the wires of a serial peripheral interface.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct SpiWords {
    /// 0 to 3: the clock rests high in modes 2 and 3, and data are taken at the second edge of a pulse in modes 1 and 3.
    pub mode: u8,
    /// Bits of a word, 1 to 64.
    pub bits: u8,
    /// Whether the least significant bit comes first.
    pub is_lsb_first: bool,
    /// The level of the wire that selects the device, while it does; `None` if there is no such wire.
    pub select: Option<bool>,
    /// Where data from the device and from the host are taken, if not where the mode says it: whether the clock rises there.
    pub edges: [Option<bool>; 2],
    /// A frame has so many words; without it, it ends with the selection, or with silence.
    pub words: Option<u16>,
}

impl Default for SpiWords {
    /// Mode 0, words of 8 bits, most significant bit first, selected by a low level.
    fn default() -> Self {
        Self { mode: 0, bits: 8, is_lsb_first: false, select: Some(false), edges: [None; 2], words: None }
    }
}

impl SpiWords {
    /// Whether data are taken where the clock rises: from the device, from the host.
    pub fn takes_rising(&self) -> [bool; 2] {
        self.edges.map(|edge| edge.unwrap_or(matches!(self.mode, 0 | 3)))
    }

    /// Whether the clock rests high.
    pub fn clock_rests_high(&self) -> bool {
        self.mode >= 2
    }

    /// Bytes that hold a word.
    pub fn bytes(&self) -> usize {
        usize::from(self.bits).div_ceil(8)
    }
}

impl fmt::Display for SpiWords {
    /// What is not as usual, with a blank in front of each word, as a definition says it.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let usual = Self::default();
        if self.mode != usual.mode {
            write!(f, " mode {}", self.mode)?;
        }
        if self.bits != usual.bits {
            write!(f, " word {} {}", self.bits, if self.bits == 1 { "bit" } else { "bits" })?;
        }
        if self.is_lsb_first {
            f.write_str(" lsb first")?;
        }
        match self.select {
            None => f.write_str(" select none")?,
            Some(true) => f.write_str(" select high")?,
            Some(false) => {}
        }
        for (end, edge) in ["device", "host"].into_iter().zip(self.edges) {
            if let Some(rises) = edge {
                write!(f, " {end} edge {}", if rises { "rising" } else { "falling" })?;
            }
        }
        match self.words {
            Some(1) => f.write_str(" frame 1 word"),
            Some(words) => write!(f, " frame {words} words"),
            None => Ok(()),
        }
    }
}
