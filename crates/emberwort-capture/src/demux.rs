//! From the pieces of a capture to chunks: which channel, which end, which key.

use std::ops::ControlFlow;
use std::sync::Arc;

use emberwort_model::Plan;
use emberwort_model::medium::Carriage;
use emberwort_model::model::End;
use emberwort_model::plan::KeySource;
use emberwort_wire::{Chunk, ChunkSink, StreamId, Time, Times};

use crate::packets::{can_data, keyed, udp_payload};
use crate::pieces::{Interface, InterfaceKind, Piece, PieceSink};
use crate::recorder::described;

/// Takes the chunks of a capture, and says what it knows of their keys.
pub trait StreamSink: ChunkSink {
    /// Whether a key selects a message on a channel (by index in the link's own definition), in any definition in use.
    fn knows(&self, channel: usize, key: u64) -> bool;

    /// How many definitions are in use: with more of them more keys can be known.
    fn definitions(&self) -> usize;

    /// A packet that belongs to no channel of the link. `Break` ends the reading.
    fn unassigned(&mut self, bytes: &[u8]) -> ControlFlow<()>;

    /// All streams have ended: what comes next has nothing to do with what came before.
    fn end_streams(&mut self);
}

/// Tells which stream of the link the pieces of a capture belong to.
#[derive(Debug)]
pub struct Demux<S> {
    plan: Arc<Plan>,
    /// The channel to take serial bytes for, if the user says it.
    on: Option<usize>,
    /// The end to take bytes from for which a capture does not say it.
    from: Option<End>,
    /// The key of packets with which a capture gives none.
    key: Option<u64>,
    routes: Vec<Route>,
    /// The streams of UDP ports that came last, as long as no more definitions are in use.
    ports: Vec<KnownPorts>,
    definitions: usize,
    sink: S,
}

/// Source and destination port of a datagram, and the channel and key that they mean.
type KnownPorts = ([u16; 2], Option<(usize, u64)>);

/// Where the pieces of an interface go.
#[derive(Clone, Copy, Debug)]
enum Route {
    /// To one stream.
    Stream(StreamId),
    /// To one stream; the key stands in front of each packet.
    Keyed(StreamId),
    /// By the UDP port inside; with the end that sends, if the interface says it.
    Network(InterfaceKind, Option<End>),
    /// By the CAN identifier; with the end that sends, if the interface says it.
    Can(Option<End>),
    /// Nowhere.
    Other,
}

/// The tap of packets, which are whole wherever they were heard.
const PACKETS: u32 = u32::MAX;

/// Most pairs of UDP ports that are remembered.
const MAX_PORTS: usize = 8;

impl<S: StreamSink> Demux<S> {
    /// Serial bytes of which a capture does not say the channel are taken for the link's only serial channel.
    pub fn new(plan: Arc<Plan>, sink: S) -> Self {
        Self { plan, on: None, from: None, key: None, routes: Vec::new(), ports: Vec::new(), definitions: 0, sink }
    }

    /// Takes serial bytes of which a capture does not say the channel for this one, by index.
    #[must_use]
    pub fn on(mut self, channel: Option<usize>) -> Self {
        self.on = channel;
        self
    }

    /// Takes bytes for ones from this end, where a capture does not say it.
    #[must_use]
    pub fn assuming_from(mut self, from: Option<End>) -> Self {
        self.from = from;
        self
    }

    /// Takes this port or CAN identifier for that of packets with which a capture gives none.
    #[must_use]
    pub fn assuming_key(mut self, key: Option<u64>) -> Self {
        self.key = key;
        self
    }

    /// The sink, which was given all.
    pub fn into_sink(self) -> S {
        self.sink
    }

    fn serial_channel(&self, description: &str) -> Option<(usize, Option<End>)> {
        if let Some((name, from)) = described(description) {
            return self.plan.channel_index(name).map(|channel| (channel, from.or(self.from)));
        }
        if self.on.is_some() {
            return self.on.map(|channel| (channel, self.from));
        }
        let serial = |n: &usize| !self.plan.channels[*n].finder().is_packet();
        let mut serial = (0..self.plan.channels.len()).filter(serial);
        match (serial.next(), serial.next()) {
            (Some(only), None) => Some((only, self.from)),
            _ => None,
        }
    }

    fn hand_on(&mut self, stream: StreamId, key: Option<u64>, bytes: &[u8], time: Option<Time>) -> ControlFlow<()> {
        let times = time.map_or(Times::Unknown, Times::Last);
        self.sink.chunk(&Chunk { stream, times, key, bytes })
    }

