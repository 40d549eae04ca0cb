//! IP packets (RFC 791, RFC 8200) down to what they carry.

use std::net::IpAddr;

use etherparse::{IpSlice, Ipv6ExtensionSlice};

/// UDP in the registry of protocol numbers.
pub const UDP: u8 = 17;
/// UDP-Lite (RFC 3828).
pub(crate) const UDP_LITE: u8 = 136;
/// TCP.
pub const TCP: u8 = 6;

/// An IP packet.
#[derive(Clone, Copy, Debug)]
pub struct Packet<'a> {
    /// Who sent it.
    pub source: IpAddr,
    /// To whom.
    pub destination: IpAddr,
    /// The number of what it carries in the registry of protocols.
    pub protocol: u8,
    /// What it carries, or a part of it.
    pub payload: &'a [u8],
    /// Which part, if it is not the whole.
    pub fragment: Option<Fragment>,
}

/// Which part of something a packet carries.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Fragment {
    /// The number that all parts have.
    pub identification: u32,
    /// Bytes in front of it.
    pub offset: usize,
    /// Whether more parts stand behind it.
    pub more: bool,
}

impl<'a> Packet<'a> {
    /// Reads one; `None` if it is none, or cut.
    pub fn read(bytes: &'a [u8]) -> Option<Self> {
        let ip = IpSlice::from_slice(bytes).ok()?;
        let fragment = match &ip {
            IpSlice::Ipv4(ip) if ip.header().is_fragmenting_payload() => Some(Fragment {
                identification: u32::from(ip.header().identification()),
                offset: usize::from(ip.header().fragments_offset().byte_offset()),
                more: ip.header().more_fragments(),
            }),
            IpSlice::Ipv4(_) => None,
            IpSlice::Ipv6(ip) => ip.extensions().clone().into_iter().find_map(|extension| match extension {
                // The library takes the offset from other bits than RFC 8200 (section 4.5) puts it in.
                Ipv6ExtensionSlice::Fragment(part) => {
                    let place = u16::from_be_bytes([part.slice()[2], part.slice()[3]]);
                    let (offset, more) = (usize::from(place & !7), place & 1 == 1);
                    (offset > 0 || more).then(|| Fragment { identification: part.identification(), offset, more })
                }
                _ => None,
            }),
        };
        Some(Self {
            source: ip.source_addr(),
            destination: ip.destination_addr(),
            protocol: ip.payload_ip_number().0,
            payload: ip.payload().payload,
            fragment,
        })
    }
}

/// The source and destination port of a datagram of UDP (RFC 768) or UDP-Lite (RFC 3828), and what it carries; `None` if it is cut.
pub fn datagram(protocol: u8, payload: &[u8]) -> Option<([u16; 2], &[u8])> {
    let head: &[u8; 8] = payload.first_chunk()?;
    let number = |at: usize| u16::from_be_bytes([head[at], head[at + 1]]);
    let (ports, length) = ([number(0), number(2)], usize::from(number(4)));
    let data = match (protocol, length) {
        // There it says how much the checksum covers.
        (UDP_LITE, _) => &payload[8..],
        // In packets of more than 64 KiB (RFC 2675).
        (_, 0) => &payload[8..],
        (_, length) => payload.get(8..length)?,
    };
    Some((ports, data))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parts_of_ipv6_packets_say_where_they_belong() {
        let head = [&[0x60, 0, 0, 0, 0, 24, 44, 64][..], &[1; 32]].concat();
        for (place, expected) in
            [([0, 17], Some((16, true))), ([0, 16], Some((16, false))), ([0, 1], Some((0, true))), ([0, 0], None)]
        {
            let packet = [&head[..], &[17, 0, place[0], place[1], 0, 0, 0, 9], &[7; 16]].concat();
            let packet = Packet::read(&packet).unwrap();
            assert_eq!(packet.fragment.map(|part| (part.offset, part.more)), expected);
            assert_eq!((packet.protocol, packet.payload), (UDP, &[7; 16][..]));
        }
    }

    #[test]
    fn datagrams_are_as_long_as_they_say() {
        let udp = [0x12, 0xF2, 0x12, 0xF3, 0, 10, 0, 0, 7, 8, 9];
        assert_eq!(datagram(UDP, &udp), Some(([0x12F2, 0x12F3], &[7, 8][..])));
        assert_eq!(datagram(UDP, &udp[..9]), None);
        assert_eq!(datagram(UDP_LITE, &udp), Some(([0x12F2, 0x12F3], &[7, 8, 9][..])));
        assert_eq!(datagram(UDP, &udp[..7]), None);
    }
}
