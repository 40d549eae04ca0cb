//! The wire between the ends: how long sending takes, and what is damaged or lost on the way.

use std::collections::BTreeMap;
use std::ops::Range;

use emberwort_model::budget::wire_time;
use emberwort_model::medium::{Guard, MediumKind};
use emberwort_model::model::End;
use rand::Rng;
use rand_chacha::ChaCha8Rng;

use crate::Nanoseconds;

/// What can go wrong on the wire.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Faults {
    /// Chance that a bit is received wrong.
    pub bit_errors: f64,
    /// Chance that a byte is not received.
    pub byte_loss: f64,
    /// Chance that a byte comes before one that was sent, out of nowhere.
    pub inserted: f64,
    /// Chance that a whole frame is not received.
    pub frame_loss: f64,
    /// Chance that a frame is received twice.
    pub duplicates: f64,
    /// A second state of the wire, in which more goes wrong.
    pub noise: Option<Noise>,
    /// By how much longer a bit is for the receiver of a serial line than for the sender: 0.02 is 2 %; less than 0 if it is shorter.
    pub baud_error: f64,
}

/// A wire with a good and a bad state, which changes with a chance before each byte (E. N. Gilbert, Capacity of a Burst-Noise Channel,
/// 1960).
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Noise {
    /// Chance that the bad state begins.
    pub begins: f64,
    /// Chance that it ends.
    pub ends: f64,
    /// Chance that a bit is received wrong in the bad state.
    pub bit_errors: f64,
}

/// Short disturbances that come back.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Bursts {
    /// From the start of one to the start of the next.
    pub every: Nanoseconds,
    /// How long one lasts.
    pub lasting: Nanoseconds,
    /// Chance that a bit is received wrong meanwhile.
    pub bit_errors: f64,
}

/// A stretch of time with faults of its own.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct FaultyStretch {
    /// First moment.
    pub from: Nanoseconds,
    /// First moment behind it.
    pub to: Nanoseconds,
    /// The faults in it.
    pub faults: Faults,
}

/// A wire that only one end uses at a time; who finds it busy waits.
#[derive(Clone, Debug)]
pub struct Wire {
    /// The faults outside all stretches, towards the host.
    pub faults: Faults,
    /// The same towards the devices.
    pub to_device: Faults,
    /// Stretches with other faults; the first that holds a moment counts.
    pub stretches: Vec<FaultyStretch>,
    /// Disturbances that come back.
    pub bursts: Option<Bursts>,
    /// From the last bit's sending to its receiving.
    pub delay: Nanoseconds,
    /// The most by which the delay of a frame is longer, by chance.
    pub jitter: Nanoseconds,
    /// Whether nobody waits while another sends: what is sent at once is garbled.
    pub collides: bool,
    /// Whether frames take time on it. Between two real lines, which take their own, they do not.
    pub takes_time: bool,
    /// Bits a second of a network on which frames wait for each other; without it they take no time there.
    pub bandwidth: Option<u64>,
    /// Silence that senders keep behind each frame.
    pub pause: Nanoseconds,
    medium: MediumKind,
    byte_time: Nanoseconds,
    busy_until: Nanoseconds,
    /// Until when each sender is busy, where they do not wait for each other.
    senders: BTreeMap<usize, Nanoseconds>,
    /// What is being sent where others may send, too: by number, from when to when.
    on_air: Vec<(u64, Range<Nanoseconds>)>,
    /// Frames that collided, and during what.
    collided: BTreeMap<u64, (Range<Nanoseconds>, Vec<Range<Nanoseconds>>)>,
    /// How long somebody sent.
    busy: Nanoseconds,
    last_arrival: [Nanoseconds; 2],
    is_noisy: bool,
    wrong_bits: Distance,
    lost_bytes: Distance,
    added_bytes: Distance,
}

/// Who sends a frame.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Sender {
    /// The end that it is.
    pub from: End,
    /// A number of its own.
    pub number: usize,
    /// The number of the frame.
    pub frame: u64,
}

/// How far it is to the next of events that come by chance, each independent of the others. One number is drawn for each that
/// happens, not one for each that could.
#[derive(Clone, Copy, Debug)]
struct Distance {
    chance: f64,
    /// What does not happen before one does.
    left: u64,
}

