//! Taking away what says who somebody is: fields get other values, addresses and ports other ones, the same for the same, by a key.

use std::collections::BTreeSet;
use std::net::{Ipv4Addr, Ipv6Addr};

use emberwort_checksum::packet::{Verdict, checksums};
use emberwort_model::Plan;
use emberwort_model::ids::{ChannelId, MessageId};
use emberwort_model::model::{End, Field, Kind};
use emberwort_wire::{Framed as _, ValueRef, Values};
use sha2::{Digest as _, Sha256};

use crate::network::ip_packet;
use crate::pieces::InterfaceKind;
use crate::query::walk::each_value;

/// Gives other values for values, the same ones for the same under one key.
#[derive(Clone)]
pub struct Pseudonyms {
    key: Vec<u8>,
}

impl Pseudonyms {
    /// By a key.
    pub fn new(key: &[u8]) -> Self {
        Self { key: key.to_vec() }
    }

    /// So many bytes that only the key and the value decide: SHA-256 over both and a counter.
    fn bytes(&self, what: &str, value: &[u8], count: usize) -> Vec<u8> {
        let mut all = Vec::new();
        for block in 0u32.. {
            if all.len() >= count {
                break;
            }
            let mut hash = Sha256::new();
            for part in [
                &(self.key.len() as u64).to_le_bytes()[..],
                &self.key,
                what.as_bytes(),
                &[0],
                &block.to_le_bytes(),
                value,
            ] {
                hash.update(part);
            }
            all.extend(hash.finalize());
        }
        all.truncate(count);
        all
    }

    /// A text of as many bytes: letters for letters, digits for digits, the rest as it is; other characters than ASCII become letters.
    pub fn text(&self, text: &[u8]) -> Vec<u8> {
        let noise = self.bytes("text", text, text.len());
        let other = |(byte, noise): (&u8, u8)| match byte {
            b'0'..=b'9' => b'0' + noise % 10,
            b'A'..=b'Z' => b'A' + noise % 26,
            b'a'..=b'z' | 0x80.. => b'a' + noise % 26,
            byte => *byte,
        };
        text.iter().zip(noise).map(other).collect()
    }

    fn number(&self, what: &str, value: u64) -> u64 {
        let noise = self.bytes(what, &value.to_le_bytes(), 8);
        noise.iter().fold(0, |number, byte| number << 8 | u64::from(*byte))
    }

    /// Another valid code for that of a field; `None` if it has no others.
    fn code(&self, field: &Field, raw: u64) -> Option<u64> {
        let noise = self.number(&field.name, raw);
        match &field.kind {
            Kind::Number(form) | Kind::Varint(form) => {
                let code = emberwort_wire::values::signed(&field.kind, raw);
                if form.none == Some(code) || !(form.low..=form.high).contains(&code) {
                    return None;
                }
                // As many digits in a varint take as many bytes only within its group of seven bits.
                let is_varint = matches!(field.kind, Kind::Varint(_));
                let (low, high) = if is_varint && code >= 0 {
                    varint_range(code, form.low, form.high)
                } else {
                    (form.low, form.high)
                };
                let codes = u128::try_from(high - low + 1).ok()?;
                let other = low + (u128::from(noise) % codes) as i128;
                Some(if Some(other) == form.none { raw } else { other as u64 })
            }
            Kind::Enum { labels, .. } => Some(labels.labels[(noise % labels.labels.len() as u64) as usize].code),
            Kind::Bool => Some(noise & 1),
            _ => None,
        }
    }
}

/// The codes that take as many groups of seven bits as this one.
fn varint_range(code: i128, low: i128, high: i128) -> (i128, i128) {
    let groups = (128 - (code as u128).leading_zeros()).div_ceil(7).max(1);
    let (least, greatest) = (if groups == 1 { 0 } else { 1i128 << (7 * (groups - 1)) }, (1i128 << (7 * groups)) - 1);
    (low.max(least), high.min(greatest))
}

/// What is to be scrubbed.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ScrubRequest {
    /// Names of fields, in any message.
    pub fields: Vec<String>,
    /// Addresses of networks.
    pub addresses: bool,
    /// Ports that select no channel.
    pub ports: bool,
    /// All text.
    pub text: bool,
}

/// What was scrubbed, and what could not be.
#[derive(Clone, Debug, Default)]
pub struct Scrubbed {
    /// Old values as they stood in bytes, which must be nowhere afterwards.
    pub old: BTreeSet<Vec<u8>>,
    /// Values that are too short, or too plain, to be searched for: they stand everywhere by chance.
    pub too_short: u64,
    /// Values that could not become others, by field.
    pub kept: BTreeSet<String>,
    /// Frames inside of others that could not be looked into.
    pub closed: u64,
}

/// Whether a value can be searched for: long enough, and not the same byte again and again.
fn is_searched(bytes: &[u8]) -> bool {
    bytes.len() >= MIN_SEARCHED && bytes.windows(2).any(|pair| pair[0] != pair[1])
}

/// Values of fewer bytes are not searched for afterwards.
const MIN_SEARCHED: usize = 4;

