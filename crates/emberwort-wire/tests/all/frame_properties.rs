//! Frames of random channels: what is built is accepted, wherever the parts lie; a flipped bit is not.

use std::ops::Range;
use std::sync::Arc;

use emberwort_model::ids::ChannelId;
use emberwort_model::model::End;
use emberwort_model::plan::Role;
use emberwort_model::{Plan, Source, check};
use emberwort_wire::body_reader::{BodyReader, Requests};
use emberwort_wire::{FrameFault, FrameSink, FrameView, Framed, Framing, Header, Receiver};
use proptest::prelude::*;

/// Keeps all that a receiver says.
struct All {
    reader: BodyReader,
    found: Vec<String>,
}

impl FrameSink for All {
    fn accept(&mut self, frame: &FrameView<'_>) -> Result<(), FrameFault> {
        self.reader.check(frame, &Requests::default())
    }
    fn good(&mut self, at: Range<u64>, frame: &FrameView<'_>, wire: &[u8]) {
        self.found.push(format!("good {at:?} {frame:?} {wire:?} {:?}", self.reader.extent()));
    }
    fn unread(&mut self, at: Range<u64>, frame: Option<&FrameView<'_>>, fault: &FrameFault, wire: &[u8]) {
        self.found.push(format!("unread {at:?} {frame:?} {fault:?} {wire:?}"));
    }
    fn broken(&mut self, at: Range<u64>, fault: &FrameFault, wire: &[u8]) {
        self.found.push(format!("broken {at:?} {fault:?} {wire:?}"));
    }
    fn stray(&mut self, at: Range<u64>, wire: &[u8]) {
        self.found.push(format!("stray {at:?} {wire:?}"));
    }
}

/// A channel like those that most people make: sync bytes or packets, parts of whole bytes, one checksum behind the body or none.
fn common_channel() -> impl Strategy<Value = Plan> {
    let sync = proptest::sample::select(vec![
        "sync C3",
        "sync C3 3C",
        "sync C3 3C 11",
        "sync C3 3C C3 3C",
        "sync C3 3C 11 22 33",
        "packet",
    ]);
    let parts = proptest::sample::select(vec![
        "",
        "node : u8 address",
        "count : u16 sequence",
        "node : u8 address\n count : u8 sequence",
        "rev : u32 revision\n node : u16 address",
        "rev : u8 revision\n node : u8 address\n count : u32 sequence",
        "mark : u8 = 0x5A",
    ]);
    let length = proptest::sample::select(vec![
        "u8 length of body",
        "u16 length of kind..check",
        "u8 length of body..check",
        "u32 length of body",
    ]);
    let checksum = proptest::sample::select(vec![
        "u16 crc-16/ibm-3740 over kind..body",
        "u32 crc-32/iso-hdlc over body",
        "u8 sum8 over kind..body",
        "u16 fletcher16 over body",
        "u16 crc-16/modbus over kind..body",
        "",
    ]);
    (sync, parts, length, checksum, any::<bool>(), any::<bool>()).prop_map(
        |(sync, parts, length, checksum, big, with_length)| {
            let is_packet = sync == "packet";
            let mut frame = if is_packet { String::new() } else { format!("{sync}\n") };
            frame += "kind : u8 message\n";
            let length = if checksum.is_empty() { "u8 length of body" } else { length };
            if !is_packet || with_length {
                frame += &format!("len : {length}\n");
            }
            frame += &format!("{parts}\nbody\n");
            if !checksum.is_empty() {
                frame += &format!("check : {checksum}\n");
            }
            let (medium, how) = if is_packet { ("udp 4000", "packet") } else { ("uart 9600 8N1", "") };
            let text = format!(
                "link any {{ revision 3  byte_order {} }}
             channel c {{\n medium {medium}\n {how}\n limit 80 bytes\n frame {{\n{frame}}}\n}}
             message M {{\n id 7\n from host\n on c\n text : text[..40]\n added in 2 {{ n : u4 }} }}",
                if big { "big" } else { "little" }
            );
            let checked = check(&Source::new("any.ember", text.as_str()));
            assert!(checked.findings.iter().all(|finding| !finding.is_error()), "{:?}\n{text}", checked.findings);
            checked.plan.unwrap()
        },
    )
}

/// A part of the head or the tail, as it is written.
fn part() -> impl Strategy<Value = &'static str> {
    proptest::sample::select(vec![
        "node : u8 address",
        "node : u5 address",
        "count : u16 sequence",
        "count : u3 sequence",
        "rev : u4 revision",
        "rev : u32 revision",
        "mark : u16 = 0xBEEF",
        "mark : u7 = 0x55",
        "twin : u8 same as kind",
        "twin : u8 same as kind inverted",
    ])
}

/// A channel: how frames are found, the order, the parts of its head and tail without doubles, a checksum.
fn channel() -> impl Strategy<Value = Plan> {
    let stuffed = [
        "stuffing cobs",
        "stuffing slip",
        "stuffing hdlc",
        "stuffing escape 7D xor 20 of 7D C3 11",
        "stuffing escape C3 xor 00 of C3",
    ];
    channel_of([&PLAIN[..], &stuffed].concat())
}

