//! What is written around a body, in which order.

use emberwort_model::plan::{Direction, Part, Role};

use super::judging::{ExpectedValue, right};

/// Something that is written into a frame whose body stands in it, and whose other bytes are zero.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Put<'a> {
    /// These bytes at its beginning.
    Sync(&'a [u8]),
    /// A value that the sender gives, which the part must hold.
    Given(&'a Part),
    /// The lowest bits of the sender's number, which goes around.
    Sequence(&'a Part),
    /// The one right value of a part.
    Value(&'a Part, ExpectedValue<'a>),
    /// `(bytes of the body + other) / unit`, which must be whole, and which the part must hold.
    Count {
        /// The part.
        part: &'a Part,
        /// Bytes that one count stands for.
        unit: usize,
        /// Bytes counted besides the body's.
        other: usize,
    },
    /// The checksum with this index among the parts.
    Checksum(usize, &'a Part),
}

impl<'a> Put<'a> {
    /// The part that is written, if it is one.
    pub fn part(self) -> Option<&'a Part> {
        match self {
            Self::Sync(_) => None,
            Self::Given(part)
            | Self::Sequence(part)
            | Self::Value(part, _)
            | Self::Count { part, .. }
            | Self::Checksum(_, part) => Some(part),
        }
    }
}

/// All that is written around a body: each part behind those that it repeats, checksums last.
pub fn puts(direction: &Direction) -> Vec<Put<'_>> {
    let mut puts = Vec::new();
    if !direction.sync.is_empty() {
        puts.push(Put::Sync(&direction.sync));
    }
    let (mut others, mut checksums) = (Vec::new(), Vec::new());
    for (index, part) in direction.parts.iter().enumerate() {
        match part.role {
            Role::Message | Role::Address | Role::Revision => others.push(Put::Given(part)),
            Role::Sequence => others.push(Put::Sequence(part)),
            Role::Fixed(_) | Role::Same { .. } => {
                others.extend(right(direction, part).map(|right| Put::Value(part, right)));
            }
            Role::Length { other_bytes: other, unit } => others.push(Put::Count { part, unit, other }),
            Role::Checksum { .. } => checksums.push(Put::Checksum(index, part)),
        }
    }
    puts.extend(others);
    puts.extend(checksums);
    puts
}

/// The longest body that fits into a frame if nothing of it has to be escaped; `None` if the limit has no room for what stands around a body.
pub fn longest_body(direction: &Direction) -> Option<usize> {
    (0..=direction.limit).rev().find(|body| direction.least_frame_size(*body) <= direction.limit)
}
