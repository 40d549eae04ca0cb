//! What lies below IP packets in a capture.

use crate::pieces::InterfaceKind;

/// The IP packet that a packet of a capture carries, without the header of its link: Ethernet (IEEE 802.3, with VLAN tags of
/// IEEE 802.1Q), Linux "cooked" of both versions, the loopback of BSD systems, or none.
pub fn ip_packet(kind: InterfaceKind, bytes: &[u8]) -> Option<&[u8]> {
    let is_ip = |ether_type: &[u8]| matches!(ether_type, [0x08, 0x00] | [0x86, 0xDD]);
    match kind {
        InterfaceKind::Ip => Some(bytes),
        InterfaceKind::LinuxCooked => is_ip(bytes.get(14..16)?).then(|| &bytes[16..]),
        InterfaceKind::LinuxCooked2 => is_ip(bytes.get(..2)?).then(|| bytes.get(20..))?,
        // The address family, in the byte order of whoever recorded it: 2 for IPv4, and what the BSD systems and Linux have for IPv6.
        InterfaceKind::Loopback => {
            let family: [u8; 4] = *bytes.first_chunk()?;
            let least = u32::from_le_bytes(family).min(u32::from_be_bytes(family));
            matches!(least, 2 | 10 | 24 | 28 | 30).then(|| &bytes[4..])
        }
        InterfaceKind::Ethernet => {
            let mut at = 12;
            while matches!(bytes.get(at..at + 2)?, [0x81, 0x00] | [0x88, 0xA8]) {
                at += 4;
            }
            is_ip(bytes.get(at..at + 2)?).then(|| &bytes[at + 2..])
        }
        InterfaceKind::Serial | InterfaceKind::Can | InterfaceKind::Other(_) => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn headers_of_links_are_taken_off() {
        let ethernet = |types: &[u8]| [&[2; 12][..], types, &[0x45, 1]].concat();
        let of = |kind, bytes: &[u8]| ip_packet(kind, bytes).map(<[u8]>::to_vec);
        assert_eq!(of(InterfaceKind::Ethernet, &ethernet(&[8, 0])), Some(vec![0x45, 1]));
        assert_eq!(of(InterfaceKind::Ethernet, &ethernet(&[0x81, 0, 0, 5, 8, 0])), Some(vec![0x45, 1]));
        assert_eq!(of(InterfaceKind::Ethernet, &ethernet(&[8, 6])), None, "ARP");
        assert_eq!(of(InterfaceKind::Ethernet, &[2; 13]), None);
        assert_eq!(of(InterfaceKind::LinuxCooked, &[&[0; 14][..], &[0x86, 0xDD, 0x60]].concat()), Some(vec![0x60]));
        let cooked2 = [&[0x08, 0][..], &[0; 18], &[0x45]].concat();
        assert_eq!(of(InterfaceKind::LinuxCooked2, &cooked2), Some(vec![0x45]));
        assert_eq!(of(InterfaceKind::LinuxCooked2, &cooked2[..19]), None);
        for family in [[2, 0, 0, 0], [0, 0, 0, 2], [30, 0, 0, 0]] {
            assert_eq!(of(InterfaceKind::Loopback, &[&family[..], &[0x45]].concat()), Some(vec![0x45]));
        }
        assert_eq!(of(InterfaceKind::Loopback, &[7, 0, 0, 0, 0x45]), None);
        assert_eq!(of(InterfaceKind::Ip, &[0x45]), Some(vec![0x45]));
        assert_eq!(of(InterfaceKind::Can, &[0x45]), None);
    }
}
