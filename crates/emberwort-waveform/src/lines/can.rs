//! Controller area networks, CAN FD included (ISO 11898-1:2015), from the level of the bus.

use emberwort_model::budget::wire_time::can::FD_SIZES;
use emberwort_model::plan::EXTENDED_ID;

use super::event::{Count, Event, From, LineByte};
use crate::wave::Moment;

/// Speeds of a network, and where its bits are looked at.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Speeds {
    /// Bits a second.
    pub bitrate: u32,
    /// Bits a second of the data of CAN FD frames, if there are some.
    pub data_bitrate: Option<u32>,
    /// Where in a bit its level is taken, in percent.
    pub sample: u8,
}

/// What is wrong with a frame.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Flaw {
    /// Six equal bits where five are the most; an error frame is one, too.
    Stuffing,
    /// Another checksum than that of its bits.
    Checksum,
    /// A bit that has to be recessive, or dominant, is the other one.
    Form,
    /// It is one of CAN FD, and the definition says no `fd`.
    Fd,
}

/// What was seen beside the bytes.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct CanObservations {
    /// How often the level changed.
    pub edges: u64,
    /// Frames that ask for data.
    pub remote: u64,
    /// Frames that nobody acknowledged.
    pub unheard: Count,
    /// Overload frames.
    pub overloads: Count,
    /// Of each flaw how often it came.
    pub flaws: Vec<(Flaw, Count)>,
    /// Frames of CAN FD.
    pub fd: u64,
    /// Frames at the beginning that were not seen whole.
    pub left_out: u64,
    /// The sum of the times between edges of frames at the nominal bit rate, in picoseconds, and of the bits in them.
    measured: (u64, u64),
    /// The shortest and the longest pulse of one bit inside of frames at the nominal bit rate, in picoseconds.
    pub spread: Option<(u64, u64)>,
    /// For how long the bus was dominant, in picoseconds.
    pub dominant: u64,
}

impl CanObservations {
    /// The nominal bit rate, measured on the edges inside of frames; `None` if there were too few.
    pub fn bitrate(&self) -> Option<f64> {
        let (picoseconds, bits) = self.measured;
        (bits >= 100 && picoseconds > 0).then(|| bits as f64 * 1e12 / picoseconds as f64)
    }

    fn flaw(&mut self, flaw: Flaw, at: Moment) {
        let index = self.flaws.iter().position(|(known, _)| *known == flaw).unwrap_or_else(|| {
            self.flaws.push((flaw, Count::default()));
            self.flaws.len() - 1
        });
        self.flaws[index].1.add(at);
    }
}

#[derive(Clone, Debug)]
enum State {
    /// Until the bus was recessive for 11 bits, nobody knows where frames begin.
    Joining,
    /// The bus rests.
    Idle,
    /// A frame, up to the end of its data (classic frames: of their checksum).
    Stuffed,
    /// The checksum of a CAN FD frame: its bits so far, the fixed stuff bits left out, and how many came with these.
    FdChecksum { bits: u32, value: u32 },
    /// Behind the checksum: delimiter, acknowledge slot, its delimiter, end of frame; how many came.
    Tail(u32),
    /// Three recessive bits behind a frame, which ended then.
    Intermission(Moment),
}

/// A receiver of one bus, fed with its level.
#[derive(Clone, Debug)]
pub struct Can {
    speeds: Speeds,
    bit: u64,
    data_bit: u64,
    state: State,
    is_recessive: bool,
    /// Since when it is.
    since: Moment,
    /// When the next bit that is looked at begins.
    begins: Moment,
    /// Whether bits have the data bit rate.
    is_fast: bool,
    started: Moment,
    /// The bits of the frame at hand without stuff bits, from the start of frame on.
    bits: Vec<bool>,
    run: u32,
    last: bool,
    stuffed: u32,
    layout: Layout,
    /// The checksums of CAN FD over all bits, those put in by stuffing included: of 17 and of 21 bits.
    crcs: [u32; 2],
    /// When the bytes of data began and ended.
    times: Vec<(Moment, Moment)>,
    is_checksum_right: bool,
    has_seen_idle: bool,
    /// What was seen.
    pub observed: CanObservations,
}

