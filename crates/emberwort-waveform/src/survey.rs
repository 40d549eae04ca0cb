//! What is on the wires of a waveform, and what that probably is.

use std::ops::ControlFlow;

use emberwort_model::medium::{UartFormat, UsbSpeed};

use crate::lines::event::MAX_WIRES;
use crate::lines::uart::{Flaw, Uart};
use crate::lines::usb::Usb;
use crate::wave::{Moment, Signal, Value, WaveSink};

/// Pulse widths are told apart by this many steps for each factor of two: by 1.1 %.
const STEPS: f64 = 64.0;

/// Widths from 1 ps to 2^50 ps, which is 18 minutes.
const BINS: usize = 50 * STEPS as usize;

/// How often pulses of each width came. Memory does not grow with their number.
#[derive(Clone, Debug, Default)]
pub struct Widths {
    /// By the logarithm of the width: how many, and the sum of their widths. Empty before the first pulse.
    bins: Vec<(u64, u64)>,
    /// How many in all.
    pub count: u64,
    /// The shortest, in picoseconds.
    pub shortest: u64,
    /// The longest, in picoseconds.
    pub longest: u64,
    /// The sum of all, in picoseconds.
    pub sum: u64,
}

impl Widths {
    fn add(&mut self, picoseconds: u64) {
        if self.bins.is_empty() {
            self.bins = vec![(0, 0); BINS];
            self.shortest = u64::MAX;
        }
        let bin = ((picoseconds.max(1) as f64).log2() * STEPS) as usize;
        let bin = &mut self.bins[bin.min(BINS - 1)];
        *bin = (bin.0 + 1, bin.1.saturating_add(picoseconds));
        self.count += 1;
        self.sum = self.sum.saturating_add(picoseconds);
        self.shortest = self.shortest.min(picoseconds);
        self.longest = self.longest.max(picoseconds);
    }

    /// Of each width that came, the mean of those close to it, and how many.
    pub fn each(&self) -> impl Iterator<Item = (f64, u64)> {
        self.bins.iter().filter(|(count, _)| *count > 0).map(|(count, sum)| (*sum as f64 / *count as f64, *count))
    }

    /// The commonest width in picoseconds, with those within 6 % of it, and what share of all they are.
    pub fn commonest(&self) -> Option<(f64, f64)> {
        let near = |width: f64| {
            let close = self.each().filter(move |(other, _)| (other / width - 1.0).abs() <= 0.06);
            close.fold((0.0, 0), |(sum, all), (other, count)| (sum + other * count as f64, all + count))
        };
        let best = self.each().map(|(width, _)| near(width)).max_by_key(|(_, count)| *count)?;
        Some((best.0 / best.1 as f64, best.1 as f64 / self.count as f64))
    }
}

/// What was seen of one signal.
#[derive(Clone, Debug, Default)]
pub struct SignalObservations {
    /// Its name.
    pub name: String,
    /// The least and the greatest number, if it has some.
    pub numbers: Option<(f64, f64)>,
    /// Changes between low and high.
    pub edges: u64,
    /// Widths of low and of high pulses: those between two edges.
    pub widths: [Widths; 2],
    /// For how long it was low and high in all, in picoseconds.
    pub time: [u64; 2],
    /// How often it changed while another signal was low, and while it was high, by that signal.
    beside: Vec<[u64; 2]>,
    level: Option<bool>,
    since: Moment,
    /// The first edges and the levels behind them, for what their order says.
    first: Vec<(Moment, bool)>,
    /// How many numbers there were, and the shortest time from one to the next, in picoseconds.
    samples: (u64, Option<u64>),
    last_sample: Option<Moment>,
    /// Whether a pulse began with an edge: the first one may have begun before the waveform.
    has_edge: bool,
}

