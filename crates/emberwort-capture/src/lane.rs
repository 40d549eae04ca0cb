//! A lane: one stream of a channel, its receiver, and what reads its frames.

use std::ops::Range;
use std::sync::Arc;

use emberwort_model::ids::{ChannelId, MessageId};
use emberwort_model::model::End;
use emberwort_model::plan::Direction;
use emberwort_wire::body_reader::{BodyReader, Requests};
use emberwort_wire::chunk::ByteTime;
use emberwort_wire::{FrameFault, FrameSink, FrameView, Framing, StreamId, Time, TimedReceiver};

use crate::items::{BrokenFrame, Item, ItemSink, Row, StrayBytes, began};
use crate::output::Output;
use crate::revision_map::DefinitionId;
use crate::revision_map::{DeferredDefinitions, RevisionMap};

/// Readers of bodies, by definition; `None` for those that do not have the channel.
pub(crate) type Readers = Vec<Option<BodyReader>>;

/// Adds readers for definitions that have none yet, of a channel of the link's own definition. All frames are of the definition
/// `only`, if that is given.
pub(crate) fn read_bodies(
    readers: &mut Readers,
    revisions: &RevisionMap,
    channel: ChannelId,
    from: Option<End>,
    only: Option<DefinitionId>,
) {
    for (index, definition) in revisions.definition_ids().skip(readers.len()) {
        let there = || definition.channels[channel.index()].map(|there| there.channel).filter(|_| only == Some(index));
        let there = definition.channel(channel).or_else(there);
        readers.push(there.map(|there| BodyReader::new(definition.plan.clone(), there, from)));
    }
}

/// One stream of a channel.
pub(crate) struct Lane {
    pub stream: StreamId,
    /// The node of all frames that do not say it.
    pub node: Option<u64>,
    pub framing: Arc<Framing>,
    pub receiver: TimedReceiver,
    pub reading: LaneReader,
}

/// What reads the frames of a lane.
pub(crate) struct LaneReader {
    /// Where nobody said which end sends, and the two ends send different frames: what tells them apart.
    pub either: Option<EitherEnd>,
    /// The definition of all frames, if that is known beforehand and is not the link's own.
    pub only: Option<DefinitionId>,
    /// For each definition, a reader of the bodies on this channel, where it has it.
    pub readers: Readers,
    /// Readers of bodies from the host, where either end can have sent them; the others then read what the device sends.
    pub host_readers: Readers,
}

impl LaneReader {
    /// The reader of bodies of a definition, as the end sends them whose frame is at hand; and what tells the two ends apart.
    #[inline]
    fn reader(&mut self, definition: DefinitionId) -> (Option<&mut BodyReader>, &mut Option<EitherEnd>) {
        let is_from_host = matches!(self.either, Some(EitherEnd { assumed_sender: Some(End::Host), .. }));
        let readers = if is_from_host { &mut self.host_readers } else { &mut self.readers };
        (readers[definition.index()].as_mut(), &mut self.either)
    }
}

/// What all lanes have together.
pub(crate) struct LaneContext<S: ItemSink> {
    pub revisions: RevisionMap,
    pub deferred: DeferredDefinitions,
    /// What was asked for and is not answered yet, as each definition reads it.
    pub requests: Vec<Requests>,
    pub output: Output<S>,
}

impl<S: ItemSink> LaneContext<S> {
    /// There are more definitions than before.
    pub fn update_revisions(&mut self) {
        self.output.update_revisions(&self.revisions);
        self.requests.resize_with(self.revisions.definitions().len(), Requests::default);
    }
}

/// Frames of which nobody said which end sent them, on a channel whose ends send different ones.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct EitherEnd {
    /// The end as whose frame the one at hand is read.
    pub assumed_sender: Option<End>,
    /// The last question of the host that nobody has answered: its definition, message and node.
    pub asked: Option<(DefinitionId, MessageId, Option<u64>)>,
}

