//! What receivers accept of frames that were changed on purpose.

use std::collections::HashSet;

use emberwort_model::model::End;
use emberwort_wire::{Chunk, StreamId, Time, Times};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::definitions::TrialDefinitionId;
use crate::scenario::Scenario;
use crate::side::Side;
use crate::sweep::check_bits;
use crate::trial::{TrialObserver, run};

/// What came of frames that were changed on purpose.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Hostile {
    /// Changed frames that were fed to receivers.
    pub fed: u64,
    /// Bytes of them.
    pub bytes: u64,
    /// Frames that were accepted, and that somebody had sent just so: what was in front of or behind the change.
    pub accepted: u64,
    /// Frames that were accepted, and that nobody had sent.
    pub false_accepts: u64,
    /// How many of these the checksums let one expect: one of 2ᶜ changed frames for c check bits, of frames that have some.
    pub expected: f64,
    /// How many of the changed frames have no checksum: nothing but their form keeps them out.
    pub unchecked: u64,
    /// Some of them: the end that it seemed to come from, and its bytes.
    pub examples: Vec<(End, Vec<u8>)>,
}

/// Keeps frames that are sent, each once.
#[derive(Default)]
struct Keep {
    frames: Vec<(End, Vec<u8>, Option<u64>)>,
    /// By bytes alone: a changed frame may end with a whole one of the other end.
    known: HashSet<Vec<u8>>,
}

/// So many different frames are changed.
const MAX_FRAMES: usize = 2_000;

/// So many false accepts are kept as examples.
const MAX_EXAMPLES: usize = 8;

impl TrialObserver for Keep {
    fn should_continue(&mut self, _: u64) -> bool {
        self.frames.len() < MAX_FRAMES
    }

    fn sent(&mut self, chunk: &Chunk<'_>) {
        let from = chunk.stream.from.unwrap_or(End::Device);
        if self.known.insert(chunk.bytes.to_vec()) {
            self.frames.push((from, chunk.bytes.to_vec(), chunk.key));
        }
    }
}

/// Changes a frame: bits, bytes, cuts, other bytes between, halves of another frame.
fn changed(frame: &[u8], other: &[u8], random: &mut ChaCha8Rng) -> Vec<u8> {
    let mut bytes = frame.to_vec();
    for _ in 0..random.random_range(1..=3) {
        if bytes.is_empty() {
            break;
        }
        let at = random.random_range(0..bytes.len());
        match random.random_range(0..7) {
            0 | 1 => bytes[at] ^= 1 << random.random_range(0..8),
            2 => bytes[at] = random.random(),
            3 => bytes.truncate(at),
            4 => {
                bytes.remove(at);
            }
            5 => bytes.insert(at, random.random()),
            _ => {
                let from = random.random_range(0..=other.len());
                bytes.truncate(at);
                bytes.extend_from_slice(&other[from..]);
            }
        }
    }
    bytes
}

/// Feeds changed frames of a trial to receivers as long as `goes_on` says. All frames are those of the link's own definition.
pub fn hostile(scenario: &Scenario, goes_on: &mut dyn FnMut() -> bool) -> Hostile {
    let mut clean = scenario.clone();
    (clean.faults, clean.to_device) = Default::default();
    clean.stretches.clear();
    clean.bursts = None;
    let mut keep = Keep::default();
    run(&clean, &mut keep);
    let definition = scenario.definitions.get(TrialDefinitionId::default());
    let channel = &definition.plan.channels[definition.channel];
    let mut random = ChaCha8Rng::seed_from_u64(scenario.seed);
    let mut found = Hostile::default();
    let mut time = Time::default();
    if keep.frames.is_empty() {
        return found;
    }
    while goes_on() {
        for _ in 0..200 {
            let (from, frame, key) = &keep.frames[random.random_range(0..keep.frames.len())];
            let (_, other, _) = &keep.frames[random.random_range(0..keep.frames.len())];
            let bytes = changed(frame, other, &mut random);
            if bytes == *frame {
                continue;
            }
            found.fed += 1;
            found.bytes += bytes.len() as u64;
            match check_bits(channel.direction(*from)) {
                0 => found.unchecked += 1,
                bits => found.expected += f64::from(bits).exp2().recip(),
            }
            let mut side = Side::hearing(definition, *from);
            let stream = StreamId { channel: definition.channel, from: Some(*from), tap: 0 };
            time = time.after(1_000_000_000);
            let chunk = Chunk { stream, times: Times::Last(time), key: *key, bytes: &bytes };
            let mut frames = side.hear(&chunk).frames;
            if let Some(silence) = side.poll_timeout() {
                frames.extend(side.hear_silence(silence).frames);
            }
            frames.extend(side.finish().frames);
            for good in frames {
                if keep.known.contains(&good.bytes) {
                    found.accepted += 1;
                } else {
                    found.false_accepts += 1;
                    if found.examples.len() < MAX_EXAMPLES {
                        found.examples.push((*from, good.bytes));
                    }
                }
            }
        }
    }
    found
}
