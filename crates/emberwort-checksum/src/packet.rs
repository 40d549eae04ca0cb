//! The Internet checksums of a network packet: which there are, over which bytes, and whether they agree.
//!
//! IPv4 header (RFC 791), UDP (RFC 768, RFC 8200 section 8.1), UDP-Lite (RFC 3828), TCP (RFC 9293), ICMP (RFC 792), ICMPv6
//! (RFC 4443).

use std::ops::Range;

use crate::explain::{WORD_TITLES, fold, words};
use crate::working::{Working, hex};

/// One checksum of a packet.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PacketSum {
    /// Whose it is: `IPv4 header`, `UDP`, ….
    pub name: &'static str,
    /// Offset of its two bytes in the packet.
    pub at: usize,
    /// The pseudo-header, empty without one.
    pub pseudo: Vec<u8>,
    /// The bytes of the packet that it covers.
    pub covers: Range<usize>,
    /// The value in the packet.
    pub found: u16,
    /// What came of it.
    pub verdict: Verdict,
}

/// What came of comparing a checksum.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Verdict {
    /// It is as computed.
    Right,
    /// It should be this.
    Wrong {
        /// As computed.
        expected: u16,
        /// Whether the value found is the sum of the pseudo-header alone, which network hardware completes when it sends.
        left_to_hardware: bool,
    },
    /// The sender did not compute one: UDP's 0 over IPv4.
    None,
    /// It cannot be computed from these bytes.
    Unknown(String),
}

/// What cannot be read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NoPacket(pub String);

/// All checksums of an IP packet that begins with the first byte.
///
/// # Errors
/// If it is no IPv4 or IPv6 packet, or ends within its headers.
pub fn checksums(packet: &[u8]) -> Result<Vec<PacketSum>, NoPacket> {
    match packet.first().map(|byte| byte >> 4) {
        Some(4) => ipv4(packet),
        Some(6) => ipv6(packet),
        Some(version) => Err(NoPacket(format!("its first digit, the version, is {version}; IP packets have 4 or 6"))),
        None => Err(NoPacket("there are no bytes".into())),
    }
}

fn be16(bytes: &[u8], at: usize) -> usize {
    usize::from(bytes[at]) << 8 | usize::from(bytes[at + 1])
}

/// The complemented sum over a pseudo-header and some bytes, of which those of the checksum itself count as zero.
fn computed(pseudo: &[u8], bytes: &[u8], own: Option<usize>) -> u16 {
    let mut total = 0u64;
    let mut zeroed = bytes.to_vec();
    if let Some(own) = own {
        zeroed[own..own + 2].fill(0);
    }
    words("", pseudo, &mut total);
    words("", &zeroed, &mut total);
    fold(total, &mut Working::default()) as u16
}

fn judged(packet: &[u8], name: &'static str, at: usize, pseudo: Vec<u8>, covers: Range<usize>) -> PacketSum {
    let found = be16(packet, at) as u16;
    let mut expected = computed(&pseudo, &packet[covers.clone()], Some(at - covers.start));
    // Where 0 stands for none, a computed 0 is sent as its other form (RFC 768, RFC 3828).
    if expected == 0 && matches!(name, "UDP" | "UDP-Lite") {
        expected = 0xFFFF;
    }
    let left_to_hardware = !pseudo.is_empty() && found == !computed(&pseudo, &[], None);
    let verdict = if found == expected { Verdict::Right } else { Verdict::Wrong { expected, left_to_hardware } };
    PacketSum { name, at, pseudo, covers, found, verdict }
}

