//! Frames: building them around a body, and judging the bytes of one that was received.

mod covered;
mod fast_path;
mod parts;
mod view;

use std::sync::Arc;

use emberwort_model::model::{ByteOrder, End};
use emberwort_model::plan::{Bound, Channel, Direction, FrameFinder, KeySource, MessagePlan, Part, Role, Zone};
use emberwort_model::stuffing::Escape;
use thiserror::Error;

use covered::{FrameChecksum, pieces};
use fast_path::FastPath;
use parts::{LengthPart, PartPlace, RightValue, SamePart};

use crate::bits;
use crate::checksum::Checksum;
use crate::codec::{self, EncodeError};
pub use crate::fault::FrameFault;
use crate::line;
use crate::stuffing::{self, escape::Step};
use crate::values::Values;
pub use view::FrameView;

/// A channel's framing made ready to run: its plan, and the tables of its checksums.
#[derive(Clone, Debug)]
pub struct Framing {
    plan: Arc<Direction>,
    places: Vec<PartPlace>,
    checksums: Vec<FrameChecksum>,
    length: Option<LengthPart>,
    key: Option<PartPlace>,
    address: Option<PartPlace>,
    sequence: Option<PartPlace>,
    revision: Option<PartPlace>,
    fixed: Vec<usize>,
    same: Vec<SamePart>,
    /// Bytes with which every frame begins.
    start_mark: Vec<u8>,
    /// Parts of the head with one right value that end within [`Framing::length_end`] bytes.
    early: Vec<RightValue>,
    /// Those behind them in the head.
    late: Vec<RightValue>,
    /// Parts in hex digits.
    digits: Vec<usize>,
    terminator: Vec<u8>,
    /// The bytes that are escaped.
    escaped: Vec<u8>,
    /// Where everything lies, if frames have a common shape.
    fast_path: Option<FastPath>,
}

/// Bytes with which every frame begins: its sync bytes, else a constant in whole bytes in front.
fn start_mark(plan: &Direction) -> Vec<u8> {
    match plan.parts.first() {
        Some(Part { role: Role::Fixed(value), zone: Zone::Head, at_bit: 0, bits, hex: false, order, .. })
            if plan.sync.is_empty() && bits.is_multiple_of(8) =>
        {
            let mut bytes = vec![0; usize::from(bits / 8)];
            bits::write(&mut bytes, 0, *bits, *value, *order);
            bytes
        }
        _ => plan.sync.clone(),
    }
}

/// The values of the frame parts that a sender chooses.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Header {
    /// The key that selects the message.
    pub key: u64,
    /// The node.
    pub node: u64,
    /// The sequence number; the part's bits are kept, so that it goes around.
    pub sequence: u64,
    /// The sender's revision.
    pub revision: u64,
}

/// Why a frame cannot be built.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum FrameError {
    /// It would be longer than the channel allows.
    #[error("the frame would have {length} bytes, but `{channel}` has a limit of {limit}")]
    TooLong {
        /// Bytes that it would have on the wire.
        length: usize,
        /// The channel's limit.
        limit: usize,
        /// The channel.
        channel: String,
    },
    /// A value does not fit its part.
    #[error("{value} does not fit the frame part `{part}`, which has {bits} bits")]
    PartTooNarrow {
        /// The part's name.
        part: String,
        /// The value.
        value: u64,
        /// The part's width.
        bits: u8,
    },
    /// A byte behind the status byte would look like one.
    #[error("byte {at} of the body is {byte:02X}, and only the status byte may have bit 7 set")]
    HighBit {
        /// Offset in the body.
        at: usize,
        /// The byte.
        byte: u8,
    },
    /// The counted bytes are no multiple of the length part's unit.
    #[error("`{part}` counts in units of {unit} bytes, but there are {bytes} bytes to count")]
    UnevenLength {
        /// The length part's name.
        part: String,
        /// The unit in bytes.
        unit: usize,
        /// The bytes to count.
        bytes: usize,
    },
}

/// Channels whose frames can be built and read.
pub trait Framed {
    /// The framing of frames from an end, made when it is first asked for and kept as long as the plan.
    fn framing(&self, from: End) -> Arc<Framing>;
}

impl Framed for Channel {
    fn framing(&self, from: End) -> Arc<Framing> {
        self.cached(from, Framing::new)
    }
}

