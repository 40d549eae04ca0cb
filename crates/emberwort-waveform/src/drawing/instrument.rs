//! An instrument on the wires of a drawing: it takes samples at its rate, of wires that are not as clean as they were drawn.

use std::cmp::Reverse;
use std::collections::BinaryHeap;
use std::io;

use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

use super::pen::Change;
use crate::wave::{Moment, Signal, Value};

/// What an instrument sees, and what it sees wrong.
#[derive(Clone, Debug, PartialEq)]
pub struct Settings {
    /// Samples a second.
    pub rate: u64,
    /// The recording begins so many picoseconds after the line does, and nothing before is in it.
    pub start: u64,
    /// It is so long at most, in picoseconds.
    pub lasting: Option<u64>,
    /// By what share bits are longer than the definition says.
    pub baud_error: f64,
    /// Edges come so many picoseconds too early or too late, at most.
    pub jitter: u64,
    /// Short pulses that nobody sent: how often on average and how long, in picoseconds.
    pub glitches: Option<(u64, u64)>,
    /// The chance that two drive the line at once for a part of a frame.
    pub contention: f64,
    /// Volts in place of levels.
    pub volts: Option<Volts>,
    /// Whether each wire is a pair: its own level, and the opposite one.
    pub is_pair: bool,
}

impl Default for Settings {
    /// Clean levels, 24 million samples a second.
    fn default() -> Self {
        Self {
            rate: 24_000_000,
            start: 0,
            lasting: None,
            baud_error: 0.0,
            jitter: 0,
            glitches: None,
            contention: 0.0,
            volts: None,
            is_pair: false,
        }
    }
}

/// What levels look like in volts.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Volts {
    /// Of a low wire.
    pub low: f64,
    /// Of a high wire.
    pub high: f64,
    /// Root mean square of the noise.
    pub noise: f64,
    /// From 10 % to 90 % of an edge, in picoseconds, if it does not ring.
    pub slope: u64,
    /// Ringing behind edges: its frequency in hertz, and how many picoseconds it takes to sink to a twentieth.
    pub ringing: Option<(f64, u64)>,
}

/// Where samples go.
pub trait Record {
    /// The signals, before the first sample.
    ///
    /// # Errors
    /// Those of the file.
    fn signals(&mut self, signals: &[Signal], rate: u64) -> io::Result<()>;

    /// Whether it takes each sample, and not only those at which something changes.
    fn takes_each(&self) -> bool;

    /// A sample, by its number from 0: the values of all signals.
    ///
    /// # Errors
    /// Those of the file.
    fn sample(&mut self, number: u64, values: &[Value]) -> io::Result<()>;

    /// The recording is over after so many samples.
    ///
    /// # Errors
    /// Those of the file.
    fn finish(&mut self, samples: u64) -> io::Result<()>;
}

/// What happens to a wire.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Event {
    Level(bool),
    /// A glitch begins or ends.
    Glitch(bool),
    /// Two begin to drive it, or no longer do.
    Fight(bool),
}

/// The state of a wire.
#[derive(Clone, Debug, Default)]
struct Wire {
    level: bool,
    glitch: bool,
    fight: bool,
    /// When its last change comes, so that jitter changes no order.
    last: u64,
    edges: Edges,
}

impl Wire {
    /// How far it is driven up, from 0 to 1; in a fight the middle.
    fn drive(&self) -> f64 {
        match (self.fight, self.level != self.glitch) {
            (true, _) => 0.5,
            (false, level) => f64::from(u8::from(level)),
        }
    }
}

/// The edges of a wire that are not over yet: when they came in picoseconds, and by how much.
#[derive(Clone, Debug, Default)]
struct Edges {
    base: f64,
    recent: Vec<(u64, f64)>,
    to: f64,
}

impl Edges {
    fn become_drive(&mut self, at: u64, drive: f64) {
        if drive != self.to {
            self.recent.push((at, drive - self.to));
            self.to = drive;
        }
    }

