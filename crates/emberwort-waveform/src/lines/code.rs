//! Lines of one wire whose code is spelled out: NRZ, NRZI, Manchester codes, and codes of pulses.

use emberwort_model::medium::{BitCode, LineCode, Pulse};

use super::bit_frames::{self, BitFrames};
use super::event::{Count, Event};
use crate::wave::Moment;

/// What was seen beside the bytes.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct CodeObservations {
    /// How often the level changed.
    pub edges: u64,
    /// For how long the line was high, in picoseconds.
    pub high: u64,
    /// Pulses inside of frames that are no bit, and how long the first one was.
    pub odd: Count,
    /// How long the first pulse that is no bit was, in picoseconds.
    pub odd_width: u64,
    /// Pulses of a code of pulses that are no bit and follow none, outside of frames.
    pub strange: Count,
    /// How long the first of them was, in picoseconds.
    pub strange_width: u64,
    /// Whether the recording begins inside of a frame: levels changed before the line had rested.
    pub begins_inside: bool,
    /// Bits read.
    pub bits: u64,
    /// The sum of the times between edges inside of frames in picoseconds, and of the bits between them, in halves; not for pulses.
    measured: (u64, u64),
    /// The shortest and the longest pulse of one bit inside of frames, of half a bit where bits have two halves, in picoseconds; not for codes
    /// of pulses.
    pub spread: Option<(u64, u64)>,
    /// The shortest and the longest pulse of a 0 and of a 1, in picoseconds.
    pub pulses: [Option<(u64, u64)>; 2],
    /// Of the frames.
    pub frames: bit_frames::BitFrameObservations,
}

impl CodeObservations {
    /// The bit rate, measured on the edges inside of frames; `None` if there were too few.
    pub fn bitrate(&self) -> Option<f64> {
        let (picoseconds, halves) = self.measured;
        (halves >= 200 && picoseconds > 0).then(|| halves as f64 * 0.5e12 / picoseconds as f64)
    }
}

/// A receiver of one wire, fed with its edges.
#[derive(Clone, Debug)]
pub struct Code {
    code: LineCode,
    bit: u64,
    silence: u64,
    level: bool,
    /// The last edge.
    edge: Moment,
    is_known: bool,
    /// Whether the line has rested, so that the next edge begins a frame.
    is_ready: bool,
    /// Whether it ever has.
    has_rested: bool,
    /// The last edge of the kind that begins a bit, where periods are bits.
    last_kind: Option<Moment>,
    place: Place,
    frames: BitFrames,
    observed: CodeObservations,
}

/// So many equal bits in sequence are no data, but a line that does not work.
const LONGEST_RUN: u64 = 1_000;

/// Where the line is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Place {
    /// At rest, or lost.
    Outside,
    /// NRZ and its kin: so many bits behind the last edge are read.
    Level {
        read: u64,
        held: u8,
    },
    /// Codes with two halves: behind the edge in the middle of a bit, or behind the one at its start.
    Middle,
    Start,
    /// A code of pulses: the first edge of one, and of halves which bit the first half said.
    Pulse {
        half: Option<bool>,
    },
}

impl Code {
    /// For a code.
    pub fn new(code: LineCode) -> Self {
        let around = match code.bits {
            BitCode::Pulse { zero, one, .. } => zero.1.max(one.1).saturating_mul(1000),
            _ => code.bit_picoseconds() / 4,
        };
        Self {
            code,
            bit: code.bit_picoseconds(),
            silence: code.silence_picoseconds(),
            level: code.rests_high,
            edge: Moment::default(),
            is_known: false,
            is_ready: false,
            has_rested: false,
            last_kind: None,
            place: Place::Outside,
            frames: BitFrames::new(code.frame, code.bit_at_rest(), around),
            observed: CodeObservations::default(),
        }
    }

    /// The code.
    pub fn code(&self) -> &LineCode {
        &self.code
    }

