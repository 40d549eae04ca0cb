//! What is looked at in a frame, in which order.

use emberwort_model::plan::{Direction, FrameFinder, Part, Role};

use super::beginning::{Size, beginning, fixed_parts};

/// The one right value of a part.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum ExpectedValue<'a> {
    /// A number.
    Number(u64),
    /// The value of an earlier part.
    Again {
        /// The earlier part.
        of: &'a Part,
        /// Whether each of its bits is the other one.
        inverted: bool,
    },
}

/// The one right value of a part, if it has one that needs no bytes but those of other parts.
pub fn right<'a>(direction: &'a Direction, part: &Part) -> Option<ExpectedValue<'a>> {
    match part.role {
        Role::Fixed(value) => Some(ExpectedValue::Number(value)),
        Role::Same { part: of, inverted } => Some(ExpectedValue::Again { of: &direction.parts[of], inverted }),
        Role::Message
        | Role::Length { .. }
        | Role::Address
        | Role::Sequence
        | Role::Revision
        | Role::Checksum { .. } => None,
    }
}

/// Something that is looked at in a whole frame without stuffing, delimiters and the end of a line.
#[derive(Clone, Debug, PartialEq)]
pub enum Check<'a> {
    /// It has at least and at most so many bytes: a wrong length.
    Bytes(usize, usize),
    /// It begins with these bytes: a wrong value.
    Sync(&'a [u8]),
    /// A part stands in hex digits: a wrong value.
    Digits(&'a Part),
    /// A part has its right value: a wrong value.
    Value(&'a Part, ExpectedValue<'a>),
    /// `value * unit` of a part is `bytes of the frame - around + other`: a wrong length.
    Length {
        /// The part.
        part: &'a Part,
        /// Bytes that one count stands for.
        unit: usize,
        /// Bytes counted besides the body's.
        other: usize,
        /// Bytes around the body.
        around: usize,
    },
    /// It has exactly so many bytes: a wrong length.
    Size(usize),
    /// It has the bytes of one with its key: a wrong length.
    SizeOfKey(&'a Part, Vec<(u64, usize)>),
    /// The checksum with this index among the parts is right: a wrong checksum.
    Checksum(usize, &'a Part),
}

impl<'a> ExpectedValue<'a> {
    /// The earlier part that it comes from, if it does.
    pub fn earlier(self) -> Option<&'a Part> {
        match self {
            Self::Number(_) => None,
            Self::Again { of, .. } => Some(of),
        }
    }
}

impl<'a> Check<'a> {
    /// The parts whose values are read for it.
    pub fn parts(&self) -> Vec<&'a Part> {
        match self {
            Self::Bytes(..) | Self::Sync(_) | Self::Size(_) => Vec::new(),
            Self::Digits(part) | Self::Length { part, .. } | Self::SizeOfKey(part, _) | Self::Checksum(_, part) => {
                vec![part]
            }
            Self::Value(part, right) => std::iter::once(*part).chain(right.earlier()).collect(),
        }
    }
}

/// All that is looked at in a frame, the first fault first: its size, its sync bytes, what stands in front of its length, its length, other parts
/// in hex digits, other constants, what is said twice, its checksums. (`Framing::check` of the library says the same faults.)
pub fn checks(direction: &Direction) -> Vec<Check<'_>> {
    let around = direction.head_bytes + direction.tail_bytes;
    let parts = &direction.parts;
    let mut checks = vec![Check::Bytes(around, direction.limit)];
    if !direction.sync.is_empty() {
        checks.push(Check::Sync(&direction.sync));
    }
    let of_value = |part| right(direction, part).map(|right| Check::Value(part, right));
    let beginning = beginning(direction);
    let early = fixed_parts(direction, 0, beginning.needs);
    for part in early.iter().map(|index| &parts[*index]) {
        checks.extend(part.hex.then_some(Check::Digits(part)));
        checks.extend(of_value(part));
    }
    let later = || parts.iter().enumerate().filter(|(index, _)| !early.contains(index)).map(|(_, part)| part);
    for part in later() {
        if let Role::Length { other_bytes: other, unit } = part.role {
            checks.extend(part.hex.then_some(Check::Digits(part)));
            checks.push(Check::Length { part, unit, other, around });
        }
    }
    if direction.finder == FrameFinder::Sync {
        match beginning.size {
            Size::Always(size) => checks.push(Check::Size(size)),
            Size::OfKey { part, sizes } => checks.push(Check::SizeOfKey(&parts[part], sizes)),
            Size::Said { .. } | Size::Unknown => {}
        }
    }
    let is_length = |part: &&Part| matches!(part.role, Role::Length { .. });
    checks.extend(later().filter(|part| part.hex && !is_length(part)).map(Check::Digits));
    checks.extend(later().filter(|part| matches!(part.role, Role::Fixed(_))).filter_map(of_value));
    checks.extend(later().filter(|part| matches!(part.role, Role::Same { .. })).filter_map(of_value));
    let checksums = parts.iter().enumerate().filter(|(_, part)| matches!(part.role, Role::Checksum { .. }));
    checks.extend(checksums.map(|(index, part)| Check::Checksum(index, part)));
    checks
}