impl SignalObservations {
    fn become_level(&mut self, at: Moment, level: Option<bool>) {
        if self.level == level {
            return;
        }
        let width = at.since(self.since);
        if let Some(before) = self.level {
            self.time[usize::from(before)] = self.time[usize::from(before)].saturating_add(width);
            if level.is_some() {
                self.edges += 1;
                if self.first.len() < FIRST_EDGES {
                    self.first.push((at, !before));
                }
                if self.has_edge {
                    self.widths[usize::from(before)].add(width);
                }
            }
        }
        self.has_edge = self.level.is_some() && level.is_some();
        (self.level, self.since) = (level, at);
    }

    /// Whether its pulses were looked at: those of numbers take a second look.
    pub fn has_pulses(&self) -> bool {
        self.numbers.is_none() || self.level.is_some()
    }

    /// The level at which it is for most of the time, if it has one.
    pub fn rests(&self) -> Option<bool> {
        (self.time[0] + self.time[1] > 0).then(|| self.time[1] > self.time[0])
    }

    /// The share of the time for which it is high.
    pub fn duty(&self) -> Option<f64> {
        let all = self.time[0] + self.time[1];
        (all > 0).then(|| self.time[1] as f64 / all as f64)
    }

    /// What it probably is, looked at alone.
    fn guess(&self) -> Option<Guess> {
        if self.edges < 16 {
            return None;
        }
        let guess = match (self.clock(), self.two_widths()) {
            // Words of a clock may be as far apart as pulses of a code.
            (Some(Guess::Clock { hertz, share }), Some(Guess::Pulses { level: Some(_), .. }) | None) => {
                Some(Guess::Clock { hertz, share })
            }
            (Some(Guess::Clock { hertz, share }), _) if share > 0.95 => Some(Guess::Clock { hertz, share }),
            (_, found) => found.or_else(|| self.serial()),
        };
        guess.map(|guess| self.or_network(guess)).map(|guess| self.or_bits(guess))
    }

    /// How many samples a pulse as short as the shortest one has, where samples were seen.
    pub fn samples_of_shortest(&self) -> Option<f64> {
        let shortest = self.widths.iter().filter(|widths| widths.count > 0).map(|widths| widths.shortest).min()?;
        let (count, step) = self.samples;
        (count > 4 * self.edges).then_some(shortest as f64 / step? as f64)
    }

    /// The pulses between the first edges with the level that they have, without rests.
    fn pulses(&self, longest: f64) -> impl Iterator<Item = (f64, bool)> {
        let pairs = self.first.windows(2).map(|pair| (pair[1].0.since(pair[0].0) as f64, pair[0].1));
        pairs.filter(move |(width, _)| *width < longest)
    }