/// A lane's receiver pushes into this.
pub(crate) struct LaneSink<'a, S: ItemSink> {
    pub shared: &'a mut LaneContext<S>,
    pub reading: &'a mut LaneReader,
    pub stream: StreamId,
    /// The node of all frames that do not say it.
    pub node: Option<u64>,
    pub direction: &'a Direction,
    /// The channel as frames from the host go over it, where either end can have sent them.
    pub host_direction: Option<&'a Direction>,
    /// The definition with which the frame at hand is read.
    pub definition: DefinitionId,
    /// When each byte of what is handed on next was there, where that is known.
    pub times: Vec<ByteTime>,
    /// When the last byte of it came.
    pub time: Option<Time>,
    /// Whether all speak the link's own definition whose frames say nothing else, and it is known who sends.
    pub is_uniform: bool,
    /// The revision of the link's own definition.
    pub own_revision: u64,
}

impl<'a, S: ItemSink> LaneSink<'a, S> {
    /// The frame with the node that was said of its stream.
    fn with_node<'f>(&self, frame: &FrameView<'f>) -> FrameView<'f> {
        FrameView { node: frame.node.or(self.node), ..*frame }
    }

    /// The end as whose frame the one at hand is read, if that is known.
    fn end(&self) -> Option<End> {
        self.stream.from.or_else(|| self.reading.either.as_ref()?.assumed_sender)
    }

    /// The channel as the frame at hand goes over it.
    fn direction(&self) -> &'a Direction {
        match (&self.reading.either, self.host_direction) {
            (Some(EitherEnd { assumed_sender: Some(End::Host), .. }), Some(host)) => host,
            _ => self.direction,
        }
    }

    /// Makes readers for definitions that have none yet.
    pub fn read_all(&mut self) {
        let LaneReader { either, only, readers, host_readers } = &mut *self.reading;
        let StreamId { channel, from, .. } = self.stream;
        // Where either end can have sent them, these read what the device sends.
        let first = if either.is_some() { None } else { from };
        read_bodies(readers, &self.shared.revisions, channel, first, *only);
        if either.is_some() {
            read_bodies(host_readers, &self.shared.revisions, channel, Some(End::Host), *only);
        }
    }

    /// What a frame asks for, as those understand it who do not speak its sender's definition.
    fn note_elsewhere(&mut self, frame: &FrameView<'_>) {
        for (index, reader) in (0..).map(DefinitionId::new).zip(&mut self.reading.readers) {
            let Some(reader) = reader.as_mut().filter(|_| index != self.definition) else { continue };
            let plan = &self.shared.revisions.definitions()[index].plan;
            let requests = &mut self.shared.requests[index.index()];
            if reader.is_decoded_by_request(frame) && reader.check(frame, requests).is_ok() {
                let message = reader.message();
                requests.note(plan, reader.channel(), frame.node.unwrap_or(0), message, reader.values(frame));
            }
        }
    }
}