    /// The response of a line of first order, or of second order if it rings, to all its edges (step responses, superposed).
    fn value(&mut self, at: f64, volts: &Volts) -> f64 {
        let mut value = self.base;
        let mut settled = 0;
        for (n, (edge, step)) in self.recent.iter().enumerate() {
            let since = (at - *edge as f64) * 1e-12;
            if since <= 0.0 {
                continue;
            }
            let (response, is_over) = match volts.ringing {
                Some((hertz, lasting)) => {
                    let (omega, damping) = (std::f64::consts::TAU * hertz, 3.0 / (lasting.max(1) as f64 * 1e-12));
                    let fading = (-damping * since).exp();
                    let (sine, cosine) = (omega * since).sin_cos();
                    (1.0 - fading * (cosine + damping / omega * sine), fading < 1e-4)
                }
                None if volts.slope == 0 => (1.0, true),
                None => {
                    // From 10 % to 90 % takes ln 9 time constants.
                    let fading = (-since * 9f64.ln() / (volts.slope as f64 * 1e-12)).exp();
                    (1.0 - fading, fading < 1e-4)
                }
            };
            value += step * response;
            if is_over && settled == n {
                settled = n + 1;
            }
        }
        for (_, step) in self.recent.drain(..settled) {
            self.base += step;
        }
        value
    }
}

/// An instrument, fed with the changes of wires.
#[derive(Debug)]
pub struct Instrument<R> {
    settings: Settings,
    record: R,
    wires: Vec<Wire>,
    signals: Vec<Signal>,
    /// Changes whose time has not come.
    ahead: BinaryHeap<Reverse<(u64, u64, usize, Event)>>,
    /// How many changes came, so that those at one moment keep their order.
    count: u64,
    /// The number of the next sample.
    next: u64,
    next_glitch: Option<u64>,
    written: Vec<Value>,
    values: Vec<Value>,
    random: ChaCha8Rng,
    has_begun: bool,
}

impl<R: Record> Instrument<R> {
    /// On wires with these names and levels at rest. The same seed gives the same recording.
    pub fn new(settings: Settings, wires: &[(String, bool)], record: R, seed: u64) -> Self {
        let is_analog = settings.volts.is_some();
        let signal = |name: String| Signal { name, is_analog };
        let signals = wires.iter().flat_map(|(name, _)| match settings.is_pair {
            true => vec![signal(format!("{name}_p")), signal(format!("{name}_n"))],
            false => vec![signal(name.clone())],
        });
        let signals: Vec<Signal> = signals.collect();
        let wires = wires.iter().map(|(_, level)| {
            let drive = f64::from(u8::from(*level));
            Wire { level: *level, edges: Edges { base: drive, to: drive, ..Edges::default() }, ..Wire::default() }
        });
        Self {
            wires: wires.collect(),
            signals,
            settings,
            record,
            ahead: BinaryHeap::new(),
            count: 0,
            next: 0,
            next_glitch: None,
            written: Vec::new(),
            values: Vec::new(),
            random: ChaCha8Rng::seed_from_u64(seed ^ 0x7761_7665),
            has_begun: false,
        }
    }

    /// What it sees, and what it sees wrong.
    pub fn settings(&self) -> &Settings {
        &self.settings
    }

    fn push(&mut self, at: u64, wire: usize, event: Event) {
        self.count += 1;
        self.ahead.push(Reverse((at, self.count, wire, event)));
    }

    /// Changes of wires, none of them before the moment up to which it was told that all are known. `is_frame`: a frame of somebody,
    /// into which another one can speak.
    pub fn changes(&mut self, changes: &[Change], is_frame: bool) {
        for change in changes {
            let off = match self.settings.jitter {
                0 => 0,
                jitter => self.random.random_range(0..=2 * jitter) as i64 - jitter as i64,
            };
            let at = change.at.picoseconds().saturating_add_signed(off).max(self.wires[change.wire].last);
            self.wires[change.wire].last = at;
            self.push(at, change.wire, Event::Level(change.level));
        }
        if is_frame && !changes.is_empty() && self.random.random_bool(self.settings.contention.clamp(0.0, 1.0)) {
            let first = self.random.random_range(0..changes.len());
            let behind = (first + self.random.random_range(2..12)).min(changes.len() - 1);
            let wire = changes[first].wire;
            let from = changes[first].at.picoseconds();
            self.push(from, wire, Event::Fight(true));
            self.push(changes[behind].at.picoseconds().max(from + 1), wire, Event::Fight(false));
        }
    }

    /// All changes up to a moment are known.
    ///
    /// # Errors
    /// Those of the file.
    pub fn until(&mut self, at: Moment) -> io::Result<()> {
        let at = at.picoseconds();
        self.begin()?;
        self.glitches(at);
        while let Some(Reverse((when, _, wire, event))) = self.ahead.peek().copied().filter(|ahead| ahead.0.0 <= at) {
            self.ahead.pop();
            // A sample shows what happened up to its moment.
            self.samples_before(when)?;
            let wire = &mut self.wires[wire];
            match event {
                Event::Level(level) => wire.level = level,
                Event::Glitch(on) => wire.glitch = on,
                Event::Fight(on) => wire.fight = on,
            }
            let drive = wire.drive();
            wire.edges.become_drive(when, drive);
        }
        self.samples_before(at)
    }

