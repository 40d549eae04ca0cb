//! From pieces of a capture to rows: one receiver for each lane, that is each direction of a channel.

use std::collections::VecDeque;
use std::ops::{ControlFlow, Range};
use std::sync::Arc;

use emberwort_model::Plan;
use emberwort_model::model::{End, Medium};
use emberwort_model::plan::FrameFinder;
use emberwort_wire::codec::Extent;
use emberwort_wire::receiver::BodyReader;
use emberwort_wire::{FrameFault, FrameSink, FrameView, Framing, Receiver, Values};
use etherparse::{SlicedPacket, TransportSlice};

use crate::source::{Interface, InterfaceKind, Piece, PieceSink};
use crate::stats::Statistics;

/// A decoded frame.
#[derive(Clone, Copy, Debug)]
pub struct Row<'a> {
    /// When its last byte came, in nanoseconds since 1970-01-01 UTC, if the capture has times.
    pub time: Option<u64>,
    /// Index of the channel.
    pub channel: usize,
    /// The end that sent it: as the capture says, else as the message says.
    pub from: End,
    /// Offset of its first byte in the lane.
    pub offset: u64,
    /// Index of the message.
    pub message: usize,
    /// How far the body reaches.
    pub extent: Extent,
    /// The values; all unset if the sink does not want them.
    pub values: &'a Values,
    /// The frame.
    pub frame: &'a FrameView<'a>,
    /// Its bytes as they came.
    pub wire: &'a [u8],
}

/// A broken frame.
#[derive(Clone, Copy, Debug)]
pub struct BrokenFrame<'a> {
    /// When its last byte came.
    pub time: Option<u64>,
    /// Index of the channel.
    pub channel: usize,
    /// The end that sent it, if the capture says it.
    pub from: Option<End>,
    /// Offset of its first byte in the lane.
    pub offset: u64,
    /// What is wrong.
    pub fault: &'a FrameFault,
    /// Its bytes as they came.
    pub wire: &'a [u8],
}

/// Bytes that belong to no frame.
#[derive(Clone, Copy, Debug)]
pub struct StrayBytes<'a> {
    /// When the last of them came.
    pub time: Option<u64>,
    /// Index of the channel.
    pub channel: usize,
    /// The end that sent them, if the capture says it.
    pub from: Option<End>,
    /// Offset of the first byte in the lane.
    pub offset: u64,
    /// The bytes.
    pub wire: &'a [u8],
}

