//! Which channel a packet belongs to, where neither the capture nor the definition says it; and why one belongs to none.

use std::fmt;
use std::net::IpAddr;

use emberwort_model::Plan;
use emberwort_model::diagnostics::{escaped, nearest};
use emberwort_model::ids::ChannelId;
use emberwort_model::model::End;
use emberwort_model::plan::EXTENDED_ID;

/// What a capture says of a packet.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct PacketFacts<'a> {
    /// The number of its interface, from 0, and its name.
    pub interface: Option<(usize, &'a str)>,
    /// The addresses that sent it and to which it was sent.
    pub addresses: Option<[IpAddr; 2]>,
    /// The ports that sent it and to which it was sent.
    pub ports: Option<[u16; 2]>,
    /// Its CAN identifier, with [`EXTENDED_ID`] for one of 29 bits.
    pub can_id: Option<u64>,
    /// The device that a source names.
    pub device: Option<&'a str>,
}

/// A rule: packets of which all of this holds belong to a channel, an end and a node.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Rule {
    /// An interface, by its number from 0 or by its name.
    pub interface: Option<String>,
    /// An address, of the device: what is sent there comes from the host.
    pub address: Option<IpAddr>,
    /// A port, of either side.
    pub port: Option<u16>,
    /// A CAN identifier.
    pub can_id: Option<u64>,
    /// A device that a source names.
    pub device: Option<String>,
    /// The channel, by index; as if there were no rule, if it is `None`.
    pub channel: Option<ChannelId>,
    /// The end that sent it.
    pub from: Option<End>,
    /// The device's node, for frames that do not say it.
    pub node: Option<u64>,
}

/// The words of a rule.
const WORDS: [&str; 8] = ["interface", "address", "port", "can_id", "device", "channel", "from", "node"];

impl Rule {
    /// Reads a rule: `address=192.0.2.7, channel=house, node=3`.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn parse(text: &str, plan: &Plan) -> Result<Self, String> {
        let mut rule = Self::default();
        for part in text.split(',') {
            let said = || format!("`{}` is not written as WORD=VALUE, as in address=192.0.2.7", escaped(part.trim()));
            let (word, value) = part.split_once('=').ok_or_else(said)?;
            rule.set(word.trim(), value.trim(), plan)?;
        }
        rule.finish()
    }

    /// Sets one of its words.
    ///
    /// # Errors
    /// What is wrong with the value, or that there is no such word.
    pub fn set(&mut self, word: &str, value: &str, plan: &Plan) -> Result<(), String> {
        let bad = |what: &str| format!("{word}={} is not {what}", escaped(value));
        match word {
            "interface" => self.interface = Some(value.to_owned()),
            "address" => {
                self.address = Some(value.parse().map_err(|_| bad("an address, as 192.0.2.7 or 2001:db8::7"))?);
            }
            "port" => self.port = Some(value.parse().map_err(|_| bad("a port from 0 to 65535"))?),
            "can_id" => {
                self.can_id = Some(can_id(value).ok_or_else(|| bad("a CAN identifier, as 0x123 or 0x18FF50E5"))?)
            }
            "device" => self.device = Some(value.to_owned()),
            "channel" => {
                let names: Vec<&str> = plan.channels.iter().map(|channel| channel.name.as_str()).collect();
                let near = nearest(value, names.iter().copied())
                    .map_or_else(String::new, |near| format!("; did you mean `{near}`?"));
                let unknown = || format!("there is no channel `{}`: {}{near}", escaped(value), names.join(", "));
                self.channel = Some(plan.channel_index(value).ok_or_else(unknown)?);
            }
            "from" => {
                let end = [End::Device, End::Host].into_iter().find(|end| end.as_str() == value);
                self.from = Some(end.ok_or_else(|| bad("device or host"))?);
            }
            "node" => self.node = Some(value.parse().map_err(|_| bad("a node's number"))?),
            other => return Err(format!("a rule has no `{}`; it has {}", escaped(other), WORDS.join(", "))),
        }
        Ok(())
    }

    /// The rule, if it says something of some packets.
    ///
    /// # Errors
    /// If it does not.
    pub fn finish(self) -> Result<Self, String> {
        let says_when = self.interface.is_some()
            || self.address.is_some()
            || self.port.is_some()
            || self.can_id.is_some()
            || self.device.is_some();
        if !says_when {
            return Err(
                "it does not say which packets it is for: interface, address, port, can_id or device".to_owned()
            );
        }
        if (self.channel, self.from, self.node) == (None, None, None) {
            return Err("it does not say what those packets are: channel, from or node".to_owned());
        }
        Ok(self)
    }

    /// Whether it is for a packet, and from which end that comes by its address.
    pub(crate) fn is_for(&self, facts: &PacketFacts<'_>) -> Option<Option<End>> {
        let is_interface = |wanted: &String| {
            facts.interface.is_some_and(|(number, name)| *wanted == name || *wanted == number.to_string())
        };
        let mut from = self.from;
        if let Some(wanted) = self.address {
            let at = facts.addresses?.iter().position(|address| *address == wanted)?;
            from = from.or(Some(if at == 0 { End::Device } else { End::Host }));
        }
        let holds = self.interface.as_ref().is_none_or(is_interface)
            && self.port.is_none_or(|port| facts.ports.is_some_and(|ports| ports.contains(&port)))
            && self.can_id.is_none_or(|id| facts.can_id == Some(id))
            && self.device.as_deref().is_none_or(|device| facts.device == Some(device));
        holds.then_some(from)
    }
}

