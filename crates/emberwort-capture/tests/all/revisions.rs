//! Captures whose senders do not all have the same revision: who is read with which definition, by bytes worked out by hand.

use std::convert::Infallible;
use std::ops::ControlFlow;
use std::sync::Arc;

use emberwort_capture::packets::{LINK_TYPE_CAN, LINK_TYPE_RAW, can_packet, udp_packet};
use emberwort_capture::revision_map::DeferredDefinitions;
use emberwort_capture::{CaptureFormat, Decoder, Item, ItemSink, PcapngWriter, RevisionMap, Statistics, source};
use emberwort_model::model::End;
use emberwort_model::{Plan, Source, check};
use emberwort_text::json::{self, Writing};

/// What came out, in short: the revision that a row was read as, its node, end, message and fields.
#[derive(Default)]
struct Log(Vec<String>);

impl ItemSink for Log {
    type Error = Infallible;

    fn item(&mut self, item: Item<'_>) -> Result<ControlFlow<()>, Infallible> {
        match item {
            Item::Row(row) => {
                let message = &row.plan.messages[row.message];
                let mut fields = String::new();
                json::write_fields(message, row.values, Writing::default(), &mut fields).unwrap();
                let node = row.frame.node.map_or_else(String::new, |node| node.to_string());
                let revision = row.plan.link.revision;
                self.0.push(format!("r{revision} {}{node} {} {fields}", row.from.as_str(), message.message.name));
            }
            Item::Broken(broken) => {
                let revision = broken.plan.link.revision;
                self.0.push(format!("r{revision} broken {}", broken.fault.sentence(broken.plan, broken.direction)));
            }
            Item::Stray(stray) => self.0.push(format!("stray {}", stray.wire.len())),
        }
        Ok(ControlFlow::Continue(()))
    }
}

fn link(revision: u32, items: &str) -> Arc<Plan> {
    let text = format!("link l {{ revision {revision}  byte_order little }}\n{items}");
    let checked = check(&Source::new("l.ember", text));
    assert!(checked.findings.iter().all(|finding| !finding.is_error()), "{:?}", checked.findings);
    Arc::new(checked.plan.unwrap())
}

/// A bus with the sender's revision in each frame, or without.
fn bus(revision: u32, part: bool, messages: &str) -> Arc<Plan> {
    let part = if part { "rev : u8 revision" } else { "" };
    let channel = format!(
        "channel bus {{\n medium uart 115200 8N1\n limit 40 bytes\n frame {{\n sync C6\n node : u8 address\n {part}\n kind : u8 message\n \
         size : u8 length of body\n body\n }}\n}}\n"
    );
    link(revision, &(channel + messages))
}

const OLD: &str = "message Level { id 1 from device on bus  depth : u8 cm }\n\
                   message Gone { id 7 from device on bus  count : u8 }\n\
                   message Set { id 9 from host on bus  depth : u8 cm }\n";
const NEW: &str = "message Level { id 1 from device on bus  depth : u8 mm  slope : u8 }\n\
                   message News { id 8 from device on bus  count : u8 }\n\
                   message Set { id 9 from host on bus  depth : u8 mm }\n";

fn read(map: RevisionMap, from: Option<End>, form: CaptureFormat, bytes: &[u8]) -> (Vec<String>, Statistics) {
    let mut decoder = Decoder::of(map, Log::default()).demuxed().assuming_from(from);
    source::read(form, bytes, &mut decoder).unwrap();
    let (log, statistics) = decoder.into_sink().finish().unwrap();
    assert!(statistics.adds_up(), "{statistics:?}");
    (log.0, statistics)
}

