//! Two-wire buses with addresses (UM10204, the bus specification).

use super::event::{Count, Event, From, Levels, LineByte};
use crate::wave::Moment;

/// What was seen beside the bytes.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct I2cObservations {
    /// How often the clock rose.
    pub clocks: u64,
    /// How often the data wire changed.
    pub data_changes: u64,
    /// Start conditions, repeated ones included.
    pub starts: u64,
    /// Stop conditions.
    pub stops: u64,
    /// Addresses that nobody acknowledged, and the first of them.
    pub no_answer: Count,
    /// The first address that nobody acknowledged.
    pub unanswered: u64,
    /// Bytes to a device that it did not acknowledge.
    pub refused: Count,
    /// Transfers that ended inside of a byte.
    pub halves: Count,
    /// Transfers of an address alone.
    pub empty: u64,
    /// Bits before the first start condition.
    pub left_out: u64,
    /// The shortest time from one rise of the clock to the next, in picoseconds.
    pub period: Option<u64>,
    /// The sum of the times of the eight periods of bytes, in picoseconds, and of the bits in them.
    measured: (u64, u64),
}

impl I2cObservations {
    /// The mean clock inside of bytes, in hertz.
    pub fn hertz(&self) -> Option<f64> {
        let (picoseconds, bits) = self.measured;
        (picoseconds > 0).then(|| bits as f64 * 1e12 / picoseconds as f64)
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum State {
    /// Nobody knows what stands on the bus, or nothing does.
    Idle,
    /// The first byte behind a start condition.
    Address,
    /// The second byte of an address of ten bits, whose first two are these.
    Second(u64),
    /// Data.
    Data,
    /// Bytes that nobody listens to.
    Ignored,
}

/// A receiver of one bus, fed with the levels of its two wires.
#[derive(Clone, Debug)]
pub struct I2c {
    clock: usize,
    data: usize,
    state: State,
    bits: u32,
    shifted: u32,
    start: Moment,
    last_rise: Option<Moment>,
    /// The address at hand, and whether the device sends.
    address: Option<(u64, bool)>,
    /// When the transfer at hand began.
    begun: Moment,
    /// Bytes of the transfer at hand.
    count: usize,
    /// What was seen.
    pub observed: I2cObservations,
}

impl I2c {
    /// For the places of its two wires in the wiring.
    pub fn new(clock: usize, data: usize) -> Self {
        Self {
            clock,
            data,
            state: State::Idle,
            bits: 0,
            shifted: 0,
            start: Moment::default(),
            last_rise: None,
            address: None,
            begun: Moment::default(),
            count: 0,
            observed: I2cObservations::default(),
        }
    }

    /// At a moment some levels became others.
    pub fn step(&mut self, at: Moment, before: &Levels, after: &Levels, out: &mut Vec<Event>) {
        let (clock, data) = (self.clock, self.data);
        let (Some(clock_was), Some(clock_is)) = (before[clock], after[clock]) else { return };
        let (Some(data_was), Some(data_is)) = (before[data], after[data]) else { return };
        self.observed.data_changes += u64::from(data_was != data_is);
        // Where one sample shows two changes, the one of the data came first if the bus is free, and before the clock rose.
        let starts = data_was && !data_is && clock_was && (clock_is || self.state == State::Idle);
        let stops = !data_was && data_is && clock_was && clock_is;
        if starts {
            self.over(at, false, out);
            self.observed.starts += 1;
            self.begun = at;
            self.state = State::Address;
        } else if stops {
            self.over(at, true, out);
            self.observed.stops += 1;
            (self.state, self.address) = (State::Idle, None);
        } else if !clock_was && clock_is {
            self.rise(at, data_is, out);
        }
    }

    /// The transfer at hand is over.
    fn over(&mut self, at: Moment, is_stop: bool, out: &mut Vec<Event>) {
        // The clock rises once more for the condition itself.
        if self.bits > 1 && self.state != State::Idle && self.state != State::Ignored {
            self.observed.halves.add(at);
        }
        if self.state != State::Idle {
            out.push(Event::Transfer { is_right: self.bits <= 1, start: self.begun, end: at });
        }
        if let Some((address, from_device)) = self.address {
            let from = if from_device { From::Device } else { From::Host };
            if self.count > 0 {
                out.push(Event::Packet { from, key: None, node: Some(address) });
            } else if is_stop {
                self.observed.empty += 1;
            }
        }
        (self.bits, self.shifted, self.count) = (0, 0, 0);
    }

    fn rise(&mut self, at: Moment, bit: bool, out: &mut Vec<Event>) {
        self.observed.clocks += 1;
        let last = self.last_rise.replace(at);
        if let Some(last) = last {
            self.observed.period = Some(self.observed.period.unwrap_or(u64::MAX).min(at.since(last)));
            if (1..8).contains(&self.bits) {
                self.observed.measured.0 += at.since(last);
                self.observed.measured.1 += 1;
            }
        }
        if self.state == State::Idle {
            self.observed.left_out += u64::from(self.observed.starts == 0);
            return;
        }
        if self.bits == 0 {
            self.start = at;
        }
        self.bits += 1;
        if self.bits < 9 {
            self.shifted = self.shifted << 1 | u32::from(bit);
            return;
        }
        let byte = std::mem::take(&mut self.shifted) as u8;
        self.bits = 0;
        self.byte(at, byte, !bit, out);
    }

    /// A byte, and whether it was acknowledged.
    fn byte(&mut self, at: Moment, byte: u8, is_taken: bool, out: &mut Vec<Event>) {
        match self.state {
            State::Address => {
                let (address, reads) = (u64::from(byte >> 1), byte & 1 == 1);
                // 11110xx: the first bits of an address of ten (UM10204, section 3.1.11).
                let is_long = byte >> 3 == 0b1_1110;
                let known = self.address.filter(|(known, _)| *known >> 8 == address & 3);
                match (is_long, reads, known) {
                    (true, false, _) => {
                        self.state = State::Second((address & 3) << 8);
                        self.address = None;
                    }
                    (true, true, Some((known, _))) => self.answered(known, true, is_taken),
                    _ => self.answered(address, reads, is_taken),
                }
                if !is_taken {
                    self.no_answer(address);
                }
            }
            State::Second(high) => {
                self.answered(high | u64::from(byte), false, is_taken);
                if !is_taken {
                    self.no_answer(high | u64::from(byte));
                }
            }
            State::Data => {
                let from_device = self.address.is_some_and(|(_, from_device)| from_device);
                let from = if from_device { From::Device } else { From::Host };
                out.push(Event::Byte(from, LineByte { byte, start: self.start, end: at }));
                self.count += 1;
                // The host ends what it reads by not acknowledging the last byte.
                if !is_taken && !from_device {
                    self.observed.refused.add(at);
                }
            }
            State::Idle | State::Ignored => {}
        }
    }

    fn answered(&mut self, address: u64, from_device: bool, is_taken: bool) {
        (self.address, self.state) = match is_taken {
            true => (Some((address, from_device)), State::Data),
            false => (None, State::Ignored),
        };
    }

    fn no_answer(&mut self, address: u64) {
        if !self.observed.no_answer.any() {
            self.observed.unanswered = address;
        }
        self.observed.no_answer.add(self.start);
        self.state = State::Ignored;
    }

    /// The waveform is over: a transfer that has no end is one that was not seen whole.
    pub fn finish(&mut self, at: Moment, out: &mut Vec<Event>) {
        if self.state == State::Data && (self.bits > 0 || self.count > 0) {
            self.observed.halves.add(at);
            let from_device = self.address.is_some_and(|(_, from_device)| from_device);
            out.push(Event::Dropped(if from_device { From::Device } else { From::Host }));
        }
    }
}