    /// A code with pulses of two widths: one in which a bit has two halves, or one in which a bit is told by how long a pulse is.
    fn two_widths(&self) -> Option<Guess> {
        let least = self.widths.iter().filter(|widths| widths.count > 0).map(|widths| widths.shortest).min()? as f64;
        let mean = |from: f64, to: f64, level: Option<bool>| {
            let inside = self
                .pulses(f64::MAX)
                .filter(|(width, of)| *width >= from && *width < to && level.is_none_or(|level| *of == level));
            let (sum, count) = inside.fold((0.0, 0u64), |(sum, count), (width, _)| (sum + width, count + 1));
            (count > 0).then(|| (sum / count as f64, count))
        };
        let (short, shorts) = mean(0.0, 1.4 * least, None)?;
        let (long, longs) = mean(1.4 * least, 3.6 * least, None)?;
        let is_near = |width: f64, of: f64| (width / of - 1.0).abs() < 0.25;
        let inside = self.pulses(3.6 * least);
        let (good, all) = inside.fold((0u64, 0u64), |(good, all), (width, _)| {
            (good + u64::from(is_near(width, short) || is_near(width, long)), all + 1)
        });
        let share = good as f64 / all.max(1) as f64;
        // Longer pulses than these two are rests, of which there are few.
        let rests = self.first.len() as u64 - 1 - all;
        if shorts < 8 || longs < 8 || share < 0.97 || rests * 8 > all || long / short < 1.5 {
            return None;
        }
        // One level says the bits, and the other one only stands between them.
        for level in [true, false] {
            let both = mean(0.0, 1.4 * least, Some(level)).zip(mean(1.4 * least, 3.6 * least, Some(level)));
            let of_other = self.pulses(3.6 * least).filter(|(_, of)| *of != level).map(|(width, _)| width);
            let (other_least, other_most) =
                of_other.fold((f64::MAX, 0.0f64), |(least, most), width| (least.min(width), most.max(width)));
            if let Some(((short, shorts), (long, longs))) = both
                && shorts.min(longs) >= 6
                && other_most < 1.3 * other_least
            {
                return Some(Guess::Pulses { level: Some(level), short, long, share });
            }
        }
        // How many pulses of one width follow each other: of a half of a bit always two.
        let (mut runs, mut odd_shorts, mut odd_longs) = (0u64, 0u64, 0u64);
        let mut run: Option<(bool, u64)> = None;
        for (width, _) in self.pulses(f64::MAX) {
            let is_long =
                (width >= 1.4 * least).then_some(()).map_or(Some(false), |()| (width < 3.6 * least).then_some(true));
            match (is_long, &mut run) {
                (Some(is_long), Some((of, count))) if *of == is_long => *count += 1,
                (next, last) => {
                    // What stands beside a rest may be cut.
                    if let Some((of, count)) = last.take().filter(|_| next.is_some()) {
                        runs += 1;
                        odd_shorts += u64::from(!of && count % 2 == 1);
                        odd_longs += u64::from(of && count % 2 == 1);
                    }
                    *last = next.map(|is_long| (is_long, 1));
                }
            }
        }
        let is_double = (long / short - 2.0).abs() < 0.3;
        match (runs >= 6, odd_shorts * 10 <= runs, odd_longs * 10 <= runs) {
            (true, true, true) => Some(Guess::Pulses { level: None, short, long, share }),
            (true, true, false) if is_double => {
                let halves = (short * shorts as f64 + long * longs as f64) / (shorts + 2 * longs) as f64;
                Some(Guess::Manchester { bitrate: 0.5e12 / halves, share })
            }
            _ => None,
        }
    }

    /// The form of the characters of an asynchronous line, if they fit one: the first of the usual ones without a flaw.
    pub fn uart_format(&self, baud: u32) -> Option<UartFormat> {
        let rests_low = self.rests() == Some(false);
        let flaws = |format: UartFormat| {
            let mut uart = Uart::new(format);
            let (mut characters, mut odd) = (0u64, 0u64);
            let mut out = |byte: crate::lines::event::LineByte| {
                characters += 1;
                odd += u64::from(byte.byte.count_ones() % 2);
            };
            // The level at rest, long enough before the first edge.
            uart.edge(Moment::default(), Some(!rests_low), &mut out);
            for (at, level) in &self.first {
                uart.edge(at.after(uart.character()), Some(*level), &mut out);
            }
            let flawed: u64 =
                uart.observed.flaws.iter().filter(|(flaw, ..)| *flaw != Flaw::Break).map(|(_, _, count)| count).sum();
            (characters, flawed, odd)
        };
        let formats = [(8, 'N'), (8, 'E'), (8, 'O'), (7, 'E'), (7, 'O'), (7, 'N'), (9, 'N')];
        let usual = UartFormat { rests_low, ..UartFormat::usual(baud) };
        let found = formats.into_iter().map(|(data_bits, parity)| UartFormat { data_bits, parity, ..usual }).find_map(
            |format| {
                let (characters, flawed, odd) = flaws(format);
                (characters >= 4 && flawed * 50 <= characters).then_some((format, characters, odd))
            },
        );
        let (format, characters, odd) = found?;
        // Seven bits and a parity are as long as eight; so many bytes of one parity are no accident.
        Some(match (format.data_bits, format.parity) {
            (8, 'N') if characters >= 24 && odd == 0 => UartFormat { data_bits: 7, parity: 'E', ..format },
            (8, 'N') if characters >= 24 && odd == characters => UartFormat { data_bits: 7, parity: 'O', ..format },
            _ => format,
        })
    }