impl fmt::Display for Rule {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut parts = Vec::new();
        parts.extend(self.interface.as_ref().map(|name| format!("interface={}", escaped(name))));
        parts.extend(self.address.map(|address| format!("address={address}")));
        parts.extend(self.port.map(|port| format!("port={port}")));
        parts.extend(self.can_id.map(|id| format!("can_id={}", shown_can_id(id))));
        parts.extend(self.device.as_ref().map(|name| format!("device={}", escaped(name))));
        write!(f, "{}", parts.join(", "))
    }
}

/// A CAN identifier as people write it; three hex digits and fewer are 11 bits, more are 29.
fn can_id(text: &str) -> Option<u64> {
    let digits = text.strip_prefix("0x").or_else(|| text.strip_prefix("0X"));
    let id = match digits {
        Some(digits) => u64::from_str_radix(digits, 16).ok()?,
        None => text.parse().ok()?,
    };
    let is_extended = id > 0x7FF || digits.is_some_and(|digits| digits.len() > 3);
    (id <= 0x1FFF_FFFF).then_some(if is_extended { id | EXTENDED_ID } else { id })
}

fn shown_can_id(id: u64) -> String {
    if id & EXTENDED_ID != 0 { format!("0x{:08X}", id & !EXTENDED_ID) } else { format!("0x{id:03X}") }
}

/// Why bytes belong to their channel.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum AssignmentReason {
    /// The capture's own description of the interface names it.
    Described,
    /// The user said so of all bytes without a description.
    Said,
    /// It is the link's only channel of serial bytes.
    Only,
    /// It has this port.
    Port(u16),
    /// A key of it is this port, or this number.
    Key(u64),
    /// It has this CAN identifier.
    CanId(u64),
    /// The rule with this number, from 0, says so.
    Rule(usize),
    /// The record names it.
    Named,
}

impl fmt::Display for AssignmentReason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Described => write!(f, "the capture names the channel in the description of its interface"),
            Self::Said => write!(f, "the caller says so"),
            Self::Only => write!(f, "it is the link's only channel of serial bytes"),
            Self::Port(port) => write!(f, "its medium has port {port}"),
            Self::Key(key) => write!(f, "the port or number {key} selects one of its messages"),
            Self::CanId(id) => write!(f, "it has CAN identifier {}", shown_can_id(*id)),
            Self::Rule(number) => write!(f, "rule {} says so", number + 1),
            Self::Named => write!(f, "the record names it"),
        }
    }
}

