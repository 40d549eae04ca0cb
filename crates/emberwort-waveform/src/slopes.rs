//! How steep the edges of signals with numbers are: rise and fall times from 10 % to 90 % of the step, as data sheets give them.

use std::ops::ControlFlow;

use crate::wave::{Moment, Signal, Value, WaveSink};
use crate::wiring::{Wiring, by_signal};

/// Steps of the histogram in which the two levels of a wire are found.
const STEPS: usize = 256;

/// The lower and the upper level of wires: their commonest numbers below and above the middle, so that what rings does not count.
#[derive(Clone, Debug)]
pub struct Levels {
    numbers: Numbers,
    /// By wire, the least and the greatest number; `None` if it has none.
    extremes: Vec<Option<(f64, f64)>>,
    counts: Vec<Vec<u64>>,
    last: Option<Moment>,
    /// The shortest time between two numbers, in picoseconds: edges of a few of them cannot be measured.
    pub step: Option<u64>,
}

impl Levels {
    /// Of wires with these extremes.
    pub fn new(wiring: &Wiring, extremes: &[Option<(f64, f64)>]) -> Self {
        let counts = vec![vec![0; STEPS]; wiring.wires.len()];
        Self { numbers: Numbers::new(wiring), extremes: extremes.to_vec(), counts, last: None, step: None }
    }

    /// By wire, the lower and the upper level.
    pub fn found(&self) -> Vec<Option<(f64, f64)>> {
        let of = |(extremes, counts): (&Option<(f64, f64)>, &Vec<u64>)| {
            let (least, greatest) = (*extremes)?;
            let commonest = |from: usize, to: usize| {
                let (index, count) = counts[from..to].iter().enumerate().max_by_key(|(_, count)| **count)?;
                let at = least + (greatest - least) * ((from + index) as f64 + 0.5) / STEPS as f64;
                (*count > 0).then_some(at)
            };
            Some((commonest(0, STEPS / 2)?, commonest(STEPS / 2, STEPS)?))
        };
        self.extremes.iter().zip(&self.counts).map(of).collect()
    }
}

impl WaveSink for Levels {
    fn signals(&mut self, signals: &[Signal]) -> ControlFlow<()> {
        self.numbers.signals(signals)
    }

    fn value(&mut self, at: Moment, signal: usize, value: Value) -> ControlFlow<()> {
        let since = self.last.replace(at).map(|last| at.since(last)).filter(|since| *since > 0);
        self.step = self.step.into_iter().chain(since).min();
        let (counts, extremes) = (&mut self.counts, &self.extremes);
        self.numbers.value(signal, value, |wire, number| {
            if let Some((least, greatest)) = extremes[wire] {
                let place = (number - least) / (greatest - least).max(f64::MIN_POSITIVE) * STEPS as f64;
                counts[wire][(place.max(0.0) as usize).min(STEPS - 1)] += 1;
            }
        });
        ControlFlow::Continue(())
    }

    fn until(&mut self, _: Moment) -> ControlFlow<()> {
        ControlFlow::Continue(())
    }
}

/// How many edges there were of one direction, and how long they took, in picoseconds.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Slope {
    /// How many.
    pub count: u64,
    /// The shortest.
    pub least: f64,
    /// The longest.
    pub most: f64,
    sum: f64,
}

impl Slope {
    fn add(&mut self, picoseconds: f64) {
        self.least = if self.count == 0 { picoseconds } else { self.least.min(picoseconds) };
        self.most = self.most.max(picoseconds);
        self.sum += picoseconds;
        self.count += 1;
    }

    /// The mean; `None` if there was none.
    pub fn mean(&self) -> Option<f64> {
        (self.count > 0).then(|| self.sum / self.count as f64)
    }
}

/// Measures edges between two levels of wires.
#[derive(Clone, Debug)]
pub struct Slopes {
    numbers: Numbers,
    levels: Vec<Option<(f64, f64)>>,
    /// By wire: the last number and when it was; when it left 10 % or 90 %, and upwards.
    last: Vec<Option<(Moment, f64)>>,
    left: Vec<Option<(f64, bool)>>,
    /// By wire: those that rise, those that fall.
    pub found: Vec<[Slope; 2]>,
    /// The time between two numbers, in picoseconds.
    step: u64,
}

impl Slopes {
    /// Of wires with these lower and upper levels, and with a number every so many picoseconds, where it is not the one before.
    pub fn new(wiring: &Wiring, levels: Vec<Option<(f64, f64)>>, step: u64) -> Self {
        let count = wiring.wires.len();
        Self {
            numbers: Numbers::new(wiring),
            levels,
            last: vec![None; count],
            left: vec![None; count],
            found: vec![Default::default(); count],
            step,
        }
    }
}

impl WaveSink for Slopes {
    fn signals(&mut self, signals: &[Signal]) -> ControlFlow<()> {
        self.numbers.signals(signals)
    }