    /// A packet of which the channel and the key are known.
    fn packet(
        &mut self,
        (channel, key): (usize, u64),
        from: Option<End>,
        bytes: &[u8],
        time: Option<Time>,
    ) -> ControlFlow<()> {
        let stream = StreamId { channel, from: from.or(self.from), tap: PACKETS };
        self.hand_on(stream, Some(key), bytes, time)
    }

    /// The channel of a CAN identifier.
    fn can(&self, key: u64) -> Option<usize> {
        let mut channels = self.plan.channels.iter().enumerate();
        let found = channels.find(|(index, channel)| {
            matches!(channel.medium.kind.carriage(), Carriage::Can { .. })
                && self.on.is_none_or(|on| on == *index)
                && (self.sink.knows(*index, key) || !channel.key_is_outside())
        })?;
        Some(found.0)
    }

    /// The channel and key of the source and destination port of a datagram.
    fn udp(&mut self, ports: [u16; 2]) -> Option<(usize, u64)> {
        if self.definitions != self.sink.definitions() {
            self.definitions = self.sink.definitions();
            self.ports.clear();
        }
        if let Some((_, found)) = self.ports.iter().find(|(known, _)| *known == ports) {
            return *found;
        }
        let found = self.look_up(ports);
        if self.ports.len() == MAX_PORTS {
            self.ports.remove(0);
        }
        self.ports.push((ports, found));
        found
    }

    fn look_up(&self, [from, to]: [u16; 2]) -> Option<(usize, u64)> {
        let channels = &self.plan.channels;
        let has_port = |wanted: u16| {
            channels.iter().position(|channel| channel.medium.kind.carriage() == (Carriage::Udp { port: wanted }))
        };
        let channel = has_port(to).or_else(|| has_port(from)).or_else(|| {
            // Channels that select messages by port have one for each.
            let knows = |port: u16| {
                (0..channels.len()).find(|index| {
                    let by_port = channels[*index].direction(End::Device).selected_by == KeySource::Port;
                    by_port && self.sink.knows(*index, u64::from(port))
                })
            };
            knows(to).or_else(|| knows(from))
        })?;
        let known = |port: u16| self.sink.knows(channel, u64::from(port));
        let key = if known(to) { to } else { from };
        Some((channel, u64::from(key)))
    }
}

impl<S: StreamSink> PieceSink for Demux<S> {
    fn section(&mut self) {
        self.sink.end_streams();
        self.routes.clear();
    }

    fn interface(&mut self, interface: Interface) {
        let said = described(&interface.description);
        let from = said.and_then(|(_, from)| from);
        let route = match interface.kind {
            InterfaceKind::Serial => match self.serial_channel(&interface.description) {
                Some((channel, from)) => {
                    let stream = StreamId { channel, from, tap: self.routes.len() as u32 };
                    let is_keyed = said.is_some() && self.plan.channels[channel].key_is_outside();
                    if is_keyed { Route::Keyed(stream) } else { Route::Stream(stream) }
                }
                None => Route::Other,
            },
            InterfaceKind::Can => Route::Can(from),
            InterfaceKind::Other(_) => Route::Other,
            kind => Route::Network(kind, from),
        };
        self.routes.push(route);
    }

    fn pause(&mut self) {
        self.sink.pause();
    }

    fn piece(&mut self, piece: Piece<'_>) -> ControlFlow<()> {
        let (time, bytes) = (piece.time, piece.bytes);
        match self.routes.get(piece.interface).copied() {
            Some(Route::Stream(stream)) => return self.hand_on(stream, self.key, bytes, time),
            Some(Route::Keyed(stream)) => {
                if let Some((key, data)) = keyed(bytes) {
                    return self.hand_on(stream, Some(key), data, time);
                }
            }
            Some(Route::Network(kind, from)) => {
                let datagram = udp_payload(kind, bytes);
                if let Some((found, data)) = datagram.and_then(|(ports, data)| Some((self.udp(ports)?, data))) {
                    return self.packet(found, from, data, time);
                }
            }
            Some(Route::Can(from)) => {
                let frame = can_data(bytes);
                if let Some((channel, key, data)) = frame.and_then(|(key, data)| Some((self.can(key)?, key, data))) {
                    return self.packet((channel, key), from, data, time);
                }
            }
            Some(Route::Other) | None => {}
        }
        self.sink.unassigned(bytes)
    }
}
