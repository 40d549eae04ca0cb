//! Files of waveforms: value change dumps, tables, sound files, raw samples.

use std::io::{self, Seek, SeekFrom, Write};

use super::instrument::Record;
use crate::wave::{Signal, Value};

/// The form of a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FileForm {
    /// A value change dump (IEEE 1364-2005).
    Dump,
    /// A table with commas.
    Table,
    /// A sound file (RIFF WAVE), 16 bits a sample.
    Sound,
    /// Raw samples, a bit for each wire, in so many bytes: 1 or 2.
    Bits(usize),
    /// Raw samples, 16 bits with a sign; full scale is 1.
    Integers,
    /// Raw samples, 32-bit floats.
    Floats,
}

impl FileForm {
    /// All of them, by the extensions of their files.
    pub const ALL: [(&str, Self); 7] = [
        ("vcd", Self::Dump),
        ("csv", Self::Table),
        ("wav", Self::Sound),
        ("u8", Self::Bits(1)),
        ("u16", Self::Bits(2)),
        ("i16", Self::Integers),
        ("f32", Self::Floats),
    ];

    /// By the extension of a file's name, without the dot.
    pub fn by_extension(extension: &str) -> Option<Self> {
        Self::ALL.iter().find(|(known, _)| *known == extension).map(|(_, form)| *form)
    }
}

/// Writes a waveform into a file.
#[derive(Debug)]
pub struct FileRecord<W> {
    form: FileForm,
    out: W,
    rate: u64,
    signals: usize,
    /// What a volt is in the samples of a form whose full scale is 1.
    scale: f64,
    written: Vec<Value>,
    bytes: u64,
}

/// Full scale of samples with 16 bits.
const FULL_SCALE: f64 = 32_768.0;

/// The header of a sound file: RIFF, the format, the length of the data.
const HEADER: usize = 44;

impl<W: Write + Seek> FileRecord<W> {
    /// Of a form. `most` is the greatest voltage, which forms with a full scale need.
    pub fn new(form: FileForm, most: f64, out: W) -> Self {
        let scale = if most > 1.0 { 1.0 / most } else { 1.0 };
        Self { form, out, rate: 1, signals: 0, scale, written: Vec::new(), bytes: 0 }
    }

    /// What 1 is in the samples of a form whose full scale is 1: volts.
    pub fn full_scale(&self) -> f64 {
        1.0 / self.scale
    }

    /// The file, which has all.
    pub fn into_inner(self) -> W {
        self.out
    }

    /// The name of a signal in a dump: printable characters, as short as they can be (IEEE 1364-2005, 18.2.1).
    fn code(mut n: usize) -> String {
        let mut code = String::new();
        loop {
            code.push(char::from(b'!' + (n % 94) as u8));
            n /= 94;
            if n == 0 {
                return code;
            }
        }
    }

    /// Of a unit, in picoseconds.
    fn picoseconds(&self, number: u64) -> u64 {
        ((u128::from(number) * 1_000_000_000_000 + u128::from(self.rate) / 2) / u128::from(self.rate)) as u64
    }

    fn header(&self, bytes: u64) -> [u8; HEADER] {
        let mut header = [0; HEADER];
        let channels = self.signals as u16;
        let data = u32::try_from(bytes).unwrap_or(u32::MAX);
        header[..4].copy_from_slice(b"RIFF");
        header[4..8].copy_from_slice(&data.saturating_add(HEADER as u32 - 8).to_le_bytes());
        header[8..16].copy_from_slice(b"WAVEfmt ");
        header[16..20].copy_from_slice(&16u32.to_le_bytes());
        header[20..22].copy_from_slice(&1u16.to_le_bytes());
        header[22..24].copy_from_slice(&channels.to_le_bytes());
        header[24..28].copy_from_slice(&(self.rate as u32).to_le_bytes());
        header[28..32].copy_from_slice(&(self.rate as u32).saturating_mul(2 * u32::from(channels)).to_le_bytes());
        header[32..34].copy_from_slice(&(2 * channels).to_le_bytes());
        header[34..36].copy_from_slice(&16u16.to_le_bytes());
        header[36..40].copy_from_slice(b"data");
        header[40..44].copy_from_slice(&data.to_le_bytes());
        header
    }
}