    /// Bits that are no characters: whole numbers of bits long, and no format of characters fits.
    fn or_bits(&self, guess: Guess) -> Guess {
        let Guess::Serial { baud, share } = guess else { return guess };
        let rate = usual_baud(baud).unwrap_or(baud.round() as u32);
        if self.edges < 60 || self.uart_format(rate).is_some() {
            return guess;
        }
        let bit = 1e12 / baud;
        // With bits put in, no pulse inside of a frame is longer than they allow.
        let longest = self.pulses(20.0 * bit).map(|(width, _)| (width / bit).round() as u64).max().unwrap_or(0);
        Guess::Bits { bitrate: baud, longest, share }
    }

    /// A controller area network looks like a serial line on which five bits are equal, and never more: behind them one is put in.
    fn or_network(&self, guess: Guess) -> Guess {
        const LEAST: u64 = 60;
        let Guess::Serial { baud, share } = guess else { return guess };
        let bit = 1e12 / baud;
        let has = |least: f64, most: f64| {
            let mut all = self.widths.iter().flat_map(Widths::each);
            all.any(|(width, _)| width > least * bit && width < most * bit)
        };
        let is_network = usual_bitrate(baud).is_some() && self.edges >= LEAST && has(4.6, 5.4) && !has(5.6, 10.5);
        if is_network { Guess::Can { bitrate: baud, share } } else { guess }
    }

    /// What it probably is beside a clock: it changes more rarely, and no pulse is shorter than one of the clock.
    fn beside(&self, clock: &Self, hertz: f64) -> Option<Guess> {
        let shortest = self.widths.iter().filter(|widths| widths.count > 0).map(|widths| widths.shortest).min()?;
        let is_slower = shortest as f64 >= 0.9 * 1e12 / hertz && self.edges <= clock.edges;
        let is_rare = self.edges * 6 <= clock.edges && self.rests().is_some();
        is_slower.then(|| match is_rare {
            true => Guess::Select { is_high: self.rests() == Some(false) },
            false => Guess::Data,
        })
    }

    /// A clock: pulses of one width, both low and high.
    fn clock(&self) -> Option<Guess> {
        let (low, low_share) = self.widths[0].commonest()?;
        let (high, high_share) = self.widths[1].commonest()?;
        let share = low_share.min(high_share);
        let is_even = (low / high - 1.0).abs() < 0.5;
        (share > 0.8 && is_even).then(|| Guess::Clock { hertz: 1e12 / (low + high), share })
    }

