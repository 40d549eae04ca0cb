//! The layers around the bytes of a link in a packet: lengths and checksums that follow what is changed inside.

use std::ops::Range;

use emberwort_checksum::packet::{Verdict, checksums};

use crate::network::ip_packet;
use crate::pieces::InterfaceKind;

/// A checksum of a layer, before and after a change.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Layer {
    /// Whose it is: `UDP`, `IPv4 header`, `Ethernet FCS`.
    pub name: String,
    /// What stood there.
    pub found: u64,
    /// What should stand there now.
    pub expected: u64,
    /// What stands there now.
    pub written: u64,
    /// Hex digits.
    pub digits: usize,
}

/// A packet in which a stretch is replaced: lengths follow, checksums too unless they are kept.
///
/// # Errors
/// Why a packet cannot hold it.
pub fn rebuild(
    kind: InterfaceKind,
    old: &[u8],
    range: Range<usize>,
    new: &[u8],
    keep_checksums: bool,
) -> Result<(Vec<u8>, Vec<Layer>), String> {
    let mut packet = [&old[..range.start], new, &old[range.end..]].concat();
    let change = new.len() as i64 - range.len() as i64;
    match kind {
        InterfaceKind::Serial | InterfaceKind::Other(_) => Ok((packet, Vec::new())),
        InterfaceKind::Can => {
            let length = packet.len().saturating_sub(8);
            let most = if packet.get(5).is_some_and(|flags| flags & 4 != 0) { 64 } else { 8 };
            if length > most {
                return Err(format!("a CAN frame holds {most} bytes, and this would have {length}"));
            }
            if let Some(says) = packet.get_mut(4) {
                *says = length as u8;
            }
            Ok((packet, Vec::new()))
        }
        _ => {
            let Some(ip) = ip_packet(kind, old) else { return Err("it is no IP packet".to_owned()) };
            let start = ip.as_ptr() as usize - old.as_ptr() as usize;
            let layers = network(&mut packet, (old, start), change, keep_checksums)?;
            Ok((packet, layers))
        }
    }
}

fn add(packet: &mut [u8], at: usize, change: i64, what: &str) -> Result<(), String> {
    let Some(place) = packet.get_mut(at..at + 2) else { return Err("it is cut".to_owned()) };
    let length = i64::from(u16::from_be_bytes([place[0], place[1]])) + change;
    let length = u16::try_from(length).map_err(|_| format!("the length of {what} cannot be {length}"))?;
    place.copy_from_slice(&length.to_be_bytes());
    Ok(())
}

fn network(packet: &mut [u8], (old, start): (&[u8], usize), change: i64, keep: bool) -> Result<Vec<Layer>, String> {
    let ip = old.get(start..).unwrap_or_default();
    let (protocol, header, total) = match ip.first().map(|byte| byte >> 4) {
        Some(4) if ip.len() >= 20 => {
            add(packet, start + 2, change, "the IPv4 packet")?;
            (ip[9], usize::from(ip[0] & 15) * 4, usize::from(u16::from_be_bytes([ip[2], ip[3]])))
        }
        Some(6) if ip.len() >= 40 => {
            add(packet, start + 4, change, "the IPv6 packet")?;
            (ip[6], 40, 40 + usize::from(u16::from_be_bytes([ip[4], ip[5]])))
        }
        _ => return Err("it is no whole IP packet".to_owned()),
    };
    match protocol {
        17 => add(packet, start + header + 4, change, "the UDP datagram")?,
        6 if change != 0 => {
            return Err("in a TCP segment another number of bytes would move all that follows; only values of the same size can change".to_owned());
        }
        6 | 136 => {}
        other => {
            return Err(format!("it carries IP protocol {other} below the frame, whose lengths are not known here"));
        }
    }
    // What stands behind the IP packet: filling, and maybe the checksum of the Ethernet frame (IEEE 802.3, clause 3.2.9).
    let trailer = old.len().saturating_sub(start + total);
    let has_fcs = start >= 14
        && trailer >= 4
        && old.len() >= 64
        && crc32(&old[..old.len() - 4]).to_le_bytes() == old[old.len() - 4..];
    let end = packet.len() - trailer;
    let mut layers = Vec::new();
    let sums = checksums(&packet[start..end]).map_err(|error| error.0)?;
    for sum in sums {
        let Verdict::Wrong { expected, .. } = sum.verdict else {
            if sum.verdict == Verdict::Right {
                let value = u64::from(sum.found);
                layers.push(Layer { name: sum.name.into(), found: value, expected: value, written: value, digits: 4 });
            }
            continue;
        };
        if !keep {
            packet[start + sum.at..start + sum.at + 2].copy_from_slice(&expected.to_be_bytes());
        }
        layers.push(Layer {
            name: sum.name.into(),
            found: sum.found.into(),
            expected: expected.into(),
            written: if keep { sum.found } else { expected }.into(),
            digits: 4,
        });
    }
    if has_fcs {
        let at = packet.len() - 4;
        let found = u32::from_le_bytes([packet[at], packet[at + 1], packet[at + 2], packet[at + 3]]);
        let expected = crc32(&packet[..at]);
        if !keep {
            packet[at..].copy_from_slice(&expected.to_le_bytes());
        }
        let written = if keep { found } else { expected };
        layers.push(Layer {
            name: "Ethernet FCS".into(),
            found: found.into(),
            expected: expected.into(),
            written: written.into(),
            digits: 8,
        });
    }
    Ok(layers)
}

/// The CRC of Ethernet frames (IEEE 802.3, clause 3.2.9), also known as CRC-32/ISO-HDLC.
fn crc32(bytes: &[u8]) -> u32 {
    !bytes.iter().fold(!0, |sum, byte| {
        (0..8).fold(sum ^ u32::from(*byte), |sum, _| (sum >> 1) ^ (0xEDB8_8320 & (sum & 1).wrapping_neg()))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lengths_and_checksums_follow() {
        let packet = crate::packets::udp_packet(4850, true, &[1, 2, 3, 4]).unwrap();
        let at = packet.len() - 4;
        let (new, layers) = rebuild(InterfaceKind::Ip, &packet, at..at + 2, &[9, 9, 9], false).unwrap();
        let expected = crate::packets::udp_packet(4850, true, &[9, 9, 9, 3, 4]).unwrap();
        assert_eq!(new, expected);
        assert_eq!(layers.iter().map(|layer| layer.name.as_str()).collect::<Vec<_>>(), ["IPv4 header", "UDP"]);
        let (kept, layers) = rebuild(InterfaceKind::Ip, &packet, at..at + 1, &[9], true).unwrap();
        assert_eq!((kept.len(), kept[at]), (packet.len(), 9));
        assert!(layers.iter().any(|layer| layer.name == "UDP" && layer.written != layer.expected));
        // An Ethernet frame with its own checksum behind.
        let mut frame = [&[2u8; 12][..], &[8, 0], &packet, &[0; 14]].concat();
        frame.extend(crc32(&frame).to_le_bytes());
        let (new, layers) = rebuild(InterfaceKind::Ethernet, &frame, 14 + at..14 + at + 1, &[7], false).unwrap();
        let end = new.len() - 4;
        assert_eq!(new[end..], crc32(&new[..end]).to_le_bytes());
        assert_eq!(layers.last().unwrap().name, "Ethernet FCS");
        assert_eq!(crc32(b"123456789"), 0xCBF4_3926);
    }
}
