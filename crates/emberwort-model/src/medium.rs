//! What a channel runs over. All that the rest of the tool has to know of a medium stands in this file, question by question; how it is
//! written stands in the parser of channels, and what its frames cost in [`wire_time`].

use num_rational::Ratio;

use crate::budget::wire_time::{self, Lora, Seconds, WireCost, can, ethernet_bytes, ratio};
use crate::number::Decimal;

mod code;
mod spi;
mod uart;
pub mod usb;

pub use code::{BitCode, BitFrame, LineCode, Pulse};
pub use spi::SpiWords;
pub use uart::UartFormat;
pub use usb::UsbSpeed;

/// What a channel runs over, and what sending costs.
#[derive(Clone, Debug, PartialEq)]
pub struct Medium {
    /// What it is, and its speed.
    pub kind: MediumKind,
    /// `tx CURRENT mA at VOLTAGE V`: current and voltage while sending.
    pub sending: Option<(Decimal, Decimal)>,
}

/// The kinds of media, with their speeds.
#[derive(Clone, Debug, PartialEq)]
pub enum MediumKind {
    /// An asynchronous serial line.
    Uart(UartFormat),
    /// A serial peripheral interface; each transfer is a frame.
    Spi {
        /// Clock in hertz.
        hertz: u32,
        /// How words stand on its wires.
        words: SpiWords,
    },
    /// A two-wire bus; each transfer is a frame.
    I2c {
        /// Clock in hertz.
        hertz: u32,
    },
    /// A controller area network (ISO 11898-1).
    Can {
        /// Bits a second.
        bitrate: u32,
        /// Bits a second of the data phase, if frames are CAN FD.
        data_bitrate: Option<u32>,
        /// Where in a bit receivers look at it, in percent of the bit, 50 to 95, at both bit rates.
        sample: Option<u8>,
    },
    /// The universal serial bus (USB 2.0); the data of each transaction are a frame.
    Usb {
        /// Its speed.
        speed: UsbSpeed,
    },
    /// A line of one wire whose code is spelled out; what stands between two rests is a frame.
    Line(LineCode),
    /// A LoRa radio.
    Lora {
        /// Spreading factor, 7 to 12.
        spreading: u8,
        /// Bandwidth in hertz.
        bandwidth: u32,
        /// The second number of the coding rate 4/5 to 4/8.
        coding: u8,
        /// Greatest share of the time that a device may send, in percent.
        duty: Option<Decimal>,
        /// Bytes that the network adds to each frame.
        overhead: Option<u32>,
    },
    /// Datagrams of the User Datagram Protocol (RFC 768).
    Udp {
        /// Port number.
        port: u16,
        /// Whether it goes over IPv6.
        ipv6: bool,
        /// Bits a second of the Ethernet below.
        bitrate: u32,
    },
    /// A connection of the Transmission Control Protocol (RFC 9293).
    Tcp {
        /// Port number.
        port: u16,
        /// Whether it goes over IPv6.
        ipv6: bool,
        /// Bits a second of the Ethernet below.
        bitrate: u32,
    },
    /// Any other stream of bytes.
    Stream {
        /// Bits a second.
        bitrate: u32,
    },
}

/// How the bytes of a medium stand in a capture.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Encapsulation {
    /// As they are.
    Bytes,
    /// In a UDP datagram.
    Udp {
        /// The port of all datagrams, where no key says another.
        port: u16,
    },
    /// In a CAN frame.
    Can {
        /// Whether it is one of CAN FD.
        fd: bool,
    },
}

/// Who notices damage before a frame's own checksum could.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Guard {
    /// The controllers at both ends, which drop each damaged frame.
    Controllers,
    /// The network, which drops most damaged packets.
    Network,
    /// Nobody.
    Nobody,
}

/// A speed in the greatest unit in which it is a whole number.
fn speed_text(value: u32, unit: &str) -> String {
    match value {
        value if value >= 1_000_000 && value % 1_000_000 == 0 => format!("{} M{unit}", value / 1_000_000),
        value if value >= 1_000 && value % 1_000 == 0 => format!("{} k{unit}", value / 1_000),
        value => format!("{value} {unit}"),
    }
}

/// What bits cost at a speed of USB.
fn usb_cost(speed: UsbSpeed, bits: u64) -> WireCost {
    WireCost { bits, time: ratio(bits, u64::from(speed.bitrate())) }
}