    /// An asynchronous line: pulses are whole numbers of bits, of which a character has ten.
    fn serial(&self) -> Option<Guess> {
        let all = || self.widths.iter().flat_map(Widths::each);
        let least = all().map(|(width, _)| width).fold(f64::INFINITY, f64::min);
        // Samples make a bit now longer and now shorter.
        let close = all().filter(|(width, _)| *width <= 1.35 * least);
        let (sum, count) = close.fold((0.0, 0), |(sum, all), (width, n)| (sum + width * n as f64, all + n));
        let shortest = sum / count.max(1) as f64;
        let fits = |bit: f64| {
            // Longer ones are rests.
            let inside = all().filter(|(width, _)| *width < 10.5 * bit);
            inside.fold((0u64, 0u64, 0.0, 0.0), |(good, count, sum, bits), (width, n)| {
                let whole = (width / bit).round();
                let is_good = whole >= 1.0 && (width / bit - whole).abs() < 0.25;
                let weight = n as f64;
                match is_good {
                    true => (good + n, count + n, sum + width * weight, bits + whole * weight),
                    false => (good, count + n, sum, bits),
                }
            })
        };
        // Longer pulses say the bit more exactly, once it is known how many bits they are.
        let refined = |bit: f64| {
            [2.5, 4.5, 7.5, 10.5].into_iter().fold(bit, |bit, most| {
                let near = all().filter(|(width, _)| *width < most * bit);
                let (sum, bits) = near.fold((0.0, 0.0), |(sum, bits), (width, n)| {
                    (sum + width * n as f64, bits + (width / bit).round().max(1.0) * n as f64)
                });
                if bits > 0.0 { sum / bits } else { bit }
            })
        };
        // The shortest pulse may be two bits, if no bit stands alone.
        let candidates = [shortest, shortest / 2.0, shortest / 3.0].map(refined);
        let best = candidates
            .into_iter()
            .map(|bit| (bit, fits(bit)))
            .find(|(_, (good, count, ..))| good * 20 >= count * 19)?;
        let (good, count, sum, bits) = best.1;
        // All pulses as long as the shortest one would be a clock.
        let has_several = all().any(|(width, _)| width > 1.5 * best.0 && width < 10.5 * best.0);
        (has_several && bits > 0.0)
            .then(|| Guess::Serial { baud: bits * 1e12 / sum, share: good as f64 / count as f64 })
    }
}

/// Whether the first edges of two signals are packets of a universal serial bus: nearly all that begins as one has neither a wrong kind nor a
/// wrong checksum.
fn are_packets(plus: &SignalObservations, minus: &SignalObservations, speed: UsbSpeed) -> bool {
    let mut usb = Usb::new(speed, 0, 1);
    let mut levels = [None; MAX_WIRES];
    let of_wire = |wire: usize, observed: &SignalObservations| {
        observed.first.iter().map(move |(at, level)| (*at, wire, *level)).collect()
    };
    let mut edges: Vec<(Moment, usize, bool)> = of_wire(0, plus);
    edges.extend::<Vec<_>>(of_wire(1, minus));
    edges.sort_by_key(|(at, ..)| *at);
    for (wire, seen) in [plus, minus].into_iter().enumerate() {
        levels[wire] = seen.first.first().map(|(_, level)| !level);
    }
    // The bus rests before the first edge.
    let rest = Moment::from_picoseconds(100_000_000);
    usb.step(Moment::default(), &[None; MAX_WIRES], &levels, &mut Vec::new());
    for at_once in edges.chunk_by(|(one, ..), (other, ..)| one == other) {
        let before = levels;
        for (_, wire, level) in at_once {
            levels[*wire] = Some(*level);
        }
        let at = rest.after(at_once[0].0.picoseconds());
        usb.until(at, &mut Vec::new());
        usb.step(at, &before, &levels, &mut Vec::new());
    }
    let flaws: u64 = usb.observed.flaws.iter().map(|(_, count)| count.count).sum();
    usb.observed.good() >= 3 && flaws * 10 <= usb.observed.good()
}

