//! The common shapes of frames, read without looking anything up: a head of up to eight bytes, which takes one load, with the length
//! among its parts where sync bytes begin the frame; and one checksum right behind the body, in packets maybe none.
//!
//! It knows good frames alone. Whatever else stands there is for [`Framing`](super::Framing) to judge in general, and both say the
//! same of good frames (`tests/all/frame_properties.rs` holds them to it).

use emberwort_model::model::ByteOrder;
use emberwort_model::plan::{Bound, Covered, Direction, FrameFinder, KeySource, Part, Role, Zone};

use super::covered::{FrameChecksum, Piece};
use super::view::FrameView;

/// Where everything lies in the frames of a channel that has a common shape.
#[derive(Clone, Debug)]
pub(super) struct FastPath {
    /// The bits of the first eight bytes that are always the same, least significant byte first: those of sync bytes and constants.
    constant: u64,
    constant_bits: u64,
    head: usize,
    tail: usize,
    limit: usize,
    /// Where the length lies, unless a packet has it; and by how much what it counts besides the body is less than head and tail
    /// together.
    length: Option<(HeadPart, i64)>,
    /// Where the checksum lies, if there is one, and the first byte that it covers; the last one is the body's.
    checksum: Option<(TailPart, usize)>,
    key: Key,
    address: Option<HeadPart>,
    sequence: Option<HeadPart>,
    revision: Option<HeadPart>,
}

/// What selects the message.
#[derive(Clone, Copy, Debug)]
enum Key {
    Part(HeadPart),
    Size,
    Nothing,
}

/// The first eight bytes of a frame as a number, in both orders of bytes.
#[derive(Clone, Copy)]
struct FirstBytes {
    little: u64,
    big: u64,
}

/// A part that lies in the first eight bytes.
#[derive(Clone, Copy, Debug)]
struct HeadPart {
    shift: u32,
    mask: u64,
    order: ByteOrder,
}

impl HeadPart {
    fn of(part: &Part) -> Option<Self> {
        let (at, bits) = (part.at_bit, u32::from(part.bits));
        let shift = match part.order {
            ByteOrder::Little => at,
            ByteOrder::Big => 64u32.checked_sub(at + bits)?,
        };
        let is_inside = !part.hex && at + bits <= 64;
        is_inside.then_some(Self { shift, mask: u64::MAX >> (64 - bits), order: part.order })
    }

    #[inline(always)]
    fn read(self, first: FirstBytes) -> u64 {
        let bytes = if self.order == ByteOrder::Little { first.little } else { first.big };
        bytes >> self.shift & self.mask
    }

    /// A value at its place, least significant byte first.
    fn placed(self, value: u64) -> u64 {
        let placed = value << self.shift;
        if self.order == ByteOrder::Little { placed } else { placed.swap_bytes() }
    }
}

/// A part of one, two or four whole bytes behind the body.
#[derive(Clone, Copy, Debug)]
struct TailPart {
    at: usize,
    bytes: u8,
    order: ByteOrder,
}

impl TailPart {
    fn of(part: &Part) -> Option<Self> {
        let is_whole = !part.hex && part.at_bit.is_multiple_of(8) && matches!(part.bits, 8 | 16 | 32);
        is_whole.then_some(Self { at: part.at_bit as usize / 8, bytes: part.bits / 8, order: part.order })
    }

    #[inline(always)]
    fn read(self, tail: &[u8]) -> u64 {
        let tail = &tail[self.at..];
        let is_little = self.order == ByteOrder::Little;
        if self.bytes == 2 {
            let pair = [tail[0], tail[1]];
            return u64::from(if is_little { u16::from_le_bytes(pair) } else { u16::from_be_bytes(pair) });
        }
        if self.bytes == 1 {
            return u64::from(tail[0]);
        }
        let four = [tail[0], tail[1], tail[2], tail[3]];
        u64::from(if is_little { u32::from_le_bytes(four) } else { u32::from_be_bytes(four) })
    }
}

