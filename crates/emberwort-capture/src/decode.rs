//! From chunks to rows: one receiver for each stream.

use std::collections::HashMap;
use std::ops::ControlFlow;
use std::sync::Arc;

use emberwort_model::Plan;
use emberwort_model::ids::ChannelId;
use emberwort_model::model::End;
use emberwort_wire::{
    Chunk, ChunkSink, Framed, Framing, Receiver, Spent, StreamId, Time, TimedReceiver, Times, Values,
};

use crate::assign::Unassigned;
use crate::demux::{Demux, StreamSink};
use crate::items::{Item, ItemSink, StrayBytes};
use crate::lane::{EitherEnd, Lane, LaneContext, LaneReader, LaneSink, read_bodies};
use crate::output::{GuardedSink, Output};
use crate::revision_map::DefinitionId;
use crate::revision_map::{DeferredDefinitions, RevisionMap};
use crate::stats::Statistics;

/// Decodes the chunks of a link.
pub struct Decoder<S: ItemSink> {
    plan: Arc<Plan>,
    framings: Vec<Arc<Framing>>,
    host_framings: Vec<Arc<Framing>>,
    lanes: Vec<Lane>,
    /// The nodes of devices that are heard at a tap of their own, for frames that do not say it.
    nodes: HashMap<u32, u64>,
    /// The lane that was fed last.
    last_lane: usize,
    shared: LaneContext<S>,
}

/// The framing of a channel of the link's own definition for frames from an end, with the limit of the definition that has the
/// greatest one.
fn widest(revisions: &RevisionMap, channel: ChannelId, from: End) -> Arc<Framing> {
    let framing = revisions.own().channels[channel].framing(from);
    let mut own = framing.plan().clone();
    for definition in &revisions.definitions()[1..] {
        let Some(there) = definition.channel(channel) else { continue };
        let there = definition.plan.channels[there].direction(from);
        own.limit = own.limit.max(there.limit);
        own.greatest_body = own.greatest_body.max(there.greatest_body);
    }
    if own == *framing.plan() { framing } else { Arc::new(Framing::new(Arc::new(own))) }
}

impl<S: ItemSink> Decoder<S> {
    /// A decoder for the channels of a link.
    pub fn new(plan: Arc<Plan>, sink: S) -> Self {
        Self::of(RevisionMap::of(plan), sink)
    }

    /// A decoder for a link whose devices and hosts do not all have the same revision.
    pub fn of(revisions: RevisionMap, sink: S) -> Self {
        let plan = revisions.own().clone();
        let facing = |from: End| plan.channel_ids().map(|(channel, _)| widest(&revisions, channel, from)).collect();
        let (framings, host_framings) = (facing(End::Device), facing(End::Host));
        let output = Output {
            interests: Vec::new(),
            first_messages: Vec::new(),
            messages: 0,
            statistics: Statistics::new(&revisions),
            taker: GuardedSink { sink, ended: None },
            no_values: Values::default(),
        };
        let mut shared = LaneContext { revisions, deferred: DeferredDefinitions::none(), requests: Vec::new(), output };
        shared.update_revisions();
        Self { framings, host_framings, lanes: Vec::new(), nodes: HashMap::new(), last_lane: 0, shared, plan }
    }

    /// Asks for definitions only when somebody speaks them. On channels whose frames say their revision and come as a stream, frames
    /// of a definition with a greater limit are found from the first that says it.
    #[must_use]
    pub fn with_deferred(mut self, deferred: DeferredDefinitions) -> Self {
        self.shared.deferred = deferred;
        self
    }

    /// Decodes the pieces of a capture, which it tells apart before.
    pub fn demuxed(self) -> Demux<Self> {
        Demux::new(self.plan.clone(), self)
    }

    /// Ends all lanes, and gives back the sink and the counts.
    ///
    /// # Errors
    /// The first one of the sink.
    pub fn finish(mut self) -> Result<(S, Statistics), S::Error> {
        self.end_streams();
        let GuardedSink { mut sink, ended } = self.shared.output.taker;
        ended.unwrap_or(Ok(()))?;
        sink.finish()?;
        Ok((sink, self.shared.output.statistics))
    }