/// What a signal probably is.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Guess {
    /// A clock, and the share of its pulses that are as long as the commonest.
    Clock {
        /// Pulses a second, while it ticks.
        hertz: f64,
        /// From 0 to 1.
        share: f64,
    },
    /// What says when the clock means a device.
    Select {
        /// The level at which it does.
        is_high: bool,
    },
    /// What the clock takes.
    Data,
    /// The clock of a two-wire bus with addresses.
    I2cClock {
        /// Pulses a second, while it ticks.
        hertz: f64,
    },
    /// The data of a two-wire bus with addresses.
    I2cData,
    /// A controller area network, and the share of its pulses that are whole numbers of bits.
    Can {
        /// Bits a second, measured.
        bitrate: f64,
        /// From 0 to 1.
        share: f64,
    },
    /// A wire of a universal serial bus.
    Usb {
        /// Which one: D+, or D-.
        is_plus: bool,
        /// The speed of its packets.
        speed: UsbSpeed,
    },
    /// A code in which each bit has two halves: a Manchester code, plain or differential.
    Manchester {
        /// Bits a second, measured.
        bitrate: f64,
        /// The share of its pulses that are one or two halves, from 0 to 1.
        share: f64,
    },
    /// A code in which a bit is told by how long a pulse is.
    Pulses {
        /// The level whose pulses tell it; `None` if each bit is two pulses of one width, one at each level.
        level: Option<bool>,
        /// The mean width of short pulses, in picoseconds.
        short: f64,
        /// The mean width of long ones, in picoseconds.
        long: f64,
        /// The share of its pulses that are one or the other, from 0 to 1.
        share: f64,
    },
    /// Bits that are no characters of an asynchronous line: NRZ, or NRZI.
    Bits {
        /// Bits a second, measured.
        bitrate: f64,
        /// The most bits without a change inside of frames.
        longest: u64,
        /// The share of its pulses that are whole numbers of bits, from 0 to 1.
        share: f64,
    },
    /// An asynchronous serial line, and the share of its pulses that are whole numbers of bits.
    Serial {
        /// Bits a second, measured.
        baud: f64,
        /// From 0 to 1.
        share: f64,
    },
}

/// So many edges of a signal are kept in their order.
const FIRST_EDGES: usize = 4_096;

/// Of so many signals it is known what the others did when one changed.
const MOST_BESIDE: usize = 16;

/// The usual bit rate of a controller area network nearest to a measured one, if one is within 2 %.
pub fn usual_bitrate(measured: f64) -> Option<u32> {
    const USUAL: [u32; 10] = [10_000, 20_000, 33_333, 50_000, 83_333, 100_000, 125_000, 250_000, 500_000, 1_000_000];
    USUAL.into_iter().find(|bitrate| (measured / f64::from(*bitrate) - 1.0).abs() <= 0.02)
}

/// The usual baud rate nearest to a measured one, if one is within 3 %.
pub fn usual_baud(measured: f64) -> Option<u32> {
    const USUAL: [u32; 20] = [
        300, 600, 1200, 2400, 4800, 9600, 14_400, 19_200, 28_800, 31_250, 38_400, 57_600, 76_800, 115_200, 230_400,
        250_000, 460_800, 500_000, 921_600, 1_000_000,
    ];
    let off = |baud: u32| (measured / f64::from(baud) - 1.0).abs();
    USUAL.into_iter().filter(|baud| off(*baud) <= 0.03).min_by(|one, other| off(*one).total_cmp(&off(*other)))
}

/// Looks at all signals of a waveform. Of those with numbers a first look finds the levels, and a second one the pulses.
#[derive(Clone, Debug, Default)]
pub struct Survey {
    /// By signal.
    pub signals: Vec<SignalObservations>,
    /// The end of the waveform.
    pub end: Moment,
    /// Whether the levels of signals with numbers are known from a look before.
    has_levels: bool,
}

impl Survey {
    /// A first look.
    pub fn new() -> Self {
        Self::default()
    }

    /// What the signals probably are, by signal.
    pub fn guesses(&self) -> Vec<Option<Guess>> {
        let mut alone: Vec<Option<Guess>> = self.signals.iter().map(SignalObservations::guess).collect();
        if let Some((plus, minus, speed)) = self.serial_bus() {
            for (wire, is_plus) in [(plus, true), (minus, false)] {
                alone[wire] = Some(Guess::Usb { is_plus, speed });
            }
        }
        let mut clocks = alone.iter().zip(&self.signals).filter_map(|(guess, seen)| match guess {
            Some(Guess::Clock { hertz, .. }) => Some((seen, *hertz)),
            _ => None,
        });
        if let Some(pair) = self.two_wires() {
            return pair;
        }
        // Of several clocks nobody knows what belongs to which.
        let (Some((clock, hertz)), None) = (clocks.next(), clocks.next()) else { return alone };
        let beside = |(guess, seen): (&Option<Guess>, &SignalObservations)| match guess {
            Some(Guess::Clock { .. }) => *guess,
            _ => seen.beside(clock, hertz).or(*guess),
        };
        alone.iter().zip(&self.signals).map(beside).collect()
    }

