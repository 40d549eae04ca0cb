//! From pieces of a capture to rows: one receiver for each lane, that is each direction of a channel.

use std::collections::VecDeque;
use std::ops::{ControlFlow, Range};
use std::sync::Arc;

use emberwort_model::Plan;
use emberwort_model::budget::wire_time;
use emberwort_model::model::{End, MediumKind};
use emberwort_model::plan::{Channel, Direction, EXTENDED_ID, FrameFinder, KeySource, MessagePlan};
use emberwort_wire::body_reader::{BodyReader, Requests};
use emberwort_wire::{FrameFault, FrameSink, FrameView, Framed, Framing, Receiver, Values};
use etherparse::{SlicedPacket, TransportSlice};

use crate::items::{BrokenFrame, Item, ItemSink, Row, StrayBytes, Wants};
use crate::source::{Interface, InterfaceKind, Piece, PieceSink};
use crate::speakers::{Later, Speakers};
use crate::stats::Statistics;

/// Decodes the pieces of a capture.
pub struct Decoder<S: ItemSink> {
    plan: Arc<Plan>,
    speakers: Speakers,
    later: Later,
    framings: Vec<Arc<Framing>>,
    host_framings: Vec<Arc<Framing>>,
    /// The channel to take serial bytes for, if the user says it.
    on: Option<usize>,
    /// The end to take bytes from for which a capture does not say it.
    from: Option<End>,
    /// The key of packets with which a capture gives none.
    key: Option<u64>,
    lanes: Vec<Lane>,
    interfaces: Vec<Route>,
    /// What was asked for and is not answered yet, on all lanes, as each definition reads it.
    requests: Vec<Requests>,
    output: Output<S>,
}

/// The framing of a channel of the link's own definition for frames from an end, with the limit of the definition that has the
/// greatest one.
fn widest(speakers: &Speakers, channel: usize, from: End) -> Arc<Framing> {
    let framing = speakers.own().channels[channel].framing(from);
    let mut own = framing.plan().clone();
    for definition in &speakers.definitions()[1..] {
        let Some(there) = definition.channel(channel) else { continue };
        let there = definition.plan.channels[there].direction(from);
        own.limit = own.limit.max(there.limit);
        own.greatest_body = own.greatest_body.max(there.greatest_body);
    }
    if own == *framing.plan() { framing } else { Arc::new(Framing::new(Arc::new(own))) }
}

/// Where the bytes of an interface go.
#[derive(Clone, Copy, Debug)]
enum Route {
    /// To one lane.
    Lane(usize),
    /// To one lane; the first four bytes of each packet are its key, most significant first.
    Keyed(usize),
    /// By the UDP port inside; with the end that sends, if the interface says it.
    Network(InterfaceKind, Option<End>),
    /// By the CAN identifier; with the end that sends, if the interface says it.
    Can(Option<End>),
    /// Nowhere.
    Other,
}

/// Readers of bodies, by definition; `None` for those that do not have the channel.
type Readers = Vec<Option<BodyReader>>;

/// Adds readers for definitions that have none yet, of a channel of the link's own definition. All frames are of the definition
/// `only`, if that is given.
fn read_bodies(readers: &mut Readers, speakers: &Speakers, channel: usize, from: Option<End>, only: Option<usize>) {
    for (index, definition) in speakers.definitions().iter().enumerate().skip(readers.len()) {
        let there = || definition.channels[channel].map(|there| there.channel).filter(|_| only == Some(index));
        let there = definition.channel(channel).or_else(there);
        readers.push(there.map(|there| BodyReader::new(definition.plan.clone(), there, from)));
    }
}

struct Lane {
    channel: usize,
    /// The end that sends, if that is known.
    from: Option<End>,
    /// Where it is not and the two ends send different frames: what tells them apart.
    either: Option<Either>,
    framing: Arc<Framing>,
    receiver: Receiver,
    /// The definition of all of its frames, if that is known beforehand and is not the link's own.
    only: Option<usize>,
    /// For each definition, a reader of the bodies on this channel, where it has it.
    readers: Readers,
    /// Readers of bodies from the host, where either end can have sent them; the others then read what the device sends.
    host_readers: Readers,
    clock: LaneClock,
    /// When the last byte came.
    last_byte: Option<u64>,
}

