//! Captures of every kind of channel of Marlock: keys outside of frames, directions, lines, frames in frames, counters.

use std::convert::Infallible;
use std::ops::ControlFlow;
use std::sync::Arc;

use emberwort_capture::items::Nothing;
use emberwort_capture::packets::{LINK_TYPE_CAN, LINK_TYPE_RAW, LINK_TYPE_USER0, can_packet, udp_packet};
use emberwort_capture::{
    CaptureFormat, Decoder, Demux, Item, ItemSink, PcapngWriter, Statistics, lane_description, source,
};
use emberwort_model::model::End;
use emberwort_model::{Plan, Source, check};
use emberwort_text::json::{self, Writing};
use emberwort_wire::{Framed, Header, Time};

#[path = "../../../../examples/plan_of_marlock.rs"]
mod plan_of_marlock;

const START: u64 = 1_930_000_000_000_000_000;

fn marlock() -> Arc<Plan> {
    Arc::new(plan_of_marlock::checked().plan.unwrap())
}

fn link(items: &str) -> Arc<Plan> {
    let checked = check(&Source::new("l.ember", format!("link l {{ revision 1  byte_order little }}\n{items}")));
    assert!(checked.findings.iter().all(|finding| !finding.is_error()), "{:?}", checked.findings);
    Arc::new(checked.plan.unwrap())
}

/// What came out, in short.
struct Log {
    plan: Arc<Plan>,
    lines: Vec<String>,
}

impl ItemSink for Log {
    type Error = Infallible;

    fn item(&mut self, item: Item<'_>) -> Result<ControlFlow<()>, Infallible> {
        match item {
            Item::Row(row) => {
                let message = &self.plan.messages[row.message];
                let mut fields = String::new();
                json::write_fields(
                    message,
                    row.values,
                    Writing { raw: false, inside: Some((&self.plan, row.from)) },
                    &mut fields,
                )
                .unwrap();
                self.lines.push(format!("{} {} {fields}", row.from.as_str(), message.message.name));
            }
            Item::Broken(broken) => {
                let what = if broken.is_unread() { "unread" } else { "broken" };
                self.lines.push(format!("{what} {} {}", broken.fault.reason(), broken.wire.len()));
            }
            Item::Stray(stray) => self.lines.push(format!("stray {}", stray.wire.len())),
        }
        Ok(ControlFlow::Continue(()))
    }
}

struct Given<'a> {
    plan: &'a Arc<Plan>,
    on: Option<&'a str>,
    from: Option<End>,
}

impl Given<'_> {
    fn decoder(&self) -> Demux<Decoder<Log>> {
        let on = self.on.map(|name| self.plan.channel_index(name).unwrap());
        let log = Log { plan: self.plan.clone(), lines: Vec::new() };
        Decoder::new(self.plan.clone(), log).demuxed().on(on).assuming_from(self.from)
    }

    fn read(&self, form: CaptureFormat, bytes: &[u8]) -> (Vec<String>, Statistics) {
        let mut decoder = self.decoder();
        source::read(form, bytes, &mut decoder).unwrap();
        let (log, statistics) = decoder.into_sink().finish().unwrap();
        assert!(statistics.adds_up(), "{statistics:?}");
        (log.lines, statistics)
    }
}

fn everything(plan: &Arc<Plan>) -> Given<'_> {
    Given { plan, on: None, from: None }
}

/// A recording of one interface.
fn recording(link_type: u16, description: &str, packets: &[Vec<u8>]) -> Vec<u8> {
    let mut writer = PcapngWriter::new(Vec::new()).unwrap();
    let interface = writer.interface(link_type, "if", description).unwrap();
    for (n, packet) in packets.iter().enumerate() {
        writer.packet(interface, START + n as u64 * 1_000_000, packet).unwrap();
    }
    writer.finish().unwrap()
}