    /// The two wires of a universal serial bus, D+ and D-, and its speed, if their first edges are packets of it.
    fn serial_bus(&self) -> Option<(usize, usize, UsbSpeed)> {
        let resting = |level: bool| {
            let all = self.signals.iter().enumerate();
            all.filter(move |(_, seen)| seen.edges >= 64 && seen.rests() == Some(level)).map(|(wire, _)| wire)
        };
        for high in resting(true).take(MOST_BESIDE) {
            for low in resting(false).take(MOST_BESIDE) {
                for speed in [UsbSpeed::Full, UsbSpeed::Low] {
                    // A device pulls up the wire that says its speed (USB 2.0, section 7.1.5.1).
                    let (plus, minus) = if speed == UsbSpeed::Full { (high, low) } else { (low, high) };
                    if are_packets(&self.signals[plus], &self.signals[minus], speed) {
                        return Some((plus, minus, speed));
                    }
                }
            }
        }
        None
    }

    /// Of all signals a clock and the data of a two-wire bus, if there are such: both rest high, and the data change while the clock is low,
    /// but for the conditions at which transfers begin and end (UM10204, section 3.1.4).
    fn two_wires(&self) -> Option<Vec<Option<Guess>>> {
        let rests_high = |observed: &SignalObservations| observed.edges >= 16 && observed.rests() == Some(true);
        for (clock, of_clock) in self.signals.iter().enumerate().filter(|(_, seen)| rests_high(seen)) {
            for (data, of_data) in self.signals.iter().enumerate().filter(|(_, seen)| rests_high(seen)) {
                let [low, high] = of_data.beside.get(clock).copied().unwrap_or_default();
                let [clock_low, clock_high] = of_clock.beside.get(data).copied().unwrap_or_default();
                // The clock moves under either level of the data.
                let is_free = clock_low > 8 && clock_high > 8;
                if clock == data || !is_free || high < 2 || 4 * high > low {
                    continue;
                }
                let (low_width, _) = of_clock.widths[0].commonest()?;
                let (high_width, _) = of_clock.widths[1].commonest()?;
                let mut guesses: Vec<Option<Guess>> = self.signals.iter().map(SignalObservations::guess).collect();
                guesses[clock] = Some(Guess::I2cClock { hertz: 1e12 / (low_width + high_width) });
                guesses[data] = Some(Guess::I2cData);
                return Some(guesses);
            }
        }
        None
    }

    /// Whether a signal has numbers, so that a second look is worth it.
    pub fn has_numbers(&self) -> bool {
        self.signals.iter().any(|seen| seen.numbers.is_some())
    }

    /// A second look at the same waveform, with the levels that this one found.
    #[must_use]
    pub fn again(&self) -> Self {
        let signals = self.signals.iter().map(|seen| SignalObservations {
            name: seen.name.clone(),
            numbers: seen.numbers,
            ..SignalObservations::default()
        });
        Self { signals: signals.collect(), end: Moment::default(), has_levels: true }
    }
}

impl WaveSink for Survey {
    fn signals(&mut self, signals: &[Signal]) -> ControlFlow<()> {
        if !self.has_levels {
            self.signals = signals
                .iter()
                .map(|signal| SignalObservations { name: signal.name.clone(), ..SignalObservations::default() })
                .collect();
        }
        ControlFlow::Continue(())
    }