impl ScrubRequest {
    fn is_wanted(&self, path: &str, field: &Field) -> bool {
        let last = path.rsplit('.').next().unwrap_or(path);
        let plain = last.split('[').next().unwrap_or(last);
        let is_named = self.fields.iter().any(|name| name == plain || name == path);
        is_named || self.text && matches!(field.kind, Kind::Text { .. })
    }

    /// Gives the wanted values of a message (by index), and of frames inside of it, others; returns whether there were any.
    pub fn scrub(
        &self,
        (plan, message, from): (&Plan, MessageId, End),
        values: &mut Values,
        by: &Pseudonyms,
        done: &mut Scrubbed,
    ) -> bool {
        let fields = &plan.messages[message].message.fields;
        let (mut found, mut nested) = (Vec::new(), Vec::new());
        let before = values.clone();
        each_value(fields, &before, |path, field, slot| {
            if self.is_wanted(path, field) {
                found.push((path.to_owned(), field.clone(), slot));
            } else if let Kind::NestedFrame { channel, .. } = field.kind {
                nested.push((channel, slot));
            }
        });
        let mut is_changed = false;
        for (channel, slot) in nested {
            let ValueRef::Bytes(bytes) = before.get(slot) else { continue };
            match self.scrub_nested(plan, (channel, from), bytes, by, done) {
                Some(Some(other)) => {
                    values.set_bytes(slot, &other);
                    is_changed = true;
                }
                Some(None) => {}
                None => done.closed += 1,
            }
        }
        for (path, field, slot) in found {
            match before.get(slot) {
                ValueRef::Bytes(bytes) => {
                    let other = match &field.kind {
                        Kind::Text { .. } => by.text(bytes),
                        _ => by.bytes(&field.name, bytes, bytes.len()),
                    };
                    if other == bytes && !bytes.is_empty() {
                        done.kept.insert(path);
                        continue;
                    }
                    if is_searched(bytes) {
                        done.old.insert(bytes.to_vec());
                    } else {
                        done.too_short += 1;
                    }
                    values.set_bytes(slot, &other);
                    is_changed = true;
                }
                ValueRef::Raw(raw) => match by.code(&field, raw) {
                    Some(other) => {
                        let bytes = field.kind.raw_bits().map_or(0, |bits| usize::from(bits / 8));
                        if is_searched(&raw.to_le_bytes()[..bytes]) && other != raw {
                            done.old.insert(raw.to_le_bytes()[..bytes].to_vec());
                            done.old.insert(raw.to_be_bytes()[8 - bytes..].to_vec());
                        } else {
                            done.too_short += 1;
                        }
                        values.set_raw(slot, other);
                        is_changed = true;
                    }
                    None => {
                        done.kept.insert(path);
                    }
                },
                _ => {}
            }
        }
        is_changed
    }

    /// The frame inside of another one with other values, if there are any; `None` if it cannot be looked into.
    fn scrub_nested(
        &self,
        plan: &Plan,
        (channel, from): (ChannelId, End),
        bytes: &[u8],
        by: &Pseudonyms,
        done: &mut Scrubbed,
    ) -> Option<Option<Vec<u8>>> {
        let inner = emberwort_text::nested_frame::open(plan, channel, from, bytes).ok()?;
        let mut values = inner.values.clone();
        if !self.scrub((plan, inner.message, from), &mut values, by, done) {
            return Some(None);
        }
        let framing = plan.channels[channel].framing(from);
        let compiled = &plan.messages[inner.message];
        let mut plain = Vec::new();
        let opened = framing.open(bytes, &mut plain).ok()?;
        let (key, own) = (opened.key, plan.link.revision);
        let revision = emberwort_wire::sender_revision(compiled, own, opened.body, &inner.values, &mut Vec::new())?;
        let mut body = Vec::new();
        emberwort_wire::frame::body_on(framing.plan(), compiled, &values, revision, &mut body).ok()?;
        let header = emberwort_wire::Header {
            key,
            node: inner.node.unwrap_or(0),
            sequence: inner.sequence.unwrap_or(0),
            revision: inner.revision.unwrap_or(0),
        };
        let mut wire = Vec::new();
        framing.encode(&header, &body, &mut wire).ok()?;
        Some(Some(wire))
    }

