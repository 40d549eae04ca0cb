//! Quantiles of many times in little memory.

use hdrhistogram::Histogram;

/// So many values are kept as they are; with more of them, each is known to one part in a thousand.
const EXACT: usize = 4096;

/// Times in nanoseconds, of which quantiles are asked.
#[derive(Clone, Debug, Default)]
pub struct Quantiles {
    exact: Vec<u64>,
    histogram: Option<Box<Histogram<u32>>>,
    count: u64,
    sum: u128,
}

impl Quantiles {
    /// One more.
    pub fn add(&mut self, value: u64) {
        self.count += 1;
        self.sum += u128::from(value);
        match &mut self.histogram {
            // With room made as needed there is nothing that it refuses.
            Some(histogram) => drop(histogram.record(value)),
            None if self.exact.len() < EXACT => self.exact.push(value),
            None => {
                // Three digits are among those that the library can have.
                let Ok(mut histogram) = Histogram::new(3) else { return };
                histogram.auto(true);
                for value in self.exact.drain(..).chain([value]) {
                    let _ = histogram.record(value);
                }
                self.histogram = Some(Box::new(histogram));
            }
        }
    }

    /// How many there are.
    pub fn count(&self) -> u64 {
        self.count
    }

    /// Their mean.
    pub fn mean(&self) -> Option<u64> {
        (self.count > 0).then(|| (self.sum / u128::from(self.count)) as u64)
    }

    /// The least value that such a share of all does not exceed: the median for 0.5 (nearest rank).
    pub fn at(&self, share: f64) -> Option<u64> {
        if self.count == 0 {
            return None;
        }
        if let Some(histogram) = &self.histogram {
            return Some(histogram.value_at_quantile(share));
        }
        let mut sorted = self.exact.clone();
        sorted.sort_unstable();
        let rank = (share * sorted.len() as f64).ceil() as usize;
        sorted.get(rank.clamp(1, sorted.len()) - 1).copied()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn quantiles_are_those_of_all_values() {
        for count in [1u64, 100, 4096, 50_000] {
            let mut quantiles = Quantiles::default();
            (0..count).for_each(|n| quantiles.add((n * 7919) % count * 1_000_000 + 5));
            for share in [0.01, 0.5, 0.99, 1.0] {
                let rank = ((share * count as f64).ceil() as u64).clamp(1, count) - 1;
                let (found, expected) = (quantiles.at(share).unwrap(), rank * 1_000_000 + 5);
                assert!(
                    found.abs_diff(expected) <= if count > 4096 { expected / 500 + 2 } else { 0 },
                    "{count} {share}"
                );
            }
        }
        assert_eq!(Quantiles::default().at(0.5), None);
    }
}
