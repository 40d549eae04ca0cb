//! Verdicts put to the test: many more messages than the comparison tried, of all kinds, in all directions.

use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;

use crate::comparison::Comparison;
use crate::judge::{Example, example};
use crate::revision::Revision;
use crate::trying::{Effort, Trying};
use crate::verdict::{Pair, Verdict};

/// What came of the experiment.
#[derive(Clone, Debug, Default)]
pub struct Proof {
    /// Messages that were sent.
    pub sent: u64,
    /// How many of them came to each verdict, in the order of [`Verdict::ALL`].
    pub outcomes: [u64; 5],
    /// Where the comparison was too kind.
    pub contradictions: Vec<Contradiction>,
}

/// A message that fares worse than the comparison says.
#[derive(Clone, Debug)]
pub struct Contradiction {
    /// The ends.
    pub pair: Pair,
    /// The sender's name of the message.
    pub message: String,
    /// What the comparison says.
    pub expected: Verdict,
    /// What happened.
    pub found: Verdict,
    /// What happened, in a sentence.
    pub sentence: String,
    /// The message.
    pub example: Example,
}

/// Sends `random` random messages of each kind, and all that are at an end of something, between both revisions in all four
/// directions. The same seed makes the same messages.
pub fn prove(old: &Revision, new: &Revision, comparison: &Comparison, random: usize, seed: u64) -> Proof {
    let mut proof = Proof::default();
    for pair in Pair::ALL {
        let mut trying = Trying::new(pair, old, new);
        for message in trying.messages() {
            let expected = comparison.expected(pair, &trying.sender, message);
            let mut numbers = ChaCha8Rng::seed_from_u64(seed.rotate_left(17) ^ message.index() as u64);
            let mut contradicted = false;
            let effort = Effort { random, search: 0, worth: Verdict::Misread };
            trying.each(message, effort, &mut numbers, &mut |trying, lane, sent| {
                let (received, outcome) = trying.exchange(lane, &sent);
                let ends = trying.ends();
                proof.sent += 1;
                proof.outcomes[outcome.verdict as usize] += 1;
                if outcome.verdict > expected && !contradicted {
                    contradicted = true;
                    let example = example(ends, lane, &sent, &received);
                    proof.contradictions.push(Contradiction {
                        pair,
                        message: example.message.clone(),
                        expected,
                        found: outcome.verdict,
                        sentence: outcome.sentence,
                        example,
                    });
                }
                outcome.verdict
            });
        }
    }
    proof
}