impl Lane {
    /// Whether there was silence between the bytes before and these, the last of which came at `time`. Without times each piece
    /// is taken for a frame: somebody wrote them as lines of their own.
    fn was_silent(&mut self, bytes: usize, time: Option<u64>, least: u64) -> bool {
        let before = std::mem::replace(&mut self.last_byte, time);
        let (Some(before), Some(time)) = (before, time) else { return true };
        let medium = &self.framing.plan().medium.kind;
        let sending = wire_time::nanoseconds(wire_time::worst(medium, bytes, false).time);
        time.saturating_sub(sending).saturating_sub(before) >= least
    }
}

/// Frames of which nobody said which end sent them, on a channel whose ends send different ones.
#[derive(Clone, Copy, Debug, Default)]
struct Either {
    /// The end as whose frame the one at hand is read.
    faces: Option<End>,
    /// The last question of the host that nobody has answered: its definition, message and node.
    asked: Option<(usize, usize, Option<u64>)>,
}

/// When each byte of a lane came, as far back as a receiver can look.
#[derive(Default)]
struct LaneClock {
    fed: u64,
    marks: VecDeque<(u64, Option<u64>)>,
    /// Where the packet fed last stands and when it came, if it has no bytes.
    empty: Option<(u64, Option<u64>)>,
}

impl LaneClock {
    fn feed(&mut self, bytes: usize, time: Option<u64>) {
        self.empty = (bytes == 0).then_some((self.fed, time));
        if bytes > 0 && self.marks.back().is_none_or(|(_, last)| *last != time) {
            self.marks.push_back((self.fed, time));
        }
        self.fed += bytes as u64;
    }

    /// When the last byte of a range came. Ranges come in rising order.
    #[inline]
    fn time_of(&mut self, range: &Range<u64>) -> Option<u64> {
        if let Some((at, time)) = self.empty
            && range.is_empty()
            && range.start == at
        {
            return time;
        }
        let last = range.end.saturating_sub(1);
        while self.marks.get(1).is_some_and(|(from, _)| *from <= last) {
            self.marks.pop_front();
        }
        self.marks.front().and_then(|(_, time)| *time)
    }
}

/// What of a message's frames matters beside the row itself.
#[derive(Clone, Copy, Debug)]
struct Interest {
    /// The end that sends them.
    from: End,
    /// Whether the sink wants them.
    is_wanted: bool,
    /// Whether somebody looks at their values.
    in_values: bool,
    /// Whether they ask for something, or answer what was asked for.
    in_requests: bool,
}

struct Output<S: ItemSink> {
    /// By definition and message.
    interests: Vec<Vec<Interest>>,
    /// By definition, the number of its first message where the messages of all are counted through.
    first_messages: Vec<usize>,
    /// How many messages there are in all.
    messages: usize,
    taker: Taker<S>,
    statistics: Statistics,
    no_values: Values,
}

/// The sink, as long as it takes what is found.
struct Taker<S: ItemSink> {
    sink: S,
    /// Whether it takes no more, and why if that is an error.
    ended: Option<Result<(), S::Error>>,
}

impl<S: ItemSink> Taker<S> {
    fn hand_on(&mut self, item: Item<'_>) {
        if self.ended.is_none() {
            self.ended = match self.sink.item(item) {
                Ok(ControlFlow::Continue(())) => None,
                Ok(ControlFlow::Break(())) => Some(Ok(())),
                Err(error) => Some(Err(error)),
            };
        }
    }
}