/// Ways to find frames whose bytes are sent as they are.
const PLAIN: [&str; 3] = ["sync C3 3C", "gap 2 ms", "packet"];

/// A channel whose frames are found in one of these ways.
fn channel_of(finders: Vec<&'static str>) -> impl Strategy<Value = Plan> {
    let finder = proptest::sample::select(finders);
    let checksum = proptest::sample::select(vec![
        ("u16", "crc-16/ibm-3740"),
        ("u32", "crc-32/iso-hdlc"),
        ("u16", "crc-16/xmodem start 0x1D0F"),
        ("u8", "crc-8/bluetooth"),
        ("u64", "crc-64/xz"),
    ]);
    let length = proptest::sample::select(vec!["body", "kind..body", "kind..check", "len..body"]);
    (
        finder,
        any::<bool>(),
        proptest::collection::vec(part(), 0..5),
        any::<prop::sample::Index>(),
        checksum,
        length,
        any::<bool>(),
    )
        .prop_map(|(finder, big, parts, split, (width, algorithm), length, with_length)| {
            let mut seen: Vec<&str> = Vec::new();
            let parts: Vec<&str> = parts
                .into_iter()
                .filter(|part| {
                    let name = part.split(' ').next().unwrap();
                    !seen.contains(&name) && {
                        seen.push(name);
                        true
                    }
                })
                .collect();
            let (head, tail) = parts.split_at(split.index(parts.len() + 1));
            let sync = finder.starts_with("sync") || finder.starts_with("stuffing escape");
            let mut frame = String::new();
            if sync {
                frame.push_str("sync C3 3C\n");
            }
            frame.push_str("kind : u8 message\n");
            if sync || with_length {
                frame.push_str(&format!("len : u16 length of {length}\n"));
            }
            for part in head {
                frame.push_str(&format!("{part}\n"));
            }
            frame.push_str("body\n");
            // The checksum lies on whole bytes, so it comes before narrow parts.
            frame.push_str(&format!("check : {width} {algorithm} over kind..body\n"));
            for part in tail {
                frame.push_str(&format!("{part}\n"));
            }
            let medium = if finder == "packet" { "udp 4000" } else { "uart 9600 8N1" };
            let how = if finder.starts_with("sync") { "" } else { finder };
            let text = format!(
                "link any {{ revision 3  byte_order {} }}
                 channel c {{\n medium {medium}\n {how}\n limit 700 bytes\n frame {{\n{frame}}}\n}}
                 message M {{\n id 7\n from host\n on c\n text : text[..255]\n}}",
                if big { "big" } else { "little" }
            );
            let checked = check(&Source::new("any.ember", text.as_str()));
            assert!(checked.findings.iter().all(|finding| !finding.is_error()), "{:?}", checked.findings);
            checked.plan.unwrap()
        })
}

#[derive(Default)]
struct Good {
    reader: Option<BodyReader>,
    bodies: Vec<Vec<u8>>,
    other_bytes: usize,
}

impl FrameSink for Good {
    fn accept(&mut self, frame: &FrameView<'_>) -> Result<(), FrameFault> {
        self.reader.as_mut().map_or(Ok(()), |reader| reader.check(frame, &Requests::default()))
    }
    fn good(&mut self, _: Range<u64>, frame: &FrameView<'_>, _: &[u8]) {
        self.bodies.push(frame.body.to_vec());
    }
    fn unread(&mut self, _: Range<u64>, _: Option<&FrameView<'_>>, _: &FrameFault, wire: &[u8]) {
        self.other_bytes += wire.len();
    }
    fn broken(&mut self, _: Range<u64>, _: &FrameFault, wire: &[u8]) {
        self.other_bytes += wire.len();
    }
    fn stray(&mut self, _: Range<u64>, wire: &[u8]) {
        self.other_bytes += wire.len();
    }
}

fn body(text: &[u8]) -> Vec<u8> {
    [&[text.len() as u8], text].concat()
}

