//! Items that outlive the decoder's buffers, so that others can look at them later or on another core.

use std::ops::Range;
use std::sync::Arc;

use emberwort_model::Plan;
use emberwort_model::ids::{ChannelId, MessageId};
use emberwort_model::model::End;
use emberwort_model::plan::Direction;
use emberwort_wire::chunk::ByteTime;
use emberwort_wire::codec::Extent;
use emberwort_wire::{FrameFault, FrameView, StreamId, Time, Values};

use crate::items::{BrokenFrame, Item, Row, StrayBytes};
use crate::revision_map::DefinitionId;
use crate::revision_map::RevisionMap;

/// Items with all that they borrowed. Clearing keeps the memory, so that few are allocated anew.
#[derive(Clone, Debug, Default)]
pub struct StoredItems {
    /// Those at the front are in use.
    items: Vec<StoredItem>,
    used: usize,
    bytes: Vec<u8>,
    times: Vec<ByteTime>,
}

#[derive(Clone, Debug)]
struct StoredItem {
    /// Of a frame.
    number: u64,
    /// Those of its bytes, by their place.
    times: Range<usize>,
    time: Option<Time>,
    channel: ChannelId,
    stream: StreamId,
    from: Option<End>,
    offset: u64,
    /// The bytes as they came, and those of the frame, if they are others; then its body, all by their place.
    wire: Range<usize>,
    frame: Range<usize>,
    body: Range<usize>,
    /// What else the frame says; without any bytes.
    parts: Option<FrameView<'static>>,
    /// Those of a row.
    values: Values,
    kind: Kind,
}

#[derive(Clone, Debug)]
enum Kind {
    Row { definition: DefinitionId, from: End, message: MessageId, extent: Extent },
    Broken { fault: FrameFault, direction: Box<Direction>, plan: Arc<Plan> },
    Stray { is_packet: bool },
}

impl StoredItems {
    /// How many there are.
    pub fn len(&self) -> usize {
        self.used
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.used == 0
    }

    /// Forgets all of them.
    pub fn clear(&mut self) {
        self.used = 0;
        self.bytes.clear();
        self.times.clear();
    }

    /// Keeps one more.
    pub fn push(&mut self, item: Item<'_>) {
        let (time, channel, from, offset, wire, frame) = match item {
            Item::Row(row) => (row.time, row.channel, Some(row.from), row.offset, row.wire, Some(row.frame)),
            Item::Broken(one) => (one.time, one.channel, one.from, one.offset, one.wire, one.frame),
            Item::Stray(one) => (one.time, one.channel, one.from, one.offset, one.wire, None),
        };
        let number = match item {
            Item::Row(row) => row.number,
            Item::Broken(broken) => broken.number,
            Item::Stray(_) => 0,
        };
        let kind = match item {
            Item::Row(row) => {
                Kind::Row { definition: row.definition, from: row.from, message: row.message, extent: row.extent }
            }
            Item::Broken(one) => {
                Kind::Broken { fault: *one.fault, direction: Box::new(one.direction.clone()), plan: one.plan.clone() }
            }
            Item::Stray(one) => Kind::Stray { is_packet: one.is_packet },
        };
        let wire_place = self.keep(wire);
        let (mut frame_place, mut body) = (wire_place.clone(), 0..0);
        if let Some(frame) = frame {
            if frame.bytes != wire {
                frame_place = self.keep(frame.bytes);
            }
            // The body is a part of the frame's bytes.
            let start = (frame.body.as_ptr() as usize).wrapping_sub(frame.bytes.as_ptr() as usize);
            let lies_inside = start.checked_add(frame.body.len()).is_some_and(|end| end <= frame.bytes.len());
            body = match lies_inside {
                true => frame_place.start + start..frame_place.start + start + frame.body.len(),
                false => self.keep(frame.body),
            };
        }
        let parts = frame.map(|frame| FrameView { bytes: &[], body: &[], ..*frame });
        let values = self.items.get_mut(self.used).map(|kept| std::mem::take(&mut kept.values));
        let mut values = values.unwrap_or_default();
        if let Item::Row(row) = item {
            values.assign(row.values);
        }
        let times = self.times.len()..self.times.len() + item.times().len();
        self.times.extend_from_slice(item.times());
        let kept = StoredItem {
            number,
            times,
            time,
            channel,
            stream: item.stream(),
            from,
            offset,
            wire: wire_place,
            frame: frame_place,
            body,
            parts,
            values,
            kind,
        };
        match self.items.get_mut(self.used) {
            Some(place) => *place = kept,
            None => self.items.push(kept),
        }
        self.used += 1;
    }

    fn keep(&mut self, bytes: &[u8]) -> Range<usize> {
        let start = self.bytes.len();
        self.bytes.extend_from_slice(bytes);
        start..self.bytes.len()
    }

    /// Looks at all of them in their order; with the revision map of the decoder that found them, or one with more definitions.
    ///
    /// # Panics
    /// If the map lacks the definition of one of them.
    pub fn each(&self, revisions: &RevisionMap, mut act: impl FnMut(Item<'_>)) {
        for kept in &self.items[..self.used] {
            let (number, time, channel, from, offset) = (kept.number, kept.time, kept.channel, kept.from, kept.offset);
            let wire = &self.bytes[kept.wire.clone()];
            let times = &self.times[kept.times.clone()];
            let (bytes, body) = (&self.bytes[kept.frame.clone()], &self.bytes[kept.body.clone()]);
            let frame = kept.parts.map(|parts| FrameView { bytes, body, ..parts });
            match (&kept.kind, &frame) {
                (Kind::Row { definition, from, message, extent }, Some(frame)) => act(Item::Row(&Row {
                    number,
                    times,
                    time,
                    channel,
                    stream: kept.stream,
                    from: *from,
                    offset,
                    definition: *definition,
                    plan: &revisions.definitions()[*definition].plan,
                    message: *message,
                    extent: *extent,
                    values: &kept.values,
                    frame,
                    wire,
                })),
                (Kind::Broken { fault, direction, plan }, frame) => act(Item::Broken(&BrokenFrame {
                    number,
                    times,
                    time,
                    channel,
                    stream: kept.stream,
                    from,
                    offset,
                    fault,
                    direction,
                    plan,
                    frame: frame.as_ref(),
                    wire,
                })),
                (kind @ (Kind::Stray { .. } | Kind::Row { .. }), _) => act(Item::Stray(&StrayBytes {
                    is_packet: matches!(kind, Kind::Stray { is_packet: true }),
                    times,
                    time,
                    channel,
                    stream: kept.stream,
                    from,
                    offset,
                    wire,
                })),
            }
        }
    }
}
