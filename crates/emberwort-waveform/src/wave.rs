//! What a waveform is: values of signals over time.

use std::ops::ControlFlow;

use emberwort_wire::Time;

/// A moment of a waveform: picoseconds since its beginning. It reaches 213 days.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub struct Moment(u64);

impl Moment {
    /// So many picoseconds after the beginning.
    pub const fn from_picoseconds(picoseconds: u64) -> Self {
        Self(picoseconds)
    }

    /// Picoseconds since the beginning.
    pub const fn picoseconds(self) -> u64 {
        self.0
    }

    /// So many picoseconds later; the last moment that can be said, if that is beyond it.
    #[must_use]
    pub const fn after(self, picoseconds: u64) -> Self {
        Self(self.0.saturating_add(picoseconds))
    }

    /// Picoseconds from another moment to this one; 0 if that one is later.
    pub const fn since(self, earlier: Self) -> u64 {
        self.0.saturating_sub(earlier.0)
    }

    /// As the time of a byte: nanoseconds since the beginning, the nearest one.
    pub const fn time(self) -> Time {
        Time::from_nanoseconds(self.0.saturating_add(500) / 1000)
    }
}

/// A signal of a waveform.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Signal {
    /// Its name, with the scopes that it stands in: `top.uart.rx`, `data[3]`.
    pub name: String,
    /// Whether it has numbers, such as volts, in place of levels.
    pub is_analog: bool,
}

/// The value of a signal.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Value {
    /// Low.
    Low,
    /// High.
    High,
    /// Neither is known: it is not driven, driven against each other, or was not recorded.
    Unknown,
    /// A number, in volts as a rule.
    Number(f64),
}

/// Takes the values of signals, in the order of their times.
pub trait WaveSink {
    /// The signals, before the first value. They are numbered from 0, in this order. `Break` ends the reading.
    fn signals(&mut self, signals: &[Signal]) -> ControlFlow<()>;

    /// From a moment on a signal has a value. `Break` ends the reading.
    fn value(&mut self, at: Moment, signal: usize, value: Value) -> ControlFlow<()>;

    /// Up to this moment nothing else happened. The last one is the end of the waveform.
    fn until(&mut self, at: Moment) -> ControlFlow<()>;

    /// All that could be read so far was handed on; what is asked for next may take a while to come.
    fn pause(&mut self) {}
}

/// A place from which on a waveform cannot be read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Damage {
    /// Where in the file: bytes from its beginning.
    pub offset: u64,
    /// What is wrong there.
    pub reason: String,
}

/// How the reading of a waveform ended.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Outcome {
    /// Bytes of the file that were read and understood.
    pub bytes: u64,
    /// Where it could not be read any further, if so.
    pub damage: Option<Damage>,
}