impl Distance {
    /// To an event that never happens.
    const NEVER: Self = Self { chance: 0.0, left: u64::MAX };

    /// From here on such an event has this chance. What did not happen yet tells nothing about what will, so the distance can be
    /// drawn again at any time.
    fn of(&mut self, chance: f64, random: &mut ChaCha8Rng) {
        if self.chance != chance {
            self.chance = chance;
            self.draw(random);
        }
    }

    /// A number of the geometric distribution: `floor(ln(u) / ln(1 - chance))` for an even `u` above 0 and up to 1 (inversion; L.
    /// Devroye, Non-Uniform Random Variate Generation, chapter X).
    fn draw(&mut self, random: &mut ChaCha8Rng) {
        self.left = if self.chance <= 0.0 {
            u64::MAX
        } else if self.chance >= 1.0 {
            0
        } else {
            ((1.0 - random.random::<f64>()).ln() / (-self.chance).ln_1p()) as u64
        };
    }

    /// Passes over so many that could happen, if none of them does.
    fn none_of(&mut self, count: u64) -> bool {
        let is_clear = self.left >= count;
        if is_clear && self.chance > 0.0 {
            self.left -= count;
        }
        is_clear
    }

    /// Whether the next one that could happen does.
    fn happens(&mut self, random: &mut ChaCha8Rng) -> bool {
        let happens = !self.none_of(1);
        if happens {
            self.draw(random);
        }
        happens
    }
}

/// What became of a frame on the wire.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Delivery {
    /// When its last byte was received.
    pub time: Nanoseconds,
    /// The bytes as they were received.
    pub bytes: Vec<u8>,
}

impl Wire {
    /// A wire without faults over a medium. Frames take the time that [`MediumKind::worst`] says; datagrams take none.
    pub fn new(medium: &MediumKind) -> Self {
        let byte_time = medium.byte_nanoseconds().unwrap_or(0);
        Self {
            faults: Faults::default(),
            to_device: Faults::default(),
            stretches: Vec::new(),
            bursts: None,
            delay: 0,
            jitter: 0,
            collides: false,
            bandwidth: None,
            takes_time: true,
            pause: 0,
            medium: medium.clone(),
            byte_time,
            busy_until: 0,
            senders: BTreeMap::new(),
            on_air: Vec::new(),
            collided: BTreeMap::new(),
            busy: 0,
            last_arrival: [0; 2],
            is_noisy: false,
            wrong_bits: Distance::NEVER,
            lost_bytes: Distance::NEVER,
            added_bytes: Distance::NEVER,
        }
    }

    /// When a sender can begin.
    pub(crate) fn free_from(&self, now: Nanoseconds, sender: usize) -> Nanoseconds {
        let until = if self.collides { self.senders.get(&sender).copied().unwrap_or(0) } else { self.busy_until };
        now.max(until)
    }

    /// How long somebody sent so far.
    pub fn busy(&self) -> Nanoseconds {
        self.busy
    }

    /// How long a byte takes on a serial line; 0 elsewhere.
    pub(crate) fn byte_time(&self) -> Nanoseconds {
        self.byte_time
    }

    /// How long a frame of so many bytes takes.
    fn duration(&self, bytes: usize) -> Nanoseconds {
        match self.medium.guard() {
            _ if !self.takes_time => 0,
            // Others use a network, too, and who sends does not wait for it.
            Guard::Network => {
                self.bandwidth.map_or(0, |bandwidth| (bytes as u64 * 8_000_000_000).div_ceil(bandwidth.max(1)))
            }
            _ if self.byte_time > 0 => self.byte_time * bytes as u64,
            _ => wire_time::nanoseconds(self.medium.worst(bytes, false).time),
        }
    }

    /// Whether the medium's own checksum catches damaged frames, so that they are lost.
    fn drops_damaged(&self) -> bool {
        self.medium.guard() == Guard::Controllers
    }