#[test]
fn can_identifiers_select_the_messages() {
    let plan = marlock();
    // PumpStatus by hand: bits from the least significant of each byte; state 2 in bits 0..1 of byte 0.
    let status = [0x02, 0, 0, 0, 0, 21, 40, 1];
    let mut packets = vec![
        can_packet(0x1A4, false, &status),
        can_packet(0x120, false, &[1, 0x05, 0xDC]),
        // An identifier that nobody of this link has; one of 29 bits with the same number; a remote frame; an error frame.
        can_packet(0x7FF, false, &[1, 2, 3]),
        can_packet(0x8000_01A4, false, &status),
        can_packet(0x4000_01A4, false, &status),
        can_packet(0x2000_01A4, false, &status),
        // Shorter than PumpStatus, longer than it, and one whose length byte says more than there is.
        can_packet(0x1A4, false, &status[..3]),
        can_packet(0x1A4, true, &[&status[..], &[9, 9]].concat()),
    ];
    let mut lying = can_packet(0x120, false, &[0, 0, 0]);
    lying[4] = 9;
    packets.push(lying);
    packets.push(vec![0, 0, 1]);
    let given = Given { plan: &plan, on: Some("power"), from: None };
    let (log, statistics) = given.read(CaptureFormat::Pcapng, &recording(LINK_TYPE_CAN, "", &packets));
    assert_eq!(
        log,
        [
            r#"device PumpStatus {"state":"running","pressure":0.0,"speed":0,"tank":21,"motor":40,"counter":1}"#,
            r#"host RunPump {"running":true,"speed":1500}"#,
            "unread body 3",
            "broken length 10",
        ]
    );
    assert_eq!(statistics.other_packets, 6);
    assert_eq!((statistics.good, statistics.unread, statistics.broken), (11, 3, 10));
}