/// What the bits of the frame at hand say of it so far.
#[derive(Clone, Copy, Debug, Default)]
struct Layout {
    is_extended: bool,
    is_fd: bool,
    is_remote: bool,
    /// Where the data begin, and how many bytes there are.
    data: Option<(usize, usize)>,
}

/// Polynomials of CRC-17 and CRC-21 (ISO 11898-1:2015, 10.4.2.6).
const FD_CRCS: [(u32, u32); 2] = [(17, 0x1_685B), (21, 0x10_2899)];

fn crc_step(crc: u32, bit: bool, width: u32, polynomial: u32) -> u32 {
    let next = bit != (crc >> (width - 1) & 1 == 1);
    (crc << 1 & ((1 << width) - 1)) ^ if next { polynomial } else { 0 }
}

fn number(bits: &[bool]) -> u32 {
    bits.iter().fold(0, |number, bit| number << 1 | u32::from(*bit))
}

/// The count of stuff bits in front of the checksum of a CAN FD frame: modulo 8 in Gray code, then a bit that makes the parity even.
pub(crate) fn fd_stuff_count(stuffed: u32) -> u32 {
    let count = stuffed % 8;
    let gray = count ^ count >> 1;
    (gray << 1) | (gray.count_ones() % 2)
}

/// Whether the checksum of a CAN FD frame with so many bytes has 17 bits (the first of [`FD_CRCS`]) or 21.
fn fd_width(bytes: usize) -> usize {
    usize::from(bytes > 16)
}

/// The checksum of a CAN FD frame with so many bytes over its bits, stuff bits included, and the count of these; and how many bits it has.
pub(crate) fn fd_checksum(bits: &[bool], stuff_count: u32, bytes: usize) -> (u32, u32) {
    let (width, polynomial) = FD_CRCS[fd_width(bytes)];
    let count = (0..4).rev().map(|n| stuff_count >> n & 1 == 1);
    let all = bits.iter().copied().chain(count);
    (all.fold(1 << (width - 1), |crc, bit| crc_step(crc, bit, width, polynomial)), width)
}

impl Can {
    /// For speeds.
    pub fn new(speeds: Speeds) -> Self {
        let picoseconds = |bitrate: u32| 1_000_000_000_000 / u64::from(bitrate.max(1));
        let bit = picoseconds(speeds.bitrate);
        Self {
            speeds,
            bit,
            data_bit: speeds.data_bitrate.map_or(bit, picoseconds),
            state: State::Joining,
            is_recessive: false,
            since: Moment::default(),
            begins: Moment::default(),
            is_fast: false,
            started: Moment::default(),
            bits: Vec::with_capacity(700),
            run: 0,
            last: true,
            stuffed: 0,
            layout: Layout::default(),
            crcs: [0; 2],
            times: Vec::with_capacity(64),
            is_checksum_right: false,
            has_seen_idle: false,
            observed: CanObservations::default(),
        }
    }

    /// Its speeds.
    pub fn speeds(&self) -> Speeds {
        self.speeds
    }

    fn bit_time(&self) -> u64 {
        if self.is_fast { self.data_bit } else { self.bit }
    }

    /// Where in a bit its level is taken here, in picoseconds: safely inside of it, and in front of where receivers take it, where the
    /// bit rate changes.
    fn look_at(&self) -> u64 {
        self.bit_time() * (85 * u64::from(self.speeds.sample)).min(6_000) / 10_000
    }

    /// How long a bit is in which one bit time becomes another, where receivers look at it.
    fn change_at(&self, from: u64, to: u64) -> u64 {
        let sample = u64::from(self.speeds.sample);
        (from * sample + to * (100 - sample)) / 100
    }

