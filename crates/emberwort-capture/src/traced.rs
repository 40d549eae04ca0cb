//! Where the bytes of what a decoder finds stood in the capture: in which packets, and at which places in them.

use std::cell::RefCell;
use std::collections::{HashMap, VecDeque};
use std::ops::ControlFlow;
use std::rc::Rc;

use emberwort_wire::{Chunk, ChunkSink, Spent, StreamId, Time};

use crate::assign::{Unassigned, Why};
use crate::demux::StreamSink;

/// So many bytes of a stream are remembered at least, which is more than a receiver holds back.
const REMEMBERED: u64 = 1 << 20;

/// Some bytes of a stream, as they stood in one packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Part {
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
    why: Option<Why>,
    streams: HashMap<StreamId, Stream>,
}

#[derive(Debug, Default)]
struct Stream {
    /// Bytes so far.
    length: u64,
    /// Parts with their offsets in the stream, and why they belong to it.
    parts: VecDeque<(u64, Part, Option<Why>)>,
}

impl Provenance {
    fn add(&mut self, stream: StreamId, bytes: &[u8]) {
        let (packet, (start, end), why) = (self.packet, self.span, self.why);
        let from = bytes.as_ptr() as usize;
        let lies_inside = from >= start && from + bytes.len() <= end;
        let at = lies_inside.then(|| from - start);
        let stream = self.streams.entry(stream).or_default();
        stream.parts.push_back((stream.length, Part { packet, at, length: bytes.len(), whole: bytes.len() }, why));
        stream.length += bytes.len() as u64;
        let oldest = stream.length.saturating_sub(REMEMBERED);
        while stream.parts.len() > 1
            && stream.parts.front().is_some_and(|(at, part, _)| at + (part.length as u64) < oldest)
        {
            stream.parts.pop_front();
        }
    }

    /// Where some bytes of a stream stood, and why they belong to it; empty if that is no longer known.
    pub fn parts(&self, stream: StreamId, offset: u64, length: usize) -> (Vec<Part>, Option<Why>) {
        let Some(stream) = self.streams.get(&stream) else { return (Vec::new(), None) };
        let end = offset + length as u64;
        let first =
            stream.parts.partition_point(|(at, part, _)| at + (part.length as u64) <= offset && part.length > 0);
        let mut found = Vec::new();
        let mut why = None;
        for (at, part, of) in stream.parts.iter().skip(first) {
            // A packet without bytes is one, too.
            if *at >= end && !(length == 0 && *at == offset) {
                break;
            }
            let (from, to) = (offset.max(*at), end.min(at + part.length as u64));
            let inside = part.at.map(|place| place + (from - at) as usize);
            let length = to.saturating_sub(from) as usize;
            found.push(Part { packet: part.packet, at: inside, length, whole: part.whole });
            why = why.or(*of);
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
    fn knows(&self, channel: usize, key: u64) -> bool {
        self.sink.knows(channel, key)
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

    fn assigned(&mut self, why: Why) {
        self.provenance.borrow_mut().why = Some(why);
        self.sink.assigned(why);
    }

    fn unassigned(&mut self, why: Unassigned, bytes: &[u8]) -> ControlFlow<()> {
        self.sink.unassigned(why, bytes)
    }

    fn heard_of(&mut self, tap: u32, node: u64) {
        self.sink.heard_of(tap, node);
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