    /// Puts glitches ahead up to a moment.
    fn glitches(&mut self, at: u64) {
        let Some((every, lasting)) = self.settings.glitches else { return };
        // Times between events that come by chance have an exponential distribution.
        let pause = |random: &mut ChaCha8Rng| (-(1.0 - random.random::<f64>()).ln() * every as f64) as u64 + 1;
        let mut next = self.next_glitch.unwrap_or_else(|| pause(&mut self.random));
        while next <= at {
            let wire = self.random.random_range(0..self.wires.len());
            self.push(next, wire, Event::Glitch(true));
            self.push(next + lasting, wire, Event::Glitch(false));
            next += lasting + pause(&mut self.random);
        }
        self.next_glitch = Some(next);
    }

    fn begin(&mut self) -> io::Result<()> {
        if std::mem::replace(&mut self.has_begun, true) {
            return Ok(());
        }
        self.record.signals(&self.signals, self.settings.rate)
    }

    /// The time of a sample in picoseconds of the line.
    fn time_of(&self, sample: u64) -> u64 {
        let since = u128::from(sample) * 1_000_000_000_000 / u128::from(self.settings.rate);
        self.settings.start.saturating_add(since as u64)
    }

    /// The first sample at a moment or behind it.
    fn first_sample(&self, at: u64) -> u64 {
        let since = u128::from(at.saturating_sub(self.settings.start));
        (since * u128::from(self.settings.rate)).div_ceil(1_000_000_000_000) as u64
    }

    /// So many samples a recording has at most.
    fn most_samples(&self) -> u64 {
        self.settings.lasting.map_or(u64::MAX, |lasting| self.first_sample(self.settings.start.saturating_add(lasting)))
    }

    /// Takes the samples in front of a moment.
    fn samples_before(&mut self, at: u64) -> io::Result<()> {
        let end = self.first_sample(at).min(self.most_samples());
        if self.record.takes_each() || self.settings.volts.is_some() {
            while self.next < end {
                self.take(self.next)?;
                self.next += 1;
            }
        } else if self.next < end {
            self.take(self.next)?;
            self.next = end;
        }
        Ok(())
    }

    /// Takes a sample.
    fn take(&mut self, number: u64) -> io::Result<()> {
        let at = self.time_of(number) as f64;
        self.values.clear();
        for n in 0..self.wires.len() {
            let wire = &mut self.wires[n];
            match &self.settings.volts {
                None => {
                    let value = match (wire.fight, wire.level != wire.glitch) {
                        (true, _) => Value::Unknown,
                        (false, false) => Value::Low,
                        (false, true) => Value::High,
                    };
                    self.values.push(value);
                    if self.settings.is_pair {
                        self.values.push(match value {
                            Value::Low => Value::High,
                            Value::High => Value::Low,
                            other => other,
                        });
                    }
                }
                Some(volts) => {
                    let share = wire.edges.value(at, volts);
                    let swing = volts.high - volts.low;
                    let mut push = |share: f64, random: &mut ChaCha8Rng| {
                        let noise = volts.noise * normal(random);
                        self.values.push(Value::Number(volts.low + swing * share + noise));
                    };
                    push(share, &mut self.random);
                    if self.settings.is_pair {
                        push(1.0 - share, &mut self.random);
                    }
                }
            }
        }
        if self.record.takes_each() || self.values != self.written {
            self.record.sample(number, &self.values)?;
            self.written.clone_from(&self.values);
        }
        Ok(())
    }

    /// The line is over.
    ///
    /// # Errors
    /// Those of the file.
    pub fn finish(mut self, at: Moment) -> io::Result<(R, u64)> {
        self.until(at)?;
        let samples = self.first_sample(at.picoseconds()).min(self.most_samples());
        self.record.finish(samples)?;
        Ok((self.record, samples))
    }
}

/// A number with the standard normal distribution (G. E. P. Box and M. E. Muller, A Note on the Generation of Random Normal Deviates,
/// 1958).
fn normal(random: &mut ChaCha8Rng) -> f64 {
    let (one, other) = (1.0 - random.random::<f64>(), random.random::<f64>());
    (-2.0 * one.ln()).sqrt() * (std::f64::consts::TAU * other).cos()
}
