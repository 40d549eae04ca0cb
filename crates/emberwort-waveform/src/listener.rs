//! Listens to the wires of a channel: from the values of a waveform to chunks of bytes.

use std::collections::{HashMap, VecDeque};
use std::ops::ControlFlow;

use emberwort_model::ids::ChannelId;
use emberwort_model::medium::{LineCode, MediumKind, USUAL_CAN_SAMPLE, UartFormat, UsbSpeed};
use emberwort_model::model::End;
use emberwort_wire::chunk::ByteTime;
use emberwort_wire::{Chunk, ChunkSink, Spent, StreamId, Time, Times};

use crate::lines::event::{Event, From, Levels, LineByte, MAX_WIRES};
use crate::lines::{can, code, i2c, spi, uart, usb};
use crate::wave::{Moment, Signal, Value, WaveSink};
use crate::wiring::{Comparator, Role, Wiring, WiringError, by_signal};

/// Takes the chunks of a line, and which device they are about where the line says it.
pub trait LineSink: ChunkSink {
    /// All chunks of this tap are said by the device with this node, or to it.
    fn bind_tap(&mut self, tap: u32, node: u64);

    /// A packet of the line itself, which carries no message.
    fn line_packet(&mut self, packet: &Chunk<'_>) -> ControlFlow<()> {
        let _ = packet;
        ControlFlow::Continue(())
    }

    /// Some time of the line was spent with something.
    fn spent(&mut self, spent: Spent, from: Time, until: Time) {
        let _ = (spent, from, until);
    }
}

/// Bytes of one sender that are not handed on yet.
#[derive(Debug, Default)]
struct Collected {
    bytes: Vec<u8>,
    times: Vec<ByteTime>,
}

impl Collected {
    fn add(&mut self, byte: LineByte) {
        self.bytes.push(byte.byte);
        self.times.push(ByteTime { start: byte.start.time(), end: byte.end.time() });
    }
}

/// Before this moment no receiver has anything to tell as long as no level changes.
fn due(receivers: &[Option<uart::Uart>; 2]) -> Moment {
    let due = receivers.iter().flatten().filter_map(uart::Uart::due).min();
    due.unwrap_or(Moment::from_picoseconds(u64::MAX))
}

fn end_of(from: From) -> Option<End> {
    match from {
        From::Device => Some(End::Device),
        From::Host => Some(End::Host),
        From::Unknown => None,
    }
}

/// So many bytes are handed on at once at most.
const AT_ONCE: usize = 4096;

/// Listens to the wires of one channel of a link, and hands on chunks of it.
#[derive(Debug)]
pub struct Listener<S> {
    channel: ChannelId,
    wiring: Wiring,
    line: Line,
    /// For each signal of the waveform, the wires that it has to do with, and whether it is taken off there.
    by_signal: Vec<Vec<(usize, bool)>>,
    comparators: Vec<Comparator>,
    problem: Option<WiringError>,
    /// By sender.
    collected: [Collected; 3],
    /// Of a packet of the line itself.
    line_packet: Collected,
    /// The taps of nodes, in the order in which they were first heard of.
    taps: HashMap<u64, u32>,
    /// Levels before the moment at hand, and at its end.
    before: Levels,
    after: Levels,
    /// The moment at which levels changed, as long as there may be more changes at it.
    changing: Option<Moment>,
    events: Vec<Event>,
    /// Levels that last for less than this are none, in picoseconds.
    deglitch: u64,
    /// Changes that are not yet known to last, in their order.
    unsure: VecDeque<(Moment, usize, Option<bool>)>,
    /// The last level of each wire that lasted.
    sure: Levels,
    /// Short levels that were left out.
    glitches: u64,
    /// Bytes of frames that receivers drop.
    dropped: u64,
    /// The first and the last change of those that follow each other closely.
    burst: Option<(Moment, Moment)>,
    burst_gap: u64,
    /// Which wires have had a level.
    is_known: [bool; MAX_WIRES],
    now: Moment,
    /// When the first wire had a level.
    begun: Option<Moment>,
    /// Up to when the decoder was told that nothing happened.
    told_until: Moment,
    /// Before this moment it has nothing to tell as long as no level changes.
    due: Moment,
    sink: S,
}