    /// What was seen so far.
    pub fn seen(&self) -> CodeObservations {
        CodeObservations { frames: self.frames.observed.clone(), ..self.observed.clone() }
    }

    /// From this moment on the wire has another level; one that nobody knows counts as that at rest.
    pub fn edge(&mut self, at: Moment, level: Option<bool>, out: &mut Vec<Event>) {
        let level = level.unwrap_or(self.code.rests_high);
        self.until(at, out);
        if !self.is_known {
            (self.is_known, self.level, self.edge) = (true, level, at);
            return;
        }
        if level == self.level {
            return;
        }
        self.observed.edges += 1;
        let width = at.since(self.edge);
        if self.level {
            self.observed.high += width;
        }
        let was = self.level;
        // A beginning is an edge away from rest, behind a rest.
        // Behind a preamble of pulses nobody has to know where the line rested.
        let is_marked = matches!(self.code.bits, BitCode::Pulse { .. }) && self.code.frame.preamble.is_some();
        let begins = self.place == Place::Outside && (self.is_ready && self.may_idle_at(was) || is_marked);
        let before = std::mem::replace(&mut self.edge, at);
        self.level = level;
        if begins {
            self.begin(at);
        } else {
            self.observed.begins_inside |= self.place == Place::Outside && !self.has_rested;
            self.change(before, at, width, was, out);
        }
    }

    /// Nothing else happened up to this moment.
    pub fn until(&mut self, at: Moment, out: &mut Vec<Event>) {
        if let Place::Level { read, held } = self.place {
            self.levels(at, read, held, out);
        }
        let rested = at.since(self.edge);
        let holds = matches!(self.place, Place::Level { .. }) && self.frames.is_inside();
        if rested < self.silence || !self.is_known || holds {
            return;
        }
        if self.place != Place::Outside {
            self.rest(out);
        }
        self.is_ready = self.may_idle_at(self.level);
        self.has_rested |= self.is_ready;
    }

    /// Whether the line may rest at a level. Where changes are bits, it rests at either.
    fn may_idle_at(&self, level: bool) -> bool {
        level == self.code.rests_high || matches!(self.code.bits, BitCode::Nrzi { .. })
    }

    /// The waveform is over.
    pub fn finish(&mut self, at: Moment, out: &mut Vec<Event>) {
        self.until(at, out);
        if self.level && self.is_known {
            self.observed.high += at.since(self.edge);
        }
        if self.place != Place::Outside {
            self.rest(out);
        }
    }

    /// The line rests: the frame at hand is over.
    fn rest(&mut self, out: &mut Vec<Event>) {
        let (edge, bit) = (self.edge, self.bit);
        match (self.code.bits, self.place) {
            // The last bit is as long as the rest of it: nothing ends it on the wire.
            (BitCode::Differential { splits, .. }, Place::Start) if self.frames.lacks_one() => {
                self.bit_at(!splits, edge, edge.after(bit), out);
            }
            (BitCode::Differential { splits, .. }, Place::Middle) if self.frames.lacks_one() => {
                let start = Moment::from_picoseconds(edge.picoseconds().saturating_sub(bit / 2));
                self.bit_at(splits, start, edge.after(bit / 2), out);
            }
            _ => {}
        }
        self.frames.rest(self.edge, out);
        (self.place, self.last_kind) = (Place::Outside, None);
    }

    fn bit_at(&mut self, bit: bool, start: Moment, end: Moment, out: &mut Vec<Event>) {
        self.observed.bits += 1;
        self.frames.bit(bit, start, end, out);
    }

