//! The universal serial bus at low and full speed, from the levels of its two wires: packets, and transactions of them (USB 2.0, chapters 7
//! and 8).

use emberwort_model::medium::UsbSpeed;
use emberwort_model::medium::usb::{self, PacketId};

use super::event::{Count, Event, From, Levels, LineByte};
use crate::wave::Moment;

/// What is wrong with a packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Flaw {
    /// Seven 1 in sequence, where a 0 has to stand behind six.
    Stuffing,
    /// It ends inside of a byte, or is shorter or longer than its kind can be.
    Length,
    /// The two halves of its first byte do not agree, or it is of a kind that this speed does not have.
    Kind,
    /// The checksum of its token is wrong.
    TokenChecksum,
    /// The checksum of its data is wrong.
    DataChecksum,
}

/// What was seen beside the bytes.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct UsbObservations {
    /// How often each wire changed: D+, D-.
    pub changes: [u64; 2],
    /// Packets without a flaw, in the order of [`PacketId::ALL`].
    pub packets: [u64; PacketId::ALL.len()],
    /// Of each flaw how often it came.
    pub flaws: Vec<(Flaw, Count)>,
    /// Data that nobody acknowledged.
    pub unheard: Count,
    /// Data without a token in front of them.
    pub stray: Count,
    /// Data that came with the toggle of the data before them, to or from the same endpoint, although those were acknowledged.
    pub repeated: Count,
    /// How often both wires were low for longer than the end of a packet.
    pub resets: Count,
    /// Whether the recording begins inside of a packet.
    pub begins_inside: bool,
    /// Whether it ends inside of one.
    pub ends_inside: bool,
    /// For how long the wires were in the state in which they rest, and in the one which is its opposite, in picoseconds.
    pub rest: [u64; 2],
    /// The sum of the times between changes inside of packets, in picoseconds, and of the bits in them.
    measured: (u64, u64),
    /// The shortest and the longest pulse of one bit, in picoseconds.
    pub spread: Option<(u64, u64)>,
}

impl UsbObservations {
    /// The bit rate, measured inside of packets; `None` if there were too few.
    pub fn bitrate(&self) -> Option<f64> {
        let (picoseconds, bits) = self.measured;
        (bits >= 100 && picoseconds > 0).then(|| bits as f64 * 1e12 / picoseconds as f64)
    }

    /// How many packets without a flaw there were.
    pub fn good(&self) -> u64 {
        self.packets.iter().sum()
    }

    fn flaw(&mut self, flaw: Flaw, at: Moment) {
        let index = self.flaws.iter().position(|(known, _)| *known == flaw).unwrap_or_else(|| {
            self.flaws.push((flaw, Count::default()));
            self.flaws.len() - 1
        });
        self.flaws[index].1.add(at);
    }
}

/// The state of the two wires (section 7.1.7.1).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Line {
    /// As at rest.
    J,
    /// The other way around.
    K,
    /// Both low.
    Se0,
    /// Both high, or nobody knows.
    Other,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum State {
    /// Nobody knows what stands on the bus, until it rests.
    Lost,
    /// At rest.
    Idle,
    /// Inside of a synchronisation, of which so many bits came.
    Sync(u32),
    /// Inside of a packet.
    Packet,
}

/// A token, and what came behind it.
#[derive(Clone, Copy, Debug)]
struct Transaction {
    from: From,
    address: u8,
    endpoint: u8,
    /// When its data began, and with which toggle, if they came.
    data: Option<(Moment, bool)>,
}

/// A receiver of one bus, fed with the levels of its two wires.
#[derive(Clone, Debug)]
pub struct Usb {
    speed: UsbSpeed,
    plus: usize,
    minus: usize,
    /// Whether data are handed on that nobody acknowledged, and all other packets as those of the line.
    pub all: bool,
    bit: u64,
    state: State,
    line: Line,
    since: Moment,
    /// The last state of the line before the one at hand that was not too short to be one, and since when; and when it ended.
    before: Option<(Line, Moment, Moment)>,
    ones: u32,
    /// The bits of the packet at hand that are no whole byte yet.
    shifted: u8,
    count: u32,
    begun: Moment,
    first_bit: Moment,
    bytes: Vec<LineByte>,
    transaction: Option<Transaction>,
    /// The last toggle that was acknowledged, by address, endpoint and direction.
    toggles: Vec<((u8, u8, bool), bool)>,
    /// What was seen.
    pub observed: UsbObservations,
}