impl<S: ItemSink> FrameSink for LaneSink<'_, S> {
    fn assume_sender(&mut self, from: End) {
        if let Some(either) = &mut self.reading.either {
            either.assumed_sender = Some(from);
        }
    }

    #[inline]
    fn came(&mut self, each: &[ByteTime], time: Option<Time>) {
        self.time = time;
        if !(each.is_empty() && self.times.is_empty()) {
            self.times.clear();
            self.times.extend_from_slice(each);
        }
    }

    fn choose(&mut self, device: &FrameView<'_>, host: &FrameView<'_>) -> End {
        let [by_device, by_host] = [(End::Device, device), (End::Host, host)].map(|(end, frame)| {
            self.assume_sender(end);
            self.accept(frame).ok()?;
            let reader = self.reading.reader(self.definition).0?;
            let (message, is_whole) = (reader.message(), reader.extent().later_bytes == 0);
            Some((self.definition, message, is_whole))
        });
        let (Some(by_device), Some(by_host)) = (by_device, by_host) else {
            return if by_host.is_some() { End::Host } else { End::Device };
        };
        match (by_device.2, by_host.2) {
            (true, false) => return End::Device,
            (false, true) => return End::Host,
            _ => {}
        }
        // Who was asked answers; who was not, and can only answer, does not speak.
        let plan = |definition: DefinitionId| &self.shared.revisions.definitions()[definition].plan;
        let asked = self.reading.either.as_ref().and_then(|either| either.asked);
        let answers = asked.is_some_and(|(definition, question, node)| {
            definition == by_device.0
                && node == device.node
                && plan(definition).messages[question].message.answered_by.contains(&by_device.1)
        });
        if answers {
            return End::Device;
        }
        let mut questions = plan(by_device.0).messages.iter().map(|message| &message.message.answered_by);
        let only_answers = questions.any(|answers| answers.contains(&by_device.1))
            && plan(by_device.0).messages[by_device.1].message.every.is_none();
        if only_answers && asked.is_none() {
            return End::Host;
        }
        let [by_device, by_host] =
            [by_device, by_host].map(|(definition, message, _)| &plan(definition).messages[message].message.name);
        self.shared.output.statistics.count_ambiguous(by_device, by_host);
        End::Device
    }

    #[inline]
    fn accept(&mut self, frame: &FrameView<'_>) -> Result<(), FrameFault> {
        let is_own = frame.revision.is_none_or(|revision| revision == self.own_revision);
        if !(self.is_uniform && is_own) {
            return self.accept_of_some_definition(&self.with_node(frame));
        }
        let (Some(Some(reader)), Some(requests)) = (self.reading.readers.first_mut(), self.shared.requests.first())
        else {
            return Err(FrameFault::UnknownMessage { key: frame.key });
        };
        reader.check(frame, requests)
    }

    #[inline]
    fn good(&mut self, at: Range<u64>, frame: &FrameView<'_>, wire: &[u8]) {
        if self.is_uniform
            && let (Some(Some(reader)), output) = (self.reading.readers.first(), &mut self.shared.output)
            && let Some(interest) = output.interests[0].get(reader.message().index())
            && interest.is_counted_only()
        {
            let from = self.stream.from.unwrap_or(interest.from);
            let of = (self.stream.channel, from, reader.message());
            output.statistics.frame(of, reader.extent(), frame, (wire.len(), began(&self.times), self.time));
            return;
        }
        if self.is_uniform
            && let (Some(Some(reader)), output) = (self.reading.readers.first(), &mut self.shared.output)
            && let Some(interest) = output.interests[0].get(reader.message().index())
            && interest.for_sink_alone
            && !output.taker.sink.wants_body(DefinitionId::default(), reader.message(), frame.body)
        {
            let from = self.stream.from.unwrap_or(interest.from);
            let of = (self.stream.channel, from, reader.message());
            output.statistics.frame(of, reader.extent(), frame, (wire.len(), began(&self.times), self.time));
            return;
        }
        self.good_of_some_definition(at, &self.with_node(frame), wire);
    }

    fn unread(&mut self, at: Range<u64>, frame: Option<&FrameView<'_>>, fault: &FrameFault, wire: &[u8]) {
        // One that nobody knows asked for nothing.
        if let FrameFault::Body { .. } = fault {
            self.requests_are_lost();
        }
        let frame = frame.map(|frame| self.with_node(frame));
        self.without_row(at, frame.as_ref(), fault, wire);
    }

    fn broken(&mut self, at: Range<u64>, fault: &FrameFault, wire: &[u8]) {
        self.requests_are_lost();
        self.without_row(at, None, fault, wire);
    }

    fn stray(&mut self, at: Range<u64>, wire: &[u8]) {
        let stray = StrayBytes {
            is_packet: false,
            times: &self.times,
            time: self.time,
            channel: self.stream.channel,
            stream: self.stream,
            from: self.stream.from,
            offset: at.start,
            wire,
        };
        self.shared.output.statistics.stray(&stray);
        self.shared.output.taker.forward(Item::Stray(&stray));
    }
}