impl Framing {
    /// Prepares the frames of an end: checksum tables, and which part is which. Those of a plan are made once: [`Framed::framing`].
    pub fn new(plan: Arc<Direction>) -> Self {
        let find = |wanted: fn(&Role) -> bool| plan.part(wanted).map(PartPlace::of);
        let is_length = |part: usize| matches!(plan.parts[part].role, Role::Length { .. });
        let repeats = |same: &SamePart| match plan.parts[same.part].role {
            Role::Same { part, .. } => is_length(part) && !same.place.tail,
            _ => false,
        };
        let lengths = SamePart::all(&plan).into_iter().filter(repeats);
        let mut length = plan.parts.iter().find_map(LengthPart::of);
        if let (Some(length), Some(end)) = (&mut length, lengths.map(|same| same.place.end()).max()) {
            length.end = length.end.max(end);
        }
        let checksum_parts: Vec<usize> =
            (0..plan.parts.len()).filter(|n| matches!(plan.parts[*n].role, Role::Checksum { .. })).collect();
        let place = |part: &Part| {
            let (start, end) = (part.at_bit as usize / 8, (part.at_bit as usize + part.wire_bits()) / 8);
            match part.zone {
                Zone::Head => (Bound::Head(start), Bound::Head(end)),
                Zone::Tail => (Bound::Tail(start), Bound::Tail(end)),
            }
        };
        let checksums = checksum_parts
            .iter()
            .enumerate()
            .filter_map(|(n, index)| match &plan.parts[*index].role {
                Role::Checksum { algorithm, over, skipping, .. } => {
                    // The part itself counts as zero, and checksums behind it.
                    let blank: Vec<_> = checksum_parts[n..].iter().map(|later| place(&plan.parts[*later])).collect();
                    let pieces = pieces(over, &blank, *skipping);
                    let place = PartPlace::of(&plan.parts[*index]);
                    Some(FrameChecksum { part: *index, place, checksum: Checksum::new(algorithm), pieces })
                }
                _ => None,
            })
            .collect();
        let mut framing = Self {
            places: plan.parts.iter().map(PartPlace::of).collect(),
            checksums,
            length,
            start_mark: start_mark(&plan),
            early: Vec::new(),
            late: Vec::new(),
            same: SamePart::all(&plan),
            key: find(|role| *role == Role::Message),
            address: find(|role| *role == Role::Address),
            sequence: find(|role| *role == Role::Sequence),
            revision: find(|role| *role == Role::Revision),
            fixed: (0..plan.parts.len()).filter(|n| matches!(plan.parts[*n].role, Role::Fixed(_))).collect(),
            fast_path: None,
            digits: (0..plan.parts.len()).filter(|n| plan.parts[*n].hex).collect(),
            terminator: plan.terminator(),
            escaped: match plan.finder {
                FrameFinder::Escaped(escape) => escape.escaped.iter().collect(),
                _ => Vec::new(),
            },
            plan,
        };
        framing.fast_path = FastPath::of(&framing.plan, &framing.checksums);
        let length_end = framing.length_end();
        let is_early = |right: &RightValue| right.place().end() <= length_end;
        (framing.early, framing.late) = RightValue::all(&framing.plan).into_iter().partition(is_early);
        framing
    }

    /// Judges frames in the general way alone, also those of a common shape: for holding the two to the same results.
    #[must_use]
    pub fn without_shortcut(mut self) -> Self {
        self.fast_path = None;
        self
    }

    /// Whether frames have a common shape.
    pub(crate) fn is_quick(&self) -> bool {
        self.fast_path.is_some()
    }

