//! Serial lines.

use std::io;
use std::path::Path;
use std::time::Duration;

use emberwort_model::medium::MediumKind;
use serialport::{ClearBuffer, DataBits, FlowControl, Parity, SerialPort as _, StopBits};

use crate::line::{Line, Out, Stream};

/// Speed and form of the characters on a serial line.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct SerialSettings {
    /// Bits a second.
    pub baud: u32,
    /// Data bits, 5 to 8.
    pub data_bits: u8,
    /// `N`, `E` or `O`.
    pub parity: char,
    /// Stop bits, 1 or 2.
    pub stop_bits: u8,
}

impl SerialSettings {
    /// Those that a medium asks for; `None`, if it is no serial line.
    pub fn of(medium: &MediumKind) -> Option<Self> {
        match *medium {
            MediumKind::Uart { baud, data_bits, parity, stop_bits } => {
                Some(Self { baud, data_bits, parity, stop_bits })
            }
            _ => None,
        }
    }
}

impl std::fmt::Display for SerialSettings {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} baud {}{}{}", self.baud, self.data_bits, self.parity, self.stop_bits)
    }
}

/// Opens a serial line for this program alone.
pub(crate) fn open(path: &Path, settings: SerialSettings) -> io::Result<Line> {
    let data_bits = match settings.data_bits {
        5 => DataBits::Five,
        6 => DataBits::Six,
        7 => DataBits::Seven,
        8 => DataBits::Eight,
        other => {
            return Err(io::Error::other(format!("characters of {other} data bits cannot be set on a serial port")));
        }
    };
    let parity = match settings.parity {
        'E' => Parity::Even,
        'O' => Parity::Odd,
        _ => Parity::None,
    };
    let stop_bits = if settings.stop_bits == 2 { StopBits::Two } else { StopBits::One };
    let port = serialport::new(path.to_string_lossy(), settings.baud)
        .data_bits(data_bits)
        .parity(parity)
        .stop_bits(stop_bits)
        .flow_control(FlowControl::None)
        .timeout(Duration::from_millis(200))
        .open_native()
        .map_err(io::Error::from)?;
    // What came before is nobody's answer.
    let _ = port.clear(ClearBuffer::Input);
    let writer = port.try_clone_native().map_err(io::Error::from)?;
    Ok(Line { reader: Box::new(Stream(port)), writer: Box::new(Out(writer)) })
}