    fn with_lane(&mut self, index: usize, act: impl FnOnce(&mut TimedReceiver, &mut LaneSink<'_, S>)) {
        let Lane { stream, node, framing, receiver, reading } = &mut self.lanes[index];
        let known = self.shared.revisions.definitions().len();
        let host_direction = reading.either.is_some().then(|| self.host_framings[stream.channel.index()].plan());
        let is_uniform = known == 1 && reading.either.is_none() && reading.only.is_none() && node.is_none();
        let mut sink = LaneSink {
            is_uniform,
            own_revision: u64::from(self.plan.link.revision),
            shared: &mut self.shared,
            direction: framing.plan(),
            host_direction,
            reading,
            stream: *stream,
            node: *node,
            definition: DefinitionId::default(),
            times: Vec::new(),
            time: None,
        };
        if sink.reading.readers.len() < known {
            sink.read_all();
        }
        act(receiver, &mut sink);
        if self.shared.revisions.definitions().len() > known {
            self.widen();
        }
    }

    /// Takes frames as long as the definitions allow that are known by now.
    fn widen(&mut self) {
        for (from, framings) in [(End::Device, &mut self.framings), (End::Host, &mut self.host_framings)] {
            for (channel, framing) in framings.iter_mut().enumerate() {
                let wider = widest(&self.shared.revisions, ChannelId::new(channel), from);
                if wider.plan().limit > framing.plan().limit {
                    *framing = wider;
                }
            }
        }
        for lane in self.lanes.iter_mut().filter(|lane| lane.reading.only.is_none()) {
            let StreamId { channel, from, .. } = lane.stream;
            let own = if from == Some(End::Host) { &self.host_framings } else { &self.framings };
            if own[channel.index()].plan().limit > lane.framing.plan().limit {
                lane.framing = own[channel.index()].clone();
                let host = lane.reading.either.is_some().then(|| self.host_framings[channel.index()].clone());
                lane.receiver.allow_longer(lane.framing.clone(), host);
            }
        }
    }

    /// The lane of a stream; made when it is first needed.
    #[inline]
    fn lane(&mut self, stream: StreamId) -> usize {
        if self.lanes.get(self.last_lane).is_none_or(|lane| lane.stream != stream) {
            let found = self.lanes.iter().position(|lane| lane.stream == stream);
            self.last_lane = found.unwrap_or_else(|| self.new_lane(stream));
        }
        self.last_lane
    }

    fn new_lane(&mut self, stream: StreamId) -> usize {
        let StreamId { channel, from, .. } = stream;
        let revisions = &self.shared.revisions;
        let there = |index: usize| revisions.definitions()[index].channels[channel.index()].map(|there| there.channel);
        let only = revisions.of_lane(from).filter(|index| there(index.index()).is_some());
        let own = if from == Some(End::Host) { &self.host_framings } else { &self.framings };
        let framing = match only.and_then(|index| Some((index, there(index.index())?))) {
            Some((index, there)) => {
                revisions.definitions()[index].plan.channels[there].framing(from.unwrap_or(End::Device))
            }
            None => own[channel.index()].clone(),
        };
        let readers = |from: Option<End>| {
            let mut readers = Vec::new();
            read_bodies(&mut readers, revisions, channel, from, only);
            readers
        };
        let is_either = from.is_none() && self.plan.channels[channel].is_split();
        let receiver = match is_either {
            true => Receiver::of_both(framing.clone(), self.host_framings[channel.index()].clone()),
            false => Receiver::new(framing.clone()),
        };
        let reading = LaneReader {
            either: is_either.then(EitherEnd::default),
            only,
            readers: readers(from),
            host_readers: if is_either { readers(Some(End::Host)) } else { Vec::new() },
        };
        let node = self.nodes.get(&stream.tap).copied();
        self.lanes.push(Lane { stream, node, framing, receiver: TimedReceiver::new(receiver), reading });
        self.lanes.len() - 1
    }

    /// When [`Decoder::handle_timeout`] is to be called if nothing comes until then: where silence ends a frame that waits for it.
    pub fn poll_timeout(&self) -> Option<Time> {
        self.lanes.iter().filter_map(|lane| lane.receiver.poll_timeout()).min()
    }

    /// Nothing has come until `now`: silence may have ended frames.
    pub fn handle_timeout(&mut self, now: Time) {
        for index in 0..self.lanes.len() {
            self.with_lane(index, |receiver, sink| receiver.handle_timeout(now, sink));
        }
    }

    /// Whether the sink takes no more, or has failed.
    pub fn has_ended(&self) -> bool {
        self.goes_on().is_break()
    }

    /// What was counted so far.
    pub fn statistics(&self) -> &Statistics {
        &self.shared.output.statistics
    }

    /// Where the items go.
    pub fn sink(&self) -> &S {
        &self.shared.output.taker.sink
    }

    /// The sink, to change it.
    pub fn sink_mut(&mut self) -> &mut S {
        &mut self.shared.output.taker.sink
    }

    fn goes_on(&self) -> ControlFlow<()> {
        let taker = &self.shared.output.taker;
        if taker.ended.is_some() || taker.sink.is_full() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    }
}

impl<S: ItemSink> ChunkSink for Decoder<S> {
    fn chunk(&mut self, chunk: &Chunk<'_>) -> ControlFlow<()> {
        let lane = self.lane(chunk.stream);
        let is_longer = || chunk.bytes.len() > self.lanes[lane].framing.plan().limit;
        if chunk.key.is_some() && !self.shared.deferred.is_empty() && is_longer() {
            self.shared.deferred.ask_all(&mut self.shared.revisions);
            self.shared.update_revisions();
            self.widen();
        }
        self.shared.output.statistics.count_input(chunk.bytes.len());
        self.with_lane(lane, |receiver, sink| receiver.feed(chunk, sink));
        self.goes_on()
    }

