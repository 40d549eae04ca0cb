//! How often one message of one sender comes, and how regularly.

use emberwort_wire::Time;

use super::quantiles::Quantiles;

/// The frames of one message of one sender.
#[derive(Clone, Debug)]
pub struct Timing {
    /// What the definition says of the time between them, in nanoseconds.
    pub every: Option<u64>,
    /// How many.
    pub count: u64,
    /// Their bytes as they came.
    pub bytes: u64,
    /// When the first came.
    pub first: Option<Time>,
    /// When the last came.
    pub last: Option<Time>,
    /// The times between them, but for those in which some lack.
    pub periods: Quantiles,
    /// How far those are from what the definition says.
    pub deviations: Quantiles,
    /// How many lack, by the time: a pause of one and a half periods and more stands for those that would fit in.
    pub missing: u64,
    /// The longest pause.
    pub longest: u64,
}

impl Timing {
    /// None yet.
    pub fn new(every: Option<u64>) -> Self {
        let (periods, deviations) = Default::default();
        Self { every, count: 0, bytes: 0, first: None, last: None, periods, deviations, missing: 0, longest: 0 }
    }

    /// One more.
    pub fn add(&mut self, time: Option<Time>, bytes: usize) {
        self.count += 1;
        self.bytes += bytes as u64;
        let Some(time) = time else { return };
        self.first.get_or_insert(time);
        if let Some(last) = self.last.replace(time) {
            let pause = time.since(last);
            self.longest = self.longest.max(pause);
            match self.every.filter(|every| *every > 0 && pause >= every + every / 2) {
                Some(every) => self.missing += (pause + every / 2) / every - 1,
                None => {
                    self.periods.add(pause);
                    if let Some(every) = self.every {
                        self.deviations.add(pause.abs_diff(every));
                    }
                }
            }
        }
    }

    /// How many come in a second.
    pub fn rate(&self) -> Option<f64> {
        let span = self.last?.since(self.first?);
        (span > 0).then(|| (self.count - 1) as f64 * 1e9 / span as f64)
    }

    /// How far the times between them spread: the 99th less the first of a hundred.
    pub fn jitter(&self) -> Option<u64> {
        Some(self.periods.at(0.99)? - self.periods.at(0.01)?)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pauses_tell_how_many_lack() {
        let mut timing = Timing::new(Some(200));
        for time in [0, 200, 402, 1000, 1199, 1401] {
            timing.add(Some(Time::from_nanoseconds(time)), 10);
        }
        assert_eq!((timing.count, timing.missing, timing.longest), (6, 2, 598));
        assert_eq!((timing.periods.at(0.5), timing.deviations.at(1.0)), (Some(200), Some(2)));
        assert_eq!(timing.jitter(), Some(3));
    }
}