impl<S: ItemSink> Output<S> {
    /// Makes room for definitions that it has none for yet.
    fn know(&mut self, speakers: &Speakers) {
        self.statistics.know(speakers);
        self.taker.sink.know(speakers);
        for (index, definition) in speakers.definitions().iter().enumerate().skip(self.interests.len()) {
            let of_message = |(message, compiled): (usize, &MessagePlan)| {
                let asks = !compiled.deciding.is_empty();
                let wants = self.taker.sink.wants(index, message);
                Interest {
                    from: compiled.message.from,
                    is_wanted: wants != Wants::Nothing,
                    in_values: asks || wants == Wants::Values || self.statistics.wants_values(index, message),
                    in_requests: asks || compiled.request.is_some(),
                }
            };
            let all = &definition.plan.messages;
            self.interests.push(all.iter().enumerate().map(of_message).collect());
            self.first_messages.push(self.messages);
            self.messages += all.len();
        }
    }

    /// The definition of a message that is counted through all of them, and its index there.
    fn message(&self, number: usize) -> (usize, usize) {
        let definition = self.first_messages.partition_point(|first| *first <= number) - 1;
        (definition, number - self.first_messages[definition])
    }
}

/// A lane's receiver pushes into this.
struct LaneSink<'a, S: ItemSink> {
    speakers: &'a mut Speakers,
    later: &'a mut Later,
    requests: &'a mut Vec<Requests>,
    channel: usize,
    from: Option<End>,
    direction: &'a Direction,
    /// That of frames from the host, where either end can have sent them.
    host_direction: Option<&'a Direction>,
    only: Option<usize>,
    readers: &'a mut Readers,
    host_readers: &'a mut Readers,
    either: &'a mut Option<Either>,
    /// The definition with which the frame at hand is read.
    definition: usize,
    clock: &'a mut LaneClock,
    output: &'a mut Output<S>,
}

impl<'a, S: ItemSink> LaneSink<'a, S> {
    /// The end as whose frame the one at hand is read, if that is known.
    fn end(&self) -> Option<End> {
        self.from.or_else(|| self.either.as_ref()?.faces)
    }

    /// The channel as the frame at hand goes over it.
    fn direction(&self) -> &'a Direction {
        match (&*self.either, self.host_direction) {
            (Some(Either { faces: Some(End::Host), .. }), Some(host)) => host,
            _ => self.direction,
        }
    }

    /// There are more definitions than before.
    fn know(&mut self) {
        self.output.know(self.speakers);
        self.requests.resize_with(self.speakers.definitions().len(), Requests::default);
        // Where either end can have sent them, these read what the device sends.
        let first = if self.either.is_some() { None } else { self.from };
        read_bodies(self.readers, self.speakers, self.channel, first, self.only);
        if self.either.is_some() {
            read_bodies(self.host_readers, self.speakers, self.channel, Some(End::Host), self.only);
        }
    }

    /// The reader of the frame at hand.
    fn reader(&mut self) -> Option<&mut BodyReader> {
        let is_from_host = matches!(self.either, Some(Either { faces: Some(End::Host), .. }));
        let readers = if is_from_host { &mut *self.host_readers } else { &mut *self.readers };
        readers[self.definition].as_mut()
    }

    /// What a frame asks for, as those understand it who do not speak its sender's definition.
    fn note_elsewhere(&mut self, frame: &FrameView<'_>) {
        for (index, reader) in self.readers.iter_mut().enumerate() {
            let Some(reader) = reader.as_mut().filter(|_| index != self.definition) else { continue };
            let plan = &self.speakers.definitions()[index].plan;
            let requests = &mut self.requests[index];
            if reader.asks(frame) && reader.check(frame, requests).is_ok() {
                let message = reader.message();
                requests.note(plan, reader.channel(), frame.node.unwrap_or(0), message, reader.values(frame));
            }
        }
    }
}