/// The decoder of a line.
#[derive(Debug)]
enum Line {
    /// From the device, from the host.
    Uart(Box<[Option<uart::Uart>; 2]>),
    Spi(Box<spi::Spi>),
    /// With its clock in hertz.
    I2c(Box<i2c::I2c>, u32),
    /// The bus, and whether it is dominant where its wire is high.
    Can(Box<can::Can>, bool),
    Usb(Box<usb::Usb>),
    Code(Box<code::Code>),
}

/// What was seen on the wires beside bytes.
#[derive(Clone, Debug, PartialEq)]
pub enum LineObservations {
    /// On a wire of an asynchronous line.
    Uart(Role, UartFormat, uart::UartObservations),
    /// On a serial peripheral interface.
    Spi(spi::SpiObservations),
    /// On a two-wire bus, with its clock in hertz.
    I2c(u32, i2c::I2cObservations),
    /// On a controller area network.
    Can(can::Speeds, can::CanObservations),
    /// On a universal serial bus.
    Usb(UsbSpeed, usb::UsbObservations),
    /// On a line of one wire.
    Code(LineCode, code::CodeObservations),
}

impl<S: LineSink> Listener<S> {
    /// For a channel of a link, by index, with its medium. `skip` bits at the beginning of data wires with a clock are left out.
    ///
    /// # Errors
    /// What is wrong with the wires; `None` inside if waveforms of that medium cannot be read.
    pub fn new(
        channel: ChannelId,
        medium: &MediumKind,
        wiring: Wiring,
        skip: u32,
        sink: S,
    ) -> Result<Self, Option<WiringError>> {
        let (roles, needed) = Role::of(medium).ok_or(None)?;
        wiring.check(roles, needed)?;
        let place = |role: Role| wiring.wires.iter().position(|wire| wire.role == role);
        let line = match *medium {
            MediumKind::Uart(format) => {
                let receiver = |role: Role| place(role).map(|_| uart::Uart::new(format));
                Line::Uart(Box::new([receiver(Role::Device), receiver(Role::Host)]))
            }
            MediumKind::Spi { words, hertz } => {
                let selects = wiring.wires.iter().enumerate().filter_map(|(at, wire)| match wire.role {
                    Role::Select(node) => Some((at, node)),
                    _ => None,
                });
                let pins = spi::Pins {
                    clock: place(Role::Clock).unwrap_or(0),
                    selects: selects.collect(),
                    data: [place(Role::Device), place(Role::Host)],
                };
                Line::Spi(Box::new(spi::Spi::new(words, hertz, pins, skip)))
            }
            MediumKind::I2c { hertz } => {
                let (clock, data) = (place(Role::Clock).unwrap_or(0), place(Role::Data).unwrap_or(1));
                Line::I2c(Box::new(i2c::I2c::new(clock, data)), hertz)
            }
            MediumKind::Can { bitrate, data_bitrate, sample } => {
                let speeds = can::Speeds { bitrate, data_bitrate, sample: sample.unwrap_or(USUAL_CAN_SAMPLE) };
                // The difference of the two wires is positive where the bus is dominant (ISO 11898-2).
                let is_difference = wiring.wires.iter().any(|wire| wire.minus.is_some());
                Line::Can(Box::new(can::Can::new(speeds)), is_difference)
            }
            MediumKind::Usb { speed } => {
                let (plus, minus) = (place(Role::Plus).unwrap_or(0), place(Role::Minus).unwrap_or(1));
                Line::Usb(Box::new(usb::Usb::new(speed, plus, minus)))
            }
            MediumKind::Line(code) => Line::Code(Box::new(code::Code::new(code))),
            _ => return Err(None),
        };
        let comparators = wiring.wires.iter().map(Comparator::new).collect();
        Ok(Self {
            channel,
            wiring,
            line,
            by_signal: Vec::new(),
            comparators,
            problem: None,
            collected: Default::default(),
            line_packet: Collected::default(),
            taps: HashMap::new(),
            before: [None; MAX_WIRES],
            after: [None; MAX_WIRES],
            changing: None,
            events: Vec::new(),
            deglitch: 0,
            unsure: VecDeque::new(),
            sure: [None; MAX_WIRES],
            glitches: 0,
            dropped: 0,
            burst: None,
            burst_gap: Self::burst_gap(medium),
            is_known: [false; MAX_WIRES],
            now: Moment::default(),
            begun: None,
            told_until: Moment::default(),
            due: Moment::default(),
            sink,
        })
    }