#[test]
fn a_named_device_is_read_with_its_own_revision_and_the_others_with_the_definition() {
    let (old, new) = (bus(1, false, OLD), bus(2, false, NEW));
    let mut map = RevisionMap::of(new);
    map.device(3, &old);
    let bytes = [
        [0xC6, 3, 1, 1, 200].as_slice(), // Level of the old device
        &[0xC6, 4, 1, 2, 200, 5],        // Level of another
        &[0xC6, 3, 7, 1, 11],            // what only the old one has
        &[0xC6, 3, 9, 1, 50],            // the host's request for the old device: the host has the definition
        &[0xC6, 4, 8, 1, 12],            // what only the new ones have
        &[0xC6, 3, 8, 1, 12],            // which the old one cannot send
        &[0xC6, 3, 1, 0],                // a body that is too short for it
        &[0xC6, 4, 1, 1, 200],           // and one that is too short for the others
    ]
    .concat();
    let (log, statistics) = read(map, None, CaptureFormat::Raw, &bytes);
    assert_eq!(
        log,
        [
            r#"r1 device3 Level {"depth":200}"#,
            r#"r2 device4 Level {"depth":200,"slope":5}"#,
            r#"r1 device3 Gone {"count":11}"#,
            r#"r2 host3 Set {"depth":50}"#,
            r#"r2 device4 News {"count":12}"#,
            "r1 broken no message on `bus` has the key 8",
            "r1 broken Level: the body has 0 bytes, but its section of revision 1 needs at least 1",
            "r2 broken Level: the body has 1 byte, but its section of revision 1 needs at least 2",
        ]
    );
    let counts: Vec<_> = statistics.messages().filter(|(_, count)| *count > 0).collect();
    assert_eq!(counts, [("Level", 2), ("News", 1), ("Set", 1), ("Gone", 1)]);
    assert_eq!(statistics.read_as.into_iter().collect::<Vec<_>>(), [(1, 2)]);
    assert!(statistics.contradicted.is_empty());
}