/// Takes what a decoder finds, in the order of each lane.
pub trait RowSink {
    /// A good frame.
    fn row(&mut self, row: &Row<'_>);

    /// A broken frame.
    fn broken(&mut self, broken: &BrokenFrame<'_>);

    /// Stray bytes.
    fn stray(&mut self, stray: &StrayBytes<'_>);

    /// Whether the sink looks at the values of rows. Without them decoding is much faster.
    fn wants_values(&self) -> bool {
        true
    }

    /// Whether the sink wants no more, as when nobody reads the output any longer.
    fn is_full(&self) -> bool {
        false
    }
}

/// A sink that wants nothing; for counting alone.
#[derive(Clone, Copy, Debug, Default)]
pub struct Nothing;

impl RowSink for Nothing {
    fn row(&mut self, _row: &Row<'_>) {}
    fn broken(&mut self, _broken: &BrokenFrame<'_>) {}
    fn stray(&mut self, _stray: &StrayBytes<'_>) {}

    fn wants_values(&self) -> bool {
        false
    }
}

/// Decodes the pieces of a capture.
pub struct Decoder<S> {
    plan: Arc<Plan>,
    framings: Vec<Arc<Framing>>,
    /// The channel to take serial bytes for, if the user says it.
    on: Option<usize>,
    lanes: Vec<Lane>,
    interfaces: Vec<Route>,
    output: Output<S>,
}

/// Where the bytes of an interface go.
#[derive(Clone, Copy, Debug)]
enum Route {
    /// To one lane.
    Lane(usize),
    /// By the UDP port inside.
    Network(InterfaceKind),
    /// Nowhere.
    Other,
}

struct Lane {
    channel: usize,
    from: Option<End>,
    receiver: Receiver,
    reader: BodyReader,
    clock: LaneClock,
}

/// When each byte of a lane came, as far back as a receiver can look.
#[derive(Default)]
struct LaneClock {
    fed: u64,
    marks: VecDeque<(u64, Option<u64>)>,
}

impl LaneClock {
    fn feed(&mut self, bytes: usize, time: Option<u64>) {
        if self.marks.back().is_none_or(|(_, last)| *last != time) {
            self.marks.push_back((self.fed, time));
        }
        self.fed += bytes as u64;
    }

    /// When the last byte of a range came. Ranges come in rising order.
    #[inline]
    fn time_of(&mut self, range: &Range<u64>) -> Option<u64> {
        let last = range.end.saturating_sub(1);
        while self.marks.get(1).is_some_and(|(from, _)| *from <= last) {
            self.marks.pop_front();
        }
        self.marks.front().and_then(|(_, time)| *time)
    }
}

struct Output<S> {
    plan: Arc<Plan>,
    sink: S,
    statistics: Statistics,
    no_values: Values,
}

/// A lane's receiver pushes into this.
struct LaneSink<'a, S> {
    channel: usize,
    from: Option<End>,
    reader: &'a mut BodyReader,
    clock: &'a mut LaneClock,
    output: &'a mut Output<S>,
}

impl<S: RowSink> FrameSink for LaneSink<'_, S> {
    fn judge(&mut self, frame: &FrameView<'_>) -> Result<(), FrameFault> {
        self.reader.check(frame)
    }

    fn good(&mut self, at: Range<u64>, frame: &FrameView<'_>, wire: &[u8]) {
        let message = self.reader.message();
        let extent = self.reader.extent();
        let values = if self.output.sink.wants_values() { self.reader.values(frame) } else { &self.output.no_values };
        let row = Row {
            time: self.clock.time_of(&at),
            channel: self.channel,
            from: self.from.unwrap_or(self.output.plan.messages[message].message.from),
            offset: at.start,
            message,
            extent,
            values,
            frame,
            wire,
        };
        self.output.statistics.row(&row);
        self.output.sink.row(&row);
    }

    fn broken(&mut self, at: Range<u64>, fault: &FrameFault, wire: &[u8]) {
        let broken = BrokenFrame {
            time: self.clock.time_of(&at),
            channel: self.channel,
            from: self.from,
            offset: at.start,
            fault,
            wire,
        };
        self.output.statistics.broken(&broken);
        self.output.sink.broken(&broken);
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
        self.output.sink.stray(&stray);
    }
}

impl<S: RowSink> Decoder<S> {
    /// A decoder for the channels of a link. Serial bytes of which a capture does not say the channel are taken for `on`,
    /// or for the only serial channel.
    pub fn new(plan: Arc<Plan>, on: Option<usize>, sink: S) -> Self {
        let framings = plan.channels.iter().map(|channel| Arc::new(Framing::new(Arc::new(channel.clone())))).collect();
        let statistics = Statistics::new(plan.clone());
        Self {
            framings,
            on,
            lanes: Vec::new(),
            interfaces: Vec::new(),
            output: Output { plan: plan.clone(), sink, statistics, no_values: Values::default() },
            plan,
        }
    }

    /// Ends all lanes, and gives back the sink and the counts.
    pub fn finish(mut self) -> (S, Statistics) {
        self.end_lanes();
        (self.output.sink, self.output.statistics)
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
        let mut sink = LaneSink {
            channel: lane.channel,
            from: lane.from,
            reader: &mut lane.reader,
            clock: &mut lane.clock,
            output: &mut self.output,
        };
        act(&mut lane.receiver, &mut sink);
    }

    /// The lane of a channel and a direction; made when it is first needed.
    fn lane(&mut self, channel: usize, from: Option<End>) -> usize {
        if let Some(index) = self.lanes.iter().position(|lane| lane.channel == channel && lane.from == from) {
            return index;
        }
        self.new_lane(channel, from)
    }

    fn new_lane(&mut self, channel: usize, from: Option<End>) -> usize {
        self.lanes.push(Lane {
            channel,
            from,
            receiver: Receiver::new(self.framings[channel].clone()),
            reader: BodyReader::new(self.plan.clone(), channel),
            clock: LaneClock::default(),
        });
        self.lanes.len() - 1
    }

    fn serial_channel(&self, description: &str) -> Option<(usize, Option<End>)> {
        let mut words = description.split_whitespace();
        if words.next() == Some("emberwort") {
            let mut channel = None;
            let mut from = None;
            for word in words {
                match word.split_once('=') {
                    Some(("channel", name)) => channel = self.plan.channel_index(name),
                    Some(("from", "device")) => from = Some(End::Device),
                    Some(("from", "host")) => from = Some(End::Host),
                    _ => {}
                }
            }
            return channel.map(|channel| (channel, from));
        }
        if self.on.is_some() {
            return self.on.map(|channel| (channel, None));
        }
        let serial = |n: &usize| self.plan.channels[*n].finder != FrameFinder::Packet;
        let mut serial = (0..self.plan.channels.len()).filter(serial);
        match (serial.next(), serial.next()) {
            (Some(only), None) => Some((only, None)),
            _ => None,
        }
    }

    fn feed(&mut self, lane: usize, bytes: &[u8], time: Option<u64>) {
        self.output.statistics.count_input(bytes.len());
        self.lanes[lane].clock.feed(bytes.len(), time);
        self.with_lane(lane, |receiver, sink| receiver.feed(bytes, sink));
    }

    /// The UDP payload of a packet, and the channel of its ports.
    fn udp<'b>(&self, kind: InterfaceKind, bytes: &'b [u8]) -> Option<(usize, &'b [u8])> {
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
                .position(|channel| matches!(channel.medium, Medium::Udp { port } if port == wanted))
        };
        let channel = has_port(udp.destination_port()).or_else(|| has_port(udp.source_port()))?;
        Some((channel, udp.payload()))
    }
}

impl<S: RowSink> PieceSink for Decoder<S> {
    fn section(&mut self) {
        self.end_lanes();
    }

    fn interface(&mut self, interface: Interface) {
        let route = match interface.kind {
            InterfaceKind::Serial => match self.serial_channel(&interface.description) {
                Some((channel, from)) => Route::Lane(self.new_lane(channel, from)),
                None => Route::Other,
            },
            InterfaceKind::Other(_) => Route::Other,
            kind => Route::Network(kind),
        };
        self.interfaces.push(route);
    }

    fn piece(&mut self, piece: Piece<'_>) -> ControlFlow<()> {
        match self.interfaces.get(piece.interface).copied() {
            Some(Route::Lane(lane)) => self.feed(lane, piece.bytes, piece.time),
            Some(Route::Network(kind)) => match self.udp(kind, piece.bytes) {
                Some((channel, payload)) => {
                    let lane = self.lane(channel, None);
                    self.feed(lane, payload, piece.time);
                }
                None => self.output.statistics.count_other(piece.bytes.len()),
            },
            Some(Route::Other) | None => self.output.statistics.count_other(piece.bytes.len()),
        }
        if self.output.sink.is_full() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    }
}