    /// From this moment on the bus has another level; one that nobody knows counts as recessive.
    pub fn edge(&mut self, at: Moment, is_recessive: bool, out: &mut Vec<Event>) {
        self.until(at, out);
        self.observed.edges += 1;
        // The first level is no edge: nobody knows what stood before.
        if is_recessive && self.observed.edges > 1 {
            self.observed.dominant += at.since(self.since);
        }
        let width = at.since(self.since);
        (self.is_recessive, self.since) = (is_recessive, at);
        match self.state {
            State::Stuffed | State::FdChecksum { .. } | State::Tail(_) => {
                if !self.is_fast && self.layout.data.is_none() && matches!(self.state, State::Stuffed) {
                    let bits = (width + self.bit / 2) / self.bit;
                    if (1..=6).contains(&bits) && self.bits.len() > 1 {
                        self.observed.measured.0 += width;
                        self.observed.measured.1 += bits;
                        if bits == 1 {
                            let (least, most) = self.observed.spread.unwrap_or((width, width));
                            self.observed.spread = Some((least.min(width), most.max(width)));
                        }
                    }
                }
                // Receivers follow edges to the dominant level only: the others come late on a bus that nobody drives.
                if !is_recessive {
                    self.begins = at;
                }
            }
            State::Idle if !is_recessive => self.start(at),
            State::Intermission(ended) if !is_recessive => {
                // A dominant bit in the first two of three is an overload flag.
                if at.since(ended) < self.bit * 3 / 2 {
                    self.observed.overloads.add(at);
                    self.state = State::Joining;
                } else {
                    self.start(at);
                }
            }
            State::Joining | State::Idle | State::Intermission(_) => {}
        }
    }

    fn start(&mut self, at: Moment) {
        self.state = State::Stuffed;
        self.is_fast = false;
        self.started = at;
        self.begins = at;
        self.bits.clear();
        self.times.clear();
        (self.run, self.last, self.stuffed) = (0, true, 0);
        self.layout = Layout::default();
        // ISO 11898-1:2015 begins with the highest bit set.
        self.crcs = [1 << 16, 1 << 20];
    }

    /// Nothing else happened up to this moment.
    pub fn until(&mut self, at: Moment, out: &mut Vec<Event>) {
        loop {
            match self.state {
                State::Joining => {
                    if self.is_recessive && at.since(self.since) >= self.bit * 21 / 2 {
                        if !self.has_seen_idle && self.observed.edges > 1 {
                            self.observed.left_out += 1;
                        }
                        self.has_seen_idle = true;
                        self.state = State::Idle;
                    }
                    return;
                }
                State::Idle | State::Intermission(_) => return,
                _ if self.begins.after(self.look_at()) >= at => return,
                _ => {
                    let begun = self.begins;
                    self.begins = begun.after(self.bit_time());
                    self.sample(begun, self.is_recessive, out);
                }
            }
        }
    }

    /// The waveform is over.
    pub fn finish(&mut self, at: Moment) {
        if !self.is_recessive {
            self.observed.dominant += at.since(self.since);
        }
    }

    /// The frame at hand is none.
    fn flaw(&mut self, flaw: Flaw, out: &mut Vec<Event>) {
        self.observed.flaw(flaw, self.started);
        // The bits at hand, and the six or more of the error flag.
        let end = self.begins.after(6 * self.bit);
        out.push(Event::Transfer { is_right: false, start: self.started, end });
        self.state = State::Joining;
        self.is_fast = false;
        for (n, (start, end)) in self.times.iter().enumerate() {
            let byte = self.data_byte(n);
            out.push(Event::Byte(From::Unknown, LineByte { byte, start: *start, end: *end }));
        }
        out.push(Event::Dropped(From::Unknown));
    }

