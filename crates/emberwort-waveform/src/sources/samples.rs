//! Samples at equal distances, without a header: bits as wires, or numbers.

use std::io::{self, Read};
use std::ops::ControlFlow;

use crate::wave::{Damage, Moment, Outcome, Signal, Value, WaveSink};

/// The form of samples.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Sample {
    /// A wire in each bit, `D0` and so on, of so many bytes, little-endian: 1 or 2.
    Bits(usize),
    /// Numbers of so many signals, `A0` and so on, one behind the other.
    Numbers(Number, usize),
}

/// The form of one number.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Number {
    /// 8 bits without a sign; 0 is 128, and full scale is 1.
    U8,
    /// 16 bits in two's complement, little-endian; full scale is 1.
    I16,
    /// 24 bits in two's complement, little-endian; full scale is 1.
    I24,
    /// 32 bits in two's complement, little-endian; full scale is 1.
    I32,
    /// IEEE 754 binary32, little-endian.
    F32,
    /// IEEE 754 binary64, little-endian.
    F64,
}

impl Number {
    /// Bytes of one.
    pub fn size(self) -> usize {
        match self {
            Self::U8 => 1,
            Self::I16 => 2,
            Self::I24 => 3,
            Self::I32 | Self::F32 => 4,
            Self::F64 => 8,
        }
    }

    /// The number in as many bytes as it has.
    fn read(self, bytes: &[u8]) -> f64 {
        match (self, bytes) {
            (Self::U8, [byte]) => (f64::from(*byte) - 128.0) / 128.0,
            (Self::I16, &[a, b]) => f64::from(i16::from_le_bytes([a, b])) / 32_768.0,
            (Self::I24, &[a, b, c]) => f64::from(i32::from_le_bytes([0, a, b, c])) / 2_147_483_648.0,
            (Self::I32, &[a, b, c, d]) => f64::from(i32::from_le_bytes([a, b, c, d])) / 2_147_483_648.0,
            (Self::F32, &[a, b, c, d]) => f64::from(f32::from_le_bytes([a, b, c, d])),
            (Self::F64, bytes) => bytes.try_into().map_or(0.0, f64::from_le_bytes),
            _ => 0.0,
        }
    }
}

impl Sample {
    /// Bytes of one moment.
    pub fn size(self) -> usize {
        match self {
            Self::Bits(bytes) => bytes,
            Self::Numbers(number, signals) => number.size() * signals,
        }
    }

    fn signals(self) -> Vec<Signal> {
        let named = |front: char, count: usize, is_analog: bool| {
            (0..count).map(|n| Signal { name: format!("{front}{n}"), is_analog }).collect()
        };
        match self {
            Self::Bits(bytes) => named('D', 8 * bytes, false),
            Self::Numbers(_, signals) => named('A', signals, true),
        }
    }
}

/// So many bytes are read at once.
const AT_ONCE: usize = 1 << 16;

/// So many bytes are compared at once.
const COMPARED: usize = 32;

/// The times of samples.
#[derive(Clone, Copy, Debug)]
struct Clock {
    rate: u64,
    /// Picoseconds from one sample to the next, if they are a whole number.
    step: Option<u64>,
}

impl Clock {
    fn new(rate: u64) -> Self {
        let rate = rate.max(1);
        Self { rate, step: (1_000_000_000_000 % rate == 0).then_some(1_000_000_000_000 / rate) }
    }

    fn at(&self, number: u64) -> Moment {
        let picoseconds = match self.step {
            Some(step) => number.saturating_mul(step),
            None => u64::try_from(u128::from(number) * 1_000_000_000_000 / u128::from(self.rate)).unwrap_or(u64::MAX),
        };
        Moment::from_picoseconds(picoseconds)
    }
}