    /// The faults of frames from an end at a moment, and the moment until which they stay the same.
    fn faults_at(&self, from: End, time: Nanoseconds) -> (Faults, Nanoseconds) {
        let stretch = self.stretches.iter().find(|stretch| (stretch.from..stretch.to).contains(&time));
        let usual = if from == End::Device { self.faults } else { self.to_device };
        let mut faults = stretch.map_or(usual, |stretch| stretch.faults);
        let ends = self.stretches.iter().flat_map(|stretch| [stretch.from, stretch.to]);
        let mut until = ends.filter(|end| *end > time).min().unwrap_or(Nanoseconds::MAX);
        if let Some(bursts) = self.bursts {
            let (began, into) = (time - time % bursts.every, time % bursts.every);
            if into < bursts.lasting {
                faults.bit_errors = faults.bit_errors.max(bursts.bit_errors);
                until = until.min(began + bursts.lasting.min(bursts.every));
            } else {
                until = until.min(began + bursts.every);
            }
        }
        (faults, until)
    }

    /// Sends a frame at a moment, or when the wire is free. Returns when sending began, and what is received: nothing, the
    /// frame, or the frame twice.
    pub fn send(
        &mut self,
        now: Nanoseconds,
        sender: Sender,
        bytes: &[u8],
        random: &mut ChaCha8Rng,
    ) -> (Nanoseconds, Vec<Delivery>) {
        let start = self.free_from(now, sender.number);
        let end = start + self.duration(bytes.len());
        self.occupy(sender, start..end);
        let (faults, _) = self.faults_at(sender.from, start);
        let mut deliveries = Vec::new();
        if random.random::<f64>() >= faults.frame_loss {
            deliveries.push(self.deliver(sender.from, start, end, bytes, random));
            if random.random::<f64>() < faults.duplicates {
                let start = end + self.pause;
                let again = start + self.duration(bytes.len());
                self.occupy(sender, start..again);
                deliveries.push(self.deliver(sender.from, start, again, bytes, random));
            }
        }
        // Of a packet without bytes nothing can be lost but the packet.
        let arrives = |delivery: &Delivery| !delivery.bytes.is_empty() || bytes.is_empty();
        deliveries.retain(|delivery| arrives(delivery) && (!self.drops_damaged() || delivery.bytes == bytes));
        (start, deliveries)
    }

    /// Somebody sends a frame during a time.
    fn occupy(&mut self, sender: Sender, during: Range<Nanoseconds>) {
        self.busy_until = during.end + self.pause;
        self.busy += during.end - during.start;
        if !self.collides {
            return;
        }
        self.senders.insert(sender.number, self.busy_until);
        self.on_air.retain(|(_, other)| other.end > during.start);
        // What was lost on the way never arrives; nothing is so late as all that.
        let late = 2 * (self.delay + self.jitter) + 1_000_000_000;
        self.collided.retain(|_, (whole, _)| whole.end + late > during.start);
        for (other, theirs) in &self.on_air {
            let both = theirs.start.max(during.start)..theirs.end.min(during.end);
            for (frame, whole) in [(*other, theirs), (sender.frame, &during)] {
                self.collided.entry(frame).or_insert_with(|| (whole.clone(), Vec::new())).1.push(both.clone());
            }
        }
        self.on_air.push((sender.frame, during));
    }

    /// Garbles what another sent meanwhile of a frame that was received: two drivers on one line leave no bit as it was. Returns whether
    /// anything was.
    pub(crate) fn garble(&mut self, frame: u64, bytes: &mut [u8], random: &mut ChaCha8Rng) -> bool {
        let Some((whole, hits)) = self.collided.remove(&frame) else { return false };
        let byte = ((whole.end - whole.start) / bytes.len().max(1) as u64).max(1);
        for hit in hits {
            let first = ((hit.start - whole.start) / byte) as usize;
            let last = ((hit.end - whole.start).div_ceil(byte) as usize).min(bytes.len());
            for garbled in bytes.get_mut(first..last).unwrap_or_default() {
                *garbled ^= random.random_range(1..=u8::MAX);
            }
        }
        true
    }