    /// The first edge of a frame.
    fn begin(&mut self, at: Moment) {
        self.is_ready = false;
        let first = self.code.frame.preamble.map(|(_, bit)| bit).or(self.code.frame.start).unwrap_or(false);
        self.place = match self.code.bits {
            BitCode::Nrz { .. } | BitCode::Nrzi { .. } => {
                // A first bit that keeps the level of the rest has no edge: the first edge is the start of the first one that does.
                Place::Level { read: 0, held: 0 }
            }
            BitCode::Manchester { one_rises, .. } => {
                // The first half of a bit that rises in its middle is low.
                let first_half_is_high = first != one_rises;
                if first_half_is_high == self.code.rests_high { Place::Middle } else { Place::Start }
            }
            BitCode::Differential { .. } => Place::Start,
            BitCode::Pulse { what, .. } => {
                let is_kind = matches!((what, self.level), (Pulse::Rising, true) | (Pulse::Falling, false));
                self.last_kind = is_kind.then_some(at);
                Place::Pulse { half: None }
            }
        };
        // The edge in the middle of the first bit says that bit.
        if self.place == Place::Middle {
            let half = self.bit / 2;
            let start = Moment::from_picoseconds(at.picoseconds().saturating_sub(half));
            self.frames.bit(first, start, at.after(half), &mut Vec::new());
            self.observed.bits += 1;
        }
    }

    /// Bits of a code of levels whose middle has come.
    fn levels(&mut self, at: Moment, mut read: u64, mut held: u8, out: &mut Vec<Event>) {
        let half = self.bit / 2;
        while at.since(self.edge) > read * self.bit + half {
            let (start, end) = (self.edge.after(read * self.bit), self.edge.after((read + 1) * self.bit));
            if read * self.bit >= self.silence && !self.frames.is_inside() {
                break;
            }
            match self.code.bits {
                BitCode::Nrz { .. } => self.bit_at(self.level, start, end, out),
                BitCode::Nrzi { toggles, stuff, .. } => {
                    let changed = read == 0;
                    let is_stuffed = stuff.is_some_and(|stuff| held >= stuff);
                    match (is_stuffed, changed) {
                        // It was put in.
                        (true, true) => held = 0,
                        // One that keeps the level too long ends the frame.
                        (true, false) => {
                            self.rest(out);
                            return;
                        }
                        (false, _) => {
                            held = if changed { 0 } else { held + 1 };
                            self.bit_at(changed == toggles, start, end, out);
                        }
                    }
                }
                _ => return,
            }
            read += 1;
            if read > LONGEST_RUN {
                self.rest(out);
                return;
            }
        }
        self.place = Place::Level { read, held };
    }

    /// The level changed inside of a frame, or outside where nothing can begin.
    fn change(&mut self, before: Moment, at: Moment, width: u64, was: bool, out: &mut Vec<Event>) {
        match (self.place, self.code.bits) {
            (Place::Level { held, .. }, _) => {
                let bits = (width + self.bit / 2) / self.bit;
                self.measure(width, 2 * bits, 2);
                self.place = Place::Level { read: 0, held };
            }
            (Place::Middle | Place::Start, bits) => self.halves(before, at, width, bits, out),
            (Place::Pulse { half }, BitCode::Pulse { what, zero, one }) => {
                self.pulse(before, at, (width, was), half, (what, [zero, one]), out);
            }
            _ => {}
        }
    }

    /// A pulse of so many halves of bits; one of `shortest` halves is the shortest of the code.
    fn measure(&mut self, width: u64, halves: u64, shortest: u64) {
        if (1..=20).contains(&halves) {
            self.observed.measured.0 += width;
            self.observed.measured.1 += halves;
        }
        if halves == shortest && self.frames.is_inside() {
            let (least, most) = self.observed.spread.unwrap_or((width, width));
            self.observed.spread = Some((least.min(width), most.max(width)));
        }
    }