impl<S: ItemSink> FrameSink for LaneSink<'_, S> {
    fn faces(&mut self, from: End) {
        if let Some(either) = self.either {
            either.faces = Some(from);
        }
    }

    fn choose(&mut self, device: &FrameView<'_>, host: &FrameView<'_>) -> End {
        let [by_device, by_host] = [(End::Device, device), (End::Host, host)].map(|(end, frame)| {
            self.faces(end);
            self.accept(frame).ok()?;
            let reader = self.reader()?;
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
        let plan = |definition: usize| &self.speakers.definitions()[definition].plan;
        let asked = self.either.as_ref().and_then(|either| either.asked);
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
        self.output.statistics.count_ambiguous();
        End::Device
    }

    fn accept(&mut self, frame: &FrameView<'_>) -> Result<(), FrameFault> {
        let from = self.end();
        if let Some(revision) = frame.revision
            && !self.later.is_empty()
            && self.later.ask(revision, self.speakers)
        {
            self.know();
        }
        if self.speakers.definitions().len() > 1 {
            self.definition = self.only.unwrap_or_else(|| self.speakers.of_frame(self.channel, from, frame));
        }
        // There is one wherever frames are read with its definition.
        let definition = self.definition;
        let requests = &self.requests[definition];
        let is_from_host = matches!(self.either, Some(Either { faces: Some(End::Host), .. }));
        let readers = if is_from_host { &mut *self.host_readers } else { &mut *self.readers };
        let Some(reader) = &mut readers[definition] else {
            return Err(FrameFault::UnknownMessage { key: frame.key });
        };
        reader.check(frame, requests).map_err(|fault| match fault {
            FrameFault::Body { message, error } => {
                FrameFault::Body { message: self.output.first_messages[self.definition] + message, error }
            }
            fault => fault,
        })
    }

    fn good(&mut self, at: Range<u64>, frame: &FrameView<'_>, wire: &[u8]) {
        let definition = self.definition;
        let end = self.end();
        let is_from_host = matches!(self.either, Some(Either { faces: Some(End::Host), .. }));
        let readers = if is_from_host { &mut *self.host_readers } else { &mut *self.readers };
        let Some(reader) = &mut readers[definition] else { return };
        let message = reader.message();
        let extent = reader.extent();
        let channel = reader.channel();
        let plan = &self.speakers.definitions()[definition].plan;
        let interest = self.output.interests[definition][message];
        let values = if interest.in_values { reader.values(frame) } else { &self.output.no_values };
        if interest.in_requests {
            let node = frame.node.unwrap_or(0);
            let requests = &mut self.requests[definition];
            requests.answered(plan, channel, node, message);
            requests.note(plan, channel, node, message, values);
        }
        let from = end.unwrap_or(interest.from);
        if let Some(either) = self.either {
            let asks = from == End::Host && !plan.messages[message].message.answered_by.is_empty();
            either.asked = asks.then_some((definition, message, frame.node));
            self.output.statistics.count_told_apart(from);
        }
        let with_node;
        let mut frame = frame;
        if definition != 0
            && frame.node.is_none()
            && let Some((_, node)) = self.speakers.node_elsewhere(self.channel, from, frame.key)
        {
            with_node = FrameView { node: Some(node), ..*frame };
            frame = &with_node;
        }
        let row = Row {
            time: self.clock.time_of(&at),
            channel: self.channel,
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
        self.output.statistics.row(&row);
        if interest.is_wanted {
            self.output.taker.hand_on(Item::Row(&row));
        }
        if self.speakers.definitions().len() > 1 {
            if let Some((says, read_as)) = self.speakers.contradicted(definition, frame) {
                self.output.statistics.contradicted(frame.node, says, read_as);
            }
            self.note_elsewhere(frame);
        }
    }

    fn unread(&mut self, at: Range<u64>, frame: Option<&FrameView<'_>>, fault: &FrameFault, wire: &[u8]) {
        // One that nobody knows asked for nothing.
        if let FrameFault::Body { .. } = fault {
            self.requests_are_lost();
        }
        self.without_row(at, frame, fault, wire);
    }

    fn broken(&mut self, at: Range<u64>, fault: &FrameFault, wire: &[u8]) {
        self.requests_are_lost();
        self.without_row(at, None, fault, wire);
    }

    fn stray(&mut self, at: Range<u64>, wire: &[u8]) {
        let stray = StrayBytes {
            time: self.clock.time_of(&at),
            channel: self.channel,
            from: self.from,
            offset: at.start,
            wire,
        };
        self.output.statistics.stray(&stray);
        self.output.taker.hand_on(Item::Stray(&stray));
    }
}

impl<S: ItemSink> LaneSink<'_, S> {
    /// Forgets what was asked for: the frame at hand could have been a request.
    fn requests_are_lost(&mut self) {
        for (requests, reader) in self.requests.iter_mut().zip(self.readers.iter()) {
            if let Some(reader) = reader {
                requests.lost(reader.channel());
            }
        }
    }

    fn without_row(&mut self, at: Range<u64>, frame: Option<&FrameView<'_>>, fault: &FrameFault, wire: &[u8]) {
        let (definition, fault) = match *fault {
            FrameFault::Body { message, error } => {
                let (definition, message) = self.output.message(message);
                (definition, FrameFault::Body { message, error })
            }
            // A key that the own definition knows was looked up in another one.
            FrameFault::UnknownMessage { key } | FrameFault::UnknownSize { key } => {
                let knows = |reader: &Option<BodyReader>| reader.as_ref().is_none_or(|reader| reader.knows(key));
                (self.readers.iter().position(|reader| !knows(reader)).unwrap_or(0), *fault)
            }
            fault => (self.only.unwrap_or(0), fault),
        };
        let broken = BrokenFrame {
            time: self.clock.time_of(&at),
            channel: self.channel,
            from: if frame.is_some() { self.end() } else { self.from },
            offset: at.start,
            fault: &fault,
            frame,
            direction: self.direction(),
            plan: &self.speakers.definitions()[definition].plan,
            wire,
        };
        self.output.statistics.broken(&broken);
        self.output.taker.hand_on(Item::Broken(&broken));
    }
}

impl<S: ItemSink> Decoder<S> {
    /// A decoder for the channels of a link. Serial bytes of which a capture does not say the channel are taken for `on`,
    /// or for the only serial channel.
    pub fn new(plan: Arc<Plan>, on: Option<usize>, sink: S) -> Self {
        Self::of(Speakers::of(plan), on, sink)
    }

    /// A decoder for a link whose devices and hosts do not all have the same revision.
    pub fn of(speakers: Speakers, on: Option<usize>, sink: S) -> Self {
        let plan = speakers.own().clone();
        let direction = |from: End| {
            let framing = |channel: usize| widest(&speakers, channel, from);
            (0..plan.channels.len()).map(framing).collect::<Vec<_>>()
        };
        let (framings, host_framings) = (direction(End::Device), direction(End::Host));
        let mut output = Output {
            interests: Vec::new(),
            first_messages: Vec::new(),
            messages: 0,
            statistics: Statistics::new(&speakers),
            taker: Taker { sink, ended: None },
            no_values: Values::default(),
        };
        output.know(&speakers);
        Self {
            framings,
            host_framings,
            on,
            from: None,
            key: None,
            lanes: Vec::new(),
            interfaces: Vec::new(),
            requests: vec![Requests::default(); speakers.definitions().len()],
            output,
            plan,
            later: Later::none(),
            speakers,
        }
    }

    /// Asks for definitions only when somebody speaks them. On channels whose frames say their revision and come as a stream, frames
    /// of a definition with a greater limit are found from the first that says it.
    pub fn asking(mut self, later: Later) -> Self {
        self.later = later;
        self
    }

    /// Takes bytes for ones from this end, where a capture does not say it.
    pub fn assuming_from(mut self, from: Option<End>) -> Self {
        self.from = from;
        self
    }

    /// Takes this port or CAN identifier for that of packets with which a capture gives none.
    pub fn assuming_key(mut self, key: Option<u64>) -> Self {
        self.key = key;
        self
    }

    /// Ends all lanes, and gives back the sink and the counts.
    ///
    /// # Errors
    /// The first one of the sink.
    pub fn finish(mut self) -> Result<(S, Statistics), S::Error> {
        self.end_lanes();
        let Taker { mut sink, ended } = self.output.taker;
        ended.unwrap_or(Ok(()))?;
        sink.finish()?;
        Ok((sink, self.output.statistics))
    }

    fn end_lanes(&mut self) {
        for index in 0..self.lanes.len() {
            self.with_lane(index, |receiver, sink| receiver.finish(sink));
        }
        self.lanes.clear();
        self.interfaces.clear();
    }

    fn with_lane(&mut self, index: usize, act: impl FnOnce(&mut Receiver, &mut LaneSink<'_, S>)) {
        let lane = &mut self.lanes[index];
        let known = self.speakers.definitions().len();
        let mut sink = LaneSink {
            speakers: &mut self.speakers,
            later: &mut self.later,
            requests: &mut self.requests,
            channel: lane.channel,
            from: lane.from,
            direction: lane.framing.plan(),
            host_direction: lane.either.is_some().then(|| self.host_framings[lane.channel].plan()),
            only: lane.only,
            readers: &mut lane.readers,
            host_readers: &mut lane.host_readers,
            either: &mut lane.either,
            definition: 0,
            clock: &mut lane.clock,
            output: &mut self.output,
        };
        if sink.readers.len() < known {
            sink.know();
        }
        act(&mut lane.receiver, &mut sink);
        if self.speakers.definitions().len() > known {
            self.widen();
        }
    }

    /// Takes frames as long as the definitions allow that are known by now.
    fn widen(&mut self) {
        for (from, framings) in [(End::Device, &mut self.framings), (End::Host, &mut self.host_framings)] {
            for (channel, framing) in framings.iter_mut().enumerate() {
                let wider = widest(&self.speakers, channel, from);
                if wider.plan().limit > framing.plan().limit {
                    *framing = wider;
                }
            }
        }
        for lane in self.lanes.iter_mut().filter(|lane| lane.only.is_none()) {
            let own = if lane.from == Some(End::Host) { &self.host_framings } else { &self.framings };
            if own[lane.channel].plan().limit > lane.framing.plan().limit {
                lane.framing = own[lane.channel].clone();
                let host = lane.either.is_some().then(|| self.host_framings[lane.channel].clone());
                lane.receiver.allow_longer(lane.framing.clone(), host);
            }
        }
    }

    /// The lane of a channel and a direction; made when it is first needed.
    fn lane(&mut self, channel: usize, from: Option<End>) -> usize {
        if let Some(index) = self.lanes.iter().position(|lane| lane.channel == channel && lane.from == from) {
            return index;
        }
        self.new_lane(channel, from)
    }

    fn new_lane(&mut self, channel: usize, from: Option<End>) -> usize {
        let there = |index: usize| self.speakers.definitions()[index].channels[channel].map(|there| there.channel);
        let only = self.speakers.of_lane(from).filter(|index| there(*index).is_some());
        let own = if from == Some(End::Host) { &self.host_framings } else { &self.framings };
        let framing = match only.and_then(|index| Some((index, there(index)?))) {
            Some((index, there)) => {
                self.speakers.definitions()[index].plan.channels[there].framing(from.unwrap_or(End::Device))
            }
            None => own[channel].clone(),
        };
        let readers = |from: Option<End>| {
            let mut readers = Vec::new();
            read_bodies(&mut readers, &self.speakers, channel, from, only);
            readers
        };
        let is_either = from.is_none() && self.plan.channels[channel].is_split();
        let either = is_either.then(Either::default);
        let host_readers = if is_either { readers(Some(End::Host)) } else { Vec::new() };
        let receiver = match either {
            Some(_) => Receiver::of_both(framing.clone(), self.host_framings[channel].clone()),
            None => Receiver::new(framing.clone()),
        };
        let readers = readers(from);
        self.lanes.push(Lane {
            channel,
            from,
            either,
            receiver,
            framing,
            only,
            readers,
            host_readers,
            clock: LaneClock::default(),
            last_byte: None,
        });
        self.lanes.len() - 1
    }

    fn serial_channel(&self, description: &str) -> Option<(usize, Option<End>)> {
        if let Some(name) = described(description, "channel") {
            let from = described_end(description).or(self.from);
            return self.plan.channel_index(name).map(|channel| (channel, from));
        }
        if self.on.is_some() {
            return self.on.map(|channel| (channel, self.from));
        }
        let serial = |n: &usize| self.plan.channels[*n].finder() != FrameFinder::Packet;
        let mut serial = (0..self.plan.channels.len()).filter(serial);
        match (serial.next(), serial.next()) {
            (Some(only), None) => Some((only, self.from)),
            _ => None,
        }
    }

    fn feed(&mut self, lane: usize, bytes: &[u8], time: Option<u64>) {
        self.output.statistics.count_input(bytes.len());
        if let FrameFinder::Idle { nanoseconds } = self.lanes[lane].framing.plan().finder
            && self.lanes[lane].was_silent(bytes.len(), time, nanoseconds)
        {
            self.with_lane(lane, |receiver, sink| receiver.silence(sink));
        }
        self.lanes[lane].clock.feed(bytes.len(), time);
        self.with_lane(lane, |receiver, sink| receiver.feed(bytes, sink));
    }

    /// A packet that came with a port or CAN identifier.
    fn feed_packet(&mut self, lane: usize, key: u64, bytes: &[u8], time: Option<u64>) {
        if bytes.len() > self.lanes[lane].framing.plan().limit && !self.later.is_empty() {
            self.later.ask_all(&mut self.speakers);
            self.output.know(&self.speakers);
            self.requests.resize_with(self.speakers.definitions().len(), Requests::default);
            self.widen();
        }
        self.output.statistics.count_input(bytes.len());
        self.lanes[lane].clock.feed(bytes.len(), time);
        self.with_lane(lane, |receiver, sink| receiver.feed_packet(key, bytes, sink));
    }

    /// The key, the data and the channel of a CAN frame as SocketCAN records it; `None` for frames without data, and for
    /// identifiers that no channel knows.
    fn can<'b>(&self, bytes: &'b [u8]) -> Option<(usize, u64, &'b [u8])> {
        let (id, length, data) = (bytes.get(..4)?, *bytes.get(4)?, bytes.get(8..)?);
        let id = u32::from_be_bytes(id.try_into().ok()?);
        let (extended, remote, error) = (id >> 31 & 1 == 1, id >> 30 & 1 == 1, id >> 29 & 1 == 1);
        let key = u64::from(id & 0x1FFF_FFFF) | if extended { EXTENDED_ID } else { 0 };
        let data = data.get(..usize::from(length)).filter(|_| !remote && !error)?;
        let is_can = |channel: &Channel| matches!(channel.medium.kind, MediumKind::Can { .. });
        let mut channels = self.plan.channels.iter().enumerate().filter(|(_, channel)| is_can(channel));
        let knows = |index: usize, channel: &Channel| self.knows(index, key) || !channel.key_is_outside();
        let found =
            channels.find(|(index, channel)| self.on.is_none_or(|on| on == *index) && knows(*index, channel))?;
        Some((found.0, key, data))
    }

    /// Whether a key selects a message on a channel, in any definition in use.
    fn knows(&self, channel: usize, key: u64) -> bool {
        self.speakers.definitions().iter().any(|definition| {
            let there = definition.channels[channel].map(|there| &definition.plan.channels[there.channel]);
            there.is_some_and(|there| there.message_of(key, None).is_some())
        })
    }

    /// The UDP payload of a packet, and the channel and key of its ports.
    fn udp<'b>(&self, kind: InterfaceKind, bytes: &'b [u8]) -> Option<(usize, u64, &'b [u8])> {
        let packet = match kind {
            InterfaceKind::Ethernet => SlicedPacket::from_ethernet(bytes),
            InterfaceKind::LinuxCooked => SlicedPacket::from_linux_sll(bytes),
            _ => SlicedPacket::from_ip(bytes),
        };
        let Some(TransportSlice::Udp(udp)) = packet.ok()?.transport else { return None };
        let has_port = |wanted: u16| {
            self.plan
                .channels
                .iter()
                .position(|channel| matches!(channel.medium.kind, MediumKind::Udp { port, .. } if port == wanted))
        };
        let by_port = |channel: &Channel| channel.direction(End::Device).selected_by == KeySource::Port;
        let (to, from) = (udp.destination_port(), udp.source_port());
        let channel = has_port(to).or_else(|| has_port(from)).or_else(|| {
            // Channels that select messages by port have one for each.
            let knows = |port: u16| {
                let mut channels = self.plan.channels.iter().enumerate();
                channels.find(|(n, c)| by_port(c) && self.knows(*n, u64::from(port))).map(|(n, _)| n)
            };
            knows(to).or_else(|| knows(from))
        })?;
        let known = |port: u16| self.knows(channel, u64::from(port));
        let key = if known(to) { to } else { from };
        Some((channel, u64::from(key), udp.payload()))
    }
}

