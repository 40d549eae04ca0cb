//! How the frames of a channel stand in the packets of a capture, by its medium: written here, and read here.

use std::io;

use emberwort_model::medium::Encapsulation;
use emberwort_model::model::End;
use emberwort_model::plan::{Channel, EXTENDED_ID};
use etherparse::{IpNumber, Ipv4HeaderSlice, UdpHeaderSlice};

/// Link type USER0: bytes of a serial channel, as its interface description says.
pub const LINK_TYPE_USER0: u16 = 147;
/// Link type for IPv4 and IPv6 packets without a link layer.
pub const LINK_TYPE_RAW: u16 = 101;
/// Link type for CAN and CAN FD frames as SocketCAN has them.
pub const LINK_TYPE_CAN: u16 = 227;

/// How chunks of a channel are wrapped into packets.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Wrapping {
    /// The bytes alone (link type USER0).
    Bytes,
    /// The key in four bytes, most significant first, then the bytes (link type USER0).
    Keyed,
    /// A UDP datagram in an IPv4 packet.
    Udp {
        /// The port of all datagrams; `None` where the key is the port.
        port: Option<u16>,
    },
    /// A CAN frame.
    Can {
        /// Whether it is one of CAN FD.
        fd: bool,
    },
}

impl Wrapping {
    /// That of a channel.
    pub fn of(channel: &Channel) -> Self {
        match channel.medium.kind.encapsulation() {
            Encapsulation::Udp { port } => Self::Udp { port: (!channel.key_is_outside()).then_some(port) },
            Encapsulation::Can { fd } => Self::Can { fd },
            Encapsulation::Bytes if channel.key_is_outside() => Self::Keyed,
            Encapsulation::Bytes => Self::Bytes,
        }
    }

    /// The link type of an interface with such packets.
    pub fn link_type(self) -> u16 {
        match self {
            Self::Bytes | Self::Keyed => LINK_TYPE_USER0,
            Self::Udp { .. } => LINK_TYPE_RAW,
            Self::Can { .. } => LINK_TYPE_CAN,
        }
    }

    /// The packet around some bytes with their key, 0 where it stands in the frame. `packet` is replaced by it.
    ///
    /// # Errors
    /// If the medium has no packets that are as long.
    pub fn wrap(self, key: u64, from: End, bytes: &[u8], packet: &mut Vec<u8>) -> io::Result<()> {
        packet.clear();
        match self {
            Self::Udp { port } => *packet = udp_packet(port.unwrap_or(key as u16), from == End::Device, bytes)?,
            Self::Can { fd } => *packet = can_packet(key, fd, bytes),
            Self::Keyed => {
                packet.extend((key as u32).to_be_bytes());
                packet.extend_from_slice(bytes);
            }
            Self::Bytes => packet.extend_from_slice(bytes),
        }
        Ok(())
    }
}

/// The key in front of the bytes of a packet of `Wrapping::Keyed`, and those bytes.
pub fn keyed(packet: &[u8]) -> Option<(u64, &[u8])> {
    let (key, bytes) = packet.split_first_chunk::<4>()?;
    Some((u64::from(u32::from_be_bytes(*key)), bytes))
}

/// The ports and the payload of an IPv4 packet without fragments that carries a whole UDP datagram and nothing else; `None` for all
/// that takes a closer look.
#[inline]
pub(crate) fn usual_datagram(packet: &[u8]) -> Option<([u16; 2], &[u8])> {
    let ip = Ipv4HeaderSlice::from_slice(packet).ok()?;
    let is_usual = ip.protocol() == IpNumber::UDP && !ip.is_fragmenting_payload();
    if !is_usual || usize::from(ip.total_len()) != packet.len() {
        return None;
    }
    let datagram = packet.get(ip.slice().len()..)?;
    let udp = UdpHeaderSlice::from_slice(datagram).ok()?;
    let is_whole = usize::from(udp.length()) == datagram.len();
    is_whole.then(|| ([udp.source_port(), udp.destination_port()], &datagram[udp.slice().len()..]))
}

/// What a packet of SocketCAN is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum CanFrame<'a> {
    /// A frame with data: its key, and they.
    Data(u64, &'a [u8]),
    /// One that asks for data.
    Remote,
    /// What a controller tells of an error, by classes: the bits of the identifier.
    Error(u32),
    /// One that is cut.
    Cut,
}

/// Reads a CAN frame as SocketCAN records it.
pub(crate) fn can_frame(packet: &[u8]) -> CanFrame<'_> {
    let Some(([id @ .., length, _, _, _], data)) = packet.split_first_chunk::<8>() else { return CanFrame::Cut };
    let id = u32::from_be_bytes(*id);
    let (extended, remote, error) = (id >> 31 & 1 == 1, id >> 30 & 1 == 1, id >> 29 & 1 == 1);
    if error {
        return CanFrame::Error(id & 0x1FFF_FFFF);
    }
    if remote {
        return CanFrame::Remote;
    }
    let key = u64::from(id & 0x1FFF_FFFF) | if extended { EXTENDED_ID } else { 0 };
    data.get(..usize::from(*length)).map_or(CanFrame::Cut, |data| CanFrame::Data(key, data))
}

/// An IPv4 packet with a UDP datagram between a device and the host, as it is recorded for channels over UDP. The addresses
/// are from the range for documentation (RFC 5737).
///
/// # Errors
/// If the datagram is longer than UDP allows.
pub fn udp_packet(port: u16, from_device: bool, payload: &[u8]) -> io::Result<Vec<u8>> {
    let (device, host) = ([192, 0, 2, 10], [192, 0, 2, 1]);
    let (source, destination) = if from_device { (device, host) } else { (host, device) };
    let builder = etherparse::PacketBuilder::ipv4(source, destination, 64).udp(port, port);
    let mut packet = Vec::with_capacity(builder.size(payload.len()));
    builder.write(&mut packet, payload).map_err(|error| io::Error::other(error.to_string()))?;
    Ok(packet)
}

/// A CAN frame as link type 227 (LINKTYPE_CAN_SOCKETCAN) records it: the identifier, most significant byte first, with bit 31
/// set for one of 29 bits; the number of data bytes; flags (bit 2 for CAN FD); two reserved bytes; the data.
pub fn can_packet(key: u64, fd: bool, data: &[u8]) -> Vec<u8> {
    let mut packet = (key as u32).to_be_bytes().to_vec();
    packet.extend([data.len() as u8, if fd { 4 } else { 0 }, 0, 0]);
    packet.extend_from_slice(data);
    packet
}
