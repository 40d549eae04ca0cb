//! Frames: building them around a body, and judging the bytes of one that was received.

use std::sync::Arc;

use emberwort_model::plan::{ChannelPlan, Covered, FrameFinder, Part, Role, Zone};
use thiserror::Error;

use crate::bits;
use crate::checksum::Checksum;
use crate::cobs;
use crate::codec::BodyError;

/// A channel's framing made ready to run: its plan, and the tables of its checksums.
#[derive(Clone, Debug)]
pub struct Framing {
    plan: Arc<ChannelPlan>,
    checksums: Vec<FrameChecksum>,
    length: Option<usize>,
    key: Option<usize>,
    address: Option<usize>,
    sequence: Option<usize>,
    revision: Option<usize>,
    fixed: Vec<usize>,
}

/// One checksum part of a frame.
#[derive(Clone, Debug)]
struct FrameChecksum {
    part: usize,
    checksum: Checksum,
    over: Vec<Covered>,
    /// Stretches that count as zero, or are left out if `skipping`: the part itself, and checksums behind it.
    blank: Vec<(Zone, usize, usize)>,
    skipping: bool,
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

/// A frame whose framing and checksums are right.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct FrameView<'a> {
    /// All bytes, without stuffing and delimiters.
    pub bytes: &'a [u8],
    /// The body.
    pub body: &'a [u8],
    /// The key, if a part selects the message.
    pub key: u64,
    /// The node, if the frame has one.
    pub node: Option<u64>,
    /// The sequence number, if the frame has one.
    pub sequence: Option<u64>,
    /// The sender's revision, if the frame has one.
    pub revision: Option<u64>,
}

/// Why a frame is broken. Parts are indices into the channel's parts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FrameFault {
    /// The length part says something that no frame of this channel can have.
    Length {
        /// Bytes that the frame would have.
        length: u64,
        /// Fewest bytes of a frame.
        least: usize,
        /// Most bytes of a frame.
        greatest: usize,
    },
    /// The input ends, or the delimiter comes, before the frame is complete.
    Truncated {
        /// Bytes that are there.
        length: usize,
        /// Bytes that are needed at least.
        needed: usize,
    },
    /// A checksum differs.
    Checksum {
        /// The part.
        part: usize,
        /// As computed from the bytes.
        expected: u64,
        /// As it stands in the frame.
        found: u64,
    },
    /// A part with a fixed value has another.
    Fixed {
        /// The part.
        part: usize,
        /// The value of the definition.
        expected: u64,
        /// As it stands in the frame.
        found: u64,
    },
    /// The stuffing is wrong at this byte.
    Stuffing {
        /// Offset in the stuffed frame.
        at: usize,
    },
    /// No message of the channel has this key.
    UnknownMessage {
        /// The key.
        key: u64,
    },
    /// The body cannot be decoded.
    Body {
        /// Index of the message.
        message: usize,
        /// Why.
        error: BodyError,
    },
}

impl FrameFault {
    /// All short names that [`FrameFault::reason`] gives.
    pub const REASONS: [&'static str; 7] =
        ["checksum", "length", "truncated", "fixed", "stuffing", "unknown message", "body"];

    /// The reason in one or two words, for counting.
    pub fn reason(&self) -> &'static str {
        Self::REASONS[match self {
            FrameFault::Checksum { .. } => 0,
            FrameFault::Length { .. } => 1,
            FrameFault::Truncated { .. } => 2,
            FrameFault::Fixed { .. } => 3,
            FrameFault::Stuffing { .. } => 4,
            FrameFault::UnknownMessage { .. } => 5,
            FrameFault::Body { .. } => 6,
        }]
    }
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

impl Framing {
    /// Prepares a channel: checksum tables, and which part is which.
    pub fn new(plan: Arc<ChannelPlan>) -> Self {
        let find = |wanted: fn(&Role) -> bool| plan.parts.iter().position(|part| wanted(&part.role));
        let checksum_parts: Vec<usize> =
            (0..plan.parts.len()).filter(|n| matches!(plan.parts[*n].role, Role::Checksum { .. })).collect();
        let place = |part: &Part| (part.zone, part.at_bit as usize / 8, usize::from(part.bits) / 8);
        let checksums = checksum_parts
            .iter()
            .enumerate()
            .filter_map(|(n, index)| match &plan.parts[*index].role {
                Role::Checksum { algorithm, over, skipping, .. } => Some(FrameChecksum {
                    part: *index,
                    checksum: Checksum::new(algorithm),
                    over: over.clone(),
                    blank: checksum_parts[n..].iter().map(|later| place(&plan.parts[*later])).collect(),
                    skipping: *skipping,
                }),
                _ => None,
            })
            .collect();
        Self {
            checksums,
            length: find(|role| matches!(role, Role::Length { .. })),
            key: find(|role| *role == Role::Message),
            address: find(|role| *role == Role::Address),
            sequence: find(|role| *role == Role::Sequence),
            revision: find(|role| *role == Role::Revision),
            fixed: (0..plan.parts.len()).filter(|n| matches!(plan.parts[*n].role, Role::Fixed(_))).collect(),
            plan,
        }
    }

    /// The channel's plan.
    pub fn plan(&self) -> &ChannelPlan {
        &self.plan
    }

    fn bit_of(part: &Part, body_end: usize) -> usize {
        match part.zone {
            Zone::Head => part.at_bit as usize,
            Zone::Tail => body_end * 8 + part.at_bit as usize,
        }
    }

    #[inline]
    fn part_value(&self, index: usize, bytes: &[u8], body_end: usize) -> u64 {
        let part = &self.plan.parts[index];
        bits::read(bytes, Self::bit_of(part, body_end), part.bits, self.plan.byte_order)
    }

