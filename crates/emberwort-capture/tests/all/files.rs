//! Capture files of every form: read, cut, damaged; every byte of a channel accounted for.

use std::convert::Infallible;
use std::io::Read as _;
use std::ops::ControlFlow;
use std::sync::Arc;

use emberwort_capture::packets::{LINK_TYPE_RAW, LINK_TYPE_USER0, udp_packet};
use emberwort_capture::{
    CaptureFormat, Decoder, Interface, Item, ItemSink, Outcome, PcapngWriter, Piece, PieceSink, Statistics,
    lane_description, source,
};
use emberwort_model::ids::ChannelId;
use emberwort_model::model::End;
use emberwort_model::{Plan, Source, check};
use emberwort_wire::{Framed, Header};
use etherparse::PacketBuilder;
use proptest::prelude::*;

const SECOND: u64 = 1_000_000_000;
const START: u64 = 1_930_000_000 * SECOND;

fn plan() -> Arc<Plan> {
    let text = "link two { revision 1  byte_order little }
        channel line {
            medium uart 9600 8N1
            limit 60 bytes
            frame {
                sync  A5 5A
                kind  : u8 message
                node  : u8 address
                count : u8 sequence
                size  : u8 length of body
                body
                check : u16 crc-16/ibm-3740 over kind..body
            }
        }
        channel net {
            medium udp 4850
            packet
            frame { kind : u8 message
                    node : u8 address
                    body }
        }
        message Level { id 1  from device every 1 s  on line, net
            depth : u16 }
        message Ask { id 2  from host  on line, net }";
    let checked = check(&Source::new("two.ember", text));
    assert!(checked.findings.iter().all(|finding| !finding.is_error()), "{:?}", checked.findings);
    Arc::new(checked.plan.unwrap())
}

fn frame(channel: ChannelId, key: u64, count: u64, body: &[u8]) -> Vec<u8> {
    let framing = plan().channels[channel].framing(End::Device);
    let mut out = Vec::new();
    framing.encode(&Header { key, node: 3, sequence: count, revision: 1 }, body, &mut out).unwrap();
    out
}

/// What came out, in short.
#[derive(Default)]
struct Log(Vec<String>);

impl ItemSink for Log {
    type Error = Infallible;

    fn item(&mut self, item: Item<'_>) -> Result<ControlFlow<()>, Infallible> {
        match item {
            Item::Row(row) => {
                let time =
                    row.time.map_or("-".into(), |time| format!("{}", time.nanoseconds().wrapping_sub(START) / 1000));
                self.0.push(format!(
                    "{time} {} {} {}",
                    ["line", "net"][row.channel.index()],
                    row.from.as_str(),
                    ["Level", "Ask"][row.message.index()]
                ));
            }
            Item::Broken(broken) => {
                self.0.push(format!("broken {} {}", broken.fault.reason(), broken.wire.len()));
            }
            Item::Stray(stray) => self.0.push(format!("stray {}", stray.wire.len())),
        }
        Ok(ControlFlow::Continue(()))
    }
}

fn decode(form: CaptureFormat, bytes: &[u8]) -> (Vec<String>, Statistics, Outcome) {
    let mut decoder = Decoder::new(plan(), Log::default()).demuxed();
    let outcome = source::read(form, bytes, &mut decoder).unwrap();
    let (log, statistics) = decoder.into_sink().finish().unwrap();
    assert!(statistics.adds_up(), "{statistics:?}");
    (log.0, statistics, outcome)
}

fn pcap(big: bool, nanoseconds: bool, link_type: u32, packets: &[(u64, Vec<u8>)]) -> Vec<u8> {
    let u32s = |value: u32| if big { value.to_be_bytes() } else { value.to_le_bytes() };
    let u16s = |value: u16| if big { value.to_be_bytes() } else { value.to_le_bytes() };
    let mut out = Vec::new();
    out.extend(u32s(if nanoseconds { 0xA1B2_3C4D } else { 0xA1B2_C3D4 }));
    out.extend(u16s(2));
    out.extend(u16s(4));
    out.extend([0; 8]);
    out.extend(u32s(65535));
    out.extend(u32s(link_type));
    for (time, bytes) in packets {
        let fraction = time % SECOND / if nanoseconds { 1 } else { 1000 };
        for value in [(time / SECOND) as u32, fraction as u32, bytes.len() as u32, bytes.len() as u32] {
            out.extend(u32s(value));
        }
        out.extend(bytes);
    }
    out
}

