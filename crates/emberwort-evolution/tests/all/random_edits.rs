//! Random edits of random definitions: what the comparison says, and what happens when the two revisions talk, agree.
//!
//! 2,000 edits in the normal run; others with `EMBERWORT_EDITS=SEED cargo test -p emberwort-evolution random_edits::`.

use emberwort_evolution::prove::prove;
use emberwort_evolution::{Pair, Verdict, compare};
use rand::SeedableRng;
use rand::seq::IndexedRandom;
use rand_chacha::ChaCha8Rng;

use crate::common::edits::Definition;
use crate::common::try_revision;

const EDITS: usize = 2000;
const EDITS_OF_EACH: usize = 20;

fn agree(seed: u64, edits: usize) {
    let mut random = ChaCha8Rng::seed_from_u64(seed);
    let (mut done, mut sent, mut disagreements) = (0, 0, Vec::new());
    let mut worst = [0; 5];
    while done < edits {
        let definition = Definition::random(&mut random);
        let Some(old) = try_revision("old", &definition.text()) else { continue };
        for _ in 0..EDITS_OF_EACH {
            let mut edited = definition.clone();
            let mut what = Vec::new();
            for _ in 0..*[1, 1, 1, 2, 3].choose(&mut random).unwrap() {
                what.push(edited.edit(&mut random));
            }
            let Some(new) = try_revision("new", &edited.text()) else { continue };
            if new.text == old.text || done == edits {
                continue;
            }
            done += 1;
            let comparison = compare(&old, &new);
            let proof = prove(&old, &new, &comparison, 60, seed + done as u64);
            sent += proof.sent;
            worst[Pair::ALL.map(|pair| comparison.worst(pair)).into_iter().max().unwrap() as usize] += 1;
            for contradiction in &proof.contradictions {
                disagreements.push(format!("edit {done}, {what:?}: {contradiction:?}"));
            }
            if !proof.contradictions.is_empty()
                && let Some(folder) = std::env::var_os("EMBERWORT_EDITS_DIR")
            {
                let folder = std::path::Path::new(&folder);
                for (revision, which) in [(&old, "old"), (&new, "new")] {
                    std::fs::write(folder.join(format!("{seed}-{done}-{which}.ember")), &revision.text).unwrap();
                }
            }
            // What is said to be wrong is shown by a message.
            for change in &comparison.changes {
                for pair in Pair::ALL {
                    let judgement = change.judgement(pair);
                    // What another difference hides has no message of its own.
                    let hidden = judgement.sentence.starts_with("by itself, ");
                    let shown = (judgement.example.is_some() && !judgement.sentence.is_empty()) || hidden;
                    if judgement.verdict.strands() && !shown {
                        disagreements.push(format!("edit {done}, {what:?}: nothing shows {}", change.difference));
                    }
                }
            }
        }
    }
    println!(
        "seed {seed}: {done} edits, {sent} messages, worst verdicts {worst:?} {:?}",
        Verdict::ALL.map(Verdict::as_str)
    );
    assert!(disagreements.is_empty(), "{} disagreements:\n{}", disagreements.len(), disagreements.join("\n"));
}

fn seed() -> u64 {
    std::env::var("EMBERWORT_EDITS").ok().and_then(|seed| seed.parse().ok()).unwrap_or(1)
}

// In parts, which run side by side.
#[test]
fn verdict_and_experiment_agree_on_2000_edits_part_1() {
    agree(4 * seed(), EDITS / 4);
}

#[test]
fn verdict_and_experiment_agree_on_2000_edits_part_2() {
    agree(4 * seed() + 1, EDITS / 4);
}

#[test]
fn verdict_and_experiment_agree_on_2000_edits_part_3() {
    agree(4 * seed() + 2, EDITS / 4);
}

#[test]
fn verdict_and_experiment_agree_on_2000_edits_part_4() {
    agree(4 * seed() + 3, EDITS / 4);
}
