//! From the pieces of a capture to chunks: which channel, which end, which key, which device.

use std::collections::HashMap;
use std::net::IpAddr;
use std::ops::ControlFlow;
use std::sync::Arc;

use emberwort_model::Plan;
use emberwort_model::ids::ChannelId;
use emberwort_model::medium::{Encapsulation, MediumKind};
use emberwort_model::model::End;
use emberwort_model::plan::{Channel, KeySource};
use emberwort_wire::{Chunk, ChunkSink, Spent, StreamId, Time, Times};

use crate::assign::{AssignmentReason, PacketFacts, Rule, Unassigned};
use crate::network::fragments::Fragments;
use crate::network::ip::{self, Packet};
use crate::network::ip_packet;
use crate::network::tcp::{self, Flow, Segment, Streams};
use crate::packets::{CanFrame, can_frame, keyed, usual_datagram};
use crate::pieces::{About, Comment, Interface, InterfaceKind, Piece, PieceSink, Record};
use crate::recorder::described;

/// Takes the chunks of a capture, and says what it knows of their keys.
pub trait StreamSink: ChunkSink {
    /// Whether a key selects a message on a channel (by index in the link's own definition), in any definition in use.
    fn has_key(&self, channel: ChannelId, key: u64) -> bool;

    /// How many definitions are in use: with more of them more keys can be known.
    fn definitions(&self) -> usize;

    /// The next packet of the capture, by its number from 1, before anything comes of it.
    fn packet(&mut self, number: u64, bytes: &[u8]) {
        let _ = (number, bytes);
    }

    /// Why what is handed on next belongs to its channel.
    fn assigned(&mut self, reason: AssignmentReason) {
        let _ = reason;
    }

    /// A packet that belongs to no channel of the link. `Break` ends the reading.
    fn unassigned(&mut self, reason: Unassigned, bytes: &[u8]) -> ControlFlow<()>;

    /// All that is heard at a tap is said by the device with this node, or to it, if frames do not say it themselves.
    fn bind_tap(&mut self, tap: u32, node: u64) {
        let _ = (tap, node);
    }

    /// A packet of the line itself, which carries no message, as a token of USB. It is no input of a lane.
    fn line_packet(&mut self, packet: &Chunk<'_>) -> ControlFlow<()> {
        let _ = packet;
        ControlFlow::Continue(())
    }

    /// Some time of the line was spent with something. Only said of lines that are looked at in all moments.
    fn spent(&mut self, spent: Spent, from: Time, until: Time) {
        let _ = (spent, from, until);
    }

    /// A stream has ended: what comes next on it has nothing to do with what came before.
    fn end_stream(&mut self, stream: StreamId);

    /// All streams have ended.
    fn end_streams(&mut self);
}

/// Tells which stream of the link the pieces of a capture belong to.
#[derive(Debug)]
pub struct Demux<S> {
    plan: Arc<Plan>,
    /// The channel to take serial bytes for, if the user says it.
    on: Option<ChannelId>,
    /// The end to take bytes from for which a capture does not say it.
    from: Option<End>,
    /// The key of packets with which a capture gives none.
    key: Option<u64>,
    rules: Vec<Rule>,
    /// Nodes of devices by the names that sources have for them.
    nodes: HashMap<String, u64>,
    interfaces: Vec<CaptureInterface>,
    /// Packets so far.
    packets: u64,
    fragments: Fragments,
    streams: Streams,
    /// What comes from a tap of its own.
    taps: HashMap<Origin, u32>,
    /// Devices that sources name, and that have no node.
    nameless: HashMap<String, u32>,
    /// What somebody wrote into the captures: the first ones, and how many there are.
    comments: (Vec<CaptureComment>, u64),
    /// The streams of UDP ports that came last, as long as no more definitions are in use.
    ports: Vec<KnownPorts>,
    definitions: usize,
    sink: S,
}

/// So many comments are kept.
pub const MAX_COMMENTS: usize = 20;

/// A comment of a capture.
#[derive(Clone, Debug)]
pub struct CaptureComment {
    /// The number of the packet that it is about, of all captures, if it is about one.
    pub packet: Option<u64>,
    /// The comment.
    pub comment: Comment,
}

/// An interface of the capture at hand.
#[derive(Clone, Debug)]
struct CaptureInterface {
    route: Route,
    name: String,
}

/// Source and destination port of a datagram, and the channel and key that they mean.
type KnownPorts = ([u16; 2], Option<(ChannelId, u64)>);

