//! The universal serial bus at low and full speed, and how its packets are made of bits (USB 2.0, chapters 7 and 8).

/// A speed of the bus.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum UsbSpeed {
    /// 1.5 Mbit/s.
    Low,
    /// 12 Mbit/s.
    Full,
}

impl UsbSpeed {
    /// The word for it.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Low => "low",
            Self::Full => "full",
        }
    }

    /// Bits a second (section 7.1.11).
    pub fn bitrate(self) -> u32 {
        match self {
            Self::Low => 1_500_000,
            Self::Full => 12_000_000,
        }
    }

    /// Most bytes of data in a packet: at low speed 8, at full speed 1023 of an isochronous endpoint (sections 5.5 to 5.8).
    pub fn most(self) -> usize {
        match self {
            Self::Low => 8,
            Self::Full => 1023,
        }
    }

    /// Most bytes of data in a packet that is acknowledged: at low speed 8, at full speed 64.
    pub fn most_acknowledged(self) -> usize {
        self.most().min(64)
    }
}

/// Greatest number of an endpoint.
pub(crate) const GREATEST_ENDPOINT: u64 = 15;

/// Set in the address of an endpoint from which the device sends (section 9.6.6): `0x81` is endpoint 1 of the device, `0x01` that of the
/// host.
pub const FROM_DEVICE: u64 = 0x80;

/// What a packet is, as the low half of its first byte; the high half has all bits the other way around (section 8.3.1).
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum PacketId {
    /// The host sends next.
    Out = 0b0001,
    /// The device sends next.
    In = 0b1001,
    /// The start of a frame, once a millisecond.
    StartOfFrame = 0b0101,
    /// The host sends a request next.
    Setup = 0b1101,
    /// Data with toggle 0.
    Data0 = 0b0011,
    /// Data with toggle 1.
    Data1 = 0b1011,
    /// What was received is right.
    Ack = 0b0010,
    /// Nothing can be sent or taken now.
    Nak = 0b1010,
    /// The endpoint has stopped.
    Stall = 0b1110,
    /// What comes next has low speed.
    Preamble = 0b1100,
}

impl PacketId {
    /// All of them.
    pub const ALL: [Self; 10] = [
        Self::Out,
        Self::In,
        Self::StartOfFrame,
        Self::Setup,
        Self::Data0,
        Self::Data1,
        Self::Ack,
        Self::Nak,
        Self::Stall,
        Self::Preamble,
    ];

    /// The first byte of such a packet.
    pub fn byte(self) -> u8 {
        self as u8 | !(self as u8) << 4
    }

    /// What a packet with this first byte is; `None` if it is none, or one of high speed.
    pub fn of(byte: u8) -> Option<Self> {
        Self::ALL.into_iter().find(|id| id.byte() == byte)
    }

    /// Its name in the standard.
    pub fn name(self) -> &'static str {
        match self {
            Self::Out => "OUT",
            Self::In => "IN",
            Self::StartOfFrame => "SOF",
            Self::Setup => "SETUP",
            Self::Data0 => "DATA0",
            Self::Data1 => "DATA1",
            Self::Ack => "ACK",
            Self::Nak => "NAK",
            Self::Stall => "STALL",
            Self::Preamble => "PRE",
        }
    }
}

/// What a packet says, in words: its kind, to whom a token is, and what is wrong with it if something is.
pub fn packet_text(packet: &[u8]) -> String {
    let Some(id) = packet.first().and_then(|byte| PacketId::of(*byte)) else {
        return "packet of no kind that this speed has".to_owned();
    };
    let (name, rest) = (id.name(), &packet[1..]);
    let bits = || rest.try_into().ok().map(u16::from_le_bytes);
    let checked = |bits: u16| if u16::from(crc5(bits & 0x7FF)) == bits >> 11 { "" } else { ", checksum wrong" };
    match id {
        PacketId::Out | PacketId::In | PacketId::Setup => match bits() {
            Some(bits) => {
                format!("{name} to address {}, endpoint {}{}", bits & 0x7F, bits >> 7 & 0xF, checked(bits))
            }
            None => format!("{name} of a wrong length"),
        },
        PacketId::StartOfFrame => match bits() {
            Some(bits) => format!("{name} of frame {}{}", bits & 0x7FF, checked(bits)),
            None => format!("{name} of a wrong length"),
        },
        PacketId::Data0 | PacketId::Data1 => match rest.split_last_chunk() {
            Some((bytes, checksum)) if u16::from_le_bytes(*checksum) == crc16(bytes) => {
                format!("{name} of {} byte{}", bytes.len(), if bytes.len() == 1 { "" } else { "s" })
            }
            Some((bytes, _)) => {
                format!("{name} of {} byte{}, checksum wrong", bytes.len(), if bytes.len() == 1 { "" } else { "s" })
            }
            None => format!("{name} of a wrong length"),
        },
        PacketId::Ack | PacketId::Nak | PacketId::Stall | PacketId::Preamble if rest.is_empty() => name.to_owned(),
        PacketId::Ack | PacketId::Nak | PacketId::Stall | PacketId::Preamble => format!("{name} of a wrong length"),
    }
}