/// The value that a part of so many bits keeps of a number.
fn kept(framing: &Framing, wanted: fn(&Role) -> bool, number: u64) -> Option<u64> {
    framing.plan().part(wanted).map(|part| number & (u64::MAX >> (64 - part.bits)))
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]

    #[test]
    fn what_is_built_is_accepted(
        plan in channel(), texts in proptest::collection::vec(proptest::collection::vec(any::<u8>(), 0..60), 1..5), number: u64,
    ) {
        let plan = Arc::new(plan);
        let framing = plan.channels[0].framing(End::Device);
        let node = kept(&framing, |role| *role == Role::Address, number >> 7);
        let revision = kept(&framing, |role| *role == Role::Revision, number >> 3);
        let header = Header { key: 7, node: node.unwrap_or(0), sequence: number, revision: revision.unwrap_or(0) };
        let mut receiver = Receiver::new(framing.clone());
        let mut sink = Good { reader: Some(BodyReader::new(plan.clone(), ChannelId::default(), None)), ..Good::default() };
        for text in &texts {
            let mut wire = Vec::new();
            framing.encode(&header, &body(text), &mut wire).unwrap();
            prop_assert!(wire.len() <= framing.plan().frame_size(text.len() + 1));
            prop_assert!(wire.len() >= framing.plan().least_frame_size(text.len() + 1));
            receiver.feed(&wire, &mut sink);
            receiver.silence(&mut sink);
            let mut plain = Vec::new();
            let view = framing.open(&wire, &mut plain).unwrap();
            prop_assert_eq!(view.body, body(text));
            prop_assert_eq!((view.key, view.node, view.revision), (7, node, revision));
            prop_assert_eq!(view.sequence, kept(&framing, |role| *role == Role::Sequence, number));
        }
        receiver.finish(&mut sink);
        let sent: Vec<Vec<u8>> = texts.iter().map(|text| body(text)).collect();
        prop_assert_eq!(sink.bodies, sent);
        prop_assert_eq!(sink.other_bytes, 0);
    }

    /// A CRC finds every single wrong bit of what it covers and of itself; a wrong length does not fit.
    #[test]
    fn one_flipped_bit_is_never_accepted_as_the_same_frame(
        plan in channel_of(PLAIN.to_vec()), text in proptest::collection::vec(any::<u8>(), 0..20), at: prop::sample::Index, bit in 0u8..8,
    ) {
        let framing = plan.channels[0].framing(End::Device);
        let mut wire = Vec::new();
        framing.encode(&Header { key: 7, ..Header::default() }, &body(&text), &mut wire).unwrap();
        // Parts behind the checksum are not covered; the key stands first in what is.
        let sync = framing.plan().sync.len();
        let tail_parts = framing.plan().tail_bytes;
        let covered = wire.len() - tail_parts - sync;
        let at = sync + at.index(covered);
        wire[at] ^= 1 << bit;
        prop_assert!(framing.check(&wire).is_err(), "bit {} of byte {} of {:02X?}", bit, at, wire);
    }

    /// Frames of a common shape are read by a way of their own, which must find what the general one finds, whatever comes.
    #[test]
    fn the_shortcut_finds_what_the_general_way_finds(
        plan in common_channel(), texts in proptest::collection::vec(proptest::collection::vec(any::<u8>(), 0..40), 1..6),
        damage in proptest::collection::vec((any::<prop::sample::Index>(), any::<u8>()), 0..4), cut: prop::sample::Index,
        noise in proptest::collection::vec(prop_oneof![Just(0xC3u8), Just(0x3C), Just(0), any::<u8>()], 0..60), number: u64,
    ) {
        let plan = Arc::new(plan);
        let framing = plan.channels[0].framing(End::Device);
        let general = Arc::new((*framing).clone().without_shortcut());
        let header = Header { key: 7, node: 3, sequence: number, revision: 5 };
        let mut wires: Vec<Vec<u8>> = Vec::new();
        for (n, text) in texts.iter().enumerate() {
            let mut wire = Vec::new();
            // Some bodies that nobody can read.
            let body = if n % 3 == 2 { text.clone() } else { body(text) };
            framing.encode(&header, &body, &mut wire).unwrap();
            wires.push(wire);
        }
        let at = cut.index(wires.len() + 1);
        wires.insert(at, noise);
        for (at, flip) in &damage {
            let which = at.index(wires.len());
            let length = wires[which].len();
            if length > 0 {
                wires[which][at.index(length)] ^= flip;
            }
        }
        let found = |framing: &Arc<Framing>, key: Option<u64>| {
            let mut receiver = Receiver::new(framing.clone());
            let mut sink = All { reader: BodyReader::new(plan.clone(), ChannelId::default(), None), found: Vec::new() };
            for wire in &wires {
                match key {
                    Some(key) => receiver.feed_packet(key, wire, &mut sink),
                    None => receiver.feed(wire, &mut sink),
                }
            }
            receiver.finish(&mut sink);
            sink.found
        };
        for key in [None, Some(7)] {
            prop_assert_eq!(found(&framing, key), found(&general, key));
        }
    }

    #[test]
    fn any_bytes_are_judged_without_panic(plan in channel(), bytes in proptest::collection::vec(any::<u8>(), 0..500)) {
        let plan = Arc::new(plan);
        let framing = plan.channels[0].framing(End::Device);
        for length in 0..bytes.len().min(40) {
            let _ = framing.open(&bytes[..length], &mut Vec::new());
        }
        let _ = framing.open(&bytes, &mut Vec::new());
        let mut receiver = Receiver::new(framing);
        let mut sink = Good { reader: Some(BodyReader::new(plan, ChannelId::default(), None)), ..Good::default() };
        receiver.feed(&bytes, &mut sink);
        receiver.finish(&mut sink);
    }
}