impl FastPath {
    /// That of a channel, if its frames have a common shape.
    pub fn of(plan: &Direction, checksums: &[FrameChecksum]) -> Option<Self> {
        let covers_from = match checksums {
            [] => None,
            [only] => match *only.pieces {
                [Piece::Bytes(Covered { from: Bound::Head(from), to: Bound::Tail(0) })] => Some(from),
                _ => return None,
            },
            _ => return None,
        };
        let is_common = match plan.finder {
            FrameFinder::Sync => !plan.sync.is_empty() && covers_from.is_some(),
            FrameFinder::Packet => true,
            _ => false,
        };
        if !is_common || plan.head_bytes > 8 {
            return None;
        }
        let (mut constant, mut constant_bits) = ([0; 8], [0; 8]);
        constant[..plan.sync.len()].copy_from_slice(&plan.sync);
        constant_bits[..plan.sync.len()].fill(0xFF);
        let mut quick = Self {
            constant: u64::from_le_bytes(constant),
            constant_bits: u64::from_le_bytes(constant_bits),
            head: plan.head_bytes,
            tail: plan.tail_bytes,
            limit: plan.limit,
            length: None,
            checksum: None,
            key: if plan.selected_by == KeySource::Size { Key::Size } else { Key::Nothing },
            address: None,
            sequence: None,
            revision: None,
        };
        for part in &plan.parts {
            if let (Role::Checksum { .. }, Zone::Tail) = (&part.role, part.zone) {
                quick.checksum = Some((TailPart::of(part)?, covers_from?));
                continue;
            }
            if part.zone == Zone::Tail {
                return None;
            }
            let place = HeadPart::of(part)?;
            match part.role {
                Role::Length { other_bytes, unit: 1 } => {
                    quick.length = Some((place, (plan.head_bytes + plan.tail_bytes) as i64 - other_bytes as i64));
                }
                Role::Fixed(value) => {
                    quick.constant |= place.placed(value);
                    quick.constant_bits |= place.placed(place.mask);
                }
                Role::Message => quick.key = Key::Part(place),
                Role::Address => quick.address = Some(place),
                Role::Sequence => quick.sequence = Some(place),
                Role::Revision => quick.revision = Some(place),
                Role::Length { .. } | Role::Checksum { .. } | Role::Same { .. } => return None,
            }
        }
        let says_size = quick.length.is_some() || plan.finder == FrameFinder::Packet;
        let says_node = quick.address.is_some() || plan.node_bases.is_empty();
        (says_size && says_node).then_some(quick)
    }

    /// The good frame with which these bytes begin, and that they hold whole; of a packet, which is all of it. `checksums` are
    /// those of the channel.
    #[inline(always)]
    pub fn read<'a>(&self, checksums: &[FrameChecksum], bytes: &'a [u8]) -> Option<FrameView<'a>> {
        // Shorter ones are rare.
        let little = u64::from_le_bytes(*bytes.first_chunk()?);
        if little & self.constant_bits != self.constant {
            return None;
        }
        let first = FirstBytes { little, big: little.swap_bytes() };
        let length = match self.length {
            Some((part, uncounted)) => (part.read(first) as i64).wrapping_add(uncounted) as usize,
            None => bytes.len(),
        };
        if length > self.limit || length < self.head + self.tail || length > bytes.len() {
            return None;
        }
        let frame = &bytes[..length];
        let body_end = length - self.tail;
        if let (Some((part, from)), [only]) = (self.checksum, checksums)
            && only.checksum.compute(&frame[from..body_end]) != part.read(&frame[body_end..])
        {
            return None;
        }
        let value = |part: Option<HeadPart>| part.map(|part| part.read(first));
        Some(FrameView {
            bytes: frame,
            body: &frame[self.head..body_end],
            key: match self.key {
                Key::Part(part) => part.read(first),
                Key::Size => (body_end - self.head) as u64,
                Key::Nothing => 0,
            },
            node: value(self.address),
            sequence: value(self.sequence),
            revision: value(self.revision),
        })
    }
}