/// Where the pieces of an interface go.
#[derive(Clone, Copy, Debug)]
enum Route {
    /// To one stream.
    Stream(StreamId, AssignmentReason),
    /// To one stream; the key stands in front of each packet.
    Keyed(StreamId, AssignmentReason),
    /// By the UDP port inside; with the end that sends, if the interface says it.
    Network(InterfaceKind, Option<End>),
    /// By the CAN identifier; with the end that sends, if the interface says it.
    Can(Option<End>),
    /// Nowhere.
    Other(Unassigned),
}

/// Whose bytes are kept apart from all others.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
enum Origin {
    /// A direction of a TCP connection, the channel, and how many gaps it had.
    Tcp(Flow),
    /// A node that a rule says.
    Node(u64),
    /// A device that a source names.
    Device(String),
}

/// What is known of the bytes at hand beside their channel.
#[derive(Clone, Copy, Debug)]
struct PacketContext {
    from: Option<End>,
    node: Option<u64>,
}

/// The tap of packets, which are whole wherever they were heard.
const PACKETS: u32 = u32::MAX;

/// Taps of interfaces have smaller numbers.
const FIRST_TAP: u32 = 1 << 16;

/// Most pairs of UDP ports that are remembered.
const MAX_PORTS: usize = 8;

/// So many origins are kept apart; those that come later are heard together.
const MAX_TAPS: usize = 1 << 16;

/// What of a network could not be put together.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct NetworkLosses {
    /// Packets of which parts lack.
    pub fragmented: u64,
    /// Gaps in streams of TCP, and the bytes that lack in them.
    pub gaps: (u64, u64),
    /// Segments of TCP that came after their place had been given up, and their bytes that went nowhere.
    pub late: (u64, u64),
    /// Segments of TCP that were sent again with other bytes, and how many bytes differ; of each, one went on.
    pub differing: (u64, u64),
}

impl<S: StreamSink> Demux<S> {
    /// Serial bytes of which a capture does not say the channel are taken for the link's only serial channel.
    pub fn new(plan: Arc<Plan>, sink: S) -> Self {
        Self {
            plan,
            on: None,
            from: None,
            key: None,
            rules: Vec::new(),
            nodes: HashMap::new(),
            interfaces: Vec::new(),
            packets: 0,
            fragments: Fragments::default(),
            streams: Streams::default(),
            taps: HashMap::new(),
            nameless: HashMap::new(),
            comments: Default::default(),
            ports: Vec::new(),
            definitions: 0,
            sink,
        }
    }