    fn deliver(
        &mut self,
        from: End,
        start: Nanoseconds,
        end: Nanoseconds,
        bytes: &[u8],
        random: &mut ChaCha8Rng,
    ) -> Delivery {
        let mut received = Vec::with_capacity(bytes.len());
        let mut rest = bytes;
        while !rest.is_empty() {
            let now = start + self.byte_time * (bytes.len() - rest.len()) as u64;
            let (faults, until) = self.faults_at(from, now);
            self.wrong_bits.of(faults.bit_errors, random);
            self.lost_bytes.of(faults.byte_loss, random);
            if faults.noise.is_some() || faults.inserted > 0.0 || faults.baud_error != 0.0 {
                let (sent, later) = rest.split_at(1);
                rest = later;
                self.deliver_byte(&faults, sent[0], later.first().copied(), &mut received, random);
                continue;
            }
            // Each byte has the faults of the moment at which its sending begins.
            let alike = (until - now).div_ceil(self.byte_time.max(1)).min(rest.len() as u64);
            let alike = if self.byte_time == 0 { rest.len() } else { alike as usize };
            let (sent, later) = rest.split_at(alike);
            rest = later;
            let clear = self.lost_bytes.left >= alike as u64 && self.wrong_bits.left >= 8 * alike as u64;
            if clear && self.lost_bytes.none_of(alike as u64) && self.wrong_bits.none_of(8 * alike as u64) {
                received.extend_from_slice(sent);
                continue;
            }
            for byte in sent {
                if self.lost_bytes.happens(random) {
                    continue;
                }
                let flipped = (0..8).fold(0, |flipped, bit| flipped | u8::from(self.wrong_bits.happens(random)) << bit);
                received.push(byte ^ flipped);
            }
        }
        let late = if self.jitter > 0 { random.random_range(0..=self.jitter) } else { 0 };
        let mut time = end + self.delay + late;
        if self.jitter > 0 && !matches!(self.medium.guard(), Guard::Network) {
            // Bytes of a line do not overtake each other.
            let last = &mut self.last_arrival[usize::from(from == End::Host)];
            time = time.max(*last);
            *last = time;
        }
        Delivery { time, bytes: received }
    }

    /// Delivers one byte where more can happen to it than wrong bits; the next one follows at once.
    fn deliver_byte(
        &mut self,
        faults: &Faults,
        byte: u8,
        next: Option<u8>,
        received: &mut Vec<u8>,
        random: &mut ChaCha8Rng,
    ) {
        self.added_bytes.of(faults.inserted, random);
        if self.added_bytes.happens(random) {
            received.push(random.random());
        }
        if let Some(noise) = faults.noise {
            let changes = random.random::<f64>() < if self.is_noisy { noise.ends } else { noise.begins };
            self.is_noisy ^= changes;
        }
        let in_noise = faults.noise.filter(|_| self.is_noisy).map_or(0.0, |noise| noise.bit_errors);
        self.wrong_bits.of(faults.bit_errors.max(in_noise), random);
        let sampled = match &self.medium {
            MediumKind::Uart(format) if faults.baud_error != 0.0 => {
                let extra = u32::from(format.has_parity()) + u32::from(format.stop_halves.div_ceil(2));
                sampled_at(byte, u32::from(format.data_bits), extra, next.is_some(), faults.baud_error)
            }
            _ => Some(byte),
        };
        let is_lost = self.lost_bytes.happens(random);
        let flipped = (0..8).fold(0, |flipped, bit| flipped | u8::from(self.wrong_bits.happens(random)) << bit);
        if let Some(byte) = sampled.filter(|_| !is_lost) {
            received.push(byte ^ flipped);
        }
    }
}

/// What a receiver reads of a byte on a serial line if its bits are longer by `error` than those of the sender. It looks at the middle
/// of each of its bits, counted from the start bit's edge. `None` if it finds no stop bit, so that the byte is dropped. `extra` are the
/// parity and stop bits; parity is not looked at.
fn sampled_at(byte: u8, data_bits: u32, extra: u32, is_followed: bool, error: f64) -> Option<u8> {
    let length = 1 + data_bits + extra;
    let level = |bit: u32| -> bool {
        let at = ((f64::from(bit) + 0.5) * (1.0 + error)).max(0.0) as u32;
        match at {
            0 => false,
            at if at <= data_bits => byte >> (at - 1) & 1 == 1,
            at if at < length => true,
            // Behind it comes the next start bit, or nothing.
            at => !(is_followed && at == length),
        }
    };
    let read = (1..=data_bits).fold(0, |read, bit| read | u8::from(level(bit)) << (bit - 1));
    level(length - 1).then_some(read)
}