    /// Levels that last for less than so many picoseconds are left out.
    #[must_use]
    pub fn deglitched(mut self, picoseconds: u64) -> Self {
        self.deglitch = picoseconds;
        self
    }

    /// Whether data on a universal serial bus are handed on that nobody acknowledged, and packets that carry no message are told.
    #[must_use]
    pub fn with_all_packets(mut self, all: bool) -> Self {
        if let Line::Usb(usb) = &mut self.line {
            usb.all = all;
        }
        self
    }

    /// How many levels were too short and left out.
    pub fn glitches(&self) -> u64 {
        self.glitches
    }

    /// How long it takes at least from one burst of changes to the next, in picoseconds: longer than any bits without a change are.
    fn burst_gap(medium: &MediumKind) -> u64 {
        let bit = |speed: u32| 1_000_000_000_000 / u64::from(speed.max(1));
        12 * match *medium {
            MediumKind::Uart(format) => bit(format.baud),
            MediumKind::Spi { hertz, .. } | MediumKind::I2c { hertz } => bit(hertz),
            MediumKind::Can { bitrate, .. } => bit(bitrate),
            MediumKind::Usb { speed } => bit(speed.bitrate()),
            MediumKind::Line(code) => code.bit_picoseconds(),
            _ => 0,
        }
    }

    /// What changed so far is a transfer, or a character: what follows is something else.
    fn burst_is_over(&mut self) {
        if let Some((first, last)) = self.burst.take() {
            self.sink.spent(Spent::Changing, first.time(), last.time());
        }
    }

    /// A level changed at a moment.
    fn changed(&mut self, at: Moment) {
        let Some((first, last)) = self.burst else {
            self.burst = Some((at, at));
            return;
        };
        let since = at.since(last);
        if since <= self.burst_gap / 6 {
            self.burst = Some((first, at));
            return;
        }
        self.sink.spent(Spent::Changing, first.time(), last.time());
        if since <= self.burst_gap {
            self.sink.spent(Spent::Between, last.time(), at.time());
        }
        self.burst = Some((at, at));
    }

    /// Why the wires were not found in the waveform, if they were not.
    pub fn problem(&self) -> Option<&WiringError> {
        self.problem.as_ref()
    }

    /// How far the waveform has come.
    pub fn now(&self) -> Moment {
        self.now
    }

    /// How long the wires were looked at: a part of a waveform need not begin with it.
    pub fn looked_at(&self) -> Moment {
        Moment::from_picoseconds(self.begun.map_or(0, |begun| self.now.since(begun)))
    }

    /// Bytes of frames that receivers of the medium drop, so that nobody sees them.
    pub fn dropped(&self) -> u64 {
        self.dropped
    }

    /// What was seen beside bytes, wire by wire.
    fn seen(&self) -> Vec<LineObservations> {
        match &self.line {
            Line::Uart(receivers) => {
                let both = [Role::Device, Role::Host].into_iter().zip(receivers.iter());
                both.filter_map(|(role, uart)| {
                    uart.as_ref().map(|uart| LineObservations::Uart(role, uart.format(), uart.observed.clone()))
                })
                .collect()
            }
            Line::Spi(spi) => vec![LineObservations::Spi(spi.observed.clone())],
            Line::I2c(i2c, hertz) => vec![LineObservations::I2c(*hertz, i2c.observed.clone())],
            Line::Can(can, _) => vec![LineObservations::Can(can.speeds(), can.observed.clone())],
            Line::Usb(usb) => vec![LineObservations::Usb(usb.speed(), usb.observed.clone())],
            Line::Code(code) => vec![LineObservations::Code(*code.code(), code.seen())],
        }
    }