fn pcapng() -> Vec<u8> {
    let mut writer = PcapngWriter::new(Vec::new()).unwrap();
    let device = writer.interface(LINK_TYPE_USER0, "line from device", &lane_description("line", "device")).unwrap();
    let host = writer.interface(LINK_TYPE_USER0, "line from host", &lane_description("line", "host")).unwrap();
    let net = writer.interface(LINK_TYPE_RAW, "net", &lane_description("net", "device")).unwrap();
    let other = writer.interface(228, "", "").unwrap();
    let level = frame(ChannelId::default(), 1, 0, &[1, 0]);
    writer.packet(host, START + 1_000_000, &frame(ChannelId::default(), 2, 0, &[])).unwrap();
    // A frame in two pieces: its time is that of the second.
    writer.packet(device, START + 2_000_000, &level[..5]).unwrap();
    writer.packet(device, START + 3_000_000, &level[5..]).unwrap();
    writer.packet(device, START + 4_000_000, &[0xEE; 4]).unwrap();
    writer
        .packet(net, START + 5_000_000, &udp_packet(4850, true, &frame(ChannelId::new(1), 1, 0, &[7, 0])).unwrap())
        .unwrap();
    writer.packet(other, START + 6_000_000, &udp_packet(53, true, &[1, 2, 3]).unwrap()).unwrap();
    writer.finish().unwrap()
}

#[test]
fn a_recording_says_its_channels_directions_and_times() {
    let (log, statistics, outcome) = decode(CaptureFormat::Pcapng, &pcapng());
    assert_eq!(log, ["1000 line host Ask", "3000 line device Level", "5000 net device Level", "stray 4"]);
    assert_eq!((statistics.input, statistics.good, statistics.stray), (26, 22, 4));
    assert_eq!((statistics.other_packets, statistics.other_bytes), (1, 31), "the packet to another port");
    assert_eq!(outcome, Outcome { bytes: pcapng().len() as u64, damage: None });
}

#[test]
fn classic_pcap_in_both_byte_orders_and_resolutions() {
    let packets = vec![
        (START + 1_500_000, frame(ChannelId::default(), 1, 0, &[1, 0])),
        (START + 2_500_000, frame(ChannelId::default(), 1, 1, &[2, 0])),
    ];
    for big in [false, true] {
        for nanoseconds in [false, true] {
            let bytes = pcap(big, nanoseconds, 147, &packets);
            assert_eq!(source::detect(&bytes), CaptureFormat::Pcap);
            let (log, _, outcome) = decode(CaptureFormat::Pcap, &bytes);
            assert_eq!(log, ["1500 line device Level", "2500 line device Level"]);
            assert_eq!(outcome.damage, None);
        }
    }
}

#[test]
fn all_user_link_types_are_serial_and_others_are_not() {
    for link_type in 147..=162 {
        let (log, ..) = decode(
            CaptureFormat::Pcap,
            &pcap(false, true, link_type, &[(START, frame(ChannelId::default(), 2, 0, &[]))]),
        );
        assert_eq!(log, ["0 line host Ask"]);
    }
    let (log, statistics, _) =
        decode(CaptureFormat::Pcap, &pcap(false, true, 105, &[(START, frame(ChannelId::default(), 2, 0, &[]))]));
    assert_eq!((log.len(), statistics.other_packets, statistics.input), (0, 1, 0));
}

#[test]
fn udp_over_ethernet_ipv4_and_ipv6() {
    let payload = frame(ChannelId::new(1), 1, 0, &[9, 0]);
    let mut packets = Vec::new();
    let mut add = |builder: etherparse::PacketBuilderStep<etherparse::UdpHeader>| {
        let mut packet = Vec::new();
        builder.write(&mut packet, &payload).unwrap();
        packets.push((START, packet));
    };
    let ethernet = || PacketBuilder::ethernet2([2, 0, 0, 0, 0, 1], [2, 0, 0, 0, 0, 2]);
    add(ethernet().ipv4([192, 0, 2, 10], [192, 0, 2, 1], 64).udp(40000, 4850));
    add(ethernet().ipv6([1; 16], [2; 16], 64).udp(4850, 40000));
    add(ethernet()
        .single_vlan(etherparse::VlanId::try_from(5).unwrap())
        .ipv4([192, 0, 2, 10], [192, 0, 2, 1], 64)
        .udp(1, 4850));
    add(ethernet().ipv4([192, 0, 2, 10], [192, 0, 2, 1], 64).udp(1, 2));
    packets.push((START, vec![0xFF; 9]));
    let (log, statistics, _) = decode(CaptureFormat::Pcap, &pcap(false, false, 1, &packets));
    assert_eq!(log, ["0 net device Level"; 3]);
    assert_eq!((statistics.input, statistics.good, statistics.other_packets), (12, 12, 2));
    // Ethernet pads short frames; the padding belongs to no datagram.
    let mut padded = packets[0].1.clone();
    padded.resize(60, 0);
    let (log, statistics, _) = decode(CaptureFormat::Pcap, &pcap(false, false, 1, &[(START, padded)]));
    assert_eq!((log.len(), statistics.input), (1, 4));
}