    fn pause(&mut self) {
        let taker = &mut self.shared.output.taker;
        if taker.ended.is_none() {
            taker.ended = taker.sink.pause().err().map(Err);
        }
    }
}

impl<S: ItemSink> StreamSink for Decoder<S> {
    fn has_key(&self, channel: ChannelId, key: u64) -> bool {
        self.shared.revisions.definitions().iter().any(|definition| {
            let there = definition.channels[channel.index()].map(|there| &definition.plan.channels[there.channel]);
            there.is_some_and(|there| there.message_of(key, None).is_some())
        })
    }

    fn definitions(&self) -> usize {
        self.shared.revisions.definitions().len()
    }

    fn unassigned(&mut self, reason: Unassigned, bytes: &[u8]) -> ControlFlow<()> {
        self.shared.output.statistics.count_other(reason, bytes.len());
        self.goes_on()
    }

    fn bind_tap(&mut self, tap: u32, node: u64) {
        self.nodes.insert(tap, node);
    }

    fn line_packet(&mut self, packet: &Chunk<'_>) -> ControlFlow<()> {
        self.shared.output.taker.forward(Item::Stray(&StrayBytes {
            is_packet: true,
            times: match packet.times {
                Times::Each(times) => times,
                Times::Last(_) | Times::Unknown => &[],
            },
            time: packet.times.last(),
            channel: packet.stream.channel,
            stream: packet.stream,
            from: packet.stream.from,
            offset: 0,
            wire: packet.bytes,
        }));
        self.goes_on()
    }

    fn spent(&mut self, spent: Spent, from: Time, until: Time) {
        self.shared.output.statistics.spent(spent, from, until);
    }

    fn end_stream(&mut self, stream: StreamId) {
        if let Some(index) = self.lanes.iter().position(|lane| lane.stream == stream) {
            self.with_lane(index, |receiver, sink| receiver.finish(sink));
            self.lanes.remove(index);
            self.last_lane = 0;
        }
    }

    fn end_streams(&mut self) {
        // In the order in which a capture names them; those of packets come last.
        self.lanes.sort_by_key(|lane| lane.stream.tap);
        for index in 0..self.lanes.len() {
            self.with_lane(index, |receiver, sink| receiver.finish(sink));
        }
        self.lanes.clear();
        self.nodes.clear();
    }
}