    /// Takes serial bytes of which a capture does not say the channel for this one, by index.
    #[must_use]
    pub fn on(mut self, channel: Option<ChannelId>) -> Self {
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

    /// Packets for which a rule holds belong where it says; the first of several counts.
    #[must_use]
    pub fn with_rules(mut self, rules: Vec<Rule>) -> Self {
        self.rules = rules;
        self
    }

    /// The nodes of devices that sources name.
    #[must_use]
    pub fn with_nodes(mut self, nodes: HashMap<String, u64>) -> Self {
        self.nodes = nodes;
        self
    }

    /// What of the network could not be put together so far.
    pub fn losses(&self) -> NetworkLosses {
        let Streams { gaps, late, differing, .. } = self.streams;
        NetworkLosses { fragmented: self.fragments.given_up.0, gaps, late, differing }
    }

    /// The comments of the captures, the first [`MAX_COMMENTS`] of them, and how many there are in all.
    pub fn comments(&self) -> (&[CaptureComment], u64) {
        (&self.comments.0, self.comments.1)
    }

    /// Devices that sources name, that are no numbers and have no node.
    pub fn nameless(&self) -> impl Iterator<Item = &str> {
        self.nameless.keys().map(String::as_str)
    }

    /// The sink.
    pub fn sink(&self) -> &S {
        &self.sink
    }

    /// The sink, after [`Self::finish`].
    pub fn into_sink(mut self) -> S {
        let _ = self.finish();
        self.sink
    }

    /// Nothing more comes from the network of the capture at hand: hands on what waits for more.
    pub fn finish(&mut self) -> ControlFlow<()> {
        let given_up = self.fragments.given_up;
        self.fragments.finish();
        for _ in given_up.0..self.fragments.given_up.0 {
            self.sink.unassigned(Unassigned::Fragments, &[])?;
        }
        let mut streams = std::mem::take(&mut self.streams);
        let flow = streams.finish(&mut |way, event| self.tcp_event(way, event));
        self.streams = streams;
        flow
    }

    fn serial_channel(&self, description: &str) -> Result<(ChannelId, Option<End>, AssignmentReason), Unassigned> {
        if let Some((name, from)) = described(description) {
            let channel = self.plan.channel_index(name).ok_or(Unassigned::Described)?;
            return Ok((channel, from.or(self.from), AssignmentReason::Described));
        }
        if let Some(on) = self.on {
            return Ok((on, self.from, AssignmentReason::Said));
        }
        let serial = |channel: &ChannelId| !self.plan.channels[*channel].finder().is_packet();
        let mut serial = self.plan.channel_ids().map(|(channel, _)| channel).filter(serial);
        match (serial.next(), serial.next()) {
            (Some(only), None) => Ok((only, self.from, AssignmentReason::Only)),
            _ => Err(Unassigned::Serial),
        }
    }

    fn forward(&mut self, stream: StreamId, key: Option<u64>, bytes: &[u8], time: Option<Time>) -> ControlFlow<()> {
        let times = time.map_or(Times::Unknown, Times::Last);
        self.sink.chunk(&Chunk { stream, times, key, bytes })
    }

    /// A packet of which the channel and the key are known.
    fn packet(
        &mut self,
        (channel, key): (ChannelId, u64),
        said: PacketContext,
        bytes: &[u8],
        time: Option<Time>,
    ) -> ControlFlow<()> {
        let tap = said.node.map_or(PACKETS, |node| self.tap(Origin::Node(node), Some(node)));
        let stream = StreamId { channel, from: said.from.or(self.from), tap };
        self.forward(stream, Some(key), bytes, time)
    }

    /// The tap of an origin, made when it is first heard.
    fn tap(&mut self, origin: Origin, node: Option<u64>) -> u32 {
        if let Some(tap) = self.taps.get(&origin) {
            return *tap;
        }
        if self.taps.len() >= MAX_TAPS {
            return FIRST_TAP;
        }
        let tap = FIRST_TAP + 1 + self.taps.len() as u32;
        self.taps.insert(origin, tap);
        if let Some(node) = node {
            self.sink.bind_tap(tap, node);
        }
        tap
    }

    /// What the first rule that is for a packet says of it: channel, end and node.
    fn ruled(&self, facts: &PacketFacts<'_>) -> (Option<(ChannelId, AssignmentReason)>, PacketContext) {
        let mut rules = self.rules.iter().enumerate();
        let found = rules.find_map(|(number, rule)| Some((number, rule, rule.is_for(facts)?)));
        match found {
            Some((number, rule, from)) => {
                let channel = rule.channel.map(|channel| (channel, AssignmentReason::Rule(number)));
                (channel, PacketContext { from, node: rule.node })
            }
            None => (None, PacketContext { from: None, node: None }),
        }
    }

    /// The channel of a CAN identifier.
    fn can(&self, key: u64) -> Option<ChannelId> {
        let mut channels = self.plan.channel_ids();
        let found = channels.find(|(index, channel)| {
            matches!(channel.medium.kind.encapsulation(), Encapsulation::Can { .. })
                && self.on.is_none_or(|on| on == *index)
                && (self.sink.has_key(*index, key) || !channel.key_is_outside())
        })?;
        Some(found.0)
    }

    /// The channel and key of the source and destination port of a datagram.
    fn udp(&mut self, ports: [u16; 2]) -> Option<(ChannelId, u64)> {
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

    fn look_up(&self, [from, to]: [u16; 2]) -> Option<(ChannelId, u64)> {
        let channel_with = |fits: &dyn Fn(ChannelId, &Channel) -> bool| {
            self.plan.channel_ids().find(|(index, channel)| fits(*index, channel)).map(|(index, _)| index)
        };
        let has_port = |wanted: u16| {
            channel_with(&|_, channel| channel.medium.kind.encapsulation() == (Encapsulation::Udp { port: wanted }))
        };
        let channel = has_port(to).or_else(|| has_port(from)).or_else(|| {
            // Channels that select messages by port have one for each.
            let knows = |port: u16| {
                channel_with(&|index, channel| {
                    let by_port = channel.direction(End::Device).selected_by == KeySource::Port;
                    by_port && self.sink.has_key(index, u64::from(port))
                })
            };
            knows(to).or_else(|| knows(from))
        })?;
        Some((channel, self.key_of(channel, [from, to])))
    }

    /// The key that ports mean on a channel.
    fn key_of(&self, channel: ChannelId, [from, to]: [u16; 2]) -> u64 {
        let is_known = self.sink.has_key(channel, u64::from(to));
        u64::from(if is_known { to } else { from })
    }

    fn datagram(
        &mut self,
        ports: [u16; 2],
        (addresses, interface): (Option<[IpAddr; 2]>, usize),
        route_from: Option<End>,
        (bytes, packet): (&[u8], &[u8]),
        time: Option<Time>,
    ) -> ControlFlow<()> {
        let (ruled, mut said) = match self.rules.is_empty() {
            true => (None, PacketContext { from: None, node: None }),
            false => {
                let name = self.interfaces.get(interface).map_or("", |known| known.name.as_str());
                let interface = Some((interface, name));
                self.ruled(&PacketFacts { interface, addresses, ports: Some(ports), ..PacketFacts::default() })
            }
        };
        said.from = route_from.or(said.from);
        let found = match ruled {
            Some((channel, why)) => Some(((channel, self.key_of(channel, ports)), why)),
            None => self.udp(ports).map(|found| {
                let is_own = self.plan.channels[found.0].medium.kind.encapsulation()
                    == Encapsulation::Udp { port: found.1 as u16 };
                (found, if is_own { AssignmentReason::Port(found.1 as u16) } else { AssignmentReason::Key(found.1) })
            }),
        };
        match found {
            Some((found, why)) => {
                self.sink.assigned(why);
                self.packet(found, said, bytes, time)
            }
            None => self.sink.unassigned(Unassigned::UdpPort(ports[0].min(ports[1])), packet),
        }
    }

    /// A packet of a network that takes a closer look.
    fn network(
        &mut self,
        kind: InterfaceKind,
        from: Option<End>,
        interface: usize,
        bytes: &[u8],
        time: Option<Time>,
    ) -> ControlFlow<()> {
        let Some(packet) = ip_packet(kind, bytes) else { return self.sink.unassigned(Unassigned::NotIp, bytes) };
        let Some(packet) = Packet::read(packet) else { return self.sink.unassigned(Unassigned::Damaged, bytes) };
        let whole;
        let payload = match packet.fragment {
            None => packet.payload,
            Some(fragment) => match self.fragments.add(&packet, fragment, time) {
                None => return ControlFlow::Continue(()),
                Some(put_together) => {
                    whole = put_together;
                    &whole
                }
            },
        };
        let addresses = [packet.source, packet.destination];
        match packet.protocol {
            ip::UDP | ip::UDP_LITE => match ip::datagram(packet.protocol, payload) {
                Some((ports, data)) => self.datagram(ports, (Some(addresses), interface), from, (data, bytes), time),
                None => self.sink.unassigned(Unassigned::Damaged, bytes),
            },
            ip::TCP => {
                let Some(segment) = Segment::read(packet.source, packet.destination, payload) else {
                    return self.sink.unassigned(Unassigned::Damaged, bytes);
                };
                let lower = segment.flow.from.1.min(segment.flow.to.1);
                match self.tcp_channel(segment.flow).0 {
                    None => return self.sink.unassigned(Unassigned::TcpPort(lower), bytes),
                    // A segment is no packet: what is sent at once can come in two, and two in one.
                    Some((channel, _)) if self.plan.channels[channel].finder().is_packet() => {
                        return self.sink.unassigned(Unassigned::TcpPackets(lower), bytes);
                    }
                    Some(_) => {}
                }
                let mut streams = std::mem::take(&mut self.streams);
                let flow = streams.add(&segment, time, &mut |way, event| self.tcp_event(way, event));
                self.streams = streams;
                flow
            }
            protocol => self.sink.unassigned(Unassigned::Protocol(protocol), bytes),
        }
    }

    /// The channel of a connection: as a rule says, else the one with its port.
    fn tcp_channel(&self, flow: Flow) -> (Option<(ChannelId, AssignmentReason)>, PacketContext) {
        let ports = [flow.from.1, flow.to.1];
        let facts =
            PacketFacts { addresses: Some([flow.from.0, flow.to.0]), ports: Some(ports), ..PacketFacts::default() };
        let (ruled, said) = self.ruled(&facts);
        let has_port = |port: u16| {
            let mut channels = self.plan.channel_ids();
            let is_own = |kind: &MediumKind| matches!(kind, MediumKind::Tcp { port: own, .. } if *own == port);
            channels
                .find(|(_, channel)| is_own(&channel.medium.kind))
                .map(|(index, _)| (index, AssignmentReason::Port(port)))
        };
        (ruled.or_else(|| has_port(ports[1])).or_else(|| has_port(ports[0])), said)
    }

    fn tcp_event(&mut self, flow: Flow, event: tcp::Event<'_>) -> ControlFlow<()> {
        let (Some((channel, why)), said) = self.tcp_channel(flow) else { return ControlFlow::Continue(()) };
        let tap = self.tap(Origin::Tcp(flow), said.node);
        let stream = StreamId { channel, from: said.from.or(self.from), tap };
        match event {
            tcp::Event::Bytes(time, bytes) => {
                self.sink.assigned(why);
                self.forward(stream, self.key, bytes, time)
            }
            tcp::Event::Gap(_) => {
                self.sink.end_stream(stream);
                ControlFlow::Continue(())
            }
            tcp::Event::End => {
                self.sink.end_stream(stream);
                self.taps.remove(&Origin::Tcp(flow));
                ControlFlow::Continue(())
            }
        }
    }

    fn can_piece(
        &mut self,
        route_from: Option<End>,
        interface: usize,
        bytes: &[u8],
        time: Option<Time>,
    ) -> ControlFlow<()> {
        let (key, data) = match can_frame(bytes) {
            CanFrame::Data(key, data) => (key, data),
            CanFrame::Remote => return self.sink.unassigned(Unassigned::CanRemote, bytes),
            CanFrame::Error(classes) => return self.sink.unassigned(Unassigned::CanError(classes), bytes),
            CanFrame::Cut => return self.sink.unassigned(Unassigned::CanCut, bytes),
        };
        let (ruled, mut said) = match self.rules.is_empty() {
            true => (None, PacketContext { from: None, node: None }),
            false => {
                let name = self.interfaces.get(interface).map_or("", |known| known.name.as_str());
                let interface = Some((interface, name));
                self.ruled(&PacketFacts { interface, can_id: Some(key), ..PacketFacts::default() })
            }
        };
        said.from = route_from.or(said.from);
        match ruled.or_else(|| Some((self.can(key)?, AssignmentReason::CanId(key)))) {
            Some((channel, why)) => {
                self.sink.assigned(why);
                self.packet((channel, key), said, data, time)
            }
            None => self.sink.unassigned(Unassigned::CanId(key), bytes),
        }
    }

    /// The channel of a record: as it says, else as the user does, else the one that has its key, else the only one that has none.
    fn record_channel(
        &self,
        record: &Record<'_>,
        key: Option<u64>,
    ) -> Result<(ChannelId, AssignmentReason), Unassigned> {
        if let Some(name) = record.channel {
            return self
                .plan
                .channel_index(name)
                .map(|channel| (channel, AssignmentReason::Named))
                .ok_or(Unassigned::Channel);
        }
        if let Some(on) = self.on {
            return Ok((on, AssignmentReason::Said));
        }
        if let Some(key) = key {
            let keyed =
                |(index, channel): &(ChannelId, &Channel)| channel.key_is_outside() && self.sink.has_key(*index, key);
            let carried = |(_, channel): &(ChannelId, &Channel)| match channel.medium.kind.encapsulation() {
                Encapsulation::Udp { port } => u64::from(port) == key,
                _ => false,
            };
            let by_key = self.plan.channel_ids().find(keyed);
            let found = by_key.or_else(|| self.plan.channel_ids().find(carried));
            return found.map(|(channel, _)| (channel, AssignmentReason::Key(key))).ok_or(Unassigned::Key(key));
        }
        self.serial_channel("").map(|(channel, _, why)| (channel, why))
    }
}

impl<S: StreamSink> PieceSink for Demux<S> {
    fn section(&mut self) {
        let _ = self.finish();
        self.sink.end_streams();
        self.interfaces.clear();
        self.taps.clear();
    }

    fn interface(&mut self, interface: Interface) {
        let number = self.interfaces.len();
        let said = described(&interface.description);
        let facts = PacketFacts { interface: Some((number, &interface.name)), ..PacketFacts::default() };
        let (ruled, by_rule) = self.ruled(&facts);
        let from = said.and_then(|(_, from)| from).or(by_rule.from);
        let route = match interface.kind {
            InterfaceKind::Serial => {
                let found = match ruled {
                    Some((channel, why)) => Ok((channel, from.or(self.from), why)),
                    None => self
                        .serial_channel(&interface.description)
                        .map(|(channel, own, why)| (channel, own.or(from), why)),
                };
                match found {
                    Ok((channel, from, why)) => {
                        let tap = by_rule.node.map_or(number as u32, |node| self.tap(Origin::Node(node), Some(node)));
                        let stream = StreamId { channel, from, tap };
                        let is_keyed = said.is_some() && self.plan.channels[channel].key_is_outside();
                        if is_keyed { Route::Keyed(stream, why) } else { Route::Stream(stream, why) }
                    }
                    Err(why) => Route::Other(why),
                }
            }
            InterfaceKind::Can => Route::Can(from),
            InterfaceKind::Other(number) => Route::Other(Unassigned::LinkType(number)),
            kind => Route::Network(kind, from),
        };
        self.interfaces.push(CaptureInterface { route, name: interface.name });
    }

    fn comment(&mut self, comment: Comment) {
        self.comments.1 += 1;
        if self.comments.0.len() < MAX_COMMENTS {
            let packet = matches!(comment.about, About::Piece(_)).then_some(self.packets + 1);
            self.comments.0.push(CaptureComment { packet, comment });
        }
    }

    fn pause(&mut self) {
        self.sink.pause();
    }

    fn piece(&mut self, piece: Piece<'_>) -> ControlFlow<()> {
        let (time, bytes, interface) = (piece.time, piece.bytes, piece.interface);
        self.packets += 1;
        self.sink.packet(self.packets, bytes);
        match self.interfaces.get(interface).map(|known| known.route) {
            Some(Route::Stream(stream, why)) => {
                self.sink.assigned(why);
                self.forward(stream, self.key, bytes, time)
            }
            Some(Route::Keyed(stream, why)) => match keyed(bytes) {
                Some((key, data)) => {
                    self.sink.assigned(why);
                    self.forward(stream, Some(key), data, time)
                }
                None => self.sink.unassigned(Unassigned::Described, bytes),
            },
            Some(Route::Network(kind, from)) => {
                // The addresses of a usual packet matter only to rules.
                let usual =
                    if kind == InterfaceKind::Ip && self.rules.is_empty() { usual_datagram(bytes) } else { None };
                match usual {
                    Some((ports, data)) => self.datagram(ports, (None, interface), from, (data, bytes), time),
                    None => self.network(kind, from, interface, bytes, time),
                }
            }
            Some(Route::Can(from)) => self.can_piece(from, interface, bytes, time),
            Some(Route::Other(why)) => self.sink.unassigned(why, bytes),
            None => self.sink.unassigned(Unassigned::Serial, bytes),
        }
    }

    fn record(&mut self, record: &Record<'_>) -> ControlFlow<()> {
        let (time, bytes) = (record.time, record.bytes);
        self.packets += 1;
        self.sink.packet(self.packets, bytes);
        let key = record.key.or(self.key);
        let (ruled, said) = match self.rules.is_empty() {
            true => (None, PacketContext { from: None, node: None }),
            false => {
                let port = record.key.and_then(|key| u16::try_from(key).ok());
                let facts = PacketFacts {
                    device: record.device,
                    ports: port.map(|port| [port; 2]),
                    can_id: record.key,
                    ..PacketFacts::default()
                };
                self.ruled(&facts)
            }
        };
        let (channel, why) = match ruled {
            Some(found) => found,
            None => match self.record_channel(record, key) {
                Ok(found) => found,
                Err(why) => return self.sink.unassigned(why, bytes),
            },
        };
        let node_of = |name: &str| self.nodes.get(name).copied().or_else(|| name.parse().ok());
        let node = said.node.or_else(|| node_of(record.device?));
        let tap = match (record.device, node) {
            (Some(device), None) => {
                if self.nameless.len() < MAX_TAPS {
                    *self.nameless.entry(device.to_owned()).or_default() += 1;
                }
                self.tap(Origin::Device(device.to_owned()), None)
            }
            (_, Some(node)) => self.tap(Origin::Node(node), Some(node)),
            (None, None) => 0,
        };
        let from = record.from.or(said.from).or(self.from);
        self.sink.assigned(why);
        self.forward(StreamId { channel, from, tap }, key, bytes, time)
    }
}
