//! Asynchronous serial lines: a start bit, data bits, parity, stop bits.

use emberwort_model::medium::UartFormat;

use super::event::LineByte;
use crate::wave::Moment;

/// What is wrong with a character.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Flaw {
    /// The parity bit is another one.
    Parity,
    /// Where a stop bit should be, the line is low.
    StopBit,
    /// The line was low for longer than a character.
    Break,
    /// The ninth data bit is 1, and no byte holds it.
    Ninth,
}

/// What was seen on one wire beside its bytes.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct UartObservations {
    /// Characters, flawed ones included.
    pub characters: u64,
    /// Of each flaw the first moment, and how many.
    pub flaws: Vec<(Flaw, Moment, u64)>,
    /// Low pulses that were too short for a start bit.
    pub glitches: u64,
    /// Characters at the beginning of which nobody knew where bits begin, and which were left out.
    pub left_out: u64,
    /// The sum of the times from start bits to later edges, in picoseconds, of the bits between them, and how many there were.
    measured: (u64, u64, u64),
    /// The shortest and the longest pulse of one bit inside of characters, in picoseconds.
    pub spread: Option<(u64, u64)>,
    /// How often the line changed.
    pub edges: u64,
    /// For how long the line had the level at rest, in picoseconds.
    pub high: u64,
}

impl UartObservations {
    /// The baud rate of the sender, measured on the edges inside of characters; `None` if there were too few.
    pub fn baud(&self) -> Option<f64> {
        let (picoseconds, bits, _) = self.measured;
        (bits >= 100 && picoseconds > 0).then(|| bits as f64 * 1e12 / picoseconds as f64)
    }

    /// By how much the measured baud rate may be wrong since edges are not seen when they come, as a share: half the difference between
    /// pulses of one bit, over the time that was measured at once.
    pub fn uncertainty(&self) -> f64 {
        let (picoseconds, _, count) = self.measured;
        let spread = self.spread.map_or(0, |(least, most)| most - least);
        if picoseconds == 0 { 0.0 } else { 0.5 * spread as f64 * count as f64 / picoseconds as f64 }
    }

    fn flaw(&mut self, flaw: Flaw, at: Moment) {
        match self.flaws.iter_mut().find(|(known, ..)| *known == flaw) {
            Some((.., count)) => *count += 1,
            None => self.flaws.push((flaw, at, 1)),
        }
    }
}

/// A receiver of one wire, fed with its edges.
#[derive(Clone, Debug)]
pub struct Uart {
    format: UartFormat,
    /// Picoseconds of half a bit.
    half: u64,
    state: State,
    /// The level of the wire, high at rest; `None` if nobody knows it.
    level: Option<bool>,
    /// Whether it is known where characters begin: the line has rested for as long as one, or characters were good.
    is_in_step: bool,
    /// Since when the line has been high.
    high_since: Option<Moment>,
    last_edge: Moment,
    /// The edges since the start bit at hand, for another try where nobody knew where characters begin.
    edges: Vec<(Moment, bool)>,
    /// Characters with a flaw since somebody last asked, from when to when.
    pub flawed: Vec<(Moment, Moment)>,
    /// What was seen.
    pub observed: UartObservations,
}

#[derive(Clone, Copy, Debug)]
enum State {
    /// The line rests.
    Rest,
    /// A character began.
    Character { start: Moment, bits: u32, next: u32 },
    /// After a flaw: the line has to become high first.
    Low,
}

/// So many characters in sequence without a flaw, and it is known where they begin.
const TRUSTED: u64 = 16;

impl Uart {
    /// For a format.
    pub fn new(format: UartFormat) -> Self {
        let half = 500_000_000_000 / u64::from(format.baud.max(1));
        Self {
            format,
            half,
            state: State::Rest,
            level: None,
            is_in_step: false,
            high_since: None,
            last_edge: Moment::default(),
            edges: Vec::new(),
            flawed: Vec::new(),
            observed: UartObservations::default(),
        }
    }

    /// Bits of a character after the start bit.
    fn bits(&self) -> u32 {
        // Half a stop bit is not looked at.
        u32::from(self.format.data_bits) + u32::from(self.format.has_parity()) + u32::from(self.format.stop_halves / 2)
    }

    /// How characters stand on the line.
    pub fn format(&self) -> UartFormat {
        self.format
    }

    /// How long a character takes, in picoseconds.
    pub fn character(&self) -> u64 {
        self.half * u64::from(self.format.halves())
    }

    /// From this moment on the wire has another level.
    pub fn edge(&mut self, at: Moment, level: Option<bool>, out: &mut impl FnMut(LineByte)) {
        self.until(at, out);
        // Below, a line rests high.
        let level = level.map(|level| level != self.format.rests_low);
        self.observed.edges += 1;
        if let (State::Character { start, next, .. }, Some(level)) = (self.state, level) {
            // So many bits were looked at in their middle: it is the nearest number, as long as nobody can be wrong about it.
            if self.is_in_step && next > 0 {
                self.observed.measured.0 += at.since(start);
                self.observed.measured.1 += u64::from(next);
                self.observed.measured.2 += 1;
                let width = at.since(self.last_edge);
                if self.last_edge >= start && (self.half..3 * self.half).contains(&width) {
                    let (least, most) = self.observed.spread.unwrap_or((width, width));
                    self.observed.spread = Some((least.min(width), most.max(width)));
                }
            }
            if !self.is_in_step {
                self.edges.push((at, level));
            }
        }
        self.last_edge = at;
        self.set(at, level);
    }

