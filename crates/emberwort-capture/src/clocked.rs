//! When the bytes of what a decoder finds were on the line.

use std::cell::RefCell;
use std::collections::{HashMap, VecDeque};
use std::ops::ControlFlow;
use std::rc::Rc;

use emberwort_wire::chunk::ByteTime;
use emberwort_wire::{Chunk, ChunkSink, Spent, StreamId, Time, Times};

use crate::assign::{Unassigned, Why};
use crate::demux::StreamSink;

/// So many bytes of a stream are remembered, which is more than a receiver holds back.
const REMEMBERED: usize = 1 << 17;

/// The times of the bytes that came last.
#[derive(Debug, Default)]
pub struct Clock {
    streams: HashMap<StreamId, Stream>,
}

#[derive(Debug, Default)]
struct Stream {
    /// The offset of the first byte that is remembered.
    first: u64,
    times: VecDeque<ByteTime>,
}

impl Clock {
    /// When some bytes of a stream were there, each of them; empty if that is not known, or no longer.
    pub fn times(&self, stream: StreamId, offset: u64, length: usize) -> Vec<ByteTime> {
        let Some(stream) = self.streams.get(&stream) else { return Vec::new() };
        let Some(from) = offset.checked_sub(stream.first) else { return Vec::new() };
        let range = from as usize..from as usize + length;
        if range.end > stream.times.len() { Vec::new() } else { stream.times.range(range).copied().collect() }
    }
}

/// Notes the times of all bytes that are handed to a sink.
#[derive(Debug)]
pub struct Clocked<S> {
    clock: Rc<RefCell<Clock>>,
    sink: S,
}

impl<S> Clocked<S> {
    /// In front of a sink; what is noted can be asked for meanwhile.
    pub fn new(clock: Rc<RefCell<Clock>>, sink: S) -> Self {
        Self { clock, sink }
    }

    /// The sink, which was given all.
    pub fn into_sink(self) -> S {
        self.sink
    }
}

impl<S: ChunkSink> ChunkSink for Clocked<S> {
    fn chunk(&mut self, chunk: &Chunk<'_>) -> ControlFlow<()> {
        if let Times::Each(times) = chunk.times {
            let mut clock = self.clock.borrow_mut();
            let stream = clock.streams.entry(chunk.stream).or_default();
            stream.times.extend(times);
            let over = stream.times.len().saturating_sub(REMEMBERED);
            stream.times.drain(..over);
            stream.first += over as u64;
        }
        self.sink.chunk(chunk)
    }

    fn pause(&mut self) {
        self.sink.pause();
    }
}

impl<S: StreamSink> StreamSink for Clocked<S> {
    fn knows(&self, channel: usize, key: u64) -> bool {
        self.sink.knows(channel, key)
    }

    fn definitions(&self) -> usize {
        self.sink.definitions()
    }

    fn packet(&mut self, number: u64, bytes: &[u8]) {
        self.sink.packet(number, bytes);
    }

    fn assigned(&mut self, why: Why) {
        self.sink.assigned(why);
    }

    fn unassigned(&mut self, why: Unassigned, bytes: &[u8]) -> ControlFlow<()> {
        self.sink.unassigned(why, bytes)
    }

    fn heard_of(&mut self, tap: u32, node: u64) {
        self.sink.heard_of(tap, node);
    }

    fn spent(&mut self, spent: Spent, from: Time, until: Time) {
        self.sink.spent(spent, from, until);
    }

    fn end_stream(&mut self, stream: StreamId) {
        self.sink.end_stream(stream);
        self.clock.borrow_mut().streams.remove(&stream);
    }

    fn end_streams(&mut self) {
        self.sink.end_streams();
        self.clock.borrow_mut().streams.clear();
    }
}
