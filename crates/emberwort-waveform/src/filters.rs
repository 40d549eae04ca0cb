//! Filters in front of what looks at a waveform: a part of its time, and numbers without what changes too fast.

use std::ops::ControlFlow;

use crate::wave::{Moment, Signal, Value, WaveSink};

/// Hands on what lies between two moments of a waveform. What signals had at the first moment is handed on at it.
#[derive(Debug)]
pub struct Spanned<'a, S: ?Sized> {
    from: Moment,
    to: Moment,
    /// The last value of each signal before the first moment.
    before: Vec<Option<Value>>,
    has_begun: bool,
    sink: &'a mut S,
}

impl<'a, S: WaveSink + ?Sized> Spanned<'a, S> {
    /// In front of a sink.
    pub fn new((from, to): (Moment, Moment), sink: &'a mut S) -> Self {
        Self { from, to, before: Vec::new(), has_begun: from == Moment::default(), sink }
    }

    /// Whether a moment is inside, once what came before is told.
    fn reach(&mut self, at: Moment) -> ControlFlow<(), bool> {
        if at < self.from {
            return ControlFlow::Continue(false);
        }
        if !std::mem::replace(&mut self.has_begun, true) {
            for (signal, value) in self.before.iter().enumerate() {
                if let Some(value) = value {
                    self.sink.value(self.from, signal, *value)?;
                }
            }
        }
        if at > self.to {
            self.sink.until(self.to)?;
            return ControlFlow::Break(());
        }
        ControlFlow::Continue(true)
    }
}

impl<S: WaveSink + ?Sized> WaveSink for Spanned<'_, S> {
    fn signals(&mut self, signals: &[Signal]) -> ControlFlow<()> {
        self.before = vec![None; signals.len()];
        self.sink.signals(signals)
    }

    fn value(&mut self, at: Moment, signal: usize, value: Value) -> ControlFlow<()> {
        if self.reach(at)? {
            return self.sink.value(at, signal, value);
        }
        if let Some(before) = self.before.get_mut(signal) {
            *before = Some(value);
        }
        ControlFlow::Continue(())
    }

    fn until(&mut self, at: Moment) -> ControlFlow<()> {
        if self.reach(at)? { self.sink.until(at) } else { ControlFlow::Continue(()) }
    }

    fn pause(&mut self) {
        self.sink.pause();
    }
}

/// A low pass of first order for signals with numbers (the response of a resistor and a capacitor).
#[derive(Debug)]
pub struct Smoothed<'a, S: ?Sized> {
    /// Radians a picosecond at which half of the power passes.
    omega: f64,
    last: Vec<Option<(Moment, f64)>>,
    sink: &'a mut S,
}

impl<'a, S: WaveSink + ?Sized> Smoothed<'a, S> {
    /// In front of a sink, with the frequency in hertz at which half of the power passes.
    pub fn new(hertz: f64, sink: &'a mut S) -> Self {
        Self { omega: std::f64::consts::TAU * hertz * 1e-12, last: Vec::new(), sink }
    }
}

impl<S: WaveSink + ?Sized> WaveSink for Smoothed<'_, S> {
    fn signals(&mut self, signals: &[Signal]) -> ControlFlow<()> {
        self.last = vec![None; signals.len()];
        self.sink.signals(signals)
    }

    fn value(&mut self, at: Moment, signal: usize, value: Value) -> ControlFlow<()> {
        let (Value::Number(number), Some(last)) = (value, self.last.get_mut(signal)) else {
            return self.sink.value(at, signal, value);
        };
        let smoothed = match *last {
            Some((before, old)) => old + (number - old) * (1.0 - (-self.omega * at.since(before) as f64).exp()),
            None => number,
        };
        *last = Some((at, smoothed));
        self.sink.value(at, signal, Value::Number(smoothed))
    }

    fn until(&mut self, at: Moment) -> ControlFlow<()> {
        self.sink.until(at)
    }

    fn pause(&mut self) {
        self.sink.pause();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[derive(Default)]
    struct Log(Vec<(u64, Value)>, u64);

    impl WaveSink for Log {
        fn signals(&mut self, _: &[Signal]) -> ControlFlow<()> {
            ControlFlow::Continue(())
        }

        fn value(&mut self, at: Moment, _: usize, value: Value) -> ControlFlow<()> {
            self.0.push((at.picoseconds(), value));
            ControlFlow::Continue(())
        }

        fn until(&mut self, at: Moment) -> ControlFlow<()> {
            self.1 = at.picoseconds();
            ControlFlow::Continue(())
        }
    }

    const SIGNAL: [Signal; 1] = [Signal { name: String::new(), is_analog: true }];

    #[test]
    fn a_span_begins_with_what_was_there_and_ends_in_time() {
        let mut log = Log::default();
        let moment = Moment::from_picoseconds;
        let mut span = Spanned::new((moment(10), moment(20)), &mut log);
        let _ = span.signals(&SIGNAL);
        for (at, value) in [(0, Value::Low), (5, Value::High), (15, Value::Low), (20, Value::High)] {
            assert!(span.value(moment(at), 0, value).is_continue());
        }
        assert!(span.value(moment(21), 0, Value::Low).is_break());
        assert_eq!(log.0, [(10, Value::High), (15, Value::Low), (20, Value::High)]);
        assert_eq!(log.1, 20);
    }

    #[test]
    fn a_step_is_at_63_percent_after_one_time_constant() {
        let mut log = Log::default();
        // 1 / (2 pi 1 MHz) is 159.155 ns.
        let mut smoothed = Smoothed::new(1e6, &mut log);
        let _ = smoothed.signals(&SIGNAL);
        let _ = smoothed.value(Moment::default(), 0, Value::Number(0.0));
        let _ = smoothed.value(Moment::from_picoseconds(159_155), 0, Value::Number(1.0));
        let Value::Number(number) = log.0[1].1 else { panic!() };
        assert!((number - 0.632).abs() < 1e-3, "{number}");
    }
}