/// The address of an endpoint, as its descriptor has it.
fn key_of(from: From, endpoint: u8) -> u64 {
    u64::from(endpoint) | if from == From::Device { usb::FROM_DEVICE } else { 0 }
}

/// A packet has at most so many bytes: the longest data, what it is, and the checksum.
const LONGEST: usize = 1023 + 3;

impl Usb {
    /// For a speed, and the places of its two wires in the wiring.
    pub fn new(speed: UsbSpeed, plus: usize, minus: usize) -> Self {
        Self {
            speed,
            plus,
            minus,
            all: false,
            bit: 1_000_000_000_000 / u64::from(speed.bitrate()),
            state: State::Lost,
            line: Line::Other,
            since: Moment::default(),
            before: None,
            ones: 0,
            shifted: 0,
            count: 0,
            begun: Moment::default(),
            first_bit: Moment::default(),
            bytes: Vec::new(),
            transaction: None,
            toggles: Vec::new(),
            observed: UsbObservations::default(),
        }
    }

    /// Its speed.
    pub fn speed(&self) -> UsbSpeed {
        self.speed
    }

    fn line(&self, levels: &Levels) -> Line {
        // At rest the device pulls up D+ at full speed, and D- at low speed.
        let rests = (self.speed == UsbSpeed::Full, self.speed == UsbSpeed::Low);
        match (levels[self.plus], levels[self.minus]) {
            (Some(false), Some(false)) => Line::Se0,
            (Some(plus), Some(minus)) if (plus, minus) == rests => Line::J,
            (Some(plus), Some(minus)) if plus != minus => Line::K,
            _ => Line::Other,
        }
    }

    /// At a moment some levels became others.
    pub fn step(&mut self, at: Moment, before: &Levels, after: &Levels, out: &mut Vec<Event>) {
        for (wire, changes) in [self.plus, self.minus].into_iter().zip(&mut self.observed.changes) {
            *changes += u64::from(before[wire].is_some() && before[wire] != after[wire]);
        }
        let line = self.line(after);
        if line != self.line {
            self.change(at, line, out);
        }
    }

    /// The line has another state from a moment on.
    fn change(&mut self, at: Moment, line: Line, out: &mut Vec<Event>) {
        let (was, since) = (std::mem::replace(&mut self.line, line), std::mem::replace(&mut self.since, at));
        let is_blur = matches!(was, Line::Se0 | Line::Other) && at.since(since) < self.bit / 2;
        if !is_blur {
            // What stood before is over, and what stood at last comes behind it.
            if let Some((line, from, until)) = self.before.replace((was, since, at)) {
                self.lasted(line, from, until, out);
            }
        } else if let Some((before, from, until)) = self.before {
            // The two wires do not change at once: the moment is the middle.
            if before == line {
                self.since = from;
                self.before = None;
            } else {
                let middle = Moment::from_picoseconds(u64::midpoint(until.picoseconds(), at.picoseconds()));
                self.before = Some((before, from, middle));
                self.since = middle;
            }
        }
    }

    /// Nothing else happened up to this moment.
    pub fn until(&mut self, at: Moment, out: &mut Vec<Event>) {
        // What ends a packet lasts long enough to be sure of what stood before it.
        if at.since(self.since) >= self.bit / 2
            && let Some((line, from, until)) = self.before.take()
        {
            self.lasted(line, from, until, out);
        }
    }

    /// The waveform is over.
    pub fn finish(&mut self, at: Moment, out: &mut Vec<Event>) {
        if let Some((line, from, until)) = self.before.take() {
            self.lasted(line, from, until, out);
        }
        self.lasted(self.line, self.since, at, out);
        self.observed.ends_inside = self.state == State::Packet;
        self.close(out);
    }