impl<S: ItemSink> LaneSink<'_, S> {
    fn accept_of_some_definition(&mut self, frame: &FrameView<'_>) -> Result<(), FrameFault> {
        let from = self.end();
        if let Some(revision) = frame.revision
            && !self.shared.deferred.is_empty()
            && self.shared.deferred.ask(revision, &mut self.shared.revisions)
        {
            self.shared.update_revisions();
            self.read_all();
            self.is_uniform = false;
        }
        let revisions = &self.shared.revisions;
        if revisions.definitions().len() > 1 {
            let of_frame = || revisions.of_frame(self.stream.channel, from, frame);
            self.definition = self.reading.only.unwrap_or_else(of_frame);
        }
        // There is one wherever frames are read with its definition.
        let definition = self.definition;
        let requests = &self.shared.requests[definition.index()];
        let (Some(reader), _) = self.reading.reader(definition) else {
            return Err(FrameFault::UnknownMessage { key: frame.key });
        };
        reader.check(frame, requests).map_err(|fault| match fault {
            FrameFault::Body { message, error } => {
                FrameFault::Body { message: self.shared.output.number(definition, message), error }
            }
            fault => fault,
        })
    }

    fn good_of_some_definition(&mut self, at: Range<u64>, frame: &FrameView<'_>, wire: &[u8]) {
        let definition = self.definition;
        let end = self.end();
        let LaneContext { revisions, requests, output, .. } = &mut *self.shared;
        let (Some(reader), either) = self.reading.reader(definition) else { return };
        let message = reader.message();
        let extent = reader.extent();
        let channel = reader.channel();
        let plan = &revisions.definitions()[definition].plan;
        let interest = output.interests[definition.index()][message.index()];
        let values = if interest.in_values { reader.values(frame) } else { &output.no_values };
        if interest.in_requests {
            let node = frame.node.unwrap_or(0);
            let requests = &mut requests[definition.index()];
            requests.answered(plan, channel, node, message);
            requests.note(plan, channel, node, message, values);
        }
        let from = end.unwrap_or(interest.from);
        if let Some(either) = either {
            let asks = from == End::Host && !plan.messages[message].message.answered_by.is_empty();
            either.asked = asks.then_some((definition, message, frame.node));
            output.statistics.count_told_apart(from);
        }
        let with_node;
        let mut frame = frame;
        if definition != DefinitionId::default()
            && frame.node.is_none()
            && let Some((_, node)) = revisions.node_elsewhere(self.stream.channel, from, frame.key)
        {
            with_node = FrameView { node: Some(node), ..*frame };
            frame = &with_node;
        }
        let row = Row {
            number: output.statistics.frames + 1,
            times: &self.times,
            time: self.time,
            channel: self.stream.channel,
            stream: self.stream,
            from,
            offset: at.start,
            definition,
            plan,
            message,
            extent,
            values,
            frame,
            wire,
        };
        output.statistics.row(&row);
        if interest.is_wanted {
            output.taker.forward(Item::Row(&row));
        }
        if revisions.definitions().len() > 1 {
            if let Some((says, read_as)) = revisions.contradicted(definition, frame) {
                output.statistics.contradicted(frame.node, says, read_as);
            }
            self.note_elsewhere(frame);
        }
    }

    /// Forgets what was asked for: the frame at hand could have been a request.
    fn requests_are_lost(&mut self) {
        for (requests, reader) in self.shared.requests.iter_mut().zip(self.reading.readers.iter()) {
            if let Some(reader) = reader {
                requests.lost(reader.channel());
            }
        }
    }

    fn without_row(&mut self, at: Range<u64>, frame: Option<&FrameView<'_>>, fault: &FrameFault, wire: &[u8]) {
        let (definition, fault) = match *fault {
            FrameFault::Body { message, error } => {
                let (definition, message) = self.shared.output.message(message);
                (definition, FrameFault::Body { message, error })
            }
            // A key that the own definition knows was looked up in another one.
            FrameFault::UnknownMessage { key } | FrameFault::UnknownSize { key } => {
                let knows = |reader: &Option<BodyReader>| reader.as_ref().is_none_or(|reader| reader.has_key(key));
                (
                    self.reading
                        .readers
                        .iter()
                        .position(|reader| !knows(reader))
                        .map_or_else(DefinitionId::default, DefinitionId::new),
                    *fault,
                )
            }
            fault => (self.reading.only.unwrap_or_default(), fault),
        };
        let broken = BrokenFrame {
            number: self.shared.output.statistics.frames + 1,
            times: &self.times,
            time: self.time,
            channel: self.stream.channel,
            stream: self.stream,
            from: if frame.is_some() { self.end() } else { self.stream.from },
            offset: at.start,
            fault: &fault,
            frame,
            direction: self.direction(),
            plan: &self.shared.revisions.definitions()[definition].plan,
            wire,
        };
        self.shared.output.statistics.broken(&broken);
        self.shared.output.taker.forward(Item::Broken(&broken));
    }
}