    /// Ends the waveform; gives back the sink, which was given all, what was seen, and how many bytes were dropped.
    pub fn finish(mut self) -> (S, Vec<LineObservations>, u64) {
        // What is there at the end lasts.
        self.deglitch = self.deglitch.min(1);
        let _ = self.confirm_until(self.now.after(1));
        let _ = self.settle();
        let _ = self.nothing_until(self.now);
        match &mut self.line {
            Line::Uart(receivers) => receivers.iter_mut().flatten().for_each(|uart| uart.finish(self.now)),
            Line::Spi(spi) => spi.finish(self.now, &self.after, &mut self.events),
            Line::I2c(i2c, _) => i2c.finish(self.now, &mut self.events),
            Line::Can(can, _) => {
                can.until(self.now, &mut self.events);
                can.finish(self.now);
            }
            Line::Usb(usb) => usb.finish(self.now, &mut self.events),
            Line::Code(code) => code.finish(self.now, &mut self.events),
        }
        let _ = self.tell();
        for from in From::ALL {
            let _ = self.forward(from, None, 0);
        }
        self.tell_flaws();
        self.burst_is_over();
        if self.is_known.contains(&true) {
            self.sink.spent(Spent::Rest, self.now.time(), self.now.time());
        }
        let seen = self.seen();
        (self.sink, seen, self.dropped)
    }

    /// Hands on what was collected of one sender.
    fn forward(&mut self, from: From, key: Option<u64>, tap: u32) -> ControlFlow<()> {
        let Collected { bytes, times } = &mut self.collected[from as usize];
        if bytes.is_empty() && key.is_none() {
            return ControlFlow::Continue(());
        }
        let stream = StreamId { channel: self.channel, from: end_of(from), tap };
        // What carries no byte is over now.
        let known = if bytes.is_empty() { Times::Last(self.now.time()) } else { Times::Each(times) };
        let flow = self.sink.chunk(&Chunk { stream, times: known, key, bytes });
        bytes.clear();
        times.clear();
        flow
    }

    /// The tap of what a node says, or what is said to it.
    fn tap(&mut self, node: Option<u64>) -> u32 {
        let Some(node) = node else { return 0 };
        if let Some(tap) = self.taps.get(&node) {
            return *tap;
        }
        let tap = self.taps.len() as u32 + 1;
        self.taps.insert(node, tap);
        self.sink.bind_tap(tap, node);
        tap
    }

    /// Tells the sink what the decoder told.
    fn tell(&mut self) -> ControlFlow<()> {
        let mut events = std::mem::take(&mut self.events);
        for event in events.drain(..) {
            match event {
                Event::Byte(from, byte) => {
                    self.collected[from as usize].add(byte);
                    // What is longer than any frame is none.
                    if self.collected[from as usize].bytes.len() >= AT_ONCE {
                        self.forward(from, None, 0)?;
                    }
                }
                Event::Packet { from, key, node } => {
                    let tap = self.tap(node);
                    self.forward(from, key, tap)?;
                }
                Event::PacketByte(byte) => self.line_packet.add(byte),
                Event::LinePacket(from) => {
                    let Collected { bytes, times } = &mut self.line_packet;
                    let stream = StreamId { channel: self.channel, from: end_of(from), tap: 0 };
                    let flow = self.sink.line_packet(&Chunk { stream, times: Times::Each(times), key: None, bytes });
                    bytes.clear();
                    times.clear();
                    flow?;
                }
                Event::Transfer { is_right, start, end } => {
                    self.burst_is_over();
                    let spent = if is_right { Spent::Transfer } else { Spent::Broken };
                    self.sink.spent(spent, start.time(), end.time());
                }
                Event::Dropped(from) => {
                    let Collected { bytes, times } = &mut self.collected[from as usize];
                    self.dropped += bytes.len() as u64;
                    bytes.clear();
                    times.clear();
                }
            }
        }
        self.events = events;
        ControlFlow::Continue(())
    }