/// The checksum behind the 11 bits of a token (section 8.3.5.1): polynomial x⁵+x²+1, all bits set at first and turned over at last, as it
/// stands above those bits.
pub fn crc5(bits: u16) -> u8 {
    let step = |crc: u8, n| (crc >> 1) ^ if (crc ^ (bits >> n) as u8) & 1 == 1 { 0x14 } else { 0 };
    (0..11).fold(0x1F, step) ^ 0x1F
}

/// The checksum behind the bytes of a data packet (section 8.3.5.2): polynomial x¹⁶+x¹⁵+x²+1, all bits set at first and turned over at
/// last; its low byte is sent first.
pub fn crc16(bytes: &[u8]) -> u16 {
    let bit = |crc: u16, _| (crc >> 1) ^ if crc & 1 == 1 { 0xA001 } else { 0 };
    bytes.iter().fold(0xFFFF, |crc: u16, byte| (0..8).fold(crc ^ u16::from(*byte), bit)) ^ 0xFFFF
}

/// The bytes of a token: to which address and endpoint.
pub fn token(id: PacketId, address: u8, endpoint: u8) -> [u8; 3] {
    let bits = u16::from(address & 0x7F) | u16::from(endpoint & 0xF) << 7;
    let [low, high] = (bits | u16::from(crc5(bits)) << 11).to_le_bytes();
    [id.byte(), low, high]
}

/// The bytes of a data packet.
pub fn data(id: PacketId, bytes: &[u8]) -> Vec<u8> {
    let mut packet = vec![id.byte()];
    packet.extend_from_slice(bytes);
    packet.extend(crc16(bytes).to_le_bytes());
    packet
}

/// The bits of a packet behind its synchronisation, the lowest of each byte first, with a 0 put in behind six 1 in sequence; the last bit of
/// the synchronisation is the first of them (section 7.1.9).
pub fn stuffed(packet: &[u8]) -> Vec<bool> {
    let mut bits = Vec::with_capacity(packet.len() * 8 * 7 / 6);
    let mut ones = 1;
    for bit in packet.iter().flat_map(|byte| (0..8).map(move |n| byte >> n & 1 == 1)) {
        bits.push(bit);
        ones = if bit { ones + 1 } else { 0 };
        if ones == 6 {
            bits.push(false);
            ones = 0;
        }
    }
    bits
}

/// Bits between the packets of a transaction, where it is drawn or its cost is counted: with them a transaction needs the 13 bytes beside its
/// data that the standard counts (tables 5-9 and 5-10).
pub const BETWEEN: u64 = 5;

/// Bits of a transaction with so many bytes of data, without those put in by stuffing: token, data and handshake, each with 8 of
/// synchronisation and 3 of end, and what is [`BETWEEN`] them.
pub(crate) fn transaction_bits(bytes: u64) -> u64 {
    (8 + 24 + 3) + (8 + 8 + 8 * bytes + 16 + 3) + (8 + 8 + 3) + 3 * BETWEEN
}

/// Most bits that stuffing puts into a transaction with so many bytes of data: into its token behind the three 1 at the end of `OUT`, and
/// into its data behind the two at the end of `DATA0`.
pub(crate) fn worst_stuffing(bytes: u64) -> u64 {
    (3 + 16) / 6 + (2 + 8 * bytes + 16) / 6
}

/// Bits that stuffing puts into the data packet of these bytes.
pub(crate) fn data_stuffing(bytes: &[u8]) -> u64 {
    let packet = data(PacketId::Data0, bytes);
    (stuffed(&packet).len() - 8 * packet.len()) as u64
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Worked out bit by bit in the order in which bits are sent, as a shift register does it: the start of frame 0x710 and a setup token to address 0x15, endpoint
    /// 0xE, and the data 00 01 02 03.
    #[test]
    fn checksums_of_tokens_and_data() {
        assert_eq!(crc5(0x710), 0x05);
        assert_eq!(crc5(0x15 | 0xE << 7), 0x1D);
        assert_eq!(crc16(&[0x00, 0x01, 0x02, 0x03]), 0x7AEF);
        assert_eq!(token(PacketId::Setup, 0, 0), [0x2D, 0x00, 0x10]);
        assert_eq!(data(PacketId::Data0, &[]), [0xC3, 0x00, 0x00]);
    }

    #[test]
    fn six_ones_are_followed_by_a_zero() {
        assert_eq!(stuffed(&[0xFF]).iter().map(|bit| u8::from(*bit)).collect::<Vec<_>>(), [1, 1, 1, 1, 1, 0, 1, 1, 1]);
        assert_eq!(data_stuffing(&[0xFF; 3]), 6);
        assert!((0..200u64).all(|n| data_stuffing(&vec![0xFF; n as usize]) <= worst_stuffing(n)));
        assert_eq!(transaction_bits(0), 13 * 8);
    }
}