#[cfg(test)]
mod tests {
    use super::*;
    use emberwort_model::medium::UartFormat;
    use rand::SeedableRng;

    /// A device sends.
    const DEVICE: Sender = Sender { from: End::Device, number: 0, frame: 0 };

    const UART: MediumKind = MediumKind::Uart(UartFormat::usual(115_200));

    #[test]
    fn a_byte_at_115200_8n1_takes_ten_bits() {
        let mut wire = Wire::new(&UART);
        let mut random = ChaCha8Rng::seed_from_u64(1);
        let (start, deliveries) = wire.send(0, DEVICE, &[1, 2, 3], &mut random);
        // 10 bits / 115,200 bits a second = 86,805 ns.
        assert_eq!((start, deliveries[0].time), (0, 3 * 86_805));
        assert_eq!(deliveries[0].bytes, [1, 2, 3]);
        let (start, _) = wire.send(5, DEVICE, &[4], &mut random);
        assert_eq!(start, 3 * 86_805, "the second frame waits for the first");
    }

    /// Each byte has the faults of the moment at which it is sent, not those of its frame's start: a bit error chance of 1 inverts it.
    #[test]
    fn faults_begin_and_end_in_the_middle_of_a_frame() {
        const BYTE: Nanoseconds = 86_805;
        let mut wire = Wire::new(&UART);
        let mut random = ChaCha8Rng::seed_from_u64(1);
        let inverting = Faults { bit_errors: 1.0, ..Faults::default() };
        wire.stretches = vec![
            FaultyStretch { from: 2 * BYTE, to: 4 * BYTE, faults: inverting },
            // The first that holds a moment counts.
            FaultyStretch { from: 3 * BYTE, to: 5 * BYTE, faults: Faults { byte_loss: 1.0, ..Faults::default() } },
        ];
        let (_, deliveries) = wire.send(0, DEVICE, &[1, 2, 3, 4, 5, 6], &mut random);
        assert_eq!(deliveries[0].bytes, [1, 2, !3, !4, 6]);
        // Bursts come back at their period, counted from the start of the trial; the wire is free again after six bytes.
        let mut wire = Wire::new(&UART);
        wire.bursts = Some(Bursts { every: 4 * BYTE, lasting: BYTE, bit_errors: 1.0 });
        let (_, deliveries) = wire.send(0, DEVICE, &[1, 2, 3, 4, 5, 6], &mut random);
        assert_eq!(deliveries[0].bytes, [!1, 2, 3, 4, !5, 6]);
        let (start, deliveries) = wire.send(BYTE, DEVICE, &[7, 8, 9], &mut random);
        assert_eq!((start, deliveries[0].bytes.as_slice()), (6 * BYTE, &[7, 8, !9][..]));
        // The second of two copies is sent later, and has the faults of then.
        let mut wire = Wire::new(&UART);
        wire.faults.duplicates = 1.0;
        wire.stretches = vec![FaultyStretch { from: 3 * BYTE, to: 4 * BYTE, faults: inverting }];
        let (_, deliveries) = wire.send(0, DEVICE, &[1, 2], &mut random);
        let bytes: Vec<&[u8]> = deliveries.iter().map(|delivery| delivery.bytes.as_slice()).collect();
        assert_eq!(bytes, [&[1, 2], &[1, !2]]);
        assert_eq!([deliveries[0].time, deliveries[1].time], [2 * BYTE, 4 * BYTE]);
    }

