//! How a receiver finds out how long a frame is, from its first bytes.

use emberwort_model::ids::MessageId;
use emberwort_model::plan::{Direction, FrameFinder, Part, Role, Zone};

/// How a receiver that looks for frames finds out whether one begins here, and how long it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Beginning {
    /// So many bytes have to be there before anything can be said.
    pub needs: usize,
    /// Parts (by index) with one right value that lie in them, and are looked at first.
    pub first: Vec<usize>,
    /// How long the frame is.
    pub size: Size,
    /// Parts (by index) with one right value that are looked at as soon as so many bytes are there.
    pub then: (usize, Vec<usize>),
}

/// What says how long a frame is, in bytes without escapes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Size {
    /// A part: `count * unit - other + around`.
    Said {
        /// Its index.
        part: usize,
        /// Bytes that one count stands for.
        unit: usize,
        /// Bytes counted besides the body's.
        other: usize,
        /// Bytes around the body.
        around: usize,
        /// The greatest count that a frame within the limit has.
        greatest: usize,
    },
    /// It is always the same.
    Always(usize),
    /// The key of its message.
    OfKey {
        /// The part that has it.
        part: usize,
        /// The keys, and the length of the frame of each.
        sizes: Vec<(u64, usize)>,
    },
    /// Nothing: no frame begins here.
    Unknown,
}

/// How frames that begin anywhere are found; of escaped ones, whose heads are looked at when they are whole, only how long they are.
pub fn beginning(direction: &Direction) -> Beginning {
    let around = direction.head_bytes + direction.tail_bytes;
    let is_escaped = matches!(direction.finder, FrameFinder::Escaped(_));
    let fixed = |from: usize, to: usize| if is_escaped { Vec::new() } else { fixed_parts(direction, from, to) };
    let length = direction.parts.iter().enumerate().find_map(|(index, part)| match part.role {
        Role::Length { other_bytes, unit } => Some((index, other_bytes, unit)),
        _ => None,
    });
    let sizes = &direction.body_sizes;
    let key = direction.parts.iter().position(|part| part.role == Role::Message);
    let whole = (direction.head_bytes, fixed(0, direction.head_bytes));
    if let Some((part, other, unit)) = length {
        // One that says it again is looked at with it.
        let says = direction.parts.iter().filter(|one| match one.role {
            Role::Same { part: of, .. } => {
                one.zone == Zone::Head && matches!(direction.parts[of].role, Role::Length { .. })
            }
            _ => matches!(one.role, Role::Length { .. }),
        });
        let needs = says.map(end_of).max().unwrap_or(0);
        let greatest = (direction.limit - around + other) / unit;
        let size = Size::Said { part, unit, other, around, greatest };
        return Beginning {
            needs,
            first: fixed(0, needs),
            size,
            then: (direction.head_bytes, fixed(needs, direction.head_bytes)),
        };
    }
    if let Some(Some(first)) = sizes.first().filter(|first| sizes.iter().all(|size| size == *first)) {
        let needs = direction.sync.len().max(1);
        return Beginning { needs, first: Vec::new(), size: Size::Always(around + first), then: whole };
    }
    match key.filter(|_| !sizes.is_empty()) {
        Some(part) => {
            let of_key = |((key, _), size): (&(u64, MessageId), &Option<usize>)| Some((*key, around + (*size)?));
            let sizes = direction.keys.iter().zip(sizes).filter_map(of_key).collect();
            let needs = end_of(&direction.parts[part]);
            Beginning { needs, first: Vec::new(), size: Size::OfKey { part, sizes }, then: whole }
        }
        None => {
            Beginning { needs: 0, first: Vec::new(), size: Size::Unknown, then: (direction.head_bytes, Vec::new()) }
        }
    }
}

/// One past the last byte of a part, counted from the start of its zone.
fn end_of(part: &Part) -> usize {
    (part.at_bit as usize + part.wire_bits()).div_ceil(8)
}

/// Parts in the head with one right value that end behind `from` and not behind `to`, by index.
pub fn fixed_parts(direction: &Direction, from: usize, to: usize) -> Vec<usize> {
    let is_fixed = |(_, part): &(usize, &Part)| {
        let end = end_of(part);
        let has_one_value = matches!(part.role, Role::Fixed(_) | Role::Same { .. });
        part.zone == Zone::Head && has_one_value && end > from && end <= to
    };
    direction.parts.iter().enumerate().filter(is_fixed).map(|(index, _)| index).collect()
}
