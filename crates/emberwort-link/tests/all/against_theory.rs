//! Trials against theory: what is lost, and what is accepted though it is wrong.

use std::sync::Arc;

use emberwort_link::sweep::{Swept, rates, sweep};
use emberwort_link::{Revisions, Scenario, run};
use emberwort_model::Plan;
use emberwort_model::{Source, check};

use crate::plan_of_marlock;

fn plan() -> Arc<Plan> {
    Arc::new(plan_of_marlock::checked().plan.unwrap())
}

fn scenario(text: &str, plan: &Arc<Plan>) -> Scenario {
    Scenario::parse(text, plan, &Revisions::default()).unwrap_or_else(|error| panic!("{error}"))
}

const TWO_GATES: &str = "channel = \"bus485\"\nspan = \"60 s\"\n[[device]]\nnode = 1\n[[device]]\nnode = 3\n\
    [[request]]\nat = \"1 s\"\nevery = \"500 ms\"\nnode = 3\nmessage = \"WhoAreYou\"\n";

#[test]
fn a_sweep_loses_as_many_frames_as_theory_says() {
    let plan = plan();
    let scenario = scenario(TWO_GATES, &plan);
    for (name, swept) in Swept::ALL {
        let points = sweep(&scenario, swept, &rates(1e-4, 1e-2, 2), 10, &|| (), &|| true);
        assert_eq!(points.len(), 5);
        for point in &points {
            let (low, high) = point.band();
            assert!(point.sent > 7_000, "{name}: {point:?}");
            // 20 bands of 99 % may be left once in five times; a little wider none is.
            let (low, high) = (low - 0.1 * (high - low), high + 0.1 * (high - low));
            assert!((low..=high).contains(&point.expected_loss), "{name}: {point:?} lies outside of {low} to {high}");
            assert_eq!(point.false_accepts, 0, "{name}");
            assert_eq!(point.passed, 10, "{name}: nothing is said that must hold");
        }
    }
}

/// A link whose checksum is only eight bits long, so that damaged frames are accepted often enough to be counted.
const WEAK: &str = "link weak { revision 1 byte_order little }\n\
    channel line { medium uart 115200 8N1 frame {\n sync C6 39\n kind : u8 message\n body\n\
    check : u8 crc-8/smbus over kind..body\n } }\n\
    message Report {\n id 1\n from device every 10 ms\n on line\n a : u32\n b : u32\n c : u32\n }\n";

/// The chance that a CRC of eight bits whose polynomial has the factor x + 1 lets damage of so many bits through: it finds every odd number
/// of wrong bits, and up to its period all of two; of the other even ones it lets one of 2⁷ through.
fn let_through(bits: u32, chance: f64) -> f64 {
    let mut term = (1.0 - chance).powi(bits as i32);
    let mut sum = 0.0;
    for wrong in 1..=bits {
        term *= f64::from(bits - wrong + 1) / f64::from(wrong) * chance / (1.0 - chance);
        if wrong >= 4 && wrong % 2 == 0 {
            sum += term;
        }
    }
    sum / 128.0
}

/// Damaged frames are accepted as often as theory says, by chi-square.
#[test]
fn as_many_wrong_frames_are_accepted_as_the_checksum_lets_through() {
    let plan = Arc::new(check(&Source::new("weak.ember", WEAK)).plan.unwrap());
    let text = "channel = \"line\"\nspan = \"4 h\"\nseed = 5\n[wire]\nbit_errors = 0.02\n[[device]]\nnode = 0\n";
    let report = run(&scenario(text, &plan), &mut ());
    let damaged: u64 = report.damaged.values().sum();
    // Those whose sync and kind are right come as far as the checksum; the body of 12 bytes and the checksum itself are damaged.
    let reaching = report.sent.values().sum::<u64>() as f64 * 0.98f64.powi(24);
    let expected = reaching * let_through(8 * 13, 0.02);
    let found = report.wrong as f64;
    let chi_square = (found - expected).powi(2) / expected + (found - expected).powi(2) / (reaching - expected);
    // The 99.9 % quantile of chi-square with one degree of freedom is 10.83.
    assert!(damaged > 1_000_000, "{damaged}");
    assert!(
        chi_square < 10.83,
        "{found} of {reaching:.0} accepted, {expected:.0} expected: chi-square {chi_square:.1}"
    );
}