    /// A byte of one end of an asynchronous line. Bytes between which the line rested, or the other end spoke, are not in one chunk.
    fn character(&mut self, from: From, byte: LineByte, pause: u64) -> ControlFlow<()> {
        let other = if from == From::Device { From::Host } else { From::Device };
        self.burst_is_over();
        self.forward(other, None, 0)?;
        let collected = &self.collected[from as usize];
        let rested = collected.times.last().is_some_and(|last| byte.start.time().since(last.end) * 1000 >= pause);
        if rested || collected.bytes.len() >= AT_ONCE {
            self.forward(from, None, 0)?;
        }
        self.collected[from as usize].add(byte);
        ControlFlow::Continue(())
    }

    /// Characters of an asynchronous line that are flawed.
    fn tell_flaws(&mut self) {
        let Line::Uart(receivers) = &mut self.line else { return };
        for uart in receivers.iter_mut().flatten() {
            for (start, end) in uart.flawed.drain(..) {
                self.sink.spent(Spent::Broken, start.time(), end.time());
            }
        }
    }

    /// A wire has another level.
    fn level(&mut self, at: Moment, wire: usize, level: Option<bool>) -> ControlFlow<()> {
        let flow = self.decode(at, wire, level);
        // What was over before is told by now. The first level of a wire is no change.
        if self.is_known[wire] {
            self.changed(at);
        } else {
            self.is_known[wire] = true;
            self.begun.get_or_insert(at);
            // From here on the line is looked at.
            self.sink.spent(Spent::Rest, at.time(), at.time());
        }
        flow
    }

    fn decode(&mut self, at: Moment, wire: usize, level: Option<bool>) -> ControlFlow<()> {
        let role = self.wiring.wires[wire].role;
        match &mut self.line {
            Line::Uart(receivers) => {
                let end = usize::from(role == Role::Host);
                let Some(uart) = &mut receivers[end] else { return ControlFlow::Continue(()) };
                let mut came = None;
                let pause = uart.character();
                uart.edge(at, level, &mut |byte| came = Some(byte));
                self.due = due(receivers);
                let from = [From::Device, From::Host][end];
                came.map_or(ControlFlow::Continue(()), |byte| self.character(from, byte, pause))
            }
            Line::Can(can, is_difference) => {
                can.edge(at, level != Some(*is_difference), &mut self.events);
                self.tell()
            }
            Line::Code(code) => {
                code.edge(at, level, &mut self.events);
                self.tell()
            }
            // What several wires show at one moment is looked at together.
            Line::Spi(_) | Line::I2c(..) | Line::Usb(_) => {
                if self.changing.is_some_and(|changing| changing != at) {
                    self.settle()?;
                }
                self.changing = Some(at);
                self.after[wire] = level;
                ControlFlow::Continue(())
            }
        }
    }

    /// No more changes come at the moment at hand.
    fn settle(&mut self) -> ControlFlow<()> {
        let Some(at) = self.changing.take() else { return ControlFlow::Continue(()) };
        match &mut self.line {
            Line::Spi(spi) => spi.step(at, &self.before, &self.after, &mut self.events),
            Line::I2c(i2c, _) => i2c.step(at, &self.before, &self.after, &mut self.events),
            Line::Usb(usb) => usb.step(at, &self.before, &self.after, &mut self.events),
            Line::Uart(_) | Line::Can(..) | Line::Code(_) => {}
        }
        self.before = self.after;
        if self.events.is_empty() { ControlFlow::Continue(()) } else { self.tell() }
    }
}

impl<S: LineSink> WaveSink for Listener<S> {
    fn signals(&mut self, signals: &[Signal]) -> ControlFlow<()> {
        match by_signal(&self.wiring, signals) {
            Ok(found) => {
                let has_numbers = |wire: usize| {
                    let mut of_wire =
                        (0..signals.len()).filter(|signal| found[*signal].iter().any(|(to, _)| *to == wire));
                    of_wire.any(|signal| signals[signal].is_analog)
                };
                let unclear = (0..self.wiring.wires.len())
                    .find(|wire| self.wiring.wires[*wire].threshold.is_none() && has_numbers(*wire));
                self.problem = unclear.map(|wire| WiringError::NoThreshold(self.wiring.wires[wire].role));
                self.by_signal = found;
                if self.problem.is_some() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
            }
            Err(problem) => {
                self.problem = Some(problem);
                ControlFlow::Break(())
            }
        }
    }