/// What our own recordings say of an interface: the word behind `NAME=`.
fn described<'a>(description: &'a str, name: &str) -> Option<&'a str> {
    let mut words = description.split_whitespace();
    if words.next() != Some("emberwort") {
        return None;
    }
    words.find_map(|word| word.strip_prefix(name)?.strip_prefix('='))
}

/// The end that sends what came over an interface, if our own recordings say it.
fn described_end(description: &str) -> Option<End> {
    [End::Device, End::Host].into_iter().find(|end| described(description, "from") == Some(end.as_str()))
}

impl<S: ItemSink> PieceSink for Decoder<S> {
    fn section(&mut self) {
        self.end_lanes();
    }

    fn interface(&mut self, interface: Interface) {
        let route = match interface.kind {
            InterfaceKind::Serial => match self.serial_channel(&interface.description) {
                Some((channel, from)) => {
                    let lane = self.new_lane(channel, from);
                    let described = interface.description.starts_with("emberwort ");
                    if described && self.plan.channels[channel].key_is_outside() {
                        Route::Keyed(lane)
                    } else {
                        Route::Lane(lane)
                    }
                }
                None => Route::Other,
            },
            InterfaceKind::Can => Route::Can(described_end(&interface.description)),
            InterfaceKind::Other(_) => Route::Other,
            kind => Route::Network(kind, described_end(&interface.description)),
        };
        self.interfaces.push(route);
    }