    fn value(&mut self, at: Moment, signal: usize, value: Value) -> ControlFlow<()> {
        let Self { levels, last, left, found, numbers, step } = self;
        numbers.value(signal, value, |wire, number| {
            let Some((low, high)) = levels[wire] else { return };
            let before = last[wire].replace((at, number));
            let Some((since, was)) = before else { return };
            // A number that stayed what it was may not have been told again.
            let since = since.max(Moment::from_picoseconds(at.picoseconds().saturating_sub(*step)));
            // When the straight line between two numbers passes a share of the step.
            let passes = |share: f64, upwards: bool| {
                let level = low + (high - low) * share;
                let does = if upwards { was < level && number >= level } else { was > level && number <= level };
                does.then(|| {
                    let part = (level - was) / (number - was);
                    since.picoseconds() as f64 + part * at.since(since) as f64
                })
            };
            for (upwards, from, to) in [(true, 0.1, 0.9), (false, 0.9, 0.1)] {
                if let Some(begins) = passes(from, upwards) {
                    left[wire] = Some((begins, upwards));
                }
                // An edge that turns back before it is through is none.
                if passes(from, !upwards).is_some() && left[wire].is_some_and(|(_, of)| of == upwards) {
                    left[wire] = None;
                }
                if let (Some(ends), Some((begins, of))) = (passes(to, upwards), left[wire])
                    && of == upwards
                {
                    found[wire][usize::from(!upwards)].add(ends - begins);
                    left[wire] = None;
                }
            }
        });
        ControlFlow::Continue(())
    }

    fn until(&mut self, _: Moment) -> ControlFlow<()> {
        ControlFlow::Continue(())
    }
}

/// The numbers of wires, of differences too.
#[derive(Clone, Debug)]
struct Numbers {
    wiring: Wiring,
    by_signal: Vec<Vec<(usize, bool)>>,
    last: Vec<[Option<f64>; 2]>,
}

impl Numbers {
    fn new(wiring: &Wiring) -> Self {
        Self { wiring: wiring.clone(), by_signal: Vec::new(), last: vec![[None; 2]; wiring.wires.len()] }
    }

    fn signals(&mut self, signals: &[Signal]) -> ControlFlow<()> {
        self.by_signal = by_signal(&self.wiring, signals).unwrap_or_default();
        let has_numbers = signals.iter().any(|signal| signal.is_analog);
        if has_numbers { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    }

    fn value(&mut self, signal: usize, value: Value, mut act: impl FnMut(usize, f64)) {
        let Value::Number(number) = value else { return };
        for (wire, is_minus) in self.by_signal.get(signal).into_iter().flatten() {
            let last = &mut self.last[*wire];
            last[usize::from(*is_minus)] = Some(number);
            match (&*last, &self.wiring.wires[*wire].minus) {
                ([Some(plus), Some(minus)], Some(_)) => act(*wire, plus - minus),
                ([Some(number), _], None) => act(*wire, *number),
                _ => {}
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::wiring::Wire;

    /// Steps from 0 to 3 V in 1 us and back in 2 us, with an overshoot, sampled every 100 ns.
    #[test]
    fn edges_are_measured_between_the_levels_at_rest() {
        let wiring = Wiring { wires: vec![Wire::parse("device=a").unwrap()] };
        let mut numbers = Vec::new();
        for _ in 0..4 {
            numbers.extend([0.0; 40]);
            numbers.extend((1..=10).map(|n| 0.3 * f64::from(n)));
            numbers.extend([3.4, 3.2]);
            numbers.extend([3.0; 40]);
            numbers.extend((1..=20).map(|n| 3.0 - 0.15 * f64::from(n)));
            numbers.extend([-0.4, -0.2]);
        }
        let signals = [Signal { name: "a".to_owned(), is_analog: true }];
        let feed = |sink: &mut dyn FnMut(Moment, Value)| {
            for (n, number) in numbers.iter().enumerate() {
                sink(Moment::from_picoseconds(n as u64 * 100_000), Value::Number(*number));
            }
        };
        let mut levels = Levels::new(&wiring, &[Some((-0.4, 3.4))]);
        assert!(levels.signals(&signals).is_continue());
        feed(&mut |at, value| assert!(levels.value(at, 0, value).is_continue()));
        let found = levels.found();
        let (low, high) = found[0].unwrap();
        assert!(low.abs() < 0.02 && (high - 3.0).abs() < 0.02, "{low} {high}");
        let mut slopes = Slopes::new(&wiring, found, levels.step.unwrap());
        assert!(slopes.signals(&signals).is_continue());
        feed(&mut |at, value| assert!(slopes.value(at, 0, value).is_continue()));
        let [rise, fall] = slopes.found[0];
        assert_eq!((rise.count, fall.count), (4, 4));
        assert!((rise.mean().unwrap() / 800_000.0 - 1.0).abs() < 0.02, "{rise:?}");
        assert!((fall.mean().unwrap() / 1_600_000.0 - 1.0).abs() < 0.02, "{fall:?}");
    }
}