    fn set(&mut self, at: Moment, level: Option<bool>) {
        let before = std::mem::replace(&mut self.level, level);
        match (level, self.state) {
            (Some(true), State::Low) => self.state = State::Rest,
            // What is not known as low before does not begin a character.
            (Some(false), State::Rest) if before == Some(true) => {
                let rested = self.high_since.is_some_and(|since| at.since(since) >= self.character());
                self.is_in_step |= rested;
                self.edges.clear();
                self.state = State::Character { start: at, bits: 0, next: 0 };
            }
            _ => {}
        }
        match level {
            Some(true) if before != Some(true) => self.high_since = Some(at),
            Some(true) => {}
            _ => self.observed.high += self.high_since.take().map_or(0, |since| at.since(since)),
        }
    }

    /// Nothing else happened up to this moment.
    pub fn until(&mut self, at: Moment, out: &mut impl FnMut(LineByte)) {
        let last = self.bits();
        let is_high = self.level.unwrap_or(false);
        while let State::Character { start, mut bits, mut next } = self.state {
            let mut sample = start.after(self.half * u64::from(2 * next + 1));
            if sample >= at {
                return;
            }
            if next == 0 && is_high {
                self.observed.glitches += 1;
                self.state = State::Rest;
                return;
            }
            while sample < at && next < last {
                bits |= u32::from(is_high && next > 0) << next.saturating_sub(1);
                next += 1;
                sample = sample.after(2 * self.half);
            }
            if sample >= at {
                self.state = State::Character { start, bits, next };
                return;
            }
            self.complete(start, bits | u32::from(is_high) << (last - 1), out);
        }
    }

    /// The moment behind which [`Self::until`] tells of a character, if no level changes before; until then it need not be called.
    pub fn due(&self) -> Option<Moment> {
        match self.state {
            State::Character { start, .. } => Some(start.after(self.half * u64::from(2 * self.bits() + 1))),
            State::Rest | State::Low => None,
        }
    }

    /// The waveform is over.
    pub fn finish(&mut self, at: Moment) {
        self.observed.high += self.high_since.take().map_or(0, |since| at.since(since));
    }

    /// All bits of a character are there, the start bit aside.
    fn complete(&mut self, start: Moment, bits: u32, out: &mut impl FnMut(LineByte)) {
        let data_bits = u32::from(self.format.data_bits);
        let data = bits & ((1 << data_bits) - 1);
        let rest = bits >> data_bits;
        let (has_parity, stops) = (self.format.has_parity(), u32::from(self.format.stop_halves / 2));
        let stop_bits = rest >> u32::from(has_parity);
        let mut flaw = None;
        if has_parity && (rest & 1 == 1) != self.format.parity_bit(data) {
            flaw = Some(Flaw::Parity);
        }
        if stop_bits != (1 << stops) - 1 {
            flaw = Some(if bits == 0 { Flaw::Break } else { Flaw::StopBit });
        }
        self.state = if self.level == Some(true) { State::Rest } else { State::Low };
        if !self.is_in_step {
            // The first edge may have been one between data bits: the next one that falls is tried.
            if flaw.is_some() && flaw != Some(Flaw::Break) {
                self.observed.left_out += 1;
                self.again();
                return;
            }
            self.is_in_step = flaw.is_none() && self.observed.characters >= TRUSTED;
        }
        self.observed.characters += 1;
        let end = start.after(self.character());
        if let Some(flaw) = flaw {
            self.observed.flaw(flaw, start);
            self.flawed.push((start, end));
        }
        let data = if self.format.is_msb_first { data.reverse_bits() >> (32 - data_bits) } else { data };
        if data > 0xFF && flaw != Some(Flaw::Break) {
            self.observed.flaw(Flaw::Ninth, start);
        }
        // A break is no character.
        if flaw != Some(Flaw::Break) {
            out(LineByte { byte: data as u8, start, end });
        }
    }

    /// Goes on at the next falling edge behind the start bit at hand, with the edges that followed it.
    fn again(&mut self) {
        let edges = std::mem::take(&mut self.edges);
        let Some(first) = edges.iter().position(|(_, level)| !level) else { return };
        let (start, _) = edges[first];
        self.edges = edges[first + 1..].to_vec();
        // What came since is looked at again, up to the moment at hand.
        let mut level = false;
        let mut behind = self.edges.iter().peekable();
        let (mut bits, mut next) = (0, 0);
        let now = edges[edges.len() - 1].0;
        loop {
            let sample = start.after(self.half * u64::from(2 * next + 1));
            while let Some((at, to)) = behind.peek() {
                if *at > sample {
                    break;
                }
                level = *to;
                behind.next();
            }
            if sample >= now || next > self.bits() {
                break;
            }
            if next > 0 {
                bits |= u32::from(level) << (next - 1);
            }
            next += 1;
        }
        if next <= self.bits() {
            self.state = State::Character { start, bits, next };
        }
    }
}