    /// A pulse of a code with two halves a bit: it is one half long, or two.
    fn halves(&mut self, before: Moment, at: Moment, width: u64, bits: BitCode, out: &mut Vec<Event>) {
        let half = self.bit / 2;
        let is_long = width > half * 3 / 2;
        let fits = width > half / 2 && width < half * 5 / 2;
        if !fits {
            return self.odd(at, width, out);
        }
        self.measure(width, 1 + u64::from(is_long), 1);
        let (start, middle) = (before, self.place == Place::Middle);
        match bits {
            BitCode::Manchester { one_rises, .. } => match (middle, is_long) {
                (true, false) => self.place = Place::Start,
                (true, true) | (false, false) => {
                    let start = if is_long { before.after(half) } else { start };
                    self.place = Place::Middle;
                    // The level is now that of the second half.
                    self.bit_at(self.level == one_rises, start, at.after(half), out);
                }
                (false, true) => self.odd(at, width, out),
            },
            BitCode::Differential { splits, .. } => match (middle, is_long) {
                (false, true) => self.bit_at(!splits, before, at, out),
                (false, false) => self.place = Place::Middle,
                (true, false) => {
                    self.place = Place::Start;
                    let start = Moment::from_picoseconds(before.picoseconds().saturating_sub(half));
                    self.bit_at(splits, start, at, out);
                }
                (true, true) => self.odd(at, width, out),
            },
            _ => {}
        }
    }

    /// A pulse of a code of pulses.
    fn pulse(
        &mut self,
        before: Moment,
        at: Moment,
        (width, was): (u64, bool),
        half: Option<bool>,
        (what, ranges): (Pulse, [(u64, u64); 2]),
        out: &mut Vec<Event>,
    ) {
        let class = |width: u64| {
            // As long as samples can say it: to the nearest nanosecond.
            let nanoseconds = (width + 500) / 1000;
            ranges.iter().position(|(least, most)| (*least..=*most).contains(&nanoseconds)).map(|class| class == 1)
        };
        match what {
            Pulse::High | Pulse::Low => {
                if was != (what == Pulse::High) {
                    return;
                }
                match class(width) {
                    Some(bit) => self.pulse_bit(bit, width, before, at, out),
                    None => self.odd(at, width, out),
                }
            }
            Pulse::Rising | Pulse::Falling => {
                if self.level != (what == Pulse::Rising) {
                    return;
                }
                let Some(last) = self.last_kind.replace(at) else { return };
                let width = at.since(last);
                match class(width) {
                    Some(bit) => self.pulse_bit(bit, width, last, at, out),
                    None => self.odd(at, width, out),
                }
            }
            Pulse::Half => match (class(width), half) {
                (Some(bit), None) => self.place = Place::Pulse { half: Some(bit) },
                (Some(bit), Some(first)) if bit == first => {
                    self.place = Place::Pulse { half: None };
                    // Its first half began about as long before.
                    let start = Moment::from_picoseconds(before.picoseconds().saturating_sub(width));
                    self.pulse_bit(bit, width, start, at, out);
                }
                // Outside of a frame the halves may have been counted from the wrong edge.
                (Some(bit), Some(_)) if !self.frames.is_inside() => self.place = Place::Pulse { half: Some(bit) },
                _ => self.odd(at, width, out),
            },
        }
    }

    fn pulse_bit(&mut self, bit: bool, width: u64, start: Moment, end: Moment, out: &mut Vec<Event>) {
        let range = &mut self.observed.pulses[usize::from(bit)];
        *range = Some(range.map_or((width, width), |(least, most)| (least.min(width), most.max(width))));
        self.bit_at(bit, start, end, out);
    }

    /// A pulse that is no bit: the frame at hand is over.
    fn odd(&mut self, at: Moment, width: u64, out: &mut Vec<Event>) {
        if self.frames.is_inside() {
            if !self.observed.odd.any() {
                self.observed.odd_width = width;
            }
            self.observed.odd.add(at);
        } else if matches!(self.code.bits, BitCode::Pulse { .. }) && width < self.silence {
            if !self.observed.strange.any() {
                self.observed.strange_width = width;
            }
            self.observed.strange.add(at);
        }
        self.frames.rest(at, out);
        self.place = match self.code.bits {
            BitCode::Pulse { .. } => Place::Pulse { half: None },
            _ => Place::Outside,
        };
    }
}