    fn data_byte(&self, n: usize) -> u8 {
        let (begin, _) = self.layout.data.unwrap_or_default();
        self.bits.get(begin + 8 * n..begin + 8 * n + 8).map_or(0, |bits| number(bits) as u8)
    }

    /// A bit that began at a moment.
    fn sample(&mut self, at: Moment, bit: bool, out: &mut Vec<Event>) {
        match self.state {
            State::Stuffed => {
                if self.run == 5 {
                    if bit == self.last {
                        return self.flaw(Flaw::Stuffing, out);
                    }
                    self.stuffed += 1;
                    (self.run, self.last) = (1, bit);
                    self.step_crcs(bit);
                    // A stuff bit may stand behind the last bit of a classic checksum.
                    if self.is_classic_over() {
                        self.state = State::Tail(0);
                    }
                    return;
                }
                self.run = if self.run > 0 && bit == self.last { self.run + 1 } else { 1 };
                self.last = bit;
                self.bits.push(bit);
                self.step_crcs(bit);
                self.look(at, bit, out);
            }
            State::FdChecksum { bits, value } => self.fd_checksum(bit, bits, value, out),
            State::Tail(count) => self.tail(at, bit, count, out),
            State::Joining | State::Idle | State::Intermission(_) => {}
        }
    }

    fn step_crcs(&mut self, bit: bool) {
        for (crc, (width, polynomial)) in self.crcs.iter_mut().zip(FD_CRCS) {
            *crc = crc_step(*crc, bit, width, polynomial);
        }
    }

    fn is_classic_over(&self) -> bool {
        let over = |(begin, bytes): (usize, usize)| self.bits.len() == begin + 8 * bytes + 15;
        !self.layout.is_fd && self.layout.data.is_some_and(over)
    }

    /// The frame has one bit more.
    fn look(&mut self, at: Moment, bit: bool, out: &mut Vec<Event>) {
        let count = self.bits.len();
        // Start 1, identifier 11, RTR or SRR, IDE; with 29 bits of identifier 18 more, and RTR.
        if count == 14 {
            self.layout.is_extended = bit;
        }
        let flags = if self.layout.is_extended { 33 } else { 14 };
        if let Some((begin, bytes)) = self.layout.data {
            if count > begin && count <= begin + 8 * bytes {
                let end = at.after(self.bit_time());
                match self.times.last_mut() {
                    Some(last) if (count - begin) % 8 != 1 => last.1 = end,
                    _ => self.times.push((at, end)),
                }
            }
            self.after_data(count, begin, bytes);
            return;
        }
        if count <= flags {
            return;
        }
        // Which bit behind RTR and IDE this is: 1 is FDF (or r1, r0 of classic frames).
        let place = count - flags;
        let remote = self.bits[if self.layout.is_extended { 32 } else { 12 }];
        if place == 1 {
            self.layout.is_fd = bit;
            if bit {
                self.observed.fd += 1;
                if self.speeds.data_bitrate.is_none() {
                    return self.flaw(Flaw::Fd, out);
                }
            }
        }
        let length = if self.layout.is_fd {
            match place {
                // The reserved bit is dominant; what is recessive there is of another protocol.
                2 if bit => return self.flaw(Flaw::Form, out),
                3 if bit => {
                    // The bit rate changes where the bit that says so is looked at.
                    self.is_fast = true;
                    self.begins = at.after(self.change_at(self.bit, self.data_bit));
                }
                _ => {}
            }
            5..=8
        } else if self.layout.is_extended {
            3..=6
        } else {
            2..=5
        };
        if place != *length.end() {
            return;
        }
        let code = number(&self.bits[count - 4..]) as usize;
        self.layout.is_remote = remote && !self.layout.is_fd;
        let bytes = match self.layout {
            Layout { is_remote: true, .. } => 0,
            Layout { is_fd: true, .. } => FD_SIZES[code],
            _ => code.min(8),
        };
        self.layout.data = Some((count, bytes));
        self.after_data(count, count, bytes);
    }

