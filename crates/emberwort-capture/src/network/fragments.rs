//! Putting the parts of IP packets together again (RFC 791, section 3.2; RFC 8200, section 4.5).

use std::net::IpAddr;

use emberwort_wire::Time;
use etherparse::IpNumber;
use etherparse::defrag::IpDefragBuf;

use super::ip::{Fragment, Packet};

/// So many packets are put together at once; the oldest is given up for one more.
const MAX_OPEN: usize = 64;

/// Parts that come later than this belong to another packet with the same number (RFC 8200), in nanoseconds.
const PATIENCE: u64 = 60_000_000_000;

/// What all parts of a packet have in common.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct PacketKey {
    source: IpAddr,
    destination: IpAddr,
    protocol: u8,
    identification: u32,
}

#[derive(Debug)]
struct PartialPacket {
    whole: PacketKey,
    since: Option<Time>,
    parts: IpDefragBuf,
    bytes: usize,
}

/// Packets of which not all parts have come.
#[derive(Debug, Default)]
pub(crate) struct Fragments {
    open: Vec<PartialPacket>,
    /// Packets that were given up, and the bytes of their parts.
    pub given_up: (u64, u64),
}

impl Fragments {
    /// Takes a part; gives what the packet carries if it was the last one that lacked.
    pub fn add(&mut self, packet: &Packet<'_>, fragment: Fragment, time: Option<Time>) -> Option<Vec<u8>> {
        let Packet { source, destination, protocol, payload, .. } = *packet;
        let whole = PacketKey { source, destination, protocol, identification: fragment.identification };
        let is_old = |since: Option<Time>| since.zip(time).is_some_and(|(since, time)| time.since(since) > PATIENCE);
        while let Some(at) = self.open.iter().position(|open| is_old(open.since)) {
            self.give_up(at);
        }
        let at = match self.open.iter().position(|open| open.whole == whole) {
            Some(at) => at,
            None => {
                if self.open.len() == MAX_OPEN {
                    self.give_up(0);
                }
                let parts = IpDefragBuf::new(IpNumber(protocol), Vec::new(), Vec::new());
                self.open.push(PartialPacket { whole, since: time, parts, bytes: 0 });
                self.open.len() - 1
            }
        };
        let open = &mut self.open[at];
        open.bytes += payload.len();
        let offset = u16::try_from(fragment.offset / 8).ok().and_then(|units| units.try_into().ok());
        let added = offset.map(|offset| open.parts.add(offset, fragment.more, payload).is_ok());
        if added != Some(true) {
            // Parts that contradict each other.
            self.give_up(at);
            return None;
        }
        open.parts.is_complete().then(|| self.open.remove(at).parts.take_bufs().0)
    }

    fn give_up(&mut self, at: usize) {
        let open = self.open.remove(at);
        self.given_up.0 += 1;
        self.given_up.1 += open.bytes as u64;
    }

    /// Gives up what is not whole yet.
    pub fn finish(&mut self) {
        while !self.open.is_empty() {
            self.give_up(0);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn part(offset: usize, more: bool, payload: &[u8]) -> (Packet<'_>, Fragment) {
        let address = IpAddr::from([192, 0, 2, 1]);
        let fragment = Fragment { identification: 7, offset, more };
        let packet = Packet { source: address, destination: address, protocol: 17, payload, fragment: Some(fragment) };
        (packet, fragment)
    }

    #[test]
    fn parts_are_put_together_in_any_order() {
        for order in [[0, 1, 2], [2, 1, 0], [1, 2, 0]] {
            let parts = [part(0, true, &[1; 8]), part(8, true, &[2; 16]), part(24, false, &[3; 5])];
            let mut fragments = Fragments::default();
            let whole: Vec<_> =
                order.iter().filter_map(|n| fragments.add(&parts[*n].0, parts[*n].1, Some(Time::default()))).collect();
            assert_eq!(whole, [[&[1; 8][..], &[2; 16], &[3; 5]].concat()]);
            assert_eq!(fragments.given_up, (0, 0));
        }
    }

    #[test]
    fn what_is_never_whole_is_counted() {
        let mut fragments = Fragments::default();
        let (packet, fragment) = part(8, true, &[2; 16]);
        assert_eq!(fragments.add(&packet, fragment, None), None);
        fragments.finish();
        assert_eq!(fragments.given_up, (1, 16));
        for n in 0..1000 {
            let fragment = Fragment { identification: n, ..fragment };
            assert_eq!(fragments.add(&packet, fragment, None), None);
        }
        assert_eq!((fragments.open.len(), fragments.given_up.0), (MAX_OPEN, 1001 - MAX_OPEN as u64));
    }
}
