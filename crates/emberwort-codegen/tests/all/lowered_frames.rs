//! The lowered form of frames says what the library does: an interpreter builds and judges the same frames on random channels and on the example,
//! and finds the same ones in noisy streams.

use std::ops::Range;
use std::sync::Arc;

use emberwort_codegen::vectors::vectors;
use emberwort_model::ids::ChannelId;
use emberwort_model::model::End;
use emberwort_model::plan::FrameFinder;
use emberwort_model::{Plan, Source, check};
use emberwort_wire::{FrameFault, FrameSink, FrameView, Framed, Receiver};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::common::frame_interpreter::{Wrong, build, find, judge};
use crate::common::plans::marlock;
use crate::common::streams::{bytes_of, noisy};
use crate::random_channels::definition;

pub fn random_plan(seed: u64) -> Arc<Plan> {
    let checked = check(&Source::new("any.ember", definition(seed).as_str()));
    Arc::new(checked.plan.unwrap_or_else(|| panic!("seed {seed}: {:#?}", checked.findings)))
}

/// What a fault of the library is called in generated code.
pub fn wrong(fault: FrameFault) -> Wrong {
    match fault {
        FrameFault::Length { .. } | FrameFault::Truncated { .. } | FrameFault::UnknownSize { .. } => Wrong::Length,
        FrameFault::Sync | FrameFault::Fixed { .. } | FrameFault::Digits { .. } => Wrong::Value,
        FrameFault::Checksum { .. } => Wrong::Checksum,
        other => panic!("{other:?} is no fault of a whole frame"),
    }
}

/// A frame with some damage, which may be in its length as well.
pub fn damaged(frame: &[u8], random: &mut ChaCha8Rng) -> Vec<u8> {
    let mut frame = frame.to_vec();
    match random.random_range(0..4) {
        0 => frame.truncate(random.random_range(0..=frame.len())),
        1 => frame.extend((0..random.random_range(1..4)).map(|_| random.random::<u8>())),
        _ => {}
    }
    for _ in 0..random.random_range(0..3) {
        if let 1.. = frame.len() {
            let at = random.random_range(0..frame.len());
            frame[at] ^= 1 << random.random_range(0..8);
        }
    }
    frame
}

/// Builds and judges the frames of all vectors; how many frames were right, and how many had each fault.
fn frames_agree(plan: &Plan, seed: u64, counts: &mut [usize; 4]) {
    let mut random = ChaCha8Rng::seed_from_u64(seed);
    for vector in vectors(plan, seed) {
        for frame in &vector.frames {
            let channel = &plan.channels[frame.channel];
            let framing = channel.framing(plan.messages[vector.message].message.from);
            let direction = framing.plan();
            let mut room = Vec::new();
            let plain = framing.plain_bytes(&frame.bytes, &mut room).unwrap().to_vec();
            let built = build(direction, &frame.header, &frame.body);
            assert_eq!(built.as_deref(), Some(&*plain), "{}: {:?}", channel.name, frame.header);
            for n in 0..12 {
                let bytes = if n == 0 { plain.clone() } else { damaged(&plain, &mut random) };
                if bytes.len() > direction.limit {
                    continue;
                }
                let expected = framing.check(&bytes).map(|_| ()).map_err(wrong);
                assert_eq!(judge(direction, &bytes), expected, "{}: {bytes:02X?}", channel.name);
                counts[expected.map_or_else(|wrong| wrong as usize, |()| 3)] += 1;
            }
        }
    }
}

#[test]
fn frames_of_random_channels_and_of_the_example_are_built_and_judged_as_the_library_does() {
    let mut counts = [0; 4];
    frames_agree(&marlock(), 3, &mut counts);
    (0..60).for_each(|seed| frames_agree(&random_plan(seed), seed, &mut counts));
    // None is rare.
    assert!(counts.iter().all(|count| count * 60 > counts.iter().sum()), "{counts:?}");
}

/// A body that is too long, one with a size that the length part cannot say, values that no part holds: refused by both.
#[test]
fn what_the_library_does_not_build_has_no_lowered_frame() {
    let mut random = ChaCha8Rng::seed_from_u64(5);
    let (mut built_ones, mut refused) = (0, 0);
    for seed in 0..40 {
        let plan = random_plan(seed);
        for frame in vectors(&plan, seed).iter().flat_map(|vector| &vector.frames) {
            let from = if random.random() { End::Host } else { End::Device };
            let framing = plan.channels[frame.channel].framing(from);
            let mut header = frame.header;
            for value in [&mut header.key, &mut header.node, &mut header.sequence, &mut header.revision] {
                if random.random_bool(0.2) {
                    *value = random.random::<u64>() >> random.random_range(0..64);
                }
            }
            let mut body = frame.body.clone();
            body.resize(random.random_range(0..=body.len() + 3), random.random());
            if framing.plan().finder.is_text() {
                body.retain(|byte| *byte != b'\n' && *byte != b'\r');
            }
            let mut wire = Vec::new();
            let expected = match framing.encode(&header, &body, &mut wire) {
                Ok(()) => {
                    let mut room = Vec::new();
                    Some(framing.plain_bytes(&wire, &mut room).unwrap().to_vec())
                }
                Err(_) => None,
            };
            // Whether what is stuffed is too long, the lowered form does not say.
            if expected.is_some() || !matches!(framing.plan().finder, FrameFinder::Stuffed(_) | FrameFinder::Escaped(_))
            {
                assert_eq!(
                    build(framing.plan(), &header, &body),
                    expected,
                    "{}: {header:?} {body:02X?}",
                    framing.plan().name
                );
            }
            if expected.is_some() { built_ones += 1 } else { refused += 1 }
        }
    }
    assert!(built_ones > 1000 && refused > 1000, "{built_ones} {refused}");
}

/// Where a receiver of the library finds frames that it takes whole.
#[derive(Default)]
struct Taken(Vec<Range<usize>>);

impl FrameSink for Taken {
    fn accept(&mut self, _: &FrameView<'_>) -> Result<(), FrameFault> {
        Ok(())
    }

    fn good(&mut self, bytes: Range<u64>, _: &FrameView<'_>, _: &[u8]) {
        self.0.push(bytes.start as usize..bytes.end as usize);
    }

    fn unread(&mut self, bytes: Range<u64>, _: Option<&FrameView<'_>>, _: &FrameFault, _: &[u8]) {
        self.0.push(bytes.start as usize..bytes.end as usize);
    }

    fn broken(&mut self, _: Range<u64>, _: &FrameFault, _: &[u8]) {}

    fn stray(&mut self, _: Range<u64>, _: &[u8]) {}
}

#[test]
fn frames_begin_where_the_library_finds_them() {
    let (mut found, mut channels) = (0, 0);
    for seed in 0..40 {
        let plan = random_plan(seed);
        for (index, channel) in plan.channels.iter().enumerate() {
            for (from, direction) in channel.directions() {
                if direction.finder != FrameFinder::Sync || !direction.has_checksum() {
                    continue;
                }
                let stream = bytes_of(&noisy(&plan, ChannelId::new(index), from, 4000, seed));
                let mut taken = Taken::default();
                let mut receiver = Receiver::new(channel.framing(from.unwrap_or(End::Device)));
                receiver.feed(&stream, &mut taken);
                receiver.finish(&mut taken);
                assert_eq!(find(direction, &stream), taken.0, "seed {seed}: {}", direction.name);
                found += taken.0.len();
                channels += 1;
            }
        }
    }
    assert!(found > channels * 20 && channels > 60, "{found} frames on {channels} channels");
}
