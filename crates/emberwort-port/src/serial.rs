//! Serial lines.

use std::io::{self, Write};
use std::path::Path;
use std::time::Duration;

use emberwort_model::medium::{MediumKind, UartFormat};
use serialport::{ClearBuffer, DataBits, FlowControl, Parity, SerialPort as _, StopBits};

use crate::line::{Line, PlainWriter, Stream, Target};

/// Speed and form of the characters on a serial line.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct SerialSettings {
    /// Speed and form of the characters.
    pub format: UartFormat,
    /// The control lines.
    pub control: ControlLines,
}

/// What is done with the control lines of a serial port.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct ControlLines {
    /// Whether RTS is on; left as it is without.
    pub rts: Option<bool>,
    /// Whether DTR is on; left as it is without.
    pub dtr: Option<bool>,
    /// Whether RTS is on while something is sent, and only then: it switches the driver of an RS-485 bus.
    pub rts_while_sending: bool,
}

impl SerialSettings {
    /// Those that a medium asks for; `None`, if it is no serial line.
    pub fn of(medium: &MediumKind) -> Option<Self> {
        match *medium {
            MediumKind::Uart(format) => Some(Self { format, control: ControlLines::default() }),
            _ => None,
        }
    }
}

impl std::fmt::Display for SerialSettings {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} baud {}", self.format.baud, self.format.characters())
    }
}

/// Opens a serial line for this program alone.
pub(crate) fn open(path: &Path, settings: SerialSettings) -> io::Result<Line> {
    let format = settings.format;
    let cannot = |what: &str| io::Error::other(format!("{what} cannot be set on a serial port"));
    if format.rests_low {
        return Err(cannot("`resting low`"));
    }
    if format.is_msb_first {
        return Err(cannot("`msb first`"));
    }
    let data_bits = match format.data_bits {
        5 => DataBits::Five,
        6 => DataBits::Six,
        7 => DataBits::Seven,
        8 => DataBits::Eight,
        other => return Err(cannot(&format!("characters of {other} data bits"))),
    };
    let parity = match format.parity {
        'N' => Parity::None,
        'E' => Parity::Even,
        'O' => Parity::Odd,
        other => return Err(cannot(&format!("parity {other}"))),
    };
    let stop_bits = match format.stop_halves {
        2 => StopBits::One,
        4 => StopBits::Two,
        _ => return Err(cannot("1.5 stop bits")),
    };
    let port = serialport::new(path.to_string_lossy(), format.baud)
        .data_bits(data_bits)
        .parity(parity)
        .stop_bits(stop_bits)
        .flow_control(FlowControl::None)
        .timeout(Duration::from_millis(100))
        .open_native()
        .map_err(io::Error::from)?;
    // What came before is nobody's answer.
    let _ = port.clear(ClearBuffer::Input);
    let mut writer = port.try_clone_native().map_err(io::Error::from)?;
    let ControlLines { rts, dtr, rts_while_sending } = settings.control;
    let has_no =
        |what: &str, error: serialport::Error| io::Error::other(format!("its line {what} cannot be set: {error}"));
    if let Some(on) = rts.or(rts_while_sending.then_some(false)) {
        writer.write_request_to_send(on).map_err(|error| has_no("RTS", error))?;
    }
    if let Some(on) = dtr {
        writer.write_data_terminal_ready(on).map_err(|error| has_no("DTR", error))?;
    }
    let reader = Box::new(Stream(port));
    Ok(if rts_while_sending {
        Line { reader, writer: Box::new(Driven(writer)), program: None }
    } else {
        Line { reader, writer: Box::new(PlainWriter(writer)), program: None }
    })
}

/// A bus whose driver RTS switches on.
struct Driven(serialport::TTYPort);

impl Write for Driven {
    /// Sends all, and lets the bus go when the last bit has left.
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.write_request_to_send(true)?;
        let sent = self.0.write_all(bytes).and_then(|()| self.0.flush());
        self.0.write_request_to_send(false)?;
        sent.map(|()| bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl Target for Driven {}

#[cfg(test)]
mod tests {
    use super::*;

    /// Said before anything is opened, so that no port is needed.
    #[test]
    fn what_no_serial_port_can_do_is_said() {
        let usual = UartFormat::usual(9600);
        for (format, what) in [
            (UartFormat { rests_low: true, ..usual }, "`resting low`"),
            (UartFormat { is_msb_first: true, ..usual }, "`msb first`"),
            (UartFormat { data_bits: 9, ..usual }, "characters of 9 data bits"),
            (UartFormat { parity: 'M', ..usual }, "parity M"),
        ] {
            let settings = SerialSettings { format, control: ControlLines::default() };
            let Err(error) = open(Path::new("/nowhere"), settings) else { panic!("{what} opens") };
            assert_eq!(error.to_string(), format!("{what} cannot be set on a serial port"));
        }
    }
}
