//! Does what the lowered form of a frame says, step by step.

use std::ops::Range;

use emberwort_codegen::lower::frame::{
    Beginning, Check, ExpectedValue, Put, Size, Stretch, beginning, checks, covered, longest_body, puts, right,
};
use emberwort_codegen::lower::pieces;
use emberwort_model::plan::{Bound, Direction, FrameFinder, Part, Role, Zone};
use emberwort_wire::Header;
use emberwort_wire::checksum::Checksum;

/// What is wrong with a frame.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Wrong {
    Length,
    Value,
    Checksum,
}

/// The frame around a body, without stuffing and delimiters; `None` if there is none.
pub fn build(direction: &Direction, header: &Header, body: &[u8]) -> Option<Vec<u8>> {
    if body.len() > longest_body(direction)? {
        return None;
    }
    if let FrameFinder::StatusBytes { .. } = direction.finder
        && body.iter().any(|byte| *byte > 0x7F)
    {
        return None;
    }
    let mut frame = vec![0; direction.head_bytes];
    frame.extend(body);
    frame.resize(frame.len() + direction.tail_bytes, 0);
    let mut place = Frame { direction, bytes: frame };
    for put in puts(direction) {
        match put {
            Put::Sync(sync) => place.bytes[..sync.len()].copy_from_slice(sync),
            Put::Given(part) => {
                let value = match part.role {
                    Role::Message => header.key,
                    Role::Address => header.node,
                    Role::Revision => header.revision,
                    ref other => panic!("{other:?} is not given"),
                };
                if value > part.greatest() {
                    return None;
                }
                place.write(part, value);
            }
            Put::Sequence(part) => place.write(part, header.sequence & part.greatest()),
            Put::Value(part, right) => {
                let value = place.right(right);
                place.write(part, value);
            }
            Put::Count { part, unit, other } => {
                let counted = body.len() + other;
                if !counted.is_multiple_of(unit) || (counted / unit) as u64 > part.greatest() {
                    return None;
                }
                place.write(part, (counted / unit) as u64);
            }
            Put::Checksum(index, part) => {
                let value = place.checksum(index);
                place.write(part, value);
            }
        }
    }
    Some(place.bytes)
}

/// What is wrong first with a frame without stuffing and delimiters.
pub fn judge(direction: &Direction, bytes: &[u8]) -> Result<(), Wrong> {
    let place = Frame { direction, bytes: bytes.to_vec() };
    for check in checks(direction) {
        let (is_right, wrong) = match check {
            Check::Bytes(least, most) => ((least..=most).contains(&bytes.len()), Wrong::Length),
            Check::Sync(sync) => (bytes.starts_with(sync), Wrong::Value),
            Check::Digits(part) => (place.read(part).is_some(), Wrong::Value),
            Check::Value(part, right) => (place.read(part) == Some(place.right(right)), Wrong::Value),
            Check::Length { part, unit, other, around } => {
                let said = place.read(part).map(|count| u128::from(count) * unit as u128);
                (said == Some((bytes.len() - around + other) as u128), Wrong::Length)
            }
            Check::Size(size) => (bytes.len() == size, Wrong::Length),
            Check::SizeOfKey(part, sizes) => {
                let of_key = |key: u64| sizes.iter().find(|(known, _)| *known == key).map(|(_, size)| *size);
                (place.read(part).and_then(of_key) == Some(bytes.len()), Wrong::Length)
            }
            Check::Checksum(index, part) => (place.read(part) == Some(place.checksum(index)), Wrong::Checksum),
        };
        if !is_right {
            return Err(wrong);
        }
    }
    Ok(())
}

