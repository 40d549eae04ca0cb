//! What the wrong checksums of a capture have in common: sender and definition that differ in one setting of the algorithm.

use std::collections::{BTreeMap, HashMap};

use emberwort_model::algorithm::Algorithm;
use emberwort_model::ids::ChannelId;
use emberwort_model::model::{ByteOrder, End};
use emberwort_model::plan::{Channel, Direction, Role};

/// Frames that are needed before anything is said: fewer may agree by chance, one byte once in 256.
const LEAST_FRAMES: u64 = 4;

/// Most constants that are told apart for each part; noise makes a new one with each frame.
const MAX_CONSTANTS: usize = 1024;

/// The wrong checksums of all frames, by channel, sending end and part.
#[derive(Clone, Debug, Default)]
pub struct ChecksumSlips(BTreeMap<(ChannelId, bool, usize), SlipCounts>);

#[derive(Clone, Debug, Default)]
struct SlipCounts {
    frames: u64,
    swapped: u64,
    constants: HashMap<u64, u64>,
}

impl ChecksumSlips {
    /// Counts a frame with a wrong checksum.
    pub(crate) fn count(
        &mut self,
        channel: ChannelId,
        from: Option<End>,
        direction: &Direction,
        part: usize,
        (expected, found): (u64, u64),
    ) {
        let seen = self.0.entry((channel, from == Some(End::Host), part)).or_default();
        seen.frames += 1;
        let bits = u32::from(direction.parts[part].bits);
        if bits % 8 == 0 && bits > 8 && found.swap_bytes() >> (64 - bits) == expected {
            seen.swapped += 1;
        }
        let constant = expected ^ found;
        if seen.constants.len() < MAX_CONSTANTS || seen.constants.contains_key(&constant) {
            *seen.constants.entry(constant).or_default() += 1;
        }
    }

    /// A sentence for each checksum that is wrong in most of its wrong frames in the same way, with what to write instead.
    pub fn sentences(&self, channels: &[Channel]) -> Vec<String> {
        let of_part = self.0.iter().filter_map(|((channel, from_host, part), seen)| {
            let channel = channels.get(channel.index())?.direction(if *from_host { End::Host } else { End::Device });
            seen.sentence(channel, *part)
        });
        of_part.collect()
    }
}

impl SlipCounts {
    fn sentence(&self, channel: &Direction, part: usize) -> Option<String> {
        let part = channel.parts.get(part)?;
        let Role::Checksum { algorithm, .. } = &part.role else { return None };
        let most = |count: u64| count >= LEAST_FRAMES && count * 2 > self.frames;
        let of =
            |count: u64| format!("{count} of {} wrong checksums `{}` on `{}`", self.frames, part.name, channel.name);
        if most(self.swapped) {
            let other = if part.order == ByteOrder::Little { "be" } else { "le" };
            return Some(format!(
                "{} are right with their bytes the other way around: write `{}`",
                of(self.swapped),
                format_args!("{} : u{} {other} …", part.name, part.bits)
            ));
        }
        let (constant, count) = self.constants.iter().max_by_key(|(constant, count)| (**count, **constant))?;
        if !most(*count) {
            return None;
        }
        let mask = u64::MAX >> (64 - u32::from(part.bits));
        let own = match algorithm {
            Algorithm::Crc(crc) => crc.final_xor,
            Algorithm::Sum(sum) => sum.final_xor,
        };
        let written = algorithm.with_final_xor(own ^ constant).written();
        let how = if *constant == mask {
            "are the complement of what they should be".to_owned()
        } else {
            format!("differ by the same bits, 0x{constant:0width$X}", width = usize::from(part.bits).div_ceil(4))
        };
        Some(format!(
            "{} {how}: write `{written}`, or, if those frames are all of one size, another start may be meant: \
             `emberwort checksum identify` finds it",
            of(*count)
        ))
    }
}
