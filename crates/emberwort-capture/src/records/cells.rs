//! What the parts of a record say.

use base64::Engine;
use base64::engine::DecodePaddingMode;
use base64::engine::general_purpose::{GeneralPurpose, GeneralPurposeConfig};
use emberwort_model::model::End;
use emberwort_model::plan::EXTENDED_ID;
use emberwort_wire::Time;

use crate::hex_text::bytes_in;
use crate::pieces::Record;
use crate::stamps::{Stamps, parsed};

/// What a part of a record says.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum CellKind {
    /// When the bytes came.
    Time,
    /// The bytes.
    Bytes,
    /// The port that they came with.
    Port,
    /// The CAN identifier that they came with.
    CanId,
    /// The channel.
    Channel,
    /// Which end sent them.
    Direction,
    /// The device.
    Device,
}

impl CellKind {
    /// All of them, with the word for each.
    pub const ALL: [(&'static str, CellKind); 7] = [
        ("time", CellKind::Time),
        ("bytes", CellKind::Bytes),
        ("port", CellKind::Port),
        ("can_id", CellKind::CanId),
        ("channel", CellKind::Channel),
        ("direction", CellKind::Direction),
        ("device", CellKind::Device),
    ];

    /// The one for a word.
    pub fn named(word: &str) -> Option<Self> {
        Self::ALL.iter().find(|(name, _)| *name == word).map(|(_, what)| *what)
    }
}

/// How bytes are written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum BytesForm {
    /// Hex digits, as [`bytes_in`] reads them.
    #[default]
    Hex,
    /// Base 64 (RFC 4648), with or without padding, of either alphabet.
    Base64,
}

/// How times are written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum TimeForm {
    /// A date with a time of day, that alone, or seconds.
    #[default]
    Text,
    /// A number of milliseconds.
    Milliseconds,
    /// A number of microseconds.
    Microseconds,
    /// A number of nanoseconds.
    Nanoseconds,
}

/// How numbers stand in the parts of a record.
#[derive(Clone, Copy, Debug, Default)]
pub struct Forms {
    /// The bytes.
    pub bytes: BytesForm,
    /// The times.
    pub time: TimeForm,
    /// Whether CAN identifiers are hex digits without `0x`.
    pub hex_ids: bool,
}

/// The parts of one record after the other.
#[derive(Clone, Debug)]
pub struct Cells {
    forms: Forms,
    stamps: Stamps,
    time: Option<Time>,
    bytes: Option<Vec<u8>>,
    key: Option<u64>,
    channel: Option<String>,
    from: Option<End>,
    device: Option<String>,
}

const ANY_BASE64: GeneralPurposeConfig =
    GeneralPurposeConfig::new().with_decode_padding_mode(DecodePaddingMode::Indifferent);

/// A number of units of so many nanoseconds, maybe with decimals.
fn scaled(text: &str, unit: u64) -> Option<u64> {
    let (whole, part) = text.split_once('.').unwrap_or((text, ""));
    let digits = |text: &str| text.bytes().all(|byte| byte.is_ascii_digit());
    if whole.is_empty() || !digits(whole) || !digits(part) {
        return None;
    }
    let mut nanoseconds = whole.parse::<u64>().ok()?.checked_mul(unit)?;
    let mut place = unit;
    for digit in part.bytes() {
        place /= 10;
        nanoseconds = nanoseconds.checked_add(u64::from(digit - b'0') * place)?;
    }
    Some(nanoseconds)
}

impl Cells {
    /// None yet.
    pub fn new(forms: Forms) -> Self {
        let (time, bytes, key, channel, from, device) = Default::default();
        Self { forms, stamps: Stamps::default(), time, bytes, key, channel, from, device }
    }

    /// Forgets those of the last record.
    pub fn clear(&mut self) {
        (self.time, self.bytes, self.key) = (None, None, None);
        (self.channel, self.from, self.device) = (None, None, None);
    }

    /// Takes a part; empty ones say nothing, but for bytes.
    ///
    /// # Errors
    /// Why it cannot be read.
    pub fn take(&mut self, what: CellKind, text: &str) -> Result<(), String> {
        let text = text.trim();
        if text.is_empty() && what != CellKind::Bytes {
            return Ok(());
        }
        let short = || emberwort_model::diagnostics::escaped(&text.chars().take(24).collect::<String>());
        match what {
            CellKind::Time => {
                let nanoseconds = match self.forms.time {
                    TimeForm::Text => match scaled(text, 1_000_000_000) {
                        Some(seconds) => Some(seconds),
                        None => parsed(text).and_then(|stamp| self.stamps.nanoseconds(stamp)),
                    },
                    TimeForm::Milliseconds => scaled(text, 1_000_000),
                    TimeForm::Microseconds => scaled(text, 1000),
                    TimeForm::Nanoseconds => scaled(text, 1),
                };
                let nanoseconds = nanoseconds.ok_or_else(|| format!("`{}` is not a time", short()))?;
                self.time = Some(Time::from_nanoseconds(nanoseconds));
            }
            CellKind::Bytes => {
                let bytes = match self.forms.bytes {
                    BytesForm::Hex if text.is_empty() => Ok(Vec::new()),
                    BytesForm::Hex => bytes_in(text).map_err(|_| format!("`{}` is not bytes in hex", short())),
                    BytesForm::Base64 => {
                        let standard = text.replace('-', "+").replace('_', "/");
                        let engine = GeneralPurpose::new(&base64::alphabet::STANDARD, ANY_BASE64);
                        engine.decode(standard).map_err(|_| format!("`{}` is not bytes in base 64", short()))
                    }
                };
                self.bytes = Some(bytes?);
            }
            CellKind::Port => {
                let port: u16 = text.parse().map_err(|_| format!("`{}` is not a port", short()))?;
                self.key = Some(u64::from(port));
            }
            CellKind::CanId => {
                let digits = text.strip_prefix("0x").or_else(|| text.strip_prefix("0X"));
                let id = match digits.or(self.forms.hex_ids.then_some(text)) {
                    Some(digits) => u64::from_str_radix(digits, 16).ok(),
                    None => text.parse().ok(),
                };
                let id = id
                    .filter(|id| *id <= 0x1FFF_FFFF)
                    .ok_or_else(|| format!("`{}` is not a CAN identifier", short()))?;
                // As programs print them: 29 bits have eight digits.
                let is_extended = id > 0x7FF || digits.unwrap_or(text).len() == 8;
                self.key = Some(if is_extended { id | EXTENDED_ID } else { id });
            }
            CellKind::Channel => self.channel = Some(text.to_owned()),
            CellKind::Direction => {
                let end = match text.to_ascii_lowercase().as_str() {
                    "device" | "up" | "uplink" => End::Device,
                    "host" | "down" | "downlink" => End::Host,
                    _ => return Err(format!("`{}` is not an end: device, host, uplink, downlink", short())),
                };
                self.from = Some(end);
            }
            CellKind::Device => self.device = Some(text.to_owned()),
        }
        Ok(())
    }

    /// The record that the parts make.
    ///
    /// # Errors
    /// If its bytes lack.
    pub fn record(&self) -> Result<Record<'_>, String> {
        let bytes = self.bytes.as_deref().ok_or("it has no bytes")?;
        let (channel, device) = (self.channel.as_deref(), self.device.as_deref());
        Ok(Record { time: self.time, channel, from: self.from, key: self.key, device, bytes })
    }
}