fn volts(value: Value) -> f64 {
    match value {
        Value::Number(number) => number,
        Value::High => 1.0,
        Value::Low => 0.0,
        Value::Unknown => 0.5,
    }
}

fn is_high(value: Value) -> bool {
    matches!(value, Value::High) || matches!(value, Value::Number(number) if number > 0.5)
}

impl<W: Write + Seek> Record for FileRecord<W> {
    fn signals(&mut self, signals: &[Signal], rate: u64) -> io::Result<()> {
        (self.rate, self.signals) = (rate, signals.len());
        match self.form {
            FileForm::Dump => {
                writeln!(self.out, "$timescale 1 ps $end\n$scope module line $end")?;
                for (n, signal) in signals.iter().enumerate() {
                    let (kind, bits) = if signal.is_analog { ("real", 64) } else { ("wire", 1) };
                    writeln!(self.out, "$var {kind} {bits} {} {} $end", Self::code(n), signal.name)?;
                }
                writeln!(self.out, "$upscope $end\n$enddefinitions $end")
            }
            FileForm::Table => {
                let names: Vec<&str> = signals.iter().map(|signal| signal.name.as_str()).collect();
                writeln!(self.out, "seconds,{}", names.join(","))
            }
            FileForm::Sound => self.out.write_all(&self.header(0)),
            FileForm::Bits(_) | FileForm::Integers | FileForm::Floats => Ok(()),
        }
    }

    fn takes_each(&self) -> bool {
        !matches!(self.form, FileForm::Dump | FileForm::Table)
    }

    fn sample(&mut self, number: u64, values: &[Value]) -> io::Result<()> {
        match self.form {
            FileForm::Dump => {
                writeln!(self.out, "#{}", self.picoseconds(number))?;
                for (n, value) in values.iter().enumerate() {
                    if self.written.get(n) == Some(value) {
                        continue;
                    }
                    let code = Self::code(n);
                    match value {
                        Value::Low => writeln!(self.out, "0{code}")?,
                        Value::High => writeln!(self.out, "1{code}")?,
                        Value::Unknown => writeln!(self.out, "x{code}")?,
                        Value::Number(number) => writeln!(self.out, "r{number:.5} {code}")?,
                    }
                }
                self.written.clear();
                self.written.extend_from_slice(values);
                Ok(())
            }
            FileForm::Table => {
                let picoseconds = self.picoseconds(number);
                write!(self.out, "{}.{:012}", picoseconds / 1_000_000_000_000, picoseconds % 1_000_000_000_000)?;
                for value in values {
                    match value {
                        Value::Number(number) => write!(self.out, ",{number:.4}")?,
                        Value::Unknown => write!(self.out, ",")?,
                        value => write!(self.out, ",{}", u8::from(is_high(*value)))?,
                    }
                }
                self.written.clear();
                self.written.extend_from_slice(values);
                writeln!(self.out)
            }
            FileForm::Bits(bytes) => {
                let all = values
                    .iter()
                    .enumerate()
                    .fold(0u16, |all, (n, value)| all | u16::from(is_high(*value)) << (n % 16));
                self.out.write_all(&all.to_le_bytes()[..bytes])
            }
            FileForm::Sound | FileForm::Integers => {
                for value in values {
                    let scaled = (volts(*value) * self.scale * FULL_SCALE).round();
                    let sample = scaled.clamp(-FULL_SCALE, FULL_SCALE - 1.0) as i16;
                    self.out.write_all(&sample.to_le_bytes())?;
                    self.bytes += 2;
                }
                Ok(())
            }
            FileForm::Floats => {
                values.iter().try_for_each(|value| self.out.write_all(&(volts(*value) as f32).to_le_bytes()))
            }
        }
    }

    fn finish(&mut self, samples: u64) -> io::Result<()> {
        match self.form {
            FileForm::Dump => writeln!(self.out, "#{}", self.picoseconds(samples))?,
            FileForm::Table if samples > 0 && !self.written.is_empty() => {
                let values = std::mem::take(&mut self.written);
                self.sample(samples, &values)?;
            }
            FileForm::Sound => {
                self.out.seek(SeekFrom::Start(0))?;
                self.out.write_all(&self.header(self.bytes))?;
                self.out.seek(SeekFrom::End(0))?;
            }
            _ => {}
        }
        self.out.flush()
    }
}