#[test]
fn raw_bytes_and_hex_text() {
    let stream =
        [&[0x11][..], &frame(ChannelId::default(), 1, 0, &[1, 0]), &frame(ChannelId::default(), 2, 1, &[])].concat();
    let expected = ["stray 1", "- line device Level", "- line host Ask"];
    assert_eq!(decode(CaptureFormat::Raw, &stream).0, expected);
    let plain: String = stream.iter().map(|b| format!("{b:02x}")).collect();
    let spaced: String = stream.iter().map(|b| format!("0x{b:02X},\n ")).collect();
    for text in [plain, spaced] {
        assert_eq!(source::detect(text.as_bytes()), CaptureFormat::Hex);
        let (log, statistics, outcome) = decode(CaptureFormat::Hex, text.as_bytes());
        assert_eq!(log, expected);
        assert_eq!((statistics.input, outcome.damage), (stream.len() as u64, None));
    }
    let damage =
        |text: &str| decode(CaptureFormat::Hex, text.as_bytes()).2.damage.map(|damage| (damage.offset, damage.reason));
    assert_eq!(damage("A5 5A 0"), Some((7, "the text ends in the middle of a byte: one hex digit is missing".into())));
    assert_eq!(damage("A5 5A zz"), Some((6, "'z' is not a hex digit".into())));
    assert_eq!(damage("A5 5 A"), Some((4, "a byte has one hex digit only".into())));
}

#[test]
fn on_packet_channels_each_line_of_hex_is_a_packet() {
    let lines: String = (0..3u8)
        .map(|n| frame(ChannelId::new(1), 1, 0, &[n, 0]).iter().map(|b| format!("{b:02X} ")).collect::<String>() + "\n")
        .collect();
    let mut decoder = Decoder::new(plan(), Log::default()).demuxed().on(Some(ChannelId::new(1)));
    source::read(CaptureFormat::Hex, lines.as_bytes(), &mut decoder).unwrap();
    let (log, statistics) = decoder.into_sink().finish().unwrap();
    assert_eq!(log.0, ["- net device Level"; 3]);
    assert_eq!((statistics.input, statistics.good), (12, 12));
    // A line that does not end is handed on in pieces, so that memory stays bounded.
    let endless = "A5".repeat(200_000);
    let (_, statistics, _) = decode(CaptureFormat::Hex, endless.as_bytes());
    assert_eq!(statistics.input, 200_000);
}

#[test]
fn what_stands_before_the_damage_is_read_and_the_offset_is_told() {
    for (form, whole) in [
        (CaptureFormat::Pcapng, pcapng()),
        (
            CaptureFormat::Pcap,
            pcap(
                true,
                true,
                147,
                &[(START, frame(ChannelId::default(), 2, 0, &[])), (START, frame(ChannelId::default(), 2, 1, &[]))],
            ),
        ),
    ] {
        let all = decode(form, &whole).0;
        let mut most = 0;
        for cut in 0..whole.len() {
            let (log, _, outcome) = decode(form, &whole[..cut]);
            assert!(outcome.bytes <= cut as u64);
            if let Some(damage) = outcome.damage {
                assert!(damage.offset <= cut as u64, "{damage:?} of {cut}");
            }
            let good = log.iter().filter(|line| !line.starts_with("stray") && !line.starts_with("broken")).count();
            assert!(good >= most, "a longer file gives no less");
            most = good;
        }
        assert!(most + 1 >= all.iter().filter(|line| !line.starts_with("stray")).count());
    }
    // A block that claims to be longer than any packet is damage, not a reason to ask for memory.
    let mut huge = pcapng();
    let length = huge.len();
    huge.extend([6, 0, 0, 0, 0xF0, 0xFF, 0xFF, 0x7F]);
    huge.extend([0; 64]);
    let (log, _, outcome) = decode(CaptureFormat::Pcapng, &huge);
    assert_eq!(log.len(), 4);
    assert_eq!(outcome.damage.map(|damage| damage.offset), Some(length as u64));
}