fn ipv4(packet: &[u8]) -> Result<Vec<PacketSum>, NoPacket> {
    let header = packet.first().map_or(0, |byte| usize::from(byte & 0xF) * 4);
    if packet.len() < 20 || header < 20 || packet.len() < header {
        return Err(NoPacket(format!(
            "an IPv4 header has 20 bytes or more; it says {header}, and there are {} bytes",
            packet.len()
        )));
    }
    let total = be16(packet, 2);
    let mut all = vec![judged(packet, "IPv4 header", 10, Vec::new(), 0..header)];
    let fragment = be16(packet, 6);
    if fragment & 0x1FFF != 0 || fragment & 0x2000 != 0 {
        all.extend(transport_name(packet[9]).map(|name| {
            unknown(name, header, "the packet is a fragment: the checksum covers all of them together".into())
        }));
        return Ok(all);
    }
    let pseudo = |length: usize| {
        let mut pseudo = packet[12..20].to_vec();
        pseudo.extend([0, packet[9], (length >> 8) as u8, length as u8]);
        pseudo
    };
    all.extend(transport(packet, packet[9], header..total.max(header), pseudo, true));
    Ok(all)
}

fn ipv6(packet: &[u8]) -> Result<Vec<PacketSum>, NoPacket> {
    if packet.len() < 40 {
        return Err(NoPacket(format!("an IPv6 header has 40 bytes, and there are {}", packet.len())));
    }
    let end = 40 + be16(packet, 4);
    let (mut next, mut at) = (packet[6], 40);
    let mut destination = packet[24..40].to_vec();
    // Hop-by-hop, routing and destination options say the next header and their length in units of 8 bytes.
    while matches!(next, 0 | 43 | 60) {
        let Some([following, units]) = packet.get(at..at + 2) else {
            return Err(NoPacket("it ends within an extension header".into()));
        };
        let size = (usize::from(*units) + 1) * 8;
        // A routing header with segments left holds the last destination, which the checksum covers (RFC 8200, 8.1).
        if next == 43 && packet.get(at + 3).is_some_and(|left| *left > 0) && size >= 24 {
            match packet.get(at + size - 16..at + size) {
                Some(last) => destination = last.to_vec(),
                None => return Err(NoPacket("it ends within its routing header".into())),
            }
        }
        (next, at) = (*following, at + size);
    }
    if next == 44 {
        return Ok(packet
            .get(at)
            .and_then(|next| transport_name(*next))
            .map(|name| unknown(name, at, "the packet is a fragment: the checksum covers all of them together".into()))
            .into_iter()
            .collect());
    }
    let pseudo = |length: usize| {
        let mut pseudo = [&packet[8..24], &destination].concat();
        pseudo.extend((length as u32).to_be_bytes());
        pseudo.extend([0, 0, 0, next]);
        pseudo
    };
    Ok(transport(packet, next, at..end.max(at), pseudo, false).into_iter().collect())
}

fn transport_name(protocol: u8) -> Option<&'static str> {
    Some(match protocol {
        1 => "ICMP",
        6 => "TCP",
        17 => "UDP",
        58 => "ICMPv6",
        136 => "UDP-Lite",
        _ => return None,
    })
}

fn unknown(name: &'static str, at: usize, why: String) -> PacketSum {
    PacketSum { name, at, pseudo: Vec::new(), covers: at..at, found: 0, verdict: Verdict::Unknown(why) }
}

