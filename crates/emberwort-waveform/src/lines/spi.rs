//! Serial peripheral interfaces: a clock, data both ways, and wires that select a device.

use emberwort_model::medium::SpiWords;

use super::event::{Count, Event, From, Levels, LineByte};
use crate::wave::Moment;

/// Which wire is which, by their place in the wiring.
#[derive(Clone, Debug, Default)]
pub struct Pins {
    /// The clock.
    pub clock: usize,
    /// Those that select a device, with its node if that is said.
    pub selects: Vec<(usize, Option<u64>)>,
    /// Data: from the device, from the host.
    pub data: [Option<usize>; 2],
}

/// What was seen beside the bytes.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SpiObservations {
    /// Whole words of each wire with data.
    pub words: [u64; 2],
    /// How often the clock changed.
    pub clocks: u64,
    /// Changes of the clock while a device was selected.
    pub selected_clocks: u64,
    /// Frames that ended inside of a word, and the bits of the first such word.
    pub halves: Count,
    /// The bits of the first half word, and how many.
    pub half: (u64, u32),
    /// How often a device was selected.
    pub selected: u64,
    /// How often two devices were selected at once.
    pub both: Count,
    /// Whether the recording begins inside of a frame, which is left out.
    pub begins_inside: bool,
    /// Bits of data that were neither low nor high.
    pub unknown: Count,
    /// Changes of data shortly behind an edge at which they are taken, and shortly behind the other one, of each wire.
    pub changes: [[u64; 2]; 2],
    /// The shortest and the longest time between words of a frame, in picoseconds, from the last edge to the first one.
    pub between_words: Option<(u64, u64)>,
    /// The shortest and the longest time between frames, in picoseconds, from the last edge to the first one.
    pub between_frames: Option<(u64, u64)>,
    /// The shortest time from one edge of the clock to the next one of its kind, in picoseconds.
    pub period: Option<u64>,
}

fn widen(range: &mut Option<(u64, u64)>, value: u64) {
    *range = Some(range.map_or((value, value), |(least, most)| (least.min(value), most.max(value))));
}

/// The words of one wire.
#[derive(Clone, Copy, Debug, Default)]
struct Shifter {
    word: u64,
    bits: u32,
    /// Words of the frame at hand.
    words: u32,
    /// When the first bit of the word at hand was taken, and the last one of all.
    start: Moment,
    last: Option<Moment>,
}

/// A receiver of one interface, fed with the levels of its wires.
#[derive(Clone, Debug)]
pub struct Spi {
    words: SpiWords,
    pins: Pins,
    /// A clock that rests for so many picoseconds ends a frame where no wire selects, and drops half a word.
    silence: u64,
    /// Half a period of the clock, in picoseconds.
    half_period: u64,
    shifters: [Shifter; 2],
    /// Bits of each wire that are left out at the beginning.
    skip: [u32; 2],
    /// The last edge of the clock, whether it rose there, and the last one that did.
    last_edge: Option<(Moment, bool)>,
    last_rise: Option<Moment>,
    /// When the last bit of a frame was taken, until the next frame begins.
    frame_ended: Option<Moment>,
    /// When the device at hand was selected, or its clock first ticked.
    selected: Option<Moment>,
    /// The beginning of the recording, and whether a device was seen to be selected since: one that is selected from the first moment on
    /// may have been so before.
    beginning: Option<Moment>,
    saw_select: bool,
    /// Whether the beginning of the frame at hand is missing, so that nobody knows where its words begin.
    is_cut: bool,
    /// What was seen.
    pub observed: SpiObservations,
}

/// The two senders.
const ENDS: [From; 2] = [From::Device, From::Host];