#[test]
fn several_captures_and_sections_follow_each_other() {
    // Two sections in one file: the interfaces of the second are numbered from 0 again.
    let twice = [pcapng(), pcapng()].concat();
    let (log, statistics, outcome) = decode(CaptureFormat::Pcapng, &twice);
    assert_eq!((log.len(), statistics.input, outcome.damage), (8, 52, None));
    // Files of different forms into one decoder; a frame cut by a file's end does not go on in the next file.
    let whole = frame(ChannelId::default(), 1, 0, &[1, 0]);
    let mut decoder = Decoder::new(plan(), Log::default()).demuxed();
    source::read(CaptureFormat::Pcapng, pcapng().as_slice(), &mut decoder).unwrap();
    source::read(CaptureFormat::Raw, &whole[..4], &mut decoder).unwrap();
    source::read(CaptureFormat::Raw, &whole[4..], &mut decoder).unwrap();
    source::read(CaptureFormat::Raw, whole.as_slice(), &mut decoder).unwrap();
    let (log, statistics) = decoder.into_sink().finish().unwrap();
    assert_eq!(log.0[4..], ["broken truncated 4", "stray 6", "- line device Level"]);
    assert!(statistics.adds_up());
}

#[test]
fn a_file_full_of_interfaces_does_not_fill_the_memory() {
    let mut writer = PcapngWriter::new(Vec::new()).unwrap();
    for _ in 0..5000 {
        writer.interface(LINK_TYPE_USER0, "", &lane_description("line", "host")).unwrap();
    }
    let (_, _, outcome) = decode(CaptureFormat::Pcapng, &writer.finish().unwrap());
    assert!(outcome.damage.unwrap().reason.contains("more interfaces"));
}

/// A reader that gives out one byte at a time, as a slow pipe may.
struct Slow<'a>(&'a [u8]);

impl std::io::Read for Slow<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let n = self.0.len().min(buffer.len()).min(1);
        buffer[..n].copy_from_slice(&self.0[..n]);
        self.0 = &self.0[n..];
        Ok(n)
    }
}

#[test]
fn a_slow_pipe_gives_the_same_as_a_file() {
    let mut decoder = Decoder::new(plan(), Log::default()).demuxed();
    let bytes = pcapng();
    let outcome = source::read(CaptureFormat::Pcapng, Slow(&bytes), &mut decoder).unwrap();
    assert_eq!(outcome.damage, None);
    assert_eq!(decoder.into_sink().finish().unwrap().0.0, decode(CaptureFormat::Pcapng, &bytes).0);
}

#[test]
fn sequence_gaps_are_counted_by_node_and_direction() {
    let stream: Vec<u8> =
        [0u64, 1, 5, 6, 6].iter().flat_map(|count| frame(ChannelId::default(), 1, *count, &[0, 0])).collect();
    let (_, statistics, _) = decode(CaptureFormat::Raw, &stream);
    let watch = &statistics.sequence();
    assert_eq!((watch.gaps, watch.missing, watch.jumps_back), (1, 3, 1));
}

#[test]
fn the_directions_of_a_recording_win_over_those_of_the_messages() {
    let mut writer = PcapngWriter::new(Vec::new()).unwrap();
    let host = writer.interface(LINK_TYPE_USER0, "", &lane_description("line", "host")).unwrap();
    let unknown = writer.interface(LINK_TYPE_USER0, "", &lane_description("gone", "host")).unwrap();
    writer.packet(host, START, &frame(ChannelId::default(), 1, 0, &[0, 0])).unwrap();
    writer.packet(unknown, START, &frame(ChannelId::default(), 1, 0, &[0, 0])).unwrap();
    let (log, statistics, _) = decode(CaptureFormat::Pcapng, &writer.finish().unwrap());
    assert_eq!(log, ["0 line host Level"]);
    assert_eq!(statistics.other_packets, 1, "a channel that this link does not have");
    assert_eq!(End::Host.as_str(), "host");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1000))]

    #[test]
    fn good_broken_and_stray_are_the_input(
        pieces in proptest::collection::vec(prop_oneof![
            (0u64..256, proptest::collection::vec(any::<u8>(), 2)).prop_map(|(count, body)| frame(ChannelId::default(), 1, count, &body)),
            proptest::collection::vec(prop_oneof![Just(0xA5u8), Just(0x5A), any::<u8>()], 0..80),
        ], 0..10),
        flips in proptest::collection::vec(any::<prop::sample::Index>(), 0..4),
    ) {
        let mut stream = pieces.concat();
        for flip in flips.iter().filter(|_| !pieces.concat().is_empty()) {
            let at = flip.index(stream.len());
            stream[at] ^= 0x10;
        }
        let (_, statistics, _) = decode(CaptureFormat::Raw, &stream);
        prop_assert_eq!(statistics.good + statistics.unread + statistics.broken + statistics.stray, stream.len() as u64);
    }

    #[test]
    fn mutated_files_never_panic(
        mutations in proptest::collection::vec((any::<prop::sample::Index>(), any::<u8>()), 1..6), legacy: bool,
    ) {
        let (form, mut bytes) = if legacy {
            (CaptureFormat::Pcap, pcap(false, true, 1, &[(START, udp_packet(4850, true, &frame(ChannelId::new(1), 2, 0, &[])).unwrap())]))
        } else {
            (CaptureFormat::Pcapng, pcapng())
        };
        for (at, value) in mutations {
            let at = at.index(bytes.len());
            bytes[at] = value;
        }
        let mut decoder = Decoder::new(plan(), Log::default()).demuxed();
        let _ = source::read(form, bytes.as_slice(), &mut decoder);
        prop_assert!(decoder.into_sink().finish().unwrap().1.adds_up());
    }
}