#[test]
fn ports_select_the_messages_of_a_radio_network() {
    let plan = marlock();
    let keyed = |port: u32, body: &[u8]| [&port.to_be_bytes()[..], body].concat();
    // Level: depth in 12 bits (1.500 m is raw 300), battery in 6 (3.6 V is raw 32), gauge in 2, then the byte of the trend,
    // whose form for gauge 1 has steps of 0.02 m (0.06 m is raw 3).
    let raw = 300u32 | 32 << 12 | 1 << 18 | 3 << 24;
    let level = &raw.to_le_bytes()[..];
    let packets = [keyed(2, level), keyed(3, &[9 | 0x80, 12]), keyed(4, level), vec![0, 0]];
    let described = lane_description("gauges", "device");
    let (log, statistics) =
        everything(&plan).read(CaptureFormat::Pcapng, &recording(LINK_TYPE_USER0, &described, &packets));
    assert_eq!(log[0], r#"device Level {"depth":1.500,"battery":3.60,"gauge":1,"trend":{"downstream":0.06}}"#);
    // GaugeSettings: 10 min is raw 9 of 6 bits, 5.0 m raw 50 of 7.
    assert_eq!(log[1], r#"device GaugeSettings {"period":10,"alarm":5.0}"#);
    assert_eq!(log[2], "unread unknown message 4");
    assert_eq!((statistics.input, statistics.other_packets), (10, 1), "{log:?}");
}

#[test]
fn packets_whose_key_somebody_says() {
    let plan = marlock();
    let power = Given { plan: &plan, on: Some("power"), from: None };
    for (key, row) in [(0x120, r#"host RunPump {"running":false,"speed":7}"#), (0x121, "unread unknown message 3")] {
        // Each line of hex text is a packet.
        let mut decoder = power.decoder().assuming_key(Some(key));
        source::read(CaptureFormat::Hex, &b"00 00 07\n00 00 07\n"[..], &mut decoder).unwrap();
        let (log, statistics) = decoder.into_sink().finish().unwrap();
        assert_eq!(log.lines, [row, row]);
        assert!(statistics.adds_up());
    }
}

#[test]
fn lines_of_text_and_lines_that_are_none() {
    let plan = marlock();
    let given = Given { plan: &plan, on: Some("console"), from: None };
    let text = b"V3:40.5 remote\r\nM3=60.0\r\nOK 3 1A2B\r\nhello?\r\nV3:400 remote\r\n\r\nV4:1 local";
    let (log, statistics) = given.read(CaptureFormat::Raw, text);
    assert_eq!(
        log,
        [
            r#"device ValvePosition {"valve":3,"position":40.5,"mode":"remote"}"#,
            r#"host MoveValve {"valve":3,"position":60.0}"#,
            r#"device ValveMoves {"valve":3,"code":6699}"#,
            "stray 8",
            "unread body 15",
            // An empty line, and one that does not end.
            "stray 2",
            "stray 10",
        ]
    );
    assert_eq!((statistics.good, statistics.unread, statistics.broken, statistics.stray), (36, 15, 0, 20));
}

#[test]
fn a_frame_in_a_frame_is_shown_as_what_it_is() {
    let plan = marlock();
    // WhoAreYou to node 3, framed for bus485, inside of a CAN FD frame.
    let mut inner = Vec::new();
    let bus = plan.channel_index("bus485").unwrap();
    let framing = plan.channels[bus].framing(End::Device);
    let header = emberwort_wire::Header { key: 0x31, node: 3, sequence: 9, revision: 3 };
    framing.encode(&header, &[1, 2, 3, 4, 5, 6, 7, 0, 0, 2], &mut inner).unwrap();
    let mut cut = inner.clone();
    *cut.last_mut().unwrap() ^= 1;
    let packets = [can_packet(0x55, true, &inner), can_packet(0x55, true, &cut)];
    let given = Given { plan: &plan, on: Some("tunnel"), from: None };
    let (log, _) = given.read(CaptureFormat::Pcapng, &recording(LINK_TYPE_CAN, "", &packets));
    assert_eq!(
        log[0],
        r#"device Carried {"carried":{"message":"Identity","node":3,"sequence":9,"fields":{"serial":"01 02 03 04 05 06","hours":7,"revision":2}}}"#
    );
    // One that is damaged inside says so: nothing of it is taken for a value.
    let hex: Vec<String> = cut.iter().map(|byte| format!("{byte:02X}")).collect();
    assert_eq!(log[1], format!(r#"device Carried {{"carried":{{"broken":"checksum","bytes":"{}"}}}}"#, hex.join(" ")));
}

#[test]
fn directions_with_frames_of_their_own() {
    let plan = link(
        "channel line {
            medium uart 9600 8N1
            limit 20 bytes
            frame from host { sync A5\n kind : u8 message\n size : u8 length of body\n body }
            frame from device { sync 5A\n size : u8 length of body\n kind : u8 message\n body\n check : u8 crc-8/smbus over size..body }
        }
        message Ask { id 1  from host  on line\n what : u8 }
        message Tell { id 1  from device  on line\n level : u16 }",
    );
    let ask = [0xA5, 1, 1, 7];
    // CRC-8/SMBUS: polynomial 07, nothing reflected, starts at 0.
    let check = [2u8, 1, 0x34, 0x12].iter().fold(0u8, |crc, byte| {
        (0..8).fold(crc ^ byte, |crc, _| if crc & 0x80 != 0 { crc << 1 ^ 0x07 } else { crc << 1 })
    });
    let tell = [0x5A, 2, 1, 0x34, 0x12, check];
    let mut writer = PcapngWriter::new(Vec::new()).unwrap();
    let host = writer.interface(LINK_TYPE_USER0, "h", &lane_description("line", "host")).unwrap();
    let device = writer.interface(LINK_TYPE_USER0, "d", &lane_description("line", "device")).unwrap();
    writer.packet(host, START, &ask).unwrap();
    writer.packet(device, START, &tell).unwrap();
    let (log, _) = everything(&plan).read(CaptureFormat::Pcapng, &writer.finish().unwrap());
    assert_eq!(log, [r#"host Ask {"what":7}"#, r#"device Tell {"level":4660}"#]);
    // Bytes of which nobody says the direction tell it themselves.
    let from_host = Given { plan: &plan, on: None, from: Some(End::Host) };
    assert_eq!(from_host.read(CaptureFormat::Raw, &ask).0, [r#"host Ask {"what":7}"#]);
    assert_eq!(everything(&plan).read(CaptureFormat::Raw, &ask).0, [r#"host Ask {"what":7}"#]);
    assert_eq!(everything(&plan).read(CaptureFormat::Raw, &tell).0, [r#"device Tell {"level":4660}"#]);
}

#[test]
fn sizes_select_messages() {
    let plan = link(
        "channel net { medium udp 4000\n packet\n select by size\n }
         message Short { from device  on net\n a : u8 }
         message Long { from device  on net\n a : u16\n b : u8 }",
    );
    let packets: Vec<Vec<u8>> =
        [&[7u8][..], &[1, 2, 3], &[1, 2], &[]].iter().map(|body| udp_packet(4000, true, body).unwrap()).collect();
    let (log, statistics) = everything(&plan).read(CaptureFormat::Pcapng, &recording(LINK_TYPE_RAW, "", &packets));
    assert_eq!(log[..3], [r#"device Short {"a":7}"#, r#"device Long {"a":513,"b":3}"#, "unread unknown message 2"]);
    assert_eq!(statistics.input, 6);
}

#[test]
fn answers_are_read_by_what_was_asked() {
    let plan = marlock();
    let bus = plan.channel_index("bus485").unwrap();
    let framing = plan.channels[bus].framing(End::Device);
    let frame = |node: u64, key: u64, body: &[u8]| {
        let mut out = Vec::new();
        framing.encode(&emberwort_wire::Header { key, node, ..Default::default() }, body, &mut out).unwrap();
        out
    };
    let ask = |node, setting: u16| frame(node, 0x50, &setting.to_le_bytes());
    let answer = |node, body: &[u8]| frame(node, 0x51, body);
    let given = Given { plan: &plan, on: Some("bus485"), from: None };
    let read = |parts: &[Vec<u8>]| given.read(CaptureFormat::Raw, &parts.concat()).0;

    // Two controllers are asked before either answers: each answer is read by its own request.
    let rows = read(&[ask(3, 0x0140), ask(4, 0x0102), answer(4, &[40]), answer(3, &[0xF8, 0x2A])]);
    assert_eq!(rows[2], r#"device SettingValue {"value":{"ramp_time":10.00}}"#);
    assert_eq!(rows[3], r#"device SettingValue {"value":{"motor_current":275.000}}"#);
    // The bytes of an answer that nobody asked for, and of a second answer, are not taken for a value.
    let unknown = r#"device SettingValue {"value":{"unknown":"28"}}"#;
    assert_eq!(read(&[answer(3, &[40])]), [unknown]);
    assert_eq!(read(&[ask(3, 0x0102), answer(3, &[40]), answer(3, &[40])])[2], unknown);
    // Neither are those behind a broken frame, which could have been another request.
    let mut broken = ask(3, 0x0103);
    *broken.last_mut().unwrap() ^= 0xFF;
    assert_eq!(read(&[ask(3, 0x0102), broken, answer(3, &[40])])[2], unknown);
}

#[test]
fn counters_of_messages_are_watched_like_those_of_frames() {
    let plan = marlock();
    let status = |counter: u8| can_packet(0x1A4, false, &[2, 0, 0, 0, 0, 21, 40, counter]);
    let count = |counters: &[u8]| {
        let packets: Vec<Vec<u8>> = counters.iter().map(|counter| status(*counter)).collect();
        // Also without anybody who looks at the values.
        let mut decoder = Decoder::new(plan.clone(), Nothing).demuxed();
        source::read(CaptureFormat::Pcapng, &recording(LINK_TYPE_CAN, "", &packets)[..], &mut decoder).unwrap();
        let sequence = decoder.into_sink().finish().unwrap().1.sequence();
        (sequence.gaps, sequence.missing, sequence.jumps_back)
    };
    // Four bits go around from 15 to 0.
    assert_eq!(count(&[13, 14, 15, 0, 1, 2]), (0, 0, 0));
    assert_eq!(count(&[13, 14, 0, 1, 5]), (2, 4, 0));
    assert_eq!(count(&[3, 3, 4, 2]), (0, 0, 2));
}

/// The time of a packet is that of its last byte; how long its bytes took follows from the medium.
#[test]
fn silence_between_packets_ends_frames() {
    let plan = link(
        "channel quiet { medium uart 10000 8N1\n gap 2 ms\n limit 20 bytes\n frame { kind : u8 message\n body\n sum : u8 sum8 over kind..body } }
         message A { id 1  from device  on quiet\n a : u16 }",
    );
    // A byte takes 1 ms. Frames of four bytes: 01, two of the body, and their sum.
    let read = |packets: &[(u64, &[u8])]| {
        let mut writer = PcapngWriter::new(Vec::new()).unwrap();
        let interface = writer.interface(LINK_TYPE_USER0, "if", "").unwrap();
        for (milliseconds, bytes) in packets {
            writer.packet(interface, START + milliseconds * 1_000_000, bytes).unwrap();
        }
        everything(&plan).read(CaptureFormat::Pcapng, &writer.finish().unwrap()).0
    };
    let (a, b) = (r#"device A {"a":2}"#, r#"device A {"a":3}"#);
    assert_eq!(read(&[(4, &[1, 2, 0, 3]), (10, &[1, 3, 0, 4])]), [a, b], "silence of exactly 2 ms");
    assert_eq!(read(&[(4, &[1, 2, 0, 3]), (9, &[1, 3, 0, 4])]), ["broken checksum 8"], "1 ms is too short");
    // A frame in pieces, with less silence between them.
    assert_eq!(read(&[(2, &[1, 2]), (5, &[0, 3]), (11, &[1, 3, 0, 4])]), [a, b]);
    assert_eq!(read(&[(2, &[1, 2]), (6, &[0, 3])]), ["broken checksum 2", "broken checksum 2"]);
    // Nothing that is too long is kept: its first bytes are broken, the others stray, until there is silence.
    assert_eq!(read(&[(30, &[7; 30]), (40, &[1, 2, 0, 3])]), ["broken length 20", "stray 10", a]);
}

fn pcapng(interfaces: &[(u16, String)], packets: &[(u32, u64, Vec<u8>)]) -> Vec<u8> {
    let mut writer = PcapngWriter::new(Vec::new()).unwrap();
    for (link_type, description) in interfaces {
        writer.interface(*link_type, "any", description).unwrap();
    }
    for (interface, time, bytes) in packets {
        writer.packet(*interface, *time, bytes).unwrap();
    }
    writer.finish().unwrap()
}

/// Times of rows and of what is no row.
#[derive(Default)]
struct Times(Vec<Option<Time>>);

impl ItemSink for Times {
    type Error = Infallible;

    fn item(&mut self, item: Item<'_>) -> Result<ControlFlow<()>, Infallible> {
        match item {
            Item::Row(row) => {
                self.0.push(row.time);
            }
            Item::Broken(broken) => {
                self.0.push(broken.time);
            }
            Item::Stray(stray) => self.0.push(stray.time),
        }
        Ok(ControlFlow::Continue(()))
    }
}

const EMPTY: &str = "channel bus { medium can 250000\n packet\n select by can_id }
    channel net { medium udp 4000\n packet\n select by port }
    message Ping { from host  on bus can_id 0x100  on net port 4000 }
    message Level { from device  on bus can_id 0x101  on net port 4001\n depth : u8 }";

#[test]
fn packets_without_bytes_have_a_time_of_their_own() {
    let plan = link(EMPTY);
    for (link_type, ping, level) in [
        (LINK_TYPE_CAN, can_packet(0x100, false, &[]), can_packet(0x101, false, &[7])),
        (LINK_TYPE_RAW, udp_packet(4000, false, &[]).unwrap(), udp_packet(4001, true, &[7]).unwrap()),
    ] {
        let packets: Vec<_> = [&ping, &level, &ping, &ping, &level, &ping]
            .into_iter()
            .enumerate()
            .map(|(n, packet)| (0, 10 + n as u64, packet.clone()))
            .collect();
        let file = pcapng(&[(link_type, String::new())], &packets);
        let mut decoder = Decoder::new(plan.clone(), Times::default()).demuxed();
        source::read(CaptureFormat::Pcapng, &file[..], &mut decoder).unwrap();
        let (times, statistics) = decoder.into_sink().finish().unwrap();
        let time = Time::from_nanoseconds;
        assert_eq!(times.0, (10..16).map(|n| Some(time(n))).collect::<Vec<_>>());
        assert_eq!((statistics.good_frames(), statistics.span), (6, Some((time(10), time(15)))));
    }
    // One that is given by itself.
    let mut decoder = Decoder::new(plan.clone(), Log { plan: plan.clone(), lines: Vec::new() })
        .demuxed()
        .on(plan.channel_index("bus"))
        .assuming_key(Some(0x100));
    source::forward_all(&[], &mut decoder);
    assert_eq!(decoder.into_sink().finish().unwrap().0.lines, ["host Ping {}"]);
}

/// The port of a message is the one of the two that the link knows: a question goes to it, and its answer comes from it.
#[test]
fn answers_come_from_the_port_that_questions_go_to() {
    let plan = link(
        "channel net { medium udp 4000\n packet\n select by port }\n\
         message Ask { from host  on net port 4001\n what : u8\n answered by Told }\n\
         message Told { from device  on net port 4002\n depth : u16 }\n\
         message Alarm { from device  on net port 4003\n why : u8 }",
    );
    let packet = |from: u16, to: u16, payload: &[u8]| {
        let mut bytes = Vec::new();
        etherparse::PacketBuilder::ipv4([192, 0, 2, 1], [192, 0, 2, 2], 9)
            .udp(from, to)
            .write(&mut bytes, payload)
            .unwrap();
        bytes
    };
    // 50,000 is a port that a system has chosen; 4,000 is the channel's own, which is no key.
    let packets: Vec<_> = [
        packet(50_000, 4001, &[1]),
        packet(4002, 50_000, &[2, 0]),
        packet(50_000, 4003, &[3]),
        packet(4003, 4000, &[4]),
        packet(4000, 4001, &[5]),
        // Of two that are known, the one that it goes to.
        packet(4001, 4002, &[6, 0]),
        packet(50_000, 50_001, &[7]),
    ]
    .into_iter()
    .map(|packet| (0, 0, packet))
    .collect();
    let file = pcapng(&[(LINK_TYPE_RAW, String::new())], &packets);
    let mut decoder = Decoder::new(plan.clone(), Log { plan, lines: Vec::new() }).demuxed();
    source::read(CaptureFormat::Pcapng, &file[..], &mut decoder).unwrap();
    let (log, statistics) = decoder.into_sink().finish().unwrap();
    assert_eq!(
        log.lines,
        [
            r#"host Ask {"what":1}"#,
            r#"device Told {"depth":2}"#,
            r#"device Alarm {"why":3}"#,
            r#"device Alarm {"why":4}"#,
            r#"host Ask {"what":5}"#,
            r#"device Told {"depth":6}"#,
        ]
    );
    assert_eq!((statistics.other_packets, statistics.good_frames()), (1, 6));
}

/// Both ends send the same key in frames of their own: `how` is the way to find frames, `medium` what they travel over.
fn two_kinds(medium: &str, how: &str, sync: &str, length: &str) -> Arc<Plan> {
    let limit = if medium.starts_with("can") { 8 } else { 60 };
    link(&format!(
        "channel c {{ medium {medium}\n {how}\n limit {limit} bytes
            frame from host {{ {sync}\n kind : u8 message\n {length}\n body\n check : u8 xor8 over kind..body }}
            frame from device {{ {sync}\n kind : u8 message\n {length}\n state : u8 = 7\n body\n check : u16 crc-16/arc over kind..body }} }}
        message Write {{ id 1  from host  on c  answered by Written\n where : u16\n what : u8 }}
        message Written {{ id 1  from device  on c\n what : u16 }}
        message Told {{ id 2  from device every 1 s  on c\n text : text[..3] }}"
    ))
}

fn frame_of(plan: &Plan, message: &str, body: &[u8]) -> Vec<u8> {
    let index = plan.message_index(message).unwrap();
    let framing = plan.channels[0].framing(plan.link.messages[index].from);
    let direction = framing.plan();
    let header = Header { key: direction.key_for(index, 0).unwrap_or(0), ..Header::default() };
    let mut wire = Vec::new();
    framing.encode(&header, body, &mut wire).unwrap();
    wire
}

#[test]
fn recordings_of_both_directions_are_read_on_every_medium() {
    for (medium, how, link_type) in [
        ("udp 4000", "packet", LINK_TYPE_RAW),
        ("can 250000", "packet", LINK_TYPE_CAN),
        ("uart 9600 8N1", "stuffing cobs", LINK_TYPE_USER0),
    ] {
        let plan = two_kinds(medium, how, "", "");
        let packet = |host: bool, bytes: Vec<u8>| match link_type {
            LINK_TYPE_RAW => udp_packet(4000, !host, &bytes).unwrap(),
            LINK_TYPE_CAN => can_packet(0, false, &bytes),
            _ => bytes,
        };
        let interfaces = ["device", "host"].map(|from| (link_type, lane_description("c", from)));
        let packets = [
            (1, 5, packet(true, frame_of(&plan, "Write", &[1, 2, 3]))),
            (0, 6, packet(false, frame_of(&plan, "Written", &[3, 0]))),
        ];
        let (log, statistics) = everything(&plan).read(CaptureFormat::Pcapng, &pcapng(&interfaces, &packets));
        assert_eq!(log, [r#"host Write {"where":513,"what":3}"#, r#"device Written {"what":3}"#], "{medium}");
        assert_eq!(statistics.told_apart, (0, 0), "nothing had to be guessed");
    }
}

#[test]
fn where_nobody_says_the_direction_both_are_tried() {
    let length = "size : u8 length of body";
    for (how, sync, length) in [
        ("", "sync C6 39", length),
        ("stuffing escape 7D xor 20 of 7D C6", "sync C6", length),
        ("stuffing cobs", "", ""),
        ("stuffing slip", "", ""),
        ("gap 2 ms", "", ""),
    ] {
        let plan = two_kinds("uart 9600 8N1", how, sync, length);
        let pieces = [
            frame_of(&plan, "Write", &[1, 2, 3]),
            frame_of(&plan, "Written", &[3, 0]),
            frame_of(&plan, "Told", b"\x03abc"),
            frame_of(&plan, "Write", &[4, 5, 6]),
        ];
        let lines: String = pieces.iter().map(|piece| emberwort_model::hex::hex(piece) + "\n").collect();
        let (log, statistics) = everything(&plan).read(CaptureFormat::Hex, lines.as_bytes());
        assert_eq!(
            log,
            [
                r#"host Write {"where":513,"what":3}"#,
                r#"device Written {"what":3}"#,
                r#"device Told {"text":"abc"}"#,
                r#"host Write {"where":1284,"what":6}"#,
            ],
            "{how}"
        );
        assert_eq!((statistics.told_apart, statistics.ambiguous.len()), ((2, 2), 0), "{how}");
        // A damaged frame is one broken one, whichever end sent it.
        let mut damaged = pieces.clone();
        let last = damaged[1].len() - 2;
        damaged[1][last] ^= 1;
        let lines: String = damaged.iter().map(|piece| emberwort_model::hex::hex(piece) + "\n").collect();
        let (log, statistics) = everything(&plan).read(CaptureFormat::Hex, lines.as_bytes());
        assert_eq!((statistics.good_frames(), statistics.all_broken_frames()), (3, 1), "{how}: {log:?}");
    }
}

#[test]
fn what_both_ends_could_have_sent_follows_what_was_asked() {
    // The answer repeats the request, byte for byte.
    let plan = link(
        "channel c { medium uart 9600 8N1\n gap 2 ms
            frame from host { unit : u8 address\n kind : u8 message\n body\n check : u16 crc-16/modbus over unit..body }
            frame from device { unit : u8 address\n kind : u8 message\n body\n check : u16 crc-16/modbus over unit..body } }
        message Set { id 6  from host  on c  answered by Done\n place : u16\n value : u16 }
        message Done { id 6  from device  on c\n place : u16\n value : u16 }
        message Read { id 3  from host  on c  answered by Data\n first : u16\n count : u16 }
        message Data { id 3  from device  on c\n all : bytes[..250] }
        message Event { id 9  from device every 1 s  on c\n code : u8 }
        message Reset { id 9  from host  on c\n code : u8 }",
    );
    let framing = plan.channels[0].framing(End::Device);
    let frame = |key: u64, body: &[u8]| {
        let mut wire = Vec::new();
        framing.encode(&Header { key, node: 1, ..Header::default() }, body, &mut wire).unwrap();
        emberwort_model::hex::hex(&wire) + "\n"
    };
    let set = frame(6, &[1, 0, 2, 0]);
    let lines = [&set, &set, &set, &set, &frame(3, &[0, 0, 2, 0]), &frame(3, &[2, 8, 9])].map(String::as_str).concat();
    let (log, statistics) = everything(&plan).read(CaptureFormat::Hex, lines.as_bytes());
    let names: Vec<String> = log.iter().map(|line| line.split(" {").next().unwrap().to_owned()).collect();
    assert_eq!(names, ["host Set", "device Done", "host Set", "device Done", "host Read", "device Data"]);
    assert!(statistics.ambiguous.is_empty(), "{:?}", statistics.ambiguous);
    // Nothing tells this one.
    let (log, statistics) = everything(&plan).read(CaptureFormat::Hex, frame(9, &[4]).as_bytes());
    let both = [(("Event".to_owned(), "Reset".to_owned()), 1)].into();
    assert_eq!((log[0].as_str(), statistics.ambiguous), (r#"device Event {"code":4}"#, both));
    let host = Given { plan: &plan, on: None, from: Some(End::Host) };
    let (log, statistics) = host.read(CaptureFormat::Hex, frame(9, &[4]).as_bytes());
    assert_eq!((log[0].as_str(), statistics.ambiguous.len()), (r#"host Reset {"code":4}"#, 0));
}