    /// The good frame of a common shape with which these bytes begin; of packets, that they are. What it does not know is still to be judged.
    #[inline(always)]
    pub(crate) fn fast_frame<'a>(&self, bytes: &'a [u8]) -> Option<FrameView<'a>> {
        self.fast_path.as_ref()?.read(&self.checksums, bytes)
    }

    /// Bytes with which every frame begins and by which its start is found: the sync bytes, else a constant part in front.
    pub(crate) fn start_mark(&self) -> &[u8] {
        &self.start_mark
    }

    /// The channel's plan.
    pub fn plan(&self) -> &Direction {
        &self.plan
    }

    fn bit_of(part: &Part, body_end: usize) -> usize {
        match part.zone {
            Zone::Head => part.at_bit as usize,
            Zone::Tail => body_end * 8 + part.at_bit as usize,
        }
    }

    fn set_part(&self, index: usize, value: u64, bytes: &mut [u8], body_end: usize) -> Result<(), FrameError> {
        let part = &self.plan.parts[index];
        if part.bits < 64 && value >> part.bits != 0 {
            return Err(FrameError::PartTooNarrow { part: part.name.clone(), value, bits: part.bits });
        }
        let at = Self::bit_of(part, body_end);
        let place = &self.places[index];
        // Most parts are one or two whole bytes.
        match (place.whole_bytes, part.order) {
            (1, _) => {
                bytes[at / 8] = value as u8;
                return Ok(());
            }
            (2, ByteOrder::Little) => {
                bytes[at / 8..at / 8 + 2].copy_from_slice(&(value as u16).to_le_bytes());
                return Ok(());
            }
            (2, ByteOrder::Big) => {
                bytes[at / 8..at / 8 + 2].copy_from_slice(&(value as u16).to_be_bytes());
                return Ok(());
            }
            _ => {}
        }
        if part.hex {
            let digits = usize::from(part.bits / 4);
            for (n, byte) in bytes[at / 8..at / 8 + digits].iter_mut().enumerate() {
                *byte = b"0123456789ABCDEF"[(value >> (4 * (digits - 1 - n)) & 15) as usize];
            }
        } else {
            bits::write(bytes, at, part.bits, value, part.order);
        }
        Ok(())
    }

    /// Appends the frame around a body, as it goes over the wire: stuffing, checksums and delimiters included.
    ///
    /// # Errors
    /// If the frame would be longer than the channel allows, or a value does not fit its part. `out` is then as before.
    pub fn encode(&self, header: &Header, body: &[u8], out: &mut Vec<u8>) -> Result<(), FrameError> {
        let before = out.len();
        let result = match self.plan.finder {
            FrameFinder::Sync | FrameFinder::Packet | FrameFinder::Idle { .. } => self.encode_plain(header, body, out),
            FrameFinder::StatusBytes { .. } => match body.iter().position(|byte| *byte >= 0x80) {
                Some(at) => Err(FrameError::HighBit { at, byte: body[at] }),
                None => self.encode_plain(header, body, out),
            },
            FrameFinder::Lines { crlf } => self.encode_plain(header, body, out).map(|()| {
                out.extend_from_slice(if crlf { b"\r\n" } else { b"\n" });
            }),
            FrameFinder::Stuffed(stuffing) => self.plain(header, body).map(|plain| {
                stuffing::encode(stuffing, &plain, out);
            }),
            FrameFinder::Escaped(escape) => self.plain(header, body).map(|plain| {
                let (sync, rest) = plain.split_at(self.plan.sync.len());
                let (rest, terminator) = rest.split_at(rest.len() - self.terminator.len());
                out.extend_from_slice(sync);
                stuffing::escape::encode(&escape, rest, out);
                out.extend_from_slice(terminator);
            }),
        };
        let length = out.len() - before;
        let result = match result {
            Ok(()) if length > self.plan.limit => {
                Err(FrameError::TooLong { length, limit: self.plan.limit, channel: self.plan.name.clone() })
            }
            other => other,
        };
        if result.is_err() {
            out.truncate(before);
        }
        result
    }

    /// The frame before anything is stuffed.
    fn plain(&self, header: &Header, body: &[u8]) -> Result<Vec<u8>, FrameError> {
        let mut plain = Vec::with_capacity(self.plan.head_bytes + body.len() + self.plan.tail_bytes);
        self.encode_plain(header, body, &mut plain)?;
        Ok(plain)
    }

    fn encode_plain(&self, header: &Header, body: &[u8], out: &mut Vec<u8>) -> Result<(), FrameError> {
        let plan = &self.plan;
        let start = out.len();
        out.reserve(plan.head_bytes + body.len() + plan.tail_bytes);
        out.resize(start + plan.head_bytes, 0);
        out.extend_from_slice(body);
        out.resize(out.len() + plan.tail_bytes, 0);
        let frame = &mut out[start..];
        frame[..plan.sync.len()].copy_from_slice(&plan.sync);
        let body_end = plan.head_bytes + body.len();
        for (index, part) in plan.parts.iter().enumerate() {
            let value = match &part.role {
                Role::Message => header.key,
                Role::Address => header.node,
                Role::Sequence if part.bits < 64 => header.sequence & ((1 << part.bits) - 1),
                Role::Sequence => header.sequence,
                Role::Revision => header.revision,
                Role::Fixed(value) => *value,
                Role::Same { .. } => {
                    let same = self.same.iter().find(|same| same.part == index);
                    same.map_or(0, |same| same.expected(frame, body_end))
                }
                Role::Length { other_bytes, unit } => {
                    let bytes = other_bytes + body.len();
                    if !bytes.is_multiple_of(*unit) {
                        return Err(FrameError::UnevenLength { part: part.name.clone(), unit: *unit, bytes });
                    }
                    (bytes / unit) as u64
                }
                Role::Checksum { .. } => continue,
            };
            self.set_part(index, value, frame, body_end)?;
        }
        for checksum in &self.checksums {
            let value = checksum.compute(frame, body_end);
            self.set_part(checksum.part, value, frame, body_end)?;
        }
        Ok(())
    }

    /// Puts the bytes of one whole frame on the wire, whatever they hold: with stuffing and delimiters, or the end of its line.
    pub fn stuff(&self, plain: &[u8], out: &mut Vec<u8>) {
        match self.plan.finder {
            FrameFinder::Stuffed(stuffing) => stuffing::encode(stuffing, plain, out),
            FrameFinder::Escaped(escape) => {
                let (sync, rest) = plain.split_at(self.plan.sync.len().min(plain.len()));
                let (rest, terminator) = rest.split_at(rest.len().saturating_sub(self.terminator.len()));
                out.extend_from_slice(sync);
                stuffing::escape::encode(&escape, rest, out);
                out.extend_from_slice(terminator);
            }
            FrameFinder::Lines { crlf } => {
                out.extend_from_slice(plain);
                out.extend_from_slice(if crlf { b"\r\n" } else { b"\n" });
            }
            FrameFinder::Sync | FrameFinder::Packet | FrameFinder::Idle { .. } | FrameFinder::StatusBytes { .. } => {
                out.extend_from_slice(plain);
            }
        }
    }

    /// The checksums of one whole frame without stuffing and delimiters: the index of each part, what stands there, and what should. Empty if
    /// the frame is too short to have them.
    pub fn checksums(&self, plain: &[u8]) -> Vec<(usize, u64, u64)> {
        let Some(body_end) = plain.len().checked_sub(self.plan.tail_bytes).filter(|end| *end >= self.plan.head_bytes)
        else {
            return Vec::new();
        };
        let of = |checksum: &FrameChecksum| {
            (checksum.part, checksum.place.read(plain, body_end), checksum.compute(plain, body_end))
        };
        self.checksums.iter().map(of).collect()
    }

    /// Sets the value of a part of one whole frame without stuffing and delimiters, if the frame is long enough to have it.
    ///
    /// # Errors
    /// If the value does not fit.
    pub fn set(&self, part: usize, value: u64, plain: &mut [u8]) -> Result<(), FrameError> {
        match plain.len().checked_sub(self.plan.tail_bytes).filter(|end| *end >= self.plan.head_bytes) {
            Some(body_end) => self.set_part(part, value, plain, body_end),
            None => Ok(()),
        }
    }

    /// How long the frame is whose first bytes these are: `Ok(None)` if more bytes are needed to say it, and as long as what is
    /// there if neither a length part nor the message's size says it.
    ///
    /// # Errors
    /// If they say something that no frame of this channel can have.
    #[inline(always)]
    pub(crate) fn length_of(&self, bytes: &[u8]) -> Result<Option<usize>, FrameFault> {
        let Some(part) = &self.length else { return self.length_by_key(bytes) };
        if bytes.len() < part.end {
            return Ok(None);
        }
        let (plan, other_bytes) = (&self.plan, part.other_bytes);
        let value = part.place.read(bytes, 0);
        if part.place.hex {
            self.check_length(part, bytes)?;
        }
        let around = plan.head_bytes + plan.tail_bytes;
        // Saturating, since a length part of 64 bits can claim anything.
        let counted = value.saturating_mul(part.unit);
        let length = counted.saturating_add(around as u64).saturating_sub(other_bytes);
        if counted < other_bytes || length > plan.limit as u64 {
            return Err(FrameFault::Length { length, least: around, greatest: plan.limit });
        }
        Ok(Some(length as usize))
    }

    /// How long the frame is whose first bytes these are, as [`Framing::length_of`] says it, if what can be seen of it is right:
    /// constants and values said twice are judged here, before more bytes are waited for.
    ///
    /// # Errors
    /// What is wrong, and how many bytes that frame would have; where that cannot be said, how many were looked at.
    #[inline(always)]
    pub(crate) fn begin(&self, bytes: &[u8]) -> Result<Option<usize>, (FrameFault, usize)> {
        if !self.early.is_empty() {
            self.check_early(bytes)?;
        }
        let length = self.length_of(bytes).map_err(|fault| (fault, self.length_end()))?;
        if let Some(length) = length
            && !self.late.is_empty()
            && bytes.len() >= self.plan.head_bytes
        {
            self.check_late(bytes).map_err(|fault| (fault, length))?;
        }
        Ok(length)
    }

    /// How long the frame is whose first bytes these are, where the size of its message says it.
    fn length_by_key(&self, bytes: &[u8]) -> Result<Option<usize>, FrameFault> {
        let plan = &self.plan;
        if !plan.finder.runs_on() {
            return Ok(Some(bytes.len()));
        }
        let around = plan.head_bytes + plan.tail_bytes;
        match (self.key, plan.body_sizes.as_slice()) {
            (_, [Some(first), others @ ..]) if others.iter().all(|size| *size == Some(*first)) => {
                Ok(Some(around + first))
            }
            (Some(_), _) if bytes.len() < self.length_end() => Ok(None),
            (Some(part), sizes) => {
                let key = part.read(bytes, 0);
                let found = plan.keys.binary_search_by_key(&key, |(key, _)| *key).ok();
                let size = found.and_then(|at| sizes.get(at).copied().flatten());
                size.map(|size| Some(around + size)).ok_or(FrameFault::UnknownSize { key })
            }
            (None, _) => Err(FrameFault::UnknownSize { key: 0 }),
        }
    }

    /// How many bytes of a frame must be there before its length part can be read.
    pub(crate) fn length_end(&self) -> usize {
        let by_key = || self.key.map_or(0, PartPlace::end);
        self.length.map_or_else(by_key, |part| part.end).max(self.plan.sync.len())
    }

    /// Reads one escaped frame from the first of these bytes on. `plain` is replaced by what it stands for.
    ///
    /// Returns its bytes on the wire, or `None` if more are needed.
    ///
    /// # Errors
    /// What is wrong, and how many bytes were read until then.
    pub(crate) fn unescape(
        &self,
        escape: &Escape,
        wire: &[u8],
        plain: &mut Vec<u8>,
    ) -> Result<Option<usize>, (FrameFault, usize)> {
        let sync = self.plan.sync.len();
        plain.clear();
        plain.extend_from_slice(&wire[..sync]);
        let mut at = sync;
        let mut length = None;
        // Whether what can be seen in the head is still to be looked at.
        let mut unseen = !self.early.is_empty() || !self.late.is_empty();
        let head = self.plan.head_bytes;
        loop {
            if unseen && plain.len() >= head {
                self.check_early(plain).map_err(|(fault, _)| (fault, at))?;
                self.check_late(plain).map_err(|fault| (fault, at))?;
                unseen = false;
            }
            if at + self.terminator.len() > self.plan.limit {
                let (around, limit) = (self.plan.head_bytes + self.plan.tail_bytes, self.plan.limit);
                return Err((FrameFault::Length { length: limit as u64 + 1, least: around, greatest: limit }, at));
            }
            if self.terminator.is_empty() {
                if length.is_none() && plain.len() >= self.length_end() {
                    length = self.length_of(plain).map_err(|fault| (fault, at))?;
                }
                if length.is_some_and(|length| plain.len() >= length) {
                    return Ok(Some(at));
                }
            }
            let rest = &wire[at..];
            // Most bytes stand for themselves; they are taken together, as far as the frame can go.
            let wanted = match (self.terminator.is_empty(), length) {
                (false, _) => usize::MAX,
                (true, Some(length)) => length - plain.len(),
                (true, None) => self.length_end() - plain.len(),
            };
            let wanted = if unseen { wanted.min(head - plain.len()) } else { wanted };
            let most = wanted.min(self.plan.limit + 1 - at - self.terminator.len()).min(rest.len());
            let run = stuffing::escape::run(&self.escaped, &rest[..most]);
            if run > 0 {
                plain.extend_from_slice(&rest[..run]);
                at += run;
                continue;
            }
            if !self.terminator.is_empty() && rest.starts_with(&self.terminator) {
                plain.extend_from_slice(&self.terminator);
                return Ok(Some(at + self.terminator.len()));
            }
            match stuffing::escape::step(escape, rest) {
                Step::Byte(byte, size) => {
                    plain.push(byte);
                    at += size;
                }
                Step::More => return Ok(None),
                Step::Bare if rest.len() < self.terminator.len() && self.terminator.starts_with(rest) => {
                    return Ok(None);
                }
                Step::Bare => {
                    let needed = length.unwrap_or(plain.len() + 1);
                    return Err((FrameFault::Truncated { length: plain.len(), needed }, at));
                }
                Step::Wrong => return Err((FrameFault::Stuffing { at }, at + 1)),
            }
        }
    }

    /// Judges the bytes of one whole frame as they go over the wire: with stuffing and delimiters, or the end of its line.
    /// `plain` is room for what they stand for.
    ///
    /// # Errors
    /// Why it is no good frame.
    pub fn open<'a>(&self, wire: &'a [u8], plain: &'a mut Vec<u8>) -> Result<FrameView<'a>, FrameFault> {
        self.check(self.plain_bytes(wire, plain)?)
    }

    /// What the bytes of one whole frame stand for: without stuffing and delimiters, or the end of its line. `plain` is room for
    /// them.
    ///
    /// # Errors
    /// What is wrong with the stuffing.
    pub fn plain_bytes<'a>(&self, wire: &'a [u8], plain: &'a mut Vec<u8>) -> Result<&'a [u8], FrameFault> {
        Ok(match self.plan.finder {
            FrameFinder::Stuffed(stuffing) => {
                let delimiter = [stuffing.delimiter()];
                let inner = if stuffing.leads() { wire.strip_prefix(&delimiter).unwrap_or(wire) } else { wire };
                let inner = inner.strip_suffix(&delimiter).unwrap_or(inner);
                stuffing::decode(stuffing, inner, plain).map_err(|at| FrameFault::Stuffing { at })?;
                plain.as_slice()
            }
            FrameFinder::Escaped(escape) if wire.starts_with(&self.plan.sync) => {
                match self.unescape(&escape, wire, plain).map_err(|(fault, _)| fault)? {
                    Some(end) if end == wire.len() => plain.as_slice(),
                    Some(end) => {
                        let (length, all) = (end as u64, wire.len());
                        return Err(FrameFault::Length { length, least: all, greatest: all });
                    }
                    None => return Err(FrameFault::Truncated { length: wire.len(), needed: wire.len() + 1 }),
                }
            }
            FrameFinder::Lines { .. } => {
                let line = wire.strip_suffix(b"\n").unwrap_or(wire);
                line.strip_suffix(b"\r").unwrap_or(line)
            }
            FrameFinder::Sync
            | FrameFinder::Escaped(_)
            | FrameFinder::Idle { .. }
            | FrameFinder::StatusBytes { .. }
            | FrameFinder::Packet => wire,
        })
    }

    /// Judges the bytes of one whole frame, without stuffing and delimiters.
    ///
    /// # Errors
    /// The first fault in this order: size, sync bytes, constants and repeated lengths in the head, length, hex digits, other
    /// constants, values said twice, checksums.
    pub fn check<'a>(&self, bytes: &'a [u8]) -> Result<FrameView<'a>, FrameFault> {
        let plan = &self.plan;
        let around = plan.head_bytes + plan.tail_bytes;
        if bytes.len() < around {
            return Err(FrameFault::Truncated { length: bytes.len(), needed: around });
        }
        // Comparing nothing takes a call.
        if !plan.sync.is_empty() && !bytes.starts_with(&plan.sync) {
            return Err(FrameFault::Sync);
        }
        if !self.early.is_empty() {
            self.check_early(bytes).map_err(|(fault, _)| fault)?;
        }
        let sized = self.length.is_some() || plan.finder.runs_on();
        if sized && let Some(length) = self.length_of(bytes)? {
            if length > bytes.len() {
                return Err(FrameFault::Truncated { length: bytes.len(), needed: length });
            }
            if length < bytes.len() {
                return Err(FrameFault::Length { length: length as u64, least: bytes.len(), greatest: bytes.len() });
            }
        }
        self.check_sized(bytes)
    }

    /// Judges the bytes of one whole frame whose number is what the length part says, and which begin with the sync bytes.
    #[inline(always)]
    pub(crate) fn check_sized<'a>(&self, bytes: &'a [u8]) -> Result<FrameView<'a>, FrameFault> {
        let plan = &self.plan;
        let body_end = bytes.len() - plan.tail_bytes;
        if !self.digits.is_empty() {
            self.check_digits(bytes, body_end)?;
        }
        for part in &self.fixed {
            let found = self.places[*part].read(bytes, body_end);
            if let Role::Fixed(expected) = plan.parts[*part].role
                && expected != found
            {
                return Err(FrameFault::Fixed { part: *part, expected, found });
            }
        }
        if !self.same.is_empty() {
            self.check_same(bytes, body_end)?;
        }
        for checksum in &self.checksums {
            let expected = checksum.compute(bytes, body_end);
            let found = checksum.place.read(bytes, body_end);
            if expected != found {
                return Err(FrameFault::Checksum { part: checksum.part, expected, found });
            }
        }
        let value = |part: &Option<PartPlace>| part.map(|part| part.read(bytes, body_end));
        let key = match self.key {
            Some(part) => part.read(bytes, body_end),
            None if plan.selected_by == KeySource::Size => (body_end - plan.head_bytes) as u64,
            None => 0,
        };
        Ok(FrameView {
            bytes,
            body: &bytes[plan.head_bytes..body_end],
            key,
            node: match self.address {
                None if self.key.is_some() => plan.node_in_key(key),
                address => value(&address),
            },
            sequence: value(&self.sequence),
            revision: value(&self.revision),
        })
    }
}

