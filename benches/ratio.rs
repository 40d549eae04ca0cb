//! How much longer one thing takes than another, for the benches of all crates.

use std::time::{Duration, Instant};

/// How many times as long the first takes, both measured in turn: the best of 50 runs each.
pub fn ratio(mut first: impl FnMut(), mut second: impl FnMut()) -> f64 {
    let mut best = [Duration::MAX; 2];
    for _ in 0..50 {
        let start = Instant::now();
        first();
        let middle = Instant::now();
        second();
        best = [best[0].min(middle - start), best[1].min(middle.elapsed())];
    }
    best[0].as_secs_f64() / best[1].as_secs_f64()
}
