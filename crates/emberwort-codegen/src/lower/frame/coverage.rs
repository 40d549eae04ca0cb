//! What a checksum of a frame covers.

use emberwort_model::plan::{Bound, Direction, Part, Role, Zone};

/// Some of what a checksum covers.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Stretch {
    /// The bytes of the frame from one place up to another.
    Bytes(Bound, Bound),
    /// So many zeros, in place of a checksum that is not known yet.
    Zeros(usize),
}

impl Stretch {
    /// Whether the place of one of its ends follows from the body's size.
    pub(crate) fn needs_size(self) -> bool {
        matches!(self, Self::Bytes(Bound::Tail(_), _) | Self::Bytes(_, Bound::Tail(_)))
    }

    /// How many zeros they are, if they are some.
    pub fn zeros(self) -> Option<usize> {
        match self {
            Self::Zeros(count) => Some(count),
            Self::Bytes(..) => None,
        }
    }
}

/// What the checksum with this index among the parts covers: in place of itself and of those behind it zeros, or nothing.
pub fn covered(direction: &Direction, index: usize) -> Vec<Stretch> {
    let Role::Checksum { over, skipping, .. } = &direction.parts[index].role else { return Vec::new() };
    let later = direction.parts[index..].iter().filter(|part| matches!(part.role, Role::Checksum { .. }));
    let later: Vec<&Part> = later.collect();
    let mut all = Vec::new();
    for covered in over {
        let mut at = covered.from;
        for blank in &later {
            let (offset, count) = (blank.at_bit as usize / 8, blank.wire_bits() / 8);
            let (first, last) = match blank.zone {
                Zone::Head => (Bound::Head(offset), Bound::Head(offset + count)),
                Zone::Tail => (Bound::Tail(offset), Bound::Tail(offset + count)),
            };
            if first.is_before(covered.from) || covered.to.is_before(last) {
                continue;
            }
            all.push(Stretch::Bytes(at, first));
            if !skipping {
                all.push(Stretch::Zeros(count));
            }
            at = last;
        }
        all.push(Stretch::Bytes(at, covered.to));
    }
    all.retain(|stretch| !matches!(stretch, Stretch::Bytes(from, to) if from == to));
    all
}