    fn set_part(&self, index: usize, value: u64, bytes: &mut [u8], body_end: usize) -> Result<(), FrameError> {
        let part = &self.plan.parts[index];
        if part.bits < 64 && value >> part.bits != 0 {
            return Err(FrameError::PartTooNarrow { part: part.name.clone(), value, bits: part.bits });
        }
        bits::write(bytes, Self::bit_of(part, body_end), part.bits, value, self.plan.byte_order);
        Ok(())
    }

    /// Appends the frame around a body, as it goes over the wire: stuffing, checksums and delimiters included.
    ///
    /// # Errors
    /// If the frame would be longer than the channel allows, or a value does not fit its part. `out` is then as before.
    pub fn encode(&self, header: &Header, body: &[u8], out: &mut Vec<u8>) -> Result<(), FrameError> {
        let before = out.len();
        let result = match self.plan.finder {
            FrameFinder::SyncLength | FrameFinder::Packet => self.encode_plain(header, body, out),
            FrameFinder::Cobs => {
                let mut plain = Vec::with_capacity(self.plan.head_bytes + body.len() + self.plan.tail_bytes);
                self.encode_plain(header, body, &mut plain).map(|()| {
                    cobs::encode(&plain, out);
                    out.push(0);
                })
            }
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

    fn encode_plain(&self, header: &Header, body: &[u8], out: &mut Vec<u8>) -> Result<(), FrameError> {
        let plan = &self.plan;
        let start = out.len();
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
                Role::Length { other_bytes, unit } => {
                    let bytes = other_bytes + body.len();
                    if bytes % unit != 0 {
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

    /// How long the frame is whose first bytes these are: `Ok(None)` if more bytes are needed to say it.
    ///
    /// Only for channels with sync bytes and a length part.
    ///
    /// # Errors
    /// If the length part says something that no frame of this channel can have.
    #[inline]
    pub(crate) fn length_of(&self, bytes: &[u8]) -> Result<Option<usize>, FrameFault> {
        let plan = &self.plan;
        let Some(index) = self.length else { return Ok(Some(bytes.len())) };
        let part = &plan.parts[index];
        let end = (part.at_bit as usize + usize::from(part.bits)).div_ceil(8);
        if bytes.len() < end {
            return Ok(None);
        }
        let Role::Length { other_bytes, unit } = part.role else { return Ok(None) };
        let value = bits::read(bytes, part.at_bit as usize, part.bits, plan.byte_order);
        let around = (plan.head_bytes + plan.tail_bytes) as i128;
        let length = i128::from(value) * unit as i128 - other_bytes as i128 + around;
        if length < around || length > plan.limit as i128 {
            return Err(FrameFault::Length {
                length: length.clamp(0, i128::from(u64::MAX)) as u64,
                least: around as usize,
                greatest: plan.limit,
            });
        }
        Ok(Some(length as usize))
    }

    /// How many bytes of a frame must be there before its length part can be read.
    pub(crate) fn length_end(&self) -> usize {
        self.length.map_or(self.plan.head_bytes, |index| {
            let part = &self.plan.parts[index];
            (part.at_bit as usize + usize::from(part.bits)).div_ceil(8)
        })
    }

    /// Judges the bytes of one whole frame, without stuffing and delimiters.
    ///
    /// # Errors
    /// The first fault in this order: size, length part, checksums, sync bytes and fixed values.
    pub fn check<'a>(&self, bytes: &'a [u8]) -> Result<FrameView<'a>, FrameFault> {
        let plan = &self.plan;
        let around = plan.head_bytes + plan.tail_bytes;
        if bytes.len() < around {
            return Err(FrameFault::Truncated { length: bytes.len(), needed: around });
        }
        if let Some(length) = self.length_of(bytes)? {
            if length > bytes.len() {
                return Err(FrameFault::Truncated { length: bytes.len(), needed: length });
            }
            if length < bytes.len() {
                return Err(FrameFault::Length { length: length as u64, least: bytes.len(), greatest: bytes.len() });
            }
        }
        let body_end = bytes.len() - plan.tail_bytes;
        for checksum in &self.checksums {
            let expected = checksum.compute(bytes, body_end);
            let found = self.part_value(checksum.part, bytes, body_end);
            if expected != found {
                return Err(FrameFault::Checksum { part: checksum.part, expected, found });
            }
        }
        for part in &self.fixed {
            let found = self.part_value(*part, bytes, body_end);
            if let Role::Fixed(expected) = plan.parts[*part].role
                && expected != found
            {
                return Err(FrameFault::Fixed { part: *part, expected, found });
            }
        }
        let value = |part: Option<usize>| part.map(|part| self.part_value(part, bytes, body_end));
        Ok(FrameView {
            bytes,
            body: &bytes[plan.head_bytes..body_end],
            key: value(self.key).unwrap_or(0),
            node: value(self.address),
            sequence: value(self.sequence),
            revision: value(self.revision),
        })
    }
}

impl FrameChecksum {
    fn compute(&self, frame: &[u8], body_end: usize) -> u64 {
        let mut state = self.checksum.start();
        for covered in &self.over {
            let (mut at, end) = (covered.from.at(body_end), covered.to.at(body_end));
            for (zone, offset, bytes) in &self.blank {
                let start = match zone {
                    Zone::Head => *offset,
                    Zone::Tail => body_end + offset,
                };
                if start < at || start + bytes > end {
                    continue;
                }
                state = self.checksum.update(state, &frame[at..start]);
                if !self.skipping {
                    state = self.checksum.update(state, &[0; 8][..*bytes]);
                }
                at = start + bytes;
            }
            state = self.checksum.update(state, &frame[at..end]);
        }
        self.checksum.finish(state)
    }
}