/// Why a packet belongs to no channel of the link.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Unassigned {
    /// A packet of a link type that is not read.
    LinkType(i32),
    /// Bytes of a serial line, and several channels that it could be.
    Serial,
    /// A packet from the host over a channel without a description that fits.
    Described,
    /// No IP packet.
    NotIp,
    /// An IP packet that is cut, or damaged.
    Damaged,
    /// A protocol above IP that is not read.
    Protocol(u8),
    /// A datagram to a port that no channel has; the lower one of both.
    UdpPort(u16),
    /// A segment of a connection to a port that no channel has; the lower one of both.
    TcpPort(u16),
    /// A segment of a connection of a channel whose frames are packets; the lower port of both.
    TcpPackets(u16),
    /// Parts of packets of which others lack.
    Fragments,
    /// A CAN frame whose identifier no channel has.
    CanId(u64),
    /// A CAN frame that asks for data.
    CanRemote,
    /// A frame in which a CAN controller tells of an error, by its classes.
    CanError(u32),
    /// A CAN frame that is cut.
    CanCut,
    /// A record with a port or an identifier that no channel has.
    Key(u64),
    /// A record of a channel that the link does not have.
    Channel,
    /// More reasons than are kept apart.
    Others,
}

/// The classes of CAN error frames, by bit of their identifier, as SocketCAN records them.
const CAN_ERRORS: [&str; 9] = [
    "not sent in time",
    "arbitration lost",
    "controller",
    "protocol",
    "transceiver",
    "no acknowledge",
    "bus off",
    "bus error",
    "restarted",
];

impl fmt::Display for Unassigned {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::LinkType(number) => write!(f, "link type {number} is not read"),
            Self::Serial => write!(f, "serial bytes of an unknown channel"),
            Self::Described => write!(f, "another channel than the link has"),
            Self::NotIp => write!(f, "not IP"),
            Self::Damaged => write!(f, "cut or damaged IP packets"),
            Self::Protocol(1) => write!(f, "ICMP"),
            Self::Protocol(2) => write!(f, "IGMP"),
            Self::Protocol(58) => write!(f, "ICMPv6"),
            Self::Protocol(number) => write!(f, "IP protocol {number}"),
            Self::UdpPort(port) => write!(f, "UDP port {port}"),
            Self::TcpPort(port) => write!(f, "TCP port {port}"),
            Self::TcpPackets(port) => {
                write!(f, "TCP port {port}, whose channel needs packets, which a stream does not keep apart")
            }
            Self::Fragments => write!(f, "IP fragments without the rest"),
            Self::CanId(id) => write!(f, "CAN id {}", shown_can_id(*id)),
            Self::CanRemote => write!(f, "CAN remote frames"),
            Self::CanError(classes) => {
                let names: Vec<&str> =
                    (0..CAN_ERRORS.len()).filter(|bit| classes >> bit & 1 == 1).map(|bit| CAN_ERRORS[bit]).collect();
                write!(f, "CAN error frames ({})", if names.is_empty() { "unknown".into() } else { names.join(", ") })
            }
            Self::CanCut => write!(f, "cut CAN frames"),
            Self::Key(key) => write!(f, "port or id {key}"),
            Self::Channel => write!(f, "records of other channels"),
            Self::Others => write!(f, "others"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn identifiers_are_as_long_as_they_are_written() {
        assert_eq!(can_id("0x123"), Some(0x123));
        assert_eq!(can_id("0x00000123"), Some(0x123 | EXTENDED_ID));
        assert_eq!(can_id("2047"), Some(0x7FF));
        assert_eq!(can_id("0x18FF50E5"), Some(0x18FF_50E5 | EXTENDED_ID));
        assert_eq!(can_id("0x20000000"), None);
    }

    #[test]
    fn errors_of_can_are_named() {
        assert_eq!(Unassigned::CanError(0x20 | 0x40).to_string(), "CAN error frames (no acknowledge, bus off)");
    }

    #[test]
    fn a_rule_is_shown_as_it_is_written() {
        let text = "link l { revision 1\n byte_order little }\nchannel house { medium udp 4850\n packet\n frame { kind : u8 message\n body } }\n\
             message M { id 1\n from device\n on house\n value : u32 }";
        let source = emberwort_model::Source::new("l.ember".to_owned(), text.to_owned());
        let plan = emberwort_model::check(&source).plan.unwrap();
        // What it selects by; channel, end and node are what it says of them.
        for (written, shown) in [
            (
                "interface=eth0, address=192.0.2.7, port=4850, channel=house",
                "interface=eth0, address=192.0.2.7, port=4850",
            ),
            ("can_id=0x123, device=gate-3, channel=house, node=3", "can_id=0x123, device=gate-3"),
            ("port=4851, channel=house", "port=4851"),
        ] {
            assert_eq!(Rule::parse(written, &plan).unwrap().to_string(), shown);
        }
    }
}