/// The checksum of what an IP packet carries in `range`.
fn transport(
    packet: &[u8],
    protocol: u8,
    range: Range<usize>,
    pseudo: impl Fn(usize) -> Vec<u8>,
    zero_is_none: bool,
) -> Option<PacketSum> {
    let name = transport_name(protocol)?;
    let start = range.start;
    let (place, least) = match protocol {
        1 | 58 => (2, 4),
        6 => (16, 20),
        _ => (6, 8),
    };
    if packet.len() < start + least || range.len() < least {
        return Some(unknown(
            name,
            start,
            format!("there are {} of its {least} header bytes", packet.len().saturating_sub(start).min(range.len())),
        ));
    }
    let (at, whole) = (start + place, range.len());
    let (covered, length) = match protocol {
        17 => {
            let length = be16(packet, start + 4);
            // A length of 0 is for jumbograms (RFC 2675).
            let length = if length == 0 && !zero_is_none { whole } else { length };
            if length < 8 || length > whole {
                return Some(unknown(
                    name,
                    start,
                    format!("its length field says {length}, and the packet has {whole} bytes for it"),
                ));
            }
            (length, length)
        }
        136 => match be16(packet, start + 4) {
            0 => (whole, whole),
            coverage if coverage < 8 || coverage > whole => {
                let why = format!("its coverage field says {coverage}, and it can be 0, or 8 to {whole}");
                return Some(unknown(name, start, why));
            }
            coverage => (coverage, whole),
        },
        _ => (whole, whole),
    };
    let covers = start..start + covered;
    let found = be16(packet, at) as u16;
    let pseudo = if protocol == 1 { Vec::new() } else { pseudo(length) };
    if found == 0 && protocol == 17 && zero_is_none {
        return Some(PacketSum { name, at, pseudo, covers, found, verdict: Verdict::None });
    }
    if packet.len() < covers.end {
        let why = format!("{} of the {} bytes that it covers were captured", packet.len() - start, covered);
        return Some(PacketSum {
            name,
            at,
            pseudo,
            covers: start..packet.len(),
            found,
            verdict: Verdict::Unknown(why),
        });
    }
    let mut sum = judged(packet, name, at, pseudo, covers);
    if found == 0 && matches!(protocol, 17 | 136) && sum.verdict != Verdict::Right {
        let why = match protocol {
            136 => "0 is not allowed: UDP-Lite always has a checksum (RFC 3828)".to_owned(),
            _ => format!(
                "0 means none, which IPv6 allows for tunnels alone (RFC 6936); it would be {}",
                hex(u64::from(computed(&sum.pseudo, &packet[sum.covers.clone()], Some(at - start))), 16)
            ),
        };
        sum.verdict = Verdict::Unknown(why);
    }
    Some(sum)
}