/// Where the frames of a channel with sync bytes lie in a stream, as their beginnings say it.
pub fn find(direction: &Direction, stream: &[u8]) -> Vec<Range<usize>> {
    let Beginning { needs, first, size, then: (whole, then) } = beginning(direction);
    let (mut found, mut at) = (Vec::new(), 0);
    while at < stream.len() {
        let rest = &stream[at..];
        let are_right = |parts: &[usize]| {
            let place = Frame { direction, bytes: [rest, &[0; 64]].concat() };
            parts
                .iter()
                .map(|index| &direction.parts[*index])
                .all(|part| right(direction, part).is_some_and(|right| place.read(part) == Some(place.right(right))))
        };
        let begins = rest.starts_with(&direction.sync) && rest.len() >= needs && are_right(&first);
        let size = match &size {
            _ if !begins => None,
            Size::Said { part, unit, other, around, greatest } => {
                let place = Frame { direction, bytes: rest.to_vec() };
                let count = place.read(&direction.parts[*part]).filter(|count| *count <= *greatest as u64);
                count.map(|count| count as usize * unit).filter(|count| count >= other).map(|all| all - other + around)
            }
            Size::Always(size) => Some(*size),
            Size::OfKey { part, sizes } => {
                let key = Frame { direction, bytes: rest.to_vec() }.read(&direction.parts[*part]);
                sizes.iter().find(|(known, _)| Some(*known) == key).map(|(_, size)| *size)
            }
            Size::Unknown => None,
        };
        let is_frame = |size: &usize| {
            rest.len() >= whole && are_right(&then) && rest.len() >= *size && judge(direction, &rest[..*size]).is_ok()
        };
        match size.filter(is_frame) {
            Some(size) => {
                found.push(at..at + size);
                at += size;
            }
            None => at += 1,
        }
    }
    found
}

struct Frame<'a> {
    direction: &'a Direction,
    bytes: Vec<u8>,
}

impl Frame<'_> {
    fn end(&self) -> usize {
        self.bytes.len() - self.direction.tail_bytes
    }

    /// The first byte of a zone.
    fn start(&self, zone: Zone) -> usize {
        if zone == Zone::Head { 0 } else { self.end() }
    }

    /// `None` if digits are none.
    fn read(&self, part: &Part) -> Option<u64> {
        let start = self.start(part.zone);
        if part.hex {
            let from = start + part.at_bit as usize / 8;
            let digits = &self.bytes[from..from + usize::from(part.bits / 4)];
            return digits
                .iter()
                .try_fold(0, |value, digit| Some(value << 4 | u64::from(char::from(*digit).to_digit(16)?)));
        }
        let pieces = pieces(part.at_bit as usize, part.bits, part.order);
        let of = |byte: usize, low: u32, mask: u32| u64::from(u32::from(self.bytes[start + byte]) >> low & mask);
        Some(pieces.iter().map(|piece| of(piece.byte, piece.low, piece.mask()) << piece.shift).sum())
    }

    /// Bits that are written were zero.
    fn write(&mut self, part: &Part, value: u64) {
        let start = self.start(part.zone);
        if part.hex {
            let digits = format!("{value:00$X}", usize::from(part.bits / 4));
            let from = start + part.at_bit as usize / 8;
            self.bytes[from..from + digits.len()].copy_from_slice(digits.as_bytes());
            return;
        }
        for piece in pieces(part.at_bit as usize, part.bits, part.order) {
            let bits = (value >> piece.shift) as u32 & piece.mask();
            self.bytes[start + piece.byte] |= (bits << piece.low) as u8;
        }
    }

    fn right(&self, right: ExpectedValue<'_>) -> u64 {
        match right {
            ExpectedValue::Number(value) => value,
            ExpectedValue::Again { of, inverted } => {
                self.read(of).unwrap_or(0) ^ if inverted { of.greatest() } else { 0 }
            }
        }
    }

    fn checksum(&self, index: usize) -> u64 {
        let Role::Checksum { algorithm, .. } = &self.direction.parts[index].role else { panic!("no checksum") };
        let at = |bound: Bound| match bound {
            Bound::Head(offset) => offset,
            Bound::Tail(offset) => self.end() + offset,
        };
        let bytes = covered(self.direction, index).into_iter().flat_map(|stretch| match stretch {
            Stretch::Bytes(from, to) => self.bytes[at(from)..at(to)].to_vec(),
            Stretch::Zeros(count) => vec![0; count],
        });
        Checksum::new(algorithm).compute(&bytes.collect::<Vec<u8>>())
    }
}
