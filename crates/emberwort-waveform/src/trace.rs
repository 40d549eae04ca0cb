//! What wires did over time, as a picture needs it: an envelope of the whole, and the edges of a part.

use std::ops::ControlFlow;

use crate::wave::{Moment, Signal, Value, WaveSink};
use crate::wiring::{Comparator, Wiring, by_signal};

/// The least and the greatest of something in equal steps of time. Memory does not grow with the length: steps become longer.
#[derive(Clone, Debug)]
pub struct Envelope {
    /// When it begins.
    pub from: Moment,
    /// How long a step is, in picoseconds.
    pub step: u64,
    /// Of each step the least and the greatest number; the first one greater than the second where nothing is known.
    pub steps: Vec<(f32, f32)>,
    most: usize,
    /// The number at hand, and since when.
    now: Option<(Moment, f32)>,
}

/// A step in which nothing is known.
const NOTHING: (f32, f32) = (f32::INFINITY, f32::NEG_INFINITY);

impl Envelope {
    /// From a moment on, with so many steps at most, each of so many picoseconds at least.
    pub fn new(from: Moment, most: usize, step: u64) -> Self {
        Self { from, step: step.max(1), steps: Vec::new(), most: most.max(2) & !1, now: None }
    }

    fn note(&mut self, at: Moment, number: f32) {
        if at < self.from {
            return;
        }
        let mut index = (at.since(self.from) / self.step) as usize;
        while index >= self.most {
            // Steps of twice the length, so that there are half as many.
            self.steps = self
                .steps
                .chunks(2)
                .map(|pair| pair.iter().fold(NOTHING, |(least, most), step| (least.min(step.0), most.max(step.1))))
                .collect();
            self.step = self.step.saturating_mul(2);
            index = (at.since(self.from) / self.step) as usize;
        }
        if self.steps.len() <= index {
            self.steps.resize(index + 1, NOTHING);
        }
        let step = &mut self.steps[index];
        *step = (step.0.min(number), step.1.max(number));
    }

    /// Up to a moment the number stays what it is.
    fn hold(&mut self, at: Moment) {
        let Some((since, number)) = self.now else { return };
        let mut from = since.max(self.from);
        while from < at {
            self.note(from, number);
            // To the begin of the next step, which may be another one once steps are longer.
            let next = (from.since(self.from) / self.step + 1).saturating_mul(self.step);
            from = self.from.after(next);
        }
        self.now = Some((at.max(since), number));
    }

    /// From a moment on it is a number.
    pub(crate) fn become_number(&mut self, at: Moment, number: f32) {
        self.hold(at);
        self.note(at, number);
        self.now = Some((at, number));
    }

    /// Nothing is known from a moment on.
    pub(crate) fn become_unknown(&mut self, at: Moment) {
        self.hold(at);
        self.now = None;
    }
}

/// What one wire did.
#[derive(Clone, Debug)]
pub struct Trace {
    /// Its role, and the signal that it is.
    pub name: String,
    /// Whether it has numbers.
    pub is_analog: bool,
    /// The whole: numbers, or 0 and 1.
    pub overview: Envelope,
    /// The part that is looked at: numbers of a wire that has some.
    pub part: Envelope,
    /// The changes of its level in the part, the first one at its begin; `None` where nobody knows it.
    pub edges: Vec<(Moment, Option<bool>)>,
    /// The threshold between low and high, if it has numbers.
    pub threshold: Option<f64>,
    level: Option<Option<bool>>,
}

/// Collects the traces of wires.
#[derive(Debug)]
pub struct Traces {
    wiring: Wiring,
    by_signal: Vec<Vec<(usize, bool)>>,
    comparators: Vec<Comparator>,
    numbers: Vec<[Option<f64>; 2]>,
    /// The part that is looked at.
    span: (Moment, Moment),
    most_edges: usize,
    /// By wire.
    pub traces: Vec<Trace>,
    /// The end of the waveform.
    pub end: Moment,
    /// Whether there were more edges than are kept.
    pub is_cut: bool,
}

/// Steps of the envelope of the whole.
const OVERVIEW: usize = 2048;

impl Traces {
    /// Of the wires, with the edges between two moments, at most so many of each; numbers there in so many steps.
    pub fn new(wiring: &Wiring, span: (Moment, Moment), most_edges: usize, steps: usize) -> Self {
        let step = span.1.since(span.0) / steps.max(1) as u64;
        let known = span.1 < Moment::from_picoseconds(u64::MAX / 2);
        let trace = |wire: &crate::wiring::Wire| Trace {
            name: match &wire.minus {
                Some(minus) => format!("{} = {}-{minus}", wire.role, wire.signal),
                None if wire.role.to_string() == wire.signal => wire.signal.clone(),
                None => format!("{} = {}", wire.role, wire.signal),
            },
            is_analog: false,
            overview: Envelope::new(Moment::default(), OVERVIEW, 1000),
            part: Envelope::new(span.0, steps, if known { step } else { 1000 }),
            edges: Vec::new(),
            threshold: wire.threshold.map(|threshold| threshold.at),
            level: None,
        };
        Self {
            wiring: wiring.clone(),
            by_signal: Vec::new(),
            comparators: wiring.wires.iter().map(Comparator::new).collect(),
            numbers: vec![[None; 2]; wiring.wires.len()],
            span,
            most_edges,
            traces: wiring.wires.iter().map(trace).collect(),
            end: Moment::default(),
            is_cut: false,
        }
    }

