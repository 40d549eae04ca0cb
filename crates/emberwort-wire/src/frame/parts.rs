//! The parts of a frame, ready to be read: where each lies, and which have one right value.

use emberwort_model::model::ByteOrder;
use emberwort_model::plan::{Direction, Part, Role, Zone};

use crate::bits;
use crate::fault::FrameFault;

/// Where a part lies, ready to be read.
#[derive(Clone, Copy, Debug)]
pub(super) struct PartPlace {
    pub tail: bool,
    pub at_bit: usize,
    pub bits: u8,
    pub hex: bool,
    /// For parts of one or two whole bytes, which most are: how many.
    pub whole_bytes: u8,
    pub order: ByteOrder,
}

impl PartPlace {
    pub fn of(part: &Part) -> Self {
        let at_bit = part.at_bit as usize;
        let whole = at_bit.is_multiple_of(8) && matches!(part.bits, 8 | 16) && !part.hex;
        Self {
            tail: part.zone == Zone::Tail,
            at_bit,
            bits: part.bits,
            hex: part.hex,
            whole_bytes: if whole { part.bits / 8 } else { 0 },
            order: part.order,
        }
    }

    /// One past its last byte.
    pub fn end(self) -> usize {
        (self.at_bit + usize::from(self.bits) * if self.hex { 2 } else { 1 }).div_ceil(8)
    }

    #[inline(always)]
    pub fn read(self, bytes: &[u8], body_end: usize) -> u64 {
        let start = if self.tail { body_end } else { 0 };
        if self.whole_bytes == 1 { u64::from(bytes[start + self.at_bit / 8]) } else { self.read_wide(&bytes[start..]) }
    }

    #[inline(never)]
    pub(crate) fn read_wide(self, zone: &[u8]) -> u64 {
        if self.whole_bytes == 2
            && let Some(Ok(pair)) = zone.get(self.at_bit / 8..self.at_bit / 8 + 2).map(<[u8; 2]>::try_from)
        {
            return u64::from(match self.order {
                ByteOrder::Little => u16::from_le_bytes(pair),
                ByteOrder::Big => u16::from_be_bytes(pair),
            });
        }
        if self.hex {
            return self.digits(zone).unwrap_or(0);
        }
        bits::read(zone, self.at_bit, self.bits, self.order)
    }

    /// The value of a part in hex digits; `None` if other characters stand there.
    pub fn digits(self, zone: &[u8]) -> Option<u64> {
        let (first, count) = (self.at_bit / 8, usize::from(self.bits / 4));
        zone.get(first..first + count)?.iter().try_fold(0, |value, digit| {
            let digit = char::from(*digit).to_digit(16)?;
            Some(value << 4 | u64::from(digit))
        })
    }
}

/// A part that has the value of an earlier one again.
#[derive(Clone, Copy, Debug)]
pub(super) struct SamePart {
    pub part: usize,
    pub place: PartPlace,
    /// Where the earlier one lies.
    pub of: PartPlace,
    /// What its value is XORed with.
    pub xor: u64,
}

impl SamePart {
    pub fn all(plan: &Direction) -> Vec<Self> {
        let same = plan.parts.iter().enumerate().filter_map(|(n, part)| match part.role {
            Role::Same { part: of, inverted } => Some(Self {
                part: n,
                place: PartPlace::of(part),
                of: PartPlace::of(&plan.parts[of]),
                xor: if inverted { part.greatest() } else { 0 },
            }),
            _ => None,
        });
        same.collect()
    }

    pub fn expected(&self, bytes: &[u8], body_end: usize) -> u64 {
        self.of.read(bytes, body_end) ^ self.xor
    }

    pub fn check(&self, bytes: &[u8], body_end: usize) -> Result<(), FrameFault> {
        let (expected, found) = (self.expected(bytes, body_end), self.place.read(bytes, body_end));
        if expected == found { Ok(()) } else { Err(FrameFault::Fixed { part: self.part, expected, found }) }
    }
}

/// A part of the head that has one right value, which can be seen before the frame is complete.
#[derive(Clone, Copy, Debug)]
pub(super) enum RightValue {
    /// A constant.
    Fixed { part: usize, place: PartPlace, value: u64 },
    /// What an earlier part says.
    Same(SamePart),
}

impl RightValue {
    /// Those in the head of a channel.
    pub fn all(plan: &Direction) -> Vec<Self> {
        let fixed = plan.parts.iter().enumerate().filter_map(|(part, of)| match of.role {
            Role::Fixed(value) => Some(Self::Fixed { part, place: PartPlace::of(of), value }),
            _ => None,
        });
        let same = SamePart::all(plan).into_iter().map(Self::Same);
        fixed.chain(same).filter(|right| !right.place().tail).collect()
    }

    pub fn place(&self) -> PartPlace {
        match self {
            Self::Fixed { place, .. } | Self::Same(SamePart { place, .. }) => *place,
        }
    }

    pub fn check(&self, bytes: &[u8]) -> Result<(), FrameFault> {
        match self {
            Self::Fixed { part, place, .. } if place.hex && place.digits(bytes).is_none() => {
                Err(FrameFault::Digits { part: *part })
            }
            Self::Fixed { part, place, value: expected } => {
                let (part, expected, found) = (*part, *expected, place.read(bytes, 0));
                if expected == found { Ok(()) } else { Err(FrameFault::Fixed { part, expected, found }) }
            }
            Self::Same(same) if same.place.hex && same.place.digits(bytes).is_none() => {
                Err(FrameFault::Digits { part: same.part })
            }
            Self::Same(same) => same.check(bytes, 0),
        }
    }
}

/// The length part of a frame, which lies in its head.
#[derive(Clone, Copy, Debug)]
pub(super) struct LengthPart {
    pub place: PartPlace,
    /// Bytes of the frame that must be there to read it.
    pub end: usize,
    pub other_bytes: u64,
    pub unit: u64,
}

impl LengthPart {
    pub fn of(part: &Part) -> Option<Self> {
        let Role::Length { other_bytes, unit } = part.role else { return None };
        let place = PartPlace::of(part);
        Some(Self { place, end: place.end(), other_bytes: other_bytes as u64, unit: unit as u64 })
    }
}