    /// The line had a state from a moment to another.
    fn lasted(&mut self, line: Line, from: Moment, until: Moment, out: &mut Vec<Event>) {
        let width = until.since(from);
        let bits = (width + self.bit / 2) / self.bit;
        match line {
            Line::J => self.observed.rest[0] += width,
            Line::K => self.observed.rest[1] += width,
            _ => {}
        }
        if line == Line::Se0 {
            match self.state {
                State::Packet => self.packet(until, out),
                State::Lost if self.observed.good() == 0 && from > Moment::default() => {
                    self.observed.begins_inside |= bits < 4
                }
                _ => {}
            }
            self.state = State::Idle;
            // The end of a packet is two bits long; a device takes more than 2.5 us for a reset (section 7.1.7.5).
            if width >= 2_500_000 {
                self.observed.resets.add(from);
                self.toggles.clear();
            }
            return;
        }
        if line == Line::Other {
            self.state = State::Lost;
            return;
        }
        let measures = matches!(self.state, State::Packet | State::Sync(1..)) && (1..=7).contains(&bits);
        if measures {
            self.observed.measured.0 += width;
            self.observed.measured.1 += bits;
            if bits == 1 {
                let (least, most) = self.observed.spread.unwrap_or((width, width));
                self.observed.spread = Some((least.min(width), most.max(width)));
            }
        }
        self.state = match self.state {
            // Inside of a packet the line changes at least every seven bits.
            State::Lost if line == Line::J && bits >= 8 => State::Idle,
            State::Idle if line == Line::J => State::Idle,
            State::Idle if line == Line::K && bits == 1 => {
                self.begun = from;
                State::Sync(1)
            }
            State::Sync(count) if bits == 1 => State::Sync(count + 1),
            // Hubs may swallow bits at the beginning of a synchronisation (section 7.1.14): KK is its end, behind at least two changes.
            State::Sync(3..) if line == Line::K && (2..=7).contains(&bits) => {
                (self.ones, self.shifted, self.count) = (1, 0, 0);
                self.bytes.clear();
                for n in 2..bits {
                    self.bit(from, n, true);
                }
                State::Packet
            }
            State::Packet => {
                let mut is_right = self.bit(from, 0, false);
                for n in 1..bits.min(8) {
                    is_right &= self.bit(from, n, true);
                }
                match (is_right, bits) {
                    (true, ..8) => State::Packet,
                    _ => {
                        self.observed.flaw(Flaw::Stuffing, self.begun);
                        out.push(self.transfer(false, until));
                        self.close(out);
                        self.show(From::Unknown, out);
                        if line == Line::J && bits >= 8 { State::Idle } else { State::Lost }
                    }
                }
            }
            State::Lost => State::Lost,
            _ if line == Line::J && bits >= 2 => State::Idle,
            State::Idle | State::Sync(_) => State::Lost,
        };
    }

    /// A bit of a packet, the `n`th behind a change. Returns `false` if none can stand here.
    fn bit(&mut self, from: Moment, n: u64, bit: bool) -> bool {
        if self.ones == 6 {
            self.ones = 0;
            return !bit;
        }
        self.ones = if bit { self.ones + 1 } else { 0 };
        let start = from.after(n * self.bit);
        if self.count == 0 {
            self.first_bit = start;
        }
        self.shifted = self.shifted >> 1 | u8::from(bit) << 7;
        self.count += 1;
        if self.count == 8 {
            self.count = 0;
            if self.bytes.len() <= LONGEST {
                let byte = LineByte { byte: self.shifted, start: self.first_bit, end: start.after(self.bit) };
                self.bytes.push(byte);
            }
        }
        true
    }