/// What only some channels have.
impl Framing {
    /// Whether parts in hex digits hold some.
    #[cold]
    fn check_digits(&self, bytes: &[u8], body_end: usize) -> Result<(), FrameFault> {
        for part in &self.digits {
            let place = self.places[*part];
            if place.digits(&bytes[if place.tail { body_end } else { 0 }..]).is_none() {
                return Err(FrameFault::Digits { part: *part });
            }
        }
        Ok(())
    }

    /// Whether parts that repeat an earlier one have its value.
    #[cold]
    fn check_same(&self, bytes: &[u8], body_end: usize) -> Result<(), FrameFault> {
        self.same.iter().try_for_each(|same| same.check(bytes, body_end))
    }

    /// Whether a length in digits stands in digits.
    #[cold]
    fn check_length(&self, part: &LengthPart, bytes: &[u8]) -> Result<(), FrameFault> {
        if part.place.digits(bytes).is_none() {
            let index = self.plan.parts.iter().position(|part| matches!(part.role, Role::Length { .. }));
            return Err(FrameFault::Digits { part: index.unwrap_or(0) });
        }
        Ok(())
    }

    /// Whether the constants that stand in front of the length, and what repeats it, are right; with how many bytes the frame
    /// would have, or were looked at.
    fn check_early(&self, bytes: &[u8]) -> Result<(), (FrameFault, usize)> {
        let end = self.length_end();
        if bytes.len() < end {
            return Ok(());
        }
        let fault = self.early.iter().find_map(|right| right.check(bytes).err());
        fault.map_or(Ok(()), |fault| Err((fault, self.length_of(bytes).ok().flatten().unwrap_or(end))))
    }

    /// Whether the constants in the head behind the length are right.
    fn check_late(&self, bytes: &[u8]) -> Result<(), FrameFault> {
        self.late.iter().try_for_each(|right| right.check(bytes))
    }
}

/// Appends the body of a message as it goes over a channel: the line of a text message, else the bytes of
/// [`codec::encode`].
///
/// # Errors
/// If a field has no value, or one that cannot be written.
pub fn body_on(
    channel: &Direction,
    plan: &MessagePlan,
    values: &Values,
    revision: u32,
    out: &mut Vec<u8>,
) -> Result<(), EncodeError> {
    match channel.finder {
        FrameFinder::Lines { .. } => line::write(plan, values, out),
        _ => codec::encode(plan, values, revision, out),
    }
}