    fn value(&mut self, at: Moment, signal: usize, value: Value) -> ControlFlow<()> {
        self.now = at;
        for n in 0..self.by_signal.get(signal).map_or(0, Vec::len) {
            let (wire, is_minus) = self.by_signal[signal][n];
            let has_minus = self.wiring.wires[wire].minus.is_some();
            if let Some(level) = self.comparators[wire].take(value, is_minus, has_minus) {
                if self.deglitch > 0 {
                    self.maybe(at, wire, level)?;
                } else {
                    self.change(at, wire, level)?;
                }
            }
        }
        ControlFlow::Continue(())
    }

    fn pause(&mut self) {
        // A transfer is handed on as a whole.
        if let Line::Uart(_) = &self.line {
            let _ = self.forward(From::Device, None, 0);
            let _ = self.forward(From::Host, None, 0);
        }
        self.sink.pause();
    }

    fn until(&mut self, at: Moment) -> ControlFlow<()> {
        self.now = at;
        if self.deglitch == 0 {
            return self.nothing_until(at);
        }
        self.confirm_until(at)?;
        let sure = at.picoseconds().saturating_sub(self.deglitch);
        self.nothing_until(Moment::from_picoseconds(sure))
    }
}

impl<S: LineSink> Listener<S> {
    /// A level that may be too short.
    fn maybe(&mut self, at: Moment, wire: usize, level: Option<bool>) -> ControlFlow<()> {
        self.confirm_until(at)?;
        // The level before it was too short: it never was.
        if let Some(index) = self.unsure.iter().position(|(_, other, _)| *other == wire) {
            self.unsure.remove(index);
            self.glitches += 1;
            let before = self.sure[wire];
            if before == level {
                return ControlFlow::Continue(());
            }
        }
        self.unsure.push_back((at, wire, level));
        ControlFlow::Continue(())
    }

    /// What lasted until a moment is sure.
    fn confirm_until(&mut self, at: Moment) -> ControlFlow<()> {
        while let Some((since, wire, level)) = self.unsure.front().copied() {
            if at.since(since) < self.deglitch {
                break;
            }
            self.unsure.pop_front();
            self.sure[wire] = level;
            self.change(since, wire, level)?;
        }
        ControlFlow::Continue(())
    }

    /// A wire has another level, after all that ended before.
    fn change(&mut self, at: Moment, wire: usize, level: Option<bool>) -> ControlFlow<()> {
        // What ended on another wire before this comes before it.
        if let Line::Uart(_) | Line::Usb(_) = self.line
            && self.told_until != at
        {
            self.nothing_until(at)?;
        }
        self.level(at, wire, level)
    }

    fn nothing_until(&mut self, at: Moment) -> ControlFlow<()> {
        self.told_until = at;
        if at <= self.due {
            return ControlFlow::Continue(());
        }
        match &mut self.line {
            Line::Uart(receivers) => {
                let mut came = [None, None];
                let mut pause = 0;
                for (uart, came) in receivers.iter_mut().zip(&mut came) {
                    if let Some(uart) = uart {
                        pause = uart.character();
                        uart.until(at, &mut |byte| *came = Some(byte));
                    }
                }
                self.due = due(receivers);
                for (from, byte) in [From::Device, From::Host].into_iter().zip(came) {
                    if let Some(byte) = byte {
                        self.character(from, byte, pause)?;
                    }
                }
                self.tell_flaws();
                ControlFlow::Continue(())
            }
            Line::Can(can, _) => {
                can.until(at, &mut self.events);
                self.tell()
            }
            Line::Code(code) => {
                code.until(at, &mut self.events);
                self.tell()
            }
            Line::Spi(_) | Line::I2c(..) => match self.changing {
                Some(changing) if changing < at => self.settle(),
                _ => ControlFlow::Continue(()),
            },
            Line::Usb(_) => {
                if self.changing.is_some_and(|changing| changing < at) {
                    self.settle()?;
                }
                if let Line::Usb(usb) = &mut self.line {
                    usb.until(at, &mut self.events);
                }
                self.tell()
            }
        }
    }
}