/// Where receivers of CAN look at a bit, in percent, if a definition does not say it (CiA 601-3 and its kin recommend it).
pub const USUAL_CAN_SAMPLE: u8 = 80;

/// Longest frame of a medium that sets no limit.
const DEFAULT_LIMIT: usize = 256;

impl MediumKind {
    /// The words with which a medium begins.
    pub const WORDS: &[&str] = &["uart", "udp", "can", "lora", "spi", "i2c", "usb", "line", "tcp", "stream"];

    /// The word for it.
    pub fn as_str(&self) -> &'static str {
        match self {
            MediumKind::Uart { .. } => "uart",
            MediumKind::Spi { .. } => "spi",
            MediumKind::I2c { .. } => "i2c",
            MediumKind::Usb { .. } => "usb",
            MediumKind::Can { .. } => "can",
            MediumKind::Lora { .. } => "lora",
            MediumKind::Udp { .. } => "udp",
            MediumKind::Tcp { .. } => "tcp",
            MediumKind::Line(_) => "line",
            MediumKind::Stream { .. } => "stream",
        }
    }

    /// As the definition has it, without what its speed means.
    pub fn text(&self) -> String {
        let speed = speed_text;
        let network = |name: &str, port: u16, ipv6: bool, bitrate: u32| {
            let ip = if ipv6 { "IPv6" } else { "IPv4" };
            format!("{name} {port} over {ip} on Ethernet of {}", speed(bitrate, "bit/s"))
        };
        match *self {
            MediumKind::Uart(format) => format!("uart {format}"),
            MediumKind::Line(code) => format!("line {code}"),
            MediumKind::Spi { hertz, words } => format!("spi {}{words}", speed(hertz, "Hz")),
            MediumKind::I2c { hertz } => format!("i2c {}", speed(hertz, "Hz")),
            MediumKind::Usb { speed } => format!("usb {}", speed.as_str()),
            MediumKind::Can { bitrate, data_bitrate, sample } => {
                let fd = data_bitrate.map_or(String::new(), |data| format!(" fd {}", speed(data, "bit/s")));
                let sample = sample.map_or(String::new(), |sample| format!(" sample {sample} %"));
                format!("can {}{fd}{sample}", speed(bitrate, "bit/s"))
            }
            MediumKind::Lora { spreading, bandwidth, coding, duty, .. } => {
                let duty = duty.map_or(String::new(), |duty| format!(" duty {duty} %"));
                format!("lora sf{spreading} {} 4/{coding}{duty}", speed(bandwidth, "Hz"))
            }
            MediumKind::Udp { port, ipv6, bitrate } => network("udp", port, ipv6, bitrate),
            MediumKind::Tcp { port, ipv6, bitrate } => network("tcp", port, ipv6, bitrate),
            MediumKind::Stream { bitrate } => format!("stream {}", speed(bitrate, "bit/s")),
        }
    }

    /// Whether it keeps packets apart.
    pub fn keeps_packets(&self) -> bool {
        match self {
            MediumKind::Spi { .. }
            | MediumKind::I2c { .. }
            | MediumKind::Usb { .. }
            | MediumKind::Can { .. }
            | MediumKind::Line(_)
            | MediumKind::Lora { .. }
            | MediumKind::Udp { .. } => true,
            MediumKind::Uart(_) | MediumKind::Tcp { .. } | MediumKind::Stream { .. } => false,
        }
    }

    /// Whether every byte arrives, in order and unchanged, so that frames can follow each other without a mark.
    pub(crate) fn loses_nothing(&self) -> bool {
        match self {
            MediumKind::Tcp { .. } | MediumKind::Stream { .. } => true,
            MediumKind::Uart(_)
            | MediumKind::Spi { .. }
            | MediumKind::I2c { .. }
            | MediumKind::Usb { .. }
            | MediumKind::Can { .. }
            | MediumKind::Line(_)
            | MediumKind::Lora { .. }
            | MediumKind::Udp { .. } => false,
        }
    }

    /// Who notices damage before a frame's own checksum could.
    pub fn guard(&self) -> Guard {
        match self {
            MediumKind::Can { .. } | MediumKind::Usb { .. } | MediumKind::Lora { .. } => Guard::Controllers,
            MediumKind::Udp { .. } | MediumKind::Tcp { .. } => Guard::Network,
            MediumKind::Uart(_)
            | MediumKind::Spi { .. }
            | MediumKind::I2c { .. }
            | MediumKind::Line(_)
            | MediumKind::Stream { .. } => Guard::Nobody,
        }
    }

    /// How its bytes stand in a capture.
    pub fn encapsulation(&self) -> Encapsulation {
        match *self {
            MediumKind::Udp { port, .. } => Encapsulation::Udp { port },
            MediumKind::Can { data_bitrate, .. } => Encapsulation::Can { fd: data_bitrate.is_some() },
            MediumKind::Uart(_)
            | MediumKind::Spi { .. }
            | MediumKind::I2c { .. }
            | MediumKind::Usb { .. }
            | MediumKind::Line(_)
            | MediumKind::Lora { .. }
            | MediumKind::Tcp { .. }
            | MediumKind::Stream { .. } => Encapsulation::Bytes,
        }
    }

    /// Whether its packets come with a port that can select the message.
    pub(crate) fn has_ports(&self) -> bool {
        match self {
            MediumKind::Udp { .. } | MediumKind::Lora { .. } => true,
            MediumKind::Uart(_)
            | MediumKind::Spi { .. }
            | MediumKind::I2c { .. }
            | MediumKind::Usb { .. }
            | MediumKind::Can { .. }
            | MediumKind::Line(_)
            | MediumKind::Tcp { .. }
            | MediumKind::Stream { .. } => false,
        }
    }

    /// Whether its packets come with an endpoint that can select the message.
    pub(crate) fn has_endpoints(&self) -> bool {
        matches!(self, MediumKind::Usb { .. })
    }

    /// The greatest port, endpoint, or CAN identifier (of 29 bits if `extended`), that its packets can come with.
    pub(crate) fn greatest_key(&self, extended: bool) -> u64 {
        match (self.encapsulation(), self) {
            (Encapsulation::Can { .. }, _) if extended => 0x1FFF_FFFF,
            (Encapsulation::Can { .. }, _) => 0x7FF,
            (_, MediumKind::Lora { .. }) => 223,
            (_, MediumKind::Usb { .. }) => usb::FROM_DEVICE | usb::GREATEST_ENDPOINT,
            _ => 65_535,
        }
    }

    /// Most bytes of a frame, if it sets a limit, and why; `by_port` where ports select the message.
    pub fn limit(&self, by_port: bool) -> Option<(usize, String)> {
        match self {
            MediumKind::Can { data_bitrate: None, .. } => Some((8, "a CAN frame carries at most 8 bytes".into())),
            MediumKind::Can { data_bitrate: Some(_), .. } => {
                Some((64, "a CAN FD frame carries at most 64 bytes".into()))
            }
            MediumKind::Usb { speed: UsbSpeed::Low } => {
                Some((8, "a data packet of USB at low speed carries at most 8 bytes".into()))
            }
            MediumKind::Usb { speed } => {
                let (most, usual) = (speed.most(), speed.most_acknowledged());
                let why = format!(
                    "a data packet of USB at full speed carries at most {usual} bytes, or {most} if it is isochronous"
                );
                Some((most, why))
            }
            // LoRaWAN Regional Parameters RP002-1.0.4, EU863-870, without repeaters in between it would be a little more.
            MediumKind::Lora { spreading, .. } if by_port => {
                let most = match spreading {
                    7 | 8 => 222,
                    9 => 115,
                    _ => 51,
                };
                Some((most, format!("at spreading factor {spreading} a network carries at most {most} bytes")))
            }
            MediumKind::Lora { .. } => Some((255, "a LoRa packet carries at most 255 bytes".into())),
            MediumKind::Udp { ipv6: false, .. } => {
                Some((65_507, "a UDP datagram over IPv4 carries at most 65507 bytes".into()))
            }
            MediumKind::Udp { ipv6: true, .. } => {
                Some((65_527, "a UDP datagram over IPv6 carries at most 65527 bytes".into()))
            }
            MediumKind::Uart(_)
            | MediumKind::Spi { .. }
            | MediumKind::I2c { .. }
            | MediumKind::Line(_)
            | MediumKind::Tcp { .. }
            | MediumKind::Stream { .. } => None,
        }
    }

    /// The limit of a channel that does not say it: the medium's, for UDP what fits into one Ethernet frame, for USB
    /// what is acknowledged.
    pub(crate) fn default_limit(&self, by_port: bool) -> usize {
        match self {
            MediumKind::Udp { ipv6: true, .. } => 1452,
            MediumKind::Udp { ipv6: false, .. } => 1472,
            MediumKind::Usb { speed } => speed.most_acknowledged(),
            _ => self.limit(by_port).map_or(DEFAULT_LIMIT, |(most, _)| most),
        }
    }

    /// Whether bits that this medium sends arrive at a receiver that is set up for another.
    pub fn is_heard_by(&self, receiver: &MediumKind) -> bool {
        match (self, receiver) {
            (MediumKind::Uart(format), MediumKind::Uart(other)) => format.is_heard_by(other),
            (MediumKind::Line(code), MediumKind::Line(other)) => code == other,
            // The host gives the clock.
            (MediumKind::Spi { words, .. }, MediumKind::Spi { words: other, .. }) => words == other,
            (MediumKind::I2c { .. }, MediumKind::I2c { .. }) => true,
            (MediumKind::Usb { speed }, MediumKind::Usb { speed: other }) => speed == other,
            // A classic controller answers a CAN FD frame with an error frame; the other way around all is well.
            (
                MediumKind::Can { bitrate, data_bitrate, .. },
                MediumKind::Can { bitrate: other, data_bitrate: data, .. },
            ) => bitrate == other && (data_bitrate.is_none() || data_bitrate == data),
            // The header of a frame says its coding rate.
            (
                MediumKind::Lora { spreading, bandwidth, .. },
                MediumKind::Lora { spreading: other, bandwidth: width, .. },
            ) => (spreading, bandwidth) == (other, width),
            (MediumKind::Udp { port, ipv6, .. }, MediumKind::Udp { port: other, ipv6: six, .. })
            | (MediumKind::Tcp { port, ipv6, .. }, MediumKind::Tcp { port: other, ipv6: six, .. }) => {
                (port, ipv6) == (other, six)
            }
            (MediumKind::Stream { .. }, MediumKind::Stream { .. }) => true,
            _ => false,
        }
    }

    /// How long one byte takes on a line whose bytes follow each other at one speed, in nanoseconds, rounded down; `None` where
    /// that says nothing about how long a frame takes.
    pub fn byte_nanoseconds(&self) -> Option<u64> {
        match self {
            MediumKind::Uart(_) | MediumKind::Stream { .. } => Some(wire_time::nanoseconds(self.worst(1, false).time)),
            MediumKind::Spi { .. }
            | MediumKind::I2c { .. }
            | MediumKind::Usb { .. }
            | MediumKind::Can { .. }
            | MediumKind::Line(_)
            | MediumKind::Lora { .. }
            | MediumKind::Udp { .. }
            | MediumKind::Tcp { .. } => None,
        }
    }

    /// What a frame of so many bytes costs at most. `extended`: whether a CAN identifier has 29 bits.
    pub fn worst(&self, bytes: usize, extended: bool) -> WireCost {
        match self {
            MediumKind::Can { data_bitrate: None, .. } => {
                let bits = can::classic_bits(bytes, extended) + can::classic_worst_stuffing(bytes, extended);
                self.at_bitrates(bits, 0)
            }
            MediumKind::Can { data_bitrate: Some(_), .. } => {
                let (slow, fast) = can::fd_bits(bytes, extended);
                let (slow_stuffing, fast_stuffing) = can::fd_worst_stuffing(bytes, extended);
                self.at_bitrates(slow + slow_stuffing, fast + fast_stuffing)
            }
            MediumKind::Usb { speed } => {
                usb_cost(*speed, usb::transaction_bits(bytes as u64) + usb::worst_stuffing(bytes as u64))
            }
            _ => self.without_stuffing(bytes, extended),
        }
    }

    /// What a frame of so many bytes costs at least: without any stuff bits.
    pub fn least(&self, bytes: usize, extended: bool) -> WireCost {
        self.without_stuffing(bytes, extended)
    }

    /// What a frame with these very bytes costs: as [`MediumKind::worst`], with the stuff bits that its content needs. `id` is the
    /// CAN identifier, and whether it has 29 bits.
    pub fn exact(&self, bytes: &[u8], id: (u32, bool)) -> WireCost {
        match self {
            MediumKind::Can { data_bitrate: None, .. } => {
                self.at_bitrates(can::classic_bits(bytes.len(), id.1) + can::classic_stuffing(bytes, id), 0)
            }
            MediumKind::Can { data_bitrate: Some(_), .. } => {
                let (slow, fast) = can::fd_bits(bytes.len(), id.1);
                let (slow_stuffing, fast_stuffing) = can::fd_stuffing(bytes, id);
                self.at_bitrates(slow + slow_stuffing, fast + fast_stuffing)
            }
            // The stuff bits of the token hang on the address, and are left out.
            MediumKind::Usb { speed } => {
                usb_cost(*speed, usb::transaction_bits(bytes.len() as u64) + usb::data_stuffing(bytes))
            }
            _ => self.without_stuffing(bytes.len(), id.1),
        }
    }

    /// The cost of bits at the two bit rates of CAN FD; at the first alone elsewhere on CAN.
    fn at_bitrates(&self, slow: u64, fast: u64) -> WireCost {
        let time = match *self {
            MediumKind::Can { bitrate, data_bitrate, .. } => {
                let data = data_bitrate.unwrap_or(bitrate);
                ratio(slow, u64::from(bitrate)) + ratio(fast, u64::from(data))
            }
            _ => Seconds::from_integer(0),
        };
        WireCost { bits: slow + fast, time }
    }

    fn without_stuffing(&self, bytes: usize, extended: bool) -> WireCost {
        let count = bytes as u64;
        let at = |bits: u64, speed: u32| WireCost { bits, time: ratio(bits, u64::from(speed)) };
        match self {
            MediumKind::Uart(format) => {
                let halves = count * u64::from(format.halves());
                WireCost { bits: halves.div_ceil(2), time: ratio(halves, 2 * u64::from(format.baud)) }
            }
            MediumKind::Spi { hertz, words } => {
                let bits = u64::from(words.bits);
                at(count.div_ceil(bits.div_ceil(8)) * bits, *hertz)
            }
            MediumKind::Line(code) => {
                // Of a pulse code the longer of the two bits counts, of stuffing the most that there can be.
                let bits = code.bits_of(count);
                let stuffed = match code.bits {
                    BitCode::Nrzi { stuff: Some(stuff), .. } => bits / u64::from(stuff.max(1)),
                    _ => 0,
                };
                let each = match code.bits {
                    BitCode::Pulse { .. } => code.pulse_picoseconds(false).max(code.pulse_picoseconds(true)),
                    _ => code.bit_picoseconds(),
                };
                WireCost { bits: bits + stuffed, time: ratio((bits + stuffed) * each, 1_000_000_000_000) }
            }
            // A start condition, the address with its direction and acknowledge bit, each byte with one, a stop condition
            // (UM10204, the bus specification, section 3.1).
            MediumKind::I2c { hertz } => at(1 + 9 + count * 9 + 1, *hertz),
            MediumKind::Usb { speed } => usb_cost(*speed, usb::transaction_bits(count)),
            MediumKind::Stream { bitrate } => at(count * 8, *bitrate),
            MediumKind::Udp { ipv6, bitrate, .. } => at(ethernet_bytes(count + 8, *ipv6) * 8, *bitrate),
            // A segment of its own for each frame, without options (RFC 9293).
            MediumKind::Tcp { ipv6, bitrate, .. } => at(ethernet_bytes(count + 20, *ipv6) * 8, *bitrate),
            MediumKind::Lora { overhead, .. } => {
                let Some(radio) = self.radio() else { return at(0, 1) };
                let quarters = radio.quarter_symbols(count + u64::from(overhead.unwrap_or(0)), true, true);
                WireCost { bits: quarters.div_ceil(4), time: radio.quarters_to_seconds(quarters) }
            }
            MediumKind::Can { data_bitrate: None, .. } => self.at_bitrates(can::classic_bits(bytes, extended), 0),
            MediumKind::Can { data_bitrate: Some(_), .. } => {
                let (slow, fast) = can::fd_bits(bytes, extended);
                self.at_bitrates(slow, fast)
            }
        }
    }

    /// The settings of its radio, if it is one.
    pub fn radio(&self) -> Option<Lora> {
        match *self {
            MediumKind::Lora { spreading, bandwidth, coding, .. } => Some(Lora { spreading, bandwidth, coding }),
            _ => None,
        }
    }

    /// The greatest share of the time that a device may send, if there is one.
    pub fn duty(&self) -> Option<Ratio<i128>> {
        let MediumKind::Lora { duty: Some(percent), .. } = self else { return None };
        Some(Ratio::new(percent.mantissa, 10i128.pow(percent.decimals.min(18)) * 100))
    }

    /// Bytes that a network adds to each packet, beside what the definition says.
    pub(crate) fn network_bytes(&self) -> u32 {
        match self {
            MediumKind::Lora { overhead, .. } => overhead.unwrap_or(0),
            _ => 0,
        }
    }
}