    /// Gives the addresses and ports of a packet others. `known` are ports that select a channel and stay.
    pub fn scrub_packet(
        &self,
        kind: InterfaceKind,
        packet: &mut [u8],
        known: &dyn Fn(u16) -> bool,
        by: &Pseudonyms,
        done: &mut Scrubbed,
    ) {
        if !(self.addresses || self.ports) {
            return;
        }
        let Some(start) = ip_packet(kind, packet).map(|ip| ip.as_ptr() as usize - packet.as_ptr() as usize) else {
            return;
        };
        if self.addresses && kind == InterfaceKind::Ethernet {
            for at in [0, 6] {
                // Of no maker, and to one station (IEEE 802).
                let old = packet[at..at + 6].to_vec();
                if old[0] & 1 == 0 {
                    let noise = by.bytes("mac", &old, 5);
                    packet[at] = 2;
                    packet[at + 1..at + 6].copy_from_slice(&noise);
                    done.old.insert(old);
                }
            }
        }
        let ip = &mut packet[start..];
        let (addresses, size, protocol, header) = match ip.first().map(|byte| byte >> 4) {
            Some(4) if ip.len() >= 20 => ([12, 16], 4, ip[9], usize::from(ip[0] & 15) * 4),
            Some(6) if ip.len() >= 40 => ([8, 24], 16, ip[6], 40),
            _ => return,
        };
        if self.addresses {
            for at in addresses {
                let old = ip[at..at + size].to_vec();
                let new = if size == 4 { by.ipv4(&old).octets().to_vec() } else { by.ipv6(&old).octets().to_vec() };
                ip[at..at + size].copy_from_slice(&new);
                done.old.insert(old);
            }
        }
        if self.ports && matches!(protocol, 6 | 17 | 136) && ip.len() >= header + 4 {
            for at in [header, header + 2] {
                let old = u16::from_be_bytes([ip[at], ip[at + 1]]);
                if !known(old) {
                    let new = 49_152 + (by.number("port", old.into()) % 16_384) as u16;
                    ip[at..at + 2].copy_from_slice(&new.to_be_bytes());
                    done.too_short += 1;
                }
            }
        }
        // What stands behind the packet is no part of it.
        let word = |at: usize| usize::from(u16::from_be_bytes([ip[at], ip[at + 1]]));
        let total = if size == 4 { word(2) } else { 40 + word(4) };
        let end = total.min(ip.len());
        if let Ok(sums) = checksums(&ip[..end]) {
            for sum in sums {
                if let Verdict::Wrong { expected, .. } = sum.verdict {
                    ip[sum.at..sum.at + 2].copy_from_slice(&expected.to_be_bytes());
                }
            }
        }
    }
}

impl Pseudonyms {
    /// An address for tests of networks, 198.18.0.0/15 (RFC 2544).
    fn ipv4(&self, old: &[u8]) -> Ipv4Addr {
        let noise = self.bytes("ipv4", old, 3);
        Ipv4Addr::new(198, 18 | noise[0] & 1, noise[1], noise[2])
    }

    /// An address for documentation, 2001:db8::/32 (RFC 3849).
    fn ipv6(&self, old: &[u8]) -> Ipv6Addr {
        let mut bytes = [0; 16];
        bytes[..4].copy_from_slice(&[0x20, 0x01, 0x0D, 0xB8]);
        bytes[4..].copy_from_slice(&self.bytes("ipv6", old, 12));
        Ipv6Addr::from(bytes)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_same_becomes_the_same_and_as_long() {
        let by = Pseudonyms::new(b"key");
        let (one, again, other) = (
            by.text(b"Wren-07 \xC3\xA9"),
            by.text(b"Wren-07 \xC3\xA9"),
            Pseudonyms::new(b"yek").text(b"Wren-07 \xC3\xA9"),
        );
        assert_eq!(one, again);
        assert_ne!(one, other);
        assert_eq!(one.len(), 10);
        assert!(
            one[0].is_ascii_uppercase() && one[4] == b'-' && one[5].is_ascii_digit() && one[8].is_ascii_lowercase(),
            "{one:?}"
        );
        assert_ne!(by.ipv4(&[192, 0, 2, 1]), by.ipv4(&[192, 0, 2, 2]));
    }

    #[test]
    fn varints_take_as_many_bytes() {
        assert_eq!(varint_range(5, 0, 1 << 30), (0, 127));
        assert_eq!(varint_range(128, 0, 1 << 30), (128, 16_383));
        assert_eq!(varint_range(200, 0, 300), (128, 300));
    }

    #[test]
    fn stations_get_others_and_groups_stay() {
        let wanted = ScrubRequest { addresses: true, ..ScrubRequest::default() };
        // Ethernet to a group (its first bit is set), from a station; IPv6, which claims to be as long as it can.
        let mut packet =
            vec![0x33, 0x33, 0, 0, 0, 1, 0x0A, 2, 3, 4, 5, 6, 0x86, 0xDD, 0x60, 0, 0, 0, 0xFF, 0xFF, 17, 64];
        packet.extend([0x20; 32]);
        packet.extend([0x12; 8]);
        let scrubbed = |packet: &[u8]| {
            let (mut packet, mut done) = (packet.to_vec(), Scrubbed::default());
            wanted.scrub_packet(InterfaceKind::Ethernet, &mut packet, &|_| false, &Pseudonyms::new(b"key"), &mut done);
            (packet, done.old)
        };
        let (new, old) = scrubbed(&packet);
        assert_eq!(new[..6], packet[..6]);
        assert!(new[6] == 2 && new[7..12] != packet[7..12], "{new:02X?}");
        assert!(old.contains(&packet[6..12]) && !old.contains(&packet[..6]));
        assert_eq!(new[22..26], [0x20, 0x01, 0x0D, 0xB8]);
        assert_eq!(scrubbed(&packet), (new, old), "the same becomes the same");
    }
}