    /// The data are over, or the checksum of a classic frame.
    fn after_data(&mut self, count: usize, begin: usize, bytes: usize) {
        let data_end = begin + 8 * bytes;
        if self.layout.is_fd {
            if count == data_end {
                self.state = State::FdChecksum { bits: 0, value: 0 };
            }
            return;
        }
        if count == data_end + 15 {
            let crc = self.bits[..data_end].iter().fold(0, |crc, bit| crc_step(crc, *bit, 15, 0x4599));
            self.is_checksum_right = crc == number(&self.bits[data_end..]);
            if self.run < 5 {
                self.state = State::Tail(0);
            }
        }
    }

    /// A bit of the checksum of a CAN FD frame: a fixed stuff bit in front of every four.
    fn fd_checksum(&mut self, bit: bool, bits: u32, value: u32, out: &mut Vec<Event>) {
        let is_stuff = bits.is_multiple_of(5);
        if is_stuff && bit == self.last {
            return self.flaw(Flaw::Stuffing, out);
        }
        self.last = bit;
        let value = if is_stuff { value } else { value << 1 | u32::from(bit) };
        let bits = bits + 1;
        let bytes = self.layout.data.map_or(0, |(_, bytes)| bytes);
        let index = fd_width(bytes);
        let (width, _) = FD_CRCS[index];
        let data_bits = bits - bits.div_ceil(5);
        if data_bits <= 4 && !is_stuff {
            // The count of stuff bits belongs to what the checksum is over.
            self.step_crcs(bit);
        }
        if data_bits < 4 + width {
            self.state = State::FdChecksum { bits, value };
            return;
        }
        let stuff_count = value >> width;
        let is_right = value & ((1 << width) - 1) == self.crcs[index];
        self.is_checksum_right = is_right && stuff_count == fd_stuff_count(self.stuffed);
        self.state = State::Tail(0);
    }

    fn tail(&mut self, at: Moment, bit: bool, count: u32, out: &mut Vec<Event>) {
        match count {
            // The delimiter of the checksum: from here on the nominal bit rate.
            0 => {
                if std::mem::take(&mut self.is_fast) {
                    self.begins = at.after(self.change_at(self.data_bit, self.bit));
                }
                if !bit {
                    return self.flaw(Flaw::Form, out);
                }
                if !self.is_checksum_right {
                    return self.flaw(Flaw::Checksum, out);
                }
            }
            1 if bit => self.observed.unheard.add(self.started),
            1 => {}
            // The last bit of the end of a frame may be dominant: receivers took it before.
            9 => {
                self.whole(at, out);
                self.state = State::Intermission(at.after(self.bit));
                if !bit {
                    self.observed.overloads.add(at);
                    self.state = State::Joining;
                }
                return;
            }
            // Receivers of CAN FD allow the acknowledge to come a bit late.
            2 if !bit && self.layout.is_fd => {}
            _ if !bit => return self.flaw(Flaw::Form, out),
            _ => {}
        }
        self.state = State::Tail(count + 1);
    }

    /// The frame at hand is whole: its last bit began at a moment.
    fn whole(&mut self, at: Moment, out: &mut Vec<Event>) {
        out.push(Event::Transfer { is_right: true, start: self.started, end: at.after(self.bit) });
        if self.layout.is_remote {
            self.observed.remote += 1;
            return;
        }
        let base = u64::from(number(&self.bits[1..12]));
        let key = match self.layout.is_extended {
            true => base << 18 | u64::from(number(&self.bits[14..32])) | EXTENDED_ID,
            false => base,
        };
        for (n, (start, end)) in self.times.iter().enumerate() {
            let byte = self.data_byte(n);
            out.push(Event::Byte(From::Unknown, LineByte { byte, start: *start, end: *end }));
        }
        out.push(Event::Packet { from: From::Unknown, key: Some(key), node: None });
    }
}