/// The working of one: the pseudo-header word by word, what it covers word by word, the carries, the complement.
pub fn explain(packet: &[u8], sum: &PacketSum) -> Working {
    let mut working = Working::default();
    let mut total = 0;
    if let Verdict::Unknown(why) = &sum.verdict {
        working.text(format!("It cannot be computed: {why}."));
        return working;
    }
    if !sum.pseudo.is_empty() {
        working.text(format!(
            "The pseudo-header, {} bytes that are not sent: source, destination, {}.",
            sum.pseudo.len(),
            if sum.pseudo.len() == 12 { "zero and protocol, length" } else { "length, zeros and next header" }
        ));
        working.table(&WORD_TITLES, words("p", &sum.pseudo, &mut total));
    }
    working.text(format!(
        "Bytes {} to {} of the packet; the checksum's own two bytes count as 00 00.",
        sum.covers.start,
        sum.covers.end.saturating_sub(1)
    ));
    let mut covered = packet[sum.covers.clone()].to_vec();
    if let Some(own) = sum.at.checked_sub(sum.covers.start).and_then(|own| covered.get_mut(own..own + 2)) {
        own.fill(0);
    }
    working.table(&WORD_TITLES, words("", &covered, &mut total));
    let value = fold(total, &mut working);
    working.text(format!("The checksum is {}", hex(value, 16)));
    if value == 0 && matches!(sum.name, "UDP" | "UDP-Lite") {
        working.text("Since 0 would mean none, it is sent as 0xFFFF.");
    }
    working
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A datagram by hand: 10.0.0.1 port 4660 to 10.0.0.2 port 22136, `a` as its only byte.
    fn udp() -> Vec<u8> {
        let mut packet = vec![
            0x45, 0, 0, 29, 0, 0, 0, 0, 64, 17, 0x66, 0xCE, 10, 0, 0, 1, 10, 0, 0, 2, // header
            0x12, 0x34, 0x56, 0x78, 0, 9, 0, 0, 0x61,
        ];
        // Pseudo-header 0A00 + 0001 + 0A00 + 0002 + 0011 + 0009 = 141D; header 1234 + 5678 + 0009 = 68B5; data 6100.
        // 141D + 68B5 + 6100 = DDD2, complemented 222D.
        packet[26..28].copy_from_slice(&[0x22, 0x2D]);
        packet
    }

    #[test]
    fn a_datagram_by_hand() {
        let found = checksums(&udp()).unwrap();
        // 4500 + 001D + 4011 + 0A00 + 0001 + 0A00 + 0002 = 9931, complemented 66CE.
        let short: Vec<_> = found.iter().map(|sum| (sum.name, sum.at, sum.covers.clone(), &sum.verdict)).collect();
        assert_eq!(short, [("IPv4 header", 10, 0..20, &Verdict::Right), ("UDP", 26, 20..29, &Verdict::Right)]);
    }

    #[test]
    fn what_differs_and_why() {
        let verdict = |change: &dyn Fn(&mut Vec<u8>)| {
            let mut packet = udp();
            change(&mut packet);
            checksums(&packet).unwrap()[1].verdict.clone()
        };
        let wrong = |expected, left_to_hardware| Verdict::Wrong { expected, left_to_hardware };
        assert_eq!(verdict(&|packet| packet[28] = 0x62), wrong(0x212D, false));
        assert_eq!(verdict(&|packet| packet[26..28].fill(0)), Verdict::None);
        assert_eq!(verdict(&|packet| packet[26..28].copy_from_slice(&[0x14, 0x1D])), wrong(0x222D, true));
        assert!(matches!(verdict(&|packet| packet[6] = 0x20), Verdict::Unknown(why) if why.contains("fragment")));
        assert!(matches!(verdict(&|packet| packet[25] = 30), Verdict::Unknown(why) if why.contains("says 30")));
        assert!(matches!(verdict(&|packet| packet.truncate(28)), Verdict::Unknown(why) if why.contains("8 of the 9")));
        assert!(matches!(verdict(&|packet| packet.truncate(24)), Verdict::Unknown(why) if why.contains("4 of its 8")));
        assert_eq!(
            checksums(&[0x50]),
            Err(NoPacket("its first digit, the version, is 5; IP packets have 4 or 6".into()))
        );
        assert!(checksums(&[]).is_err() && checksums(&[0x45; 10]).is_err() && checksums(&[0x60; 30]).is_err());
    }

    /// The checksum over UDP-Lite, of which the first 8 bytes are covered: the data can change.
    #[test]
    fn partial_coverage() {
        let mut packet = udp();
        packet[9] = 136;
        packet[25] = 8;
        // 0A00 + 0001 + 0A00 + 0002 + 0088 + 0009 = 1494; 1234 + 5678 + 0008 = 68B4; together 7D48, complemented 82B7.
        packet[26..28].copy_from_slice(&[0x82, 0xB7]);
        for data in [0x61, 0x99] {
            packet[28] = data;
            let found = checksums(&packet).unwrap();
            assert_eq!(
                (found[1].name, &found[1].verdict, found[1].covers.clone()),
                ("UDP-Lite", &Verdict::Right, 20..28)
            );
        }
        packet[25] = 0;
        assert!(matches!(checksums(&packet).unwrap()[1].verdict, Verdict::Wrong { .. }), "0 covers all");
        packet[25] = 7;
        assert!(matches!(&checksums(&packet).unwrap()[1].verdict, Verdict::Unknown(why) if why.contains("8 to 9")));
    }

    /// Whatever comes in, nothing is read beyond its end.
    #[test]
    fn cut_and_changed_packets_do_not_panic() {
        let mut seed = 7u32;
        let mut random = || {
            seed = seed.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            (seed >> 24) as u8
        };
        for version in [0x45, 0x46, 0x60] {
            for protocol in [0, 1, 6, 17, 43, 44, 58, 60, 136] {
                for length in 0..90 {
                    let mut packet: Vec<u8> = (0..length).map(|_| random()).collect();
                    for (at, byte) in
                        [(0, version), (6, if version == 0x60 { protocol } else { 0 }), (7, 0), (9, protocol)]
                    {
                        if let Some(place) = packet.get_mut(at) {
                            *place = byte;
                        }
                    }
                    for sum in checksums(&packet).unwrap_or_default() {
                        explain(&packet, &sum);
                    }
                }
            }
        }
    }
}
