//! The wire between the ends: how long sending takes, and what is damaged or lost on the way.

use emberwort_model::budget::wire_time;
use emberwort_model::medium::{Guard, MediumKind};
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
    /// Chance that a whole frame is not received.
    pub frame_loss: f64,
    /// Chance that a frame is received twice.
    pub duplicates: f64,
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
pub struct Stretch {
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
    /// The faults outside all stretches.
    pub faults: Faults,
    /// Stretches with other faults; the first that holds a moment counts.
    pub stretches: Vec<Stretch>,
    /// Disturbances that come back.
    pub bursts: Option<Bursts>,
    /// From the last bit's sending to its receiving.
    pub delay: Nanoseconds,
    /// Silence that senders keep behind each frame.
    pub pause: Nanoseconds,
    medium: MediumKind,
    byte_time: Nanoseconds,
    busy_until: Nanoseconds,
    wrong_bits: Distance,
    lost_bytes: Distance,
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
            stretches: Vec::new(),
            bursts: None,
            delay: 0,
            pause: 0,
            medium: medium.clone(),
            byte_time,
            busy_until: 0,
            wrong_bits: Distance::NEVER,
            lost_bytes: Distance::NEVER,
        }
    }

    /// When sending can begin.
    pub fn free_from(&self, now: Nanoseconds) -> Nanoseconds {
        now.max(self.busy_until)
    }

    /// How long a byte takes on a serial line; 0 elsewhere.
    pub fn byte_time(&self) -> Nanoseconds {
        self.byte_time
    }

    /// How long a frame of so many bytes takes.
    fn duration(&self, bytes: usize) -> Nanoseconds {
        match self.medium.guard() {
            // Others use a network, too, and who sends does not wait for it.
            Guard::Network => 0,
            _ if self.byte_time > 0 => self.byte_time * bytes as u64,
            _ => wire_time::nanoseconds(self.medium.worst(bytes, false).time),
        }
    }

    /// Whether the medium's own checksum catches damaged frames, so that they are lost.
    fn drops_damaged(&self) -> bool {
        self.medium.guard() == Guard::Controllers
    }

    /// The faults at a moment, and the moment until which they stay the same.
    fn faults_at(&self, time: Nanoseconds) -> (Faults, Nanoseconds) {
        let stretch = self.stretches.iter().find(|stretch| (stretch.from..stretch.to).contains(&time));
        let mut faults = stretch.map_or(self.faults, |stretch| stretch.faults);
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
    pub fn send(&mut self, now: Nanoseconds, bytes: &[u8], random: &mut ChaCha8Rng) -> (Nanoseconds, Vec<Delivery>) {
        let start = self.free_from(now);
        let end = start + self.duration(bytes.len());
        self.busy_until = end + self.pause;
        let (faults, _) = self.faults_at(start);
        let mut deliveries = Vec::new();
        if random.random::<f64>() >= faults.frame_loss {
            deliveries.push(self.deliver(start, end, bytes, random));
            if random.random::<f64>() < faults.duplicates {
                let start = end + self.pause;
                let again = start + self.duration(bytes.len());
                self.busy_until = again + self.pause;
                deliveries.push(self.deliver(start, again, bytes, random));
            }
        }
        // Of a packet without bytes nothing can be lost but the packet.
        let arrives = |delivery: &Delivery| !delivery.bytes.is_empty() || bytes.is_empty();
        deliveries.retain(|delivery| arrives(delivery) && (!self.drops_damaged() || delivery.bytes == bytes));
        (start, deliveries)
    }

    fn deliver(&mut self, start: Nanoseconds, end: Nanoseconds, bytes: &[u8], random: &mut ChaCha8Rng) -> Delivery {
        let mut received = Vec::with_capacity(bytes.len());
        let mut rest = bytes;
        while !rest.is_empty() {
            let now = start + self.byte_time * (bytes.len() - rest.len()) as u64;
            let (faults, until) = self.faults_at(now);
            self.wrong_bits.of(faults.bit_errors, random);
            self.lost_bytes.of(faults.byte_loss, random);
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
        Delivery { time: end + self.delay, bytes: received }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand::SeedableRng;

    const UART: MediumKind = MediumKind::Uart { baud: 115_200, data_bits: 8, parity: 'N', stop_bits: 1 };

    #[test]
    fn a_byte_at_115200_8n1_takes_ten_bits() {
        let mut wire = Wire::new(&UART);
        let mut random = ChaCha8Rng::seed_from_u64(1);
        let (start, deliveries) = wire.send(0, &[1, 2, 3], &mut random);
        // 10 bits / 115,200 bits a second = 86,805 ns.
        assert_eq!((start, deliveries[0].time), (0, 3 * 86_805));
        assert_eq!(deliveries[0].bytes, [1, 2, 3]);
        let (start, _) = wire.send(5, &[4], &mut random);
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
            Stretch { from: 2 * BYTE, to: 4 * BYTE, faults: inverting },
            // The first that holds a moment counts.
            Stretch { from: 3 * BYTE, to: 5 * BYTE, faults: Faults { byte_loss: 1.0, ..Faults::default() } },
        ];
        let (_, deliveries) = wire.send(0, &[1, 2, 3, 4, 5, 6], &mut random);
        assert_eq!(deliveries[0].bytes, [1, 2, !3, !4, 6]);
        // Bursts come back at their period, counted from the start of the trial; the wire is free again after six bytes.
        let mut wire = Wire::new(&UART);
        wire.bursts = Some(Bursts { every: 4 * BYTE, lasting: BYTE, bit_errors: 1.0 });
        let (_, deliveries) = wire.send(0, &[1, 2, 3, 4, 5, 6], &mut random);
        assert_eq!(deliveries[0].bytes, [!1, 2, 3, 4, !5, 6]);
        let (start, deliveries) = wire.send(BYTE, &[7, 8, 9], &mut random);
        assert_eq!((start, deliveries[0].bytes.as_slice()), (6 * BYTE, &[7, 8, !9][..]));
        // The second of two copies is sent later, and has the faults of then.
        let mut wire = Wire::new(&UART);
        wire.faults.duplicates = 1.0;
        wire.stretches = vec![Stretch { from: 3 * BYTE, to: 4 * BYTE, faults: inverting }];
        let (_, deliveries) = wire.send(0, &[1, 2], &mut random);
        let bytes: Vec<&[u8]> = deliveries.iter().map(|delivery| delivery.bytes.as_slice()).collect();
        assert_eq!(bytes, [&[1, 2], &[1, !2]]);
        assert_eq!([deliveries[0].time, deliveries[1].time], [2 * BYTE, 4 * BYTE]);
    }

    #[test]
    fn faults_come_as_often_as_they_should() {
        let mut wire = Wire::new(&MediumKind::Udp { port: 1, ipv6: false, bitrate: 100_000_000 });
        wire.faults = Faults { bit_errors: 0.01, byte_loss: 0.1, frame_loss: 0.2, duplicates: 0.3 };
        let mut random = ChaCha8Rng::seed_from_u64(7);
        let (mut lost, mut twice, mut bytes, mut ones) = (0, 0, 0usize, 0u32);
        for _ in 0..2000 {
            let (_, deliveries) = wire.send(0, &[0; 50], &mut random);
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
}