    #[test]
    fn faults_come_as_often_as_they_should() {
        let mut wire = Wire::new(&MediumKind::Udp { port: 1, ipv6: false, bitrate: 100_000_000 });
        wire.faults =
            Faults { bit_errors: 0.01, byte_loss: 0.1, frame_loss: 0.2, duplicates: 0.3, ..Faults::default() };
        let mut random = ChaCha8Rng::seed_from_u64(7);
        let (mut lost, mut twice, mut bytes, mut ones) = (0, 0, 0usize, 0u32);
        for _ in 0..2000 {
            let (_, deliveries) = wire.send(0, DEVICE, &[0; 50], &mut random);
            lost += usize::from(deliveries.is_empty());
            twice += usize::from(deliveries.len() == 2);
            for delivery in &deliveries {
                bytes += delivery.bytes.len();
                ones += delivery.bytes.iter().map(|b| b.count_ones()).sum::<u32>();
            }
        }
        assert!((320..480).contains(&lost), "{lost} of 2000 lost, 400 expected");
        assert!((400..560).contains(&twice), "{twice} of 2000 twice, 480 expected");
        let share = f64::from(ones) / (bytes * 8) as f64;
        assert!((0.009..0.011).contains(&share), "{share} of the bits wrong, 0.01 expected");
    }

    #[test]
    fn a_receiver_whose_bits_are_too_long_reads_the_next_ones() {
        // Within 5 % of ten bits each sample stays in its bit; beyond that the last ones slip.
        for byte in 0..=255 {
            for error in [-0.045, -0.02, 0.02, 0.045] {
                assert_eq!(sampled_at(byte, 8, 1, true, error), Some(byte), "{byte:02X} {error}");
            }
        }
        // At 7 % the sample of the stop bit, 9.5 bits in, lies at 10.17: in the start bit of the next byte.
        assert_eq!(sampled_at(0x55, 8, 1, true, 0.07), None);
        // At 12 % the fifth data bit (5.5 × 1.12 = 6.16) reads the sixth, and so on.
        assert_eq!(sampled_at(0b0010_0000, 8, 1, false, 0.12), Some(0b1001_0000));
    }

    #[test]
    fn what_is_sent_at_once_on_a_shared_line_is_garbled_where_it_overlaps() {
        const BYTE: Nanoseconds = 86_805;
        let mut wire = Wire::new(&UART);
        wire.collides = true;
        let mut random = ChaCha8Rng::seed_from_u64(1);
        let other = Sender { from: End::Device, number: 1, frame: 1 };
        let mut first = wire.send(0, DEVICE, &[1, 2, 3, 4], &mut random).1.remove(0).bytes;
        let mut second = wire.send(3 * BYTE, other, &[5, 6, 7], &mut random).1.remove(0).bytes;
        assert!(wire.garble(0, &mut first, &mut random) && wire.garble(1, &mut second, &mut random));
        assert_eq!((&first[..3], &second[1..]), (&[1, 2, 3][..], &[6, 7][..]));
        assert_ne!((first[3], second[0]), (4, 5));
        // One sender does not disturb itself: it waits.
        let (start, _) = wire.send(4 * BYTE, Sender { frame: 2, ..other }, &[8], &mut random);
        assert_eq!(start, 6 * BYTE);
        assert!(!wire.garble(2, &mut [8], &mut random));
    }

    #[test]
    fn a_noisy_wire_has_errors_as_often_as_its_states_say() {
        let mut wire = Wire::new(&UART);
        // In the bad state for 0.01 / (0.01 + 0.09) = a tenth of the bytes; there each bit is wrong with a chance of 0.2.
        wire.faults.noise = Some(Noise { begins: 0.01, ends: 0.09, bit_errors: 0.2 });
        wire.faults.inserted = 0.01;
        let mut random = ChaCha8Rng::seed_from_u64(3);
        let (mut ones, mut bytes) = (0u32, 0usize);
        for _ in 0..2000 {
            for delivery in wire.send(0, DEVICE, &[0; 100], &mut random).1 {
                let added = delivery.bytes.len() - 100;
                bytes += added;
                // An added byte has four ones on average.
                ones += delivery.bytes.iter().map(|byte| byte.count_ones()).sum::<u32>();
            }
        }
        assert!((1_800..2_200).contains(&bytes), "{bytes} of 200,000 inserted, 2,000 expected");
        let share = (f64::from(ones) - 4.0 * bytes as f64) / 1_600_000.0;
        assert!((0.018..0.022).contains(&share), "{share} of the bits wrong, 0.02 expected");
    }
}
