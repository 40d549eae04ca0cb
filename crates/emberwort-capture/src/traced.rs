//! Where the bytes of what a decoder finds stood in the capture: in which packets, and at which places in them.

use std::cell::RefCell;
use std::collections::{HashMap, VecDeque};
use std::ops::ControlFlow;
use std::rc::Rc;

use emberwort_model::ids::ChannelId;
use emberwort_wire::{Chunk, ChunkSink, Spent, StreamId, Time};

use crate::assign::{AssignmentReason, Unassigned};
use crate::demux::StreamSink;

/// So many bytes of a stream are remembered at least, which is more than a receiver holds back.
const REMEMBERED: u64 = 1 << 20;

/// Some bytes of a stream, as they stood in one packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PacketPart {
    /// The number of the packet, from 1.
    pub packet: u64,
    /// Offset of the first byte in the packet; `None` if they were put together from several.
    pub at: Option<usize>,
    /// How many bytes.
    pub length: usize,
    /// How many bytes the packet gave to the stream in all.
    pub whole: usize,
}

/// What came of the packets so far.
#[derive(Debug, Default)]
pub struct Provenance {
    packet: u64,
    /// Where the bytes of the packet lie in memory.
    span: (usize, usize),
    reason: Option<AssignmentReason>,
    streams: HashMap<StreamId, Stream>,
}

#[derive(Debug, Default)]
struct Stream {
    /// Bytes so far.
    length: u64,
    /// Parts with their offsets in the stream, and why they belong to it.
    parts: VecDeque<(u64, PacketPart, Option<AssignmentReason>)>,
}

impl Provenance {
    fn add(&mut self, stream: StreamId, bytes: &[u8]) {
        let (packet, (start, end), why) = (self.packet, self.span, self.reason);
        let from = bytes.as_ptr() as usize;
        let lies_inside = from >= start && from + bytes.len() <= end;
        let at = lies_inside.then(|| from - start);
        let stream = self.streams.entry(stream).or_default();
        stream.parts.push_back((
            stream.length,
            PacketPart { packet, at, length: bytes.len(), whole: bytes.len() },
            why,
        ));
        stream.length += bytes.len() as u64;
        let oldest = stream.length.saturating_sub(REMEMBERED);
        while stream.parts.len() > 1
            && stream.parts.front().is_some_and(|(at, part, _)| at + (part.length as u64) < oldest)
        {
            stream.parts.pop_front();
        }
    }

    /// Where some bytes of a stream stood, and why they belong to it; empty if that is no longer known.
    pub fn parts(&self, stream: StreamId, offset: u64, length: usize) -> (Vec<PacketPart>, Option<AssignmentReason>) {
        let Some(stream) = self.streams.get(&stream) else { return (Vec::new(), None) };
        let part = |(at, part, why): &(u64, PacketPart, Option<AssignmentReason>), from: u64, to: u64| {
            let inside = part.at.map(|place| place + (from - at) as usize);
            (PacketPart { at: inside, length: (to - from) as usize, ..*part }, *why)
        };
        if length == 0 {
            // A packet without bytes is one, too; of several at the same place it is the one that came last.
            let last = stream.parts.iter().rev().take_while(|(at, ..)| *at >= offset);
            let last =
                last.filter(|(at, part, _)| *at == offset && part.length == 0).map(|own| part(own, offset, offset));
            return last.take(1).fold((Vec::new(), None), |_, (part, why)| (vec![part], why));
        }
        let end = offset + length as u64;
        let first = stream.parts.partition_point(|(at, part, _)| at + (part.length as u64) <= offset);
        let mut found = Vec::new();
        let mut why = None;
        for own in stream.parts.iter().skip(first).take_while(|(at, ..)| *at < end) {
            let (from, to) = (offset.max(own.0), end.min(own.0 + own.1.length as u64));
            if from < to {
                let (part, of) = part(own, from, to);
                found.push(part);
                why = why.or(of);
            }
        }
        (found, why)
    }
}

/// Remembers where all bytes stood that are handed to a sink.
#[derive(Debug)]
pub struct Traced<S> {
    provenance: Rc<RefCell<Provenance>>,
    sink: S,
}