impl Spi {
    /// For words of this form and a clock in hertz. Without a wire that selects, a frame is over when the clock rests for two words.
    /// `skip` bits at the beginning are left out.
    pub fn new(words: SpiWords, hertz: u32, pins: Pins, skip: u32) -> Self {
        let period = 1_000_000_000_000 / u64::from(hertz.max(1));
        Self {
            words,
            pins,
            silence: 2 * u64::from(words.bits).max(4) * period,
            half_period: period / 2,
            shifters: Default::default(),
            skip: [skip; 2],
            last_edge: None,
            last_rise: None,
            frame_ended: None,
            selected: None,
            beginning: None,
            saw_select: false,
            is_cut: false,
            observed: SpiObservations::default(),
        }
    }

    /// The wire that selects, by its place among those that do; `Err` if two do.
    fn selected(&self, levels: &Levels) -> Result<Option<usize>, ()> {
        if self.pins.selects.is_empty() {
            return Ok(Some(usize::MAX));
        }
        let is_active =
            |(wire, _): &(usize, Option<u64>)| levels[*wire].is_some() && levels[*wire] == self.words.select;
        let mut active = (0..self.pins.selects.len()).filter(|at| is_active(&self.pins.selects[*at]));
        let first = active.next();
        if active.next().is_some() { Err(()) } else { Ok(first) }
    }

    /// At a moment some levels became others.
    pub fn step(&mut self, at: Moment, before: &Levels, after: &Levels, out: &mut Vec<Event>) {
        let (was, is) = (self.selected(before), self.selected(after));
        if is.is_err() && was.is_ok() {
            self.observed.both.add(at);
        }
        let (was, is) = (was.ok().flatten(), is.ok().flatten());
        self.beginning.get_or_insert(at);
        if was.is_none()
            && let Some(select) = is
        {
            self.saw_select |= self.pins.selects.get(select).is_some_and(|(wire, _)| before[*wire].is_some());
            self.begin(at);
        }
        let clock = self.pins.clock;
        if let (Some(old), Some(new)) = (before[clock], after[clock])
            && old != new
        {
            self.clock(at, new, was.or(is), before, out);
        }
        for (end, wire) in self.pins.data.into_iter().enumerate() {
            if let (Some(wire), Some((edge, rose))) = (wire, self.last_edge)
                && before[wire] != after[wire]
                && at.since(edge) < self.half_period
                && is.is_some()
            {
                let is_taken = rose == self.words.takes_rising()[end];
                self.observed.changes[end][usize::from(!is_taken)] += 1;
            }
        }
        if let (Some(old), false) = (was, was == is) {
            self.end(at, self.node(old), out);
            if is.is_some() {
                self.begin(at);
            }
        }
    }

    fn begin(&mut self, at: Moment) {
        self.observed.selected += 1;
        self.selected = Some(at);
        self.shifters = Default::default();
    }

    fn node(&self, select: usize) -> Option<u64> {
        self.pins.selects.get(select).and_then(|(_, node)| *node)
    }

