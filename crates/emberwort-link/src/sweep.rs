//! A trial again and again, with one fault of the wire at many rates: how many frames are lost, and how many should be.

use emberwort_model::plan::{Direction, Role};
use rayon::prelude::*;

use crate::Nanoseconds;
use crate::definitions::TrialDefinitionId;
use crate::report::Report;
use crate::scenario::Scenario;
use crate::trial::{TrialObserver, run};
use crate::wire::Faults;

/// A fault that a sweep varies.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Swept {
    /// The chance that a bit is received wrong.
    BitErrors,
    /// The chance that a byte is not received.
    ByteLoss,
    /// The chance that a byte comes out of nowhere.
    Inserted,
    /// The chance that a whole frame is not received.
    FrameLoss,
}

impl Swept {
    /// All of them, by the names that trial files use.
    pub const ALL: [(&'static str, Swept); 4] = [
        ("bit_errors", Self::BitErrors),
        ("byte_loss", Self::ByteLoss),
        ("inserted", Self::Inserted),
        ("frame_loss", Self::FrameLoss),
    ];

    fn faults(self, rate: f64) -> Faults {
        let mut faults = Faults::default();
        *match self {
            Self::BitErrors => &mut faults.bit_errors,
            Self::ByteLoss => &mut faults.byte_loss,
            Self::Inserted => &mut faults.inserted,
            Self::FrameLoss => &mut faults.frame_loss,
        } = rate;
        faults
    }

    /// The chance that a frame of so many bytes does not arrive as it was sent: 1 − (1 − p)ⁿ for the n bits or bytes that it can hit,
    /// each by itself.
    pub fn loss(self, rate: f64, bytes: usize) -> f64 {
        let chances = match self {
            Self::BitErrors => 8 * bytes,
            Self::ByteLoss | Self::Inserted => bytes,
            Self::FrameLoss => 1,
        };
        -((chances as f64) * (-rate).ln_1p()).exp_m1()
    }
}

/// What came of all runs at one rate.
#[derive(Clone, Debug, PartialEq)]
pub struct SweepPoint {
    /// The chance of the fault.
    pub rate: f64,
    /// Frames that were sent.
    pub sent: u64,
    /// Frames that were not received whole.
    pub lost: u64,
    /// The share that should be lost, by [`Swept::loss`] over the lengths of the frames that were sent.
    pub expected_loss: f64,
    /// Good frames with other values than those that were sent.
    pub false_accepts: u64,
    /// How many of these the checksums let one expect at most: one of 2ᶜ damaged frames for c check bits.
    pub expected_false_accepts: f64,
    /// The median and the longest of the longest times, in each run, between two good frames with something broken between
    /// them, at the host.
    pub recovery: Option<(Nanoseconds, Nanoseconds)>,
    /// How many runs met all that must hold.
    pub passed: u64,
}

impl SweepPoint {
    /// The share of lost frames.
    pub fn loss(&self) -> f64 {
        self.lost as f64 / self.sent.max(1) as f64
    }

    /// Between which shares the real one lies with a confidence of 99 % (E. B. Wilson, Probable Inference, the Law of Succession, and
    /// Statistical Inference, 1927).
    pub fn band(&self) -> (f64, f64) {
        const Z: f64 = 2.575_829;
        let (n, share) = (self.sent.max(1) as f64, self.loss());
        let middle = (share + Z * Z / (2.0 * n)) / (1.0 + Z * Z / n);
        let reach = Z / (1.0 + Z * Z / n) * (share * (1.0 - share) / n + Z * Z / (4.0 * n * n)).sqrt();
        ((middle - reach).max(0.0), (middle + reach).min(1.0))
    }
}

/// So many bits of a frame are checksums.
pub(crate) fn check_bits(direction: &Direction) -> u32 {
    let bits = |role: &Role, bits: u8| if matches!(role, Role::Checksum { .. }) { u32::from(bits) } else { 0 };
    direction.parts.iter().map(|part| bits(&part.role, part.bits)).sum()
}

/// Rates from one to another, `per_decade` of them for each factor of ten, both ends among them.
pub fn rates(from: f64, to: f64, per_decade: u32) -> Vec<f64> {
    let decades = (to / from).log10();
    let steps = (decades * f64::from(per_decade)).ceil().max(1.0) as u32;
    (0..=steps).map(|step| from * (to / from).powf(f64::from(step) / f64::from(steps))).collect()
}

/// Asks now and then whether a run goes on.
struct StopCheck<'a>(&'a (dyn Fn() -> bool + Sync));

impl TrialObserver for StopCheck<'_> {
    fn should_continue(&mut self, _: Nanoseconds) -> bool {
        (self.0)()
    }
}