#[test]
fn the_frames_own_revision_counts_more_than_a_fleet_and_less_than_what_is_said() {
    let (old, new) = (bus(1, true, OLD), bus(2, true, NEW));
    let frame = |node: u8, revision: u8| [0xC6, node, revision, 1, 2, 200, 5];
    let bytes = [frame(3, 1), frame(3, 2), frame(4, 1)].concat();
    let revisions = |map: RevisionMap| {
        let (log, statistics) = read(map, Some(End::Device), CaptureFormat::Raw, &bytes);
        let revisions: String = log.iter().map(|line| line.split(' ').next().unwrap()).collect();
        (revisions, statistics.contradicted.into_iter().collect::<Vec<_>>())
    };
    let mut by_part = RevisionMap::of(new.clone());
    by_part.by_part(&old);
    assert_eq!(revisions(by_part.clone()), ("r1r2r1".into(), vec![]));
    by_part.expected(3, &old);
    assert_eq!(revisions(by_part.clone()), ("r1r2r1".into(), vec![]), "frames that say it need no fleet");
    by_part.device(3, &old);
    assert_eq!(revisions(by_part), ("r1r1r1".into(), vec![((Some(3), 2, 1), 1)]), "and who says otherwise is told");
    let mut fleet = RevisionMap::of(bus(2, false, NEW));
    fleet.expected(3, &bus(1, false, OLD));
    let (log, _) = read(fleet, None, CaptureFormat::Raw, &[0xC6, 3, 1, 1, 200, 0xC6, 4, 1, 2, 200, 5]);
    assert_eq!(log, [r#"r1 device3 Level {"depth":200}"#, r#"r2 device4 Level {"depth":200,"slope":5}"#]);
}

#[test]
fn a_host_is_read_as_its_frames_say() {
    let (old, new) = (bus(1, true, OLD), bus(2, true, NEW));
    let mut map = RevisionMap::of(new);
    map.by_part(&old);
    map.every_device(&old);
    let (log, _) = read(map, Some(End::Host), CaptureFormat::Raw, &[0xC6, 3, 2, 9, 1, 50, 0xC6, 3, 1, 9, 1, 60]);
    assert_eq!(log, [r#"r2 host3 Set {"depth":50}"#, r#"r1 host3 Set {"depth":60}"#]);
}

#[test]
fn a_line_on_which_all_devices_frame_otherwise_is_read_as_theirs() {
    let framed = |revision: u32, sync: &str, limit: u32| {
        link(
            revision,
            &format!(
                "channel line {{\n medium uart 9600 8N1\n limit {limit} bytes\n frame {{\n sync {sync}\n kind : u8 message\n size : u8 \
                 length of body\n body\n sum : u8 xor8 over kind..body\n }}\n}}\n\
                 message Level {{ id 1 from device on line  depth : u16 }}\n\
                 message Set {{ id 2 from host on line  depth : u16 }}\n"
            ),
        )
    };
    let (old, new) = (framed(1, "AA", 20), framed(2, "BB", 40));
    let mut map = RevisionMap::of(new);
    map.every_device(&old);
    // The XOR of 01, 02, 10 and 00 is 13; of 02, 02, 10 and 00, 10.
    let device = [0xAA, 1, 2, 0x10, 0, 0x13, 0xAA, 1, 2, 0x10, 0, 0x14];
    let (log, _) = read(map.clone(), Some(End::Device), CaptureFormat::Raw, &device);
    assert_eq!(log, [r#"r1 device Level {"depth":16}"#, "r1 broken `sum` is 0x14, computed 0x13"]);
    let (log, _) = read(map.clone(), Some(End::Host), CaptureFormat::Raw, &[0xBB, 2, 2, 0x10, 0, 0x10]);
    assert_eq!(log, [r#"r2 host Set {"depth":16}"#]);
    // Where nobody says who sent, frames of another framing cannot be found.
    let (log, _) = read(map, None, CaptureFormat::Raw, &device);
    assert_eq!(log, ["stray 12"]);
}

#[test]
fn identifiers_and_nodes_of_an_older_revision_are_known() {
    let can = |revision: u32, base: u32| {
        link(
            revision,
            &format!(
                "channel power {{\n medium can 250 kbit/s\n packet\n select by can_id\n}}\n\
                 message Level {{ from device on power can_id {base} + node 1 .. 8\n depth : u8 }}\n"
            ),
        )
    };
    let (old, new) = (can(1, 0x100), can(2, 0x200));
    let mut writer = PcapngWriter::new(Vec::new()).unwrap();
    let interface = writer.interface(LINK_TYPE_CAN, "if", "").unwrap();
    for (n, id) in [0x103, 0x203, 0x104].into_iter().enumerate() {
        writer.packet(interface, n as u64, &can_packet(id, false, &[7])).unwrap();
    }
    let capture = writer.finish().unwrap();
    let mut map = RevisionMap::of(new);
    map.device(3, &old);
    let (log, statistics) = read(map, None, CaptureFormat::Pcapng, &capture);
    assert_eq!(
        log,
        [
            r#"r1 device3 Level {"depth":7}"#,
            // The definition's identifier of node 3: what was said of that device counts.
            "r1 broken no message on `power` has can_id 515",
            // Node 4 is not said to have the old revision.
            "r2 broken no message on `power` has can_id 260",
        ]
    );
    assert_eq!(statistics.other_packets, 0);
}

#[test]
fn an_older_device_answers_what_it_was_asked_by_its_own_table() {
    let asked = |revision: u32, unit: &str| {
        bus(
            revision,
            false,
            &format!(
                "table Settings : u8 {{\n 1 ramp : u8 {unit} read\n 2 hold : u16 read\n}}\n\
                 message Ask {{ id 1 from host on bus answered by Tell within 20 ms\n what : key of Settings }}\n\
                 message Tell {{ id 2 from device on bus  value : value of Settings by Ask.what }}\n"
            ),
        )
    };
    let mut map = RevisionMap::of(asked(2, "ms"));
    map.device(3, &asked(1, "s"));
    let bytes = [0xC6, 3, 1, 1, 1, 0xC6, 3, 2, 1, 9, 0xC6, 4, 1, 1, 2, 0xC6, 4, 2, 2, 9, 0];
    let (log, _) = read(map, None, CaptureFormat::Raw, &bytes);
    assert_eq!(
        log,
        [
            r#"r2 host3 Ask {"what":"ramp"}"#,
            r#"r1 device3 Tell {"value":{"ramp":9}}"#,
            r#"r2 host4 Ask {"what":"hold"}"#,
            r#"r2 device4 Tell {"value":{"hold":9}}"#,
        ]
    );
}

#[test]
fn longer_frames_of_another_revision_are_found() {
    let long = |revision: u32, limit: u32, bytes: u32| {
        link(
            revision,
            &format!(
                "channel bus {{\n medium uart 115200 8N1\n limit {limit} bytes\n frame {{\n sync C6\n node : u8 address\n kind : u8 message\n \
                 size : u8 length of body\n body\n }}\n}}\n\
                 message Level {{ id 1 from device on bus  blob : bytes[{bytes}] }}\n"
            ),
        )
    };
    let mut map = RevisionMap::of(long(2, 8, 4));
    map.device(3, &long(1, 12, 8));
    let bytes = [0xC6, 3, 1, 8, 1, 2, 3, 4, 5, 6, 7, 8, 0xC6, 4, 1, 4, 1, 2, 3, 4];
    let (log, _) = read(map, None, CaptureFormat::Raw, &bytes);
    assert_eq!(log[0], r#"r1 device3 Level {"blob":"01 02 03 04 05 06 07 08"}"#);
    assert_eq!(log[1], r#"r2 device4 Level {"blob":"01 02 03 04"}"#);
}

proptest::proptest! {
    /// Whatever comes, every byte is in one of good, broken, stray, however the stream is cut.
    #[test]
    fn every_byte_is_accounted_for(
        frames in proptest::collection::vec((0u8..5, 0u8..4, 0u8..10, 0u8..4), 0..40),
        hit in proptest::collection::vec((0usize..400, 0u8..), 0..6),
        cut in 1usize..50,
    ) {
        let (old, new) = (bus(1, true, OLD), bus(2, true, NEW));
        let mut map = RevisionMap::of(new);
        map.by_part(&old);
        map.device(3, &old);
        let mut bytes = Vec::new();
        for (node, revision, kind, size) in frames {
            bytes.extend([0xC6, node, revision, kind, size]);
            bytes.extend((0..size).map(|n| n * 90));
        }
        for (at, value) in hit {
            if let Some(byte) = bytes.get_mut(at) {
                *byte = value;
            }
        }
        let (whole, statistics) = read(map.clone(), None, CaptureFormat::Raw, &bytes);
        proptest::prop_assert_eq!(statistics.input, bytes.len() as u64);
        // The same in pieces, as lines of hex text.
        let text: Vec<String> = bytes.chunks(cut).map(emberwort_model::hex::hex).collect();
        let (pieces, _) = read(map, None, CaptureFormat::Hex, text.join("\n").as_bytes());
        proptest::prop_assert_eq!(whole, pieces);
    }
}

/// A definition is asked for when a frame says that it is of it, once; and all are when a packet is longer than the own one allows.
#[test]
fn definitions_are_asked_for_when_somebody_speaks_them() {
    let net = |revision: u32, limit: u32, most: u32, unit: &str| {
        link(
            revision,
            &format!(
                "channel net {{\n medium udp 4000\n limit {limit} bytes\n packet\n frame {{\n kind : u8 message\n rev : u8 revision\n body }}\n}}\n\
                 message Note {{ id 1 from device on net  depth : u8 {unit}  text : text[..{most}] }}\n"
            ),
        )
    };
    let (old, older, new) = (net(2, 40, 30, "cm"), net(1, 12, 6, "dm"), net(3, 12, 6, "mm"));
    let packets = |bodies: &[&[u8]]| {
        let mut writer = PcapngWriter::new(Vec::new()).unwrap();
        let interface = writer.interface(LINK_TYPE_RAW, "net", "").unwrap();
        for (n, body) in bodies.iter().enumerate() {
            writer.packet(interface, n as u64, &udp_packet(4000, true, body).unwrap()).unwrap();
        }
        writer.finish().unwrap()
    };
    let read = |later: DeferredDefinitions, file: &[u8]| {
        let mut decoder = Decoder::of(RevisionMap::of(new.clone()), Log::default()).with_deferred(later).demuxed();
        source::read(CaptureFormat::Pcapng, file, &mut decoder).unwrap();
        decoder.into_sink().finish().unwrap().0.0
    };
    let asked = Arc::new(std::sync::Mutex::new(Vec::new()));
    let later = || {
        let (asked, old, older) = (asked.clone(), old.clone(), older.clone());
        DeferredDefinitions::new(vec![1, 2], move |revision| {
            asked.lock().unwrap().push(revision);
            Some(if revision == 1 { older.clone() } else { old.clone() })
        })
    };
    // Kind, revision, depth, text with its length. Nobody knows revision 9, which is read with the own definition.
    let short: [&[u8]; 5] = [&[1, 3, 5, 1, b'a'], &[1, 1, 6, 0], &[1, 3, 7, 0], &[1, 9, 8, 0], &[1, 1, 9, 0]];
    let rows = read(later(), &packets(&short));
    let revisions: Vec<&str> = rows.iter().map(|row| row.split(' ').next().unwrap()).collect();
    assert_eq!(revisions, ["r3", "r1", "r3", "r3", "r1"], "{rows:?}");
    assert_eq!(*asked.lock().unwrap(), [1], "asked once, and for nothing that nobody speaks");
    // 25 bytes are more than the own definition allows; the first of all is such a packet.
    let long = [&[1u8, 2, 4, 21][..], &[b'x'; 21]].concat();
    asked.lock().unwrap().clear();
    let rows = read(later(), &packets(&[&long, &[1, 3, 5, 0], &long]));
    assert!(rows[0].starts_with("r2 device Note") && rows[0].contains("xxxxx") && rows[2] == rows[0], "{rows:?}");
    assert!(rows[1].starts_with("r3 "), "{rows:?}");
    assert_eq!(asked.lock().unwrap().len(), 2);
    let rows = read(DeferredDefinitions::none(), &packets(&[&long]));
    assert!(rows[0].contains("broken"), "{rows:?}");
}
