//! Serial peripheral interfaces: a clock, data both ways, and a wire that selects the device.

use emberwort_model::medium::SpiWords;

use super::byte::LineByte;
use crate::wave::Moment;

/// Whether data are taken where the clock rises.
fn takes_rising(words: SpiWords) -> bool {
    matches!(words.mode, 0 | 3)
}

/// What was seen beside the bytes.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Seen {
    /// Whole words, of each wire with data alike.
    pub words: u64,
    /// Edges at which data were taken.
    pub clocks: u64,
    /// Frames that ended inside of a word: the first moment, and how many.
    pub halves: Option<(Moment, u64)>,
    /// How often the device was selected.
    pub selected: u64,
}

/// A receiver of one interface, fed with the edges of its wires.
#[derive(Clone, Debug)]
pub struct Spi {
    words: SpiWords,
    clock: Option<bool>,
    /// Whether the device is selected; without such a wire it always is.
    is_selected: bool,
    has_select: bool,
    /// A clock that rests for so many picoseconds ends a frame where no wire selects.
    silence: u64,
    /// Levels of the data wires: from the device, from the host.
    data: [Option<bool>; 2],
    shifted: [u64; 2],
    bits: u32,
    /// When the first bit of the word at hand was taken.
    start: Moment,
    /// The last edge at which data were taken.
    last: Moment,
    /// What was seen.
    pub seen: Seen,
}

/// What an edge of an interface brings.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Event {
    /// A word of each wire, from the device and from the host, and when its first and its last bit were taken.
    Word([u64; 2], Moment, Moment),
    /// A frame is over.
    End,
}

impl Spi {
    /// For words of this form and a clock in hertz. Without a wire that selects, a frame is over when the clock rests for two words.
    pub fn new(words: SpiWords, hertz: u32) -> Self {
        let has_select = words.select.is_some();
        Self {
            words,
            clock: None,
            is_selected: !has_select,
            has_select,
            silence: 2 * u64::from(words.bits) * 1_000_000_000_000 / u64::from(hertz.max(1)),
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

    /// The select wire has another level.
    pub fn select(&mut self, at: Moment, level: Option<bool>, out: &mut impl FnMut(Event)) {
        let is_selected = level.is_some() && level == self.words.select;
        if !self.has_select || is_selected == self.is_selected {
            return;
        }
        if is_selected {
            self.seen.selected += 1;
        } else {
            self.end(at, out);
        }
        (self.is_selected, self.bits, self.shifted) = (is_selected, 0, [0; 2]);
    }

    /// A frame is over: the wire says so, or silence, or the end of the waveform.
    pub fn end(&mut self, at: Moment, out: &mut impl FnMut(Event)) {
        if self.bits > 0 {
            let (_, count) = self.seen.halves.unwrap_or((at, 0));
            self.seen.halves = Some((self.seen.halves.map_or(at, |(first, _)| first), count + 1));
            (self.bits, self.shifted) = (0, [0; 2]);
        }
        out(Event::End);
    }

    /// The clock has another level.
    pub fn clock(&mut self, at: Moment, level: Option<bool>, out: &mut impl FnMut(Event)) {
        let before = std::mem::replace(&mut self.clock, level);
        let (Some(before), Some(level)) = (before, level) else { return };
        if before == level || level != takes_rising(self.words) || !self.is_selected {
            return;
        }
        if !self.has_select && self.seen.clocks > 0 && at.since(self.last) >= self.silence {
            self.end(at, out);
        }
        self.seen.clocks += 1;
        if self.bits == 0 {
            self.start = at;
        }
        for (shifted, data) in self.shifted.iter_mut().zip(self.data) {
            let bit = u64::from(data == Some(true));
            *shifted = match self.words.is_lsb_first {
                true => *shifted | bit << self.bits,
                false => *shifted << 1 | bit,
            };
        }
        self.last = at;
        self.bits += 1;
        if self.bits == u32::from(self.words.bits) {
            self.bits = 0;
            self.seen.words += 1;
            out(Event::Word(std::mem::take(&mut self.shifted), self.start, at));
        }
    }
}

/// The bytes of a word, in the order in which its bits come.
pub fn bytes(words: SpiWords, word: u64, start: Moment, end: Moment) -> impl Iterator<Item = LineByte> {
    let count = usize::from(words.bits).div_ceil(8);
    let all = word.to_be_bytes();
    (0..count).map(move |n| {
        let byte = if words.is_lsb_first { all[7 - n] } else { all[8 - count + n] };
        LineByte { byte, start, end }
    })
}