    fn pause(&mut self) {
        let taker = &mut self.output.taker;
        if taker.ended.is_none() {
            taker.ended = taker.sink.pause().err().map(Err);
        }
    }

    fn piece(&mut self, piece: Piece<'_>) -> ControlFlow<()> {
        match self.interfaces.get(piece.interface).copied() {
            Some(Route::Lane(lane)) => match self.key {
                Some(key) => self.feed_packet(lane, key, piece.bytes, piece.time),
                None => self.feed(lane, piece.bytes, piece.time),
            },
            Some(Route::Network(kind, from)) => match self.udp(kind, piece.bytes) {
                Some((channel, key, payload)) => {
                    let lane = self.lane(channel, from.or(self.from));
                    self.feed_packet(lane, key, payload, piece.time);
                }
                None => self.output.statistics.count_other(piece.bytes.len()),
            },
            Some(Route::Can(from)) => match self.can(piece.bytes) {
                Some((channel, key, data)) => {
                    let lane = self.lane(channel, from.or(self.from));
                    self.feed_packet(lane, key, data, piece.time);
                }
                None => self.output.statistics.count_other(piece.bytes.len()),
            },
            Some(Route::Keyed(lane)) => match piece.bytes.split_first_chunk::<4>() {
                Some((key, data)) => {
                    let key = u64::from(u32::from_be_bytes(*key));
                    self.feed_packet(lane, key, data, piece.time);
                }
                None => self.output.statistics.count_other(piece.bytes.len()),
            },
            Some(Route::Other) | None => self.output.statistics.count_other(piece.bytes.len()),
        }
        let is_over = self.output.taker.ended.is_some() || self.output.taker.sink.is_full();
        if is_over { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    }
}