impl<S> Traced<S> {
    /// In front of a sink; what is remembered can be asked for meanwhile.
    pub fn new(provenance: Rc<RefCell<Provenance>>, sink: S) -> Self {
        Self { provenance, sink }
    }

    /// The sink, which was given all.
    pub fn into_sink(self) -> S {
        self.sink
    }
}

impl<S: ChunkSink> ChunkSink for Traced<S> {
    fn chunk(&mut self, chunk: &Chunk<'_>) -> ControlFlow<()> {
        self.provenance.borrow_mut().add(chunk.stream, chunk.bytes);
        self.sink.chunk(chunk)
    }

    fn pause(&mut self) {
        self.sink.pause();
    }
}

impl<S: StreamSink> StreamSink for Traced<S> {
    fn has_key(&self, channel: ChannelId, key: u64) -> bool {
        self.sink.has_key(channel, key)
    }

    fn definitions(&self) -> usize {
        self.sink.definitions()
    }

    fn packet(&mut self, number: u64, bytes: &[u8]) {
        let mut provenance = self.provenance.borrow_mut();
        let start = bytes.as_ptr() as usize;
        (provenance.packet, provenance.span) = (number, (start, start + bytes.len()));
        self.sink.packet(number, bytes);
    }

    fn assigned(&mut self, reason: AssignmentReason) {
        self.provenance.borrow_mut().reason = Some(reason);
        self.sink.assigned(reason);
    }

    fn unassigned(&mut self, reason: Unassigned, bytes: &[u8]) -> ControlFlow<()> {
        self.sink.unassigned(reason, bytes)
    }

    fn bind_tap(&mut self, tap: u32, node: u64) {
        self.sink.bind_tap(tap, node);
    }

    fn line_packet(&mut self, packet: &Chunk<'_>) -> ControlFlow<()> {
        self.sink.line_packet(packet)
    }

    fn spent(&mut self, spent: Spent, from: Time, until: Time) {
        self.sink.spent(spent, from, until);
    }

    fn end_stream(&mut self, stream: StreamId) {
        self.sink.end_stream(stream);
        self.provenance.borrow_mut().streams.remove(&stream);
    }

    fn end_streams(&mut self) {
        self.sink.end_streams();
        self.provenance.borrow_mut().streams.clear();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bytes_of_a_stream_are_found_in_the_packets_that_held_them() {
        let stream = StreamId { channel: ChannelId::default(), from: None, tap: 0 };
        let mut provenance = Provenance::default();
        // Four packets of 10, 0, 10 and 10 bytes, whose bytes for the stream stand behind two others.
        let memory = [0u8; 12];
        for (number, length) in [(1, 10), (2, 0), (3, 10), (4, 10)] {
            let start = memory.as_ptr() as usize;
            (provenance.packet, provenance.span) = (number, (start, start + memory.len()));
            provenance.add(stream, &memory[2..2 + length]);
        }
        let parts = |offset: u64, length: usize| -> Vec<(u64, Option<usize>, usize, usize)> {
            let all = provenance.parts(stream, offset, length).0;
            all.into_iter().map(|part| (part.packet, part.at, part.length, part.whole)).collect()
        };
        assert_eq!(parts(0, 10), [(1, Some(2), 10, 10)]);
        assert_eq!(parts(3, 4), [(1, Some(5), 4, 10)]);
        // One without bytes has none of them.
        assert_eq!(parts(8, 4), [(1, Some(10), 2, 10), (3, Some(2), 2, 10)]);
        assert_eq!(parts(12, 10), [(3, Some(4), 8, 10), (4, Some(2), 2, 10)]);
        assert_eq!(parts(20, 10), [(4, Some(2), 10, 10)]);
        // Nothing at a place: the packet without bytes that stood there.
        assert_eq!(parts(10, 0), [(2, Some(2), 0, 0)]);
        assert_eq!((parts(30, 5), parts(5, 0)), (vec![], vec![]));
        // Of two the later one, which is at hand.
        for number in [5, 6] {
            provenance.packet = number;
            provenance.add(stream, &memory[..0]);
        }
        assert_eq!(provenance.parts(stream, 30, 0).0.iter().map(|part| part.packet).collect::<Vec<_>>(), [6]);
        let other = StreamId { channel: ChannelId::new(1), ..stream };
        assert_eq!(provenance.parts(other, 0, 1).0, []);
    }
}