#[test]
fn a_block_larger_than_the_room_that_is_kept_is_read_whole() {
    // More than four times the room with which reading begins; the last frame stands behind all noise.
    let mut bytes = vec![0x11; 1_200_000];
    bytes.extend(frame(ChannelId::default(), 1, 0, &[1, 0]));
    let mut writer = PcapngWriter::new(Vec::new()).unwrap();
    let interface = writer.interface(LINK_TYPE_USER0, "line", &lane_description("line", "device")).unwrap();
    writer.packet(interface, START, &bytes).unwrap();
    writer.packet(interface, START + 1, &frame(ChannelId::default(), 1, 1, &[2, 0])).unwrap();
    let file = writer.finish().unwrap();
    let (log, statistics, outcome) = decode(CaptureFormat::Pcapng, &file);
    assert_eq!((outcome.damage, outcome.bytes), (None, file.len() as u64));
    assert_eq!(statistics.input, bytes.len() as u64 + frame(ChannelId::default(), 1, 1, &[2, 0]).len() as u64);
    assert_eq!((statistics.good_frames(), statistics.stray), (2, 1_200_000));
    assert!(log.last().is_some_and(|row| row.ends_with("Level")), "{log:?}");
}

#[test]
fn a_block_that_claims_too_much_ends_the_file() {
    // A section, and a block of which it is said that it has a gigabyte.
    let mut head: Vec<u8> =
        [0x0A0D_0D0A_u32, 28, 0x1A2B_3C4D, 1, u32::MAX, u32::MAX, 28].into_iter().flat_map(u32::to_le_bytes).collect();
    let section = head.len() as u64;
    head.extend([6_u32, 1 << 30].into_iter().flat_map(u32::to_le_bytes));
    let endless = std::io::repeat(0).take(100_000_000);
    let mut decoder = Decoder::new(plan(), Log::default()).demuxed();
    let outcome = source::read(CaptureFormat::Pcapng, head.as_slice().chain(endless), &mut decoder).unwrap();
    let damage = outcome.damage.expect("no packet is so large");
    assert_eq!(
        (damage.offset, damage.reason.as_str()),
        (section, "a block claims to be larger than any packet can be")
    );
}

/// Has enough after so many pieces, and is not called again.
struct Few(usize);

impl PieceSink for Few {
    fn section(&mut self) {}

    fn interface(&mut self, _: Interface) {}

    fn piece(&mut self, _: Piece<'_>) -> ControlFlow<()> {
        assert!(self.0 > 0, "called after it had enough");
        self.0 -= 1;
        if self.0 == 0 { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    }
}

#[test]
fn who_has_enough_gets_no_more_pieces() {
    let packets: Vec<(u64, Vec<u8>)> =
        (0..6).map(|n| (START + n * SECOND, frame(ChannelId::default(), 1, n, &[1, 0]))).collect();
    let hex = "c6 39 00 01\n".repeat(6);
    let files = [
        (CaptureFormat::Pcapng, pcapng()),
        (CaptureFormat::Pcap, pcap(false, true, LINK_TYPE_USER0.into(), &packets)),
        (CaptureFormat::Hex, hex.into_bytes()),
        (CaptureFormat::Raw, vec![0; 1 << 20]),
    ];
    for (form, bytes) in files {
        for pieces in 1..=4 {
            let mut sink = Few(pieces);
            let outcome = source::read(form, bytes.as_slice(), &mut sink).unwrap();
            assert!(outcome.damage.is_none() && outcome.bytes <= bytes.len() as u64, "{form:?}: {outcome:?}");
        }
    }
}