    fn value(&mut self, at: Moment, signal: usize, value: Value) -> ControlFlow<()> {
        self.end = at;
        let Some(seen) = self.signals.get_mut(signal) else { return ControlFlow::Continue(()) };
        if let Value::Number(_) = value {
            let step = seen.last_sample.replace(at).map(|last| at.since(last)).filter(|step| *step > 0);
            seen.samples = (seen.samples.0 + 1, seen.samples.1.into_iter().chain(step).min());
        }
        let level = match (value, seen.numbers) {
            (Value::Low, _) => Some(false),
            (Value::High, _) => Some(true),
            (Value::Unknown, _) => None,
            (Value::Number(number), Some((least, greatest))) if self.has_levels => {
                // A tenth of the swing has to be passed, so that noise makes no edges.
                let (middle, margin) = (f64::midpoint(least, greatest), (greatest - least) / 20.0);
                match seen.level {
                    Some(true) => Some(number > middle - margin),
                    _ => Some(number > middle + margin),
                }
            }
            (Value::Number(number), numbers) => {
                let (least, greatest) = numbers.unwrap_or((number, number));
                seen.numbers = Some((least.min(number), greatest.max(number)));
                return ControlFlow::Continue(());
            }
        };
        let has_changed = seen.level != level && seen.level.is_some() && level.is_some();
        seen.become_level(at, level);
        if has_changed && self.signals.len() <= MOST_BESIDE {
            for other in 0..self.signals.len() {
                if let Some(level) = self.signals[other].level {
                    let beside = &mut self.signals[signal].beside;
                    beside.resize(beside.len().max(other + 1), [0; 2]);
                    beside[other][usize::from(level)] += 1;
                }
            }
        }
        ControlFlow::Continue(())
    }

    fn until(&mut self, at: Moment) -> ControlFlow<()> {
        self.end = at;
        ControlFlow::Continue(())
    }
}

impl Survey {
    /// The waveform is over: what was not over before counts as time.
    pub fn finish(&mut self) {
        for seen in &mut self.signals {
            if let Some(level) = seen.level {
                seen.time[usize::from(level)] += self.end.since(seen.since);
                seen.since = self.end;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn seen(widths: impl Iterator<Item = u64>) -> SignalObservations {
        let mut seen = SignalObservations::default();
        let (mut at, mut level) = (Moment::default(), true);
        seen.become_level(at, Some(level));
        for width in widths {
            at = at.after(width);
            level = !level;
            seen.become_level(at, Some(level));
        }
        seen
    }

    #[test]
    fn clocks_and_serial_lines_are_told_apart() {
        let clock = seen((0..400).map(|n| if n % 16 == 15 { 90_000_000 } else { 500_000 + n % 3 * 5_000 }));
        let Some(Guess::Clock { hertz, share }) = clock.guess() else { panic!("{:?}", clock.guess()) };
        assert!((hertz / 1e6 - 1.0).abs() < 0.03 && share > 0.85, "{hertz} {share}");
        let bit = 8_680_556;
        let serial = seen((0..400).map(|n| match n % 7 {
            6 => 100 * bit,
            n => (n * n % 5 + 1) * bit,
        }));
        let Some(Guess::Serial { baud, share }) = serial.serial() else { panic!("{:?}", serial.serial()) };
        assert!((baud / 115_200.0 - 1.0).abs() < 0.01 && share > 0.99, "{baud} {share}");
        assert_eq!((usual_baud(baud), usual_baud(100_000.0)), (Some(115_200), None));
        // No characters have such bits.
        assert!(matches!(serial.guess(), Some(Guess::Bits { longest: 5, .. })), "{:?}", serial.guess());
        // Pulses of any width are neither.
        let noise = seen((0..400u64).map(|n| 1_000_000 + n * n * 7919 % 9_000_000));
        assert_eq!(noise.guess(), None);
        assert_eq!(seen([5, 5].into_iter()).guess(), None);
    }
}