    /// The waveform is over.
    pub fn finish(&mut self) {
        let end = self.end;
        let part_end = end.min(self.span.1);
        for trace in &mut self.traces {
            trace.overview.hold(end);
            trace.part.hold(part_end);
        }
    }
}

impl WaveSink for Traces {
    fn signals(&mut self, signals: &[Signal]) -> ControlFlow<()> {
        self.by_signal = by_signal(&self.wiring, signals).unwrap_or_default();
        for (signal, wires) in signals.iter().zip(&self.by_signal) {
            for (wire, _) in wires {
                self.traces[*wire].is_analog |= signal.is_analog;
            }
        }
        ControlFlow::Continue(())
    }

    fn value(&mut self, at: Moment, signal: usize, value: Value) -> ControlFlow<()> {
        self.end = at;
        for n in 0..self.by_signal.get(signal).map_or(0, Vec::len) {
            let (wire, is_minus) = self.by_signal[signal][n];
            let has_minus = self.wiring.wires[wire].minus.is_some();
            let trace = &mut self.traces[wire];
            let inside = at <= self.span.1;
            if let Value::Number(number) = value {
                let numbers = &mut self.numbers[wire];
                numbers[usize::from(is_minus)] = Some(number);
                let shown = match numbers {
                    [Some(plus), Some(minus)] if has_minus => Some(*plus - *minus),
                    [Some(plus), _] if !has_minus => Some(*plus),
                    _ => None,
                };
                if let Some(shown) = shown {
                    trace.overview.become_number(at, shown as f32);
                    if inside {
                        trace.part.become_number(at, shown as f32);
                    }
                }
            }
            let Some(level) = self.comparators[wire].take(value, is_minus, has_minus) else { continue };
            if !trace.is_analog {
                match level {
                    Some(level) => trace.overview.become_number(at, f32::from(u8::from(level))),
                    None => trace.overview.become_unknown(at),
                }
            }
            if at < self.span.0 {
                trace.level = Some(level);
            } else if inside {
                if trace.edges.is_empty()
                    && let Some(before) = trace.level
                {
                    trace.edges.push((self.span.0, before));
                }
                if trace.edges.len() < self.most_edges {
                    trace.edges.push((at, level));
                } else {
                    self.is_cut = true;
                }
            }
        }
        ControlFlow::Continue(())
    }

    fn until(&mut self, at: Moment) -> ControlFlow<()> {
        self.end = at;
        for trace in &mut self.traces {
            if trace.edges.is_empty()
                && at >= self.span.0
                && let Some(before) = trace.level
            {
                trace.edges.push((self.span.0, before));
            }
        }
        ControlFlow::Continue(())
    }
}

/// Two sinks of the same waveform. It is read until both have enough.
#[derive(Debug)]
pub struct BothSinks<'a, A, B>(&'a mut A, &'a mut B, [bool; 2]);

impl<'a, A: WaveSink, B: WaveSink> BothSinks<'a, A, B> {
    /// Of two sinks.
    pub fn new(one: &'a mut A, other: &'a mut B) -> Self {
        Self(one, other, [true; 2])
    }

    fn each(
        &mut self,
        one: impl FnOnce(&mut A) -> ControlFlow<()>,
        other: impl FnOnce(&mut B) -> ControlFlow<()>,
    ) -> ControlFlow<()> {
        self.2[0] = self.2[0] && one(self.0).is_continue();
        self.2[1] = self.2[1] && other(self.1).is_continue();
        if self.2.contains(&true) { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    }
}

impl<A: WaveSink, B: WaveSink> WaveSink for BothSinks<'_, A, B> {
    fn signals(&mut self, signals: &[Signal]) -> ControlFlow<()> {
        self.each(|one| one.signals(signals), |other| other.signals(signals))
    }

    fn value(&mut self, at: Moment, signal: usize, value: Value) -> ControlFlow<()> {
        self.each(|one| one.value(at, signal, value), |other| other.value(at, signal, value))
    }

    fn until(&mut self, at: Moment) -> ControlFlow<()> {
        self.each(|one| one.until(at), |other| other.until(at))
    }

    fn pause(&mut self) {
        self.0.pause();
        self.1.pause();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_envelope_keeps_the_shortest_pulse() {
        let moment = Moment::from_picoseconds;
        let mut envelope = Envelope::new(moment(0), 8, 10);
        envelope.become_number(moment(0), 0.0);
        envelope.become_number(moment(5_001), 1.0);
        envelope.become_number(moment(5_002), 0.0);
        envelope.hold(moment(10_000));
        assert!(envelope.steps.len() <= 8, "{envelope:?}");
        let high: Vec<bool> = envelope.steps.iter().map(|(_, most)| *most > 0.5).collect();
        assert_eq!(high.iter().filter(|high| **high).count(), 1);
        assert_eq!(high.iter().position(|high| *high), Some((5_001 / envelope.step) as usize));
        assert!(envelope.steps.iter().all(|(least, _)| *least == 0.0));
    }
}
