//! Serial peripheral interfaces: a clock, data both ways, and a wire that selects the device.

use super::LineByte;
use crate::wave::Moment;

/// How words stand on the line.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Format {
    /// 0 to 3: bit 1 is the resting level of the clock, bit 0 says that data are taken at the second edge of a pulse.
    pub mode: u8,
}

impl Format {
    /// Whether data are taken where the clock rises.
    fn takes_rising(self) -> bool {
        matches!(self.mode, 0 | 3)
    }
}

/// What was seen beside the bytes.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Seen {
    /// Whole bytes, of each wire with data alike.
    pub bytes: u64,
    /// Edges at which data were taken.
    pub clocks: u64,
    /// Frames that ended inside of a byte: the first moment, and how many.
    pub halves: Option<(Moment, u64)>,
    /// How often the device was selected.
    pub selected: u64,
}

/// A receiver of one interface, fed with the edges of its wires.
#[derive(Clone, Debug)]
pub struct Spi {
    format: Format,
    clock: Option<bool>,
    /// Whether the device is selected; without such a wire it always is.
    is_selected: bool,
    has_select: bool,
    /// Levels of the data wires: from the device, from the host.
    data: [Option<bool>; 2],
    shifted: [u8; 2],
    bits: u32,
    /// When the first bit of the byte at hand was taken.
    start: Moment,
    /// The last edge at which data were taken.
    last: Moment,
    /// What was seen.
    pub seen: Seen,
}

/// What an edge of an interface brings.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Event {
    /// A byte of each wire: from the device, from the host.
    Bytes(LineByte, LineByte),
    /// A frame is over.
    End,
}

impl Spi {
    /// For a format.
    pub fn new(format: Format, has_select: bool) -> Self {
        Self {
            format,
            clock: None,
            is_selected: !has_select,
            has_select,
            data: [None; 2],
            shifted: [0; 2],
            bits: 0,
            start: Moment::default(),
            last: Moment::default(),
            seen: Seen::default(),
        }
    }

    /// The wire from the device, or from the host, has another level.
    pub fn data(&mut self, from_host: bool, level: Option<bool>) {
        self.data[usize::from(from_host)] = level;
    }

    /// The select wire, which is low where the device is meant.
    pub fn select(&mut self, at: Moment, level: Option<bool>, out: &mut impl FnMut(Event)) {
        let is_selected = level == Some(false);
        if !self.has_select || is_selected == self.is_selected {
            return;
        }
        if is_selected {
            self.seen.selected += 1;
        } else {
            self.end(at, out);
        }
        (self.is_selected, self.bits) = (is_selected, 0);
    }

    /// A frame is over: the wire says so, or silence, or the end of the waveform.
    pub fn end(&mut self, at: Moment, out: &mut impl FnMut(Event)) {
        if self.bits > 0 {
            let (_, count) = self.seen.halves.unwrap_or((at, 0));
            self.seen.halves = Some((self.seen.halves.map_or(at, |(first, _)| first), count + 1));
            self.bits = 0;
        }
        out(Event::End);
    }

    /// The clock has another level.
    pub fn clock(&mut self, at: Moment, level: Option<bool>, out: &mut impl FnMut(Event)) {
        let before = std::mem::replace(&mut self.clock, level);
        let (Some(before), Some(level)) = (before, level) else { return };
        if before == level || level != self.format.takes_rising() || !self.is_selected {
            return;
        }
        self.seen.clocks += 1;
        if self.bits == 0 {
            self.start = at;
        }
        for (shifted, data) in self.shifted.iter_mut().zip(self.data) {
            *shifted = *shifted << 1 | u8::from(data == Some(true));
        }
        self.last = at;
        self.bits += 1;
        if self.bits == 8 {
            self.bits = 0;
            self.seen.bytes += 1;
            let byte = |byte: u8| LineByte { byte, start: self.start, end: at };
            out(Event::Bytes(byte(self.shifted[0]), byte(self.shifted[1])));
        }
    }
}