    fn clock(&mut self, at: Moment, rises: bool, select: Option<usize>, before: &Levels, out: &mut Vec<Event>) {
        self.observed.clocks += 1;
        self.last_edge = Some((at, rises));
        if rises && let Some(last) = self.last_rise.replace(at) {
            self.observed.period = Some(self.observed.period.unwrap_or(u64::MAX).min(at.since(last)));
        }
        let Some(select) = select else { return };
        self.observed.selected_clocks += 1;
        // Inside of a word the clock rests for no longer than this. Who says how many bits to skip knows where words begin.
        if self.observed.selected_clocks == 1
            && !self.saw_select
            && self.skip == [0; 2]
            && self.beginning.is_some_and(|beginning| at.since(beginning) < 4 * self.half_period)
        {
            (self.is_cut, self.observed.begins_inside) = (true, true);
        }
        let last = self.shifters.iter().filter_map(|shifter| shifter.last).max();
        if last.is_some_and(|last| at.since(last) >= self.silence) {
            if self.pins.selects.is_empty() {
                self.end(at, None, out);
            } else {
                (0..2).for_each(|end| self.drop_half(end, at));
                self.is_cut = false;
            }
        }
        self.selected.get_or_insert(at);
        let bits = u32::from(self.words.bits);
        for (end, from) in ENDS.into_iter().enumerate() {
            let Some(wire) = self.pins.data[end] else { continue };
            if rises != self.words.takes_rising()[end] {
                continue;
            }
            if self.skip[end] > 0 {
                self.skip[end] -= 1;
                self.shifters[end].last = Some(at);
                continue;
            }
            if before[wire].is_none() {
                self.observed.unknown.add(at);
            }
            let shifter = &mut self.shifters[end];
            if shifter.bits == 0 {
                if let (Some(last), true) = (shifter.last, shifter.words > 0) {
                    widen(&mut self.observed.between_words, at.since(last));
                } else if let Some(ended) = self.frame_ended.take() {
                    widen(&mut self.observed.between_frames, at.since(ended));
                }
                shifter.start = at;
            }
            let bit = u64::from(before[wire] == Some(true));
            shifter.word = match self.words.is_lsb_first {
                true => shifter.word | bit << shifter.bits,
                false => shifter.word << 1 | bit,
            };
            shifter.last = Some(at);
            shifter.bits += 1;
            if shifter.bits == bits {
                let (word, start) = (std::mem::take(&mut shifter.word), shifter.start);
                shifter.bits = 0;
                shifter.words += 1;
                self.observed.words[end] += 1;
                if self.is_cut {
                    continue;
                }
                out.extend(bytes(self.words, word, start, at).map(|byte| Event::Byte(from, byte)));
                if Some(shifter.words) == self.words.words.map(u32::from) {
                    shifter.words = 0;
                    self.frame_ended = Some(at);
                    out.push(Event::Packet { from, key: None, node: self.node(select) });
                }
            }
        }
    }

    fn drop_half(&mut self, end: usize, at: Moment) {
        let shifter = &mut self.shifters[end];
        if shifter.bits > 0 && !self.is_cut {
            if !self.observed.halves.any() {
                self.observed.half = (shifter.word, shifter.bits);
            }
            self.observed.halves.add(at);
        }
        (shifter.bits, shifter.word) = (0, 0);
    }

    /// A frame is over: the wire says so, or silence.
    fn end(&mut self, at: Moment, node: Option<u64>, out: &mut Vec<Event>) {
        if let Some(start) = self.selected.take() {
            // Without a wire that selects, the last tick of the clock is the end. Data settle half a period before and behind,
            // and where edges are off a bit, a quarter more.
            let last = self.shifters.iter().filter_map(|shifter| shifter.last).max();
            let end = match last.filter(|_| self.pins.selects.is_empty()) {
                Some(last) => last.after(3 * self.half_period),
                None => at.after(self.half_period * 3 / 2),
            };
            let start = Moment::from_picoseconds(start.picoseconds().saturating_sub(self.half_period * 3 / 2));
            let is_right = !self.is_cut && self.shifters.iter().all(|shifter| shifter.bits == 0);
            out.push(Event::Transfer { is_right, start, end });
        }
        for (end, from) in ENDS.into_iter().enumerate() {
            self.drop_half(end, at);
            if let Some(last) = self.shifters[end].last {
                self.frame_ended = Some(last);
            }
            self.shifters[end].words = 0;
            let is_cut = self.is_cut;
            out.push(if is_cut { Event::Dropped(from) } else { Event::Packet { from, key: None, node } });
        }
        self.is_cut = false;
    }

    /// The waveform is over.
    pub fn finish(&mut self, at: Moment, levels: &Levels, out: &mut Vec<Event>) {
        let node = self.selected(levels).ok().flatten().and_then(|select| self.node(select));
        self.end(at, node, out);
    }
}

/// The bytes of a word, in the order in which its bits come.
fn bytes(words: SpiWords, word: u64, start: Moment, end: Moment) -> impl Iterator<Item = LineByte> {
    let count = words.bytes();
    let all = word.to_be_bytes();
    (0..count).map(move |n| {
        let byte = if words.is_lsb_first { all[7 - n] } else { all[8 - count + n] };
        LineByte { byte, start, end }
    })
}
