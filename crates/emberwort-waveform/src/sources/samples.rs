//! Samples at equal distances, without a header: bits as wires, or numbers.

use std::io::{self, Read};
use std::ops::ControlFlow;

use crate::wave::{Damage, Moment, Outcome, Signal, Value, WaveSink};

/// The form of one sample.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Sample {
    /// Eight wires, one in each bit: `D0` to `D7`.
    U8,
    /// Sixteen wires, one in each bit of a little-endian number: `D0` to `D15`.
    U16,
    /// One signal, `A0`, as a little-endian number in two's complement; full scale is 1.
    I16,
    /// One signal, `A0`, as a little-endian IEEE 754 binary32.
    F32,
}

impl Sample {
    /// Bytes of one sample.
    pub fn size(self) -> usize {
        match self {
            Self::U8 => 1,
            Self::U16 | Self::I16 => 2,
            Self::F32 => 4,
        }
    }

    fn signals(self) -> Vec<Signal> {
        let wires = |count: usize| (0..count).map(|n| Signal { name: format!("D{n}"), is_analog: false }).collect();
        match self {
            Self::U8 => wires(8),
            Self::U16 => wires(16),
            Self::I16 | Self::F32 => vec![Signal { name: "A0".to_owned(), is_analog: true }],
        }
    }
}

/// So many bytes are read at once, a multiple of every sample's size.
const AT_ONCE: usize = 1 << 16;

/// Reads samples to the end, or until the sink has enough. `rate` is in samples a second.
///
/// # Errors
/// Those of the reader.
pub fn read(mut input: impl Read, sample: Sample, rate: u64, sink: &mut impl WaveSink) -> io::Result<Outcome> {
    let at = |number: u64| {
        let picoseconds = u128::from(number) * 1_000_000_000_000 / u128::from(rate.max(1));
        Moment::from_picoseconds(u64::try_from(picoseconds).unwrap_or(u64::MAX))
    };
    let enough = |bytes: u64| Ok(Outcome { bytes, damage: None });
    if sink.signals(&sample.signals()).is_break() {
        return enough(0);
    }
    let size = sample.size();
    let mut room = vec![0; AT_ONCE];
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
        for sample_bytes in room[..whole].chunks_exact(size) {
            let flow = match (sample, sample_bytes) {
                (Sample::U8, [byte]) => changed_bits(u32::from(*byte), 8, &mut last, at(number), sink),
                (Sample::U16, [low, high]) => {
                    changed_bits(u32::from(u16::from_le_bytes([*low, *high])), 16, &mut last, at(number), sink)
                }
                (Sample::I16, [low, high]) => {
                    let number_of = f64::from(i16::from_le_bytes([*low, *high])) / 32_768.0;
                    sink.value(at(number), 0, Value::Number(number_of))
                }
                (Sample::F32, [a, b, c, d]) => {
                    sink.value(at(number), 0, Value::Number(f64::from(f32::from_le_bytes([*a, *b, *c, *d]))))
                }
                _ => ControlFlow::Continue(()),
            };
            number += 1;
            if flow.is_break() {
                return enough(number * size as u64);
            }
        }
        bytes += whole as u64;
        room.copy_within(whole..kept, 0);
        kept -= whole;
        if sink.until(at(number)).is_break() {
            return enough(bytes);
        }
    }
    let damage = (kept > 0).then(|| Damage { offset: bytes, reason: "the last sample is cut off".to_owned() });
    Ok(Outcome { bytes, damage })
}

/// Tells the bits that are others than in the sample before.
fn changed_bits(
    sample: u32,
    bits: usize,
    last: &mut Option<u32>,
    at: Moment,
    sink: &mut impl WaveSink,
) -> ControlFlow<()> {
    let mut changed = match last.replace(sample) {
        Some(last) if last == sample => return ControlFlow::Continue(()),
        Some(last) => last ^ sample,
        None => (1 << bits) - 1,
    };
    while changed != 0 {
        let bit = changed.trailing_zeros() as usize;
        changed &= changed - 1;
        let value = if sample >> bit & 1 == 1 { Value::High } else { Value::Low };
        sink.value(at, bit, value)?;
    }
    ControlFlow::Continue(())
}