/// Runs a trial at each rate with so many seeds, on all cores. All other faults of its wire are left out, so that theory has a say.
/// `done` is told whenever a run is over, and `goes_on` asked whether to go on; what ended early is not counted.
pub fn sweep(
    scenario: &Scenario,
    swept: Swept,
    rates: &[f64],
    seeds: u64,
    done: &(dyn Fn() + Sync),
    goes_on: &(dyn Fn() -> bool + Sync),
) -> Vec<SweepPoint> {
    let jobs: Vec<(usize, u64)> = (0..rates.len()).flat_map(|rate| (0..seeds).map(move |seed| (rate, seed))).collect();
    let run_one = |(index, seed): (usize, u64)| {
        let mut scenario = scenario.clone();
        scenario.seed = scenario.seed.wrapping_add(seed);
        scenario.faults = swept.faults(rates[index]);
        scenario.to_device = scenario.faults;
        scenario.stretches.clear();
        scenario.bursts = None;
        let report = goes_on().then(|| run(&scenario, &mut StopCheck(goes_on)));
        done();
        report.filter(|_| goes_on()).map(|report| (index, report))
    };
    let definition = scenario.definitions.get(TrialDefinitionId::default());
    let direction = definition.plan.channels[definition.channel].direction(emberwort_model::model::End::Device);
    let bits = check_bits(direction);
    let mut points: Vec<SweepPoint> = rates.iter().map(|rate| SweepPoint::new(*rate)).collect();
    let mut recoveries = vec![Vec::new(); rates.len()];
    let reports: Vec<(usize, Report)> = jobs.into_par_iter().filter_map(run_one).collect();
    for (index, report) in &reports {
        points[*index].add(swept, bits, report, &mut recoveries[*index]);
    }
    for (point, times) in points.iter_mut().zip(&mut recoveries) {
        point.expected_loss /= point.sent.max(1) as f64;
        times.sort_unstable();
        point.recovery = times.get(times.len() / 2).copied().zip(times.last().copied());
    }
    points
}

impl SweepPoint {
    fn new(rate: f64) -> Self {
        Self {
            rate,
            sent: 0,
            lost: 0,
            expected_loss: 0.0,
            false_accepts: 0,
            expected_false_accepts: 0.0,
            recovery: None,
            passed: 0,
        }
    }

    /// Adds one run. The expected loss is a sum of frames until all are added.
    fn add(&mut self, swept: Swept, check_bits: u32, report: &Report, recoveries: &mut Vec<Nanoseconds>) {
        self.sent += report.sent.values().sum::<u64>();
        self.lost += report.lost.values().sum::<u64>();
        self.false_accepts += report.wrong;
        let damaged: u64 = report.damaged.values().sum();
        self.expected_false_accepts += damaged as f64 / f64::from(check_bits).exp2();
        self.passed += u64::from(report.passed());
        for (length, count) in &report.lengths {
            self.expected_loss += *count as f64 * swept.loss(self.rate, length.index());
        }
        // Of the host, which is sent to regularly: a device may wait long for the next frame at all.
        let host = report.recovery.get(&None).filter(|all| all.times > 0);
        recoveries.extend(host.map(|all| all.slowest));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_chance_of_a_loss_is_that_of_at_least_one_hit() {
        // 1 − (1 − 0.5)³ for three bytes.
        assert!((Swept::ByteLoss.loss(0.5, 3) - 0.875).abs() < 1e-12);
        assert!(
            (Swept::BitErrors.loss(1e-12, 10) - 80e-12).abs() < 1e-20,
            "no digits are lost where the chance is small"
        );
        assert!((Swept::FrameLoss.loss(0.25, 99) - 0.25).abs() < 1e-12);
        let three = rates(1e-6, 1e-4, 1);
        assert!(three.iter().zip([1e-6, 1e-5, 1e-4]).all(|(a, b)| (a / b - 1.0).abs() < 1e-9), "{three:?}");
    }

    #[test]
    fn the_band_holds_what_was_found() {
        let point = SweepPoint { sent: 1000, lost: 20, ..SweepPoint::new(1e-3) };
        // Wilson's interval for 20 of 1000 at 99 %: (0.02 + z²/2000 ± z √(0.02 × 0.98 / 1000 + z²/4000000)) / (1 + z²/1000).
        let (low, high) = point.band();
        assert!((low - 0.011_366).abs() < 1e-5 && (high - 0.034_962).abs() < 1e-5, "{low} {high}");
        assert_eq!(SweepPoint { sent: 10, ..SweepPoint::new(1e-3) }.band().0, 0.0);
    }
}