/// Reads samples to the end, or until the sink has enough. `rate` is in samples a second.
///
/// # Errors
/// Those of the reader.
pub fn read(mut input: impl Read, sample: Sample, rate: u64, sink: &mut dyn WaveSink) -> io::Result<Outcome> {
    let clock = Clock::new(rate);
    let enough = |bytes: u64| Ok(Outcome { bytes, damage: None });
    if sink.signals(&sample.signals()).is_break() {
        return enough(0);
    }
    let size = sample.size().max(1);
    let mut room = vec![0; AT_ONCE.max(size)];
    let (mut kept, mut bytes, mut number) = (0, 0u64, 0u64);
    let mut last: Option<u32> = None;
    loop {
        sink.pause();
        let read = match input.read(&mut room[kept..]) {
            Ok(0) => break,
            Ok(read) => read,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
            Err(error) => return Err(error),
        };
        kept += read;
        let whole = kept / size * size;
        let taken = match sample {
            Sample::Bits(_) => bits(&room[..whole], size, (clock, number), &mut last, sink),
            Sample::Numbers(form, signals) => numbers(&room[..whole], (form, signals), (clock, number), sink),
        };
        let (samples, flow) = taken;
        number += samples;
        if flow.is_break() {
            return enough(number * size as u64);
        }
        bytes += whole as u64;
        room.copy_within(whole..kept, 0);
        kept -= whole;
        if sink.until(clock.at(number)).is_break() {
            return enough(bytes);
        }
    }
    let damage = (kept > 0).then(|| Damage { offset: bytes, reason: "the last sample is cut off".to_owned() });
    Ok(Outcome { bytes, damage })
}

/// Samples of numbers: how many were taken.
fn numbers(
    room: &[u8],
    (form, signals): (Number, usize),
    (clock, first): (Clock, u64),
    sink: &mut dyn WaveSink,
) -> (u64, ControlFlow<()>) {
    let mut taken = 0;
    for sample in room.chunks_exact(form.size() * signals.max(1)) {
        let at = clock.at(first + taken);
        taken += 1;
        for (signal, bytes) in sample.chunks_exact(form.size()).enumerate() {
            if sink.value(at, signal, Value::Number(form.read(bytes))).is_break() {
                return (taken, ControlFlow::Break(()));
            }
        }
    }
    (taken, ControlFlow::Continue(()))
}

/// Samples of bits: how many were taken. What stays the same is stepped over, many samples at once.
fn bits(
    room: &[u8],
    size: usize,
    (clock, first): (Clock, u64),
    last: &mut Option<u32>,
    sink: &mut dyn WaveSink,
) -> (u64, ControlFlow<()>) {
    let value = |at: usize| match room[at..at + size] {
        [byte] => u32::from(byte),
        [low, high] => u32::from(u16::from_le_bytes([low, high])),
        _ => 0,
    };
    let mut at = 0;
    while at < room.len() {
        if let Some(known) = *last {
            let pattern: [u8; COMPARED] = std::array::from_fn(|n| (known >> (8 * (n % size))) as u8);
            while let Some(next) = room.get(at..at + COMPARED) {
                if *next != pattern {
                    break;
                }
                at += COMPARED;
            }
            while at < room.len() && value(at) == known {
                at += size;
            }
            if at >= room.len() {
                break;
            }
        }
        let number = (at / size) as u64;
        let flow = changed_bits(value(at), 8 * size, last, clock.at(first + number), sink);
        at += size;
        if flow.is_break() {
            return (number + 1, flow);
        }
    }
    ((room.len() / size) as u64, ControlFlow::Continue(()))
}

fn changed_bits(
    bits: u32,
    count: usize,
    last: &mut Option<u32>,
    at: Moment,
    sink: &mut dyn WaveSink,
) -> ControlFlow<()> {
    let mut changed = last.map_or(u32::MAX, |last| last ^ bits) & (u32::MAX >> (32 - count));
    *last = Some(bits);
    while changed != 0 {
        let signal = changed.trailing_zeros() as usize;
        changed &= changed - 1;
        let value = if bits >> signal & 1 == 1 { Value::High } else { Value::Low };
        sink.value(at, signal, value)?;
    }
    ControlFlow::Continue(())
}