    /// The packet at hand is over, and its end too.
    fn packet(&mut self, end: Moment, out: &mut Vec<Event>) {
        // A hub may make the last bit longer, so that one more is seen (section 7.1.9.1).
        let fits = self.count <= 1 && !self.bytes.is_empty();
        let id = self.bytes.first().and_then(|byte| PacketId::of(byte.byte));
        let flaw = match id {
            _ if !fits => Some(Flaw::Length),
            None => Some(Flaw::Kind),
            Some(PacketId::Data0 | PacketId::Data1) => match self.bytes.len().checked_sub(3) {
                Some(most) if most <= self.speed.most() => {
                    let bytes: Vec<u8> = self.bytes[1..].iter().map(|byte| byte.byte).collect();
                    let (bytes, checksum) = bytes.split_at(most);
                    (usb::crc16(bytes).to_le_bytes() != *checksum).then_some(Flaw::DataChecksum)
                }
                _ => Some(Flaw::Length),
            },
            Some(PacketId::Out | PacketId::In | PacketId::Setup | PacketId::StartOfFrame) => match self.token() {
                Some(bits) => (u16::from(usb::crc5(bits & 0x7FF)) != bits >> 11).then_some(Flaw::TokenChecksum),
                None => Some(Flaw::Length),
            },
            Some(PacketId::Ack | PacketId::Nak | PacketId::Stall | PacketId::Preamble) => {
                (self.bytes.len() != 1).then_some(Flaw::Length)
            }
        };
        out.push(self.transfer(flaw.is_none(), end));
        if let Some(flaw) = flaw {
            self.observed.flaw(flaw, self.begun);
            self.close(out);
            self.show(From::Unknown, out);
            return;
        }
        let id = id.expect("a packet without a flaw has one");
        if let Some(index) = PacketId::ALL.iter().position(|other| *other == id) {
            self.observed.packets[index] += 1;
        }
        let answers = match &self.transaction {
            Some(Transaction { from: From::Device, data: Some(_), .. }) => From::Host,
            Some(_) => From::Device,
            None => From::Unknown,
        };
        match id {
            PacketId::Out | PacketId::In | PacketId::Setup => {
                self.close(out);
                self.show(From::Host, out);
                let from = if id == PacketId::In { From::Device } else { From::Host };
                let bits = self.token().unwrap_or(0);
                let (address, endpoint) = ((bits & 0x7F) as u8, (bits >> 7 & 0xF) as u8);
                self.transaction = Some(Transaction { from, address, endpoint, data: None });
                if id == PacketId::Setup {
                    // A request begins with toggle 0, and what follows it with 1 (section 8.5.3).
                    self.toggles.retain(|((of, endpoint_of, _), _)| (*of, *endpoint_of) != (address, endpoint));
                }
            }
            PacketId::Data0 | PacketId::Data1 => match &mut self.transaction {
                Some(transaction) if transaction.data.is_none() => {
                    transaction.data = Some((self.begun, id == PacketId::Data1));
                    let data = &self.bytes[1..self.bytes.len() - 2];
                    out.extend(data.iter().map(|byte| Event::Byte(transaction.from, *byte)));
                }
                _ => {
                    self.observed.stray.add(self.begun);
                    self.show(From::Unknown, out);
                }
            },
            PacketId::Ack => {
                self.acknowledged(out);
                self.show(answers, out);
            }
            PacketId::Nak | PacketId::Stall => {
                // It is the answer in place of data, or to data that have to come again.
                if let Some(transaction) = self.transaction.take()
                    && transaction.data.is_some()
                {
                    self.forward(transaction, out);
                }
                self.show(answers, out);
            }
            // What follows a preamble has low speed, and is none of this bus.
            PacketId::StartOfFrame | PacketId::Preamble => {
                self.close(out);
                self.show(From::Host, out);
            }
        }
    }

    /// The packet at hand carries no message, and is shown if all are.
    fn show(&self, from: From, out: &mut Vec<Event>) {
        if self.all && !self.bytes.is_empty() {
            out.extend(self.bytes.iter().map(|byte| Event::PacketByte(*byte)));
            out.push(Event::LinePacket(from));
        }
    }

    /// The packet at hand as a transfer. The two wires do not change at once, so half a bit before and behind belongs to it.
    fn transfer(&self, is_right: bool, end: Moment) -> Event {
        let start = Moment::from_picoseconds(self.begun.picoseconds().saturating_sub(self.bit / 2));
        Event::Transfer { is_right, start, end: end.after(self.bit / 2) }
    }

    /// The two bytes of a token, the lower one first.
    fn token(&self) -> Option<u16> {
        let [_, low, high] = self.bytes.as_slice() else { return None };
        Some(u16::from_le_bytes([low.byte, high.byte]))
    }

    /// The data at hand were acknowledged.
    fn acknowledged(&mut self, out: &mut Vec<Event>) {
        let Some(transaction) = self.transaction.take() else { return };
        let Transaction { from, address, endpoint, data: Some((begun, toggle)) } = transaction else { return };
        let key = (address, endpoint, from == From::Device);
        match self.toggles.iter_mut().find(|(known, _)| *known == key) {
            Some((_, last)) if *last == toggle => self.observed.repeated.add(begun),
            Some((_, last)) => *last = toggle,
            None => self.toggles.push((key, toggle)),
        }
        out.push(Event::Packet { from, key: Some(key_of(from, endpoint)), node: Some(address.into()) });
    }

    /// Data that nobody acknowledged: they are handed on, or left out.
    fn forward(&mut self, transaction: Transaction, out: &mut Vec<Event>) {
        let Transaction { from, address, endpoint, .. } = transaction;
        out.push(match self.all {
            true => Event::Packet { from, key: Some(key_of(from, endpoint)), node: Some(address.into()) },
            false => Event::Dropped(from),
        });
    }

    /// Nothing else belongs to the transaction at hand.
    fn close(&mut self, out: &mut Vec<Event>) {
        if let Some(transaction) = self.transaction.take()
            && let Some((begun, _)) = transaction.data
        {
            self.observed.unheard.add(begun);
            self.forward(transaction, out);
        }
    }
}
